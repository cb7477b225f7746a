package smoke

import (
	"errors"
	"math"
	"slices"

	"wexter/core/plumbing"
)

// Reached is the share of the rig's smoke from which on smoke is to be expected at a place.
const Reached = 0.1

// limitFlow is what a hole of 0.51 mm draws at the usual pressure of a smoke rig, 12 inH2O, m³/s of
// free air (the orifice at Cd 0.61).
const limitFlow = 0.52e-3 / 60

// cell is a part that smoke goes through, or several whose gas is one.
type cell struct {
	volume float64 // m³ of gas
	before int     // the cell that it comes from; −1: the rig
	way    bool    // it lies between the entry and the far end
	share  float64 // of the rig's smoke
	since  float64 // s, when it was reached; NaN: not yet
}

// Front is smoke on its way through a system.
type Front struct {
	cells []cell // what comes before a cell stands before it
	at    map[string]int
	host  map[string]string // of what sits in a part's wall
	time  float64           // s
}

// Setup is how smoke goes into a car.
type Setup struct {
	Graph *plumbing.Graph
	Set   plumbing.Settings // how the system is sealed, without the far end
	Entry string
	Far   string  // the part that is opened to let smoke through
	Level float64 // share of the tank that is fuel
}

// New is a system without smoke. The error says what cannot be.
func New(s Setup) (*Front, error) {
	if s.Graph == nil {
		return nil, errors.New("nobody knows how this car is built")
	}
	litres := s.Graph.Fill(s.Entry, s.Set)
	before := s.Graph.Before(s.Entry, s.Set)
	if _, ok := s.Graph.Part(s.Entry); !ok || len(litres) < 2 {
		return nil, errors.New("smoke that goes in there reaches nothing")
	}
	f := &Front{at: map[string]int{}, host: map[string]string{}}
	var keys []string
	for k := range litres {
		p, _ := s.Graph.Part(k)
		if p.On != "" && p.At == "" { // it sits in a wall
			f.host[k] = p.On
			continue
		}
		keys = append(keys, k)
	}
	depth := func(k string) (n int) {
		for k != s.Entry && before[k] != "" && n < len(keys) {
			k = before[k]
			n++
		}
		return n
	}
	slices.SortFunc(keys, func(a, b string) int {
		if d := depth(a) - depth(b); d != 0 {
			return d
		}
		if a < b {
			return -1
		}
		return 1
	})
	for _, k := range keys {
		p, _ := s.Graph.Part(k)
		c := cell{volume: math.Max(p.GasVolume(s.Level), least), before: -1, since: math.NaN()}
		if i, ok := f.at[before[k]]; ok && k != s.Entry {
			c.before = i
			if b, _ := s.Graph.Part(before[k]); p.Mixes() || b.Mixes() {
				f.at[k] = i
				f.cells[i].volume += c.volume
				continue
			}
		}
		f.at[k] = len(f.cells)
		f.cells = append(f.cells, c)
	}
	f.bound(s.Graph)
	far := s.Far
	if h, ok := f.host[far]; ok {
		far = h
	}
	for i, ok := f.at[far]; ok && i >= 0; i = f.cells[i].before {
		f.cells[i].way = true
	}
	return f, nil
}

// bound finds the cells behind which a cover or a shut valve stands: smoke comes as far as that, and
// what sits in its wall has it as well.
func (f *Front) bound(g *plumbing.Graph) {
	for _, p := range g.Parts {
		if _, ok := f.at[p.Key]; !ok || p.Kind != plumbing.Line {
			continue
		}
		for _, end := range []string{p.From, p.To} {
			key, _, _, err := plumbing.Port(end)
			if _, in := f.at[key]; err == nil && !in && f.host[key] == "" {
				f.host[key] = p.Key
			}
		}
	}
	for _, p := range g.Parts {
		if h, ok := f.host[p.On]; ok && p.On != "" && f.host[p.Key] == "" {
			f.host[p.Key] = h
		}
	}
}

// least is the gas that even a joint holds, m³.
const least = 5e-6

// Stage is how the far end stands.
type Stage int

// The stages.
const (
	Open Stage = iota // smoke goes through
	Shut              // it is held under pressure
)

// Advance lets a flow (m³/s of free air, as the rig's meter shows it) go in for some seconds.
func (f *Front) Advance(seconds, flow float64, stage Stage) {
	if !(seconds > 0) || math.IsNaN(flow) || math.IsInf(flow, 0) {
		return
	}
	flow = math.Max(flow, 0)
	steps := min(max(int(seconds/0.25), 1), 4000)
	h := seconds / float64(steps)
	for range steps {
		f.time += h
		f.step(h, flow, stage)
	}
}

// step lets a moment pass. Each cell is mixed by what comes from the one before: exactly, for a
// constant inflow.
func (f *Front) step(h, flow float64, stage Stage) {
	for i := range f.cells {
		c := &f.cells[i]
		q := flow
		switch {
		case stage == Open && !c.way:
			q = 0
		case stage == Shut:
			q = math.Min(flow, limitFlow)
		}
		in := 1.0
		if c.before >= 0 {
			in = f.cells[c.before].share
		}
		c.share += (in - c.share) * -math.Expm1(-q*h/c.volume)
		if c.share >= Reached && math.IsNaN(c.since) {
			c.since = f.time
		}
	}
}

// cellOf is the cell of a part, or of the one in whose wall it sits.
func (f *Front) cellOf(part string) (cell, bool) {
	if h, ok := f.host[part]; ok {
		part = h
	}
	i, ok := f.at[part]
	if !ok {
		return cell{}, false
	}
	return f.cells[i], true
}

// Share is how much of the rig's smoke is at a part, 0 to 1.
func (f *Front) Share(part string) float64 {
	c, _ := f.cellOf(part)
	return c.share
}

// For is how long smoke has been at a part, s; 0 when it has not come there yet.
func (f *Front) For(part string) float64 {
	if c, ok := f.cellOf(part); ok && !math.IsNaN(c.since) {
		return f.time - c.since
	}
	return 0
}

// Shares are those of all parts that gas from the rig can come to.
func (f *Front) Shares() map[string]float64 {
	out := map[string]float64{}
	for k, i := range f.at {
		out[k] = f.cells[i].share
	}
	for k := range f.host {
		out[k] = f.Share(k)
	}
	return out
}

// mostAhead is how far is looked ahead, s.
const mostAhead = 3600.0

// ToGo is how long it takes until smoke is at each of some parts when the flow stays as it is, s: 0
// where it is already, +Inf where it never comes.
func (f *Front) ToGo(parts []string, flow float64, stage Stage) map[string]float64 {
	out := map[string]float64{}
	ahead := &Front{cells: slices.Clone(f.cells), at: f.at, host: f.host}
	for _, p := range parts {
		out[p] = math.Inf(1)
		if f.Share(p) >= Reached {
			out[p] = 0
		}
	}
	const h = 1.0
	for t := h; t <= mostAhead; t += h {
		left := false
		ahead.step(h, flow, stage)
		for _, p := range parts {
			if !math.IsInf(out[p], 1) {
				continue
			}
			if ahead.Share(p) >= Reached {
				out[p] = t
				continue
			}
			left = true
		}
		if !left || flow <= 0 {
			break
		}
	}
	return out
}
