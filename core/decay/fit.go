package decay

import (
	"cmp"
	"math"
	"slices"

	"gonum.org/v1/gonum/blas"
	"gonum.org/v1/gonum/blas/blas64"
	"gonum.org/v1/gonum/lapack/lapack64"
	"gonum.org/v1/gonum/mat"
)

// place of a local parameter in the global vector; col is its place among those that the
// run uses.
type place struct{ local, global, col int }

// problem is one fit: runs, parameters and priors.
type problem struct {
	runs   []*run
	fl     *flow
	kelvin float64 // Pa per K at constant volume

	maps  [][]place
	used  [][]int // local parameters of each run, in order
	fixed []local // values of local parameters that are not fitted
	prior []prior

	kappa, kappaVac, kappaRef int // global indices, −1 when absent
	drift, tau, zero, wall    int
	feed                      int   // share by which fed gas brought more heat than gas as warm as the wall
	start, heat, delta        []int // per run, −1 when absent

	modes []mode  // what the fit is at other τ
	lean  float64 // weight of what drift is common
	noise noise
	gains [][]gain // of each run
	logs  float64  // what the gains' innovations vary, as a sum of logarithms
	last  float64  // sum of squares of the last accumulation, priors left out

	model [][]float64
	sens  [][]local
	jtj   *mat.SymDense
	grad  []float64
}

func newProblem(runs []*run, fl *flow, kelvin float64, separate bool) *problem {
	p := &problem{runs: runs, fl: fl, kelvin: kelvin, kappaVac: -1, kappaRef: -1, wall: -1, feed: -1, lean: driftLean}
	p.kappa = p.add(prior{})
	var vac, ref, wall, fed bool
	for _, r := range runs {
		vac = vac || r.leg.Kind == Hold && r.peak < 0
		ref = ref || r.leg.Reference > 0
		wall = wall || r.wall != nil
		fed = fed || r.past != nil && r.peak > 0
	}
	if separate && vac {
		p.kappaVac = p.add(prior{})
	}
	if ref {
		p.kappaRef = p.add(prior{})
	}
	p.drift, p.tau = p.add(prior{}), p.add(prior{}) // by driftCost and tauCost
	p.zero = p.add(prior{0, zeroSpread})
	if fed {
		p.feed = p.add(prior{0, feedSpread})
	}
	if wall {
		p.wall = p.add(prior{wallShare, wallSpread})
	}
	for i, r := range runs {
		p.take(i, r)
	}
	n := len(p.prior)
	p.jtj, p.grad = mat.NewSymDense(n, nil), make([]float64, n)
	return p
}

// add makes room for one more unknown.
func (p *problem) add(known prior) int {
	p.prior = append(p.prior, known)
	return len(p.prior) - 1
}

// take gives a run its own unknowns and says where its parameters stand among all.
func (p *problem) take(i int, r *run) {
	m := []place{{local: inDrift, global: p.drift}, {local: inTau, global: p.tau}, {local: inZero, global: p.zero}}
	if p.kappaVac >= 0 && r.peak < 0 {
		m = append(m, place{local: inKappa, global: p.kappaVac})
	} else {
		m = append(m, place{local: inKappa, global: p.kappa})
	}
	if r.leg.Reference > 0 {
		m = append(m, place{local: inKappa, global: p.kappaRef})
	}
	if r.wall != nil {
		m = append(m, place{local: inWall, global: p.wall})
	}
	start, heat, delta := p.add(prior{}), -1, -1
	m = append(m, place{local: inStart, global: start})
	switch {
	case r.leg.Kind == Drift:
		// Sealed at zero gauge; what is far from any gauge's zero was not.
		p.prior[start] = prior{0, math.Hypot(sealSpread, math.Max(math.Abs(r.p[0])-3*zeroSpread, 0))}
	case r.past != nil:
		heat = p.add(prior{}) // by pastCost
	default:
		heat = p.add(prior{heatLeft * r.peak, heatWide * math.Abs(r.peak)})
	}
	if heat >= 0 {
		m = append(m, place{local: inHeat, global: heat})
	}
	if i > 0 {
		sd := driftChange
		if r.wall == nil {
			sd = driftBlind
		}
		delta = p.add(prior{0, sd})
		m = append(m, place{local: inDrift, global: delta})
	}
	var used []int
	for _, x := range m {
		used = append(used, x.local)
	}
	slices.Sort(used)
	used = slices.Compact(used)
	for k := range m {
		m[k].col = slices.Index(used, m[k].local)
	}
	p.used = append(p.used, used)
	p.start, p.heat, p.delta = append(p.start, start), append(p.heat, heat), append(p.delta, delta)
	p.maps, p.fixed = append(p.maps, m), append(p.fixed, local{inTau: math.Log(tauGuess)})
	p.model = append(p.model, make([]float64, len(r.t)))
	p.sens = append(p.sens, make([]local, len(r.t)))
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
	for i, r := range p.runs {
		var sens []local
		if normal {
			sens = p.sens[i]
		}
		r.integrate(p.fl, p.locals(i, x), p.kelvin, p.model[i], sens)
	}
	return p.accumulate(x, normal)
}

