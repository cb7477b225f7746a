package diagnose

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"wexter/core/plumbing"
)

// State is what all the evidence says of a car.
type State struct {
	*Model
	w       *weights
	epochs  [][]piece
	history History
	told    memory
	Silent  []Silent // evidence that says nothing, and why
}

// Silent is evidence that was left out, with the reason.
type Silent struct{ ID, Says, Why string }

// Explanation is one of the things that may be wrong.
type Explanation struct {
	Faults []string // none: no fault present now, or something else
	Key    string   // faults joined with +, or none-now, or other
	Name   string
	Odds   float64
}

// NoneNow and Other are the keys of explanations that are no fault of the Book.
const (
	NoneNow     = "none-now"
	NoneNowName = "No fault present now"
	Other       = "other"
	OtherName   = "Something the Book does not cover"
)

// Think weighs all that is known. Evidence that cannot be (an unknown key, a part that
// this car lacks) is an error; evidence that says nothing is listed in Silent.
func (m *Model) Think(h History) (*State, error) {
	st := &State{Model: m, history: h}
	for _, ep := range h {
		var ps []piece
		for _, e := range ep.Evidence {
			p, err := m.read(e)
			if errors.Is(err, ErrSilent) {
				why := "it says nothing about what this car can have"
				if s, ok := err.(silence); ok {
					why = s.Error()
				}
				st.Silent = append(st.Silent, Silent{e.ID, e.Says, why})
				p, err = piece{}, nil
			}
			if err != nil {
				return nil, fmt.Errorf("%s: %w", cmp.Or(e.Says, string(e.Kind)), err)
			}
			ps = append(ps, p)
		}
		st.epochs = append(st.epochs, ps)
	}
	var err error
	st.w, st.told, err = m.run(h, st.epochs, nil)
	return st, err
}

// run goes through the epochs, leaving out the pieces of the last one that skip
// names; it returns the odds, and what was answered.
func (m *Model) run(h History, epochs [][]piece, skip map[int]bool) (*weights, memory, error) {
	w, told := m.prior(), memory{}
	for n, ep := range h {
		f := &filter{Model: m, stayed: w, told: told, epoch: n}
		if err := f.repair(ep.Repairs); err != nil {
			return nil, nil, err
		}
		for i, p := range epochs[n] {
			if n == len(h)-1 && skip[i] {
				continue
			}
			for _, x := range p.parts {
				f.weigh(x, p.before)
			}
		}
		w = f.end()
		if t := w.total(); t > 0 && n < len(h)-1 {
			w.scale(1 / t)
		}
	}
	t := w.total()
	if !(t > 0) || math.IsInf(t, 0) {
		return nil, nil, fmt.Errorf("the evidence rules everything out")
	}
	w.scale(1 / t)
	return w, told, nil
}

// Explanations lists what may be wrong, likeliest first; they exclude one another and
// their odds sum to 1.
func (s *State) Explanations() []Explanation {
	out := make([]Explanation, 0, len(s.Suspects)+len(s.pairs)+2)
	for i, x := range s.Suspects {
		v := 0.0
		for _, p := range s.w.single[i*shades : (i+1)*shades] {
			v += p
		}
		out = append(out, Explanation{[]string{x.Key}, x.Key, x.Name, v})
	}
	for i, q := range s.pairs {
		v := 0.0
		for _, p := range s.w.pair[i*pairShades : (i+1)*pairShades] {
			v += p
		}
		a, b := s.Suspects[q[0]], s.Suspects[q[1]]
		out = append(out, Explanation{[]string{a.Key, b.Key}, a.Key + "+" + b.Key, a.Name + ", and " + plumbing.Lower(b.Name), v})
	}
	sum := func(v [kinds]float64) (t float64) {
		for _, x := range v {
			t += x
		}
		return
	}
	out = append(out, Explanation{nil, NoneNow, NoneNowName, sum(s.w.nothing())}, Explanation{nil, Other, OtherName, sum(s.w.other)})
	slices.SortStableFunc(out, func(a, b Explanation) int { return cmp.Compare(b.Odds, a.Odds) })
	return out
}

