package evidence

import (
	"slices"
	"strings"
	"time"

	"wexter/core/bench"
	"wexter/core/knowledge"
	"wexter/core/record"
)

// Piece is one test on a case, a hold or any other, with what its outcome means.
type Piece struct {
	Hold    *TestFolder
	Result  *record.Result
	Test    knowledge.Test
	Outcome knowledge.Outcome
}

// ID is that of the hold or result.
func (p *Piece) ID() string {
	if p.Hold != nil {
		return p.Hold.ID
	}
	return p.Result.ID
}

// At is when the test was made.
func (p *Piece) At() time.Time {
	if p.Hold != nil {
		return p.Hold.At
	}
	return p.Result.At
}

// Doubted reports whether somebody doubts it.
func (p *Piece) Doubted() bool {
	if p.Hold != nil {
		return p.Hold.Doubted()
	}
	return p.Result.Doubted()
}

// Passes reports whether it proves a repair.
func (p *Piece) Passes() bool { return p.Outcome.Proves && !p.Doubted() }

// Fails reports whether it showed a fault.
func (p *Piece) Fails() bool { return p.Outcome.Means == knowledge.Faulty && !p.Doubted() }

// repeats is the id of what it repeats.
func (p *Piece) repeats() string {
	if p.Hold != nil {
		return p.Hold.RepeatOf
	}
	return p.Result.RepeatOf
}

// again reports whether it is the same test as another: named as its repeat, or made of the
// same part.
func (p *Piece) again(of *Piece) bool {
	if r := p.repeats(); r != "" || p.Hold != nil {
		return r == of.ID()
	}
	return of.Result != nil && p.Result.Test == of.Result.Test && p.Result.Part == of.Result.Part
}

// CanProve reports whether an outcome of the test can prove a repair.
func (p *Piece) CanProve() bool {
	return slices.ContainsFunc(p.Test.Outcomes, func(o knowledge.Outcome) bool { return o.Proves })
}

// Summary is that of a hold with a trace to draw; nil for anything else, and for no test.
func (p *Piece) Summary() *record.Summary {
	if p == nil || p.Hold == nil {
		return nil
	}
	if s, ok := p.Hold.Summary(); ok {
		return &s
	}
	return nil
}

// Pair is a test and its repeat after the repair; nil where there is none.
type Pair struct{ Before, After *Piece }

// Proof is what stands for a repair.
type Proof struct {
	Failed    []Piece // tests that showed a fault before the last repair, the newest first
	Pair              // the test that decides
	Others    []Pair  // every other test that was repeated
	Instead   bool    // what showed the fault can prove nothing: After is another test of the same fault
	Repaired  bool
	Repeat    bool // the repeat passed
	Trial     *record.Trial
	Complaint bool // the complaint is gone
}

// Whole reports whether the repair counts as proven.
func (p Proof) Whole() bool { return p.Repaired && p.Repeat && p.Complaint }

// Missing says what is missing, in sentences.
func (p Proof) Missing() string {
	var m []string
	if !p.Repaired {
		m = append(m, "No repair is written down as done.")
	}
	switch {
	case p.After == nil && p.Before == nil:
		m = append(m, "No test showed the fault before the repair; a test that passes now cannot be compared with anything.")
	case p.After == nil && p.Instead:
		m = append(m, p.Before.Test.Name+" showed the fault and cannot prove that it is gone: make a test that measures it.")
	case p.After == nil:
		m = append(m, "The test that failed has not been repeated: "+p.Before.Test.Name+".")
	case p.After.Doubted():
		m = append(m, "The repeat is doubted; repeat it, or take the doubt back.")
	case !p.Repeat:
		m = append(m, "The repeat does not pass: "+p.After.Outcome.Name+".")
	}
	switch {
	case p.Trial == nil:
		m = append(m, "The complaint has not been tried again.")
	case p.Trial.Doubted():
		m = append(m, "The trial of the complaint is doubted.")
	case !p.Complaint:
		m = append(m, "The complaint came back when it was tried.")
	}
	return strings.Join(m, " ")
}

// pieces are the tests of a folder that count, in order of time.
func (f Folder) pieces(b knowledge.Book) (out []Piece) {
	hold, _ := b.Test(bench.With(bench.FromHole).Key)
	for i := range f.Tests {
		t := &f.Tests[i]
		if t.Struck() || t.Outcome == record.NoOutcome && t.RepeatOf == "" {
			continue
		}
		o, ok := hold.Outcome(string(t.Outcome))
		if !ok {
			o = knowledge.Outcome{Name: t.Outcome.Words(), Means: knowledge.NotDone}
		}
		out = append(out, Piece{Hold: t, Test: hold, Outcome: o})
	}
	for i := range f.Results {
		r := &f.Results[i]
		t, ok := b.Test(r.Test)
		if r.Struck() || !ok || bench.Beside(Readings(t, *r)) {
			continue
		}
		o, _ := t.Outcome(r.Outcome)
		out = append(out, Piece{Result: r, Test: t, Outcome: o})
	}
	slices.SortStableFunc(out, func(a, b Piece) int { return a.At().Compare(b.At()) })
	return out
}

