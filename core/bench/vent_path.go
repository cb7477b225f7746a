package bench

import (
	"fmt"
	"math"

	"gonum.org/v1/gonum/stat"

	"wexter/core/gas"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/units"
)

const ventPath = "vent-path"

// Limits of a vent path (common practice, no source, where nothing else is said). A pump gives at most
// 10 US gallons a minute (40 CFR 80.22 (j), 1993, value from memory), and that much gas must leave the tank
// meanwhile: where it takes more than 6 inH2O the nozzle shuts off, below 3 it does not.
const (
	fillFlow            = 10 * 3.785411784e-3 / 60 // m³/s
	fillFree, fillShuts = 3.0, 6.0                 // inH2O
	usualHead           = 0.3                      // m of water above the hose's end
	gravity             = 9.80665                  // m/s²
	pathWithin          = 0.25                     // by which such a drop may be off: hoses are no orifices
)

// VentPath is whether the tank can breathe: by a bulb and the eye, by the drop along it against the flow,
// by water that runs through it, by what the tank does while it is purged, and at the filling station.
var VentPath = Register(Test{
	Key:  ventPath,
	Odds: FromPlant,
	Channels: []Channel{
		{Key: "free", Kind: Choice, Words: []string{"free", "blocked"}, Sense: VentFree, Optional: true},
		{Key: "vacuum", Unit: "inH2O", Low: -30, High: 410, Sense: TankVacuum, Optional: true},
		{Key: "flow", Unit: "L/min", Low: 0, High: 200, Sense: RigFlow, Optional: true, Fields: 4},
		{Key: "drop", Unit: "inH2O", Low: -1, High: 60, Sense: RigPressure, Optional: true, Fields: 4},
		{Key: "rig-flow", Unit: "L/min", Low: 0, High: 200, Sense: RigFlow, Optional: true},
		{Key: "rig-drop", Unit: "inH2O", Low: -1, High: 60, Sense: RigPressure, Optional: true},
		{Key: "litres", Unit: "L", Low: 0.05, High: 20, Optional: true},
		{Key: "seconds", Unit: "s", Low: 0, High: 3600, Optional: true},
		{Key: "head", Unit: "cm", Low: 1, High: 300, Optional: true},
		{Key: "refuel", Kind: Choice, Words: []string{"runs", "clicks"}, Optional: true},
	},
	Phases: []Phase{
		{Read: []string{"free"}},
		{Do: []Step{{Do: Warm}, {Do: Fast}}, For: 60, Read: []string{"vacuum"}},
	},
	Live:    Live{Stretches: pathStretches, Watch: newPathWatch},
	Picture: pathPicture,
	Reduce:  reducePath,
})

// passage is what a vent path lets through.
type passage struct {
	area  float64 // m², of an opening with [gas.NominalCd] that lets as much through
	needs float64 // inH2O that it takes at the flow of a pump
	by    string  // how that was found
}

// passageOf is the path as air or water went through it; false where neither was read, and why then says
// what is wrong, or nothing.
func passageOf(r Readings) (p passage, why Verdict, ok bool) {
	flow, drop := r["flow"].Numbers, r["drop"].Numbers
	litres, a := r.Mean("litres")
	seconds, b := r.Mean("seconds")
	switch {
	case len(flow) != len(drop) && len(flow)+len(drop) > 0:
		return p, ask("drop", "%d flows and %d pressures were read. Read both at each step.", len(flow), len(drop)), false
	case len(flow) > 0:
		return passageByAir(r, flow, drop)
	case a && b && seconds <= 0:
		return p, ask("seconds", "How many seconds did the water take?"), false
	case a && b:
		head := usualHead
		if h, has := r.Mean("head"); has {
			head = h / 100
		}
		p = passage{area: litres / 1e3 / seconds / (gas.NominalCd * math.Sqrt(2*gravity*head)), by: fmt.Sprintf("%s L of water ran through in %s s", say(litres), say(seconds))} // Torricelli
	case a != b:
		return p, ask(map[bool]string{true: "seconds", false: "litres"}[a], "How many litres of water, in how many seconds?"), false
	default:
		return p, why, false
	}
	p.needs = needsAt(p.area)
	return p, why, true
}

