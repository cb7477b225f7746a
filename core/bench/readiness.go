package bench

import (
	"slices"
	"strings"
)

// Readiness is the scan as a test: what the control unit stored, and what it could know.
var Readiness = Register(Test{
	Key:  "readiness",
	Odds: FromCodes,
	Channels: []Channel{
		{Key: "codes", Kind: List, Sense: Codes},
		{Key: "open", Kind: List, Sense: OpenMonitors},
		{Key: "supply", Unit: "V", Low: 0, High: 32, Sense: SupplyVolts, Optional: true},
	},
	Phases: []Phase{
		{Do: []Step{{Do: Trip}}},
		{Do: []Step{{Do: Trip}}, Read: []string{"codes", "open", "supply"}},
	},
	Reduce: func(_ Subject, r Readings) Verdict {
		codes, has := r["codes"]
		if !has {
			return ask("codes", "Read stored, pending and permanent codes; \"none\" is an answer.")
		}
		pending := func(w string) bool { return strings.HasSuffix(w, " pending") }
		if stored := slices.DeleteFunc(slices.Clone(codes.Words), pending); len(stored) > 0 {
			return is("codes", "Stored: %s.", strings.Join(stored, ", "))
		}
		if len(codes.Words) > 0 {
			return is("pending", "Only pending: %s.", strings.Join(codes.Words, ", "))
		}
		open, has := r["open"]
		switch {
		case !has:
			return ask("open", "No codes. Which monitors are not complete? A monitor that has not run has found nothing.")
		case len(open.Words) > 0:
			return is("none-incomplete", "No codes, but not complete: %s. A monitor that has not run has found nothing.", strings.Join(open.Words, ", "))
		}
		return is("none-complete", "No codes, and every monitor has run.")
	},
})
