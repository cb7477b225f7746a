package decay_test

import (
	"math"
	"math/rand/v2"

	"wexter/core/decay"
)

// truth is a tank that knows nothing of the fit: its own orifice formula, its own
// integrator (classical Runge–Kutta on mass and temperature), its own noise. It
// has what the fit must cope with: heat of charging, a swelling tank, drift, a
// wall temperature that walks and is measured with noise, correlated gauge noise,
// spikes and gaps.
type truth struct {
	volume   float64 // m³, effective: V + p·dV/dp
	swell    float64 // share of the effective volume that is swelling
	d, ref   float64 // m
	drift    float64 // Pa/s
	tau      float64 // s
	walk     float64 // K, amplitude of the wall temperature
	period   float64 // s
	phase    float64
	start    float64 // Pa
	charge   float64 // s
	wait     float64 // s between the end of charging and the log's start; −1: the log has the charging
	hold     float64 // s
	rate     float64 // Hz
	white    float64 // Pa
	ou       float64 // Pa, standard deviation of the correlated part
	ouTime   float64 // s
	wallSD   float64 // K
	spikes   float64
	gap      bool
	slit     float64 // factor on d at vacuum
	barom    float64
	kelvin   float64
	measured bool // wall temperature is logged
	finer    int  // divides the integrator's step; 0 as 1
}

// step is the integrator's, s: far below the time in which the gas gives off its heat,
// shorter where a large hole soon has the volume empty, and a whole part of the time
// between readings, so that each is taken at its moment. TestTruthHasConverged holds it.
func (w truth) step() float64 {
	most := 0.1
	if w.d > 1e-3 && w.volume < 0.03 {
		most = 0.05
	}
	return 1 / w.rate / math.Ceil(1/w.rate/most) / float64(max(w.finer, 1))
}

func (w truth) wall(t float64) float64 {
	f := func(t float64) float64 {
		return 0.7*math.Sin(2*math.Pi*t/w.period+w.phase) + 0.3*math.Sin(2*math.Pi*t/(0.37*w.period)+2.1*w.phase)
	}
	return w.kelvin + w.walk*(f(t)-f(0))/2
}

// orificeFlow is the textbook formula in its plain form, kg/s out of side 1.
func orificeFlow(d, p1, t1, p2 float64) float64 {
	if p1 < p2 {
		return -orificeFlow(d, p2, t1, p1)
	}
	r := math.Max(p2/p1, 0.52828)
	return 0.61 * math.Pi / 4 * d * d * p1 *
		math.Sqrt(math.Max(2*1.4/(0.4*287.05*t1)*(math.Pow(r, 2/1.4)-math.Pow(r, 2.4/1.4)), 0))
}

// simulate returns gauge pressures without noise at 1/rate from the start of
// recording, the times, and when recording began.
func (w truth) simulate(kind decay.Kind) (ts, ps []float64, from float64) {
	const cv, cp, rg = 717.6, 1004.7, 287.05
	v0 := w.volume * (1 - w.swell)
	k := w.swell * w.volume / w.barom // m³/Pa
	pressure := func(m, t float64) float64 {
		// p·(v0 + k·(p − b)) = m·R·T
		a, b, c := k, v0-k*w.barom, -m*rg*t
		if a == 0 {
			return -c / b
		}
		return (-b + math.Sqrt(b*b-4*a*c)) / (2 * a)
	}
	m := w.barom * v0 / (rg * w.kelvin)
	temp := w.kelvin
	source := w.drift * w.volume / (rg * w.kelvin)
	d := w.d
	if w.start < 0 && w.slit > 0 {
		d *= w.slit
	}
	pump := 0.0 // kg/s, without what leaks meanwhile, which it makes up
	deriv := func(t, m, temp float64) (dm, dt float64) {
		p := pressure(m, temp)
		out, feed := orificeFlow(d, p, temp, w.barom), 0.0
		if pump != 0 {
			feed = pump + out
		}
		if w.ref > 0 {
			out += orificeFlow(w.ref, p, temp, w.barom)
		}
		in := source + feed
		heat := m * cv * (w.wall(t) - temp) / w.tau
		tin := w.kelvin
		e := heat + source*rg*temp
		if feed > 0 {
			e += feed * (cp*tin - cv*temp)
		} else {
			e += feed * rg * temp
		}
		if out > 0 {
			e -= out * rg * temp
		} else {
			e -= out * (cp*tin - cv*temp)
		}
		dm = in - out
		// Work of swelling is small beside the heat; p·dV is left in the effective volume.
		return dm, e / (m * cv)
	}
	step, t := w.step(), 0.0
	advance := func(h float64) {
		a1, b1 := deriv(t, m, temp)
		a2, b2 := deriv(t+h/2, m+h/2*a1, temp+h/2*b1)
		a3, b3 := deriv(t+h/2, m+h/2*a2, temp+h/2*b2)
		a4, b4 := deriv(t+h, m+h*a3, temp+h*b3)
		m += h / 6 * (a1 + 2*a2 + 2*a3 + a4)
		temp += h / 6 * (b1 + 2*b2 + 2*b3 + b4)
		t += h
	}
	next := 0.0
	record := func(from float64) {
		for next <= t-from+1e-9 {
			ts, ps = append(ts, next), append(ps, pressure(m, temp)-w.barom)
			next += 1 / w.rate
		}
	}
	if kind == decay.Hold {
		mass := w.barom * w.volume / (rg * w.kelvin) * w.start / w.barom / w.charge
		pump = mass
		for math.Abs(pressure(m, temp)-w.barom) < math.Abs(w.start) && t < 10*w.charge {
			if w.wait < 0 {
				record(0)
			}
			before := pressure(m, temp)
			advance(step)
			if over := pressure(m, temp) - w.barom - w.start; over*w.start > 0 {
				// It is shut in the middle of the step, and goes on to the step's end.
				back := step * over / (pressure(m, temp) - before)
				advance(-back)
				pump = 0
				advance(back)
				break
			}
		}
		pump = 0
		end := t
		// Nobody waits until half of it is gone.
		for w.wait > 0 && t < end+w.wait && math.Abs(pressure(m, temp)-w.barom) > 0.6*math.Abs(w.start) {
			advance(math.Min(step, end+w.wait-t))
		}
	}
	if w.wait >= 0 {
		from = t
	}
	end := t + w.hold
	for t < end {
		record(from)
		advance(step)
	}
	return ts, ps, from
}

