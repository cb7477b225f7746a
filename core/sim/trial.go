package sim

import (
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"strings"

	"wexter/core/decay"
	"wexter/core/gas"
	"wexter/core/knowledge"
	"wexter/core/network"
	"wexter/core/obd"
	"wexter/core/plumbing"
	"wexter/core/units"
)

// Reading is what an instrument of a test shows, in the unit of the bay; Text for what is
// said in words.
type Reading struct {
	Name  string
	Unit  string
	Value float64
	Text  string
}

// Sample is one line of the log of a test.
type Sample struct {
	Leg      string
	Time     float64 // s in the leg
	Pressure float64 // Pa gauge, with the gauge's noise
	Wall     float64 // K
}

// Trial is a test of the Book done on a simulated car.
type Trial struct {
	Test     string
	Readings []Reading
	Outcome  string // key, of the test's outcomes
	Log      []Sample
	Size     *decay.Size // of a hold that could be judged
	Exits    []Exit      // where smoke or air was seen to leave, expected places left out
}

// Gauge that trials read with: noise and resolution of a fair pressure module, chosen here.
const (
	gaugeNoise = 2.5 // Pa
	gaugeStep  = 1.0
	atTrial    = 13 * units.InH2O
)

// try is one test under way.
type try struct {
	*Car
	book  knowledge.Book
	test  knowledge.Test
	part  *piece // the part in question
	plug  string // of a hold: the line that is plugged
	rng   *rand.Rand
	out   Trial
	saved error
}

func (t *try) run(s float64) {
	if t.saved == nil {
		t.saved = t.Run(s)
	}
}

func (t *try) put(value float64, text ...string) {
	r := t.test.Reads[min(len(t.out.Readings), len(t.test.Reads)-1)]
	t.out.Readings = append(t.out.Readings, Reading{r.Name, r.Unit, value, strings.Join(text, "; ")})
}

func (t *try) noise(sd float64) float64 { return sd * t.rng.NormFloat64() }

// Try does a test of the Book on a fresh car (made by NewCar, with its faults applied) and
// returns what its instruments would show. Part is the one in question where a test takes
// one by itself; empty picks the part the faults of this car are in, or a usual one. For a
// hold it is a line with a plug point, which is plugged.
func Try(c *Car, b knowledge.Book, key, part string) (Trial, error) {
	test, ok := b.Test(key)
	if !ok {
		var keys []string
		for _, t := range b.Tests {
			keys = append(keys, t.Key)
		}
		return Trial{}, fmt.Errorf("there is no test %q; there are %s", key, strings.Join(keys, ", "))
	}
	if !test.Fits(c.Combination) {
		return Trial{}, fmt.Errorf("test %q is for %s; this car is %v", key, strings.Join(test.Only, ", "), c.Combination)
	}
	do, ok := trials[key]
	if !ok {
		return Trial{}, fmt.Errorf("the plant does not know how test %q is done", key)
	}
	t := &try{Car: c, book: b, test: test, rng: rand.New(rand.NewPCG(c.At.Seed, 11)), out: Trial{Test: key}}
	if p, ok := c.Graph.Part(part); ok && p.Plug != "" && key == "decay" {
		t.plug = part
	}
	if part == "" {
		for _, k := range c.order {
			if len(c.piece[k].has) > 0 {
				part = k
				break
			}
		}
	}
	if part != "" {
		if t.part, ok = c.piece[part]; !ok {
			return Trial{}, fmt.Errorf("this car has no part %q", part)
		}
	}
	if why := do(t); why != "" {
		return Trial{}, fmt.Errorf("test %q on this car: %s", key, why)
	}
	return t.out, t.saved
}

// trials is how each test of the Book is done; a test that cannot be done on this car
// says why.
var trials = map[string]func(*try) string{
	"readiness": (*try).readiness, "look": (*try).look, "cap-check": (*try).capCheck, "smoke": (*try).smoke, "part-smoke": (*try).partSmoke, "decay": (*try).hold,
	"make-up-flow": (*try).makeUp, "valve-bench": (*try).bench, "purge-running": (*try).purgeRunning, "eonv-manometer": (*try).manometer, "soak-watch": (*try).soak,
	"pump-hand": (*try).pumpHand, "pump-self-test": (*try).selfTest, "vent-path": (*try).ventPath, "by-pass": (*try).byPass, "sensor-check": (*try).sensorCheck,
	"circuit-walk": (*try).circuit, "trims": (*try).trims, "intake-smoke": (*try).intakeSmoke, "check-valve": (*try).checkValve, "crankcase-manometer": (*try).crankcase,
	"egr-vacuum": (*try).egrVacuum, "egr-ramp": (*try).egrRamp, "egr-coils": (*try).egrCoils, "egr-command": (*try).egrCommand, "boost-pressure": (*try).boostTest}

