package decay

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"gonum.org/v1/gonum/optimize"
)

// tenThousand is a hold of 10 000 readings at 20 Hz made with the model itself.
func tenThousand() (legs []Leg, s Setup) {
	rng := rand.New(rand.NewPCG(1, 2))
	s = Setup{Volume: 0.040, VolumeTolerance: 0.05}
	d := s.withDefaults()
	fl := newFlow(d.Cd, d.Barometer, d.Temperature, 3300)
	mk := func(kind Kind, n int, par local) Leg {
		r := &run{stride: fineStride, spread: make([]float64, n)}
		for i := range n {
			r.t = append(r.t, float64(i)/20)
		}
		p := make([]float64, n)
		r.integrate(fl, par, 345, p, nil)
		for i := range p {
			p[i] += 4 * rng.NormFloat64()
		}
		return Leg{Kind: kind, Time: r.t, Gauge: p}
	}
	kappa := math.Pi / 4 * 0.4e-3 * 0.4e-3 / 0.040
	hold := mk(Hold, 10000, local{inKappa: kappa, inDrift: 0.3, inTau: math.Log(12), inStart: 3238, inHeat: 300})
	return []Leg{hold}, s
}

// BenchmarkFit10k cuts, averages and fits 10 000 readings; BenchmarkJudge10k adds
// the profile interval, the budget and the advice.
func BenchmarkFit10k(b *testing.B) {
	legs, s := tenThousand()
	d := s.withDefaults()
	for b.Loop() {
		r := prepare(legs[0], 0)
		newProblem([]*run{&r}, newFlow(d.Cd, d.Barometer, d.Temperature, 3300), d.Barometer/d.Temperature, false).fit()
	}
}

func BenchmarkJudge10k(b *testing.B) {
	legs, s := tenThousand()
	for b.Loop() {
		if _, err := Judge(legs, s); err != nil {
			b.Fatal(err)
		}
	}
}

// BenchmarkFitAgainstNelderMead fits the same averaged trace by this package's
// Levenberg–Marquardt and by gonum's Nelder–Mead on the same objective from the
// same start, in one run, and reports how many times faster the first is, with
// both optima compared.
func BenchmarkFitAgainstNelderMead(b *testing.B) {
	legs, s := tenThousand()
	d := s.withDefaults()
	r := prepare(legs[0], 0)
	p := newProblem([]*run{&r}, newFlow(d.Cd, d.Barometer, d.Temperature, 3300), d.Barometer/d.Temperature, false)
	p.setNoise(noise{sigma: r.noise / math.Sqrt(r.count)})
	start := p.guess()
	var lm, nm time.Duration
	var costLM, costNM float64
	for b.Loop() {
		t := time.Now()
		x := append([]float64(nil), start...)
		costLM = p.minimise(x, -1, 60, 1e-5)
		lm += time.Since(t)
		t = time.Now()
		// Nelder–Mead works on the same unknowns in units of their own scale.
		scale := []float64{1e-6, 1, 0.3, 3, 100, 100}[:len(start)]
		objective := func(u []float64) float64 {
			y := make([]float64, len(u))
			for i := range u {
				y[i] = start[i] + u[i]*scale[i]
			}
			p.clampTo(y)
			return p.cost(y, false)
		}
		u := make([]float64, len(start))
		costNM = math.Inf(1)
		for range 6 { // restarted until it no longer gains, as it must be to reach the optimum
			res, err := optimize.Minimize(optimize.Problem{Func: objective}, u, &optimize.Settings{MajorIterations: 3000,
				Converger: &optimize.FunctionConverge{Absolute: 1e-6, Iterations: 60}}, &optimize.NelderMead{})
			if err != nil && res == nil {
				b.Fatal(err)
			}
			gain := costNM - res.F
			u, costNM = res.X, math.Min(costNM, res.F)
			if gain < 1e-4 {
				break
			}
		}
		nm += time.Since(t)
	}
	if costLM > costNM+0.01 {
		b.Fatalf("Nelder–Mead found a better optimum: %.4f against %.4f", costNM, costLM)
	}
	b.ReportMetric(nm.Seconds()/lm.Seconds(), "times-faster")
	b.ReportMetric(costNM-costLM, "cost-left-by-NM")
}

func BenchmarkPrepare10k(b *testing.B) {
	legs, _ := tenThousand()
	for b.Loop() {
		prepare(legs[0], 0)
	}
}
