package decay

import (
	"math"

	"wexter/core/gas"
)

// flow is the orifice flow per unit area as a rate of change of pressure times
// volume, f(p) in Pa·m/s, tabulated against gauge pressure on both sides.
type flow struct {
	barometer float64
	couple    float64 // γ−1: how strongly gas that leaves cools what stays; 0 for an isothermal tank
	step      float64
	g         [2][]float64 // f/√|p| at |p| = i·step, for p > 0 and p < 0
}

const laminarBelow = 1.0 // Pa, as in gas.Orifice; here rounded smoothly so that f has a slope everywhere

// newFlow tabulates f up to the pressure top (Pa gauge).
func newFlow(cd, barometer, temperature, top float64) *flow {
	const n = 64
	fl := &flow{barometer: barometer, couple: gammaMinus1, step: math.Max(top, 100) * 1.3 / n}
	for side := range fl.g {
		fl.g[side] = make([]float64, n+2)
		for i := range fl.g[side] {
			p := fl.step * float64(i)
			if i == 0 {
				p = 2 * laminarBelow // f/√p is flat here, above what gas.Orifice takes as laminar
			}
			q := p
			if side == 1 {
				q = -math.Min(p, 0.99*barometer)
			}
			m := gas.Orifice(1, cd, barometer+q, temperature, barometer)
			fl.g[side][i] = gas.RAir * temperature * math.Abs(m) / math.Sqrt(p)
		}
	}
	return fl
}

// at returns f and df/dp.
func (fl *flow) at(p float64) (f, df float64) {
	table := fl.g[0]
	a := p
	if p < 0 {
		table, a = fl.g[1], -p
	}
	x := a / fl.step
	if !(x < 1e6) {
		return math.NaN(), math.NaN() // a step that went astray; its cost is no number, and it is not taken
	}
	i := int(x)
	if i > len(table)-2 {
		i = len(table) - 2
		x = float64(i + 1)
	}
	slope := table[i+1] - table[i]
	g := table[i] + slope*(x-float64(i))
	s := math.Sqrt(p*p + laminarBelow*laminarBelow)
	r := math.Sqrt(s)
	f = g * p / r
	df = slope/fl.step*a/r + g/r*(1-0.5*p*p/(s*s))
	return f, df
}

// Local parameters of one leg, in the order of its sensitivities.
const (
	inKappa = iota // 1/m, sum of all openings over the volume
	inDrift        // Pa/s
	inTau          // ln s
	inStart        // Pa
	inHeat         // Pa
	inWall         // share of the wall temperature that the gas feels
	inZero         // Pa, what the gauge shows when open to the air; not integrated
	nLocal
)

type local [nLocal]float64

// integrate runs the model over the knots of r and fills model (Pa) and sens
// (Pa per unit of each local parameter; nil when not wanted). It is an L-stable
// SDIRK of second order [Alexander, Diagonally implicit Runge-Kutta methods for
// stiff O.D.E.'s, SIAM Journal on Numerical Analysis, 1977; from memory].
func (r *run) integrate(fl *flow, par local, kelvin float64, model []float64, sens []local) {
	gam := 1 - math.Sqrt(0.5)
	tau := math.Exp(par[inTau])
	kappa, g := par[inKappa], par[inDrift]
	// p = q + ψ + q·ψ/barometer at the start.
	u := 1 + par[inHeat]/fl.barometer
	st := state{q: (par[inStart] - par[inHeat]) / u, psi: par[inHeat]}
	st.dq[inStart], st.dq[inHeat], st.dpsi[inHeat] = 1/u, -(1+st.q/fl.barometer)/u, 1
	want := 0
	if sens != nil {
		want = inWall
		if r.wall != nil {
			want = inZero
		}
	}
	c := coeffs{fl: fl, kappa: kappa, g: g, tau: tau, beta: par[inWall], want: want, barom: fl.barometer}
	for i := range r.t {
		if i > 0 {
			span := r.t[i] - r.t[i-1]
			_, df := fl.at(st.q + st.psi)
			// The heat of charging needs short steps while there is much of it; the method
			// damps what is left, however long the step.
			n := int(math.Ceil(span * (1.4*kappa*df + math.Exp(-r.t[i-1]/(3*tau))/tau) / r.stride))
			n = min(max(n, 1), 24)
			h := span / float64(n)
			var w0, dw float64
			if r.wall != nil {
				w0, dw = r.wall[i-1]*kelvin, (r.wall[i]-r.wall[i-1])*kelvin
			}
			for k := range n {
				at := func(x float64) float64 { return w0 + dw*(float64(k)+x)/float64(n) }
				s1 := st
				c.solve(&s1, h*gam, at(gam))
				// Base of the second stage: y + h(1−γ)F(y1), and hγF(y1) = y1 − y.
				s2 := st
				m := (1 - gam) / gam
				s2.q += m * (s1.q - st.q)
				s2.psi += m * (s1.psi - st.psi)
				for j := range want {
					s2.dq[j] += m * (s1.dq[j] - st.dq[j])
					s2.dpsi[j] += m * (s1.dpsi[j] - st.dpsi[j])
				}
				c.solve(&s2, h*gam, at(1))
				st = s2
			}
		}
		p := st.q + st.psi + st.q*st.psi/fl.barometer
		model[i] = p + par[inZero]
		if v := r.spread[i]; v > 0 {
			// The mean over a bin differs from the value at its mean time by half the
			// curvature times the variance of time.
			f, df := fl.at(p)
			var w float64
			if r.wall != nil {
				w = r.wall[i] * kelvin * par[inWall]
			}
			dpsi := (w-st.psi)/tau - fl.couple*(kappa*f-g)
			dp := -kappa*f + g + dpsi
			ddp := -(1+fl.couple)*kappa*df*dp - dpsi/tau
			// A stiff end would blow this up; there the curvature is nil.
			if math.Abs(ddp*v) < 0.2*math.Abs(p) {
				model[i] += 0.5 * ddp * v
			}
		}
		if want > 0 {
			warm, full := 1+st.psi/fl.barometer, 1+st.q/fl.barometer
			for j := range want {
				sens[i][j] = st.dq[j]*warm + st.dpsi[j]*full
			}
			sens[i][inZero] = 1
		}
	}
}

