package bench

import (
	"fmt"
	"math"

	"wexter/core/calc"
	"wexter/core/plumbing"
	"wexter/core/units"
)

// Limits of coils and supplies at a bench, common practice, no source.
const (
	openCoil  = 1000.0 // ohm: no solenoid of a valve has as much
	shortCoil = 4.0    // ohm: nor as little
	weakVolts = 11.0
	leastRuns = 5    // cycles: sticky valves pass once
	vacuumAt  = 15.0 // inHg on a control port or a seat
)

// ValveBench is a valve worked by hand, five times. Which state must seal and which must pass
// follows from the rest state that this very archetype gives the valve.
var ValveBench = Register(Test{
	Key:  "valve-bench",
	On:   OnePart,
	Odds: FromPlant,
	Channels: []Channel{
		{Key: "held", Unit: "inHg", Low: 0, High: 30, Sense: BenchVacuum, Optional: true},
		{Key: "sealed", Kind: Cycles, Sense: PartSeals, Times: leastRuns},
		{Key: "passed", Kind: Cycles, Sense: PartPasses, Times: leastRuns},
		{Key: "coil", Unit: "ohm", Low: 0, High: 1e9, Sense: CoilOhms, Optional: true, Open: true},
		{Key: "coil-at", Unit: "°C", Low: -40, High: 200, Optional: true},
		{Key: "coil-least", Unit: "ohm", Low: 0, High: 1e4, Optional: true},
		{Key: "coil-most", Unit: "ohm", Low: 0, High: 1e4, Optional: true},
		{Key: "supply", Unit: "V", Low: 0, High: 32, Sense: SupplyVolts, Optional: true},
		{Key: "click", Kind: Choice, Words: []string{Yes, No}, Optional: true},
		besideChannel,
	},
	Phases: []Phase{
		{Do: []Step{{Do: Press, At: AtPart, Value: -vacuumAt * units.InHg}}, For: 20, Read: []string{"held", "sealed", "passed", "coil", "supply"}},
	},
	Tries: func(t Target) string {
		p := t.Part
		if p.Kind == plumbing.Valve && p.Drive != "cable" || p.Kind == plumbing.Relief || p.Kind == plumbing.Check && t.Named("valve-bench") {
			return p.Key
		}
		return ""
	},
	Reduce: reduceValve,
})

func reduceValve(s Subject, r Readings) Verdict {
	sealed, nSealed := r.Cycles("sealed")
	passed, nPassed := r.Cycles("passed")
	held, hasHeld := r.Mean("held")
	switch {
	case nSealed == 0 && hasHeld && zone(held, 0.8*vacuumAt, 0.5) != 0 && s.Part.Rest != plumbing.Open:
		// What the gauge held says whether it seals; how often is still to be seen.
		return ask("sealed", "It held %s of %s inHg. In how many cycles did it seal? Five at least: sticky valves pass once.", say(held), say(vacuumAt))
	case nSealed == 0:
		return ask("sealed", "In which cycles did it seal %s?", sealsWhen(s.Part))
	case nPassed == 0:
		return ask("passed", "In which cycles did it pass %s?", passesWhen(s.Part))
	}
	volts, hasVolts := r.Mean("supply")
	coil, hasCoil := coilAt20(r)
	powered, what := passed, "passed"
	if s.Part.Rest == plumbing.Open {
		powered, what = sealed, "sealed"
	}
	electric := s.Part.Kind == plumbing.Valve && s.Part.By == "" && s.Part.Drive != "diaphragm" && s.Part.Drive != "vacuum" && s.Part.Drive != "spring"
	if electric && hasCoil {
		if coil > openCoil || coil < shortCoil {
			if powered > 0 {
				return ask("coil", "A coil of %s ohm cannot move it, yet it %s %d times with power. Measure the coil again, or count the cycles again.", say(coil), what, powered)
			}
			return is("coil", "The coil reads %s: %s. Power cannot move the valve.", ohms(coil), map[bool]string{true: "open circuit", false: "short"}[coil > openCoil])
		}
		if v, bad := bookRange(coil, r); bad && powered < max(nSealed, nPassed) {
			return v
		}
	}
	if hasHeld && s.Part.Rest != plumbing.Open && s.Part.Kind == plumbing.Valve {
		if held < 0.8*vacuumAt-0.5 && sealed == nSealed {
			return ask("held", "It held only %s of %s inHg, yet sealed in all %d cycles. Both cannot be: pump it up again.", say(held), say(vacuumAt), nSealed)
		}
		if held > 0.8*vacuumAt+0.5 && sealed == 0 {
			return ask("held", "It held %s of %s inHg, yet sealed in none of %d cycles. Both cannot be: count again.", say(held), say(vacuumAt), nSealed)
		}
	}
	if electric && hasVolts && volts < weakVolts && powered == 0 {
		return ask("supply", "It did not move, at %s V: a weak supply makes a good valve look dead. Try it again at 12 V or more.", say(volts))
	}
	cycles := fmt.Sprintf("sealed %d of %d, passed %d of %d", sealed, nSealed, passed, nPassed)
	v := Verdict{}
	switch {
	case sealed == nSealed && passed == nPassed && min(nSealed, nPassed) < leastRuns:
		return ask("sealed", "It %s. Work it at least %d times: sticky valves pass once.", cycles, leastRuns)
	case sealed == nSealed && passed == nPassed:
		v = is("good", "It %s: sound.", cycles)
	case sealed == 0:
		v = is("leaks", "It %s: it does not seal %s.", cycles, sealsWhen(s.Part))
	case passed == 0:
		v = is("stuck", "It %s: it does not pass %s.", cycles, passesWhen(s.Part))
	default:
		v = is("sticky", "It %s: it sticks.", cycles)
	}
	if hasCoil && electric {
		v.Figures = append(v.Figures, Figure{Name: "coil at 20 °C", Unit: "ohm", Value: coil, Low: coil * 0.98, High: coil * 1.02})
	}
	return v
}

