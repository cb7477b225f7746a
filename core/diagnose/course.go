package diagnose

import "math"

// try is one thing that may be tried to find the trouble: a test that singles parts out, a
// part replaced without testing, waiting for the monitor, or a search by hand.
type try struct {
	cost   float64
	finds  []found // what it finds, by suspect; the last two: none-now, other
	renews int     // the suspect whose part is replaced; -1 for what replaces nothing
	test   *Action // nil for what is no test
}

// found is the odds that a try shows a suspect so plainly that nothing else need be tested.
type found struct {
	i    int
	odds float64
}

// Limits of a course, chosen here.
const (
	plain     = 0.5  // a suspect's odds from which on an outcome singles it out
	slightest = 0.04 // what finds a suspect more seldom is not counted on for it
	noticed   = 60.0 // min, after which at most it is noticed that a test singled out what is not there
	mostTries = 24   // of one course
	unseen    = 1e-6 // odds of a group that is left aside
	enough    = 0.01 // odds of not having found it at which a course ends
)

// tries lists what may be tried: every test that this bay can do, and by suspect its part; at
// the end the monitor, and looking for what the Book does not know.
func (p *planner) tries(open []*Action) {
	n := len(p.Suspects)
	for _, a := range open {
		if f, misled := p.finds(a); len(f) > 0 {
			p.tests = append(p.tests, try{cost: a.Cost + misled, finds: f, renews: -1, test: a})
		}
	}
	search := try{cost: byHand, renews: -1}
	for i := range n + 2 {
		t := try{cost: p.mend[i], finds: []found{{i, 1}}, renews: i}
		if i >= n {
			t.renews = -1
		}
		p.alone = append(p.alone, t)
		if i != n {
			search.finds = append(search.finds, found{i, 1})
		}
	}
	p.tests = append(p.tests, search)
}

// finds works out which suspects a test singles out, and how often: by the outcomes after
// which they would be likelier than everything else. Now and then it singles out what is not
// there: what that costs, until it is noticed, is the second result.
func (p *planner) finds(a *Action) (out []found, misled float64) {
	n := len(p.Suspects)
	with := make([]float64, n)
	odds := make([]float64, n)
	for o := range a.odds {
		if a.Out[o].Usual {
			continue
		}
		clear(with)
		total := 0.0
		for k, x := range p.ps {
			w := x.w * a.odds[o][k]
			total += w
			if x.a >= 0 {
				with[x.a] += w
				if x.b >= 0 {
					with[x.b] += w
				}
			}
		}
		for i, w := range with {
			if w > plain*total && p.marg[i] > 0 {
				odds[i] += w / p.marg[i] * w / total
				misled += (total - w) * math.Min(p.mend[i], noticed)
			}
		}
	}
	for i, v := range odds {
		if v > slightest {
			out = append(out, found{i, math.Min(v, 1)})
		}
	}
	return out, misled
}

// course works out ways through a hunt: the cost still expected from odds by group when
// the hunt goes on by a rule of thumb, always with the try that finds most for its cost, and
// ends with the repair. It is the cost of a plan that could be followed, so the best one costs no
// more ["Decision-theoretic troubleshooting", Communications of the ACM, March 1995; from
// memory]. One is not used by two goroutines at once.
type course struct {
	*planner
	mass []float64 // of each suspect that is not found yet, alone or with another
	left []float64 // share of it that is not found yet
	with []openGroup
	list []openGroup // room for those of begin
	live []*try      // tests that could find something
	some []int       // suspects, none-now and other that there may be
	// The try that the last course began with; nil for one that ended at once.
	first *try
}

// openGroup is a group that the odds leave open: its suspects, by their place among mass.
type openGroup struct {
	a, b int
	odds float64
}

func (p *planner) newCourse() *course {
	n := len(p.Suspects) + 2
	return &course{planner: p, mass: make([]float64, n), left: make([]float64, n), list: make([]openGroup, 0, len(p.gs))}
}

// cost is the cost still expected; done is the test that was just done and would show the
// same again.
func (c *course) cost(odds []float64, done *Action) float64 {
	return c.goOn(c.begin(odds), done)
}

