package ingest_test

import (
	"strings"
	"testing"

	"wexter/core/knowledge"
	"wexter/ingest"
)

func TestTheBookLoads(t *testing.T) {
	b := ingest.Book()
	if len(b.Archetypes) != 9 || len(b.Codes) < 50 || len(b.Parts) < 20 {
		t.Errorf("%d archetypes, %d codes, %d parts", len(b.Archetypes), len(b.Codes), len(b.Parts))
	}
	for _, a := range b.Archetypes {
		if strings.HasPrefix(a.Key, "eonv-switch") && !strings.Contains(strings.Join(a.Cautions, " "), "eonv-pressure") {
			t.Errorf("%s: nobody says that its relief opens at half an inch of water", a.Key)
		}
	}
}

func TestABrokenBookNamesTheEntry(t *testing.T) {
	const good = "cautions: [{key: c, text: x}]\narchetypes: [{key: a, name: n, check: c, rest: r, seal: [{do: d}], maxpa: 100, maxvacpa: 100, cautions: [c]}]\n"
	if _, err := ingest.ReadBook([]byte(good)); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ from, to, say string }{
		{"cautions: [c]}", "cautions: [d]}", "archetype \"a\": there is no caution \"d\""},
		{", cautions: [c]}", "}", "a procedure without its caution"},
		{"maxpa: 100", "maxpa: 100000", "archetype \"a\": the permitted pressure"},
		{"maxvacpa: 100", "maxvacpa: 100000", "permitted vacuum"},
		{"seal: [{do: d}]", "seal: []", "how it is sealed"},
		{"key: a,", "key: A b,", "archetype \"A b\""},
		{"name: n", "nmae: n", "nmae"},
		{"archetypes:", "codes: [{code: P0442}]\narchetypes:", "code \"P0442\": no words"},
		{"archetypes:", "codes: [{code: P04, says: x}]\narchetypes:", "code \"P04\""},
		{"archetypes:", "parts: [{key: x}]\narchetypes:", "part \"x\""},
	} {
		_, err := ingest.ReadBook([]byte(strings.Replace(good, c.from, c.to, 1)))
		if err == nil || !strings.Contains(err.Error(), c.say) {
			t.Errorf("%s → %s: %v; want %q", c.from, c.to, err, c.say)
		}
	}
}

func TestCodes(t *testing.T) {
	for in, want := range map[string]string{"p0456": "P0456", " P 0455": "P0455", "0442": "P0442", "u0100": "U0100"} {
		if got, err := knowledge.FoldCode(in); err != nil || got != want {
			t.Errorf("%q is %q, %v", in, got, err)
		}
	}
	for _, bad := range []string{"", "P04", "X0442", "P04567", "P4442", "<b>"} {
		if c, err := knowledge.FoldCode(bad); err == nil {
			t.Errorf("%q passes as %q", bad, c)
		}
	}
	b := ingest.Book()
	if c := b.Explain("P0456"); !strings.Contains(c.Size, "0.020 in") {
		t.Errorf("%+v", c)
	}
	// P1xxx is the maker's: never guess a text (SAE J2012 numbering, from memory).
	for _, code := range []string{"P1456", "P3100", "C1200"} {
		if c := b.Explain(code); c.Says != "maker's code" {
			t.Errorf("%s is explained as %q", code, c.Says)
		}
	}
	if c := b.Explain("P0300"); c.Says == "maker's code" {
		t.Errorf("%+v", c)
	}
}
