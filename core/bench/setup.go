package bench

import (
	"maps"
	"slices"

	"wexter/core/plumbing"
)

// Site is where a test is done: a car, how its EVAP system is sealed, where the gauge is
// joined for that, and the part in question.
type Site struct {
	Graph *plumbing.Graph
	Seal  plumbing.Settings
	Entry string
	Part  string
}

// Setup is how a car stands for a stretch of a test: what is joined where, and what is
// plugged, capped, opened or commanded.
type Setup struct {
	Tools []Tool
	Set   plumbing.Settings
}

// Tool is an instrument that is joined at a part.
type Tool struct{ At, Name string }

// The rig by what it does in a stretch.
const (
	rigGauge  = "gauge and supply"
	rigSmoke  = "smoke"
	rigVacuum = "vacuum pump"
	rigBench  = "bench rig"
)

// probes are instruments that are held to a place while something is read there.
var probes = map[Sense]Tool{
	CoilOhms: {AtPart, "meter"}, SensorSupply: {AtPart, "meter"}, DifferenceVolts: {AtPart, "meter"},
	BenchPressure: {AtPart, rigBench}, BenchVacuum: {AtPart, rigBench}, HoldsBackward: {AtPart, rigBench}, UnitPressure: {AtPart, rigBench},
	PumpGauge: {AtPart, rigBench}, SensorVolts: {AtPart, "meter"},
	PurgePull: {"purge-pipe", "vacuum gauge"}, Crankcase: {"dipstick", "manometer"},
	TankPressure: {AtEntry, "gauge"}, TankVacuum: {AtEntry, "gauge"}, LowestTank: {AtEntry, "gauge"},
	PumpStrokes: {"leak-pump", "a hand on it"}, PumpSwitch: {"leak-pump", "meter"}, SoakSwitch: {"unit-switch", "meter"}, SignalVacuum: {"diaphragms", "vacuum gauge"},
}

func init() {
	for _, k := range walked {
		if k != "pins" {
			probes[CircuitSense(k)] = Tool{AtPart, "meter"}
		}
	}
}

// Where is the part that a step's At names on a car: one of the places, a role or a key. It
// is false where the car has no such part.
func (s Site) Where(at string) (string, bool) {
	if s.Graph == nil { // nobody knows how the car is built
		return "", false
	}
	key := at
	switch at {
	case "", AtEntry:
		key = s.Entry
	case AtPart:
		key = s.Part
	case AtFarEnd:
		key = s.farEnd()
	case AtPurgeLine:
		key = "purge-line"
	case AtInlet:
		key = "air-filter"
	case AtBreather:
		key = "breather-line"
	case AtDiaphragm:
		key = s.ofRole("recirculation").By
	default:
		if p := s.ofRole(at); p.Key != "" {
			key = p.Key
		}
	}
	_, ok := s.Graph.Part(key)
	return key, ok
}

// farEnd is what is opened to let smoke through: the cap, or, where smoke goes in at the neck, what is
// farthest from there of the places at which it could.
func (s Site) farEnd() string {
	const cap = "cap"
	if s.Entry != cap && s.Entry != "neck" {
		return cap
	}
	litres := s.Graph.Fill(s.Entry, s.Seal)
	best, most := cap, 0.0
	for _, p := range s.Graph.Parts {
		if v := litres[p.Key]; p.Entry && v > most {
			best, most = p.Key, v
		}
	}
	return best
}

// part is a part of the car by its key, one that has a name.
func (s Site) part(key string) (plumbing.Part, bool) {
	if s.Graph == nil {
		return plumbing.Part{}, false
	}
	p, ok := s.Graph.Part(key)
	return p, ok && p.Name != ""
}

// Held is the part at which an instrument is held that gives a sense; false where it is held to
// none, or the car has no such part.
func (s Site) Held(sense Sense) (string, bool) {
	t, ok := probes[sense]
	if !ok || s.Graph == nil {
		return "", false
	}
	return s.Where(t.At)
}

