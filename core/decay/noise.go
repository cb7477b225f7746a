package decay

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/mat"
)

// noise says how knots stray from the model: the gauge's noise, in part correlated from
// knot to knot, and a slow wander on top, of the walls' temperature where nobody measured
// it and of the error of the probe where somebody did.
type noise struct {
	sigma  float64 // Pa, of a knot of usual weight
	phi    float64 // correlation of neighbouring knots
	wander float64 // standard deviation of the wander, in units of sigma
	known  bool    // estimated, no longer a guess
}

// wanderTime is the time over which the wander stays alike, s: walls warm and cool over
// one or several minutes.
const wanderTime = 150.0

// gain is one step of the filter that makes the knots' errors independent (Kalman, Journal
// of Basic Engineering 82, 1960; from memory). Its state is the wander, the wander's
// slope, and the correlated noise; the wander is Matérn's with exponent 3/2, which has a
// slope. Both begin at zero, since what is sealed is then as warm as its walls.
type gain struct {
	a11, a12, a21, a22 float64 // the wander to this knot
	f                  float64 // the noise to this knot
	k1, k2, k3         float64
	own                float64 // what the noise counts at this knot
	inv                float64 // 1/√ of the innovation's variance
}

// gains prepares the filter for a run, in out, and returns the sum of the logarithms of
// the innovations' variances, in units of sigma².
func (n noise) gains(r *run, out []gain) float64 {
	out[0] = gain{} // nothing comes before the first knot
	lambda := math.Sqrt(3) / wanderTime
	long1, long2 := n.wander*n.wander, n.wander*n.wander*lambda*lambda
	p11, p12, p22, p33 := 0.0, 0.0, long2, 1.0
	p13, p23 := 0.0, 0.0
	logs := 0.0
	fade := math.Log(n.phi) / r.step // −∞ without correlation
	for k := range r.t {
		g := &out[k]
		g.own = 1 / r.weight[k]
		if k > 0 {
			dt := r.t[k] - r.t[k-1]
			g.f = math.Exp(fade * dt)
			e := math.Exp(-lambda * dt)
			g.a11, g.a12, g.a21, g.a22 = e*(1+lambda*dt), e*dt, -e*lambda*lambda*dt, e*(1-lambda*dt)
			// P of the steady state less A·P·Aᵀ of it is what is new.
			q11 := long1 - (g.a11*g.a11*long1 + g.a12*g.a12*long2)
			q12 := -(g.a11*g.a21*long1 + g.a12*g.a22*long2)
			q22 := long2 - (g.a21*g.a21*long1 + g.a22*g.a22*long2)
			b11, b12 := g.a11*p11+g.a12*p12, g.a11*p12+g.a12*p22
			b21, b22 := g.a21*p11+g.a22*p12, g.a21*p12+g.a22*p22
			p11, p12, p22 = b11*g.a11+b12*g.a12+q11, b11*g.a21+b12*g.a22+q12, b21*g.a21+b22*g.a22+q22
			p13, p23 = g.f*(g.a11*p13+g.a12*p23), g.f*(g.a21*p13+g.a22*p23)
			p33 = g.f*g.f*p33 + 1 - g.f*g.f
		}
		h1, h2, h3 := p11+p13*g.own, p12+p23*g.own, p13+p33*g.own
		s := h1 + h3*g.own
		g.k1, g.k2, g.k3 = h1/s, h2/s, h3/s
		g.inv = 1 / math.Sqrt(s)
		logs += math.Log(s)
		p11, p12, p13 = p11-g.k1*h1, p12-g.k1*h2, p13-g.k1*h3
		p22, p23, p33 = p22-g.k2*h2, p23-g.k2*h3, p33-g.k3*h3
	}
	return logs
}

// filtered is the filter's state of one column.
type filtered struct{ w, v, u float64 }

// next takes one value and returns its innovation in units of sigma.
func (s *filtered) next(g *gain, x float64) float64 {
	w, v, u := g.a11*s.w+g.a12*s.v, g.a21*s.w+g.a22*s.v, g.f*s.u
	e := x - w - u*g.own
	s.w, s.v, s.u = w+g.k1*e, v+g.k2*e, u+g.k3*e
	return e * g.inv
}

