package sim

import (
	"fmt"
	"math"
	"math/rand/v2"

	"wexter/core/gas"
	"wexter/core/network"
	"wexter/core/plumbing"
)

// Conditions are what a car stands in and what is in its tank. Zero values are taken as
// named.
type Conditions struct {
	Ambient      float64 // K; 0 is 293.15
	Barometer    float64 // Pa; 0 is 101 325
	Level        float64 // share of the tank that is fuel; 0 is 0.4
	Reid         float64 // Pa, Reid vapour pressure of the fuel; 0 is 62 kPa
	Swelling     float64 // share by which one atmosphere would stretch the tank; 0 is 0.06
	Displacement float64 // m³ of the engine; 0 is 1.6 L
	Battery      float64 // V at rest; 0 is 12.6
	Coolant      float64 // K when it begins; 0 is ambient
	Seed         uint64  // of what is left to chance: sticking and the noise of instruments
}

func (c *Conditions) fill() error {
	set := func(p *float64, d float64) {
		if *p == 0 {
			*p = d
		}
	}
	set(&c.Ambient, 293.15)
	set(&c.Barometer, gas.StandardPressure)
	set(&c.Level, 0.4)
	set(&c.Reid, 62e3)
	set(&c.Swelling, 0.06)
	set(&c.Displacement, 1.6e-3)
	set(&c.Battery, 12.6)
	set(&c.Coolant, c.Ambient)
	for _, x := range []struct {
		name      string
		v, lo, hi float64
	}{{"the ambient temperature (K)", c.Ambient, 233, 328}, {"the barometer (Pa)", c.Barometer, 50e3, 110e3}, {"the fuel level (share)", c.Level, 0.01, 1}, {"the Reid pressure (Pa)", c.Reid, 20e3, 110e3},
		{"the swelling (share)", c.Swelling, 0, 0.5}, {"the displacement (m³)", c.Displacement, 0.3e-3, 8e-3}, {"the battery (V)", c.Battery, 6, 16}, {"the coolant (K)", c.Coolant, 233, 400}} {
		if math.IsNaN(x.v) || x.v < x.lo || x.v > x.hi {
			return fmt.Errorf("%s is %g; it lies between %g and %g", x.name, x.v, x.lo, x.hi)
		}
	}
	return nil
}

// Car is a simulated car: its plumbing as a gas network, fuel and carbon, an engine, a
// control unit, and whatever faults it was given.
type Car struct {
	Graph *plumbing.Graph
	plumbing.Combination
	At      Conditions
	Coolant float64 // K
	Fuel    float64 // K, of the liquid
	Time    float64 // s since it was made

	Engine Engine
	Unit   Unit

	net        network.Net
	piece      map[string]*piece
	role       map[string]*piece
	block, jet *piece
	parts      []*piece                  // in the order of the plumbing
	by         map[string]plumbing.State // by hand
	told       map[string]float64        // by the control unit, or a tool through it
	tool       map[string]float64        // by a tool
	pumped     map[string]float64        // Pa gauge that a hand pump holds on a sensor
	broken     map[string]brokenWire     // by part
	rng        *rand.Rand
	carbon     float64 // kg of fuel held by the carbon
	carbonFull float64
	liquid     float64 // kg of fuel
	under      float64 // K, air under the car
	evaporated float64 // kg, taken from the liquid so far
	taken      float64 // kg given off by the carbon, as booked
	diesel     bool
	monitor    string
	rig        *Rig
	eventful   bool // has reliefs or switches
	before     []float64
	now        []float64
	saved      network.Saved
	cylinder   int // edge into the engine
}

