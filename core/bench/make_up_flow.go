package bench

import (
	"math"

	"wexter/core/gas"
	"wexter/core/units"
)

// reference is the usual orifice of a rig, 0.020 in, m.
const reference = 0.508e-3

// MakeUpFlow is the flow that keeps a pressure in the sealed system. The limit is what the
// rig's own orifice reads at the same pressure; without it the limit is nominal, and the band
// in which nobody can tell is as wide as real orifices differ from it (a drilled 0.508 mm
// reads 0.54 to 0.58 mm at Cd 0.61: common practice, no source).
var MakeUpFlow = Register(Test{
	Key:  "make-up-flow",
	On:   SealedSystem,
	Odds: FromFlow,
	Channels: []Channel{
		{Key: "flow", Unit: "L/min", Low: 0, High: 200, Sense: RigFlow},
		{Key: "pressure", Unit: "inH2O", Low: 1, High: 30, Sense: RigPressure},
		{Key: "reference", Unit: "L/min", Low: 0.01, High: 50, Optional: true},
		{Key: "before", Unit: "L/min", Low: 0, High: 200, Sense: RigFlowBefore, Optional: true},
	},
	Phases: []Phase{{Do: []Step{{Do: Seal}, {Do: Hold, Value: 10 * units.InH2O}}, For: 240, Every: 1, Mean: 30, Read: []string{"flow", "pressure", "before"}}},
	Reduce: func(_ Subject, r Readings) Verdict {
		flow, ok := r.Mean("flow")
		if !ok {
			return ask("flow", "What flow keeps the pressure once it stands still?")
		}
		at, ok := r.Mean("pressure")
		if !ok {
			return ask("pressure", "At which pressure was the flow read?")
		}
		if before, ok := r.Mean("before"); ok && math.Abs(before-flow) > 0.25*math.Max(flow, 0.005) && math.Abs(before-flow) > 0.1 {
			return is("unsteady", "The flow went from %s to %s L/min within a minute: it has not settled, or the tank gives off vapour.", say(before), say(flow))
		}
		ref, own := r.Mean("reference")
		band, whose := 0.03, "the rig's own orifice"
		if !own {
			ref, band, whose = OrificeFlow(reference, at), 0.12, "a nominal 0.51 mm orifice"
		}
		// Flow meters of a bay read to some 5 %, never better than 0.02 L/min (common practice,
		// no source).
		d, least := reference*math.Sqrt(flow/ref)*1e3, reference*math.Sqrt((flow+0.02)/ref)*1e3
		f := []Figure{{Name: "equivalent orifice", Unit: "mm", Value: d, Low: math.Max(d*0.94-(least-d), 0), High: math.Max(d*1.06, least)}}
		v := unsure("%s L/min against %s L/min through %s: too near to tell.", say(flow), say(ref), whose)
		switch zone(flow, ref, band*ref) {
		case 1:
			v = is("above", "%s L/min against %s L/min through %s: the hole is larger, about %s mm.", say(flow), say(ref), whose, say(d))
		case -1:
			v = is("below", "%s L/min against %s L/min through %s: less than its size, about %s mm.", say(flow), say(ref), whose, say(d))
		}
		v.Figures = f
		return v
	},
})

// OrificeFlow is the free air through a sharp orifice (m) at a gauge pressure (inH2O), in
// L/min, at standard barometer and 20 °C.
func OrificeFlow(d, inH2O float64) float64 {
	const p, t = gas.StandardPressure, 293.15
	return gas.FreeAir(gas.Orifice(gas.Area(d), gas.NominalCd, p+inH2O*units.InH2O, t, p), p, t) * 60e3
}