// leg simulates and measures one leg.
func (w truth) leg(kind decay.Kind, rng *rand.Rand) decay.Leg {
	ts, ps, from := w.simulate(kind)
	l := decay.Leg{Kind: kind, Reference: w.ref}
	dt := 1 / w.rate
	phi := math.Exp(-dt / w.ouTime)
	ou := w.ou * rng.NormFloat64()
	gapAt := w.hold * (0.3 + 0.4*rng.Float64())
	for i := range ts {
		ou = phi*ou + w.ou*math.Sqrt(1-phi*phi)*rng.NormFloat64()
		if w.gap && ts[i] > gapAt && ts[i] < gapAt+0.08*w.hold {
			continue
		}
		p := ps[i] + ou + w.white*rng.NormFloat64()
		if rng.Float64() < w.spikes {
			p += (rng.Float64() - 0.5) * 4000
		}
		l.Time = append(l.Time, ts[i])
		l.Gauge = append(l.Gauge, p)
		if w.measured {
			l.Wall = append(l.Wall, w.wall(ts[i]+from)+w.wallSD*rng.NormFloat64())
		}
	}
	return l
}

// draw returns a car, a rig and a day at random.
func draw(rng *rand.Rand) truth {
	uni := func(a, b float64) float64 { return a + (b-a)*rng.Float64() }
	logu := func(a, b float64) float64 { return a * math.Exp(rng.Float64()*math.Log(b/a)) }
	total := logu(0.01, 0.1) * inH2O
	mix := rng.Float64()
	w := truth{
		volume: uni(0.012, 0.090), swell: uni(0, 0.12),
		d: logu(0.2e-3, 2e-3), drift: uni(-2, 2), tau: uni(6, 20),
		walk: uni(0, 1), period: uni(200, 1500), phase: uni(0, 6.28),
		start: uni(9, 14) * inH2O, charge: uni(3, 15), wait: -1,
		hold: logu(40, 600), rate: logu(1, 20),
		white: total * math.Sqrt(1-mix), ou: total * math.Sqrt(mix), ouTime: logu(0.1, 2),
		wallSD: uni(0.02, 0.1), barom: uni(97e3, 103e3), kelvin: uni(280, 305), measured: true,
	}
	if rng.Float64() < 0.5 {
		w.wait = uni(0, 40)
	}
	if rng.Float64() < 0.5 {
		w.spikes = 0.004
	}
	w.gap = rng.Float64() < 0.3
	if rng.Float64() < 0.3 {
		w.start = -w.start
	}
	return w
}

const inH2O = 249.089

// drifting is the drift leg that goes with w.
func (w truth) drifting(seconds float64) truth {
	w.hold, w.ref = seconds, 0
	return w
}
