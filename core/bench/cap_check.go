package bench

import "wexter/core/units"

// atTest is the pressure that caps and EVAP systems are usually tried at: 13 inH2O (common
// practice, no source).
const atTest = 13.0

// CapCheck is the filler cap on its tester. A cap that keeps nine tenths for a minute seals
// (common practice, no source); within three hundredths of that nobody can tell.
var CapCheck = Register(Test{
	Key:       "cap-check",
	On:        OnePart,
	Odds:      FromPlant,
	NamesPart: true,
	Channels: []Channel{
		{Key: "start", Unit: "inH2O", Low: 5, High: 30, Optional: true},
		{Key: "left", Unit: "inH2O", Low: 0, High: 30, Sense: BenchPressure},
		{Key: "clicks", Kind: Count, Low: 0, High: 30, Optional: true},
	},
	Phases: []Phase{{Do: []Step{{Do: Press, At: AtPart, Value: atTest * units.InH2O}}, For: 60, Read: []string{"left"}}},
	Tries: func(t Target) string {
		if t.Named("cap-check") {
			return t.Part.Key
		}
		return ""
	},
	Reduce: func(_ Subject, r Readings) Verdict {
		left, ok := r.Mean("left")
		if !ok {
			return ask("left", "What does the tester show after a minute?")
		}
		start, ok := r.Mean("start")
		if !ok {
			start = atTest
		}
		if left > 1.05*start {
			return ask("left", "%s inH2O after a minute is more than the %s it began with. Read it again.", say(left), say(start))
		}
		switch zone(left, 0.9*start, 0.03*start) {
		case -1:
			return is("falls", "Keeps %s of %s inH2O for a minute: the cap leaks.", say(left), say(start))
		case 1:
			return is("holds", "Keeps %s of %s inH2O for a minute.", say(left), say(start))
		}
		return unsure("%s of %s inH2O after a minute lies at the limit. Try the adapter plugged, then the cap again.", say(left), say(start))
	},
})
