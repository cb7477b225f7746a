package bench

// EGRRamp is the control solenoid ramped, with the differential volts watched.
var EGRRamp = Register(Test{
	Key:   "egr-ramp",
	Odds:  FromPlant,
	Feels: []string{"recirculation"},
	Channels: []Channel{
		{Key: "engine", Kind: Choice, Words: []string{"runs", "stalls"}, Sense: EngineRuns, Optional: true},
		{Key: "shut", Unit: "V", Low: 0, High: 6, Sense: DifferenceVolts},
		{Key: "open", Unit: "V", Low: 0, High: 6, Sense: DifferenceVolts},
		{Key: "feels", Kind: Choice, Words: []string{Yes, No}, Sense: AirFalls, Optional: true},
	},
	Phases: []Phase{
		{Do: []Step{{Do: Warm}}, Read: []string{"engine"}, Stops: true},
		{Do: []Step{{Do: Loaded}}, For: 40},
		{Do: []Step{{Do: Command, At: "recirculation-control", Value: 0}}, For: 10, Read: []string{"shut"}},
		{Do: []Step{{Do: Command, At: "recirculation-control", Value: 0.6}}, For: 6, Read: []string{"open", "feels"}},
	},
	Reduce: func(_ Subject, r Readings) Verdict {
		shut, a := r.Mean("shut")
		open, b := r.Mean("open")
		feels := r.Word("feels")
		switch {
		case r.Word("engine") == "stalls":
			return is("stalls", "The engine does not keep running.")
		case !a:
			return ask("shut", "How many volts with the solenoid at 0 %%?")
		case !b:
			return ask("open", "How many volts with the solenoid at 60 %%?")
		case zone(open-shut, 0.3, 0.06) > 0:
			return is("rises", "The volts rise from %s to %s: solenoid, valve, passage and sensor follow.", say(shut), say(open))
		case zone(open-shut, 0.3, 0.06) == 0:
			return unsure("The volts rise only from %s to %s. Ramp further, at 2000 rpm.", say(shut), say(open))
		case feels == "":
			return ask("feels", "The volts do not rise. Does the engine feel it: does it stumble, or does the air flow fall?")
		case feels == Yes:
			return is("blind", "The engine feels it and the volts stay at %s: the sensor or its hoses.", say(open))
		}
		return is("nothing", "Neither the volts (%s to %s) nor the engine feel it: solenoid, its hoses, or the valve.", say(shut), say(open))
	},
})
