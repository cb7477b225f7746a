package decay

import (
	"math"

	"gonum.org/v1/gonum/mat"
)

// Priors that keep the fit inside what a garage can show. They are weak: data
// override them wherever the data speak.
const (
	tauGuess   = 14.0      // s; gas takes its wall's temperature in 5 to 40 s (two standard deviations)
	tauSpread  = 0.70      // on ln τ; a little wider than that, for gas that hardly warms
	bendWall   = 2e-3      // Pa/s²; drift changes within a leg, little when the wall is measured
	bendBlind  = 8e-3      // and more when it is not: a kelvin that comes and goes within some minutes
	adiabatic  = 0.4 / 1.4 // settling after instant charging, as a share of the charge
	heatSpread = 0.07      // standard deviation of that share when the charging was recorded
	heatWide   = 0.20      // and when it was not: the gas may have been left hot, or cooled by its own leak
	driftFree  = 60.0      // Pa/s; without a drift leg the drift is as good as unknown
	wallShare  = 0.95      // the gas feels the wall, less what a swelling tank takes
	wallSpread = 0.15
	huber      = 2.5
)

// place of a local parameter in the global vector.
type place struct{ local, global int }

// problem is one fit: runs, parameters and priors.
type problem struct {
	runs   []*run
	fl     *flow
	kelvin float64 // Pa per K at constant volume

	maps  [][]place
	fixed []local // values of local parameters that are not fitted
	prior []prior

	kappa, kappaVac, kappaRef int // global indices, −1 when absent
	drift, tau, wall          int
	start, heat, delta, bend  []int // per run, −1 when absent

	phi   float64 // serial correlation of neighbouring knots
	sigma float64 // Pa, of one whitened knot

	model [][]float64
	sens  [][]local
	jtj   *mat.SymDense
	grad  []float64
}

type prior struct{ mean, sd float64 } // sd 0: none

func newProblem(runs []*run, fl *flow, kelvin float64, separate bool) *problem {
	p := &problem{runs: runs, fl: fl, kelvin: kelvin, kappaVac: -1, kappaRef: -1, wall: -1}
	n := 0
	add := func(mean, sd float64) int {
		p.prior = append(p.prior, prior{mean, sd})
		n++
		return n - 1
	}
	p.kappa = add(0, 0)
	var vac, ref, wall bool
	holds, drifts := 0, 0
	for _, r := range runs {
		vac = vac || r.leg.Kind == Hold && r.peak < 0
		ref = ref || r.leg.Reference > 0
		wall = wall || r.wall != nil
		if r.leg.Kind == Hold {
			holds++
		} else {
			drifts++
		}
	}
	if separate && vac {
		p.kappaVac = add(0, 0)
	}
	if ref {
		p.kappaRef = add(0, 0)
	}
	p.drift = add(0, driftFree)
	p.tau = add(math.Log(tauGuess), tauSpread)
	if wall {
		p.wall = add(wallShare, wallSpread)
	}
	for i, r := range runs {
		fix := local{inWall: 0, inTau: math.Log(tauGuess)}
		m := []place{{inDrift, p.drift}, {inTau, p.tau}}
		if p.kappaVac >= 0 && r.peak < 0 {
			m = append(m, place{inKappa, p.kappaVac})
		} else {
			m = append(m, place{inKappa, p.kappa})
		}
		if r.leg.Reference > 0 {
			m = append(m, place{inKappa, p.kappaRef})
		}
		if r.wall != nil {
			m = append(m, place{inWall, p.wall})
		}
		s := add(r.p[0], 0)
		m = append(m, place{inStart, s})
		h, d, bend := -1, -1, -1
		if r.leg.Kind == Hold {
			share, spread := 0.0, heatWide
			if r.pumped > 0 {
				// Heat put in evenly over the charging time leaves through the wall meanwhile.
				u := r.pumped / tauGuess
				share, spread = adiabatic*-math.Expm1(-u)/u, heatSpread
			}
			h = add(share*r.peak, spread*math.Abs(r.peak))
			m = append(m, place{inHeat, h})
			sd := bendWall
			if r.wall == nil {
				sd = bendBlind
			}
			bend = add(0, sd)
			m = append(m, place{inBend, bend})
		}
		if i > 0 && holds+drifts > 1 {
			// The drift need not stay what it was in the first leg; less is known of it
			// when nobody measured the wall.
			sd := 0.05
			if r.wall == nil {
				sd = 0.2
			}
			d = add(0, sd)
			m = append(m, place{inDrift, d})
		}
		p.start, p.heat, p.delta = append(p.start, s), append(p.heat, h), append(p.delta, d)
		p.bend = append(p.bend, bend)
		p.maps, p.fixed = append(p.maps, m), append(p.fixed, fix)
		p.model = append(p.model, make([]float64, len(r.t)))
		p.sens = append(p.sens, make([]local, len(r.t)))
	}
	p.jtj = mat.NewSymDense(n, nil)
	p.grad = make([]float64, n)
	return p
}

