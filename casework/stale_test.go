package casework_test

import (
	"slices"
	"strings"
	"testing"

	"wexter/casework"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/record"
)

// Two cases are open on one car, and everything on which the odds of the first depend is
// changed through the second, or in the shop: the first must never keep what it thought.
func TestOddsAreNeverStale(t *testing.T) {
	turbo := plumbing.Combination{Engine: "turbo-petrol", Boost: "charged-jet", Crankcase: "regulator-turbo", Recirculation: "no-egr", Vapour: "engine-vacuum"}
	plain := plumbing.Combination{Engine: "na-maf", Boost: "no-boost", Crankcase: "fixed-valve", Recirculation: "no-egr", Vapour: "engine-vacuum"}
	built := func(from plumbing.Combination, family, to string) func(*testing.T, *casework.Shop, string) {
		return func(t *testing.T, s *casework.Shop, other string) {
			must(t, s.SetPlumbing(ctx, "", other, from.With(family, to)))
		}
	}
	for _, c := range []struct {
		name   string
		from   plumbing.Combination
		change func(t *testing.T, s *casework.Shop, other string)
	}{
		{"engine", plain, built(plain, "engine", "na-map")},
		{"boost", turbo, built(turbo, "boost", "charged")},
		{"crankcase", plain, built(plain, "crankcase", "regulator")},
		{"EGR", plain, built(plain, "recirculation", "egr-vacuum")},
		{"EVAP", plain, built(plain, "vapour", "eonv-sensor")},
		{"a correction", plain, func(t *testing.T, s *casework.Shop, other string) {
			must(t, s.AddCorrection(ctx, "", other, casework.NewCorrection{Kind: "note", Part: "cap", Text: "A cap of another maker."}))
		}},
		{"an access card", plain, func(t *testing.T, s *casework.Shop, other string) {
			must(t, s.AddCard(ctx, "", other, casework.NewCard{Part: "canister", Place: "above the axle", Minutes: 90}))
		}},
		{"the bay's kit", plain, func(t *testing.T, s *casework.Shop, _ string) {
			must(t, s.SetWays(ctx, "", casework.Ways{Kit: []string{"eyes"}}))
		}},
		{"a way of working", plain, func(t *testing.T, s *casework.Shop, _ string) {
			must(t, s.SetWays(ctx, "", casework.Ways{Policies: map[string]string{"prove": "swap"}}))
		}},
		{"the Book", plain, func(t *testing.T, s *casework.Shop, _ string) {
			s.Book.Faults = slices.Clone(s.Book.Faults)
			i := slices.IndexFunc(s.Book.Faults, func(f knowledge.Fault) bool { return f.Key == "cap" })
			s.Book.Faults[i].Weight = 90
			s.Book.Version += "+"
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := shop(t)
			id, err := s.OpenCase(ctx, "", car("SQ 700"))
			must(t, err)
			other, err := s.OpenCase(ctx, "", car("SQ 700"))
			must(t, err)
			must(t, s.SetPlumbing(ctx, "", id, c.from))
			before, f := thought(t, s, id)
			must(t, s.KeepNext(ctx, f, before))
			if again, _ := thought(t, s, id); again != before {
				t.Fatal("nothing was changed, and it was all worked out again")
			}
			if row := slateRow(t, s, id); row.Minutes == 0 || !strings.HasPrefix(before.Words, row.Next) {
				t.Fatalf("the Slate does not show what is next: %q, %d min; want %q", row.Next, row.Minutes, before.Words)
			}
			version := f.Case.Version
			c.change(t, s, other)
			after, f := thought(t, s, id)
			if f.Case.Version != version {
				t.Fatal("the first case was touched itself; this proves nothing")
			}
			if after == before {
				t.Error("the odds are the old ones")
			}
			if row := slateRow(t, s, id); row.Minutes != 0 {
				t.Errorf("the Slate still shows %q, worked out before", row.Next)
			}
		})
	}
}

func slateRow(t *testing.T, s *casework.Shop, id string) casework.SlateRow {
	t.Helper()
	rows, err := s.Slate(ctx)
	must(t, err)
	for _, r := range rows {
		if r.Case.ID == id {
			return r
		}
	}
	t.Fatal("the case is not on the Slate")
	return casework.SlateRow{}
}

// A leg that is struck out or doubted changes what its case thinks, and tells the pages
// that watch the case.
func TestALegChangesItsCase(t *testing.T) {
	s := shop(t)
	id, err := s.OpenCase(ctx, "", car("SQ 701"))
	must(t, err)
	hold(t, s, id, "", 0.7e-3)
	before, f := thought(t, s, id)
	run := f.Tests[0].Runs[1].ID
	for _, st := range []casework.Stamp{casework.Doubt, casework.Trust, casework.Strike, casework.Restore} {
		t.Run(string(st), func(t *testing.T) {
			version, err := s.CaseVersion(ctx, id)
			must(t, err)
			must(t, s.Stamp(ctx, "", id, casework.Entry{Kind: record.RunEntry, ID: run}, st))
			now, err := s.CaseVersion(ctx, id)
			must(t, err)
			if now == version {
				t.Error("the case stands at the same version: pages do not follow")
			}
			th, _ := thought(t, s, id)
			if p, q := th.State.Odds("cap"), before.State.Odds("cap"); (st == casework.Doubt || st == casework.Strike) == (p == q) {
				t.Errorf("the cap stands at %.4f, with the leg at %.4f", p, q)
			}
		})
	}
	if err := s.Stamp(ctx, "", id, casework.Entry{Kind: record.RunEntry, ID: "no such leg"}, casework.Strike); err == nil {
		t.Error("a leg that is not there was struck out")
	}
	other, err := s.OpenCase(ctx, "", car("SQ 702"))
	must(t, err)
	if err := s.Stamp(ctx, "", other, casework.Entry{Kind: record.RunEntry, ID: run}, casework.Strike); err == nil {
		t.Error("a leg of another case was struck out")
	}
}
