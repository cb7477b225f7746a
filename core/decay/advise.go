package decay

import (
	"fmt"
	"math"

	"wexter/core/gas"
)

// remarks are the sentences that belong to any result, whatever its verdict.
func (e estimate) remarks(res *Result, z sized, drift bool) []string {
	var w []string
	for _, r := range e.p.runs {
		i := r.place
		if n := r.trace.Spikes; n > 0 && float64(n) > 0.05*float64(len(r.leg.Time)) {
			w = append(w, fmt.Sprintf("Leg %d: %d readings stood off their neighbours and were left out; look at the connector of the gauge.", i+1, n))
		}
		if gap := largestGap(r.t); gap > 10*r.step && gap > 5 {
			w = append(w, fmt.Sprintf("Leg %d has a gap of %.0f s without readings.", i+1, gap))
		}
		if r.against {
			w = append(w, fmt.Sprintf("The pressure stood at %.1f inH2O and then fell by itself: taken as pumping against a large leak until %.0f s. If somebody opened the system there, set the end of the hold by hand.", math.Abs(r.peak)/249.089, r.trace.Start))
		}
	}
	if !drift {
		w = append(w, "There is no drift leg: what the fuel gives off was fitted from the same trace. A minute sealed at zero gauge before the hold would tell it apart.")
	}
	if z.wet > 0 {
		w = append(w, "Fuel is in the tank and the leg is at pressure: heavy vapour leaves, and the diameter may read up to a tenth too small. The interval is widened upwards; a vacuum leg or an inert filling would not need it.")
	}
	if res.Differ {
		w = append(w, fmt.Sprintf("Pressure and vacuum do not agree: %.3f mm and %.3f mm. Something seals in one direction: a lip, a slit, a cap.", res.Pressure.D*1e3, res.Vacuum.D*1e3))
	}
	if math.Abs(res.Zero) > zeroWorth {
		w = append(w, fmt.Sprintf("Open to the air the gauge shows about %+.2g inH2O. That is taken off; zero the gauge.", res.Zero/249.089))
	}
	if res.Nominal {
		w = append(w, "The limit is nominal: no reference orifice was run on this rig.")
	}
	if e.x[e.p.tau] > math.Log(80) {
		w = append(w, "The trace was still settling when the hold ended. Wait, top up and wait again before the hold.")
	}
	return w
}

// zeroWorth is how far off a gauge's zero may be before anybody is told, Pa: 0.03 inH2O.
const zeroWorth = 7.5

func largestGap(t []float64) float64 {
	g := 0.0
	for i := 1; i < len(t); i++ {
		g = math.Max(g, t[i]-t[i-1])
	}
	return g
}

const driftWouldTell = "No longer hold alone would settle it: the drift may balance the leak. Seal at zero gauge and record a drift leg of a minute or two."

// holdMore says how many more seconds of hold should make the verdict firm, or
// NaN and the sentence that says what would.
func (e estimate) holdMore(z sized, drift bool) (float64, string) {
	kappa := e.x[e.index]
	d := z.D
	if d > 0 && math.Abs(d-z.limit) < 0.005*z.limit {
		return math.NaN(), "The leak reads so close to the limit that no hold would settle it: it stands on the line."
	}
	if !drift && z.kHigh-z.kLow > 3*e.k*z.tangent*math.Max(kappa, 1e-12) {
		return math.NaN(), driftWouldTell
	}
	for _, extra := range []float64{15, 30, 45, 60, 90, 120, 180, 240, 300, 450, 600} {
		sd := e.extended(extra)
		if e.firm(z, kappa, sd) {
			return extra, ""
		}
	}
	// Without end: the statistical part gone, is what remains too wide?
	if !e.firm(z, kappa, 0) {
		if z.wet > 0 && d < z.limit && e.firmDry(z, kappa) {
			return math.NaN(), "No longer hold would settle it: heavy vapour may hide what is missing. Hold at vacuum, or fill with inert gas."
		}
		if z.ratio {
			return math.NaN(), "No longer hold would settle it: the leak and the reference read too much alike."
		}
		return math.NaN(), fmt.Sprintf("No longer hold would settle it: the volume is known to ±%.0f %% only. Meter the gas you put in, or repeat with a known orifice added.", 200*z.sdVolume)
	}
	if !drift {
		return math.NaN(), driftWouldTell
	}
	return math.NaN(), "No hold of a reasonable length would settle it: the leak moves too little against drift and gauge noise. Start from a higher pressure, fill the tank further, or let the car stand until it no longer warms or cools."
}

