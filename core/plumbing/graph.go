package plumbing

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// Graph is the plumbing of one car.
type Graph struct {
	Parts []Part
	index map[string]int
	joins map[string][]joint // by part.side group

	once     sync.Once
	sections []Section
}

// joint is the other end of a connection, by group.
type joint struct{ part, group string }

// NewGraph joins parts and checks that nothing hangs loose.
func NewGraph(parts []Part) (*Graph, error) {
	g := &Graph{Parts: parts, index: make(map[string]int, len(parts)), joins: make(map[string][]joint, 4*len(parts))}
	for i := range parts {
		if _, twice := g.index[parts[i].Key]; twice {
			return nil, fmt.Errorf("part %q: there are two of this key", parts[i].Key)
		}
		g.index[parts[i].Key] = i
	}
	for i := range parts {
		if err := g.join(&parts[i]); err != nil {
			return nil, err
		}
	}
	for i := range parts {
		p := &parts[i]
		for _, s := range p.Sides() {
			if p.Kind != Block && len(g.joins[p.Key+"."+s]) == 0 {
				return nil, fmt.Errorf("part %q: nothing is joined to its side %q", p.Key, s)
			}
		}
	}
	return g, nil
}

// join finds what a part names: what it sits on, what moves it, and the ends of a line.
func (g *Graph) join(p *Part) error {
	if p.On != "" {
		i, ok := g.index[p.On]
		if !ok {
			return fmt.Errorf("part %q: it sits on %q, which this car has not", p.Key, p.On)
		}
		if host := &g.Parts[i]; host.Kind != Line && host.At == "" {
			return fmt.Errorf("part %q: it sits on %q, which has no place of its own", p.Key, p.On)
		}
	}
	for _, k := range [...]string{p.By, p.Against} {
		if _, ok := g.index[k]; !ok && k != "" && k != "coolant" && k != "self" {
			return fmt.Errorf("part %q: it is moved by the pressure of %q, which this car has not", p.Key, k)
		}
	}
	if p.Kind != Line {
		return nil
	}
	for _, x := range [...]struct{ end, at string }{{"from", p.From}, {"to", p.To}} {
		k, side, err := g.end(x.at)
		if err != nil {
			return fmt.Errorf("line %q: its end %q: %w", p.Key, x.end, err)
		}
		here, there := p.Key+"."+x.end, k+"."+side
		g.joins[here] = append(g.joins[here], joint{k, side})
		g.joins[there] = append(g.joins[there], joint{p.Key, x.end})
	}
	return nil
}

// end resolves "part.side" to the part and the group of its sides that gas reaches
// from there.
func (g *Graph) end(at string) (string, string, error) {
	key, side, _, err := Port(at)
	if err != nil {
		return "", "", err
	}
	i, ok := g.index[key]
	if !ok {
		return "", "", fmt.Errorf("there is no part %q", key)
	}
	p := &g.Parts[i]
	if s := p.Sides(); s != nil {
		if !slices.Contains(s, side) {
			return "", "", fmt.Errorf("%q has the sides %v, not %q", key, s, side)
		}
		return key, side, nil
	}
	if p.Kind == Line || p.On != "" && p.At == "" {
		return "", "", fmt.Errorf("nothing can be joined to %q", key)
	}
	if !slices.Contains([]string{"left", "right", "top", "bottom"}, side) {
		return "", "", fmt.Errorf("%q is not a side: left, right, top or bottom", side)
	}
	return key, "", nil
}

// Port takes "part.side:px" apart.
func Port(at string) (key, side string, off int, err error) {
	key, side, _ = strings.Cut(at, ".")
	side, shift, has := strings.Cut(side, ":")
	if has {
		if off, err = strconv.Atoi(shift); err != nil || off < -100 || off > 100 {
			return "", "", 0, fmt.Errorf("%q: the distance from the middle of the side is a number of px", at)
		}
	}
	return key, side, off, nil
}

// Part finds one by key.
func (g *Graph) Part(key string) (Part, bool) {
	i, ok := g.index[key]
	if !ok {
		return Part{}, false
	}
	return g.Parts[i], true
}

// Joins counts the lines that end at a part.
func (g *Graph) Joins(key string) int { return len(g.Lines(key)) }

