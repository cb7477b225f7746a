package evidence

import (
	"slices"
	"time"

	"wexter/core/knowledge"
	"wexter/core/record"
)

// LeftOn are the tests that have left something on the car which nobody has said is off again.
func (f Folder) LeftOn(b knowledge.Book) (out []knowledge.Test) {
	left := map[string]time.Time{}
	note := func(test string, at time.Time) {
		if at.After(left[test]) {
			left[test] = at
		}
	}
	for _, r := range f.Results {
		if !r.Struck() {
			note(r.Test, r.At)
		}
	}
	for _, t := range f.Benches {
		for _, r := range t.Runs {
			if !r.Struck() {
				note(t.Key, r.At)
			}
		}
	}
	for _, t := range b.Tests {
		at, done := left[t.Key]
		off := slices.ContainsFunc(f.Notes, func(n record.Note) bool {
			return n.Kind == record.TakenOut && n.Subject == t.Key && !n.Struck() && !n.At.Before(at)
		})
		if t.Leaves != "" && done && !off {
			out = append(out, t)
		}
	}
	return out
}
