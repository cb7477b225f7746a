package diagnose

import (
	"cmp"
	"math"
	"slices"
	"strings"

	"wexter/core/knowledge"
)

// Prices in minutes that the Book does not give, chosen here.
const (
	usualRate  = 66.0
	usualDay   = 120.0
	retest     = 15.0  // of the test that failed, after a part was renewed
	waitNone   = 60.0  // to run the monitor and see, when nothing is there
	findOther  = 240.0 // what it takes to find what is not in the Book
	forbidden  = 1e6
	plugHand   = 2.0
	lookAtPart = 5.0
	// What a school of gross or small leaks first takes off a test that is about these only.
	lean = 0.2
	// A leak is gross from 0.080 in of diameter on.
	gross = 2.032e-3
	// Smoke generators fill with some 10 L/min, and a mixed volume takes two to three changes
	// (common practice, no source).
	smokeFlow, smokeChanges = 10.0, 2.5
	// A proven equal costs some three fifths of the genuine part (common practice, no source).
	equalPrice = 0.6
)

var hazardMinutes = [4]float64{0, 2, 6, 60}

// Price is what a suspect's part costs in this bay. The Book's prices are for caps, valves
// and seals genuine and the others proven equals.
func (s *State) Price(f knowledge.Fault, bay Bay) float64 {
	price := s.Book.CostOf(f.Cost).Price
	i, ok := s.index[f.Key]
	if !ok {
		return price
	}
	p, _ := s.Graph.Part(s.Suspects[i].Part)
	if p.Key != "" && bay.Genuine(p.Kind) && !(Bay{}).Genuine(p.Kind) {
		price /= equalPrice
	}
	return price
}

// mend is what renewing a suspect's part costs, the retest included.
func (s *State) mend(i int, bay Bay) float64 {
	f := s.Suspects[i]
	rate := cmp.Or(bay.Rate, usualRate)
	if bay.Policies[knowledge.SchoolEGR] == "clean" && strings.Contains(f.Order, "cleaning") { // its time instead of the part
		return 1.5*float64(f.Minutes) + retest
	}
	return float64(f.Minutes) + s.Price(f.Fault, bay)/rate*60 + retest
}

// price is what is still to be expected when nothing more is tested: parts are renewed one
// after another in rising cost over odds, each followed by the test that failed, until the
// car is fixed; p is the odds of each group. first is renewed before all others; -1 leaves the order free.
func (c *planner) price(p []float64, first int) float64 {
	n := len(c.Suspects)
	marg := make([]float64, n+2) // the last two: none-now, other
	for g, x := range c.gs {
		switch {
		case x.a == -1:
			marg[n] += p[g]
		case x.a == -2:
			marg[n+1] += p[g]
		default:
			marg[x.a] += p[g]
			if x.b >= 0 {
				marg[x.b] += p[g]
			}
		}
	}
	order := make([]int, 0, 48)
	for i, v := range marg {
		if v > 1e-9 {
			order = append(order, i)
		}
	}
	slices.SortFunc(order, func(x, y int) int {
		if x == first || y == first {
			return btoi(y == first) - btoi(x == first)
		}
		return cmp.Or(cmp.Compare(marg[y]*c.mend[x], marg[x]*c.mend[y]), x-y)
	})
	after := make([]float64, n+2)
	t := 0.0
	for _, i := range order {
		t += c.mend[i]
		after[i] = t
	}
	sum := 0.0
	for g, x := range c.gs {
		switch {
		case x.a == -1:
			sum += p[g] * after[n]
		case x.a == -2:
			sum += p[g] * after[n+1]
		case x.b >= 0:
			sum += p[g] * math.Max(after[x.a], after[x.b])
		default:
			sum += p[g] * after[x.a]
		}
	}
	return sum
}

// first is what costs least for its odds: what would be tried first when nothing more is
// tested.
func (p *planner) first() string {
	key, best := "", math.Inf(1)
	marg := make([]float64, len(p.mend))
	for _, x := range p.gs {
		at := x.a
		switch x.a {
		case -1:
			at = len(p.mend) - 2
		case -2:
			at = len(p.mend) - 1
		}
		marg[at] += x.total
		if x.b >= 0 {
			marg[x.b] += x.total
		}
	}
	for i, odds := range marg {
		if odds <= 0 || p.mend[i]/odds >= best {
			continue
		}
		best = p.mend[i] / odds
		switch i {
		case len(p.mend) - 2:
			key = NoneNow
		case len(p.mend) - 1:
			key = Other
		default:
			key = p.Suspects[i].Key
		}
	}
	return key
}

