package sim_test

import (
	"math"
	"testing"

	"wexter/core/plumbing"
	"wexter/core/sim"
	"wexter/core/units"
)

// A sensor on the bench rig follows the hand pump in steps both ways, by its own scale and zero, and the
// car's control unit sees that for as long as it is on the rig.
func TestSensorOnBench(t *testing.T) {
	c := build(t, naMAF, sim.Conditions{})
	for _, d := range []plumbing.Defect{{Part: "tank-sensor", Param: "gain", Value: 0.8}, {Part: "tank-sensor", Param: "offset", Value: 300}} {
		if err := c.Apply(d); err != nil {
			t.Fatal(err)
		}
	}
	b, err := c.OnBench("tank-sensor", "", 1)
	if err != nil {
		t.Fatal(err)
	}
	b.Let(sim.Stepping, 10*units.InH2O)
	low, high := 0.0, 0.0
	for range 700 {
		b.Run(0.1)
		low, high = math.Min(low, b.Gauge()), math.Max(high, b.Gauge())
		if want := 0.8*b.Gauge() + 300; math.Abs(b.Shows()-want) > 1e-9 {
			t.Fatalf("%g Pa shows as %g, not %g", b.Gauge(), b.Shows(), want)
		}
	}
	if math.Abs(high-10*units.InH2O) > 5 || math.Abs(low+10*units.InH2O) > 5 || b.Gauge() != 0 {
		t.Errorf("from %g to %g Pa, then %g", low, high, b.Gauge())
	}
	c.Pump("tank-sensor", 1000)
	if p, ok := c.TankPressure(); !ok || math.Abs(p-1100) > 1e-9 {
		t.Errorf("the car sees %g Pa", p)
	}
	c.Unpump()
	if p, _ := c.TankPressure(); math.Abs(p-300) > 20 {
		t.Errorf("back on the car it sees %g Pa", p)
	}
}
