package bench

import "wexter/core/units"

// EGRVacuum is hand vacuum on an EGR valve that vacuum moves.
var EGRVacuum = Register(Test{
	Key:   "egr-vacuum",
	Odds:  FromPlant,
	Feels: []string{"recirculation"},
	Channels: []Channel{
		{Key: "engine", Kind: Choice, Words: []string{"runs", "stalls"}, Sense: EngineRuns, Optional: true},
		{Key: "held", Unit: "inHg", Low: 0, High: 30, Sense: RigPressure},
		{Key: "stumbles", Kind: Choice, Words: []string{"stumbles", "no"}, Sense: Stumbles},
		{Key: "recovers", Kind: Choice, Words: []string{"recovers", "stays"}, Sense: Recovers},
		{Key: "back-pressure", Kind: Choice, Words: []string{Yes, No}, Optional: true},
	},
	Phases: []Phase{
		{Do: []Step{{Do: Warm}}, Read: []string{"engine"}, Stops: true},
		{Do: []Step{{Do: Join, At: AtDiaphragm}, {Do: Draw, Value: -vacuumAt * units.InHg}}, For: 20, Every: 0.2},
		{Do: []Step{{Do: ShutRig}}, For: 20, Every: 0.2, Read: []string{"held", "stumbles"}},
		{Do: []Step{{Do: OpenRig}}, For: 20, Read: []string{"recovers"}},
	},
	Reduce: func(_ Subject, r Readings) Verdict {
		held, ok := r.Mean("held")
		switch {
		case r.Word("engine") == "stalls":
			return is("stalls", "The engine does not keep running.")
		case !ok:
			return ask("held", "How many inHg are left on the diaphragm after 20 s?")
		case zone(held, 0.7*vacuumAt, 0.5) < 0 && r.Word("back-pressure") == Yes:
			return unsure("Holds %s of 15 inHg; a valve that back-pressure controls does not hold at idle by design.", say(held))
		case zone(held, 0.7*vacuumAt, 0.5) < 0:
			return is("torn", "Holds only %s of 15 inHg: the diaphragm is torn.", say(held))
		case zone(held, 0.7*vacuumAt, 0.5) == 0:
			return unsure("%s of 15 inHg after 20 s lies at the limit. Try the pump plugged, then again.", say(held))
		}
		switch w := r.Word("stumbles"); {
		case w == "":
			return ask("stumbles", "Does the engine stumble when vacuum is drawn?")
		case w == "no":
			return is("no-flow", "The diaphragm holds %s inHg and the engine does not stumble: no gas flows, the ports are clogged.", say(held))
		}
		switch w := r.Word("recovers"); {
		case w == "":
			return ask("recovers", "Does the engine recover when the vacuum is let go?")
		case w == "recovers":
			return is("stumbles", "Stumbles with vacuum, recovers without: valve and passage work.")
		}
		return is("stays", "Stumbles, and does not recover: the valve does not shut.")
	},
})
