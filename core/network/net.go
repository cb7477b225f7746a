package network

import (
	"errors"
	"fmt"
	"math"

	"wexter/core/gas"
)

// Species is a kind of gas that is kept apart.
type Species int

// The species. Smoke is a tracer in air; Burnt is exhaust gas.
const (
	Air Species = iota
	Fuel
	Burnt
	Smoke
	Kinds
)

// FuelR is the gas constant of gasoline vapour, J/(kg·K): a molar mass of 68 g/mol
// (EPA AP-42, section 7.1, value from memory).
const FuelR = 8314.46 / 68

// gasR holds the gas constants, J/(kg·K).
var gasR = [Kinds]float64{gas.RAir, FuelR, 290, gas.RAir}

// Gas is masses by species, kg or kg/s.
type Gas [Kinds]float64

// Total is the sum over the species.
func (g Gas) Total() float64 { return g[0] + g[1] + g[2] + g[3] }

func (g Gas) r() float64 {
	return g[0]*gasR[0] + g[1]*gasR[1] + g[2]*gasR[2] + g[3]*gasR[3]
}

// Node is a volume of gas at one pressure and temperature.
type Node struct {
	Name     string
	Volume   float64 // m³ at the reference pressure
	Stretch  float64 // m³/Pa, of a wall that gives
	HeatTime float64 // s, of gas with wall; 0 is none
	Wall     float64 // K
	Slack    float64 // times the tolerance that is allowed here; 0 is 1
	Fixed    bool    // pressure, temperature and composition are held from outside

	// What gives off or takes back fuel vapour at the rate K·(Density − m/V).
	Exchange        float64 // m³/s
	Density         float64 // kg/m³ in equilibrium
	ExchangeAt      float64 // K, of what is given off
	Given           float64 // kg of fuel vapour given off in all
	Source          Gas     // kg/s put in from outside (positive) or drawn off
	SourceAt        float64 // K of what is put in
	Mass            Gas     // kg
	given           float64
	pressure        float64
	reference       float64 // Pa at which the wall is not stretched
	rt, temperature float64
}

// Law is how an edge passes gas.
type Law int

// The laws.
const (
	Orifice    Law = iota // Area is area × coefficient
	Pipe                  // Bore, Length
	OneWay                // Area from its first to its second node, Back the other way; opens between Crack and Crack + 300 Pa
	Swallow               // Volume m³/s of its first node's gas, whatever the pressure behind
	Blower                // presses by Ratio through a pipe of Bore and Length
	Throttling            // an orifice of Area that its first node's own pressure shuts: wide open at Wide, at Back when it has fallen to Narrow
)

// Edge joins two nodes; flow counts from the first to the second.
type Edge struct {
	Name         string
	From, To     int
	Law          Law
	Area, Back   float64 // m²
	Bore, Length float64 // m
	Crack        float64 // Pa
	Wide, Narrow float64 // Pa absolute
	Volume       float64 // m³/s
	Ratio        float64 // of pressures, of a blower
	Warm         float64 // what flows forward arrives with this share more enthalpy
	Shut         bool

	Flow  float64 // kg/s at the end of the last step
	Moved Gas     // kg in all

	step       Gas // kg in the step under way
	a, b       float64
	bore, long float64
	m, d1, d2  float64
	up         int
	hot        float64
}

// Net is the whole.
type Net struct {
	Nodes []Node
	Edges []Edge

	Tolerance float64 // Pa of local error a step; 0 is 0.5
	Longest   float64 // s, of a step; 0 is 120
	Steps     int     // taken so far
	Rejected  int

	unknown  []int // node → row, −1 when fixed
	rows     []int // row → node
	pressure *lu
	species  *lu
	vapour   *lu // the same with what is given off and taken back
	ends     []ends
	h        float64
	base     []state
	start    []state
	first    []state
	rhs      []float64
	spec     []Gas     // by row: right sides, then the masses
	fed      []bool    // by row: something is put in or drawn off
	slack    []float64 // by row: times the tolerance that is allowed
	old      []float64
	heat     []float64 // of a node's wall, for each kg/s that comes in
}

// ends are where an edge stands in the matrices: the rows of its nodes and the slots of what
// they do to each other; −1 where one is fixed.
type ends struct {
	from, to  int32
	own, its  int32 // (from, from), (to, to)
	out, back int32 // (from, to), (to, from)
}

