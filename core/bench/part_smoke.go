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
		{Key: "blocked", Kind: Places, Optional: true},
	},
	Phases:  []Phase{{For: 60, Read: []string{"exits"}}},
	Picture: partPicture,
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
		case r.Word("free") == No || len(r["blocked"].Places) > 0: // that is another question than the one that was asked
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

// PartScene is the picture of one part under smoke: each of its passages, its mouth with the mating
// part, its inside, and what comes out where none should.
type PartScene struct {
	Name     string
	Passages []Passage
	Mate     Answer // it seals with its mating part
	Inside   Answer // it is clean inside
	Tight    Answer // no smoke comes out where none should
	Exit     string // how much comes out; empty: nothing
}

// Passage is one way through a part.
type Passage struct {
	Name string
	Free Answer
}

func (PartScene) scene() {}

// partPicture is a part by its readings.
func partPicture(s Subject, r Readings) Scene {
	answer := func(key, did, didNot string) Answer {
		return map[string]Answer{did: Did, didNot: DidNot}[r.Word(key)]
	}
	x := PartScene{Name: s.Part.Name, Mate: answer("mate", "seals", "leaks"), Inside: answer("inside", "clean", "damaged")}
	switch w := r.Word("exits"); w {
	case "":
	case "none":
		x.Tight = Did
	default:
		x.Tight, x.Exit = DidNot, w
	}
	if s.Graph == nil || s.Part.Key == "" {
		return nil
	}
	free := answer("free", Yes, No)
	for _, l := range s.Graph.Lines(s.Part.Key) {
		p := Passage{Name: l.Name, Free: free}
		if free == DidNot { // one is: which one, where somebody said
			p.Free = CannotSay
		}
		for _, b := range r["blocked"].Places {
			if b.Part == l.Key {
				p.Free = DidNot
			}
		}
		x.Passages = append(x.Passages, p)
	}
	return x
}
