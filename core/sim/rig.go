package sim

import (
	"errors"
	"fmt"
	"math"

	"wexter/core/gas"
	"wexter/core/network"
	"wexter/core/plumbing"
)

// Rig is what is joined to a car for a test: a gauge with its small volume, a supply
// that presses or draws, a known orifice, and a hose to the car.
type Rig struct {
	Entry   string
	Port    Port
	Target  float64 // Pa gauge, of Charge and Draw; a regulator keeps it with Hold
	Hold    bool    // the regulator stays on and makes up what leaks
	Smoke   bool    // the supply carries smoke
	Known   bool    // the known orifice is open
	Plugged bool    // off the car, plugged by itself
	Flow    float64 // kg/s that the supply gives now; negative when it draws
	Meter   float64 // kg/s as a flow meter shows it, which settles within seconds

	orifice float64 // m
	most    float64 // kg/s
	node    int
	hose    int
	hole    int
	vent    int
}

// Supply of a usual rig: 20 L/min of free air at most.
const rigMost = 4e-4 // kg/s

// shopAir is a supply from which on the regulator is modelled by what its hose takes, kg/s.
const shopAir = 2e-3

// gentle is a pressure below which the regulator feels its way, Pa.
const gentle = 1500.0

// Loose takes the rig's hose off the car and leaves its end open to the air.
func (c *Car) Loose() {
	if c.rig != nil {
		c.net.Rejoin(c.rig.hose, c.rig.node, outside)
	}
}

// Connect joins a rig with a known orifice (m; 0 for none) at a part where it can be
// joined, or takes what was joined there before to the new place.
func (c *Car) Connect(entry string, orifice float64) (*Rig, error) {
	x, ok := c.piece[entry]
	if !ok {
		return nil, fmt.Errorf("this car has no part %q", entry)
	}
	if !x.Entry && x.Plug == "" {
		var at []string
		for _, p := range c.parts {
			if p.Entry || p.Plug != "" {
				at = append(at, p.Key)
			}
		}
		return nil, fmt.Errorf("nothing can be joined at %q; it can at %v", entry, at)
	}
	if math.IsNaN(orifice) || orifice < 0 || orifice > maxHole {
		return nil, fmt.Errorf("the known orifice is %g m; it lies between 0 and %g", orifice, maxHole)
	}
	if c.rig == nil {
		r := &Rig{}
		r.node = c.net.Add(network.Node{Name: "rig", Volume: 0.15e-3, HeatTime: 2, Wall: c.At.Ambient}, network.Gas{network.Air: 1}, c.At.Barometer, c.At.Ambient)
		r.vent = c.net.Join(network.Edge{Name: "rig, open to the air", From: r.node, To: outside})
		r.hole = c.net.Join(network.Edge{Name: "rig, known orifice", From: r.node, To: outside})
		r.hose = c.net.Join(network.Edge{Name: "rig, hose", From: r.node, To: x.first, Law: network.Pipe, Bore: 6e-3, Length: 1})
		c.rig = r
	}
	r := c.rig
	node := x.first
	if x.Plug == "from" && c.by[x.Key] == plumbing.Plugged { // the hose is off there: join its inside
		node = x.second
	}
	c.net.Rejoin(r.hose, r.node, node)
	r.Entry, r.Port, r.orifice, r.most, r.Known, r.Hold, r.Smoke, r.Plugged = entry, Open, orifice, rigMost, false, false, false, false
	r.Meter, c.net.Edges[r.hose].Flow = 0, 0
	return r, nil
}

// Disconnect takes the rig off.
func (c *Car) Disconnect() {
	if c.rig != nil {
		c.rig.Plugged, c.rig.Port = true, Open
	}
}

// Set works the rig's valves, as Plant.Set does.
func (r *Rig) Set(port Port, target float64) error {
	switch port {
	case Open, Seal:
	case Charge:
		if !(target > 0) || target > 300e3 {
			return fmt.Errorf("a charge goes to a pressure above 0 and at most 300 kPa, not %g Pa", target)
		}
	case Draw:
		if !(target < 0) || target < -90e3 {
			return fmt.Errorf("drawing goes to a pressure below 0 and at least −90 kPa, not %g Pa", target)
		}
	default:
		return fmt.Errorf("the rig has no port %q", port)
	}
	r.Port, r.Target, r.Hold, r.Smoke = port, target, false, false
	return nil
}

