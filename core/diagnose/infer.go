package diagnose

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
)

// State is what is to be thought of a car after all that is known.
type State struct {
	*Model
	w       *weights
	epochs  [][]piece
	history History
	ids     []string // of the evidence of the last epoch, in the order of its pieces
	Silent  []Silent // evidence that says nothing, and why
}

// Silent is evidence that was left out, with the reason.
type Silent struct{ ID, Says, Why string }

// Explanation is one of the things that may be wrong.
type Explanation struct {
	Faults []string // none: nothing that is there now, or something else
	Key    string   // faults joined with +, or none-now, or other
	Name   string
	Odds   float64
}

// NoneNow and Other are the keys of explanations that are no fault of the Book.
const (
	NoneNow = "none-now"
	Other   = "other"
)

// Think weighs all that is known. Evidence that cannot be (an unknown key, a part that
// this car lacks) is an error; evidence that says nothing is listed in Silent.
func (m *Model) Think(h History) (*State, error) {
	st := &State{Model: m, history: h}
	for _, ep := range h {
		var ps []piece
		st.ids = nil
		for _, e := range ep.Evidence {
			p, err := m.read(e)
			if err == ErrSilent {
				st.Silent = append(st.Silent, Silent{e.ID, e.Says, "it says nothing about what this car can have"})
				p, err = piece{}, nil
			}
			if err != nil {
				return nil, fmt.Errorf("%s: %w", cmp.Or(e.Says, string(e.Kind)), err)
			}
			ps = append(ps, p)
			st.ids = append(st.ids, e.ID)
		}
		st.epochs = append(st.epochs, ps)
	}
	var err error
	st.w, err = m.run(h, st.epochs, nil)
	return st, err
}

// run goes through the epochs, leaving out the pieces of the last one that skip names.
func (m *Model) run(h History, epochs [][]piece, skip map[int]bool) (*weights, error) {
	w := m.prior()
	for n, ep := range h {
		for _, r := range ep.Repairs {
			if err := m.repaired(w, r); err != nil {
				return nil, err
			}
		}
		for i, p := range epochs[n] {
			if n == len(h)-1 && skip[i] {
				continue
			}
			m.weigh(w, p)
		}
		if t := w.total(); t > 0 && n < len(h)-1 {
			w.scale(1 / t)
		}
	}
	t := w.total()
	if !(t > 0) || math.IsInf(t, 0) {
		return nil, fmt.Errorf("the evidence rules everything out")
	}
	w.scale(1 / t)
	return w, nil
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
		out = append(out, Explanation{[]string{a.Key, b.Key}, a.Key + "+" + b.Key, a.Name + ", and " + strings.ToLower(b.Name[:1]) + b.Name[1:], v})
	}
	sum := func(v [kinds]float64) (t float64) {
		for _, x := range v {
			t += x
		}
		return
	}
	out = append(out, Explanation{nil, NoneNow, "Nothing that is there now", sum(s.w.none)}, Explanation{nil, Other, "Something the Book does not know", sum(s.w.other)})
	slices.SortStableFunc(out, func(a, b Explanation) int { return cmp.Compare(b.Odds, a.Odds) })
	return out
}

// Marginals returns the odds that each suspect is there, alone or in a pair, in the order
// of Suspects.
func (s *State) Marginals() []float64 {
	out := make([]float64, len(s.Suspects))
	for i := range s.Suspects {
		for _, p := range s.w.single[i*shades : (i+1)*shades] {
			out[i] += p
		}
	}
	for i, q := range s.pairs {
		v := 0.0
		for _, p := range s.w.pair[i*pairShades : (i+1)*pairShades] {
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

// Without returns the odds that each suspect would have had the evidence with this id not
// been there; ok is false when this epoch has none with it that speaks.
func (s *State) Without(id string) (marginals []float64, ok bool) {
	skip := map[int]bool{}
	for i, x := range s.ids {
		if x == id && len(s.epochs[len(s.epochs)-1][i].parts) > 0 {
			skip[i] = true
		}
	}
	if len(skip) == 0 {
		return nil, false
	}
	w, err := s.run(s.history, s.epochs, skip)
	if err != nil {
		return nil, false
	}
	return (&State{Model: s.Model, w: w}).Marginals(), true
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
		w, err := s.run(s.history, s.epochs, map[int]bool{n: true})
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
	First, Second Evidence
	Against       float64 // how many times rarer both are together than each by itself
}

// clashing is how many times rarer two readings must be together than apart before they
// are called a contradiction (chosen here).
const clashing = 20.0

// Clashes finds evidence of this epoch that contradicts: two pieces that are far less
// likely together than each is by itself, with all the rest as it stands.
func (s *State) Clashes() []Clash {
	if len(s.epochs) == 0 {
		return nil
	}
	last := len(s.epochs) - 1
	ev := s.history[last].Evidence
	// Mass of what remains, with some pieces left out, against all of it.
	mass := func(skip map[int]bool, pairs bool) float64 {
		m := s.Model
		if !pairs { // singles only: a quick first look
			short := *m
			short.pairs = nil
			m = &short
		}
		w := m.prior()
		for n := range s.history {
			for _, r := range s.history[n].Repairs {
				_ = m.repaired(w, r)
			}
			for i, p := range s.epochs[n] {
				if n == last && skip[i] {
					continue
				}
				m.weigh(w, p)
			}
		}
		return w.total()
	}
	speaks := func(i int) bool { return len(s.epochs[last][i].parts) > 0 && !s.epochs[last][i].before }
	var out []Clash
	for i := range ev {
		for j := i + 1; j < len(ev); j++ {
			if !speaks(i) || !speaks(j) {
				continue
			}
			ratio := func(pairs bool) float64 {
				all := mass(nil, pairs)
				return mass(map[int]bool{i: true}, pairs) * mass(map[int]bool{j: true}, pairs) / math.Max(mass(map[int]bool{i: true, j: true}, pairs)*all, 1e-300)
			}
			if ratio(false) < clashing {
				continue
			}
			if r := ratio(true); r >= clashing {
				out = append(out, Clash{ev[i], ev[j], r})
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Clash) int { return cmp.Compare(b.Against, a.Against) })
	return out
}
