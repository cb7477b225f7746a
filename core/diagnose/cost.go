package diagnose

import (
	"cmp"
	"math"
	"slices"
	"strings"

	"wexter/core/knowledge"
)

// What a shop that has said nothing takes, chosen here.
const (
	UsualRate = 66.0  // money an hour of work
	UsualDay  = 120.0 // min that a day of waiting is worth
)

// Prices in minutes that the Book does not give, chosen here.
const (
	waitNone   = 60.0  // to run the monitor and see, when nothing is there
	byHand     = 240.0 // to search the whole system by hand: whatever is there is found, in the Book or not
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

// UsualCurrency is the money of the Book's prices.
const UsualCurrency = "€"

var hazardMinutes = [4]float64{0, 2, 6, 60}

// Price is what a suspect's part costs in this bay. The Book's prices are for caps, valves
// and seals genuine and the others proven equals.
func (s *State) Price(f knowledge.Fault, bay Bay) float64 {
	if own, ok := bay.Prices[f.Key]; ok {
		return own
	}
	price := cmp.Or(f.Price, s.Book.CostOf(f.Cost).Price)
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

// mend is what replacing a suspect's part costs, the retest included.
func (s *State) mend(i int, bay Bay) float64 {
	f := s.Suspects[i]
	rate := cmp.Or(bay.Rate, UsualRate)
	if bay.Policies[knowledge.SchoolEGR] == "clean" && strings.Contains(f.Order, "cleaning") { // its time instead of the part
		return 1.5*float64(f.Minutes) + Retest
	}
	return float64(f.Minutes) + s.Price(f.Fault, bay)/rate*60 + Retest + float64(s.days(i))*cmp.Or(bay.Day, UsualDay)
}

// days is how long the part of a suspect takes to come.
func (s *State) days(i int) int { return s.Book.CostOf(s.Suspects[i].Cost).Days }

// price is the cost still expected when nothing more is tested: parts are replaced one
// after another in rising cost over odds, each followed by the test that failed, until the
// car is fixed; p is the odds of each group.
func (c *planner) price(p []float64) float64 {
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

// value is the expected cost of an action, and what it tells in bits.
func (c *planner) value(a *Action) (cost, bits float64) {
	p, next := make([]float64, len(c.gs)), c.newCourse()
	cost, bits = a.Cost, entropy(c.now, 1)
	for _, odds := range a.odds {
		t := c.afterwards(odds, p)
		if t <= 1e-9 {
			continue
		}
		cost += t * next.cost(p, a)
		bits -= t * entropy(p, 1)
	}
	return cost, math.Max(bits, 0)
}

// afterwards puts the odds of each group after an outcome into p, and returns the odds of the
// outcome.
func (c *planner) afterwards(odds, p []float64) float64 {
	clear(p)
	t := 0.0
	for i, x := range c.ps {
		w := x.w * odds[i]
		p[x.group] += w
		t += w
	}
	for g := range p {
		p[g] /= math.Max(t, 1e-300)
	}
	return t
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

// deeper is the expected cost of an action when after each outcome the best of some
// further ones may follow. It stops early, with what is certain by then, where that alone
// reaches most.
func (c *planner) deeper(a *Action, more []*Action, most float64) float64 {
	p, next := make([]float64, len(c.gs)), c.newCourse()
	second := secondStep{planner: c, course: next, p: make([]float64, len(c.gs))}
	cost, open := a.Cost, 1.0
	for o, odds := range a.odds {
		t := c.afterwards(odds, p)
		if t <= 1e-9 {
			continue
		}
		best := next.cost(p, a)
		if t > seldom/2 {
			first := next.first
			repair := next.begin(p)
			second.given(a.odds[o], t)
			if first != nil && first.test != nil {
				best = second.value(first.test, math.Inf(1))
			}
			for _, b := range more {
				if b == a || first != nil && b == first.test || b.Cost+repair >= best {
					continue // even if it told everything
				}
				best = math.Min(best, second.value(b, best))
			}
		}
		cost += t * best
		if open -= t; cost > most && open > 0.01 {
			return cost
		}
	}
	return cost
}

// slight is the weight of a share of an explanation, or of an outcome, that a second step
// leaves aside (chosen here).
const slight = 1e-4

// secondStep works out what may follow one outcome.
type secondStep struct {
	*planner
	course *course
	at     []int32   // particles that are left
	w      []float64 // their weights, summing to 1
	p      []float64
}

// given takes up an outcome that comes with the odds total.
func (s *secondStep) given(odds []float64, total float64) {
	s.at, s.w = s.at[:0], s.w[:0]
	kept := 0.0
	for i, x := range s.ps {
		if w := x.w * odds[i] / total; w > slight {
			s.at, s.w = append(s.at, int32(i)), append(s.w, w)
			kept += w
		}
	}
	for k := range s.w {
		s.w[k] /= kept
	}
}

// value is the expected cost of an action now; it stops where that reaches most.
func (s *secondStep) value(b *Action, most float64) float64 {
	cost := b.Cost
	for _, odds := range b.odds {
		clear(s.p)
		t := 0.0
		for k, i := range s.at {
			v := s.w[k] * odds[i]
			s.p[s.ps[i].group] += v
			t += v
		}
		if t <= slight {
			continue
		}
		for g := range s.p {
			s.p[g] /= t
		}
		if cost += t * s.course.cost(s.p, b); cost >= most {
			break
		}
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

// swaps says what replacing each likely part without testing would cost, and from which odds on it
// costs less than proving it first.
func (p *planner) swaps(open []*Action) (out []Swap) {
	for i, x := range p.Suspects {
		if p.marg[i] < 0.03 || x.Silent() || x.Order == "" {
			continue
		}
		w := Swap{Fault: x.Key, Name: x.Name, Odds: p.marg[i], Minutes: float64(x.Minutes) + Retest, Price: p.Price(x.Fault, p.bay), Days: p.days(i), Cost: p.mend[i], Expect: p.unproven(i)}
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