// goOn works out the course of what was taken up; sum is what the repair itself will cost.
func (c *course) goOn(sum float64, done *Action) float64 {
	c.screen(done)
	open := c.open()
	c.first = nil
	for n := range mostTries {
		if open < enough {
			break
		}
		t := c.best(open)
		if t == nil {
			break
		}
		if n == 0 {
			c.first = t
		}
		if t.renews >= 0 { // on the car that has it, it is the repair
			sum += t.cost * math.Max(open-c.mass[t.renews], 0)
		} else {
			sum += t.cost * open
		}
		for _, f := range t.finds {
			c.mass[f.i] *= 1 - f.odds
			c.left[f.i] *= 1 - f.odds
		}
		open = c.open()
	}
	return sum
}

// begin takes the odds of each group up and returns what the repair itself will cost.
func (c *course) begin(odds []float64) (repair float64) {
	c.list = c.list[:0]
	for g, v := range odds {
		if v >= unseen {
			x := c.numbered(g)
			c.list = append(c.list, openGroup{x.a, x.b, v})
		}
	}
	return c.take(c.list)
}

// numbered is a group with none-now and other numbered as they are among mass.
func (p *planner) numbered(g int) group {
	x := p.gs[g]
	switch x.a {
	case -1:
		x.a = len(p.Suspects)
	case -2:
		x.a = len(p.Suspects) + 1
	}
	return x
}

// take takes up groups that are open and returns what the repair itself will cost.
func (c *course) take(list []openGroup) (repair float64) {
	n := len(c.Suspects)
	clear(c.mass)
	for i := range c.left {
		c.left[i] = 1
	}
	c.with = list
	for _, x := range list {
		c.mass[x.a] += x.odds
		if x.a < n {
			repair += x.odds * c.mend[x.a]
		}
		if x.b >= 0 {
			c.mass[x.b] += x.odds
			repair += x.odds * c.mend[x.b]
		}
	}
	return repair
}

// open is the odds that something is not found yet.
func (c *course) open() float64 {
	t := 0.0
	for _, x := range c.with {
		if x.b < 0 {
			t += x.odds * c.left[x.a]
		} else {
			t += x.odds * (1 - (1-c.left[x.a])*(1-c.left[x.b]))
		}
	}
	return t
}

// screen lists what could find something at these odds: a try's share only falls from here on.
func (c *course) screen(done *Action) {
	c.some, c.live = c.some[:0], c.live[:0]
	for i, m := range c.mass {
		if m > least {
			c.some = append(c.some, i)
		}
	}
	for k := range c.tests {
		if t := &c.tests[k]; (done == nil || t.test != done) && c.finding(t) > least {
			c.live = append(c.live, t)
		}
	}
}

// least is how much a try must find to be counted on.
const least = enough / 4

// finding is how likely a try finds something now.
func (c *course) finding(t *try) float64 {
	v := 0.0
	for _, f := range t.finds {
		v += c.mass[f.i] * f.odds
	}
	return v
}

// best takes the try that finds most for its cost; nil when none finds anything.
func (c *course) best(open float64) *try {
	var best *try
	most, at := 0.0, -1
	for k, t := range c.live {
		if v := c.finding(t); v > most*t.cost && v > least {
			best, most, at = t, v/t.cost, k
		}
	}
	for _, i := range c.some {
		v := c.mass[i]
		if v <= least {
			continue
		}
		cost := c.mend[i]
		if i < len(c.Suspects) { // on the car that has it, it is the repair
			cost *= math.Max(1-v/open, 0.02)
		}
		if v > most*cost {
			best, most, at = &c.alone[i], v/cost, -1
		}
	}
	if at >= 0 { // a second time it would show the same
		c.live[at] = c.live[len(c.live)-1]
		c.live = c.live[:len(c.live)-1]
	}
	return best
}

// unproven is the expected cost when a suspect's part is replaced first, whatever it is;
// n and n+1 stand for waiting, and for looking for what the Book does not know.
func (p *planner) unproven(i int) float64 {
	left := 0.0
	var rest []openGroup
	for g, v := range p.now {
		x := p.numbered(g)
		switch {
		case v < unseen, x.a == i && x.b < 0:
			continue
		case x.a == i: // the other one of the two is left
			x.a, x.b = x.b, -1
		case x.b == i:
			x.b = -1
		}
		rest = append(rest, openGroup{x.a, x.b, v})
		left += v
	}
	if left < 1e-9 {
		return p.mend[i]
	}
	for k := range rest {
		rest[k].odds /= left
	}
	c := p.newCourse()
	return p.mend[i] + left*c.goOn(c.take(rest), nil)
}
