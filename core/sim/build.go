package sim

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"wexter/core/gas"
	"wexter/core/network"
	"wexter/core/plumbing"
)

// piece is a part of the plumbing as the network has it.
type piece struct {
	plumbing.Part
	first, second int // nodes at its sides; the same for what has one
	edge          int // the edge across it, −1 for none
	past          int // the edge past it when shut (a leaking seat), −1 for none
	hole          int // the edge to the air through its wall, −1 for none
	bore          float64
	has           map[string]float64 // parameters that a fault has changed
	open          float64            // share of its opening now
	lifted        bool               // a relief or switch that has changed
	stuck         float64            // where a sticking valve stayed
	told          float64            // the last command, to know a new cycle by
	stays         bool
	sensors       []*piece // in its wall
}

// get returns a parameter of the piece, healthy unless a fault has changed it.
func (p *piece) get(param string) float64 {
	if len(p.has) > 0 { // few parts have a fault, and all are asked at every step
		if v, ok := p.has[param]; ok {
			return v
		}
	}
	return plumbing.Healthy(param)
}

const (
	outside   = 0    // the node of the air
	valveCd   = 0.75 // of valves and short bores, value from memory of White, Fluid Mechanics
	holeCd    = gas.NominalCd
	leastNode = 12e-6 // m³; smaller joints are taken as this large
	openEnd   = 0.02  // m, bore of an opening whose own is not given
)

// pieces puts a car's plumbing into the network: volumes, joints and the sides of valves
// become nodes; lines, valves and openings edges. Short wide lines and short joints
// without a plug point have no resistance worth having and join their ends to one node.
func (c *Car) pieces() error {
	l := &layout{graph: c.Graph, parent: map[string]string{}, merged: map[string]bool{}, volume: map[string]float64{}, names: map[string]string{}, bores: map[string]float64{}, node: map[string]int{}}
	c.piece = map[string]*piece{}
	l.merge()
	l.measure()
	for _, r := range l.order {
		l.node[r] = c.net.Add(network.Node{Name: cmp.Or(l.names[r], r), Volume: math.Max(l.volume[r], leastNode), HeatTime: 3, Wall: c.At.Ambient}, network.Gas{network.Air: 1}, c.At.Barometer, c.At.Ambient)
	}
	for _, p := range l.graph.Parts {
		x := l.piece(p)
		c.piece[p.Key] = x
		c.parts = append(c.parts, x)
		if p.Role != "" {
			c.role[p.Role] = x
		}
		if p.Kind == plumbing.Block {
			c.block = x
		}
	}
	for _, x := range c.parts {
		c.seat(x)
		if x.first < 0 && x.Role != "rings" {
			return fmt.Errorf("part %q stands nowhere in the network", x.Key)
		}
	}
	for _, x := range c.parts { // the engine's side is hurried about; its pressures need no such care
		if x.Family != "vapour" && x.On == "" && x.first > 0 {
			c.net.Nodes[x.first].Slack = 40
			c.net.Nodes[max(x.second, x.first)].Slack = 40
		}
	}
	for _, x := range c.parts {
		c.lay(x, l.merged[x.Key])
		c.eventful = c.eventful || x.snaps()
	}
	return nil
}

// layout finds the nodes of a car's plumbing. A port is the key of a part that is one volume,
// or the key and side of one that keeps its sides apart; ports that are joined without
// resistance share a root, and each root is a node.
type layout struct {
	graph  *plumbing.Graph
	parent map[string]string
	merged map[string]bool    // lines that join their ends to one node
	volume map[string]float64 // m³, by root
	names  map[string]string  // of nodes that are a part of their own, by root
	order  []string           // of the roots, as they are met
	bores  map[string]float64 // m, of lines at a part, for what has no bore of its own
	node   map[string]int     // by root
}

// root is the port that stands for all that a port is joined to.
func (l *layout) root(port string) string {
	if l.parent[port] == "" || l.parent[port] == port {
		return port
	}
	r := l.root(l.parent[port])
	l.parent[port] = r
	return r
}

