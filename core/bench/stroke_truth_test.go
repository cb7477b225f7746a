package bench_test

import (
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"wexter/core/bench"
	"wexter/core/record"
)

// strokeTruth is an independent truth of a diaphragm pump that fills a leaking volume: each stroke takes
// the longer the more pressure stands against its spring, its contact opens while the diaphragm is drawn
// back and bounces, and a hand presses a moment after it feels a stroke, now and then twice. It shares no
// code with the plant.
type strokeTruth struct {
	r                  *rand.Rand
	leak, gives        float64 // 1/s of the pressure, share of the spring's pressure a stroke
	base, back         float64 // s of a stroke against nothing, and in which it is drawn back
	dt, noise          float64 // of the meter
	highRests          bool    // which way the contact is
	jitter, late, twic float64 // of a hand
}

func newStrokeTruth(r *rand.Rand) *strokeTruth {
	return &strokeTruth{r: r, leak: math.Pow(10, -2.5+2*r.Float64()), gives: 0.03 + 0.05*r.Float64(), base: 0.5 + 0.4*r.Float64(), back: 0.2 + 0.15*r.Float64(),
		dt: []float64{0.05, 0.1}[r.IntN(2)], noise: 0.02 + 0.2*r.Float64(), highRests: r.IntN(2) == 0, jitter: 0.03 + 0.04*r.Float64(), late: 0.15 + 0.2*r.Float64(), twic: 0.03 * r.Float64()}
}

// run lets it pump for some time: when each stroke was, what the meter showed, and when a hand pressed.
func (x *strokeTruth) run(seconds float64) (strokes, t, v, taps []float64) {
	p, next := 0.0, 15+3*x.r.Float64()
	for next < seconds {
		strokes = append(strokes, next)
		p = math.Min(p+x.gives, 1)
		pause := x.base / math.Max(1.02-p, 0.02)
		p *= math.Exp(-x.leak * pause)
		next += pause
	}
	for now := 0.0; now < seconds; now += x.dt {
		drawn := false
		for _, s := range strokes {
			if since := now - s; since >= 0 && since < x.back {
				drawn = since > 0.02 || x.r.IntN(2) == 0 // it bounces as it opens
			}
		}
		volts := 0.3
		if drawn != x.highRests {
			volts = 12.2
		}
		t, v = append(t, now), append(v, volts+x.noise*x.r.NormFloat64())
	}
	for _, s := range strokes {
		at := s + x.late + x.jitter*x.r.NormFloat64()
		taps = append(taps, at)
		if x.r.Float64() < x.twic {
			taps = append(taps, at+0.05+0.1*x.r.Float64())
		}
	}
	slices.Sort(taps)
	return strokes, t, v, taps
}

// watchStrokes runs a stretch over what a meter showed, or over taps alone.
func watchStrokes(t *testing.T, leg record.RunKind, ts, v, taps []float64) (bench.Watcher, bench.Told) {
	t.Helper()
	k := bench.Known{Works: canAll, In: map[record.RunKind]bool{}, Read: bench.Readings{}}
	st, ok := bench.PumpByHand.Stretch(k, leg)
	if !ok {
		t.Fatal("no such stretch")
	}
	var cols record.Channels
	if v != nil {
		cols = record.Channels{{Key: "volts", Unit: "V"}}
	}
	w := bench.PumpByHand.Watch(k, st, cols)
	n := 0
	for i := range ts {
		for ; n < len(taps) && taps[n] <= ts[i]; n++ {
			w.Mark(taps[n], "stroke")
		}
		row := []float64{}
		if v != nil {
			row = append(row, v[i])
		}
		w.Take(ts[i], row)
	}
	return w, w.Told()
}

// Strokes are counted exactly, by the meter on the pump's switch and by hand, in 98 of 100 starts, and the
// verdict follows the last pause.
func TestStrokesFindEachStroke(t *testing.T) {
	r := rand.New(rand.NewPCG(19, 50))
	n := max(trials(), 300)
	for _, c := range []struct {
		name  string
		meter bool
	}{{"meter", true}, {"hand", false}} {
		t.Run(c.name, func(t *testing.T) {
			exact, wrong := 0, 0
			for range n {
				x := newStrokeTruth(r)
				strokes, ts, v, taps := x.run(120)
				if c.meter {
					taps = nil
				} else {
					v = nil
				}
				_, told := watchStrokes(t, "phase-1", ts, v, taps)
				got, _ := told.Readings.Mean("strokes")
				if int(got) == len(strokes) || !c.meter && len(taps) > 0 && taps[len(taps)-1] > ts[len(ts)-1] && int(got) == len(strokes)-1 { // felt just after the end
					exact++
				}
				last := strokes[len(strokes)-1] - strokes[len(strokes)-2]
				if silent := 120 - strokes[len(strokes)-1]; silent > 2*last {
					last = silent
				}
				want := map[bool]string{true: "slows", false: "fast"}[last > 3.6]
				if got := bench.PumpByHand.Reduce(bench.Subject{}, told.Readings).Outcome; got != want && got != bench.CannotTell && math.Abs(last-3.6) > 0.3 {
					wrong++
					t.Logf("last pause %.2f s: %s, want %s; %+v", last, got, want, told)
				}
			}
			t.Logf("%d starts: counted exactly in %d, %d wrong", n, exact, wrong)
			if 100*exact < 98*n || 100*wrong > n {
				t.Error("too few")
			}
		})
	}
}

