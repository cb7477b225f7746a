package diagnose

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"wexter/core/bench"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
)

// prediction is the odds of every outcome of a test under every single fault.
type prediction struct {
	test     string
	outcomes []string
	feels    []bool
	p        []float64 // [suspect][shade][outcome]
	well     [kinds][]float64
	usual    int       // outcome of a sound car
	wrong    []float64 // odds that an outcome is written down where another is true
	lost     float64   // their sum
}

func (pr *prediction) at(s, x int) []float64 {
	n := len(pr.outcomes)
	return pr.p[(s*shades+x)*n : (s*shades+x+1)*n]
}

// words is the likelihood of one of the outcomes.
func (pr *prediction) words(outcome string) (*words, error) {
	o := slices.Index(pr.outcomes, outcome)
	if o < 0 {
		return nil, ErrSilent
	}
	n := len(pr.feels)
	l := &words{feels: pr.feels, seen: make([]float64, n*shades), well: make([]float64, n*shades), ok: o == pr.usual}
	for s := range n {
		if !pr.feels[s] {
			continue
		}
		for x := range shades {
			row := pr.at(s, x)
			l.seen[s*shades+x], l.well[s*shades+x] = row[o], row[pr.usual]
		}
	}
	for j := range kinds {
		l.none[j] = pr.well[j][o]
	}
	return l, nil
}

func (m *Model) newPrediction(test string, outcomes []string, usual int) *prediction {
	pr := &prediction{test: test, outcomes: outcomes, feels: make([]bool, len(m.Suspects)), p: make([]float64, len(m.Suspects)*shades*len(outcomes)), usual: usual}
	misread := m.Book.Misread(test)
	for _, o := range outcomes {
		pr.wrong = append(pr.wrong, misread.Of(o))
		pr.lost += misread.Of(o)
	}
	for j := range kinds {
		pr.well[j] = make([]float64, len(outcomes))
		pr.spread(pr.well[j], usual, 1)
	}
	return pr
}

// spread adds an outcome's share to a row, beside what is written down in its place.
func (pr *prediction) spread(row []float64, o int, share float64) {
	for i := range row {
		if i == o {
			row[i] += share * (1 - pr.lost + pr.wrong[o])
		} else {
			row[i] += share * pr.wrong[i]
		}
	}
}

// put adds an outcome's share to a shade.
func (pr *prediction) put(s, x, o int, share float64) {
	pr.spread(pr.at(s, x), o, share)
	if o != pr.usual && share > 0 {
		pr.feels[s] = true
	}
}

// push moves a share of a row onto one outcome, whatever else it shows.
func (pr *prediction) push(row []float64, o int, share float64) {
	for i := range row {
		row[i] *= 1 - share
	}
	pr.spread(row, o, share)
}

// practice moves what practice knows of a test better than the plant: for suspects that the
// test tries, and for cars without any of them.
func (m *Model) practice(pr *prediction, tries func(int) bool) {
	for _, w := range m.Book.Showings {
		o := slices.Index(pr.outcomes, w.Outcome)
		if o < 0 || !slices.Contains(w.Tests, pr.test) {
			continue
		}
		for i, s := range m.Suspects {
			share, named := w.Shows[s.Key]
			if !named || !tries(i) {
				share = w.Base
			}
			if !pr.feels[i] {
				if share <= w.Base {
					continue
				}
				pr.like(i) // it shows what a sound car does, until practice says more
			}
			for x := range shades {
				pr.push(pr.at(i, x), o, share)
			}
		}
		for j := range kinds {
			pr.push(pr.well[j], o, w.Base)
		}
	}
}

// like lets a suspect show what a sound car does.
func (pr *prediction) like(i int) {
	pr.feels[i] = true
	for x := range shades {
		copy(pr.at(i, x), pr.well[x%kinds])
	}
}

