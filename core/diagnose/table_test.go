package diagnose_test

import (
	"hash/fnv"
	"math"
	"os"
	"slices"
	"testing"

	"wexter/core/bench"
	"wexter/core/diagnose"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/ingest"
)

// The table is what the plant says now: a sample of its rows is asked for again, the same
// ones each time. Another machine may round otherwise in the last figures.
func TestTheTableIsCurrent(t *testing.T) {
	b := ingest.Book()
	rows, err := ingest.ReadReadings(ingest.ReadingsFile())
	if err != nil {
		t.Fatal(err)
	}
	have := map[string]diagnose.Row{}
	for _, r := range rows {
		if _, twice := have[r.Key()]; twice {
			t.Errorf("two rows of %s", r.Key())
		}
		have[r.Key()] = r
	}
	want, err := diagnose.Wanted(b)
	if err != nil {
		t.Fatal(err)
	}
	missing := 0
	for _, w := range want {
		if _, ok := have[w.Key()]; !ok {
			if missing++; missing < 5 {
				t.Errorf("no row %s: go run ./cmd/readings", w.Key())
			}
		}
	}
	if missing > 0 || len(rows) > len(want) {
		t.Fatalf("%d of %d rows are missing, the table has %d", missing, len(want), len(rows))
	}
	asked := 0
	for _, w := range want {
		h := fnv.New32a()
		_, _ = h.Write([]byte(w.Key()))
		part := uint32(528)
		if w.Test == diagnose.Codes || w.Test == "soak-watch" { // long ones
			part = 1920
		}
		if bench.Part(w.Test) {
			part = 36
		}
		if os.Getenv("WEXTER_LONG") != "" { // see make accuracy
			part /= 20
		}
		if h.Sum32()%part != 0 {
			continue
		}
		asked++
		got, err := diagnose.Fill(b, w)
		if err != nil {
			t.Error(err)
			continue
		}
		r := have[w.Key()]
		if !alike(got, r) {
			t.Errorf("%s reads %s; the table has %s: go run ./cmd/readings --anew", w.Key(), got.Line(), r.Line())
		}
	}
	t.Logf("%d rows, %d asked for again", len(rows), asked)
	if asked < 40 {
		t.Errorf("only %d rows were asked for again", asked)
	}
}

// alike reports whether two rows read the same, up to the last figures of their numbers.
func alike(a, b diagnose.Row) bool {
	if a.Codes != b.Codes || len(a.Readings) != len(b.Readings) {
		return false
	}
	for k, x := range a.Readings {
		y, ok := b.Readings[k]
		if !ok || !slices.Equal(x.Words, y.Words) || !slices.Equal(x.Places, y.Places) || len(x.Numbers) != len(y.Numbers) {
			return false
		}
		for i, v := range x.Numbers {
			if v != y.Numbers[i] && !(math.Abs(v-y.Numbers[i]) <= 1e-4*math.Max(math.Abs(v), 1)) {
				return false
			}
		}
	}
	return true
}

// Every fault of every car is felt by some test that the Book says can see it: by the
// plant's table, by where holes are, by eyes, or by a sign.
func TestEveryFaultIsFelt(t *testing.T) {
	b := ingest.Book()
	blind := map[string][]string{}
	seen := map[string]bool{}
	for _, c := range []plumbing.Combination{naMAF, turbo, diesel, {Engine: "na-map", Crankcase: "regulator", Recirculation: "egr-stepper", Vapour: "pressure-pump"}, {Engine: "na-maf", Vapour: "early-ported"}, {Engine: "turbo-petrol", Boost: "charged-jet", Vapour: "pump-current"},
		{Engine: "na-maf", Recirculation: "egr-motor-temperature", Vapour: "eonv-switch-canister"}, {Engine: "na-maf", Vapour: "sealed-hybrid"}} {
		m := model(t, c)
		base := think(t, m)
		actions := base.Next(diagnose.Bay{Careful: true}).Actions
		// Given the fault, is there a test with an outcome that moves its odds by a third?
		for _, s := range m.Suspects {
			if s.Key == "not-run" {
				continue
			}
			seen[s.Key] = true
			moved := false
			for _, a := range actions {
				if moved = base.Shows(s.Key, a) != "" && slices.Contains(s.Tests, a.Test); moved {
					break
				}
			}
			if !moved {
				part := diagnose.Target(m.Graph, s.Fault, s.Part, s.Tests[0])
				told := slices.ContainsFunc(b.Signs, func(x knowledge.Sign) bool { return x.Shows[s.Key] > x.Base })
				if part == "" && !slices.Contains(s.Tests, "look") && !told {
					blind[s.Key] = append(blind[s.Key], m.Of.String())
				}
			}
		}
	}
	for k, cars := range blind {
		t.Errorf("%s is felt by no test of its own on %v", k, cars)
	}
	for _, f := range b.Faults {
		if !seen[f.Key] && f.Family != "other" && f.Key != "not-run" {
			t.Errorf("%s was not tried on any car", f.Key)
		}
	}
}

