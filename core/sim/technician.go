package sim

import (
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"strings"

	"wexter/core/bench"
	"wexter/core/decay"
	"wexter/core/gas"
	"wexter/core/knowledge"
	"wexter/core/network"
	"wexter/core/plumbing"
	"wexter/core/units"
)

// Sample is one line of the log of a test.
type Sample struct {
	Leg      string
	Time     float64 // s in the leg
	Pressure float64 // Pa gauge, with the gauge's noise
	Wall     float64 // K
}

// Trial is a test of the Book done on a simulated car: what its instruments showed, and what
// it was done on. What that means is for [bench.Judge] to say.
type Trial struct {
	Test     string
	On       bench.Subject
	Readings bench.Readings
	Log      []Sample
}

// Gauge that trials read with: noise and resolution of a fair pressure module, chosen here.
const (
	gaugeNoise = 2.5 // Pa
	gaugeStep  = 1.0
)

// technician runs the phases of a test on a car, and reads its instruments.
type technician struct {
	*Car
	book  knowledge.Book
	entry knowledge.Test
	test  bench.Test
	part  *piece // the part in question
	plug  string // of a hold: the line that is plugged
	rng   *rand.Rand
	out   Trial
	saved error // of the network
	wrong error // the test cannot be done on this car

	stalled  bool    // the engine was to run and does not
	warm     float64 // rpm at warm idle
	phase    bench.Phase
	looks    int       // of the present phase
	flows    []float64 // kg/s, one a look
	slowest  float64   // rpm, since it was warm
	lowest   float64   // Pa gauge in the tank, since the car was parked
	changed  float64   // min until the switch changed; 0 not yet
	parkedAt float64   // K of the fuel when the car was parked
	air      float64   // kg/s before the last command
	manifold float64   // Pa before the last command
	cameUp   bool
	rigged   *benchRig
	foresees *Forecast // what is watched meanwhile; nil: nothing
	step     int       // the phase that is done now
}

// benchRig is a part by itself on a small volume with a gauge.
type benchRig struct {
	net  *network.Net
	node int
	at   float64 // Pa gauge that it was brought to
}

func (t *technician) run(s float64) {
	for t.saved == nil && s > 0 {
		h := s
		if t.foresees.looks(t.step) {
			h = math.Min(s, t.foresees.Every)
		}
		t.saved = t.Run(h)
		t.foresees.see(t, h)
		s -= h
	}
}

func (t *technician) noise(sd float64) float64 { return sd * t.rng.NormFloat64() }

func (t *technician) refuse(format string, a ...any) {
	if t.wrong == nil {
		t.wrong = fmt.Errorf(format, a...)
	}
}

// Try does a test of the Book on a fresh car (made by NewCar, with its faults applied) and
// returns what its instruments would show. Part is the one in question where a test takes
// one by itself; empty picks the part the faults of this car are in, or a usual one. For a
// hold it is a line with a plug point, which is plugged.
func Try(c *Car, b knowledge.Book, key, part string) (Trial, error) {
	return try(c, b, trial{test: key, part: part})
}

// trial is a test that is to be done, of a part, and what is watched meanwhile.
type trial struct {
	test, part string
	foresees   *Forecast
	instead    []bench.Phase // what is done in place of the test's phases; nil: those
}

func try(c *Car, b knowledge.Book, x trial) (Trial, error) {
	key, part := x.test, x.part
	entry, ok := b.Test(key)
	if !ok {
		var keys []string
		for _, t := range b.Tests {
			keys = append(keys, t.Key)
		}
		return Trial{}, fmt.Errorf("there is no test %q; there are %s", key, strings.Join(keys, ", "))
	}
	if !entry.Fits(c.Combination) {
		return Trial{}, fmt.Errorf("test %q is not for a car with %v%s", key, c.Combination, only(entry))
	}
	test, ok := bench.Of(key)
	if !ok || len(test.Phases) == 0 {
		return Trial{}, fmt.Errorf("test %q has no phases that the simulated technician could run: it is judged by hand", key)
	}
	if x.instead != nil {
		test.Phases = x.instead
	}
	t := &technician{foresees: x.foresees, Car: c, book: b, entry: entry, test: test, rng: rand.New(rand.NewPCG(c.At.Seed, 11)),
		out: Trial{Test: key, Readings: bench.Readings{}, On: bench.Subject{Of: c.Combination, Graph: c.Graph}}}
	if p, ok := c.Graph.Part(part); ok && p.Plug != "" && test.Odds == bench.FromHole {
		t.plug = part
	}
	if err := t.pick(part); err != nil {
		return Trial{}, err
	}
	for i, p := range test.Phases {
		if x.foresees != nil && i > x.foresees.Phase {
			break
		}
		t.step = i
		if t.run1(p); t.wrong != nil {
			return Trial{}, fmt.Errorf("test %q on this car: %w", key, t.wrong)
		}
		if p.Stops && t.stalled {
			break
		}
	}
	return t.out, t.saved
}

