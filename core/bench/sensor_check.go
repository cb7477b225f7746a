package bench

import (
	"math"

	"wexter/core/plumbing"
)

// SensorCheck is a pressure sensor followed by a hand pump. A tenth of its scale or half an
// inch of water of its zero is a false sensor (common practice, no source).
var SensorCheck = Register(Test{
	Key:  "sensor-check",
	On:   OnePart,
	Odds: FromPlant,
	Channels: []Channel{
		{Key: "supply", Unit: "V", Low: 0, High: 32, Sense: SensorSupply, Optional: true},
		{Key: "zero", Unit: "inH2O", Low: -60, High: 60, Sense: SensorZero},
		{Key: "ten", Unit: "inH2O", Low: -60, High: 60, Sense: SensorAtTen},
	},
	Phases: []Phase{{Do: []Step{{Do: KeyOn}}, For: 5, Read: []string{"supply", "zero", "ten"}}},
	Tries: func(t Target) string {
		if t.Part.Kind == plumbing.Sensor && (t.Part.Family == "vapour" || t.Part.Role == "difference") {
			return t.Part.Key
		}
		return ""
	},
	Reduce: func(_ Subject, r Readings) Verdict {
		zero, a := r.Mean("zero")
		ten, b := r.Mean("ten")
		volts, hasVolts := r.Mean("supply")
		switch {
		case hasVolts && (volts < 4.5 || volts > 5.5):
			return ask("supply", "A supply of %s V is not the 5 V that it needs: walk its circuit first.", say(volts))
		case !a:
			return ask("zero", "What does it read with its hose open to the air?")
		case !b:
			return ask("ten", "What does it read with 10 inH2O from the hand pump?")
		}
		gain := (ten - zero) / 10
		f := []Figure{{Name: "scale", Unit: "1", Value: gain, Low: gain - 0.02, High: gain + 0.02}, {Name: "zero", Unit: "inH2O", Value: zero, Low: zero - 0.05, High: zero + 0.05}}
		var v Verdict
		switch scale, off := zone(math.Abs(gain-1), 0.1, 0.02), zone(math.Abs(zero), 0.5, 0.06); {
		case scale > 0:
			v = is("false-scale", "Reads %s of 10 inH2O: it shows %s times the truth.", say(ten-zero), say(gain))
		case off > 0:
			v = is("false-zero", "Reads %s inH2O with its hose open: a false zero.", say(zero))
		case scale == 0 || off == 0:
			v = unsure("Zero %s, and %s at 10 inH2O: at the limit. Try it again with a second gauge.", say(zero), say(ten))
		default:
			v = is("true", "Follows the pump: %s at zero, %s at 10 inH2O.", say(zero), say(ten))
		}
		v.Figures = f
		return v
	},
})