// A meter too slow for the strokes, one that stands still, a start without strokes, strokes of one
// section, and codes that are still stored are told.
func TestStrokeWatchTells(t *testing.T) {
	x := newStrokeTruth(rand.New(rand.NewPCG(19, 51)))
	x.leak, x.base, x.dt, x.noise = 2, 0.5, 0.2, 0.02
	_, ts, v, taps := x.run(60)
	if w, told := watchStrokes(t, "phase-1", ts, v, nil); !strings.Contains(told.Says, "some are missed") || len(told.Readings) != 0 || !strings.Contains(w.State().Now, "space bar") {
		t.Errorf("a slow meter: %+v", told)
	}
	flat := make([]float64, len(ts))
	if _, told := watchStrokes(t, "phase-2", ts, flat, taps); told.Readings.Word("section") != "pump" || told.Readings["strokes"].Numbers[0] < 40 {
		t.Errorf("felt beside a meter that shows nothing: %+v", told)
	}
	x = newStrokeTruth(rand.New(rand.NewPCG(19, 52)))
	x.highRests = false
	strokes, ts2, v2, _ := x.run(60)
	for i := range v2 {
		if ts2[i] < 3 {
			v2[i] = 12.2
		}
	}
	if _, told := watchStrokes(t, "phase-1", ts2, v2, nil); int(told.Readings["strokes"].Numbers[0]) != len(strokes) {
		t.Errorf("the key counts as a stroke: %v of %d", told.Readings["strokes"].Numbers, len(strokes))
	}
	w, told := watchStrokes(t, "phase-1", ts, flat, nil)
	if v := bench.PumpByHand.Reduce(bench.Subject{}, told.Readings); v.Outcome != "silent" || !strings.Contains(w.State().Now, "Wait") {
		t.Errorf("no strokes: %+v, %q", v, w.State().Now)
	}
	slow := []float64{16, 17, 18.2, 19.8, 22.4, 27}
	at := make([]float64, 800)
	for i := range at {
		at[i] = float64(i) / 10
	}
	w, told = watchStrokes(t, "phase-3", at, nil, slow)
	verdict := bench.PumpByHand.Reduce(bench.Subject{}, told.Readings)
	if verdict.Outcome != "slows" || !strings.Contains(verdict.Says, "pump and canister") || told.Readings["hold"].Numbers[0] < 50 || !strings.Contains(w.State().Now, "it holds") {
		t.Errorf("%+v of %+v", verdict, told)
	}
	if v := bench.PumpByHand.Reduce(bench.Subject{}, bench.Readings{"strokes": bench.Num(9), "pause": bench.Num(1), "first": bench.Num(4)}); v.Outcome != bench.CannotTell {
		t.Errorf("pauses that shrink: %+v", v)
	}
	if v := bench.PumpByHand.Reduce(bench.Subject{}, bench.Readings{"strokes": bench.Num(1), "pause": bench.Num(1)}); v.Ask != "strokes" {
		t.Errorf("one stroke: %+v", v)
	}
	all := bench.PumpByHand.Stretches(bench.Known{Stored: []string{"P0442"}, In: map[record.RunKind]bool{}})
	if !strings.Contains(all[0].Before, "P0442") || !strings.Contains(all[1].Detail, "cold start of its own") || len(all[1].Stand) != 1 {
		t.Errorf("%+v", all)
	}
}

// The pauses of suspects lie behind the strokes, counted from the first one; without a stroke nobody knows where.
func TestStrokesSupposed(t *testing.T) {
	s := bench.StrokeScene{At: []float64{20, 21}, Until: 30, Slow: 3.6}
	made := bench.Course{Name: "nothing wrong", T: []float64{1, 2, 3, 4, 5, 60}, V: []float64{0, 2, 3, 3, 4, 4}} // at 1.5, 2, 3 and 5 s, then silent
	x, ok := s.With([]bench.Course{made}).(bench.StrokeScene)
	if !ok || len(x.Supposed) != 1 || s.Column() != bench.StrokesMade {
		t.Fatalf("%+v", x)
	}
	at, pause := x.Supposed[0].T, x.Supposed[0].V
	want := [][2]float64{{20, 0.5}, {20.5, 1}, {21.5, 2}, {23.5, 55}}
	for i, w := range want {
		if len(at) != len(want) || math.Abs(at[i]-w[0]) > 1e-9 || math.Abs(pause[i]-w[1]) > 1e-9 {
			t.Fatalf("%v with pauses %v, not %v", at, pause, want)
		}
	}
	if none := (bench.StrokeScene{}).With([]bench.Course{made}).(bench.StrokeScene); len(none.Supposed) != 0 {
		t.Errorf("before the first stroke: %+v", none.Supposed)
	}
}
