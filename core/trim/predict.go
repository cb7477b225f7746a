package trim

import (
	"math"
	"slices"
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
	from, to := math.Log(d.least), math.Log(math.Max(d.most, d.least*1.01))
	for i := range out {
		at := from + (to-from)*float64(i)/float64(max(n-1, 1))
		x := At{Air: math.Exp(at), Low: math.Inf(1), High: math.Inf(-1)}
		for j, side := range sides {
			y := d.smooth(side, at)
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

// smooth is the mean of a value of the sites near a flow: points at the same flow have other
// pressures, and a curve is drawn through their middle.
func (d *data) smooth(of []float64, lnAir float64) float64 {
	wide := 0.15
	for {
		sum, w := 0.0, 0.0
		for i := range d.sites {
			z := (math.Log(d.sites[i].air) - lnAir) / wide
			k := math.Exp(-z * z / 2)
			sum, w = sum+k*of[i], w+k
		}
		if w > 1e-6 {
			return sum / w
		}
		wide *= 1.5
	}
}
