package decay_test

import (
	"math"
	"math/rand/v2"
	"os"
	"runtime"
	"slices"
	"sync"
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
	bound float64
	res   decay.Result
	err   error
}

// trial draws n cars and judges each with a drift leg and a hold.
func trial(n int, seed uint64, tolerance float64, change func(*truth, *rand.Rand)) []outcome {
	out := make([]outcome, n)
	var wg sync.WaitGroup
	ch := make(chan int)
	for range runtime.NumCPU() {
		wg.Go(func() {
			for i := range ch {
				rng := rand.New(rand.NewPCG(seed, uint64(i)))
				w := draw(rng)
				if change != nil {
					change(&w, rng)
				}
				declared := w.volume * math.Exp(-tolerance/2*rng.NormFloat64())
				o := outcome{w: w, limit: 0.508e-3}
				legs := []decay.Leg{w.drifting(60+60*rng.Float64()).leg(decay.Drift, rng), w.leg(decay.Hold, rng)}
				o.res, o.err = decay.Judge(legs, decay.Setup{Volume: declared, VolumeTolerance: tolerance, Barometer: w.barom, Temperature: w.kelvin, Limit: o.limit})
				out[i] = o
			}
		})
	}
	for i := range n {
		ch <- i
	}
	close(ch)
	wg.Wait()
	return out
}

func TestAccuracyWhereTheBoundAllows(t *testing.T) {
	out := trial(runs(80), 11, 0.002, nil)
	var errs []float64
	skipped, failed := 0, 0
	var mu sync.Mutex
	var wg sync.WaitGroup
	gate := make(chan struct{}, runtime.NumCPU())
	for _, o := range out {
		wg.Add(1)
		gate <- struct{}{}
		go func() {
			defer wg.Done()
			defer func() { <-gate }()
			b := o.w.bound()
			mu.Lock()
			defer mu.Unlock()
			switch {
			case b > 0.02:
				skipped++
			case o.err != nil:
				failed++
			default:
				e := math.Abs(o.res.D/o.w.d - 1)
				if testing.Verbose() && e > 0.1 {
					t.Logf("%.0f%% bound %.2f%% d %.2f V %.0f hold %.0f rate %.1f start %.0f drift %.1f tau %.0f wait %.0f noise %.1f/%.1f τ %.1f walk %.1f: %.3f [%.3f %.3f] tau %.0f settle %.0f", e*100, b*100, o.w.d*1e3, o.w.volume*1e3, o.w.hold, o.w.rate, o.w.start, o.w.drift, o.w.tau, o.w.wait, o.w.white, o.w.ou, o.w.ouTime, o.w.walk, o.res.D*1e3, o.res.Low*1e3, o.res.High*1e3, o.res.SettleTau, o.res.Settle)
				}
				errs = append(errs, e)
			}
		}()
	}
	wg.Wait()
	slices.Sort(errs)
	med, p90 := errs[len(errs)/2], errs[len(errs)*9/10]
	t.Logf("%d judged, %d outside the bound, %d refused: median error %.2f %%, 90 %% within %.2f %%", len(errs), skipped, failed, med*100, p90*100)
	if len(errs) < len(out)/4 {
		t.Errorf("only %d of %d cars are within the bound: the test says little", len(errs), len(out))
	}
	if failed > len(out)/20 {
		t.Errorf("%d of %d tests were refused though the bound allows an answer", failed, len(out))
	}
	if med > 0.02 || p90 > 0.10 {
		t.Errorf("median error %.2f %% (at most 2), 90 %% within %.2f %% (at most 10)", med*100, p90*100)
	}
}

func TestIntervalsContainTheTruth(t *testing.T) {
	n := runs(240)
	out := trial(n, 23, 0.2, nil)
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
	if share < 0.92 || share > 0.98 {
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
