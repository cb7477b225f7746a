package bench

import (
	"wexter/core/plumbing"
	"wexter/core/units"
)

// sizes say how much comes out at a place, the weakest first.
var sizes = []string{"wisp", "stream", "billow"}

// VapourSmoke is smoke in the sealed EVAP system.
var VapourSmoke = Register(Test{
	Key:     "smoke",
	On:      SealedSystem,
	Odds:    FromSmoke,
	ByPlace: "exit",
	Nothing: []string{"none", "expected"},
	Channels: []Channel{
		{Key: "far", Kind: Choice, Words: []string{Yes, No}, Sense: SmokeAtFarEnd},
		{Key: "exits", Kind: Places, Words: sizes, Sense: SmokeExits},
		{Key: "clear", Kind: Places, Sense: NoSmokeYet, Optional: true},
	},
	Phases: []Phase{
		{Do: []Step{{Do: Seal}, {Do: Smoke, Value: 12 * units.InH2O}, {Do: Put, At: AtFarEnd, State: plumbing.Open}}, For: 600, Until: SmokeAtFarEnd, Read: []string{"far"}},
		{Do: []Step{{Do: Clear, At: AtFarEnd}}, For: 180, Read: []string{"exits", "clear"}},
	},
	Reduce: func(_ Subject, r Readings) Verdict {
		v := smokeVerdict(r)
		if v.Outcome != "none" {
			return v
		}
		switch r.Word("far") {
		case Yes:
			return is("none", "No exit, and smoke was seen at the far end.")
		case No:
			return is("not-filled", "No exit, but smoke never reached the far end: the far half was not tested.")
		}
		return ask("far", "Was smoke seen at the far end before it was closed? A system closed from the start hardly fills.")
	},
})

// smokeVerdict is what exits of smoke or air say by themselves.
func smokeVerdict(r Readings) Verdict {
	x, has := r["exits"]
	if !has {
		return ask("exits", "Tap every place where it comes out, or \"nothing comes out\".")
	}
	unexpected := 0
	for _, p := range x.Places {
		if !p.Expected {
			unexpected++
		}
	}
	switch {
	case unexpected > 0:
		return is("exit", "Comes out at %d %s.", unexpected, plural(unexpected, "place", "places"))
	case len(x.Places) > 0:
		return is("expected", "Comes out only where it must.")
	}
	return is("none", "Nothing comes out.")
}
