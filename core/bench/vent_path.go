package bench

import (
	"math"

	"wexter/core/units"
)

// VentPath is whether the tank can breathe. A tank that pulls 2.8 inH2O while it is purged
// with the vent open has a blocked vent path (common practice, no source).
var VentPath = Register(Test{
	Key:  "vent-path",
	Odds: FromPlant,
	Channels: []Channel{
		{Key: "free", Kind: Choice, Words: []string{"free", "blocked"}, Sense: VentFree},
		{Key: "vacuum", Unit: "inH2O", Low: -30, High: 410, Sense: TankVacuum, Optional: true},
	},
	Phases: []Phase{
		{Read: []string{"free"}},
		{Do: []Step{{Do: Warm}, {Do: Fast}}, For: 60, Read: []string{"vacuum"}},
	},
	Reduce: func(s Subject, r Readings) Verdict {
		vacuum, has := r.Mean("vacuum")
		most := pullsMost(s)
		switch w := r.Word("free"); {
		case w == "blocked":
			return is("blocked", "The bulb does not blow through.")
		case has && vacuum > most+0.3:
			return is("blocked", "The tank pulls %s inH2O while it is purged: air does not get in.", say(vacuum))
		case w == "" && !has:
			return ask("free", "Does the bulb blow through the vent hose and its filter?")
		case has && vacuum > most-0.3:
			return unsure("%s inH2O of tank vacuum while purging lies at the limit. Look into the filter.", say(vacuum))
		}
		return is("free", "The vent path is free%s.", map[bool]string{true: ", and the tank pulls only " + say(vacuum) + " inH2O while it is purged"}[has])
	},
})

// pullsMost is the vacuum at which a tank that is purged counts as not breathing, inH2O. One
// that breathes in through a weight only stands at what lifts the weight.
func pullsMost(s Subject) float64 {
	most := 2.8
	if s.Graph == nil {
		return most
	}
	for _, p := range s.Graph.Parts {
		if p.Weighed && p.Inward {
			most = math.Max(most, (p.Crack+700)/units.InH2O)
		}
	}
	return most
}
