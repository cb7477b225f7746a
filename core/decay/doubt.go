package decay

import (
	"fmt"
	"math"
	"slices"
)

// What a trace shows that no sealed system with a leak shows. Then there is no firm
// verdict, however good the fit: the figures here are chosen, from what gauges and shops
// do, and have no source.
const (
	mostMisfit  = 1.5     // residual over noise, after what walls may do
	wallBlind   = 60.0    // Pa, a sixth of a kelvin that nobody measured
	wallSeen    = 20.0    // Pa, of error where somebody did
	leastStart  = 249.089 // Pa; below 1 inH2O nobody starts a hold
	mostStart   = 6894.757 * 1.005
	deepest     = 20.1 * 249.089
	mostRise    = 0.03 // of the start pressure
	mostScatter = 0.05 // of the start pressure, of one reading
	frozenFor   = 30.0 // s without any change
	finest      = 5.0  // Pa; a gauge that resolves this cannot stand still
)

// doubts are the sentences that forbid a verdict.
func (e estimate) doubts(res *Result) []string {
	var w []string
	p := e.p
	for _, r := range p.runs {
		if r.leg.Kind != Hold {
			continue
		}
		for _, find := range []func(*run) string{wrongUnit, clipped, frozen, noisy, rising, fed} {
			if s := find(r); s != "" {
				w = append(w, s)
			}
		}
	}
	if e.slow {
		w = append(w, "The run with the reference orifice falls no faster than the run without it: was the orifice open, or were the two runs mixed up? It is left out of account.")
	}
	walls := wallBlind
	if p.wall >= 0 {
		walls = wallSeen
	}
	slow := math.Sqrt(math.Max(res.Residual*res.Residual-res.Noise*res.Noise-walls*walls, 0))
	if ratio := math.Hypot(slow, res.Noise) / math.Max(res.Noise, 1e-3); ratio > mostMisfit {
		leg, at := p.farthest(e.x)
		w = append(w, fmt.Sprintf("The model does not describe this trace: its readings stand %.1f times as far from the fit as they scatter, most at %s of leg %d. Something happened that is no leak; look what it was and hold again.", ratio, seconds(at), leg))
	}
	return w
}

func seconds(t float64) string { return fmt.Sprintf("%.0f s", t) }

// settling is what the ten seconds after the charging show.
type settling struct {
	least float64 // Pa that |p| must fall, whatever τ
	fell  float64 // Pa that it falls
}

const settleFor = 10.0 // s

// settles compares the fall of |p| after reading k with the least that the heat of the
// charging before it must bring, at any time of heat that a tank can have.
func settles(t, p []float64, sign float64, k int) settling {
	end := k
	for end+1 < len(t) && t[end+1] <= t[k]+settleFor {
		end++
	}
	if k < 3 || t[end] < t[k]+settleFor/2 {
		return settling{}
	}
	h := newPast(t[:k+1], p[:k+1])
	out := settling{least: math.Inf(1), fell: sign * (p[k] - p[end])}
	for _, tau := range []float64{tauLow, 2.5, 5, 10, 20, tauHigh} {
		psi, _ := h.heat(tau)
		out.least = math.Min(out.least, sign*psi*-math.Expm1(-(t[end]-t[k])/tau))
	}
	// What was there before the log began may have left the gas cold.
	out.least -= heatWide * math.Abs(h.first)
	return out
}

// stillFed reports whether the gas does not settle as it must after its charging.
func (r *run) stillFed() bool {
	s := r.after
	return s.least > 6*r.noise+settleFor*2*driftUsual && s.fell < 0.4*s.least
}

func fed(r *run) string {
	if !r.stillFed() {
		return ""
	}
	return fmt.Sprintf("Gas that was just charged settles, here by %.2g inH2O at least within %s; this trace falls by %.2g. Was the feed shut?", r.after.least/249.089, seconds(settleFor), r.after.fell/249.089)
}

