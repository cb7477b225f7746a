package knowledge_test

import (
	"slices"
	"strings"
	"testing"

	"wexter/core/calc"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/ingest"
)

// clone copies the Book so far that a test may spoil its entries.
func clone() knowledge.Book {
	b := ingest.Book()
	b.Faults, b.Tests, b.Kit, b.Codes = slices.Clone(b.Faults), slices.Clone(b.Tests), slices.Clone(b.Kit), slices.Clone(b.Codes)
	b.Craft, b.Schools, b.Contexts, b.Costs = slices.Clone(b.Craft), slices.Clone(b.Schools), slices.Clone(b.Contexts), slices.Clone(b.Costs)
	b.Params, b.Archetypes, b.Cautions = slices.Clone(b.Params), slices.Clone(b.Archetypes), slices.Clone(b.Cautions)
	return b
}

func TestABrokenBookNamesTheEntry(t *testing.T) {
	if err := clone().Check(); err != nil {
		t.Fatal(err)
	}
	for say, spoil := range map[string]func(*knowledge.Book){
		`fault "cap": a fault without a test that can see it`: func(b *knowledge.Book) { b.Faults[0].Tests = nil },
		`fault "cap": there is no test "gone"`:                func(b *knowledge.Book) { b.Faults[0].Tests = []string{"gone"} },
		`fault "cap": there is no part "gone"`:                func(b *knowledge.Book) { b.Faults[0].Carries = []string{"gone"} },
		`fault "cap": say which part carries it`:              func(b *knowledge.Book) { b.Faults[0].Carries = nil },
		`fault "cap": its weight is 0`:                        func(b *knowledge.Book) { b.Faults[0].Weight = 0 },
		`fault "cap": family "wheels"`:                        func(b *knowledge.Book) { b.Faults[0].Family = "wheels" },
		`fault "cap": no name`:                                func(b *knowledge.Book) { b.Faults[0].Name = "" },
		`fault "cap": there is no cost "z"`:                   func(b *knowledge.Book) { b.Faults[0].Cost = "z" },
		`fault "cap": say what it changes`:                    func(b *knowledge.Book) { b.Faults[0].Changes = nil },
		`fault "cap": it changes "leak" from 5 to 1`:          func(b *knowledge.Book) { b.Faults[0].Changes = []knowledge.Change{{Param: "leak", From: 5, To: 1}} },
		`fault "cap": context "moon"`:                         func(b *knowledge.Book) { b.Faults[0].Context = map[string]float64{"moon": 2} },
		`fault "cap": it cannot be the victim of "cap"`:       func(b *knowledge.Book) { b.Faults[0].Causes = []string{"cap"} },
		`fault "cap": there is no archetype "gone"`:           func(b *knowledge.Book) { b.Faults[0].Only = []string{"gone"} },
		`fault "cap": no car can have it`:                     func(b *knowledge.Book) { b.Faults[0].Only = []string{"no-vapour"} },
		`fault "cap-loose": a key of its own`:                 func(b *knowledge.Book) { b.Faults = append(b.Faults, b.Faults[1]) },
		`fault "cap": 0 minutes`:                              func(b *knowledge.Book) { b.Faults[0].Minutes = 0 },
		`test "readiness": a procedure without its caution`:   func(b *knowledge.Book) { b.Tests[0].Cautions = nil },
		`test "readiness": there is no caution "gone"`:        func(b *knowledge.Book) { b.Tests[0].Cautions = []string{"gone"} },
		`test "readiness": there is no kit "gone"`:            func(b *knowledge.Book) { b.Tests[0].Kit = []string{"gone"} },
		`test "readiness": say what kit it needs`:             func(b *knowledge.Book) { b.Tests[0].Kit = nil },
		`test "readiness": set-up, steps, readings`:           func(b *knowledge.Book) { b.Tests[0].Steps = nil },
		`test "readiness": 0 minutes`:                         func(b *knowledge.Book) { b.Tests[0].Minutes = 0 },
		`test "readiness": hazard 9`:                          func(b *knowledge.Book) { b.Tests[0].Hazard = 9 },
		`test "readiness": outcome "codes"`: func(b *knowledge.Book) {
			b.Tests[0].Outcomes = []knowledge.Outcome{{Key: "codes", Name: "c"}, {Key: "codes", Name: "d"}}
		},
		`test "readiness": name, purpose, access`:             func(b *knowledge.Book) { b.Tests[0].Splits = "" },
		`test "readiness": there is no family "wheels"`:       func(b *knowledge.Book) { b.Tests[0].Families = []string{"wheels"} },
		`test "readiness": there is no archetype "gone"`:      func(b *knowledge.Book) { b.Tests[0].Only = []string{"gone"} },
		`test "readiness": a step without words`:              func(b *knowledge.Book) { b.Tests[0].Setup = []knowledge.Step{{}} },
		`craft "seals": a procedure without its caution`:      func(b *knowledge.Book) { b.Craft[0].Cautions = nil },
		`craft "seals": a key of its own, a name`:             func(b *knowledge.Book) { b.Craft[0].Text = "" },
		`school "clear": a key of its own`:                    func(b *knowledge.Book) { b.Schools[0].Options = nil },
		`kit "eyes": a key of its own`:                        func(b *knowledge.Book) { b.Kit[0].Gives = "" },
		`context "salt": a key of its own`:                    func(b *knowledge.Book) { b.Contexts[0].Name = "" },
		`cost "a": a key of its own`:                          func(b *knowledge.Book) { b.Costs[0].Name = "" },
		`param "leak": a key of its own`:                      func(b *knowledge.Book) { b.Params[0].Unit = "" },
		`code "P0440": no words`:                              func(b *knowledge.Book) { b.Codes[0].Says = "" },
		`code "P04": a letter`:                                func(b *knowledge.Book) { b.Codes[0].Code = "P04" },
		`archetype "engine-vacuum": how it checks itself`:     func(b *knowledge.Book) { b.Archetypes[0].Check = "" },
		`archetype "steam": there is no plumbing`:             func(b *knowledge.Book) { b.Archetypes[0].Key = "steam" },
		`archetype "sealed-hybrid": say how it checks itself`: func(b *knowledge.Book) { b.Archetypes = b.Archetypes[:8] },
		`caution "vapour": a key of its own`:                  func(b *knowledge.Book) { b.Cautions[0].Text = "" },
	} {
		t.Run(say, func(t *testing.T) {
			b := clone()
			spoil(&b)
			if err := b.Check(); err == nil || !strings.Contains(err.Error(), say) {
				t.Errorf("%v; want %s", err, say)
			}
		})
	}
}

