package bench_test

import (
	"math"
	"slices"
	"strings"
	"testing"

	"wexter/core/bench"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/units"
	"wexter/ingest"
)

// cols are columns as instruments give them.
func cols(keyUnits ...string) (out record.Channels) {
	for i := 0; i < len(keyUnits); i += 2 {
		out = append(out, record.RunChannel{Key: keyUnits[i], Unit: keyUnits[i+1]})
	}
	return out
}

// canAll is a rig and a car that can be told everything.
func canAll(bench.Verb) bool { return true }

// graphOf is a car whose EVAP system is of an archetype.
func graphOf(t *testing.T, vapour string) *plumbing.Graph {
	t.Helper()
	g, err := ingest.Book().Plumbing.Combine(plumbing.Combination{Engine: "na-maf", Boost: "no-boost", Crankcase: "fixed-valve", Recirculation: "no-egr", Vapour: vapour})
	if err != nil {
		t.Fatal(err)
	}
	return g
}

// Every test of the Book can be read live on every car that it fits: each of its phases is a
// stretch with a key of its own, and none that charges, draws or energises begins by itself.
func TestEveryTestIsReadByItsPhases(t *testing.T) {
	b := ingest.Book()
	for _, key := range bench.Keys() {
		x, _ := bench.Of(key)
		for _, a := range b.Archetypes {
			g := graphOf(t, a.Key)
			k := bench.Known{MaxPa: a.MaxPa, MaxVac: a.MaxVacPa, Works: canAll, In: map[record.RunKind]bool{}, Site: bench.Site{Graph: g, Seal: a.Settings(), Entry: a.Entry, Part: "purge"}}
			seen := map[record.RunKind]bool{}
			for _, s := range x.Stretches(k) {
				if seen[s.Key] || !bench.IsStretch(s.Key) || s.Name == "" {
					t.Errorf("%s on %s: a stretch %q with the name %q", key, a.Key, s.Key, s.Name)
				}
				seen[s.Key] = true
				if s.Follows && slices.ContainsFunc(s.Do, bench.Step.Energises) {
					t.Errorf("%s: %q energises and begins by itself", key, s.Name)
				}
			}
			if x.Live.Stretches == nil && len(seen) < len(x.Phases) {
				t.Errorf("%s on %s: %d stretches of %d phases", key, a.Key, len(seen), len(x.Phases))
			}
		}
	}
	if bench.IsStretch("phase-0") || bench.IsStretch("phase-99") || bench.IsStretch("raft") || !bench.IsStretch("hold") {
		t.Error("what no test has counts as a stretch")
	}
}

// A draw-down is begun by a press; that the purge valve is shut again waits for nobody. Without
// an adapter that can command valves every step is a hand's.
func TestWhatShutsAgainFollows(t *testing.T) {
	a, _ := ingest.Book().Archetype("engine-vacuum")
	g := graphOf(t, a.Key)
	for _, c := range []struct {
		name    string
		works   func(bench.Verb) bool
		follows string
	}{{"commanded from here", canAll, "-+--+++-"}, {"by hand", nil, "-----+--"}} {
		t.Run(c.name, func(t *testing.T) {
			k := bench.Known{Works: c.works, In: map[record.RunKind]bool{}, Site: bench.Site{Graph: g, Seal: a.Settings(), Entry: a.Entry}}
			got := ""
			all := bench.DrawDown.Stretches(k)
			for _, s := range all {
				got += map[bool]string{true: "+", false: "-"}[s.Follows]
			}
			if got != c.follows || all[1].Energises() || !all[2].Energises() || !all[2].Rests || !all[3].Energises() || !all[6].Rests || len(all[5].Stand) == 0 {
				t.Errorf("%s, want %s; %+v", got, c.follows, all[5])
			}
			if hand := strings.HasPrefix(all[3].Before, "By hand"); hand == (c.works != nil) {
				t.Errorf("it says %q", all[3].Before)
			}
		})
	}
}

