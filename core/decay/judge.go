package decay

import (
	"fmt"
	"math"
	"slices"

	"gonum.org/v1/gonum/stat/distuv"

	"wexter/core/gas"
)

func median(x []float64) float64 {
	if len(x) == 0 {
		return 0
	}
	slices.Sort(x)
	return x[len(x)/2]
}

// Judge fits all legs through one model and states the leak's diameter with its
// interval, the verdict against the limit, and what would sharpen it.
func Judge(legs []Leg, s Setup) (Result, error) {
	if err := s.Check(); err != nil {
		return Result{}, err
	}
	s = s.withDefaults()
	if len(legs) == 0 {
		return Result{}, ErrNoHold
	}
	var runs []*run
	var w []string
	hold, ref := false, 0.0
	top := 0.0
	for i, l := range legs {
		if err := l.check(i); err != nil {
			return Result{}, err
		}
		r := prepare(l, s.Resolution)
		if len(r.t) < 2 {
			return Result{}, fmt.Errorf("leg %d: nothing is left between the start and the end of the hold", i+1)
		}
		if l.Kind == Hold {
			if math.Abs(r.peak) < math.Max(40, 8*r.noise) {
				return Result{}, fmt.Errorf("leg %d never rises above %.2g inH2O: %w", i+1, math.Abs(r.peak)/249.089, ErrNoHold)
			}
			if len(r.t) < minHold {
				return Result{}, fmt.Errorf("leg %d holds for %d reading(s) only; a hold needs at least %d: read faster, or the leak is too large for a hold", i+1, len(r.t), minHold)
			}
			hold = hold || l.Reference == 0
		}
		if l.Reference > 0 {
			if ref > 0 && ref != l.Reference {
				return Result{}, fmt.Errorf("two reference orifices, %.4g and %.4g mm: use one in a test", ref*1e3, l.Reference*1e3)
			}
			ref = l.Reference
		}
		for j, p := range r.p {
			if math.Abs(p) > 0.9*s.Barometer {
				return Result{}, fmt.Errorf("leg %d reads %.4g kPa at %.4g s: that is absolute pressure, not gauge; take the barometer off", i+1, p/1e3, r.t[j])
			}
			top = math.Max(top, math.Abs(p))
		}
		runs = append(runs, &r)
	}
	if !hold {
		return Result{}, ErrNoHold
	}
	if s.Volume == 0 && ref == 0 {
		return Result{}, fmt.Errorf("the volume is missing: give it, or add a run with a known orifice")
	}
	fl := newFlow(s.Cd, s.Barometer, s.Temperature, top)
	kelvin := s.Barometer / s.Temperature
	// Drift legs first: the first leg carries the common drift.
	slices.SortStableFunc(runs, func(a, b *run) int { return int(b.leg.Kind) - int(a.leg.Kind) })

	p := newProblem(runs, fl, kelvin, false)
	x := p.fit()
	best := p.cost(x, true)

	var press, vac, refLeg bool
	drift := false
	for _, r := range runs {
		switch {
		case r.leg.Kind == Drift:
			drift = true
		case r.leg.Reference > 0:
			refLeg = true
		case r.peak < 0:
			vac = true
		default:
			press = true
		}
	}
	k := p.factor(s)
	res := Result{Nominal: !refLeg, HoldMore: math.NaN()}
	e := estimate{p: p, x: x, best: best, k: k, s: s, ref: ref, index: p.kappa}
	if press && vac {
		sep := newProblem(runs, fl, kelvin, true)
		y := sep.fit()
		// Compare both models under the noise of the wider one.
		p.phi, p.sigma = sep.phi, sep.sigma
		p.minimise(x, -1, 12, 1e-4)
		gain := p.cost(x, false) - sep.cost(y, true)
		ratio := math.Abs(math.Log(math.Max(y[sep.kappa], 1e-9) / math.Max(y[sep.kappaVac], 1e-9)))
		pe := estimate{p: sep, x: y, best: sep.cost(y, true), k: k, s: s, ref: ref, index: sep.kappa, wetSide: true}
		ve := pe
		ve.index, ve.wetSide = sep.kappaVac, false
		a, b := pe.size(), ve.size()
		res.Pressure, res.Vacuum = &a.Size, &b.Size
		if gain > 9 && ratio > 0.1 {
			res.Differ = true
			p, x = sep, y
			e = pe
			if b.D > a.D {
				e = ve
			}
		}
		e.best = p.cost(x, true)
	}
	e.wetSide = press && !(vac && !res.Differ) && (!res.Differ || e.index == p.kappa)
	sz := e.size()
	res.Size, res.Volume, res.Limit = sz.Size, sz.volume, sz.limit
	res.Tangent = sz.tangent
	res.Budget = sz.budget
	res.DriftRate = x[p.drift]
	res.SettleTau = math.Exp(x[p.tau])
	for i, r := range p.runs {
		if r.leg.Kind == Hold {
			res.Settle = x[p.heat[i]]
			break
		}
	}
	res.Residual = p.residual(x)
	res.Verdict = e.verdict(sz)

	held := 0.0
	for _, r := range runs {
		if r.leg.Kind == Hold && r.leg.Reference == 0 {
			held = math.Max(held, r.t[len(r.t)-1]-r.t[0])
		}
	}
	if s.Watching && res.Verdict != Undecided && (!drift || held < watchSeconds) {
		res.Verdict = Undecided
		if drift {
			res.HoldMore = math.Ceil(watchSeconds - held)
		} else {
			w = append(w, "While the hold runs a verdict needs a drift leg first: seal at zero gauge and watch for 60 s.")
		}
	}
	w = append(w, e.remarks(&res, sz, drift, press, vac)...)
	if res.Verdict == Undecided && math.IsNaN(res.HoldMore) {
		more, why := e.holdMore(sz, drift)
		res.HoldMore = more
		if why != "" {
			w = append(w, why)
		}
	}
	res.Sharper = e.sharper(res, drift, vac)
	res.Warnings = w
	p.cost(x, false)
	order := map[*run]int{}
	for i, r := range p.runs {
		order[r] = i
	}
	for i := range legs {
		for _, r := range runs {
			if sameLeg(r.leg, legs[i]) {
				res.Legs = append(res.Legs, p.tracing(order[r], x, e, sz))
				break
			}
		}
	}
	return res, nil
}

