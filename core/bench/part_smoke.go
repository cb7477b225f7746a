package bench

import "wexter/core/plumbing"

// PartAlone is one part on the bench under smoke.
var PartAlone = Register(Test{
	Key:      "part-smoke",
	On:       OnePart,
	Odds:     FromPlant,
	Channels: []Channel{{Key: "exits", Kind: Choice, Words: append([]string{"none"}, sizes...), Sense: PartSmoke}, besideChannel},
	Phases:   []Phase{{For: 60, Read: []string{"exits"}}},
	Tries: func(t Target) string {
		if t.Named("part-smoke") || t.Part.Kind == plumbing.Valve && t.Part.Family == "vapour" {
			return t.Part.Key
		}
		return ""
	},
	Reduce: func(_ Subject, r Readings) Verdict {
		switch w := r.Word("exits"); w {
		case "":
			return ask("exits", "Does smoke come out where none should?")
		case "none":
			return is("none", "No smoke where none should be.")
		default:
			return is("exit", "A %s of smoke where none should be: the part leaks.", w)
		}
	},
})

// besideChannel says whether the part that was tried is the one off this car: a new one on
// the same rig is the best comparison, and tells nothing about the car.
var besideChannel = Channel{Key: "which", Kind: Choice, Words: []string{"old", "new"}, Optional: true}

// Beside reports whether readings are of a new part, tried beside the one off the car: they
// tell nothing about the car.
func Beside(r Readings) bool { return r.Word(besideChannel.Key) == "new" }
