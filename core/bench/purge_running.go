package bench

import (
	"fmt"
	"math"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"

	"wexter/core/gas"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/trim"
)

const purgeRunning = "purge-running"

// Limits of a purge valve that is told to be shut (common practice, no source, where nothing else is said):
// a gauge that pulls one inch of water shows a leak surely, and less than 0.4 is the gauge's own. A total trim
// that one reading each way moves by 5 % says the same, since it wanders by some 4 % by itself; with an
// interval it is enough that 1 % is left outside. The idle drops by 90 rpm where an engine stumbles.
const (
	pullSure, pullNone = 1.0, 0.4 // inH2O
	oneReading         = 4.0      // %
	shareSure          = 1.0      // %
	stumbleBy          = 90.0     // rpm
	stoichiometric     = 14.7     // kg of air to a kg of petrol, value from memory of Heywood, Internal Combustion Engine Fundamentals
)

// PurgeRunning is the purge valve on the running engine, told to be shut: any pull is a leak of the
// valve, and what its hose changes in the trims is how much.
var PurgeRunning = Register(Test{
	Key:       purgeRunning,
	Odds:      FromPlant,
	PurgeOnly: true,
	Channels: []Channel{
		{Key: "engine", Kind: Choice, Words: []string{"runs", "stalls"}, Sense: EngineRuns, Optional: true},
		{Key: "pull", Unit: "inH2O", Low: -410, High: 410, Sense: PurgePull, Optional: true, Usual: true},
		{Key: "free", Unit: "%", Low: -100, High: 100, Sense: TotalTrim, Optional: true, Fields: 3},
		{Key: "clamped", Unit: "%", Low: -100, High: 100, Sense: TotalTrim, Optional: true, Fields: 3},
		{Key: "cap-off", Kind: Choice, Words: []string{"runs", "stumbles"}, Optional: true},
		{Key: "air", Unit: "g/s", Low: 0, High: 800, Sense: MeteredAir, Optional: true},
		{Key: "manifold", Unit: "kPa", Low: 5, High: 120, Sense: ManifoldPressure, Optional: true},
		{Key: "barometer", Unit: "hPa", Low: 500, High: 1100, Sense: CarBarometer, Optional: true},
		{Key: "idle", Unit: "rpm", Low: 0, High: 3000, Optional: true},
		{Key: "least", Unit: "rpm", Low: 0, High: 3000, Optional: true},
		{Key: "share", Unit: "%", Low: -90, High: 400, Sense: ClampData, Optional: true, Worked: true, Usual: true},
		{Key: "share-low", Unit: "%", Low: -100, High: 400, Optional: true, Worked: true},
		{Key: "share-high", Unit: "%", Low: -100, High: 400, Optional: true, Worked: true},
	},
	Phases: []Phase{
		{Do: []Step{{Do: Warm}}, For: 60, Read: []string{"engine", "free"}, Stops: true},
		{Do: []Step{{Do: Put, At: AtPurgeLine, State: plumbing.Plugged}}, For: 20, Read: []string{"pull"}},
		{For: 60, Read: []string{"clamped"}},
	},
	Live: Live{Stretches: purgeStretches, Watch: newPurgeWatch, Looks: []record.RunKind{purgeClamping}, Picture: purgeSoFar,
		Taps: []Tap{{Key: PowerTap, Name: "Hose clamped", In: []record.RunKind{purgeClamping, purgeCap}}}},
	Picture: purgePicture,
	Reduce:  reducePurge,
})

// purgeShare is by how much the total trim differs with the hose free, %, with its interval.
type purgeShare struct{ is, low, high float64 }

// purgeShareOf is the share that readings give: worked out from a trace, or from what was read each way.
func purgeShareOf(r Readings) (s purgeShare, ok bool) {
	if v, has := r.Mean("share"); has {
		low, a := r.Mean("share-low")
		high, b := r.Mean("share-high")
		return purgeShare{v, low, high}, a && b
	}
	free, clamped := r["free"].Numbers, r["clamped"].Numbers
	n := min(len(free), len(clamped))
	if n == 0 {
		return s, false
	}
	var ln []float64
	for i := range n {
		ln = append(ln, math.Log((100+free[i])/(100+clamped[i])))
	}
	mean := stat.Mean(ln, nil)
	wide := oneReading / 100
	if n > 1 { // a trim is read in steps of 1/128 and swings: never surer than 1 %
		wide = math.Max(distuv.StudentsT{Sigma: 1, Nu: float64(n - 1)}.Quantile(0.975)*stat.StdDev(ln, nil)/math.Sqrt(float64(n)), 0.01)
		wide = math.Min(wide, oneReading/100)
	}
	return purgeShare{100 * math.Expm1(mean), 100 * math.Expm1(mean-wide), 100 * math.Expm1(mean+wide)}, true
}

// passes reports whether something surely passes.
func (s purgeShare) passes() bool { return s.low > shareSure || s.high < -shareSure }

