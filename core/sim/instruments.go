package sim

import (
	"maps"
	"math"

	"wexter/core/bench"
	"wexter/core/calc"
	"wexter/core/decay"
	"wexter/core/gas"
	"wexter/core/network"
	"wexter/core/obd"
	"wexter/core/plumbing"
	"wexter/core/units"
)

// sense is an instrument, or an eye, of the technician; false when it cannot be read now.
type sense func(*technician) (bench.Reading, bool)

// number is an instrument that gives one figure.
func number(f func(*technician) float64) sense {
	return func(t *technician) (bench.Reading, bool) {
		v := f(t)
		return bench.Num(v), !math.IsNaN(v)
	}
}

// word is an eye that says one of two things.
func word(yes, no string, f func(*technician) bool) sense {
	return func(t *technician) (bench.Reading, bool) {
		if f(t) {
			return bench.Said(yes), true
		}
		return bench.Said(no), true
	}
}

// meterOpen is what a meter shows as OL when it stands on the range for coils, ohm (common
// practice, no source).
const meterOpen = 10e3

// senses are the instruments by what they give, in the units of the bay. They know no test.
var senses map[bench.Sense]sense

func init() { // they refer to the technician, who refers to them
	senses = partSenses()
	maps.Copy(senses, rigSenses())
	maps.Copy(senses, engineSenses())
	maps.Copy(senses, vapourSenses())
	for _, c := range bench.CircuitWalk.Channels {
		if c.Sense == bench.CircuitSense(c.Key) {
			senses[c.Sense] = circuitSense(c.Key)
		}
	}
}

// partSenses are what is read of a part by itself, and of the scan tool.
func partSenses() map[bench.Sense]sense {
	return map[bench.Sense]sense{
		bench.Codes:        codesRead,
		bench.OpenMonitors: monitorsOpen,
		bench.SupplyVolts:  number(func(t *technician) float64 { return round(t.Volts(), 0.1) }),
		bench.Damage:       damageSeen,

		bench.BenchPressure: number(func(t *technician) float64 { return inWater(math.Max(t.held()+t.noise(gaugeNoise), 0)) }),
		bench.BenchVacuum:   number(func(t *technician) float64 { return round(math.Max(t.held()+t.noise(200), 0)/units.InHg, 0.1) }),
		bench.PartSmoke:     partSmoke,
		bench.PartSeals:     cycles((*technician).sealsOnce),
		bench.PartPasses:    cycles((*technician).passesOnce),
		bench.PartMoves: word("moves", "still", func(t *technician) bool {
			return t.live(t.part) && t.part.get("opening") >= 0.3 && t.part.get("rest") <= 0.05
		}),
		bench.CoilOhms: number((*technician).coil),
	}
}

// rigSenses are what is read at a rig that is joined to the car, and where smoke or air
// comes out.
func rigSenses() map[bench.Sense]sense {
	return map[bench.Sense]sense{
		bench.RigPressure: number(func(t *technician) float64 {
			p := t.RigGauge() + t.noise(gaugeNoise)
			if c := t.unitOf(bench.RigPressure); c != "inH2O" {
				return round(math.Max(math.Abs(p), 0)/units.Must(c, units.Pressure).Factor, 0.05)
			}
			return inWater(p)
		}),
		bench.RigFlow:         number(func(t *technician) float64 { return t.flow(0) }),
		bench.RigFlowBefore:   number(func(t *technician) float64 { return t.flow(60) }),
		bench.RigTrace:        rigTrace,
		bench.RigCameUp:       word(bench.Yes, bench.No, func(t *technician) bool { return t.cameUp }),
		bench.WallTemperature: number(func(t *technician) float64 { return round(t.RigWall()-units.ZeroCelsius, 0.02) }),
		bench.Barometer:       number(func(t *technician) float64 { return round(t.At.Barometer/100, 0.1) }),
		bench.AirTemperature:  number(func(t *technician) float64 { return round(t.At.Ambient-units.ZeroCelsius, 0.5) }),

		bench.SmokeExits:    func(t *technician) (bench.Reading, bool) { return bench.Reading{Places: t.smokeExits()}, true },
		bench.SmokeAtFarEnd: word(bench.Yes, bench.No, (*technician).filled),
		bench.NoSmokeYet:    noSmokeYet,
		bench.AirExits:      airExits,
		bench.AirAtDipstick: word("blows", "none", func(t *technician) bool {
			p, _ := t.Gauge(t.role["crankcase"].Key)
			return p > 1500
		}),
	}
}

