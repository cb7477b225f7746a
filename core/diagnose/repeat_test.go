package diagnose_test

import (
	"testing"

	"wexter/core/diagnose"
)

// scan is a full scan of a car that has been driven; before it came in, or since.
func scan(before bool, codes ...string) diagnose.Evidence {
	return diagnose.Evidence{ID: "codes", Kind: diagnose.Scanned, Codes: codes, Ran: []string{""}, Before: before, Says: "codes"}
}

// replaced is an epoch that begins with a part replaced for good.
func renewed(fault string, e ...diagnose.Evidence) diagnose.Epoch {
	return diagnose.Epoch{Repairs: []diagnose.Repair{{Fault: fault, Cause: diagnose.NoCause}}, Evidence: e}
}

// A part that was replaced once and again does not become likelier each time its code comes back:
// the unit says what it said before, and others become likelier.
func TestRenewedAndTheCodeComesBack(t *testing.T) {
	m := model(t, naMAF)
	h := diagnose.History{{Evidence: []diagnose.Evidence{scan(true, "P0446", "P2422")}}}
	last := 1.0
	for n := range 4 {
		s, err := m.Think(h)
		if err != nil {
			t.Fatal(err)
		}
		p := s.Odds("vent-filter")
		if n == 0 && p < 0.5 {
			t.Fatalf("a blocked filter stands at %.2f with its codes", p)
		}
		if p >= last {
			t.Errorf("renewed %d times, and likelier: %.3f after %.3f", n, p, last)
		}
		last = p
		h = append(h, renewed("vent-filter", scan(false, "P0446", "P2422")))
	}
	if last > 0.1 {
		t.Errorf("a filter renewed three times still stands at %.2f", last)
	}
}

// Where the car answers otherwise after a repair, the repair changed something, whatever is left.
func TestARepairThatChangedTheAnswer(t *testing.T) {
	m := model(t, naMAF)
	after := func(codes ...string) (still float64) {
		s, err := m.Think(diagnose.History{{Evidence: []diagnose.Evidence{scan(true, "P0171", "P052E")}}, renewed("pcv-line", scan(false, codes...))})
		if err != nil {
			t.Fatal(err)
		}
		return s.Odds("pcv-line")
	}
	if both, one, none := after("P0171", "P052E"), after("P0171"), after(); !(both > one && one > none) {
		t.Errorf("the renewed line stands at %.3f with both codes back, %.3f with one, %.3f with none", both, one, none)
	}
}

// The same answer a second time is worth less than the first, and a third less again.
func TestTheSameAgainSaysLess(t *testing.T) {
	for _, c := range []struct {
		name  string
		again diagnose.Evidence
		fault string
	}{
		{"a look that finds nothing", result("look", "", "clean"), "cap"},
		{"a valve that seals on the bench", result("valve-bench", "purge-valve", "good"), "purge-valve"},
		{"a scan after a drive", scan(false, "P0441"), "purge-blocked"},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := model(t, naMAF)
			ratio := func(n int) float64 { // of the odds after n times to those after one time fewer
				at := func(n int) float64 {
					var e []diagnose.Evidence
					for range n {
						e = append(e, c.again)
					}
					p := think(t, m, e...).Odds(c.fault)
					return p / (1 - p)
				}
				r := at(n) / at(n-1)
				if r < 1 {
					r = 1 / r
				}
				return r
			}
			if first, second := ratio(1), ratio(2); !(first > 1.02 && second < first && second >= 1) {
				t.Errorf("the first time it speaks %.3f to 1, the second %.3f", first, second)
			}
		})
	}
}

// Driving or waiting is proposed once: when the car's own checks have run since and found the
// same, they would only find it again.
func TestNoSecondDrive(t *testing.T) {
	for name, m := range map[string]*diagnose.Model{"over night": model(t, turbo), "on the road": model(t, naMAF)} {
		idle := func(e ...diagnose.Evidence) bool {
			for _, x := range think(t, m, e...).Next(diagnose.Bay{}).Moves {
				if x.Kind == diagnose.ToDrive || x.Kind == diagnose.ToWait {
					return true
				}
			}
			return false
		}
		if !idle(scan(true, "P0171")) {
			t.Errorf("%s: a car that has only been scanned may be driven", name)
		}
		if idle(scan(true, "P0171"), scan(false, "P0171")) {
			t.Errorf("%s: driven, scanned, and sent out again", name)
		}
	}
}

// A test that told nothing twice is not proposed a third time.
func TestNoThirdTime(t *testing.T) {
	m := model(t, naMAF)
	for n, want := range []bool{true, true, false} {
		e := []diagnose.Evidence{scan(true, "P0171")}
		for range n {
			e = append(e, result("trims", "", "stalls"))
		}
		found := false
		for _, a := range think(t, m, e...).Next(diagnose.Bay{}).Actions {
			found = found || a.Test == "trims"
		}
		if found != want {
			t.Errorf("trims after %d times without a reading: proposed %v", n, found)
		}
	}
}
