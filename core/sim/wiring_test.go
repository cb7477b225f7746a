package sim_test

import (
	"math"
	"strings"
	"testing"

	"wexter/core/plumbing"
	"wexter/core/sim"
	"wexter/ingest"
)

func wiredCar(t *testing.T) *sim.Car {
	t.Helper()
	b := ingest.Book()
	full, err := b.Plumbing.Complete(plumbing.Combination{Engine: "na-maf", Vapour: "engine-vacuum"})
	if err != nil {
		t.Fatal(err)
	}
	c, err := sim.NewCar(b.Plumbing, full, nil, sim.Conditions{Level: 0.4, Ambient: 293.15, Barometer: 101325, Reid: 62e3, Seed: 1})
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Drive(sim.Key); err != nil {
		t.Fatal(err)
	}
	return c
}

// A break in the circuit shows at the meter where it must, stops the valve, and is gone when it is mended.
func TestBrokenCircuits(t *testing.T) {
	c := wiredCar(t)
	probe := func(measure string) float64 {
		v, _, err := c.Probe("purge-valve", measure)
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
	if v := probe("supply"); math.Abs(v-12.6) > 0.1 {
		t.Errorf("supply %g", v)
	}
	if err := c.Break("purge-valve", "fuse", 0.5); err != nil {
		t.Fatal(err)
	}
	if probe("supply") > 1 || probe("feed") < 12 || math.Abs(probe("coil")-25) > 1 {
		t.Errorf("fuse blown: supply %g, feed %g, coil %g", probe("supply"), probe("feed"), probe("coil"))
	}
	passes := func() float64 {
		if err := c.Command("purge-valve", 1); err != nil {
			t.Fatal(err)
		}
		c.Run(2)
		return c.Openings()["purge-valve"]
	}
	if v := passes(); v > 0.1 {
		t.Errorf("a valve without its fuse opens to %g", v)
	}
	if err := c.Mend("purge-valve"); err != nil {
		t.Fatal(err)
	}
	if v := passes(); v < 0.9 || probe("supply") < 12 {
		t.Errorf("mended it opens to %g, supply %g", v, probe("supply"))
	}
	if err := c.Break("purge-valve", "pins", 0); err != nil {
		t.Fatal(err)
	}
	if says, err := c.Pins("purge-valve"); err != nil || says == "bright and tight" {
		t.Errorf("pins %q, %v", says, err)
	}
	if v := passes(); v > 0.1 {
		t.Errorf("behind corroded pins it opens to %g", v)
	}
	for _, x := range []struct {
		part, key string
		share     float64
		say       string
	}{{"cap", "fuse", 0.5, "no circuit"}, {"purge-valve", "wings", 0.5, "no break"}, {"purge-valve", "fuse", math.NaN(), "between 0 and 1"}, {"purge-valve", "fuse", 2, "between 0 and 1"}} {
		if err := c.Break(x.part, x.key, x.share); err == nil || !strings.Contains(err.Error(), x.say) {
			t.Errorf("%s, %s: %v", x.part, x.key, err)
		}
	}
}