// Foresee does a test on a fresh car, as [Try] does, up to a phase, and fills in what an instrument
// would show during it.
func Foresee(c *Car, b knowledge.Book, test, part string, f *Forecast) error {
	if !Foresees(f.Column) || f.Phase < 0 || math.IsNaN(f.Every) || f.Every < 0.05 {
		return fmt.Errorf("column %q, phase %d, every %g s cannot be foreseen", f.Column, f.Phase, f.Every)
	}
	_, err := try(c, b, trial{test: test, part: part, foresees: f})
	return err
}

// settles is how long a warm engine idles before a stretch whose course is foreseen, s: its trims are learned by then.
const settles = 60.0

// ForeseeToggled does a stretch of a test on a fresh car, switching what it switches when it asks for it, and fills in
// what an instrument would show from its beginning.
func ForeseeToggled(c *Car, b knowledge.Book, test string, st bench.Stretch, f *Forecast) error {
	if !Foresees(f.Column) || len(st.Toggle.Asked) == 0 || math.IsNaN(f.Every) || f.Every < 0.05 {
		return fmt.Errorf("column %q of %q, every %g s cannot be foreseen", f.Column, st.Name, f.Every)
	}
	phases := []bench.Phase{{Do: slices.Concat(st.Do, st.Stand), For: settles}} // what is told needs a car that is awake
	at, do := 0.0, []bench.Step(nil)
	for i, next := range append(slices.Clone(st.Toggle.Asked), st.Toggle.Asked[len(st.Toggle.Asked)-1]+lastSeen) {
		phases = append(phases, bench.Phase{Do: do, For: next - at})
		at, do = next, []bench.Step{st.Toggle.Step}
		if i%2 == 1 {
			do = []bench.Step{st.Toggle.Back()}
		}
	}
	f.Phase, f.Before = len(phases)-1, len(phases)-2
	_, err := try(c, b, trial{test: test, foresees: f, instead: phases})
	return err
}

// lastSeen is how much is foreseen after the last switching, s.
const lastSeen = 10.0

func only(e knowledge.Test) string {
	if len(e.Only) == 0 {
		return ""
	}
	return "; it is for " + strings.Join(e.Only, ", ")
}

// pick chooses the part in question.
func (t *technician) pick(part string) error {
	if part != "" {
		if _, ok := t.piece[part]; !ok {
			return fmt.Errorf("this car has no part %q", part)
		}
	} else {
		for _, x := range t.parts {
			if len(x.has) > 0 {
				part = x.Key
				break
			}
		}
	}
	if t.test.On != bench.OnePart {
		return nil
	}
	usual := ""
	for _, f := range t.book.Faults {
		at, ok := f.Can(t.Graph, t.Combination)
		if !ok {
			continue
		}
		p, _ := t.Graph.Part(at)
		k := t.test.Tries(bench.Target{Graph: t.Graph, Fault: f, Part: p})
		switch {
		case k == "" || t.piece[k] == nil:
		case part != "" && (k == part || at == part):
			t.part = t.piece[k]
		case usual == "":
			usual = k
		}
		if t.part != nil {
			break
		}
	}
	if t.part == nil {
		if usual == "" {
			return fmt.Errorf("test %q on this car: it has no part that this test tries", t.test.Key)
		}
		t.part = t.piece[usual]
	}
	t.out.On.Part = t.part.Part
	return nil
}

