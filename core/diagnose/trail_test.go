package diagnose_test

import (
	"math"
	"slices"
	"testing"

	"wexter/core/diagnose"
)

// What comes last in the order moved the odds to where they stand; what came first moved them
// from where they stood without any evidence, whatever the order in which it was handed in.
func TestTrail(t *testing.T) {
	m := model(t, naMAF)
	cap, whole := result("cap-check", "cap", "holds"), hold(m, 0.7, 0.66, 0.74)
	s := think(t, m, whole, cap)
	turns, err := s.Trail([]string{cap.ID, whole.ID}, func(string) bool { return true })
	if err != nil || len(turns) != 2 || turns[0].ID != cap.ID || turns[1].ID != whole.ID {
		t.Fatalf("%d turns, %v", len(turns), err)
	}
	same := func(what string, got, want []float64) {
		t.Helper()
		for i := range want {
			if math.Abs(got[i]-want[i]) > 1e-9 {
				t.Errorf("%s: %s stands at %.4f, wanted %.4f", what, m.Suspects[i].Key, got[i], want[i])
				return
			}
		}
	}
	same("before the first", turns[0].Before, think(t, m).Marginals())
	same("after the first", turns[0].After, think(t, m, cap).Marginals())
	same("before the second", turns[1].Before, turns[0].After)
	same("after the second", turns[1].After, s.Marginals())
}

// A repair ends an epoch: a record of before it is not moved by what came after it.
func TestTrailOverARepair(t *testing.T) {
	m := model(t, naMAF)
	before, after := hold(m, 0.7, 0.66, 0.74), result("cap-check", "cap", "holds")
	s, err := m.Think(diagnose.History{
		{Evidence: []diagnose.Evidence{before}},
		{Repairs: []diagnose.Repair{{Fault: "vapour-line"}}, Evidence: []diagnose.Evidence{after}},
	})
	if err != nil {
		t.Fatal(err)
	}
	turns, err := s.Trail([]string{before.ID, after.ID}, func(id string) bool { return id == before.ID })
	if err != nil || len(turns) != 1 {
		t.Fatalf("%d turns, %v", len(turns), err)
	}
	for i, p := range think(t, m, before).Marginals() {
		if math.Abs(turns[0].After[i]-p) > 1e-9 {
			t.Fatalf("%s stands at %.4f, wanted %.4f", m.Suspects[i].Key, turns[0].After[i], p)
		}
	}
}

// A circuit code with a meter in the bay and nothing else: the circuit can be tested.
func TestAMeterAloneTestsACircuit(t *testing.T) {
	for _, code := range []string{"P0443", "P0449"} {
		s := think(t, model(t, naMAF), diagnose.Evidence{ID: "codes", Kind: diagnose.Scanned, Codes: []string{code}, Says: code})
		plan := s.Next(diagnose.Bay{Kit: []string{"eyes", "meter"}})
		if !slices.ContainsFunc(plan.Actions, func(a diagnose.Action) bool { return a.Test == "circuit-walk" }) {
			t.Errorf("%s: no circuit walk among %d tests", code, len(plan.Actions))
		}
	}
}

func BenchmarkTrail(b *testing.B) {
	m := model(b, naMAF)
	cap, whole := result("cap-check", "cap", "holds"), hold(m, 0.7, 0.66, 0.74)
	s := think(b, m, whole, cap)
	for b.Loop() {
		if _, err := s.Trail([]string{cap.ID, whole.ID}, func(string) bool { return true }); err != nil {
			b.Fatal(err)
		}
	}
}