// predict says what a test would show; of a part test, when that part is tried.
func (m *Model) predict(test, part, entry string, set plumbing.Settings) (*prediction, error) {
	t := asked(test)
	switch t.Odds {
	case bench.FromEyes:
		return m.look(t, part)
	case bench.FromSmoke:
		return m.smoke(t, entry, set)
	}
	if t.On == bench.OnePart && part == "" {
		return nil, fmt.Errorf("the test %q is of one part: say which", test)
	}
	tries := func(i int) bool {
		s := m.Suspects[i]
		return t.On != bench.OnePart || Target(m.Graph, s.Fault, s.Part, test) == part
	}
	x := expected{Model: m, test: t, part: part}
	x.outcomes()
	var pr *prediction
	for i, rows := range m.rows(test) {
		if rows == nil || !tries(i) || !Simulated(m.Book, test, m.Of) {
			continue
		}
		if pr == nil {
			usual := x.usual(rows)
			if usual < 0 {
				continue
			}
			pr = m.newPrediction(test, x.keys, usual)
		}
		x.put(pr, i, rows)
	}
	if pr == nil { // the plant knows nothing of it
		e, _ := m.Book.Test(test)
		usual := slices.IndexFunc(x.keys, func(k string) bool { o, _ := e.Outcome(k); return o.Means == knowledge.Sound })
		if usual < 0 || !e.Fits(m.Of) {
			return nil, ErrSilent
		}
		pr = m.newPrediction(test, x.keys, usual)
	}
	m.practice(pr, tries)
	if !slices.Contains(pr.feels, true) {
		return nil, ErrSilent
	}
	return pr, nil
}

// expected is what the table says of a test on this car; of a part test, when that part is
// tried.
type expected struct {
	*Model
	test bench.Test
	part string
	keys []string // of the outcomes
}

// outcomes lists the outcomes that can be told apart: those of the Book, one for every place
// at which the table has an exit, and that nobody can tell where readings of the table lie at
// a limit.
func (x *expected) outcomes() {
	e, _ := x.Book.Test(x.test.Key)
	for _, o := range e.Outcomes {
		if nothing := slices.Index(x.test.Nothing, o.Key); nothing < 1 && (o.Key != x.test.ByPlace || x.test.ByPlace == "") {
			x.keys = append(x.keys, o.Key)
		}
	}
	for i, rows := range x.rows(x.test.Key) {
		s := x.Suspects[i]
		if rows == nil || x.part != "" && Target(x.Graph, s.Fault, s.Part, x.test.Key) != x.part {
			continue
		}
		for _, r := range rows {
			k := x.key(r, s)
			if k != "" && !slices.Contains(x.keys, k) {
				x.keys = append(x.keys, k)
			}
		}
	}
}

// key is what a row's outcome is called for a suspect; empty without a row.
func (x *expected) key(r *Row, s Suspect) string {
	switch {
	case r == nil:
		return ""
	case x.test.ByPlace != "" && r.Outcome == x.test.ByPlace:
		return r.Outcome + ":" + r.at(s)
	case slices.Contains(x.test.Nothing, r.Outcome):
		return x.test.Nothing[0]
	}
	return r.Outcome
}

// at is the place at which a row showed something: at the suspect's own part, or where it
// came out instead. A row of another fault stands for a hole at the suspect's part.
func (r *Row) at(s Suspect) string {
	if r.Fault != s.Key {
		return s.Part
	}
	first := ""
	for _, x := range r.Readings {
		for _, p := range x.Places {
			if p.Part == s.Part {
				return s.Part
			}
			if first == "" && !p.Expected {
				first = p.Part
			}
		}
	}
	return cmp.Or(first, s.Part)
}

// usual is the number of the outcome that a sound car shows, beside the rows of a suspect;
// below zero when the table has none.
func (x *expected) usual(rows *[shades]*Row) int {
	w := x.table.well(x.test.Key, rows[0].Car, x.part)
	if w == nil {
		return -1
	}
	return slices.Index(x.keys, x.key(w[0], Suspect{}))
}

