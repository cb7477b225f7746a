package trim_test

import (
	"math"
	"math/rand/v2"

	"wexter/core/trim"
)

// truth is an engine of its own against which the analysis is judged: it shares no line with
// it. Air goes through a meter, an inlet pipe, a throttle and the ports; the control unit
// reckons with the meter or with the pressure and trims what the exhaust says. Its parts are
// drawn, and wander: this is no measured engine, but nothing in it was chosen for the fit.
type truth struct {
	r        *rand.Rand
	byMap    bool
	boosted  bool
	twoBanks bool
	size     float64 // m³
	baro     float64 // Pa
	intake   float64 // K
	slope    float64 // of the charge over the manifold pressure
	offset   float64 // of the barometer, lost to what stays in the cylinder
	idleAir  float64 // kg/s that idle wants
	idleAt   float64 // 1/min
	base     float64 // the engine's own trim
	wander   float64 // of that, over the drive
	purgeAir float64 // what a unit of purge duty passes at idle, of the idle air
	vapour   float64 // what it does to the trims: air less fuel
	stop     float64 // of the trims
	noise    float64 // of the meter
	swing    float64 // of the short trim
	most     float64 // kg/s, the largest flow of this drive's steady pulls

	cause trim.Key
	what  float64 // its size: m², shares

	learned map[[2]int]float64 // long trims, kept from one drive to the next
	shape   float64            // how it goes with the flow
}

// choked and unchoked flow through a hole, for each m² of it: the energy equation of a perfect
// gas (any textbook of gas dynamics), written out anew.
func through(p1, t1, p2 float64) float64 {
	const k, gasConstant, discharge = 1.4, 287.05, 0.61
	if p2 >= p1 {
		return 0
	}
	pr := math.Max(p2/p1, math.Pow(2/(k+1), k/(k-1)))
	return discharge * p1 / math.Sqrt(gasConstant*t1) * math.Sqrt(2*k/(k-1)*(math.Pow(pr, 2/k)-math.Pow(pr, (k+1)/k)))
}

// draw makes an engine with a cause.
func draw(seed uint64, cause trim.Key) *truth {
	r := rand.New(rand.NewPCG(seed, 0x7217))
	u := func(a, b float64) float64 { return a + (b-a)*r.Float64() }
	e := &truth{r: r, size: u(1.1, 2.6) * 1e-3, baro: u(93e3, 102.5e3), intake: u(288, 322), slope: 0.95 * (1 + 0.045*r.NormFloat64()), offset: u(0.05, 0.09),
		idleAt: u(660, 830), base: 0.018 * r.NormFloat64(), wander: u(0.001, 0.006), vapour: 0.14 * r.NormFloat64(), purgeAir: u(0.1, 0.35), stop: []float64{0.25, 0.3, 0.35}[r.IntN(3)],
		noise: u(0.002, 0.008), swing: u(0.008, 0.025), boosted: r.Float64() < 0.3, twoBanks: r.Float64() < 0.3, cause: cause}
	e.byMap = r.Float64() < 0.3
	switch cause {
	case trim.ChargeLeak:
		e.boosted, e.byMap = true, false
	case trim.InletLeak, trim.ManifoldLeak:
		e.byMap = false
	}
	e.idleAir = e.size * u(1.15, 1.6) // 1.8 L: 2.1 to 2.9 g/s
	sign := float64(1 - 2*r.IntN(2))
	log := func(a, b float64) float64 { return a * math.Pow(b/a, r.Float64()) }
	switch cause {
	case trim.ManifoldLeak:
		e.what = log(0.05, 0.6) * e.idleAir / through(e.baro, e.intake, 0.33*e.baro)
	case trim.InletLeak:
		e.what = log(0.04, 0.35)
	case trim.MeterScale:
		e.what, e.shape = sign*log(0.05, 0.25), 0.03*r.NormFloat64()
	case trim.FuelDelivery:
		e.what, e.shape = log(0.06, 0.35), u(0.5, 2)
	case trim.RichIdle:
		e.what = log(0.05, 0.45)
	case trim.ChargeLeak:
		e.what = log(0.04, 0.25)
	case trim.PurgeShare:
		e.what = sign * log(0.35, 1.0)
		e.vapour, e.purgeAir = e.what, math.Max(e.purgeAir, e.what)
		if e.byMap {
			e.vapour = e.purgeAir - math.Abs(e.what)
		}
	case trim.EGRShare:
		e.what = log(0.05, 0.3) * e.idleAir / through(1.02*e.baro, 750, 0.35*e.baro)
	}
	return e
}

