package knowledge

import (
	"slices"

	"wexter/core/plumbing"
)

// Kit is an instrument of the bay, and what having it gives.
type Kit struct {
	Key, Name, Gives string
	Short            string // its name in a list
}

// Test is a procedure that tells something about a car.
type Test struct {
	Key         string
	Name        string
	Owner       string   // what a car's owner may do of it at home; empty: nothing
	Families    []string // of faults it can tell about
	Only        []string // archetypes it is for; empty: all
	Except      []string // archetypes it is not for
	Purpose     string
	Kit         []string // all of these are needed
	Instead     []string // kit that does as well
	Access      string
	Minutes     int
	Days        int    // of calendar that a repetition costs
	Hazard      int    // 0 to 3
	Disturbs    bool   // the part comes off, and its joints with it
	Shares      string // tests with the same word can follow one another in one set-up
	Saves       int    // min, that the second one then saves
	Setup       []Step
	Steps       []string
	Reads       []Reading
	Calculators []string
	Splits      string // how the reading splits the suspects
	Traps       []string
	Outcomes    []Outcome
	Cautions    []string
	Leaves      string // what it leaves on the car that must come off again; empty: nothing
}

// Reading is what is read, with the unit of the bay; empty for a word. Key joins it to the
// rule that judges the test. Spread is by how much it differs between like cars, in that
// unit; with one it is weighed as a number. Words are what it can be, when it is a word.
type Reading struct {
	Key, Name, Unit string
	Spread          float64
	Words           []Word
}

// Outcome is one way a test can end, with what that means. Singles marks an outcome that
// singles out the part that was tried; Proves one that can prove a repair.
type Outcome struct {
	Key, Name string
	Means     Meaning
	Singles   bool
	Proves    bool
	Nothing   string // why it does not change the odds
}

// Meaning is what an outcome says of the car.
type Meaning string

// The meanings. A page without them is read with a warning; its outcomes mean nothing clear.
const (
	Sound   Meaning = "sound"    // what was tested is in order
	Faulty  Meaning = "fault"    // something is wrong
	Unclear Meaning = "unclear"  // nothing follows
	NotDone Meaning = "not-done" // the test did not take place
)

// CannotTell is the outcome that every test has besides its own: the readings lie too near
// to a limit.
var CannotTell = Outcome{Key: "cannot-tell", Name: "cannot tell yet", Means: Unclear}

// Outcome finds one of the test's outcomes, or CannotTell.
func (t Test) Outcome(key string) (Outcome, bool) {
	for _, o := range t.Outcomes {
		if o.Key == key {
			if o.Means == "" {
				o.Means = Unclear
			}
			return o, true
		}
	}
	return CannotTell, key == CannotTell.Key
}

// Read finds one of the test's readings by key.
func (t Test) Read(key string) (Reading, bool) {
	for _, r := range t.Reads {
		if r.Key == key {
			return r, true
		}
	}
	return Reading{}, false
}

// Word names one of a reading's words; the key itself when it is not one of them.
func (r Reading) Word(key string) string {
	for _, w := range r.Words {
		if w.Key == key {
			return w.Name
		}
	}
	return key
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
	in := func(list []string) bool {
		return slices.ContainsFunc(plumbing.Families, func(f string) bool { return slices.Contains(list, c.Of(f)) })
	}
	return (len(t.Only) == 0 || in(t.Only)) && !in(t.Except)
}

// Craft is a small rule that makes a repair last.
type Craft struct {
	Key, Name, Text string
	Cautions        []string
}

// School is a matter on which shops differ; the first option is the usual one here.
type School struct {
	Key, Name, Text string
	Options         []Option
}

// Schools that the program itself follows, by key.
const (
	SchoolClear = "clear"
	SchoolProve = "prove"
	SchoolOrder = "order"
	SchoolEntry = "entry"
	SchoolEGR   = "egr"
	SchoolParts = "parts"
	SchoolGas   = "gas"
	SchoolCodes = "codes"
)

// School finds one by key.
func (b Book) School(key string) (School, bool) {
	for _, s := range b.Schools {
		if s.Key == key {
			return s, true
		}
	}
	return School{}, false
}

// Option is one way a school is set. At is the part of the car that it is about; Spares
// is kit that is then not needed.
type Option struct {
	Key, Name, At string
	Spares        []string
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
		if !keyForm.MatchString(k.Key) || kit[k.Key] || k.Name == "" || k.Short == "" || k.Gives == "" {
			return plumbing.Entry("kit", k.Key, "a key of its own, a name, a short one and what it gives are needed")
		}
		kit[k.Key] = true
	}
	seen := map[string]bool{}
	for _, t := range b.Tests {
		if !keyForm.MatchString(t.Key) || seen[t.Key] {
			return plumbing.Entry("test", t.Key, "a key of its own is needed")
		}
		seen[t.Key] = true
		if err := t.check(); err != nil {
			return err
		}
		if err := b.checkLinks(t, kit); err != nil {
			return err
		}
		if err := known("test", t.Key, t.Cautions, cautions); err != nil {
			return err
		}
	}
	if err := b.checkCraft(cautions); err != nil {
		return err
	}
	return b.checkSchools()
}

