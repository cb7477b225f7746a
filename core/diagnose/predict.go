package diagnose

import (
	"fmt"
	"math"
	"slices"

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
	usual    int // outcome of a sound car
}

// readsWrong is the odds that an outcome is written down which the car did not show, or
// that the car differs from the plant's. Chosen here.
const readsWrong = 0.05

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
	n := float64(len(outcomes))
	for j := range kinds {
		pr.well[j] = make([]float64, len(outcomes))
		for o := range outcomes {
			pr.well[j][o] = readsWrong / (n - 1)
		}
		pr.well[j][usual] = 1 - readsWrong
	}
	return pr
}

// put adds an outcome's share to a shade, beside what is read wrong.
func (pr *prediction) put(s, x, o int, share float64) {
	row := pr.at(s, x)
	n := float64(len(row))
	for i := range row {
		if i == o {
			row[i] += share * (1 - readsWrong)
		} else {
			row[i] += share * readsWrong / (n - 1)
		}
	}
	if o != pr.usual && share > 0 {
		pr.feels[s] = true
	}
}

// predict says what a test would show; of a part test, when that part is tried.
func (m *Model) predict(test, part, entry string, set plumbing.Settings) (*prediction, error) {
	switch test {
	case "look":
		return m.look(part)
	case "smoke":
		return m.smoke(entry, set)
	}
	t, _ := m.Book.Test(test)
	var keys []string
	for _, o := range t.Outcomes {
		keys = append(keys, o.Key)
	}
	if !Simulated(test, m.Of) {
		return nil, ErrSilent
	}
	if PartTest(test) && part == "" {
		return nil, fmt.Errorf("the test %q is of one part: say which", test)
	}
	x := expected{Model: m, test: test, part: part, keys: keys, exits: slices.Contains(keys, "exit") && !PartTest(test)}
	if x.exits {
		x.places()
	}
	var pr *prediction
	for i, s := range m.Suspects {
		rows := m.table.of(test, s, m.Of)
		if rows == nil || PartTest(test) && Target(m.Graph, s.Fault, s.Part, test) != part {
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
	if pr == nil {
		return nil, ErrSilent
	}
	return pr, nil
}

// expected is what the table says of a test on this car; of a part test, when that part is
// tried.
type expected struct {
	*Model
	test, part string
	keys       []string // of the outcomes
	exits      bool     // an exit is an outcome by the place where it is
}

// places puts an outcome for every place at which the table has an exit in the place of
// "exit" and "expected".
func (x *expected) places() {
	x.keys = slices.DeleteFunc(x.keys, func(k string) bool { return k == "exit" || k == "expected" })
	for _, s := range x.Suspects {
		rows := x.table.of(x.test, s, x.Of)
		if rows != nil && !slices.Contains(x.keys, "exit:"+s.Part) && slices.ContainsFunc(rows[:], func(r *Row) bool { return r != nil && r.Outcome == "exit" }) {
			x.keys = append(x.keys, "exit:"+s.Part)
		}
	}
}

// usual is the number of the outcome that a sound car shows, beside the rows of a suspect;
// below nought when the table has none.
func (x *expected) usual(rows *[shades]*Row) int {
	part := ""
	if PartTest(x.test) {
		part = x.part
	}
	ok := ""
	if w := x.table.well(x.test, rows[0].Car, part); w != nil {
		ok = w[0].Outcome
	}
	if x.exits && ok == "expected" {
		ok = "none"
	}
	return slices.Index(x.keys, ok)
}

// put says what suspect i makes the test show. A step is wide: what lies beside it counts
// as well.
func (x *expected) put(pr *prediction, i int, rows *[shades]*Row) {
	index := func(r *Row) int {
		switch {
		case r == nil:
			return pr.usual
		case x.exits && r.Outcome == "exit":
			return slices.Index(x.keys, "exit:"+x.Suspects[i].Part)
		case x.exits && r.Outcome == "expected":
			return pr.usual
		}
		return max(slices.Index(x.keys, r.Outcome), 0)
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

// smoke says where smoke would leave the vapour system, sealed as set. A cover that it is
// let in through is off, or under the adapter, and is not tested.
func (m *Model) smoke(entry string, set plumbing.Settings) (*prediction, error) {
	low, high, err := m.spans(entry, set, plumbing.Pressure)
	if err != nil {
		return nil, err
	}
	for i, s := range m.Suspects {
		if s.Part == entry {
			low[i], high[i] = [steps]float64{}, [steps]float64{}
		}
	}
	keys := []string{"none"}
	for i, s := range m.Suspects {
		if high[i][steps-1] > 0 && !slices.Contains(keys, "exit:"+s.Part) {
			keys = append(keys, "exit:"+s.Part)
		}
	}
	if len(keys) == 1 {
		return nil, ErrSilent
	}
	pr := m.newPrediction("smoke", keys, 0)
	for i, s := range m.Suspects {
		if high[i][steps-1] == 0 {
			continue
		}
		o := slices.Index(keys, "exit:"+s.Part)
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
func (m *Model) look(part string) (*prediction, error) {
	keys := []string{"clean"}
	for _, s := range m.Suspects {
		if slices.Contains(s.Tests, "look") && (part == "" || m.at(s.Part, part)) && !slices.Contains(keys, "seen:"+s.Part) {
			keys = append(keys, "seen:"+s.Part)
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
	pr := m.newPrediction("look", keys, 0)
	for i, s := range m.Suspects {
		o := slices.Index(keys, "seen:"+s.Part)
		if o < 0 || !slices.Contains(s.Tests, "look") {
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
// nil when the plant was not asked. Read has the length of the test's readings, or less.
func (m *Model) numbers(test string, read []float64) *numbers {
	t, _ := m.Book.Test(test)
	var at weighed
	for i, r := range t.Reads {
		if r.Spread > 0 && i < len(read) {
			at = append(at, i)
		}
	}
	if len(at) == 0 || !Simulated(test, m.Of) {
		return nil
	}
	well := m.table.well(test, Reduced(test, knowledge.Fault{}, m.Of), "")
	l := &numbers{feels: make([]bool, len(m.Suspects)), n: len(at), change: make([][shades][]float64, len(m.Suspects)), wide: make([][shades][]float64, len(m.Suspects)), bound: make([]float64, len(at)), flat: 1}
	for _, i := range at {
		l.read = append(l.read, read[i])
		l.spread = append(l.spread, t.Reads[i].Spread)
		if !math.IsNaN(read[i]) {
			l.flat /= 20 * t.Reads[i].Spread
		}
	}
	any := false
	for i, s := range m.Suspects {
		rows := m.table.of(test, s, m.Of)
		if rows == nil {
			continue
		}
		part := ""
		if PartTest(test) {
			part = Target(m.Graph, s.Fault, s.Part, test)
		}
		own := m.table.well(test, rows[0].Car, part)
		if own == nil {
			continue
		}
		if well == nil || PartTest(test) {
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

// weighed are the places of those of a test's readings that are weighed as numbers.
type weighed []int

// of takes the weighed readings out of a row; nil when the test could not be done.
func (at weighed) of(r *Row) []float64 {
	if r == nil || r.Unreached {
		return nil
	}
	out := make([]float64, len(at))
	for n, i := range at {
		if i >= len(r.Readings) {
			return nil
		}
		out[n] = r.Readings[i]
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
				if math.Abs(change[n]) > 0.3*l.spread[n] {
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