func wrongUnit(r *run) string {
	peak := math.Abs(r.peak)
	in, kPa := peak/249.089, peak/1e3
	switch {
	case r.peak > mostStart:
		return fmt.Sprintf("The hold starts at %.1f inH2O (%.2f kPa), over the 1 psi (27.7 inH2O) that an EVAP system is allowed. Is the unit right?", in, kPa)
	case r.peak < -deepest:
		return fmt.Sprintf("The hold starts at %.1f inH2O (%.2f kPa) below the barometer; a tank may collapse beyond 20 inH2O. Is the unit right?", in, kPa)
	case peak < leastStart:
		return fmt.Sprintf("The hold starts at %.2g inH2O (%.2g kPa) only, where others start at 7 to 14. Is the unit right? Psi read as inH2O are 27.7 times too small.", in, kPa)
	}
	return ""
}

// clipped finds a trace that stands at its highest value, reading for reading the same,
// much longer than at any other: the gauge's range ends there.
func clipped(r *run) string {
	l := r.leg
	top := slices.Max(l.Gauge)
	if r.peak < 0 {
		top = slices.Min(l.Gauge)
	}
	var atTop, elsewhere float64
	from := 0
	for i := range l.Gauge {
		if i+1 < len(l.Gauge) && l.Gauge[i+1] == l.Gauge[i] {
			continue
		}
		span := l.Time[i] - l.Time[from]
		if i-from < 4 {
			span = 0
		}
		if l.Gauge[i] == top {
			atTop = math.Max(atTop, span)
		} else {
			elsewhere = math.Max(elsewhere, span)
		}
		from = i + 1
	}
	if atTop >= 1 && atTop > 3*elsewhere && atTop < 0.9*(l.Time[len(l.Time)-1]-l.Time[0]) {
		return fmt.Sprintf("The gauge shows %.4g inH2O for %s, reading for reading the same: its range ends there, and what lay beyond was not read. Charge less, or take another gauge.", top/249.089, seconds(atTop))
	}
	return ""
}

// frozen finds a gauge that shows one value all the time though it resolves much less.
func frozen(r *run) string {
	from, to := r.trace.Start, r.trace.End
	first, same := math.NaN(), true
	for i, t := range r.leg.Time {
		if t < from || t > to {
			continue
		}
		if math.IsNaN(first) {
			first = r.leg.Gauge[i]
		}
		same = same && r.leg.Gauge[i] == first
	}
	step := smallestStep(r.leg.Gauge)
	if same && to-from >= frozenFor && step < finest {
		return fmt.Sprintf("The gauge shows %.4g inH2O for %s without any change, which no gas does: is it connected, and does it still read?", first/249.089, seconds(to-from))
	}
	return ""
}

func noisy(r *run) string {
	if r.noise > mostScatter*math.Abs(r.peak) {
		return fmt.Sprintf("The readings scatter by %.2g inH2O, out of proportion to a hold at %.3g inH2O: look at the gauge, its connector and its hose.", r.noise/249.089, math.Abs(r.peak)/249.089)
	}
	return ""
}

// rising compares the ends of the hold, each the mean of some knots.
func rising(r *run) string {
	n := len(r.p)
	k := max(n/12, 1)
	mean := func(p []float64) float64 {
		s := 0.0
		for _, x := range p {
			s += x
		}
		return s / float64(len(p)) * math.Copysign(1, r.peak)
	}
	last := mean(r.p[n-k:])
	rise := last - mean(r.p[:k])
	if rise > mostRise*math.Abs(r.peak) && rise > 4*r.noise {
		return fmt.Sprintf("The pressure moves away from zero while it should be held, by %.2g inH2O: the feed still leaks in, or the fuel gives off more than the leak loses. Take the feed off, let the car stand, and hold again.", rise/249.089)
	}
	return ""
}

// farthest is the leg and its time at which the fit is farthest from the knots.
func (p *problem) farthest(x []float64) (leg int, at float64) {
	p.cost(x, false)
	worst := 0.0
	for i, r := range p.runs {
		for k := range r.t {
			if d := math.Abs(r.p[k] - p.model[i][k]); d > worst {
				worst, leg, at = d, r.place+1, r.t[k]+r.offset
			}
		}
	}
	return leg, at
}