// Weights as the trade gives them: rough shop odds within a family (common practice,
// no source).
func TestFaultWeights(t *testing.T) {
	b := ingest.Book()
	for key, want := range map[string]float64{"cap": 6, "cap-loose": 4, "neck": 5, "flange-seal": 4, "canister-coupler": 6, "purge-valve": 9, "vent-valve": 6, "eonv-unit": 7, "manifold-gasket": 5, "pcv-line": 6,
		"regulator": 7, "manifold-check": 5, "egr-ports": 7, "dp-sensor": 5, "charge-hose": 7, "bypass": 4, "air-meter": 6, "fuel-pressure": 5} {
		t.Run(key, func(t *testing.T) {
			if f, ok := b.Fault(key); !ok || f.Weight != want {
				t.Errorf("%s weighs %g, not %g", key, f.Weight, want)
			}
		})
	}
	if f, _ := b.Fault("flange-seal"); f.Context["pump-work"] != 6 {
		t.Errorf("recent pump work raises a flange seal's odds six times, not %g", f.Context["pump-work"])
	}
	if f, _ := b.Fault("vapour-line"); f.Context["salt"] != 3 {
		t.Errorf("salt: %g", f.Context["salt"])
	}
	if f, _ := b.Fault("regulator"); !slices.Contains(f.Causes, "manifold-check") {
		t.Error("nobody asks whether boost tore the diaphragm")
	}
}

