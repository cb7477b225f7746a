package bench

import (
	"fmt"
	"math"

	"gonum.org/v1/gonum/stat"

	"wexter/core/decay"
	"wexter/core/gas"
	"wexter/core/record"
	"wexter/core/units"
)

const makeUpFlow = "make-up-flow"

// reference is the usual orifice of a rig, 0.020 in, m.
const reference = decay.NominalLimit

// Tolerances of a make-up flow, k = 2: what a drilled orifice reads at Cd 0.61 against its size (common
// practice, no source; a drilled 0.508 mm reads 0.54 to 0.58 mm), how straight a meter of the bay
// reads between two flows, what it cannot tell from nothing, and the gas that a wet tank gives off
// or takes (the last three chosen).
const (
	nominalBand   = 0.12 // of the flow
	meterStraight = 0.02 // of the flow, for each e-fold between them
	meterLeast    = 0.02 // L/min
	tankBreathes  = 0.02 // L/min
)

// MakeUpFlow is the flow that keeps a pressure in the sealed system. The limit is what the
// rig's own orifice reads at the same pressure; without it the limit is nominal, and the band
// in which nobody can tell is as wide as real orifices differ from it.
var MakeUpFlow = Register(Test{
	Key:  makeUpFlow,
	On:   SealedSystem,
	Odds: FromFlow,
	Channels: []Channel{
		{Key: "flow", Unit: "L/min", Low: 0, High: 200, Sense: RigFlow},
		{Key: "pressure", Unit: "inH2O", Low: 1, High: 30, Sense: RigPressure},
		{Key: "reference", Unit: "L/min", Low: 0.01, High: 50, Optional: true},
		{Key: "before", Unit: "L/min", Low: 0, High: 200, Sense: RigFlowBefore, Optional: true},
		{Key: "reference-at", Unit: "inH2O", Low: 1, High: 30, Optional: true},
		{Key: "orifice", Unit: "mm", Low: 0.1, High: 3, Optional: true},
		{Key: "rig", Unit: "L/min", Low: 0, High: 50, Optional: true},
		{Key: "air", Unit: "°C", Low: -40, High: 60, Sense: AirTemperature, Optional: true},
	},
	Phases:  []Phase{{Do: []Step{{Do: Seal}, {Do: Hold, Value: flowAt * units.InH2O}}, For: 240, Every: 1, Mean: 30, Read: []string{"flow", "pressure", "before"}}},
	Live:    Live{Stretches: flowStretches, Watch: newFlowWatch, Looks: []record.RunKind{record.RunRig, record.RunReference}},
	Picture: func(s Subject, r Readings) Scene { return flowPicture(r) },
	Reduce:  reduceFlow,
})

// flowAt is the pressure at which a make-up flow is read, inH2O.
const flowAt = 10.0

func reduceFlow(_ Subject, r Readings) Verdict {
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
	own, alone := r.Mean("rig")
	if !alone {
		own = 0
	}
	ref, size, measured := rigOrifice(r, at)
	if measured && ref-own < 0.02 {
		return ask("reference", "The orifice reads %s L/min and the rig without it %s: was it open? Read it again.", say(ref), say(own))
	}
	if own > 0 && own > 0.5*ref {
		return ask("rig", "The rig by itself takes %s L/min, where its orifice takes %s: it leaks. Mend hoses and adapters first.", say(own), say(ref))
	}
	net, limit := math.Max(flow-own, 0), ref-own
	whose := fmt.Sprintf("a nominal %.2f mm orifice", size*1e3)
	if measured {
		whose = "the rig's own orifice"
	}
	f := flowHole(net, limit, size, measured)
	most := thinned(r)
	f.Value, f.High = f.Value*math.Pow(most, usuallyThinned), f.High*most
	v := unsure("%s L/min against %s L/min through %s: too near to tell. Over fuel the gas is heavy and the fuel makes up part of the flow, so the hole may be up to %.2f mm: a vacuum hold settles it.", say(net), say(limit), whose, f.High)
	switch {
	case f.Low > size*1e3:
		v = is("above", "%s L/min against %s L/min through %s: the hole is larger, about %s mm.", say(net), say(limit), whose, say(f.Value))
	case f.High < size*1e3:
		v = is("below", "%s L/min against %s L/min through %s: less than its size, about %s mm.", say(net), say(limit), whose, say(f.Value))
	}
	v.Figures = []Figure{f}
	return v
}

