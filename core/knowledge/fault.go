package knowledge

import (
	"maps"
	"math"
	"slices"
	"strings"

	"wexter/core/plumbing"
)

// Word is an entry that is only named; Said are words of customers that suggest it.
type Word struct {
	Key, Name string
	Said      []string
}

// Param is a quantity of the plumbing that a fault changes.
type Param struct{ Key, Name, Unit string }

// Fault is something that leaks, sticks or lies, and looks alike.
type Fault struct {
	Key     string
	Family  string // intake, crankcase, recirculation, boost, vapour, look-alike or other
	Name    string
	Place   string             // where to look
	Carries []string           // parts of the plumbing that can have it
	Only    []string           // archetypes that can have it; empty: all that have the part
	After   bool               // only after a repair
	Weight  float64            // shop odds within its family
	Context map[string]float64 // what raises or lowers the odds, as a factor
	Changes []Change           // what it does to the plumbing
	Sets    map[string]float64 // odds that control units store a code of a group with it; the Book's own stand with the groups
	Order   string             // the part to order
	Seals   string             // and what belongs to it
	Minutes int                // to repair
	Cost    string             // class
	Price   float64            // of the part, where it is not that of its class
	Tests   []string           // tests that can see it
	// Metering: how the engine meters its air shows in what it does. Varies: it differs from
	// day to day. Yardstick: the plant is asked about it in the place of every other fault
	// that is nothing but a hole in the sealed system.
	Metering, Varies, Yardstick bool
	// Practice: the plant does not know it; what it shows is set by hand.
	Practice bool
	Causes   []string // faults of which it may be the victim
}

// Silent reports whether the fault changes nothing that a test could feel.
func (f Fault) Silent() bool {
	return !f.Practice && !slices.ContainsFunc(f.Changes, func(c Change) bool { return c.Param != "ready" })
}

// Change is a parameter of the plumbing with the range of severities.
type Change struct {
	Param    string
	From, To float64
}

// faultFamilies are the families of faults in the order in which they are shown.
var faultFamilies = []string{"vapour", "intake", "crankcase", "recirculation", "boost", "look-alike", "other"}

// FaultFamilies lists them.
func FaultFamilies() []string { return faultFamilies }

// Fault finds one by key.
func (b Book) Fault(key string) (Fault, bool) {
	i := slices.IndexFunc(b.Faults, func(f Fault) bool { return f.Key == key })
	if i < 0 {
		return Fault{}, false
	}
	return b.Faults[i], true
}

// Can reports whether a car can have the fault, and in which of its parts.
func (f Fault) Can(g *plumbing.Graph, c plumbing.Combination) (part string, ok bool) {
	if len(f.Only) > 0 && !slices.ContainsFunc(plumbing.Families, func(fam string) bool { return slices.Contains(f.Only, c.Of(fam)) }) {
		return "", false
	}
	for _, k := range f.Carries {
		if _, has := g.Part(k); has {
			return k, true
		}
	}
	return "", false
}

// FaultsOf lists the faults that this car can have in a part or in what sits in its
// wall, likeliest first.
func (b Book) FaultsOf(g *plumbing.Graph, c plumbing.Combination, part string) (out []Fault) {
	for _, f := range b.Faults {
		at, ok := f.Can(g, c)
		if !ok || f.Family == "other" {
			continue
		}
		if p, _ := g.Part(at); at == part || p.On == part && !p.Drawn() || p.Kind != plumbing.Line && slices.Contains(f.Carries, part) {
			out = append(out, f)
		}
	}
	slices.SortStableFunc(out, func(x, y Fault) int {
		switch {
		case x.Weight > y.Weight:
			return -1
		case x.Weight < y.Weight:
			return 1
		}
		return 0
	})
	return out
}

// faultWords are the keys that a fault may name.
type faultWords struct{ contexts, costs, params, parts map[string]bool }

