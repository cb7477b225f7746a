package bench_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"testing"

	"wexter/core/bench"
	"wexter/core/record"
)

// drawnCar is an independent truth for the draw-down: a tank as one volume of gas with mass and
// inner energy, its own orifice (compressible, with a discharge coefficient that falls with the
// pressure), walls that take heat, fuel that gives off the more the deeper the vacuum is, a purge
// valve that takes a moment to shut, and a sensor with a zero of its own, noise that is partly
// correlated, and steps. It shares no code with the plant.
type drawnCar struct {
	r *rand.Rand

	hole, volume  float64 // m, m³
	barometer, t0 float64 // Pa, K
	vapour        float64 // Pa/s at zero gauge
	deeper        float64 // by how much more of it at 2 kPa, share
	walls         float64 // s, time constant
	draw          float64 // kg/s through the purge valve
	zero, noise   float64 // Pa
	every         float64 // s between readings
	level         float64 // share, as the sender shows it

	mass, temp, purge, red float64
}

const rAir, cv = 287.05, 717.6

func newDrawnCar(r *rand.Rand, tank, lines float64) *drawnCar {
	level := 0.15 + 0.65*r.Float64()
	x := &drawnCar{r: r, barometer: 83e3 + 20e3*r.Float64(), t0: 278 + 25*r.Float64(), level: level,
		hole: 1e-3 * 0.3 * math.Pow(6, r.Float64()), vapour: 1.2 * r.NormFloat64() * r.Float64(), deeper: 0.4 * r.Float64(), walls: 3 + 25*r.Float64(), zero: 30 * r.NormFloat64(),
		noise: 2 + 8*r.Float64(), every: 0.1 + 0.4*r.Float64()}
	// The tank as built, and what the sender says of its level, are both off by half of what they are
	// said to be known to.
	x.volume = tank*(1+0.10*r.NormFloat64())*(1-level+0.02*r.NormFloat64()) + lines
	x.draw = (8 * 249.089 / 287.05 / x.t0 * x.volume) / (2 + 30*r.Float64())
	x.temp = x.t0
	x.mass = x.barometer * x.volume / (rAir * x.temp)
	return x
}

func (x *drawnCar) gauge() float64 { return x.mass*rAir*x.temp/x.volume - x.barometer }

// leak is the flow into the tank, kg/s.
func (x *drawnCar) leak() float64 {
	p := x.gauge()
	hi, lo, sign := x.barometer, x.barometer+p, 1.0
	if p > 0 {
		hi, lo, sign = lo, hi, -1
	}
	q := lo / hi
	cd := 0.61 * (1 + 0.04*math.Exp(-math.Abs(p)/400))
	return sign * cd * math.Pi / 4 * x.hole * x.hole * hi * math.Sqrt(7/(rAir*x.t0)*(math.Pow(q, 2/1.4)-math.Pow(q, 2.4/1.4)))
}

// run lets seconds pass in steps of 10 ms; vent opens the tank to the air.
func (x *drawnCar) run(seconds float64, vent, purge bool) {
	for left := seconds; left > 1e-9; left -= 0.01 {
		h := math.Min(0.01, left)
		goal := 0.0
		if purge {
			goal = x.draw
		}
		x.purge += (goal - x.purge) * math.Min(h/0.15, 1)
		in := x.leak()
		if vent {
			in += -x.gauge() * x.mass / x.barometer * 3
		}
		p := x.gauge()
		breath := x.vapour * (1 + x.deeper*math.Max(-p, 0)/2000) * x.volume / (rAir * x.t0)
		dm := in + breath - x.purge
		dE := 1.4 * cv * (x.t0*(math.Max(in, 0)+breath) + x.temp*(math.Min(in, 0)-x.purge))
		dE += x.mass * cv * (x.t0 - x.temp) / x.walls
		e := x.mass*cv*x.temp + dE*h
		x.mass += dm * h
		x.temp = e / (x.mass * cv)
	}
}

// read is what the sensor shows, in steps of a quarter of a pascal.
func (x *drawnCar) read() float64 {
	x.red = 0.8*x.red + 0.6*x.r.NormFloat64()
	v := x.gauge() + x.zero + x.noise*(0.8*x.r.NormFloat64()+0.6*x.red)
	return math.Round(v*4) / 4
}

