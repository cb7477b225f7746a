package decay

import "math"

// Priors that keep the fit inside what a garage can show. They are weak: data
// override them wherever the data speak.
const (
	tauGuess    = 8.0       // s; gas takes its wall's temperature in 1.5 to 40 s
	tauLow      = 1.5       // s; between these every ln τ is as likely,
	tauHigh     = 40.0      // s
	tauBeyond   = 0.25      // standard deviation of ln τ beyond them
	adiabatic   = 0.4 / 1.4 // settling after instant charging, as a share of the charge
	heatSpread  = 0.008     // Pa a Pa of charge; how far the heat of a recorded charging is from what is worked out
	feedSpread  = 0.08      // share of that heat more or less when gas is fed that is 7 K from the wall
	heatLeft    = 0.06      // Pa a Pa of charge, what is usually left of it when nobody recorded it,
	heatWide    = 0.12      // and its standard deviation: the gas may still be hot, or cooled by its own leak
	zeroSpread  = 6.0       // Pa; what a gauge shows when open to the air
	sealSpread  = 2.0       // Pa; what closing the system at zero gauge squeezes
	driftFree   = 60.0      // Pa/s; without a drift leg the drift is as good as unknown,
	driftUsual  = 2.0       // Pa/s; but it is seldom larger than this,
	driftLean   = 3.0       // and what is larger counts at most so much in the sum of squares
	wallShare   = 0.95      // the gas feels the wall, less what a swelling tank takes
	wallSpread  = 0.15
	driftChange = 0.05 // Pa/s; how far the drift may be another on another leg,
	driftBlind  = 0.3  // and when nobody measured the wall
	huber       = 2.5  // standard deviations, beyond which a knot counts by its size only
)

// prior is a normal one; sd 0 is none.
type prior struct{ mean, sd float64 }

// tauCost keeps τ within what tanks show.
func (p *problem) tauCost(x []float64, normal bool) float64 {
	t := x[p.tau]
	e := (math.Min(math.Max(t, math.Log(tauLow)), math.Log(tauHigh)) - t) / tauBeyond
	if normal && e != 0 {
		p.grad[p.tau] += e / tauBeyond
		p.jtj.SetSym(p.tau, p.tau, p.jtj.At(p.tau, p.tau)+1/(tauBeyond*tauBeyond))
	}
	return e * e
}

// driftCost leans towards a drift of a pascal or two a second, which is common. An
// interval without a drift leg is taken without the lean: a leak that the drift just
// balances must not be ruled out.
func (p *problem) driftCost(x []float64, normal bool) float64 {
	u := x[p.drift] / driftUsual
	root := math.Sqrt(1 + u*u)
	e := -math.Sqrt(p.lean) * u / root
	if normal {
		s := math.Sqrt(p.lean) / (root * root * root) / driftUsual
		p.grad[p.drift] += s * e
		p.jtj.SetSym(p.drift, p.drift, p.jtj.At(p.drift, p.drift)+s*s)
	}
	free := x[p.drift] / driftFree
	if normal {
		p.grad[p.drift] -= free / driftFree
		p.jtj.SetSym(p.drift, p.drift, p.jtj.At(p.drift, p.drift)+1/(driftFree*driftFree))
	}
	return e*e + free*free
}

// pastCost holds the heat that a run begins with to what its past left at this τ, and
// to what the gas fed brought along: the same on every leg that was fed.
func (p *problem) pastCost(r *run, x []float64, h int, normal bool) float64 {
	psi, slope := r.past.heat(math.Exp(x[p.tau]))
	sd := r.past.unsure(r.peak)
	at := [...]int{h, p.tau, p.feed}
	slopes := [...]float64{1 / sd, -slope / sd, -psi / sd}
	n := 2
	e := (psi - x[h]) / sd
	if r.peak > 0 {
		n, e = 3, e+psi*x[p.feed]/sd
		slopes[1] *= 1 + x[p.feed]
	}
	if normal {
		for i, g := range at[:n] {
			p.grad[g] += slopes[i] * e
			for j, o := range at[:n] {
				if o <= g {
					p.jtj.SetSym(g, o, p.jtj.At(g, o)+slopes[i]*slopes[j])
				}
			}
		}
	}
	return e * e
}
