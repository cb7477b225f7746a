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

// gatherer collects the odds that a plan works on.
type gatherer struct {
	s      *State
	least  float64 // what is too light to be among the heaviest is left aside before they are ordered
	groups []group
	all    []particle
}

// cloud is the pruned odds that a plan works on.
func (s *State) cloud() ([]particle, []group) {
	c := &gatherer{s: s, groups: make([]group, 0, 1<<10), all: make([]particle, 0, 1<<13)}
	none := s.w.nothing()
	for _, rows := range [][]float64{s.w.single, s.w.pair, none[:], s.w.other[:]} {
		for _, v := range rows {
			c.least = max(c.least, v*1e-5)
		}
	}
	for i := range s.Suspects {
		c.add(group{a: i, b: -1}, s.w.single[i*shades:(i+1)*shades])
	}
	c.pairs()
	c.add(group{a: -1, b: -1}, none[:])
	c.add(group{a: -2, b: -1}, s.w.other[:])
	return c.prune()
}

// add takes an explanation with its weights by step and kind of car.
func (c *gatherer) add(g group, row []float64) {
	for _, v := range row {
		g.total += v
	}
	if g.total < 1e-5 {
		return
	}
	n := len(c.groups)
	c.groups = append(c.groups, g)
	for x, v := range row {
		if v < c.least {
			continue
		}
		p := particle{a: g.a, b: g.b, ka: x / kinds, j: x % kinds, group: n, w: v}
		if g.b >= 0 {
			p.ka, p.kb = x/kinds/steps, x/kinds%steps
		}
		c.all = append(c.all, p)
	}
}

// pairs takes the explanations by two faults. A second fault that nothing speaks for is
// not what the car came for: such a pair is mended with the other one, and counts with it.
func (c *gatherer) pairs() {
	s := c.s
	single := map[int]int{}
	for g, x := range c.groups {
		single[x.a] = g
	}
	raised := s.Marginals()
	for i, p := range (&State{Model: s.Model, w: s.prior()}).Marginals() {
		raised[i] /= math.Max(p, 1e-9)
	}
	loud := func(a, b int) bool { return raised[b] < 1.5 && raised[a] > 4*raised[b] }
	for i, q := range s.Model.pairs {
		n, from := len(c.groups), len(c.all)
		c.add(group{a: q[0], b: q[1]}, s.w.pair[i*pairShades:(i+1)*pairShades])
		if len(c.groups) == n {
			continue
		}
		for _, o := range [][2]int{{q[0], q[1]}, {q[1], q[0]}} {
			g, ok := single[o[0]]
			if !ok || !loud(o[0], o[1]) {
				continue
			}
			for k := from; k < len(c.all); k++ {
				c.all[k].group = g
			}
			c.groups[g].total += c.groups[n].total
			c.groups = c.groups[:n]
			break
		}
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
	keep := map[int]int{}
	for n, g := range order[:min(len(order), mostGroups)] {
		keep[g] = n
	}
	all := c.heaviest(keep)
	slices.SortFunc(all, func(x, y particle) int {
		return cmp.Or(cmp.Compare(y.w, x.w), x.a-y.a, x.b-y.b, x.ka-y.ka, x.kb-y.kb, x.j-y.j)
	})
	all = all[:min(len(all), mostParticles)]
	kept := make([]group, len(keep))
	for g, n := range keep {
		kept[n] = group{a: c.groups[g].a, b: c.groups[g].b}
	}
	sum := 0.0
	for i := range all {
		all[i].group = keep[all[i].group]
		sum += all[i].w
	}
	for i := range all {
		all[i].w /= sum
		kept[all[i].group].total += all[i].w
	}
	return all, kept
}

// heaviest drops what is not of a group that is kept, and what is too light to be among the
// heaviest shares, told apart by the binary order of its weight: few are left to be ordered.
func (c *gatherer) heaviest(keep map[int]int) []particle {
	kept := make([]bool, len(c.groups))
	for g := range keep {
		kept[g] = true
	}
	var count [64]int // by how many times a weight can be doubled before it is 1
	order := func(w float64) int { return min(max(-math.Ilogb(w), 0), len(count)-1) }
	for _, p := range c.all {
		if kept[p.group] {
			count[order(p.w)]++
		}
	}
	last, n := 0, 0
	for last < len(count)-1 && n+count[last] < mostParticles {
		n += count[last]
		last++
	}
	return slices.DeleteFunc(c.all, func(p particle) bool { return !kept[p.group] || order(p.w) > last })
}