// checkFaults returns the first fault that is wrong, or the first word of theirs.
func (b Book) checkFaults(cars []plumbing.Car) error {
	words, err := b.faultWords()
	if err != nil {
		return err
	}
	seen := map[string]bool{}
	for _, f := range b.Faults {
		if !keyForm.MatchString(f.Key) || seen[f.Key] {
			return plumbing.Entry("fault", f.Key, "a key of its own is needed")
		}
		seen[f.Key] = true
		if err := f.check(words); err != nil {
			return err
		}
		if err := b.checkOnly("fault", f.Key, f.Only); err != nil {
			return err
		}
		for g := range f.Sets {
			if !b.groupKeys()[g] {
				return plumbing.Entry("fault", f.Key, "there is no group of codes %q", g)
			}
		}
		for _, t := range f.Tests {
			if _, ok := b.Test(t); !ok {
				return plumbing.Entry("fault", f.Key, "there is no test %q", t)
			}
		}
	}
	for _, f := range b.Faults {
		for _, c := range f.Causes {
			if !seen[c] || c == f.Key {
				return plumbing.Entry("fault", f.Key, "it cannot be the victim of %q", c)
			}
		}
	}
	return b.checkReach(cars)
}

// faultWords collects the keys that faults may name, and checks those that stand for
// nothing else.
func (b Book) faultWords() (w faultWords, err error) {
	w = faultWords{map[string]bool{}, map[string]bool{}, map[string]bool{}, map[string]bool{}}
	for _, c := range b.Contexts {
		if !keyForm.MatchString(c.Key) || w.contexts[c.Key] || c.Name == "" {
			return w, plumbing.Entry("context", c.Key, "a key of its own and a name are needed")
		}
		if err := checkSaid("context", c.Key, c.Said); err != nil {
			return w, err
		}
		w.contexts[c.Key] = true
	}
	for _, c := range b.Costs {
		if !keyForm.MatchString(c.Key) || w.costs[c.Key] || c.Name == "" || !(c.Price > 0) {
			return w, plumbing.Entry("cost", c.Key, "a key of its own, a name and a price are needed")
		}
		w.costs[c.Key] = true
	}
	for _, p := range b.Params {
		if !keyForm.MatchString(p.Key) || w.params[p.Key] || p.Name == "" || p.Unit == "" {
			return w, plumbing.Entry("param", p.Key, "a key of its own, a name and a unit are needed")
		}
		w.params[p.Key] = true
	}
	for _, f := range b.Plumbing.Fragments {
		for _, p := range f.Parts {
			w.parts[p.Key] = true
		}
	}
	for _, a := range b.Plumbing.Archetypes {
		for _, p := range a.Parts {
			w.parts[p.Key] = true
		}
	}
	return w, nil
}

// check returns what is wrong with a fault by itself and in the words it uses.
func (f Fault) check(w faultWords) error {
	switch {
	case f.Name == "":
		return plumbing.Entry("fault", f.Key, "no name")
	case !slices.Contains(faultFamilies, f.Family):
		return plumbing.Entry("fault", f.Key, "family %q is not one of %v", f.Family, faultFamilies)
	case !(f.Weight > 0) || f.Weight > 100:
		return plumbing.Entry("fault", f.Key, "its weight is %g; it lies above 0 and at most at 100", f.Weight)
	case len(f.Carries) == 0:
		return plumbing.Entry("fault", f.Key, "say which part carries it")
	case f.Minutes <= 0 || f.Minutes > 3000:
		return plumbing.Entry("fault", f.Key, "%d minutes to repair cannot be", f.Minutes)
	case slices.ContainsFunc(slices.Collect(maps.Values(f.Sets)), func(p float64) bool { return !(p > 0 && p < 1) }):
		return plumbing.Entry("fault", f.Key, "the odds of a code lie between 0 and 1")
	case !(f.Price >= 0 && f.Price < 1e5):
		return plumbing.Entry("fault", f.Key, "a price of %g cannot be", f.Price)
	case !w.costs[f.Cost]:
		return plumbing.Entry("fault", f.Key, "there is no cost %q", f.Cost)
	case len(f.Tests) == 0:
		return plumbing.Entry("fault", f.Key, "a fault without a test that can see it")
	case (len(f.Changes) == 0) != f.Practice && f.Family != "other":
		return plumbing.Entry("fault", f.Key, "say what it changes, or that only practice knows it")
	}
	for _, p := range f.Carries {
		if !w.parts[p] {
			return plumbing.Entry("fault", f.Key, "there is no part %q", p)
		}
	}
	for k, v := range f.Context {
		if !w.contexts[k] || !(v > 0) || v > 50 {
			return plumbing.Entry("fault", f.Key, "context %q with factor %g: the context must be known and the factor lie above 0 and at most at 50", k, v)
		}
	}
	for _, c := range f.Changes {
		if !w.params[c.Param] || math.IsNaN(c.From) || math.IsNaN(c.To) || c.From > c.To {
			return plumbing.Entry("fault", f.Key, "it changes %q from %g to %g: the parameter must be known and the range rise", c.Param, c.From, c.To)
		}
	}
	return nil
}

