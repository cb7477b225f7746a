package trim

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"sync"
)

// Version names the algorithm. It is counted up with every change that moves a size or odds.
const Version = "1"

// Cause is one thing that may be behind the trims, or two together.
type Cause struct {
	Keys        []Key // one, or the two of a pair
	Name        string
	Probability float64
	LnEvidence  float64 // marginal likelihood, beside that of nothing wrong
	// The size, with the interval of 95 %; NaN where the cause has none.
	Value, Low, High float64
	Unit             string
	best             float64 // ln of the likelihood with everything at its best
	effects          []effect
	beta             [unknowns]float64
}

// Odds are the cause's in words: nothing is certain.
func (c Cause) Odds() string {
	switch {
	case c.Probability > 0.99:
		return ">99 %"
	case c.Probability < 0.01:
		return "<1 %"
	}
	return fmt.Sprintf("%.0f %%", 100*c.Probability)
}

// Key is the cause's, a pair's two joined by +.
func (c Cause) Key() string {
	var out []string
	for _, k := range c.Keys {
		out = append(out, string(k))
	}
	return strings.Join(out, "+")
}

// Alike are causes that a log cannot tell apart, and what would.
type Alike struct {
	Keys      []string
	WouldTell string
}

// Unseen is a cause that this log cannot show, with the reason.
type Unseen struct {
	Key Key
	Why string
}

// Result is what a log comes to.
type Result struct {
	Metering  Metering
	Points    Points
	Causes    []Cause // likeliest first
	Ambiguous []Alike
	NotSeen   []Unseen
	AtStop    []int // banks
	Warnings  []string
	Scatter   float64 // from point to point, share, of the likeliest cause
	data      *data
	curves    map[Key]*curve
}

// Odds and limits of what is said, chosen here and held to by the drawn logs of the tests.
const (
	alike     = 1.6  // ln of likelihoods: less apart than that is a bet
	fitsAlike = 1.0  // ln of the best likelihoods
	tooRare   = 0.02 // probability that is not worth a mention
	pairOdds  = 0.06 // that two causes are there at once
	pairGain  = 3.0  // ln that a pair must be worth before it is looked for
	pairShort = 0.5  // ln that a row falls short of the best it could do, where one cause explains it
	banksDiff = 0.06
)

// metered settles how the engine knows its air.
func (e Engine) metered(l *Log) (Engine, []string, error) {
	air, pressure := l.Has(MeteredAir), l.Has(ManifoldPressure)
	switch {
	case e.Metering == AirMeter && !air && !pressure && !l.Has(Load):
		return e, []string{"The log has neither air flow nor load: how much flows is taken from the engine's speed alone."}, nil
	case e.Metering == SpeedDensity && air:
		return e, []string{"The log has an air flow, and this engine is said to have no air meter: is it the log of another car?"}, nil
	case e.Metering != Unknown:
		return e, nil, nil
	case air:
		e.Metering = AirMeter
		return e, nil, nil
	case pressure:
		e.Metering = SpeedDensity
		return e, []string{"The log has manifold pressure (MAP) and no air flow: the engine is taken as one without an air meter. If it has one, say so."}, nil
	}
	return e, nil, fmt.Errorf("the log has neither air flow nor manifold pressure: say how the engine is metered, by air meter (MAF) or by manifold pressure (MAP): the same leak moves the trims of one and not of the other")
}

// JudgePoints weighs operating points, from a log or typed.
func JudgePoints(p Points, e Engine) Result {
	d := newData(p, e)
	r := Result{Metering: e.Metering, Points: p, data: d, curves: map[Key]*curve{}}
	r.Warnings = append(append(r.Warnings, p.Warnings...), d.warnings...)
	curves := make([]*curve, len(kinds))
	var wait sync.WaitGroup
	for i := range kinds {
		if why := kinds[i].unseen(d); why != "" {
			r.NotSeen = append(r.NotSeen, Unseen{kinds[i].key, why})
			continue
		}
		wait.Go(func() { curves[i] = d.curve(&kinds[i]) })
	}
	wait.Wait()
	for i, c := range curves {
		if c != nil {
			r.curves[kinds[i].key] = c
			r.Causes = append(r.Causes, d.cause(&kinds[i], c))
		}
	}
	r.pairs()
	r.odds()
	r.say()
	return r
}