// accumulate adds up squares, and with normal gradient and normal matrix, of the model
// as it was last integrated.
func (p *problem) accumulate(x []float64, normal bool) float64 {
	n := len(x)
	if normal {
		p.jtj.Zero()
		clear(p.grad)
	}
	total := 0.0
	unit := 1 / p.noise.sigma
	for i, r := range p.runs {
		used := p.used[i]
		var a [nLocal][nLocal]float64
		var b [nLocal]float64
		c := 0.0
		var row local
		var off filtered
		var cols [nLocal]filtered
		for k := range r.t {
			g := &p.gains[i][k]
			e := off.next(g, r.p[k]-p.model[i][k]) * unit
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
			s := &p.sens[i][k]
			for n, j := range used {
				x := cols[j].next(g, s[j]) * unit
				row[n] = x
				x *= w
				b[n] += x * e
				for l := range n + 1 {
					a[n][l] += x * row[l]
				}
			}
		}
		total += c
		if !normal {
			continue
		}
		for _, m := range p.maps[i] {
			p.grad[m.global] += b[m.col]
			for _, o := range p.maps[i] {
				if o.global <= m.global {
					v := a[max(m.col, o.col)][min(m.col, o.col)]
					p.jtj.SetSym(m.global, o.global, p.jtj.At(m.global, o.global)+v)
				}
			}
		}
	}
	p.last = total
	for i, r := range p.runs {
		if h := p.heat[i]; h >= 0 && r.past != nil {
			total += p.pastCost(r, x, h, normal)
		}
	}
	total += p.tauCost(x, normal) + p.driftCost(x, normal)
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
	x[p.tau] = math.Min(math.Max(x[p.tau], math.Log(1)), math.Log(90))
}

// minimise is Levenberg–Marquardt from x; hold ≥ 0 names a parameter that stays.
// A step that gains less than enough, or a ten-thousandth of the cost, is the last; one that
// promises less than a tenth of that is not taken. It
// returns the cost reached [Levenberg 1944, Marquardt 1963, Moré's scaling, Numerical
// Analysis, Lecture Notes in Mathematics 630, 1978; from memory].
func (p *problem) minimise(x []float64, hold, most int, enough float64) float64 {
	n := len(x)
	free := make([]int, 0, n)
	for j := range n {
		if j != hold {
			free = append(free, j)
		}
	}
	lambda := 1e-3
	try, scale := make([]float64, n), make([]float64, n)
	c := p.cost(x, true)
	if math.IsNaN(c) {
		c = math.Inf(1)
	}
	at, grad := mat.NewSymDense(n, nil), make([]float64, n)
	a := blas64.Symmetric{N: len(free), Stride: len(free), Data: make([]float64, len(free)*len(free)), Uplo: blas.Lower}
	step := blas64.General{Rows: len(free), Cols: 1, Stride: 1, Data: make([]float64, len(free))}
	for range most {
		at.CopySym(p.jtj)
		copy(grad, p.grad)
		for j := range n {
			scale[j] = math.Max(math.Sqrt(at.At(j, j)), 1e-30)
		}
		improved := false
		gain := 0.0
		for range 8 {
			for r, i := range free {
				step.Data[r] = grad[i] / scale[i]
				for s, j := range free[:r+1] {
					a.Data[r*a.Stride+s] = at.At(i, j) / (scale[i] * scale[j])
				}
				a.Data[r*a.Stride+r] += lambda
			}
			chol, ok := lapack64.Potrf(a)
			if !ok {
				lambda = math.Max(lambda*10, 1e-8)
				continue
			}
			lapack64.Potrs(chol, step)
			copy(try, x)
			promised := 0.0
			for r, i := range free {
				try[i] += step.Data[r] / scale[i]
				promised += step.Data[r] * grad[i] / scale[i]
			}
			if promised < 0.1*(enough+1e-4*c) { // not worth looking at
				return c
			}
			p.clampTo(try)
			// With slopes at once: most steps are taken.
			now := p.cost(try, true)
			if now <= c && !math.IsNaN(now) {
				improved = true
				gain, c = c-now, now
				break
			}
			lambda = math.Max(lambda*10, 1e-8)
		}
		if !improved {
			break
		}
		copy(x, try)
		lambda = math.Max(lambda/10, 1e-12)
		if gain < enough+1e-4*c {
			break
		}
	}
	return c
}

