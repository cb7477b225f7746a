package plumbing

import (
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"wexter/core/circuit"
)

// Families in the order in which a car is put together.
var Families = []string{"engine", "boost", "crankcase", "recirculation", "vapour"}

// Archetype is one way to build one family of a car's plumbing. From names fragments
// whose parts it takes; Drop leaves some of them out, and a part of its own with the
// same key replaces one.
type Archetype struct {
	Key     string
	Family  string
	Name    string // as a technician chooses it
	Rest    string // its rest states, in words
	Note    string
	Monitor string // how its control unit checks for leaks; see Monitors
	Diesel  bool   // burns without a throttle
	From    []string
	Drop    []string
	Parts   []Part
	Needs   []Bond // other archetypes it cannot be without
	Refuses []Bond // other archetypes it cannot stand beside
}

// Monitors are the ways in which a control unit checks an EVAP system for leaks.
var Monitors = []string{"", "draw-down", "strokes", "reference-pressure", "reference-vacuum", "cooling-switch", "cooling-sensor"}

// Overnight reports whether a check waits for what the night brings: fuel and weather decide
// with the hole.
func Overnight(monitor string) bool {
	return monitor != "" && monitor != "draw-down" && monitor != "strokes"
}

// Bond ties an archetype to others of one family: with lists their keys.
type Bond struct {
	Family string
	With   []string
	Why    string
}

// Fragment is a list of parts that several archetypes share.
type Fragment struct {
	Fragment string
	Parts    []Part
}

// Library is all archetypes by family.
type Library struct {
	Fragments  []Fragment
	Archetypes []Archetype
	Circuits   []*circuit.Circuit
}

// Wire checks the circuits and gives every part the one that it names; the error names the entry.
func (l *Library) Wire() error {
	by := map[string]*circuit.Circuit{}
	for _, c := range l.Circuits {
		if !keyForm.MatchString(c.Key) || by[c.Key] != nil {
			return Entry("circuit", c.Key, "the key must be its own, in lower case with dashes")
		}
		if err := c.Check(); err != nil {
			return Entry("circuit", c.Key, "%v", err)
		}
		by[c.Key] = c
	}
	wire := func(kind, key string, parts []Part) error {
		for i := range parts {
			p := &parts[i]
			if p.Wired = by[p.Circuit]; p.Wired == nil && p.Circuit != "" {
				return Entry(kind, key, "part %q: there is no circuit %q", p.Key, p.Circuit)
			}
		}
		return nil
	}
	for _, f := range l.Fragments {
		if err := wire("fragment", f.Fragment, f.Parts); err != nil {
			return err
		}
	}
	for _, a := range l.Archetypes {
		if err := wire("archetype", a.Key, a.Parts); err != nil {
			return err
		}
	}
	return nil
}

// Combination names one archetype of each family.
type Combination struct {
	Engine, Boost, Crankcase, Recirculation, Vapour string
}

// Of returns the key that the combination holds for a family.
func (c Combination) Of(family string) string {
	switch family {
	case "engine":
		return c.Engine
	case "boost":
		return c.Boost
	case "crankcase":
		return c.Crankcase
	case "recirculation":
		return c.Recirculation
	case "vapour":
		return c.Vapour
	}
	return ""
}

// With returns the combination with another key for a family.
func (c Combination) With(family, key string) Combination {
	switch family {
	case "engine":
		c.Engine = key
	case "boost":
		c.Boost = key
	case "crankcase":
		c.Crankcase = key
	case "recirculation":
		c.Recirculation = key
	case "vapour":
		c.Vapour = key
	}
	return c
}

// String joins the keys in the order of Families.
func (c Combination) String() string {
	return strings.Join([]string{c.Engine, c.Boost, c.Crankcase, c.Recirculation, c.Vapour}, " + ")
}

// Find returns an archetype by key.
func (l Library) Find(key string) (Archetype, bool) {
	for _, a := range l.Archetypes {
		if a.Key == key {
			return a, true
		}
	}
	return Archetype{}, false
}

// Family lists the archetypes of one family in the order of the data.
func (l Library) Family(family string) (out []Archetype) {
	for _, a := range l.Archetypes {
		if a.Family == family {
			out = append(out, a)
		}
	}
	return
}

// Impossible is a combination that no car can have.
type Impossible struct{ Why string }

func (e *Impossible) Error() string { return e.Why }

// Possible returns nil, or an *Impossible with the reason.
func (l Library) Possible(c Combination) error {
	for _, f := range Families {
		a, ok := l.Find(c.Of(f))
		if !ok || a.Family != f {
			var keys []string
			for _, o := range l.Family(f) {
				keys = append(keys, o.Key)
			}
			return &Impossible{fmt.Sprintf("%s: %q is not known; known are %s", f, c.Of(f), strings.Join(keys, ", "))}
		}
	}
	if a, b, clash := l.clash(c); clash {
		return &Impossible{l.both(a, c.Of(b.Family)) + ": " + b.Why}
	}
	return nil
}

