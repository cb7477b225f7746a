package bench

// slowPause is how long a leak pump pauses between strokes when the system holds its
// pressure, s (common practice, no source).
const slowPause = 3.6

// PumpByHand is the hand on a vacuum-driven leak pump.
var PumpByHand = Register(Test{
	Key:       "pump-hand",
	Odds:      FromPlant,
	Feels:     []string{"vapour"},
	OneVolume: true,
	Channels: []Channel{
		{Key: "strokes", Kind: Count, Low: 0, High: 2000, Sense: PumpStrokes},
		{Key: "pause", Unit: "s", Low: 0, High: 600, Sense: PumpPause},
	},
	Phases: []Phase{{Do: []Step{{Do: Idle}}, For: 140, Read: []string{"strokes", "pause"}}},
	Live:   Live{Taps: []Tap{{Key: "stroke", Name: "Stroke felt"}}, Tally: tallyStrokes},
	Reduce: func(_ Subject, r Readings) Verdict {
		n, ok := r.Mean("strokes")
		pause, has := r.Mean("pause")
		switch {
		case !ok:
			return ask("strokes", "How many strokes did you feel? 0 is an answer.")
		case n == 0:
			return is("silent", "No strokes on this start: no verdict.")
		case !has:
			return ask("pause", "How long is the pause between the last two strokes?")
		case pause > slowPause:
			return is("slows", "The pauses grow to %s s: it holds.", say(pause))
		case pause > slowPause-0.3:
			return unsure("A last pause of %s s lies at the limit.", say(pause))
		}
		return is("fast", "The last pause is only %s s: it never slows down.", say(pause))
	},
})

// tallyStrokes counts strokes as they were felt, and takes the pause between the last two.
func tallyStrokes(felt []Moment) Readings {
	out := Readings{"strokes": Num(float64(len(felt)))}
	if n := len(felt); n > 1 {
		out["pause"] = Num(felt[n-1].At - felt[n-2].At)
	}
	return out
}
