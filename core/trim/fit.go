package trim

import (
	"cmp"
	"math"
	"slices"
)

// The shared unknowns of every cause, each with a normal prior, and what else the likelihood
// is made of.
const (
	baseSD  = 0.02 // a healthy engine's own trim, within ±3 % for most (common practice, no source)
	purgeSD = 0.25 // of what a unit of purge does on a healthy car: ±6 % just off idle with a third of the duty
	// A unit of purge lets in a quarter of the idle air (common practice, no source).
	purgeAirUsual = 0.25
	purgeAirSD    = 0.2

	freedom  = 4.0  // of the t distribution of a point's miss: strays are not dragged along
	ownShare = 0.25 // of the scatter's variance that more visits to a point do not average away
)

// The scatter from point to point is found with the rest, on a grid, with its prior.
var scatters = [...]float64{0.004, 0.008, 0.016, 0.032}
var scatterLn = [...]float64{-1.7, -0.9, -1.1, -3.0} // ln of the prior

const (
	base = iota
	purging
	purgeAir
	breath
	breathBend
	bending
	unknowns
)

// model is one cause's unknowns on one log: which there are, and their priors.
type model struct {
	d       *data
	use     []int // of base, purging …
	mean    [unknowns]float64
	sd      [unknowns]float64
	rows    []row
	second  bool
	scatter int // of scatters
	ways    []way
}

// row is a datum: a trim or a second opinion, what it reads beyond the cause's effect, and how
// the unknowns move it.
type row struct {
	site        *site
	trim        bool
	miss        float64
	scales, lnS [len(scatters)]float64 // by the scatter
	x           [unknowns]float64
	dense       [unknowns]float64 // x of the unknowns in use, one after the other
}

// newModel chooses the unknowns of some causes together.
func newModel(d *data, causes []*kind) *model {
	m := &model{d: d}
	put := func(k int, mean, sd float64) {
		m.use, m.mean[k], m.sd[k] = append(m.use, k), mean, sd
	}
	put(base, 0, baseSD)
	own, bends := false, 0.0
	for _, c := range causes {
		own, bends = own || c.key == PurgeShare, math.Max(bends, c.bends)
	}
	if d.purgeMost > 0 && !own {
		mean := 0.0
		if d.metering == SpeedDensity {
			mean = -purgeAirUsual // the pressure counts the air, the trims see the fuel alone
		}
		put(purging, mean, purgeSD)
	}
	if m.second = d.second > 0; m.second {
		put(breath, 0, math.Hypot(breathingSD, d.sizeSD))
		put(breathBend, 0, breathingBend)
		if d.purgeMost > 0 {
			put(purgeAir, purgeAirUsual, purgeAirSD)
		}
	}
	if bends > 0 {
		put(bending, 0, bends)
	}
	for i := range d.sites {
		s := &d.sites[i]
		r := row{site: s, trim: true}
		r.x[base], r.x[purging], r.x[bending] = 1, s.purge, s.curve
		m.rows = append(m.rows, r)
		if s.second == s.second {
			r = row{site: s}
			r.x[breath], r.x[breathBend], r.x[bending], r.x[purgeAir] = 1, s.bend, -s.curve, -s.purge
			m.rows = append(m.rows, r)
		}
	}
	if bends == 0 {
		for i := range m.rows {
			m.rows[i].x[bending] = 0
		}
	}
	for i := range m.rows {
		r := &m.rows[i]
		r.scaled()
		for a, k := range m.use {
			r.dense[a] = r.x[k]
		}
	}
	return m
}

// scaled works out what a row may miss by, for every scatter.
func (r *row) scaled() {
	v := r.site.noise * r.site.noise
	if !r.trim {
		v = secondSD * secondSD
	}
	for j, tau := range scatters {
		r.scales[j] = math.Sqrt(v + tau*tau*(ownShare+(1-ownShare)/r.site.visits))
		r.lnS[j] = math.Log(r.scales[j])
	}
}

// effect is a size of a cause, and the way in which it goes with the flow.
type effect struct {
	*kind
	size, shape float64
}

// place puts the effects of the causes into the rows.
func (m *model) place(list []effect) {
	for i := range m.rows {
		r := &m.rows[i]
		var a, f, g float64
		for _, e := range list {
			x, y, z := e.effect(m.d, r.site, e.size, e.shape)
			a, f, g = a+x, f+y, g+z
		}
		if r.trim {
			r.miss = r.site.trim - a + f
		} else {
			r.miss = r.site.second + a + g
		}
	}
}

