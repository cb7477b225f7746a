package bench

import (
	"fmt"
	"math"
	"slices"

	"wexter/core/units"
)

// ownCheck is the stretch of a draw-down in which the car is asked for its own leak check.
var ownCheck = phaseKey(5)

// Of the car's own check, chosen: so long it is watched, a pressure that moves by more than this is no
// noise of the sensor, and so many readings at either end make a mean.
const (
	ownSeconds = 120.0
	ownMoves   = 0.15 // inH2O
	ownMean    = 8
)

// ownStretch asks the control unit for its own leak check: with key on and engine off it shuts the EVAP
// system off by itself (request for control of an on-board system, service 08, test 01: SAE J1979,
// value from memory). What it then does, and for how long, is the maker's affair: what can be seen is
// how the tank's pressure moves, and what the scan tool says at the end.
func ownStretch(k Known) Stretch {
	do := []Step{{Do: KeyOn}, {Do: OwnCheck}}
	s := Stretch{Key: ownCheck, Name: "The car's own leak check, forced", Detail: "key on, engine off, two minutes", Do: do, For: ownSeconds, Maybe: true, Rests: true, Done: k.In[ownCheck],
		Before: "By hand: key on, engine off, start the forced leak check on the scan tool. Then start; write down what the tool says."}
	if k.Works != nil && k.Works(OwnCheck) {
		s.Before = "Key on, engine off. Start: the control unit is asked to shut its valves for a leak check. Many makers want their own tool: then it refuses and says so."
	}
	return s
}

// ownCheckWatch sees how the tank's pressure moves while the car has shut its EVAP system off.
type ownCheckWatch struct{ *drawWatch }

// Told is how the pressure moved.
func (w *ownCheckWatch) Told() Told {
	out := Told{Readings: Readings{}}
	_, v := Past{Cols: w.cols, Table: w.kept}.Column(TankSensor)
	if len(v) < 2*ownMean {
		out.Says = "Too little was read of the tank's pressure to say how it moved."
		return out
	}
	mean := func(v []float64) float64 {
		v = slices.Clone(v)
		slices.Sort(v)
		return v[len(v)/2] / units.InH2O
	}
	from, to := mean(v[:ownMean]), mean(v[len(v)-ownMean:])
	change := math.Round((to-from)*100) / 100
	out.Readings["own-change"] = Num(change)
	over := w.kept.Last()
	out.Says = fmt.Sprintf("Shut off by the car, the tank went from %s to %s inH2O in %.0f s.", say(from), say(to), over)
	if math.Abs(change) > ownMoves {
		out.Says += " It moves: the car has shut its valves, and no large hole lets it go."
	} else {
		out.Says += " It stands still: it was not shut off, a large hole lets it go, or nothing moves it. Alone that tells nothing."
	}
	return out
}

// withOwnCheck lets what the car's own check came to stand beside a draw-down, or for it where nothing
// was drawn.
func withOwnCheck(v Verdict, r Readings) Verdict {
	own := r.Word("own")
	passed := own == "passed"
	switch {
	case own == "":
	case v.Ask == "built" && !r.Has("built"):
		v = is(map[bool]string{true: "holds", false: "falls"}[passed], "The car's own forced leak check %s.", own)
	case v.Outcome == "holds" && !passed, v.Outcome == "falls" && passed:
		v = Verdict{Outcome: CannotTell, Figures: v.Figures, Says: v.Says + fmt.Sprintf(" But the car's own forced leak check %s: they contradict each other. Repeat both, or settle it with a leak-down test.", own)}
	case v.Outcome == "holds" || v.Outcome == "falls":
		v.Says += fmt.Sprintf(" The car's own forced leak check %s as well.", own)
	}
	return v
}