// warm brings the engine to its working temperature at idle.
func (t *try) warm() bool {
	t.saved = t.Drive(Idle)
	t.run(5)
	t.Coolant = 358
	t.Unit.leak.done = true // whoever works on it has let the car's own check run, or holds its valves
	t.run(90)
	return t.Engine.Running
}

// trip is a drive on which every monitor may run, and nine hours of rest; cars whose
// check is over when the engine stops need little of those.
func (c *Car) trip(rest float64) error {
	for _, leg := range []struct {
		mode    Mode
		seconds float64
	}{{Idle, 420}, {Fast, 60}, {Load, 240}, {Boost, 25}, {Off, rest}} {
		if leg.mode == Boost && c.role["compressor"] == nil {
			continue
		}
		_ = c.Drive(leg.mode)
		if err := c.Run(leg.seconds); err != nil {
			return err
		}
	}
	return nil
}

// Trip drives a car once, leaves it for as long as its own check wants, and returns the
// codes that its control unit then holds, pending ones included.
func Trip(c *Car) ([]string, error) {
	rest := 60.0
	if c.monitor != "" && c.monitor != "draw-down" && c.monitor != "strokes" {
		rest = 9 * 3600
	}
	err := c.trip(rest)
	return slices.Sorted(maps.Keys(c.Unit.Codes)), err
}

func (t *try) readiness() string {
	for range 2 { // two trips and what follows each
		if err := t.trip(9 * 3600); err != nil && t.saved == nil {
			t.saved = err
		}
	}
	var codes []string
	stored := 0
	for _, st := range []obd.CodeStatus{obd.Stored, obd.Pending} {
		for _, k := range t.Unit.List(st) {
			if st == obd.Pending && t.Unit.Codes[k].Stored {
				continue
			}
			codes = append(codes, k+" "+string(st))
			if st == obd.Stored {
				stored++
			}
		}
	}
	t.put(float64(len(codes)), codes...)
	var open []string
	for _, m := range t.monitors() {
		if !t.Unit.Ready[m] {
			open = append(open, m)
		}
	}
	t.put(float64(len(open)), open...)
	t.put(round(t.Volts(), 0.1))
	switch {
	case stored > 0:
		t.out.Outcome = "codes"
	case len(codes) > 0:
		t.out.Outcome = "pending"
	case len(open) > 0:
		t.out.Outcome = "none-incomplete"
	default:
		t.out.Outcome = "none-complete"
	}
	return ""
}

// look finds what is large enough for the eye: holes from a millimetre and a half.
func (t *try) look() string {
	var seen []string
	for _, k := range t.order {
		x := t.piece[k]
		if d := math.Max(x.get("leak"), 0); d >= 1.5 && x.Kind != plumbing.Seal {
			seen = append(seen, fmt.Sprintf("%s: a hole or crack, some %.0f mm", x.Name, d))
		}
	}
	t.put(float64(len(seen)), seen...)
	t.out.Outcome = "clean"
	if len(seen) > 0 {
		t.out.Outcome = "seen"
	}
	return ""
}

func (t *try) capCheck() string {
	x := t.piece["cap"]
	if x == nil {
		return "it has no filler cap that a tester fits"
	}
	n := &network.Net{}
	out := n.Add(network.Node{Name: "air", Volume: 1, Fixed: true}, network.Gas{network.Air: 1}, t.At.Barometer, t.At.Ambient)
	v := n.Add(network.Node{Name: "tester", Volume: 0.4e-3, HeatTime: 1, Wall: t.At.Ambient}, network.Gas{network.Air: 1}, t.At.Barometer+atTrial, t.At.Ambient)
	n.Join(network.Edge{From: v, To: out, Area: holeCd * gas.Area(x.get("leak")*1e-3)})
	if err := n.Run(60); err != nil {
		t.saved = err
	}
	p := n.Nodes[v].Pressure() - t.At.Barometer + t.noise(gaugeNoise)
	t.put(round(p/units.InH2O, 0.01))
	t.put(3)
	t.out.Outcome = "holds"
	if p < 0.9*atTrial {
		t.out.Outcome = "falls"
	}
	return ""
}

// seal sets the car up for a hold as its archetype asks, and joins the rig.
func (t *try) seal(orifice float64) string {
	a, ok := t.book.Archetype(t.Vapour)
	if !ok {
		return "it has no vapour system that can be sealed"
	}
	t.saved = t.Drive(Key)
	for k, s := range a.Settings() {
		if err := t.Set(k, s); err != nil {
			return err.Error()
		}
	}
	if _, err := t.Connect(a.Entry, orifice); err != nil {
		return err.Error()
	}
	return ""
}

