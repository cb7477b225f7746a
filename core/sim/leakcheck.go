package sim

import (
	"math"

	"wexter/core/gas"
	"wexter/core/network"
)

// check is the leak check of the control unit: it knows its sensors and the sizes of a
// healthy car, never the truth.
type check struct {
	stage  string
	t      float64 // s in this stage
	done   bool    // on this trip
	p0, g0 float64 // Pa at the start of a stage
	slope  float64 // Pa/s of vapour in the sealed system
	peak   float64
	count  float64 // kg towards the next stroke
	clock  float64
	class  int  // 0 holds, 1 very small, 2 small leak
	small  bool // an engine-off watch has failed: the large test is due
	ran    bool // the engine ran long enough before this soak
}

// Of the checks, all common practice without a source unless said: the vacuum they draw,
// the times they hold, the windows in which they run.
const (
	drawTo     = -1750.0 // Pa, 7 inH2O
	holdFor    = 25.0    // s
	watchFrom  = 8 * 60.0
	watchTo    = 6 * 3600.0
	sensorTo   = 45 * 60.0
	afterHours = 5 * 3600.0
	strokeMass = 25e-6 * 1.2 // kg of air, 25 mL a stroke
	pumpFree   = 2.4e-5      // kg/s of an electric pump against nothing
	pumpStall  = 5500.0      // Pa at which it stands
	springPa   = 1960.0      // of a vacuum-driven pump
	strokeFree = 9e-5        // kg/s of it against nothing
	strokeBack = 0.15        // s in which the manifold draws the diaphragm back
)

func (k *check) begin(c *Car) {
	*k = check{small: k.small}
	if c.monitor == "cooling-switch" || c.monitor == "cooling-sensor" {
		return
	}
	k.small = false
}

func (k *check) keyOff(c *Car) {
	ran := c.Unit.RunTime > 480
	*k = check{small: k.small, ran: ran}
}

func (k *check) busy() bool { return k.stage != "" && k.stage != "watch" }

func (k *check) to(stage string) { k.stage, k.t = stage, 0 }

// window says why the check may not run now; empty when it may.
func (c *Car) window(cold bool) string {
	u := &c.Unit
	lo, hi, ambient := 0.15, 0.85, 277.0
	if c.monitor == "cooling-switch" || c.monitor == "cooling-sensor" {
		lo, hi, ambient = 0.12, 0.88, 266.15
	}
	switch {
	case c.monitor == "":
		return "this system has no check of its own"
	case c.block.get("ready") > 0:
		return "the car's drives end before the check can run"
	case c.At.Level < lo || c.At.Level > hi:
		return "the fuel level is outside the window"
	case c.At.Ambient < ambient || c.At.Ambient > 308:
		return "the air is too cold or too warm"
	case c.At.Barometer < 75.2e3:
		return "the barometer is too low: too high up"
	case c.Volts() < 11:
		return "the battery is weak"
	case cold && (u.slow > 308 || math.Abs(u.slow-c.At.Ambient) > 7 || u.soak < 4*3600):
		return "it needs a cold start"
	}
	if x := c.role["purge"]; x != nil {
		if _, held := c.tool[x.Key]; held {
			return "a tool holds the valves"
		}
	}
	return ""
}

// finish ends a check: the code that failed, or none.
func (k *check) finish(c *Car, code string) {
	u := &c.Unit
	k.to("")
	k.done = true
	u.Ready["evap"] = true
	if code != "" {
		u.fail(c, code)
	}
	for _, other := range []string{"P0442", "P0455", "P0456", "P0496", "P0446", "P0441"} {
		if other != code {
			u.pass(other)
		}
	}
}

