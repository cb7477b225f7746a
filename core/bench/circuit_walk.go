package bench

import "slices"

// CircuitWalk is where the current stops: supply, coil, command, in that order.
var CircuitWalk = Register(Test{
	Key:  "circuit-walk",
	On:   OnePart,
	Odds: FromPlant,
	Channels: []Channel{
		{Key: "supply", Unit: "V", Low: 0, High: 32, Sense: SupplyVolts},
		{Key: "coil", Unit: "ohm", Low: 0, High: 1e9, Sense: CoilOhms, Open: true},
		{Key: "coil-at", Unit: "°C", Low: -40, High: 200, Optional: true},
		{Key: "coil-least", Unit: "ohm", Low: 0, High: 1e4, Optional: true},
		{Key: "coil-most", Unit: "ohm", Low: 0, High: 1e4, Optional: true},
		{Key: "control", Unit: "%", Low: 0, High: 100, Sense: ControlPin},
	},
	Phases: []Phase{{Do: []Step{{Do: KeyOn}}, For: 5, Read: []string{"supply", "coil", "control"}}},
	Tries: func(t Target) string {
		p := t.Part
		if (p.Moves() && p.By == "" || p.Role == "leak-pump") && slices.Contains([]string{"coil", "duty", "motor", "stepper", ""}, p.Drive) {
			return p.Key
		}
		return ""
	},
	Reduce: func(_ Subject, r Readings) Verdict {
		volts, a := r.Mean("supply")
		coil, b := coilAt20(r)
		pin, c := r.Mean("control")
		switch {
		case !a:
			return ask("supply", "How many volts at the supply pin, to a proven ground?")
		case volts < 9:
			return is("supply", "Only %s V at the supply pin: fuse, then harness.", say(volts))
		case volts < weakVolts:
			return ask("supply", "%s V is little with the key on. Charge the battery, or measure the ground lead, then read it again.", say(volts))
		case !b:
			return ask("coil", "What does the coil read? OL is an answer.")
		case coil > openCoil || coil < shortCoil:
			return is("coil", "Supply is there (%s V), and the coil reads %s.", say(volts), ohms(coil))
		}
		if v, bad := bookRange(coil, r); bad {
			return v
		}
		if coil > usualCoil {
			return unsure("The coil reads %s: more than most. Hold it against the book's figure at 20 °C.", ohms(coil))
		}
		switch {
		case !c:
			return ask("control", "Which duty arrives at the control pin while the valve is commanded?")
		case pin < 1:
			return is("driver", "Supply and coil are good, and no command arrives at the control pin.")
		}
		return is("good", "Supply %s V, coil %s, command %s %%: all of it good.", say(volts), ohms(coil), say(pin))
	},
})

// usualCoil is the most that solenoids, motors and pumps of these circuits commonly have,
// ohm (common practice, no source).
const usualCoil = 38.0