// mode is the best fit at one τ.
type mode struct {
	x    []float64
	cost float64
}

// tauGrid are the times at which the fit is made with τ held, s; fewGrid those of a
// first look.
var (
	tauGrid = []float64{1.2, 2.4, 4.8, 9.6, 19, 38, 70}
	fewGrid = []float64{2, 8, 30}
)

// scan fits at each τ of a grid. A
// fast leak that cools its gas and a slow one in hot gas look alike, and between them the
// cost may have a hump: with τ held there is none.
func (p *problem) scan(x []float64, grid []float64) []mode {
	middle := len(grid) / 2
	out := make([]mode, len(grid))
	from := func(i int, y []float64) {
		y = slices.Clone(y)
		y[p.tau] = math.Log(grid[i])
		out[i] = mode{x: y, cost: p.minimise(y, p.tau, 8, 0.1)}
	}
	from(middle, x)
	for i := middle + 1; i < len(out); i++ {
		from(i, out[i-1].x)
	}
	for i := middle - 1; i >= 0; i-- {
		from(i, out[i+1].x)
	}
	return out
}

// fit finds the parameters: from the best τ on a quarter of the knots, then noise and serial
// correlation from the residuals, three rounds.
func (p *problem) fit() []float64 {
	sigma := 0.05
	for _, r := range p.runs {
		sigma = math.Max(sigma, r.noise/math.Sqrt(r.count))
	}
	p.setNoise(noise{sigma: sigma})
	rough := p.coarse()
	p.modes = rough.scan(p.guess(), fewGrid)
	best := slices.Clone(lowest(p.modes).x)
	rough.minimise(best, -1, 8, 0.5)
	c := p.minimise(best, -1, 4, 0.5)
	for round := range 3 {
		before := p.noise
		p.noiseFrom(best)
		if round == 0 {
			p.modes = p.coarse().scan(best, tauGrid)
			p.settle(best)
			if m := lowest(p.modes); m.cost < p.cost(best, false)-1e-3 {
				copy(best, m.x)
			}
		}
		last := c
		c = p.minimise(best, -1, 25, 1e-3)
		if math.Abs(math.Log(p.noise.sigma/before.sigma)) < 0.03 && p.noise.wander == before.wander && p.noise.phi == before.phi && c > last-1 {
			break
		}
	}
	for i := range p.modes {
		p.modes[i].cost = p.cost(p.modes[i].x, false)
	}
	return best
}

// settle keeps the valleys of the scan, on all knots and with τ let go, so that the modes
// say how good a fit on each side of a hump can be.
func (p *problem) settle(best []float64) {
	var valleys []mode
	for i, m := range p.modes {
		if i > 0 && m.cost > p.modes[i-1].cost || i+1 < len(p.modes) && m.cost > p.modes[i+1].cost {
			continue
		}
		if math.Abs(m.x[p.tau]-best[p.tau]) > 0.6 {
			m.cost = p.minimise(m.x, -1, 15, 1e-2)
		} else {
			copy(m.x, best)
			m.cost = p.cost(best, false)
		}
		valleys = append(valleys, m)
	}
	p.modes = valleys
}

// coarse is the same problem on a quarter of the knots, each the mean of more readings.
func (p *problem) coarse() *problem {
	c := *p
	c.runs = nil
	for _, r := range p.runs {
		if r.coarse != nil {
			r = r.coarse
		}
		c.runs = append(c.runs, r)
	}
	// The mean of four neighbours: less noise, and less of it alike.
	c.gains = nil
	n := p.noise
	c.setNoise(noise{sigma: n.sigma / 2 * math.Sqrt((1+n.phi)/(1-n.phi)), phi: math.Pow(n.phi, 4), wander: 2 * n.wander * math.Sqrt((1-n.phi)/(1+n.phi))})
	return &c
}

