package bench

import "wexter/core/plumbing"

// CheckValve is a check valve tried both ways; 15 inHg that does not stay above 12 has passed
// (common practice, no source).
var CheckValve = Register(Test{
	Key:  "check-valve",
	On:   OnePart,
	Odds: FromPlant,
	Channels: []Channel{
		{Key: "forward", Kind: Choice, Words: []string{"passes", "shut"}, Sense: PassesForward},
		{Key: "backward", Unit: "inHg", Low: 0, High: 30, Sense: HoldsBackward},
		{Key: "flap", Kind: Choice, Words: []string{"there", "missing"}, Optional: true},
		besideChannel,
	},
	Phases: []Phase{{Read: []string{"forward", "backward"}}},
	Tries: func(t Target) string {
		if t.Part.Kind == plumbing.Check {
			return t.Part.Key
		}
		return ""
	},
	Reduce: func(_ Subject, r Readings) Verdict {
		held, ok := r.Mean("backward")
		switch w := r.Word("forward"); {
		case r.Word("flap") == "missing":
			if ok && held > 12.5 {
				return ask("backward", "Its flap is missing, yet it holds %s inHg backwards. Both cannot be: try it again.", say(held))
			}
			return is("both", "Its flap is missing: it passes both ways. Look for the piece.")
		case w == "":
			return ask("forward", "Does it pass the way it must?")
		case w == "shut":
			return is("blocked", "It does not pass the way it must.")
		case !ok:
			return ask("backward", "How many inHg of 15 does it hold the other way?")
		case held < 11.5:
			return is("both", "Holds only %s of 15 inHg backwards: it passes both ways.", say(held))
		case held > 12.5:
			return is("good", "Passes forward, holds %s inHg backwards: one way only.", say(held))
		}
		return unsure("%s of 15 inHg backwards lies at the limit. Clean it and try again.", say(held))
	},
})
