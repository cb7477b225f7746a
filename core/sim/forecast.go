package sim

import (
	"wexter/core/bench"
	"wexter/core/gas"
)

// Forecast is what a perfect instrument would show while a phase of a test is done on a simulated
// car.
type Forecast struct {
	Phase  int     // of the test, from 0
	Column string  // of a bench: the quantity or the PID that is looked at
	Every  float64 // s between points

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
	bench.TankSensor: func(c *Car) float64 { p, _ := c.TankPressure(); return p },
}

// Foresees reports whether a column can be foreseen.
func Foresees(column string) bool { return columns[column] != nil }

// see notes a point, when the phase is the one that is looked at.
func (f *Forecast) see(t *technician, h float64) {
	if f == nil || f.Phase != t.step {
		return
	}
	f.at += h
	f.Time, f.Value = append(f.Time, f.at), append(f.Value, columns[f.Column](t.Car))
}
