package sim

import (
	"fmt"
	"maps"
	"math"
	"slices"

	"wexter/core/gas"
	"wexter/core/obd"
)

// Trouble is what the control unit keeps of one code.
type Trouble struct {
	Pending, Stored, Permanent bool
	failed                     bool // on this trip
	passes                     int  // trips in a row without it
}

// Result is a number of a monitor's own test, as service 06 gives it.
type Result struct {
	Name       string
	Value, Max float64
	Unit       string
	Min        float64
}

// Unit is the control unit of engine and EVAP system: it reads its sensors, never the
// truth. What it takes from a healthy car of its kind is in its tables.
type Unit struct {
	Short, Long float64 // fuel trims of the present cell, share
	Closed      bool    // the loop is closed
	Purge       float64 // duty that it commands
	Recirculate float64 // share that it commands
	Codes       map[string]*Trouble
	Freeze      map[string]float64 // live data when the first code was stored
	FreezeCode  string
	Ready       map[string]bool // monitors that have completed since the last clear
	Results     map[string]Result
	Blocked     string  // why the leak check does not run now
	RunTime     float64 // s since start
	Trips       int
	WarmUps     int
	Strokes     int // of a leak pump in its last run
	Pause       float64

	long     [3]float64
	lean     float64 // s that the trims have been at their limit
	rich     float64
	sensed   float64 // lambda, with the sensor's lag
	slow     float64 // K of coolant at start
	ambient  float64
	off      float64 // time of the last shut-down
	soak     float64 // s before the last start
	leak     check
	slowIdle float64
	weak     float64
	egr      egrCheck
	warmed   bool
}

// usualPull is the manifold pressure over the barometer that a driver holds at Load.
const usualPull = 0.72

// Limits of the unit, common practice, no source.
const (
	trimStop = 0.25 // of short and of long, each
	trimCode = 0.20
)

func (c *Car) newUnit() {
	u := &c.Unit
	u.Codes, u.Ready, u.Results = map[string]*Trouble{}, map[string]bool{}, map[string]Result{}
	u.sensed, u.off, u.soak = 1, -12*3600, 12*3600
	u.ambient = c.At.Ambient
	for _, m := range c.monitors() {
		u.Ready[m] = true
	}
}

// monitors that this car has, besides the continuous ones.
func (c *Car) monitors() []string {
	out := []string{"catalyst", "oxygen_sensor", "oxygen_heater"}
	if c.diesel {
		out = []string{"nmhc_catalyst", "exhaust_sensor", "boost_pressure"}
	}
	if c.monitor != "" {
		out = append(out, "evap")
	}
	if c.role["recirculation"] != nil {
		out = append(out, "egr")
	}
	return out
}

// Clear is what service 04 does: codes but the permanent ones, freeze frame, results,
// learned trims and readiness go.
func (c *Car) Clear() {
	u := &c.Unit
	for k, t := range u.Codes {
		if *t = (Trouble{Permanent: t.Permanent}); !t.Permanent {
			delete(u.Codes, k)
		}
	}
	u.Freeze, u.FreezeCode, u.long, u.Long, u.Short = nil, "", [3]float64{}, 0, 0
	u.Results = map[string]Result{}
	for m := range u.Ready {
		u.Ready[m] = false
	}
	u.Trips, u.WarmUps, u.lean, u.rich, u.weak, u.slowIdle = 0, 0, 0, 0, 0, 0
	u.leak, u.egr = check{}, egrCheck{}
}

// Lamp reports whether the lamp is on.
func (u *Unit) Lamp() bool {
	for _, t := range u.Codes {
		if t.Stored && t.passes < 3 {
			return true
		}
	}
	return false
}

// List returns the codes of a status, sorted.
func (u *Unit) List(status obd.CodeStatus) (out []string) {
	for _, k := range slices.Sorted(maps.Keys(u.Codes)) {
		t := u.Codes[k]
		if status == obd.Stored && t.Stored || status == obd.Pending && t.Pending || status == obd.Permanent && t.Permanent {
			out = append(out, k)
		}
	}
	return
}

