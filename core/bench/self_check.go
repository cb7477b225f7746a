package bench

// PumpSelfTest is the car's own pump as the instrument, section by section. The limit is the
// reference that the pump itself measured; its figures are whole per cents.
var PumpSelfTest = Register(Test{
	Key:       "pump-self-test",
	Odds:      FromPlant,
	Feels:     []string{"vapour"},
	OneVolume: true,
	Weather:   true,
	Channels: []Channel{
		{Key: "section", Kind: Choice, Words: sections, Optional: true},
		{Key: "ran", Kind: Choice, Words: []string{Yes, No}, Sense: CheckRan, Optional: true},
		{Key: "share", Unit: "%", Low: 0, High: 2000, Sense: CheckShare},
	},
	Phases: []Phase{{Do: []Step{{Do: SelfCheck}}, Read: []string{"ran", "share"}}},
	Reduce: func(_ Subject, r Readings) Verdict {
		share, ok := r.Mean("share")
		of := map[string]string{"pump": " with the pump alone", "canister": " with the canister joined"}[r.Word("section")]
		switch {
		case r.Word("ran") == No:
			return is("not-run", "It did not run: no verdict.")
		case !ok:
			return ask("share", "How much of its reference did it reach?")
		case zone(share, 100, 0.5) == 0:
			return unsure("Reaches %s %% of its reference%s: at the limit. Let it run once more, with fuel and weather settled.", say(share), of)
		case share > 100:
			return is("pass", "Reaches %s %% of its reference%s.", say(share), of)
		}
		return is("fail", "Reaches only %s %% of its reference%s.", say(share), of)
	},
})

// Section is the section of the system that a reading is about; empty for the whole.
func Section(r Readings) string {
	if w := r.Word("section"); w != "whole" {
		return w
	}
	return ""
}