// end is the port that a line's end is joined to.
func (l *layout) end(at string) string {
	key, side, _, _ := plumbing.Port(at)
	if p, ok := l.graph.Part(key); ok && p.Sides() == nil {
		return key
	}
	return key + "." + side
}

// merge joins the ends of lines without resistance worth having.
func (l *layout) merge() {
	for _, p := range l.graph.Parts {
		if p.Mixes() {
			l.parent[l.root(l.end(p.From))] = l.root(l.end(p.To))
			l.merged[p.Key] = true
		}
	}
}

// at is the root of a port, in its order.
func (l *layout) at(port string) string {
	r := l.root(port)
	if _, ok := l.volume[r]; !ok {
		l.volume[r] = 0
		l.order = append(l.order, r)
	}
	return r
}

// measure adds up the volumes of the nodes and the bores of the lines at each part.
func (l *layout) measure() {
	for _, p := range l.graph.Parts {
		switch {
		case p.Kind == plumbing.Line && p.Role != "rings":
			l.at(l.end(p.From))
			l.at(l.end(p.To))
			inner := l.end(p.From)
			if p.Plug == "from" {
				inner = l.end(p.To)
			}
			l.volume[l.at(inner)] += gas.Area(p.Bore) * p.Length
			for _, e := range []string{p.From, p.To} {
				key, _, _, _ := plumbing.Port(e)
				l.bores[key] = math.Max(l.bores[key], p.Bore)
			}
		case p.Sides() == nil && (p.On == "" || p.At != ""):
			r := l.at(p.Key)
			l.volume[r] += p.Litres * 1e-3
			if p.Kind == plumbing.Volume {
				l.names[r] = p.Key
			}
		case p.Litres > 0 && p.Sides() != nil && p.Kind != plumbing.Block:
			l.volume[l.at(p.Key+"."+p.Sides()[0])] += p.Litres * 1e-3
		}
	}
}

// piece is a part between its nodes; one that sits in the wall of another has none yet.
func (l *layout) piece(p plumbing.Part) *piece {
	x := &piece{Part: p, first: -1, second: -1, edge: -1, past: -1, hole: -1, bore: cmp.Or(p.Bore, l.bores[p.Key], openEnd), has: map[string]float64{}, stuck: -1}
	to := func(port string) int { return l.node[l.root(port)] }
	switch sides := p.Sides(); {
	case p.Kind == plumbing.Line && p.Role == "rings":
		x.second = to(l.end(p.To))
	case p.Kind == plumbing.Line:
		x.first, x.second = to(l.end(p.From)), to(l.end(p.To))
	case p.Kind == plumbing.Block:
		x.first, x.second = to(p.Key+".top"), to(p.Key+".right")
	case sides != nil:
		x.first, x.second = to(p.Key+"."+sides[0]), to(p.Key+"."+sides[1])
	case p.On == "" || p.At != "":
		x.first = to(p.Key)
		x.second = x.first
	}
	return x
}

// seat gives what sits in the wall of another part the nodes of its host.
func (c *Car) seat(x *piece) {
	host, ok := c.piece[x.On]
	if !ok || x.At != "" {
		return
	}
	if x.Kind == plumbing.Sensor {
		host.sensors = append(host.sensors, x)
	}
	x.first, x.second = host.first, host.first
	switch {
	case x.Behind:
		x.first, x.second = host.second, host.second
	case host.Kind == plumbing.Line && host.Plug == "from":
		x.first, x.second = host.second, host.second
	case x.Kind == plumbing.Relief && host.first != host.second:
		x.first, x.second = host.first, host.second
	case x.Kind == plumbing.Relief:
		x.second = outside
	}
}