// firm predicts whether a fit with standard deviation sd of κ would decide.
func (e estimate) firm(z sized, kappa, sd float64) bool {
	area := kappa * z.volume
	sv := z.sdVolume
	guard := cdTolerance / 4 * e.k * z.limit
	if z.ratio {
		sv, guard = 0, 0
	}
	up := gas.Diameter(area+math.Hypot(e.k*sd*z.volume, area*math.Expm1(e.k*sv))) - z.D + z.wet*z.D
	down := z.D - gas.Diameter(area-math.Hypot(e.k*sd*z.volume, area*math.Expm1(e.k*sv)))
	return z.D+math.Hypot(up, guard) < z.limit || z.D-math.Hypot(down, guard) > z.limit
}

func (e estimate) firmDry(z sized, kappa float64) bool {
	z.wet = 0
	return e.firm(z, kappa, 0)
}

// extended returns the standard deviation of κ had each hold gone on for extra
// seconds with what is fitted now.
func (e estimate) extended(extra float64) float64 {
	p := e.p
	grown := *p
	grown.runs = nil
	grown.model, grown.sens = nil, nil
	for i, r := range p.runs {
		c := *r
		if r.leg.Kind == Hold && len(r.t) > 1 {
			n := min(int(extra/r.step), 2*maxKnots)
			step := r.step
			if n > 0 {
				step = extra / float64(n)
			}
			c.t = append([]float64(nil), r.t...)
			c.weight = append([]float64(nil), r.weight...)
			c.spread = append([]float64(nil), r.spread...)
			if r.wall != nil {
				c.wall = append([]float64(nil), r.wall...)
			}
			for range n {
				c.t = append(c.t, c.t[len(c.t)-1]+step)
				c.weight = append(c.weight, math.Sqrt(step/r.step))
				c.spread = append(c.spread, 0)
				if r.wall != nil {
					c.wall = append(c.wall, c.wall[len(c.wall)-1])
				}
			}
		}
		c.p = make([]float64, len(c.t))
		c.integrate(p.fl, p.locals(i, e.x), p.kelvin, c.p, nil)
		grown.runs = append(grown.runs, &c)
		grown.model = append(grown.model, make([]float64, len(c.t)))
		grown.sens = append(grown.sens, make([]local, len(c.t)))
	}
	grown.gains = nil
	grown.setNoise(p.noise)
	grown.cost(e.x, true)
	sd := math.Sqrt(grown.variance(e.index, seq(len(e.x))))
	p.cost(e.x, true)
	return sd
}

// sharper is the one sentence that would narrow the range most.
func (e estimate) sharper(res Result, drift, vac bool) string {
	if len(res.Budget) == 0 {
		return ""
	}
	switch res.Budget[0].Source {
	case "volume":
		return "Add the reference orifice for one more minute, or meter the gas you put in: then the volume matters little."
	case "reference orifice":
		return "The orifice's own coefficient spreads the range; an orifice with a measured flow would narrow it."
	case "drift":
		if !drift {
			return "Seal at zero gauge and record the drift for a minute."
		}
		return "A second drift leg after the hold, or a car that has stood longer."
	case "settling":
		return "Wait, top up and wait again before the hold: the gas was still settling."
	case "wall temperature":
		return "Shut the bay door and keep the sun off: the wall temperature moved."
	case "heavy vapour":
		if !vac {
			return "A vacuum leg: what comes in is plain air."
		}
		return "Fill with inert gas."
	}
	return "Hold longer, or start from a higher pressure."
}

// PlanInput is a hold that has not been made yet.
type PlanInput struct {
	Setup
	Start    float64 // Pa gauge, signed
	Noise    float64 // Pa, standard deviation of one reading
	Rate     float64 // readings a second
	DriftLeg float64 // s sealed at zero gauge before; 0 for none
	Tank     float64 // m³, size of the tank, for other fuel levels; 0 leaves them out
	Level    float64 // share of the tank filled now
}

// Plan is how long to hold, and what else would help.
type Plan struct {
	Hold      float64 // s; NaN when no hold up to an hour tells
	HalfWidth float64 // relative half width of d (95 %) for a leak of the limit, after Hold
	Options   []Option
}

// Option is another way of doing the same hold.
type Option struct {
	What      string
	Hold      float64 // s, NaN when it would not do
	HalfWidth float64
}

// margin is how far from the limit a leak must be told apart by a planned hold:
// 25 % over and 20 % under.
const margin = 1.25

