package decay

import (
	"math"
	"testing"

	"wexter/core/gas"
)

// knots is a run with n knots over span seconds and a wall that warms and cools.
func knots(n int, span float64) *run {
	r := &run{leg: Leg{Kind: Hold}, stride: fineStride, peak: 3000, step: span / float64(n), count: 1}
	for i := range n {
		t := span * float64(i) / float64(n-1)
		r.t = append(r.t, t)
		r.wall = append(r.wall, 0.4*math.Sin(t/40))
		r.weight, r.spread, r.p = append(r.weight, 1), append(r.spread, 0), append(r.p, 0)
	}
	return r
}

func typical() local {
	return local{inKappa: gas.Area(0.5e-3) / 0.04, inDrift: 0.7, inTau: math.Log(11), inWall: 0.9, inStart: 3100, inHeat: 420, inZero: 4}
}

// The sensitivities that are integrated beside the state must be the slopes of
// what is integrated, at pressure and at vacuum, for slow and fast leaks.
func TestSensitivitiesAreTheSlopes(t *testing.T) {
	fl := newFlow(0.61, 101325, 293.15, 3300)
	r := knots(60, 180)
	for _, d := range []float64{0.2e-3, 0.5e-3, 1.4e-3} {
		for _, sign := range []float64{1, -1} {
			base := typical()
			base[inKappa] = gas.Area(d) / 0.04
			base[inStart] *= sign
			base[inHeat] *= sign
			model, sens := make([]float64, len(r.t)), make([]local, len(r.t))
			r.integrate(fl, base, 345, model, sens)
			up, down := make([]float64, len(r.t)), make([]float64, len(r.t))
			for j := range base {
				h := math.Max(1e-4*math.Abs(base[j]), 1e-6)
				if j == inKappa {
					h = 1e-4 * base[j]
				}
				x, y := base, base
				x[j] += h
				y[j] -= h
				r.integrate(fl, x, 345, up, nil)
				r.integrate(fl, y, 345, down, nil)
				for k := range r.t {
					slope := (up[k] - down[k]) / (2 * h)
					scale := 0.01 * maxAbs(sens, j)
					// The lagged second-order terms are left out of the sensitivities: a percent or two.
					if diff := math.Abs(slope - sens[k][j]); diff > 0.03*math.Abs(slope)+scale {
						t.Errorf("d %g, sign %g, parameter %d, knot %d: slope %.6g, sensitivity %.6g", d, sign, j, k, slope, sens[k][j])
						break
					}
				}
			}
		}
	}
}

func maxAbs(s []local, j int) float64 {
	m := 0.0
	for _, x := range s {
		m = math.Max(m, math.Abs(x[j]))
	}
	return m
}

func TestFlowTableIsTheOrifice(t *testing.T) {
	fl := newFlow(0.61, 101325, 293.15, 7000)
	for _, p := range []float64{-4900, -600, -25, 25, 600, 3238, 6900} {
		f, df := fl.at(p)
		want := gas.RAir * 293.15 * gas.Orifice(1, 0.61, 101325+p, 293.15, 101325)
		if math.Abs(f/want-1) > 5e-4 {
			t.Errorf("f(%g) = %.6g, want %.6g", p, f, want)
		}
		a, _ := fl.at(p + 0.01)
		b, _ := fl.at(p - 0.01)
		if slope := (a - b) / 0.02; math.Abs(df/slope-1) > 1e-3 {
			t.Errorf("f'(%g) = %.6g, want %.6g", p, df, slope)
		}
	}
	if f, df := fl.at(0); f != 0 || df <= 0 || math.IsInf(df, 0) {
		t.Errorf("at zero f = %g with slope %g", f, df)
	}
}

// Halving the steps must hardly change the trace; ten times the knots are fine steps.
func TestStepsAreSmallEnough(t *testing.T) {
	fl := newFlow(0.61, 101325, 293.15, 3300)
	coarse, fine := knots(41, 200), knots(401, 200)
	for i := range fine.wall {
		// The same wall, in straight pieces between the coarse knots.
		k := min(i/10, 39)
		u := float64(i-10*k) / 10
		fine.wall[i] = coarse.wall[k]*(1-u) + coarse.wall[k+1]*u
	}
	for _, d := range []float64{0.3e-3, 0.6e-3, 1.2e-3} {
		par := typical()
		par[inKappa] = gas.Area(d) / 0.04
		a, b := make([]float64, 41), make([]float64, 401)
		coarse.integrate(fl, par, 345, a, nil)
		fine.integrate(fl, par, 345, b, nil)
		for k := range a {
			if diff := math.Abs(a[k] - b[10*k]); diff > 6 {
				t.Errorf("d %g: at %.0f s the steps cost %.2f Pa", d, coarse.t[k], diff)
			}
		}
	}
}

func TestSmoothKeepsAWalkAndDropsNoise(t *testing.T) {
	var ts, xs, truth []float64
	seed := uint32(1)
	for i := range 200 {
		seed = seed*1664525 + 1013904223
		x := math.Sin(float64(i) / 40)
		ts, truth = append(ts, float64(i)), append(truth, x)
		xs = append(xs, x+0.2*(float64(seed)/math.MaxUint32-0.5))
	}
	var before, after float64
	for i, s := range smooth(ts, xs) {
		before += math.Pow(xs[i]-truth[i], 2)
		after += math.Pow(s-truth[i], 2)
	}
	if after > before/5 {
		t.Errorf("the noise falls from %.3f to %.3f only", math.Sqrt(before/200), math.Sqrt(after/200))
	}
}

func TestMedianOfFiveInAnyOrder(t *testing.T) {
	var permute func(x []float64, k int)
	permute = func(x []float64, k int) {
		if k == len(x) {
			if m := medianOfFive(x[0], x[1], x[2], x[3], x[4]); m != 3 {
				t.Errorf("the median of %v is %g, want 3", x, m)
			}
			return
		}
		for i := k; i < len(x); i++ {
			x[k], x[i] = x[i], x[k]
			permute(x, k+1)
			x[k], x[i] = x[i], x[k]
		}
	}
	permute([]float64{1, 2, 3, 4, 5}, 0)
}

// A step of the fit that goes astray costs more than any number, and breaks nothing.
func TestFlowOfNoNumberIsNone(t *testing.T) {
	fl := newFlow(0.61, 101325, 293.15, 3300)
	for _, p := range []float64{math.NaN(), math.Inf(1), math.Inf(-1), 1e300, -1e18} {
		if f, df := fl.at(p); !math.IsNaN(f) || !math.IsNaN(df) {
			t.Errorf("f(%g) = %g, slope %g", p, f, df)
		}
	}
	r := knots(20, 60)
	par := typical()
	par[inDrift], par[inHeat] = 1e9, -1e8
	model, sens := make([]float64, 20), make([]local, 20)
	r.integrate(fl, par, 345, model, sens)
	p := newProblem([]*run{r}, fl, 345, false)
	p.setNoise(noise{sigma: 1})
	x := p.guess()
	x[p.drift] = math.NaN()
	if c := p.cost(x, true); !math.IsNaN(c) {
		t.Errorf("a drift that is no number costs %g", c)
	}
}
