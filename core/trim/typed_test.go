package trim_test

import (
	"math"
	"testing"

	"wexter/core/trim"
)

// TestTypedStops types trims at their stop: a long one beside a short one that has room is no
// bound, a short one is, and so is a long one alone.
func TestTypedStops(t *testing.T) {
	nan := math.NaN()
	for _, c := range []struct {
		name        string
		short, long float64
		stop        int
		bound       bool
	}{
		{"room left", 0.02, 0.1, 0, false},
		{"long at its stop, short at nought", 0, 0.25, 1, false},
		{"both at their stop", 0.25, 0.25, 1, true},
		{"short at its stop", -0.25, -0.1, -1, true},
		{"long alone at its stop", nan, 0.25, 1, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			d, err := trim.TypedDrive([]trim.Typed{{Region: trim.Idle, Short: c.short, Long: c.long, Air: nan, Pressure: nan}}, trim.Engine{Metering: trim.AirMeter})
			if err != nil {
				t.Fatal(err)
			}
			if b := d.Points.Points[0].Banks[0]; b.Stop != c.stop || b.Bound != c.bound {
				t.Errorf("%+v", b)
			}
		})
	}
	if _, err := trim.TypedDrive([]trim.Typed{{Short: nan, Long: nan}}, trim.Engine{Metering: trim.AirMeter}); err == nil {
		t.Error("nothing typed is a drive")
	}
}