// permitted is the pressure of a hold on this car: 13 inH2O, or what its archetype allows.
func (t *try) permitted() float64 {
	a, _ := t.book.Archetype(t.Vapour)
	return math.Min(atTrial, a.MaxPa)
}

// leg logs the gauge twice a second for some time, and stops when it cannot get on.
func (t *try) leg(name string, seconds float64) {
	for i := range int(seconds*2) + 1 {
		if i > 0 {
			t.run(0.5)
		}
		p := round(t.RigGauge()+t.noise(gaugeNoise), gaugeStep)
		t.out.Log = append(t.out.Log, Sample{name, float64(i) / 2, p, round(t.RigWall(), 0.02)})
	}
}

// holdLegs logs a drift leg and a pressure hold; false when it cannot be brought up.
func (t *try) holdLegs(drift, hold float64) bool {
	r := t.rig
	t.run(30)
	_ = r.Set(Seal, 0)
	t.leg("drift", drift)
	_ = r.Set(Open, 0)
	t.run(5)
	_ = r.Set(Charge, t.permitted())
	begin := t.Time
	n := 0.0
	for r.Port == Charge && t.Time-begin < 120 {
		t.run(0.5)
		n += 0.5
		t.out.Log = append(t.out.Log, Sample{"hold", n, round(t.RigGauge()+t.noise(gaugeNoise), gaugeStep), round(t.RigWall(), 0.02)})
	}
	if r.Port == Charge {
		return false
	}
	for range int(hold * 2) {
		t.run(0.5)
		n += 0.5
		t.out.Log = append(t.out.Log, Sample{"hold", n, round(t.RigGauge()+t.noise(gaugeNoise), gaugeStep), round(t.RigWall(), 0.02)})
	}
	return true
}

func (t *try) hold() string {
	if why := t.seal(0.508e-3); why != "" {
		return why
	}
	if t.plug != "" {
		if err := t.Set(t.plug, plumbing.Plugged); err != nil {
			return err.Error()
		}
	}
	if !t.holdLegs(60, 150) {
		t.out.Outcome = "cannot_pressurise"
	}
	last := t.out.Log[len(t.out.Log)-1]
	t.put(round(last.Pressure/units.InH2O, 0.01))
	t.put(round(last.Wall-273.15, 0.02))
	t.put(round(t.At.Barometer/100, 0.1))
	if t.out.Outcome == "" {
		t.out.Outcome = string(decay.Undecided)
		legs := []decay.Leg{{Kind: decay.Drift}, {Kind: decay.Hold}}
		for _, s := range t.out.Log {
			l := &legs[0]
			if s.Leg == "hold" {
				l = &legs[1]
			}
			l.Time, l.Gauge, l.Wall = append(l.Time, s.Time), append(l.Gauge, s.Pressure), append(l.Wall, s.Wall)
		}
		if r, err := decay.Judge(legs, decay.Setup{Volume: t.vapourSpace(), VolumeTolerance: 0.2, Barometer: t.At.Barometer, Temperature: t.At.Ambient, Resolution: gaugeStep, Wet: true}); err == nil {
			t.out.Outcome, t.out.Size = string(r.Verdict), &r.Size
		}
	}
	return ""
}

// vapourSpace is what a technician would work out: tank by its level, and the rest.
func (t *try) vapourSpace() float64 {
	v := 0.0
	for _, k := range t.order {
		if x := t.piece[k]; x.Family == "vapour" {
			switch {
			case x.Role == "fuel":
				v += x.Litres * 1e-3 * (1 - t.At.Level)
			case x.Kind == plumbing.Line:
				v += gas.Area(x.Bore) * x.Length
			default:
				v += x.Litres * 1e-3
			}
		}
	}
	return v
}

func (t *try) makeUp() string {
	if why := t.seal(0.508e-3); why != "" {
		return why
	}
	r := t.rig
	target := math.Min(10*units.InH2O, t.permitted())
	_ = r.Set(Charge, target)
	r.Hold = true
	sum, then := 0.0, 0.0
	for i := range 240 { // four minutes; the mean of the last half minute, and of one before
		t.run(1)
		if i >= 210 {
			sum += r.Flow / 30
		} else if i >= 150 && i < 180 {
			then += r.Flow / 30
		}
	}
	flow := gas.FreeAir(sum, t.At.Barometer, t.At.Ambient) * 60e3
	p := t.RigGauge()
	ref := gas.FreeAir(gas.Orifice(gas.Area(0.508e-3), gas.NominalCd, t.At.Barometer+p, t.At.Ambient, t.At.Barometer), t.At.Barometer, t.At.Ambient) * 60e3
	t.put(round(flow*(1+t.noise(0.01)), 0.01))
	t.put(round((p+t.noise(gaugeNoise))/units.InH2O, 0.01))
	switch {
	case math.Abs(then-sum) > 0.25*math.Max(sum, 1e-7) && math.Abs(then-sum) > 2e-6:
		t.out.Outcome = "unsteady"
	case flow > ref:
		t.out.Outcome = "above"
	default:
		t.out.Outcome = "below"
	}
	return ""
}

