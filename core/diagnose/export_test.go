package diagnose

import (
	"math"
	"slices"

	"wexter/core/knowledge"
)

// For tests outside the package, which need the Book: what they check against.

// Price is what a repair one after another would cost, for single faults alone.
func Price(odds, mend []float64) float64 {
	s := &State{Model: &Model{Suspects: make([]Suspect, len(odds))}}
	gs := make([]group, len(odds))
	for i := range gs {
		gs[i] = group{i, -1, odds[i]}
	}
	return (&planner{State: s, gs: gs, mend: append(mend[:len(mend):len(mend)], 0, 0)}).price(odds)
}

// Entropy is in bits.
func Entropy(p []float64) float64 { return entropy(p, 1) }

// Rows are what the plant said of a fault under a test, by step of severity and kind of car.
func (m *Model) Rows(test, fault string) *[shades]*Row {
	return m.rows(test)[m.index[fault]]
}

// At is the likelihood of a curve at one diameter, m.
func (c *Curve) At(d float64) float64 { return c.mean(d*d, d*d) }

// Prior masses of a model.
func (m *Model) Prior() (two, none, other float64) { return m.two, m.none, m.other }

// Hole is the range of a fault's hole at a step, m, and Wall that of one in the wall of its
// part alone.
func (s Suspect) Hole(k int) (low, high float64) { return s.hole(k) }
func (s Suspect) Wall(k int) (low, high float64) { return s.wall(k) }

// Sizes of the model.
const (
	Steps = steps
	Kinds = kinds
)

// Actions lists everything that could be done on a car of which nothing is known.
func (m *Model) Actions() []Action {
	s, err := m.Think(History{{}})
	if err != nil {
		return nil
	}
	return s.Next(Bay{Careful: true}).Actions
}

// Problem is a small made-up hunt: what may be wrong with its odds and what each costs to mend,
// and tests with the odds of their outcomes under each; the first outcome is the usual one.
type Problem struct {
	Odds, Mend []float64
	Tests      []MadeUp
}

// MadeUp is a test of a Problem.
type MadeUp struct {
	Cost float64
	Odds [][]float64 // [outcome][suspect]
}

// planner of a problem, with its tests as actions.
func (x Problem) planner() (*planner, []*Action) {
	n := len(x.Odds)
	m := &Model{Suspects: make([]Suspect, n), index: map[string]int{}}
	p := &planner{State: &State{Model: m}, now: x.Odds, marg: x.Odds, mend: append(append([]float64{}, x.Mend...), waitNone, byHand)}
	for i := range n {
		p.gs = append(p.gs, group{i, -1, x.Odds[i]})
		p.ps = append(p.ps, particle{a: i, b: -1, group: i, w: x.Odds[i]})
	}
	var list []*Action
	for _, t := range x.Tests {
		a := &Action{Cost: t.Cost, odds: t.Odds, share: 1, Out: make([]Outcome, len(t.Odds))}
		a.Out[0].Usual = true
		list = append(list, a)
	}
	p.tries(list)
	for _, a := range list {
		a.Expect, a.Bits = p.value(a)
	}
	return p, list
}

// Chosen is the test that would be proposed first; below zero for none.
func (x Problem) Chosen() int {
	p, list := x.planner()
	at := append([]*Action{}, list...)
	slices.SortStableFunc(at, cheaper)
	p.deepen(at, append([]*Action{}, at...), math.Inf(1))
	if best := p.best(); len(at) == 0 || best < at[0].Expect {
		return -1
	}
	return slices.Index(list, at[0])
}

// best is the expected cost of the best part to replace without testing.
func (p *planner) best() float64 {
	least := math.Inf(1)
	for i := range p.Suspects {
		least = math.Min(least, p.unproven(i))
	}
	return least
}

// Exhaustive is the expected cost of each test, and last of none of them, when every way of
// up to depth tests is looked at.
func (x Problem) Exhaustive(depth int) []float64 {
	p, list := x.planner()
	var after func(odds []float64, used, depth int) float64
	of := func(a *Action, odds []float64, used, depth int) float64 {
		cost := a.Cost
		for o := range a.odds {
			t, next := 0.0, make([]float64, len(odds))
			for g, v := range odds {
				next[g] = v * a.odds[o][g]
				t += next[g]
			}
			if t < 1e-12 {
				continue
			}
			for g := range next {
				next[g] /= t
			}
			cost += t * after(next, used|1<<slices.Index(list, a), depth-1)
		}
		return cost
	}
	after = func(odds []float64, used, depth int) float64 {
		best := p.newCourse().cost(odds, nil)
		if depth == 0 {
			return best
		}
		for i, a := range list {
			if used>>i&1 == 0 {
				best = math.Min(best, of(a, odds, used, depth))
			}
		}
		return best
	}
	var out []float64
	for _, a := range list {
		out = append(out, of(a, x.Odds, 0, depth))
	}
	return append(out, p.best())
}

// Odds of codes, as the reasoning takes them.
const (
	CodeSet   = codeSet
	CodeStray = codeStray
)

// Knows reports whether the plant's control unit ever sets a code of a group on this car.
func (m *Model) Knows(g knowledge.CodeGroup) bool {
	for _, rows := range m.rows(Codes) {
		if rows == nil {
			continue
		}
		for _, r := range rows {
			if r != nil && slices.ContainsFunc(g.Codes, func(c string) bool { return hasWord(r.Outcome, c) }) {
				return true
			}
		}
	}
	return false
}

// step is the step of a severity.
func step(severity float64) int { return min(int(severity*steps), steps-1) }

// Practiced is the odds by practice that a unit stores a code of a group with a fault.
func (m *Model) Practiced(g knowledge.CodeGroup, fault string, severity float64) float64 {
	i, ok := m.index[fault]
	if !ok {
		return 0
	}
	p := g.Shows[fault]
	if p == 0 && m.sealed[i][step(severity)] > 0 {
		p = g.Leaks
	}
	return math.Min(p*worse[step(severity)], 0.95)
}

// PracticeSizes are the odds of the classes of leak codes by practice: none, the sizes, several.
func (m *Model) PracticeSizes(fault string, severity, limits float64) (odds []float64) {
	z := sizing{sizes: m.Book.Sizes, several: len(m.Book.Sizes) + 1}
	i, ok := m.index[fault]
	for c := range z.several + 1 {
		switch {
		case ok && m.sealed[i][step(severity)] > 0 && !z.names(fault):
			s := m.Suspects[i]
			odds = append(odds, z.hole(m.sealed[i][step(severity)]/limits, c, s.Varies))
		default:
			odds = append(odds, z.other(fault, c))
		}
	}
	return odds
}

// PlantSizes are those odds where the plant's unit has stored codes.
func (m *Model) PlantSizes(codes []string) (odds []float64) {
	z := sizing{sizes: m.Book.Sizes, several: len(m.Book.Sizes) + 1}
	says := z.class(func(c string) bool { return slices.Contains(codes, c) })
	for c := range z.several + 1 {
		odds = append(odds, z.plant(says, c, false))
	}
	return odds
}
