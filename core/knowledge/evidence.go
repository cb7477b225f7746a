package knowledge

import (
	"cmp"
	"math"
	"slices"
	"strings"

	"wexter/core/plumbing"
)

// Cost is a class of parts by what they cost.
type Cost struct {
	Key, Name string
	Price     float64 // typical, in the shop's money
	Days      int     // until it is here
}

// Share is how much of the work a family of faults is, before anything is known.
type Share struct {
	Key   string
	Share float64
}

// Sign is something seen, heard or told that no instrument measures. Its odds are set by
// hand, with the reason.
type Sign struct {
	Key, Name    string
	When         string             // complaint (as the customer met it) or bay (as it stands)
	At           Moment             // of a complaint: when it happens
	Said         []string           // words of customers that suggest it
	Base         float64            // odds of it when none of the faults below is there
	Shows        map[string]float64 // odds of it when the fault is there
	Intermittent bool               // speaks for a trouble that is not there now
	Why          string
}

// Moment is when a customer meets a sign.
type Moment string

// The moments, in the order in which an intake asks for them.
const (
	MetAtPump   Moment = "pump"   // while or right after filling
	MetStarting Moment = "start"  // cold or warm start
	MetIdling   Moment = "idle"   // standing with the engine running, coasting to a stop
	MetDriving  Moment = "drive"  // under way
	MetParked   Moment = "parked" // beside the standing car: smells, leaks, noises
	MetOnDash   Moment = "lamp"   // lamps, messages, gauges
)

// Moments lists them in order, each with its words.
func Moments() []Word {
	return []Word{{Key: string(MetAtPump), Name: "At the pump"}, {Key: string(MetStarting), Name: "Starting"}, {Key: string(MetIdling), Name: "At idle, stopping"},
		{Key: string(MetDriving), Name: "Driving"}, {Key: string(MetParked), Name: "Beside the car"}, {Key: string(MetOnDash), Name: "Lamps and gauges"}}
}

// CodeGroup is codes that say the same thing. How often a control unit stores one of them is
// asked of the plant and of practice, since makers differ.
type CodeGroup struct {
	Key, Name string
	Codes     []string
	Monitor   string             // readiness that must be complete before their absence means anything
	Except    []string           // archetypes whose units know no such code
	Base      float64            // how often it comes without a cause that is known; 0: as for most
	Practice  float64            // share of units that go by Shows; 0: as the Book says for all
	Leaks     float64            // odds with any hole in the sealed EVAP system
	Shows     map[string]float64 // odds that a unit stores one of them with the fault
	Why       string
}

// Sets reports whether the units of a car know codes of this group.
func (g CodeGroup) Sets(c plumbing.Combination) bool {
	return !slices.ContainsFunc(plumbing.Families, func(f string) bool { return slices.Contains(g.Except, c.Of(f)) })
}

// Frame is what stood in the freeze frame of a code of one of its groups: at idle, under load,
// cold, or with a full tank.
type Frame struct {
	Key, Name string
	At        FrameAt
	Groups    []string
	Base      float64
	Shows     map[string]float64
	Why       string
}

// FrameAt is a condition that a freeze frame shows.
type FrameAt string

// The conditions of freeze frames that speak.
const (
	AtIdle    FrameAt = "idle"
	UnderLoad FrameAt = "load"
	Cold      FrameAt = "cold"
	FullTank  FrameAt = "full"
)

// LeakSize is the codes of one size of leak.
type LeakSize struct {
	Key   string
	Codes []string
	From  float64            // mm, the hole that half of the makers' units call it
	Shows map[string]float64 // odds of it with faults that are no hole in the sealed system
	Why   string
}

// Misread is how often a test is written down with an outcome that it did not show, or a car
// differs from the plant's.
type Misread struct {
	Test     string
	Outcomes map[string]float64 // odds of each outcome where another one is true; at each place where it stands at one
	Else     float64            // of every outcome that is not named
	Why      string
}

