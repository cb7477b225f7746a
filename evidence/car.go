package evidence

import (
	"slices"
	"strings"

	"wexter/core/bench"
	"wexter/core/diagnose"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/record"
)

// Car is a vehicle's plumbing beside the Book. It is shared and never changed.
type Car struct {
	Combination plumbing.Combination
	Graph       *plumbing.Graph

	book   knowledge.Book
	arch   knowledge.Archetype // of the vapour family
	diesel bool
	// Tank is the size of the fuel tank, m³, and how well it is known, a share with k = 2; 0: nobody
	// said.
	Tank, TankTolerance float64
	where               map[string]string // part by fault, for the faults that this car can have
	faults              map[string]knowledge.Fault
	tests               map[string]knowledge.Test
	signs               map[string]string // names
	contexts            map[string]string
}

// NewCar looks up once what a car's entries ask the Book and the plumbing for.
func NewCar(book knowledge.Book, c plumbing.Combination, g *plumbing.Graph) *Car {
	car := &Car{Combination: c, Graph: g, book: book, where: map[string]string{}, faults: map[string]knowledge.Fault{},
		tests: map[string]knowledge.Test{}, signs: map[string]string{}, contexts: map[string]string{}}
	car.arch, _ = book.Archetype(c.Vapour)
	engine, _ := book.Plumbing.Find(c.Engine)
	car.diesel = engine.Diesel
	for _, f := range book.Faults {
		car.faults[f.Key] = f
		if f.Family == "other" {
			continue
		}
		if part, ok := f.Can(g, c); ok {
			car.where[f.Key] = part
		}
	}
	for _, t := range book.Tests {
		car.tests[t.Key] = t
	}
	for _, s := range book.Signs {
		car.signs[s.Key] = s.Name
	}
	for _, w := range book.Contexts {
		car.contexts[w.Key] = w.Name
	}
	return car
}

// Subject is what a test of the car is done on: the part by its key, empty for the whole car.
func (c *Car) Subject(part string) bench.Subject {
	p, _ := c.Graph.Part(part)
	return bench.Subject{Of: c.Combination, Graph: c.Graph, Part: p, Tank: c.Tank, TankTolerance: c.TankTolerance, Seal: c.arch.Settings(), Entry: c.arch.Entry}
}

// Where is the part of the Map on which a fault sits; empty for one that this car cannot
// have.
func (c *Car) Where(fault string) string { return c.where[fault] }

// Can reports whether the car can have a fault.
func (c *Car) Can(fault string) bool { return c.where[fault] != "" }

// part is a part's name in mid-sentence.
func (c *Car) part(key string) string {
	p, _ := c.Graph.Part(key)
	return plumbing.Lower(p.Name)
}

// FaultName is a fault's name in mid-sentence.
func (c *Car) FaultName(key string) string { return plumbing.Lower(c.faults[key].Name) }

// ObservationWords says an observation.
func (c *Car) ObservationWords(x record.Observation) string {
	switch x.Kind {
	case record.SeenSign:
		if x.Absent {
			return "Not so: " + plumbing.Lower(c.signs[x.Key])
		}
		return c.signs[x.Key]
	case record.SeenContext:
		if name, ok := c.contexts[x.Key]; ok {
			return name
		}
	case record.SeenRenewed:
		if x.Absent {
			return "Not replaced: " + c.part(x.Part)
		}
		return "Renewed lately: " + c.part(x.Part)
	case record.SeenMarks:
		return "Marks of earlier work: " + c.part(x.Part)
	}
	return x.Key
}

// ResultWords says a result in a line.
func (c *Car) ResultWords(x record.Result) string {
	return c.ResultName(x) + ": " + c.OutcomeName(x.Test, x.Outcome)
}

// ResultName says which test a result is of, and on which part.
func (c *Car) ResultName(x record.Result) string {
	t := c.tests[x.Test]
	_, ok := c.Graph.Part(x.Part)
	switch {
	case ok && bench.For(t).On == bench.SealedSystem:
		return t.Name + ", in at the " + c.part(x.Part)
	case ok:
		return t.Name + ", " + c.part(x.Part)
	}
	return t.Name
}