// engineSenses are what is read on the running engine.
func engineSenses() map[bench.Sense]sense {
	return map[bench.Sense]sense{
		bench.EngineRuns: word("runs", "stalls", func(t *technician) bool { return !t.stalled }),
		bench.TotalTrim:  number(func(t *technician) float64 { return round(100*t.Unit.Total()+t.noise(0.5), 0.8) }),
		bench.MeteredAir: number(func(t *technician) float64 { return round(t.airFlow()*1000*(1+t.noise(0.01)), 0.01) }),
		bench.ManifoldPressure: number(func(t *technician) float64 {
			p, _ := t.ManifoldPressure()
			return round(p/1000+t.noise(0.2), 1)
		}),
		bench.IdleOver: number(func(t *technician) float64 { return round(t.Engine.Speed-t.target()+t.noise(5), 10) + 0 }), // no minus before zero
		bench.Crankcase: number(func(t *technician) float64 {
			p, _ := t.Gauge(t.role["crankcase"].Key)
			return round((p+t.noise(4))/units.InH2O, 0.05)
		}),
		bench.PurgePull: number(purgePull),
		bench.Stumbles:  word("stumbles", "no", func(t *technician) bool { return t.slowest < t.warm-90 }),
		bench.Recovers: word("recovers", "stays", func(t *technician) bool {
			return !t.Engine.Running || t.Engine.Speed > t.warm-100
		}),
		bench.AirFalls:        word(bench.Yes, bench.No, (*technician).feels),
		bench.DifferenceVolts: number(func(t *technician) float64 { v, _ := t.Difference(); return round(v+t.noise(0.01), 0.02) }),
		bench.GasTemperature:  number(func(t *technician) float64 { v, _ := t.BehindValve(); return round(v-units.ZeroCelsius+t.noise(1), 1) }),
	}
}

// vapourSenses are what is read of the EVAP system, its checks and its sensors.
func vapourSenses() map[bench.Sense]sense {
	return map[bench.Sense]sense{
		bench.TankPressure: number(func(t *technician) float64 {
			p, _ := t.Gauge(t.role["fuel"].Key)
			return inWater(p + t.noise(gaugeNoise))
		}),
		bench.TankVacuum: number(func(t *technician) float64 {
			p, _ := t.Gauge(t.role["fuel"].Key)
			return inWater(-p + t.noise(gaugeNoise))
		}),
		bench.SensorVacuum: sensorVacuum,
		bench.LowestTank:   number(func(t *technician) float64 { return inWater(t.lowest + t.noise(gaugeNoise)) }),
		bench.TankCooled:   number(func(t *technician) float64 { return round(t.parkedAt-t.Fuel, 0.1) }),
		bench.SwitchTime:   switchTime,

		bench.ReliefOpens:   number(func(t *technician) float64 { return t.relief(func(x *piece) float64 { return x.Crack }) }),
		bench.ReliefReseals: number(func(t *technician) float64 { return t.relief(func(x *piece) float64 { return x.Reseal }) }),
		bench.SwitchChanges: number((*technician).switchAt),
		bench.VacuumRelief:  number(func(t *technician) float64 { return inWater(t.lets() + t.noise(10)) }),

		bench.PumpStrokes: number(func(t *technician) float64 { return float64(t.Unit.Strokes) }),
		bench.PumpPause:   number(func(t *technician) float64 { return round(t.Unit.Pause, 0.1) }),
		bench.CheckRan:    word(bench.Yes, bench.No, func(t *technician) bool { _, ran := t.checkShare(); return ran }),
		bench.CheckShare: func(t *technician) (bench.Reading, bool) {
			v, ran := t.checkShare()
			return bench.Num(round(v, 1)), ran
		},
		bench.VentFree: ventFree,

		bench.SensorSupply: number(func(t *technician) float64 { return round(5+t.noise(0.02), 0.01) }),
		bench.SensorZero:   number(func(t *technician) float64 { return inWater(t.part.get("offset") + t.noise(5)) }),
		bench.SensorAtTen: number(func(t *technician) float64 {
			return inWater(t.part.get("offset") + t.part.get("gain")*10*units.InH2O + t.noise(8))
		}),
		bench.PassesForward: word("passes", "shut", func(t *technician) bool { return t.part.get("opening") > 0.3 }),
		bench.HoldsBackward: number(func(t *technician) float64 { return round(math.Max(15-20*t.part.get("reverse"), 0), 0.5) }),
	}
}