// hole is the diameter that a rise from p0 to p1 (Pa gauge, of vacuum) in t tells, m, by
// √p falling linearly; the volume is the tank's by its fuel level and five litres more.
func (c *Car) hole(p0, p1, t float64) float64 {
	size := 0.05
	if x := c.role["fuel"]; x != nil {
		size = x.Litres*1e-3*(1-c.At.Level) + 5e-3
	}
	d := math.Sqrt(math.Max(-p0, 0)) - math.Sqrt(math.Max(-p1, 0))
	rt := gas.RAir * c.At.Ambient
	area := d / t * size / (rt * gas.NominalCd * math.Sqrt(c.At.Barometer/rt/2))
	return gas.Diameter(area)
}

// step is one look; it may take purge, vent and isolation valve over.
func (k *check) step(c *Car, h float64, purge, vent, isolate *float64) {
	k.t += h
	u := &c.Unit
	off := c.Time - u.off
	running := c.Engine.Running
	switch c.monitor {
	case "draw-down":
		if running {
			k.draw(c, h, purge, vent, isolate)
		}
	case "cooling-sensor":
		if running {
			k.draw(c, h, purge, vent, isolate)
		} else if c.Engine.Mode == Off {
			k.cooling(c, off, vent)
		}
	case "cooling-switch":
		if running {
			k.large(c, purge, vent)
		} else if c.Engine.Mode == Off {
			k.watch(c, off)
		}
	case "strokes":
		k.strokes(c, h, vent)
	case "reference-pressure", "reference-vacuum":
		k.reference(c, h, off, vent)
	}
	if running && u.RunTime > 90 && !k.busy() {
		// While it purges, a tank that is drawn far down tells of a vent that does not breathe.
		if p, ok := c.TankPressure(); ok && u.Purge > 0.2 && p < -1500 && *vent == 1 && math.Abs(c.zero()) < 1200 {
			u.fail(c, "P0446")
		}
	}
	c.zeroCheck()
}

// zero is what the tank sensor should read as zero: what it read at the last key-on.
func (c *Car) zero() float64 {
	for _, r := range []string{"fuel", "carbon"} {
		if x := c.role[r]; x != nil {
			for _, s := range x.sensors {
				return s.get("offset")
			}
		}
	}
	return 0
}

// zeroCheck looks at the tank sensor after a cold start, when the tank breathes freely.
func (c *Car) zeroCheck() {
	u := &c.Unit
	if u.RunTime < 5 || u.RunTime > 12 || !c.Engine.Running || u.soak < 4*3600 || c.role["isolation"] != nil {
		return
	}
	if p, ok := c.TankPressure(); ok && math.Abs(p) > 1000 {
		if p < 0 {
			u.fail(c, "P0452")
		} else {
			u.fail(c, "P0453")
		}
	}
}

// draw pulls the system down by the manifold and watches whether it holds.
func (k *check) draw(c *Car, h float64, purge, vent, isolate *float64) {
	u := &c.Unit
	p, ok := c.TankPressure()
	if !ok {
		u.Blocked = "no tank pressure sensor"
		return
	}
	if k.stage == "" && !k.mayDraw(c) {
		return
	}
	u.Blocked = "it runs now"
	*vent, *isolate = 0, 1
	*purge = 0
	switch k.stage {
	case "seal":
		k.seal(c, p)
	case "draw":
		*purge = 0.12
		if p <= drawTo {
			k.to("settle")
		} else if k.t > 40 {
			u.Results["draw-down"] = Result{"vacuum that could be drawn", math.Max(-p, 0), 5000, "Pa", -drawTo}
			k.finish(c, "P0455")
		}
	case "settle":
		k.settle(c, h, p)
	case "hold":
		k.hold(c, p)
	case "breathe":
		*vent = 1
		if k.t < 10 {
			return
		}
		code := [3]string{"", "P0456", "P0442"}[k.class]
		if p < -700 {
			code = "P0446"
		}
		k.finish(c, code)
	}
}

// mayDraw begins the check when the car lets it; else the unit says what blocks it.
func (k *check) mayDraw(c *Car) bool {
	u := &c.Unit
	u.Blocked = c.window(true)
	manifold, _ := c.ManifoldPressure()
	switch {
	case k.done:
		u.Blocked = "it has run on this trip"
	case u.Blocked != "":
	case u.RunTime < 120 || c.Coolant < 333:
		u.Blocked = "the engine is not warm yet"
	case c.At.Barometer-manifold < 15e3:
		u.Blocked = "too little manifold vacuum"
	}
	if u.Blocked != "" {
		return false
	}
	k.to("seal")
	return true
}

