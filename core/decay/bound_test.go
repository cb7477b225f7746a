package decay_test

import (
	"math"

	"gonum.org/v1/gonum/mat"

	"wexter/core/decay"
)

// bound is the Cramér–Rao bound on the standard deviation of ln d, without the volume's
// share: what the best reading of these legs could do that knows the truth's own
// equations, and of the unknowns what the fit is told before it sees a trace. The drift
// is unknown, the gauge's zero lies evenly within 0.05 inH2O, ln τ evenly from 1.5 to
// 40 s, and a wall that nobody measured walks in two waves of known period and of a size
// drawn evenly up to 1 K. Slopes are differences of the truth itself.
type bound struct {
	g      rig
	cols   map[string][]float64 // slope of every reading in every unknown
	before map[string]float64   // standard deviation known before
	n      int
}

// bounded is a leg of a test, with the moment at which it began.
type bounded struct {
	kind  decay.Kind
	ref   float64
	began float64
}

func (g rig) bound(legs []bounded) float64 {
	b := bound{g: g, cols: map[string][]float64{}, before: map[string]float64{"tau": math.Log(40/1.5) / math.Sqrt(12), "zero": 0.1 * inH2O / math.Sqrt(12)}}
	ref := ""
	for i, l := range legs {
		r := g
		r.ref = l.ref
		if l.kind == decay.Drift {
			b.drift(r, l.began)
			continue
		}
		names := []string{"d"}
		if l.ref > 0 {
			ref = "ref"
			names = append(names, ref)
		}
		b.hold(r, l.began, names, string(rune('0'+i)))
	}
	return b.solve(ref)
}

// add appends slopes of the next n readings in an unknown.
func (b *bound) add(name string, slopes []float64) {
	c := b.cols[name]
	for len(c) < b.n {
		c = append(c, 0)
	}
	b.cols[name] = append(c, slopes...)
}

func minus(a, b []float64, h float64) []float64 {
	out := make([]float64, len(b))
	for i := range out {
		out[i] = (a[min(i, len(a)-1)] - b[i]) / h
	}
	return out
}

// common adds what every leg has: drift, zero, τ and the wall.
func (b *bound) common(g rig, base []float64, run func(rig) []float64) {
	try := func(name string, h float64, change func(*rig)) {
		c := g
		change(&c)
		b.add(name, minus(run(c), base, h))
	}
	try("drift", 0.02, func(c *rig) { c.drift += 0.02 })
	try("zero", 1, func(c *rig) { c.zero++ })
	try("tau", 0.02, func(c *rig) { c.tau *= math.Exp(0.02) })
	if g.walk > 0 && !g.measured {
		for i, share := range []float64{0.7, 0.7, 0.3, 0.3} {
			name := "wave" + string(rune('0'+i))
			// Mean square of a walk drawn evenly up to 1 K, halved between sine and cosine.
			b.before[name] = share / 2 / math.Sqrt(3) / math.Sqrt2
			try(name, 0.01, func(c *rig) { c.wave[i] += 0.01 })
		}
	}
}

func (b *bound) drift(g rig, began float64) {
	run := func(c rig) []float64 { return c.curve(decay.Drift, began).ps }
	base := run(g)
	b.common(g, base, run)
	c := g
	c.d *= math.Exp(0.01)
	b.add("d", minus(run(c), base, 0.01))
	b.n += len(base)
}

// hold adds what is sealed from the end of charging on, or from the log's first reading:
// the pressure there is unknown, and where the charging was not logged so is the heat.
func (b *bound) hold(g rig, began float64, sizes []string, leg string) {
	r := g.charged(began)
	t, s := r.t, r.s
	run := func(c rig, s gasState) []float64 {
		q := &recorder{g: c, t: t, s: s, from: t}
		q.until(t+c.hold, false, nil)
		return q.ps
	}
	base := run(g, s)
	n := b.n
	b.common(g, base, func(c rig) []float64 { return run(c, s) })
	for _, name := range sizes {
		c := g
		if name == "d" {
			c.d *= math.Exp(0.01)
		} else {
			c.ref *= math.Exp(0.01)
		}
		b.add(name, minus(run(c, s), base, 0.01))
	}
	p := g.pressure(s)
	up := s
	up.m *= 1 + 5/g.barom
	up.u *= 1 + 5/g.barom
	b.add("start"+leg, minus(run(g, up), base, 5))
	hot := s
	hot.m /= 1 + 20/g.barom // as much pressure, more of it heat
	heat := minus(run(g, hot), base, 20)
	if g.recorded {
		c := g
		c.tau *= math.Exp(0.02)
		warm := func(q *recorder) float64 { return g.barom * (q.s.u/(q.s.m*airCv)/g.kelvin - 1) }
		slope := (warm(c.charged(began)) - warm(r)) / 0.02
		for i := range heat {
			b.cols["tau"][n+i] += slope * heat[i]
		}
	} else {
		b.add("heat"+leg, heat)
		b.before["heat"+leg] = 0.1 * math.Abs(p)
	}
	b.n += len(base)
}

// solve inverts the information; with a reference d is known from the ratio alone.
func (b *bound) solve(ref string) float64 {
	var names []string
	for name := range b.cols {
		b.add(name, nil)
		names = append(names, name)
	}
	g := b.g
	noise := g.white*g.white + g.ou*g.ou*math.Max(2*g.ouTime*g.rate, 1)
	k := len(names)
	info := mat.NewSymDense(k, nil)
	scale := make([]float64, k)
	for i := range names {
		for j := range i + 1 {
			v := 0.0
			for r, x := range b.cols[names[i]] {
				v += x * b.cols[names[j]][r]
			}
			info.SetSym(i, j, v/noise)
		}
		if sd := b.before[names[i]]; sd > 0 {
			info.SetSym(i, i, info.At(i, i)+1/(sd*sd))
		}
		scale[i] = math.Sqrt(math.Max(info.At(i, i), 1e-300))
	}
	for i := range names {
		for j := range i + 1 {
			info.SetSym(i, j, info.At(i, j)/scale[i]/scale[j])
		}
		info.SetSym(i, i, info.At(i, i)+1e-12)
	}
	var inv mat.Dense
	if inv.Inverse(info) != nil {
		return math.Inf(1)
	}
	at := func(x, y string) float64 {
		i, j := -1, -1
		for n, name := range names {
			if name == x {
				i = n
			}
			if name == y {
				j = n
			}
		}
		return inv.At(i, j) / scale[i] / scale[j]
	}
	v := at("d", "d")
	if ref != "" {
		v += at(ref, ref) - 2*at("d", ref)
	}
	return math.Sqrt(math.Max(v, 0))
}
