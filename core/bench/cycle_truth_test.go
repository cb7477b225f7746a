package bench_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"wexter/core/bench"
	"wexter/core/plumbing"
)

// cycleTruth is an independent truth of a valve on a hand pump: strokes that each take a share of what
// is still missing, gas that warms again after it was drawn, a leak, a valve that sometimes sticks, a
// gauge with noise and steps, and a lead or a hand that says when it was switched. It shares no code
// with the plant.
type cycleTruth struct {
	r                      *rand.Rand
	rest                   plumbing.State
	level, leak, open      float64 // inHg, 1/s, 1/s
	warms                  float64 // share of the level that the gas gives back
	stroke, share          float64 // strokes in a second, and what each takes of what is missing
	noise, step, dt        float64
	sticks                 float64 // odds that it does not move
	byHand                 bool    // the moments are taps of a hand
	now, gauge, cold, read float64
	isOpen                 bool
	t, p, volts            []float64
	powered                bool
	bounce                 float64 // s for which the lead chatters
	switched               []bench.Switching
	spans                  []truthSpan
}

type truthSpan struct {
	at   float64
	must bench.Way
	did  bench.Answer
	hard bool // little stood behind it, or it leaks: nobody need be able to tell
}

func newCycleTruth(r *rand.Rand) *cycleTruth {
	x := &cycleTruth{r: r, rest: []plumbing.State{plumbing.Shut, plumbing.Open}[r.IntN(2)], level: 8 + 10*r.Float64(), open: 4 + 20*r.Float64(),
		warms: 0.06 * r.Float64(), stroke: 0.8 + 2*r.Float64(), share: 0.15 + 0.3*r.Float64(), noise: 0.005 + 0.06*r.Float64(),
		step: []float64{0.003, 0.02, 0.1}[r.IntN(3)], dt: []float64{0.05, 0.1, 0.2}[r.IntN(3)], byHand: r.IntN(2) == 0, bounce: 0.08 * r.Float64()}
	switch r.IntN(4) {
	case 0: // leaks, plainly
		x.leak = 0.03 + 0.5*r.Float64()*r.Float64()
	case 1:
		x.leak, x.sticks = 0.004*r.Float64(), 0.1+0.6*r.Float64()
	default:
		x.leak = 0.005 * r.Float64()
	}
	x.isOpen = x.rest == plumbing.Open
	return x
}

// run lets a while pass; pumping, strokes come.
func (x *cycleTruth) run(seconds float64, pumping bool) {
	for end := x.now + seconds; x.now < end; x.now += 0.005 {
		if pumping && math.Mod(x.now, 1/x.stroke) < 0.005 {
			d := x.share * math.Max(1.05*x.level-x.gauge, 0)
			x.gauge += d
			x.cold += x.warms * d
		}
		gone := x.leak
		if x.isOpen {
			gone = x.open
		}
		x.gauge -= x.gauge * gone * 0.005
		x.cold -= x.cold * 0.005
		if x.isOpen {
			x.cold -= x.cold * 0.1
		}
		if x.now >= x.read {
			x.read += x.dt
			v := math.Max(x.gauge+x.cold, 0) + x.noise*x.r.NormFloat64()
			x.t, x.p = append(x.t, x.now), append(x.p, math.Round(v/x.step)*x.step)
			u := 0.02
			if x.powered {
				u = 12.3
			}
			if n := len(x.switched); n > 0 && x.now-x.switched[n-1].At < x.bounce {
				u *= x.r.Float64()
			}
			x.volts = append(x.volts, u+0.03*x.r.NormFloat64())
		}
	}
}

// power switches; a valve that sticks stays as it is.
func (x *cycleTruth) power(on bool) (moved bool) {
	x.powered = on
	moved = x.r.Float64() >= x.sticks || !on // what returns it is a spring
	if moved {
		x.isOpen = on == (x.rest == plumbing.Shut)
	}
	at := x.now
	if x.byHand {
		at += 0.25 * (2*x.r.Float64() - 1)
	}
	x.switched = append(x.switched, bench.Switching{At: at, On: on})
	return moved
}

// hold pumps up and holds.
func (x *cycleTruth) hold() {
	x.run(1.5+3.5*x.r.Float64(), true)
	at := x.now
	x.run(3.2+5*x.r.Float64(), false)
	did := bench.Did
	if x.leak > 0.02 || x.isOpen {
		did = bench.DidNot
	}
	x.spans = append(x.spans, truthSpan{at, bench.Holds, did, false})
}

// cycle is one time on and off.
func (x *cycleTruth) cycle() {
	if x.rest == plumbing.Open {
		x.run(0.5, false)
		moved := x.power(true)
		x.hold()
		stood := x.gauge
		x.power(false)
		x.passed(moved, stood)
		x.run(1.4+2*x.r.Float64(), false)
		return
	}
	x.hold()
	stood := x.gauge
	moved := x.power(true)
	x.passed(moved, stood)
	x.run(1.8+2*x.r.Float64(), false)
	x.power(false)
}

func (x *cycleTruth) passed(moved bool, stood float64) {
	did := bench.DidNot
	if moved || x.rest == plumbing.Open { // it was open all the while
		did = bench.Did
	}
	x.spans = append(x.spans, truthSpan{x.now + 0.3, bench.Passes, did, stood < 3 || x.leak > 0.02})
}

// Cycles of a valve in traces of a hand pump: how many are found, and how many of the answers are wrong.
func TestCyclesFindWhatTheValveDid(t *testing.T) {
	r := rand.New(rand.NewPCG(18, 50))
	truth, missed, wrong, told, matched := 0, 0, 0, 0, 0
	far := ""
	for range trials() {
		x := newCycleTruth(r)
		x.run(0.5, false)
		for range 5 {
			x.cycle()
		}
		x.run(0.3, false)
		within, switched := 0.3, x.switched
		if !x.byHand {
			within, switched = x.dt, bench.Switched(x.t, x.volts)
		}
		spans := bench.Spans(x.t, x.p, switched, x.rest, within)
		for _, s := range spans {
			if s.Did != bench.CannotSay {
				told++
			}
		}
		for _, want := range x.spans {
			if !want.hard {
				truth++
			}
			hit := bench.Span{}
			for _, s := range spans {
				if s.From <= want.at && want.at < s.To && s.Must == want.must {
					hit = s
				}
			}
			if hit.Did != bench.CannotSay {
				matched++
			}
			switch {
			case hit.Did == bench.CannotSay && want.hard:
				continue
			case hit.Did == bench.CannotSay:
				missed++
			case hit.Did != want.did:
				wrong++
			default:
				continue
			}
			if len(far) < 2500 {
				far += fmt.Sprintf("\n%+v, not %+v: leak %.3f noise %.3f step %.3f dt %.2f rest %s by hand %t stroke %.1f", hit, want, x.leak, x.noise, x.step, x.dt, x.rest, x.byHand, x.stroke)
			}
		}
	}
	t.Logf("%d spans: missed %d (%.1f %%), wrong %d (%.1f %%), told %d of which %d were there", truth, missed, 100*float64(missed)/float64(truth), wrong, 100*float64(wrong)/float64(truth), told, matched)
	if float64(missed) > 0.02*float64(truth) || float64(wrong) > 0.01*float64(truth) || truth < 8*trials() {
		t.Errorf("missed %d and wrong %d of %d%s", missed, wrong, truth, far)
	}
	if told > matched+matched/100 {
		t.Errorf("%d answers, of which %d are about something that was there", told, matched)
	}
}