// What an instrument must give a test; what the verdict cannot do without comes first.
func TestWants(t *testing.T) {
	for _, c := range []struct {
		of   bench.Test
		want string
	}{
		{bench.PressureHold, "pressure[pressure] wall?[wall] barometer?[barometer]"},
		{bench.MakeUpFlow, "flow[flow] pressure[pressure] air?[air]"},
		{bench.DrawDown, "live-data[pid-32 pid-2F pid-33]"},
		{bench.Trims, "live-data[pid-06 pid-07 pid-10 pid-0B pid-08 pid-09 pid-0C pid-04 pid-11 pid-0D pid-05 pid-0F pid-03 pid-2E pid-2C pid-44 pid-33]"},
		{bench.EGRCommand, "live-data[pid-10] gas[gas]"},
		{bench.PumpByHand, "volts?[volts]"},
	} {
		t.Run(c.of.Key, func(t *testing.T) {
			var got []string
			for _, w := range c.of.Wants() {
				s := w.Key
				if w.Optional {
					s += "?"
				}
				got = append(got, s+"["+strings.Join(w.Keys, " ")+"]")
			}
			if strings.Join(got, " ") != c.want {
				t.Errorf("%v, want %s", got, c.want)
			}
		})
	}
}

// watch runs a stretch of a test over rows at ten a second.
func watch(t *testing.T, x bench.Test, key record.RunKind, in record.Channels, row func(at float64) []float64, seconds float64) (bench.Told, []bench.Heard) {
	t.Helper()
	k := bench.Known{Works: canAll, In: map[record.RunKind]bool{}}
	s, ok := x.Stretch(k, key)
	if !ok {
		t.Fatalf("%s has no %s", x.Key, key)
	}
	w := x.Watch(k, s, in)
	var heard []bench.Heard
	for i := 1; float64(i)/10 <= seconds; i++ {
		if h := w.Take(float64(i)/10, row(float64(i)/10)); h != (bench.Heard{}) {
			heard = append(heard, h)
			break
		}
	}
	return w.Told(), heard
}

// A phase's figures: the mean of its end in the channel's unit, that of a minute before, the
// lowest of all, and what ends it early. Units by their definitions: the inch of water of 4 °C,
// 249.082 Pa (NIST Special Publication 811, 2008, table of conversion factors, from memory), the
// litre a minute 1/60000 m³/s.
func TestPhaseFigures(t *testing.T) {
	nan := math.NaN()
	near := func(name string, r bench.Reading, want, band float64) {
		t.Helper()
		if len(r.Numbers) != 1 || !(math.Abs(r.Numbers[0]-want) <= band) {
			t.Errorf("%s reads %v, want %g", name, r.Numbers, want)
		}
	}
	t.Run("mean, unit, a minute before", func(t *testing.T) {
		told, _ := watch(t, bench.MakeUpFlow, "phase-1", cols("flow", units.Base(units.Flow), "pressure", "Pa"), func(at float64) []float64 {
			flow := 0.40 / 60000
			switch {
			case at < 160: // falling all the while, so that it does not end by itself
				flow = (1 - 0.45*at/160) / 60000
			case at < 200:
				flow = 0.55 / 60000
			}
			return []float64{flow + 1e-7*math.Sin(at), 2490.82}
		}, 240)
		near("flow", told.Readings["flow"], 0.40, 0.002)
		near("flow before", told.Readings["before"], 0.55, 0.03)
		near("pressure", told.Readings["pressure"], 10, 0.01)
	})
	t.Run("reached", func(t *testing.T) {
		told, heard := watch(t, bench.DrawDown, "phase-2", cols("pid-32", "Pa"), func(at float64) []float64 { return []float64{-249.08 * at} }, 60)
		if len(heard) != 1 || heard[0].Mark == "" || heard[0].Ends == "" || math.Abs(heard[0].At-8) > 0.21 || len(told.Readings) != 1 {
			t.Errorf("%+v, %v", heard, told.Readings)
		}
	})
	t.Run("a slow channel keeps its last figure until the next is overdue", func(t *testing.T) {
		for silent, want := range map[float64]int{0: 1, 100: 0} {
			told, _ := watch(t, bench.CrankcaseManometer, "phase-1", cols("pressure", "Pa"), func(at float64) []float64 {
				if at > 150 && silent > 0 || math.Mod(at+1e-9, 60) > 0.05 {
					return []float64{nan}
				}
				return []float64{-4000}
			}, 200+silent)
			if n := len(told.Readings["idle"].Numbers); n != want {
				t.Errorf("after %g s of silence: %v", silent, told.Readings)
			}
		}
	})
	t.Run("nothing was read", func(t *testing.T) {
		told, _ := watch(t, bench.CrankcaseManometer, "phase-1", cols("pressure", "Pa"), func(float64) []float64 { return []float64{nan} }, 30)
		if len(told.Readings) != 0 {
			t.Errorf("a figure of nothing: %v", told.Readings)
		}
	})
	t.Run("lowest", func(t *testing.T) {
		told, _ := watch(t, bench.SoakWatch, "phase-2", cols("pressure", "Pa"), func(at float64) []float64 { return []float64{-249.082 * 1.4 * math.Sin(at*math.Pi/1000)} }, 1000)
		near("lowest", told.Readings["lowest"], -1.4, 0.01)
	})
}

