package trim

import (
	"cmp"
	"math"
	"slices"
	"sort"
)

// Predict is the total trim, as a share, that a cause with its likeliest size would give at
// each point.
func (r *Result) Predict(c Cause) []float64 {
	out := make([]float64, len(r.data.sites))
	for i, x := range r.predict(c.effects, c.beta) {
		out[i] = math.Expm1(x)
	}
	return out
}

// predict is ln(1+total) at each site.
func (r *Result) predict(list []effect, beta [unknowns]float64) []float64 {
	var all []*kind
	for _, e := range list {
		all = append(all, e.kind)
	}
	m := newModel(r.data, all)
	m.place(list)
	var out []float64
	for i := range m.rows {
		if row := &m.rows[i]; row.trim {
			out = append(out, row.site.trim-row.miss+m.mu(row, &beta))
		}
	}
	return out
}

// At is what a cause says at one flow.
type At struct {
	Air       float64 // kg/s
	Trim      float64 // total, share
	Low, High float64 // what the interval of the size and the scatter allow
}

// Flow is the air flow at a point, kg/s, as it was read or reckoned.
func (r *Result) Flow(point int) float64 { return r.data.sites[point].air }

// Foretell is the total trim that a doing gives from the least flow of the log to the largest, over
// the engine's own.
func (r *Result) Foretell(d Doing, n int) []At {
	of := make([]float64, len(r.data.sites))
	for i := range of {
		for k, share := range r.data.placed(&r.data.sites[i], &r.data.points[i]) {
			of[i] += share * d.Change[k]
		}
	}
	out := make([]At, n)
	for i := range out {
		at := r.data.lnFlow(i, n)
		y := math.Expm1(r.data.along(of, at))
		out[i] = At{Air: math.Exp(at), Trim: y, Low: y, High: y}
	}
	return out
}

// lnFlow is the ith of n flows from the least of the log to the largest, as a logarithm.
func (d *data) lnFlow(i, n int) float64 {
	from, to := math.Log(d.least), math.Log(math.Max(d.most, d.least*1.01))
	return from + (to-from)*float64(i)/float64(max(n-1, 1))
}

// Curve is what a cause says from the least flow of the log to the largest, with purge shut.
func (r *Result) Curve(c Cause, n int) []At {
	d := r.data
	best := r.predictShut(c.effects, c.beta)
	sides := [][]float64{best}
	if k := r.curves[c.Keys[0]]; len(c.Keys) == 1 && k != nil && len(k.at) > 1 {
		_, low, high := k.interval()
		for _, u := range []float64{low, high} {
			s := k.near(u)
			sides = append(sides, r.predictShut([]effect{s.best}, s.beta))
		}
	}
	spread := 2 * firstNumber(r.Scatter, scatters[0])
	out := make([]At, n)
	for i := range out {
		at := d.lnFlow(i, n)
		x := At{Air: math.Exp(at), Low: math.Inf(1), High: math.Inf(-1)}
		for j, side := range sides {
			y := d.along(side, at)
			if j == 0 {
				x.Trim = math.Expm1(y)
			}
			x.Low, x.High = math.Min(x.Low, math.Expm1(y-spread)), math.Max(x.High, math.Expm1(y+spread))
		}
		out[i] = x
	}
	return out
}

// predictShut is predict with purge shut, unless purge is what it is about.
func (r *Result) predictShut(list []effect, beta [unknowns]float64) []float64 {
	if !slices.ContainsFunc(list, func(e effect) bool { return e.key == PurgeShare }) {
		beta[purging] = 0
	}
	return r.predict(list, beta)
}

// near is the size of a curve that is nearest to one.
func (c *curve) near(u float64) sized {
	best := c.at[0]
	for _, s := range c.at {
		if math.Abs(s.u-u) < math.Abs(best.u-u) {
			best = s
		}
	}
	return best
}

// along goes from site to site by rising flow, in straight lines over the logarithm of the flow:
// sites at nearly the same flow are taken together, since they have other pressures.
func (d *data) along(of []float64, lnAir float64) float64 {
	const same = 0.08
	order := make([]int, len(d.sites))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int { return cmp.Compare(d.sites[a].air, d.sites[b].air) })
	var xs, ys []float64
	n := 0.0
	for _, i := range order {
		x := math.Log(d.sites[i].air)
		if k := len(xs) - 1; k >= 0 && x-xs[k] < same {
			xs[k], ys[k] = (n*xs[k]+x)/(n+1), (n*ys[k]+of[i])/(n+1)
			n++
			continue
		}
		xs, ys, n = append(xs, x), append(ys, of[i]), 1
	}
	switch k := sort.SearchFloat64s(xs, lnAir); {
	case k == 0:
		return ys[0]
	case k == len(xs):
		return ys[k-1]
	default:
		f := (lnAir - xs[k-1]) / (xs[k] - xs[k-1])
		return ys[k-1] + f*(ys[k]-ys[k-1])
	}
}
