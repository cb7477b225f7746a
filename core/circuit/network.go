package circuit

import (
	"math"

	"gonum.org/v1/gonum/mat"
)

// What a meter is (common practice, no source): its own resistance when it reads volts, and from
// what resistance on it shows OL.
const (
	meterOhm = 10e6
	meterOL  = 20e6
)

// leak keeps a point that nothing is joined to from floating, S; a meter does not see it.
const leak = 1e-10

// weak is the share of the supply below which a duty counts as low.
const weak = 0.5

// Reads is what a meter shows for a measure with some changes, each with one resistance: V, ohm
// (+Inf for OL) or % of the time at which the output is low. NaN for what is looked at.
func (c *Circuit) Reads(m Measure, changes []Change) float64 {
	switch m.Unit {
	case "V":
		return c.volts(m, changes, m.Drive == Driven)
	case "%":
		duty, full := 0.0, c.volts(Measure{Red: c.Sources[0].To, Black: c.Sources[0].From}, nil, false)
		for _, on := range []bool{false, true} {
			if c.volts(m, changes, on) < weak*full {
				duty += 50
			}
		}
		return duty
	case "ohm":
		r := c.ohms(m, changes)
		if r > meterOL {
			return math.Inf(1)
		}
		return r
	}
	return math.NaN()
}

// Mean is what a meter on volts shows for a measure: of a duty the mean over its turns.
func (c *Circuit) Mean(m Measure, changes []Change) float64 {
	if m.Unit == "%" {
		return (c.volts(m, changes, false) + c.volts(m, changes, true)) / 2
	}
	return c.Reads(m, changes)
}

// Supply is the volts of the circuit's own source.
func (c *Circuit) Supply() float64 { return c.Sources[0].Volts }

// Works reports whether the part carries, while it is driven, at least a share of the current that it carries in
// a sound circuit, and not so much more that its winding must be short.
func (c *Circuit) Works(changes []Change, share float64) bool {
	p, _ := c.Link(c.Part)
	m := Measure{Unit: "V", Red: p.From, Black: p.To}
	ohm := p.Ohm
	for _, x := range changes {
		if x.Link == p.Key {
			ohm = x.Ohm[0]
		}
	}
	now, sound := c.volts(m, changes, true)/ohm, c.volts(m, nil, true)/p.Ohm
	return now >= share*sound && now <= 2*sound
}

// conductances are a network's: one row for each point, the earth among them.
type conductances struct {
	at map[string]int
	g  *mat.Dense
	i  *mat.VecDense
}

func (n *conductances) join(from, to string, ohm float64) {
	a, b, g := n.at[from], n.at[to], 1/ohm
	n.g.Set(a, a, n.g.At(a, a)+g)
	n.g.Set(b, b, n.g.At(b, b)+g)
	n.g.Set(a, b, n.g.At(a, b)-g)
	n.g.Set(b, a, n.g.At(b, a)-g)
}

func (n *conductances) push(from, to string, ampere float64) {
	n.i.SetVec(n.at[to], n.i.AtVec(n.at[to])+ampere)
	n.i.SetVec(n.at[from], n.i.AtVec(n.at[from])-ampere)
}

// between solves the network for the volts between two points.
func (n *conductances) between(red, black string) float64 {
	var v mat.VecDense
	// The leaks make it regular; that its condition is poor is known and does no harm to volts.
	_ = v.SolveVec(n.g, n.i)
	return v.AtVec(n.at[red]) - v.AtVec(n.at[black])
}

// network is the circuit as it stands for a measure, without sources and meter.
func (c *Circuit) network(m Measure, changes []Change, on bool) *conductances {
	k := len(c.Nodes)
	n := &conductances{at: map[string]int{}, g: mat.NewDense(k, k, nil), i: mat.NewVecDense(k, nil)}
	for i, x := range c.Nodes {
		n.at[x.Key] = i
		n.g.Set(i, i, leak)
	}
	ohm, off := map[string]float64{}, map[string]bool{}
	for _, l := range c.Links {
		ohm[l.Key] = l.Ohm
		off[l.Key] = l.Switched && !on
	}
	for _, x := range changes {
		if x.Link == "" {
			n.join(x.From, x.To, x.Ohm[0])
			continue
		}
		ohm[x.Link] = x.Ohm[0]
		if l, _ := c.Link(x.Link); l.Switched && x.Ohm[0] < l.Ohm { // an output that is always on
			off[x.Link] = false
		}
	}
	for _, k := range m.Off {
		off[k] = true
	}
	for _, l := range c.Links {
		if !off[l.Key] {
			n.join(l.From, l.To, ohm[l.Key])
		}
	}
	if m.Load != nil {
		n.join(m.Load.From, m.Load.To, m.Load.Ohm)
	}
	return n
}

func (c *Circuit) volts(m Measure, changes []Change, on bool) float64 {
	n := c.network(m, changes, on)
	for _, s := range c.Sources {
		n.join(s.From, s.To, s.Ohm)
		n.push(s.From, s.To, s.Volts/s.Ohm)
	}
	n.join(m.Red, m.Black, meterOhm)
	return n.between(m.Red, m.Black)
}

// ohms is what a meter shows that sends its own small current, with the key off.
func (c *Circuit) ohms(m Measure, changes []Change) float64 {
	n := c.network(m, changes, false)
	const ampere = 1e-3
	n.push(m.Black, m.Red, ampere)
	return n.between(m.Red, m.Black) / ampere
}
