package diagnose

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"sync"

	"wexter/core/knowledge"
	"wexter/core/plumbing"
)

// steps of severity, kinds of car, and what one suspect has of both.
const (
	steps  = 5
	kinds  = 2
	shades = steps * kinds
)

// Version names the algorithm. It is counted up with every change that moves odds or
// plan, so that nothing kept from before passes for new.
const Version = "5"

// Car is the car that is reasoned about. Age in years and distance in km may be unknown (0).
type Car struct {
	Of    plumbing.Combination
	Graph *plumbing.Graph
	Age   float64
	Km    int
}

// Suspect is a fault that this car can have.
type Suspect struct {
	knowledge.Fault
	Part  string // of the car that has it
	Prior float64
}

// Model is one car with everything that may be wrong with it.
type Model struct {
	Car
	Book     knowledge.Book
	Suspects []Suspect
	table    *Table
	index    map[string]int
	pairs    [][2]int
	known    *knownRows
	sealed   [][steps]float64 // holes of the suspects that the car's own leak check can see
	// Odds before anything is known.
	two, none, other float64
}

// Odds that belong to no single fault, chosen here.
const (
	nothingNow = 0.06 // the trouble is not there while the car is looked at
	unknown    = 0.02 // something the Book does not know
	pairsFew   = 0.08 // two faults at once on a new car
	pairsMany  = 0.15 // and on an old one that has gone far
	oldYears   = 15.0
	farKm      = 250e3
)

// ErrNoSuspect means that the Book knows nothing that this car could have.
var ErrNoSuspect = errors.New("the Book knows no fault that this car can have")

// New makes the model of a car from the Book and the table of what the plant says.
func New(b knowledge.Book, t *Table, car Car) (*Model, error) {
	if car.Graph == nil {
		return nil, errors.New("the car has no plumbing")
	}
	m := &Model{Car: car, Book: b, table: t, index: map[string]int{}, known: &knownRows{by: map[string][]*[shades]*Row{}}}
	sum := map[string]float64{}
	for _, f := range b.Faults {
		part, can := f.Can(car.Graph, car.Of)
		if !can || f.Family == "other" || f.After {
			continue
		}
		m.index[f.Key] = len(m.Suspects)
		m.Suspects = append(m.Suspects, Suspect{Fault: f, Part: part, Prior: f.Weight})
		sum[f.Family] += f.Weight
	}
	for _, f := range b.Faults { // what only a repair brings comes in with a repair
		if part, can := f.Can(car.Graph, car.Of); can && f.After {
			m.index[f.Key] = len(m.Suspects)
			m.Suspects = append(m.Suspects, Suspect{Fault: f, Part: part, Prior: 0.1 * f.Weight})
			sum[f.Family] += 0.1 * f.Weight
		}
	}
	if len(m.Suspects) == 0 {
		return nil, ErrNoSuspect
	}
	total := 0.0
	for _, o := range b.Odds {
		if sum[o.Key] > 0 {
			total += o.Share
		}
	}
	for i := range m.Suspects {
		s := &m.Suspects[i]
		share := 0.01
		for _, o := range b.Odds {
			if o.Key == s.Family {
				share = o.Share
			}
		}
		s.Prior *= share / math.Max(total, 0.01) / sum[s.Family]
	}
	m.sealed = m.own()
	worn := 0.5*math.Min(car.Age/oldYears, 1) + 0.5*math.Min(float64(car.Km)/farKm, 1)
	m.two, m.none, m.other = pairsFew+(pairsMany-pairsFew)*worn, nothingNow, unknown
	for a := range m.Suspects {
		for c := a + 1; c < len(m.Suspects); c++ {
			if !m.Suspects[a].Silent() && !m.Suspects[c].Silent() {
				m.pairs = append(m.pairs, [2]int{a, c})
			}
		}
	}
	return m, nil
}

// knownRows are rows of the table by test, for every suspect, found once.
type knownRows struct {
	sync.Mutex
	by map[string][]*[shades]*Row
}

// rows is what the table has of a test for each suspect; nil where the plant was not asked.
func (m *Model) rows(test string) []*[shades]*Row {
	m.known.Lock()
	defer m.known.Unlock()
	if out, ok := m.known.by[test]; ok {
		return out
	}
	out := make([]*[shades]*Row, len(m.Suspects))
	for i, s := range m.Suspects {
		out[i] = m.table.of(test, s, m.Car)
	}
	m.known.by[test] = out
	return out
}

// suspect finds one by the fault's key; the error names the nearest known ones.
func (m *Model) suspect(key string) (int, error) {
	if i, ok := m.index[key]; ok {
		return i, nil
	}
	keys := make([]string, 0, len(m.Suspects))
	for _, s := range m.Suspects {
		keys = append(keys, s.Key)
	}
	if _, known := m.Book.Fault(key); known {
		return 0, fmt.Errorf("this car cannot have the fault %q; %s", key, Near(key, keys))
	}
	return 0, fmt.Errorf("there is no fault %q; %s", key, Near(key, keys))
}

// weights are the odds of every explanation, step and kind of car, not normalised.
type weights struct {
	single []float64      // [suspect][step][kind]
	pair   []float64      // [pair][step of the first][step of the second][kind]
	none   [kinds]float64 // nothing was there, as far as is known, or it was repaired
	gone   []float64      // [suspect][step][kind] it was there when the car came in, and is not now
	other  [kinds]float64
}

// nothing is the weight of no fault being there now, by kind of car.
func (w *weights) nothing() [kinds]float64 {
	out := w.none
	for i, v := range w.gone {
		out[i%kinds] += v
	}
	return out
}

