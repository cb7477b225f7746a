package bench

import "wexter/core/plumbing"

// ByPass is a valve by-passed with a hose for a try. A hot tank at 6 inH2O has a pressure to
// lose, and loses half of it when the valve was what held it (common practice, no source).
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
		}
		pressed, kept := zone(before, 6, 1), zone(after, 0.5*before, 0.1*before)
		switch {
		case pressed > 0 && kept < 0:
			return is("gone", "A hot tank stands at %s inH2O, and at %s with the by-pass: the valve.", say(before), say(after))
		case pressed >= 0 && kept <= 0:
			return unsure("A hot tank stands at %s inH2O, and at %s with the by-pass: at the limit. Try it on a hotter day, or after a longer drive.", say(before), say(after))
		}
		return is("stays", "A hot tank stands at %s inH2O, and at %s with the by-pass: the valve is not what holds it.", say(before), say(after))
	},
})