// ofRole is the part that has a role; the zero part where none has.
func (s Site) ofRole(role string) plumbing.Part {
	if i := slices.IndexFunc(s.Graph.Parts, func(p plumbing.Part) bool { return p.Role == role }); i >= 0 {
		return s.Graph.Parts[i]
	}
	return plumbing.Part{}
}

// Setups are the ways in which a car stands for a test, in their order: a new one wherever
// what is joined, plugged or commanded changes.
func (t Test) Setups(s Site) (out []Setup) {
	w := worker{site: s, set: plumbing.Settings{}}
	for _, p := range t.Phases {
		for _, step := range p.Do {
			w.do(step)
		}
		now := Setup{Set: maps.Clone(w.set)}
		if w.rig.At != "" {
			now.Tools = append(now.Tools, w.rig)
			delete(now.Set, w.rig.At) // what the rig goes in through is not what was opened or shut there
		}
		for _, key := range p.Read {
			c, _ := t.Channel(key)
			if x, ok := probes[c.Sense]; ok {
				if at, ok := s.Where(x.At); ok && !slices.ContainsFunc(now.Tools, func(o Tool) bool { return o.At == at }) {
					now.Tools = append(now.Tools, Tool{at, x.Name})
				}
			}
		}
		if len(now.Tools)+len(now.Set) == 0 || len(out) > 0 && same(out[len(out)-1], now) {
			continue
		}
		out = append(out, now)
	}
	return out
}

func same(a, b Setup) bool {
	return maps.Equal(a.Set, b.Set) && (len(b.Tools) == 0 || slices.Equal(a.Tools, b.Tools))
}

// worker goes through the steps of a test.
type worker struct {
	site Site
	set  plumbing.Settings
	base plumbing.Settings // how the system is sealed
	rig  Tool
}

func (w *worker) do(s Step) {
	at, ok := w.site.Where(s.At)
	switch s.Do {
	case Seal:
		w.base = w.site.Seal
		maps.Copy(w.set, w.base)
		w.rig = Tool{at, rigGauge}
	case Join:
		w.rig = Tool{at, rigGauge}
	case Press:
		w.rig = Tool{at, rigBench}
	case Smoke:
		w.rig.Name = rigSmoke
	case Draw:
		w.rig.Name = rigVacuum
	case Charge, Hold:
		w.rig.Name = rigGauge
	case Put, Command:
		if ok {
			w.put(at, s)
		}
	case Clear, Uncommand:
		if ok {
			w.back(at)
		}
	}
}

// put sets a part; a command of nothing leaves a valve at rest.
func (w *worker) put(at string, s Step) {
	switch {
	case s.Do == Put:
		w.set[at] = s.State
	case s.Value > 0:
		w.set[at] = plumbing.Powered
	default:
		w.back(at)
	}
}

// back leaves a part as the sealing left it, or at rest.
func (w *worker) back(at string) {
	delete(w.set, at)
	if st, ok := w.base[at]; ok {
		w.set[at] = st
	}
}

// Name is the name of the part that a step is about, for its words; false when this car has none.
func (s Site) Name(st Step) (string, bool) {
	switch st.At {
	case "", AtEntry:
		return "", true
	case AtPart:
		if s.Graph == nil {
			return "part", true
		}
		p, _ := s.Graph.Part(s.Part)
		return plumbing.Lower(p.Name), true
	case AtFarEnd:
		return "Far end", true
	case AtDiaphragm:
		return "diaphragm", true
	case AtPurgeLine:
		return "Purge hose", true
	case AtInlet:
		return "Inlet pipe", true
	case AtBreather:
		return "Breather hose", true
	}
	key, ok := s.Where(st.At)
	if !ok {
		return "", false
	}
	p, _ := s.Graph.Part(key)
	return p.Name, true
}
