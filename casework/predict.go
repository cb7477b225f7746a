package casework

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"

	"wexter/core/bench"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/sim"
	"wexter/evidence"
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
	Name        string    // the suspect
	Time, Gauge []float64 // s, Pa; of a live bench in the SI unit of its first column
	Says        string
	Held        bool // the time counts from the last stroke of a pump
}

// PredictHold is what this car would show on a hold if it had the suspect.
func (s *Shop) PredictHold(v record.Vehicle, car Car, x Supposed) (out Foretold, err error) {
	su := x.Setup
	at := sim.Conditions{Level: su.Level, Barometer: su.Barometer, Ambient: su.Temperature}
	c, err := s.supposed(v, car, x, at, &out)
	if err != nil {
		return out, err
	}
	entry, set := car.Sealing(su)
	out.Time, out.Gauge, err = sim.PredictHold(c, sim.Hold{Entry: entry, Set: set, From: x.From, Seconds: x.Seconds, Every: math.Max(x.Seconds/160, 0.5)})
	if err != nil {
		return out, problem("suspect", "with this suspect at that size: %v", err)
	}
	return out, nil
}

// supposed is the simulated car with the suspect; says tells its size.
func (s *Shop) supposed(v record.Vehicle, car Car, x Supposed, at sim.Conditions, out *Foretold) (*sim.Car, error) {
	f, ok := s.Book.Fault(x.Fault)
	part, can := f.Can(car.Graph, car.Combination)
	if x.Fault != "" && (!ok || !can) {
		return nil, problem("suspect", "this car cannot have %q", x.Fault)
	}
	size := x.Setup.Tank
	if size == 0 {
		size, _ = tankOf(v)
	}
	g, err := sim.Tank(car.Graph, size)
	if err != nil {
		return nil, err
	}
	if at.Level > 0 {
		at.Level = math.Min(math.Max(at.Level, 0.02), 0.97)
	}
	c, err := sim.NewCar(s.Book.Plumbing, car.Combination, g, at)
	if err != nil {
		return nil, problem("suspect", "the car cannot be simulated as it is set up: %v", err)
	}
	if x.Fault == "" {
		return c, nil
	}
	for _, d := range f.Defects(part, x.Severity) {
		if d.Param == "sticks" { // a hold is one moment: what sticks is taken as it stands
			continue
		}
		if err := c.Apply(d); err != nil {
			return nil, err
		}
		if out.Says == "" && (d.Param == "leak" || d.Param == "passes" || d.Param == "reverse") {
			out.Says = fmt.Sprintf("%.2g mm", d.Value)
		}
	}
	return c, nil
}

// mostForetold is how many suspects are drawn behind a live trace.
const mostForetold = 2

// Foretell says what a column of a live bench would show in a stretch with each of the
// likeliest suspects, and with none. A stretch that is no phase of the test, or a column that the
// plant cannot give, has none.
func (s *Shop) Foretell(ctx context.Context, id string, leg record.RunKind, column string) (out []Foretold, err error) {
	l, err := s.LiveTest(ctx, id)
	if err != nil {
		return nil, err
	}
	f := sim.Forecast{Column: column, Every: 0.5}
	st, ok := l.Bench.Stretch(l.Known(nil, 0), leg)
	switch toggled := ok && len(st.Toggle.Asked) > 0; {
	case toggled:
	case l.Bench.On == bench.OnePart:
		f.Hands, ok = sim.HandsOn(st)
	default:
		if f.Phase, ok = l.Bench.Phase(leg); ok {
			f.Every = math.Max(f.Every, l.Bench.Phases[f.Phase].For/240)
			if column == bench.StrokesMade { // the first ones come a few times a second
				f.Every = 0.1
			}
		}
	}
	if !ok || !sim.Foresees(column) {
		return nil, nil
	}
	folder, err := s.Load(ctx, l.Case.ID)
	if err != nil {
		return nil, err
	}
	suspects, err := s.likely(ctx, folder, l)
	if err != nil {
		return nil, err
	}
	at := sim.Conditions{Level: 0.5}
	if v, ok := l.Readings().Mean("level"); ok {
		at.Level = v / 100
	}
	if v, ok := l.Readings().Mean("barometer"); ok {
		at.Barometer = v * 100
	}
	for _, fault := range append(suspects, "") {
		x := Supposed{Setup: l.Test.Setup, Fault: fault, Severity: 0.5}
		told, err := s.foretold(ctx, folder.Vehicle, l, x, at, foreseen{f, st})
		if err != nil || len(told.Time) == 0 {
			continue // this suspect cannot be drawn; the others can
		}
		out = append(out, told)
	}
	return out, ctx.Err()
}

// foreseen is what is to be foreseen, and the stretch in which.
type foreseen struct {
	sim.Forecast
	in bench.Stretch
}

// foretold runs the test on the simulated car with one suspect. It is kept: the same car asks again.
func (s *Shop) foretold(ctx context.Context, v record.Vehicle, l LiveTest, x Supposed, at sim.Conditions, f foreseen) (out Foretold, err error) {
	key := fmt.Sprint(s.Book.Version, l.Bench.Key, l.Test.Part, v.TankL, l.car.Combination, x.Fault, x.Severity, at, f.Phase, f.Hands, f.Column, f.in.Key)
	if told, ok := s.told.get(key); ok {
		return told, nil
	}
	err = s.InTurn(ctx, func() error {
		c, err := s.supposed(v, l.car, x, at, &out)
		if err != nil {
			return err
		}
		switch {
		case len(f.in.Toggle.Asked) > 0:
			return sim.ForeseeToggled(c, s.Book, l.Bench.Key, f.in, &f.Forecast)
		case f.Hands.Do != bench.Wait:
			return sim.ForeseeOnBench(c, l.Test.Part, &f.Forecast)
		}
		return sim.Foresee(c, s.Book, l.Bench.Key, l.Test.Part, &f.Forecast)
	})
	if err != nil {
		return out, err
	}
	out.Time, out.Gauge, out.Name, out.Held = f.Time, f.Value, "nothing wrong", f.Hands.Do == bench.Pump
	if fault, ok := s.Book.Fault(x.Fault); ok {
		out.Name = plumbing.Lower(fault.Name)
	}
	s.told.put(key, out, 100)
	return out, nil
}

// likely are the likeliest suspects that a test can feel.
func (s *Shop) likely(ctx context.Context, f evidence.Folder, l LiveTest) (out []string, err error) {
	t, err := s.Think(ctx, f)
	if err != nil {
		return nil, err
	}
	marg := t.State.Marginals()
	order := make([]int, len(marg))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(marg[b], marg[a]) })
	for _, i := range order {
		x := t.State.Suspects[i].Fault
		at, can := x.Can(l.car.Graph, l.car.Combination)
		if l.Bench.On == bench.OnePart {
			part, _ := l.car.Graph.Part(at)
			can = can && l.Bench.Tries != nil && l.Bench.Tries(bench.Target{Graph: l.car.Graph, Fault: x, Part: part}) == l.Test.Part
		}
		if can && l.Bench.FeelsFault(x) && len(out) < mostForetold && marg[i] > 0.01 {
			out = append(out, x.Key)
		}
	}
	return out, nil
}