// put says what suspect i makes the test show. A step is wide: what lies beside it counts
// as well.
func (x *expected) put(pr *prediction, i int, rows *[shades]*Row) {
	index := func(r *Row) int {
		if r == nil {
			return pr.usual
		}
		return slices.Index(x.keys, x.key(r, x.Suspects[i]))
	}
	for k := range steps {
		for j := range kinds {
			for _, n := range []struct {
				k, j int
				w    float64
			}{{k, j, 0.7}, {k - 1, j, 0.1}, {k + 1, j, 0.1}, {k, 1 - j, 0.1}} {
				pr.put(i, k*kinds+j, index(rows[min(max(n.k, 0), steps-1)*kinds+n.j]), n.w)
			}
		}
	}
}

// smoke says where smoke would leave the EVAP system, sealed as set. A cover that it is
// let in through is off, or under the adapter, and is not tested.
func (m *Model) smoke(t bench.Test, entry string, set plumbing.Settings) (*prediction, error) {
	exit := t.ByPlace + ":"
	low, high, err := m.spans(entry, set, plumbing.Pressure)
	if err != nil {
		return nil, err
	}
	for i, s := range m.Suspects {
		if s.Part == entry {
			low[i], high[i] = [steps]float64{}, [steps]float64{}
		}
	}
	keys := []string{t.Nothing[0]}
	for i, s := range m.Suspects {
		if high[i][steps-1] > 0 && !slices.Contains(keys, exit+s.Part) {
			keys = append(keys, exit+s.Part)
		}
	}
	if len(keys) == 1 {
		return nil, ErrSilent
	}
	pr := m.newPrediction(t.Key, keys, 0)
	for i, s := range m.Suspects {
		if high[i][steps-1] == 0 {
			continue
		}
		o := slices.Index(keys, exit+s.Part)
		for x := range shades {
			q := seenSmoke(math.Sqrt(math.Sqrt(low[i][x/kinds] * high[i][x/kinds])))
			pr.put(i, x, o, q)
			pr.put(i, x, 0, 1-q)
		}
	}
	return pr, nil
}

// look says what eyes would find; with a part, on that part alone. Odds of seeing are set
// by hand (common practice, no source): a hole from a millimetre and a half on where it can
// be looked at, and half as well where something is in the way.
func (m *Model) look(t bench.Test, part string) (*prediction, error) {
	seen := t.ByPlace + ":"
	keys := []string{t.Nothing[0]}
	for _, s := range m.Suspects {
		if slices.Contains(s.Tests, t.Key) && (part == "" || m.at(s.Part, part)) && !slices.Contains(keys, seen+s.Part) {
			keys = append(keys, seen+s.Part)
		}
	}
	if part != "" {
		if err := m.has(part); err != nil {
			return nil, err
		}
	}
	if len(keys) == 1 {
		return nil, ErrSilent
	}
	pr := m.newPrediction(t.Key, keys, 0)
	for i, s := range m.Suspects {
		o := slices.Index(keys, seen+s.Part)
		if o < 0 || !slices.Contains(s.Tests, t.Key) {
			continue
		}
		p, _ := m.Graph.Part(s.Part)
		for x := range shades {
			low, high := s.hole(x / kinds)
			q := 0.25 // no hole: soot, carbon, a hose off
			if high > 0 {
				q = 0.6 * phi(math.Log(math.Sqrt(low*high)/1.5e-3)/0.35)
			}
			if p.Kind == plumbing.Seal || p.Behind {
				q *= 0.5
			}
			if part != "" { // looked at for its own sake, off its bracket and with a light
				q = 1 - (1-q)*(1-q)
			}
			pr.put(i, x, o, q)
			pr.put(i, x, 0, 1-q)
		}
	}
	return pr, nil
}