// NewCar makes a car at rest, engine off, everything at the temperature of the air. The
// graph may be that of one car, corrected by hand; nil takes the library's.
func NewCar(l plumbing.Library, of plumbing.Combination, g *plumbing.Graph, at Conditions) (*Car, error) {
	if err := at.fill(); err != nil {
		return nil, err
	}
	if g == nil {
		var err error
		if g, err = l.Combine(of); err != nil {
			return nil, err
		}
	}
	engine, _ := l.Find(of.Engine)
	vapour, _ := l.Find(of.Vapour)
	c := &Car{diesel: engine.Diesel, monitor: vapour.Monitor, Graph: g, Combination: of, At: at, Coolant: at.Coolant, Fuel: at.Ambient, under: at.Ambient, role: map[string]*piece{}, by: map[string]plumbing.State{},
		told: map[string]float64{}, tool: map[string]float64{}, rng: rand.New(rand.NewPCG(at.Seed, 7))}
	c.net.Add(network.Node{Name: "the air", Volume: 1, Fixed: true}, network.Gas{network.Air: 1}, at.Barometer, at.Ambient)
	if err := c.pieces(); err != nil {
		return nil, err
	}
	if c.block == nil || c.role["intake"] == nil || c.role["throttle"] == nil || c.role["exhaust"] == nil || c.role["crankcase"] == nil {
		return nil, fmt.Errorf("the plant needs an engine with throttle, intake, exhaust and crankcase: their roles are missing in the plumbing")
	}
	c.fillTank()
	c.newEngine()
	c.newUnit()
	c.actuate(0)
	return c, nil
}

// Parameters of tank and carbon. Heat and surface are those of a flat tank of some 55 L;
// the carbon holds 60 g of vapour a litre in use (common practice, no source).
const (
	fuelDensity  = 740.0 // kg/m³
	fuelHeat     = 2100.0
	fuelLatent   = 350e3  // J/kg, value from memory of Heywood, Internal Combustion Engine Fundamentals
	tankSurface  = 0.25   // m² of liquid
	massTransfer = 2.5e-4 // m/s, chosen here: a still tank saturates in some ten minutes
	tankUA       = 6.0    // W/K, of liquid with the air under the car
	carbonA      = 0.06   // kg a litre
	carbonRate   = 2.0    // 1/s, of vapour between gas and carbon
	halfPressure = 3000.0 // Pa of vapour at which the carbon is half loaded (Langmuir)
	brimful      = 0.95   // of the tank, where its roll-over valves should shut (common practice, no source)
	pumpHeat     = 45.0   // W, of the fuel pump into the tank
)

func (c *Car) fillTank() {
	if t := c.role["fuel"]; t != nil {
		n := &c.net.Nodes[t.first]
		size := n.Volume
		c.liquid = size * c.At.Level * fuelDensity
		v := math.Max(size*(1-c.At.Level), 1e-3)
		n.HeatTime, n.Stretch = 14, v*c.At.Swelling/gas.StandardPressure
		c.net.Reshape(t.first, v)
		pv := math.Min(gas.GasolineVapour(c.At.Reid, c.Fuel), 0.95*c.At.Barometer)
		y := pv / c.At.Barometer // by volume
		c.net.Fill(t.first, network.Gas{network.Air: (1 - y) / gas.RAir, network.Fuel: y / network.FuelR}, c.At.Barometer, c.At.Ambient)
	}
	if x := c.role["carbon"]; x != nil {
		n := &c.net.Nodes[x.first]
		c.carbonFull = n.Volume * 1e3 * carbonA
		c.net.Reshape(x.first, plumbing.CarbonVoid*n.Volume)
		c.carbon = c.carbonFull * x.get("load")
	}
}

// Refuel fills the tank to a level with the engine off, at half a litre a second; what
// the liquid displaces goes where it can.
func (c *Car) Refuel(level float64) error {
	t := c.role["fuel"]
	if t == nil {
		return fmt.Errorf("this car's tank is not part of the plant")
	}
	if math.IsNaN(level) || level < c.At.Level || level > 0.98 {
		return fmt.Errorf("the tank can be filled from %.0f %% to at most 98 %%, not to %.0f %%", 100*c.At.Level, 100*level)
	}
	if c.Engine.Running || c.Engine.Cranking {
		return fmt.Errorf("the engine runs: it is shut off before refuelling")
	}
	for size := t.Litres * 1e-3; c.At.Level < level; {
		const rate, h = 0.5e-3, 0.2
		c.net.Squeeze(t.first, c.net.Nodes[t.first].Volume-rate*h)
		c.At.Level += rate * h / size
		c.liquid += rate * h * fuelDensity
		if x := c.role["carbon"]; x != nil && c.At.Level > brimful {
			// Filled on after the nozzle clicked off: liquid goes up the vapour line.
			x.has["void"] = math.Min(x.get("void")+rate*h/(x.Litres*1e-3), 1)
		}
		if err := c.Run(h); err != nil {
			return err
		}
	}
	return nil
}

