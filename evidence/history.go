package evidence

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"wexter/core/bench"
	"wexter/core/diagnose"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/trim"
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

// repairs says what each repair replaced: what had been found before it and was not
// replaced by an earlier one.
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
		if x.Kind == record.SeenRenewed && x.Absent { // asked, and not so: nothing follows
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
			e.Says = fmt.Sprintf("Leak-down test: %.2f mm, %.2f to %.2f", sum.D*1e3, sum.Low*1e3, sum.High*1e3)
		case t.Outcome == record.CannotPressurise:
			e.Curve, e.Says = diagnose.TooLarge(), "Leak-down test: "+t.Outcome.Words()
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
		for _, e := range r.car.ResultEvidence(x, r.f.DriveOf(x)) {
			r.put(x.At, e)
		}
	}
}

// ResultEvidence turns a result into evidence: several exits are several pieces. What is not
// about this car (a new part that was tried beside the old one) is none. A drive that was read for
// it speaks for itself; nil without one.
func (c *Car) ResultEvidence(x record.Result, drive *trim.Drive) []diagnose.Evidence {
	t, ok := c.tests[x.Test]
	b := bench.For(t)
	if !ok {
		return nil
	}
	r := Readings(t, x)
	if drive != nil {
		r = r.With(bench.Readings{"drive": {Drive: drive}})
	}
	e := diagnose.Evidence{ID: x.ID, Kind: diagnose.Done, Test: x.Test, Part: x.Part, Outcome: x.Outcome, Says: c.ResultWords(x), Readings: r, Overruled: x.Overruled != ""}
	switch b.Odds {
	case bench.FromHole, bench.ByHand, bench.NotWeighed: // a hold typed in words, without a log, says no size
		return nil
	case bench.FromCodes:
		return codesTold(e, x)
	}
	if b.On == bench.SealedSystem {
		e.Entry, e.Set, e.Part = cmp.Or(x.Part, c.arch.Entry), c.arch.Settings(), ""
	}
	places := r[b.PlaceChannel()].Places
	switch {
	case b.Odds == bench.FromEyes && x.Outcome != b.ByPlace && !slices.Contains(b.Nothing, x.Outcome):
		return c.marksSeen(e, r, x.Part)
	case b.ByPlace != "" && x.Outcome == b.ByPlace && len(places) > 0:
		return c.exitsSeen(e, places)
	}
	return []diagnose.Evidence{e}
}

// codesTold is a scan that was told in words.
func codesTold(e diagnose.Evidence, x record.Result) []diagnose.Evidence {
	if len(e.Readings) == 0 { // not read, for want of a tool or of anything to read
		return nil
	}
	out := diagnose.Evidence{ID: x.ID, Kind: diagnose.Scanned, Says: e.Says}
	for _, w := range e.Readings["codes"].Words {
		code, _, _ := strings.Cut(w, " ")
		out.Codes = append(out.Codes, strings.ToUpper(code))
	}
	if open, ok := e.Readings["open"]; ok && len(open.Words) == 0 {
		out.Ran = []string{""}
	}
	return []diagnose.Evidence{out}
}

// marksSeen are marks of earlier work.
func (c *Car) marksSeen(e diagnose.Evidence, r bench.Readings, part string) (out []diagnose.Evidence) {
	at := r["marks"].Places
	if len(at) == 0 && part != "" {
		at = []bench.Place{{Part: part}}
	}
	for _, p := range at {
		out = append(out, diagnose.Evidence{ID: e.ID, Kind: diagnose.Worked, Part: p.Part, Says: "Marks of earlier work: " + c.part(p.Part)})
	}
	return out
}

// exitsSeen are the places where something came out or was seen. What is expected there
// proves nothing.
func (c *Car) exitsSeen(e diagnose.Evidence, at []bench.Place) (out []diagnose.Evidence) {
	t := c.tests[e.Test]
	eyes := bench.For(t).Odds == bench.FromEyes
	for _, p := range at {
		if p.Expected {
			continue
		}
		y := e
		y.Outcome = e.Outcome + ":" + p.Part
		if y.Says = t.Name + ": " + c.part(p.Part); p.Size != "" {
			y.Says = t.Name + ": " + p.Size + " at the " + c.part(p.Part)
		}
		if eyes {
			y.Part = ""
		} else if len(out) > 0 {
			y = diagnose.Evidence{ID: e.ID, Kind: diagnose.Exit, Part: p.Part, Says: y.Says}
		}
		out = append(out, y)
	}
	return out
}

func (r *reader) findings() {
	for _, x := range r.f.Findings {
		if !stands(x) || !r.car.Can(x.Part) {
			continue
		}
		e := diagnose.Evidence{ID: x.ID, Kind: diagnose.Found, Key: x.Part, Value: judgementWeighs, Says: "Found, on the technician's judgement: " + r.car.FaultName(x.Part)}
		if x.By == record.ByTest || x.By == record.ByElimination { // the tests weigh by themselves
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
		case x.Kind == record.MarkSmelt:
			r.put(x.At, diagnose.Evidence{ID: x.ID, Kind: diagnose.Smelt, Part: x.Part, Says: "Smells of fuel: " + name})
		case x.Kind == record.MarkSuspect && newest[x.Part] == x.ID && x.Odds > 0:
			r.put(x.At, diagnose.Evidence{ID: x.ID, Kind: diagnose.Thought, Part: x.Part, Value: x.Odds, Says: "Suspected by hand: " + name})
		}
	}
}
