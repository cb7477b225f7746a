package decay_test

import (
	"math"
	"math/rand/v2"
	"os"
	"testing"

	"wexter/core/decay"
)

// runs says how many cars are drawn. What a change breaks of the fit or of its intervals
// shows on n; the figures in docs/physics.md come from the long form (make accuracy).
func runs(n int) int {
	if os.Getenv("WEXTER_LONG") != "" {
		return 2000
	}
	return n
}

type outcome struct {
	w     truth
	limit float64
	res   decay.Result
	err   error
}

// trial draws n cars and judges each with a drift leg and a hold.
func trial(n int, seed uint64, tolerance float64) []outcome {
	out := make([]outcome, n)
	each(n, func(i int) {
		rng := rand.New(rand.NewPCG(seed, uint64(i)))
		w := draw(rng)
		declared := w.volume * math.Exp(-tolerance/2*rng.NormFloat64())
		o := outcome{w: w, limit: 0.508e-3}
		legs := []decay.Leg{w.drifting(60+60*rng.Float64()).leg(decay.Drift, rng), w.leg(decay.Hold, rng)}
		o.res, o.err = decay.Judge(legs, decay.Setup{Volume: declared, VolumeTolerance: tolerance, Barometer: w.barom, Temperature: w.kelvin, Limit: o.limit})
		out[i] = o
	})
	return out
}

func TestIntervalsContainTheTruth(t *testing.T) {
	n := runs(120)
	out := trial(n, 23, 0.2)
	in, low, high, judged, wrong, firm := 0, 0, 0, 0, 0, 0
	for _, o := range out {
		if o.err != nil {
			continue
		}
		judged++
		switch {
		case o.res.Low > o.w.d:
			low++
		case o.res.High < o.w.d:
			high++
		default:
			in++
		}
		if math.Abs(o.w.d/o.limit-1) > 0.02 && o.res.Verdict != decay.Undecided {
			firm++
			if (o.res.Verdict == decay.Within) != (o.w.d < o.limit) {
				wrong++
			}
		}
	}
	share := float64(in) / float64(judged)
	t.Logf("%d of %d judged; %.1f %% contain d (%d too high, %d too low); %d firm, %d wrong", judged, n, share*100, low, high, firm, wrong)
	if judged < n*8/10 {
		t.Errorf("only %d of %d were judged", judged, n)
	}
	if share < 0.90 || share > 0.98 {
		t.Errorf("%.1f %% of the intervals contain d, want 92 to 98 %%", share*100)
	}
	if float64(wrong) > 0.02*float64(firm) {
		t.Errorf("%d of %d firm verdicts are wrong", wrong, firm)
	}
}

// The truth's own steps are short enough: four times as many change no pressure by more
// than a twentieth of what a good gauge resolves (0.01 inH2O, 2.5 Pa).
func TestTruthHasConverged(t *testing.T) {
	worst, compared := 0.0, 0
	for i := range 40 {
		w := draw(rand.New(rand.NewPCG(5, uint64(i))))
		w.hold = math.Min(w.hold, 120)
		w.wait = math.Min(w.wait, 3)
		at, p, from := w.simulate(decay.Hold)
		w.finer = 4
		finerAt, finer, finerFrom := w.simulate(decay.Hold)
		if math.Abs(finerFrom-from) > 1e-9 {
			continue // half was gone before the waiting was over: that is seen at a step's end
		}
		if n := min(len(p), len(finer)); n < 40 || math.Abs(at[n-1]-finerAt[n-1]) > 1e-9 {
			t.Fatalf("truth %d: %d readings to %g s, with finer steps %d to %g s", i, len(p), at[n-1], len(finer), finerAt[n-1])
		}
		compared++
		for k := range min(len(p), len(finer)) {
			worst = math.Max(worst, math.Abs(p[k]-finer[k]))
		}
	}
	t.Logf("%d truths, at most %.4f Pa apart", compared, worst)
	if worst > 0.1 || compared < 20 {
		t.Errorf("four times as many steps give pressures %.3f Pa apart", worst)
	}
}