// state is where the engine runs for a while.
type state struct {
	speed    float64 // 1/min
	pressure float64 // Pa wanted in the manifold; 0 for idle
	road     float64 // km/h
	seconds  float64
	kind     int // 0 steady, 1 pull with open loop, 2 overrun
}

// drive is what is driven: idle, 2500 without load, roads with pulls, idle again.
func (e *truth) drive() []state {
	u := func(a, b float64) float64 { return a + (b-a)*e.r.Float64() }
	out := []state{{0, 0, 0, u(60, 120), 0}, {2500 + u(-150, 150), u(0.28, 0.34) * e.baro, 0, u(25, 45), 0}}
	for range 3 + e.r.IntN(4) {
		out = append(out, state{u(1400, 3200), u(0.45, 0.9) * e.baro, u(25, 90), u(12, 40), 0})
		switch e.r.IntN(3) {
		case 0:
			out = append(out, state{u(2500, 4200), 0.98 * e.baro, u(40, 110), u(3, 8), 1})
		case 1:
			out = append(out, state{u(1500, 2800), 0.22 * e.baro, u(30, 80), u(4, 10), 2})
		}
		if e.boosted {
			out = append(out, state{u(1900, 3200), u(1.1, 1.55) * e.baro, u(50, 110), u(8, 22), 0})
		}
		if e.r.IntN(3) == 0 {
			out = append(out, state{0, 0, 0, u(15, 45), 0})
		}
	}
	return append(out, state{0, 0, 0, u(40, 80), 0})
}

// charge is the gas that the cylinders take, kg/s, air and whatever comes back.
func (e *truth) charge(speed, pressure float64) float64 {
	return e.size * speed / 120 * math.Max(e.slope*pressure-e.offset*e.baro, 1e3) / (287.05 * (e.intake + 8))
}

// flows are the engine's at one moment.
type flows struct {
	speed, pressure, air float64 // in the ports
	read                 float64 // kg/s that the meter says
	need                 float64 // ln of what the trims have to be, in all
}

// flow works out a moment: the pressure follows the demand at idle.
func (e *truth) flow(speed, pressure, duty float64) flows {
	f := flows{speed: speed, pressure: pressure}
	if pressure == 0 {
		f.speed = e.idleAt
		// The idle regulator asks for a torque, that is for air; what recirculates comes on top.
		back := 0.0
		for range 30 {
			f.pressure = ((e.idleAir+back)*287.05*(e.intake+8)/(e.size*f.speed/120) + e.offset*e.baro) / e.slope
			back = 0
			if e.cause == trim.EGRShare {
				back = e.what * through(1.02*e.baro, 750, f.pressure)
			}
		}
	}
	gas := e.charge(f.speed, f.pressure)
	back, enters, lost := 0.0, 0.0, 0.0
	switch e.cause {
	case trim.EGRShare:
		back = math.Min(e.what*through(1.02*e.baro, 750, f.pressure), 0.6*gas)
	case trim.ManifoldLeak:
		enters = e.what * through(e.baro, e.intake, f.pressure)
	case trim.ChargeLeak:
		lost = e.lost(f.pressure)
	}
	f.air = gas - back
	comes := duty * e.idleAir * math.Min(1, 1.7*math.Sqrt(math.Max(1-f.pressure/e.baro, 0))) // purge, for each unit of what its valve passes
	metered := math.Max(f.air-enters+lost-comes*e.purgeAir, 0.05*f.air)
	if e.cause == trim.InletLeak {
		metered /= 1 + e.what
	}
	f.read = metered
	if e.cause == trim.MeterScale {
		f.read *= (1 + e.what) * math.Pow(f.air/e.middle(), e.shape)
	}
	reckoned := f.read
	if e.byMap {
		reckoned = gas
		if e.cause == trim.MeterScale {
			reckoned *= (1 + e.what) * math.Pow(f.air/e.middle(), e.shape)
		}
	}
	fuel := 1.0
	extra := 0.0
	switch e.cause {
	case trim.FuelDelivery:
		fuel = 1 - e.what*math.Pow(f.air/e.most, e.shape)
	case trim.RichIdle:
		extra = e.what * e.idleAir / f.air
	}
	f.need = math.Log(f.air*(1-math.Min(extra, 0.9))/(reckoned*fuel)) + e.base
	carried := comes * (e.purgeAir - e.vapour) / f.air // fuel, as the air that it burns
	f.need += math.Log1p(-math.Min(carried, 0.9))
	return f
}

// middle is the flow at which a meter's error is stated.
func (e *truth) middle() float64 { return math.Sqrt(e.idleAir * e.most) }