// seal watches the sealed system with the purge valve shut: vacuum that comes all the same
// comes through it, pressure that rises is vapour.
func (k *check) seal(c *Car, p float64) {
	if k.t < 2 {
		k.p0 = p
		return
	}
	if k.t <= 12 {
		return
	}
	k.slope = math.Max((p-k.p0)/(k.t-2), 0)
	c.Unit.Results["purge leak"] = Result{"vacuum with the purge valve shut", math.Max(k.p0-p, 0), 300, "Pa", 0}
	if p-k.p0 < -300 {
		k.finish(c, "P0496")
		return
	}
	k.g0 = p
	k.to("draw")
}

// settle lets the gas settle after the draw-down: what is gone before then is large, and
// sized by that.
func (k *check) settle(c *Car, h, p float64) {
	if k.t <= h {
		k.g0 = p
	}
	if p > 0.5*drawTo {
		d := c.hole(k.g0, p, k.t) * 1000
		c.Unit.Results["small leak"] = Result{"leak, equivalent diameter", d, 0.42, "mm", 0}
		code := "P0442"
		if d > 2 {
			code = "P0455"
		}
		k.finish(c, code)
		return
	}
	if k.t > 30 {
		k.p0 = p
		k.to("hold")
	}
}

// hold sizes the leak by what comes in, less what the vapour made while it was sealed.
func (k *check) hold(c *Car, p float64) {
	if k.t < holdFor {
		return
	}
	d := c.hole(k.p0, math.Min(p-k.slope*k.t, 0), k.t) * 1000
	c.Unit.Results["small leak"] = Result{"leak, equivalent diameter", d, 0.42, "mm", 0}
	small := 0.42
	if c.monitor == "cooling-sensor" {
		small = 0.85
	}
	switch {
	case d > 0.85:
		k.class = 2
	case d > small:
		k.class = 1
	default:
		k.class = 0
	}
	k.to("breathe")
}

// cooling watches the sealed tank after shut-down with a sensor.
func (k *check) cooling(c *Car, off float64, vent *float64) {
	u := &c.Unit
	if k.done || !k.ran {
		return
	}
	if k.stage == "" {
		if u.Blocked = c.window(false); u.Blocked != "" {
			return
		}
		k.to("watch")
		k.peak = 0
	}
	*vent = 0
	p, _ := c.TankPressure()
	k.peak = math.Max(k.peak, p)
	switch {
	case p > 375 || p < -375:
		u.Results["engine-off"] = Result{"pressure after shut-down, either way", math.Abs(p), 3000, "Pa", 375}
		k.finish(c, "")
	case off > sensorTo:
		u.Results["engine-off"] = Result{"pressure after shut-down, either way", math.Abs(p), 3000, "Pa", 375}
		k.finish(c, "P0456")
	case k.peak > 60 && p < k.peak-30 && p > 0:
		*vent = 1 // the pressure phase is over: begin the vacuum from zero
	}
}

// watch is the engine-off watch with nothing but a switch.
func (k *check) watch(c *Car, off float64) {
	u := &c.Unit
	if k.done || !k.ran || off < watchFrom {
		return
	}
	if u.Blocked = c.window(false); u.Blocked != "" {
		return
	}
	if k.stage == "" {
		k.to("watch")
	}
	changed, _ := c.Switch()
	switch {
	case changed:
		u.Results["engine-off"] = Result{"time until the switch changed", off / 60, watchTo / 60, "min", 0}
		k.small = false
		k.finish(c, "")
	case off > watchTo:
		u.Results["engine-off"] = Result{"time until the switch changed", off / 60, watchTo / 60, "min", 0}
		k.small, k.done = true, true
		k.to("")
	}
}