// clash finds an archetype that cannot stand beside another one of the combination.
func (l Library) clash(c Combination) (Archetype, Bond, bool) {
	for _, f := range Families {
		a, _ := l.Find(c.Of(f))
		for _, b := range a.Needs {
			if c.Of(b.Family) != "" && !slices.Contains(b.With, c.Of(b.Family)) {
				return a, b, true
			}
		}
		for _, b := range a.Refuses {
			if slices.Contains(b.With, c.Of(b.Family)) {
				return a, b, true
			}
		}
	}
	return Archetype{}, Bond{}, false
}

func (l Library) both(a Archetype, other string) string {
	o, _ := l.Find(other)
	return fmt.Sprintf("%q and %q do not go together", a.Name, o.Name)
}

// Combinations lists every possible car, in the order of the data.
func (l Library) Combinations() []Combination {
	cs := []Combination{{}}
	for _, f := range Families {
		var next []Combination
		for _, c := range cs {
			for _, a := range l.Family(f) {
				n := c.With(f, a.Key)
				if _, _, clash := l.clash(n); !clash && len(next) <= mostCars {
					next = append(next, n)
				}
			}
		}
		cs = next
	}
	return cs
}

// Complete fills the families that a combination leaves empty with the first archetypes
// that make a possible car; the error is an *Impossible.
func (l Library) Complete(c Combination) (Combination, error) {
	if a, b, clash := l.clash(c); clash {
		return c, &Impossible{l.both(a, c.Of(b.Family)) + ": " + b.Why}
	}
	var fill func(c Combination, from int) (Combination, bool)
	fill = func(c Combination, from int) (Combination, bool) {
		for i := from; i < len(Families); i++ {
			f := Families[i]
			if c.Of(f) != "" {
				continue
			}
			for _, a := range l.Family(f) {
				if full, ok := fill(c.With(f, a.Key), i+1); ok {
					return full, true
				}
			}
			return c, false
		}
		return c, l.Possible(c) == nil
	}
	full, ok := fill(c, 0)
	switch {
	case ok:
		return full, nil
	case full == c:
		return c, l.Possible(c)
	}
	return c, &Impossible{fmt.Sprintf("no car can be built from %v", strings.Join(slices.DeleteFunc([]string{c.Engine, c.Boost, c.Crankcase, c.Recirculation, c.Vapour}, func(s string) bool { return s == "" }), " and "))}
}

// parts gathers an archetype's own parts and those of its fragments.
func (l Library) parts(a Archetype) ([]Part, error) {
	var out []Part
	at := map[string]int{}
	for _, name := range a.From {
		i := slices.IndexFunc(l.Fragments, func(f Fragment) bool { return f.Fragment == name })
		if i < 0 {
			return nil, fmt.Errorf("there is no fragment %q", name)
		}
		for _, p := range l.Fragments[i].Parts {
			if slices.Contains(a.Drop, p.Key) {
				continue
			}
			if _, twice := at[p.Key]; twice {
				return nil, fmt.Errorf("part %q comes with two fragments", p.Key)
			}
			at[p.Key] = len(out)
			out = append(out, p)
		}
	}
	for _, p := range a.Parts {
		if i, ok := at[p.Key]; ok {
			out[i] = p
			continue
		}
		at[p.Key] = len(out)
		out = append(out, p)
	}
	for i := range out {
		if out[i].Family == "" {
			out[i].Family = a.Family
		}
	}
	return out, nil
}

// Combine joins the parts of a combination into a graph. The error is an *Impossible
// when no car can have it, and names the entry when the data are wrong.
func (l Library) Combine(c Combination) (*Graph, error) {
	if err := l.Possible(c); err != nil {
		return nil, err
	}
	return l.combine(c, map[string][]Part{})
}

// combine joins a possible combination; parts keeps what was gathered of archetypes.
func (l Library) combine(c Combination, gathered map[string][]Part) (*Graph, error) {
	var lists [][]Part
	most := 0
	for _, f := range Families {
		ps, ok := gathered[c.Of(f)]
		if !ok {
			a, _ := l.Find(c.Of(f))
			var err error
			if ps, err = l.parts(a); err != nil {
				return nil, Entry("archetype", a.Key, "%v", err)
			}
			gathered[a.Key] = ps
		}
		lists, most = append(lists, ps), most+len(ps)
	}
	// Parts are large and there are hundreds of cars: they are copied once.
	parts, at := make([]Part, 0, most), make(map[string]int, most)
	for _, ps := range lists {
		for i := range ps {
			p := &ps[i]
			was, ok := at[p.Key]
			switch {
			case !ok || parts[was].Instead == p.Instead: // twice the same: NewGraph says so
				at[p.Key] = len(parts)
				parts = append(parts, *p)
			case p.Instead:
				parts[was] = *p
			}
		}
	}
	return NewGraph(parts)
}

