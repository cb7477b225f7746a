package knowledge

import (
	"fmt"
	"slices"

	"wexter/core/plumbing"
)

// Kit is an instrument of the bay, and what having it gives.
type Kit struct{ Key, Name, Gives string }

// Test is a procedure that tells something about a car.
type Test struct {
	Key         string
	Name        string
	Families    []string // of faults it can tell about
	Only        []string // archetypes it is for; empty: all
	Purpose     string
	Kit         []string // all of these are needed
	Instead     []string // kit that does as well
	Access      string
	Minutes     int
	Days        int    // of calendar that a repetition costs
	Hazard      int    // 0 to 3
	Shares      string // tests with the same word can follow one another in one set-up
	Saves       int    // min, that the second one then saves
	Setup       []Step
	Steps       []string
	Reads       []Reading
	Calculators []string
	Splits      string // how the reading splits the suspects
	Traps       []string
	Outcomes    []Word
	Cautions    []string
}

// Reading is what is read, with the unit of the bay; empty for a word. Spread is by how
// much it differs between like cars, in that unit; with one it is weighed as a number.
type Reading struct {
	Name, Unit string
	Spread     float64
}

// HazardWords say the hazards.
var HazardWords = []string{"none beyond the bay", "moving or hot parts, or fuel vapour", "pressure, vacuum or current", "trained people only"}

// Test finds one by key.
func (b Book) Test(key string) (Test, bool) {
	i := slices.IndexFunc(b.Tests, func(t Test) bool { return t.Key == key })
	if i < 0 {
		return Test{}, false
	}
	return b.Tests[i], true
}

// Fits reports whether the test can be done on a car.
func (t Test) Fits(c plumbing.Combination) bool {
	return len(t.Only) == 0 || slices.ContainsFunc(plumbing.Families, func(f string) bool { return slices.Contains(t.Only, c.Of(f)) })
}

// Craft is a small rule that makes a repair last.
type Craft struct {
	Key, Name, Text string
	Cautions        []string
}

// School is a matter on which shops differ; the first option is the usual one here.
type School struct {
	Key, Name, Text string
	Options         []Word
}

// KitNamed finds an instrument by key.
func (b Book) KitNamed(key string) Kit {
	for _, k := range b.Kit {
		if k.Key == key {
			return k
		}
	}
	return Kit{Key: key, Name: key}
}

// checkTests returns the first kit, test, rule or school that is wrong.
func (b Book) checkTests(cautions map[string]bool) error {
	kit := map[string]bool{}
	for _, k := range b.Kit {
		if !keyForm.MatchString(k.Key) || kit[k.Key] || k.Name == "" || k.Gives == "" {
			return fmt.Errorf("kit %q: a key of its own, a name and what it gives are needed", k.Key)
		}
		kit[k.Key] = true
	}
	seen := map[string]bool{}
	for _, t := range b.Tests {
		switch {
		case !keyForm.MatchString(t.Key) || seen[t.Key]:
			return fmt.Errorf("test %q: a key of its own is needed", t.Key)
		case t.Name == "" || t.Purpose == "" || t.Access == "" || t.Splits == "":
			return fmt.Errorf("test %q: name, purpose, access and how it splits the suspects are needed", t.Key)
		case t.Minutes <= 0 || t.Minutes > 600 || t.Days < 0 || t.Days > 14:
			return fmt.Errorf("test %q: %d minutes and %d days cannot be", t.Key, t.Minutes, t.Days)
		case t.Hazard < 0 || t.Hazard >= len(HazardWords):
			return fmt.Errorf("test %q: hazard %d is not one of 0 to %d", t.Key, t.Hazard, len(HazardWords)-1)
		case len(t.Setup) == 0 || len(t.Steps) == 0 || len(t.Reads) == 0 || len(t.Outcomes) < 2:
			return fmt.Errorf("test %q: set-up, steps, readings and at least two outcomes are needed", t.Key)
		case len(t.Kit) == 0:
			return fmt.Errorf("test %q: say what kit it needs", t.Key)
		case len(t.Cautions) == 0:
			return fmt.Errorf("test %q: a procedure without its caution", t.Key)
		}
		if (t.Shares == "") != (t.Saves == 0) || t.Saves < 0 || t.Saves >= t.Minutes {
			return fmt.Errorf("test %q: a shared set-up (shares) saves minutes, fewer than the test takes", t.Key)
		}
		for _, r := range t.Reads {
			if r.Name == "" || !(r.Spread >= 0) {
				return fmt.Errorf("test %q: reading %q: a name, and a spread that is not negative", t.Key, r.Name)
			}
		}
		for _, s := range t.Setup {
			if s.Do == "" {
				return fmt.Errorf("test %q: a step without words", t.Key)
			}
		}
		for _, k := range slices.Concat(t.Kit, t.Instead) {
			if !kit[k] {
				return fmt.Errorf("test %q: there is no kit %q", t.Key, k)
			}
		}
		for _, f := range t.Families {
			if !slices.Contains(faultFamilies, f) {
				return fmt.Errorf("test %q: there is no family %q", t.Key, f)
			}
		}
		for _, a := range t.Only {
			if _, ok := b.Plumbing.Find(a); !ok {
				return fmt.Errorf("test %q: there is no archetype %q", t.Key, a)
			}
		}
		if err := known("test", t.Key, t.Cautions, cautions); err != nil {
			return err
		}
		out := map[string]bool{}
		for _, o := range t.Outcomes {
			if o.Key == "" || out[o.Key] || o.Name == "" {
				return fmt.Errorf("test %q: outcome %q: a key of its own and a name are needed", t.Key, o.Key)
			}
			out[o.Key] = true
		}
		seen[t.Key] = true
	}
	for _, c := range b.Craft {
		if !keyForm.MatchString(c.Key) || seen["craft "+c.Key] || c.Name == "" || c.Text == "" {
			return fmt.Errorf("craft %q: a key of its own, a name and a text are needed", c.Key)
		}
		if len(c.Cautions) == 0 {
			return fmt.Errorf("craft %q: a procedure without its caution", c.Key)
		}
		if err := known("craft", c.Key, c.Cautions, cautions); err != nil {
			return err
		}
		seen["craft "+c.Key] = true
	}
	for _, s := range b.Schools {
		if !keyForm.MatchString(s.Key) || seen["school "+s.Key] || s.Name == "" || len(s.Options) < 2 {
			return fmt.Errorf("school %q: a key of its own, a name and at least two options are needed", s.Key)
		}
		for _, o := range s.Options {
			if !keyForm.MatchString(o.Key) || o.Name == "" {
				return fmt.Errorf("school %q: an option without key or name", s.Key)
			}
		}
		seen["school "+s.Key] = true
	}
	return nil
}

func known(what, key string, cautions []string, all map[string]bool) error {
	for _, c := range cautions {
		if !all[c] {
			return fmt.Errorf("%s %q: there is no caution %q", what, key, c)
		}
	}
	return nil
}
