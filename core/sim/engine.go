package sim

import (
	"fmt"
	"math"

	"wexter/core/gas"
	"wexter/core/network"
)

// Mode is what the driver does.
type Mode string

// The modes. At cruise and load a road (or a dynamometer) holds the speed.
const (
	Off   Mode = "off"   // key off
	Key   Mode = "key"   // key on, engine off
	Idle  Mode = "idle"  // running, foot off
	Fast  Mode = "2500"  // held at 2500 1/min without load
	Load  Mode = "load"  // 2500 1/min with the throttle two thirds loaded
	Boost Mode = "boost" // 3000 1/min, foot down
)

// Modes lists them.
func Modes() []Mode { return []Mode{Off, Key, Idle, Fast, Load, Boost} }

// Engine is a mean-value engine: what it swallows is set by speed and by the density in
// its manifold, its work by the air and fuel it burns.
type Engine struct {
	Mode     Mode
	Running  bool
	Cranking bool
	Speed    float64 // 1/min
	Air      float64 // kg/s that it swallows
	Vapour   float64 // kg/s of fuel vapour that it swallows
	Injected float64 // kg/s
	Burnt    float64 // share of what it swallows that is exhaust gas
	Lambda   float64 // of what is burnt
	Torque   float64 // N·m at the clutch
	Turbo    float64 // pressure ratio the compressor strives for

	diesel     bool
	swallowed  network.Gas // kg/s
	lastMoved  network.Gas
	throttle   float64 // 0 to 1
	idle       float64 // what idle control adds
	fuelDiesel float64 // kg/s
	fired      float64 // s that mixture would burn while cranking
	cranked    float64 // s
	stalled    bool
	pull       float64 // manifold pressure over the barometer that the driver holds at Load; 0 as usual
}

// Of an engine: efficiencies and heat of combustion after Heywood, Internal Combustion
// Engine Fundamentals (from memory); the rest is chosen for a small engine that idles at
// some 2 g/s and 30 kPa.
const (
	stoich    = 14.7
	heatValue = 44e6 // J/kg
	indicated = 0.31
	inertia   = 0.25 // kg·m²
	bearings  = 25.0 // W, of a turbocharger
	idleSpeed = 750.0
	crankings = 220.0 // 1/min
)

func (c *Car) newEngine() {
	e := &c.Engine
	e.Mode, e.Lambda, e.Turbo, e.idle = Off, 1, 1, 0.085
	e.diesel = c.diesel
	sink := c.net.Add(network.Node{Name: "cylinders", Volume: 1, Fixed: true}, network.Gas{network.Burnt: 1}, c.At.Barometer, 400)
	c.cylinder = c.net.Join(network.Edge{Name: "cylinders", From: c.block.first, To: sink, Law: network.Swallow})
}

// volumetric efficiency over speed, falling a little at both ends.
func efficiency(speed float64) float64 {
	x := (speed - 3200) / 3200
	return 0.86 - 0.14*x*x
}

// Drive puts the driver's foot, or the key, elsewhere.
func (c *Car) Drive(m Mode) error {
	e := &c.Engine
	switch m {
	case Off, Key:
		if e.Running || e.Cranking {
			c.Unit.shutDown(c)
		}
		e.Running, e.Cranking, e.Speed = false, false, 0
	case Idle, Fast, Load, Boost:
		if m == Boost && c.role["compressor"] == nil {
			m = Load // foot down without a compressor is load
		}
		if !e.Running && !e.Cranking {
			e.Cranking, e.fired, e.cranked, e.stalled = true, 0, 0, false
			c.Unit.start(c)
		}
	default:
		return fmt.Errorf("there is no mode %q; there are %q", m, Modes())
	}
	e.Mode = m
	return nil
}