// run1 runs one phase: what is done, the wait, then what is read.
func (t *technician) run1(p bench.Phase) {
	t.phase, t.looks, t.flows = p, 0, t.flows[:0]
	leg := ""
	for _, s := range p.Do {
		if s.Do == bench.Boosted && t.role["compressor"] == nil {
			return // what is read there cannot be read on this car
		}
		switch s.Do {
		case bench.ShutRig:
			leg = "drift"
		case bench.Charge:
			leg = "hold"
		}
		t.do(s, leg)
		if t.wrong != nil {
			return
		}
	}
	if !(t.test.On == bench.SealedSystem && p.Every > 0 && p.Every < 1) {
		leg = ""
	}
	t.wait(leg)
	if t.wrong != nil || t.saved != nil {
		return
	}
	for _, k := range p.Read {
		c, _ := t.test.Channel(k)
		t.read(c)
	}
}

// read puts what a channel's instrument shows into the readings, as often as it is wanted.
func (t *technician) read(c bench.Channel) {
	sense, ok := senses[c.Sense]
	if !ok {
		t.refuse("no instrument on the simulated car gives %q", c.Sense)
		return
	}
	x, ok := sense(t)
	if !ok {
		return
	}
	for range max(c.Times, 1) - 1 {
		if c.Kind != bench.Number {
			break
		}
		y, _ := sense(t)
		x.Numbers = append(x.Numbers, y.Numbers...)
	}
	t.out.Readings[c.Key] = x
}

// wait lets a phase's time pass, and looks as often as it says.
func (t *technician) wait(leg string) {
	every := t.phase.Every
	if t.phase.Until != "" && every == 0 {
		every = 1
	}
	if every == 0 {
		t.run(t.phase.For)
		return
	}
	begin := 0.0
	if n := len(t.out.Log); leg == "hold" && n > 0 && t.out.Log[n-1].Leg == leg {
		begin = t.out.Log[n-1].Time
	}
	if leg == "drift" {
		t.sample(leg, 0)
	}
	for i := range int(t.phase.For/every + 0.5) {
		t.run(every)
		t.look()
		if leg != "" {
			t.sample(leg, begin+float64(i+1)*every)
		}
		if t.phase.Until != "" {
			x, ok := senses[t.phase.Until](t)
			if ok && (len(x.Words) > 0 && x.Words[0] == bench.Yes || len(x.Numbers) > 0 && t.phase.Reach > 0 && x.Numbers[0] >= t.phase.Reach) {
				return
			}
		}
	}
}

// look watches what is only seen while it happens.
func (t *technician) look() {
	t.looks++
	if t.rig != nil {
		t.flows = append(t.flows, t.rig.Meter)
	}
	t.slowest = math.Min(t.slowest, t.Engine.Speed)
	if f := t.role["fuel"]; f != nil {
		p, _ := t.Gauge(f.Key)
		t.lowest = math.Min(t.lowest, p)
	}
	if changed, has := t.Switch(); has && changed && t.changed == 0 && float64(t.looks)*t.phase.Every > 360 {
		t.changed = float64(t.looks) * t.phase.Every / 60
	}
}

func (t *technician) sample(leg string, at float64) {
	t.out.Log = append(t.out.Log, Sample{leg, at, round(t.RigGauge()+t.noise(gaugeNoise), gaugeStep), round(t.RigWall(), 0.02)})
}

// find is a part by its role, its key or its place.
func (t *technician) find(at string) *piece {
	if at == bench.AtPart {
		return t.part
	}
	key, ok := bench.Site{Graph: t.Graph}.Where(at)
	x := t.piece[key]
	if !ok || at == bench.AtBreather && x != nil && x.edge < 0 {
		return nil
	}
	return x
}

// modes are the driver's, by what a test asks for.
var modes = map[bench.Verb]Mode{bench.KeyOn: Key, bench.EngineOff: Off, bench.Idle: Idle, bench.Fast: Fast, bench.Loaded: Load, bench.Boosted: Boost}

// do does one step.
func (t *technician) do(s bench.Step, leg string) {
	if m, ok := modes[s.Do]; ok {
		if t.stalled && m != Key && m != Off {
			return
		}
		_ = t.Drive(m)
		return
	}
	switch s.Do {
	case bench.Wait:
	case bench.Warm:
		t.warmUp()
	case bench.Trip:
		if err := t.trip(9 * 3600); err != nil && t.saved == nil {
			t.saved = err
		}
	case bench.Park:
		t.park()
	case bench.HotDay:
		t.At.Ambient += 10
	case bench.SelfCheck:
		t.selfCheck()
	case bench.Seal:
		t.seal()
	case bench.Press:
		t.press(s.Value)
	default:
		t.work(s, leg)
	}
}

