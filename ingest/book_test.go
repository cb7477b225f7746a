package ingest_test

import (
	"math"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"wexter/core/bench"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/units"
	"wexter/ingest"
)

func TestTheBookLoads(t *testing.T) {
	b := ingest.Book()
	if len(b.Archetypes) != 9 || len(b.Codes) < 50 || len(b.Faults) < 75 {
		t.Errorf("%d archetypes, %d codes, %d faults", len(b.Archetypes), len(b.Codes), len(b.Faults))
	}
	for _, a := range b.Archetypes {
		if strings.HasPrefix(a.Key, "eonv-switch") && !strings.Contains(strings.Join(a.Cautions, " "), "eonv-pressure") {
			t.Errorf("%s: nobody says that its relief opens at half an inch of water", a.Key)
		}
	}
}

// A shop adds an archetype, a fault and a test of its own by a file, and what is wrong
// in it is told with the entry's name.
func TestAShopsOwnPages(t *testing.T) {
	const own = `archetypes:
  - key: own-tank
    family: vapour
    name: "Twin canister of the harbour tugs"
    rest: "Vent open (spring)."
    check: "A sensor watches the tank."
    from: [tank, tank-sensor, vapour-line, canister, purge, vent-valve, vent-end]
    seal: [{do: "Cap the vent."}]
    entry: service-port
    set: {vent-valve: powered}
    maxpa: 2000
    maxvacpa: 2000
    cautions: [vapour]
    refuses: [{family: engine, with: [turbo-diesel], why: "no vapour there"}]
faults:
  - {key: own-fault, family: vapour, name: "Tug's own joint", place: "aft", carries: [vapour-line], only: [own-tank], weight: 2, context: {salt: 2}, changes: [{param: leak, from: 0.2, to: 3}], order: "joint", seals: "", minutes: 10, cost: a, tests: [smoke]}
`
	dir := t.TempDir()
	write := func(text string) string {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, "own.yaml"), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return dir
	}
	b, err := ingest.BookWith(write(own))
	if err != nil {
		t.Fatal(err)
	}
	a, ok := b.Archetype("own-tank")
	if !ok || a.Name != "Twin canister of the harbour tugs" || a.MaxPa != 2000 {
		t.Errorf("%+v %v", a, ok)
	}
	if _, ok := b.Fault("own-fault"); !ok || len(b.Faults) != len(ingest.Book().Faults)+1 {
		t.Error("the shop's fault is not in the Book")
	}
	c := plumbing.Combination{Engine: "na-map", Boost: "no-boost", Crankcase: "regulator", Recirculation: "no-egr", Vapour: "own-tank"}
	if _, err := b.Plumbing.Combine(c); err != nil {
		t.Error(err)
	}
	if b, err := ingest.BookWith(""); err != nil || len(b.Faults) != len(ingest.Book().Faults) {
		t.Error("without pages of a shop the Book is another")
	}
	for _, c := range []struct{ from, to, say string }{
		{"key: own-tank", "key: engine-vacuum", `archetype "engine-vacuum": the key must be its own`},
		{"seal: [{do: \"Cap the vent.\"}]", "seal: []", `archetype "own-tank": say how it is sealed`},
		{"{vent-valve: powered}", "{}", `archetype "own-tank": sealed as it says, it stands open at ["vent-filter"]`},
		{"{vent-valve: powered}", "{vent-valve: melted}", `"melted" is no state`},
		{"{vent-valve: powered}", "{flux-valve: powered}", `there is no part "flux-valve"`},
		{"entry: service-port", "entry: manifold", "the gauge does not reach the tank"},
		{"maxpa: 2000", "maxpa: 20000", `archetype "own-tank": the permitted pressure`},
		{"maxvacpa: 2000", "maxvacpa: 20000", "permitted vacuum"},
		{"cautions: [vapour]", "cautions: [thunder]", `there is no caution "thunder"`},
		{"cautions: [vapour]", "cautions: []", "a procedure without its caution"},
		{"check: \"A sensor watches the tank.\"", "check: \"\"", "how it checks itself"},
		{"vent-valve, vent-end", "vent-end", `line "vent-end": its end "from": there is no part "vent-valve"`},
		{"weight: 2", "weight: heavy", "heavy"},
		{"weight: 2", "weihgt: 2", "weihgt"},
		{"tests: [smoke]", "tests: []", `fault "own-fault": a fault without a test that can see it`},
		{"tests: [smoke]", "tests: [eonv-manometer]", `fault "own-fault": a fault without a test that can see it on a car`},
		{"tests: [smoke]", "tests: [witchcraft]", `there is no test "witchcraft"`},
		{"only: [own-tank]", "only: [no-vapour]", `fault "own-fault": no car can have it`},
		{own, strings.Repeat("# no page\n", 300_000), "larger than 2 MB"},
	} {
		t.Run(c.say, func(t *testing.T) {
			if !strings.Contains(own, c.from) {
				t.Fatalf("%q is not in the page", c.from)
			}
			if _, err := ingest.BookWith(write(strings.Replace(own, c.from, c.to, 1))); err == nil || !strings.Contains(err.Error(), c.say) || !strings.Contains(err.Error(), "own.yaml") && !strings.Contains(c.say, "from") {
				t.Errorf("%s → %.40s: %v; want %q", c.from, c.to, err, c.say)
			}
		})
	}
	if _, err := ingest.BookWith(filepath.Join(dir, "nothing")); err == nil {
		t.Error("a page that is not there was read")
	}
}