// A fault belongs to cars that have its part and its archetype.
func TestFaultsOfAPart(t *testing.T) {
	b := ingest.Book()
	plain := plumbing.Combination{Engine: "na-map", Boost: "no-boost", Crankcase: "fixed-valve", Recirculation: "no-egr", Vapour: "engine-vacuum"}
	eonv := plain.With("vapour", "eonv-switch-remote").With("engine", "na-maf")
	diesel := plumbing.Combination{Engine: "turbo-diesel", Boost: "charged", Crankcase: "regulator-inlet", Recirculation: "egr-motor", Vapour: "no-vapour"}
	keys := func(c plumbing.Combination, part string) string {
		g, err := b.Plumbing.Combine(c)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, f := range b.FaultsOf(g, c, part) {
			out = append(out, f.Key)
		}
		return strings.Join(out, " ")
	}
	for _, x := range []struct {
		c             plumbing.Combination
		part, has, no string
	}{
		{plain, "purge-valve", "purge-valve purge-blocked purge-circuit", "purge-diaphragm"},
		{plain, "vent-valve", "vent-valve vent-circuit vent-oring", "eonv-unit"},
		{eonv, "unit-switch", "eonv-unit", ""},
		{eonv, "vent-valve", "eonv-relief-leaks eonv-relief-shut eonv-vacuum-relief eonv-mounting", ""},
		{plain, "tank", "tank-shell hot-fuel", "cap"},
		{plain, "cap", "cap", "neck"},
		{plain, "inlet-pipe", "", "inlet-pipe"}, // without a meter the split pipe is metered by pressure: no such fault
		{eonv, "inlet-pipe", "inlet-pipe", ""},
		{diesel, "egr-valve", "egr-open egr-open-unseen egr-shut egr-motor", "egr-diaphragm"},
		{diesel, "crankcase", "", "cap"},
	} {
		t.Run(x.part, func(t *testing.T) {
			got := " " + keys(x.c, x.part) + " "
			for _, k := range strings.Fields(x.has) {
				if !strings.Contains(got, " "+k+" ") {
					t.Errorf("%v: %s can have %s; the Book says%s", x.c, x.part, k, got)
				}
			}
			for _, k := range strings.Fields(x.no) {
				if strings.Contains(got, " "+k+" ") {
					t.Errorf("%v: %s cannot have %s", x.c, x.part, k)
				}
			}
		})
	}
}

// Every calculator that a test names exists, and every test tells about some fault.
func TestTestsAreJoinedUp(t *testing.T) {
	b := ingest.Book()
	used := map[string]bool{}
	for _, f := range b.Faults {
		for _, k := range f.Tests {
			used[k] = true
			if x, _ := b.Test(k); f.Family != "other" && len(x.Families) > 0 && !slices.Contains(x.Families, f.Family) {
				t.Errorf("test %s sees fault %s, but does not say that it tells about the family %s", k, f.Key, f.Family)
			}
		}
	}
	for _, x := range b.Tests {
		if !used[x.Key] {
			t.Errorf("test %s sees no fault", x.Key)
		}
		for _, k := range x.Calculators {
			if _, ok := calc.Find(k); !ok {
				t.Errorf("test %s: there is no calculator %q", x.Key, k)
			}
		}
	}
	if len(b.Tests) < 20 || len(b.Schools) != 8 || len(b.Craft) < 12 {
		t.Errorf("%d tests, %d schools, %d rules of craft", len(b.Tests), len(b.Schools), len(b.Craft))
	}
}

// The trade swaps vent, drain and purge: each finds what the others name.
func TestTheWholeBookIsSearched(t *testing.T) {
	b := ingest.Book()
	for query, want := range map[string]string{
		"drain valve": "vent-valve", "charcoal": "canister-shell", "lid": "cap", "pcv": "fixed-valve", "sharp genuine": "", "manometer": "eonv-manometer", "patch": "patch",
		"genuine only": "parts", "ember": "ember", "speed-density": "na-map", "turbo diesel": "turbo-diesel", "P0456": "P0456",
	} {
		t.Run(query, func(t *testing.T) {
			hits := b.Search(query)
			if (want == "") != (len(hits) == 0) || want != "" && !slices.ContainsFunc(hits, func(h knowledge.Hit) bool { return h.Key == want }) {
				t.Errorf("%q finds %v; want %q", query, hits, want)
			}
		})
	}
}

