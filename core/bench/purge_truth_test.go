package bench_test

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"wexter/core/bench"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/ingest"
)

// purgeTruth is an independent truth of an engine at idle whose purge valve passes: a speed controller
// that holds the air into the engine, an air meter that misses what the valve lets in, a switching oxygen
// sensor that makes the short trim swing, a long trim that learns, a mixture that wanders by itself, and a
// control unit that is asked for one figure after another. It shares no code with the plant.
type purgeTruth struct {
	r           *rand.Rand
	engine      float64 // g/s into the engine
	passes      float64 // g/s of air, with vapour
	vapour      float64 // share of what passes that is fuel, by mass
	offset      float64 // trim that the engine has by itself
	drift       float64 // 1/s
	swing       float64 // of the short trim
	wander      float64
	learns      float64 // s
	every       float64 // s for a round of all live data
	late        float64 // s by which a hand taps after it has clamped
	now, lasts  float64
	slow, long  float64
	short, next float64
}

func newPurgeTruth(r *rand.Rand) *purgeTruth {
	return &purgeTruth{r: r, engine: 2 + 3*r.Float64(), offset: 0.08 * (2*r.Float64() - 1), drift: 0.0001 * (2*r.Float64() - 1), swing: 0.01 + 0.02*r.Float64(), wander: 0.002 + 0.004*r.Float64(),
		learns: 30 + 60*r.Float64(), every: 0.2 + 0.5*r.Float64(), late: 1.5*r.Float64() - 0.3}
}

// share is by how much the total trim differs with the hose free.
func (x *purgeTruth) share() float64 {
	air, fuel := x.passes*(1-x.vapour), x.passes*x.vapour
	metered := x.engine - x.passes // the controller closes the throttle by what passes
	return (metered+air)/metered - 14.7*fuel/metered - 1
}

// run lets the engine idle for some time with the hose free or clamped, and hands each row on.
func (x *purgeTruth) run(seconds float64, clamped bool, take func(t float64, row []float64)) {
	const h = 0.02
	for end := x.now + seconds; x.now < end; x.now += h {
		x.slow += -x.slow*h/40 + x.wander*math.Sqrt(2*h/40)*x.r.NormFloat64()
		metered, needs := x.engine, 1+x.offset+x.drift*x.now+x.slow
		if !clamped {
			metered -= x.passes
			needs *= 1 + x.share()
		}
		// The short trim is driven by a sensor that only says rich or lean.
		lean := needs > (1+x.long)*(1+x.short)
		step := x.swing / 1.2 * h * 2
		if miss := needs/((1+x.long)*(1+x.short)) - 1; math.Abs(miss) > 2*x.swing { // far off it steps faster
			step *= 6
		}
		if lean {
			x.short += step
		} else {
			x.short -= step
		}
		x.long += (x.short) * h / x.learns
		if x.now < x.next {
			continue
		}
		x.next = x.now + x.every*(0.9+0.2*x.r.Float64())
		coded := func(v float64) float64 { return math.Round(v*128) / 128 * 100 }
		take(x.now+0.01, []float64{coded(x.short), coded(x.long), math.Round(4*(750+8*x.r.NormFloat64())) / 4, math.Round(100*metered*(1+0.004*x.r.NormFloat64())) / 100, 34 + math.Round(x.r.NormFloat64()*0.3), 0, 88, 2, 101, 22})
	}
}

var purgeCols = record.Channels{{Key: "pid-06", Unit: "%"}, {Key: "pid-07", Unit: "%"}, {Key: "pid-0C", Unit: "rpm"}, {Key: "pid-10", Unit: "g/s"}, {Key: "pid-0B", Unit: "kPa"}, {Key: "pid-0D", Unit: "km/h"}, {Key: "pid-05", Unit: "°C"}, {Key: "pid-03", Unit: ""}, {Key: "pid-33", Unit: "kPa"}, {Key: "pid-0F", Unit: "°C"}}

// clamp watches a hose that is clamped and freed some times, as the bench asks for it.
func (x *purgeTruth) clamp(t *testing.T, times int) (bench.Watcher, bench.Told) {
	t.Helper()
	k := bench.Known{Works: canAll, In: map[record.RunKind]bool{}, Read: bench.Readings{}}
	st, ok := bench.PurgeRunning.Stretch(k, "phase-3")
	if !ok {
		t.Fatal("no such stretch")
	}
	w := bench.PurgeRunning.Watch(k, st, purgeCols)
	take := func(at float64, row []float64) { w.Take(at, row) }
	x.run(60, false, func(float64, []float64) {}) // it has run before
	x.now, x.next = 0, 0
	x.run(22, false, take)
	for i := range 2 * times {
		if x.late < 0 { // tapped before it is clamped
			w.Mark(x.now, bench.PowerTap)
			x.run(-x.late, i%2 == 1, take)
			x.run(21, i%2 == 0, take)
			continue
		}
		x.run(x.late, i%2 == 0, take)
		w.Mark(x.now, bench.PowerTap)
		x.run(21, i%2 == 0, take)
	}
	return w, w.Told()
}

