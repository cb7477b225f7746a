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
	test, err := gather(legs, s)
	if err != nil {
		return Result{}, err
	}
	e := test.fit(s)
	if e.slow && s.Volume == 0 {
		return Result{}, ErrSlowReference
	}
	res := Result{Nominal: !test.reference || e.slow, HoldMore: math.NaN()}
	if test.pressure && test.vacuum {
		e.apart(&res)
	}
	e.wetSide = test.pressure && !(test.vacuum && !res.Differ) && (!res.Differ || e.index == e.p.kappa)
	sz := e.size()
	e.fill(&res, sz)
	test.rule(&res, e, sz)
	for i := range legs {
		res.Legs = append(res.Legs, e.tracing(i, sz))
	}
	return res, nil
}

// gathered are the legs of a test made ready, and what there is among them.
type gathered struct {
	runs                    []*run
	ref                     float64 // m
	drift, pressure, vacuum bool
	reference               bool
	top                     float64 // Pa, the largest pressure
	held                    float64 // s, the longest hold without the orifice
	said                    []string
}

func gather(legs []Leg, s Setup) (*gathered, error) {
	g := &gathered{}
	for i, l := range legs {
		l, lost, err := l.whole(i)
		if err != nil {
			return nil, err
		}
		if lost > 0 {
			g.said = append(g.said, fmt.Sprintf("Leg %d: %d of its readings are not numbers and are left out, as a gap.", i+1, lost))
		}
		if err := l.check(i); err != nil {
			return nil, err
		}
		r := prepare(l, s.Resolution)
		r.place = i
		if err := r.usable(s.Barometer); err != nil {
			return nil, err
		}
		if l.Reference > 0 {
			if g.ref > 0 && g.ref != l.Reference {
				return nil, fmt.Errorf("two reference orifices, %.4g and %.4g mm: use one in a test", g.ref*1e3, l.Reference*1e3)
			}
			g.ref = l.Reference
		}
		g.note(&r)
	}
	if !g.pressure && !g.vacuum {
		return nil, ErrNoHold
	}
	if s.Volume == 0 && g.ref == 0 {
		return nil, fmt.Errorf("the volume is missing: give it, or add a run with a known orifice")
	}
	// Drift legs first: the first leg carries the common drift.
	slices.SortStableFunc(g.runs, func(a, b *run) int { return int(b.leg.Kind) - int(a.leg.Kind) })
	return g, nil
}

// note takes a run in.
func (g *gathered) note(r *run) {
	g.runs = append(g.runs, r)
	for _, p := range r.p {
		g.top = math.Max(g.top, math.Abs(p))
	}
	switch {
	case r.leg.Kind == Drift:
		g.drift = true
		return
	case r.leg.Reference > 0:
		g.reference = true
		return
	case r.peak < 0:
		g.vacuum = true
	default:
		g.pressure = true
	}
	g.held = math.Max(g.held, r.t[len(r.t)-1]-r.t[0])
}

// usable refuses a run that holds nothing to fit.
func (r *run) usable(barometer float64) error {
	i := r.place + 1
	if len(r.t) < 2 {
		return fmt.Errorf("leg %d: nothing is left between the start and the end of the hold", i)
	}
	if r.leg.Kind == Hold {
		if math.Abs(r.peak) < math.Max(40, 8*r.noise) {
			return fmt.Errorf("leg %d never rises above %.2g inH2O (is the unit right?): %w", i, math.Abs(r.peak)/249.089, ErrNoHold)
		}
		if len(r.t) < minHold {
			return fmt.Errorf("leg %d holds for %d reading(s) only; a hold needs at least %d: read faster, or the leak is too large for a hold", i, len(r.t), minHold)
		}
	}
	for j, p := range r.p {
		if math.Abs(p) > 0.9*barometer {
			return fmt.Errorf("leg %d reads %.4g kPa at %.4g s: that is absolute pressure, not gauge; take the barometer off", i, p/1e3, r.t[j])
		}
	}
	return nil
}

