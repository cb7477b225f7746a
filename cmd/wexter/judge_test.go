package main

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
)

// Readings typed on the command line come to what the page says of them.
func TestJudgeCommand(t *testing.T) {
	for _, c := range []struct {
		args []string
		code int
		say  string
	}{
		{[]string{"--test", "valve-bench", "--part", "purge-valve", "sealed=5", "passed=0", "coil=OL"}, 0, "coil open or short"},
		{[]string{"--test", "valve-bench", "--part", "vent-valve", "sealed=5", "passed=0", "coil=> 2 MΩ"}, 0, "Measure the coil again"},
		{[]string{"--test", "valve-bench", "--part", "purge-valve", "sealed=4 of 5", "passed=5"}, 0, "sticks"},
		{[]string{"--test", "smoke", "exits=neck:wisp,vent-filter:billow?"}, 0, "an exit seen"},
		{[]string{"--test", "smoke", "exits=none"}, 0, "give: far=…"},
		{[]string{"--test", "cap-check", "left=0,5 kPa"}, 0, "falls"},
		{[]string{"--test", "trims", "--archetype", "turbo-diesel", "idle=3"}, 2, "is not for a car"},
		{[]string{"--test", "dance"}, 2, "it is one of readiness"},
		{[]string{"--test", "cap-check", "height=3"}, 2, "is no reading of the test"},
		{[]string{"--test", "smoke", "exits=wing"}, 2, `has no part "wing"`},
		{[]string{"--test", "cap-check", "left=NaN"}, 2, "has no number"},
		{[]string{"--test", "cap-check", "left=400"}, 1, "lies between 0 and 30"},
	} {
		t.Run(c.say, func(t *testing.T) {
			var out, errs bytes.Buffer
			if code := run(append([]string{"judge"}, c.args...), &out, &errs); code != c.code || !strings.Contains(out.String()+errs.String(), c.say) {
				t.Errorf("%d: %s%s", code, out.String(), errs.String())
			}
		})
	}
	var out, errs bytes.Buffer
	var j judged
	if code := run([]string{"judge", "--json", "--test", "make-up-flow", "flow=0,2", "pressure=13", "reference=0.62"}, &out, &errs); code != 0 || json.Unmarshal(out.Bytes(), &j) != nil ||
		j.Outcome != "below" || j.Means != "sound" || len(j.Figures) != 1 || !(j.Figures[0].Low < j.Figures[0].Value) {
		t.Errorf("%d: %s%s", code, out.String(), errs.String())
	}
}