// lost is what a hole of the charge side lets out, with what as the share at half a bar.
func (e *truth) lost(pressure float64) float64 {
	full := e.charge(2500, 1.5*e.baro)
	return e.what * full * through(pressure, e.intake+20, e.baro) / through(1.5*e.baro, e.intake+20, e.baro)
}

// log drives the engine and writes down what an adapter would.
func (e *truth) log() *trim.Log {
	way := e.drive()
	e.most = e.idleAir
	for _, s := range way {
		if s.kind == 0 && s.pressure > 0 {
			e.most = math.Max(e.most, e.charge(s.speed, s.pressure))
		}
	}
	const dt = 0.1
	w := &writer{e: e, log: &trim.Log{}, every: 0.15 + 0.5*e.r.Float64()}
	w.begin()
	if e.learned == nil {
		e.learned = map[[2]int]float64{}
	}
	u := unit{e: e, learned: e.learned, share: e.r.Float64(), rate: 15 + 45*e.r.Float64()}
	t, speed, pressure, duty, phase := 0.0, e.idleAt, 0.0, 0.0, 30*e.r.Float64()
	coolant := 293 + 75*e.r.Float64()
	high, length := 0.1+0.5*e.r.Float64(), 40+60*e.r.Float64()
	drift := 0.0
	for _, s := range way {
		for end := t + s.seconds; t < end; t += dt {
			coolant += dt * (363 - coolant) / 60
			drift += e.wander*math.Sqrt(2*dt/60)*e.r.NormFloat64() - drift*dt/60
			wanted := 0.0
			if coolant > 345 && s.kind == 0 && math.Mod(t+phase, 1.6*length) > 0.6*length {
				wanted = high * (1 + 0.15*math.Sin(t/9))
			}
			duty += dt * (wanted - duty) / 1.5
			if s.pressure > 0 && pressure == 0 {
				pressure = 0.35 * e.baro
			}
			f := e.flow(s.speed, s.pressure, duty)
			speed += dt * (f.speed*(1+0.006*math.Sin(t*1.7)) - speed) / 0.8
			pressure += dt * (f.pressure - pressure) / 0.4
			g := e.flow(speed, pressure, duty)
			g.need += drift
			u.step(g, coolant, s.kind, dt)
			w.step(t, row{g, coolant, s.road, duty, u})
		}
	}
	return w.log
}

// unit is the control unit's closed loop: a short trim that swings about what is needed, and
// a long one that learns it in cells of speed and load.
type unit struct {
	e           *truth
	short, long float64
	system      float64 // as PID 03 says it
	learned     map[[2]int]float64
	share       float64 // of a need that was learned before this drive
	rate        float64 // s
	follow, at  float64
}

func (u *unit) step(f flows, coolant float64, kind int, dt float64) {
	key := [2]int{int(f.speed / 1200), int(f.air / f.speed * 1e6 / 2.5)}
	need := math.Expm1(f.need)
	if _, ok := u.learned[key]; !ok {
		u.learned[key] = math.Min(math.Max(u.share*need, -u.e.stop), u.e.stop)
	}
	u.long = u.learned[key]
	u.system = 2
	switch {
	case coolant < 320:
		u.system = 1
	case kind > 0:
		u.system = 4
	}
	u.at += dt * (0.6 + 0.8*u.e.r.Float64())
	if u.system != 2 {
		u.short, u.follow = 0, 0
		return
	}
	u.follow += dt * ((1+need)/(1+u.long) - 1 - u.follow) / 0.9
	saw := 2 * math.Abs(2*(u.at-math.Floor(u.at))-1) // 0 … 2
	u.short = u.follow + u.e.swing*(saw-1) + 0.003*u.e.r.NormFloat64()
	u.short = math.Min(math.Max(u.short, -u.e.stop), u.e.stop)
	if coolant > 343 {
		x := u.learned[key] + dt/u.rate*u.short
		u.learned[key] = math.Min(math.Max(x, -u.e.stop), u.e.stop)
	}
}

// row is a moment as an adapter could ask for it.
type row struct {
	flows
	coolant, road, duty float64
	unit                unit
}

// writer asks for some data at a time, as adapters do, with the steps of their coding.
type writer struct {
	e     *truth
	log   *trim.Log
	every float64
	next  float64
	turn  int
	asked []trim.Channel
}