const pairShades = steps * steps * kinds

func (m *Model) newWeights() *weights {
	n := len(m.Suspects) * shades
	return &weights{single: make([]float64, n), pair: make([]float64, len(m.pairs)*pairShades), gone: make([]float64, n)}
}

// prior is what stands before anything is known.
func (m *Model) prior() *weights {
	w := m.newWeights()
	one := 1 - m.two - m.none - m.other
	if len(m.pairs) == 0 {
		one += m.two
	}
	for s, x := range m.Suspects {
		for i := range shades {
			w.single[s*shades+i] = one * x.Prior / shades
			w.gone[s*shades+i] = m.none * x.Prior / shades
		}
	}
	sum := 0.0
	for _, p := range m.pairs {
		sum += m.Suspects[p[0]].Prior * m.Suspects[p[1]].Prior
	}
	for i, p := range m.pairs {
		v := m.two * m.Suspects[p[0]].Prior * m.Suspects[p[1]].Prior / sum / pairShades
		for x := range pairShades {
			w.pair[i*pairShades+x] = v
		}
	}
	for j := range kinds {
		w.other[j] = m.other / kinds
	}
	return w
}

func (w *weights) total() float64 {
	t := 0.0
	for _, v := range w.single {
		t += v
	}
	for _, v := range w.pair {
		t += v
	}
	for j, v := range w.nothing() {
		t += v + w.other[j]
	}
	return t
}

func (w *weights) scale(by float64) {
	for _, l := range [][]float64{w.single, w.pair, w.none[:], w.gone, w.other[:]} {
		for i := range l {
			l[i] *= by
		}
	}
}

// Odds of what a repair does, common practice, no source.
const (
	repairHolds = 0.94 // what was repaired is gone
	repairFails = 0.04 // it is still there: fitted wrong, or a poor copy
	causeThere  = 0.6  // a cause that was named is there
	causeMaybe  = 0.12 // a cause the Book knows of, and nobody answered
)

// repaired takes from w what a repair has changed, and puts it into moved. What else a repair may
// bring (a seal left out) takes the rest.
func (m *Model) repaired(w, moved *weights, r Repair) error {
	s, err := m.suspect(r.Fault)
	if err != nil {
		return err
	}
	to, err := m.leaving(moved, s, r)
	if err != nil {
		return err
	}
	var after []int
	for i, x := range m.Suspects {
		if x.After && i != s {
			after = append(after, i)
		}
	}
	gone, brings := repairHolds, 1-repairHolds-repairFails
	if len(after) == 0 {
		gone, brings = gone+brings, 0
	}
	for i, p := range m.pairs {
		if p[0] != s && p[1] != s {
			continue
		}
		rest := p[0] + p[1] - s
		for ka := range steps {
			for kb := range steps {
				for j := range kinds {
					x := &w.pair[i*pairShades+(ka*steps+kb)*kinds+j]
					k := ka
					if p[0] == s {
						k = kb
					}
					mass := *x
					*x = mass * repairFails
					to.leave(mass*(1-repairFails), rest, k, j)
				}
			}
		}
	}
	for k := range steps {
		for j := range kinds {
			x := &w.single[s*shades+k*kinds+j]
			mass := *x
			*x = mass * repairFails
			to.leave(mass*gone, -1, 0, j)
			for _, i := range after {
				for ka := range steps {
					moved.single[i*shades+ka*kinds+j] += mass * brings / float64(len(after)*steps)
				}
			}
		}
	}
	return nil
}

// leaving is where the mass of an explanation goes when its part has been repaired.
type leaving struct {
	w     *weights
	cause []int          // suspects that may have made it, each as likely
	odds  float64        // that one of them is there
	pair  map[[2]int]int // number of a pair of suspects
}

// leaving works out what may have caused the repaired suspect s.
func (m *Model) leaving(w *weights, s int, r Repair) (leaving, error) {
	l := leaving{w: w, odds: causeMaybe, pair: map[[2]int]int{}}
	causes := m.Suspects[s].Causes
	switch {
	case r.Cause == "":
	case r.Cause == NoCause:
		causes = nil
	default:
		if _, err := m.suspect(r.Cause); err != nil {
			return l, err
		}
		causes, l.odds = []string{r.Cause}, causeThere
	}
	for _, k := range causes {
		if i, ok := m.index[k]; ok && i != s {
			l.cause = append(l.cause, i)
		}
	}
	for i, p := range m.pairs {
		l.pair[p] = i
	}
	return l, nil
}

// leave puts mass where it goes when the repaired part is well: rest is the other fault of
// a pair (with its step k), or -1; j is the kind of car.
func (l leaving) leave(mass float64, rest, k, j int) {
	caused := 0.0
	if len(l.cause) > 0 && (rest < 0 || !slices.Contains(l.cause, rest)) {
		caused = l.odds
	}
	well := mass * (1 - caused)
	if rest < 0 {
		l.w.none[j] += well
	} else {
		l.w.single[rest*shades+k*kinds+j] += well
	}
	for _, c := range l.cause {
		share := mass * caused / float64(len(l.cause)) / steps
		for kc := range steps {
			if rest < 0 {
				l.w.single[c*shades+kc*kinds+j] += share
				continue
			}
			p, ka, kb := [2]int{rest, c}, k, kc
			if rest > c {
				p, ka, kb = [2]int{c, rest}, kc, k
			}
			if i, ok := l.pair[p]; ok {
				l.w.pair[i*pairShades+(ka*steps+kb)*kinds+j] += share
			}
		}
	}
}
