package bench

import (
	"math"
)

// DrawDown is the car drawing itself down: the vent commanded shut, the purge valve part open
// at idle, and the tank's own sensor watched while vacuum builds and then holds. A build of
// less than 3 inH2O in a minute is none. The fuel's own vapour takes up to a quarter of it in a
// minute; what loses two fifths leaks (common practice, no source).
var DrawDown = Register(Test{
	Key:       "draw-down",
	Odds:      FromPlant,
	Feels:     []string{"vapour"},
	OneVolume: true,
	Channels: []Channel{
		{Key: "engine", Kind: Choice, Words: []string{"runs", "stalls"}, Sense: EngineRuns, Optional: true},
		{Key: "built", Unit: "inH2O", Low: -40, High: 40, Sense: SensorVacuum},
		{Key: "left", Unit: "inH2O", Low: -40, High: 40, Sense: SensorVacuum},
		{Key: "after", Unit: "s", Low: 5, High: 900, Optional: true},
	},
	Phases: []Phase{
		{Do: []Step{{Do: Warm}}, Read: []string{"engine"}, Stops: true},
		{Do: []Step{{Do: Command, At: "isolation", Value: 1, May: true}, {Do: Command, At: "vent", Value: 1}, {Do: Command, At: "purge", Value: 0.12}}, For: 60, Every: 0.1, Until: SensorVacuum, Reach: 8},
		{Do: []Step{{Do: Command, At: "purge", Value: 0}}, For: 30, Read: []string{"built"}},
		{For: 60, Read: []string{"left"}},
		{Do: []Step{{Do: Uncommand, At: "purge"}, {Do: Uncommand, At: "vent"}, {Do: Uncommand, At: "isolation", May: true}}, For: 1},
	},
	Reduce: func(_ Subject, r Readings) Verdict {
		built, a := r.Mean("built")
		left, b := r.Mean("left")
		over, timed := r.Mean("after")
		if !timed {
			over = 60
		}
		switch {
		case r.Word("engine") == "stalls":
			return is("stalls", "The engine does not keep running.")
		case !a:
			return ask("built", "How much vacuum does the tank's sensor show half a minute after the purge valve was shut again? 0 is an answer. Open the vent on any way out.")
		case built > 15.5:
			return is("grows", "%s inH2O, where it was stopped at 15 or less: the purge valve does not shut. Open the vent now.", say(built))
		case built < 3:
			return is("no-build", "Only %s inH2O built up: a large leak, a purge valve stuck shut, a blocked line, or a blind sensor.", say(built))
		case !b:
			return ask("left", "How much vacuum was left after a minute?")
		case left > built+0.5:
			return is("grows", "The vacuum grows from %s to %s inH2O with the purge valve shut: it passes. Open the vent now.", say(built), say(left))
		}
		// √p falls linearly with time through a small hole; as if a minute had passed.
		share := 1 - math.Pow(math.Max(math.Sqrt(math.Max(left, 0)/built)-1, -1)*60/over+1, 2)
		lost := []Figure{{Name: "lost in a minute", Unit: "%", Value: 100 * share, Low: 100*share - 2, High: 100*share + 2}}
		var v Verdict
		switch zone(share, 0.40, 0.05) {
		case 1:
			v = is("falls", "%s inH2O built, %s left after %s s: it does not hold.", say(built), say(left), say(over))
		case -1:
			v = is("holds", "%s inH2O built, %s left after %s s: it holds.", say(built), say(left), say(over))
		default:
			v = unsure("%s inH2O built, %s left after %s s: at the limit. Hold it longer.", say(built), say(left), say(over))
		}
		v.Figures = lost
		return v
	},
})