// passageByAir takes the opening from the steps: each gives one, and the steps with most flow tell most.
// What the rig's own hose takes goes with the square of the flow, and is taken off.
func passageByAir(r Readings, flow, drop []float64) (p passage, why Verdict, ok bool) {
	var areas, weights []float64
	most, at := -1.0, 0.0
	open, a := r.Mean("rig-flow")
	own, b := r.Mean("rig-drop")
	known := a && b && open > 0
	for i := range flow {
		took := drop[i]
		if known {
			took -= own * (flow[i] / open) * (flow[i] / open)
		}
		if flow[i] > most {
			most, at = flow[i], took
		}
		pa := math.Max(took, math.Max(0.02, 0.1*(drop[i]-took))) * units.InH2O // a gauge, and a difference, do not tell less
		areas = append(areas, flow[i]/60e3/(gas.NominalCd*math.Sqrt(2*pa/airDensity)))
		weights = append(weights, flow[i])
	}
	switch {
	case stat.Mean(drop, nil) < -0.1:
		return p, ask("drop", "A vacuum where a pressure is meant: press air in at the hose's canister end."), false
	case most < 0.05 && at < 0.2:
		return p, ask("flow", "Neither air nor pressure: is the regulator open, and the rig on the hose?"), false
	case most < 2 && at < 1:
		return p, ask("flow", "%s L/min at %s inH2O tells nothing of 38 L/min. Bring it to 2 inH2O, or to ten litres a minute.", say(most), say(at)), false
	}
	p.area = stat.Mean(areas, weights)
	if most < 0.05 {
		p.area = 0
	}
	p.needs, p.by = needsAt(p.area), fmt.Sprintf("%s L/min of air take %s inH2O", say(most), say(math.Max(at, 0)))
	if !known && most >= 0.05 && p.needs > fillFree { // the rig's own hose may be what takes it
		return p, ask("rig-drop", "%s. How much of that is the rig's own hose? Read its pressure at about the same flow with the hose's end open to the air.", p.words()), false
	}
	return p, why, true
}

// airDensity is that of air at 20 °C and one atmosphere, kg/m³ (ideal-gas law).
const airDensity = 1.204

// needsAt is the pressure that the gas of a pump's flow takes through an opening, inH2O (Bernoulli).
func needsAt(area float64) float64 {
	if area <= 0 {
		return math.Inf(1)
	}
	v := fillFlow / (gas.NominalCd * area)
	return airDensity / 2 * v * v / units.InH2O
}

// words says what the path lets through.
func (p passage) words() string {
	if math.IsInf(p.needs, 1) {
		return p.by + ": nothing passes"
	}
	return fmt.Sprintf("%s, as through %s mm: a pump's 38 L/min would take %s inH2O", p.by, say(gas.Diameter(p.area)*1e3), say(p.needs))
}

// figures are the opening and what a pump's flow takes.
func (p passage) figures() []Figure {
	d := gas.Diameter(p.area) * 1e3
	low, high := p.needs*(1-2*pathWithin), p.needs*(1+2*pathWithin)
	if math.IsInf(p.needs, 1) {
		return nil
	}
	return []Figure{{Name: "as an opening of", Unit: "mm", Value: d, Low: d * (1 - pathWithin/2), High: d * (1 + pathWithin/2)}, {Name: "at 38 L/min", Unit: "inH2O", Value: p.needs, Low: low, High: high}}
}

