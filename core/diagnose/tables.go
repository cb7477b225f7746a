package diagnose

import (
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
	x := t.fault[tableKey{test, s.Key, Reduced(test, s.Fault, c)}]
	if x == nil || x[0] == nil {
		return nil
	}
	return x
}

// well returns the rows of a sound car beside those of a fault, by kind of car.
func (t *Table) well(test string, of plumbing.Combination, part string) *[kinds]*Row {
	return t.sound[tableKey{test, part, of}]
}