// On lists what sits in the wall of a part.
func (g *Graph) On(key string) (out []Part) {
	for _, p := range g.Parts {
		if p.On == key {
			out = append(out, p)
		}
	}
	return
}

// Plugs lists the lines that offer a plug point.
func (g *Graph) Plugs() (out []Part) {
	for _, p := range g.Parts {
		if p.Plug != "" {
			out = append(out, p)
		}
	}
	return
}

// PlugName says where a plug point is, for example "vapour line at the canister".
func (g *Graph) PlugName(line Part) string {
	end := line.From
	if line.Plug == "to" {
		end = line.To
	}
	key, _, _, _ := Port(end)
	at, _ := g.Part(key)
	name := strings.ToLower(at.Name)
	if name == "" {
		return line.Name + ", its end"
	}
	return line.Name + ", at the " + name
}

// Settings are the states that differ from rest, by part. A line is Plugged; a valve
// or cover is Open or Shut.
type Settings map[string]State

// StateOf returns what a part does under the settings: open or shut for what can be
// either, plugged for a plugged line, otherwise empty.
func (g *Graph) StateOf(key string, s Settings) State {
	p, ok := g.Part(key)
	if !ok {
		return ""
	}
	if v := s[key]; v != "" {
		if v != Powered {
			return v
		}
		if p.Rest == Open {
			return Shut
		}
		return Open
	}
	switch p.Kind {
	case Valve:
		return p.Rest
	case Cover, Relief, Pump:
		return Shut
	case Inlet:
		return Open
	}
	return ""
}

// Reached is what stands under pressure from one place.
type Reached struct {
	Inside []string // parts under pressure, covers and seals in their walls included
	Bounds []string // shut valves and covers that hold the pressure back
	Plugs  []string // plugged lines whose plug stands in the way; not tested themselves
	Vents  []string // openings to the air through which it would escape
}

// Sealed reports whether nothing stands open to the air.
func (r Reached) Sealed() bool { return len(r.Vents) == 0 }

// Tests reports whether a part is proven by a hold from there: it is under pressure,
// or it is what holds the pressure back. A plugged line is tested only where the
// pressure reached it.
func (r Reached) Tests(key string) bool {
	return slices.Contains(r.Inside, key) || slices.Contains(r.Bounds, key)
}

// Sense is which way gas is driven between a system and the air.
type Sense int

// Under pressure gas is driven out of the system, under vacuum into it.
const (
	Pressure Sense = iota
	Vacuum
)

// Reach follows pressure or vacuum from a part through what is open. Check valves pass one
// way only; reliefs count as shut.
func (g *Graph) Reach(from string, s Settings, sense Sense) Reached {
	p, ok := g.Part(from)
	if !ok {
		return Reached{}
	}
	if p.On != "" && p.At == "" {
		from = p.On
	}
	w := walk{g: g, set: s, sense: sense, seen: map[joint]bool{}, inside: map[string]bool{}, bounds: map[string]bool{}, plugs: map[string]bool{}}
	if sides := p.Sides(); sides != nil {
		for _, x := range sides {
			w.push(joint{from, x})
		}
	} else if p.Kind == Line {
		w.push(joint{from, "from"})
	} else {
		w.push(joint{from, ""})
	}
	for len(w.queue) > 0 {
		n := w.queue[0]
		w.queue = w.queue[1:]
		w.enter(n)
	}
	return w.reached()
}

// walk is how far something has been followed through a graph.
type walk struct {
	g     *Graph
	set   Settings
	sense Sense
	seen  map[joint]bool
	queue []joint

	inside, bounds, plugs map[string]bool
	vents                 []string
}

func (w *walk) push(n joint) {
	if !w.seen[n] {
		w.seen[n] = true
		w.queue = append(w.queue, n)
	}
}