// value is what is to be expected of an action, and what it tells in bits. Given is the
// likelihood of what came before, by particle; nil for nothing: only then are bits counted.
func (c *planner) value(a *Action, given []float64) (cost, bits float64) {
	p, w := make([]float64, len(c.gs)), make([]float64, len(c.ps))
	total := 0.0
	for i, x := range c.ps {
		w[i] = x.w
		if given != nil {
			w[i] *= given[i]
		}
		p[x.group] += w[i]
		total += w[i]
	}
	cost = a.Cost
	if given == nil {
		bits = entropy(p, total)
	}
	for _, odds := range a.odds {
		clear(p)
		t := 0.0
		for i, v := range odds {
			v *= w[i]
			p[c.ps[i].group] += v
			t += v
		}
		if t <= 1e-9*total {
			continue
		}
		for g := range p {
			p[g] /= t
		}
		cost += t / total * c.price(p, -1)
		if given == nil {
			bits -= t / total * entropy(p, 1)
		}
	}
	return cost, math.Max(bits, 0)
}

// entropy of odds that sum to total, in bits.
func entropy(p []float64, total float64) float64 {
	h := 0.0
	for _, v := range p {
		if v > 0 {
			h -= v / total * math.Log2(v/total)
		}
	}
	return h
}

// deeper is what is to be expected of an action when after each outcome the best of some
// further ones may follow.
func (c *planner) deeper(a *Action, more []*Action) float64 {
	cost := a.Cost
	p := make([]float64, len(c.gs))
	for o := range a.odds {
		clear(p)
		t := 0.0
		for i, x := range c.ps {
			w := x.w * a.odds[o][i]
			p[x.group] += w
			t += w
		}
		if t <= 1e-9 {
			continue
		}
		for g := range p {
			p[g] /= t
		}
		best := c.price(p, -1)
		if t > 0.01 {
			for _, b := range more {
				if b == a {
					continue
				}
				after, _ := c.value(b, a.odds[o])
				best = math.Min(best, after)
			}
		}
		cost += t * best
	}
	return cost
}

// leans is the share of a test's alarms that are about gross leaks, or about small ones;
// it is asked for by the school of which leak first.
func (c *planner) leans(a *Action, school string) float64 {
	of, all := 0.0, 0.0
	for i, p := range c.ps {
		if p.a < 0 {
			continue
		}
		alarm := 0.0
		for o := range a.Out {
			if !a.Out[o].Usual {
				alarm += p.w * a.odds[o][i]
			}
		}
		all += alarm
		_, d := c.Suspects[p.a].hole(p.ka)
		if p.b >= 0 {
			_, e := c.Suspects[p.b].hole(p.kb)
			d = math.Max(d, e)
		}
		if d > 0 && (d >= gross) == (school == "gross") {
			of += alarm
		}
	}
	if all == 0 {
		return 0
	}
	return of / all
}

// swaps says what renewing each likely part unproven would cost, and from which odds on it
// costs less than proving it first.
func (p *planner) swaps(open []*Action) (out []Swap) {
	for i, x := range p.Suspects {
		if p.marg[i] < 0.03 || x.Silent() || x.Order == "" {
			continue
		}
		w := Swap{Fault: x.Key, Name: x.Name, Odds: p.marg[i], Minutes: float64(x.Minutes) + retest, Price: p.Price(x.Fault, p.bay), Cost: p.mend[i], Expect: p.price(p.now, i)}
		for _, a := range open {
			if slices.Contains(a.Accuses, x.Key) && a.Cost < p.mend[i] && (w.Prove == "" || 1-a.Cost/p.mend[i] > w.BreakEven) {
				w.BreakEven, w.Prove = 1-a.Cost/p.mend[i], a.Name
			}
		}
		out = append(out, w)
	}
	slices.SortStableFunc(out, func(a, b Swap) int { return cmp.Compare(a.Expect, b.Expect) })
	return out
}