// unitOf is the unit in which the test wants what an instrument gives.
func (t *technician) unitOf(s bench.Sense) string {
	for _, c := range t.test.Channels {
		if c.Sense == s {
			return c.Unit
		}
	}
	return ""
}

func codesRead(t *technician) (bench.Reading, bool) {
	var out bench.Reading
	for _, st := range []obd.CodeStatus{obd.Stored, obd.Pending} {
		for _, k := range t.Unit.List(st) {
			if st == obd.Pending && t.Unit.Codes[k].Stored {
				continue
			}
			out.Words = append(out.Words, k+" "+string(st))
		}
	}
	return out, true
}

func monitorsOpen(t *technician) (bench.Reading, bool) {
	var out bench.Reading
	for _, m := range t.monitors() {
		if !t.Unit.Ready[m] {
			out.Words = append(out.Words, m)
		}
	}
	return out, true
}

// damageSeen is what is large enough for the eye: holes from a millimetre and a half.
func damageSeen(t *technician) (bench.Reading, bool) {
	var out bench.Reading
	for _, x := range t.parts {
		if x.get("leak") >= 1.5 && x.Kind != plumbing.Seal {
			out.Places = append(out.Places, bench.Place{Part: x.Key})
		}
	}
	return out, true
}

func partSmoke(t *technician) (bench.Reading, bool) {
	x := t.part
	d := math.Max(math.Max(x.get("leak"), x.get("passes")), math.Max(x.get("reverse"), 0))
	switch {
	case d >= 2:
		return bench.Said("billow"), true
	case d >= 0.8 || x.Rest == plumbing.Shut && x.least() > 0:
		return bench.Said("stream"), true
	case d >= 0.2:
		return bench.Said("wisp"), true
	}
	return bench.Said("none"), true
}

// cycles works a part five times.
func cycles(once func(*technician) bool) sense {
	return func(t *technician) (bench.Reading, bool) {
		const n = 5
		var out bench.Reading
		for range n {
			w := bench.No
			if once(t) {
				w = bench.Yes
			}
			out.Words = append(out.Words, w)
		}
		return out, true
	}
}

// sealsOnce is one cycle in the state in which the part must seal: a valve that is open at
// rest needs what moves it.
func (t *technician) sealsOnce() bool {
	x := t.part
	stuck := t.rng.Float64() < x.get("sticks")
	tight := t.held() > 0.8*math.Abs(t.rigged.at)
	if x.Rest == plumbing.Open {
		return tight && t.shuts(x) && !stuck
	}
	return tight
}

// passesOnce is one cycle in the state in which the part must pass.
func (t *technician) passesOnce() bool {
	x := t.part
	stuck := t.rng.Float64() < x.get("sticks")
	clear := x.get("bore") > 0.3
	if x.Rest == plumbing.Open {
		return clear
	}
	return clear && t.shuts(x) && !stuck
}