// fail books a failed check: pending at the first trip, stored at the second.
func (u *Unit) fail(c *Car, code string) {
	t := u.Codes[code]
	if t == nil {
		t = &Trouble{}
		u.Codes[code] = t
	}
	if t.failed {
		return
	}
	t.failed, t.passes = true, 0
	if t.Pending && !t.Stored {
		t.Stored, t.Permanent = true, true
		if u.FreezeCode == "" {
			u.FreezeCode, u.Freeze = code, c.Live()
		}
	}
	t.Pending = true
}

// pass books that a check ran and found nothing.
func (u *Unit) pass(codes ...string) {
	for _, k := range codes {
		if t := u.Codes[k]; t != nil && !t.failed {
			t.Pending = false
			if t.passes++; t.passes >= 3 {
				t.Permanent, t.Stored = false, false
			}
			if !t.Stored && !t.Permanent {
				delete(u.Codes, k)
			}
		}
	}
}

func (u *Unit) start(c *Car) {
	u.soak, u.slow, u.RunTime = c.Time-u.off, c.Coolant, 0
	u.Trips++
	for _, t := range u.Codes {
		t.failed = false
	}
	u.Short, u.lean, u.rich, u.weak, u.slowIdle, u.warmed = 0, 0, 0, 0, 0, false
	u.leak.begin(c)
	u.egr = egrCheck{}
}

func (u *Unit) shutDown(c *Car) {
	u.off = c.Time
	u.leak.keyOff(c)
}

// busy reports whether a check of the unit needs the plant to look often.
func (u *Unit) busy() bool { return u.leak.busy() }

// Command is what a tool asks the unit to do to a part: a share of its opening, 0 to 1
// (for a vent at rest open, 1 is shut); a negative share gives the part back. It needs
// the key on.
func (c *Car) Command(part string, share float64) error {
	if can := c.Commandable(); !slices.Contains(can, part) {
		return fmt.Errorf("no command for %q: this car takes commands for %v", part, can)
	}
	if math.IsNaN(share) || share > 1 {
		return fmt.Errorf("%q: a share between 0 and 1 is needed, not %g", part, share)
	}
	if c.Engine.Mode == Off {
		return fmt.Errorf("the key is off: the control unit hears nothing")
	}
	if share < 0 {
		delete(c.tool, part)
		return nil
	}
	c.tool[part] = share
	return nil
}

// Commandable lists the parts that a tool can command.
func (c *Car) Commandable() (out []string) {
	for _, x := range c.parts {
		if x.By == "" && slices.Contains([]string{"purge", "vent", "isolation", "recirculation", "recirculation-control"}, x.Role) {
			out = append(out, x.Key)
		}
	}
	return
}

// ClearOrder is a tool's order to clear: the unit obeys with the key on and the engine off.
func (c *Car) ClearOrder() error {
	if c.Engine.Running || c.Engine.Mode == Off {
		return fmt.Errorf("codes are cleared with the key on and the engine off")
	}
	c.Clear()
	return nil
}

// SealSystem shuts purge and vent for a test from outside, as long as the key stays on.
func (c *Car) SealSystem() error {
	p, v := c.role["purge"], c.role["vent"]
	if c.monitor == "" || p == nil || v == nil || c.Engine.Mode != Key {
		return fmt.Errorf("the unit does not seal this system now")
	}
	shut := 0.0
	if v.Rest == "open" {
		shut = 1
	}
	if err := c.Command(v.Key, shut); err != nil {
		return err
	}
	return c.Command(p.Key, 0)
}

// Diesel reports whether the engine burns without a throttle.
func (c *Car) Diesel() bool { return c.diesel }