// fuel sets what tank and carbon give off now, and books what they gave.
func (c *Car) fuel(dt float64) {
	if t := c.role["fuel"]; t != nil {
		n := &c.net.Nodes[t.first]
		gone := n.Given - c.evaporated
		c.evaporated = n.Given
		c.liquid = math.Max(c.liquid-gone, 0)
		capacity := math.Max(c.liquid, 1) * fuelHeat
		heat := 0.0
		if c.Engine.Running {
			heat = pumpHeat * t.get("heat")
		}
		c.Fuel += (heat*dt - gone*fuelLatent) / capacity
		c.Fuel += (c.under - c.Fuel) * -math.Expm1(-tankUA*dt/capacity)
		n.Exchange = massTransfer * tankSurface
		if c.liquid <= 0 {
			n.Exchange = 0
		}
		n.Density = gas.GasolineVapour(c.At.Reid, c.Fuel) / (network.FuelR * c.Fuel)
		n.ExchangeAt = c.Fuel
		n.Wall = (c.Fuel + c.under) / 2
	}
	if x := c.role["carbon"]; x != nil {
		n := &c.net.Nodes[x.first]
		c.carbon -= n.Given - c.taken
		c.taken = n.Given
		wet := x.get("void")
		if wet > 0 { // drowned: liquid lies in it
			n.Density = gas.GasolineVapour(c.At.Reid, c.under) / (network.FuelR * c.under)
			c.carbon = math.Max(c.carbon, 0.97*wet*c.carbonFull)
		} else {
			load := math.Min(math.Max(c.carbon/c.carbonFull, 0), 0.995)
			n.Density = halfPressure * load / (1 - load) / (network.FuelR * n.Temperature())
		}
		n.Exchange, n.ExchangeAt = carbonRate*n.Volume, n.Temperature()
	}
}

// walls lets the temperatures of the surroundings go on.
func (c *Car) walls(dt float64) {
	under, tau := c.At.Ambient, 1800.0
	bay, hot := c.At.Ambient, 5400.0
	if c.Engine.Running {
		under, tau = c.At.Ambient+9, 700
		bay, hot = 363, 240
	}
	c.under += (under - c.under) * -math.Expm1(-dt/tau)
	c.Coolant += (bay - c.Coolant) * -math.Expm1(-dt/hot)
	warm := c.At.Ambient + 0.45*math.Max(c.Coolant-c.At.Ambient, 0)
	for i := range c.net.Nodes {
		n := &c.net.Nodes[i]
		if !n.Fixed {
			n.Wall = c.under
		}
	}
	for _, x := range c.parts {
		if x.Family != "vapour" && x.first > 0 && x.On == "" {
			c.net.Nodes[x.first].Wall = warm
		}
	}
	ex := &c.net.Nodes[c.role["exhaust"].first]
	ex.Wall, ex.HeatTime = c.Engine.exhaustWall(c), 0.2
	if e := c.role["recirculation"]; e != nil {
		c.net.Nodes[e.first].Wall = c.net.Nodes[e.first].Temperature() // insulated by its heat
		c.net.Nodes[e.second].HeatTime = 0.05
	}
	if x := c.role["charge"]; x != nil {
		c.net.Nodes[x.first].Wall, c.net.Nodes[x.first].HeatTime = c.At.Ambient+8, 0.15 // a cooler
	}
}

// snaps reports whether a part changes at once when its pressure is crossed: a switch, and a
// relief under a spring.
func (x *piece) snaps() bool {
	return x.Kind == plumbing.Switch || x.Kind == plumbing.Relief && !x.Weighed
}

