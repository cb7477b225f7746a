package diagnose

import (
	"fmt"
	"slices"
	"strings"

	"wexter/core/bench"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/sim"
)

// Row is what the plant made one test show on one simulated car with one fault: readings.
// What they mean is worked out when the table is made, so that a test whose rule changes
// needs no plant.
type Row struct {
	Test     string
	Car      plumbing.Combination // reduced to what the test can feel of the fault
	Fault    string               // empty: a healthy car
	Severity int                  // index of Severities
	Spread   int                  // index of Spread
	Part     string               // that is tried by itself
	Codes    string               // of Codes: what is stored, with blanks between
	Readings bench.Readings       // of the others
	Outcome  string               // what the readings come to
}

// Codes names, among the tests of the table, what the car's own control unit stores on its
// drives and in the nights after them.
const Codes = "codes"

// Severities are the middles of the steps of severity; each stands for a fifth of the
// range that the Book gives a fault.
var Severities = []float64{0.1, 0.3, 0.5, 0.7, 0.9}

// Spread is how cars differ beside their faults: two of them, far enough apart that what
// depends on fuel, weather and engine shows. Chosen here.
var Spread = []sim.Conditions{
	{Level: 0.35, Ambient: 288.15, Reid: 58e3, Displacement: 1.4e-3, Swelling: 0.03, Seed: 1},
	{Level: 0.6, Ambient: 298.15, Reid: 72e3, Displacement: 2.0e-3, Swelling: 0.1, Seed: 2},
}

// Asked is a test as the table knows it: one of the Book, or Codes.
func asked(test string) bench.Test {
	if test == Codes {
		// A unit sees what any of its monitors can feel, the sealed system as one volume.
		return bench.Test{Key: Codes, Odds: bench.FromPlant, OneVolume: true, Weather: true, Feels: []string{"vapour", "intake", "crankcase", "recirculation", "boost", "look-alike"}}
	}
	t, _ := bench.Of(test)
	return t
}

// alone reports whether a test tries one part by itself.
func alone(test string) bool { return bench.Part(test) }

// Simulated reports whether the plant is asked what a test shows on a car; of the others
// the likelihood follows from where holes are (a hold, smoke) or is set by hand.
func Simulated(b knowledge.Book, test string, of plumbing.Combination) bool {
	e, ok := b.Test(test)
	return ok && asked(test).Odds == bench.FromPlant && e.Fits(of)
}

// feels reports whether the plant is asked about a fault under a test.
func feels(t bench.Test, f knowledge.Fault) bool {
	return !f.Silent() && !f.Practice && t.FeelsFault(f)
}

// Target is the part that a part test tries when a fault on a part is in question; empty
// when the test does not try such a part.
func Target(g *plumbing.Graph, f knowledge.Fault, part, test string) string {
	t, _ := bench.Of(test)
	p, ok := g.Part(part)
	if t.On != bench.OnePart || !ok {
		return ""
	}
	return t.Tries(bench.Target{Graph: g, Fault: f, Part: p})
}

// place is a fault with the part of a car on which it sits; the zero place is a healthy car.
type place struct {
	knowledge.Fault
	On     plumbing.Part
	Behind bool // on the second purge path, behind the purge valve
}

func placeOf(g *plumbing.Graph, f knowledge.Fault, part string) place {
	on, _ := g.Part(part)
	return place{f, on, secondPurge(g, on)}
}

// alike reports whether a fault under a test is read from the yardsticks: it is nothing but
// a hole in the sealed system, which the test sees as one volume.
func alike(t bench.Test, f place) bool {
	return t.OneVolume && f.Family == "vapour" && !f.Behind && !f.Metering && !f.Yardstick && len(f.Changes) == 1 && f.Changes[0].Param == "leak"
}

// reducer puts one usual thing in the place of what a test cannot feel of a car.
type reducer struct {
	usual map[string]plumbing.Combination // by engine
	any   plumbing.Combination
}