// tell moves a role's part: what a tool has asked for comes first. A valve that sticks
// stays, by its odds, where it stood when a new command comes.
func (c *Car) tell(role string, share float64) {
	x := c.role[role]
	if x == nil || x.By != "" {
		return
	}
	if v, ok := c.tool[x.Key]; ok {
		share = v
		if x.Rest == "open" {
			share = 1 - v
		}
	}
	if old, ok := c.told[x.Key]; (!ok || math.Abs(old-share) > 0.5) && x.get("sticks") > 0 {
		x.stays = c.rng.Float64() < x.get("sticks")
		x.stuck = x.open
	}
	c.told[x.Key] = share
}

func (c *Car) rest(role string) float64 {
	if x := c.role[role]; x != nil && x.Rest == "open" {
		return 1
	}
	return 0
}

// control is one look of the unit at its sensors.
func (c *Car) control(h float64) {
	u, e := &c.Unit, &c.Engine
	purge, vent, isolate, egr := c.rest("purge"), c.rest("vent"), c.rest("isolation"), 0.0
	if !e.Running && !e.Cranking {
		if e.Mode == Off {
			clear(c.tool)
		}
		u.leak.step(c, h, &purge, &vent, &isolate)
		c.tell("purge", purge)
		c.tell("vent", vent)
		c.tell("isolation", isolate)
		c.tell("recirculation", 0)
		c.tell("recirculation-control", 0)
		c.told[c.role["throttle"].Key] = c.rest("throttle") // limp home opening aside
		u.Purge, u.Recirculate, u.Closed = 0, 0, false
		return
	}
	u.RunTime += h
	if c.monitor == "cooling-switch" {
		vent = 1 // free flow while powered
	}
	warm := c.Coolant > 333
	if warm && !u.warmed && u.slow < 305 {
		u.warmed = true
		u.WarmUps++
	}
	moving := e.Mode == Load || e.Mode == Fast
	if warm && moving && u.RunTime > 60 && !c.diesel {
		purge = 0.35
	}
	if e.Mode == Boost && warm && c.role["second-purge"] != nil {
		purge = 0.35
	}
	if warm && (e.Mode == Load || c.diesel && e.Mode != Boost) {
		egr = c.recirculating()
	}
	if p, ok := c.TankPressure(); ok && p < -2500 {
		purge = 0 // it protects the tank
	}
	u.leak.step(c, h, &purge, &vent, &isolate)
	u.egr.step(c, h, &egr)
	c.tell("purge", purge)
	c.tell("vent", vent)
	c.tell("isolation", isolate)
	c.tell("recirculation", egr)
	c.tell("recirculation-control", egr)
	if x := c.role["purge"]; x != nil {
		u.Purge = c.told[x.Key]
	}
	u.Recirculate = egr
	c.air(h)
	c.mixture(h)
	c.watch(h)
}

// air sets the throttle: by idle control, by the driver, or wide open.
func (c *Car) air(h float64) {
	e := &c.Engine
	t := c.role["throttle"].Key
	gain := 1.5e-5
	if c.diesel {
		c.told[t] = 1
		switch e.Mode {
		case Load:
			e.fuelDiesel += (0.9e-3*c.At.Displacement/1.6e-3 - e.fuelDiesel) * -math.Expm1(-h/0.5)
		case Boost:
			e.fuelDiesel += (2.6e-3*c.At.Displacement/1.6e-3 - e.fuelDiesel) * -math.Expm1(-h/0.8)
		default:
			want := 1.6e-4 * c.At.Displacement / 1.6e-3 * (1 + e.Speed/3000)
			e.idle += (c.target() - e.Speed) * 2e-8 * h
			e.idle = math.Min(math.Max(e.idle, -3e-4), 6e-4)
			e.fuelDiesel = math.Max(want+e.idle+(c.target()-e.Speed)*1.2e-7, 0)
		}
		return
	}
	switch {
	case e.Cranking:
		e.throttle = 0.1
	case e.Mode == Load:
		want := usualPull * c.At.Barometer
		if e.pull > 0 {
			want = e.pull * c.At.Barometer
		}
		e.throttle += (want - c.net.Nodes[c.role["intake"].first].Pressure()) / 101325 * 0.25 * h * 4
	case e.Mode == Boost:
		e.throttle = 1
	default:
		if e.Mode == Fast {
			gain = 1.0e-5
		}
		miss := c.target() - e.Speed
		e.idle += miss * gain * h
		lo, hi := 0.02, 0.3
		e.idle = math.Min(math.Max(e.idle, lo), hi)
		e.throttle = e.idle + math.Min(math.Max(miss*6e-6, -0.03), 0.03)
	}
	e.throttle = math.Min(math.Max(e.throttle, 0.01), 1)
	c.told[t] = e.throttle
}