// work does a step on a part or on the rig.
func (t *technician) work(s bench.Step, leg string) {
	x := t.find(s.At)
	if s.At != "" && x == nil {
		if s.May || s.At == bench.AtFarEnd || s.Do == bench.Uncommand {
			return
		}
		t.refuse("it has no %s", strings.TrimPrefix(s.At, "@"))
		return
	}
	switch s.Do {
	case bench.Put, bench.Clear:
		if err := t.Set(x.Key, s.State); err != nil {
			t.refuse("%w", err)
		}
	case bench.Command:
		t.air, _ = t.MeteredAir()
		t.manifold, _ = t.ManifoldPressure()
		if err := t.Command(x.Key, s.Value); err != nil {
			t.refuse("%w", err)
		}
	case bench.Uncommand:
		_ = t.Command(x.Key, -1)
	case bench.Join:
		t.join(x, s.Value)
	default:
		t.supply(s, leg)
	}
}

// supply works the rig's own valves.
func (t *technician) supply(s bench.Step, leg string) {
	if t.rig == nil {
		t.refuse("the rig is not connected")
		return
	}
	target := s.Value
	if a, ok := t.book.Archetype(t.Vapour); ok && t.test.On == bench.SealedSystem {
		target = math.Min(target, a.MaxPa)
	}
	switch s.Do {
	case bench.Hold, bench.Smoke:
		_ = t.rig.Set(Charge, target)
		t.rig.Hold, t.rig.Smoke = true, s.Do == bench.Smoke
	case bench.Draw:
		_ = t.rig.Set(Draw, target)
	case bench.ShutRig:
		_ = t.rig.Set(Seal, 0)
	case bench.OpenRig:
		_ = t.rig.Set(Open, 0)
	case bench.Charge:
		_ = t.rig.Set(Charge, target)
		begin, n := t.Time, 0.0
		for t.rig.Port == Charge && t.Time-begin < 120 && t.saved == nil {
			t.run(0.5)
			n += 0.5
			t.sample(leg, n)
		}
		if t.cameUp = t.rig.Port != Charge; !t.cameUp {
			t.phase.For = 0
		}
	}
}

// join connects the rig at a part; most is what it can give, kg/s, 0 the usual.
func (t *technician) join(x *piece, most float64) {
	if _, err := t.Connect(x.Key, 0); err != nil {
		t.refuse("%w", err)
		return
	}
	if most > 0 {
		_ = t.rig.Supply(most)
	}
	if v := t.role["recirculation"]; v != nil && v.By == x.Key { // the hose is off the diaphragm
		if sol := t.role["recirculation-control"]; sol != nil {
			t.net.Edges[sol.past].Shut, t.net.Edges[sol.edge].Shut = true, true
		}
	}
}

// warmUp brings the engine to its working temperature at idle.
func (t *technician) warmUp() {
	t.saved = t.Drive(Idle)
	t.run(5)
	t.Coolant = 358
	t.Unit.leak.done = true // whoever works on it has let the car's own check run, or holds its valves
	t.run(90)
	t.stalled = !t.Engine.Running
	t.warm, t.slowest = t.Engine.Speed, t.Engine.Speed
}

// park drives for twenty minutes and leaves the car alone.
func (t *technician) park() {
	_ = t.Drive(Idle)
	t.run(120)
	_ = t.Drive(Load)
	t.run(1080)
	_ = t.Drive(Off)
	t.lowest, t.changed, t.parkedAt = 0, 0, t.Fuel
}

// selfCheck lets the car's own check run as it does: after a start, or hours after a drive.
func (t *technician) selfCheck() {
	if t.monitor == "strokes" {
		_ = t.Drive(Idle)
		t.run(80)
		return
	}
	t.park()
	t.run(afterHours + 1200)
}

// seal sets the car up for a hold as its archetype asks, and joins the rig.
func (t *technician) seal() {
	a, ok := t.book.Archetype(t.Vapour)
	if !ok {
		t.refuse("it has no EVAP system that can be sealed")
		return
	}
	t.saved = t.Drive(Key)
	for k, s := range a.Settings() {
		if err := t.Set(k, s); err != nil {
			t.refuse("%w", err)
			return
		}
	}
	if t.plug != "" {
		if err := t.Set(t.plug, plumbing.Plugged); err != nil {
			t.refuse("%w", err)
			return
		}
	}
	orifice := 0.508e-3
	if slices.ContainsFunc(t.test.Phases, func(p bench.Phase) bool {
		return slices.ContainsFunc(p.Do, func(s bench.Step) bool { return s.Do == bench.Smoke })
	}) {
		orifice = 0
	}
	if _, err := t.Connect(a.Entry, orifice); err != nil {
		t.refuse("%w", err)
	}
	t.out.On.Hold = decay.Setup{Volume: t.Graph.VapourSpace(t.At.Level), VolumeTolerance: 0.2, Barometer: t.At.Barometer, Temperature: t.At.Ambient, Resolution: gaugeStep, Wet: true}
}