// circuitSense is a measure of the part's circuit on the meter, or by eye; not read where its circuit has
// none.
func circuitSense(key string) sense {
	return func(t *technician) (bench.Reading, bool) {
		c := t.part.Wired
		if c == nil {
			return bench.Reading{}, false
		}
		m, ok := c.Measure(key)
		switch {
		case !ok:
			return bench.Reading{}, false
		case m.Unit == "":
			return bench.Said(m.Sound().Key), true
		}
		v := t.Car.measured(t.part, m)
		switch {
		case math.IsInf(v, 1):
		case m.Unit == "ohm":
			v = math.Max(round(v+t.noise(0.2), 0.1), 0)
		case m.Unit == "V":
			v = round(v+t.noise(0.01), 0.01)
		}
		return bench.Num(v), true
	}
}

// coil is the part's circuit on the meter, ohm; OL beyond its range.
func (t *technician) coil() float64 {
	x := t.part
	if x.Kind != plumbing.Valve && x.Role != "leak-pump" || x.By != "" {
		return math.NaN() // it has none
	}
	r := calc.CoilAt(coilOhm, t.At.Ambient) + x.get("resistance")
	if r > meterOpen {
		return math.Inf(1)
	}
	return round(r+t.noise(0.2), 0.1)
}

// flow is the rig's, L/min of free air, averaged as the phase asks, some seconds before now.
func (t *technician) flow(ago float64) float64 {
	n, back := int(t.phase.Mean/t.phase.Every), int(ago/t.phase.Every)
	if n < 1 || len(t.flows) < n+back {
		return math.NaN()
	}
	sum := 0.0
	for _, f := range t.flows[len(t.flows)-n-back : len(t.flows)-back] {
		sum += f / float64(n)
	}
	return round(gas.FreeAir(sum, t.At.Barometer, t.At.Ambient)*60e3*(1+t.noise(0.01)), 0.01)
}

// rigTrace is the log as legs.
func rigTrace(t *technician) (bench.Reading, bool) {
	if !t.cameUp {
		return bench.Reading{}, false
	}
	legs := []decay.Leg{{Kind: decay.Drift}, {Kind: decay.Hold}}
	for _, s := range t.out.Log {
		l := &legs[0]
		if s.Leg == "hold" {
			l = &legs[1]
		}
		l.Time, l.Gauge, l.Wall = append(l.Time, s.Time), append(l.Gauge, s.Pressure), append(l.Wall, s.Wall)
	}
	return bench.Reading{Legs: legs}, true
}

// smokeExits are the places where smoke leaves. At the tail pipe it is expected.
func (t *technician) smokeExits() (out []bench.Place) {
	expected := map[string]bool{"tailpipe": true}
	for _, e := range t.SmokeExits() {
		out = append(out, bench.Place{Part: e.Part, Size: e.Size, Expected: expected[e.Part]})
	}
	return out
}

func (t *technician) filled() bool {
	far := t.find(bench.AtFarEnd)
	return far == nil || t.net.Nodes[far.first].Share(network.Smoke) > 0.3
}

func noSmokeYet(t *technician) (bench.Reading, bool) {
	var out bench.Reading
	for _, x := range t.parts {
		if x.Family == "vapour" && x.Kind == plumbing.Volume && t.net.Nodes[x.first].Share(network.Smoke) < 0.2 && t.net.Nodes[x.first].Pressure()-t.At.Barometer > t.rig.Target/2 {
			out.Places = append(out.Places, bench.Place{Part: x.Key})
		}
	}
	return out, true
}

// airExits are the holes where air is heard or soap foams.
func airExits(t *technician) (bench.Reading, bool) {
	var out bench.Reading
	sum := 0.0
	for _, x := range t.parts {
		if x.hole >= 0 && t.net.Edges[x.hole].Flow > 5e-5 {
			sum += t.net.Edges[x.hole].Flow
			out.Places = append(out.Places, bench.Place{Part: x.Key, Size: exitSize(t.net.Edges[x.hole].Flow)})
		}
	}
	if sum <= 1e-4 {
		out.Places = nil
	}
	return out, true
}