// rigOrifice is what the rig's own orifice takes at a pressure, L/min, and its size, m. Where it was
// not measured it is what a nominal one takes.
func rigOrifice(r Readings, at float64) (flow, size float64, measured bool) {
	size = reference
	if mm, ok := r.Mean("orifice"); ok {
		size = mm * 1e-3
	}
	flow, measured = r.Mean("reference")
	if !measured {
		return OrificeFlow(size, at), size, false
	}
	if p, ok := r.Mean("reference-at"); ok { // read at another pressure, it is brought to this one
		flow *= OrificeFlow(size, at) / OrificeFlow(size, p)
	}
	return flow, size, true
}

// flowHole is the hole through which as much goes as was read, by the orifice beside it: the
// equivalent at that orifice's size.
func flowHole(net, limit, size float64, measured bool) Figure {
	d := func(q float64) float64 { return size * 1e3 * math.Sqrt(math.Max(q, 0)/limit) }
	share := meterStraight * math.Max(1, math.Abs(math.Log(math.Max(net, meterLeast)/limit)))
	if measured {
		share = math.Hypot(share, meterLeast/limit)
	} else {
		share = math.Hypot(share, nominalBand)
	}
	off := math.Hypot(math.Hypot(meterLeast, tankBreathes), share*net)
	return Figure{Name: "equivalent orifice", Unit: "mm", Value: d(net), Low: d(net - off), High: d(net + off)}
}

// usuallyThinned is which power of the limit is taken for the likeliest: the air that is blown in
// sweeps most of the vapour away (chosen).
const usuallyThinned = 0.25

// thinned is by how much larger than it reads a hole may be, because the gas over the fuel is no air:
// what leaves is heavier and goes slower, and the fuel gives off part of what leaves. The limit is
// gas that is saturated at the air's temperature (gasoline of 62 kPa by the Reid method: EPA AP-42,
// section 7.1, and its 68 g/mol; values from memory). Where the temperature is not known it is taken
// for 20 °C.
func thinned(r Readings) float64 {
	const reid, air, vapour = 62e3, 28.97, 68.0
	at := 20.0
	if v, ok := r.Mean("air"); ok {
		at = v
	}
	y := math.Min(gas.GasolineVapour(reid, at+units.ZeroCelsius)/gas.StandardPressure, 0.9)
	heavier := (air + y*(vapour-air)) / air
	return 1 / math.Sqrt((1-y)/math.Sqrt(heavier))
}

// OrificeFlow is the free air through a sharp orifice (m) at a gauge pressure (inH2O), in
// L/min, at standard barometer and 20 °C.
func OrificeFlow(d, inH2O float64) float64 {
	const p, t = gas.StandardPressure, 293.15
	return gas.FreeAir(gas.Orifice(gas.Area(d), gas.NominalCd, p+inH2O*units.InH2O, t, p), p, t) * 60e3
}

// Times of a make-up flow, s.
const (
	plugSeconds    = 20.0 // the rig plugged
	orificeSeconds = 30.0 // its orifice open
	flowLeast      = 75.0 // the car, at least
	flowMeans      = 30.0 // over which the flow is averaged
)