// lay gives a piece its edge.
func (c *Car) lay(x *piece, merged bool) {
	join := func(e network.Edge) int {
		e.Name = x.Key
		if e.From == e.To {
			return -1
		}
		return c.net.Join(e)
	}
	across := network.Edge{From: x.first, To: x.second}
	switch x.Kind {
	case plumbing.Line:
		if x.Role == "rings" { // a stopped engine leaks past them; a running one blows (drivers)
			x.edge = join(network.Edge{From: x.second, To: c.block.first, Area: 2e-6})
			return
		}
		if merged {
			return
		}
		across.Law, across.Bore, across.Length = network.Pipe, math.Max(x.bore, 1e-3), x.Length
		if x.Oneway {
			across.Law, across.From, across.To, across.Area = network.OneWay, x.second, x.first, valveCd*gas.Area(x.bore)
		}
		if key, _, _, _ := plumbing.Port(x.To); c.piece[key] != nil && c.piece[key].Role == "jet" {
			if from, _, _, _ := plumbing.Port(x.From); c.piece[from].Kind == plumbing.Check {
				across.Law, across.Ratio = network.Blower, 1
				c.jet = x
			}
		}
		x.edge = join(across)
	case plumbing.Valve, plumbing.Filter:
		if x.Role == "ported" {
			return
		}
		across.Area = valveCd * gas.Area(x.bore)
		if x.By == "self" {
			across.Law, across.Wide, across.Narrow = network.Throttling, c.At.Barometer+x.Begins, c.At.Barometer+x.Full
		}
		x.edge = join(across)
		if x.Vents {
			x.past = join(network.Edge{From: x.second, To: outside})
		}
	case plumbing.Check:
		if x.first == x.second {
			return
		}
		across.Law, across.Area, across.Crack = network.OneWay, valveCd*gas.Area(x.bore), 100
		x.edge = join(across)
	case plumbing.Relief: // area when lifted
		if x.Weighed {
			across.Law = network.OneWay
			if x.Inward {
				across.From, across.To = across.To, across.From
			}
		}
		x.edge = join(across)
	case plumbing.Inlet:
		across.To, across.Area = outside, valveCd*gas.Area(x.bore)
		x.edge = join(across)
	case plumbing.Rotor:
		if x.Role == "compressor" {
			across.Law, across.Bore, across.Length, across.Ratio = network.Blower, 0.7*x.bore, 0.3, 1
		} else {
			across.Area = 0.8 * gas.Area(0.018) // throat of a small turbine
		}
		x.edge = join(across)
	case plumbing.Volume:
		if x.Role == "ported" { // above the plate at rest, behind it just off idle
			t := c.role["throttle"]
			x.edge = join(network.Edge{From: t.first, To: x.first})
			x.past = join(network.Edge{From: t.second, To: x.first})
		}
	}
}

// Apply changes a part as a fault does; the same change with a healthy value mends it.
// The error names what is allowed.
func (c *Car) Apply(ch plumbing.Defect) error {
	x, ok := c.piece[ch.Part]
	if !ok {
		return fmt.Errorf("this car has no part %q", ch.Part)
	}
	lim, ok := limits[ch.Param]
	if !ok {
		keys := make([]string, 0, len(limits))
		for k := range limits {
			keys = append(keys, k)
		}
		slices.Sort(keys)
		return fmt.Errorf("part %q: there is no parameter %q; there are %v", ch.Part, ch.Param, keys)
	}
	if math.IsNaN(ch.Value) || ch.Value < lim[0] || ch.Value > lim[1] {
		return fmt.Errorf("part %q: %s is %g; it lies between %g and %g", ch.Part, ch.Param, ch.Value, lim[0], lim[1])
	}
	x.has[ch.Param] = ch.Value
	switch ch.Param {
	case "leak":
		if x.hole < 0 && x.first >= 0 && ch.Value > 0 && x.Role != "difference" {
			x.hole = c.net.Join(network.Edge{Name: x.Key + ", hole", From: x.first, To: outside})
		}
	case "passes", "reverse":
		if x.past < 0 && x.first != x.second && ch.Value > 0 && x.Kind != plumbing.Check {
			x.past = c.net.Join(network.Edge{Name: x.Key + ", past", From: x.first, To: x.second})
		}
	case "load":
		c.carbon = ch.Value * c.carbonFull
	case "void":
		n := &c.net.Nodes[x.first]
		c.net.Reshape(x.first, math.Max(n.Volume*(1-0.9*ch.Value), leastNode))
	}
	c.actuate(0)
	return nil
}