func sameLeg(a, b Leg) bool { return &a.Time[0] == &b.Time[0] && a.Kind == b.Kind }

// factor is the coverage factor of the interval: Student's t at 95 %, or a wider
// one while the hold may still be stopped at any moment.
func (p *problem) factor(s Setup) float64 {
	k := distuv.StudentsT{Mu: 0, Sigma: 1, Nu: p.freedom()}.Quantile(0.975)
	if s.Watching {
		k *= watchFactor / 1.96
	}
	return k
}

// residual is the standard deviation of a single reading about the fit.
func (p *problem) residual(x []float64) float64 {
	p.cost(x, false)
	sum, n := 0.0, 0.0
	for i, r := range p.runs {
		// Interpolate the fit to the readings of the hold.
		j := 0
		for k, t := range r.leg.Time {
			t -= r.offset
			if t < r.t[0] || t > r.t[len(r.t)-1] {
				continue
			}
			for j+2 < len(r.t) && r.t[j+1] < t {
				j++
			}
			u := (t - r.t[j]) / (r.t[j+1] - r.t[j])
			d := r.leg.Gauge[k] - (p.model[i][j]*(1-u) + p.model[i][j+1]*u)
			if math.Abs(d) < 8*math.Max(r.noise, p.sigma) {
				sum += d * d
				n++
			}
		}
	}
	return math.Sqrt(sum / math.Max(n, 1))
}

// estimate reads the diameter off a fit.
type estimate struct {
	p       *problem
	x       []float64
	best    float64
	k       float64
	s       Setup
	ref     float64
	index   int
	wetSide bool // the reading comes from a pressure leg
}

type sized struct {
	Size
	kLow, kHigh float64 // 1/m, profile bounds of κ
	volume      float64
	sdVolume    float64 // of ln V
	limit       float64
	ratio       bool // judged by the ratio to the reference
	sdRatio     float64
	tangent     float64
	wet         float64
	budget      []Source
}