// numbers is the likelihood of what a test read, as far as the Book weighs it as a number;
// nil when the plant was not asked.
func (m *Model) numbers(test string, read bench.Readings) *numbers {
	e, _ := m.Book.Test(test)
	t := asked(test)
	var at weighed
	for _, r := range e.Reads {
		if r.Spread > 0 {
			at = append(at, r.Key)
		}
	}
	if len(at) == 0 || !Simulated(m.Book, test, m.Of) {
		return nil
	}
	well := m.table.well(test, m.table.reduce(t, place{}, m.Car), "")
	l := &numbers{feels: make([]bool, len(m.Suspects)), at: at, n: len(at), change: make([][shades][]float64, len(m.Suspects)), wide: make([][shades][]float64, len(m.Suspects)), bound: make([]float64, len(at)), flat: 1}
	for _, k := range at {
		r, _ := e.Read(k)
		v, ok := read.Mean(k)
		l.read = append(l.read, v)
		l.spread = append(l.spread, r.Spread)
		if ok {
			l.flat /= 20 * r.Spread
		}
	}
	m.practised(l, e, read)
	any := false
	for i, rows := range m.rows(test) {
		s := m.Suspects[i]
		if rows == nil {
			l.other[i], l.so[i] = 0, 0
			continue
		}
		part := Target(m.Graph, s.Fault, s.Part, test)
		own := m.table.well(test, rows[0].Car, part)
		if own == nil {
			continue
		}
		if well == nil || t.On == bench.OnePart {
			well = own
		}
		at.changes(l, i, own, rows)
		any = any || l.feels[i]
	}
	if !any || well == nil {
		return nil
	}
	for j := range kinds {
		if l.well[j] = at.of(well[j]); l.well[j] == nil {
			return nil
		}
	}
	return l
}

// practised puts what practice knows better beside the plant's numbers: a share of the cars with
// a fault read as one of the outcomes asks, anywhere within some six spreads.
func (m *Model) practised(l *numbers, e knowledge.Test, read bench.Readings) {
	l.other, l.so = make([]float64, len(m.Suspects)), make([]float64, len(m.Suspects))
	v, err := bench.Judge(e, m.subject(""), read)
	if err != nil {
		return
	}
	density := 1.0
	for n, x := range l.read {
		if !math.IsNaN(x) {
			density /= 6 * l.spread[n]
		}
	}
	for _, w := range m.Book.Showings {
		if !slices.Contains(w.Tests, e.Key) {
			continue
		}
		for i, s := range m.Suspects {
			if p := w.Shows[s.Key]; p > 0 {
				l.other[i] = 1 - (1-l.other[i])*(1-p)
				if w.Outcome == v.Outcome {
					l.so[i] += p * density
				}
			}
		}
	}
}

// weighed are the channels of a test that are weighed as numbers.
type weighed []string

// of takes the weighed readings out of a row; nil when one of them could not be read.
func (at weighed) of(r *Row) []float64 {
	if r == nil {
		return nil
	}
	out := make([]float64, len(at))
	for n, k := range at {
		v, ok := r.Readings.Mean(k)
		if !ok || math.IsInf(v, 0) {
			return nil
		}
		out[n] = v
	}
	return out
}

// changes says by how much suspect i moves each number from what a sound car shows, and how
// wide it spreads it.
func (at weighed) changes(l *numbers, i int, own *[kinds]*Row, rows *[shades]*Row) {
	for k := range steps {
		for j := range kinds {
			base, v := at.of(own[j]), at.of(rows[k*kinds+j])
			if base == nil {
				continue
			}
			wide := make([]float64, len(at))
			if v == nil { // the test could not be done with it: far from sound
				v = slices.Clone(base)
				for n := range v {
					wide[n] = 15 * l.spread[n]
				}
			}
			change := make([]float64, len(at))
			up, down := at.of(rows[min(k+1, steps-1)*kinds+j]), at.of(rows[max(k-1, 0)*kinds+j])
			for n := range at {
				change[n] = v[n] - base[n]
				if up != nil && down != nil { // even within a step
					wide[n] = math.Abs(up[n]-down[n]) / float64(min(k+1, steps-1)-max(k-1, 0)) / math.Sqrt(12)
				}
				if math.Abs(change[n]) > 0.3*l.spread[n] || l.other[i] > 0 {
					l.feels[i] = true
				}
			}
			l.change[i][k*kinds+j], l.wide[i][k*kinds+j] = change, wide
		}
	}
	if slices.ContainsFunc(l.change[i][:], func(c []float64) bool { return c == nil }) {
		l.feels[i] = false
	}
}