// Proof gathers what stands for the repair: the newest repeat made after the last repair of a
// test that had failed, and the newest trial made after it.
func (f Folder) Proof(b knowledge.Book) (p Proof) {
	repaired := f.lastRepair()
	p.Repaired = !repaired.IsZero()
	all := f.pieces(b)
	var held *Piece // a hold that did not fail: something to compare with, when nothing failed
	for i := range all {
		x := &all[i]
		switch after := p.Repaired && !x.At().Before(repaired); {
		case after || x.repeats() != "":
		case x.Fails():
			p.Failed = append([]Piece{*x}, p.Failed...)
		case x.Hold != nil:
			held = x
		}
	}
	p.compare(all, repaired)
	if p.Before == nil {
		p.Before = held
	}
	for i := range f.Trials {
		t := &f.Trials[i]
		if t.StruckAt == nil && p.Repaired && !t.At.Before(repaired) {
			p.Trial, p.Complaint = t, t.Gone && !t.Doubted()
		}
	}
	return p
}

// compare finds the test that failed and its newest repeat. A repeat of any of the tests that
// failed counts, but one that fails again speaks against the repair until it passes too.
func (p *Proof) compare(all []Piece, repaired time.Time) {
	if i := slices.IndexFunc(p.Failed, func(x Piece) bool { return x.CanProve() }); i >= 0 {
		p.Before = &p.Failed[i]
	} else if len(p.Failed) > 0 {
		p.Before, p.Instead = &p.Failed[0], true
	}
	if !p.Repaired {
		return
	}
	newest := map[string]*Piece{} // repeat by what it repeats
	for i := range all {
		x := &all[i]
		if x.At().Before(repaired) {
			continue
		}
		if of := p.repeated(all, x); of != nil {
			newest[of.ID()] = x
			p.Before, p.After, p.Instead = of, x, false
		} else if p.Instead && x.Passes() && p.Before != nil {
			p.After = x
		}
	}
	if p.After == nil {
		return
	}
	p.Repeat = p.After.Passes()
	for i := range all { // in order of time, so that the same folder gives the same proof
		if x, ok := newest[all[i].ID()]; ok && x.Fails() {
			p.Before, p.After, p.Repeat = &all[i], x, false
		}
	}
	for i := range all {
		if x, ok := newest[all[i].ID()]; ok && x.ID() != p.After.ID() {
			p.Others = append(p.Others, Pair{&all[i], x})
		}
	}
}

// Pairs are all that can be compared, the one that decides first.
func (p *Proof) Pairs() []Pair {
	if p.Before == nil {
		return nil
	}
	return append([]Pair{p.Pair}, p.Others...)
}

// repeated is the test that a piece repeats; nil when it repeats none.
func (p *Proof) repeated(all []Piece, x *Piece) *Piece {
	for i := range p.Failed {
		if x.again(&p.Failed[i]) {
			return &p.Failed[i]
		}
	}
	if id := x.repeats(); id != "" { // of one that had not failed, or of an earlier repeat
		for i := range all {
			if all[i].ID() == id {
				return &all[i]
			}
		}
	}
	return nil
}

// Monitors are the car's own checks that a repair concerns: by the codes of the case and by
// the family of what was found, as far as the car has them.
func (c *Car) Monitors(f Folder) (out []string) {
	put := func(m string) {
		if c.hasMonitor(m) && !slices.Contains(out, m) {
			out = append(out, m)
		}
	}
	for _, x := range f.Findings {
		if !x.Struck() {
			put(map[string]string{"vapour": "evap", "recirculation": "egr", "intake": "fuel", "crankcase": "fuel", "look-alike": "fuel"}[c.faults[x.Part].Family])
		}
	}
	for _, l := range f.CodeHistory() {
		if g, ok := c.book.Group(l.Code); ok && !l.Made {
			put(g.Monitor)
		}
		for _, s := range c.book.Sizes {
			if slices.Contains(s.Codes, l.Code) && !l.Made {
				put("evap")
			}
		}
	}
	return out
}

// ChecksItself reports whether the car checks its EVAP system by itself.
func (c *Car) ChecksItself() bool { return c.hasMonitor("evap") }

// hasMonitor reports whether the car checks something by itself.
func (c *Car) hasMonitor(m string) bool {
	switch m {
	case "evap":
		a, _ := c.book.Plumbing.Find(c.Combination.Vapour)
		return a.Monitor != ""
	case "egr":
		for _, p := range c.Graph.Parts {
			if p.Role == "recirculation" {
				return true
			}
		}
		return false
	case "fuel":
		return !c.diesel
	}
	return false
}