// press brings the part in question to a pressure on the bench: the volume of a cap's tester,
// or of a hand pump.
func (t *technician) press(at float64) {
	x := t.part
	hole := gas.Area(1e-3 * math.Max(math.Max(x.get("passes"), x.get("reverse")), x.get("leak")))
	hole += gas.Area(x.bore) * x.least() * x.least()
	if x.Kind == plumbing.Valve && x.Rest == plumbing.Open && !t.shuts(x) {
		hole += gas.Area(x.bore) // it stays open
	}
	volume := 0.4e-3
	if at < 0 {
		volume = 0.1e-3
	}
	n := &network.Net{}
	out := n.Add(network.Node{Name: "air", Volume: 1, Fixed: true}, network.Gas{network.Air: 1}, t.At.Barometer, t.At.Ambient)
	v := n.Add(network.Node{Name: "bench", Volume: volume, HeatTime: 1, Wall: t.At.Ambient}, network.Gas{network.Air: 1}, t.At.Barometer+at, t.At.Ambient)
	n.Join(network.Edge{From: v, To: out, Area: holeCd * hole})
	t.rigged = &benchRig{n, v, at}
	if t.saved == nil && t.test.Reads(bench.BenchPressure, bench.BenchVacuum, bench.PartSeals) {
		t.saved = n.Run(t.phase.For)
	}
	t.phase.For = 0
}

// shuts reports whether power, or what moves it, brings a valve out of its rest state.
func (t *technician) shuts(x *piece) bool {
	return math.Min(x.get("opening"), 1) > 0.3 && t.live(x)
}

// held is what is left on the bench rig, Pa.
func (t *technician) held() float64 {
	r := t.rigged
	return (r.net.Nodes[r.node].Pressure() - t.At.Barometer) * math.Copysign(1, r.at)
}

// leg is a while in one way of driving, s.
type leg struct {
	mode    Mode
	seconds float64
}

// usualDrive is one on which every monitor may run.
var usualDrive = []leg{{Idle, 420}, {Fast, 60}, {Load, 240}, {Boost, 25}}

// trip is a drive on which every monitor may run, and a rest; cars whose check is over
// when the engine stops need little of that.
func (c *Car) trip(rest float64) error {
	return c.legs(append(slices.Clone(usualDrive), leg{Off, rest}))
}

func (c *Car) legs(legs []leg) error {
	for _, l := range legs {
		if l.mode == Boost && c.role["compressor"] == nil {
			continue
		}
		_ = c.Drive(l.mode)
		if err := c.Run(l.seconds); err != nil {
			return err
		}
	}
	return nil
}

// Trip drives a car as long as its own checks want and returns every code that its control
// unit held after a drive, pending ones included: once with a long warm idle at the end, and
// where the check waits for the night, a second time after it.
func Trip(c *Car) ([]string, error) {
	held := map[string]bool{}
	rest, trips := 60.0, 1
	if plumbing.Overnight(c.monitor) {
		rest, trips = 9*3600, 2
	}
	var err error
	for range trips {
		err = c.legs(append(slices.Clone(usualDrive), leg{Idle, 90}, leg{Off, rest}))
		for k := range c.Unit.Codes {
			held[k] = true
		}
		if err != nil {
			break
		}
	}
	return slices.Sorted(maps.Keys(held)), err
}

func round(v, step float64) float64 {
	r := math.Round(v/step) * step
	return math.Round(r*1e6) / 1e6
}

// Tests lists the tests that the technician can do.
func Tests() (out []string) {
	for _, k := range bench.Keys() {
		if t, _ := bench.Of(k); len(t.Phases) > 0 {
			out = append(out, k)
		}
	}
	return out
}

// inWater is a pressure in the unit of the bay.
func inWater(pa float64) float64 { return round(pa/units.InH2O, 0.01) }