// airFlow is what the meter says, or what the unit works out from speed and density, less
// what a command should let in.
func (t *technician) airFlow() float64 {
	if a, ok := t.MeteredAir(); ok {
		return a
	}
	return t.estimate()
}

// feels reports whether the engine felt the last command.
func (t *technician) feels() bool {
	a, metered := t.MeteredAir()
	m, _ := t.ManifoldPressure()
	return metered && a < 0.9*t.air || m > t.manifold+2000
}

func purgePull(t *technician) float64 {
	x := t.role["purge"]
	if x == nil {
		t.refuse("it has no purge valve that can be commanded")
		return math.NaN()
	}
	return round(math.Max(t.At.Barometer-t.net.Nodes[x.second].Pressure()+t.noise(5), 0)/units.InH2O, 0.1)
}

func sensorVacuum(t *technician) (bench.Reading, bool) {
	p, ok := t.TankPressure()
	if !ok {
		t.refuse("it has no tank pressure sensor")
		return bench.Reading{}, false
	}
	return bench.Num(inWater(-p + t.noise(gaugeNoise))), true
}

func switchTime(t *technician) (bench.Reading, bool) {
	_, has := t.Switch()
	if t.changed > 0 {
		return bench.Num(t.changed), true
	}
	return bench.Num(math.Inf(1)), has
}

// unit is the vent unit's parts, by their kind.
func (t *technician) unit() *ventUnit {
	if u := t.ventUnit(); u != nil {
		return u
	}
	t.refuse("it has no vent unit with reliefs and a switch")
	return &ventUnit{&piece{}, &piece{}, &piece{}}
}

// relief is a pressure of the unit's relief, inH2O. A hand pump gives some 0.5 L/min: a seat
// that passes that much never builds a pressure.
func (t *technician) relief(at func(*piece) float64) float64 {
	x := t.unit().relief
	most := gas.Orifice(1, gas.NominalCd, t.At.Barometer+x.Crack, t.At.Ambient, t.At.Barometer)
	if most*gas.Area(x.get("passes")*1e-3) > 1e-5*0.3 {
		return 0
	}
	return inWater(math.Max(at(x)*x.get("crack")+t.noise(3), 0))
}

// lets is the vacuum at which the unit's vacuum relief opens, Pa.
func (t *technician) lets() float64 {
	x := t.unit().vacuum
	return x.Crack * x.get("crack")
}

// switchAt is the vacuum at which the unit's switch changes, inH2O; +Inf when the vacuum
// relief opens first, or when it sticks.
func (t *technician) switchAt() float64 {
	x := t.unit().sw
	at := math.Abs(x.SwitchAt) * x.get("switch")
	if x.get("sticks") > 0.3 && t.rng.Float64() < x.get("sticks") || at > t.lets() {
		return math.Inf(1)
	}
	return inWater(at + t.noise(5))
}

// checkShare is what the car's own check made of its reference, %, and whether it ran.
func (t *technician) checkShare() (share float64, ran bool) {
	u := &t.Unit
	if t.monitor != "strokes" {
		r, ok := u.Results["share"]
		return r.Value, ok
	}
	p, _ := t.Gauge(t.role["leak-pump"].Key)
	share, ran = 100*p/springPa, u.Strokes > 0
	if r, ok := u.Results["strokes"]; ok {
		ran = ran && r.Value > 0
	}
	if u.Pause > 3.6 {
		return math.Max(share, 100), ran
	}
	return math.Min(share, 99), ran
}

func ventFree(t *technician) (bench.Reading, bool) {
	for _, x := range t.parts {
		if x.Kind == plumbing.Inlet && x.Family == "vapour" {
			if t.net.Edges[x.edge].Area > 8e-6 { // some 3 mm
				return bench.Said("free"), true
			}
			return bench.Said("blocked"), true
		}
	}
	t.refuse("it has no vent path")
	return bench.Reading{}, false
}