// flowStretches are the rig by itself, its orifice, and the car.
func flowStretches(k Known) []Stretch {
	hold := []Step{{Do: Hold, Value: flowAt * units.InH2O}}
	at := both(flowAt * units.InH2O)
	before := func(hand, from string) string { return k.beginsWith(hold, hand, from) }
	t, _ := Of(makeUpFlow)
	car := t.phaseStretches(k)[0]
	car.Name, car.Detail = "Flow into the car", "at "+at+", until it stands still"
	car.Stand = []Step{{Do: RigOnCar}, {Do: ShutOrifice}}
	car.Before = before("seal the system, join the rig, regulator at "+at+".", "the sealed system is brought to "+at+" and kept there.")
	return []Stretch{
		{Key: record.RunRig, Name: "Rig plugged", Detail: "what it takes by itself", Stand: []Step{{Do: ShutOrifice}, {Do: PlugRig}}, Do: hold, For: plugSeconds, Rests: true, Done: k.In[record.RunRig],
			Before: before("plug the rig's end, orifice shut, regulator at "+at+".", "the plugged rig is brought to "+at+": what it takes is its own leak, and the meter's zero.")},
		{Key: record.RunReference, Name: "Reference orifice", Detail: "the limit is what it reads", Stand: []Step{{Do: PlugRig}, {Do: OpenOrifice}}, Do: hold, For: orificeSeconds, Rests: true, Leave: []Step{{Do: ShutOrifice}},
			Done: k.In[record.RunReference], Before: before("rig plugged, its orifice open, regulator at "+at+".", "the flow through the rig's own orifice at "+at+".")},
		car,
	}
}

// flowWatch watches a flow until it stands still.
type flowWatch struct {
	*phaseWatch
	known Known
}

func newFlowWatch(k Known, s Stretch, cols record.Channels) Watcher {
	t, _ := Of(makeUpFlow)
	return &flowWatch{phaseWatch: newPhaseWatch(t, s, cols), known: k}
}

// Take takes a reading; the car's flow ends early when it has stood still.
func (w *flowWatch) Take(t float64, row []float64) Heard {
	h := w.phaseWatch.Take(t, row)
	if w.stretch.Key != phaseKey(0) || t < flowLeast || h.Ends != "" {
		return h
	}
	if now, was, ok := w.steady(t); ok && math.Abs(now-was) < math.Max(0.02*now, 0.5*meterLeast) {
		return Heard{Mark: "stands still", At: t, Ends: fmt.Sprintf("The flow stands still at %s L/min.", say(now))}
	}
	return h
}

// steady are the mean flows of the last span and of the one a minute before the end, L/min.
func (w *flowWatch) steady(t float64) (now, was float64, ok bool) {
	a, _, n := w.mean(string(record.RigFlowing), t-flowMeans, t)
	b, _, m := w.mean(string(record.RigFlowing), t-60-flowMeans/2, t-60+flowMeans/2)
	return a * 60e3, b * 60e3, min(n, m) > 5
}

// mean is the mean of a column between two times, with the standard error that its blocks of a
// sixth of that span give: neighbours are not independent.
func (w *flowWatch) mean(key string, from, to float64) (mean, se float64, n int) {
	t, v := Past{Cols: w.cols, Table: w.kept}.Column(key)
	var all []float64
	blocks := make([][]float64, 6)
	for i, x := range t {
		if x <= from || x > to {
			continue
		}
		all = append(all, v[i])
		k := min(int(6*(x-from)/(to-from)), 5)
		blocks[k] = append(blocks[k], v[i])
	}
	if len(all) == 0 {
		return math.NaN(), math.NaN(), 0
	}
	var means []float64
	for _, b := range blocks {
		if len(b) > 0 {
			means = append(means, stat.Mean(b, nil))
		}
	}
	return stat.Mean(all, nil), stat.StdErr(stat.StdDev(means, nil), float64(len(means))), len(all)
}

// State says what to do meanwhile.
func (w *flowWatch) State() State {
	s := w.phaseWatch.State()
	switch w.stretch.Key {
	case record.RunRig:
		s.Now = "Rig plugged: what it takes by itself."
	case record.RunReference:
		s.Now = "The reference orifice alone."
	default:
		s.Now = fmt.Sprintf("Filling, then settling. It ends by itself when the flow has stood still for %.0f s.", flowMeans)
	}
	return s
}

