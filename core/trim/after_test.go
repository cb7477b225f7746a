package trim_test

import (
	"math"
	"slices"
	"strings"
	"testing"

	"wexter/core/trim"
)

// repaired drives an engine, has its fault become a part of what it was, and drives it again
// with what the control unit has learned.
func repaired(t *testing.T, seed uint64, cause trim.Key, left float64) (before, after *trim.Result) {
	t.Helper()
	e := draw(seed, cause)
	e.stop, e.wander = 0.35, 0.003
	find := func() *trim.Result {
		r, err := trim.Judge(e.log(), e.engine())
		if err != nil {
			t.Fatal(err)
		}
		return &r
	}
	before = find()
	if e.what *= left; left == 0 {
		e.cause = trim.Nothing
	}
	return before, find()
}

// TestCompareRepair drives engines before and after a repair that worked, that changed nothing
// and that mended a half.
func TestCompareRepair(t *testing.T) {
	for _, x := range []struct {
		name  string
		left  float64
		want  trim.Answer
		least float64 // share of the drives that have to come out so
		never trim.Answer
	}{
		{"mended", 0, trim.Yes, 0.9, trim.No},
		{"nothing changed", 1, trim.No, 0.9, trim.Yes},
		{"half", 0.5, trim.CannotTell, 0.6, trim.Yes},
	} {
		t.Run(x.name, func(t *testing.T) {
			told, of, never := 0.0, 0.0, 0
			for seed := range uint64(40) {
				cause := []trim.Key{trim.ManifoldLeak, trim.InletLeak, trim.FuelDelivery, trim.RichIdle}[seed%4]
				before, after := repaired(t, seed+500, cause, x.left)
				c := trim.CompareRepair(before, after)
				if c.Left != c.Left {
					continue // never far off
				}
				of++
				if c.Worked == x.want {
					told++
				}
				if c.Worked == x.never {
					never++
					t.Logf("seed %d, %s: %s", seed, cause, c.Text)
				}
				if c.Worked != x.want {
					t.Logf("seed %d, %s: %s", seed, cause, c.Text)
				}
				if c.Worked == x.want && c.Text == "" {
					t.Errorf("seed %d: nothing is said", seed)
				}
			}
			if of < 20 || told/of < x.least {
				t.Errorf("%v of %v drives come out as they should", told, of)
			}
			if float64(never) > 0.03*of {
				t.Errorf("%d of %v drives come out the wrong way round", never, of)
			}
		})
	}
}

// point is a point of a log, for tests that need few of them.
func point(r trim.Region, air, short, long float64) trim.Point {
	nan := math.NaN()
	p := trim.Point{Region: r, Seconds: 30, Visits: 1, Speed: 750, Air: air, Pressure: 35e3, Charge: nan, Load: nan, Intake: 300, Barometer: 101e3, Purge: 0, EGR: nan}
	if r != trim.Idle {
		p.Speed, p.Pressure = 2500, 40e3
	}
	p.Banks = []trim.Bank{{Total: (1+short)*(1+long) - 1, SD: 0.004, Short: short, Long: long}}
	return p
}

func points(list ...trim.Point) *trim.Result {
	r := trim.JudgePoints(trim.Points{Points: list, Stop: 0.24}, trim.Engine{Metering: trim.AirMeter, Displacement: 1.8e-3})
	return &r
}

func TestRelearning(t *testing.T) {
	before := points(point(trim.Idle, 2.5e-3, 0.01, 0.22), point(trim.Fast, 10e-3, 0, 0.08))
	for _, x := range []struct {
		name       string
		after      *trim.Result
		worked     trim.Answer
		relearning bool
		says       string
	}{
		{"the short trim takes back what was learned", points(point(trim.Idle, 2.5e-3, -0.17, 0.22), point(trim.Fast, 10e-3, -0.07, 0.08)), trim.Yes, true, "this is the repair working"},
		{"learned anew", points(point(trim.Idle, 2.5e-3, 0.01, 0), point(trim.Fast, 10e-3, 0, 0.01)), trim.Yes, false, "is gone"},
		{"nothing changed", points(point(trim.Idle, 2.5e-3, 0.02, 0.21), point(trim.Fast, 10e-3, 0, 0.08)), trim.No, false, "still there"},
		{"half", points(point(trim.Idle, 2.5e-3, 0, 0.11), point(trim.Fast, 10e-3, 0, 0.04)), trim.CannotTell, false, "part of it"},
		{"the other way", points(point(trim.Idle, 2.5e-3, -0.2, 0), point(trim.Fast, 10e-3, -0.15, 0)), trim.CannotTell, false, "points to something else"},
		{"no point in common", points(point(trim.Loaded, 40e-3, 0, 0)), trim.CannotTell, false, "no point in common"},
	} {
		t.Run(x.name, func(t *testing.T) {
			c := trim.CompareRepair(before, x.after)
			if c.Worked != x.worked || c.Relearning != x.relearning || !strings.Contains(c.Text, x.says) {
				t.Errorf("worked %v, relearning %v: %s", c.Worked, c.Relearning, c.Text)
			}
			if c.Relearning != (c.Drive[1] > 0) {
				t.Errorf("relearning %v, to drive %v m", c.Relearning, c.Drive)
			}
		})
	}
}

func TestRepairOfAnIdleWithoutMeter(t *testing.T) {
	fast, calm := point(trim.Idle, math.NaN(), 0, 0.01), point(trim.Idle, math.NaN(), 0, 0)
	fast.Speed = 1150
	c := trim.CompareRepair(points(fast), points(calm))
	if c.Worked != trim.Yes || !strings.Contains(c.Text, "1150 to 750") {
		t.Errorf("%v: %s", c.Worked, c.Text)
	}
	// A trim that stands at its stop before and after is no repair.
	stuck := point(trim.Idle, 2.5e-3, 0.25, 0.25)
	stuck.Banks[0].Stop, stuck.Banks[0].Bound = 1, true
	if c := trim.CompareRepair(points(stuck), points(stuck)); c.Worked != trim.No || !strings.Contains(c.Text, "still there") {
		t.Errorf("%v: %s", c.Worked, c.Text)
	}
}

// TestPredict looks whether what a cause predicts meets what was drawn, and whether its curve
// keeps within its band.
func TestPredict(t *testing.T) {
	e := draw(21, trim.ManifoldLeak)
	r, err := trim.Judge(e.log(), e.engine())
	if err != nil {
		t.Fatal(err)
	}
	c := r.Causes[0]
	for i, y := range r.Predict(c) {
		total, _, stop := r.Points.Points[i].Mean()
		if stop == 0 && math.Abs(y-total) > 0.03 {
			t.Errorf("point %d reads %.3f, predicted %.3f", i, total, y)
		}
	}
	curve := r.Curve(c, 30)
	for _, x := range curve {
		if !(x.Low <= x.Trim && x.Trim <= x.High) {
			t.Errorf("at %.4f kg/s: %.3f is not within %.3f to %.3f", x.Air, x.Trim, x.Low, x.High)
		}
	}
	if first, last := curve[0], curve[len(curve)-1]; first.Trim < last.Trim+0.02 {
		t.Errorf("air behind the throttle goes from %.3f to %.3f with the flow", first.Trim, last.Trim)
	}
	if i := slices.IndexFunc(r.Causes, func(c trim.Cause) bool { return c.Keys[0] == trim.Nothing }); i < 0 || r.Curve(r.Causes[i], 5)[0].Trim > 0.06 {
		t.Errorf("nothing wrong predicts no small trim")
	}
}
