package sim

import (
	"math"
	"slices"

	"wexter/core/calc"
	"wexter/core/network"
	"wexter/core/plumbing"
)

// Gauge is the true pressure of a part above the barometer, Pa.
func (c *Car) Gauge(part string) (float64, bool) {
	x, ok := c.piece[part]
	if !ok || x.first < 0 {
		return 0, false
	}
	return c.net.Nodes[x.first].Pressure() - c.At.Barometer, true
}

// Pressures is the true gauge pressure of every part that stands at one, Pa.
func (c *Car) Pressures() map[string]float64 {
	out := map[string]float64{}
	for _, x := range c.parts {
		if p, ok := c.Gauge(x.Key); ok {
			out[x.Key] = p
		}
	}
	return out
}

// Smoke is the share of smoke in the gas of every part that it has reached, by volume.
func (c *Car) Smoke() map[string]float64 {
	out := map[string]float64{}
	for _, x := range c.parts {
		if x.first >= 0 {
			if s := c.net.Nodes[x.first].ByVolume(network.Smoke); s > 1e-4 {
				out[x.Key] = s
			}
		}
	}
	return out
}

// Openings is how far every valve stands open.
func (c *Car) Openings() map[string]float64 {
	out := map[string]float64{}
	for _, x := range c.parts {
		if x.Moves() {
			out[x.Key] = x.open
		}
	}
	return out
}

// seen is what the sensor of a role (or the tank's) reads of a gauge pressure, Pa.
func (c *Car) seen(role string, sensors []*piece) (float64, bool) {
	x := c.role[role]
	if x == nil {
		return 0, false
	}
	for _, s := range sensors {
		if p, ok := c.pumped[s.Key]; ok {
			return p*s.get("gain") + s.get("offset"), true
		}
		return (c.net.Nodes[x.first].Pressure()-c.At.Barometer)*s.get("gain") + s.get("offset"), true
	}
	return 0, false
}

// Pump holds a gauge pressure on the hose of a sensor, Pa, as a hand pump does: it no longer feels the
// car. Unpump joins it to the car again.
func (c *Car) Pump(sensor string, pa float64) { c.pumped = map[string]float64{sensor: pa} }

// Unpump joins the sensor that was pumped to the car again.
func (c *Car) Unpump() { c.pumped = nil }

// TankPressure is what the tank's sensor says, Pa gauge; false when there is none. It may
// sit at the canister.
func (c *Car) TankPressure() (float64, bool) {
	for _, r := range []string{"fuel", "carbon"} {
		if x := c.role[r]; x != nil && len(x.sensors) > 0 {
			return c.seen(r, x.sensors)
		}
	}
	return 0, false
}

// ManifoldPressure is what the sensor in the manifold says, Pa absolute.
func (c *Car) ManifoldPressure() (float64, bool) {
	p, ok := c.seen("intake", c.role["intake"].sensors)
	return p + c.At.Barometer, ok
}

// MeteredAir is what the air meter says, kg/s.
func (c *Car) MeteredAir() (float64, bool) {
	m := c.role["meter"]
	if m == nil {
		return 0, false
	}
	return math.Max(c.net.Edges[m.edge].Flow, 0) * m.get("gain"), true
}

// ChargePressure is what the boost sensor says, Pa absolute.
func (c *Car) ChargePressure() (float64, bool) {
	x := c.role["charge"]
	if x == nil {
		return 0, false
	}
	p, ok := c.seen("charge", x.sensors)
	return p + c.At.Barometer, ok
}

// Position is what the position sensor of the EGR valve says, 0 to 1: it reads
// the motor, not the valve.
func (c *Car) Position() (float64, bool) {
	x := c.role["recirculation"]
	if x == nil || len(x.sensors) == 0 {
		return 0, false
	}
	w := 0.0
	if c.live(x) {
		w = math.Min(c.told[x.Key], x.get("opening"))
	}
	return math.Max(w, x.get("rest")), true
}

// BehindValve is the temperature of the gas behind the EGR valve, K.
func (c *Car) BehindValve() (float64, bool) {
	x := c.role["recirculation"]
	if x == nil {
		return 0, false
	}
	n := &c.net.Nodes[x.second]
	flow := math.Max(c.net.Edges[x.edge].Flow, 0)
	// A probe in still gas stands at its housing; in a stream it takes the stream's heat.
	housing := c.At.Ambient + 0.6*(c.Coolant-c.At.Ambient)
	w := flow / (flow + 2e-4)
	return housing + (math.Max(n.Temperature(), c.net.Nodes[x.first].Temperature()*0.6)-housing)*w, true
}

