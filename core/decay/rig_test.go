package decay_test

import (
	"math"
	"math/rand/v2"

	"wexter/core/decay"
)

// rig is a tank, a feed and a gauge that know nothing of the fit: mass and inner energy
// of the gas by the first law, an orifice in the textbook's plain form, a Dormand–Prince
// integrator with its own step control, and a gauge whose zero is off.
type rig struct {
	volume, d, ref float64 // m³, m, m
	tau            float64 // s, in which the gas at constant volume takes the temperature of its walls
	drift          float64 // Pa/s that the fuel gives off
	zero           float64 // Pa, what the gauge shows when open to the air
	start          float64 // Pa, at which the feed is shut, or which its regulator holds
	charge         float64 // s
	stay           float64 // s for which the regulator then holds the pressure
	bottle         bool    // fed through a regulator; otherwise by a pump of constant flow
	lead           float64 // s of log before the feed is opened
	recorded       bool    // the log has the charging
	wait           float64 // s from shutting in to the log's first reading when it has not
	hold, rate     float64 // s, Hz
	seal           float64 // s of drift leg
	white, ou      float64 // Pa
	ouTime         float64 // s
	walk           float64 // K
	period, phase  float64 // s, rad
	measured       bool
	wallSD         float64 // K
	barom, kelvin  float64
	wave           [4]float64 // K, more of the wall's waves, for its slopes
}

const (
	airGas = 287.05 // J/(kg·K) [U.S. Standard Atmosphere, 1976; value from memory]
	airCv  = airGas / 0.4
	airCp  = airCv * 1.4
)

// gasState is what the gas in the tank has: kg and J.
type gasState struct{ m, u float64 }

func (g rig) wall(t float64) float64 {
	a, b := 2*math.Pi*t/g.period, 2*math.Pi*t/(0.37*g.period)
	f := 0.7*(math.Sin(a+g.phase)-math.Sin(g.phase)) + 0.3*(math.Sin(b+2.1*g.phase)-math.Sin(2.1*g.phase))
	more := g.wave[0]*math.Sin(a) + g.wave[1]*(math.Cos(a)-1) + g.wave[2]*math.Sin(b) + g.wave[3]*(math.Cos(b)-1)
	return g.kelvin + g.walk/2*f + more
}

func (g rig) pressure(s gasState) float64 { return 0.4*s.u/g.volume - g.barom }

// through is the flow of mass out through an orifice of diameter d with the gas at temp.
func (g rig) through(d, p, temp float64) float64 {
	if d == 0 {
		return 0
	}
	up, down, t := p+g.barom, g.barom, temp
	if p < 0 {
		up, down, t = down, up, g.kelvin
	}
	r := math.Max(down/up, 0.52828)
	m := 0.61 * math.Pi / 4 * d * d * up * math.Sqrt(math.Max(7/(airGas*t)*(math.Pow(r, 10./7)-math.Pow(r, 12./7)), 0))
	// Laminar at the very end, as any real hole is.
	m *= math.Sqrt(math.Abs(p) / (math.Abs(p) + 0.5))
	return math.Copysign(m, p)
}

// feed is the mass that the pump or the bottle brings in (or draws out, below zero).
func (g rig) feed(p float64) float64 {
	fill := g.start * g.volume / (airGas * g.kelvin)
	flow := fill/g.charge + g.through(g.d, g.start, g.kelvin) + g.through(g.ref, g.start, g.kelvin)
	if g.bottle {
		flow *= math.Min(20*(1-p/g.start), 1) // the regulator shuts over the last twentieth
	}
	return flow
}

// change is the right side of both balances.
func (g rig) change(t float64, s gasState, feeding bool) gasState {
	p, temp, wall := g.pressure(s), s.u/(s.m*airCv), g.wall(t)
	d := gasState{u: s.m * airCv * (wall - temp) / g.tau}
	flow := func(m float64) {
		d.m += m
		if m > 0 {
			d.u += m * airCp * wall
		} else {
			d.u += m * airCp * temp
		}
	}
	flow(-g.through(g.d, p, temp))
	flow(-g.through(g.ref, p, temp))
	flow(g.drift * g.volume / (airGas * g.kelvin) / 1.4) // its own enthalpy brings the rest of the pressure
	if feeding {
		flow(g.feed(p))
	}
	return d
}

// Coefficients of Dormand and Prince, A family of embedded Runge-Kutta formulae, Journal
// of Computational and Applied Mathematics, 1980; from memory.
var (
	dpC = [7]float64{0, 1. / 5, 3. / 10, 4. / 5, 8. / 9, 1, 1}
	dpA = [7][6]float64{{}, {1. / 5}, {3. / 40, 9. / 40}, {44. / 45, -56. / 15, 32. / 9},
		{19372. / 6561, -25360. / 2187, 64448. / 6561, -212. / 729},
		{9017. / 3168, -355. / 33, 46732. / 5247, 49. / 176, -5103. / 18656},
		{35. / 384, 0, 500. / 1113, 125. / 192, -2187. / 6784, 11. / 84}}
	dpE = [7]float64{71. / 57600, 0, -71. / 16695, 71. / 1920, -17253. / 339200, 22. / 525, -1. / 40}
)

