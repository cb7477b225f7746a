package evidence

import (
	"fmt"
	"slices"
	"time"

	"wexter/core/bench"
	"wexter/core/diagnose"
	"wexter/core/knowledge"
	"wexter/core/record"
)

// singledOut is the odds above which a telling outcome singles a part out.
const singledOut = 0.8

// RestsOn says what singles a fault out on a case, in words: a test of that very part,
// or an exit or damage seen there, after the last repair. Odds are the fault's own now.
// Empty: nothing does, and a finding rests on the technician's judgement.
func (c *Car) RestsOn(f Folder, fault string, odds float64) (out []string) {
	part := c.where[fault]
	if part == "" {
		return nil
	}
	since := f.lastRepair()
	p, _ := c.Graph.Part(part)
	at := func(key string) bool { return key == part || key != "" && p.On == key }
	for _, x := range f.Results {
		if stands(x) && !x.At.Before(since) {
			out = append(out, c.resultRests(x, fault, odds, at)...)
		}
	}
	for _, x := range f.Marks {
		if stands(x) && x.Kind == record.MarkExit && !x.Expected && at(x.Part) && !x.At.Before(since) {
			out = append(out, "exit seen there")
		}
	}
	return out
}

// resultRests says how one result singles a fault out. What an outcome means stands in the
// Book's data; a new part that was tried beside the old one singles nothing out.
func (c *Car) resultRests(x record.Result, fault string, odds float64, at func(string) bool) (out []string) {
	t := c.tests[x.Test]
	b, r := bench.For(t), Readings(t, x)
	o, _ := t.Outcome(x.Outcome)
	if !o.Singles || bench.Beside(r) {
		return nil
	}
	words := c.ResultWords(x)
	target := diagnose.Target(c.Graph, c.faults[fault], c.where[fault], x.Test)
	switch {
	case b.On == bench.OnePart:
		if at(x.Part) || target != "" && target == x.Part {
			out = append(out, words)
		}
	case b.ByPlace == x.Outcome:
		for _, p := range r[b.PlaceChannel()].Places {
			if !p.Expected && at(p.Part) {
				out = append(out, words+", at this part")
			}
		}
	case odds > singledOut && slices.Contains(c.faults[fault].Tests, x.Test):
		out = append(out, words)
	}
	return out
}

// Cleared lists what has cleared other parts since the last repair: tests whose outcome means
// that what they tried is sound, and holds that found a section tight. It is what a finding by
// elimination rests on.
func (c *Car) Cleared(f Folder) (out []string) {
	since := f.lastRepair()
	for _, x := range f.Results {
		t := c.tests[x.Test]
		o, _ := t.Outcome(x.Outcome)
		if stands(x) && !x.At.Before(since) && o.Means == knowledge.Sound && !bench.Beside(Readings(t, x)) {
			out = append(out, c.ResultWords(x))
		}
	}
	for _, t := range f.Tests {
		if sum, ok := t.Summary(); ok && stands(t) && !t.At.Before(since) && t.Outcome == record.WithinLimit {
			_, set := c.Sealing(t.Setup)
			says := fmt.Sprintf("Leak-down test: %.2f to %.2f mm", sum.Low*1e3, sum.High*1e3)
			if plugs := c.plugs(set); plugs != "" {
				says += ", " + plugs
			}
			out = append(out, says)
		}
	}
	return out
}

// lastRepair is the moment of the last repair that was done; zero when none was.
func (f Folder) lastRepair() (at time.Time) {
	for _, r := range f.Repairs {
		if !r.Struck() && r.DoneAt != nil && r.DoneAt.After(at) {
			at = *r.DoneAt
		}
	}
	return at
}