// reducePath judges by what was measured first, then by bulb and eye.
func reducePath(s Subject, r Readings) Verdict {
	vacuum, has := r.Mean("vacuum")
	most := pullsMost(s)
	p, why, measured := passageOf(r)
	w, refuel := r.Word("free"), r.Word("refuel")
	var v Verdict
	switch {
	case why.Says != "":
		return why
	case measured && p.needs > fillShuts:
		v = is("blocked", "%s. A nozzle shuts off at less.", p.words())
	case has && vacuum > most+0.3:
		v = is("blocked", "The tank pulls %s inH2O while it is purged: air does not get in.", say(vacuum))
	case w == "blocked" && measured && p.needs < fillFree:
		v = ask("free", "The bulb does not blow through, and yet %s. Try the bulb again.", p.words())
	case w == "blocked":
		v = is("blocked", "The bulb does not blow through.")
	case w == "" && !has && !measured && refuel == "clicks":
		v = ask("free", "The nozzle clicks off: the gas cannot leave. Does the bulb blow through the vent hose and its filter?")
	case w == "" && !has && !measured:
		return ask("free", "Does the bulb blow through the vent hose and its filter?")
	case has && vacuum > most-0.3:
		v = unsure("%s inH2O of tank vacuum while purging lies at the limit. Look into the filter.", say(vacuum))
	case measured && p.needs > fillFree:
		v = unsure("%s, which lies between free and blocked. Look into the filter.", p.words())
	case measured:
		v = is("free", "%s: free.", p.words())
	default:
		v = is("free", "The vent path is free%s.", map[bool]string{true: ", and the tank pulls only " + say(vacuum) + " inH2O while it is purged"}[has])
	}
	if measured {
		v.Figures = p.figures()
	}
	switch {
	case refuel == "clicks" && v.Outcome == "free":
		v.Says += " The nozzle clicks off all the same: look at the fill-limit valve on the tank top, the unit's pressure relief, and fuel in the canister."
	case refuel == "runs" && v.Outcome == "blocked":
		v.Says += " The nozzle runs through all the same: it was tried with a tank that was not full, or the tank breathes another way."
	}
	return v
}

// pullsMost is the vacuum at which a tank that is purged counts as not breathing, inH2O (2.8 where it breathes
// in freely). One that breathes in through a weight only stands at what lifts the weight.
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

// Stretches of a vent path: air pressed through it, and the tank while it is purged.
var (
	pathAir   = phaseKey(0)
	pathPurge = phaseKey(1)
	pathRig   = phaseKey(2)
)

// pathStretches are what the instruments at hand can read.
func pathStretches(k Known) (out []Stretch) {
	has := func(q record.Quantity) bool { return k.Has == nil || k.Has(string(q)) }
	if has(record.RigFlowing) {
		out = append(out, Stretch{Key: pathRig, Name: "The rig's own hose", Detail: "its end open to the air", Judged: true, Rests: true, Done: k.In[pathRig], For: 15, Read: []string{"rig-flow", "rig-drop"}, Large: string(record.RigFlowing),
			Stand:  []Step{{Do: Regulate, At: "", Value: 3 * units.InH2O}},
			Before: "The hose's end open to the air. Start; regulator up to the flow at which the path is to be tried: what the hose itself takes is taken off."},
			Stretch{Key: pathAir, Name: "Air through the path", Detail: "the drop along it, step by step", Judged: true, Rests: true, Done: k.In[pathAir], Read: []string{"flow", "drop"}, Large: string(record.RigFlowing),
				Stand:  []Step{{Do: Put, At: "vent-hose", State: plumbing.Plugged}, {Do: Regulate, At: "vent-hose", Value: 3 * units.InH2O}},
				Before: "Vent hose off at the canister, rig on the hose's end; the canister's port stays open. Vent valve open. Start; regulator up from zero to 3 inH2O, and stop a few seconds at some steps."})
	}
	t, _ := Of(ventPath)
	p := t.Phases[1]
	out = append(out, Stretch{Key: pathPurge, Name: "While it is purged", Detail: "2500 rpm, warm, gauge on the tank side", Do: p.Do, For: p.For, Judged: true, Rests: true, Maybe: has(record.RigFlowing), Done: k.In[pathPurge], Read: p.Read,
		Before: "Everything joined again, a gauge on the service port. Start, then warm at 2500 rpm for a minute: the tank must not pull."})
	return out
}

// pathWatch takes the steps of flow and pressure.
type pathWatch struct {
	*phaseWatch
	known Known
}

