package knowledge_test

import (
	"slices"
	"strings"
	"testing"

	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/ingest"
)

// What customers say, and what is offered of it: the sentences are made up.
func TestSuggestSigns(t *testing.T) {
	b := ingest.Book()
	for _, c := range []struct {
		text string
		want string // keys, in any order
		not  string
	}{
		{"pump clicks off", "nozzle-clicks", "smell"},
		{"The pump keeps clicking off", "nozzle-clicks", ""},
		{"it stinks of petrol behind the seats", "smell", "nozzle-clicks"},
		{"no smell, but it stalls at the lights", "stalls-coasting", "smell"},
		{"No power uphill; black smoke.", "lacks-power smokes", "whistle"},
		{"does not smoke black", "", "smokes"},
		{"rear axle was out in May", "axle-work", "neck-work"},
		{"lamp goes on and off", "comes-and-goes", ""},
		{"", "", "smell"},
		{"the canary clicks", "", "nozzle-clicks"}, // clicks alone say nothing of a pump
	} {
		t.Run(c.text, func(t *testing.T) {
			var got []string
			for _, x := range b.SuggestSigns(c.text) {
				got = append(got, x.Key)
			}
			for _, k := range strings.Fields(c.want) {
				if !slices.Contains(got, k) {
					t.Errorf("%q is not offered; offered are %v", k, got)
				}
			}
			for _, k := range strings.Fields(c.not) {
				if slices.Contains(got, k) {
					t.Errorf("%q is offered", k)
				}
			}
		})
	}
}

func TestSuggestRenewed(t *testing.T) {
	b := ingest.Book()
	parts := []plumbing.Part{{Key: "cap", Name: "Filler cap"}, {Key: "neck", Name: "Filler neck"}, {Key: "purge-valve", Name: "Purge valve"}}
	for _, c := range []struct{ text, want string }{
		{"new filler cap in May", "cap"},
		{"purge valve replaced, filler neck too", "purge-valve"}, // the second clause says nothing of new
		{"changed the purge valve and the filler cap", "purge-valve cap"},
		{"filler cap looked at", ""},
		{"newspaper on the filler cap", ""},
	} {
		t.Run(c.text, func(t *testing.T) {
			var got []string
			for _, x := range b.SuggestRenewed(c.text, parts) {
				got = append(got, x.Key)
			}
			want := strings.Fields(c.want)
			slices.Sort(got)
			slices.Sort(want)
			if !slices.Equal(got, want) {
				t.Errorf("offered %v, want %v", got, want)
			}
		})
	}
}

// Every phrase of the Book suggests its own entry.
func TestEveryPhraseSuggestsItsEntry(t *testing.T) {
	b := ingest.Book()
	n := 0
	for _, s := range b.Signs {
		for _, p := range s.Said {
			n++
			if !slices.ContainsFunc(b.SuggestSigns("It "+p+"."), func(x knowledge.Suggestion) bool { return x.Key == s.Key }) {
				t.Errorf("%q does not suggest %q", p, s.Key)
			}
		}
	}
	if n < 60 {
		t.Errorf("%d phrases", n)
	}
}

func FuzzSuggest(f *testing.F) {
	b := ingest.Book()
	f.Add("pump clicks off, no smell")
	f.Add("\xff\x00 — ((")
	f.Fuzz(func(t *testing.T, text string) {
		for _, x := range b.SuggestSigns(text) {
			if x.Key == "" || x.Said == "" {
				t.Errorf("an empty suggestion of %q", text)
			}
		}
	})
}