// check returns what is wrong with a test by itself.
func (t Test) check() error {
	switch {
	case t.Name == "" || t.Purpose == "" || t.Access == "" || t.Splits == "":
		return plumbing.Entry("test", t.Key, "name, purpose, access and how it splits the suspects are needed")
	case t.Minutes <= 0 || t.Minutes > 600 || t.Days < 0 || t.Days > 14:
		return plumbing.Entry("test", t.Key, "%d minutes and %d days cannot be", t.Minutes, t.Days)
	case t.Hazard < 0 || t.Hazard >= len(HazardWords):
		return plumbing.Entry("test", t.Key, "hazard %d is not one of 0 to %d", t.Hazard, len(HazardWords)-1)
	case len(t.Setup) == 0 || len(t.Steps) == 0 || len(t.Reads) == 0 || len(t.Outcomes) < 2:
		return plumbing.Entry("test", t.Key, "set-up, steps, readings and at least two outcomes are needed")
	case len(t.Kit) == 0:
		return plumbing.Entry("test", t.Key, "say what kit it needs")
	case len(t.Cautions) == 0:
		return plumbing.Entry("test", t.Key, "a procedure without its caution")
	case (t.Shares == "") != (t.Saves == 0) || t.Saves < 0 || t.Saves >= t.Minutes:
		return plumbing.Entry("test", t.Key, "a shared set-up (shares) saves minutes, fewer than the test takes")
	}
	if err := t.checkReads(); err != nil {
		return err
	}
	for _, s := range t.Setup {
		if s.Do == "" {
			return plumbing.Entry("test", t.Key, "a step without words")
		}
	}
	return t.checkOutcomes()
}

// checkReads returns the first reading that is wrong. One without a key takes its place as
// one: a page may leave it out when nothing judges the test but a person.
func (t Test) checkReads() error {
	seen := map[string]bool{}
	for _, r := range t.Reads {
		if r.Name == "" || !(r.Spread >= 0) || !keyForm.MatchString(r.Key) || seen[r.Key] {
			return plumbing.Entry("test", t.Key, "reading %q: a key of its own, a name, and a spread that is not negative", r.Name)
		}
		seen[r.Key] = true
		for _, w := range r.Words {
			if !keyForm.MatchString(w.Key) || w.Name == "" {
				return plumbing.Entry("test", t.Key, "reading %q: a word without key or name", r.Name)
			}
		}
	}
	return nil
}

// checkOutcomes returns the first outcome that is wrong. What singles out a part means a
// fault, and what proves a repair means that the part is sound.
func (t Test) checkOutcomes() error {
	out := map[string]bool{}
	for _, o := range t.Outcomes {
		switch {
		case o.Key == "" || out[o.Key] || o.Name == "":
			return plumbing.Entry("test", t.Key, "outcome %q: a key of its own and a name are needed", o.Key)
		case o.Key == CannotTell.Key:
			return plumbing.Entry("test", t.Key, "outcome %q: every test has it already", o.Key)
		case !slices.Contains([]Meaning{"", Sound, Faulty, Unclear, NotDone}, o.Means):
			return plumbing.Entry("test", t.Key, "outcome %q means %q; it means sound, fault, unclear or not-done", o.Key, o.Means)
		case o.Singles && o.Means != Faulty:
			return plumbing.Entry("test", t.Key, "outcome %q singles out a part, so it means a fault", o.Key)
		case o.Proves && o.Means != Sound:
			return plumbing.Entry("test", t.Key, "outcome %q proves a repair, so it means sound", o.Key)
		}
		out[o.Key] = true
	}
	return nil
}

// checkLinks returns what a test names that the Book does not have.
func (b Book) checkLinks(t Test, kit map[string]bool) error {
	for _, k := range slices.Concat(t.Kit, t.Instead) {
		if !kit[k] {
			return plumbing.Entry("test", t.Key, "there is no kit %q", k)
		}
	}
	for _, f := range t.Families {
		if !slices.Contains(faultFamilies, f) {
			return plumbing.Entry("test", t.Key, "there is no family %q", f)
		}
	}
	return b.checkOnly("test", t.Key, slices.Concat(t.Only, t.Except))
}

// checkOnly returns an archetype that an entry is bound to and the Book does not have.
func (b Book) checkOnly(what, key string, only []string) error {
	for _, a := range only {
		if _, ok := b.Plumbing.Find(a); !ok {
			return plumbing.Entry(what, key, "there is no archetype %q", a)
		}
	}
	return nil
}

func (b Book) checkCraft(cautions map[string]bool) error {
	seen := map[string]bool{}
	for _, c := range b.Craft {
		if !keyForm.MatchString(c.Key) || seen[c.Key] || c.Name == "" || c.Text == "" {
			return plumbing.Entry("craft", c.Key, "a key of its own, a name and a text are needed")
		}
		seen[c.Key] = true
		if len(c.Cautions) == 0 {
			return plumbing.Entry("craft", c.Key, "a procedure without its caution")
		}
		if err := known("craft", c.Key, c.Cautions, cautions); err != nil {
			return err
		}
	}
	return nil
}

func (b Book) checkSchools() error {
	seen := map[string]bool{}
	for _, s := range b.Schools {
		if !keyForm.MatchString(s.Key) || seen[s.Key] || s.Name == "" || len(s.Options) < 2 {
			return plumbing.Entry("school", s.Key, "a key of its own, a name and at least two options are needed")
		}
		seen[s.Key] = true
		for _, o := range s.Options {
			if !keyForm.MatchString(o.Key) || o.Name == "" {
				return plumbing.Entry("school", s.Key, "an option without key or name")
			}
		}
	}
	return nil
}

func known(what, key string, cautions []string, all map[string]bool) error {
	for _, c := range cautions {
		if !all[c] {
			return plumbing.Entry(what, key, "there is no caution %q", c)
		}
	}
	return nil
}