// cell of the learned trims by what the unit sees of the load.
func (c *Car) cell() int {
	e := &c.Engine
	switch {
	case e.Speed < 1200:
		return 0
	case e.Mode == Fast:
		return 1
	}
	return 2
}

// mixture meters fuel: by the air meter, or by speed and density, times the trims.
func (c *Car) mixture(h float64) {
	u, e := &c.Unit, &c.Engine
	if c.diesel {
		e.Injected, u.Closed = e.fuelDiesel, false
		if e.Cranking {
			e.Injected = 4e-4 * c.At.Displacement / 1.6e-3
		}
		return
	}
	air := c.estimate()
	block := c.block.get("supply") // weak fuel delivery grows with what is asked of it
	if block < 1 {
		block = 1 - (1-block)*math.Min(0.35+0.65*e.Injected/(1.2e-3*c.At.Displacement/1.6e-3), 1)
	}
	seals := 1.0
	for _, x := range c.parts { // what an injector lets through beyond its command
		if x != c.block && x.get("supply") != 1 {
			seals = x.get("supply")
		}
	}
	leak := (seals - 1) * 2.2e-3 / stoich // a dribble: the same whatever the flow
	u.sensed += (c.lambdaSeen() - u.sensed) * -math.Expm1(-h/0.35)
	u.Closed = e.Running && u.RunTime > 20 && c.Coolant > 303 && e.Mode != Boost
	if e.Mode == Boost && e.Running && u.RunTime > 20 && c.Coolant > 303 {
		// A wide-band sensor holds the loop up to moderate boost.
		p, ok := c.ChargePressure()
		u.Closed = ok && p < 2.2*gas.StandardPressure
	}
	lambda := 1.0
	i := c.cell()
	if u.Closed {
		miss := u.sensed - 1
		u.Short += miss * 0.5 * h
		u.Short = math.Min(math.Max(u.Short, -trimStop), trimStop)
		if c.Coolant > 343 {
			learn := u.Short * h / 20
			u.long[i] = math.Min(math.Max(u.long[i]+learn, -trimStop), trimStop)
			u.Short -= learn
		}
	} else {
		u.Short = 0
		lambda = 1 - 0.12*math.Min(math.Max((313-c.Coolant)/40, 0), 1)
	}
	u.Long = u.long[i]
	p := 0.0
	if u.Closed {
		p = 0.12 * (u.sensed - 1)
	}
	e.Injected = math.Max(air/stoich/lambda*(1+u.Short+p)*(1+u.Long)*block+leak, 0)
	if e.Cranking {
		e.Injected = air / stoich * 1.15 * block // flooding vapour comes on top
	}
}

// Total is the whole trim, (1+S)(1+L)−1.
func (u *Unit) Total() float64 { return (1+u.Short)*(1+u.Long) - 1 }

// estimate is the air that the unit believes the engine to take, kg/s. With an air meter
// it is the meter's word; without one it is speed and density, less the exhaust gas and
// blow-by that a healthy engine of this kind takes at this point.
func (c *Car) estimate() float64 {
	e := &c.Engine
	if m, ok := c.MeteredAir(); ok && !e.Cranking {
		return m
	}
	p, ok := c.ManifoldPressure()
	if !ok {
		p = c.At.Barometer
	}
	n := &c.net.Nodes[c.block.first]
	all := efficiency(e.Speed) * c.At.Displacement * e.Speed / 120 * p / (gas.RAir * n.Temperature())
	return math.Max(all-c.blowBy(e.Speed, p/gas.StandardPressure)-c.recirculated(p), 0)
}

