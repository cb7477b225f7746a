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

// PredictHold is what this car would show on a hold set up as su says, with a suspect at
// a severity of 0 to 1, from the gauge pressure (Pa) at which it was shut off; and what
// the suspect was taken to be, in words.
func (s *Shop) PredictHold(v record.Vehicle, car Car, su record.Setup, fault string, severity, from, seconds float64) (time, gauge []float64, says string, err error) {
	f, ok := s.Book.Fault(fault)
	part, can := f.Can(car.Graph, car.Combination)
	if !ok || !can {
		return nil, nil, "", problem("suspect", "this car cannot have %q", fault)
	}
	size := su.Tank
	if size == 0 {
		size = v.TankL / 1e3
	}
	g, err := sim.Tank(car.Graph, size)
	if err != nil {
		return nil, nil, "", err
	}
	at := sim.Conditions{Level: su.Level, Barometer: su.Barometer, Ambient: su.Temperature}
	if at.Level > 0 {
		at.Level = math.Min(math.Max(at.Level, 0.02), 0.97)
	}
	c, err := sim.NewCar(s.Book.Plumbing, car.Combination, g, at)
	if err != nil {
		return nil, nil, "", problem("suspect", "the car cannot be simulated as it is set up: %v", err)
	}
	for _, d := range f.Defects(part, severity) {
		if d.Param == "sticks" { // a hold is one moment: what sticks is taken as it stands
			continue
		}
		if err := c.Apply(d); err != nil {
			return nil, nil, "", err
		}
		if says == "" && (d.Param == "leak" || d.Param == "passes" || d.Param == "reverse") {
			says = fmt.Sprintf("%.2g mm", d.Value)
		}
	}
	entry, set := car.Sealing(su)
	time, gauge, err = sim.PredictHold(c, sim.Hold{Entry: entry, Set: set, From: from, Seconds: seconds, Every: math.Max(seconds/160, 0.5)})
	if err != nil {
		return nil, nil, says, problem("suspect", "with this suspect at that size: %v", err)
	}
	return time, gauge, says, nil
}
