package decay_test

import (
	"errors"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"wexter/core/decay"
)

// Each of these traces is one that no sealed system with a leak shows. It is said, and
// there is no firm verdict, though most of them would pass for within the limit.
func TestTracesThatAreNoHolds(t *testing.T) {
	hold := func(g rig, change func(l *decay.Leg, shut float64)) []decay.Leg {
		rng := rand.New(rand.NewPCG(8, 1))
		l := g.leg(decay.Hold, 0, rng)
		if change != nil {
			change(&l, g.charged(0).t)
		}
		return []decay.Leg{g.leg(decay.Drift, -130, rng), l}
	}
	scale := func(f float64) func(*decay.Leg, float64) {
		return func(l *decay.Leg, _ float64) {
			for i := range l.Gauge {
				l.Gauge[i] *= f
			}
		}
	}
	fine := steady(0.3e-3)
	for _, c := range []struct {
		name   string
		g      rig
		change func(l *decay.Leg, shut float64)
		say    string
	}{
		{"clipped at the end of the range", fine, func(l *decay.Leg, _ float64) {
			for i := range l.Gauge {
				l.Gauge[i] = math.Min(l.Gauge[i], 10*inH2O)
			}
		}, "its range ends there"},
		{"rising", func() rig { g := fine; g.drift = 6; g.d = 0.1e-3; return g }(), nil, "away from zero"},
		{"the feed never shut", fine, func(l *decay.Leg, shut float64) {
			rng := rand.New(rand.NewPCG(1, 1))
			for i := range l.Gauge {
				if l.Time[i] > shut {
					l.Gauge[i] = 12*inH2O + 3*rng.NormFloat64()
				}
			}
		}, "Was the feed shut?"},
		{"the gauge stands still", fine, func(l *decay.Leg, shut float64) {
			for i := range l.Gauge {
				if l.Time[i] > shut {
					l.Gauge[i] = 2985
				}
			}
		}, "without any change"},
		{"noise out of proportion", func() rig { g := fine; g.white = 170; return g }(), nil, "out of proportion"},
		{"psi taken for inH2O", fine, scale(1 / 27.68), "27.7 times too small"},
		{"inH2O taken for psi", fine, scale(27.68), "Is the unit right?"},
		{"somebody leans on the tank", fine, func(l *decay.Leg, shut float64) {
			for i := range l.Gauge {
				u := (l.Time[i] - shut - 100) / 25
				l.Gauge[i] -= 350 * math.Exp(-u*u)
			}
		}, "does not describe this trace"},
	} {
		t.Run(c.name, func(t *testing.T) {
			r, err := decay.Judge(hold(c.g, c.change), decay.Setup{Volume: c.g.volume, VolumeTolerance: 0.05})
			if err != nil {
				t.Fatal(err)
			}
			if r.Verdict != decay.Undecided || !math.IsNaN(r.HoldMore) || !says(r.Warnings, c.say) {
				t.Errorf("%s (%.3f, %.3f to %.3f mm), %q; want no verdict and %q", r.Verdict, r.D*1e3, r.Low*1e3, r.High*1e3, r.Warnings, c.say)
			}
		})
	}
	r, err := decay.Judge(hold(fine, nil), decay.Setup{Volume: fine.volume, VolumeTolerance: 0.05})
	if err != nil || r.Verdict != decay.Within || r.Residual > 1.2*r.Noise {
		t.Errorf("the same hold with nothing wrong: %s, %q, %v, residual %.1f of %.1f Pa", r.Verdict, r.Warnings, err, r.Residual, r.Noise)
	}
}

// Pascals taken for inches of water are 249 times too large, inches for pascals too small.
func TestUnitsThatLeaveNoHold(t *testing.T) {
	for f, say := range map[float64]string{249.089: "absolute pressure", 1 / 249.089: "unit"} {
		g := steady(0.3e-3)
		l := g.leg(decay.Hold, 0, rand.New(rand.NewPCG(1, 5)))
		for i := range l.Gauge {
			l.Gauge[i] *= f
		}
		if r, err := decay.Judge([]decay.Leg{l}, decay.Setup{Volume: g.volume}); err == nil || !strings.Contains(err.Error(), say) {
			t.Errorf("%g times: %v, %v; want a sentence with %q", f, r.Verdict, err, say)
		}
	}
}

func TestReferenceRunThatFallsNoFaster(t *testing.T) {
	g := steady(0.6e-3)
	rng := rand.New(rand.NewPCG(2, 5))
	with := g
	with.ref = 0.508e-3
	drift, plain, more := g.leg(decay.Drift, 0, rng), g.leg(decay.Hold, 130, rng), with.leg(decay.Hold, 400, rng)
	blocked := g.leg(decay.Hold, 700, rng)
	for name, runs := range map[string][2]decay.Leg{"blocked": {plain, blocked}, "mixed up": {more, plain}} {
		runs[0].Reference, runs[1].Reference = 0, 0.508e-3
		legs := []decay.Leg{drift, runs[0], runs[1]}
		if _, err := decay.Judge(legs, decay.Setup{}); !errors.Is(err, decay.ErrSlowReference) {
			t.Errorf("%s, no volume: %v", name, err)
		}
		r, err := decay.Judge(legs, decay.Setup{Volume: g.volume, VolumeTolerance: 0.05})
		if err != nil || r.Verdict != decay.Undecided || !says(r.Warnings, "falls no faster") || math.IsInf(r.High, 0) || r.Volume > 0.05 {
			t.Errorf("%s: %s, %.3f to %.3f mm, %.1f L, %q, %v", name, r.Verdict, r.Low*1e3, r.High*1e3, r.Volume*1e3, r.Warnings, err)
		}
	}
}

// One reading that is no number is a gap.
func TestOneReadingThatIsNoNumber(t *testing.T) {
	g := steady(0.3e-3)
	rng := rand.New(rand.NewPCG(3, 5))
	legs := []decay.Leg{g.leg(decay.Drift, 0, rng), g.leg(decay.Hold, 130, rng)}
	clean, err := decay.Judge(legs, decay.Setup{Volume: g.volume})
	if err != nil {
		t.Fatal(err)
	}
	before := legs[1].Gauge[300]
	for _, bad := range []float64{math.NaN(), math.Inf(1), math.Inf(-1)} {
		legs[1].Gauge[300] = bad
		r, err := decay.Judge(legs, decay.Setup{Volume: g.volume})
		if err != nil || math.Abs(r.D/clean.D-1) > 0.01 || !says(r.Warnings, "left out, as a gap") {
			t.Errorf("%g: %.4f mm for %.4f, %q, %v", bad, r.D*1e3, clean.D*1e3, r.Warnings, err)
		}
	}
	legs[1].Gauge[300] = before
}
