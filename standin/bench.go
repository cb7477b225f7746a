package standin

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"wexter/core/record"
	"wexter/core/sim"
	"wexter/core/units"
	"wexter/instrument"
)

// benchRig is a rig for one part of the car by itself: a hand pump with its gauge, and a meter on the
// part's lead or, of a vent unit, across its contact. It stands beside the car, which does not feel it.
func benchRig() *Tool {
	return &Tool{Name: "bench rig", Takes: []string{instrument.TakesPart, "read", "off"}, do: askBench, Rate: 10, works: workBench,
		can: []string{instrument.Open, instrument.Valve, instrument.Keep},
		shows: []dial{
			{record.GaugePressure, benchDial, func(t *Tool, _ *sim.Car) (float64, bool) {
				b := t.onBench()
				if b == nil {
					return 0, true // open to the air
				}
				return b.Gauge() / units.InH2O, true
			}},
			{record.Volts, volts, func(t *Tool, _ *sim.Car) (float64, bool) {
				b := t.onBench()
				if b == nil {
					return 0, true
				}
				return b.Volts(), true
			}},
		}}
}

// mostBench is what passes on the bench rig at one look, s: unwatched, hands rest.
const mostBench = 60.0

// onBench is what is on the rig, brought to this moment; nil: nothing.
func (t *Tool) onBench() *sim.OnBench {
	now := t.plant.clock.Now()
	if dt := now - t.benchAt; t.bench != nil && dt > 0 {
		t.bench.Run(min(dt, mostBench))
	}
	t.benchAt = now
	return t.bench
}

// onSensor lets the car's control unit see what the rig holds on a sensor that is still plugged in.
func (t *Tool) onSensor(c *sim.Car) {
	if b := t.onBench(); b != nil && b.Sensor() != "" {
		c.Pump(b.Sensor(), b.Gauge())
	}
}

func askBench(t *Tool, c *sim.Car, w []string) (string, error) {
	switch {
	case w[0] == "put" && len(w) == 4:
		pa, err := strconv.ParseFloat(w[3], 64)
		if err != nil || !(pa > -95e3 && pa < 95e3) || pa == 0 {
			return "", fmt.Errorf("%q is no pressure between -95000 and 95000 Pa", w[3])
		}
		hands := sim.Hands(w[2])
		if !slices.Contains([]sim.Hands{sim.Pumping, sim.Ramping, sim.Stepping}, hands) {
			return "", orUse(nil, t)
		}
		b, err := c.OnBench(w[1], t.benched, t.plant.file.Seed)
		if err != nil {
			return "", err
		}
		if w[1] != sim.PlugOnBench && w[1] != sim.NewOnBench {
			t.benched = w[1]
		}
		t.onBench() // its clock comes to this moment before another part is on it
		t.bench = b
		b.Let(hands, pa)
		c.Unpump()
		t.plant.beside = t.onSensor
		return "done", nil
	case w[0] == "off":
		t.bench = nil
		c.Unpump()
		return "done", nil
	case w[0] == "read":
		if b := t.onBench(); b != nil {
			return strings.Join([]string{t.reads(b.Gauge()/units.InH2O, benchDial), t.reads(b.Volts(), volts)}, ", "), nil
		}
		return "nothing is on it", nil
	}
	return "", orUse(nil, t)
}

// workBench switches the lead of the part that is on the rig.
func workBench(t *Tool, c *sim.Car, cmd instrument.Command) error {
	b := t.onBench()
	if b == nil {
		if cmd.Do == instrument.Open {
			return nil
		}
		return fmt.Errorf("nothing is on the bench rig")
	}
	if cmd.Do == instrument.Open {
		if b.ToAir(); b.Sensor() != "" { // its hose goes back to the car
			t.bench = nil
			c.Unpump()
		}
		return nil
	}
	b.Power(cmd.Target)
	return nil
}