// Mend puts a part back to health: a new one, fitted well.
func (c *Car) Mend(part string) error {
	x, ok := c.piece[part]
	if !ok {
		return fmt.Errorf("this car has no part %q", part)
	}
	if x.get("void") > 0 {
		return fmt.Errorf("part %q is drowned: it is dried or replaced with the car apart, not while the plant runs", part)
	}
	clear(x.has)
	delete(c.broken, part)
	x.stays, x.stuck = false, -1
	c.actuate(0)
	return nil
}

// limits of what a parameter may be.
var limits = map[string][2]float64{
	"leak": {0, 60}, "passes": {0, 60}, "reverse": {0, 60}, "opening": {0, 10}, "rest": {0, 1}, "seat": {0, 1}, "bore": {0, 1}, "crack": {0, 50}, "switch": {0, 50}, "sticks": {0, 1},
	"gain": {0, 3}, "offset": {-1e5, 1e5}, "resistance": {0, 1e9}, "void": {0, 1}, "load": {0, 1}, "ring-flow": {0, 30}, "supply": {0, 3}, "heat": {0, 20}, "ready": {0, 1}}

// Set puts a part into a state by hand: a line plugged, a cover or an opening open or
// shut, a valve driven ("powered") or forced; empty gives it back.
func (c *Car) Set(key string, s plumbing.State) error {
	x, ok := c.piece[key]
	if !ok {
		return fmt.Errorf("this car has no part %q", key)
	}
	allowed := map[plumbing.Kind][]plumbing.State{
		plumbing.Line: {plumbing.Plugged}, plumbing.Cover: {plumbing.Open, plumbing.Shut}, plumbing.Inlet: {plumbing.Open, plumbing.Shut}, plumbing.Valve: {plumbing.Open, plumbing.Shut, plumbing.Powered}}[x.Kind]
	if s != "" && !slices.Contains(allowed, s) {
		return fmt.Errorf("part %q: it cannot be %q; it can be %q", key, s, allowed)
	}
	if s == plumbing.Plugged && x.edge < 0 {
		return fmt.Errorf("part %q: it has no plug point", key)
	}
	if s == "" {
		delete(c.by, key)
	} else {
		c.by[key] = s
	}
	if x.Kind == plumbing.Cover && s == plumbing.Open && x.edge < 0 {
		x.edge = c.net.Join(network.Edge{Name: x.Key, From: x.first, To: outside})
	}
	c.actuate(0)
	return nil
}