// PlanHold returns the shortest hold that should tell a leak a quarter over or a
// fifth under the limit from one at the limit, and what another fuel level, a
// metered charge or a drift leg would change.
func PlanHold(in PlanInput) (Plan, error) {
	if err := in.Check(); err != nil {
		return Plan{}, err
	}
	if in.Volume == 0 {
		return Plan{}, fmt.Errorf("the volume is missing")
	}
	if !(math.Abs(in.Start) >= 40) {
		return Plan{}, fmt.Errorf("a hold needs a start pressure of at least 0.16 inH2O (40 Pa)")
	}
	if !(in.Rate > 0) || !(in.Noise >= 0) {
		return Plan{}, fmt.Errorf("the gauge needs a rate above zero and a noise of zero or more")
	}
	in.Setup = in.Setup.withDefaults()
	var out Plan
	out.Hold, out.HalfWidth = in.shortest()
	add := func(what string, change func(*PlanInput)) {
		other := in
		change(&other)
		h, w := other.shortest()
		out.Options = append(out.Options, Option{what, h, w})
	}
	if in.Tank > 0 {
		rest := in.Volume - in.Tank*(1-in.Level)
		for _, level := range []float64{0.25, 0.5, 0.75, 0.85} {
			if math.Abs(level-in.Level) > 0.1 && level > in.Level {
				add(fmt.Sprintf("fuel at %.0f %%", level*100), func(p *PlanInput) { p.Volume = math.Max(rest, 1e-3) + in.Tank*(1-level) })
			}
		}
	}
	if in.VolumeTolerance > 0.04 {
		add("gas metered in, volume to ±3 %", func(p *PlanInput) { p.VolumeTolerance = 0.03 })
	}
	if in.DriftLeg < 60 {
		add("a drift leg of 60 s first", func(p *PlanInput) { p.DriftLeg = 60 })
	}
	return out, nil
}

func (in PlanInput) shortest() (hold, width float64) {
	for _, h := range []float64{20, 30, 45, 60, 90, 120, 150, 180, 240, 300, 420, 600, 900, 1200, 1800, 2700, 3600} {
		over := in.width(h, in.Limit*margin)
		under := in.width(h, in.Limit/margin)
		width = in.width(h, in.Limit)
		if over < 1-1/margin && under < margin-1 {
			return h, width
		}
	}
	return math.NaN(), width
}

// planWander is what walls are taken to wander while a hold is planned, Pa: some
// hundredths of a kelvin.
const planWander = 13.0

// planPast is a charging of ten seconds, recorded, as a hold watched live has it.
func planPast(start float64) *past {
	t, p := make([]float64, 11), make([]float64, 11)
	for i := range t {
		t[i], p[i] = float64(i), start*float64(i)/10
	}
	return newPast(t, p)
}

// width is the relative half width of d after a hold of h seconds of a leak of
// diameter d, from the information in the trace and the volume's tolerance.
func (in PlanInput) width(h, d float64) float64 {
	fl := newFlow(in.Cd, in.Barometer, in.Temperature, math.Abs(in.Start))
	mk := func(kind Kind, start, span float64) *run {
		n := max(min(int(span*in.Rate), maxKnots), 2)
		r := &run{leg: Leg{Kind: kind}, stride: fineStride, peak: start, step: span / float64(n), count: math.Max(span*in.Rate/float64(n), 1)}
		r.noise = math.Max(in.Noise, in.Resolution/math.Sqrt(12))
		for i := range n {
			r.t = append(r.t, (float64(i)+0.5)*r.step)
			r.weight = append(r.weight, 1)
			r.spread = append(r.spread, 0)
			r.p = append(r.p, start)
		}
		return r
	}
	runs := []*run{mk(Hold, in.Start, h)}
	runs[0].past = planPast(in.Start)
	if in.DriftLeg > 0 {
		runs = append([]*run{mk(Drift, 0, in.DriftLeg)}, runs...)
	}
	p := newProblem(runs, fl, in.Barometer/in.Temperature, false)
	if in.DriftLeg == 0 {
		p.lean = 0
	}
	x := p.guess()
	x[p.kappa] = gas.Area(d) / in.Volume
	last := len(runs) - 1
	x[p.start[last]] = in.Start
	sigma := math.Max(runs[last].noise/math.Sqrt(runs[last].count), 1e-2)
	p.setNoise(noise{sigma: sigma, wander: planWander / sigma})
	for i, r := range runs {
		r.integrate(fl, p.locals(i, x), p.kelvin, r.p, nil)
	}
	best := p.cost(x, true)
	sd := math.Sqrt(p.variance(p.kappa, seq(len(x))))
	rel := sd / x[p.kappa]
	if in.DriftLeg == 0 && rel < 0.5 {
		// Leak against drift is far from a straight line: follow it.
		const k = 1.96
		rel = (p.profile(x, p.kappa, best, k, sd, true) - p.profile(x, p.kappa, best, k, sd, false)) / (2 * k * x[p.kappa])
	}
	return 1.96 * 0.5 * math.Sqrt(rel*rel+in.VolumeTolerance*in.VolumeTolerance/4+cdTolerance*cdTolerance/4)
}
