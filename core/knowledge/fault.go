package knowledge

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"wexter/core/plumbing"
)

// Word is an entry that is only named.
type Word struct{ Key, Name string }

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
	Order   string             // the part to order
	Seals   string             // and what belongs to it
	Minutes int                // to repair
	Cost    string             // class
	Tests   []string           // tests that can see it
	Causes  []string           // faults of which it may be the victim
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

// checkFaults returns the first fault that is wrong.
func (b Book) checkFaults(cars []plumbing.Car) error {
	words := func(name string, l []Word) (map[string]bool, error) {
		seen := map[string]bool{}
		for _, w := range l {
			if !keyForm.MatchString(w.Key) || seen[w.Key] || w.Name == "" {
				return nil, fmt.Errorf("%s %q: a key of its own and a name are needed", name, w.Key)
			}
			seen[w.Key] = true
		}
		return seen, nil
	}
	contexts, err := words("context", b.Contexts)
	if err != nil {
		return err
	}
	costs := map[string]bool{}
	for _, c := range b.Costs {
		if !keyForm.MatchString(c.Key) || costs[c.Key] || c.Name == "" || !(c.Price > 0) {
			return fmt.Errorf("cost %q: a key of its own, a name and a price are needed", c.Key)
		}
		costs[c.Key] = true
	}
	params := map[string]bool{}
	for _, p := range b.Params {
		if !keyForm.MatchString(p.Key) || params[p.Key] || p.Name == "" || p.Unit == "" {
			return fmt.Errorf("param %q: a key of its own, a name and a unit are needed", p.Key)
		}
		params[p.Key] = true
	}
	parts := map[string]bool{}
	for _, f := range b.Plumbing.Fragments {
		for _, p := range f.Parts {
			parts[p.Key] = true
		}
	}
	for _, a := range b.Plumbing.Archetypes {
		for _, p := range a.Parts {
			parts[p.Key] = true
		}
	}
	seen := map[string]bool{}
	for _, f := range b.Faults {
		switch {
		case !keyForm.MatchString(f.Key) || seen[f.Key]:
			return fmt.Errorf("fault %q: a key of its own is needed", f.Key)
		case f.Name == "":
			return fmt.Errorf("fault %q: no name", f.Key)
		case !slices.Contains(faultFamilies, f.Family):
			return fmt.Errorf("fault %q: family %q is not one of %v", f.Key, f.Family, faultFamilies)
		case !(f.Weight > 0) || f.Weight > 100:
			return fmt.Errorf("fault %q: its weight is %g; it lies above 0 and at most at 100", f.Key, f.Weight)
		case len(f.Carries) == 0:
			return fmt.Errorf("fault %q: say which part carries it", f.Key)
		case f.Minutes <= 0 || f.Minutes > 3000:
			return fmt.Errorf("fault %q: %d minutes to repair cannot be", f.Key, f.Minutes)
		case !costs[f.Cost]:
			return fmt.Errorf("fault %q: there is no cost %q", f.Key, f.Cost)
		case len(f.Tests) == 0:
			return fmt.Errorf("fault %q: a fault without a test that can see it", f.Key)
		case len(f.Changes) == 0 && f.Family != "other":
			return fmt.Errorf("fault %q: say what it changes", f.Key)
		}
		for _, p := range f.Carries {
			if !parts[p] {
				return fmt.Errorf("fault %q: there is no part %q", f.Key, p)
			}
		}
		for _, a := range f.Only {
			if _, ok := b.Plumbing.Find(a); !ok {
				return fmt.Errorf("fault %q: there is no archetype %q", f.Key, a)
			}
		}
		for k, v := range f.Context {
			if !contexts[k] || !(v > 0) || v > 50 {
				return fmt.Errorf("fault %q: context %q with factor %g: the context must be known and the factor lie above 0 and at most at 50", f.Key, k, v)
			}
		}
		for _, c := range f.Changes {
			if !params[c.Param] || math.IsNaN(c.From) || math.IsNaN(c.To) || c.From > c.To {
				return fmt.Errorf("fault %q: it changes %q from %g to %g: the parameter must be known and the range rise", f.Key, c.Param, c.From, c.To)
			}
		}
		for _, t := range f.Tests {
			if _, ok := b.Test(t); !ok {
				return fmt.Errorf("fault %q: there is no test %q", f.Key, t)
			}
		}
		seen[f.Key] = true
	}
	for _, f := range b.Faults {
		for _, c := range f.Causes {
			if !seen[c] || c == f.Key {
				return fmt.Errorf("fault %q: it cannot be the victim of %q", f.Key, c)
			}
		}
	}
	return b.checkReach(cars)
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
				return fmt.Errorf("fault %q: a fault without a test that can see it on a car with %v", f.Key, c.Combination)
			}
		}
	}
	for _, f := range b.Faults {
		if left[f.Key] {
			return fmt.Errorf("fault %q: no car can have it: %s is not together with %s", f.Key, strings.Join(f.Carries, ", "), strings.Join(f.Only, ", "))
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
			return nil, fmt.Errorf("archetype %q: there is no plumbing of this key in the vapour family", a.Key)
		}
	}
	for _, a := range b.Archetypes {
		if err := b.checkSealing(a, cars); err != nil {
			return nil, err
		}
	}
	for _, p := range b.Plumbing.Family("vapour") {
		if _, ok := b.Archetype(p.Key); !ok && len(p.From)+len(p.Parts) > 0 {
			return nil, fmt.Errorf("archetype %q: say how it checks itself and how it is sealed (archetypes)", p.Key)
		}
	}
	return cars, nil
}

// checkSealing holds that an archetype, sealed as it says, is tight to the gauge on
// every car, and that the gauge reaches its tank.
func (b *Book) checkSealing(a Archetype, cars []plumbing.Car) error {
	for _, st := range a.Set {
		if !slices.Contains([]string{string(plumbing.Open), string(plumbing.Shut), string(plumbing.Powered), string(plumbing.Plugged)}, st) {
			return fmt.Errorf("archetype %q: %q is no state of a part: open, shut, powered or plugged", a.Key, st)
		}
	}
	for _, c := range cars {
		if c.Vapour != a.Key {
			continue
		}
		g := c.Graph
		for _, k := range append(slices.Collect(maps.Keys(a.Set)), a.Entry) {
			if _, ok := g.Part(k); !ok {
				return fmt.Errorf("archetype %q: for a hold there is no part %q", a.Key, k)
			}
		}
		if r := g.Reach(a.Entry, a.Settings(), false); !r.Sealed() || !r.Tests("tank") {
			return fmt.Errorf("archetype %q: sealed as it says, it stands open at %q, or the gauge does not reach the tank", a.Key, r.Vents)
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