func (p *problem) locals(i int, x []float64) local {
	l := p.fixed[i]
	for _, m := range p.maps[i] {
		if m.local == inTau {
			l[inTau] = x[m.global]
		} else {
			l[m.local] += x[m.global]
		}
	}
	return l
}

// cost evaluates half the robust sum of squares in units of the noise; with
// normal it also fills jtj and grad.
func (p *problem) cost(x []float64, normal bool) float64 {
	n := len(x)
	if normal {
		p.jtj.Zero()
		clear(p.grad)
	}
	total := 0.0
	for i, r := range p.runs {
		var sens []local
		if normal {
			sens = p.sens[i]
		}
		r.integrate(p.fl, p.locals(i, x), p.kelvin, p.model[i], sens)
		var a [nLocal][nLocal]float64
		var b [nLocal]float64
		c, last := 0.0, 0.0
		var lastRow, row local
		root := math.Sqrt(1 - p.phi*p.phi)
		for k := range r.t {
			raw := (r.p[k] - p.model[i][k]) * r.weight[k]
			f, scale := 0.0, root
			if k > 0 {
				f, scale = p.phi, 1
				if gap := (r.t[k] - r.t[k-1]) / r.step; gap > 1.7 {
					f = math.Pow(p.phi, gap)
					scale = root / math.Sqrt(1-f*f)
				}
			}
			e := (raw - f*last) * scale / p.sigma
			last = raw
			w := 1.0
			if ae := math.Abs(e); ae > huber {
				w = huber / ae
				c += huber * (2*ae - huber)
			} else {
				c += e * e
			}
			if !normal {
				continue
			}
			for j := range row {
				s := sens[k][j] * r.weight[k]
				row[j] = (s - f*lastRow[j]) * scale / p.sigma
				lastRow[j] = s
			}
			for j := range row {
				wj := w * row[j]
				b[j] += wj * e
				for l := 0; l <= j; l++ {
					a[j][l] += wj * row[l]
				}
			}
		}
		total += c
		if !normal {
			continue
		}
		for _, m := range p.maps[i] {
			p.grad[m.global] += b[m.local]
			for _, o := range p.maps[i] {
				if o.global <= m.global {
					v := a[max(m.local, o.local)][min(m.local, o.local)]
					p.jtj.SetSym(m.global, o.global, p.jtj.At(m.global, o.global)+v)
				}
			}
		}
	}
	for j := range n {
		if q := p.prior[j]; q.sd > 0 {
			e := (q.mean - x[j]) / q.sd
			total += e * e
			if normal {
				p.grad[j] += e / q.sd
				p.jtj.SetSym(j, j, p.jtj.At(j, j)+1/(q.sd*q.sd))
			}
		}
	}
	return total
}

// clampTo keeps a step inside what the model can integrate.
func (p *problem) clampTo(x []float64) {
	for _, i := range []int{p.kappa, p.kappaVac, p.kappaRef} {
		if i >= 0 {
			x[i] = math.Min(math.Max(x[i], 0), 1)
		}
	}
	x[p.tau] = math.Min(math.Max(x[p.tau], math.Log(2)), math.Log(90))
}