// A figure has the digits that its instrument's step gives a mean, and no more than four.
func TestFiguresAreRounded(t *testing.T) {
	for _, c := range []struct{ read, step, want float64 }{{-4281.3712, 0, -17.19}, {0.2541, 2.49, 0.001}, {1234.5678, 2.49, 4.956}, {1234.5678, 25, 4.96}} {
		told, _ := watch(t, bench.CrankcaseManometer, "phase-1", record.Channels{{Key: "pressure", Unit: "Pa", Resolution: c.step}}, func(float64) []float64 { return []float64{c.read} }, 30)
		if got, ok := told.Readings.Mean("idle"); !ok || math.Abs(got-c.want) > 1e-9 {
			t.Errorf("%g Pa in steps of %g are %g inH2O, want %g", c.read, c.step, got, c.want)
		}
	}
}

// Strokes that were felt are counted, and the last pause is theirs; a click is a yes.
func TestTallies(t *testing.T) {
	k := bench.Known{Works: canAll}
	s, _ := bench.PumpByHand.Stretch(k, "phase-1")
	w := bench.PumpByHand.Watch(k, s, nil)
	if got := w.Told().Readings; len(got) != 0 {
		t.Errorf("nothing was felt: %v", got)
	}
	for _, at := range []float64{1, 2, 3.5, 7.4} {
		w.Mark(at, "stroke")
	}
	got := w.Told().Readings
	if n, _ := got.Mean("strokes"); n != 4 {
		t.Errorf("%v strokes", n)
	}
	if p, _ := got.Mean("pause"); math.Abs(p-3.9) > 1e-9 {
		t.Errorf("a pause of %v", p)
	}
}

// Conversions are those of the units.
func TestConvert(t *testing.T) {
	for _, c := range []struct {
		from, to string
		v, want  float64
	}{{"K", "°C", 293.15, 20}, {"Pa", "inH2O", units.InH2O, 1}, {"V", "V", 12.6, 12.6}, {"%", "%", -3, -3}} {
		x, ok := bench.Convert(c.from, c.to)
		if got := x.Of(c.v); !ok || math.Abs(got-c.want) > 1e-9 {
			t.Errorf("%g %s are %g %s, want %g", c.v, c.from, got, c.to, c.want)
		}
	}
	if _, ok := bench.Convert("K", "inH2O"); ok {
		t.Error("kelvin are made inches of water")
	}
}

// A probe that is silent for a moment is where it was; for longer it is none.
func TestWall(t *testing.T) {
	nan := math.NaN()
	times := func(n int) (out []float64) {
		for i := range n {
			out = append(out, float64(i))
		}
		return out
	}
	gap := func(n int) []float64 {
		return slices.Concat([]float64{nan, 290, 291}, slices.Repeat([]float64{nan}, n), []float64{292})
	}
	if w, silent := bench.Wall(times(9), gap(5)); silent != 0 || w[0] != 290 || w[4] != 291 || w[8] != 292 {
		t.Errorf("%v, silent from %g s", w, silent)
	}
	if w, silent := bench.Wall(times(24), gap(20)); w != nil || silent != 2 {
		t.Errorf("%v, silent from %g s", w, silent)
	}
	if w, silent := bench.Wall(times(30), slices.Repeat([]float64{nan}, 30)); w != nil || silent != 0 {
		t.Errorf("%v of no probe, silent from %g s", w, silent)
	}
}