// recirculating is what the unit commands when it recirculates: the usual share for a
// valve of this size. A diesel has little to drive the gas and opens further.
func (c *Car) recirculating() float64 {
	x := c.role["recirculation"]
	switch {
	case x == nil:
		return 0
	case x.By != "":
		return 0.3
	case c.diesel:
		return 0.5
	}
	return math.Min(0.25*0.012/x.bore, 0.5)
}

// recirculated is what the unit expects to flow through the EGR valve, from the
// healthy valve's size and its command.
func (c *Car) recirculated(p float64) float64 {
	x := c.role["recirculation"]
	if x == nil || c.Unit.Recirculate == 0 {
		return 0
	}
	open := c.Unit.Recirculate
	if x.By != "" { // by vacuum: what the solenoid's duty makes of the manifold's
		open = math.Min(math.Max((open*(c.At.Barometer-p)+x.Begins)/(x.Begins-x.Full), 0), 1)
	}
	ex := &c.net.Nodes[c.block.second]
	return gas.Orifice(valveCd*gas.Area(x.bore)*open*open, 1, math.Max(c.At.Barometer+800, p), ex.Temperature(), p) * 0.95
}

// lambdaSeen is what the oxygen sensor says: its gain may be false, and a leak before it
// lets the pulses of the exhaust draw in air, most at idle (an own estimate: pulses of
// 1.5 kPa below the mean for a quarter of the time).
func (c *Car) lambdaSeen() float64 {
	e := &c.Engine
	if !e.Running {
		return 1
	}
	l := e.Lambda * c.role["exhaust"].get("gain")
	joint := 0.0
	exhaust := c.role["exhaust"].Key
	for _, x := range c.parts {
		if x.On == exhaust {
			joint += x.get("leak")
		}
	}
	if joint > 0 {
		mean := c.net.Nodes[c.block.second].Pressure()
		dip := mean - 1500
		if dip < c.At.Barometer {
			in := 0.25 * gas.Orifice(holeCd*gas.Area(joint*1e-3), 1, c.At.Barometer, c.At.Ambient, dip)
			l += in / (stoich * math.Max(e.Injected+e.Vapour, 1e-5))
		}
	}
	return math.Min(math.Max(l, 0.6), 1.6)
}

// watch runs the checks that look all the time.
func (c *Car) watch(h float64) {
	u, e := &c.Unit, &c.Engine
	if !e.Running || u.RunTime < 30 {
		return
	}
	hold := func(t *float64, bad bool, after float64, code string) {
		if bad {
			if *t += h; *t > after {
				u.fail(c, code)
			}
			return
		}
		*t = math.Max(*t-h, 0)
	}
	if u.Closed && c.Coolant > 343 {
		hold(&u.lean, u.Total() > trimCode && u.Long > 0.12, 25, "P0171")
		hold(&u.rich, u.Total() < -trimCode && u.Long < -0.12, 25, "P0172")
		if e.Mode == Idle {
			code := "P0507"
			if e.Speed < idleSpeed {
				code = "P0506"
			}
			hold(&u.slowIdle, math.Abs(e.Speed-idleSpeed) > 150, 15, code)
		}
	}
	if e.Mode == Boost && u.RunTime > 60 {
		p, ok := c.ChargePressure()
		hold(&u.weak, ok && p-c.At.Barometer < 0.75*boostWanted, 8, "P0299")
	}
	if u.RunTime > 600 && c.Coolant > 343 {
		for _, m := range []string{"catalyst", "oxygen_sensor", "oxygen_heater", "nmhc_catalyst", "exhaust_sensor", "boost_pressure"} {
			if _, ok := u.Ready[m]; ok && c.block.get("ready") == 0 {
				u.Ready[m] = true
			}
		}
		if t := u.Codes["P0171"]; t != nil && !t.failed {
			u.pass("P0171")
		}
	}
	circuit := func(role, open string) {
		if x := c.role[role]; x != nil && x.By == "" && (x.get("resistance") > 1000 || !c.carries(x)) {
			u.fail(c, open)
		}
	}
	circuit("purge", "P0444")
	circuit("vent", "P0447")
	circuit("recirculation", "P0403")
	circuit("recirculation-control", "P0403")
}

