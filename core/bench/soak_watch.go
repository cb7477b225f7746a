package bench

import "math"

// SoakWatch is what the tank does after shut-down. In dry gas 1 inH2O of vacuum takes 0.72 K
// of cooling (ideal-gas law), over fuel up to twice that, by its vapour pressure: from 1.5 K
// on a sealed tank must have shown that inch, and below 0.8 K nothing follows.
var SoakWatch = Register(Test{
	Key:       "soak-watch",
	Odds:      FromPlant,
	Feels:     []string{"vapour"},
	OneVolume: true,
	Channels: []Channel{
		{Key: "time", Unit: "min", Low: 0, High: 2000, Sense: SwitchTime, Open: true},
		{Key: "lowest", Unit: "inH2O", Low: -60, High: 60, Sense: LowestTank, Optional: true},
		{Key: "ambient", Unit: "°C", Low: -40, High: 60, Sense: AirTemperature, Optional: true},
		{Key: "cooled", Unit: "K", Low: -30, High: 60, Sense: TankCooled, Optional: true},
	},
	Phases: []Phase{
		{Do: []Step{{Do: Park}}},
		{For: 6 * 3600, Every: 60, Read: []string{"time", "lowest", "ambient", "cooled"}},
	},
	Reduce: func(_ Subject, r Readings) Verdict {
		when, ok := r.Mean("time")
		low, hasLow := r.Mean("lowest")
		cooled, hasCooled := r.Mean("cooled")
		switch {
		case ok && !math.IsInf(when, 1):
			return is("changes", "The switch changed after %s min: a small leak is excluded.", say(when))
		case !ok && !hasLow:
			return ask("time", "After how many minutes did the switch change? \"no change\" is an answer.")
		case !hasLow:
			return ask("lowest", "The switch did not change. How far did the tank's pressure fall?")
		case !ok && low < -1.5: // a car that is watched by its sensor, or a gauge at the port
			return is("changes", "The tank fell to %s inH2O by itself: a small leak is excluded.", say(low))
		case low < -1:
			return is("vacuum-only", "The tank fell to %s inH2O and the switch did not change: the switch.", say(low))
		case !hasCooled:
			return ask("cooled", "No vacuum came. By how much did the tank cool? A warm night tells nothing.")
		case cooled < 0.8:
			return is("warm", "The tank cooled by only %s K: too little for any vacuum, so this night tells nothing.", say(cooled))
		case cooled >= 1.5:
			return is("none", "The tank cooled by %s K and fell only to %s inH2O: it is not tight.", say(cooled), say(low))
		}
		return unsure("The tank cooled by %s K, which may not have been enough.", say(cooled))
	},
})
