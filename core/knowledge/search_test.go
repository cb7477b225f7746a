package knowledge

import (
	"strings"
	"testing"
)

var small = Book{
	Codes:      []Code{{Code: "P0446", Says: "vent valve control"}, {Code: "P0441", Says: "purge flow", Read: "a drain blocked"}},
	Faults:     []Fault{{Key: "cap", Family: "vapour", Name: "Filler cap", Place: "neck"}, {Key: "vent-valve", Family: "vapour", Name: "Vent valve"}},
	Archetypes: []Archetype{{Key: "a", Name: "Cooling tank", Check: "x", Seal: []Step{{Do: "Cap the vent hose"}}}},
	Cautions:   []Caution{{Key: "fire", Text: "No spark."}},
	Synonyms:   [][]string{{"vent", "drain", "purge"}},
}

func TestSearch(t *testing.T) {
	for query, want := range map[string]string{
		"p0446":        "P0446",
		"vent":         "vent-valve P0446 a P0441", // the name first, then the text, then by another word
		"drain valve":  "vent-valve P0446",
		"CAP, vent!":   "a",
		"spark":        "fire",
		"unobtainium":  "",
		"":             "",
		"  ;; ":        "",
		"vent unheard": "",
	} {
		t.Run(query, func(t *testing.T) {
			var got []string
			for _, h := range small.Search(query) {
				got = append(got, h.Key)
				if (h.Also != "") != (query == "drain valve" || query == "vent" && h.Key == "P0441") {
					t.Errorf("%q: %s is said to be found by %q", query, h.Key, h.Also)
				}
			}
			if strings.Join(got, " ") != want {
				t.Errorf("%q finds %v, want %s", query, got, want)
			}
		})
	}
	if small.Search(strings.Repeat("vent ", 1000)) != nil {
		t.Error("a thousand words were looked for")
	}
	for _, bad := range [][][]string{{{"alone"}}, {{"Vent", "drain"}}, {{"", "x"}}} {
		b := small
		b = Book{Synonyms: bad}
		if err := b.Check(); err == nil || !strings.Contains(err.Error(), "synonyms \"1\"") {
			t.Errorf("%v: %v", bad, err)
		}
	}
}