type state struct {
	mass   Gas
	energy float64
	p      float64
}

// ErrStuck is returned when no step, however short, can be solved.
var ErrStuck = errors.New("the network cannot be stepped: its state makes no sense")

// Add puts in a node filled with a gas at a pressure and a temperature, and returns
// its number.
func (n *Net) Add(node Node, g Gas, p, t float64) int {
	node.reference = p
	if node.HeatTime > 0 && node.Wall == 0 {
		node.Wall = t
	}
	n.Nodes = append(n.Nodes, node)
	i := len(n.Nodes) - 1
	n.Fill(i, g, p, t)
	n.pressure = nil
	return i
}

// Fill sets what a node holds: a gas of the given proportions at p and t.
func (n *Net) Fill(i int, g Gas, p, t float64) {
	x := &n.Nodes[i]
	if g.Total() <= 0 {
		g = Gas{Air: 1}
	}
	v := x.size(p)
	k := p * v / (g.r() * t)
	for s := range g {
		x.Mass[s] = g[s] * k
	}
	x.pressure = p
	x.derive()
}

// Join puts in an edge and returns its number.
func (n *Net) Join(e Edge) int {
	n.Edges = append(n.Edges, e)
	n.pressure = nil
	return len(n.Edges) - 1
}

// Rejoin puts an edge between other nodes.
func (n *Net) Rejoin(edge, from, to int) {
	n.Edges[edge].From, n.Edges[edge].To = from, to
	n.pressure = nil
}

func (x *Node) size(p float64) float64 { return x.Volume + x.Stretch*(p-x.reference) }

// stored is the energy of the gas and of the stretched wall at a pressure.
func (x *Node) stored(p float64) float64 {
	return p*x.size(p)/(gamma-1) + x.Stretch*p*p/2
}

func (x *Node) slope(p float64) float64 {
	return (x.size(p)+x.Stretch*p)/(gamma-1) + x.Stretch*p
}

func (x *Node) derive() {
	m := x.Mass.Total()
	pv := x.pressure * x.size(x.pressure)
	x.rt = pv / m
	x.temperature = pv / x.Mass.r()
}

// Reshape changes a node's volume at constant pressure and temperature, as when liquid
// is poured in or out of reach: the gas shrinks with it.
func (n *Net) Reshape(i int, volume float64) {
	x := &n.Nodes[i]
	p, t := x.pressure, x.temperature
	x.Volume = volume
	n.Fill(i, x.Mass, p, t)
}

// Squeeze changes a node's volume with the gas in it, at constant temperature, as when
// liquid rises under it.
func (n *Net) Squeeze(i int, volume float64) {
	x := &n.Nodes[i]
	x.pressure *= x.Volume / volume
	x.Volume = volume
	x.derive()
}

// Pressure is absolute, Pa.
func (x *Node) Pressure() float64 { return x.pressure }

// Temperature is of the gas, K.
func (x *Node) Temperature() float64 { return x.temperature }

// Share is a species' share of the mass.
func (x *Node) Share(s Species) float64 { return x.Mass[s] / x.Mass.Total() }

// ByVolume is a species' share of the volume.
func (x *Node) ByVolume(s Species) float64 { return x.Mass[s] * gasR[s] / x.Mass.r() }

// Partial is the partial pressure of the fuel vapour, Pa.
func (x *Node) Partial() float64 {
	return x.pressure * x.Mass[Fuel] * FuelR / x.Mass.r()
}

// Total is the mass of all species in nodes that are not fixed.
func (n *Net) Total() (g Gas) {
	for i := range n.Nodes {
		if !n.Nodes[i].Fixed {
			for s := range g {
				g[s] += n.Nodes[i].Mass[s]
			}
		}
	}
	return
}

