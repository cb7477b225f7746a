package trim_test

import (
	"math"
	"slices"
	"strings"
	"testing"

	"wexter/core/trim"
)

// steady makes a log by the second: idle, then 2500, then a pull, each for a while.
func steady(seconds int) *trim.Log {
	l := &trim.Log{}
	set := func(c trim.Channel, x ...float64) { l.Value[c] = append(l.Value[c], x...) }
	for i := range 3 * seconds {
		l.Time = append(l.Time, float64(i))
		part := i / seconds
		set(trim.Speed, []float64{750, 2500, 2200}[part])
		set(trim.MeteredAir, []float64{2.5e-3, 9e-3, 22e-3}[part])
		set(trim.ManifoldPressure, []float64{34e3, 33e3, 75e3}[part])
		set(trim.RoadSpeed, []float64{0, 0, 18}[part])
		set(trim.Load, []float64{0.28, 0.27, 0.7}[part])
		set(trim.Short1, []float64{0.01, -0.01}[i%2])
		set(trim.Long1, []float64{0.16, 0.05, 0.02}[part])
		set(trim.Coolant, 363)
		set(trim.FuelSystem, 2)
	}
	return l
}

// fill sets a channel to one value throughout.
func fill(l *trim.Log, c trim.Channel, x float64) {
	l.Value[c] = slices.Repeat([]float64{x}, len(l.Time))
}

func TestFindRegions(t *testing.T) {
	p, err := trim.Find(steady(40))
	if err != nil {
		t.Fatal(err)
	}
	want := []struct {
		region trim.Region
		total  float64
	}{{trim.Idle, 0.16}, {trim.Fast, 0.05}, {trim.Loaded, 0.02}}
	if len(p.Points) != len(want) {
		t.Fatalf("%d points", len(p.Points))
	}
	for i, w := range want {
		x := p.Points[i]
		if total, sd, _ := x.Mean(); x.Region != w.region || math.Abs(total-w.total) > 0.002 || sd <= 0 || sd > 0.02 {
			t.Errorf("point %d: %s %.4f ± %.4f", i, x.Region, total, sd)
		}
	}
	// What counts and what is cut make the whole log.
	sum := 0.0
	for _, c := range p.Cuts {
		sum += c.To - c.From
	}
	if whole := sum + p.Seconds; math.Abs(whole-120) > 2 {
		t.Errorf("%.0f s count and %.0f are cut, of 120", p.Seconds, sum)
	}
}

// TestCuts looks whether each thing that does not count is cut for its own reason.
func TestCuts(t *testing.T) {
	for _, x := range []struct {
		name   string
		change func(*trim.Log)
		why    trim.Reason
	}{
		{"open loop", func(l *trim.Log) { l.Value[trim.FuelSystem][60] = 4; l.Value[trim.FuelSystem][61] = 8 }, trim.OpenLoop},
		{"fuel cut", func(l *trim.Log) {
			for i := 100; i < 106; i++ {
				l.Value[trim.FuelSystem][i], l.Value[trim.ManifoldPressure][i] = 4, 22e3
			}
		}, trim.Overrun},
		{"cold", func(l *trim.Log) {
			for i := range 30 {
				l.Value[trim.Coolant][i], l.Value[trim.FuelSystem][i] = 310, 1
			}
		}, trim.NotWarm},
		{"warm loop, cold engine", func(l *trim.Log) {
			for i := range 30 {
				l.Value[trim.Coolant][i] = 320
			}
		}, trim.NotWarm},
		{"stalls", func(l *trim.Log) { l.Value[trim.Speed][20] = 0 }, trim.NotRunning},
		{"a step on the pedal", func(l *trim.Log) { l.Value[trim.MeteredAir][60] *= 1.6 }, trim.Unsteady},
		{"purge opens", func(l *trim.Log) {
			fill(l, trim.Purge, 0)
			for i := 20; i < 120; i++ {
				l.Value[trim.Purge][i] = math.Min(float64(i-20)*0.05, 0.4)
			}
		}, trim.PurgeMoves},
		{"nothing read", func(l *trim.Log) {
			for i := 50; i < 75; i++ {
				l.Value[trim.Short1][i] = math.NaN()
			}
		}, trim.NothingRead},
	} {
		t.Run(x.name, func(t *testing.T) {
			whole, err := trim.Find(steady(40))
			if err != nil {
				t.Fatal(err)
			}
			l := steady(40)
			x.change(l)
			p, err := trim.Find(l)
			if err != nil {
				t.Fatal(err)
			}
			if !slices.ContainsFunc(p.Cuts, func(c trim.Cut) bool { return c.Why == x.why }) {
				t.Errorf("not cut as %q: %v", x.why, p.Cuts)
			}
			if p.Seconds >= whole.Seconds {
				t.Errorf("%.0f s count, of the whole log %.0f", p.Seconds, whole.Seconds)
			}
		})
	}
}

