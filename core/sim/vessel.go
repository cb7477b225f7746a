package sim

import (
	"fmt"
	"math"

	"wexter/core/gas"
)

// Vessel is what a closed volume is made of; zero values are taken as named.
type Vessel struct {
	Volume      float64 // m³
	Leak        float64 // m, equivalent diameter at Cd 0.61
	Orifice     float64 // m, the known orifice of the rig, when it is opened
	Drift       float64 // Pa/s that the fuel gives off (or takes back, negative)
	HeatTime    float64 // s, of gas with wall; 0 is 12
	WallRate    float64 // K/s that the wall warms
	Barometer   float64 // Pa; 0 is 101 325
	Temperature float64 // K, of wall and supply; 0 is 293.15
	Crack       float64 // Pa gauge at which the relief opens; 0 for none
	Reseal      float64 // Pa gauge at which it shuts again; 0 is 0.8 × Crack
	Relief      float64 // m, diameter of the open relief; 0 is 4 mm
	Supply      float64 // kg/s the rig can give or draw; 0 fills 13 inH2O in some 8 s
	RigVolume   float64 // m³ when the rig is plugged by itself; 0 is 0.15 L
	RigLeak     float64 // m, leak of the rig itself
	RigHeatTime float64 // s, of the small rig's gas with its hoses; 0 is 2
}

// Ranges that a vessel may have.
const (
	minVolume, maxVolume = 0.05e-3, 0.5
	maxHole              = 20e-3
)

// Check returns a sentence when a value cannot be.
func (v Vessel) Check() error {
	for _, c := range []struct {
		name   string
		v      float64
		lo, hi float64
	}{{"the volume (m³)", v.Volume, minVolume, maxVolume}, {"the leak (m)", v.Leak, 0, maxHole}, {"the orifice (m)", v.Orifice, 0, maxHole},
		{"the drift (Pa/s)", v.Drift, -100, 100}, {"the heat time (s)", v.HeatTime, 0, 3600}, {"the rig's heat time (s)", v.RigHeatTime, 0, 3600}, {"the wall rate (K/s)", v.WallRate, -1, 1},
		{"the barometer (Pa)", v.Barometer, 0, 120e3}, {"the temperature (K)", v.Temperature, 0, 353}, {"the relief's crack pressure (Pa)", v.Crack, 0, 50e3},
		{"the relief's reseal pressure (Pa)", v.Reseal, 0, 50e3}, {"the relief (m)", v.Relief, 0, maxHole}, {"the supply (kg/s)", v.Supply, 0, 0.1},
		{"the rig's volume (m³)", v.RigVolume, 0, maxVolume}, {"the rig's leak (m)", v.RigLeak, 0, maxHole}} {
		if math.IsNaN(c.v) || c.v < c.lo || c.v > c.hi {
			return fmt.Errorf("%s is %g; it must lie between %g and %g", c.name, c.v, c.lo, c.hi)
		}
	}
	if v.Reseal > v.Crack {
		return fmt.Errorf("the relief shuts at %g Pa and opens at %g Pa: it must shut below where it opens", v.Reseal, v.Crack)
	}
	return nil
}

// Port is how the rig stands.
type Port string

// The ports. Charge and Draw work until the target is reached and then seal.
const (
	Open   Port = "open"   // to the air
	Seal   Port = "seal"   // shut
	Charge Port = "charge" // the supply presses
	Draw   Port = "draw"   // the pump draws
)

// Plant is a vessel at work.
type Plant struct {
	v          Vessel
	mass, temp float64 // of the gas
	wall       float64
	port       Port
	target     float64 // Pa gauge
	known      bool    // the known orifice is open
	plugged    bool    // the rig is plugged by itself: the car is not connected
	relief     bool    // open
	time       float64
}

// New puts a vessel to work, open to the air.
func New(v Vessel) (*Plant, error) {
	if err := v.Check(); err != nil {
		return nil, err
	}
	set := func(p *float64, d float64) {
		if *p == 0 {
			*p = d
		}
	}
	set(&v.HeatTime, 12)
	set(&v.RigHeatTime, 2)
	set(&v.Barometer, gas.StandardPressure)
	set(&v.Temperature, 293.15)
	set(&v.Reseal, 0.8*v.Crack)
	set(&v.Relief, 4e-3)
	set(&v.RigVolume, 0.15e-3)
	set(&v.Supply, 13*249.089*v.Volume/(gas.RAir*v.Temperature)/8)
	p := &Plant{v: v, temp: v.Temperature, wall: v.Temperature, port: Open}
	p.mass = v.Barometer * p.volume() / (gas.RAir * p.temp)
	return p, nil
}

func (p *Plant) volume() float64 {
	if p.plugged {
		return p.v.RigVolume
	}
	return p.v.Volume
}

func (p *Plant) heatTime() float64 {
	if p.plugged {
		return p.v.RigHeatTime
	}
	return p.v.HeatTime
}

// Gauge is the true pressure above the barometer, Pa.
func (p *Plant) Gauge() float64 { return p.mass*gas.RAir*p.temp/p.volume() - p.v.Barometer }

// Wall is the temperature of the wall, K.
func (p *Plant) Wall() float64 { return p.wall }

