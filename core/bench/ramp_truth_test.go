package bench_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"wexter/core/bench"
)

// rampTruth is an independent truth of a vent unit on the manometer: a small volume into which a hand
// presses air, or out of which it draws, as evenly as hands do; a relief that opens at one pressure
// and shuts at a lower one, and passes little more or much more than the hand gives; a contact with
// a hysteresis; a manometer that lags and has noise and steps. It shares no code with the plant.
type rampTruth struct {
	r                    *rand.Rand
	crack, reseal        float64 // inH2O
	opens                float64 // how fast an open relief lets it fall at the crack pressure, inH2O/s
	rate                 float64 // of the hand, inH2O/s
	leak                 float64 // 1/s
	lag, noise, step, dt float64
	flips, back          float64 // of the contact, inH2O; 0: it has none
}

func newRampTruth(r *rand.Rand, crack, reseal float64) *rampTruth {
	x := &rampTruth{r: r, crack: crack, reseal: reseal, rate: crack / (8 + 12*r.Float64()), leak: 0.004 * r.Float64(),
		lag: 0.05 + 0.15*r.Float64(), noise: 0.002 + 0.008*r.Float64(), step: []float64{0.005, 0.01, 0.02}[r.IntN(3)], dt: []float64{0.1, 0.2}[r.IntN(2)]}
	x.opens = x.rate * (1.3 + 3*r.Float64())
	return x
}

type rampEvents struct{ cracks, reseals, flips []float64 }

// ramp goes away from zero and back some times; it returns what was read and what happened.
func (x *rampTruth) ramp(times int) (t, p, contact []float64, all rampEvents) {
	now, gauge, shown, open, closed := 0.0, 0.0, 0.0, false, false
	read := 0.0
	do := func(seconds float64, hand func(at float64) float64, vent bool) {
		for at := 0.0; at < seconds; at += 0.005 {
			d := hand(at) - x.leak*gauge
			if open {
				d -= x.opens * math.Sqrt(math.Max(gauge, 0)/x.crack)
			}
			if vent {
				d -= gauge * 12
			}
			gauge += d * 0.005
			switch {
			case !open && gauge >= x.crack:
				open = true
				all.cracks = append(all.cracks, x.crack)
			case open && gauge <= x.reseal:
				open = false
				if !vent {
					all.reseals = append(all.reseals, x.reseal)
				} else { // let go to the air: its opening was not told from that
					all.cracks = all.cracks[:len(all.cracks)-1]
				}
			}
			if x.flips > 0 && !closed && gauge >= x.flips {
				closed = true
				all.flips = append(all.flips, x.flips)
			} else if closed && gauge <= x.back {
				closed = false
			}
			shown += (gauge - shown) * 0.005 / x.lag
			now += 0.005
			if now >= read {
				read += x.dt
				v := math.Round((shown+x.noise*x.r.NormFloat64())/x.step) * x.step
				t, p = append(t, now), append(p, v)
				c := 11.8
				if closed {
					c = 0.2
				}
				contact = append(contact, c+0.05*x.r.NormFloat64())
			}
		}
	}
	still := func(float64) float64 { return 0 }
	for range times {
		phase := 6 * x.r.Float64()
		hand := func(at float64) float64 {
			return x.rate * (1 + 0.25*math.Sin(at/1.7+phase) + 0.1*math.Sin(at*2.3)) * math.Min(at/0.5, 1)
		}
		do(1, still, true)
		do(1.1*x.crack/x.rate+2+3*x.r.Float64(), hand, false)
		do(2.5+2*x.r.Float64()+(x.crack-x.reseal)/(0.6*x.opens), still, false) // until it stands
		do(1.5, still, true)
	}
	return
}

// matched compares what was found with what happened, one to one in order of size of the miss.
func matched(found, truth []float64, within float64) (hits int, bias float64) {
	left := slices.Clone(truth)
	for _, f := range found {
		best := -1
		for i, v := range left {
			if math.Abs(f-v) <= within && (best < 0 || math.Abs(f-v) < math.Abs(f-left[best])) {
				best = i
			}
		}
		if best >= 0 {
			hits++
			bias += f - left[best]
			left = slices.Delete(left, best, best+1)
		}
	}
	return
}

// Openings, resealings and changes of the contact in ramps by hand.
func TestRampsFindWhatTheUnitDid(t *testing.T) {
	n := trials()
	r := rand.New(rand.NewPCG(18, 4))
	type tally struct {
		truth, found, hits int
		bias               float64
	}
	sum := map[string]*tally{"crack": {}, "reseal": {}, "switch": {}, "vacuum relief": {}}
	far := ""
	add := func(what string, found, truth []float64, say string) {
		s := sum[what]
		hits, bias := matched(found, truth, math.Max(0.15, 0.1*slices.Max(append([]float64{0}, truth...))))
		s.truth, s.found, s.hits, s.bias = s.truth+len(truth), s.found+len(found), s.hits+hits, s.bias+bias
		if (hits < len(truth) || hits < len(found)) && len(far) < 1200 {
			far += fmt.Sprintf("\n%s %s: found %.2f of %.2f", what, say, found, truth)
		}
	}
	of := func(es []bench.RampEvent, k bench.RampKind) (out []float64) {
		for _, e := range es {
			if e.Kind == k {
				out = append(out, e.P)
			}
		}
		return
	}
	for range n {
		crack := 0.35 + 0.5*r.Float64()
		x := newRampTruth(r, crack, crack*(0.4+0.35*r.Float64()))
		ts, ps, _, truth := x.ramp(3)
		es := bench.Ramps(ts, ps)
		say := fmt.Sprintf("rate %.2f opens %.2f noise %.3f step %.3f dt %.1f", x.rate, x.opens, x.noise, x.step, x.dt)
		add("crack", of(es, bench.Cracks), truth.cracks, say)
		add("reseal", of(es, bench.Reseals), truth.reseals, say)

		vac := 3 + 3*r.Float64()
		y := newRampTruth(r, vac, vac*(0.5+0.35*r.Float64()))
		y.flips = 0.6 + 1.2*r.Float64()
		y.back = 0.6 * y.flips
		ts, ps, contact, truth := y.ramp(3)
		say = fmt.Sprintf("rate %.2f opens %.2f noise %.3f step %.3f dt %.1f", y.rate, y.opens, y.noise, y.step, y.dt)
		add("vacuum relief", of(bench.Ramps(ts, ps), bench.Cracks), truth.cracks, say)
		add("switch", bench.SwitchedAt(ts, ps, contact), truth.flips, say)
	}
	for what, s := range sum {
		missed, wrong, bias := 1-float64(s.hits)/float64(s.truth), 1-float64(s.hits)/float64(max(s.found, 1)), s.bias/float64(max(s.hits, 1))
		t.Logf("%s: %d of %d found, %.1f %% missed, %.1f %% false, bias %+.3f inH2O", what, s.hits, s.truth, 100*missed, 100*wrong, bias)
		if missed > 0.02 || wrong > 0.01 || math.Abs(bias) > 0.05 {
			t.Errorf("%s: %.1f %% missed, %.1f %% false, bias %+.3f inH2O", what, 100*missed, 100*wrong, bias)
		}
	}
	t.Log(far)
}
