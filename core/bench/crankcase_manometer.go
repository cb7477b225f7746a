package bench

import (
	"math"

	"wexter/core/units"
)

// CrankcaseManometer is the pressure in the crankcase at idle and at 2500 rpm, against the
// vehicle's own value: a regulator's, or nearly nothing.
var CrankcaseManometer = Register(Test{
	Key:   "crankcase-manometer",
	Odds:  FromPlant,
	Feels: []string{"crankcase"},
	Channels: []Channel{
		{Key: "engine", Kind: Choice, Words: []string{"runs", "stalls"}, Sense: EngineRuns, Optional: true},
		{Key: "idle", Unit: "inH2O", Low: -410, High: 410, Sense: Crankcase},
		{Key: "fast", Unit: "inH2O", Low: -410, High: 410, Sense: Crankcase},
		{Key: "usual", Unit: "inH2O", Low: -410, High: 20, Optional: true},
		{Key: "finger", Kind: Choice, Words: []string{"changes", "same"}, Optional: true},
	},
	Phases: []Phase{
		{Do: []Step{{Do: Warm}}, For: 30, Read: []string{"engine", "idle"}, Stops: true},
		{Do: []Step{{Do: Fast}}, For: 30, Read: []string{"fast"}},
	},
	Reduce: func(s Subject, r Readings) Verdict {
		idle, a := r.Mean("idle")
		fast, b := r.Mean("fast")
		switch {
		case r.Word("engine") == "stalls":
			return is("stalls", "The engine does not keep running.")
		case !a:
			return ask("idle", "What does the manometer show at warm idle? Vacuum is negative.")
		case !b:
			return ask("fast", "What does it show at 2500 rpm?")
		}
		usual, given := r.Mean("usual")
		if !given {
			usual = usualCrankcase(s)
		}
		at := say(idle) + " inH2O at idle, " + say(fast) + " at 2500"
		high, low := usual-0.35*math.Abs(usual)-0.6, 0.6*usual
		switch {
		case idle > 0.3 || fast > 0.3:
			return is("pressure", "%s: pressure in the crankcase.", at)
		case idle > 0.16 || fast > 0.16:
			return unsure("%s: hardly any pressure. Shut the dipstick tube and the filler well, and read it again.", at)
		case idle < high-0.3:
			return is("high-vacuum", "%s, where %s is usual: far too much vacuum.", at, say(usual))
		case idle < high+0.3 && usual < -1:
			return unsure("%s, where %s is usual: at the limit.", at, say(usual))
		case usual < -8 && idle > low:
			return is("low-vacuum", "%s, where %s is usual: too little vacuum.", at, say(usual))
		}
		if r.Word("finger") == "changes" {
			return is("high-vacuum", "%s, but a finger on the regulator's hole changes the idle: its diaphragm leaks.", at)
		}
		return is("normal", "%s, as it should be.", at)
	},
})

// usualCrankcase is the value that a crankcase of this car's kind stands at, inH2O: its
// regulator's, or nearly nothing.
func usualCrankcase(s Subject) float64 {
	usual := 0.0
	if s.Graph == nil {
		return usual
	}
	for _, p := range s.Graph.Parts {
		if p.By == "self" {
			usual = p.Full / units.InH2O
		}
	}
	return usual
}