func (t *try) smoke() string {
	if why := t.seal(0); why != "" {
		return why
	}
	far := t.piece["cap"]
	r := t.rig
	target := math.Min(12*units.InH2O, t.permitted())
	_ = r.Set(Charge, target)
	r.Hold, r.Smoke = true, true
	filled := true
	if far != nil {
		_ = t.Set(far.Key, plumbing.Open)
		filled = false
		for range 120 {
			t.run(5)
			if t.net.Nodes[far.first].Share(network.Smoke) > 0.3 {
				filled = true
				break
			}
		}
		_ = t.Set(far.Key, "")
	}
	t.run(180)
	list, found := t.exits(nil)
	t.out.Exits = found
	t.put(float64(len(list)), list...)
	var clear []string
	for _, k := range t.order {
		x := t.piece[k]
		if x.Family == "vapour" && x.Kind == plumbing.Volume && t.net.Nodes[x.first].Share(network.Smoke) < 0.2 && t.net.Nodes[x.first].Pressure()-t.At.Barometer > target/2 {
			clear = append(clear, x.Name)
		}
	}
	t.put(float64(len(clear)), clear...)
	switch {
	case len(found) > 0:
		t.out.Outcome = "exit"
	case !filled:
		t.out.Outcome = "not-filled"
	default:
		t.out.Outcome = "none"
	}
	return ""
}

func (t *try) partSmoke() string {
	x := t.part
	if x == nil {
		x = t.role["purge"]
	}
	if x == nil {
		return "name the part that is taken off"
	}
	d := math.Max(math.Max(x.get("leak"), x.get("passes")), math.Max(x.get("reverse"), 0))
	t.out.Outcome = "none"
	if d >= 0.2 || x.Rest == "shut" && x.get("rest") > 0 {
		t.out.Outcome = "exit"
		t.put(1, fmt.Sprintf("%s: %.1f mm", x.Name, d))
		return ""
	}
	t.put(0)
	return ""
}

// bench works a valve by itself: five cycles, 15 inHg on a small volume behind it.
func (t *try) bench() string {
	x := t.part
	if x == nil || x.Kind != plumbing.Valve && x.Kind != plumbing.Check && x.Kind != plumbing.Relief {
		for _, r := range []string{"purge", "vent", "recirculation"} {
			if x = t.role[r]; x != nil {
				break
			}
		}
	}
	if x == nil {
		return "it has no valve to take off; name one"
	}
	at := 15 * units.InHg
	leak := gas.Area(1e-3 * math.Max(math.Max(x.get("passes"), x.get("reverse")), x.get("leak")))
	leak += gas.Area(x.bore) * x.get("rest") * x.get("rest")
	n := &network.Net{}
	out := n.Add(network.Node{Name: "air", Volume: 1, Fixed: true}, network.Gas{network.Air: 1}, t.At.Barometer, t.At.Ambient)
	v := n.Add(network.Node{Name: "pump", Volume: 0.1e-3, HeatTime: 1, Wall: t.At.Ambient}, network.Gas{network.Air: 1}, t.At.Barometer-at, t.At.Ambient)
	n.Join(network.Edge{From: v, To: out, Area: holeCd * leak})
	if err := n.Run(20); err != nil {
		t.saved = err
	}
	held := t.At.Barometer - n.Nodes[v].Pressure()
	seals, passes := 0, 0
	for range 5 {
		stuck := t.rng.Float64() < x.get("sticks")
		if held > 0.8*at && !(stuck && x.Rest == "open") {
			seals++
		}
		if math.Min(x.get("opening"), 1) > 0.3 && x.get("bore") > 0.3 && t.live(x) && !(stuck && x.Rest != "open") {
			passes++
		}
	}
	t.put(round(math.Max(held+t.noise(200), 0)/units.InHg, 0.1))
	t.put(float64(seals))
	t.put(float64(passes))
	t.put(round(coilOhm*(1+0.00393*(t.At.Ambient-293.15))+x.get("resistance"), 0.1))
	t.put(round(t.Volts(), 0.1))
	switch {
	case seals == 5 && passes == 5:
		t.out.Outcome = "good"
	case seals == 0:
		t.out.Outcome = "leaks"
	case passes == 0:
		t.out.Outcome = "stuck"
	default:
		t.out.Outcome = "sticky"
	}
	return ""
}

