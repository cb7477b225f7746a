package bench_test

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"wexter/core/bench"
	"wexter/core/record"
)

// vented runs a leg of the vent unit's test over a trace (s, inH2O) and what a meter shows.
func vented(t *testing.T, k bench.Known, leg record.RunKind, ts, ps, volts []float64) (bench.Watcher, bench.Told) {
	t.Helper()
	in := record.Channels{{Key: "pressure", Unit: "Pa", Resolution: 2.5}}
	if volts != nil {
		in = append(in, record.RunChannel{Key: "volts", Unit: "V"})
	}
	st, ok := bench.VentUnit.Stretch(k, leg)
	if !ok {
		t.Fatal(leg)
	}
	w := bench.VentUnit.Watch(k, st, in)
	for i := range ts {
		row := []float64{ps[i] * 249.089}
		if volts != nil {
			row = append(row, volts[i])
		}
		w.Take(ts[i], row)
	}
	return w, w.Told()
}

func negated(p []float64) []float64 {
	out := make([]float64, len(p))
	for i := range p {
		out[i] = -p[i]
	}
	return out
}

// Three ramps up and three down give all four of a unit's figures, and its verdict; the order of
// switch and vacuum relief decides.
func TestVentUnitFromItsRamps(t *testing.T) {
	r := rand.New(rand.NewPCG(18, 40))
	k := bench.Known{Works: canAll, In: map[record.RunKind]bool{}, Read: bench.Readings{}}
	up := newRampTruth(r, 0.55, 0.35)
	ts, ps, _, _ := up.ramp(3)
	w, told := vented(t, k, "phase-1", ts, ps, nil)
	if n := len(told.Readings["opens"].Numbers); n < 3 || len(told.Readings["reseals"].Numbers) < 3 || !strings.Contains(w.State().Now, "enough") {
		t.Fatalf("%+v, %q", told, w.State().Now)
	}
	for _, c := range []struct {
		name         string
		flips, vac   float64
		meter        bool
		outcome, say string
	}{
		{"sound", 1.1, 4.2, true, "good", "right order"},
		{"no meter on it: a hand marks the moment", 1.1, 4.2, false, "good", ""},
		{"switch dead", 0, 4.2, true, "dead", "before the vacuum relief"},
		{"relief before the switch", 2.4, 2.2, true, "early", "can never pass"},
	} {
		t.Run(c.name, func(t *testing.T) {
			x := newRampTruth(r, c.vac, c.vac*0.6)
			x.flips, x.back = c.flips, 0.5*c.flips
			ts, ps, volts, _ := x.ramp(3)
			if !c.meter {
				st, _ := bench.VentUnit.Stretch(k, "phase-2")
				w := bench.VentUnit.Watch(k, st, record.Channels{{Key: "pressure", Unit: "Pa"}})
				for i := range ts {
					w.Take(ts[i], []float64{-ps[i] * 249.089})
					if i > 0 && volts[i] < 6 && volts[i-1] > 6 {
						w.Mark(ts[i], "switch-changes")
					}
				}
				told = w.Told()
			} else {
				_, told = vented(t, k, "phase-2", ts, negated(ps), volts)
			}
			up := newRampTruth(r, 0.55, 0.35)
			ts, ps, _, _ = up.ramp(3)
			_, first := vented(t, k, "phase-1", ts, ps, nil)
			v := bench.VentUnit.Reduce(bench.Subject{}, first.Readings.With(told.Readings))
			if v.Outcome != c.outcome || !strings.Contains(v.Says, c.say) {
				t.Errorf("%+v of %+v", v, told)
			}
		})
	}
}

// What is read the wrong way round, too fast, in another unit, or only once is told.
func TestVentUnitTellsABadRamp(t *testing.T) {
	k := bench.Known{Works: canAll, In: map[record.RunKind]bool{}, Read: bench.Readings{}}
	r := rand.New(rand.NewPCG(18, 41))
	x := newRampTruth(r, 0.55, 0.35)
	ts, ps, _, _ := x.ramp(3)
	w, told := vented(t, k, "phase-1", ts, negated(ps), nil)
	if len(told.Readings) != 0 || !strings.Contains(told.Says, "press air in") || !strings.Contains(w.State().Now, "vacuum where pressure is meant") {
		t.Errorf("a vacuum for a pressure: %+v", told)
	}
	mercury := make([]float64, len(ps))
	for i := range ps {
		mercury[i] = ps[i] * 345 // read in mercury, sent as kPa
	}
	if _, told := vented(t, k, "phase-1", ts, mercury, nil); !strings.Contains(told.Says, "inches of water") {
		t.Errorf("mercury for water: %+v", told)
	}
	ts, ps, _, _ = x.ramp(1)
	if _, told := vented(t, k, "phase-1", ts, ps, nil); !strings.Contains(told.Says, "only") {
		t.Errorf("one repetition: %+v", told)
	}
	flat := make([]float64, 200)
	at := make([]float64, 200)
	for i := range flat {
		at[i] = float64(i) / 10
	}
	if _, told := vented(t, k, "phase-1", at, flat, nil); len(told.Readings) != 0 || told.Says == "" {
		t.Errorf("nothing pressed: %+v", told)
	}
	for i := range flat { // up and let go within a second, again and again
		flat[i] = math.Max(0, 1.5*math.Sin(float64(i)/4))
	}
	if w, _ := vented(t, k, "phase-1", at, flat, nil); !strings.Contains(w.State().Now, "Slower") {
		t.Errorf("too fast: %q", w.State().Now)
	}
}