// A mistake in a page is said with the page, the line and the entry; nothing panics.
func TestAMistakeIsFoundInItsPage(t *testing.T) {
	for _, c := range []struct{ page, from, to, say string }{
		{"faults.yaml", "{key: cap, family: vapour,", "{key: cap, family: wheels,", `faults.yaml, line LINE: fault "cap": family "wheels" is not one of`},
		{"faults.yaml", "{key: neck,", "{key: cap,", `faults.yaml, line LINE: fault "cap": a key of its own`},
		{"tests.yaml", "  - key: smoke\n", "  - key: smoke\n    kit: [divining-rod]\n", `tests.yaml: line `},
		{"faults.yaml", "{key: cap, family: vapour,", "{key: cap, famly: vapour,", `faults.yaml: line LINE: field famly not found`},
		{"faults.yaml", "{key: cap, family: vapour,", "{key: cap, family: vapour, weight: heavy,", `faults.yaml: line `},
		{"plumbing-vapour.yaml", "key: engine-vacuum\n", "key: engine-vacuum\n    needs: [{family: engine, with: [steam], why: x}]\n", `plumbing-vapour.yaml, line LINE: archetype "engine-vacuum"`},
		{"circuits.yaml", "  - key: contact\n", "  - key: contact\n    fuse: [20, 10]\n", `circuits.yaml, line LINE: circuit "contact": fuse is what it usually has`},
		{"circuits.yaml", "  - key: contact\n", "  - key: pump\n", `circuits.yaml, line LINE: circuit "pump": the key must be its own`},
		{"circuits.yaml", "{key: drive, name", "{key: whiff, name", `circuit "motor": measure "whiff": the circuit walk reads none`},
		{"circuits.yaml", "name: \"Coil open\", outcome: coil", "name: \"Coil open\", outcome: bang", `circuit "solenoid": break "coil-open": the circuit walk has no outcome "bang"`},
		{"plumbing-vapour.yaml", "circuit: solenoid", "circuit: spaghetti", `there is no circuit "spaghetti"`},
		{"book.yaml", "cautions:\n", "cautions:\n  - {key: thunder, text: \"\"}\n", `book.yaml, line LINE: caution "thunder": a key of its own and a text`},
	} {
		t.Run(c.say, func(t *testing.T) {
			names, err := filepath.Glob("book/*.yaml")
			if err != nil {
				t.Fatal(err)
			}
			var pages []ingest.Page
			line := 0
			for _, n := range names {
				data, err := os.ReadFile(n)
				if err != nil {
					t.Fatal(err)
				}
				if filepath.Base(n) == c.page {
					before, _, ok := strings.Cut(string(data), c.from)
					if !ok {
						t.Fatalf("%q is not in %s", c.from, n)
					}
					line = strings.Count(before, "\n") + 1 + strings.Count(strings.Split(c.to, "{key: thunder")[0], "\n")*btoi(strings.Contains(c.to, "thunder"))
					data = []byte(strings.Replace(string(data), c.from, c.to, 1))
				}
				pages = append(pages, ingest.Page{Name: n, Data: data})
			}
			_, err = ingest.ReadBook(pages...)
			if want := strings.Replace(c.say, "LINE", strconv.Itoa(line), 1); err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("%v\nwant %s", err, want)
			}
		})
	}
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// Wherever the Book gives a pressure in two units, the two are equal as far as they are
// written (NIST SP 811, 2008, values from memory).
func TestSecondUnitsAreEqual(t *testing.T) {
	pair := regexp.MustCompile(`([\d.]+) (inH2O|inHg|psi|kPa) \(([\d.]+) (inH2O|inHg|psi|kPa)\)`)
	files, err := filepath.Glob("book/*.yaml")
	if err != nil {
		t.Fatal(err)
	}
	pages, _ := filepath.Glob("../web/templates/*.html")
	seen := 0
	for _, name := range append(files, pages...) {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range pair.FindAllStringSubmatch(string(data), -1) {
			seen++
			one, err1 := units.Parse(m[1]+" "+m[2], units.Pressure, "")
			two, err2 := units.Parse(m[3]+" "+m[4], units.Pressure, "")
			_, decimals, _ := strings.Cut(m[3], ".")
			last := units.Must(m[4], units.Pressure).Factor * math.Pow(10, -float64(len(decimals)))
			if err1 != nil || err2 != nil || math.Abs(one-two) > 0.51*last {
				t.Errorf("%s: %s: %.1f and %.1f Pa", name, m[0], one, two)
			}
		}
	}
	if seen < 2 {
		t.Errorf("only %d pairs were looked at", seen)
	}
}

