package trim

import (
	"math"

	"gonum.org/v1/gonum/mat"
)

// Place is where a fault's doing is known from: a point of the plant, or the second opinion.
type Place int

// The places: total trim at idle, at 2500 without load, loaded and under boost, and at idle what
// the meter reads over manifold pressure.
const (
	AtIdle Place = iota
	AtFast
	AtLoad
	AtBoost
	OverPressure
	Places
)

// Doing is what a fault does: the change of ln(1+total) at each place, and of ln(meter over manifold
// pressure) at the last; with its standard deviation.
type Doing struct {
	Change [Places]float64
	SD     [Places]float64
}

// With is what two faults do together.
func (d Doing) With(e Doing) Doing {
	for i := range d.Change {
		d.Change[i] += e.Change[i]
		d.SD[i] = math.Hypot(d.SD[i], e.SD[i])
	}
	return d
}

// flows at which the places are known, over the idle flow, as logarithms: a small engine has 2.2,
// 8, 21 and 60 g/s there (common practice, no source).
var placeFlow = [...]float64{0, 1.29, 2.26, 3.31}

// Weight is what a drive says about faults whose doing is known: the logarithm of its likelihood
// is a quadratic form of the doing, with the engine's own trim, its purge and its breathing
// integrated out, and one-sided where a trim stood at its stop.
type Weight struct {
	info   [Places][Places]float64
	pull   [Places]float64
	bounds []bound
}

// bound is a trim at its stop: the change there was at least what was read, in its direction.
type bound struct {
	at  [Places]float64
	low float64 // ln(1+total)
	sd  float64
	dir float64
}

// leastScatter is the scatter that a doing from elsewhere is given from point to point: no two
// engines have the same flows at the same pressures (chosen here).
const leastScatter = 0.015

// Weigh sums a drive up for faults whose doing is known.
func (r *Result) Weigh() Weight {
	d := r.data
	var w Weight
	var rows [][Places]float64
	var y, v, base, purge, breath []float64
	tau := math.Max(firstNumber(r.Scatter, leastScatter), leastScatter)
	for i := range d.sites {
		s, p := &d.sites[i], &d.points[i]
		at := d.placed(s, p)
		if s.stop != 0 {
			w.bounds = append(w.bounds, bound{at, s.trim, math.Sqrt(s.noise*s.noise + tau*tau + baseSD*baseSD), float64(s.stop)})
			continue
		}
		rows, y, v = append(rows, at), append(y, s.trim), append(v, s.noise*s.noise+tau*tau)
		base, purge, breath = append(base, baseSD), append(purge, purgeSD*s.purge), append(breath, 0)
		if s.second == s.second && p.Region == Idle {
			var second [Places]float64
			second[OverPressure] = 1
			rows, y, v = append(rows, second), append(y, s.second), append(v, secondSD*secondSD)
			base, purge, breath = append(base, 0), append(purge, 0), append(breath, math.Hypot(math.Hypot(breathingSD, d.sizeSD), breathingBend))
		}
	}
	w.sum(rows, y, covariance(v, base, purge, breath))
	return w
}

// covariance is that of rows that share unknowns of those standard deviations.
func covariance(v []float64, shared ...[]float64) *mat.SymDense {
	n := max(len(v), 1)
	c := mat.NewSymDense(n, nil)
	for i := range v {
		for k := i; k < len(v); k++ {
			x := 0.0
			if i == k {
				x = v[i]
			}
			for _, s := range shared {
				x += s[i] * s[k]
			}
			c.SetSym(i, k, x)
		}
	}
	return c
}

// sum makes the quadratic form.
func (w *Weight) sum(rows [][Places]float64, y []float64, c *mat.SymDense) {
	n := len(rows)
	var chol mat.Cholesky
	if n == 0 || !chol.Factorize(c) {
		return
	}
	x := mat.NewDense(n, int(Places)+1, nil)
	for i, row := range rows {
		for k, a := range row {
			x.Set(i, k, a)
		}
		x.Set(i, int(Places), y[i])
	}
	var solved, form mat.Dense
	if chol.SolveTo(&solved, x) != nil {
		return
	}
	form.Mul(x.T(), &solved)
	for a := range Places {
		for b := range Places {
			w.info[a][b] = form.At(int(a), int(b))
		}
		w.pull[a] = form.At(int(a), int(Places))
	}
}

// placed says how much of each place a point has.
func (d *data) placed(s *site, p *Point) (out [Places]float64) {
	x := math.Log(s.air / d.least)
	switch {
	case p.Region == Idle:
		out[AtIdle] = 1
	case p.Region == Fast:
		out[AtFast] = 1
	case s.escapes[0] > 0:
		out[AtBoost] = 1
	default:
		last := AtLoad
		for k := AtIdle; k < last; k++ {
			if from, to := placeFlow[k], placeFlow[k+1]; x <= to {
				f := math.Min(math.Max((x-from)/(to-from), 0), 1)
				out[k], out[k+1] = 1-f, f
				return out
			}
		}
		out[last] = 1
	}
	return out
}

// Ln is the logarithm of a drive's likelihood under a doing, beside that of none at all.
func (w *Weight) Ln(d Doing) float64 {
	ln := w.quadratic(d)
	for _, b := range w.bounds {
		mu, v := 0.0, b.sd*b.sd
		for k, a := range b.at {
			mu += a * d.Change[k]
			v += a * a * d.SD[k] * d.SD[k]
		}
		ln += lnTail((b.low-mu)/math.Sqrt(v)*b.dir) - lnTail(b.low/b.sd*b.dir)
	}
	return ln
}

// lnTail is the logarithm of what a normal distribution has beyond z, kept from falling without
// end: a stray reading is possible.
func lnTail(z float64) float64 { return math.Log(0.5*math.Erfc(z/math.Sqrt2) + 1e-5) }

// quadratic integrates the form over what the doing leaves open.
func (w *Weight) quadratic(d Doing) float64 {
	const least = 1e-4
	var h [unknowns][unknowns]float64
	var g [unknowns]float64
	ln := 0.0
	for a := range Places {
		s := math.Max(d.SD[a], least)
		for b := Place(0); b <= a; b++ {
			h[a][b] = w.info[a][b]
		}
		h[a][a] += 1 / (s * s)
		g[a] = d.Change[a]/(s*s) + w.pull[a]
		ln -= d.Change[a]*d.Change[a]/(2*s*s) + math.Log(s)
	}
	x, lnDet := solve(&h, &g, int(Places))
	for a := range Places {
		ln += g[a] * x[a] / 2
	}
	return ln - lnDet/2
}