func lowest(modes []mode) mode {
	return slices.MinFunc(modes, func(a, b mode) int { return cmp.Compare(a.cost, b.cost) })
}

// guess starts κ from the fall of √|p| over each hold, as if there were no drift.
func (p *problem) guess() []float64 {
	x := make([]float64, len(p.prior))
	for j, q := range p.prior {
		x[j] = q.mean
	}
	x[p.tau] = math.Log(tauGuess)
	sum, n, sumRef, nRef := 0.0, 0.0, 0.0, 0.0
	for i, r := range p.runs {
		k := len(r.t)
		x[p.start[i]] = r.p[0]
		if r.leg.Kind == Drift {
			x[p.start[i]] = 0
		}
		if h := p.heat[i]; h >= 0 && r.past != nil {
			x[h], _ = r.past.heat(tauGuess)
		}
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
		x[p.kappa] = sum / n
	}
	if p.kappaVac >= 0 {
		x[p.kappaVac] = x[p.kappa]
	}
	if p.kappaRef >= 0 {
		x[p.kappaRef] = math.Max(sumRef/math.Max(nRef, 1)-x[p.kappa], 0.2*sumRef/math.Max(nRef, 1))
	}
	p.clampTo(x)
	return x
}

// freedom is the number of readings' worth of information behind the noise.
func (p *problem) freedom() float64 {
	n := 0.0
	for _, r := range p.runs {
		n += float64(len(r.t)) - 2
	}
	return math.Max(n*(1-p.noise.phi)/(1+p.noise.phi)-2, 3)
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

// outermost is where the scan expects the cost to have risen by k² on one side of all
// the fits it made, and the fit from which to go there.
func (p *problem) outermost(x []float64, j int, best, k float64, up bool) (from []float64, bound float64) {
	dir := 1.0
	if !up {
		dir = -1
	}
	bound = math.Inf(-1)
	free := slices.Delete(seq(len(x)), p.tau, p.tau+1)
	for _, m := range p.modes {
		c := p.cost(m.x, true)
		if c > best+k*k {
			continue
		}
		sd := math.Sqrt(p.variance(j, free))
		if b := dir*m.x[j] + sd*math.Sqrt(k*k-(c-best)); b > bound {
			from, bound = m.x, b
		}
	}
	return from, dir * bound
}

// follow is x with parameter j at v and the others where the normal matrix of the last cost
// call expects them then: a start from which few steps are left.
func (p *problem) follow(x []float64, j int, v float64) []float64 {
	out := slices.Clone(x)
	out[j] = v
	free := slices.Delete(seq(len(x)), j, j+1)
	a := blas64.Symmetric{N: len(free), Stride: len(free), Data: make([]float64, len(free)*len(free)), Uplo: blas.Lower}
	step := blas64.General{Rows: len(free), Cols: 1, Stride: 1, Data: make([]float64, len(free))}
	scale := make([]float64, len(free))
	for r, i := range free {
		scale[r] = math.Max(math.Sqrt(p.jtj.At(i, i)), 1e-30)
		step.Data[r] = -p.jtj.At(i, j) * (v - x[j]) / scale[r]
		for s, k := range free[:r+1] {
			a.Data[r*a.Stride+s] = p.jtj.At(i, k) / (scale[r] * scale[s])
		}
		a.Data[r*a.Stride+r] += 1e-9
	}
	chol, ok := lapack64.Potrf(a)
	if !ok {
		return out
	}
	lapack64.Potrs(chol, step)
	for r, i := range free {
		out[i] += step.Data[r] / scale[r]
	}
	p.clampTo(out)
	return out
}

// profile finds, on one side of the optimum, where the cost has risen by k² for good:
// a fit at another τ that is nearly as good belongs to the interval.
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
	if from, bound := p.outermost(x, j, best, k, up); from != nil && dir*(from[j]-at) > 0.3*dist {
		copy(y, from)
		lo, dist = dir*(from[j]-at), dir*(bound-at)
	}
	p.cost(y, true) // for follow
	for range 9 {
		v := at + dir*dist
		if v <= 0 {
			v, dist = 0, at
		}
		trial := p.follow(y, j, v)
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
