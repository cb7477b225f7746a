package bench

// EGRCommand is an EGR valve commanded open and shut while its flow is watched. The gas tells,
// not the position. Limits are common practice, no source.
var EGRCommand = Register(Test{
	Key:   "egr-command",
	Odds:  FromPlant,
	Feels: []string{"recirculation"},
	Channels: []Channel{
		{Key: "engine", Kind: Choice, Words: []string{"runs", "stalls"}, Sense: EngineRuns, Optional: true},
		{Key: "air-shut", Unit: "g/s", Low: 0, High: 800, Sense: MeteredAir},
		{Key: "gas", Unit: "°C", Low: -40, High: 900, Sense: GasTemperature},
		{Key: "air-open", Unit: "g/s", Low: 0, High: 800, Sense: MeteredAir},
	},
	Phases: []Phase{
		{Do: []Step{{Do: Warm}}, Read: []string{"engine"}, Stops: true},
		{Do: []Step{{Do: Loaded}}, For: 40},
		{Do: []Step{{Do: Command, At: "recirculation", Value: 0}}, For: 20, Read: []string{"air-shut", "gas"}},
		{Do: []Step{{Do: Command, At: "recirculation", Value: 0.6}}, For: 20, Read: []string{"air-open"}},
	},
	Reduce: func(_ Subject, r Readings) Verdict {
		shut, a := r.Mean("air-shut")
		open, b := r.Mean("air-open")
		gas, c := r.Mean("gas")
		switch {
		case r.Word("engine") == "stalls":
			return is("stalls", "The engine does not keep running.")
		case c && gas > GasStandsOpen:
			return is("flows-shut", "Gas at %s °C behind a valve that is told to be shut: it stands open, whatever its position says.", say(gas))
		case !a:
			return ask("air-shut", "What is the air flow at 0 %%?")
		case !b:
			return ask("air-open", "What is the air flow at 60 %%?")
		case !c:
			return ask("gas", "How hot is the gas behind the valve at 0 %%? A probe will do.")
		case gas > 135:
			return unsure("Gas at %s °C behind a shut valve lies at the limit. Let it run longer at 0 %%.", say(gas))
		}
		switch zone(open, 0.93*shut, 0.015*shut) {
		case 1:
			return is("no-flow", "Air flow %s g/s shut, %s g/s open: nothing flows.", say(shut), say(open))
		case -1:
			return is("follows", "Air flow falls from %s to %s g/s, and the gas is cool when shut: it follows.", say(shut), say(open))
		}
		return unsure("Air flow falls only from %s to %s g/s. Command more, at a steady speed.", say(shut), say(open))
	},
})

// GasStandsOpen is the temperature behind a valve that is told to be shut, °C, from which on it
// stands open (common practice, no source).
const GasStandsOpen = 145.0