// coilAt20 is the coil's resistance brought to 20 °C, when the coil's temperature is known;
// otherwise as it was read.
func coilAt20(r Readings) (float64, bool) {
	v, ok := r.Mean("coil")
	if t, warm := r.Mean("coil-at"); ok && warm && !math.IsInf(v, 1) {
		v = calc.CoilAt20(v, t+units.ZeroCelsius)
	}
	return v, ok
}

// bookRange holds the coil against the range of the maker's book, when that was given.
func bookRange(coil float64, r Readings) (Verdict, bool) {
	least, a := r.Mean("coil-least")
	most, b := r.Mean("coil-most")
	switch {
	case a && coil < 0.97*least:
		return is("coil", "The coil reads %s at 20 °C, below the %s ohm of the book.", ohms(coil), say(least)), true
	case b && coil > 1.03*most:
		return is("coil", "The coil reads %s at 20 °C, above the %s ohm of the book.", ohms(coil), say(most)), true
	}
	return Verdict{}, false
}

// ohms writes a resistance; a meter's overload as it shows it.
func ohms(v float64) string {
	switch {
	case math.IsInf(v, 1):
		return "OL"
	case v >= 1e6:
		return say(v/1e6) + " MΩ"
	case v >= 1e3:
		return say(v/1e3) + " kΩ"
	}
	return say(v) + " ohm"
}

func sealsWhen(p plumbing.Part) string { return powerWords(p, p.Rest != plumbing.Open) }

func passesWhen(p plumbing.Part) string { return powerWords(p, p.Rest == plumbing.Open) }

// powerWords say with what a valve is in its rest state, or out of it.
func powerWords(p plumbing.Part, atRest bool) string {
	switch {
	case p.Kind != plumbing.Valve && atRest:
		return "in the direction in which it must"
	case p.Kind != plumbing.Valve:
		return "in the direction in which it may"
	case p.Drive == "diaphragm" || p.Drive == "vacuum":
		return map[bool]string{true: "without vacuum", false: "with vacuum"}[atRest]
	case p.Drive == "spring":
		return map[bool]string{true: "cold", false: "warm"}[atRest]
	}
	return map[bool]string{true: "without power", false: "with power"}[atRest]
}

// WhenWords say, for the page, in which state a valve's cycles are counted.
func WhenWords(channel string, p plumbing.Part) string {
	switch {
	case p.Key == "":
		return ""
	case channel == "sealed":
		return sealsWhen(p)
	case channel == "passed":
		return passesWhen(p)
	}
	return ""
}
