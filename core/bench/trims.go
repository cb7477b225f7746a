package bench

// Trims are the total fuel trims at three points, and under boost where there is one.
// Limits are common practice, no source: purging lifts or lowers the trims of a healthy car
// off idle by some 6 %.
var Trims = Register(Test{
	Key:       "trims",
	Odds:      FromPlant,
	PurgeOnly: true,
	Points:    map[string]string{"idle": "idle", "2500": "fast", "load": "loaded"},
	Feels:     []string{"intake", "crankcase", "boost", "look-alike", "recirculation"},
	Channels: []Channel{
		{Key: "engine", Kind: Choice, Words: []string{"runs", "stalls"}, Sense: EngineRuns, Optional: true},
		{Key: "idle", Unit: "%", Low: -100, High: 100, Sense: TotalTrim},
		{Key: "fast", Unit: "%", Low: -100, High: 100, Sense: TotalTrim},
		{Key: "loaded", Unit: "%", Low: -100, High: 100, Sense: TotalTrim},
		{Key: "boosted", Unit: "%", Low: -100, High: 100, Sense: TotalTrim, Optional: true},
		{Key: "air", Unit: "g/s", Low: 0, High: 800, Sense: MeteredAir, Optional: true},
		{Key: "manifold", Unit: "kPa", Low: 0, High: 400, Sense: ManifoldPressure, Optional: true},
	},
	Phases: []Phase{
		{Do: []Step{{Do: Warm}}, Read: []string{"engine"}, Stops: true},
		{Do: []Step{{Do: Idle}}, For: 150, Read: []string{"idle", "air", "manifold"}},
		{Do: []Step{{Do: Fast}}, For: 90, Read: []string{"fast"}},
		{Do: []Step{{Do: Loaded}}, For: 90, Read: []string{"loaded"}},
		{Do: []Step{{Do: Boosted}}, For: 25, Read: []string{"boosted"}},
	},
	Reduce: func(_ Subject, r Readings) Verdict {
		if r.Word("engine") == "stalls" {
			return is("stalls", "The engine does not keep running.")
		}
		idle, a := r.Mean("idle")
		fast, b := r.Mean("fast")
		load, c := r.Mean("loaded")
		boost, hasBoost := r.Mean("boosted")
		switch {
		case !a:
			return ask("idle", "What is the total trim at warm idle, in closed loop?")
		case !b:
			return ask("fast", "What is the total trim at 2500 rpm without load?")
		case !c:
			return ask("loaded", "What is the total trim loaded, on the road?")
		}
		at := "Total trim " + say(idle) + " % at idle, " + say(fast) + " % at 2500, " + say(load) + " % loaded"
		switch {
		case hasBoost && boost < -12 && idle > -8:
			return is("boost-rich", "%s, %s %% under boost: rich under boost only, metered air is lost.", at, say(boost))
		case idle > 8 && load < 0.6*idle:
			return is("idle-lean", "%s: it fades with flow. Air enters behind the throttle.", at)
		case load > 8 && idle > 0.5*load:
			return is("even", "%s: the same everywhere. Meter or inlet pipe.", at)
		case load > 10:
			return is("load-lean", "%s: it grows with flow. Fuel delivery.", at)
		case idle < -8:
			return is("idle-rich", "%s: rich at idle. Vapour or an injector.", at)
		case idle > 4 && load > 4:
			return is("even", "%s: the same everywhere. Meter or inlet pipe.", at)
		}
		return is("normal", "%s: within what is usual.", at)
	},
})
