package evidence

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"wexter/core/diagnose"
	"wexter/core/plumbing"
	"wexter/core/record"
)

// How much a finding weighs: by the technician's judgement alone, or beside a test that
// is on the case already and weighs by itself; and how the opened part changes that.
// Chosen here.
const (
	judgementWeighs = 20.0
	testWeighs      = 4.0
	opensYes        = 5.0
	opensNo         = 0.05
)

// History turns what is on a case into evidence for the reasoning, epoch by epoch: a
// repair that was done ends one. What says nothing (a sensor that cannot see what it
// seems to tell) is left out, and returned with its reason.
func History(f Folder, car *Car) (diagnose.History, []diagnose.Silent) {
	r := newReader(f, car)
	r.repairs()
	r.vehicle()
	r.observations()
	r.scans()
	r.holds()
	r.results()
	r.findings()
	r.marks()
	return r.history, r.left
}

// reader gathers the history of one folder.
type reader struct {
	f       Folder
	car     *Car
	cuts    []time.Time // moments of the repairs, in order
	history diagnose.History
	left    []diagnose.Silent
}

func newReader(f Folder, car *Car) *reader {
	r := &reader{f: f, car: car}
	for _, x := range f.Repairs {
		if stands(x) && x.DoneAt != nil {
			r.cuts = append(r.cuts, *x.DoneAt)
		}
	}
	slices.SortFunc(r.cuts, time.Time.Compare)
	r.history = make(diagnose.History, len(r.cuts)+1)
	return r
}

// epoch is how many repairs were done before a moment.
func (r *reader) epoch(at time.Time) int {
	n := 0
	for n < len(r.cuts) && at.After(r.cuts[n]) {
		n++
	}
	return n
}

func (r *reader) put(at time.Time, e diagnose.Evidence) {
	n := r.epoch(at)
	r.history[n].Evidence = append(r.history[n].Evidence, e)
}

func (r *reader) leave(id, says, why string) {
	r.left = append(r.left, diagnose.Silent{ID: id, Says: says, Why: why})
}

// repairs says what each repair renewed: what had been found before it and was not
// renewed by an earlier one.
func (r *reader) repairs() {
	done := map[string]bool{}
	for n, cut := range r.cuts {
		for _, x := range r.f.Findings {
			if !stands(x) || done[x.ID] || x.At.After(cut) {
				continue
			}
			done[x.ID] = true
			d := diagnose.Repair{Fault: x.Part}
			switch x.Cause {
			case record.NoCause:
				d.Cause = diagnose.NoCause
			case "", record.CauseUnknown:
			default:
				d.Cause = x.Cause
			}
			if !r.car.Can(d.Fault) || d.Cause != "" && d.Cause != diagnose.NoCause && !r.car.Can(d.Cause) {
				continue
			}
			r.history[n+1].Repairs = append(r.history[n+1].Repairs, d)
		}
	}
}

// vehicle says what age and distance alone make likelier.
func (r *reader) vehicle() {
	v, opened := r.f.Vehicle, r.f.Case.OpenedAt
	if v.Year > 1900 && opened.Year()-v.Year > 12 {
		r.put(opened, diagnose.Evidence{ID: "age", Kind: diagnose.Context, Key: "age", Says: "More than twelve years old"})
	}
	if v.OdometerKM > 200000 {
		r.put(opened, diagnose.Evidence{ID: "km", Kind: diagnose.Context, Key: "high-mileage", Says: "More than 200 000 km"})
	}
}

func kindOf(k record.SeenKind) diagnose.Kind {
	switch k {
	case record.SeenContext:
		return diagnose.Context
	case record.SeenRenewed:
		return diagnose.Renewed
	case record.SeenMarks:
		return diagnose.Worked
	}
	return diagnose.Signed
}

func (r *reader) observations() {
	for _, x := range r.f.Observations {
		if !stands(x) {
			continue
		}
		known := func(o diagnose.Evidence) bool { return o.Kind == diagnose.Context && o.Key == x.Key }
		if x.Kind == record.SeenContext && slices.ContainsFunc(r.history[0].Evidence, known) {
			continue // the vehicle's own age and distance say it already
		}
		r.put(x.At, diagnose.Evidence{ID: x.ID, Kind: kindOf(x.Kind), Key: x.Key, Part: x.Part, Absent: x.Absent, Says: r.car.ObservationWords(x)})
	}
}

func (r *reader) holds() {
	for _, t := range r.f.Tests {
		if !stands(t) || t.Outcome == record.NoOutcome {
			continue
		}
		entry, set := r.car.Sealing(t.Setup)
		e := diagnose.Evidence{ID: t.ID, Kind: diagnose.Held, Entry: entry, Set: set}
		switch sum, ok := t.Summary(); {
		case ok:
			e.Curve, e.Sense = diagnose.Measured(sum.D, sum.Low, sum.High), senseOf(sum)
			e.Says = fmt.Sprintf("Hold: %.2f mm, %.2f to %.2f", sum.D*1e3, sum.Low*1e3, sum.High*1e3)
		case t.Outcome == record.CannotPressurise:
			e.Curve, e.Says = diagnose.TooLarge(), "Hold: "+t.Outcome.Words()
		default:
			continue
		}
		if plugs := r.car.plugs(set); plugs != "" {
			e.Says += ", " + plugs
		}
		if slices.ContainsFunc(t.Runs, func(x record.Run) bool { return x.Counts() && x.Doubted() }) {
			r.leave(t.ID, e.Says, "one of its legs is doubted")
			continue
		}
		if !r.car.Graph.Reach(entry, set, e.Sense).Sealed() {
			r.leave(t.ID, e.Says, "the system stood open to the air, so it says nothing")
			continue
		}
		r.put(t.At, e)
	}
}

