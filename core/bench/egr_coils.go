package bench

// EGRCoils is a stepper or motor EGR valve on the meter, then with power.
var EGRCoils = Register(Test{
	Key:  "egr-coils",
	On:   OnePart,
	Odds: FromPlant,
	Channels: []Channel{
		{Key: "coil", Unit: "ohm", Low: 0, High: 1e9, Sense: CoilOhms, Open: true},
		{Key: "moves", Kind: Choice, Words: []string{"moves", "still"}, Sense: PartMoves},
	},
	Phases: []Phase{{Do: []Step{{Do: KeyOn}}, For: 5, Read: []string{"coil", "moves"}}},
	Tries: func(t Target) string {
		if t.Part.Role == "recirculation" {
			return t.Part.Key
		}
		return ""
	},
	Reduce: func(_ Subject, r Readings) Verdict {
		coils := r["coil"].Numbers
		if len(coils) == 0 {
			return ask("coil", "What do the coils read? Each of them, with commas between; OL is an answer.")
		}
		bad := false
		least, most := coils[0], coils[0]
		for _, c := range coils {
			bad = bad || c > openCoil || c < shortCoil
			least, most = min(least, c), max(most, c)
		}
		switch w := r.Word("moves"); {
		case bad && len(coils) == 1 && w == "moves":
			return ask("coil", "A coil of %s cannot move it, yet it moves. Measure it again.", ohms(most))
		case bad:
			return is("coil", "A coil reads %s.", ohms(map[bool]float64{true: most, false: least}[most > openCoil]))
		case most > 1.3*least:
			return is("coil", "The coils differ: %s to %s.", ohms(least), ohms(most))
		case w == "":
			return ask("moves", "Does it buzz and move with power?")
		case w == "moves":
			return is("good", "Coils %s, and it moves.", ohms(most))
		case most > usualCoil:
			return is("coil", "A coil reads %s, and it does not move.", ohms(most))
		}
		return is("seized", "Coils %s, and it does not move: seized.", ohms(most))
	},
})