// TestUselessLogs gives logs of which nothing, or not all, can be said.
func TestUselessLogs(t *testing.T) {
	maf := trim.Engine{Metering: trim.AirMeter, Displacement: 1.8e-3}
	for _, x := range []struct {
		name   string
		change func(*trim.Log)
		engine trim.Engine
		says   string // of the error
		warns  string
	}{
		{"open loop throughout", func(l *trim.Log) { fill(l, trim.FuelSystem, 4) }, maf, "open loop throughout", ""},
		{"commanded rich throughout", func(l *trim.Log) { l.Value[trim.FuelSystem] = nil; fill(l, trim.Lambda, 0.86) }, maf, "open loop throughout", ""},
		{"engine off", func(l *trim.Log) { fill(l, trim.Speed, 0) }, maf, "does not run", ""},
		{"never warm", func(l *trim.Log) { fill(l, trim.Coolant, 320) }, maf, "never warm in this log (47 °C at most)", ""},
		{"cold mixture, no coolant", func(l *trim.Log) { l.Value[trim.Coolant] = nil; fill(l, trim.FuelSystem, 1) }, maf, "not warm anywhere", ""},
		{"never steady", func(l *trim.Log) {
			for i := range l.Time {
				l.Value[trim.Speed][i] = 1500 + 700*math.Sin(float64(i))
			}
		}, maf, "never runs steadily", ""},
		{"trims and speed not together", func(l *trim.Log) { fill(l, trim.Short1, math.NaN()) }, maf, "hardly read together", ""},
		{"no trims", func(l *trim.Log) { l.Value[trim.Short1], l.Value[trim.Long1] = nil, nil }, maf, "no fuel trims", ""},
		{"no engine speed", func(l *trim.Log) { l.Value[trim.Speed] = nil }, maf, "no engine speed", ""},
		{"time runs back", func(l *trim.Log) { l.Time[50] = 3 }, maf, "does not rise at row 51", ""},
		{"half a column", func(l *trim.Log) { l.Value[trim.Speed] = l.Value[trim.Speed][:5] }, maf, "5 readings", ""},
		{"one row", func(l *trim.Log) { *l = trim.Log{Time: []float64{0}} }, maf, "at least two", ""},
		{"nobody says how it is metered", func(l *trim.Log) { l.Value[trim.MeteredAir], l.Value[trim.ManifoldPressure] = nil, nil }, trim.Engine{}, "say how the engine is metered", ""},

		{"by pressure, as the channels say", func(l *trim.Log) { l.Value[trim.MeteredAir] = nil }, trim.Engine{}, "", "taken as one without an air meter"},
		{"idle only", func(l *trim.Log) {
			for c, v := range l.Value {
				if v != nil {
					l.Value[c] = v[:40]
				}
			}
			l.Time = l.Time[:40]
		}, maf, "", "holds idle only"},
		{"no pressure", func(l *trim.Log) { l.Value[trim.ManifoldPressure] = nil }, maf, "", "inferred from load"},
		{"no state of the fuel system", func(l *trim.Log) { l.Value[trim.FuelSystem] = nil }, maf, "", "taken for granted"},
		{"short trim alone", func(l *trim.Log) { l.Value[trim.Long1] = nil }, maf, "", "what the control unit has learned is missing"},
		{"long trim alone", func(l *trim.Log) { l.Value[trim.Short1] = nil }, maf, "", "long trim alone"},
		{"another car's log", func(l *trim.Log) {
			for i := range l.Value[trim.MeteredAir] {
				l.Value[trim.MeteredAir][i] *= 3
			}
		}, maf, "", "another car"},
		{"banks apart", func(l *trim.Log) { fill(l, trim.Short2, 0); fill(l, trim.Long2, -0.02) }, maf, "", "banks differ by 18 %"},
		{"neither flow nor size", func(l *trim.Log) { l.Value[trim.MeteredAir] = nil }, trim.Engine{Metering: trim.AirMeter}, "", "calculated for 1.8 L"},
	} {
		t.Run(x.name, func(t *testing.T) {
			l := steady(40)
			x.change(l)
			r, err := trim.Judge(l, x.engine)
			switch {
			case x.says != "" && (err == nil || !strings.Contains(err.Error(), x.says)):
				t.Errorf("error %v", err)
			case x.says == "" && err != nil:
				t.Errorf("refused: %v", err)
			case x.warns != "" && !slices.ContainsFunc(r.Warnings, func(s string) bool { return strings.Contains(s, x.warns) }):
				t.Errorf("warnings %q", r.Warnings)
			}
		})
	}
}