// Of is the odds that an outcome is written down where another one is true.
func (r Misread) Of(outcome string) float64 {
	kind, _, _ := strings.Cut(outcome, ":")
	if v, ok := r.Outcomes[kind]; ok {
		return v
	}
	return cmp.Or(r.Else, usualMisread)
}

// usualMisread is taken for outcomes of which nothing is said (chosen here).
const usualMisread = 0.01

// Misread finds how a test is misread; one of which the Book says nothing as most are.
func (b Book) Misread(test string) Misread {
	i := slices.IndexFunc(b.Misreads, func(r Misread) bool { return r.Test == test })
	if i < 0 {
		return Misread{Test: test}
	}
	return b.Misreads[i]
}

// Showing is an outcome of tests that practice knows better than the plant: the share of cars
// with a fault that show it, whatever the plant's shows.
type Showing struct {
	Tests   []string
	Outcome string
	Base    float64 // of cars without any of the faults
	Shows   map[string]float64
	Why     string
}

// First is what an experienced hand does first where a code or a sign names it.
type First struct {
	Groups []string // groups of codes, or sizes of leaks
	Signs  []string
	Only   []string // archetypes; empty: all
	Test   string
	Part   bool // of one part, that the code or sign is about
	Hole   bool // or of any part of the sealed system that may have a hole
	Why    string
}

// Fits reports whether it is for a car.
func (f First) Fits(c plumbing.Combination) bool {
	return len(f.Only) == 0 || slices.ContainsFunc(plumbing.Families, func(x string) bool { return slices.Contains(f.Only, c.Of(x)) })
}

// Ready is what a scan says whose EVAP monitor has not completed: how often that is so, and
// how often with a fault that keeps it from running.
type Ready struct {
	Base  float64
	Shows map[string]float64
	Why   string
}

// Group finds the group of a code: its own, or the one that a shop gave it.
func (b Book) Group(code string) (CodeGroup, bool) {
	given := ""
	for _, c := range b.Codes {
		if c.Code == code {
			given = c.Group
		}
	}
	i := slices.IndexFunc(b.Groups, func(g CodeGroup) bool { return slices.Contains(g.Codes, code) || g.Key == given && given != "" })
	if i < 0 {
		return CodeGroup{}, false
	}
	return b.Groups[i], true
}

// Sign finds one by key.
func (b Book) Sign(key string) (Sign, bool) {
	i := slices.IndexFunc(b.Signs, func(s Sign) bool { return s.Key == key })
	if i < 0 {
		return Sign{}, false
	}
	return b.Signs[i], true
}

// CostOf finds a class of cost by key.
func (b Book) CostOf(key string) Cost {
	for _, c := range b.Costs {
		if c.Key == key {
			return c
		}
	}
	return Cost{Key: key}
}

// Option finds what a school can be set to; the first option is the usual one.
func (s School) Option(key string) Option {
	for _, o := range s.Options {
		if o.Key == key {
			return o
		}
	}
	if len(s.Options) == 0 {
		return Option{}
	}
	return s.Options[0]
}

// checker checks odds that are set by hand.
type checker struct {
	faults, codes map[string]bool
}

// shows checks odds by fault.
func (c checker) shows(what, key string, base float64, m map[string]float64, why string) error {
	if math.IsNaN(base) || base < 0 || base >= 1 || len(m) > 0 && (base == 0 || why == "") {
		return plumbing.Entry(what, key, "odds set by hand need a base above 0 and below 1, and a reason (why)")
	}
	for f, p := range m {
		if !c.faults[f] {
			return plumbing.Entry(what, key, "there is no fault %q", f)
		}
		if !(p > 0 && p < 1) {
			return plumbing.Entry(what, key, "with %q its odds are %g; they lie between 0 and 1", f, p)
		}
	}
	return nil
}