func (w *writer) begin() {
	w.asked = []trim.Channel{trim.Short1, trim.Speed, trim.Long1, trim.Load, trim.ManifoldPressure, trim.Coolant, trim.FuelSystem, trim.Purge, trim.IntakeAir, trim.RoadSpeed, trim.Barometer, trim.Throttle}
	if !w.e.byMap {
		w.asked = append(w.asked, trim.MeteredAir)
	}
	if w.e.twoBanks {
		w.asked = append(w.asked, trim.Short2, trim.Long2)
	}
	for _, c := range w.asked {
		w.log.Value[c] = []float64{}
	}
}

// step writes rows of three or four data each, in turn.
func (w *writer) step(t float64, r row) {
	if t < w.next {
		return
	}
	w.next = t + w.every*(0.7+0.6*w.e.r.Float64())
	w.log.Time = append(w.log.Time, t)
	due := map[trim.Channel]bool{trim.Short1: true, trim.Speed: true}
	for range 3 {
		due[w.asked[w.turn%len(w.asked)]] = true
		w.turn++
	}
	for _, c := range w.asked {
		x := math.NaN()
		if due[c] {
			x = w.read(c, r)
		}
		w.log.Value[c] = append(w.log.Value[c], x)
	}
}

// read is what a datum says, in the steps of SAE J1979.
func (w *writer) read(c trim.Channel, r row) float64 {
	coded := func(x, step float64) float64 { return math.Round(x/step) * step }
	g := w.e.r.NormFloat64
	switch c {
	case trim.Short1, trim.Short2:
		return coded(r.unit.short, 1/128.0)
	case trim.Long1, trim.Long2:
		return coded(r.unit.long, 1/128.0)
	case trim.Speed:
		return coded(r.speed*(1+0.003*g()), 0.25)
	case trim.MeteredAir:
		return coded(math.Max(r.flows.read*(1+w.e.noise*g()), 0), 1e-5)
	case trim.ManifoldPressure:
		return coded(r.pressure+400*g(), 1000)
	case trim.Load:
		return coded(math.Min(r.air/w.e.charge(r.speed, w.e.baro), 1), 1/255.0)
	case trim.Throttle:
		return coded(0.1+0.7*r.pressure/w.e.baro, 1/255.0)
	case trim.RoadSpeed:
		return coded(r.road, 1) / 3.6
	case trim.Coolant:
		return coded(r.coolant, 1)
	case trim.IntakeAir:
		return coded(w.e.intake, 1)
	case trim.FuelSystem:
		return r.unit.system
	case trim.Purge:
		return coded(math.Max(r.duty, 0), 1/255.0)
	}
	return coded(w.e.baro, 1000)
}

// sized is what the true size is in the words of the analysis, at the points that it found.
func (e *truth) sized(points []trim.Point, metering trim.Metering) float64 {
	idle, least, most, boost, mean := points[0], points[0], points[0], 0.0, 0.0
	flow := func(p trim.Point) float64 { return e.charge(p.Speed, p.Pressure) }
	purge := 0.0
	for _, p := range points {
		if p.Region == trim.Idle && (idle.Region != trim.Idle || p.Seconds > idle.Seconds) {
			idle = p
		}
		if flow(p) < flow(least) {
			least = p
		}
		if flow(p) > flow(most) {
			most = p
		}
		boost = math.Max(boost, e.lost(p.Pressure)/(flow(p)+e.lost(p.Pressure)))
		mean += math.Log(flow(p)) / float64(len(points))
		comes := p.Purge * e.idleAir / flow(p) * math.Min(1, 1.7*math.Sqrt(math.Max(1-p.Pressure/e.baro, 0)))
		v := comes * e.vapour / (1 - comes*e.purgeAir)
		if e.byMap {
			v = comes * (e.vapour - e.purgeAir)
		}
		if math.Abs(v) > math.Abs(purge) {
			purge = v
		}
	}
	switch e.cause {
	case trim.ManifoldLeak:
		return 1e3 * math.Sqrt(4*e.what/math.Pi)
	case trim.InletLeak:
		return 100 * e.what / (1 + e.what)
	case trim.MeterScale:
		return 100 * ((1+e.what)*math.Pow(math.Exp(mean)/e.middle(), e.shape) - 1)
	case trim.FuelDelivery:
		return 100 * e.what * math.Pow(flow(most)/e.most, e.shape)
	case trim.RichIdle:
		return 100 * e.what * e.idleAir / flow(idle)
	case trim.ChargeLeak:
		return 100 * boost
	case trim.PurgeShare:
		return 100 * purge
	case trim.EGRShare:
		return 100 * e.what * through(1.02*e.baro, 750, idle.Pressure) / flow(idle)
	}
	return math.NaN()
}