// actuate sets every area as its valve stands. dt is how long ago it was done last: what
// pressure moves follows with a time constant of a fifth of a second.
func (c *Car) actuate(dt float64) {
	for _, x := range c.parts {
		if x.hole >= 0 {
			c.net.Edges[x.hole].Area = holeCd * gas.Area(x.get("leak")*1e-3)
		}
		if x.edge < 0 {
			continue
		}
		e := &c.net.Edges[x.edge]
		full := valveCd * gas.Area(x.bore)
		switch x.Kind {
		case plumbing.Line:
			if x.Role == "rings" {
				e.Shut = c.Engine.Running
				continue
			}
			e.Shut = c.by[x.Key] == plumbing.Plugged
			if b := x.get("bore"); b < 1 {
				e.Shut = e.Shut || b <= 0
				e.Bore = math.Max(x.bore*b, 1e-4)
			} else {
				e.Bore = math.Max(x.bore, 1e-3)
			}
		case plumbing.Filter:
			e.Area = full * x.get("bore") * x.get("bore")
		case plumbing.Cover:
			e.Area = 0
			if c.by[x.Key] == plumbing.Open {
				e.Area = valveCd * gas.Area(x.bore)
			}
		case plumbing.Inlet:
			e.Area = full * x.get("bore") * x.get("bore")
			if c.by[x.Key] == plumbing.Shut {
				e.Area = 0
			}
		case plumbing.Check:
			e.Area = full * x.get("opening")
			e.Back = valveCd * gas.Area(x.get("reverse")*1e-3)
		case plumbing.Relief:
			e.Area = holeCd * gas.Area(x.get("passes")*1e-3)
			if x.Weighed {
				if x.past >= 0 {
					c.net.Edges[x.past].Area = e.Area
				}
				e.Area, e.Crack = full, x.Crack*x.get("crack")
			} else if x.lifted {
				e.Area += full
			}
		case plumbing.Valve:
			if x.By == "self" {
				e.Area, e.Back = full*math.Max(x.get("opening"), x.get("rest")), full*math.Max(x.get("rest"), x.Least)
				x.open = math.Min(math.Max((c.net.Nodes[x.first].Pressure()-e.Narrow)/(e.Wide-e.Narrow), x.get("rest")), 1)
				continue
			}
			x.open += (c.wanted(x) - x.open) * follow(x, dt)
			e.Area = full * x.open
			if x.Role == "throttle" || x.Role == "recirculation" { // little area for the first of their travel
				e.Area = full * x.open * x.open
			}
			if x.Vents {
				c.net.Edges[x.past].Area = 0.3 * full * math.Max(1-x.open, 0)
			} else if x.past >= 0 {
				c.net.Edges[x.past].Area = holeCd * gas.Area(x.get("passes")*1e-3)
			}
		case plumbing.Volume: // the ported fitting
			t := c.role["throttle"].open
			off := math.Min(math.Max((t-0.12)/0.03, 0), 1)
			e.Area, c.net.Edges[x.past].Area = full*(1-off), full*off
		}
	}
}

func follow(x *piece, dt float64) float64 {
	if x.By == "" || dt <= 0 {
		return 1
	}
	return -math.Expm1(-dt / 0.2)
}

// wanted is how far a valve wants to be open now: by hand, by its own pressure, or by
// the control unit; then what a fault leaves of that.
func (c *Car) wanted(x *piece) float64 {
	rest := 0.0
	if x.Rest == plumbing.Open {
		rest = 1
	}
	w := rest
	switch hand := c.by[x.Key]; {
	case hand == plumbing.Open:
		return 1
	case hand == plumbing.Shut:
		w = 0
	case hand == plumbing.Powered:
		w = 1 - rest
	case x.By != "":
		w = rest + (1-2*rest)*math.Min(math.Max((c.drive(x)-x.Begins)/(x.Full-x.Begins), 0), 1)
	default:
		if cmd, ok := c.told[x.Key]; ok && c.live(x) {
			w = cmd
		}
	}
	if x.stays && x.stuck >= 0 {
		w = x.stuck
	}
	low := x.least()
	if o := x.get("opening"); o <= 1 {
		w = math.Min(w, o)
	} else {
		w *= o
	}
	return math.Max(math.Max(w, low), math.Min(x.Least, x.get("opening")))
}

// least is the share of its opening that a fault holds a valve open by, whether its position
// sensor sees it or not.
func (x *piece) least() float64 { return math.Max(x.get("rest"), x.get("seat")) }

// drive is what moves a valve by itself: the difference across its diaphragm, Pa, or the
// coolant, K.
func (c *Car) drive(x *piece) float64 {
	if x.By == "coolant" {
		return c.Coolant
	}
	against := c.At.Barometer
	if x.Against != "" {
		against = c.net.Nodes[c.piece[x.Against].first].Pressure()
	}
	return c.net.Nodes[c.piece[x.By].first].Pressure() - against
}

// live reports whether a valve's circuit carries enough to move it.
func (c *Car) live(x *piece) bool {
	return coilOhm/(coilOhm+x.get("resistance")) > worksFrom && c.carries(x)
}

const coilOhm = 25.0 // of a small solenoid, common practice, no source