// own checks codes, each of which stands in one list only.
func (c checker) own(what, key string, list []string) error {
	for _, k := range list {
		if !codeForm.MatchString(k) || c.codes[k] {
			return plumbing.Entry(what, key, "code %q: a letter and four digits, in one group only", k)
		}
		c.codes[k] = true
	}
	if len(list) == 0 || !keyForm.MatchString(key) {
		return plumbing.Entry(what, key, "a key and codes are needed")
	}
	return nil
}

// checkEvidence returns the first sign, code, outcome or share that is wrong.
func (b Book) checkEvidence() error {
	c := checker{map[string]bool{}, map[string]bool{}}
	for _, f := range b.Faults {
		c.faults[f.Key] = true
	}
	for _, check := range []func(checker) error{b.checkSigns, b.checkGroups, b.checkFrames, b.checkSizes, b.checkGiven, b.checkShowings, b.checkFirsts} {
		if err := check(c); err != nil {
			return err
		}
	}
	for _, o := range b.Odds {
		if !slices.Contains(faultFamilies, o.Key) || !(o.Share > 0 && o.Share <= 1) {
			return plumbing.Entry("odds", o.Key, "a family of faults and its share of the work, above 0 and at most 1")
		}
	}
	return nil
}

func (b Book) checkSigns(c checker) error {
	seen := map[string]bool{}
	for _, s := range b.Signs {
		if !keyForm.MatchString(s.Key) || seen[s.Key] || s.Name == "" || s.When != "complaint" && s.When != "bay" || len(s.Shows) == 0 {
			return plumbing.Entry("sign", s.Key, "a key of its own, a name, when it is met (complaint or bay) and what shows it are needed")
		}
		if known := slices.ContainsFunc(Moments(), func(w Word) bool { return w.Key == string(s.At) }); known != (s.When == "complaint") {
			return plumbing.Entry("sign", s.Key, "a complaint says when it is met (at: pump, start, idle, drive, parked or lamp), and nothing else does")
		}
		if err := checkSaid("sign", s.Key, s.Said); err != nil {
			return err
		}
		if err := c.shows("sign", s.Key, s.Base, s.Shows, s.Why); err != nil {
			return err
		}
		seen[s.Key] = true
	}
	return nil
}

func (b Book) checkGroups(c checker) error {
	seen := map[string]bool{}
	for _, g := range b.Groups {
		if err := c.own("group", g.Key, g.Codes); err != nil {
			return err
		}
		if err := c.shows("group", g.Key, cmp.Or(g.Base, 0.01), g.Shows, g.Why); err != nil {
			return err
		}
		if len(g.Shows) == 0 || !(g.Base >= 0 && g.Base < 0.5) || !(g.Practice >= 0 && g.Practice <= 1) || !(g.Leaks >= 0 && g.Leaks < 1) || seen[g.Key] {
			return plumbing.Entry("group", g.Key, "a key of its own, what shows it, and a base, practice and leaks between 0 and 1 are needed")
		}
		if err := b.checkOnly("group", g.Key, g.Except); err != nil {
			return err
		}
		seen[g.Key] = true
	}
	if len(b.Groups) > 0 && !(b.Practice > 0 && b.Practice <= 1) {
		return plumbing.Entry("practice", "", "the share of control units that go by practice lies above 0 and at most at 1, not at %g", b.Practice)
	}
	return nil
}

// groupKeys are the keys of the groups of codes.
func (b Book) groupKeys() map[string]bool {
	keys := map[string]bool{}
	for _, g := range b.Groups {
		keys[g.Key] = true
	}
	return keys
}

func (b Book) checkFrames(c checker) error {
	seen, groups := map[string]bool{}, b.groupKeys()
	for _, f := range b.Frames {
		if !keyForm.MatchString(f.Key) || seen[f.Key] || !slices.Contains([]FrameAt{AtIdle, UnderLoad, Cold, FullTank}, f.At) || len(f.Shows) == 0 {
			return plumbing.Entry("frame", f.Key, "a key of its own, what stood in it (idle, load, cold or full) and what shows it are needed")
		}
		for _, g := range f.Groups {
			if !groups[g] {
				return plumbing.Entry("frame", f.Key, "there is no group of codes %q", g)
			}
		}
		if err := c.shows("frame", f.Key, f.Base, f.Shows, f.Why); err != nil {
			return err
		}
		seen[f.Key] = true
	}
	return nil
}