// lnT is the constant of the t distribution with four degrees of freedom.
var lnT = math.Log(0.375)

// bound is a trim at its stop: the truth lies at what was read, or beyond. It returns the
// likelihood of that, and by how much its logarithm rises for each standard deviation.
func (r *row) bound(mu, scale float64) (p, rises, z float64) {
	z = (mu - r.miss) / scale * float64(r.site.stop)
	p = 0.5 * math.Erfc(-z/math.Sqrt2)
	if z < -6 {
		p = math.Exp(-z*z/2) / (-z * math.Sqrt(2*math.Pi))
	}
	const stray = 1e-4 // a stray bound costs what a stray point does, no more
	p += stray
	return p, math.Exp(-z*z/2) / math.Sqrt(2*math.Pi) / p, z
}

// step is a row's slope at mu, and its weight in a step towards the best.
func (r *row) step(mu, scale float64) (slope, weight float64) {
	if r.trim && r.site.stop != 0 {
		_, rises, z := r.bound(mu, scale)
		return float64(r.site.stop) * rises / scale, math.Max(rises*(rises+z), 0) / (scale * scale)
	}
	d := r.miss - mu
	w := (freedom + 1) / (freedom*scale*scale + d*d)
	return w * d, w
}

// fitted is the best of the unknowns for one size.
type fitted struct {
	beta    [unknowns]float64
	ln      float64 // of the likelihood and of the priors beside their peaks, at the best
	lnWhole float64 // the same with the unknowns integrated out
}

// fit finds the unknowns, from a start that is near, and integrates them out (Laplace).
func (m *model) fit(start [unknowns]float64) fitted {
	out := fitted{beta: start}
	n := len(m.use)
	for turn := 0; ; turn++ {
		var h [unknowns][unknowns]float64
		var g [unknowns]float64
		for i := range m.rows {
			r := &m.rows[i]
			slope, weight := r.step(m.mu(r, &out.beta), r.scales[m.scatter])
			for a := range n {
				x := r.dense[a]
				if x == 0 {
					continue
				}
				g[a] += slope * x
				wx := weight * x
				for b := 0; b <= a; b++ {
					h[a][b] += wx * r.dense[b]
				}
			}
		}
		for a, k := range m.use {
			v := m.sd[k] * m.sd[k]
			g[a] -= (out.beta[k] - m.mean[k]) / v
			h[a][a] += 1 / v
		}
		step, lnDet := solve(&h, &g, n)
		most := 0.0
		for a, k := range m.use {
			most = math.Max(most, math.Abs(step[a])/m.sd[k])
		}
		if most < 0.02 || turn >= 20 {
			out.ln = m.ln(&out.beta)
			out.lnWhole = out.ln - lnDet/2
			for _, k := range m.use {
				out.lnWhole -= math.Log(m.sd[k])
			}
			return out
		}
		for a, k := range m.use {
			out.beta[k] += step[a]
		}
	}
}

// mu is what the unknowns say of a row.
func (m *model) mu(r *row, beta *[unknowns]float64) (mu float64) {
	for a, k := range m.use {
		mu += beta[k] * r.dense[a]
	}
	return mu
}

// ln is the logarithm of the likelihood and of the priors of the unknowns beside their peaks.
func (m *model) ln(beta *[unknowns]float64) float64 {
	ln, tails := 0.0, 1.0
	for i := range m.rows {
		r := &m.rows[i]
		mu := m.mu(r, beta)
		if r.trim && r.site.stop != 0 {
			p, _, _ := r.bound(mu, r.scales[m.scatter])
			ln += math.Log(p)
			continue
		}
		z := (r.miss - mu) / r.scales[m.scatter]
		ln += lnT - r.lnS[m.scatter]
		// One logarithm of a product is quicker than one for each row.
		if tails *= 1 + z*z/freedom; tails > 1e100 {
			ln, tails = ln-(freedom+1)/2*math.Log(tails), 1
		}
	}
	ln -= (freedom + 1) / 2 * math.Log(tails)
	for _, k := range m.use {
		z := (beta[k] - m.mean[k]) / m.sd[k]
		ln -= z * z / 2
	}
	return ln
}