// minimise is Levenberg–Marquardt from x; hold ≥ 0 names a parameter that stays.
// A step that gains less than enough is the last. It returns the cost reached [Levenberg 1944, Marquardt 1963, Moré's scaling,
// Numerical Analysis, Lecture Notes in Mathematics 630, 1978; from memory].
func (p *problem) minimise(x []float64, hold, most int, enough float64) float64 {
	n := len(x)
	free := make([]int, 0, n)
	for j := range n {
		if j != hold {
			free = append(free, j)
		}
	}
	lambda := 1e-3
	try := make([]float64, n)
	c := p.cost(x, true)
	scale := make([]float64, n)
	a := mat.NewSymDense(len(free), nil)
	rhs := mat.NewVecDense(len(free), nil)
	var step mat.VecDense
	var chol mat.Cholesky
	for range most {
		for j := range n {
			scale[j] = math.Max(math.Sqrt(p.jtj.At(j, j)), 1e-30)
		}
		improved := false
		var now float64
		for range 8 {
			for r, i := range free {
				rhs.SetVec(r, p.grad[i]/scale[i])
				for s, j := range free[:r+1] {
					v := p.jtj.At(i, j) / (scale[i] * scale[j])
					if r == s {
						v += lambda
					}
					a.SetSym(r, s, v)
				}
			}
			if !chol.Factorize(a) || chol.SolveVecTo(&step, rhs) != nil && step.Len() == 0 {
				lambda = math.Max(lambda*10, 1e-8)
				continue
			}
			copy(try, x)
			for r, i := range free {
				try[i] += step.AtVec(r) / scale[i]
			}
			p.clampTo(try)
			now = p.cost(try, false)
			if now <= c && !math.IsNaN(now) {
				improved = true
				break
			}
			lambda = math.Max(lambda*10, 1e-8)
		}
		if !improved {
			break
		}
		gain := c - now
		copy(x, try)
		lambda = math.Max(lambda/10, 1e-12)
		if gain < enough {
			c = p.cost(x, false)
			break
		}
		c = p.cost(x, true)
	}
	return c
}

// fit finds the parameters: four starting points, then noise and serial
// correlation from the residuals, three rounds.
func (p *problem) fit() []float64 {
	p.phi = 0
	p.sigma = 0
	for _, r := range p.runs {
		p.sigma = math.Max(p.sigma, r.noise/math.Sqrt(r.count))
	}
	p.sigma = math.Max(p.sigma, 0.05)
	// A fast leak that cools its gas and a slow one in hot gas look alike: start from
	// both, on every fourth knot, and go on with the best.
	scout := *p
	scout.runs = nil
	for _, r := range p.runs {
		scout.runs = append(scout.runs, r.thin(4))
	}
	scout.sigma /= 2
	var best []float64
	cost := math.Inf(1)
	for _, start := range [][2]float64{{1, 0}, {0.2, 0}, {0.8, -0.2}, {1.2, 0.2}} {
		x := p.guess(start[0], start[1])
		if c := scout.minimise(x, -1, 30, 0.01); c < cost-1e-3 || best == nil {
			best, cost = x, c
		}
	}
	p.minimise(best, -1, 30, 0.1)
	for round := range 3 {
		p.noiseFrom(best)
		c := p.minimise(best, -1, 25, 1e-3)
		if round == 0 {
			p.isothermal(best, c)
		}
	}
	return best
}

// isothermal takes the gas to keep its temperature while it leaks when the trace
// speaks clearly for it (e² to 1): a tank full of metal, a bottle in a water bath,
// readings so slow that all heat has gone.
func (p *problem) isothermal(x []float64, cost float64) {
	fl := *p.fl
	fl.couple = 0
	alt := *p
	alt.fl = &fl
	y := append([]float64(nil), x...)
	for _, h := range p.heat {
		if h >= 0 {
			y[h] = 0
		}
	}
	y[p.tau] = math.Log(tauGuess)
	if alt.minimise(y, -1, 25, 1e-2) < cost-4 {
		p.fl = &fl
		copy(x, y)
	}
}