func (t *try) purgeRunning() string {
	x := t.role["purge"]
	line := t.piece["purge-line"]
	if x == nil || line == nil || line.edge < 0 {
		return "it has no purge valve"
	}
	if !t.warm() {
		t.put(0, "the engine does not keep running")
		t.out.Outcome = "stumble"
		return ""
	}
	t.run(60)
	free := t.Unit.Total()
	_ = t.Set("purge-line", plumbing.Plugged)
	t.run(20)
	pull := t.At.Barometer - t.net.Nodes[x.second].Pressure()
	t.run(60)
	clamped := t.Unit.Total()
	t.put(round(math.Max(pull+t.noise(5), 0)/units.InH2O, 0.1))
	t.put(round(100*free+t.noise(0.4), 0.8))
	t.put(round(100*clamped+t.noise(0.4), 0.8))
	t.out.Outcome = "none"
	if pull > 250 {
		t.out.Outcome = "pull"
	}
	return ""
}

func (t *try) manometer() string {
	var relief, vacuum, sw *piece
	for _, k := range t.order {
		switch x := t.piece[k]; {
		case x.Kind == plumbing.Switch:
			sw = x
		case x.Kind == plumbing.Relief && x.Inward:
			vacuum = x
		case x.Kind == plumbing.Relief && x.On != "" && t.piece[x.On].Role == "vent":
			relief = x
		}
	}
	if relief == nil || vacuum == nil || sw == nil {
		return "it has no vent unit with reliefs and a switch"
	}
	// A hand pump gives some 0.5 L/min: a seat that passes that much never builds a pressure.
	most := gas.Orifice(1, gas.NominalCd, t.At.Barometer+relief.Crack, t.At.Ambient, t.At.Barometer)
	opens, reseals := relief.Crack*relief.get("crack"), relief.Reseal*relief.get("crack")
	if most*gas.Area(relief.get("passes")*1e-3) > 1e-5*0.3 {
		opens, reseals = 0, 0
	}
	lets := vacuum.Crack * vacuum.get("crack")
	at := math.Abs(sw.SwitchAt) * sw.get("switch")
	dead := t.rng.Float64() < sw.get("sticks") && sw.get("sticks") > 0.3
	t.put(round((opens+t.noise(3))/units.InH2O, 0.01))
	t.put(round((reseals+t.noise(3))/units.InH2O, 0.01))
	if dead || at > lets {
		t.put(0, "no change")
	} else {
		t.put(round((at+t.noise(5))/units.InH2O, 0.01))
	}
	t.put(round((lets+t.noise(10))/units.InH2O, 0.01))
	switch {
	case opens == 0:
		t.out.Outcome = "relief-leaks"
	case opens > 250:
		t.out.Outcome = "relief-stuck"
	case lets < at:
		t.out.Outcome = "dead"
		if sw.get("switch") <= 1 {
			t.out.Outcome = "early"
		}
	case dead || at > 2*units.InH2O:
		t.out.Outcome = "dead"
	default:
		t.out.Outcome = "good"
	}
	return ""
}

// parked drives for twenty minutes and leaves the car alone.
func (t *try) parked() {
	_ = t.Drive(Idle)
	t.run(120)
	_ = t.Drive(Load)
	t.run(1080)
	_ = t.Drive(Off)
}

func (t *try) soak() string {
	if t.role["fuel"] == nil {
		return "it has no fuel vapour to watch"
	}
	t.parked()
	low, when := 0.0, 0.0
	changed, has := false, false
	for i := range 360 {
		t.run(60)
		p, _ := t.Gauge(t.role["fuel"].Key)
		low = math.Min(low, p)
		if changed, has = t.Switch(); has && changed && when == 0 && i >= 6 {
			when = float64(i + 1)
		}
	}
	if when > 0 {
		t.put(when)
	} else {
		t.put(0, "no change in six hours")
	}
	t.put(round((low+t.noise(gaugeNoise))/units.InH2O, 0.01))
	t.put(round(t.At.Ambient-273.15, 0.5))
	switch {
	case when > 0 || !has && low < -375:
		t.out.Outcome = "changes"
	case low < -249:
		t.out.Outcome = "vacuum-only"
	default:
		t.out.Outcome = "none"
	}
	return ""
}

func (t *try) pumpHand() string {
	_ = t.Drive(Idle)
	t.run(140)
	u := &t.Unit
	t.put(float64(u.Strokes))
	t.put(round(u.Pause, 0.1))
	switch {
	case u.Strokes == 0:
		t.out.Outcome = "silent"
	case u.Pause > 3.6:
		t.out.Outcome = "slows"
	default:
		t.out.Outcome = "fast"
	}
	return ""
}

