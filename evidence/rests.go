package evidence

import (
	"slices"
	"time"

	"wexter/core/diagnose"
	"wexter/core/record"
)

// sound are outcomes of a test of one part that speak for the part.
var sound = []string{"holds", "none", "good", "true"}

// telling are outcomes of a test of several parts that single one out when the odds
// then stand on it.
var telling = []string{"torn", "no-flow", "flows-shut", "blocked", "pull", "both", "crankcase"}

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

// resultRests says how one result singles a fault out.
func (c *Car) resultRests(x record.Result, fault string, odds float64, at func(string) bool) (out []string) {
	words := c.ResultWords(x)
	target := diagnose.Target(c.Graph, c.faults[fault], c.where[fault], x.Test)
	alone := diagnose.PartTest(x.Test)
	switch {
	case alone && !slices.Contains(sound, x.Outcome) && (at(x.Part) || target != "" && target == x.Part):
		out = append(out, words)
	case x.Test == "look" && x.Outcome == "seen" && at(x.Part):
		out = append(out, words)
	default:
		for _, e := range x.Exits {
			if at(e.Part) {
				out = append(out, words+", at this part")
			}
		}
	}
	if !alone && odds > singledOut && slices.Contains(c.faults[fault].Tests, x.Test) && slices.Contains(telling, x.Outcome) {
		out = append(out, words)
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
