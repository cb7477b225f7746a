package bench_test

import (
	"math"
	"strings"
	"testing"

	"wexter/core/bench"
	"wexter/core/record"
	"wexter/ingest"
)

// Two typed readings and the vapour space give a diameter. 13 inH2O fall to 6.5 in 62 s through
// 0.020 in out of 30 L (isothermal closed volume, incompressible orifice; value from memory of the
// trade's tables, and the closed form of √p).
func TestDrawDownFromTwoReadings(t *testing.T) {
	b := ingest.Book()
	g := graphOf(t, "engine-vacuum")
	lines := g.VapourSpace(1)
	// A tank that leaves 30 L at 40 % of fuel.
	tank := (0.030 - lines) / 0.6
	of30 := bench.Subject{Graph: g, Tank: tank, TankTolerance: 0.2}
	for _, c := range []struct {
		name string
		on   bench.Subject
		r    bench.Readings
		mm   float64
		wide float64 // high over low, at most
	}{
		{"0.020 in", of30, bench.Readings{"built": num(13), "left": num(6.5), "after": num(62), "level": num(40)}, 0.508, 2},
		{"0.040 in", of30, bench.Readings{"built": num(13), "left": num(6.5), "after": num(15.5), "level": num(40)}, 1.016, 2},
		{"nobody knows the level", of30, bench.Readings{"built": num(13), "left": num(6.5), "after": num(62)}, 0.471, 5},
		{"nobody knows the car", bench.Subject{}, bench.Readings{"built": num(13), "left": num(6.5), "after": num(62)}, 0, 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			e, _ := b.Test("draw-down")
			v, err := bench.Judge(e, c.on, c.r)
			if err != nil {
				t.Fatal(err)
			}
			f := v.Figures[0]
			if c.mm == 0 {
				if f.Unit == "mm" {
					t.Errorf("a diameter without a volume: %+v", f)
				}
				return
			}
			if f.Unit != "mm" || math.Abs(f.Value/c.mm-1) > 0.02 || f.Low >= f.Value || f.High <= f.Value || f.High/f.Low > c.wide {
				t.Errorf("%+v, %.3f mm expected", f, c.mm)
			}
		})
	}
}

// What cannot be, and what must not go on, on a draw-down.
func TestDrawDownRefuses(t *testing.T) {
	e, _ := ingest.Book().Test("draw-down")
	for _, c := range []struct {
		name string
		r    bench.Readings
		ask  string
		says string
	}{
		{"a pressure where a vacuum is meant", bench.Readings{"built": num(-6), "left": num(-5)}, "built", "sign"},
		{"read beyond the stop", bench.Readings{"built": num(18), "left": num(18)}, "", "does not shut"},
		{"drawn, and gone at once", bench.Readings{"built": num(0), "left": num(0), "drawn": num(7)}, "", "does not hold"},
		{"nothing drawn", bench.Readings{"built": num(0), "left": num(0), "drawn": num(0.2)}, "", "built up"},
	} {
		t.Run(c.name, func(t *testing.T) {
			v, err := bench.Judge(e, bench.Subject{}, c.r)
			if err != nil || v.Ask != c.ask || !strings.Contains(v.Says, c.says) {
				t.Errorf("%+v, %v", v, err)
			}
		})
	}
	t.Run("mercury for water", func(t *testing.T) { // 8 inHg typed as a unit come to 109 inH2O
		if _, err := bench.Judge(e, bench.Subject{}, bench.Readings{"built": num(109)}); err == nil || !strings.Contains(err.Error(), "Check the unit") {
			t.Error(err)
		}
	})
	t.Run("stops at 15 inH2O and lets everything go", func(t *testing.T) {
		for _, leg := range []record.RunKind{"drift", "phase-2", "phase-3", "phase-4"} {
			_, heard := watch(t, bench.DrawDown, leg, cols("pid-32", "Pa"), func(at float64) []float64 { return []float64{-1000 * at} }, 30)
			last := heard[len(heard)-1]
			if !last.Rest || last.Ends == "" || last.At > 3.8 || last.At < 3.7 {
				if leg != "phase-2" { // that one has reached its vacuum before
					t.Errorf("%s: %+v", leg, heard)
				}
			}
		}
	})
	t.Run("the wrong channel", func(t *testing.T) {
		told, heard := watch(t, bench.DrawDown, "phase-4", cols("pid-0B", "kPa"), func(at float64) []float64 { return []float64{35} }, 30)
		if len(told.Readings) != 0 || len(heard) != 0 {
			t.Errorf("%+v, %+v", told, heard)
		}
	})
}

// The car's own forced check beside the draw-down: by itself, in agreement, and against it.
func TestDrawDownWithTheCarsOwnCheck(t *testing.T) {
	drawn := bench.Readings{"built": bench.Num(8), "left": bench.Num(7.5)}
	for _, c := range []struct {
		name         string
		r            bench.Readings
		own          string
		outcome, say string
	}{
		{"by itself", bench.Readings{}, "failed", "falls", "own forced leak check failed"},
		{"agrees", drawn, "passed", "holds", "passed as well"},
		{"contradicts", drawn, "failed", bench.CannotTell, "contradict"},
		{"not run", drawn, "", "holds", "it holds"},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := c.r.With(nil)
			if c.own != "" {
				r["own"] = bench.Said(c.own)
			}
			if v := bench.DrawDown.Reduce(bench.Subject{}, r); v.Outcome != c.outcome || !strings.Contains(v.Says, c.say) {
				t.Errorf("%+v", v)
			}
		})
	}
	k := bench.Known{Works: canAll, In: map[record.RunKind]bool{}, Site: bench.Site{Graph: graphOf(t, "engine-vacuum")}}
	st, ok := bench.DrawDown.Stretch(k, "phase-6")
	if !ok || !st.Maybe || !st.Energises() || !st.Rests {
		t.Fatalf("%+v", st)
	}
	for move, say := range map[float64]string{0.01: "It moves", 0: "stands still"} {
		w := bench.DrawDown.Watch(k, st, record.Channels{{Key: "pid-32", Unit: "Pa"}})
		for i := range 100 {
			w.Take(float64(i), []float64{move * float64(i) * 249})
		}
		if told := w.Told(); !strings.Contains(told.Says, say) || !told.Readings.Has("own-change") {
			t.Errorf("%g: %+v", move, told)
		}
	}
}