func (e estimate) size() sized {
	p, x, s := e.p, e.x, e.s
	p.cost(x, true)
	kappa := x[e.index]
	all := seq(len(x))
	sd := math.Sqrt(p.variance(e.index, all))
	var out sized
	out.kLow = p.profile(x, e.index, e.best, e.k, sd, false)
	out.kHigh = p.profile(x, e.index, e.best, e.k, sd, true)
	p.cost(x, true)
	out.tangent = sd / math.Max(kappa, 1e-12)

	out.sdVolume = s.VolumeTolerance / 2
	lnV := math.Log(math.Max(s.Volume, 1e-9))
	out.limit = s.Limit
	if p.kappaRef >= 0 {
		kr := math.Max(x[p.kappaRef], 1e-12)
		sdRef := math.Sqrt(p.variance(p.kappaRef, all)) / kr
		known := math.Log(gas.Area(e.ref)) - math.Log(kr) // ln V if the orifice reads its drilled size
		if s.Volume == 0 {
			// The reference defines the scale, with the tolerance of its coefficient.
			lnV = known
			out.sdVolume = math.Hypot(sdRef, cdTolerance/2)
		} else {
			w0, w1 := 1/(out.sdVolume*out.sdVolume), 1/(sdRef*sdRef+refTolerance*refTolerance)
			lnV = (w0*lnV + w1*known) / (w0 + w1)
			out.sdVolume = 1 / math.Sqrt(w0+w1)
		}
		reads := gas.Diameter(kr * math.Exp(lnV))
		out.limit = s.Limit * reads / e.ref
		out.ratio = true
		both := math.Sqrt(p.ratioVariance(e.index, p.kappaRef, kappa, kr))
		out.sdRatio = both
	}
	v := math.Exp(lnV)
	out.volume = v
	area := kappa * v
	up := math.Hypot((out.kHigh-kappa)*v, area*math.Expm1(e.k*out.sdVolume))
	down := math.Hypot((kappa-out.kLow)*v, -area*math.Expm1(-e.k*out.sdVolume))
	if out.kLow == 0 {
		down = area
	}
	out.D = gas.Diameter(area)
	out.Low = gas.Diameter(area - down)
	out.High = gas.Diameter(area + up)
	if s.Wet && e.wetSide {
		out.wet = heavyVapour
		out.High += heavyVapour * out.D
	}
	out.budget = e.budget(out, sd, all)
	return out
}

// ratioVariance is the variance of ln(κi/κj).
func (p *problem) ratioVariance(i, j int, ki, kj float64) float64 {
	all := seq(len(p.grad))
	ki, kj = math.Max(ki, 1e-12), math.Max(kj, 1e-12)
	return math.Max(p.variance(i, all)/(ki*ki)+p.variance(j, all)/(kj*kj)-2*p.covariance(i, j, all)/(ki*kj), 0)
}