// fit finds the one diameter of all legs.
func (g *gathered) fit(s Setup) estimate {
	fl := newFlow(s.Cd, s.Barometer, s.Temperature, g.top)
	p := newProblem(g.runs, fl, s.Barometer/s.Temperature, false)
	e := estimate{p: p, x: p.fit(), s: s, ref: g.ref, index: p.kappa}
	e.best = p.cost(e.x, true)
	if !g.drift {
		e.best = p.unlean(e.x)
	}
	e.k = p.factor(s)
	if p.kappaRef >= 0 {
		p.cost(e.x, true)
		sd := math.Sqrt(p.variance(p.kappaRef, seq(len(e.x))))
		e.slow = e.x[p.kappaRef] < slowReference*sd
	}
	return e
}

// slowReference is how many standard deviations an orifice must speed the fall up by.
const slowReference = 2.5

// unlean takes the lean towards a common drift away, and returns the cost that is then
// the lowest.
func (p *problem) unlean(x []float64) float64 {
	p.lean = 0
	best := p.minimise(slices.Clone(x), -1, 30, 1e-2)
	for i := range p.modes {
		p.modes[i].cost = p.minimise(p.modes[i].x, -1, 15, 1e-2)
		best = math.Min(best, p.modes[i].cost)
	}
	return best
}

// apart gives pressure and vacuum diameters of their own, and goes on with the larger
// where the trace asks for two.
func (e *estimate) apart(res *Result) {
	p := e.p
	sep := newProblem(p.runs, p.fl, p.kelvin, true)
	y := sep.fit()
	if p.lean == 0 {
		sep.unlean(y)
	}
	// Compare both models under the noise of the wider one.
	p.setNoise(sep.noise)
	p.minimise(e.x, -1, 12, 1e-4)
	gain := p.cost(e.x, false) - sep.cost(y, true)
	ratio := math.Abs(math.Log(math.Max(y[sep.kappa], 1e-9) / math.Max(y[sep.kappaVac], 1e-9)))
	pe := *e
	pe.p, pe.x, pe.best, pe.index, pe.wetSide = sep, y, sep.cost(y, true), sep.kappa, true
	ve := pe
	ve.index, ve.wetSide = sep.kappaVac, false
	a, b := pe.size(), ve.size()
	res.Pressure, res.Vacuum = &a.Size, &b.Size
	if gain > 9 && ratio > 0.1 {
		res.Differ = true
		*e = pe
		if b.D > a.D {
			*e = ve
		}
	}
	e.best = e.p.cost(e.x, true)
	if e.p.lean == 0 {
		e.best = e.p.unlean(e.x)
	}
}

// fill writes down what was found.
func (e estimate) fill(res *Result, sz sized) {
	p, x := e.p, e.x
	res.Size, res.Volume, res.Limit = sz.Size, sz.volume, sz.limit
	res.Tangent, res.Budget = sz.tangent, sz.budget
	res.DriftRate, res.Zero = x[p.drift], x[p.zero]
	res.SettleTau = math.Exp(x[p.tau])
	for i, r := range p.runs {
		if r.leg.Kind == Hold {
			res.Settle = x[p.heat[i]]
			break
		}
	}
	res.Residual, res.Noise = sz.residual, sz.noise
}

// rule gives the verdict, withholds it where something speaks against it, and says what
// would help.
func (g *gathered) rule(res *Result, e estimate, sz sized) {
	res.Verdict = e.verdict(sz)
	w := g.said
	if e.s.Watching && res.Verdict != Undecided && (!g.drift || g.held < watchSeconds) {
		res.Verdict = Undecided
		if g.drift {
			res.HoldMore = math.Ceil(watchSeconds - g.held)
		} else {
			w = append(w, "While the hold runs a verdict needs a drift leg first: seal at zero gauge and watch for 60 s.")
		}
	}
	doubts := e.doubts(res)
	if len(doubts) > 0 {
		res.Verdict, res.HoldMore = Undecided, math.NaN()
	}
	w = append(w, doubts...)
	w = append(w, e.remarks(res, sz, g.drift)...)
	if res.Verdict == Undecided && math.IsNaN(res.HoldMore) && len(doubts) == 0 {
		more, why := e.holdMore(sz, g.drift)
		res.HoldMore = more
		if why != "" {
			w = append(w, why)
		}
	}
	res.Sharper = e.sharper(*res, g.drift, g.vacuum)
	res.Warnings = w
}

