package bench

import (
	"fmt"

	"wexter/core/decay"
	"wexter/core/units"
)

// PressureHold is the pressure or vacuum hold. Package decay fits its legs; what stands in
// the readings beside the trace decides nothing.
var PressureHold = Register(Test{
	Key:  "decay",
	On:   SealedSystem,
	Odds: FromHole,
	Channels: []Channel{
		{Key: "trace", Kind: Trace, Sense: RigTrace, Optional: true},
		{Key: "up", Kind: Choice, Words: []string{Yes, No}, Sense: RigCameUp, Optional: true},
		{Key: "pressure", Unit: "inH2O", Low: -410, High: 410, Sense: RigPressure, Optional: true},
		{Key: "wall", Unit: "°C", Low: -40, High: 120, Sense: WallTemperature, Optional: true},
		{Key: "barometer", Unit: "hPa", Low: 500, High: 1100, Sense: Barometer, Optional: true},
	},
	Phases: []Phase{
		{Do: []Step{{Do: Seal}}, For: 30},
		{Do: []Step{{Do: ShutRig}}, For: driftSeconds, Every: 0.5},
		{Do: []Step{{Do: OpenRig}}, For: zeroSeconds},
		{Do: []Step{{Do: Charge, Value: atTest * units.InH2O}}, For: 150, Every: 0.5, Read: []string{"trace", "up", "pressure", "wall", "barometer"}},
	},
	Live: Live{Stretches: holdStretches, Watch: newHoldWatch,
		AllIn: "The hold is in. The verdict stands at the right; a vacuum leg or the known orifice would make it sharper."},
	Reduce: func(s Subject, r Readings) Verdict {
		if r.Word("up") == No {
			return is("cannot_pressurise", "It took all the air the supply gave, and no pressure built.")
		}
		legs := r["trace"].Legs
		if len(legs) == 0 {
			return ask("trace", "A hold is judged by its trace: read it live, drop its log, or type the pairs.")
		}
		_, v, err := JudgeHold(legs, s.Hold)
		if err != nil {
			return ask("trace", "%s.", err)
		}
		return v
	},
})

// JudgeHold judges the legs of a hold against its limit.
func JudgeHold(legs []decay.Leg, su decay.Setup) (decay.Result, Verdict, error) {
	res, err := decay.Judge(legs, su)
	if err != nil {
		return res, Verdict{}, err
	}
	mm := Figure{Name: "equivalent orifice", Unit: "mm", Value: res.D * 1e3, Low: res.Low * 1e3, High: res.High * 1e3}
	says := fmt.Sprintf("%.2f mm (%.2f to %.2f), limit %.2f mm.", mm.Value, mm.Low, mm.High, res.Limit*1e3)
	return res, Verdict{Outcome: string(res.Verdict), Says: says, Figures: []Figure{mm}}, nil
}
