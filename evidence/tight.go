package evidence

import (
	"slices"
	"time"

	"wexter/core/plumbing"
	"wexter/core/record"
)

// Proven is a part that a hold showed to be tight.
type Proven struct {
	Test string
	At   time.Time
	High float64 // upper bound of the hold, m
}

// Tight returns the parts that holds have proven tight: what stood under the gauge of
// a hold whose upper bound lies below its tight threshold, with nothing open to the
// air. A part that was found, marked with an exit or replaced afterwards is not.
func (c *Car) Tight(f Folder) map[string]Proven {
	out := map[string]Proven{}
	for _, t := range f.Tests {
		sum, ok := t.Summary()
		if !ok || !stands(t) || !sum.Tight {
			continue
		}
		entry, set := c.Sealing(t.Setup)
		r := c.Graph.Reach(entry, set, senseOf(sum))
		if !r.Sealed() {
			continue
		}
		for _, k := range slices.Concat(r.Inside, r.Bounds) {
			if p, _ := c.Graph.Part(k); p.Kind != plumbing.Block && p.Kind != plumbing.Tee {
				out[k] = Proven{t.ID, t.At, sum.High}
			}
		}
		for _, k := range c.lost(f, t.At) {
			delete(out, k)
		}
	}
	return out
}

// senseOf is vacuum when only vacuum legs were judged.
func senseOf(sum record.Summary) plumbing.Sense {
	if len(sum.Legs) > 0 && sum.Vacuum != nil && sum.Pressure == nil {
		return plumbing.Vacuum
	}
	return plumbing.Pressure
}

// lost lists the parts whose proof ended after a moment: found, seen to leak, or
// replaced.
func (c *Car) lost(f Folder, after time.Time) (out []string) {
	for _, x := range f.Findings {
		if !x.Struck() && x.At.After(after) {
			out = append(out, c.where[x.Part])
		}
	}
	for _, m := range f.Marks {
		if !m.Struck() && m.Kind == record.MarkExit && !m.Expected && m.At.After(after) {
			out = append(out, m.Part)
		}
	}
	for _, r := range f.Repairs {
		if r.Struck() || r.DoneAt == nil || !r.DoneAt.After(after) {
			continue
		}
		for _, x := range f.Findings { // a repair replaces what was found before it
			if !x.Struck() && x.At.Before(*r.DoneAt) {
				out = append(out, c.where[x.Part])
			}
		}
	}
	return out
}