// EntryError says what is wrong with one entry of the data, by its kind ("fault",
// "archetype") and key, so that whoever read it from a file can say where it stands.
type EntryError struct{ Kind, Key, Wrong string }

func (e *EntryError) Error() string { return fmt.Sprintf("%s %q: %s", e.Kind, e.Key, e.Wrong) }

// Entry returns an EntryError; what is wrong is formatted as by fmt.Sprintf.
func Entry(kind, key, format string, a ...any) error {
	return &EntryError{kind, key, fmt.Sprintf(format, a...)}
}

// Car is a possible combination with its plumbing.
type Car struct {
	Combination
	Graph *Graph
}

// Cars joins every possible combination.
func (l Library) Cars() ([]Car, error) {
	all := l.Combinations()
	out, errs := make([]Car, len(all)), make([]error, len(all))
	var next atomic.Int64
	var g sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		g.Go(func() {
			gathered := map[string][]Part{}
			for i := int(next.Add(1)) - 1; i < len(all); i = int(next.Add(1)) - 1 {
				graph, err := l.combine(all[i], gathered)
				out[i], errs[i] = Car{all[i], graph}, err
			}
		})
	}
	g.Wait()
	for i, err := range errs { // the first one, however they were shared out
		if err != nil {
			return nil, fmt.Errorf("combination %v: %w", all[i], err)
		}
	}
	return out, nil
}

// Validate returns every possible car, or the first thing that is wrong with the data,
// naming the entry. Every archetype must be part of at least one possible car, and
// every possible car must join without a loose end.
func (l Library) Validate() ([]Car, error) {
	for _, f := range l.Fragments {
		if !keyForm.MatchString(f.Fragment) {
			return nil, Entry("fragment", f.Fragment, "a key in lower case with dashes is needed")
		}
		if err := checkParts(f.Parts); err != nil {
			return nil, Entry("fragment", f.Fragment, "%v", err)
		}
	}
	for _, f := range Families {
		if n := len(l.Family(f)); n > mostArchetypes {
			return nil, fmt.Errorf("family %q has %d archetypes; at most %d", f, n, mostArchetypes)
		}
	}
	seen := map[string]bool{}
	for _, a := range l.Archetypes {
		switch {
		case len(a.Parts) > mostParts:
			return nil, Entry("archetype", a.Key, "it has %d parts; at most %d", len(a.Parts), mostParts)
		case !keyForm.MatchString(a.Key) || seen[a.Key]:
			return nil, Entry("archetype", a.Key, "the key must be its own, in lower case with dashes")
		case !slices.Contains(Families, a.Family):
			return nil, Entry("archetype", a.Key, "family %q is not one of %v", a.Family, Families)
		case !slices.Contains(Monitors, a.Monitor):
			return nil, Entry("archetype", a.Key, "monitor %q is not one of %q", a.Monitor, Monitors[1:])
		case a.Name == "" || a.Rest == "":
			return nil, Entry("archetype", a.Key, "name and rest states are needed")
		}
		seen[a.Key] = true
		if err := checkParts(a.Parts); err != nil {
			return nil, Entry("archetype", a.Key, "%v", err)
		}
		if _, err := l.parts(a); err != nil {
			return nil, Entry("archetype", a.Key, "%v", err)
		}
		for _, b := range slices.Concat(a.Needs, a.Refuses) {
			if b.Why == "" {
				return nil, Entry("archetype", a.Key, "a combination is refused without a reason")
			}
			for _, k := range b.With {
				if o, ok := l.Find(k); !ok || o.Family != b.Family {
					return nil, Entry("archetype", a.Key, "%q is no archetype of family %q", k, b.Family)
				}
			}
		}
	}
	if len(l.Combinations()) > mostCars {
		return nil, fmt.Errorf("more than %d cars are possible: say what the archetypes need and refuse", mostCars)
	}
	used := map[string]bool{}
	cars, err := l.Cars()
	if err != nil {
		return nil, err
	}
	for _, c := range cars {
		for _, f := range Families {
			used[c.Of(f)] = true
		}
	}
	for _, a := range l.Archetypes {
		if !used[a.Key] {
			return nil, Entry("archetype", a.Key, "no car can have it: what it needs and refuses excludes every combination")
		}
	}
	return cars, nil
}

// Bounds of what a file can ask for: every combination is joined when it is loaded.
const (
	mostArchetypes = 24
	mostCars       = 5000
	mostParts      = 120
)

func checkParts(parts []Part) error {
	if len(parts) > mostParts {
		return fmt.Errorf("it has %d parts; at most %d", len(parts), mostParts)
	}
	seen := map[string]bool{}
	for _, p := range parts {
		if err := p.check(); err != nil {
			return fmt.Errorf("part %q: %w", p.Key, err)
		}
		if seen[p.Key] {
			return fmt.Errorf("part %q: there are two of this key", p.Key)
		}
		seen[p.Key] = true
	}
	return nil
}