func (t *try) selfTest() string {
	u := &t.Unit
	share, ran := 0.0, false
	if t.monitor == "strokes" {
		_ = t.Drive(Idle)
		t.run(80)
		p, _ := t.Gauge(t.role["leak-pump"].Key)
		ran = u.Strokes > 0
		share = 100 * p / springPa
		if r, ok := u.Results["strokes"]; ok {
			ran = ran && r.Value > 0
		}
		if ran && u.Pause > 3.6 {
			share = math.Max(share, 100)
		} else if ran {
			share = math.Min(share, 99)
		}
	} else {
		t.parked()
		t.run(afterHours + 1200)
		r, ok := u.Results["share"]
		ran, share = ok, r.Value
	}
	if !ran {
		t.put(0, "it did not run: "+u.Blocked)
		t.out.Outcome = "not-run"
		return ""
	}
	t.put(round(share, 1))
	t.out.Outcome = "fail"
	if share >= 100 {
		t.out.Outcome = "pass"
	}
	return ""
}

func (t *try) ventPath() string {
	var inlet *piece
	for _, k := range t.order {
		if x := t.piece[k]; x.Kind == plumbing.Inlet && x.Family == "vapour" {
			inlet = x
		}
	}
	if inlet == nil {
		return "it has no vent path"
	}
	area := t.net.Edges[inlet.edge].Area
	free := area > 8e-6 // some 3 mm
	word := "free"
	if !free {
		word = "blocked"
	}
	t.put(0, word)
	if t.warm() {
		_ = t.Drive(Fast)
		t.run(60)
	}
	p, _ := t.Gauge("tank")
	t.put(round((-p+t.noise(gaugeNoise))/units.InH2O, 0.01))
	t.out.Outcome = word
	if -p > 700 {
		t.out.Outcome = "blocked"
	}
	return ""
}

func (t *try) byPass() string {
	hot := func() float64 { // a hot day's tank after a drive
		t.parked()
		t.run(1200)
		p, _ := t.Gauge("tank")
		return p
	}
	t.At.Ambient += 10
	before := hot()
	if err := t.Set("tank-valve", plumbing.Open); err != nil {
		return err.Error()
	}
	after := hot()
	gone := before > 1500 && after < 0.5*before
	word := "stays"
	if gone {
		word = "gone"
	}
	t.put(round(before-after, 1), word)
	t.out.Outcome = word
	return ""
}

func (t *try) sensorCheck() string {
	x := t.part
	if x == nil || x.Kind != plumbing.Sensor {
		x = nil
		for _, k := range t.order {
			if p := t.piece[k]; p.Kind == plumbing.Sensor && p.Family == "vapour" || p.Role == "difference" {
				x = p
				break
			}
		}
	}
	if x == nil {
		return "it has no sensor for a pressure hose; name one"
	}
	gain, zero := x.get("gain"), x.get("offset")
	t.put(round(5+t.noise(0.02), 0.01))
	t.put(round((zero+t.noise(5))/units.InH2O, 0.01))
	t.put(round((zero+gain*10*units.InH2O+t.noise(8))/units.InH2O, 0.01))
	switch {
	case math.Abs(gain-1) > 0.1:
		t.out.Outcome = "false-scale"
	case math.Abs(zero) > 125:
		t.out.Outcome = "false-zero"
	default:
		t.out.Outcome = "true"
	}
	return ""
}

func (t *try) circuit() string {
	x := t.part
	if x == nil || !x.Moves() && x.Role != "leak-pump" {
		for _, r := range []string{"purge", "vent", "recirculation-control", "recirculation"} {
			if x = t.role[r]; x != nil && x.By == "" {
				break
			}
		}
	}
	if x == nil || x.By != "" {
		return "it has no electric valve; name a part"
	}
	_ = t.Drive(Key)
	r := x.get("resistance")
	t.put(round(t.Volts(), 0.1))
	t.put(round(coilOhm+r+t.noise(0.2), 0.1))
	t.put(50)
	t.out.Outcome = "good"
	if !t.live(x) {
		t.out.Outcome = "coil"
	}
	return ""
}

func (t *try) trims() string {
	if t.diesel {
		return "a diesel has no fuel trims"
	}
	if !t.warm() {
		t.put(0, "the engine does not keep running")
		t.out.Outcome = "idle-rich"
		return ""
	}
	total := func(m Mode, s float64) float64 {
		_ = t.Drive(m)
		t.run(s)
		return 100 * t.Unit.Total()
	}
	idle := total(Idle, 150)
	air, _ := t.MeteredAir()
	at, _ := t.ManifoldPressure()
	fast := total(Fast, 90)
	load := total(Load, 90)
	boost := 0.0
	if t.role["compressor"] != nil {
		boost = total(Boost, 25)
	}
	for _, v := range []float64{idle, fast, load} {
		t.put(round(v+t.noise(0.5), 0.8))
	}
	t.put(round(air*1000*(1+t.noise(0.01)), 0.01))
	t.put(round(at/1000+t.noise(0.2), 1))
	// Purging lifts or lowers the trims of a healthy car off idle by some 6 %.
	switch {
	case boost < -12 && idle > -8:
		t.out.Outcome = "boost-rich"
	case idle > 8 && load < 0.6*idle:
		t.out.Outcome = "idle-lean"
	case load > 8 && idle > 0.5*load:
		t.out.Outcome = "even"
	case load > 10:
		t.out.Outcome = "load-lean"
	case idle < -8:
		t.out.Outcome = "idle-rich"
	case idle > 4 && load > 4:
		t.out.Outcome = "even"
	default:
		t.out.Outcome = "normal"
	}
	return ""
}