func newPathWatch(k Known, s Stretch, cols record.Channels) Watcher {
	t, _ := Of(ventPath)
	if s.Key != pathAir {
		return newPhaseWatch(t, s, cols)
	}
	return &pathWatch{newWholeWatch(t, s, cols), k}
}

// steps are the flows with the pressures that went with them, L/min and inH2O: up to four, spread over what
// was tried, of readings in which the pressure stood.
func (w *pathWatch) steps() (flow, drop []float64) {
	past := Past{Cols: w.cols, Table: w.kept}
	tf, f := past.Column(string(record.RigFlowing))
	tp, pa := past.Column(string(record.GaugePressure))
	if len(f) < 5 || len(pa) < 5 {
		return nil, nil
	}
	p := at(tf, tp, pa)
	most := 0.0
	for i := range f {
		most = math.Max(most, f[i])
	}
	const steps = 4
	type bin struct{ n, f, p float64 }
	var bins [steps]bin
	for i := range f {
		k := max(i-5, 0)
		if math.Abs(p[i]-p[k]) > 0.1*units.InH2O+0.05*math.Abs(p[i]) || math.Abs(f[i]-f[k]) > 0.04*f[i] || f[i] < 0.02*most {
			continue // it moved
		}
		b := &bins[min(int(steps*f[i]/math.Max(most, 1e-12)), steps-1)]
		b.n, b.f, b.p = b.n+1, b.f+f[i], b.p+p[i]
	}
	for _, b := range bins {
		if b.n >= 3 {
			flow, drop = append(flow, math.Round(b.f/b.n*60e3*100)/100), append(drop, math.Round(b.p/b.n/units.InH2O*100)/100)
		}
	}
	if n := len(f); len(flow) == 0 && tf[n-1]-tf[0] > 10 { // it never stood, or nothing passes: what there is at the end
		from := max(n-10, 0)
		flow, drop = []float64{math.Round(stat.Mean(f[from:], nil)*60e3*100) / 100}, []float64{math.Round(stat.Mean(p[from:], nil)/units.InH2O*100) / 100}
	}
	return flow, drop
}

// State says how far it was brought.
func (w *pathWatch) State() State {
	s := w.phaseWatch.State()
	flow, drop := w.steps()
	if n := len(flow); n == 0 {
		s.Now = "Regulator slowly up; stop a few seconds at some steps, to 3 inH2O or as far as it goes."
	} else {
		s.Now = fmt.Sprintf("%s L/min at %s inH2O. Go on to 3 inH2O, or as far as the rig goes; then go on.", say(flow[n-1]), say(drop[n-1]))
	}
	return s
}

// Told are the steps.
func (w *pathWatch) Told() Told {
	out := Told{Readings: Readings{}}
	if flow, drop := w.steps(); len(flow) > 0 {
		out.Readings["flow"], out.Readings["drop"] = Num(flow...), Num(drop...)
	}
	return out
}

// PathScene is the picture of a vent path: what went through it, and what a pump's flow would take.
type PathScene struct {
	Flow, Drop []float64 // L/min, inH2O
	Opening    float64   // mm; NaN: not known
	Needs      float64   // inH2O at the flow of a pump; NaN, or +Inf
	Free, Shut float64   // inH2O: below the first a nozzle runs, above the second it shuts off
	FillFlow   float64   // L/min
}

func (PathScene) scene() {}

// pathPicture is a path by its readings; nil where nothing went through it.
func pathPicture(_ Subject, r Readings) Scene {
	p, _, ok := passageOf(r)
	if !ok {
		return nil
	}
	return PathScene{Flow: r["flow"].Numbers, Drop: r["drop"].Numbers, Opening: gas.Diameter(p.area) * 1e3, Needs: p.needs, Free: fillFree, Shut: fillShuts, FillFlow: fillFlow * 60e3}
}

// Picture is the path of this moment.
func (w *pathWatch) Picture() Scene {
	return pathPicture(w.known.Subject, w.known.Read.With(w.Told().Readings))
}