// prepare finds the pattern of the matrices.
func (n *Net) prepare() error {
	n.unknown = make([]int, len(n.Nodes))
	n.rows = n.rows[:0]
	for i := range n.Nodes {
		n.unknown[i] = -1
		x := &n.Nodes[i]
		if !(x.Volume > 0) || !(x.pressure > 0) || math.IsInf(x.Volume+x.pressure, 0) {
			return fmt.Errorf("node %q: a volume and a pressure above nought are needed, not %g m³ and %g Pa", x.Name, x.Volume, x.pressure)
		}
		if !x.Fixed {
			n.unknown[i] = len(n.rows)
			n.rows = append(n.rows, i)
		}
	}
	var pairs [][2]int
	for i := range n.Edges {
		e := &n.Edges[i]
		if e.From < 0 || e.To < 0 || e.From >= len(n.Nodes) || e.To >= len(n.Nodes) || e.From == e.To {
			return fmt.Errorf("edge %q: it joins no two nodes", e.Name)
		}
		if a, b := n.unknown[e.From], n.unknown[e.To]; a >= 0 && b >= 0 {
			pairs = append(pairs, [2]int{a, b})
		}
	}
	n.pressure = newLU(len(n.rows), pairs)
	n.species, n.vapour = newLU(len(n.rows), pairs), newLU(len(n.rows), pairs)
	n.ends = make([]ends, len(n.Edges))
	for i := range n.Edges {
		a, b := n.unknown[n.Edges[i].From], n.unknown[n.Edges[i].To]
		at := func(x, y int) int32 {
			if x < 0 || y < 0 {
				return -1
			}
			return int32(n.pressure.slot[[2]int{x, y}])
		}
		n.ends[i] = ends{from: int32(a), to: int32(b), own: at(a, a), its: at(b, b), out: at(a, b), back: at(b, a)}
	}
	n.base, n.start, n.first = make([]state, len(n.Nodes)), make([]state, len(n.Nodes)), make([]state, len(n.Nodes))
	n.rhs, n.old, n.heat = make([]float64, len(n.rows)), make([]float64, len(n.Nodes)), make([]float64, len(n.Nodes))
	n.spec, n.fed, n.slack = make([]Gas, len(n.rows)), make([]bool, len(n.rows)), make([]float64, len(n.rows))
	return nil
}

// flow works out an edge at the present pressures.
func (n *Net) flow(e *Edge) {
	x, y := &n.Nodes[e.From], &n.Nodes[e.To]
	p1, p2 := x.pressure, y.pressure
	e.hot = 1
	if e.Shut {
		e.m, e.d1, e.d2, e.up = 0, 0, 0, e.From
		return
	}
	if e.Law == Swallow {
		e.up = e.From
		e.m = e.Volume * p1 / x.rt
		e.d1, e.d2 = e.m/p1, 0
		return
	}
	if (e.Law == Pipe || e.Law == Blower) && (e.bore != e.Bore || e.long != e.Length) {
		e.bore, e.long = e.Bore, e.Length
		e.a, e.b = coefficients(e.Bore, e.Length)
	}
	ratio := 1.0
	if e.Law == Blower && e.Ratio > 1 {
		ratio = e.Ratio
		p1 *= ratio
	}
	back := p2 > p1
	up := x
	if back {
		p1, p2, up = p2, p1, y
	}
	var m, d1, d2 float64
	switch e.Law {
	case Orifice:
		m, d1, d2 = orifice(e.Area, p1, p2, up.rt)
	case Throttling:
		lift := min(max((x.pressure-e.Narrow)/(e.Wide-e.Narrow), 0), 1)
		full := max(e.Area-e.Back, 0)
		m, d1, d2 = orifice(e.Back+full*lift, p1, p2, up.rt)
		if lift > 0 && lift < 1 {
			u, _, _ := orifice(full/(e.Wide-e.Narrow), p1, p2, up.rt)
			if back {
				d2 -= -u
			} else {
				d1 += u
			}
		}
	case OneWay:
		if back {
			m, d1, d2 = orifice(e.Back, p1, p2, up.rt)
			break
		}
		const ramp = 300.0
		dp := p1 - p2
		full := max(e.Area-e.Back, 0)
		lift := min(max((dp-e.Crack)/ramp, 0), 1)
		m, d1, d2 = orifice(e.Back+full*lift, p1, p2, up.rt)
		if lift > 0 && lift < 1 {
			u, _, _ := orifice(full/ramp, p1, p2, up.rt)
			d1, d2 = d1+u, d2-u
		}
	default:
		m, d1, d2 = pipe(e.a, e.b, p1, p2, up.rt)
	}
	if back {
		e.m, e.d1, e.d2, e.up = -m, -d2*ratio, -d1, e.To
		return
	}
	e.m, e.d1, e.d2, e.up = m, d1*ratio, d2, e.From
	e.hot = 1 + e.Warm
}