// factor is the coverage factor of the interval: Student's t at 95 %, or a wider
// one while the hold may still be stopped at any moment.
func (p *problem) factor(s Setup) float64 {
	k := distuv.StudentsT{Mu: 0, Sigma: 1, Nu: p.freedom()}.Quantile(0.975)
	if s.Watching {
		k *= watchFactor / 1.96
	}
	return k
}

// noiseSpan is the time over which readings scatter about a straight line by their noise
// alone, s: longer than gauges remember, shorter than what a model may miss.
const noiseSpan = 12.0

// scatter is the standard deviation of a single reading about the fit, and about straight
// lines through short stretches of it, which is the noise alone.
func (p *problem) scatter(x []float64) (residual, noise float64) {
	p.cost(x, false)
	var sum, n, own, free float64
	for i, r := range p.runs {
		// Interpolate the fit to the readings of the hold.
		j, skipped := 0, 0
		last := r.p[0] - p.model[i][0]
		var l line
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
			// A spike stands off the reading before it; what stays off is no spike.
			if jump := math.Abs(d - last); jump > 8*r.noise && skipped < 3 {
				skipped++
				continue
			}
			last, skipped = d, 0
			sum += d * d
			n++
			if l.n >= 8 && t-l.first > noiseSpan {
				own, free = own+l.rest(), free+l.n-2
				l = line{}
			}
			l.add(t, d)
		}
		if l.n >= 8 {
			own, free = own+l.rest(), free+l.n-2
		}
	}
	residual = math.Sqrt(sum / math.Max(n, 1))
	if free == 0 {
		return residual, residual
	}
	return residual, math.Sqrt(own / free)
}

// line gathers what a straight line through points needs.
type line struct{ n, first, t, y, tt, ty, yy float64 }

func (l *line) add(t, y float64) {
	if l.n == 0 {
		l.first = t
	}
	t -= l.first
	l.n, l.t, l.y = l.n+1, l.t+t, l.y+y
	l.tt, l.ty, l.yy = l.tt+t*t, l.ty+t*y, l.yy+y*y
}

// rest is the sum of squares about the line.
func (l *line) rest() float64 {
	stt, sty, syy := l.tt-l.t*l.t/l.n, l.ty-l.t*l.y/l.n, l.yy-l.y*l.y/l.n
	return math.Max(syy-sty*sty/math.Max(stt, 1e-12), 0)
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
	slow    bool // the reference run fell no faster than the other: it says nothing
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
	residual    float64 // Pa, of a reading about the fit
	noise       float64 // Pa, of a reading about lines through short stretches
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
	if p.kappaRef >= 0 && !e.slow {
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
	// Of a leak that may be none the volume's share is that of what it may be.
	up := math.Hypot((out.kHigh-kappa)*v, math.Max(kappa, out.kHigh/2)*v*math.Expm1(e.k*out.sdVolume))
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
	out.residual, out.noise = p.scatter(x)
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
	drift := append([]int{p.drift, p.zero}, p.delta...)
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
		{"gauge noise", fmt.Sprintf("%.2g Pa a reading, correlation %.2f between knots", out.residual, p.noise.phi), "from the residuals", noise / scale},
		{"drift", fmt.Sprintf("%+.2g Pa/s", x[p.drift]), "fitted, with the gauge's zero", math.Max(withDrift-noise, 0) / scale},
		{"settling", fmt.Sprintf("τ %.0f s", math.Exp(x[p.tau])), "fitted; even on ln τ, 1.5 to 40 s", math.Max(withSettle-withDrift, 0) / scale},
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
func (e estimate) tracing(place int, z sized) Trace {
	p := e.p
	i := slices.IndexFunc(p.runs, func(r *run) bool { return r.place == place })
	r := p.runs[i]
	t := r.trace
	l := p.locals(i, e.x)
	for k := range r.t {
		t.Time = append(t.Time, r.t[k]+r.offset)
	}
	t.Measured = append(t.Measured, r.p...)
	t.Fitted = make([]float64, len(r.t))
	r.integrate(p.fl, l, p.kelvin, t.Fitted, nil)
	l[inKappa] += gas.Area(z.limit)/z.volume - e.x[e.index]
	l[inKappa] = math.Max(l[inKappa], 0)
	t.AtLimit = make([]float64, len(r.t))
	r.integrate(p.fl, l, p.kelvin, t.AtLimit, nil)
	return t
}
