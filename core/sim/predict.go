package sim

import (
	"errors"
	"fmt"
	"math"
	"slices"

	"wexter/core/plumbing"
)

// Hold says how a hold is set up that is to be predicted.
type Hold struct {
	Entry   string
	Set     plumbing.Settings
	From    float64 // Pa gauge at the moment it was shut off; below zero for vacuum
	Seconds float64 // to look on
	Every   float64 // s between points
}

// Tank returns a copy of a graph whose tank has another size, m³: the plumbing's own is
// a starting value.
func Tank(g *plumbing.Graph, size float64) (*plumbing.Graph, error) {
	parts := slices.Clone(g.Parts)
	for i, p := range parts {
		if p.Role == "fuel" && size > 0 {
			parts[i].Litres = size * 1e3
		}
	}
	return plumbing.NewGraph(parts)
}

// PredictHold charges (or draws) a fresh car to where a hold began and returns what a
// perfect gauge would show from there on; an error when the car cannot be brought there.
func PredictHold(c *Car, h Hold) (time, gauge []float64, err error) {
	if math.IsNaN(h.From+h.Seconds+h.Every) || math.Abs(h.From) < 50 || math.Abs(h.From) > 30e3 || h.Seconds <= 0 || h.Seconds > 7200 || h.Every < 0.1 {
		return nil, nil, fmt.Errorf("a hold begins between 50 Pa and 30 kPa and lasts up to two hours, not %g Pa and %g s", h.From, h.Seconds)
	}
	if err := c.Drive(Key); err != nil {
		return nil, nil, err
	}
	for k, s := range h.Set {
		if err := c.Set(k, s); err != nil {
			return nil, nil, err
		}
	}
	r, err := c.Connect(h.Entry, 0)
	if err != nil {
		return nil, nil, err
	}
	if err := c.Run(20); err != nil {
		return nil, nil, err
	}
	port := Charge
	if h.From < 0 {
		port = Draw
	}
	if err := r.Set(port, h.From); err != nil {
		return nil, nil, err
	}
	_ = r.Supply(rigMost / 4) // gently, so that the hose does not stand above the tank; with all it has when that is not enough
	for begin := c.Time; r.Port == port; {
		if c.Time-begin > 90 {
			_ = r.Supply(rigMost)
		}
		if err := c.Run(0.1); err != nil {
			return nil, nil, err
		}
		if c.Time-begin > 180 {
			return nil, nil, errors.New("this car could not be brought to that pressure at all")
		}
	}
	for t := 0.0; t <= h.Seconds; t += h.Every {
		time, gauge = append(time, t), append(gauge, c.RigGauge())
		if err := c.Run(h.Every); err != nil {
			return nil, nil, err
		}
	}
	return time, gauge, nil
}
