package diagnose

import (
	"math"

	"wexter/core/bench"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
)

// Table is what the plant said, found by test, car and fault.
type Table struct {
	reducer
	fault map[tableKey]*[shades]*Row
	sound map[tableKey]*[kinds]*Row
	yards []knowledge.Fault // the yardsticks
}

type tableKey struct {
	test, fault string // of a sound part under a part test: the part
	of          plumbing.Combination
}

// NewTable orders the rows of the table, and works out what the readings of each come to by
// the rule of its test.
func NewTable(b knowledge.Book, rows []Row) (*Table, error) {
	t := &Table{fault: map[tableKey]*[shades]*Row{}, sound: map[tableKey]*[kinds]*Row{}}
	var err error
	if t.reducer, err = newReducer(b.Plumbing); err != nil {
		return nil, err
	}
	for _, f := range b.Faults {
		if f.Yardstick {
			t.yards = append(t.yards, f)
		}
	}
	judge := rowJudge{b, map[plumbing.Combination]*plumbing.Graph{}}
	for i := range rows {
		r := &rows[i]
		judge.outcome(r)
		if r.Fault != "" {
			k := tableKey{r.Test, r.Fault, r.Car}
			if t.fault[k] == nil {
				t.fault[k] = &[shades]*Row{}
			}
			t.fault[k][r.Severity*kinds+r.Spread] = r
			continue
		}
		k := tableKey{r.Test, r.Part, r.Car}
		if t.sound[k] == nil {
			t.sound[k] = &[kinds]*Row{}
		}
		t.sound[k][r.Spread] = r
	}
	t.complete()
	return t, nil
}

// complete lets the first kind of car stand for the others, where a test was made on one only.
func (t *Table) complete() {
	for _, x := range t.fault {
		for i := range x {
			if x[i] == nil && i%kinds > 0 {
				x[i] = x[i-i%kinds]
			}
		}
	}
	for _, x := range t.sound {
		for j := range x {
			if x[j] == nil {
				x[j] = x[0]
			}
		}
	}
}

// rowJudge works out the outcomes of rows.
type rowJudge struct {
	book   knowledge.Book
	graphs map[plumbing.Combination]*plumbing.Graph
}

func (j rowJudge) outcome(r *Row) {
	if r.Test == Codes {
		r.Outcome = r.Codes
		return
	}
	e, ok := j.book.Test(r.Test)
	if !ok {
		return // of a page that is not there now
	}
	g := j.graphs[r.Car]
	if g == nil {
		var err error
		if g, err = j.book.Plumbing.Combine(r.Car); err != nil {
			return // a car that the Book no longer has
		}
		j.graphs[r.Car] = g
	}
	p, _ := g.Part(r.Part)
	// Not bench.Judge, which refuses what no gauge of a bay shows: the plant's worst do.
	v := bench.For(e).Reduce(bench.Subject{Of: r.Car, Graph: g, Part: p}, r.Readings)
	if r.Outcome = v.Outcome; v.Outcome == "" {
		r.Outcome = bench.CannotTell // somebody would have to read it again
	}
}

// of returns the rows of a fault under a test on a car, by shade; nil when the plant was
// not asked.
func (t *Table) of(test string, s Suspect, c Car) *[shades]*Row {
	at, f := asked(test), placeOf(c.Graph, s.Fault, s.Part)
	car := t.reduce(at, f, c)
	get := func(fault string) *[shades]*Row {
		if x := t.fault[tableKey{test, fault, car}]; x != nil && x[0] != nil {
			return x
		}
		return nil
	}
	if !alike(at, f) {
		return get(s.Key)
	}
	var out [shades]*Row
	for k := range steps {
		low, high := s.hole(k)
		mid := math.Sqrt(low * high)
		var from *[shades]*Row
		best, far := 0, math.Inf(1)
		for _, y := range t.yards {
			rows := get(y.Key)
			if rows == nil {
				return nil
			}
			span := y.Changes[0]
			for n, sev := range Severities {
				d := span.From * 1e-3 * math.Pow(span.To/span.From, sev)
				if x := math.Abs(math.Log(d / mid)); x < far-1e-9 {
					from, best, far = rows, n, x
				}
			}
		}
		if from == nil {
			return nil
		}
		for j := range kinds {
			out[k*kinds+j] = from[best*kinds+j]
		}
	}
	return &out
}

// well returns the rows of a sound car beside those of a fault, by kind of car.
func (t *Table) well(test string, of plumbing.Combination, part string) *[kinds]*Row {
	return t.sound[tableKey{test, part, of}]
}