// thin keeps every k-th knot, for a first look; a short run is kept whole.
func (r *run) thin(k int) *run {
	if len(r.t) < 8*k {
		return r
	}
	c := *r
	c.t, c.p, c.weight, c.spread, c.wall = nil, nil, nil, nil, nil
	for i := 0; i < len(r.t); i += k {
		c.t, c.p = append(c.t, r.t[i]), append(c.p, r.p[i])
		c.weight, c.spread = append(c.weight, r.weight[i]), append(c.spread, r.spread[i])
		if r.wall != nil {
			c.wall = append(c.wall, r.wall[i])
		}
	}
	c.step *= float64(k)
	return &c
}

// guess starts κ from a share of the fall of √|p| over each hold, as if there were
// no drift, with heat as a share of the start pressure left in the gas.
func (p *problem) guess(share, heat float64) []float64 {
	x := make([]float64, len(p.prior))
	for j, q := range p.prior {
		x[j] = q.mean
	}
	sum, n, sumRef, nRef := 0.0, 0.0, 0.0, 0.0
	for i, r := range p.runs {
		k := len(r.t)
		x[p.start[i]] = r.p[0]
		span := r.t[k-1] - r.t[0]
		if r.leg.Kind == Drift {
			if g := (r.p[k-1] - r.p[0]) / span; math.Abs(g) < 20 {
				x[p.drift] = g
			}
			continue
		}
		a, b := math.Abs(r.p[0]), math.Abs(r.p[k-1])
		f, _ := p.fl.at(math.Copysign(0.5*(a+b), r.p[0]))
		mean := math.Abs(f) / math.Sqrt(0.5*(a+b)) // f ≈ mean·√p
		kappa := math.Max(2*(math.Sqrt(a)-math.Sqrt(b))/span/mean, 0)
		if r.leg.Reference > 0 {
			sumRef, nRef = sumRef+kappa, nRef+1
		} else {
			sum, n = sum+kappa, n+1
		}
	}
	if n > 0 {
		x[p.kappa] = share * sum / n
	}
	if p.kappaVac >= 0 {
		x[p.kappaVac] = x[p.kappa]
	}
	if p.kappaRef >= 0 {
		x[p.kappaRef] = math.Max(sumRef/math.Max(nRef, 1)-x[p.kappa], 0.2*sumRef/math.Max(nRef, 1))
	}
	for i, h := range p.heat {
		if h >= 0 && share != 1 {
			x[h] = heat * p.runs[i].p[0]
		}
	}
	p.clampTo(x)
	return x
}

// noiseFrom estimates serial correlation and noise from the residuals at x.
func (p *problem) noiseFrom(x []float64) {
	p.cost(x, false)
	var c0, c1, n, k float64
	for i, r := range p.runs {
		last := 0.0
		res := make([]float64, len(r.t))
		for j := range r.t {
			res[j] = (r.p[j] - p.model[i][j]) * r.weight[j]
		}
		// A spike that got through must not pass for correlation.
		lim := 4 * mad(res)
		for j := range res {
			e := math.Min(math.Max(res[j], -lim), lim)
			c0 += e * e
			if j > 0 {
				c1 += e * last
			}
			last = e
		}
		n += float64(len(r.t))
		k++
	}
	used := 2 + 2*k
	phi := 0.0
	if c0 > 0 {
		// Fitting a curve takes correlation out of the residuals; what it takes is about
		// (1 + 3φ + parameters)/n [Kendall, Biometrika 41, 1954; from memory, extended].
		phi = c1 / c0 * n / math.Max(n-k, 1)
		phi += (1 + 3*math.Max(phi, 0) + 0.7*used) / n
	}
	p.phi = math.Min(math.Max(phi, 0), 0.97)
	// Whitened sum of squares with the new φ.
	sum := 0.0
	count := 0.0
	for i, r := range p.runs {
		last := 0.0
		var es []float64
		for j := range r.t {
			raw := (r.p[j] - p.model[i][j]) * r.weight[j]
			if j > 0 {
				es = append(es, raw-p.phi*last)
			}
			last = raw
		}
		lim := huber * 1.5 * mad(es)
		for _, e := range es {
			e = math.Min(math.Max(e, -lim), lim)
			sum += e * e
			count++
		}
	}
	floor := 0.0
	for _, r := range p.runs {
		floor = math.Max(floor, 0.3*r.noise/math.Sqrt(r.count))
	}
	dof := math.Max(count-used+1, 2)
	p.sigma = math.Max(math.Sqrt(sum/dof), math.Max(floor, 1e-3))
}

