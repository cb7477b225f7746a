package bench

import "wexter/core/plumbing"

// PurgeRunning is the purge valve on the running engine, told to be shut. Any pull is a leak
// of the valve; from 1 inH2O on a gauge shows it surely, and below 0.4 it is the gauge's own
// (common practice, no source). A total trim that moves by 5 % when the hose is clamped says
// the same.
var PurgeRunning = Register(Test{
	Key:       "purge-running",
	Odds:      FromPlant,
	PurgeOnly: true,
	Channels: []Channel{
		{Key: "engine", Kind: Choice, Words: []string{"runs", "stalls"}, Sense: EngineRuns, Optional: true},
		{Key: "pull", Unit: "inH2O", Low: 0, High: 410, Sense: PurgePull},
		{Key: "free", Unit: "%", Low: -100, High: 100, Sense: TotalTrim, Optional: true},
		{Key: "clamped", Unit: "%", Low: -100, High: 100, Sense: TotalTrim, Optional: true},
		{Key: "cap-off", Kind: Choice, Words: []string{"runs", "stumbles"}, Optional: true},
	},
	Phases: []Phase{
		{Do: []Step{{Do: Warm}}, For: 60, Read: []string{"engine", "free"}, Stops: true},
		{Do: []Step{{Do: Put, At: AtPurgeLine, State: plumbing.Plugged}}, For: 20, Read: []string{"pull"}},
		{For: 60, Read: []string{"clamped"}},
	},
	Reduce: func(_ Subject, r Readings) Verdict {
		pull, ok := r.Mean("pull")
		free, a := r.Mean("free")
		clamped, b := r.Mean("clamped")
		switch {
		case r.Word("engine") == "stalls":
			return is("stalls", "The engine does not keep running.")
		case ok && pull > 1:
			return is("pull", "Pulls %s inH2O while it is told to be shut.", say(pull))
		case a && b && (clamped-free > 5 || free-clamped > 5):
			return is("pull", "The total trim moves from %s to %s %% when the hose is clamped: that much passes the valve.", say(free), say(clamped))
		case r.Word("cap-off") == "stumbles":
			return is("stumble", "The engine stumbles with the filler cap off: there is a way from the neck to the manifold.")
		case !ok:
			return ask("pull", "What does the gauge on the open side show at idle? 0 is an answer.")
		case pull < 0.4:
			return is("none", "No pull (%s inH2O) while it is told to be shut.", say(pull))
		}
		return unsure("A pull of %s inH2O may be the gauge's own. Clamp the purge hose and watch the total trim.", say(pull))
	},
})