// Marginals returns the odds that each suspect is there, alone or in a pair, in the order
// of Suspects.
func (s *State) Marginals() []float64 { return s.marginals(s.w) }

func (m *Model) marginals(w *weights) []float64 {
	out := make([]float64, len(m.Suspects))
	for i := range m.Suspects {
		for _, p := range w.single[i*shades : (i+1)*shades] {
			out[i] += p
		}
	}
	for i, q := range m.pairs {
		v := 0.0
		for _, p := range w.pair[i*pairShades : (i+1)*pairShades] {
			v += p
		}
		out[q[0]] += v
		out[q[1]] += v
	}
	return out
}

// Odds returns the odds that a fault is there, alone or in a pair; 0 for one this car
// cannot have.
func (s *State) Odds(fault string) float64 {
	if i, ok := s.index[fault]; ok {
		return s.Marginals()[i]
	}
	return 0
}

// Severity returns the odds of each step of severity of a suspect, given that it is there.
func (s *State) Severity(fault string) (out [steps]float64) {
	i, ok := s.index[fault]
	if !ok {
		return
	}
	t := 0.0
	add := func(k int, v float64) { out[k] += v; t += v }
	for x, v := range s.w.single[i*shades : (i+1)*shades] {
		add(x/kinds, v)
	}
	for n, q := range s.pairs {
		if q[0] != i && q[1] != i {
			continue
		}
		for x, v := range s.w.pair[n*pairShades : (n+1)*pairShades] {
			k := x / kinds / steps
			if q[1] == i {
				k = x / kinds % steps
			}
			add(k, v)
		}
	}
	for k := range out {
		if t > 0 {
			out[k] /= t
		}
	}
	return
}

// Weight is how a piece of evidence of this epoch speaks about a suspect.
type Weight struct {
	ID, Says string
	Ratio    float64 // odds with it over odds without it: above 1 it speaks for
}

// Words says a ratio as a person does: "speaks 6 to 1 for".
func (w Weight) Words() string { return RatioWords(w.Ratio) }

// RatioWords says how strongly evidence speaks.
func RatioWords(r float64) string {
	say := func(x float64) string {
		switch {
		case x >= 1000:
			return "more than 1000 to 1"
		case x >= 10:
			return fmt.Sprintf("%.0f to 1", x)
		case x >= 2:
			return strings.TrimSuffix(fmt.Sprintf("%.1f", x), ".0") + " to 1"
		}
		return fmt.Sprintf("%.0f to 10", 10*x)
	}
	switch {
	case r >= 1.15:
		return "speaks " + say(r) + " for"
	case r <= 1/1.15:
		return "speaks " + say(1/r) + " against"
	}
	return "says little"
}

// Why says how each piece of evidence of this epoch speaks about a suspect: the odds of it
// with all evidence over those with all but that piece. The strongest come first.
func (s *State) Why(fault string) ([]Weight, error) {
	i, err := s.suspect(fault)
	if err != nil {
		return nil, err
	}
	if len(s.epochs) == 0 {
		return nil, nil
	}
	odds := func(st *State) float64 {
		p := math.Min(math.Max(st.Marginals()[i], 1e-12), 1-1e-12)
		return p / (1 - p)
	}
	all := odds(s)
	last := s.history[len(s.history)-1]
	var out []Weight
	for n, e := range last.Evidence {
		if len(s.epochs[len(s.epochs)-1][n].parts) == 0 {
			continue
		}
		w, _, err := s.run(s.history, s.epochs, map[int]bool{n: true})
		if err != nil {
			continue
		}
		out = append(out, Weight{e.ID, e.Says, all / odds(&State{Model: s.Model, w: w})})
	}
	slices.SortStableFunc(out, func(a, b Weight) int {
		return cmp.Compare(math.Abs(math.Log(b.Ratio)), math.Abs(math.Log(a.Ratio)))
	})
	return out, nil
}