// enter comes to a group of a part's sides, and goes on to what is joined there unless the
// end of a line is plugged.
func (w *walk) enter(n joint) {
	g := w.g
	p := &g.Parts[g.index[n.part]]
	if p.Kind == Line {
		w.inside[p.Key] = true
		for _, end := range []string{"from", "to"} {
			if end != n.group {
				w.push(joint{p.Key, end})
			}
		}
		if g.StateOf(p.Key, w.set) == Plugged && p.Plug == n.group {
			return
		}
	} else {
		w.within(p, n.group)
	}
	for _, j := range g.joins[n.part+"."+n.group] {
		o := &g.Parts[g.index[j.part]]
		if o.Kind == Line && o.Plug == j.group && g.StateOf(o.Key, w.set) == Plugged {
			w.plugs[o.Key] = true // the plug stands between us and the line
			continue
		}
		w.push(j)
	}
}

// within says what a part that is no line makes of it: whether it stands under it, lets it
// through to its other sides, holds it back or lets it out to the air.
func (w *walk) within(p *Part, group string) {
	st := w.g.StateOf(p.Key, w.set)
	sides := p.Sides()
	switch {
	case p.Kind == Inlet && st == Open:
		w.inside[p.Key] = true
		w.vents = append(w.vents, p.Key)
	case p.Kind == Inlet:
		w.bounds[p.Key] = true
	case p.Kind == Cover:
		if st == Open {
			w.vents = append(w.vents, p.Key)
		}
		w.bounds[p.Key] = true
	case sides == nil:
		w.inside[p.Key] = true
	case !w.passes(p, st, group):
		w.bounds[p.Key] = true
	default:
		w.inside[p.Key] = true
		for _, x := range sides {
			w.push(joint{p.Key, x})
		}
	}
}

// passes reports whether a part in a state lets through what comes to one of its sides.
func (w *walk) passes(p *Part, st State, at string) bool {
	switch p.Kind {
	case Valve, Pump, Relief:
		return st == Open
	case Check:
		return (at == p.Sides()[0]) == (w.sense == Pressure)
	case Block:
		return false
	}
	return true
}

// beside reports whether a part that sits on a shut one is on the side that was come to.
func (w *walk) beside(p *Part) bool {
	sides := w.g.Parts[w.g.index[p.On]].Sides()
	if len(sides) == 0 {
		return true
	}
	at := sides[0]
	if p.Behind {
		at = sides[len(sides)-1]
	}
	return w.seen[joint{p.On, at}]
}

// reached gathers what was come to, in the order of the data; what sits on a part stands
// under the same pressure.
func (w *walk) reached() Reached {
	r := Reached{Vents: w.vents}
	for i := range w.g.Parts {
		p := &w.g.Parts[i]
		switch {
		case p.On == "" || p.At != "":
		case w.inside[p.On]:
			w.inside[p.Key] = true
			if p.Kind == Cover && w.g.StateOf(p.Key, w.set) == Open {
				r.Vents = append(r.Vents, p.Key)
			}
		case w.bounds[p.On] && w.beside(p):
			if p.Kind == Relief {
				w.bounds[p.Key] = true
			} else {
				w.inside[p.Key] = true
			}
		}
		if w.inside[p.Key] {
			r.Inside = append(r.Inside, p.Key)
		} else if w.bounds[p.Key] {
			r.Bounds = append(r.Bounds, p.Key)
		} else if w.plugs[p.Key] {
			r.Plugs = append(r.Plugs, p.Key)
		}
	}
	return r
}

// VapourSpace is what the EVAP system holds that is not fuel, m³: the tank by the share of it that
// is full, and canister, neck and lines.
func (g *Graph) VapourSpace(level float64) float64 {
	v := 0.0
	for _, p := range g.Parts {
		if p.Family == "vapour" {
			v += p.GasVolume(level)
		}
	}
	return v
}

// CarbonVoid is the share of a canister that is gas; the rest is grains (chosen).
const CarbonVoid = 0.55

// GasVolume is the volume of gas in a part, m³; level is the share of a fuel tank that is full.
func (p Part) GasVolume(level float64) float64 {
	switch {
	case p.Role == "fuel":
		return p.Litres * 1e-3 * (1 - level)
	case p.Role == "carbon":
		return p.Litres * 1e-3 * CarbonVoid
	case p.Kind == Line:
		return math.Pi / 4 * p.Bore * p.Bore * p.Length
	}
	return p.Litres * 1e-3
}

