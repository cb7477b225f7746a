package sim

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"

	"wexter/core/gas"
	"wexter/core/plumbing"
	"wexter/core/units"
)

// Hands is what hands do at a bench rig.
type Hands string

// What they do.
const (
	HandsOff Hands = ""
	Pumping  Hands = "pump"  // up to the target, and again each time it was let go
	Ramping  Hands = "ramp"  // slowly until it lets go, stand, let go to the air; three times
	Stepping Hands = "steps" // open to the air, in steps to the target, back, and as far the other way
)

// OnBench is one part of a car by itself on a bench rig: a small volume with a hand pump and a gauge.
// The car does not feel it, but for a sensor: its connector stays on the car.
type OnBench struct {
	part  *piece // nil: the rig is plugged
	rest  plumbing.State
	unit  *ventUnit // on it; nil: it is no vent unit
	air   float64   // Pa, the barometer
	at    float64   // K
	volts float64   // of the supply
	rng   *rand.Rand

	gauge  float64 // Pa
	power  float64 // share
	moved  bool    // the power has moved it
	hands  Hands
	target float64 // Pa, below zero for a vacuum
	t      float64 // s of what the hands do now
	doing  int     // of the steps of a ramp, or 1 while it is pumped up
	peak   float64 // Pa away from zero
	since  float64 // s since the last peak
	times  int
	lifts  [2]bool // relief and vacuum relief are open
	closed bool    // the contact has changed
}

// ventUnit are the reliefs and the switch of a vent unit.
type ventUnit struct{ relief, vacuum, sw *piece }

// ventUnit finds those of the car; nil where it has none.
func (c *Car) ventUnit() *ventUnit {
	u := &ventUnit{}
	for _, x := range c.parts {
		switch {
		case x.Kind == plumbing.Switch:
			u.sw = x
		case x.Kind == plumbing.Relief && x.Inward:
			u.vacuum = x
		case x.Kind == plumbing.Relief && x.On != "" && c.piece[x.On].Kind == plumbing.Valve:
			u.relief = x
		}
	}
	if u.relief == nil || u.vacuum == nil || u.sw == nil {
		return nil
	}
	return u
}

// What is put on a bench rig instead of a part of the car.
const (
	PlugOnBench = "plug"
	NewOnBench  = "new" // a sound part like the one that was on it last
)

// OnBench puts a part on a bench rig, its end plugged, or a new part of the kind of last.
func (c *Car) OnBench(what, last string, seed uint64) (*OnBench, error) {
	b := &OnBench{air: c.At.Barometer, at: c.At.Ambient, volts: 12.4, rng: rand.New(rand.NewPCG(seed, 77))}
	if what == PlugOnBench {
		return b, nil
	}
	sound := what == NewOnBench
	if sound {
		what = last
	}
	x, ok := c.piece[what]
	if !ok || !slices.Contains([]plumbing.Kind{plumbing.Valve, plumbing.Check, plumbing.Relief, plumbing.Cover, plumbing.Sensor}, x.Kind) {
		return nil, fmt.Errorf("%q is no valve, cap or sensor of this car", what)
	}
	p := *x
	u := c.ventUnit()
	if u != nil && u.relief.On != what {
		u = nil
	}
	if sound {
		p.has = nil
		if u != nil {
			fresh := ventUnit{ptr(*u.relief), ptr(*u.vacuum), ptr(*u.sw)}
			fresh.relief.has, fresh.vacuum.has, fresh.sw.has = nil, nil, nil
			u = &fresh
		}
	}
	b.part, b.rest, b.unit = &p, p.Rest, u
	return b, nil
}

func ptr(x piece) *piece { return &x }

// Gauge is what stands in the rig, Pa.
func (b *OnBench) Gauge() float64 { return b.gauge }

// Sensor is the sensor that is on the rig, by its key; empty where it is something else.
func (b *OnBench) Sensor() string {
	if b.part == nil || b.part.Kind != plumbing.Sensor {
		return ""
	}
	return b.part.Key
}

// Shows is what the sensor on the rig makes of the pressure there, Pa.
func (b *OnBench) Shows() float64 { return b.gauge*b.part.get("gain") + b.part.get("offset") }

