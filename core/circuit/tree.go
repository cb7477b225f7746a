package circuit

import (
	"cmp"
	"math"
	"slices"
	"strings"
)

// steps are how many resistances stand for a break's range.
const steps = 5

// nearly is the share of the best gain from which on a measure tells nearly as much, so that the quicker one comes
// first (chosen: it puts the order near to that of the trade and costs at most a tenth more measurements).
const nearly = 0.8

// Tree knows what a circuit shows with each of its breaks.
type Tree struct {
	circuit *Circuit
	cases   []Case
}

// Case is a break at one place of its range, and the bands that it shows there. The weights of a break's cases add
// up to its own.
type Case struct {
	Break  int // of the circuit
	Weight float64
	Bands  []string // of the circuit's measures, in their order
}

// Found are the bands of what was measured, by the measure's key.
type Found map[string]string

// Suspect is a break that what was found leaves, with its share of all that are left.
type Suspect struct {
	Break
	Share float64
}

// Step is a measure and what it is expected to tell.
type Step struct {
	Measure
	Gain float64 // bits
}

func newTree(c *Circuit) *Tree {
	t := &Tree{circuit: c}
	for i, b := range c.Breaks {
		at := map[string]int{} // of what is shown, in t.cases
		n := steps
		if len(b.Changes) == 0 {
			n = 1
		}
		for step := range n {
			share := 0.0
			if n > 1 {
				share = float64(step) / float64(n-1)
			}
			for _, x := range c.shown(i, b.At(share)) {
				k := strings.Join(x.Bands, " ")
				if _, ok := at[k]; !ok {
					at[k] = len(t.cases)
					t.cases = append(t.cases, Case{i, 0, x.Bands})
				}
				t.cases[at[k]].Weight += x.Weight / float64(n)
			}
		}
	}
	return t
}

// shown are the cases of a break with its resistances: several, where words have shares or where a reading lies
// between two bands and will be one or the other when it is read again.
func (c *Circuit) shown(fault int, changes []Change) []Case {
	b := c.Breaks[fault]
	out := []Case{{fault, b.Weight, nil}}
	for _, m := range c.Measures {
		shares := map[string]float64{m.Sound().Key: 1}
		if looks, ok := b.Looks[m.Key]; ok {
			shares = looks
		}
		if m.Unit != "" {
			shares = m.shares(c.Reads(m, changes))
		}
		var next []Case
		for _, x := range out {
			for _, band := range m.Bands {
				if s := shares[band.Key]; s > 0 {
					next = append(next, Case{fault, x.Weight * s, append(slices.Clone(x.Bands), band.Key)})
				}
			}
		}
		out = next
	}
	return out
}

// shares are those of the bands to which a reading can be taken.
func (m Measure) shares(v float64) map[string]float64 {
	if b, ok := m.Band(v); ok {
		return map[string]float64{b.Key: 1}
	}
	out := map[string]float64{}
	below, above := m.Beside(v)
	for _, b := range []Band{below, above} {
		if b.Key != "" {
			out[b.Key] = 1
		}
	}
	for k := range out {
		out[k] = 1 / float64(len(out))
	}
	return out
}

// Cases are all that the circuit can show.
func (t *Tree) Cases() []Case { return slices.Clone(t.cases) }

// fitting are the cases that fit what was found.
func (t *Tree) fitting(f Found) []Case {
	return slices.DeleteFunc(slices.Clone(t.cases), func(c Case) bool {
		for i, m := range t.circuit.Measures {
			if k, in := f[m.Key]; in && k != c.Bands[i] {
				return true
			}
		}
		return false
	})
}

// weights are those of the breaks among some cases.
func (t *Tree) weights(of []Case) []float64 {
	w := make([]float64, len(t.circuit.Breaks))
	for _, c := range of {
		w[c.Break] += c.Weight
	}
	return w
}

// Left are the breaks that fit what was found, the likeliest first.
func (t *Tree) Left(f Found) (out []Suspect) {
	w := t.weights(t.fitting(f))
	all := sum(w)
	for i, b := range t.circuit.Breaks {
		if w[i] > 0 {
			out = append(out, Suspect{b, w[i] / all})
		}
	}
	slices.SortStableFunc(out, func(a, b Suspect) int { return cmp.Compare(b.Share, a.Share) })
	return out
}

// Ranked are the measures that still tell something, the one to take next first.
func (t *Tree) Ranked(f Found) (out []Step) {
	fit := t.fitting(f)
	for i, m := range t.circuit.Measures {
		if _, done := f[m.Key]; done {
			continue
		}
		if g := t.gain(fit, i); g > 1e-9 {
			out = append(out, Step{m, g})
		}
	}
	slices.SortStableFunc(out, func(a, b Step) int { return cmp.Compare(b.Gain, a.Gain) })
	quickest := 0
	for i, s := range out {
		if s.Gain >= nearly*out[0].Gain && s.Minutes < out[quickest].Minutes {
			quickest = i
		}
	}
	if quickest > 0 {
		s := out[quickest]
		out = slices.Insert(slices.Delete(out, quickest, quickest+1), 0, s)
	}
	return out
}

// Next is the measure that is expected to tell most now, with quickness deciding between those that tell
// nearly as much; false where nothing tells any more.
func (t *Tree) Next(f Found) (Measure, bool) {
	r := t.Ranked(f)
	if len(r) == 0 {
		return Measure{}, false
	}
	return r[0].Measure, true
}

// gain is what measure i is expected to tell of some cases, bits.
func (t *Tree) gain(of []Case, i int) float64 {
	parts := map[string][]Case{}
	for _, c := range of {
		parts[c.Bands[i]] = append(parts[c.Bands[i]], c)
	}
	w := t.weights(of)
	gain := entropy(w)
	for _, b := range t.circuit.Measures[i].Bands {
		if p := t.weights(parts[b.Key]); sum(p) > 0 {
			gain -= sum(p) / sum(w) * entropy(p)
		}
	}
	return gain
}

// Contradicts is the measure to take again where no break fits what was found: the one without which most
// fits; false where something does fit.
func (t *Tree) Contradicts(f Found) (Measure, bool) {
	if len(t.fitting(f)) > 0 {
		return Measure{}, false
	}
	best, at := -1.0, 0
	for i, m := range t.circuit.Measures {
		if _, in := f[m.Key]; !in {
			continue
		}
		rest := Found{}
		for k, v := range f {
			if k != m.Key {
				rest[k] = v
			}
		}
		if s := sum(t.weights(t.fitting(rest))); s > best {
			best, at = s, i
		}
	}
	return t.circuit.Measures[at], true
}

func sum(w []float64) (s float64) {
	for _, v := range w {
		s += v
	}
	return s
}

// entropy is that of weights, bits.
func entropy(w []float64) (h float64) {
	all := sum(w)
	for _, v := range w {
		if v > 0 {
			h -= v / all * math.Log2(v/all)
		}
	}
	return h
}
