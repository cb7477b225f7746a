package bench

import "wexter/core/plumbing"

// ByPass is a valve by-passed with a hose for a try.
var ByPass = Register(Test{
	Key:  "by-pass",
	Odds: FromPlant,
	Channels: []Channel{
		{Key: "before", Unit: "inH2O", Low: -60, High: 60, Sense: TankPressure, Optional: true},
		{Key: "after", Unit: "inH2O", Low: -60, High: 60, Sense: TankPressure, Optional: true},
		{Key: "complaint", Kind: Choice, Words: []string{"gone", "stays"}, Optional: true},
	},
	Phases: []Phase{
		{Do: []Step{{Do: HotDay}, {Do: Park}}, For: 1200, Read: []string{"before"}},
		{Do: []Step{{Do: Put, At: "tank-valve", State: plumbing.Open}, {Do: Park}}, For: 1200, Read: []string{"after"}},
	},
	Reduce: func(_ Subject, r Readings) Verdict {
		before, a := r.Mean("before")
		after, b := r.Mean("after")
		switch w := r.Word("complaint"); {
		case w == "gone":
			return is("gone", "The complaint is gone with the by-pass: the valve.")
		case w == "stays":
			return is("stays", "The complaint stays with the by-pass: elsewhere.")
		case !a || !b:
			return ask("complaint", "Is the complaint gone while the valve is by-passed?")
		case before > 6 && after < 0.5*before:
			return is("gone", "A hot tank stands at %s inH2O, and at %s with the by-pass: the valve.", say(before), say(after))
		}
		return is("stays", "A hot tank stands at %s inH2O, and at %s with the by-pass: the valve is not what holds it.", say(before), say(after))
	},
})