// freedom is the number of readings' worth of information behind the noise.
func (p *problem) freedom() float64 {
	n := 0.0
	for _, r := range p.runs {
		n += float64(len(r.t)) - 2
	}
	return math.Max(n*(1-p.phi)/(1+p.phi)-2, 3)
}

func mad(x []float64) float64 {
	a := make([]float64, len(x))
	for i, v := range x {
		a[i] = math.Abs(v)
	}
	return median(a) / 0.6745
}

// covariance returns the covariance of parameters i and j when only the listed
// ones are free, from the normal matrix of the last cost call; infinite when the
// data do not determine them.
func (p *problem) covariance(i, j int, free []int) float64 {
	n := len(free)
	a := mat.NewSymDense(n, nil)
	scale := make([]float64, n)
	ai, aj := -1, -1
	for r, g := range free {
		scale[r] = math.Sqrt(math.Max(p.jtj.At(g, g), 1e-300))
		if g == i {
			ai = r
		}
		if g == j {
			aj = r
		}
		for s, h := range free[:r+1] {
			a.SetSym(r, s, p.jtj.At(g, h)/(scale[r]*scale[s]))
		}
		a.SetSym(r, r, 1+1e-12)
	}
	var chol mat.Cholesky
	if !chol.Factorize(a) {
		return math.Inf(1)
	}
	e := mat.NewVecDense(n, nil)
	e.SetVec(aj, 1)
	var v mat.VecDense
	if err := chol.SolveVecTo(&v, e); err != nil && v.Len() == 0 {
		return math.Inf(1)
	}
	return v.AtVec(ai) / (scale[ai] * scale[aj])
}

func (p *problem) variance(j int, free []int) float64 { return p.covariance(j, j, free) }

// profile finds, on one side of the optimum, where the cost has risen by k².
func (p *problem) profile(x []float64, j int, best, k, sd float64, up bool) float64 {
	at := x[j]
	if !up && at <= 0 {
		return 0
	}
	dir := 1.0
	if !up {
		dir = -1
	}
	if math.IsInf(sd, 0) || math.IsNaN(sd) || sd <= 0 {
		sd = math.Max(at, 1e-7)
	}
	y := append([]float64(nil), x...)
	lo, hi := 0.0, math.Inf(1) // distances with rise below and above k²
	dist := k * sd
	for range 9 {
		v := at + dir*dist
		if v <= 0 {
			v, dist = 0, at
		}
		trial := append([]float64(nil), y...)
		trial[j] = v
		rise := math.Max(p.minimise(trial, j, 30, 1e-2)-best, 0)
		root := math.Sqrt(rise)
		if math.Abs(root-k) < 0.04*k {
			break
		}
		if root < k {
			if v == 0 {
				return 0
			}
			lo = dist
			y = trial
		} else {
			hi = dist
		}
		next := dist * math.Min(math.Max(k/math.Max(root, 1e-6), 0.2), 3)
		if !math.IsInf(hi, 0) && (next >= hi || next <= lo) {
			next = 0.5 * (lo + hi)
		} else if next <= lo {
			next = 2 * lo
		}
		dist = next
		if at+dir*dist > 0.02 { // a hole as wide as the neck; nothing to learn beyond
			return 0.02
		}
	}
	return math.Max(at+dir*dist, 0)
}