// Supply sets the most that the rig can give, kg/s.
func (r *Rig) Supply(most float64) error {
	if !(most > 0) || most > 0.2 {
		return errors.New("a supply gives above 0 and at most 0.2 kg/s")
	}
	r.most = most
	return nil
}

// Gauge is the true pressure in the rig, Pa gauge.
func (c *Car) RigGauge() float64 {
	if c.rig == nil {
		return 0
	}
	return c.net.Nodes[c.rig.node].Pressure() - c.At.Barometer
}

// RigWall is what a probe on the wall of the tank (or the part joined) shows, K.
func (c *Car) RigWall() float64 {
	if t := c.role["fuel"]; t != nil {
		return c.net.Nodes[t.first].Wall
	}
	return c.At.Ambient
}

func (r *Rig) tick() float64 {
	if r.Port == Charge || r.Port == Draw {
		return 0.1
	}
	return 0.5
}

// meterSettles is the time constant of a bay's flow meter, s (common practice, no source).
const meterSettles = 2.0

// meter lets the flow meter follow what the supply gave.
func (r *Rig) meter(h float64) {
	if r != nil {
		r.Meter += (r.Flow - r.Meter) * (1 - math.Exp(-h/meterSettles))
	}
}

// drive sets what the rig does to the network for the next step.
func (r *Rig) drive(c *Car, h float64) {
	if r == nil {
		return
	}
	n := &c.net
	n.Edges[r.hose].Shut = r.Plugged
	n.Edges[r.vent].Area, n.Edges[r.hole].Area = 0, 0
	if r.Port == Open {
		n.Edges[r.vent].Area = valveCd * gas.Area(6e-3)
	}
	if r.Known {
		n.Edges[r.hole].Area = holeCd * gas.Area(r.orifice)
	}
	x := &n.Nodes[r.node]
	x.Source, r.Flow = network.Gas{}, 0
	if r.Port != Charge && r.Port != Draw {
		return
	}
	g := x.Pressure() - c.At.Barometer
	far := g
	if !r.Plugged {
		far = n.Nodes[n.Edges[r.hose].To].Pressure() - c.At.Barometer
	}
	s := math.Copysign(1, r.Target)
	if !r.Hold && far*s >= r.Target*s {
		r.Port = Seal
		return
	}
	// A regulator: full flow far from its pressure, less within a tenth of it.
	short := (r.Target - g) * s
	flow := r.most * math.Min(math.Max(short/(0.1*math.Abs(r.Target)), 0), 1)
	if !r.Hold {
		flow = r.most * math.Min(math.Max((1.3*r.Target-g)*s/(0.1*math.Abs(r.Target)), 0), 1)
	}
	if r.Hold && r.most > shopAir {
		// It gives what the hose takes and makes up a quarter of what is short: by the pressure
		// alone so strong a supply would fill the small volume and shut again, step by step.
		makeUp := 0.25 * x.Volume * short / (gas.RAir * x.Temperature()) / h
		flow = math.Min(math.Max(n.Edges[r.hose].Flow*s+makeUp, 0), r.most)
		// Above its pressure it relieves, as regulators of shop air do.
		above := math.Min(math.Max(-short/math.Abs(r.Target)-0.01, 0)/0.1, 1)
		flow *= 1 - above
		n.Edges[r.vent].Area = above * valveCd * gas.Area(2e-3)
	}
	// No more in one step than would carry the small volume by a fifth of the way alone.
	small := x.Volume * math.Abs(r.Target) / (gas.RAir * x.Temperature()) / h
	switch {
	case r.Plugged:
		flow = math.Min(flow, 0.3*small)
	case r.Hold && math.Abs(r.Target) < gentle: // on a dead end one step of the whole supply would be far too much
		flow = math.Min(flow, math.Max(n.Edges[r.hose].Flow*s, 0)+0.25*small)
	}
	r.Flow = flow * s
	kind := network.Air
	if r.Smoke {
		kind = network.Smoke
	}
	if s > 0 {
		x.Source[kind] = flow
	} else {
		for k := range x.Source {
			x.Source[k] = -flow * x.Share(network.Species(k))
		}
	}
	x.SourceAt = c.At.Ambient
}