// Gas is the temperature of the gas, K.
func (p *Plant) Gas() float64 { return p.temp }

// Mass is the gas inside, kg.
func (p *Plant) Mass() float64 { return p.mass }

// Time is how long the plant has run, s.
func (p *Plant) Time() float64 { return p.time }

// Port is how the rig stands now.
func (p *Plant) Port() Port { return p.port }

// Plugged reports whether the rig is plugged by itself.
func (p *Plant) Plugged() bool { return p.plugged }

// Set works the rig's valves; target is in Pa gauge and counts for Charge and Draw.
func (p *Plant) Set(port Port, target float64) error {
	switch port {
	case Open, Seal:
	case Charge:
		if !(target > 0) || target > 50e3 {
			return fmt.Errorf("a charge goes to a pressure above 0 and at most 50 kPa, not %g Pa", target)
		}
	case Draw:
		if !(target < 0) || target < -50e3 {
			return fmt.Errorf("drawing goes to a pressure below 0 and at least −50 kPa, not %g Pa", target)
		}
	default:
		return fmt.Errorf("the rig has no port %q", port)
	}
	p.port, p.target = port, target
	return nil
}

// OpenKnown opens the known orifice.
func (p *Plant) OpenKnown() { p.known = true }

// ShutKnown shuts the known orifice.
func (p *Plant) ShutKnown() { p.known = false }

// Plug takes the rig off the car and plugs it.
func (p *Plant) Plug() {
	p.plugged = true
	p.toAir()
}

// Connect joins the rig to the car again.
func (p *Plant) Connect() {
	p.plugged = false
	p.toAir()
}

// toAir opens the rig to the air for a moment, as changing its end does.
func (p *Plant) toAir() {
	p.temp, p.port = p.wall, Open
	p.mass = p.v.Barometer * p.volume() / (gas.RAir * p.temp)
}

// step is the solver's largest step, s: the fastest thing is a small rig being charged.
// While the port is shut and nothing can open by itself, only leak and heat move the gas,
// over seconds, and steps may be longer.
const (
	step  = 2e-3
	quiet = 10e-3
)

// Run lets dt seconds pass.
func (p *Plant) Run(dt float64) {
	for dt > 1e-12 {
		most := step
		if p.port == Seal && p.v.Crack == 0 {
			most = quiet
		}
		h := math.Min(dt, most)
		p.heun(h)
		dt -= h
	}
}

// heun is one explicit step of second order; steps are far below every time constant
// but that of an open port, which is set and not integrated.
func (p *Plant) heun(h float64) {
	p.time += h
	p.wall += p.v.WallRate * h
	if p.port == Open {
		p.temp += (p.wall - p.temp) * -math.Expm1(-h/p.heatTime())
		p.mass = p.v.Barometer * p.volume() / (gas.RAir * p.temp)
		return
	}
	m0, u0 := p.mass, p.mass*p.temp
	dm1, du1 := p.rates(m0, p.temp)
	m1 := math.Max(m0+dm1*h, 1e-3*m0)
	t1 := (u0 + du1*h) / m1
	dm2, du2 := p.rates(m1, t1)
	p.mass = math.Max(m0+(dm1+dm2)/2*h, 1e-3*m0)
	p.temp = (u0 + (du1+du2)/2*h) / p.mass
	g := p.Gauge()
	switch {
	case p.v.Crack > 0 && g >= p.v.Crack:
		p.relief = true
	case g <= p.v.Reseal:
		p.relief = false
	}
	if p.port == Charge && g >= p.target || p.port == Draw && g <= p.target {
		p.port = Seal
	}
}

// rates returns dm/dt and d(m·T)/dt.
func (p *Plant) rates(m, t float64) (dm, dmt float64) {
	const gamma = 1.4
	b := p.v.Barometer
	abs := m * gas.RAir * t / p.volume()
	pass := func(d float64) {
		out := gas.Orifice(gas.Area(d), gas.NominalCd, abs, t, b)
		from := t
		if out < 0 {
			from = p.v.Temperature
			out = -gas.Orifice(gas.Area(d), gas.NominalCd, b, from, abs)
		}
		dm -= out
		dmt -= gamma * from * out
	}
	supply := func(kg float64) {
		from := p.v.Temperature
		if kg < 0 {
			from = t
		}
		dm += kg
		dmt += gamma * from * kg
	}
	if p.plugged {
		if p.v.RigLeak > 0 {
			pass(p.v.RigLeak)
		}
	} else {
		if p.v.Leak > 0 {
			pass(p.v.Leak)
		}
		if p.v.RigLeak > 0 {
			pass(p.v.RigLeak)
		}
		if p.known && p.v.Orifice > 0 {
			pass(p.v.Orifice)
		}
		if p.relief {
			pass(p.v.Relief)
		}
		supply(p.v.Drift * p.volume() / (gas.RAir * p.wall))
	}
	if p.port == Charge || p.port == Draw {
		// A small volume is filled gently: at most a hundredth of the target a step.
		most := 0.01 * math.Abs(p.target) * p.volume() / (gas.RAir * t) / step
		supply(math.Copysign(math.Min(p.v.Supply, most), p.target))
	}
	dmt += m * (p.wall - t) / p.heatTime()
	return dm, dmt
}