// What is set by hand needs a base, odds that are odds, and a reason.
func TestSignsAndGroups(t *testing.T) {
	for say, spoil := range map[string]func(*knowledge.Book){
		`sign "smell": odds set by hand need`:       func(b *knowledge.Book) { sign(b, "smell").Why = "" },
		`sign "smell": there is no fault "ghost"`:   func(b *knowledge.Book) { sign(b, "smell").Shows = map[string]float64{"ghost": 0.5} },
		`sign "smell": with "cap" its odds are 1`:   func(b *knowledge.Book) { sign(b, "smell").Shows = map[string]float64{"cap": 1} },
		`sign "": a key of its own`:                 func(b *knowledge.Book) { sign(b, "smell").Key = "" },
		`sign "smell": a key of its own`:            func(b *knowledge.Book) { sign(b, "smell").When = "at night" },
		`group "lean": code "P0171": a letter`:      func(b *knowledge.Book) { b.Groups[0].Key, b.Groups[0].Codes = "lean", []string{"P0171", "P0171"} },
		`group "x": a key and codes`:                func(b *knowledge.Book) { b.Groups[0].Key, b.Groups[0].Codes = "x", nil },
		`odds "wheels": a family of faults`:         func(b *knowledge.Book) { b.Odds[0].Key = "wheels" },
		`cost "a": a key of its own, a name and a`:  func(b *knowledge.Book) { b.Costs[0].Price = 0 },
		`test "smoke": a shared set-up`:             func(b *knowledge.Book) { test(b, "smoke").Saves = 0 },
		`test "smoke": outcome "none" means "fine"`: func(b *knowledge.Book) { outcome(b, "smoke", "none").Means = "fine" },
		`test "smoke": outcome "exit" proves`:       func(b *knowledge.Book) { outcome(b, "smoke", "exit").Proves = true },
		`test "smoke": outcome "none" singles out`:  func(b *knowledge.Book) { outcome(b, "smoke", "none").Singles = true },
		`test "smoke": outcome "cannot-tell"`:       func(b *knowledge.Book) { outcome(b, "smoke", "none").Key = "cannot-tell" },
		`test "smoke": reading "far"`:               func(b *knowledge.Book) { test(b, "smoke").Reads = []knowledge.Reading{{Name: "far"}} },
		`test "trims": reading "total trim, idle"`: func(b *knowledge.Book) {
			r := slices.Clone(test(b, "trims").Reads)
			r[1].Spread = -1
			test(b, "trims").Reads = r
		},
	} {
		t.Run(say, func(t *testing.T) {
			b := clone()
			b.Signs, b.Groups, b.Odds = slices.Clone(b.Signs), slices.Clone(b.Groups), slices.Clone(b.Odds)
			spoil(&b)
			if err := b.Check(); err == nil || !strings.Contains(err.Error(), say) {
				t.Errorf("%v; want %s", err, say)
			}
		})
	}
}

func sign(b *knowledge.Book, key string) *knowledge.Sign {
	return &b.Signs[slices.IndexFunc(b.Signs, func(s knowledge.Sign) bool { return s.Key == key })]
}

func outcome(b *knowledge.Book, of, key string) *knowledge.Outcome {
	t := test(b, of)
	t.Outcomes = slices.Clone(t.Outcomes)
	return &t.Outcomes[slices.IndexFunc(t.Outcomes, func(o knowledge.Outcome) bool { return o.Key == key })]
}

func test(b *knowledge.Book, key string) *knowledge.Test {
	return &b.Tests[slices.IndexFunc(b.Tests, func(t knowledge.Test) bool { return t.Key == key })]
}
