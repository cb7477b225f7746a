package bench

// Look is what eyes, ears and nose find, on the whole car or on one part.
var Look = Register(Test{
	Key:     "look",
	On:      AnyPart,
	Odds:    FromEyes,
	ByPlace: "seen",
	Nothing: []string{"clean"},
	Channels: []Channel{
		{Key: "seen", Kind: Places, Words: []string{"damaged", "missing"}, Sense: Damage},
		{Key: "marks", Kind: Places, Optional: true},
	},
	Phases: []Phase{{Do: []Step{{Do: EngineOff}}, Read: []string{"seen"}}},
	Reduce: func(_ Subject, r Readings) Verdict {
		seen, has := r["seen"]
		switch {
		case len(seen.Places) > 0:
			gone := 0
			for _, p := range seen.Places {
				if p.Size == "missing" {
					gone++
				}
			}
			if gone == len(seen.Places) {
				return is("seen", "Missing: %d %s.", gone, plural(gone, "part", "parts"))
			}
			return is("seen", "Damage seen at %d %s.", len(seen.Places), plural(len(seen.Places), "place", "places"))
		case len(r["marks"].Places) > 0:
			return is("marks", "Marks of earlier work at %d %s.", len(r["marks"].Places), plural(len(r["marks"].Places), "place", "places"))
		case !has:
			return ask("seen", "Tap the part where you see damage, or \"looked, nothing found\".")
		}
		return is("clean", "Looked, nothing found.")
	},
})

func plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}
