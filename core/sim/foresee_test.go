package sim_test

import (
	"math"
	"slices"
	"testing"

	"wexter/core/bench"
	"wexter/core/sim"
	"wexter/ingest"
)

// What clamping the hose does to the trims is foreseen in the rhythm in which it is asked for: with a purge valve that
// leaks they move, with a sound one they stand.
func TestToggledCourseIsForeseen(t *testing.T) {
	b := ingest.Book()
	swing := func(fault string) float64 {
		c := wiredCar(t)
		if fault != "" {
			f, _ := b.Fault(fault)
			part, ok := f.Can(c.Graph, c.Combination)
			if !ok {
				t.Fatal(fault)
			}
			for _, d := range f.Defects(part, 0.6) {
				if err := c.Apply(d); err != nil {
					t.Fatal(err)
				}
			}
		}
		st, ok := bench.PurgeRunning.Stretch(bench.Known{Subject: bench.Subject{Graph: c.Graph}}, "phase-3")
		if !ok {
			t.Fatal("no such stretch")
		}
		f := sim.Forecast{Column: "pid-06", Every: 0.5}
		if err := sim.ForeseeToggled(c, b, "purge-running", st, &f); err != nil {
			t.Fatal(err)
		}
		last := st.Toggle.Asked[len(st.Toggle.Asked)-1]
		if n := len(f.Time); n < int(last) || math.Abs(f.Time[0]-0.5) > 0.6 || f.Time[n-1] < last || f.Time[n-1] > last+11 {
			t.Fatalf("%d points up to %g s", n, f.Time[n-1])
		}
		near := func(at float64) float64 {
			i := slices.IndexFunc(f.Time, func(x float64) bool { return x >= at })
			return f.Value[i]
		}
		return math.Abs(near(st.Toggle.Asked[0]+8) - near(st.Toggle.Asked[0]-1))
	}
	if s := swing(""); s > 1.5 {
		t.Errorf("a sound valve: its hose moves the trims by %.1f %%", s)
	}
	if s := swing("purge-valve"); s < 2 {
		t.Errorf("a valve that leaks: its hose moves the trims by %.1f %%", s)
	}
	if err := sim.ForeseeToggled(wiredCar(t), b, "purge-running", bench.Stretch{Name: "x"}, &sim.Forecast{Column: "pid-06", Every: 1}); err == nil {
		t.Error("a stretch that asks for nothing is foreseen")
	}
}