// events flips reliefs and switches whose pressure has been crossed.
func (c *Car) events() {
	for _, x := range c.parts {
		switch {
		case !x.snaps():
		case x.Kind == plumbing.Relief:
			d := c.net.Nodes[x.first].Pressure() - c.net.Nodes[x.second].Pressure()
			if x.Inward {
				d = -d
			}
			if open, shut := x.Crack*x.get("crack"), x.Reseal*x.get("crack"); !x.lifted && d >= open-0.05 || x.lifted && d <= shut+0.05 {
				x.lifted = !x.lifted
				c.actuate(0)
			}
		default:
			g := c.net.Nodes[x.first].Pressure() - c.At.Barometer
			s := math.Copysign(1, x.SwitchAt)
			at, back := x.SwitchAt*x.get("switch")*s, x.SwitchBack*x.get("switch")*s
			if g *= s; !x.lifted && g >= at-0.05 || x.lifted && g <= back+0.05 {
				if c.rng.Float64() >= x.get("sticks") {
					x.lifted = !x.lifted
				}
				x.told = g
			}
		}
	}
}

// away is how far, in time, the next relief or switch is from being crossed if pressures
// go on as in the last dt seconds; the secant of a root search.
func (c *Car) away(before, now []float64, dt float64) float64 {
	first := math.Inf(1)
	for _, x := range c.parts {
		if !x.snaps() {
			continue
		}
		diff := func(at []float64) float64 {
			d := at[x.first] - c.At.Barometer
			if x.Kind == plumbing.Relief {
				d = at[x.first] - at[x.second]
				if x.Inward {
					d = -d
				}
			} else {
				d *= math.Copysign(1, x.SwitchAt)
			}
			return d
		}
		level, up := x.Crack*x.get("crack"), 1.0
		if x.Kind == plumbing.Switch {
			level = math.Abs(x.SwitchAt) * x.get("switch")
		}
		if x.lifted {
			level, up = x.Reseal*x.get("crack"), -1
			if x.Kind == plumbing.Switch {
				level = math.Abs(x.SwitchBack) * x.get("switch")
			}
		}
		was, is := diff(before), diff(now)
		if up*(is-level) > 0 && up*(was-level) < 0 {
			first = math.Min(first, dt*(level-was)/(is-was))
		}
	}
	return first
}

func (c *Car) pressures(to []float64) []float64 {
	to = to[:0]
	for i := range c.net.Nodes {
		to = append(to, c.net.Nodes[i].Pressure())
	}
	return to
}

// Steps of the plant: while the engine runs or a rig works it looks ten times a second at
// what valves, engine and control unit do; a car that is left alone needs it less often.
const (
	tickRunning = 0.1
	tickResting = 60.0
)

// Run lets dt seconds pass.
func (c *Car) Run(dt float64) error {
	for left := dt; left > 1e-9; {
		done, err := c.advance(math.Min(left, c.tick()))
		if err != nil {
			return err
		}
		left -= done
	}
	return nil
}

func (c *Car) tick() float64 {
	switch {
	case c.Engine.Running || c.Engine.Cranking || c.Unit.busy():
		return tickRunning
	case c.rig != nil:
		return c.rig.tick()
	case c.Time-c.Unit.off < 30:
		return 1
	}
	return tickResting
}

// advance is a step with what follows from it.
func (c *Car) advance(h float64) (float64, error) {
	done, err := c.step(h)
	if err != nil {
		return 0, err
	}
	c.Time += done
	c.rig.meter(done)
	c.burn(done)
	c.events()
	return done, nil
}

// step lets at most h seconds pass: up to the first relief or switch that is crossed.
func (c *Car) step(h float64) (float64, error) {
	c.control(h)
	c.actuate(h)
	c.walls(h)
	c.fuel(h)
	c.drivers(h)
	c.rig.drive(c, h)
	if !c.eventful {
		return h, c.net.Run(h)
	}
	c.before = c.pressures(c.before)
	c.net.Save(&c.saved)
	if err := c.net.Run(h); err != nil {
		return 0, err
	}
	c.now = c.pressures(c.now)
	if at := c.away(c.before, c.now, h); at < h && h > 1e-3 {
		c.net.Restore(&c.saved) // back, and up to the crossing only
		h = math.Min(math.Max(at*1.0001, 1e-3), h)
		if err := c.net.Run(h); err != nil {
			return 0, err
		}
	}
	return h, nil
}