func newReducer(l plumbing.Library) (reducer, error) {
	r := reducer{usual: map[string]plumbing.Combination{}}
	var err error
	if r.any, err = l.Complete(plumbing.Combination{}); err != nil {
		return r, err
	}
	for _, e := range l.Family("engine") {
		if r.usual[e.Key], err = l.Complete(plumbing.Combination{Engine: e.Key}); err != nil {
			return r, err
		}
	}
	return r, nil
}

// reduce is the car that stands in the table for a car with this fault under this test.
func (r reducer) reduce(t bench.Test, f place, c Car) plumbing.Combination {
	family := f.Family
	if f.Key == "" { // healthy, as the family asks that the test is about
		if family = "vapour"; len(t.Feels) > 0 {
			family = t.Feels[0]
		}
		if t.On == bench.OnePart {
			family = ""
		}
	}
	switch {
	case f.Behind:
		return r.usual[c.Of.Engine].With("boost", c.Of.Boost)
	case family == "vapour" || f.On.Family == "vapour":
		return r.vapour(t, f, c)
	case family == "crankcase":
		return r.usual[c.Of.Engine].With("crankcase", c.Of.Crankcase)
	case family == "recirculation":
		return r.usual[c.Of.Engine].With("recirculation", c.Of.Recirculation)
	case family == "boost" || family == "intake" || family == "look-alike":
		return r.usual[c.Of.Engine]
	}
	return r.any
}

// secondPurge reports whether a part belongs to the second purge path of a charged engine:
// its check valve, or a line to it.
func secondPurge(g *plumbing.Graph, p plumbing.Part) bool {
	if p.Role == "second-purge" || p.Kind != plumbing.Line {
		return p.Role == "second-purge"
	}
	for _, end := range []string{p.From, p.To} {
		key, _, _, _ := plumbing.Port(end)
		if at, ok := g.Part(key); ok && at.Role == "second-purge" {
			return true
		}
	}
	return false
}

// vapour is reduce for the EVAP system: the engine matters where its metering shows, and
// the rest of the system does not where a test feels only a purge valve that is commanded.
func (r reducer) vapour(t bench.Test, f place, c Car) plumbing.Combination {
	out := r.any.With("vapour", c.Of.Vapour)
	commanded := slices.ContainsFunc(c.Graph.Parts, func(p plumbing.Part) bool { return p.Role == "purge" && p.By == "" })
	if t.PurgeOnly && commanded {
		out.Vapour = r.any.Vapour
	}
	metered := r.usual[c.Of.Engine].With("vapour", out.Vapour)
	if f.Metering && t.On != bench.OnePart && metered.Boost == out.Boost && (t.Key != Codes || c.Of.Vapour == r.any.Vapour) {
		out.Engine = c.Of.Engine
	}
	return out
}

// wanting lists rows.
type wanting struct {
	reducer
	book   knowledge.Book
	graphs map[plumbing.Combination]*plumbing.Graph
	seen   map[string]bool
	out    []Row
}

func (w *wanting) add(r Row) {
	if k := r.Key(); !w.seen[k] {
		w.seen[k] = true
		w.out = append(w.out, r)
	}
}

// Wanted lists the rows of the table without what the plant says: every fault of every
// possible car, as far as tests can tell cars apart.
func Wanted(b knowledge.Book) ([]Row, error) {
	cars, err := b.Plumbing.Cars()
	if err != nil {
		return nil, err
	}
	w := &wanting{book: b, seen: map[string]bool{}, graphs: map[plumbing.Combination]*plumbing.Graph{}}
	if w.reducer, err = newReducer(b.Plumbing); err != nil {
		return nil, err
	}
	for _, car := range cars {
		w.graphs[car.Combination] = car.Graph
	}
	tests := []string{Codes}
	for _, t := range b.Tests {
		tests = append(tests, t.Key)
	}
	for _, car := range cars {
		for _, test := range tests {
			if test != Codes && !Simulated(b, test, car.Combination) {
				continue
			}
			for _, f := range b.Faults {
				w.fault(asked(test), f, Car{Of: car.Combination, Graph: car.Graph})
			}
		}
	}
	return w.out, nil
}