// Told is what the stretch gives: of rig and orifice the second half of it.
func (w *flowWatch) Told() Told {
	end := w.kept.Last()
	from := end - flowMeans
	if w.stretch.Key != phaseKey(0) {
		from = end - 0.5*w.stretch.For
	}
	q, se, n := w.mean(string(record.RigFlowing), from, end)
	p, _, m := w.mean(string(record.GaugePressure), from, end)
	if w.kept.Len() == 0 || min(n, m) < 3 {
		return Told{Says: "Nothing was read yet.", Readings: Readings{}}
	}
	q, se, p = q*60e3, se*60e3, p/units.InH2O
	out := Told{Readings: Readings{}}
	flow := math.Max(round3(q), 0)
	switch w.stretch.Key {
	case record.RunRig:
		out.Readings["rig"] = Num(flow)
		out.Says = fmt.Sprintf("The rig by itself takes %s L/min.", say(flow))
		if p < 0.7*flowAt {
			out.Says = fmt.Sprintf("The plugged rig comes only to %s inH2O and takes %s L/min: it is not plugged, or leaks wide. Mend it first.", say(p), say(flow))
		}
	case record.RunReference:
		out.Readings["reference"], out.Readings["reference-at"] = Num(flow), Num(round3(p))
		if d := w.known.Orifice; d > 0 {
			out.Readings["orifice"] = Num(round3(d * 1e3))
		}
		out.Says = fmt.Sprintf("The orifice takes %s L/min at %s inH2O.", say(flow), say(p))
		if own, ok := w.known.Read.Mean("rig"); ok && flow < own+math.Max(0.05, 4*se) {
			out.Says = fmt.Sprintf("The flow is that of the plugged rig, %s L/min: the orifice is not open, or clogged.", say(flow))
		}
	default:
		_, was, ok := w.steady(end)
		if !ok || end < flowLeast { // it fills, or settles
			break
		}
		out.Readings["flow"], out.Readings["pressure"], out.Readings["before"] = Num(flow), Num(round3(p)), Num(math.Max(round3(was), 0))
		if p < 0.7*flowAt {
			out.Says = fmt.Sprintf("Only %s inH2O: the supply does not keep up. The hole is large, or something is not sealed.", say(p))
		}
	}
	return out
}

func round3(v float64) float64 { return math.Round(v*1e3)/1e3 + 0 }

// FlowScene is the picture of a make-up flow: the rig with its meter, and what took how much.
type FlowScene struct {
	Now, Pressure         float64 // L/min and Pa of this moment; NaN: none is read
	Rig, Orifice, Car     float64 // L/min; NaN: not read yet
	Size                  float64 // of the orifice, m
	AtPlug, AtOrifice, On bool    // where the rig stands: plugged, its orifice open, on the car
}

func (FlowScene) scene() {}

// flowPicture is a make-up flow by its readings.
func flowPicture(r Readings) FlowScene {
	s := FlowScene{Now: math.NaN(), Pressure: math.NaN(), Rig: math.NaN(), Orifice: math.NaN(), Car: math.NaN(), Size: reference}
	for key, to := range map[string]*float64{"rig": &s.Rig, "reference": &s.Orifice, "flow": &s.Car} {
		if v, ok := r.Mean(key); ok {
			*to = v
		}
	}
	if mm, ok := r.Mean("orifice"); ok {
		s.Size = mm * 1e-3
	}
	return s
}

// Picture is the rig of this moment.
func (w *flowWatch) Picture() Scene {
	s := flowPicture(w.known.Read.With(w.Told().Readings))
	past := Past{Cols: w.cols, Table: w.kept}
	if _, v := past.Column(string(record.RigFlowing)); len(v) > 0 {
		s.Now = v[len(v)-1] * 60e3
	}
	if _, v := past.Column(string(record.GaugePressure)); len(v) > 0 {
		s.Pressure = v[len(v)-1]
	}
	s.AtPlug, s.AtOrifice, s.On = w.stretch.Key == record.RunRig, w.stretch.Key == record.RunReference, w.stretch.Key == phaseKey(0)
	return s
}