// large is the engine's test that follows a failed watch.
func (k *check) large(c *Car, purge, vent *float64) {
	u := &c.Unit
	if !k.small || k.done {
		return
	}
	if k.stage == "" {
		manifold, _ := c.ManifoldPressure()
		if u.RunTime < 120 || c.Coolant < 333 || c.At.Barometer-manifold < 15e3 {
			return
		}
		k.to("draw")
	}
	// Little, or the flow through the lines makes a vacuum of its own at the switch.
	*vent, *purge = 0, 0.1
	changed, _ := c.Switch()
	switch {
	case changed:
		k.small = false
		k.finish(c, "P0456")
	case k.t > 40:
		k.small = false
		k.finish(c, "P0455")
	}
}

// strokes is the pump in the car, driven by manifold vacuum.
func (k *check) strokes(c *Car, h float64, vent *float64) {
	u := &c.Unit
	x := c.role["leak-pump"]
	if x == nil {
		return
	}
	up, in := &c.net.Nodes[x.first], &c.net.Nodes[x.second]
	up.Source[network.Air], in.Source[network.Air] = 0, 0
	if !c.Engine.Running || k.done {
		return
	}
	manifold := c.net.Nodes[c.role["intake"].first].Pressure()
	if k.stage == "" {
		if u.Blocked = c.window(true); u.Blocked != "" {
			return
		}
		if u.RunTime < 15 || c.At.Barometer-manifold < 30e3 {
			u.Blocked = "too little manifold vacuum"
			return
		}
		if x.get("resistance") > 1000 {
			k.done = true
			u.fail(c, "P2400")
			return
		}
		k.to("pump")
		u.Strokes, u.Pause, k.count, k.clock = 0, 0, 0, 0
	}
	*vent = 0
	// The diaphragm's spring presses against the difference across it, the faster the less
	// stands against it; each stroke is drawn back by the manifold in a moment.
	d := up.Pressure() - in.Pressure()
	q := strokeFree * math.Min(math.Max((springPa*math.Min(x.get("opening"), 1)-d)/600, 0), 1) * math.Min(x.get("opening"), 1)
	up.Source[network.Air], up.SourceAt = q, c.At.Ambient
	in.Source[network.Air] = -q
	k.count += q * h
	k.clock += h
	if k.count >= strokeMass {
		k.count -= strokeMass
		u.Strokes++
		u.Pause, k.clock = k.clock, 0
	}
	if k.clock > 12 && u.Strokes > 0 {
		u.Pause = k.clock
	}
	if k.t < 90 {
		return
	}
	up.Source[network.Air], in.Source[network.Air] = 0, 0
	u.Results["strokes"] = Result{"pause between strokes at the end", u.Pause, 90, "s", 3.1}
	switch {
	case u.Strokes == 0 || u.Pause < 0.45: // no pressure at all, whoever is to blame
		k.finish(c, "P0455")
	case u.Pause < 1.15:
		k.finish(c, "P0442")
	case u.Pause < 3.6:
		k.finish(c, "P0456")
	default:
		k.finish(c, "")
	}
}

// electric is the flow of the electric pump against p, kg/s.
func electric(x *piece, p float64) float64 {
	return pumpFree * math.Min(x.get("opening"), 1) * math.Max(1-math.Abs(p)/pumpStall, 0)
}