// TestAtStop looks whether a trim at its stop is taken as a bound.
func TestAtStop(t *testing.T) {
	l := steady(40)
	for i := range 40 {
		l.Value[trim.Short1][i], l.Value[trim.Long1][i] = 0.25, 0.25
	}
	r, err := trim.Judge(l, trim.Engine{Metering: trim.AirMeter, Displacement: 1.8e-3})
	if err != nil {
		t.Fatal(err)
	}
	if !slices.Equal(r.AtStop, []int{1}) {
		t.Errorf("at the stop: %v", r.AtStop)
	}
	c := r.Causes[0]
	if _, _, bound := r.Points.Points[0].Mean(); bound != 1 || c.Keys[0] != trim.ManifoldLeak {
		t.Fatalf("bound %d, first %s", bound, c.Key())
	}
	// The trims end at 56 %; the hole may be any that lets in more than that.
	if free := c.High / c.Low; free < 1.3 {
		t.Errorf("a bound gives %.1f to %.1f mm", c.Low, c.High)
	}
}

// TestSpeedDensity looks whether an engine without an air meter keeps its trims silent.
func TestSpeedDensity(t *testing.T) {
	l := steady(40)
	for i := range l.Time {
		l.Value[trim.Long1][i] = 0.01
		if l.Value[trim.Speed][i] < 800 {
			l.Value[trim.Speed][i], l.Value[trim.ManifoldPressure][i] = 1250, 42e3
		}
	}
	l.Value[trim.MeteredAir] = nil
	r, err := trim.Judge(l, trim.Engine{Metering: trim.SpeedDensity, Displacement: 1.8e-3})
	if err != nil {
		t.Fatal(err)
	}
	if r.Causes[0].Keys[0] != trim.ManifoldLeak {
		t.Errorf("an idle of 1250 without cause in the trims is put down to %s, %.2f", r.Causes[0].Key(), r.Causes[0].Probability)
	}
	if !slices.ContainsFunc(r.Warnings, func(s string) bool { return strings.Contains(s, "the trims hardly move") }) {
		t.Errorf("nobody says why trims are silent: %q", r.Warnings)
	}
	if !slices.ContainsFunc(r.NotSeen, func(u trim.Unseen) bool { return u.Key == trim.InletLeak }) {
		t.Errorf("a leak before the throttle cannot show: %v", r.NotSeen)
	}
}

// TestOddsAddUp looks at what every result has to hold.
func TestOddsAddUp(t *testing.T) {
	for seed := range uint64(10) {
		e := draw(900+seed, allCauses[seed%10])
		r, err := trim.Judge(e.log(), e.engine())
		if err != nil {
			t.Fatal(err)
		}
		sum, last := 0.0, 1.0
		for _, c := range r.Causes {
			sum += c.Probability
			if c.Probability > last {
				t.Errorf("seed %d: %s comes after a less likely one", seed, c.Key())
			}
			last = c.Probability
			if c.Value == c.Value && !(c.Low <= c.Value && c.Value <= c.High) {
				t.Errorf("seed %d: %s %.3g is not within %.3g to %.3g", seed, c.Key(), c.Value, c.Low, c.High)
			}
		}
		if math.Abs(sum-1) > 1e-9 {
			t.Errorf("seed %d: probabilities sum to %.12f", seed, sum)
		}
		for _, a := range r.Ambiguous {
			if len(a.Keys) < 2 || a.WouldTell == "" {
				t.Errorf("seed %d: %v would be told by %q", seed, a.Keys, a.WouldTell)
			}
		}
	}
}