// advance integrates from t to end, and stops earlier where done says so.
func (g rig) advance(t, end float64, s gasState, feeding bool, done func(gasState) bool) (float64, gasState) {
	h := math.Min(0.02, end-t)
	for t < end-1e-9 {
		h = math.Min(h, end-t)
		var k [7]gasState
		var next gasState
		for i := range k {
			next = s
			for j := range i {
				next.m += h * dpA[i][j] * k[j].m
				next.u += h * dpA[i][j] * k[j].u
			}
			k[i] = g.change(t+dpC[i]*h, next, feeding)
		}
		off := gasState{}
		for i := range k {
			off.m += h * dpE[i] * k[i].m
			off.u += h * dpE[i] * k[i].u
		}
		// In pascals: 0.4/V of the energy, and the barometer's share of the mass.
		miss := math.Max(0.4/g.volume*math.Abs(off.u), g.barom*math.Abs(off.m)/s.m) / 1e-3
		if miss > 1 && h > 1e-5 {
			h *= math.Max(0.9*math.Pow(miss, -0.2), 0.2)
			continue
		}
		if done != nil && done(next) {
			if h < 1e-3 {
				return t + h, next
			}
			h /= 4
			continue
		}
		t, s = t+h, next
		h *= math.Min(0.9*math.Pow(math.Max(miss, 1e-6), -0.2), 3)
	}
	return t, s
}

// recorder takes readings of a run at the gauge's rate, from its first moment on.
type recorder struct {
	g      rig
	t      float64
	s      gasState
	from   float64
	ts, ps []float64
}

// until goes on to end, or to where done says so; readings count when they are logged.
func (r *recorder) until(end float64, feeding bool, done func(gasState) bool) {
	for {
		next := r.from + float64(len(r.ts))/r.g.rate
		if next > end+1e-9 {
			r.t, r.s = r.g.advance(r.t, end, r.s, feeding, done)
			return
		}
		r.t, r.s = r.g.advance(r.t, next, r.s, feeding, done)
		if r.t < next-1e-9 {
			return // done
		}
		r.ts, r.ps = append(r.ts, next-r.from), append(r.ps, r.g.pressure(r.s)+r.g.zero)
	}
}

// atRest is the gas at the barometer and as warm as the wall at that moment.
func (g rig) atRest(began float64) *recorder {
	s := gasState{m: g.barom * g.volume / (airGas * g.wall(began)), u: g.barom * g.volume / 0.4}
	return &recorder{g: g, t: began, s: s, from: began}
}

// charged goes on until the feed is shut, with what of it is logged.
func (g rig) charged(began float64) *recorder {
	r := g.atRest(began)
	full := func(s gasState) bool { return !g.bottle && math.Abs(g.pressure(s)) >= math.Abs(g.start) }
	most := g.charge + g.stay
	if !g.bottle {
		most = 3 * g.charge
	}
	if g.recorded {
		for next := 0.0; next < g.lead; next += 1 / g.rate {
			r.ts, r.ps = append(r.ts, next), append(r.ps, g.zero)
		}
		r.t += float64(len(r.ts)) / g.rate
		r.until(r.t+most, true, full)
		return r
	}
	r.t, r.s = g.advance(r.t, r.t+most, r.s, true, full)
	r.t, r.s = g.advance(r.t, r.t+g.wait, r.s, false, nil)
	r.from = r.t
	return r
}

// curve is a leg without noise. The wall's clock stands at began when the leg begins.
func (g rig) curve(kind decay.Kind, began float64) *recorder {
	if kind == decay.Drift {
		r := g.atRest(began)
		r.until(began+g.seal, false, nil)
		return r
	}
	r := g.charged(began)
	r.until(r.t+g.hold, false, nil)
	return r
}

// leg is a curve as the gauge and the probe read it.
func (g rig) leg(kind decay.Kind, began float64, rng *rand.Rand) decay.Leg {
	r := g.curve(kind, began)
	l := decay.Leg{Kind: kind, Reference: g.ref, Time: r.ts, Gauge: make([]float64, len(r.ts))}
	phi := math.Exp(-1 / g.rate / g.ouTime)
	ou := g.ou * rng.NormFloat64()
	for i, t := range r.ts {
		ou = phi*ou + g.ou*math.Sqrt(1-phi*phi)*rng.NormFloat64()
		l.Gauge[i] = r.ps[i] + ou + g.white*rng.NormFloat64()
		if g.measured {
			l.Wall = append(l.Wall, g.wall(r.from+t)+g.wallSD*rng.NormFloat64())
		}
	}
	return l
}

// drawRig draws a car, a rig and a day.
func drawRig(rng *rand.Rand) rig {
	uni := func(a, b float64) float64 { return a + (b-a)*rng.Float64() }
	logu := func(a, b float64) float64 { return a * math.Exp(rng.Float64()*math.Log(b/a)) }
	half := func() bool { return rng.Float64() < 0.5 }
	total, mix := logu(0.01, 0.1)*inH2O, rng.Float64()
	g := rig{
		volume: uni(0.012, 0.085), d: logu(0.25e-3, 1.6e-3), tau: logu(1.5, 40),
		zero: uni(-0.05, 0.05) * inH2O, start: uni(7, 14) * inH2O, charge: uni(3, 40),
		bottle: half(), recorded: half(), lead: uni(0, 5), wait: uni(0, 15),
		hold: logu(40, 600), rate: logu(1, 10), seal: uni(60, 120),
		white: total * math.Sqrt(1-mix), ou: total * math.Sqrt(mix), ouTime: logu(0.1, 2),
		period: uni(200, 1500), phase: uni(0, 6.28), measured: half(), wallSD: uni(0.02, 0.1),
		barom: uni(97e3, 103e3), kelvin: uni(280, 305),
	}
	if half() {
		g.drift = logu(0.1, 2)
		if half() {
			g.drift = -g.drift
		}
	}
	if half() {
		g.walk = uni(0, 1)
	}
	if g.bottle && half() {
		g.stay = uni(5, 40)
	}
	if half() {
		g.start = -g.start
	}
	return g
}