type state struct {
	q, psi   float64
	dq, dpsi local
}

type coeffs struct {
	fl            *flow
	kappa, g, tau float64
	beta, barom   float64
	want          int // how many sensitivities are integrated
}

// solve does one implicit stage y = base + hg·F(y) in place, with w the wall
// temperature as pressure before its share is taken.
func (k *coeffs) solve(s *state, hg, w float64) {
	c := 1 + hg/k.tau
	g := k.g
	wall := k.beta * w
	// Second-order terms of p·V = m·R·T, a percent or so, taken from the state before
	// the stage: warm gas leaves a little slower, and heat counts by the absolute pressure.
	theta, fill := s.psi/k.barom, s.q/k.barom
	m := 1 + fill
	outflow, cooling := 1-0.5*theta, k.fl.couple*(1+0.5*theta-fill)
	p := s.q + m*s.psi
	if p < 0 {
		outflow, cooling = 1, k.fl.couple*(1-theta/gammaMinus1)*(1-fill)
	}
	base := s.q + hg*g + m*(s.psi+hg*(wall/k.tau+k.fl.couple*g))/c
	d := hg * (outflow + m*cooling/c) * k.kappa
	var f, df float64
	for range 12 {
		f, df = k.fl.at(p)
		step := (p - base + d*f) / (1 + d*df)
		last := p
		p -= step
		if step < 2e-2 && step > -2e-2 {
			f += df * (p - last) // quadratic convergence: what is left is far below a millipascal
			break
		}
	}
	flow := k.kappa * f
	num := s.psi + hg*(wall/k.tau+k.fl.couple*g-cooling*flow)
	if k.want > 0 {
		k.slopes(s, stage{hg: hg, w: w, c: c, m: m, f: f, df: df, d: d, outflow: outflow, cooling: cooling, num: num})
	}
	s.q += hg * (g - outflow*flow)
	s.psi = num / c
}

// stage is what a stage has worked out when its slopes are asked for.
type stage struct{ hg, w, c, m, f, df, d, outflow, cooling, num float64 }

// slopes takes the sensitivities through the same stage.
func (k *coeffs) slopes(s *state, g stage) {
	inv, mc := 1/(1+g.d*g.df), g.m/g.c
	out, cool := g.hg*g.outflow*k.kappa*g.df, g.hg*g.cooling*k.kappa*g.df
	for j := range k.want {
		eq, ep := s.dq[j], s.dpsi[j]
		dp := inv * (eq + mc*ep)
		s.dq[j] = eq - out*dp
		s.dpsi[j] = (ep - cool*dp) / g.c
	}
	// What each parameter adds in this stage: to the first equation, to the second, and
	// to the second's divisor.
	more := func(j int, eq, ep, tail float64) {
		dp := inv * (eq + mc*ep + g.m*tail)
		s.dq[j] += eq - out*dp
		s.dpsi[j] += (ep-cool*dp)/g.c + tail
	}
	more(inKappa, -g.hg*g.outflow*g.f, -g.hg*g.cooling*g.f, 0)
	more(inDrift, g.hg, g.hg*k.fl.couple, 0)
	more(inTau, 0, -g.hg*k.beta*g.w/k.tau, g.num*(g.c-1)/(g.c*g.c))
	if k.want > inWall {
		more(inWall, 0, g.hg*g.w/k.tau, 0)
	}
}