// setNoise takes another noise.
func (p *problem) setNoise(n noise) {
	p.noise = n
	if p.gains == nil {
		for _, r := range p.runs {
			p.gains = append(p.gains, make([]gain, len(r.t)))
		}
	}
	p.logs = 0
	for i, r := range p.runs {
		p.logs += n.gains(r, p.gains[i])
	}
}

// A wall that nobody measured is more likely to wander the more of it there may be.
const (
	blindFavour = 1.0
	blindMost   = 64.0 // Pa, a fifth of a kelvin
)

var (
	tryPhi    = []float64{0, 0.2, 0.4, 0.6, 0.8, 0.93}
	tryWander = []float64{0, 0.5, 1, 2, 4, 8, 16, 32, 64}
)

// noiseFrom estimates the noise from the residuals at x: the restricted likelihood, in
// which what the fit takes out of the residuals is put back (Patterson and Thompson,
// Biometrika 58, 1971; from memory).
func (p *problem) noiseFrom(x []float64) {
	p.cost(x, true) // model and slopes
	n := 0.0
	for _, r := range p.runs {
		n += float64(len(r.t))
	}
	blind := p.wall < 0
	dof := math.Max(n-float64(2+2*len(p.runs)), 2)
	start, now := p.noise, p.noise
	seen := map[[2]int]float64{}
	best := math.Inf(1)
	try := func(i, j int) float64 {
		if i < 0 || j < 0 || i >= len(tryPhi) || j >= len(tryWander) {
			return math.Inf(1)
		}
		if c, ok := seen[[2]int{i, j}]; ok {
			return c
		}
		p.setNoise(noise{start.sigma, tryPhi[i], tryWander[j], true})
		p.accumulate(x, true)
		left, logs := p.left(p.last)
		c := dof*math.Log(left) + p.logs + logs
		if blind {
			c -= blindFavour * math.Log(math.Min(math.Max(tryWander[j]*start.sigma, 1), blindMost))
		}
		seen[[2]int{i, j}] = c
		if c < best {
			best, now = c, p.noise
			now.sigma *= math.Sqrt(left / dof)
		}
		return c
	}
	// Downhill on the grid from two of its places, later from where it was.
	from := [][2]int{{1, 0}, {1, 4}}
	if i, j := slices.Index(tryPhi, start.phi), slices.Index(tryWander, start.wander); start.known {
		from = [][2]int{{i, j}}
	}
	for _, at := range from {
		for i, j := at[0], at[1]; ; {
			here := try(i, j)
			di, dj := 0, 0
			for _, d := range [][2]int{{1, 0}, {-1, 0}, {0, 1}, {0, -1}} {
				if c := try(i+d[0], j+d[1]); c < here {
					here, di, dj = c, d[0], d[1]
				}
			}
			if di == 0 && dj == 0 {
				break
			}
			i, j = i+di, j+dj
		}
	}
	floor := 1e-3
	for _, r := range p.runs {
		floor = math.Max(floor, 0.3*r.noise/math.Sqrt(r.count))
	}
	now.sigma = math.Max(now.sigma, floor)
	p.setNoise(now)
}

// left is the sum of squares that would remain after one more step of the fit, and the
// logarithm of the determinant of the normal matrix.
func (p *problem) left(squares float64) (float64, float64) {
	n := len(p.grad)
	var chol mat.Cholesky
	a := mat.NewSymDense(n, nil)
	logs := 0.0
	scale := make([]float64, n)
	for i := range n {
		scale[i] = math.Max(math.Sqrt(p.jtj.At(i, i)), 1e-30)
		logs += 2 * math.Log(scale[i])
	}
	for i := range n {
		for j := range i + 1 {
			a.SetSym(i, j, p.jtj.At(i, j)/scale[i]/scale[j])
		}
		a.SetSym(i, i, 1+1e-9)
	}
	if !chol.Factorize(a) {
		return squares, logs
	}
	rhs := mat.NewVecDense(n, nil)
	for i := range n {
		rhs.SetVec(i, p.grad[i]/scale[i])
	}
	var x mat.VecDense
	if chol.SolveVecTo(&x, rhs) != nil {
		return squares, logs
	}
	return math.Max(squares-mat.Dot(&x, rhs), 1e-3), logs + chol.LogDet()
}