// intakeSmoke fills the intake from the inlet pipe, engine off, inlet and tail pipe shut.
func (t *try) intakeSmoke() string {
	_ = t.Set("air-filter", plumbing.Shut)
	_ = t.Set("throttle", plumbing.Open)
	if _, err := t.Connect("manifold", 0); err != nil {
		return err.Error()
	}
	r := t.rig
	_ = r.Supply(8e-4)
	_ = r.Set(Charge, 2500)
	r.Hold, r.Smoke = true, true
	t.run(300)
	expected := map[string]bool{"tailpipe": true}
	list, found := t.exits(expected)
	t.out.Exits = found
	t.put(float64(len(list)), list...)
	switch {
	case len(found) > 0:
		t.out.Outcome = "exit"
	case len(list) > 0:
		t.out.Outcome = "expected"
	default:
		t.out.Outcome = "none"
	}
	return ""
}

func (t *try) checkValve() string {
	x := t.part
	if x == nil || x.Kind != plumbing.Check {
		x = nil
		for _, k := range t.order {
			if t.piece[k].Kind == plumbing.Check {
				x = t.piece[k]
				break
			}
		}
	}
	if x == nil {
		return "it has no check valve"
	}
	forward := x.get("opening") > 0.3
	word := "passes"
	if !forward {
		word = "shut"
	}
	t.put(0, word)
	held := 15.0
	if x.get("reverse") > 0 {
		held = math.Max(15-20*x.get("reverse"), 0)
	}
	t.put(round(held, 0.5))
	switch {
	case !forward:
		t.out.Outcome = "blocked"
	case held < 12:
		t.out.Outcome = "both"
	default:
		t.out.Outcome = "good"
	}
	return ""
}

func (t *try) crankcase() string {
	k := t.role["crankcase"].Key
	if !t.warm() {
		t.put(0, "the engine does not keep running")
		t.out.Outcome = "normal"
		return ""
	}
	t.run(30)
	idle, _ := t.Gauge(k)
	_ = t.Drive(Fast)
	t.run(30)
	fast, _ := t.Gauge(k)
	t.put(round((idle+t.noise(4))/units.InH2O, 0.05))
	t.put(round((fast+t.noise(4))/units.InH2O, 0.05))
	// What this kind of crankcase should stand at: its regulator's value, or nearly nothing.
	usual := 0.0
	for _, p := range t.order {
		if x := t.piece[p]; x.By == "self" {
			usual = x.Full
		}
	}
	switch {
	case idle > 60 || fast > 60:
		t.out.Outcome = "pressure"
	case idle < usual-0.35*math.Abs(usual)-150:
		t.out.Outcome = "high-vacuum"
	case usual < -2000 && idle > 0.6*usual:
		t.out.Outcome = "low-vacuum"
	default:
		t.out.Outcome = "normal"
	}
	return ""
}

func (t *try) egrVacuum() string {
	x := t.role["recirculation"]
	if !t.warm() {
		t.put(0, "the engine does not keep running")
		t.out.Outcome = "stays"
		return ""
	}
	base := t.Engine.Speed
	// The hose off the solenoid and the hand pump on the diaphragm: shut the solenoid off.
	d := t.piece[x.By]
	if _, err := t.Connect(d.Key, 0); err != nil {
		return err.Error()
	}
	sol := t.role["recirculation-control"]
	if sol != nil {
		t.net.Edges[sol.past].Shut, t.net.Edges[sol.edge].Shut = true, true
	}
	_ = t.rig.Set(Draw, -15*units.InHg)
	low := base
	for range 100 {
		t.run(0.2)
		low = math.Min(low, t.Engine.Speed)
	}
	_ = t.rig.Set(Seal, 0)
	for range 100 {
		t.run(0.2)
		low = math.Min(low, t.Engine.Speed)
	}
	held := -t.RigGauge()
	t.put(round(math.Max(held+t.noise(100), 0)/units.InHg, 0.1))
	stumbles := low < base-90
	_ = t.rig.Set(Open, 0)
	t.run(20)
	recovered := t.Engine.Running && t.Engine.Speed > base-100
	word := "no"
	if stumbles {
		word = "stumbles"
	}
	t.put(round(base-low, 10), word)
	switch {
	case held < 0.7*15*units.InHg:
		t.out.Outcome = "torn"
	case !stumbles:
		t.out.Outcome = "no-flow"
	case recovered || !t.Engine.Running:
		t.out.Outcome = "stumbles"
	default:
		t.out.Outcome = "stays"
	}
	return ""
}