// Clash is two pieces of evidence that hardly any explanation can have both.
type Clash struct {
	First, Second Evidence // the second is the one that nothing explains beside the first
	Against       float64  // how many times fewer explanations it has with the first than without
}

// What is called a contradiction (chosen here): nothing likely explains a reading, and with
// another one gone twenty times as much would.
const (
	unexplained = 0.02
	clashing    = 20.0
	explains    = 0.3 // of the best likelihood that any explanation gives the reading
)

// Doubts are the ids of all evidence that contradicts something.
func Doubts(clashes []Clash) (ids []string) {
	for _, c := range clashes {
		ids = append(ids, c.First.ID, c.Second.ID)
	}
	return ids
}

// Clashes finds evidence of this epoch that contradicts: a reading that what is likely
// after all the rest does not explain, and would explain without one other piece. Evidence
// of the time before the car came contradicts nothing.
func (s *State) Clashes() []Clash {
	if len(s.epochs) == 0 {
		return nil
	}
	last := len(s.epochs) - 1
	ev, ps := s.history[last].Evidence, s.epochs[last]
	quick := *s.Model
	quick.pairs = nil
	share := func(m *Model, j int, skip ...int) float64 {
		out := map[int]bool{j: true}
		for _, i := range skip {
			out[i] = true
		}
		w, _, err := m.run(s.history, s.epochs, out)
		if err != nil {
			return 1
		}
		return m.explained(w, ps[j])
	}
	var out []Clash
	for j := range ev {
		if len(ps[j].parts) == 0 || ps[j].before || share(&quick, j) >= unexplained {
			continue
		}
		with := -1.0
		for i := range ev {
			if i == j || len(ps[i].parts) == 0 || ps[i].before || share(&quick, j, i) < clashing*share(&quick, j) {
				continue
			}
			if with < 0 {
				with = share(s.Model, j) // now with all pairs
			}
			if r := share(s.Model, j, i) / math.Max(with, 1e-9); with < unexplained && r >= clashing/2 {
				out = append(out, Clash{ev[i], ev[j], r})
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Clash) int { return cmp.Compare(b.Against, a.Against) })
	// Two pieces that contradict each other either way round are one contradiction.
	var once []Clash
	for _, c := range out {
		if !slices.ContainsFunc(once, func(x Clash) bool { return x.First.ID == c.Second.ID && x.Second.ID == c.First.ID }) {
			once = append(once, c)
		}
	}
	return once
}

// explained is how much of the odds explains a piece of evidence well; what is not in the
// Book may be anything and explains nothing.
func (m *Model) explained(w *weights, p piece) float64 {
	like := make([]float64, len(w.single))
	var sound [kinds]float64
	best := 0.0
	for j := range kinds {
		sound[j] = 1
		for _, l := range p.parts {
			sound[j] *= l.sound(j)
		}
		best = math.Max(best, sound[j])
	}
	for i := range like {
		s, k, j := i/shades, i%shades/kinds, i%kinds
		like[i] = 1
		for _, l := range p.parts {
			if l.felt(s) {
				like[i] *= l.one(s, k, j)
			} else {
				like[i] *= l.sound(j)
			}
		}
		best = math.Max(best, like[i])
	}
	good := func(x float64) bool { return x >= explains*best }
	t := 0.0
	for i, v := range w.single {
		if good(like[i]) {
			t += v
		}
	}
	for n, q := range m.pairs {
		row := w.pair[n*pairShades : (n+1)*pairShades]
		for x, v := range row {
			if v < 1e-12 {
				continue
			}
			j := x % kinds
			a, b := good(like[q[0]*shades+x/kinds/steps*kinds+j]), good(like[q[1]*shades+x/kinds%steps*kinds+j])
			if a && b || !good(sound[j]) && (a || b) {
				t += v
			}
		}
	}
	for j, v := range w.nothing() {
		if good(sound[j]) {
			t += v
		}
	}
	return t
}
