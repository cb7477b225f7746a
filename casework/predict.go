package casework

import (
	"fmt"
	"math"

	"wexter/core/knowledge"
	"wexter/core/record"
	"wexter/core/sim"
)

// Suspects lists the faults of this car that a hold can see, likeliest first as the Book
// weighs them.
func (s *Shop) Suspects(car Car, test string) (out []knowledge.Fault) {
	for _, f := range s.Book.Faults {
		if _, can := f.Can(car.Graph, car.Combination); !can {
			continue
		}
		for _, t := range f.Tests {
			if t == test {
				out = append(out, f)
			}
		}
	}
	return out
}

// Supposed is a hold on a car that has a suspect.
type Supposed struct {
	Setup    record.Setup
	Fault    string
	Severity float64 // 0 to 1
	From     float64 // gauge pressure at which it is shut off, Pa
	Seconds  float64
}

// Foretold is what a hold would show, and what the suspect was taken to be, in words.
type Foretold struct {
	Time, Gauge []float64 // s, Pa
	Says        string
}

// PredictHold is what this car would show on a hold if it had the suspect.
func (s *Shop) PredictHold(v record.Vehicle, car Car, x Supposed) (out Foretold, err error) {
	su := x.Setup
	f, ok := s.Book.Fault(x.Fault)
	part, can := f.Can(car.Graph, car.Combination)
	if !ok || !can {
		return out, problem("suspect", "this car cannot have %q", x.Fault)
	}
	size := su.Tank
	if size == 0 {
		size, _ = tankOf(v)
	}
	g, err := sim.Tank(car.Graph, size)
	if err != nil {
		return out, err
	}
	at := sim.Conditions{Level: su.Level, Barometer: su.Barometer, Ambient: su.Temperature}
	if at.Level > 0 {
		at.Level = math.Min(math.Max(at.Level, 0.02), 0.97)
	}
	c, err := sim.NewCar(s.Book.Plumbing, car.Combination, g, at)
	if err != nil {
		return out, problem("suspect", "the car cannot be simulated as it is set up: %v", err)
	}
	for _, d := range f.Defects(part, x.Severity) {
		if d.Param == "sticks" { // a hold is one moment: what sticks is taken as it stands
			continue
		}
		if err := c.Apply(d); err != nil {
			return out, err
		}
		if out.Says == "" && (d.Param == "leak" || d.Param == "passes" || d.Param == "reverse") {
			out.Says = fmt.Sprintf("%.2g mm", d.Value)
		}
	}
	entry, set := car.Sealing(su)
	out.Time, out.Gauge, err = sim.PredictHold(c, sim.Hold{Entry: entry, Set: set, From: x.From, Seconds: x.Seconds, Every: math.Max(x.Seconds/160, 0.5)})
	if err != nil {
		return out, problem("suspect", "with this suspect at that size: %v", err)
	}
	return out, nil
}