func (r *reader) results() {
	for _, x := range r.f.Results {
		if !stands(x) {
			continue
		}
		for _, e := range r.car.ResultEvidence(x) {
			r.put(x.At, e)
		}
	}
}

// ResultEvidence turns a result into evidence: several exits are several pieces.
func (c *Car) ResultEvidence(x record.Result) (out []diagnose.Evidence) {
	t, ok := c.tests[x.Test]
	if !ok || x.Test == "decay" { // a hold typed in words, without a log, says no size
		return nil
	}
	e := diagnose.Evidence{ID: x.ID, Kind: diagnose.Done, Test: x.Test, Part: x.Part, Outcome: x.Outcome, Says: c.ResultWords(x)}
	for i := range t.Reads {
		v := math.NaN()
		for _, f := range x.Figures {
			if f.Name == t.Reads[i].Name && f.Value != nil {
				v = *f.Value
			}
		}
		e.Readings = append(e.Readings, v)
	}
	if x.Test == "smoke" || x.Test == "make-up-flow" {
		e.Entry, e.Set, e.Part = cmp.Or(x.Part, c.arch.Entry), c.arch.Settings(), ""
	}
	switch {
	case x.Test == "look" && x.Outcome == "marks" && x.Part != "":
		return []diagnose.Evidence{{ID: x.ID, Kind: diagnose.Worked, Part: x.Part, Says: e.Says}}
	case x.Test == "look" && x.Outcome == "seen" && x.Part != "":
		e.Outcome, e.Part = "seen:"+x.Part, ""
	case x.Outcome == "exit" && len(x.Exits) > 0:
		for i, ex := range x.Exits {
			y := e
			y.Outcome, y.Says = "exit:"+ex.Part, t.Name+": "+string(ex.Size)+" at the "+c.part(ex.Part)
			if i > 0 {
				y = diagnose.Evidence{ID: x.ID, Kind: diagnose.Exit, Part: ex.Part, Says: y.Says}
			}
			out = append(out, y)
		}
		return out
	}
	return []diagnose.Evidence{e}
}

func (r *reader) findings() {
	for _, x := range r.f.Findings {
		if !stands(x) || !r.car.Can(x.Part) {
			continue
		}
		e := diagnose.Evidence{ID: x.ID, Kind: diagnose.Found, Key: x.Part, Value: judgementWeighs, Says: "Found, on the technician's judgement: " + r.car.FaultName(x.Part)}
		if x.By == record.ByTest { // the test weighs by itself
			e.Value, e.Says = testWeighs, "Found: "+r.car.FaultName(x.Part)
		}
		for _, o := range r.f.PostMortems {
			if stands(o) && o.FindingID == x.ID {
				e.Value *= opened(o.Confirmed)
				e.Says += "; opened, it " + o.Confirmed.Words()
			}
		}
		r.put(x.At, e)
	}
}

// opened is what an opened part makes of a finding. An answer that is none of the known
// ones weighs nothing.
func opened(c record.Confirmed) float64 {
	switch c {
	case record.ConfirmedYes:
		return opensYes
	case record.ConfirmedNo:
		return opensNo
	}
	return 1
}

// marks are exits, places looked at, and odds set by hand, of which the newest of a part
// counts.
func (r *reader) marks() {
	newest := map[string]string{}
	for _, x := range r.f.Marks {
		if stands(x) && x.Kind == record.MarkSuspect {
			newest[x.Part] = x.ID
		}
	}
	for _, x := range r.f.Marks {
		if !stands(x) {
			continue
		}
		p, _ := r.car.Graph.Part(x.Part)
		name := plumbing.Lower(p.Name)
		switch {
		case x.Kind == record.MarkExit && !x.Expected:
			r.put(x.At, diagnose.Evidence{ID: x.ID, Kind: diagnose.Exit, Part: x.Part, Says: "Exit seen: " + name})
		case x.Kind == record.MarkLooked:
			r.put(x.At, diagnose.Evidence{ID: x.ID, Kind: diagnose.Looked, Part: x.Part, Says: "Looked, nothing found: " + name})
		case x.Kind == record.MarkSuspect && newest[x.Part] == x.ID && x.Odds > 0:
			r.put(x.At, diagnose.Evidence{ID: x.ID, Kind: diagnose.Thought, Part: x.Part, Value: x.Odds, Says: "Suspected by hand: " + name})
		}
	}
}