// boostWanted is where the wastegate's spring holds a healthy charge side, Pa gauge.
const boostWanted = 62e3

// throttleSeen is what the unit reads of its throttle: with the engine off it stands at
// rest, whatever was commanded last.
func (c *Car) throttleSeen() float64 {
	if e := &c.Engine; e.Running || e.Cranking {
		return e.throttle
	}
	return c.rest("throttle")
}

// runTimeSeen is what the unit says of how long the engine has run: zero again when it
// comes to key on, engine off (SAE J1979, value from memory). While it watches after
// shut-down it keeps the time of the drive.
func (c *Car) runTimeSeen() float64 {
	if c.Engine.Mode == Key {
		return 0
	}
	return c.Unit.RunTime
}

// Live is what the unit says about itself, by PID, in the units of the PIDs.
func (c *Car) Live() map[string]float64 {
	u, e := &c.Unit, &c.Engine
	m := map[string]float64{"05": c.Coolant - 273.15, "0C": e.Speed, "0D": 0, "0F": c.net.Nodes[c.role["throttle"].first].Temperature() - 273.15,
		"11": c.throttleSeen() * 100, "1F": math.Floor(c.runTimeSeen()), "30": float64(u.WarmUps), "33": c.At.Barometer / 1000,
		"42": c.Volts(), "46": c.At.Ambient - 273.15, "03": 1}
	if e.Mode == Load || e.Mode == Boost {
		m["0D"] = 80
	}
	if u.Closed {
		m["03"] = 2
	}
	if !c.diesel {
		m["06"], m["07"] = u.Short*100, u.Long*100
		m["44"] = 1
	}
	full := efficiency(math.Max(e.Speed, 500)) * c.At.Displacement * math.Max(e.Speed, 500) / 120 * c.At.Barometer / (gas.RAir * 300)
	m["04"] = math.Min(100*e.Air/full, 100)
	if p, ok := c.ManifoldPressure(); ok {
		m["0B"] = p / 1000
	}
	if a, ok := c.MeteredAir(); ok {
		m["10"] = a * 1000
	}
	if t := c.role["fuel"]; t != nil {
		m["2F"] = 100 * c.At.Level
	}
	if x := c.role["purge"]; x != nil && x.By == "" {
		m["2E"] = 100 * u.Purge
	}
	if p, ok := c.TankPressure(); ok {
		m["32"] = p
	}
	if c.role["recirculation"] != nil {
		m["2C"] = 100 * u.Recirculate
		if p, ok := c.Position(); ok {
			m["2D"] = math.Min(math.Max(100*(p-u.Recirculate)/math.Max(u.Recirculate, 0.1), -100), 99)
		}
		if x := c.role["recirculation"]; len(x.sensors) >= 1 {
			for _, s := range c.parts { // a probe behind the valve
				if s.Kind == "sensor" && c.piece[s.On] != nil && c.piece[s.On].first == x.second {
					t, _ := c.BehindValve()
					m["6B"] = t - 273.15
				}
			}
		}
	}
	return m
}

// Volts of the supply.
func (c *Car) Volts() float64 {
	switch {
	case c.Engine.Running:
		return math.Min(c.At.Battery+1.6, 14.3)
	case c.Engine.Cranking:
		return c.At.Battery - 2
	}
	return c.At.Battery
}

// VapourPressure is the partial pressure of the fuel vapour in a part, Pa.
func (c *Car) VapourPressure(part string) float64 {
	x, ok := c.piece[part]
	if !ok || x.first < 0 {
		return 0
	}
	return c.net.Nodes[x.first].Partial()
}
