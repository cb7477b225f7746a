package record_test

import (
	"reflect"
	"testing"

	"wexter/core/record"
)

func TestGapsAndStretches(t *testing.T) {
	times := []float64{0, 1, 2, 3, 4, 5, 6, 7, 8, 9}
	for _, c := range []struct {
		name string
		gaps record.Gaps
		want [][2]int
	}{
		{"none", nil, [][2]int{{0, 10}}},
		{"one", record.Gaps{{From: 3, To: 4}}, [][2]int{{0, 4}, {4, 10}}},
		{"two", record.Gaps{{From: 2, To: 3}, {From: 6, To: 7}}, [][2]int{{0, 3}, {3, 7}, {7, 10}}},
		{"summed up", record.Gaps{{From: 2, To: 6, Times: 3}}, [][2]int{{0, 3}, {6, 10}}},
		{"twice with nothing between", record.Gaps{{From: 3, To: 3.5}, {From: 3, To: 4}}, [][2]int{{0, 4}, {4, 10}}},
		{"at the end", record.Gaps{{From: 9, To: 12}}, [][2]int{{0, 10}}},
	} {
		if got := c.gaps.Stretches(times); !reflect.DeepEqual(got, c.want) {
			t.Errorf("%s: %v, want %v", c.name, got, c.want)
		}
	}
	if got := (record.Gaps{}).Stretches(nil); got != nil {
		t.Errorf("of nothing: %v", got)
	}
}

// Many gaps that follow close are summed up, whatever their number; none is forgotten.
func TestGapsAreSummedUp(t *testing.T) {
	var gs record.Gaps
	const all = 200_000
	for i := range all {
		at := float64(3 * i)
		gs = gs.With(record.Gap{From: at, To: at + 1, Why: "loose"})
	}
	told := 0
	for _, g := range gs {
		told += max(g.Times, 1)
	}
	if told != all || len(gs) > record.MostGaps || gs[len(gs)-1].To != 3*all-2 {
		t.Errorf("%d gaps tell of %d", len(gs), told)
	}
}