// words says what the hose changes.
func (s purgeShare) words() string {
	if s.high >= 400 || s.low <= -90 {
		return "With the hose clamped the total trim leaves its stop, at least " + say(math.Min(math.Abs(s.low), math.Abs(s.high))) + " %: " + map[bool]string{true: "fuel vapour", false: "air"}[s.is < 0] + " passes the valve"
	}
	between := fmt.Sprintf("%s (%s to %s) %%", say(math.Abs(s.is)), say(math.Min(math.Abs(s.low), math.Abs(s.high))), say(math.Max(math.Abs(s.low), math.Abs(s.high))))
	if s.is < 0 {
		return "With the hose free the engine needs " + between + " less fuel from its injectors than with it clamped: fuel vapour passes the valve"
	}
	return "With the hose free the total trim is " + between + " higher than with it clamped: air passes the valve"
}

// flow is the air that passes, kg/s, and the hole that lets it pass, m; NaN where trims cannot tell.
func (s purgeShare) flow(r Readings) (flow, hole [3]float64) {
	nan := math.NaN()
	flow, hole = [3]float64{nan, nan, nan}, [3]float64{nan, nan, nan}
	air, ok := r.Mean("air")
	if !ok || air <= 0 || s.is <= 0 {
		return flow, hole
	}
	for i, v := range []float64{s.is, s.low, s.high} {
		flow[i] = air / 1e3 * math.Max(v, 0) / 100
	}
	baro := gas.StandardPressure
	if v, has := r.Mean("barometer"); has {
		baro = 100 * v
	}
	manifold, has := r.Mean("manifold")
	if perArea := gas.Orifice(1, gas.NominalCd, baro, 293.15, 1e3*manifold); has && perArea > 0 {
		for i := range flow {
			hole[i] = gas.Diameter(flow[i] / perArea)
		}
	}
	return flow, hole
}

// figures are the share, the flow and the hole that are known.
func (s purgeShare) figures(r Readings) []Figure {
	out := []Figure{{Name: "share in the trims", Unit: "%", Value: s.is, Low: s.low, High: s.high}}
	if air, ok := r.Mean("air"); ok && s.is < 0 {
		k := -air / stoichiometric / 100
		out = append(out, Figure{Name: "fuel vapour", Unit: "g/s", Value: k * s.is, Low: k * s.high, High: k * s.low})
	}
	flow, hole := s.flow(r)
	if flow[0] == flow[0] {
		out = append(out, Figure{Name: "air through it", Unit: "g/s", Value: 1e3 * flow[0], Low: 1e3 * flow[1], High: 1e3 * flow[2]})
	}
	if hole[0] == hole[0] {
		out = append(out, Figure{Name: "as a hole", Unit: "mm", Value: 1e3 * hole[0], Low: 1e3 * hole[1], High: 1e3 * hole[2]})
	}
	return out
}

// byPressure reports whether the car meters its air by manifold pressure: what a leak lets in is then
// counted, and hardly moves the trims.
func byPressure(s Subject) bool {
	return s.Graph != nil && EngineOf(s.Graph, 0, 0).Metering == trim.SpeedDensity
}

// reducePurge judges by the gauge, then by the trims, then by the idle with the cap off.
func reducePurge(sub Subject, r Readings) Verdict {
	pull, ok := r.Mean("pull")
	share, known := purgeShareOf(r)
	idle, a := r.Mean("idle")
	least, b := r.Mean("least")
	if ok && pull < -pullSure {
		return ask("pull", "%s inH2O is a pressure: a manifold only pulls. Check the sign, and where the gauge is joined.", say(-pull))
	}
	if a && b && least > idle+stumbleBy {
		return ask("least", "%s rpm with the cap off is more than the %s before. Which is the lowest after the cap came off?", say(least), say(idle))
	}
	dropped := a && b && idle-least > stumbleBy
	var v Verdict
	switch {
	case r.Word("engine") == "stalls":
		return is("stalls", "The engine does not keep running.")
	case ok && pull > pullSure:
		v = is("pull", "Pulls %s inH2O while it is told to be shut.", say(pull))
		if known && share.passes() {
			v.Says += " " + share.words() + "."
		}
	case known && share.passes():
		v = is("pull", "%s.", share.words())
		if ok && pull < pullNone {
			v.Says += " The gauge showed no pull: it sticks now and then, or the gauge was not on the open side."
		}
	case dropped, r.Word("cap-off") == "stumbles":
		v = is("stumble", "The engine stumbles with the filler cap off%s: there is a way from the neck to the manifold.", map[bool]string{true: ", from " + say(idle) + " to " + say(least) + " rpm"}[dropped])
	case !ok && known && byPressure(sub):
		v = ask("pull", "The trims hardly tell here: this engine counts its air by manifold pressure, so what passes the valve is counted too. What does the gauge on the open side show at idle? 0 is an answer.")
	case !ok && known:
		v = ask("pull", "The trims do not move surely (%s to %s %%). Air and vapour can cancel in them: what does the gauge on the open side show at idle? 0 is an answer.", say(share.low), say(share.high))
	case !ok:
		return ask("pull", "What does the gauge on the open side show at idle? 0 is an answer.")
	case pull < pullNone:
		v = is("none", "No pull (%s inH2O) while it is told to be shut.", say(pull))
	default:
		v = unsure("A pull of %s inH2O may be the gauge's own. Clamp the purge hose and watch the total trim.", say(pull))
	}
	if known {
		v.Figures = share.figures(r)
	}
	return v
}