func (b Book) checkSizes(c checker) error {
	size := 0.0
	for _, s := range b.Sizes {
		if err := c.own("size", s.Key, s.Codes); err != nil {
			return err
		}
		if err := c.shows("size", s.Key, 0.01, s.Shows, s.Why); err != nil {
			return err
		}
		if !(s.From > size && s.From < 40) {
			return plumbing.Entry("size", s.Key, "the hole from which it is called so is %g mm; it lies above %g and below 40", s.From, size)
		}
		size = s.From
	}
	return nil
}

// checkGiven checks the groups that a shop gave to codes of makers.
func (b Book) checkGiven(c checker) error {
	groups := b.groupKeys()
	for _, k := range b.Codes {
		switch {
		case k.Group == "":
		case !groups[k.Group]:
			return plumbing.Entry("code", k.Code, "there is no group of codes %q", k.Group)
		case c.codes[k.Code]:
			return plumbing.Entry("code", k.Code, "its group is not a shop's to give")
		case k.Source == "":
			return plumbing.Entry("code", k.Code, "a maker's own meaning needs its source")
		}
	}
	return nil
}

// checkShowings checks how tests are misread, and what practice says that they show.
func (b Book) checkShowings(c checker) error {
	seen := map[string]bool{}
	for _, r := range b.Misreads {
		t, ok := b.Test(r.Test)
		if !ok || seen[r.Test] || r.Why == "" || !(r.Else >= 0 && r.Else < 0.2) {
			return plumbing.Entry("misreads", r.Test, "a test of the Book, once, with its reason (why) and odds below 0.2 are needed")
		}
		for o, p := range r.Outcomes {
			if _, ok := t.Outcome(o); !ok || !(p > 0 && p < 0.2) {
				return plumbing.Entry("misreads", r.Test, "outcome %q with odds of %g: it must be one of the test's, and the odds lie between 0 and 0.2", o, p)
			}
		}
		seen[r.Test] = true
	}
	for _, w := range b.Showings {
		for _, k := range w.Tests {
			t, ok := b.Test(k)
			if !ok {
				return plumbing.Entry("outcomes", w.Outcome, "there is no test %q", k)
			}
			if _, ok := t.Outcome(w.Outcome); !ok {
				return plumbing.Entry("outcomes", w.Outcome, "the test %q has no such outcome", k)
			}
		}
		if err := c.shows("outcomes", w.Outcome, cmp.Or(w.Base, 0.01), w.Shows, w.Why); err != nil {
			return err
		}
	}
	return c.shows("readiness", "", b.Readiness.Base, b.Readiness.Shows, b.Readiness.Why)
}

// checkFirsts checks what a hand does first.
func (b Book) checkFirsts(checker) error {
	groups := b.groupKeys()
	for _, s := range b.Sizes {
		groups[s.Key] = true
	}
	for _, f := range b.Firsts {
		if _, ok := b.Test(f.Test); !ok || f.Why == "" || len(f.Groups)+len(f.Signs) == 0 {
			return plumbing.Entry("firsts", f.Test, "a test of the Book, the codes or signs that name it, and the reason (why) are needed")
		}
		for _, g := range f.Groups {
			if !groups[g] {
				return plumbing.Entry("firsts", f.Test, "there is no group of codes %q", g)
			}
		}
		for _, k := range f.Signs {
			if _, ok := b.Sign(k); !ok {
				return plumbing.Entry("firsts", f.Test, "there is no sign %q", k)
			}
		}
		if err := b.checkOnly("firsts", f.Test, f.Only); err != nil {
			return err
		}
	}
	return nil
}