// The signal of a tank's sensor: half its supply at nothing, and four fifths of its supply over 14 inH2O
// either way (a common characteristic, no source).
const (
	tankVolts   = 2.5
	tankVoltsPa = 2.0 / (14 * units.InH2O)
)

// Volts are those across the contact of a vent unit, the signal of a sensor, otherwise those across the
// lead of the part.
func (b *OnBench) Volts() float64 {
	if b.Sensor() != "" {
		zero, perPa := tankVolts, tankVoltsPa
		if b.part.Role == "difference" {
			zero, perPa = differenceVolts, differencePerPa
		}
		return math.Min(math.Max(zero+b.Shows()*perPa, 0.1), 4.9)
	}
	if b.unit == nil || b.hands == Pumping {
		return b.volts * b.power
	}
	if b.closed {
		return 0.2
	}
	return 11.8
}

// Power brings a share of the supply to the part.
func (b *OnBench) Power(share float64) {
	share = math.Max(share, 0)
	if b.part != nil && share > 0.5 && b.power <= 0.5 { // each time it may stick
		b.moved = b.part.get("opening") > 0.3 && coilOhm/(coilOhm+b.part.get("resistance")) > 0.6 && b.rng.Float64() >= b.part.get("sticks")
	}
	b.power = math.Min(share, 1)
}

// Let lets hands do something from now on, to a target, Pa.
func (b *OnBench) Let(h Hands, target float64) {
	b.hands, b.target, b.t, b.doing, b.times, b.peak, b.since = h, target, 0, 0, 0, 0, 0
}

// open reports whether the part stands open, by its power.
func (b *OnBench) open() bool {
	if b.part == nil || b.unit != nil {
		return false
	}
	moved := b.power > 0.5 && b.moved
	return moved == (b.rest != plumbing.Open)
}

// onBench is the rig with its hose, and how finely it is stepped.
const (
	benchVolume = 0.15e-3 // m³
	benchStep   = 0.005   // s
)

// Run lets time pass, s.
func (b *OnBench) Run(dt float64) {
	for ; dt > 1e-9; dt -= benchStep {
		h := math.Min(dt, benchStep)
		b.work(h)
		b.leak(h)
		b.lift()
	}
}

// leak lets gas through what is open, and through seats and walls that are not tight.
func (b *OnBench) leak(h float64) {
	x := b.part
	if x == nil {
		return
	}
	if x.Kind == plumbing.Check && b.target > 0 { // turned round: it lets through what is above its spring
		const spring = 0.4 * units.InHg
		if x.get("opening") > 0.3 && b.gauge > spring {
			b.gauge = spring + (b.gauge-spring)*math.Exp(-h/0.2)
		}
		return
	}
	area := holeCd * gas.Area(1e-3*math.Max(math.Max(x.get("passes"), x.get("reverse")), x.get("leak")))
	if b.open() {
		area += valveCd * gas.Area(x.bore*math.Min(x.get("bore"), 1))
	} else {
		area += valveCd * gas.Area(x.bore) * x.least() * x.least()
	}
	if x.Kind == plumbing.Relief && b.lifts[0] {
		area += lifted(x.Crack*x.get("crack"), b.air)
	}
	if u := b.unit; u != nil {
		area = holeCd * gas.Area(1e-3*math.Max(u.relief.get("passes"), u.vacuum.get("passes")))
		for i, r := range []*piece{u.relief, u.vacuum} {
			if b.lifts[i] {
				area += lifted(r.Crack*r.get("crack"), b.air)
			}
		}
	}
	if area == 0 {
		return
	}
	flow := gas.Orifice(area, 1, b.air+math.Max(b.gauge, 0), b.at, b.air+math.Min(b.gauge, 0))
	d := flow * gas.RAir * b.at / benchVolume * h
	b.gauge = math.Copysign(math.Max(math.Abs(b.gauge)-d, 0), b.gauge)
}

// lifted is the area of a relief that has just lifted, m²: so little gas stands in the rig that a seat
// which lifts by a hair lets it go within a second or so.
func lifted(crack, air float64) float64 {
	const density = 1.2 // kg/m³
	return benchVolume * crack / air / math.Sqrt(2*crack/density)
}

