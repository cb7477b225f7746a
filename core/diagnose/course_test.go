package diagnose_test

import (
	"cmp"
	"slices"
	"testing"

	"wexter/core/diagnose"
	"wexter/core/plumbing"
)

// move finds a move of a plan.
func move(t *testing.T, p diagnose.Plan, is func(diagnose.Move) bool) diagnose.Move {
	t.Helper()
	i := slices.IndexFunc(p.Moves, is)
	if i < 0 {
		t.Fatal("no such move")
	}
	return p.Moves[i]
}

// Of two parts that are both broken the first to be replaced is paid once: the other one is what
// is left then.
func TestTwoBrokenPartsArePaidOnce(t *testing.T) {
	m := model(t, plumbing.Combination{})
	parts := []string{"vent-filter", "inlet-pipe"}
	s := think(t, m, diagnose.Evidence{ID: "1", Kind: diagnose.Found, Key: parts[0], Value: 5000}, diagnose.Evidence{ID: "2", Kind: diagnose.Found, Key: parts[1], Value: 5000})
	p := s.Next(diagnose.Bay{})
	both := 0.0
	for _, part := range parts {
		if s.Odds(part) < 0.85 {
			t.Fatalf("%s at %.2f", part, s.Odds(part))
		}
		both += move(t, p, func(x diagnose.Move) bool { return x.Kind == diagnose.ToReplace && x.Fault == part }).Cost
	}
	for _, part := range parts {
		x := move(t, p, func(x diagnose.Move) bool { return x.Kind == diagnose.ToReplace && x.Fault == part })
		if x.Expect < 0.95*both || x.Expect > 1.1*both {
			t.Errorf("renewing %s first: %.0f min to be expected, both parts cost %.0f", part, x.Expect, both)
		}
	}
}

// A dear repair makes nothing else cheap: what leads for another reason than its cost costs only
// minutes more than the cheapest, whatever the part costs that is broken.
func TestADearRepairLeavesLittleRoom(t *testing.T) {
	m := model(t, plumbing.Combination{})
	for _, codes := range [][]string{{"P0456"}, {"P0442"}, {"P0446", "P0455"}} {
		for _, fault := range []string{"tank-shell", "canister-drowned", "neck"} {
			for _, weight := range []float64{20, 100, 500, 3000} {
				s := think(t, m, scan(true, codes...), diagnose.Evidence{ID: "found", Kind: diagnose.Found, Key: fault, Value: weight})
				p := s.Next(diagnose.Bay{Careful: true, Prices: map[string]float64{fault: 5000}})
				best := slices.MinFunc(p.Moves, func(a, b diagnose.Move) int { return cmp.Compare(a.Expect, b.Expect) })
				if lost := p.Moves[0].Expect - best.Expect; lost > 32 {
					t.Errorf("%v, %s at %.2f: %s comes first and loses %.0f min against %s", codes, fault, s.Odds(fault), p.Moves[0].Name, lost, best.Name)
				}
			}
		}
	}
}

// A cheap part is replaced where proving it would cost more than being wrong now and then; a
// dear one at the same odds is proven. It was made likely before the last repair, so nothing of
// now has singled it out.
func TestProvingHasToPay(t *testing.T) {
	m := model(t, plumbing.Combination{})
	s, err := m.Think(diagnose.History{{Evidence: []diagnose.Evidence{{ID: "1", Kind: diagnose.Found, Key: "vent-oring", Value: 1500}}}, renewed("cap")})
	if err != nil {
		t.Fatal(err)
	}
	if o := s.Odds("vent-oring"); o < 0.85 || o > 0.97 {
		t.Fatalf("the O-ring is at %.2f", o)
	}
	for _, x := range []struct {
		name  string
		price float64
		kind  diagnose.MoveKind
	}{{"cheap", 0.01, diagnose.ToReplace}, {"dear", 2000, diagnose.ToTest}} {
		t.Run(x.name, func(t *testing.T) {
			p := s.Next(diagnose.Bay{Prices: map[string]float64{"vent-oring": x.price}, Day: 0.001})
			if p.Moves[0].Kind != x.kind {
				t.Errorf("for %.2f it proposes %s first", x.price, p.Moves[0].Name)
			}
		})
	}
}