// stage solves Y = base + a·f(Y); the nodes hold the guess and then the answer.
func (n *Net) stage(a float64) bool {
	const most = 25
	enough := 0.01 * n.tolerance()
	for it := range most {
		n.balance(a)
		n.carry(a)
		n.pressure.factor()
		n.pressure.solve(n.rhs)
		still, ok := n.press(enough)
		if !ok {
			return false
		}
		n.mix(a)
		same, ok := n.share()
		if !ok {
			return false
		}
		if still && same && it > 0 {
			return true
		}
	}
	return false
}

// balance begins the equations of the pressures: what each node holds, and what its wall
// and what is given off in it bring.
func (n *Net) balance(a float64) {
	n.pressure.clear()
	for r, i := range n.rows {
		x := &n.Nodes[i]
		v := x.size(x.pressure)
		rhs := n.base[i].energy - x.stored(x.pressure)
		n.pressure.a[r] = x.slope(x.pressure)
		heat := 0.0
		if x.HeatTime > 0 {
			// The wall warms the mass that the flows of this very stage leave: with the mass of
			// the last iteration a wall much quicker than the step would swing to and fro.
			k := (gamma - 1) * x.HeatTime
			w := x.Mass.r() / x.Mass.Total() * x.Wall / k
			heat = a * a * w
			rhs += a*w*n.base[i].mass.Total() - a*x.pressure*v/k
			n.pressure.a[r] += a * (v + x.Stretch*x.pressure) / k
		}
		if x.Exchange > 0 {
			rate := x.Exchange * (x.Density - x.Mass[Fuel]/v)
			rhs += rate * (a*hCp*FuelR*x.ExchangeAt + heat)
		}
		if n.fed[r] {
			for s, m := range x.Source {
				if m > 0 {
					rhs += m * (a*hCp*gasR[s]*x.SourceAt + heat)
				} else if m < 0 {
					rhs += m * (a*hCp*gasR[s]*x.temperature + heat)
				}
			}
		}
		n.rhs[r], n.heat[i] = rhs, heat
	}
}

// carry adds to them what the edges bring and take.
func (n *Net) carry(a float64) {
	p := n.pressure.a
	for k := range n.Edges {
		e := &n.Edges[k]
		n.flow(e)
		if e.m == 0 && e.d1 == 0 && e.d2 == 0 {
			continue
		}
		rt := hCp * n.Nodes[e.up].rt * a
		in := rt * e.hot
		at := &n.ends[k]
		if at.from >= 0 {
			rt := rt + n.heat[e.From]
			n.rhs[at.from] -= rt * e.m
			p[at.own] += rt * e.d1
			if at.out >= 0 {
				p[at.out] += rt * e.d2
			}
		}
		if at.to >= 0 {
			in := in + n.heat[e.To]
			n.rhs[at.to] += in * e.m
			p[at.its] -= in * e.d2
			if at.back >= 0 {
				p[at.back] -= in * e.d1
			}
		}
	}
}

// press changes the pressures by what was solved, and reports whether they stand still; not
// ok is no number at all.
func (n *Net) press(enough float64) (still, ok bool) {
	still = true
	for r, i := range n.rows {
		x := &n.Nodes[i]
		d := n.rhs[r]
		if math.IsNaN(d) {
			return false, false
		}
		d = min(max(d, -0.5*x.pressure), x.pressure)
		n.rhs[r] = d
		still = still && math.Abs(d) < enough*n.slack[r]
		x.pressure += d
		n.old[i] = x.Mass.Total()
	}
	return still, true
}

// mix writes the equations of the masses, which follow the flows at the new pressures.
func (n *Net) mix(a float64) {
	n.species.clear()
	for r, i := range n.rows {
		x := &n.Nodes[i]
		n.species.a[r] = 1
		g := n.base[i].mass
		if n.fed[r] {
			for s := range g {
				g[s] += a * x.Source[s]
			}
		}
		if x.Exchange > 0 {
			g[Fuel] += a * x.Exchange * x.Density
		}
		n.spec[r] = g
	}
	p := n.species.a
	for k := range n.Edges {
		e := &n.Edges[k]
		at := &n.ends[k]
		if at.from >= 0 {
			e.m += e.d1 * n.rhs[at.from]
		}
		if at.to >= 0 {
			e.m += e.d2 * n.rhs[at.to]
		}
		if e.m == 0 {
			continue
		}
		m, up, u, down := e.m, e.From, at.from, at.to
		own, cross := at.own, at.back
		if m < 0 {
			m, up, u, down = -m, e.To, at.to, at.from
			own, cross = at.its, at.out
		}
		e.up = up
		if u < 0 { // from outside: a known gas
			if down >= 0 {
				x := &n.Nodes[up]
				w := a * m / x.Mass.Total()
				for s := range x.Mass {
					n.spec[down][s] += w * x.Mass[s]
				}
			}
			continue
		}
		w := a * m / n.old[up]
		p[own] += w
		if cross >= 0 {
			p[cross] -= w
		}
	}
	copy(n.vapour.a, p)
	for r, i := range n.rows {
		if x := &n.Nodes[i]; x.Exchange > 0 {
			n.vapour.a[r] += a * x.Exchange / x.size(x.pressure)
		}
	}
}