// lift opens and shuts the reliefs of a vent unit, and changes its contact.
func (b *OnBench) lift() {
	u := b.unit
	snap := func(open *bool, x *piece, level float64) {
		if crack := x.Crack * x.get("crack"); level >= crack {
			*open = true
		} else if level <= math.Min(x.Reseal*x.get("crack"), crack) {
			*open = false
		}
	}
	if x := b.part; u == nil && x != nil && x.Kind == plumbing.Relief {
		snap(&b.lifts[0], x, map[bool]float64{true: -b.gauge, false: b.gauge}[x.Inward])
	}
	if u == nil {
		return
	}
	snap(&b.lifts[0], u.relief, b.gauge)
	snap(&b.lifts[1], u.vacuum, -b.gauge)
	at := math.Abs(u.sw.SwitchAt) * u.sw.get("switch")
	switch {
	case !b.closed && -b.gauge >= at:
		b.closed = u.sw.get("sticks") < 0.3 || b.rng.Float64() >= u.sw.get("sticks")
	case -b.gauge < 0.5*at:
		b.closed = false
	}
}

// work is what hands do in a moment.
func (b *OnBench) work(h float64) {
	s := math.Copysign(1, b.target)
	level, most := b.gauge*s, math.Abs(b.target)
	b.t += h
	switch b.hands {
	case Pumping:
		if b.doing == 0 {
			if level >= 0.3*most || b.part != nil && b.open() && b.power > 0.5 == (b.rest == plumbing.Shut) {
				b.t = 0 // it stands, or must let go just now
			}
			if b.t > 1.5 {
				b.doing, b.t = 1, 0
			}
			return
		}
		if math.Mod(b.t, 0.5) < h { // a stroke takes a share of what is missing
			b.gauge += s * 0.3 * math.Max(1.08*most-level, 0)
		}
		if b.gauge*s >= most || b.t > 12 {
			b.doing, b.t = 0, 0
		}
	case Ramping:
		b.ramp(h, s, level)
	case Stepping:
		b.steps(h)
	}
}

// stairs are where hands stop that go in steps, as shares of the target, and how long they stay, s.
var stairs = []float64{0, 0.3, 0.6, 1, 0.5, 0, -0.3, -0.6, -1, -0.5, 0}

const stairStay = 4.0

// steps is one moment of going up and down in steps; each takes a second and a half.
func (b *OnBench) steps(h float64) {
	if b.doing >= len(stairs) {
		b.hands = HandsOff
		return
	}
	to := b.target * stairs[b.doing]
	switch {
	case b.t < 1.5:
		b.gauge += (to - b.gauge) * math.Min(h/(1.5-b.t+h), 1)
	case b.t > 1.5+stairStay:
		b.doing, b.t = b.doing+1, 0
	case to == 0:
		b.gauge = 0
	}
}

// ramp is one moment of a slow ramp: up, stand, let go.
func (b *OnBench) ramp(h, s, level float64) {
	rate := math.Abs(b.target) / 20
	switch b.doing {
	case 0: // up
		b.gauge += s * rate * (1 + 0.25*math.Sin(b.t*0.7)) * math.Min(b.t/0.5, 1) * h
		if b.since += h; level > b.peak {
			b.peak, b.since = level, 0
		}
		if level < b.peak-0.06*units.InH2O || b.since > 1.5 || level > 1.5*math.Abs(b.target) {
			b.doing, b.t = 1, 0
		}
	case 1: // stand
		if b.t > 4 {
			b.doing, b.t = 2, 0
		}
	case 2: // to the air
		b.gauge *= math.Exp(-12 * h)
		if b.t > 1.5 {
			b.gauge, b.doing, b.t, b.peak, b.since = 0, 0, 0, 0, 0
			if b.times++; b.times == 3 {
				b.hands = HandsOff
			}
		}
	}
}

// ToAir lets everything go: hands off, no power, open to the air.
func (b *OnBench) ToAir() { b.gauge, b.power, b.hands = 0, 0, HandsOff }