// OutcomeName says the outcome of a test of the Book.
func (c *Car) OutcomeName(test, outcome string) string {
	if o, ok := c.tests[test].Outcome(outcome); ok {
		return o.Name
	}
	return outcome
}

// SmokeEntries are the places where smoke can be let into the EVAP system.
func (c *Car) SmokeEntries() (out []plumbing.Part) {
	r := c.Graph.Reach(c.arch.Entry, c.arch.Settings(), plumbing.Pressure)
	for _, p := range c.Graph.Parts {
		if p.Entry && r.Tests(p.Key) {
			out = append(out, p)
		}
	}
	return out
}

// Targets are the parts that a test can try by itself on this car.
func (c *Car) Targets(test string) (out []plumbing.Part) {
	done := map[string]bool{}
	for _, f := range c.book.Faults {
		part := c.where[f.Key]
		if part == "" {
			continue
		}
		if k := diagnose.Target(c.Graph, f, part, test); k != "" && !done[k] {
			done[k] = true
			p, _ := c.Graph.Part(k)
			out = append(out, p)
		}
	}
	b, _ := bench.Of(test)
	for _, p := range c.Graph.Parts { // a circuit is walked where a code names it, whether a fault sits there or not
		if b.Walk != nil && !done[p.Key] && b.Tries(bench.Target{Graph: c.Graph, Part: p}) != "" {
			out = append(out, p)
		}
	}
	return out
}

// CanEnter reports whether gauge, smoke or supply can be joined at a part: where the
// data say so, and wherever a line can be opened.
func CanEnter(p plumbing.Part) bool { return p.Entry || p.Plug != "" }

// CanBe lists the states that a hand, a plug or a command can give a part.
func CanBe(p plumbing.Part) (out []plumbing.State) {
	if p.Plug != "" {
		out = append(out, plumbing.Plugged)
	}
	switch p.Kind {
	case plumbing.Valve:
		if p.Moves() {
			out = append(out, plumbing.Powered)
		}
		out = append(out, plumbing.Open, plumbing.Shut)
	case plumbing.Cover:
		out = append(out, plumbing.Open)
	case plumbing.Inlet:
		out = append(out, plumbing.Shut)
	}
	return out
}

// UsualSealing is how the car is sealed for a hold: as its archetype says, as far as the
// parts are there.
func (c *Car) UsualSealing() (entry string, set record.States) {
	set = record.States{}
	for k, st := range c.arch.Set {
		if _, ok := c.Graph.Part(k); ok {
			set[k] = st
		}
	}
	entry = c.arch.Entry
	if _, ok := c.Graph.Part(entry); !ok {
		for _, p := range c.Graph.Parts {
			if CanEnter(p) && p.Family == "vapour" {
				return p.Key, set
			}
		}
	}
	return entry, set
}

// Sealing is the entry and the states of a test: as they were set, or as the car is
// usually sealed, for tests that were made before there was a Map.
func (c *Car) Sealing(su record.Setup) (entry string, set plumbing.Settings) {
	e, m := su.Entry, su.Set
	if _, ok := c.Graph.Part(e); !ok { // also when the car turned out to be built otherwise
		e, m = c.UsualSealing()
	}
	set = plumbing.Settings{}
	for k, v := range m {
		if _, ok := c.Graph.Part(k); ok {
			set[k] = plumbing.State(v)
		}
	}
	return e, set
}

// plugs says which lines are plugged in a set-up.
func (c *Car) plugs(set plumbing.Settings) string {
	var out []string
	for k, st := range set {
		if p, ok := c.Graph.Part(k); ok && st == plumbing.Plugged && p.Plug != "" && k != "vent-hose" {
			out = append(out, "plugged: "+plumbing.Lower(p.Name))
		}
	}
	slices.Sort(out)
	return strings.Join(out, ", ")
}
