package sim

import (
	"fmt"
	"math"
	"slices"

	"wexter/core/calc"
	"wexter/core/circuit"
)

// brokenWire is a break in the circuit of a part.
type brokenWire struct {
	circuit.Break
	now   []circuit.Change
	works bool // the part all the same
}

// wiring are the resistances that are not as they should be in the circuit of a part: those of a break, and
// what a fault adds to the part itself.
func (c *Car) wiring(x *piece) []circuit.Change {
	out := slices.Clone(c.broken[x.Key].now)
	if r := x.get("resistance"); r > 0 && len(out) == 0 {
		p, _ := x.Wired.Link(x.Wired.Part)
		out = append(out, circuit.Change{Link: p.Key, Ohm: []float64{p.Ohm + r, p.Ohm + r}})
	}
	return out
}

// Break puts a break of the Book into the circuit of a part, at a share of the way from its least to its most.
func (c *Car) Break(part, key string, share float64) error {
	x, ok := c.piece[part]
	if !ok || x.Wired == nil {
		return fmt.Errorf("%q has no circuit", part)
	}
	b, ok := x.Wired.Break(key)
	if !ok {
		var keys []string
		for _, b := range x.Wired.Breaks {
			keys = append(keys, b.Key)
		}
		return fmt.Errorf("the circuit of %q has no break %q; it has %q", part, key, keys)
	}
	if math.IsNaN(share) || share < 0 || share > 1 {
		return fmt.Errorf("a break lies between 0 and 1, not at %g", share)
	}
	if c.broken == nil {
		c.broken = map[string]brokenWire{}
	}
	now := b.At(share)
	c.broken[part] = brokenWire{b, now, x.Wired.Works(now, worksFrom)}
	return nil
}

// worksFrom is the share of its usual current from which on a part works (common practice, no source).
const worksFrom = 0.6

// carries reports whether the wiring of a part lets it work.
func (c *Car) carries(x *piece) bool {
	b, ok := c.broken[x.Key]
	return !ok || b.works
}

// measured is what a meter shows for a measure of the circuit of a part: V, ohm, %.
func (c *Car) measured(x *piece, m circuit.Measure) float64 {
	v := x.Wired.Reads(m, c.wiring(x))
	if m.Unit == "ohm" && m.Key == "coil" && !math.IsInf(v, 1) && x.Drive != "" {
		v = calc.CoilAt(v, c.At.Ambient)
	}
	return v
}

// Probe is what a meter shows that stands on the circuit of a part as a measure asks: volts, of a duty their
// mean, or ohms. What is looked at is no such measure.
func (c *Car) Probe(part, measure string) (v float64, unit string, err error) {
	x, ok := c.piece[part]
	if !ok || x.Wired == nil {
		return 0, "", fmt.Errorf("%q has no circuit", part)
	}
	m, ok := x.Wired.Measure(measure)
	if !ok || m.Unit == "" {
		return 0, "", fmt.Errorf("nothing of the circuit of %q is measured as %q", part, measure)
	}
	if m.Unit == "%" {
		return x.Wired.Mean(m, c.wiring(x)), "V", nil
	}
	if s, ok := c.Signal(part); ok && m.Key == "signal" && len(c.broken[part].now) == 0 {
		return s, "V", nil
	}
	return c.measured(x, m), m.Unit, nil
}

// Pins says how the pins of a part's connector look.
func (c *Car) Pins(part string) (string, error) {
	x, ok := c.piece[part]
	if !ok || x.Wired == nil {
		return "", fmt.Errorf("%q has no circuit", part)
	}
	m, ok := x.Wired.Measure("pins")
	if !ok {
		return "", fmt.Errorf("%q has no connector to look at", part)
	}
	best, says := 0.0, m.Sound().Says
	for _, b := range m.Bands {
		if s := c.broken[part].Looks[m.Key][b.Key]; s > best {
			best, says = s, b.Says
		}
	}
	return says, nil
}