// Stood is for a car that has stood for hours: past rings, valves and throttle plate, which
// the plant takes for tight, the intake and what is open to it have filled with air. What a
// check valve shuts off, as the brake booster, keeps what it holds.
func (c *Car) Stood() {
	if c.Engine.Running || c.Engine.Cranking {
		return
	}
	in := c.net.Nodes[c.role["intake"].first].Pressure()
	for i := range c.net.Nodes {
		n := &c.net.Nodes[i]
		if p := n.Pressure(); !n.Fixed && p < c.At.Barometer-500 && math.Abs(p-in) < 500 {
			c.net.Fill(i, network.Gas{network.Air: 1}, c.At.Barometer, c.At.Ambient)
		}
	}
}

// drivers sets what engine and turbocharger do to the network for the next step.
func (c *Car) drivers(h float64) {
	e := &c.Engine
	n := &c.net
	if e.Cranking {
		e.Speed = crankings
	}
	n.Edges[c.cylinder].Volume = efficiency(e.Speed) * c.At.Displacement * e.Speed / 120
	in := &n.Nodes[c.block.first]
	load := in.Pressure() / gas.StandardPressure
	blow := c.blowBy(e.Speed, load) * c.role["rings"].get("ring-flow")
	burnt := math.Max(e.swallowed.Total()+e.Injected-blow, 0)
	if !e.Running && !e.Cranking {
		burnt, blow = 0, 0
	}
	ex := &n.Nodes[c.block.second]
	ex.Source, ex.SourceAt = network.Gas{network.Burnt: burnt}, c.exhaustAt()
	cc := &n.Nodes[c.role["rings"].second]
	// Three quarters of it is charge that has not burnt yet (common practice, no source).
	cc.Source, cc.SourceAt = network.Gas{network.Burnt: blow}, c.Coolant
	if charge := e.Air + e.Injected + e.Vapour; charge > 0 {
		cc.Source[network.Burnt] = 0.25 * blow
		cc.Source[network.Air], cc.Source[network.Fuel] = 0.75*blow*e.Air/charge, 0.75*blow*(e.Injected+e.Vapour)/charge
	}
	if k := c.role["compressor"]; k != nil {
		c.charge(k, h)
	}
	if c.jet != nil { // what drives the jet pump draws on its side line
		d := n.Nodes[c.role["charge"].first].Pressure() - n.Nodes[c.jet.second].Pressure()
		n.Edges[c.jet.edge].Ratio = 1 + math.Min(math.Max(0.25*d/c.At.Barometer, 0), 0.2)
	}
}

// blowBy is the usual flow past the rings, kg/s: some 10 L/min at idle and 50 under load
// (common practice, no source).
func (c *Car) blowBy(speed, load float64) float64 {
	if speed < 100 {
		return 0
	}
	return (0.1e-3 + 0.85e-3*load*speed/3000) * c.At.Displacement / 1.6e-3
}

func (c *Car) exhaustAt() float64 {
	e := &c.Engine
	if !e.Running {
		return c.Coolant
	}
	load := c.net.Nodes[c.block.first].Pressure() / gas.StandardPressure
	if e.diesel {
		return 380 + 500/math.Max(e.Lambda, 1.1)*1.3
	}
	return 650 + 350*math.Min(load, 1.6)
}

func (e *Engine) exhaustWall(c *Car) float64 {
	if !e.Running {
		return c.Coolant
	}
	return 0.85 * c.exhaustAt()
}

// charge turns the turbocharger: turbine power from the gas that goes through it against
// what the compressor takes, with a lag of half a second.
func (c *Car) charge(k *piece, h float64) {
	e := &c.Engine
	edge := &c.net.Edges[k.edge]
	t := c.role["turbine"]
	in, out := &c.net.Nodes[t.first], &c.net.Nodes[t.second]
	m := math.Max(c.net.Edges[t.edge].Flow, 0)
	drop := -math.Expm1(-0.286 * math.Log(math.Max(in.Pressure()/out.Pressure(), 1)))
	power := 0.62 * m * 1100 * in.Temperature() * drop
	power = math.Max(power-bearings, 0)
	flow := math.Max(edge.Flow, 0.004)
	inlet := c.net.Nodes[k.first].Temperature()
	want := math.Pow(1+0.68*power/(flow*1005*inlet), 3.5)
	want = math.Min(want, 2.6)
	if !e.Running {
		want = 1
	}
	e.Turbo += (want - e.Turbo) * -math.Expm1(-h/0.5)
	edge.Ratio = e.Turbo
	edge.Warm = (math.Pow(e.Turbo, 0.286) - 1) / 0.68
}