// The generic codes of the five families (numbering: SAE J2012 / ISO 15031-6, from
// memory): each is in the Book with words of its own.
func TestEveryCodeHasWords(t *testing.T) {
	b := ingest.Book()
	said := map[string]string{}
	for _, c := range strings.Fields(`P0440 P0441 P0442 P0443 P0444 P0445 P0446 P0447 P0448 P0449 P0450 P0451 P0452 P0453 P0454 P0455 P0456 P0457 P0458 P0459 P0496 P0497
		P0400 P0401 P0402 P0403 P0404 P0405 P0406 P0409 P0171 P0172 P0174 P0175 P2195 P2196 P2197 P2198 P0101 P0106 P0111 P0113 P0133 P0299 P0234 P052E P04DB P0506 P0507
		P2279 P2400 P2401 P2402 P2403 P2404 P2405 P2406 P2407 P043E P043F`) {
		e := b.Explain(c)
		if e.Says == "not in the Book" || e.Says == "maker's code" {
			t.Errorf("%s: %s", c, e.Says)
		}
		if o := said[e.Says]; o != "" {
			t.Errorf("%s and %s say the same: %s", o, c, e.Says)
		}
		said[e.Says] = c
	}
}

func TestCodes(t *testing.T) {
	for in, want := range map[string]string{"p0456": "P0456", " P 0455": "P0455", "0442": "P0442", "u0100": "U0100"} {
		t.Run(in, func(t *testing.T) {
			if got, err := knowledge.FoldCode(in); err != nil || got != want {
				t.Errorf("%q is %q, %v", in, got, err)
			}
		})
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

// Whatever a page holds, the answer is a Book or a sentence, and never takes the
// program down or for ever.
func FuzzReadBook(f *testing.F) {
	f.Add("archetypes: [{key: x, family: vapour, name: n, rest: r, from: [tank], check: c, seal: [{do: d}], entry: tank, maxpa: 1, maxvacpa: 1, cautions: [vapour]}]")
	f.Add("fragments: [{fragment: f, parts: [{key: a, name: a, kind: line, from: a.left, to: a.right, where: w}]}]")
	f.Add("faults: [{key: z, family: other, name: n, carries: [tank], weight: 1, minutes: 1, cost: a, tests: [look]}]")
	f.Add("a: &a [*a]")
	f.Fuzz(func(t *testing.T, page string) {
		if len(page) > 4096 {
			return
		}
		b, err := ingest.ReadBook(ingest.Page{Name: "page", Data: []byte(page)})
		if err == nil && len(b.Faults) > 0 {
			t.Error("faults without the plumbing that carries them")
		}
		if err != nil && err.Error() == "" {
			t.Error("an error without words")
		}
	})
}

// A page of before, without keys and meanings, is read with a warning: its test is judged by
// hand, and its outcomes mean nothing clear.
func TestAPageWithoutMeanings(t *testing.T) {
	page := filepath.Join(t.TempDir(), "page.yaml")
	if err := os.WriteFile(page, []byte(`
tests:
  - key: own-float
    name: "Level sender by hand"
    families: [vapour]
    purpose: "Does it move?"
    kit: [eyes]
    access: "tank top"
    minutes: 5
    hazard: 1
    setup: [{do: "Key on.", why: ""}]
    steps: ["Lift it."]
    reads: [{name: "ohms, empty", unit: ohm}, {name: "what it does"}]
    splits: "Moves: well."
    outcomes: [{key: good, name: "moves"}, {key: stuck, name: "stuck"}]
    cautions: [vapour]
`), 0o600); err != nil {
		t.Fatal(err)
	}
	b, err := ingest.BookWith(page)
	if err != nil {
		t.Fatal(err)
	}
	if len(b.Warnings) != 1 || !strings.Contains(b.Warnings[0], "own-float") {
		t.Errorf("warned: %q", b.Warnings)
	}
	e, _ := b.Test("own-float")
	if o, ok := e.Outcome("good"); !ok || o.Means != knowledge.Unclear || o.Proves {
		t.Errorf("%+v", o)
	}
	if e.Reads[0].Key != "ohms-empty" || bench.For(e).Odds != bench.ByHand {
		t.Errorf("%+v", e.Reads)
	}
	if len(ingest.Book().Warnings) > 0 {
		t.Errorf("what ships is warned of: %q", ingest.Book().Warnings)
	}
}