// cause is a curve as it is said.
func (d *data) cause(k *kind, c *curve) Cause {
	out := Cause{Keys: []Key{k.key}, Name: k.name, LnEvidence: c.ln(), Unit: k.unit, Value: math.NaN(), Low: math.NaN(), High: math.NaN(), effects: []effect{c.at[c.best].best}, best: c.at[c.best].profile, beta: c.at[c.best].beta}
	if k.key == MeterScale && d.metering == SpeedDensity {
		out.Name = "manifold pressure sensor reads wrong"
	}
	if k.sizes.none() {
		return out
	}
	v, lo, hi := c.interval()
	if k.sizes.log {
		v, lo, hi = math.Exp(v), math.Exp(lo), math.Exp(hi)
	}
	if k.key == ManifoldLeak && d.flowSD > 0 { // area goes with the flow
		wide := 1.96 * d.flowSD / 2
		lo, hi = v*math.Exp(-math.Hypot(wide, math.Log(v/lo))), v*math.Exp(math.Hypot(wide, math.Log(hi/v)))
	}
	shape := c.at[c.best].best.shape
	a, b := k.says(d, lo, shape), k.says(d, hi, shape)
	out.Value, out.Low, out.High = k.says(d, v, shape), math.Min(a, b), math.Max(a, b)
	return out
}

// prior is the odds of a cause before the log.
func (c Cause) prior() float64 {
	if len(c.Keys) == 2 {
		return pairOdds * kindOf(c.Keys[0]).prior * kindOf(c.Keys[1]).prior * 8
	}
	return kindOf(c.Keys[0]).prior
}

// odds turns likelihoods into probabilities and puts the likeliest first.
func (r *Result) odds() {
	none := 0.0
	for _, c := range r.Causes {
		if c.Keys[0] == Nothing {
			none = c.LnEvidence
		}
	}
	total := math.Inf(-1)
	for i := range r.Causes {
		c := &r.Causes[i]
		c.LnEvidence -= none
		total = addLn(total, c.LnEvidence+math.Log(c.prior()))
	}
	for i := range r.Causes {
		c := &r.Causes[i]
		c.Probability = math.Exp(c.LnEvidence + math.Log(c.prior()) - total)
	}
	slices.SortStableFunc(r.Causes, func(a, b Cause) int { return cmp.Compare(b.Probability, a.Probability) })
	r.alike()
	r.Scatter = math.NaN()
	if c := r.curves[r.Causes[0].Keys[0]]; c != nil {
		r.Scatter = scatters[c.at[c.best].scatter]
	}
}

// alike lists what the log cannot tell from the likeliest cause: what comes out nearly as
// likely, and what fits nearly as well with its best size, however rare it may be.
func (r *Result) alike() {
	first := r.Causes[0]
	list := []string{first.Key()}
	for _, c := range r.Causes[1:] {
		rare := c.Probability < tooRare && !sameShape(first.Keys[0], c.Keys[0])
		if !rare && (first.LnEvidence-c.LnEvidence < alike || first.best-c.best < fitsAlike && first.sized() && c.sized()) {
			list = append(list, c.Key())
		}
	}
	if len(list) > 1 {
		r.Ambiguous = append(r.Ambiguous, Alike{list, r.wouldTell(first, list[1:])})
	}
}

// sized reports whether a cause is one with a size.
func (c Cause) sized() bool { return len(c.Keys) == 1 && c.Keys[0] != Nothing }

// say adds what has to be said beside the odds.
func (r *Result) say() {
	apart := 0.0
	for _, p := range r.Points.Points {
		for n, k := range p.Banks {
			if k.Stop != 0 && !slices.Contains(r.AtStop, n+1) {
				r.AtStop = append(r.AtStop, n+1)
			}
		}
		if len(p.Banks) == 2 {
			if x := p.Banks[0].Total - p.Banks[1].Total; math.Abs(x) > math.Abs(apart) {
				apart = x
			}
		}
	}
	slices.Sort(r.AtStop)
	if math.Abs(apart) > banksDiff {
		r.Warnings = append(r.Warnings, fmt.Sprintf("The banks differ by %.0f %%: something that only one of them has. Sizes are of both together.", math.Abs(100*apart)))
	}
	regions := map[Region]bool{}
	for _, p := range r.Points.Points {
		regions[p.Region] = true
	}
	if len(r.Points.Points) == 1 || !regions[Loaded] && !regions[Fast] && !regions[Other] {
		r.Warnings = append(r.Warnings, "The log holds idle only: how the trims go with the flow cannot be told. Hold 2500 rpm for half a minute, then pull steadily on the road.")
	} else if r.data.most < 2.5*r.data.least {
		r.Warnings = append(r.Warnings, "The flow hardly changes in this log: add a steady pull on the road.")
	}
	if r.Metering == SpeedDensity {
		r.Warnings = append(r.Warnings, "This engine calculates its fuel from manifold pressure (MAP): a vacuum leak behind the throttle raises the pressure, the control unit adds the fuel for it, and the trims hardly move. Idle speed and smoke tell.")
	}
	r.breathes()
}

// breathes says when meter and manifold pressure cannot belong to an engine of this size.
func (r *Result) breathes() {
	if r.data.second == 0 || r.data.sizeSD > 0 {
		return
	}
	sum, n := 0.0, 0.0
	for _, s := range r.data.sites {
		if s.second == s.second {
			sum, n = sum+s.second, n+1
		}
	}
	if x := math.Exp(sum / n); x < 0.55 || x > 1.6 {
		r.Warnings = append(r.Warnings, fmt.Sprintf("By its air flow the engine breathes %.0f %% of what its size and manifold pressure allow: is this the log of another car, or the size wrong?", 100*x*breathing))
	}
}