// checkReach holds that every fault can be had by some car, and is then seen by a test
// that this car can be given.
func (b Book) checkReach(cars []plumbing.Car) error {
	left := map[string]bool{}
	for _, f := range b.Faults {
		left[f.Key] = true
	}
	tests := map[string]Test{}
	for _, t := range b.Tests {
		tests[t.Key] = t
	}
	for _, c := range cars {
		for _, f := range b.Faults {
			if _, ok := f.Can(c.Graph, c.Combination); !ok {
				continue
			}
			delete(left, f.Key)
			if !slices.ContainsFunc(f.Tests, func(k string) bool { return tests[k].Fits(c.Combination) }) {
				return plumbing.Entry("fault", f.Key, "a fault without a test that can see it on a car with %v", c.Combination)
			}
		}
	}
	for _, f := range b.Faults {
		if left[f.Key] {
			return plumbing.Entry("fault", f.Key, "no car can have it: %s is not together with %s", strings.Join(f.Carries, ", "), strings.Join(f.Only, ", "))
		}
	}
	return nil
}

// checkPlumbing returns every possible car, or what is wrong with the archetypes.
func (b *Book) checkPlumbing() ([]plumbing.Car, error) {
	cars, err := b.Plumbing.Validate()
	if err != nil {
		return nil, err
	}
	for _, a := range b.Archetypes {
		if p, ok := b.Plumbing.Find(a.Key); !ok || p.Family != "vapour" {
			return nil, plumbing.Entry("archetype", a.Key, "there is no plumbing of this key in the vapour family")
		}
	}
	for _, a := range b.Archetypes {
		if err := b.checkSealing(a, cars); err != nil {
			return nil, err
		}
	}
	for _, p := range b.Plumbing.Family("vapour") {
		if _, ok := b.Archetype(p.Key); !ok && len(p.From)+len(p.Parts) > 0 {
			return nil, plumbing.Entry("archetype", p.Key, "say how it checks itself and how it is sealed (archetypes)")
		}
	}
	return cars, nil
}

// checkSealing holds that an archetype, sealed as it says, is tight to the gauge on
// every car, and that the gauge reaches its tank.
func (b *Book) checkSealing(a Archetype, cars []plumbing.Car) error {
	for _, st := range a.Set {
		if !slices.Contains([]string{string(plumbing.Open), string(plumbing.Shut), string(plumbing.Powered), string(plumbing.Plugged)}, st) {
			return plumbing.Entry("archetype", a.Key, "%q is no state of a part: open, shut, powered or plugged", st)
		}
	}
	for _, c := range cars {
		if c.Vapour != a.Key {
			continue
		}
		g := c.Graph
		for _, k := range append(slices.Collect(maps.Keys(a.Set)), a.Entry) {
			if _, ok := g.Part(k); !ok {
				return plumbing.Entry("archetype", a.Key, "for a hold there is no part %q", k)
			}
		}
		if r := g.Reach(a.Entry, a.Settings(), plumbing.Pressure); !r.Sealed() || !r.Tests("tank") {
			return plumbing.Entry("archetype", a.Key, "sealed as it says, it stands open at %q, or the gauge does not reach the tank", r.Vents)
		}
	}
	return nil
}

// Settings are the states of the parts when it is sealed for a hold.
func (a Archetype) Settings() plumbing.Settings {
	s := plumbing.Settings{}
	for k, v := range a.Set {
		s[k] = plumbing.State(v)
	}
	return s
}

// Join copies names and rest states from the plumbing to the archetypes of the same key.
func (b *Book) Join() {
	for i, a := range b.Archetypes {
		p, _ := b.Plumbing.Find(a.Key)
		b.Archetypes[i].Name, b.Archetypes[i].Rest = p.Name, p.Rest
	}
}
