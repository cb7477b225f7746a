package diagnose

import (
	"cmp"
	"math"
	"slices"
)

// particle is a share of the odds: an explanation with its steps and kind of car.
type particle struct {
	a, b, ka, kb, j int // suspects, -1 for none
	group           int // explanation, index
	w               float64
}

type group struct {
	a, b  int // suspects, -1 for none; a: -1 none-now, -2 other
	total float64
}

// How many explanations and shares of them a plan looks at.
const (
	mostGroups    = 80
	mostParticles = 450
)

// gatherer collects the odds that a plan works on: first which explanations weigh most, then the
// shares of those.
type gatherer struct {
	s      *State
	groups []group
	from   [][]source // of each group
}

// source is a row of weights by step and kind of car, of one explanation.
type source struct {
	a, b int
	row  []float64
}

// cloud is the pruned odds that a plan works on.
func (s *State) cloud() ([]particle, []group) {
	n := len(s.Suspects)
	c := &gatherer{s: s, groups: make([]group, 0, n+256), from: make([][]source, 0, n+256)}
	for i := range s.Suspects {
		c.add(group{a: i, b: -1}, s.w.single[i*shades:(i+1)*shades])
	}
	c.pairs()
	none := s.w.nothing()
	c.add(group{a: -1, b: -1}, none[:])
	c.add(group{a: -2, b: -1}, s.w.other[:])
	return c.prune()
}

// faint is the weight below which an explanation is left aside.
const faint = 1e-5

func weightOf(row []float64) (t float64) {
	for _, v := range row {
		t += v
	}
	return t
}

// add takes an explanation with its weights by step and kind of car.
func (c *gatherer) add(g group, row []float64) {
	if g.total = weightOf(row); g.total < faint {
		return
	}
	c.groups = append(c.groups, g)
	c.from = append(c.from, []source{{g.a, g.b, row}})
}

// pairs takes the explanations by two faults. A second fault that nothing speaks for is
// not what the car came for: such a pair is fixed with the other one, and counts with it.
func (c *gatherer) pairs() {
	s := c.s
	single := make([]int, len(s.Suspects)) // group of each suspect alone, and 1
	for g, x := range c.groups {
		single[x.a] = g + 1
	}
	raised := s.Marginals()
	for i, p := range (&State{Model: s.Model, w: s.prior()}).Marginals() {
		raised[i] /= math.Max(p, 1e-9)
	}
	loud := func(a, b int) bool { return raised[b] < 1.5 && raised[a] > 4*raised[b] }
	for i, q := range s.Model.pairs {
		row := s.w.pair[i*pairShades : (i+1)*pairShades]
		total := weightOf(row)
		if total < faint {
			continue
		}
		x, with := source{q[0], q[1], row}, 0
		for _, o := range [][2]int{{q[0], q[1]}, {q[1], q[0]}} {
			if with == 0 && single[o[0]] > 0 && loud(o[0], o[1]) {
				with = single[o[0]]
			}
		}
		if with > 0 {
			c.groups[with-1].total += total
			c.from[with-1] = append(c.from[with-1], x)
			continue
		}
		c.groups = append(c.groups, group{a: q[0], b: q[1], total: total})
		c.from = append(c.from, []source{x})
	}
}

// prune keeps the heaviest explanations and the heaviest shares of them, and scales what
// is kept to sum to 1.
func (c *gatherer) prune() ([]particle, []group) {
	order := make([]int, len(c.groups))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(x, y int) int { return cmp.Or(cmp.Compare(c.groups[y].total, c.groups[x].total), x-y) })
	order = order[:min(len(order), mostGroups)]
	all := c.heaviest(order)
	slices.SortFunc(all, func(x, y particle) int {
		return cmp.Or(cmp.Compare(y.w, x.w), x.a-y.a, x.b-y.b, x.ka-y.ka, x.kb-y.kb, x.j-y.j)
	})
	all = all[:min(len(all), mostParticles)]
	kept := make([]group, len(order))
	for n, g := range order {
		kept[n] = group{a: c.groups[g].a, b: c.groups[g].b}
	}
	sum := 0.0
	for i := range all {
		sum += all[i].w
	}
	for i := range all {
		all[i].w /= sum
		kept[all[i].group].total += all[i].w
	}
	return all, kept
}

// heaviest takes the shares of the explanations in order, but what is too light to be among the
// heaviest, told apart by the binary order of its weight: few are left to be ordered.
func (c *gatherer) heaviest(order []int) (all []particle) {
	var count [64]int // by how many times a weight can be doubled before it is 1
	binary := func(w float64) int { return min(max(-math.Ilogb(w), 0), len(count)-1) }
	each := func(do func(n int, x source, i int, v float64)) {
		for n, g := range order {
			for _, x := range c.from[g] {
				for i, v := range x.row {
					if v > 0 {
						do(n, x, i, v)
					}
				}
			}
		}
	}
	each(func(_ int, _ source, _ int, v float64) { count[binary(v)]++ })
	last, n := 0, 0
	for last < len(count)-1 && n+count[last] < mostParticles {
		n += count[last]
		last++
	}
	all = make([]particle, 0, n+count[last])
	each(func(n int, x source, i int, v float64) {
		if binary(v) > last {
			return
		}
		p := particle{a: x.a, b: x.b, ka: i / kinds, j: i % kinds, group: n, w: v}
		if x.b >= 0 {
			p.ka, p.kb = i/kinds/steps, i/kinds%steps
		}
		all = append(all, p)
	})
	return all
}