// pairs looks for two causes at once, where one alone leaves something that two explain.
func (r *Result) pairs() {
	singles := slices.Clone(r.Causes)
	slices.SortFunc(singles, func(a, b Cause) int { return cmp.Compare(b.LnEvidence, a.LnEvidence) })
	if r.curves[singles[0].Keys[0]].short(r.data) < math.Max(pairGain, pairShort*r.data.rows()) {
		return
	}
	for i, a := range singles[:min(3, len(singles))] {
		for _, b := range singles[i+1:] {
			if a.Keys[0] == Nothing || b.Keys[0] == Nothing || sameShape(a.Keys[0], b.Keys[0]) {
				continue
			}
			if c := r.pair(kindOf(a.Keys[0]), kindOf(b.Keys[0])); c.LnEvidence > singles[0].LnEvidence+pairGain {
				r.Causes = append(r.Causes, c)
			}
		}
	}
}

// sameShape reports whether two causes go with the flow alike, so that together they say no
// more than one.
func sameShape(a, b Key) bool {
	return a == MeterScale && b == InletLeak || a == InletLeak && b == MeterScale
}

// pair fits two causes together: over all their sizes coarsely, then over the box that holds
// what matters, ever closer.
func (r *Result) pair(a, b *kind) Cause {
	const grid, rounds = 6, 5
	p := pairing{m: newModel(r.data, []*kind{a, b}), a: r.curves[a.key], b: r.curves[b.key], kinds: [2]*kind{a, b}}
	p.from[0], p.to[0] = a.sizes.ends()
	p.from[1], p.to[1] = b.sizes.ends()
	for range rounds {
		p.round(grid)
	}
	out := Cause{Keys: []Key{a.key, b.key}, Name: a.name + ", and " + b.name, LnEvidence: p.worth, Value: math.NaN(), Low: math.NaN(), High: math.NaN()}
	out.effects, out.beta = p.best, p.beta
	return out
}

// pairing is two causes while they are fitted together.
type pairing struct {
	m        *model
	a, b     *curve
	kinds    [2]*kind
	from, to [2]float64
	worth    float64 // marginal likelihood, by the last round
	best     []effect
	beta     [unknowns]float64
}

// round goes over the box and leaves the part of it that holds what matters.
func (p *pairing) round(grid int) {
	const matters = 8.0
	whole := make([]float64, grid*grid)
	most, top := math.Inf(-1), math.Inf(-1)
	at := func(axis, i int) float64 {
		return p.from[axis] + (p.to[axis]-p.from[axis])*(float64(i)+0.5)/float64(grid)
	}
	p.m.scatter = min(p.a.at[p.a.best].scatter, p.b.at[p.b.best].scatter)
	p.worth = math.Inf(-1)
	area := (p.to[0] - p.from[0]) * (p.to[1] - p.from[1]) / float64(grid*grid)
	for x := range grid {
		last := p.beta
		for y := range grid {
			s0, ln0 := p.kinds[0].sizes.at(at(0, x))
			s1, ln1 := p.kinds[1].sizes.at(at(1, y))
			list := []effect{{p.kinds[0], s0, p.a.at[p.a.best].best.shape}, {p.kinds[1], s1, p.b.at[p.b.best].best.shape}}
			p.m.place(list)
			f := p.m.fit(last)
			last = f.beta
			extra := p.m.d.overspeed(p.kinds[0].key, s0)
			if p.kinds[1].key == ManifoldLeak {
				extra = p.m.d.overspeed(ManifoldLeak, s1)
			}
			w := f.lnWhole + scatterLn[p.m.scatter] + extra + ln0 + ln1
			whole[x*grid+y] = w
			most = math.Max(most, w)
			p.worth = addLn(p.worth, w+math.Log(area))
			if f.ln+extra > top {
				top, p.best, p.beta = f.ln+extra, list, f.beta
			}
		}
	}
	p.worth -= p.kinds[0].sizes.lnWhole() + p.kinds[1].sizes.lnWhole()
	low, high := [2]int{grid, grid}, [2]int{-1, -1}
	for i, w := range whole {
		if w > most-matters {
			for axis, k := range [2]int{i / grid, i % grid} {
				low[axis], high[axis] = min(low[axis], k), max(high[axis], k)
			}
		}
	}
	for axis := range 2 {
		from, step := p.from[axis], (p.to[axis]-p.from[axis])/float64(grid)
		p.from[axis] = from + step*math.Max(float64(low[axis])-0.5, 0)
		p.to[axis] = from + step*math.Min(float64(high[axis])+1.5, float64(grid))
	}
}
