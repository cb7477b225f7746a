package diagnose

import (
	"math"
	"strings"

	"wexter/core/plumbing"
)

// Table is what the plant said, found by test, car and fault.
type Table struct {
	fault map[tableKey]*[shades]*Row
	sound map[tableKey]*[kinds]*Row
}

type tableKey struct {
	test, fault string // of a sound part under a part test: the part
	of          plumbing.Combination
}

// NewTable orders the rows of the table.
func NewTable(rows []Row) *Table {
	t := &Table{map[tableKey]*[shades]*Row{}, map[tableKey]*[kinds]*Row{}}
	for i := range rows {
		r := &rows[i]
		if r.Fault != "" {
			k := tableKey{r.Test, r.Fault, r.Car}
			if t.fault[k] == nil {
				t.fault[k] = &[shades]*Row{}
			}
			t.fault[k][r.Severity*kinds+r.Spread] = r
			continue
		}
		k := tableKey{r.Test, "", r.Car}
		if part, outcome, ok := strings.Cut(r.Outcome, ":"); ok && PartTest(r.Test) {
			k.fault = part
			c := *r
			c.Outcome = outcome
			r = &c
		}
		if t.sound[k] == nil {
			t.sound[k] = &[kinds]*Row{}
		}
		t.sound[k][r.Spread] = r
	}
	for _, x := range t.fault { // a part test is made on one kind of car only
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
	return t
}

// of returns the rows of a fault under a test on a car, by shade; nil when the plant was
// not asked.
func (t *Table) of(test string, s Suspect, c plumbing.Combination) *[shades]*Row {
	car := Reduced(test, s.Fault, c)
	get := func(fault string) *[shades]*Row {
		if x := t.fault[tableKey{test, fault, car}]; x != nil && x[0] != nil {
			return x
		}
		return nil
	}
	if !alike(test, s.Fault) {
		return get(s.Key)
	}
	small, wide := get(smallHole), get(wideHole)
	if small == nil || wide == nil {
		return nil
	}
	var out [shades]*Row
	for k := range steps {
		low, high := s.hole(k)
		mid := math.Sqrt(low * high)
		from, best, far := small, 0, math.Inf(1)
		for _, o := range []struct {
			rows     *[shades]*Row
			low, top float64 // m, of the fault's range
		}{{small, 0.2e-3, 3e-3}, {wide, 0.2e-3, 25e-3}} {
			for n, sev := range Severities {
				d := o.low * math.Pow(o.top/o.low, sev)
				if x := math.Abs(math.Log(d / mid)); x < far-1e-9 {
					from, best, far = o.rows, n, x
				}
			}
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