// solve returns h⁻¹·g and ln det h of a symmetric positive matrix, of which the lower half is
// given (Cholesky).
func solve(h *[unknowns][unknowns]float64, g *[unknowns]float64, n int) (x [unknowns]float64, lnDet float64) {
	for a := range n {
		for b := 0; b <= a; b++ {
			s := h[a][b]
			for k := range b {
				s -= h[a][k] * h[b][k]
			}
			if a == b {
				h[a][a] = math.Sqrt(math.Max(s, 1e-12))
				lnDet += 2 * math.Log(h[a][a])
				continue
			}
			h[a][b] = s / h[b][b]
		}
	}
	for a := range n {
		s := g[a]
		for k := range a {
			s -= h[a][k] * x[k]
		}
		x[a] = s / h[a][a]
	}
	for a := n - 1; a >= 0; a-- {
		s := x[a]
		for k := a + 1; k < n; k++ {
			s -= h[k][a] * x[k]
		}
		x[a] = s / h[a][a]
	}
	return x, lnDet
}

// curve is what a log says about the size of one cause, at sizes that crowd about the best.
type curve struct {
	at   []sized // by rising size
	best int
}

// sized is one size of a cause: the logarithm of the likelihood with all else at its best, and
// with all else integrated out.
type sized struct {
	u       float64 // the size, or its logarithm
	lnPrior float64
	profile float64
	whole   float64
	best    effect // the shape, at the best
	scatter int
	beta    [unknowns]float64
}

// curve goes through the sizes of one cause: all of them coarsely, then ever closer about the
// best, since a good log leaves a peak that is far narrower than what one looks through.
func (d *data) curve(k *kind) *curve {
	const coarse, fine = 24, 9
	m := newModel(d, []*kind{k})
	m.ways = k.ways()
	c := &curve{}
	if k.sizes.none() {
		c.at = append(c.at, m.sized(k, 0, [unknowns]float64{}))
		return c
	}
	from, to := k.sizes.ends()
	m.scan(c, k, [3]float64{from, to, coarse})
	for range 3 {
		m.drop()
		low, high := c.at[max(c.best-1, 0)].u, c.at[min(c.best+1, len(c.at)-1)].u
		m.scan(c, k, [3]float64{low, high, fine})
	}
	return c
}

// scan adds sizes from, to, by their number, to a curve.
func (m *model) scan(c *curve, k *kind, over [3]float64) {
	var last [unknowns]float64
	if len(c.at) > 0 {
		last = c.at[c.best].beta
	}
	for i := range int(over[2]) {
		u := over[0] + (over[1]-over[0])*float64(i)/(over[2]-1)
		if slices.ContainsFunc(c.at, func(s sized) bool { return math.Abs(s.u-u) < 1e-12 }) {
			continue
		}
		s := m.sized(k, u, last)
		last = s.beta
		c.at = append(c.at, s)
	}
	slices.SortFunc(c.at, func(a, b sized) int { return cmp.Compare(a.u, b.u) })
	c.best = 0
	for i, s := range c.at {
		if s.profile > c.at[c.best].profile {
			c.best = i
		}
	}
}

// way is a shape of a cause together with a scatter.
type way struct {
	shape   float64
	scatter int
	top     float64 // the best that it came to with any size
}

// ways are all of a cause.
func (k *kind) ways() (out []way) {
	shapes := k.shapes
	if shapes == nil {
		shapes = []float64{0}
	}
	for _, shape := range shapes {
		for j := range scatters {
			out = append(out, way{shape, j, math.Inf(-1)})
		}
	}
	return out
}

// sized fits one size in every way that is left.
func (m *model) sized(k *kind, u float64, start [unknowns]float64) sized {
	size, lnPrior := k.sizes.at(u)
	out := sized{u: u, lnPrior: lnPrior, profile: math.Inf(-1), whole: math.Inf(-1)}
	extra := m.d.overspeed(k.key, size) - math.Log(float64(max(len(k.shapes), 1)))
	last, placed := start, math.NaN()
	for i := range m.ways {
		w := &m.ways[i]
		e := effect{k, size, w.shape}
		if w.shape != placed {
			m.place([]effect{e})
			placed = w.shape
		}
		m.scatter = w.scatter
		f := m.fit(last)
		last = f.beta
		more := scatterLn[w.scatter] + extra
		w.top = math.Max(w.top, f.lnWhole+more)
		out.whole = addLn(out.whole, f.lnWhole+more)
		if f.ln+more > out.profile {
			out.profile, out.best, out.scatter, out.beta = f.ln+more, e, w.scatter, f.beta
		}
	}
	return out
}