// share solves for the masses, and reports whether they stand still; not ok is a node that
// holds nothing.
func (n *Net) share() (still, ok bool) {
	n.species.factorWith(n.vapour)
	n.species.solveGas(n.vapour, n.spec)
	still = true
	for r, i := range n.rows {
		x := &n.Nodes[i]
		x.Mass = n.spec[r]
		for s := range x.Mass {
			if math.Abs(x.Mass[s]) < 1e-30 {
				x.Mass[s] = 0 // numbers below the normal range are a hundred times slower
			}
		}
		m := x.Mass.Total()
		if !(m > 0) {
			return false, false
		}
		still = still && math.Abs(m/n.old[i]-1) < 3e-6
		x.derive()
	}
	return still, true
}

// little is the mass (kg) below which a joint's own composition is of no account.
const little = 5e-4

func (n *Net) tolerance() float64 {
	if n.Tolerance <= 0 {
		return 0.5
	}
	return n.Tolerance
}

// diagonal is the share of a step that each stage looks ahead by itself, the one for which
// the two-stage SDIRK is L-stable and of second order.
const diagonal = 1 - math.Sqrt2/2

// Run lets dt seconds pass.
func (n *Net) Run(dt float64) error {
	if n.pressure == nil {
		if err := n.prepare(); err != nil {
			return err
		}
	}
	longest := n.Longest
	if longest <= 0 {
		longest = 120
	}
	if n.h <= 0 {
		n.h = min(dt, 0.01)
	}
	for r, i := range n.rows {
		x := &n.Nodes[i]
		n.fed[r], n.slack[r] = x.Source != (Gas{}), max(x.Slack, 1)
	}
	for left := dt; left > 1e-12; {
		h := min(min(n.h, longest), left)
		if h < left && left < 2*h {
			h = left / 2 // two even steps, rather than a sliver at the end
		}
		ok, err := n.step(h), 0.0
		if ok {
			err = n.miss()
		}
		if !ok || err > 1 {
			n.Rejected++
			n.undo()
			cut := 0.25
			if ok {
				cut = max(0.2, 0.85/math.Sqrt(err))
			}
			n.h = h * cut
			if n.h < 1e-9 {
				return ErrStuck
			}
			continue
		}
		n.settle()
		n.Steps++
		left -= h
		grow := 3.0
		if err > 0 {
			grow = min(3, 0.85/math.Sqrt(err))
		}
		if h*grow > n.h || grow < 1 {
			n.h = h * grow
		}
	}
	return nil
}

// step tries a step of h: both stages, with what they move booked.
func (n *Net) step(h float64) bool {
	const g = diagonal
	for i := range n.Nodes {
		x := &n.Nodes[i]
		n.start[i] = state{x.Mass, x.stored(x.pressure), x.pressure}
		n.base[i] = n.start[i]
	}
	if !n.stage(g * h) {
		return false
	}
	for _, i := range n.rows {
		x := &n.Nodes[i]
		e := x.stored(x.pressure)
		n.first[i] = state{x.Mass, e, x.pressure}
		const k = (1 - g) / g
		for s := range x.Mass {
			n.base[i].mass[s] = n.start[i].mass[s] + k*(x.Mass[s]-n.start[i].mass[s])
		}
		n.base[i].energy = n.start[i].energy + k*(e-n.start[i].energy)
	}
	n.book((1 - g) * h)
	if !n.stage(g * h) {
		return false
	}
	n.book(g * h)
	return true
}

