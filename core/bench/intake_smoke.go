package bench

import "wexter/core/plumbing"

// IntakeSmoke is smoke in the intake, engine off, inlet shut.
var IntakeSmoke = Register(Test{
	Key:      "intake-smoke",
	Odds:     FromPlant,
	Feels:    []string{"intake", "crankcase", "boost"},
	ByPlace:  "exit",
	Nothing:  []string{"none", "expected"},
	Channels: []Channel{{Key: "dipstick", Kind: Choice, Words: []string{Yes, No}, Optional: true}, {Key: "exits", Kind: Places, Words: sizes, Sense: SmokeExits}},
	Phases: []Phase{
		{Do: []Step{{Do: Put, At: AtInlet, State: plumbing.Shut}, {Do: Put, At: "throttle", State: plumbing.Open}, {Do: Join, At: "manifold", Value: 8e-4}, {Do: Smoke, Value: 2500}}, For: 120, Read: []string{"exits"}},
	},
	Reduce: func(_ Subject, r Readings) Verdict {
		v := smokeVerdict(r)
		if v.Outcome == "none" && r.Word("dipstick") == No {
			return is("not-filled", "No exit, but smoke never came at the dipstick: the crankcase was not reached.")
		}
		return v
	},
})
