package sim

import (
	"wexter/core/bench"
	"wexter/core/gas"
	"wexter/core/plumbing"
)

// Forecast is what a perfect instrument would show while a phase of a test is done on a simulated
// car.
type Forecast struct {
	Phase  int        // of the test, from 0
	Before int        // so many phases before it are looked at too
	Hands  bench.Step // of a part on a bench rig: what hands do there, instead of a phase
	Column string     // of a bench: the quantity or the PID that is looked at
	Every  float64    // s between points

	Time, Value []float64 // s into the phase; in the column's SI unit
	at          float64
}

// columns are what can be foreseen.
var columns = map[string]func(*Car) float64{
	"pressure": (*Car).RigGauge,
	"flow": func(c *Car) float64 {
		if r := c.Rig(); r != nil {
			return gas.FreeAir(r.Meter, c.At.Barometer, c.At.Ambient)
		}
		return 0
	},
	bench.TankSensor:  func(c *Car) float64 { p, _ := c.TankPressure(); return p },
	"pid-06":          func(c *Car) float64 { return c.Live()["06"] },
	bench.StrokesMade: func(c *Car) float64 { return float64(c.Unit.Strokes) },
	"pid-0C":          func(c *Car) float64 { return c.Engine.Speed },
}

// Foresees reports whether a column can be foreseen.
func Foresees(column string) bool { return columns[column] != nil }

// looks reports whether a phase is one that is looked at.
func (f *Forecast) looks(phase int) bool {
	return f != nil && phase <= f.Phase && phase >= f.Phase-f.Before
}

// see notes a point, when the phase is the one that is looked at.
func (f *Forecast) see(t *technician, h float64) {
	if !f.looks(t.step) {
		return
	}
	f.at += h
	f.Time, f.Value = append(f.Time, f.at), append(f.Value, t.shows(f.Column))
}

// shows is what a perfect instrument gives of a column: a gauge that is joined to no rig is held where the
// phase reads a pressure.
func (t *technician) shows(column string) float64 {
	if column != "pressure" || t.rig != nil {
		return columns[column](t.Car)
	}
	a, _ := t.book.Archetype(t.Vapour)
	site := bench.Site{Graph: t.Graph, Entry: a.Entry}
	for _, key := range t.phase.Read {
		c, _ := t.test.Channel(key)
		if at, ok := site.Held(c.Sense); ok {
			if p, ok := t.Gauge(at); ok {
				return p
			}
		}
	}
	return columns[column](t.Car)
}

// HandsOn is what hands do at a bench rig in a stretch: what can be foreseen of it; false where the rig
// is by itself, or nobody can know when a part is switched.
func HandsOn(st bench.Stretch) (hands bench.Step, ok bool) {
	for _, x := range st.Stand {
		switch {
		case x.Do == bench.PlugRig:
			return hands, false
		case x.Do == bench.Ramp, x.Do == bench.UpAndDown, x.Do == bench.Pump && st.For > 0:
			hands, ok = x, true
		}
	}
	return hands, ok
}

// ForeseeOnBench is what a perfect gauge, or the sensor itself, would show of a part of the car on a bench
// rig: from the last stroke of a pump on, over one slow ramp, or over all steps up and down.
func ForeseeOnBench(c *Car, part string, f *Forecast) error {
	b, err := c.OnBench(part, "", 1)
	if err != nil {
		return err
	}
	seconds := 25.0
	switch f.Hands.Do {
	case bench.UpAndDown:
		seconds = 62
		b.Let(Stepping, f.Hands.Value)
	case bench.Ramp:
		seconds = 30
		b.Let(Ramping, f.Hands.Value)
	default:
		b.gauge = f.Hands.Value
		if b.rest == plumbing.Open {
			b.Power(1) // what is open at rest holds only with power
		}
	}
	for t := 0.0; t <= seconds && b.times == 0; t += f.Every {
		v := b.Gauge()
		if f.Column == bench.TankSensor && b.Sensor() != "" {
			v = b.Shows()
		}
		f.Time, f.Value = append(f.Time, t), append(f.Value, v)
		b.Run(f.Every)
	}
	return nil
}