// burn is what comes of the last step: what was swallowed, burnt and turned.
func (c *Car) burn(h float64) {
	e := &c.Engine
	moved := c.net.Edges[c.cylinder].Moved
	for s := range moved {
		e.swallowed[s] = (moved[s] - e.lastMoved[s]) / h
	}
	e.lastMoved = moved
	e.Air = e.swallowed[network.Air] + e.swallowed[network.Smoke]
	e.Vapour = math.Max(e.swallowed[network.Fuel], 0)
	e.Burnt = 0
	if all := e.swallowed.Total(); all > 1e-9 {
		e.Burnt = math.Max(e.swallowed[network.Burnt]/all, 0)
	}
	if !e.Running && !e.Cranking {
		e.Injected, e.Torque = 0, 0
		return
	}
	fuel := e.Injected + e.Vapour
	if fuel > 1e-9 {
		e.Lambda = math.Min(e.Air/(stoich*fuel), 20)
	}
	omega := e.Speed * math.Pi / 30
	disp := c.At.Displacement
	friction := (0.9e5 + 0.5e5*e.Speed/3000) * disp / (4 * math.Pi)
	pumping := (c.net.Nodes[c.block.second].Pressure() - c.net.Nodes[c.block.first].Pressure()) * disp / (4 * math.Pi)
	burn := c.burns()
	power := heatValue * indicated * burn * math.Min(e.Air/stoich, fuel)
	if e.diesel {
		friction *= 1.35
		power = 42.5e6 * 0.38 * e.Injected * burn * math.Min(1, e.Lambda/1.15)
	}
	e.Torque = power/math.Max(omega, 20) - friction - pumping - 4
	if e.Cranking {
		// It starts once the mixture has been one that burns for half a second.
		e.cranked += h
		if burn > 0.5 {
			e.fired += h
		} else {
			e.fired = 0
		}
		switch {
		case e.fired >= 0.5:
			e.Cranking, e.Running, e.Speed = false, true, idleSpeed+250
		case e.cranked >= 30:
			e.Cranking, e.Speed, e.stalled = false, 0, true
		}
		return
	}
	switch e.Mode {
	case Load, Boost: // held by the road
		to := 2500.0
		if e.Mode == Boost {
			to = 3000
		}
		e.Speed += (to - e.Speed) * -math.Expm1(-h/0.7)
	default:
		spark := 1 + math.Min(math.Max((c.target()-e.Speed)*6e-4, -0.12), 0.12)
		if e.diesel {
			spark = 1
		}
		net := power*spark/math.Max(omega, 20) - friction - pumping - 4
		e.Speed += net / inertia * h * 30 / math.Pi
		if e.Speed < 300 {
			c.Unit.shutDown(c)
			e.Running, e.Speed, e.stalled, e.Mode = false, 0, true, Key
		}
	}
}

func (c *Car) target() float64 {
	if c.Engine.Mode == Fast {
		return 2500
	}
	if cold := 313 - c.Coolant; cold > 0 {
		return idleSpeed + math.Min(8*cold, 400)
	}
	return idleSpeed
}

// burns is the share of the charge that burns: less when it is far too rich or lean, or
// thinned by exhaust gas, and more sensitive to that at idle (after the shape of misfire
// limits in Heywood, from memory; the figures are chosen here).
func (c *Car) burns() float64 {
	e := &c.Engine
	if e.diesel {
		return logistic((0.62 - e.Burnt) / 0.05)
	}
	limit := 0.22
	if e.Speed > 1500 {
		limit = 0.34
	}
	return logistic((limit-e.Burnt)/0.02) * logistic((e.Lambda-0.55)/0.04) * logistic((1.7-e.Lambda)/0.06)
}

func logistic(x float64) float64 { return 1 / (1 + math.Exp(-x)) }

// Stalled reports whether the engine died, or would not start, by itself.
func (e *Engine) Stalled() bool { return e.stalled }