// The share of the trims that a purge valve has is found within a tenth in nine of ten cars, and the
// interval holds it; what passes nothing is not said to pass.
func TestClampingFindsThePurgeShare(t *testing.T) {
	r := rand.New(rand.NewPCG(19, 10))
	n, near, holds, wrong, sound, hole := max(trials(), 300), 0, 0, 0, 0, 0
	for i := range n {
		x := newPurgeTruth(r)
		passes := i%4 > 0
		if passes {
			x.passes = x.engine * (0.05 + 0.2*r.Float64())
			if r.IntN(2) == 0 { // a loaded canister: rich, as far as trims reach
				x.vapour = (x.passes + (0.04+0.16*r.Float64())*(x.engine-x.passes)) / (15.7 * x.passes)
			}
		}
		truth := x.share()
		_, told := x.clamp(t, 3)
		v := bench.PurgeRunning.Reduce(bench.Subject{}, told.Readings)
		if len(v.Figures) == 0 {
			t.Fatalf("%+v: %+v of %+v", x, v, told)
		}
		f := v.Figures[0]
		in := f.Low <= 100*truth && 100*truth <= f.High
		if in {
			holds++
		}
		switch {
		case !passes:
			if sound++; v.Outcome == "pull" {
				wrong++
				t.Logf("nothing passes: %s", v.Says)
			}
			continue
		case v.Outcome != "pull" && v.Outcome != "":
			wrong++
		}
		if math.Abs(f.Value/100/truth-1) <= 0.1 {
			near++
		}
		if x.vapour == 0 {
			if g := v.Figures[1]; g.Low <= x.passes && x.passes <= g.High {
				hole++
			}
		}
	}
	t.Logf("%d cars: share within a tenth in %d of %d, interval holds it in %d of %d, %d wrong", n, near, n-sound, holds, n, wrong)
	if 100*near < 90*(n-sound) || 100*holds < 93*n || 100*wrong > n {
		t.Error("too few")
	}
}

// What can go wrong at the running engine is told: cold, open loop, off, clamped once, and the idle with
// the cap off by its speed.
func TestPurgeWatchTells(t *testing.T) {
	k := bench.Known{Works: canAll, In: map[record.RunKind]bool{}, Read: bench.Readings{}}
	st, _ := bench.PurgeRunning.Stretch(k, "phase-3")
	for _, c := range []struct {
		name string
		row  []float64
		says string
	}{
		{"cold", []float64{0, 0, 900, 3, 40, 0, 20, 2, 101, 20}, "Not warm"},
		{"open loop", []float64{0, 0, 750, 3, 34, 0, 88, 4, 101, 20}, "Open loop"},
		{"off", []float64{0, 0, 0, 0, 101, 0, 88, 1, 101, 20}, "does not run"},
	} {
		w := bench.PurgeRunning.Watch(k, st, purgeCols)
		for i := range 80 {
			w.Take(float64(i)/2, c.row)
		}
		w.Mark(40, bench.PowerTap)
		if told := w.Told(); !strings.Contains(told.Says, c.says) {
			t.Errorf("%s: %q", c.name, told.Says)
		}
	}
	x := newPurgeTruth(rand.New(rand.NewPCG(19, 11)))
	x.passes = 0.6
	w, told := x.clamp(t, 1)
	if !strings.Contains(told.Says, "only 1 of 3") || len(told.Readings["clamped"].Numbers) != 1 || !strings.Contains(w.State().Now, "2 of 3") {
		t.Errorf("once: %+v, %q", told, w.State().Now)
	}

	w = bench.PurgeRunning.Watch(k, st, purgeCols)
	for i := range 300 {
		row := []float64{25, 0, 750, 3, 34, 0, 88, 2, 101, 20}
		if (i/50)%2 == 1 {
			row[0] = 3
		}
		if i > 0 && i%50 == 0 {
			w.Mark(float64(i)/2, bench.PowerTap)
		}
		w.Take(float64(i)/2, row)
	}
	if v := bench.PurgeRunning.Reduce(bench.Subject{}, w.Told().Readings); v.Outcome != "pull" || !strings.Contains(v.Says, "leaves its stop, at least") {
		t.Errorf("at its stop: %+v", v)
	}

	st, _ = bench.PurgeRunning.Stretch(k, "phase-4")
	for _, c := range []struct {
		least float64
		want  string
	}{{520, "stumble"}, {720, "?pull"}} {
		w := bench.PurgeRunning.Watch(k, st, purgeCols)
		for i := range 80 {
			row := []float64{0, 0, 750, 3, 34, 0, 88, 2, 101, 20}
			if i == 20 {
				w.Mark(10, bench.PowerTap)
			}
			if i > 24 && i < 32 {
				row[2] = c.least
			}
			w.Take(float64(i)/2, row)
		}
		v := bench.PurgeRunning.Reduce(bench.Subject{}, w.Told().Readings)
		if got := map[bool]string{true: "?" + v.Ask, false: v.Outcome}[v.Ask != ""]; got != c.want {
			t.Errorf("down to %g rpm: %s (%s)", c.least, got, v.Says)
		}
	}
}