// drop leaves out the ways that no size makes likely.
func (m *model) drop() {
	const hopeless = 9.0
	top := math.Inf(-1)
	for _, w := range m.ways {
		top = math.Max(top, w.top)
	}
	m.ways = slices.DeleteFunc(m.ways, func(w way) bool { return w.top < top-hopeless })
}

// weights are the prior's shares of the sizes of a curve (trapezoids).
func (c *curve) weights() []float64 {
	out := make([]float64, len(c.at))
	sum := 0.0
	for i, s := range c.at {
		low, high := c.at[max(i-1, 0)].u, c.at[min(i+1, len(c.at)-1)].u
		if out[i] = 1; high > low {
			out[i] = math.Exp(s.lnPrior) * (high - low)
		}
		sum += out[i]
	}
	for i := range out {
		out[i] /= sum
	}
	return out
}

// ln is the cause's marginal likelihood.
func (c *curve) ln() float64 {
	out := math.Inf(-1)
	for i, w := range c.weights() {
		out = addLn(out, c.at[i].whole+math.Log(w))
	}
	return out
}

// interval is the best and where the profile has fallen by what 95 % allow; the ends of the
// grid are bounds.
func (c *curve) interval() (value, low, high float64) {
	const falls = 3.841 / 2 // of χ² with one degree of freedom
	top := c.at[c.best].profile
	cross := func(step int) float64 {
		i := c.best
		for ; i+step >= 0 && i+step < len(c.at); i += step {
			a, b := c.at[i], c.at[i+step]
			if b.profile < top-falls {
				// The fall goes with the square of the distance.
				x, y := math.Sqrt(math.Max(top-a.profile, 0)), math.Sqrt(top-b.profile)
				return a.u + (b.u-a.u)*(math.Sqrt(falls)-x)/(y-x)
			}
		}
		return c.at[i].u
	}
	return c.at[c.best].u, cross(-1), cross(1)
}

// short is by how much the best size falls short of one that would meet every row with the
// least scatter: two causes together cannot gain more.
func (c *curve) short(d *data) float64 {
	best := c.at[c.best]
	m := newModel(d, []*kind{best.best.kind})
	m.place([]effect{best.best})
	most := scatterLn[0]
	for i := range m.rows {
		if r := &m.rows[i]; r.site.stop == 0 || !r.trim {
			most += lnT - r.lnS[0]
		}
	}
	return most - best.profile
}

// rows is how many data the points of a log give.
func (d *data) rows() float64 { return float64(len(d.sites) + d.second) }

// addLn is ln(e^a + e^b).
func addLn(a, b float64) float64 {
	if a < b {
		a, b = b, a
	}
	if math.IsInf(a, -1) {
		return a
	}
	return a + math.Log1p(math.Exp(b-a))
}

// The idle of engines that are warm and sound, common practice, no source.
const (
	idleUsual  = 740.0 // 1/min
	idleSpread = 80.0
	idleTop    = 2200.0 // where air that nobody commands may take it
	canShut    = 0.4    // share of the idle air that a throttle shuts off before the idle rises
)

// overspeed weighs the idle speed where the control unit reckons with manifold pressure: what
// enters behind the throttle takes the idle air's place until the throttle can shut no further.
// It is the logarithm of the density of the speed that was read, the same for every cause but
// that one.
func (d *data) overspeed(k Key, size float64) float64 {
	if d.metering != SpeedDensity || d.idle < 0 {
		return 0
	}
	z := (d.points[d.idle].Speed - idleUsual) / idleSpread
	usual := math.Exp(-z*z/2)/(idleSpread*math.Sqrt(2*math.Pi)) + 1e-6
	if k != ManifoldLeak {
		return math.Log(usual)
	}
	s := &d.sites[d.idle]
	share := size * size * math.Pi / 4 * s.perArea / s.air
	if share > 1.1 { // more than the engine takes
		return math.Log(1e-9)
	}
	rises := 1 / (1 + math.Exp(-(share-canShut-0.15)/0.08))
	high := 1e-6
	if n := d.points[d.idle].Speed; n > idleUsual-idleSpread && n < idleTop {
		high = 1 / (idleTop - idleUsual + idleSpread)
	}
	return math.Log((1-rises)*usual + rises*high)
}
