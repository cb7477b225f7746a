package bench

import (
	"wexter/core/plumbing"
	"wexter/core/units"
)

// BoostPressure is the charge side under regulated air, inlet plugged, engine off. Some flow
// past rings and valves is usual: half as much again as the same engine's figure is a leak
// even when nobody sees where (common practice, no source).
var BoostPressure = Register(Test{
	Key:     "boost-pressure",
	Odds:    FromPlant,
	Feels:   []string{"boost"},
	ByPlace: "exit",
	Nothing: []string{"holds"},
	Channels: []Channel{
		{Key: "pressure", Unit: "psi", Low: 0, High: 40, Sense: RigPressure, Optional: true},
		{Key: "flow", Unit: "L/min", Low: 0, High: 3000, Sense: RigFlow, Optional: true},
		{Key: "usual", Unit: "L/min", Low: 0, High: 3000, Optional: true},
		{Key: "exits", Kind: Places, Words: sizes, Sense: AirExits},
		{Key: "dipstick", Kind: Choice, Words: []string{"none", "blows"}, Sense: AirAtDipstick},
	},
	Phases: []Phase{
		{Do: []Step{{Do: Put, At: AtInlet, State: plumbing.Shut}, {Do: Put, At: "throttle", State: plumbing.Shut}, {Do: Put, At: AtBreather, State: plumbing.Plugged, May: true}, {Do: Join, At: "charge", Value: 0.012}, {Do: Hold, Value: 5 * units.Psi}}, For: 120, Every: 1, Mean: 1, Read: []string{"pressure", "flow", "exits", "dipstick"}},
	},
	Reduce: func(_ Subject, r Readings) Verdict {
		v := smokeVerdict(r)
		if v.Outcome == "exit" || v.Ask != "" {
			return v
		}
		flow, a := r.Mean("flow")
		usual, b := r.Mean("usual")
		switch w := r.Word("dipstick"); {
		case w == "":
			return ask("dipstick", "Does air blow at the dipstick or the oil filler?")
		case w == "blows":
			return is("crankcase", "Air blows into the crankcase: rings, or a lost check valve.")
		case a && b && flow > 1.5*usual+2:
			return unsure("%s L/min, and %s is usual for this engine: it leaks where nobody looked. Soap the couplers.", say(flow), say(usual))
		}
		return is("holds", "No exit, and nothing blows at the dipstick%s.", map[bool]string{true: "; " + say(flow) + " L/min"}[a])
	},
})