func (t *try) egrRamp() string {
	sol := t.role["recirculation-control"]
	if !t.warm() {
		t.put(0, "the engine does not keep running")
		t.out.Outcome = "nothing"
		return ""
	}
	_ = t.Drive(Load)
	t.run(40)
	_ = t.Command(sol.Key, 0)
	t.run(10)
	v0, _ := t.Difference()
	a0, _ := t.MeteredAir()
	m0, _ := t.ManifoldPressure()
	_ = t.Command(sol.Key, 0.6)
	t.run(6)
	v1, _ := t.Difference()
	a1, metered := t.MeteredAir()
	m1, _ := t.ManifoldPressure()
	t.put(round(v0+t.noise(0.01), 0.02))
	t.put(round(v1+t.noise(0.01), 0.02))
	switch {
	case v1-v0 > 0.3:
		t.out.Outcome = "rises"
	case metered && a1 < 0.9*a0 || m1 > m0+2000:
		t.out.Outcome = "blind"
	default:
		t.out.Outcome = "nothing"
	}
	return ""
}

func (t *try) egrCoils() string {
	x := t.role["recirculation"]
	t.put(round(coilOhm+x.get("resistance")+t.noise(0.2), 0.1))
	switch {
	case !t.live(x):
		t.out.Outcome = "coil"
	case x.get("opening") < 0.3 || x.get("rest") > 0.05:
		t.out.Outcome = "seized"
	default:
		t.out.Outcome = "good"
	}
	return ""
}

func (t *try) egrCommand() string {
	x := t.role["recirculation"]
	if x.By != "" {
		return "its valve is moved by vacuum"
	}
	if !t.warm() {
		t.put(0, "the engine does not keep running")
		t.out.Outcome = "flows-shut"
		return ""
	}
	_ = t.Drive(Load)
	t.run(40)
	read := func(share float64) (air, behind float64) {
		_ = t.Command(x.Key, share)
		t.run(20)
		air, ok := t.MeteredAir()
		if !ok {
			air = t.estimate() // from speed and density, less what the command should let in
		}
		behind, _ = t.BehindValve()
		return air, behind
	}
	a0, hot := read(0)
	a1, _ := read(0.6)
	t.put(round(a0*1000*(1+t.noise(0.01)), 0.01))
	t.put(round(a1*1000*(1+t.noise(0.01)), 0.01))
	t.put(round(hot-273.15+t.noise(1), 1))
	switch {
	case hot > 413:
		t.out.Outcome = "flows-shut"
	case a1 > 0.93*a0:
		t.out.Outcome = "no-flow"
	default:
		t.out.Outcome = "follows"
	}
	return ""
}

// boostTest feeds the charge side with regulated air, inlet shut at the filter.
func (t *try) boostTest() string {
	if t.role["charge"] == nil {
		return "it has no charge side"
	}
	_ = t.Set("air-filter", plumbing.Shut)
	_ = t.Set("throttle", plumbing.Shut)
	if _, err := t.Connect(t.role["charge"].Key, 0); err != nil {
		return err.Error()
	}
	_ = t.rig.Supply(0.012)
	const at = 5 * 6894.757
	_ = t.rig.Set(Charge, at)
	t.rig.Hold = true
	t.run(120)
	flow := gas.FreeAir(t.rig.Flow, t.At.Barometer, t.At.Ambient) * 60e3
	t.put(round((t.RigGauge()+t.noise(50))/units.Psi, 0.05))
	t.put(round(flow*(1+t.noise(0.02)), 0.1))
	crank, _ := t.Gauge(t.role["crankcase"].Key)
	leaks := 0.0
	for _, k := range t.order {
		if x := t.piece[k]; x.hole >= 0 && t.net.Edges[x.hole].Flow > 5e-5 {
			leaks += t.net.Edges[x.hole].Flow
			t.out.Exits = append(t.out.Exits, Exit{k, exitSize(t.net.Edges[x.hole].Flow)})
		}
	}
	switch {
	case leaks > 1e-4:
		t.out.Outcome = "exit"
	case crank > 1500:
		t.out.Outcome = "crankcase"
	default:
		t.out.Outcome = "holds"
	}
	return ""
}

func round(v, step float64) float64 {
	r := math.Round(v/step) * step
	return math.Round(r*1e6) / 1e6
}

// Tests lists the tests that the plant can do.
func Tests() []string {
	out := make([]string, 0, len(trials))
	for k := range trials {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}