// Mixes reports whether the gas at both ends of a line is one: a joint, or a wide and short hose through
// which it goes to and fro by itself (up to 5 cm, or 35 cm with a bore of 3 cm; chosen). A line with
// a plug point keeps its ends apart.
func (p Part) Mixes() bool {
	if p.Kind != Line || p.Plug != "" || p.Oneway || p.Role == "rings" {
		return false
	}
	return p.Length <= 0.05 || p.Bore >= 0.03 && p.Length < 0.35
}

// Fill is the least volume, in litres, that gas let in at a part has to fill before it
// comes to each part that it reaches; a fuel tank counts half, for the fuel in it.
func (g *Graph) Fill(from string, s Settings) map[string]float64 {
	out, _ := g.spread(from, s)
	return out
}

// Before is the part through which gas let in at a part comes to each part that it reaches, by the
// way of the least volume. What sits in a part's wall comes after that part.
func (g *Graph) Before(from string, s Settings) map[string]string {
	_, before := g.spread(from, s)
	return before
}

// spread follows gas from a part: the litres that it has filled before it comes to each part, and
// through which part it came.
func (g *Graph) spread(from string, s Settings) (litres map[string]float64, before map[string]string) {
	before = map[string]string{}
	inside := map[string]bool{from: true}
	for _, k := range g.Reach(from, s, Pressure).Inside {
		inside[k] = true
	}
	out := map[string]float64{from: 0}
	left := []string{from}
	for len(left) > 0 {
		n := 0
		for i, k := range left {
			if out[k] < out[left[n]] {
				n = i
			}
		}
		k := left[n]
		left = slices.Delete(left, n, n+1)
		p := g.Parts[g.index[k]]
		litres := p.GasVolume(0.5) * 1e3
		if k == from {
			litres = 0
		}
		groups := p.Sides()
		switch {
		case p.Kind == Line:
			groups = []string{"from", "to"}
		case groups == nil:
			groups = []string{""}
		}
		for _, side := range groups {
			for _, j := range g.joins[k+"."+side] {
				v := out[k] + litres
				if was, ok := out[j.part]; inside[j.part] && (!ok || v < was) {
					out[j.part], before[j.part] = v, k
					left = append(left, j.part)
				}
			}
		}
	}
	for _, p := range g.Parts {
		if v, ok := out[p.On]; ok && p.On != "" && inside[p.Key] {
			if _, own := out[p.Key]; !own {
				before[p.Key] = p.On
			}
			out[p.Key] = v
		}
	}
	return out, before
}

// Section is a stretch of plumbing between plug points.
type Section struct {
	Parts []string
	Name  string
}

// Sections cuts the car at every plug point. Valves join, whatever they do now: a
// section is what no plug can divide. They are worked out once and not to be changed.
func (g *Graph) Sections() []Section {
	g.once.Do(func() { g.sections = g.divide() })
	return g.sections
}

// nameRank says how well a part stands for its section: a volume best.
func nameRank(p Part) int {
	switch {
	case p.Name == "":
		return 0
	case p.Kind == Volume:
		return 3
	case p.Kind == Valve || p.Kind == Inlet:
		return 2
	}
	return 1
}

func (g *Graph) divide() (out []Section) {
	all := Settings{}
	for _, p := range g.Parts {
		if p.Plug != "" {
			all[p.Key] = Plugged
		} else if p.Kind == Valve || p.Kind == Pump || p.Kind == Relief {
			all[p.Key] = Open
		}
	}
	done := map[string]bool{}
	for _, p := range g.Parts {
		if done[p.Key] || p.On != "" && p.At == "" {
			continue
		}
		in := map[string]bool{}
		for _, sense := range []Sense{Pressure, Vacuum} {
			r := g.Reach(p.Key, all, sense)
			for _, k := range slices.Concat(r.Inside, r.Bounds) {
				in[k] = true
			}
		}
		var sec Section
		best := 0
		for _, q := range g.Parts {
			if in[q.Key] && !done[q.Key] {
				sec.Parts = append(sec.Parts, q.Key)
				done[q.Key] = true
				if rank := nameRank(q); rank > best {
					sec.Name, best = q.Name, rank
				}
			}
		}
		out = append(out, sec)
	}
	return out
}