// fault lists what the plant is asked about one fault of a car under a test: every step of
// severity, and the same car without it.
func (w *wanting) fault(t bench.Test, f knowledge.Fault, car Car) {
	part, can := f.Can(car.Graph, car.Of)
	if !can || f.Family == "other" || f.Practice {
		return
	}
	target, at := Target(car.Graph, f, part, t.Key), placeOf(car.Graph, f, part)
	if alike(t, at) || target == "" && (t.On == bench.OnePart || !feels(t, f)) {
		return
	}
	r := Row{Test: t.Key, Car: w.reduce(t, at, car), Fault: f.Key, Part: target}
	if !w.possible(t, r.Car) {
		return
	}
	if _, ok := f.Can(w.graphs[r.Car], r.Car); !ok {
		return
	}
	for j := range Spread {
		if j > 0 && !w.weather(t, r.Car) {
			break // the kind of car hardly matters
		}
		h := r
		h.Spread = j
		for k := range Severities {
			h.Severity = k
			w.add(h)
		}
		if t.Key == Codes || t.On == bench.OnePart && j > 0 {
			continue
		}
		h.Fault, h.Severity = "", 0
		w.add(h)
		if t.On != bench.OnePart {
			if h.Car = w.reduce(t, place{}, car); w.possible(t, h.Car) {
				w.add(h)
			}
		}
	}
}

// possible reports whether there is such a car, and the test can be done on it.
func (w *wanting) possible(t bench.Test, c plumbing.Combination) bool {
	return w.graphs[c] != nil && (t.Key == Codes || Simulated(w.book, t.Key, c))
}

// weather reports whether fuel, weather and the size of the engine show under a test.
func (w *wanting) weather(t bench.Test, c plumbing.Combination) bool {
	a, _ := w.book.Plumbing.Find(c.Vapour)
	return t.Weather && (t.Key != Codes || plumbing.Overnight(a.Monitor))
}

// Key tells rows apart. A healthy part's row is told by the part.
func (r Row) Key() string {
	k := fmt.Sprint(r.Test, "|", r.Car, "|", r.Fault, "|", r.Severity, "|", r.Spread)
	if r.Fault == "" && r.Part != "" {
		k += "|" + r.Part
	}
	return k
}

// Fill asks the plant for a wanted row.
func Fill(b knowledge.Book, r Row) (Row, error) {
	at := Spread[r.Spread]
	at.Seed = at.Seed*1000 + uint64(r.Severity)
	c, err := sim.NewCar(b.Plumbing, r.Car, nil, at)
	if err != nil {
		return r, err
	}
	if r.Fault != "" {
		f, _ := b.Fault(r.Fault)
		part, _ := f.Can(c.Graph, r.Car)
		for _, d := range f.Defects(part, Severities[r.Severity]) {
			if err := c.Apply(d); err != nil {
				return r, err
			}
		}
	}
	if r.Test == Codes {
		codes, err := sim.Trip(c)
		r.Codes = strings.Join(codes, " ")
		return r, err
	}
	t, err := sim.Try(c, b, r.Test, r.Part)
	if err != nil {
		return r, fmt.Errorf("%s with %q on %v: %w", r.Test, r.Fault, r.Car, err)
	}
	r.Readings = t.Readings
	return r, nil
}

// line writes what a row holds of readings, as the table's file has it.
func (r Row) Line() string {
	if r.Test == Codes {
		return r.Codes
	}
	return asked(r.Test).Format(r.Readings)
}

// Read takes what Line wrote.
func (r *Row) Read(line string) (err error) {
	if r.Test == Codes {
		r.Codes = line
		return nil
	}
	t, ok := bench.Of(r.Test)
	if !ok {
		return fmt.Errorf("there is no test %q", r.Test)
	}
	r.Readings, err = t.Parse(line)
	return err
}