// drawnDown does a draw-down on a truth as the bench's stretches ask, and says how it came out.
func drawnDown(t *testing.T, x *drawnCar, s bench.Subject) bench.Verdict {
	t.Helper()
	cols := record.Channels{{Key: "pid-32", Unit: "Pa", Resolution: 0.25}, {Key: "pid-2F", Unit: "%"}, {Key: "pid-33", Unit: "kPa"}}
	k := bench.Known{Subject: s, Site: bench.Site{Graph: s.Graph}, Works: canAll, In: map[record.RunKind]bool{}, Read: bench.Readings{}, Past: map[record.RunKind]bench.Past{}}
	stands := map[record.RunKind][2]bool{"zero": {true, false}, "drift": {false, false}, "phase-2": {false, true}, "phase-3": {false, false}, "phase-4": {false, false}}
	for _, st := range bench.DrawDown.Stretches(k) {
		valves, ok := stands[st.Key]
		if !ok {
			continue
		}
		if st.Key == "phase-2" { // the vent was open in between
			x.run(10, true, false)
		}
		w := bench.DrawDown.Watch(k, st, cols)
		table := record.NewTable(len(cols))
		for at := x.every; at < st.For; at += x.every {
			x.run(x.every, valves[0], valves[1])
			row := []float64{x.read(), math.Round(x.level*255) / 2.55, math.Round(x.barometer / 1e3)}
			table.Add(at, row)
			if w.Take(at, row).Ends != "" {
				break
			}
		}
		told := w.Told()
		k.Read = k.Read.With(told.Readings)
		k.Past[st.Key], k.In[st.Key] = bench.Past{Cols: cols, Table: table}, true
	}
	return bench.DrawDown.Reduce(s, k.Read)
}

// trials is how many truths are drawn: 500 in the long form, which `make accuracy` runs.
func trials() int {
	if os.Getenv("WEXTER_LONG") != "" {
		return 500
	}
	return 100
}

// The diameter that a draw-down gives against tanks that obey other equations.
func TestDrawDownFindsTheDiameter(t *testing.T) {
	n := trials()
	g := graphOf(t, "engine-vacuum")
	r := rand.New(rand.NewPCG(18, 5))
	near, contain, sized, firm, wrong, far := 0, 0, 0, 0, 0, ""
	for range n {
		tank := 0.040 + 0.030*r.Float64()
		s := bench.Subject{Graph: g, Tank: tank, TankTolerance: 0.20}
		x := newDrawnCar(r, tank, g.VapourSpace(1))
		v := drawnDown(t, x, s)
		if v.Outcome == "no-build" || v.Outcome == "grows" {
			continue
		}
		if len(v.Figures) == 0 || v.Figures[0].Unit != "mm" {
			t.Fatalf("a hole of %.2f mm gives no diameter: %+v", x.hole*1e3, v)
		}
		f, truth := v.Figures[0], x.hole*1e3
		sized++
		if math.Abs(f.Value/truth-1) <= 0.15 {
			near++
		} else if len(far) < 1500 {
			far += fmt.Sprintf("\n%.2f mm reads %.2f (%.2f to %.2f), %.0f L, vapour %.1f Pa/s", truth, f.Value, f.Low, f.High, x.volume*1e3, x.vapour)
		}
		if f.Low <= truth && truth <= f.High {
			contain++
		}
		if v.Outcome == "holds" || v.Outcome == "falls" {
			firm++
			if (v.Outcome == "holds") != (truth < 0.508) {
				wrong++
			}
		}
	}
	t.Logf("%d of %d sized: %d within 15 %%, %d intervals contain it, %d firm, %d of them wrong%s", sized, n, near, contain, firm, wrong, far)
	if sized < n*7/10 || near*100 < sized*90 || contain*100 < sized*90 || wrong*100 > firm || firm < sized/2 {
		t.Errorf("%d of %d sized: %d within 15 %%, %d intervals contain it, %d firm, %d of them wrong%s", sized, n, near, contain, firm, wrong, far)
	}
}