// A sound car fails no test: the outcome of its readings never means a fault. And what a test
// may come to on a faulty car stands in the Book.
func TestSoundCarsPass(t *testing.T) {
	b := ingest.Book()
	rows, err := ingest.ReadReadings(ingest.ReadingsFile())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := diagnose.NewTable(b, rows); err != nil { // works the outcomes out
		t.Fatal(err)
	}
	sound := 0
	for _, r := range rows {
		e, ok := b.Test(r.Test)
		if !ok {
			continue
		}
		o, known := e.Outcome(r.Outcome)
		if !known {
			t.Errorf("%s comes to %q, which the Book does not know", r.Key(), r.Outcome)
		}
		if r.Fault == "" {
			sound++
			if o.Means != knowledge.Sound {
				t.Errorf("a sound car, %s: %q means %s (%s)", r.Key(), r.Outcome, o.Means, r.Line())
			}
		}
	}
	if sound < 150 {
		t.Errorf("only %d rows of sound cars", sound)
	}
}

// Stumbles and recovers by hand, and the volts follow the ramp: valve, passage and sensor are
// cleared together (common practice, no source). Either alone leaves suspects.
func TestBothSoundCloseABranch(t *testing.T) {
	m := model(t, plumbing.Combination{Engine: "na-maf", Recirculation: "egr-vacuum", Vapour: "engine-vacuum"})
	family := func(e ...diagnose.Evidence) (sum float64) {
		s := think(t, m, append([]diagnose.Evidence{{Kind: diagnose.Scanned, Codes: []string{"P0401"}, Before: true}}, e...)...)
		for i, x := range m.Suspects {
			if x.Family == "recirculation" {
				sum += s.Marginals()[i]
			}
		}
		return sum
	}
	hand := diagnose.Evidence{Kind: diagnose.Done, Test: "egr-vacuum", Readings: bench.Readings{"held": bench.Num(14.5), "stumbles": bench.Said("stumbles"), "recovers": bench.Said("recovers")}}
	ramp := diagnose.Evidence{Kind: diagnose.Done, Test: "egr-ramp", Readings: bench.Readings{"shut": bench.Num(0.45), "open": bench.Num(1.6)}}
	before, one, both := family(), family(hand), family(hand, ramp)
	if before < 0.6 || both > 0.25 || one < 2*both {
		t.Errorf("EGR suspects from %.2f to %.2f by hand, and to %.2f with the ramp", before, one, both)
	}
}

// A person's word counts instead of the readings, when it is given as such.
func TestOverruled(t *testing.T) {
	m := model(t, naMAF)
	e := diagnose.Evidence{Kind: diagnose.Done, Test: "cap-check", Part: "cap", Readings: bench.Readings{"left": bench.Num(2)}}
	falls := think(t, m, e).Odds("cap")
	e.Outcome, e.Overruled = "holds", true
	if holds := think(t, m, e).Odds("cap"); holds > falls/3 {
		t.Errorf("overruled, the cap stands at %.3f; by its readings at %.3f", holds, falls)
	}
}