// reference compares the system with the module's own orifice, key off.
func (k *check) reference(c *Car, h, off float64, vent *float64) {
	u := &c.Unit
	x := c.role["leak-pump"]
	if x == nil {
		return
	}
	n := &c.net.Nodes[x.first]
	n.Source[network.Air] = 0
	if c.Engine.Mode != Off || k.done || !k.ran || off < afterHours {
		return
	}
	if k.stage == "" {
		if u.Blocked = c.window(false); u.Blocked != "" {
			return
		}
		if x.get("resistance") > 1000 {
			k.done = true
			u.fail(c, "P2400")
			return
		}
		// Where the pump stands against its own orifice.
		lo, hi := 0.0, pumpStall
		for range 60 {
			p := (lo + hi) / 2
			if electric(x, p) > gas.Orifice(gas.Area(x.Bore), gas.NominalCd, c.At.Barometer+p, c.At.Ambient, c.At.Barometer) {
				lo = p
			} else {
				hi = p
			}
		}
		k.p0 = lo
		u.Results["reference"] = Result{"pressure against the module's own orifice", lo, pumpStall, "Pa", 1500}
		if lo < 1500 {
			k.done = true
			u.Ready["evap"] = true
			u.fail(c, "P2404")
			return
		}
		k.to("system")
	}
	*vent = 0
	sign := 1.0
	if c.monitor == "reference-vacuum" {
		sign = -1
	}
	p := (n.Pressure() - c.At.Barometer) * sign
	q := electric(x, p)
	n.SourceAt = c.At.Ambient
	n.Source[network.Air] = q * sign
	if sign < 0 {
		for s := range n.Source {
			n.Source[s] = -q * n.Share(network.Species(s))
		}
	}
	share := 100 * p / k.p0
	u.Results["share"] = Result{"share of the reference", share, 1000, "%", 100}
	if share < 100 && k.t < 900 {
		return
	}
	n.Source = network.Gas{}
	d := gas.Diameter(q/(gas.Orifice(1, gas.NominalCd, c.At.Barometer+math.Max(p, 20), c.At.Ambient, c.At.Barometer))) * 1000
	switch {
	case share >= 100:
		k.finish(c, "")
	case share < 25:
		k.finish(c, "P0455")
	case d > 0.85:
		k.finish(c, "P0442")
	default:
		k.finish(c, "P0456")
	}
}

// egrCheck opens the EGR valve for a moment and looks for the flow.
type egrCheck struct {
	t          float64
	map0, maf0 float64
	volts0     float64
	pos0       float64
	done       bool
	held       float64
}

func (k *egrCheck) step(c *Car, h float64, command *float64) {
	u, e := &c.Unit, &c.Engine
	x := c.role["recirculation"]
	if x == nil || k.done || !e.Running || u.RunTime < 90 || c.Coolant < 343 || e.Mode != Load || c.block.get("ready") > 0 {
		return
	}
	for _, r := range []string{"recirculation", "recirculation-control"} {
		if y := c.role[r]; y != nil {
			if _, held := c.tool[y.Key]; held {
				return
			}
		}
	}
	if k.t == 0 {
		k.held = e.throttle
	}
	k.t += h
	e.throttle = k.held // the foot is still meanwhile
	p, _ := c.ManifoldPressure()
	a, metered := c.MeteredAir()
	v, electric := c.Difference()
	switch {
	case k.t < 5:
		*command = 0
		k.map0, k.maf0, k.volts0, k.pos0 = p, a, v, c.position()
		return
	case k.t < 10:
		*command = math.Min(2*c.recirculating(), 0.8)
		return
	}
	k.done = true
	u.Ready["egr"] = true
	code := ""
	pos, sees := c.Position()
	flows := p-k.map0 > 1200
	if c.diesel && metered {
		flows = a < 0.95*k.maf0
	}
	switch {
	case electric && k.volts0 > 0.95:
		code = "P0402"
	case electric && v-k.volts0 < 0.35:
		code = "P0401"
	case electric:
	case sees && (pos < c.recirculating() || k.pos0 > 0.08):
		code = "P0404"
	case !flows:
		code = "P0401"
	}
	if electric {
		u.Results["recirculation"] = Result{"rise of the differential sensor", v - k.volts0, 5, "V", 0.35}
	} else {
		u.Results["recirculation"] = Result{"rise of manifold pressure", p - k.map0, 50e3, "Pa", 1200}
	}
	if code != "" {
		u.fail(c, code)
	}
	for _, other := range []string{"P0401", "P0402", "P0404"} {
		if other != code {
			u.pass(other)
		}
	}
}

func (c *Car) position() float64 {
	p, _ := c.Position()
	return p
}
