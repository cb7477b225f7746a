package report_test

import (
	"math"
	"strconv"
	"strings"
	"testing"

	"wexter/core/trim"
	"wexter/report"
)

// drivePoints are those of a hole behind the throttle, on two banks, with purge open at one.
func drivePoints() trim.Drive {
	d := trim.Drive{Engine: trim.Engine{Metering: trim.AirMeter, Displacement: 1.8e-3}}
	d.Points.Stop = 0.25
	for _, x := range []struct {
		r                     trim.Region
		speed, air, kPa, trim float64
	}{{trim.Idle, 750, 2e-3, 32, 0.22}, {trim.Fast, 2500, 8e-3, 33, 0.06}, {trim.Loaded, 2200, 25e-3, 75, 0.015}} {
		b := trim.Bank{Total: x.trim, SD: 0.004, Long: x.trim}
		d.Points.Points = append(d.Points.Points, trim.Point{Region: x.r, Seconds: 30, Visits: 1, Speed: x.speed, Air: x.air, Pressure: x.kPa * 1e3, Charge: math.NaN(), Load: math.NaN(), Intake: 300,
			Barometer: 101e3, Purge: map[trim.Region]float64{trim.Fast: 0.3}[x.r], EGR: math.NaN(), Banks: []trim.Bank{b, b}})
	}
	d.Points.Points[0].Banks[0].Bound, d.Points.Points[0].Banks[0].Stop = true, 1
	d.Points.Stretches = []trim.Stretch{{From: 0, To: 40, Point: 0}, {From: 50, To: 90, Point: 1}, {From: 95, To: 140, Point: 2}}
	d.Points.Cuts = []trim.Cut{{From: 40, To: 50, Why: trim.Unsteady}, {From: 90, To: 95, Why: trim.Overrun}}
	return d
}

func TestTrimPlot(t *testing.T) {
	r := drivePoints().Judge()
	svg := report.NewSVG(720, 400, "trims")
	p := report.TrimPlot{Result: &r, First: r.Causes[0], Others: r.Causes[1:2], Foretold: r.Curve(r.Causes[1], 10)}
	p.Draw(svg, 720, 400)
	s := svg.String()
	for what, n := range map[string]int{`class="p-point"`: 4, `class="p-purging"`: 2, `class="p-best"`: 1, `class="p-other"`: 1, `class="p-ghost"`: 1, `class="p-area"`: 1, "a trim stops at 25 %": 1, "square: bank 2": 1, "filled: purge open": 1, ">idle<": 1, ">2500<": 1, ">loaded<": 1} {
		if got := strings.Count(s, what); got != n {
			t.Errorf("%s stands %d times, want %d", what, got, n)
		}
	}
	if strings.Contains(s, "NaN") || strings.Contains(s, "Inf") {
		t.Error("something is drawn nowhere")
	}
	// A smaller trim lies lower: the circles fall from left to right.
	last := -1.0
	for _, c := range circles(t, s) {
		if c[1] <= last {
			t.Errorf("circles at %v", circles(t, s))
		}
		last = c[1]
	}
}

// circles are the centres of the circles of a drawing.
func circles(t *testing.T, s string) (out [][2]float64) {
	t.Helper()
	for _, x := range strings.Split(s, "<circle ")[1:] {
		var c [2]float64
		for i, k := range []string{`cx="`, `cy="`} {
			_, v, _ := strings.Cut(x, k)
			v, _, _ = strings.Cut(v, `"`)
			x, err := strconv.ParseFloat(v, 64)
			if err != nil {
				t.Fatal(err)
			}
			c[i] = x
		}
		out = append(out, c)
	}
	return out
}

func TestTrimStrip(t *testing.T) {
	d := drivePoints()
	var at, total []float64
	for i := range 140 {
		at, total = append(at, float64(i)), append(total, 10+float64(i%3))
	}
	total[70] = math.NaN()
	svg := report.NewSVG(720, 300, "strip")
	report.TrimStrip{Points: &d.Points, Time: at, Total: [][]float64{total}}.Draw(svg, 720, 300)
	s := svg.String()
	for what, n := range map[string]int{`class="p-cut"`: 2, `class="p-why"`: 2, `class="p-counts"`: 3, `class="p-measured"`: 2, ">not steady<": 1, ">fuel cut on the overrun<": 1, ">idle<": 1, ">load<": 1} {
		if got := strings.Count(s, what); got != n {
			t.Errorf("%s stands %d times, want %d", what, got, n)
		}
	}
	if strings.Contains(s, "NaN") {
		t.Error("something is drawn nowhere")
	}
	// Nothing read draws nothing, and breaks nothing.
	report.TrimStrip{Points: &d.Points}.Draw(report.NewSVG(10, 10, ""), 720, 300)
}