// miss estimates the error of the step just tried, h(1−γ)(k1 − k2), against what is allowed:
// above 1 it is too long. The estimate is filtered twice through the implicit operator: what
// a stiff joint does when a valve has moved is settled by the step and is no error of it.
func (n *Net) miss() (err float64) {
	const g = diagonal
	for r, i := range n.rows {
		x := &n.Nodes[i]
		d1 := (n.first[i].energy - n.start[i].energy) / g
		d2 := (x.stored(x.pressure) - n.base[i].energy) / g
		n.rhs[r] = (1 - g) * (d1 - d2)
		whole := (1 - g) * ((n.first[i].mass.Total() - n.start[i].mass.Total()) - (x.Mass.Total() - n.base[i].mass.Total())) / g
		fuel := (1 - g) * ((n.first[i].mass[Fuel] + n.first[i].mass[Smoke] - n.start[i].mass[Fuel] - n.start[i].mass[Smoke]) -
			(x.Mass[Fuel] + x.Mass[Smoke] - n.base[i].mass[Fuel] - n.base[i].mass[Smoke])) / g
		n.spec[r] = Gas{Fuel: fuel, Air: whole} // the whole in the place of air
	}
	n.pressure.solve(n.rhs)
	n.species.solveGas(n.species, n.spec)
	for r, i := range n.rows {
		n.rhs[r] *= n.Nodes[i].slope(n.Nodes[i].pressure)
	}
	n.pressure.solve(n.rhs)
	n.species.solveGas(n.species, n.spec)
	tol := n.tolerance()
	for r, i := range n.rows {
		x := &n.Nodes[i]
		err = max(err, math.Abs(n.rhs[r])/((tol+2e-5*x.pressure)*n.slack[r]))
		// Of fuel and smoke, and of the whole, which is the temperature's.
		m := max(x.Mass.Total(), little) * n.slack[r]
		err = max(err, max(math.Abs(n.spec[r][Fuel])/2e-3, math.Abs(n.spec[r][Air])/1e-3)/m)
	}
	return err
}

// undo goes back to where the step began.
func (n *Net) undo() {
	n.forget()
	for i := range n.Nodes {
		x := &n.Nodes[i]
		x.Mass, x.pressure = n.start[i].mass, n.start[i].p
		x.derive()
	}
}

// Saved is the state of a net, kept to go back to.
type Saved struct {
	nodes []Node
	moved []Gas
	h     float64
}

// Save keeps the state in s.
func (n *Net) Save(s *Saved) {
	s.nodes, s.moved, s.h = append(s.nodes[:0], n.Nodes...), s.moved[:0], n.h
	for k := range n.Edges {
		s.moved = append(s.moved, n.Edges[k].Moved)
	}
}

// Restore goes back to what Save has kept of the same net.
func (n *Net) Restore(s *Saved) {
	copy(n.Nodes, s.nodes)
	n.h = s.h
	for k := range s.moved {
		n.Edges[k].Moved = s.moved[k]
	}
}

// moved returns what an edge carries by species at the stage just solved.
func (n *Net) moved(e *Edge) (g Gas) {
	if e.m == 0 {
		return g
	}
	x := &n.Nodes[e.up]
	w := e.m / x.Mass.Total()
	if n.unknown[e.up] >= 0 {
		w = e.m / n.old[e.up]
	}
	for s := range g {
		g[s] = w * x.Mass[s]
	}
	return g
}

// book adds what a stage of weight w (s) moves and gives off.
func (n *Net) book(w float64) {
	for k := range n.Edges {
		e := &n.Edges[k]
		for s, m := range n.moved(e) {
			e.step[s] += w * m
		}
	}
	for _, i := range n.rows {
		if x := &n.Nodes[i]; x.Exchange > 0 {
			x.given += w * x.Exchange * (x.Density - x.Mass[Fuel]/x.size(x.pressure))
		}
	}
}

// forget drops what was booked of a step that is not taken.
func (n *Net) forget() {
	for k := range n.Edges {
		n.Edges[k].step = Gas{}
	}
	for _, i := range n.rows {
		n.Nodes[i].given = 0
	}
}

// settle takes the step.
func (n *Net) settle() {
	for k := range n.Edges {
		e := &n.Edges[k]
		e.Flow = e.m
		for s := range e.step {
			e.Moved[s] += e.step[s]
		}
	}
	for _, i := range n.rows {
		x := &n.Nodes[i]
		x.Given += x.given
	}
	n.forget()
}
