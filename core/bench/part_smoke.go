package bench

import "wexter/core/plumbing"

// PartAlone is one part on the bench under smoke.
var PartAlone = Register(Test{
	Key:  "part-smoke",
	On:   OnePart,
	Odds: FromPlant,
	Channels: []Channel{
		{Key: "exits", Kind: Choice, Words: append([]string{"none"}, sizes...), Sense: PartSmoke}, besideChannel,
		{Key: "free", Kind: Choice, Words: []string{Yes, No}, Optional: true},
		{Key: "mate", Kind: Choice, Words: []string{"seals", "leaks"}, Optional: true},
		{Key: "inside", Kind: Choice, Words: []string{"clean", "damaged"}, Optional: true},
	},
	Phases: []Phase{{For: 60, Read: []string{"exits"}}},
	Tries: func(t Target) string {
		if t.Named("part-smoke") || t.Part.Kind == plumbing.Valve && t.Part.Family == "vapour" {
			return t.Part.Key
		}
		return ""
	},
	Reduce: func(_ Subject, r Readings) Verdict {
		w := r.Word("exits")
		switch {
		case w == "":
			return ask("exits", "Does smoke come out where none should?")
		case w != "none":
			return is("exit", "A %s of smoke where none should be: the part leaks.", w)
		case r.Word("mate") == "leaks":
			return is("exit", "Tight by itself, but smoke comes out where it meets its mating part: it leaks there.")
		case r.Word("free") == No: // that is another question than the one that was asked
			return unsure("No smoke where none should be, but a passage is blocked: smoke did not get into all of it. Try that passage on the valve bench.")
		case r.Word("inside") == "damaged":
			return unsure("No smoke where none should be, but it is damaged inside: do not fit it, whatever the smoke says.")
		}
		said := "No smoke where none should be"
		for _, c := range []struct{ key, word, says string }{{"free", Yes, "every passage is free"}, {"mate", "seals", "it seals with its mating part"}, {"inside", "clean", "it is clean inside"}} {
			if r.Word(c.key) == c.word {
				said += ", " + c.says
			}
		}
		return is("none", "%s.", said)
	},
})

// besideChannel says whether the part that was tried is the one off this car: a new one on
// the same rig is the best comparison, and tells nothing about the car.
var besideChannel = Channel{Key: "which", Kind: Choice, Words: []string{"old", "new"}, Optional: true}

// Beside reports whether readings are of a new part, tried beside the one off the car: they
// tell nothing about the car.
func Beside(r Readings) bool { return r.Word(besideChannel.Key) == "new" }