// budget splits the variance by freeing the unknowns group by group.
func (e estimate) budget(out sized, sd float64, all []int) []Source {
	p, x := e.p, e.x
	group := func(names ...[]int) []int {
		f := []int{e.index}
		f = append(f, p.start...)
		for _, n := range names {
			f = append(f, n...)
		}
		f = slices.DeleteFunc(f, func(i int) bool { return i < 0 })
		slices.Sort(f)
		return slices.Compact(f)
	}
	ref := []int{p.kappaRef, p.kappaVac}
	if e.index == p.kappaVac {
		ref = []int{p.kappaRef, p.kappa}
	}
	drift := append(append([]int{p.drift}, p.delta...), p.bend...)
	settle := append([]int{p.tau}, p.heat...)
	noise := p.variance(e.index, group(ref))
	withDrift := p.variance(e.index, group(ref, drift))
	withSettle := p.variance(e.index, group(ref, drift, settle))
	total := p.variance(e.index, all)
	kappa := x[e.index]
	scale := kappa * kappa // to the variance of ln A
	if kappa == 0 {
		scale = math.Max(out.kHigh*out.kHigh, 1e-20)
	}
	b := []Source{
		{"gauge noise", fmt.Sprintf("%.2g Pa a reading, correlation %.2f between knots", p.residual(x), p.phi), "from the residuals", noise / scale},
		{"drift", fmt.Sprintf("%+.2g Pa/s", x[p.drift]), "fitted with the other legs", math.Max(withDrift-noise, 0) / scale},
		{"settling", fmt.Sprintf("τ %.0f s", math.Exp(x[p.tau])), "fitted; normal on ln τ, 5 to 40 s", math.Max(withSettle-withDrift, 0) / scale},
	}
	p.cost(x, true)
	if p.wall >= 0 {
		b = append(b, Source{"wall temperature", fmt.Sprintf("the gas feels %.0f %% of it", 100*x[p.wall]), "normal, measured", math.Max(total-withSettle, 0) / scale})
	}
	if kappa > 0 {
		value := fmt.Sprintf("%.3g L ± %.2g %%", out.volume*1e3, 200*out.sdVolume)
		name := "volume"
		if e.s.Volume == 0 {
			name = "reference orifice"
			value = fmt.Sprintf("%.3g mm, coefficient ± %.2g %%", e.ref*1e3, 100*cdTolerance)
		}
		b = append(b, Source{name, value, "normal on its logarithm, k = 2", out.sdVolume * out.sdVolume})
	}
	if out.wet > 0 {
		b = append(b, Source{"heavy vapour", "up to a tenth too small", "one-sided", math.Pow(out.wet, 2)})
	}
	sum := 0.0
	for _, l := range b {
		sum += l.Share
	}
	for i := range b {
		b[i].Share /= math.Max(sum, 1e-300)
		if math.IsNaN(b[i].Share) {
			b[i].Share = 0
		}
	}
	slices.SortStableFunc(b, func(a, c Source) int {
		switch {
		case a.Share > c.Share:
			return -1
		case a.Share < c.Share:
			return 1
		}
		return 0
	})
	return b
}

// against returns the diameter, low and high, and the limit on the scale on which
// the verdict is made: absolute with the coefficient of the nominal limit added,
// or by ratio to the reference orifice, in which volume and coefficient cancel.
func (e estimate) against(z sized) (low, high, limit float64) {
	if !z.ratio {
		// Guard band: the limit itself is only as good as the coefficient of the hole that
		// would define it [JCGM 106, 2012; ISO 14253-1].
		g := cdTolerance / 2 / 2 * e.k // of the diameter
		return z.D - math.Hypot(z.D-z.Low, g*z.limit), z.D + math.Hypot(z.High-z.D, g*z.limit), z.limit
	}
	kappa := e.x[e.index]
	kr := math.Max(e.x[e.p.kappaRef], 1e-12)
	refSide := math.Sqrt(e.p.variance(e.p.kappaRef, seq(len(e.x)))) / kr
	scale := gas.Diameter(z.volume)
	d := math.Sqrt(kappa) * scale
	up := (math.Sqrt(z.kHigh)*scale - d)
	down := d - math.Sqrt(z.kLow)*scale
	// The reference's own scatter moves the limit; when both scatter alike it cancels.
	extra := math.Min(0.5*e.k*refSide, 0.5*e.k*z.sdRatio) * z.limit
	return d - math.Hypot(down, extra), d + math.Hypot(up, extra) + z.wet*d, z.limit
}

func seq(n int) []int {
	s := make([]int, n)
	for i := range s {
		s[i] = i
	}
	return s
}

func (e estimate) verdict(z sized) Verdict {
	low, high, limit := e.against(z)
	switch {
	case high < limit:
		return Within
	case low > limit:
		return Over
	}
	return Undecided
}

// tracing copies a leg's knots, its fit and what a leak of the limit would show.
func (p *problem) tracing(i int, x []float64, e estimate, z sized) Trace {
	r := p.runs[i]
	t := r.trace
	l := p.locals(i, x)
	for k := range r.t {
		t.Time = append(t.Time, r.t[k]+r.offset)
	}
	t.Measured = append(t.Measured, r.p...)
	t.Fitted = make([]float64, len(r.t))
	r.integrate(p.fl, l, p.kelvin, t.Fitted, nil)
	l[inKappa] += gas.Area(z.limit)/z.volume - x[e.index]
	l[inKappa] = math.Max(l[inKappa], 0)
	t.AtLimit = make([]float64, len(r.t))
	r.integrate(p.fl, l, p.kelvin, t.AtLimit, nil)
	return t
}