// The differential sensor's signal (a common characteristic, no source).
const (
	differenceVolts = 0.45      // at rest
	differencePerPa = 1.0 / 1e3 // V
)

// Difference is the voltage of the differential sensor across the orifice of the
// EGR tube, at most 4.9 V.
func (c *Car) Difference() (float64, bool) {
	s := c.role["difference"]
	if s == nil {
		return 0, false
	}
	if p, ok := c.pumped[s.Key]; ok {
		return math.Min(math.Max(differenceVolts+(p*s.get("gain")+s.get("offset"))*differencePerPa, 0), 4.9), true
	}
	tube := c.piece[s.On]
	d := c.net.Nodes[tube.first].Pressure() - c.net.Nodes[tube.second].Pressure()
	// A hose with a hole bleeds the pressure it should carry: the hose is some 2 mm wide.
	for _, x := range c.parts {
		if x.On == tube.Key && x != s {
			r := x.get("leak") / 2
			d /= 1 + r*r*r*r
		}
	}
	return math.Min(math.Max(differenceVolts+d*differencePerPa*s.get("gain"), 0), 4.9), true
}

// Switch is the state of the vacuum or pressure switch, and whether there is one.
func (c *Car) Switch() (changed, ok bool) {
	for _, x := range c.parts {
		if x.Kind == "switch" {
			return x.lifted, true
		}
	}
	return false, false
}

// PumpSwitch reports whether the diaphragm of the car's leak pump is drawn up just now, which opens its reed
// switch: for a moment at each stroke; false where there is no such pump.
func (c *Car) PumpSwitch() (up, ok bool) {
	if c.monitor != "strokes" || c.role["leak-pump"] == nil {
		return false, false
	}
	k := &c.Unit.leak
	return c.Engine.Running && !k.done && c.Unit.Strokes > 0 && k.clock < strokeBack, true
}

// Signal is what a sensor's signal wire carries, V; false where the part is none of those whose signal is
// known.
func (c *Car) Signal(part string) (float64, bool) {
	x, ok := c.piece[part]
	switch {
	case !ok || x.Kind != plumbing.Sensor:
		return 0, false
	case x.Role == "difference":
		return c.Difference()
	case x.Family == "vapour":
		p, ok := c.TankPressure()
		return math.Min(math.Max(tankVolts+p*tankVoltsPa, 0.1), 4.9), ok
	}
	return 0, false
}

// Coil is the resistance of a part's circuit as a meter at its connector shows it, ohm.
func (c *Car) Coil(part string) (float64, bool) {
	x, ok := c.piece[part]
	if !ok || x.By != "" || !slices.Contains([]string{"coil", "duty", "motor", "stepper"}, x.Drive) && x.Role != "leak-pump" {
		return 0, false
	}
	return calc.CoilAt(coilOhm, c.At.Ambient) + x.get("resistance"), true
}

// Rig is what Connect has joined; nil before.
func (c *Car) Rig() *Rig { return c.rig }

// Balance is all that the car holds that could go: gas, liquid fuel, and fuel in the
// carbon, kg.
func (c *Car) Balance() float64 {
	sum := c.net.Total().Total() + c.liquid + c.carbon
	if t := c.role["fuel"]; t != nil {
		sum -= c.net.Nodes[t.first].Given - c.evaporated // not yet booked
	}
	if x := c.role["carbon"]; x != nil {
		sum -= c.net.Nodes[x.first].Given - c.taken
	}
	for i := range c.net.Edges {
		e := &c.net.Edges[i]
		if e.To == outside {
			sum += e.Moved.Total()
		} else if e.From == outside {
			sum -= e.Moved.Total()
		}
	}
	return sum
}

// Exit is a place where gas leaves the car.
type Exit struct{ Part, Size string }

// size is how much comes out, as it is seen; empty for what is not seen.
func exitSize(flow float64) string {
	switch {
	case flow > 8e-5:
		return "billow"
	case flow > 1.5e-5:
		return "stream"
	case flow > 2e-6:
		return "wisp"
	}
	return ""
}

// SmokeExits are the places where gas with smoke leaves.
func (c *Car) SmokeExits() (out []Exit) {
	for _, x := range c.parts {
		flow, share := 0.0, 0.0
		for _, e := range []int{x.hole, x.edge} {
			if e < 0 || c.net.Edges[e].To != outside || c.net.Edges[e].Flow <= 0 {
				continue
			}
			flow += c.net.Edges[e].Flow
			share = c.net.Nodes[c.net.Edges[e].From].Share(network.Smoke)
		}
		if size := exitSize(flow); size != "" && share >= 0.2 {
			out = append(out, Exit{x.Key, size})
		}
	}
	return out
}
