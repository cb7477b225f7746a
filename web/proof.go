package web

import (
	"html/template"
	"net/url"

	"wexter/casework"
	"wexter/core/bench"
	"wexter/evidence"
)

// proofSays is what a repair is proven by, test by test.
type proofSays struct {
	Failed   []proofPiece // that showed the fault and wait for a repeat that passes
	Pairs    []proofPair  // the one that decides first
	Before   *proofPiece  // of the first pair
	After    *proofPiece
	Instead  []proofTest // tests that can prove it when the one that showed the fault cannot
	Monitors string      // that the repair concerns; empty: none
}

// First is the test to repeat first; nil when none is left, or none that showed the fault
// could prove that it is gone.
func (v proofSays) First(p evidence.Proof) *proofPiece {
	switch {
	case p.Repeat:
		return nil
	case len(v.Failed) > 0:
		return &v.Failed[0]
	case !p.Instead:
		return v.Before
	}
	return nil
}

// proofPiece is a test of the proof in words.
type proofPiece struct {
	ID, Name, Outcome, Class, Says string
	Hold                           bool
	Again                          string // address of its repeat
	When                           string
}

// proofPair is a test before and after the repair, in its own form.
type proofPair struct {
	Before, After *proofPiece
	Plot          template.HTML // traces of a hold
	Rows          []compareRow  // readings of both, side by side
}

// compareRow is one reading before and after.
type compareRow struct {
	Name, Before, After string
	Gone                bool // it was there before, and is not now
}

type proofTest struct{ Name, Link string }

// proves gathers what the proof shows.
func (s *server) proves(f evidence.Folder, p evidence.Proof, car casework.Car) proofSays {
	v := proofSays{Monitors: casework.MonitorNames(car.Monitors(f))}
	passed := map[string]bool{}
	for _, x := range p.Pairs() {
		v.Pairs = append(v.Pairs, proofPair{Before: piece(x.Before, f, car), After: piece(x.After, f, car),
			Plot: traces(x.Before.Summary(), x.After.Summary(), 620, 460), Rows: compare(x, car)})
		passed[x.Before.ID()] = x.After != nil && x.After.Passes() && !p.Instead
	}
	if len(v.Pairs) > 0 {
		v.Before, v.After = v.Pairs[0].Before, v.Pairs[0].After
	}
	for i := range p.Failed {
		if x := &p.Failed[i]; x.CanProve() && !passed[x.ID()] {
			v.Failed = append(v.Failed, *piece(x, f, car))
		}
	}
	if p.Instead && p.After == nil {
		v.Instead = s.canProve(f, car)
	}
	return v
}

func piece(p *evidence.Piece, f evidence.Folder, car casework.Car) *proofPiece {
	if p == nil {
		return nil
	}
	v := proofPiece{ID: p.ID(), Name: p.Test.Name, Outcome: p.Outcome.Name, Class: meaningClass(p.Outcome.Means), Hold: p.Hold != nil, When: p.At().Local().Format("2 Jan, 15:04")}
	if p.Result != nil {
		v.Name = car.ResultName(*p.Result)
		if !p.Result.ByHand() {
			v.Says = p.Result.Says
		}
		v.Again = "/cases/" + f.Case.ID + "/do/" + url.PathEscape(p.Test.Key) + "?repeat=" + url.QueryEscape(p.Result.ID)
	}
	return &v
}

// compare puts the readings of two results side by side; places that are not there any more
// are marked as gone.
func compare(p evidence.Pair, car casework.Car) (out []compareRow) {
	if p.Before == nil || p.Before.Result == nil {
		return nil
	}
	after := map[string]string{}
	if p.After != nil && p.After.Result != nil && p.After.Test.Key == p.Before.Test.Key {
		for _, l := range car.Lines(*p.After.Result) {
			after[l.Name] = l.Value
		}
	}
	seen := map[string]bool{}
	places := ""
	if e, ok := p.Before.Test.Read(bench.For(p.Before.Test).PlaceChannel()); ok {
		places = e.Name
	}
	for _, l := range car.Lines(*p.Before.Result) {
		seen[l.Name] = true
		out = append(out, compareRow{Name: l.Name, Before: l.Value, After: after[l.Name], Gone: l.Name == places && after[l.Name] == "none"})
	}
	if p.After != nil && p.After.Result != nil && len(after) > 0 {
		for _, l := range car.Lines(*p.After.Result) {
			if !seen[l.Name] {
				out = append(out, compareRow{Name: l.Name, After: l.Value})
			}
		}
	}
	return out
}

// canProve lists the tests of what was found that can prove its repair, on this car.
func (s *server) canProve(f evidence.Folder, car casework.Car) (out []proofTest) {
	done := map[string]bool{}
	for _, x := range f.Findings {
		fault, _ := s.shop.Book.Fault(x.Part)
		if x.Struck() {
			continue
		}
		for _, k := range fault.Tests {
			t, _ := s.shop.Book.Test(k)
			b := bench.For(t)
			one := evidence.Piece{Test: t}
			if done[k] || !t.Fits(car.Combination) || !one.CanProve() || b.On == bench.SealedSystem && car.Where(x.Part) == "" {
				continue
			}
			done[k] = true
			link := "/cases/" + f.Case.ID + "/do/" + k
			if b.Odds == bench.FromHole {
				link = "" // opened by a form of its own
			}
			out = append(out, proofTest{t.Name, link})
		}
	}
	return out
}