// Read three times each way by hand, the trims have an interval of their own; where the engine meters by
// pressure the gauge is asked for, and a hole follows only where the air is known.
func TestPurgeByHand(t *testing.T) {
	pair := bench.Readings{"free": bench.Num(12, 11, 12.5), "clamped": bench.Num(2, 2.5, 1.5), "air": bench.Num(3), "manifold": bench.Num(34)}
	v := bench.PurgeRunning.Reduce(bench.Subject{}, pair)
	if v.Outcome != "pull" || len(v.Figures) != 3 || v.Figures[0].Low < 5 || v.Figures[0].High > 14 {
		t.Fatalf("%+v", v)
	}
	// 0.29 g/s through a sharp orifice from 101.3 kPa, choked: 0.6847 of p·√(1/RT) by NACA Report 1135.
	area := v.Figures[1].Value / 1e3 / (0.61 * 0.6847 * 101325 / math.Sqrt(287.05*293.15))
	if want := 2e3 * math.Sqrt(area/math.Pi); math.Abs(v.Figures[2].Value-want) > 0.01*want {
		t.Errorf("a hole of %g mm, by the critical flow function %g", v.Figures[2].Value, want)
	}
	g, err := ingest.Book().Plumbing.Combine(plumbing.Combination{Engine: "na-map", Boost: "no-boost", Crankcase: "fixed-valve", Recirculation: "no-egr", Vapour: "engine-vacuum"})
	if err != nil {
		t.Fatal(err)
	}
	v = bench.PurgeRunning.Reduce(bench.Subject{Graph: g}, bench.Readings{"free": bench.Num(2, 3), "clamped": bench.Num(2, 2.5)})
	if v.Ask != "pull" || !strings.Contains(v.Says, "manifold pressure") {
		t.Errorf("metered by pressure: %+v", v)
	}
	for pull, want := range map[float64]string{-0.3: "none", -6: "?pull"} {
		v := bench.PurgeRunning.Reduce(bench.Subject{}, bench.Readings{"pull": bench.Num(pull)})
		if got := map[bool]string{true: "?" + v.Ask, false: v.Outcome}[v.Ask != ""]; got != want {
			t.Errorf("%g inH2O: %s (%s)", pull, got, v.Says)
		}
	}
	if v := bench.PurgeRunning.Reduce(bench.Subject{}, bench.Readings{"idle": bench.Num(700), "least": bench.Num(900)}); v.Ask != "least" {
		t.Errorf("faster with the cap off: %+v", v)
	}
}

// A valve that pulls the gauge beyond its range is said to pull at least what was read last.
func TestPullBeyondTheGauge(t *testing.T) {
	k := bench.Known{Works: canAll, In: map[record.RunKind]bool{}, Read: bench.Readings{}}
	st, _ := bench.PurgeRunning.Stretch(k, "phase-2")
	w := bench.PurgeRunning.Watch(k, st, record.Channels{{Key: "pressure", Unit: "Pa", Resolution: 5}})
	for i := range 100 {
		p := -60 * 249.089 * (1 - math.Exp(-float64(i)/20))
		if p < -24*249.089 {
			p = math.NaN()
		}
		w.Take(float64(i)/5, []float64{p})
	}
	told := w.Told()
	if v := bench.PurgeRunning.Reduce(bench.Subject{}, told.Readings); v.Outcome != "pull" || !strings.Contains(told.Says, "beyond its range") || told.Readings["pull"].Numbers[0] < 20 {
		t.Errorf("%+v of %+v", v, told)
	}
}
