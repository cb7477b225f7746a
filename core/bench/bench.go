package bench

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"wexter/core/decay"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/trim"
)

// On is what a test is done on.
type On int

// What tests are done on.
const (
	WholeCar     On = iota // the car as it stands
	OnePart                // one part by itself; what else is on the car does not matter
	SealedSystem           // the EVAP system, sealed as its archetype asks
	AnyPart                // the whole car, or one part alone
)

// Odds is where the odds of a test's outcomes come from.
type Odds int

// Where odds come from.
const (
	ByHand     Odds = iota // nowhere: a person judges it, and it moves nothing
	FromPlant              // what the simulated car showed, fault by fault
	FromHole               // the size of the holes under the gauge
	FromFlow               // the flow through the holes under the gauge
	FromSmoke              // where smoke leaves
	FromEyes               // what can be seen
	FromCodes              // codes have a reasoning of their own
	NotWeighed             // the outcome stands for itself
)

// Test is what the program knows of a test of the Book.
type Test struct {
	Key      string
	On       On
	Odds     Odds
	Channels []Channel
	Phases   []Phase
	// ByPlace is the outcome that stands at a place: a test has one such outcome for every
	// part of the car where it can. Nothing are outcomes that say there is none.
	ByPlace string
	Nothing []string
	// Feels names the families of faults that it can feel as a whole. A fault of another
	// family is felt when its entry in the Book names the test.
	Feels []string
	// OneVolume marks a test that sees the sealed EVAP system as one volume: a hole reads
	// the same wherever it is.
	OneVolume bool
	// PurgeOnly marks a test that feels nothing of the EVAP system but its purge valve.
	PurgeOnly bool
	// Points are the channels that hold a total fuel trim, by the point at which it is read.
	Points map[string]string
	// NamesPart marks a test of one part whose name says which, and whose minutes hold the way to it.
	NamesPart bool
	// Weather marks a test on which fuel, weather and the size of the engine show.
	Weather bool
	// Tries says which part the test tries when a fault is in question; empty when it does
	// not try such a part. Only for tests of one part.
	Tries func(Target) string
	// Live is what it adds to its phases when it is read live.
	Live Live
	// Walk says how a test stands that asks for one measurement after another; nil: it does not.
	Walk func(Subject, Readings) Walk
	// Picture draws what readings say; nil: there is none.
	Picture func(Subject, Readings) Scene
	// Reduce turns readings into a verdict.
	Reduce func(Subject, Readings) Verdict
}

// Target is a fault in question, with the part of the car on which it sits.
type Target struct {
	Graph *plumbing.Graph
	Fault knowledge.Fault
	Part  plumbing.Part
}

// Named reports whether the fault's entry in the Book names a test.
func (t Target) Named(test string) bool { return slices.Contains(t.Fault.Tests, test) }

// Subject is what a test is done on.
type Subject struct {
	Of    plumbing.Combination
	Graph *plumbing.Graph
	Part  plumbing.Part // tried by itself; the zero part otherwise
	Hold  decay.Setup   // of a hold: what is known of volume, weather and limit
	// Tank is the size of the fuel tank where somebody stated it, m³, and how well it is known, a share
	// with k = 2; 0: as the plumbing has it.
	Tank, TankTolerance float64
	// Level is the share of the tank that is fuel where the car said so, 0: nobody knows.
	Level float64
	// Seal and Entry say how the EVAP system is sealed and where a rig is joined for that.
	Seal  plumbing.Settings
	Entry string
	// Engine is how the engine knows its air, and its size; of fuel trims.
	Engine trim.Engine
}

// CannotTell is the outcome of every test whose readings lie too near to a limit, or that
// was cut short: nothing follows from it.
const CannotTell = "cannot-tell"

// Verdict is what readings come to.
type Verdict struct {
	Outcome string   // key of one of the test's outcomes, or CannotTell; empty: something is missing
	Says    string   // the reason, in a sentence
	Ask     string   // the channel that has to be read, or read again, before anything follows
	Figures []Figure // what was worked out
}

// Figure is a quantity that was worked out, with its interval.
type Figure struct {
	Name, Unit       string
	Value, Low, High float64
}

// is is a verdict with its reason.
func is(outcome, format string, a ...any) Verdict {
	return Verdict{Outcome: outcome, Says: fmt.Sprintf(format, a...)}
}

// ask is a verdict that needs a reading first.
func ask(channel, format string, a ...any) Verdict {
	return Verdict{Ask: channel, Says: fmt.Sprintf(format, a...)}
}

// unsure is a verdict that lies too near to a limit.
func unsure(format string, a ...any) Verdict { return is(CannotTell, format, a...) }

var registry = map[string]Test{}

// Register makes a test known under its key; each file of the package registers its own.
// It panics on a second test of the same key.
func Register(t Test) Test {
	if _, twice := registry[t.Key]; twice || t.Key == "" || t.Reduce == nil {
		panic("bench: test " + t.Key + " has no key or reduction of its own, or is registered twice")
	}
	registry[t.Key] = t
	return t
}

// Of finds the test that is registered under a key.
func Of(key string) (Test, bool) {
	t, ok := registry[key]
	return t, ok
}

// PlaceChannel is the channel whose places name the outcome that stands at a place; empty
// when the test has no such outcome.
func (t Test) PlaceChannel() string {
	if t.ByPlace == "" {
		return ""
	}
	for _, c := range t.Channels {
		if c.Kind == Places && !c.Optional {
			return c.Key
		}
	}
	return ""
}

// With finds the first test whose odds come from somewhere.
func With(o Odds) Test {
	for _, k := range Keys() {
		if registry[k].Odds == o {
			return registry[k]
		}
	}
	return Test{}
}

// Trimmed finds the test that reads total fuel trims point by point.
func Trimmed() Test {
	for _, k := range Keys() {
		if registry[k].Points != nil {
			return registry[k]
		}
	}
	return Test{}
}

// Keys lists the registered tests in order.
func Keys() []string {
	out := make([]string, 0, len(registry))
	for k := range registry {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// For finds the test of an entry of the Book. An entry without a file is judged by hand: its
// readings are kept as they are, and no outcome follows from them.
func For(e knowledge.Test) Test {
	if t, ok := Of(e.Key); ok {
		return t
	}
	t := Test{Key: e.Key, Odds: ByHand, Reduce: func(Subject, Readings) Verdict {
		return Verdict{Says: "This test is judged by hand."}
	}}
	for _, r := range e.Reads {
		c := Channel{Key: r.Key, Unit: r.Unit, Optional: true}
		switch {
		case len(r.Words) > 0:
			c.Kind = Choice
			for _, w := range r.Words {
				c.Words = append(c.Words, w.Key)
			}
		case r.Unit == "":
			c.Kind = List
		}
		t.Channels = append(t.Channels, c)
	}
	return t
}

// Part reports whether a test tries one part by itself.
func Part(test string) bool { return registry[test].On == OnePart }

// Channel finds a channel by key.
func (t Test) Channel(key string) (Channel, bool) {
	for _, c := range t.Channels {
		if c.Key == key {
			return c, true
		}
	}
	return Channel{}, false
}

// Reads reports whether one of the test's channels takes one of some senses.
func (t Test) Reads(senses ...Sense) bool {
	return slices.ContainsFunc(t.Channels, func(c Channel) bool { return c.Sense != "" && slices.Contains(senses, c.Sense) })
}

// Judge turns readings into a verdict. The error says in a sentence which reading cannot be.
func Judge(e knowledge.Test, s Subject, r Readings) (Verdict, error) {
	t := For(e)
	for _, c := range t.Channels {
		name := c.Key
		if b, ok := e.Read(c.Key); ok {
			name = b.Name
		}
		if x, ok := r[c.Key]; ok {
			if err := c.check(name, x); err != nil {
				return Verdict{}, err
			}
		}
	}
	return t.Reduce(s, r), nil
}

// FeelsFault reports whether the test can feel a fault: by its family, or because the
// fault's entry names it.
func (t Test) FeelsFault(f knowledge.Fault) bool {
	return slices.Contains(t.Feels, f.Family) || slices.Contains(f.Tests, t.Key)
}

// Weighs reports whether readings can be weighed as numbers: everything that the verdict
// cannot do without is a figure with a spread, and was read.
func (t Test) Weighs(e knowledge.Test, r Readings) bool {
	any := false
	for _, c := range t.Channels {
		b, _ := e.Read(c.Key)
		if b.Spread > 0 {
			v, ok := r.Mean(c.Key)
			if !ok && c.Optional {
				continue
			}
			if any = ok && !math.IsInf(v, 0); !any {
				return false
			}
		} else if !c.Optional {
			return false
		}
	}
	return any
}

// Check returns the first test of the Book whose entry and file do not fit each other.
func Check(b knowledge.Book) error {
	for _, e := range b.Tests {
		t, ok := Of(e.Key)
		if !ok {
			continue
		}
		for _, c := range t.Channels {
			r, ok := e.Read(c.Key)
			switch {
			case !ok:
				return plumbing.Entry("test", e.Key, "it needs a reading with the key %q", c.Key)
			case r.Unit != c.Unit:
				return plumbing.Entry("test", e.Key, "the reading %q is in %q here and in %q by its rule", c.Key, r.Unit, c.Unit)
			case len(c.Words) > 0 && !sameKeys(r.Words, c.Words):
				return plumbing.Entry("test", e.Key, "the reading %q needs words for %s", c.Key, strings.Join(c.Words, ", "))
			}
		}
		for _, r := range e.Reads {
			if _, ok := t.Channel(r.Key); !ok {
				return plumbing.Entry("test", e.Key, "its rule has no channel %q", r.Key)
			}
		}
	}
	return checkCircuits(b)
}

// checkCircuits holds that the walk reads every measure of the circuits, and that its entry in the Book has their
// outcomes.
func checkCircuits(b knowledge.Book) error {
	t, _ := Of(circuitWalk)
	e, ok := b.Test(circuitWalk)
	for _, c := range b.Plumbing.Circuits {
		for _, m := range c.Measures {
			if x, has := t.Channel(m.Key); !has || x.Unit != m.Unit || !slices.Contains(walked, m.Key) {
				return plumbing.Entry("circuit", c.Key, "measure %q: the circuit walk reads none in %q", m.Key, m.Unit)
			}
		}
		for _, x := range c.Breaks {
			if _, has := e.Outcome(x.Outcome); ok && x.Outcome != "" && !has {
				return plumbing.Entry("circuit", c.Key, "break %q: the circuit walk has no outcome %q", x.Key, x.Outcome)
			}
		}
	}
	return nil
}

func sameKeys(words []knowledge.Word, keys []string) bool {
	return len(words) == len(keys) && !slices.ContainsFunc(words, func(w knowledge.Word) bool { return !slices.Contains(keys, w.Key) })
}

// zone says on which side of a limit a figure lies: −1 below, 1 above, 0 within the band
// about it where nobody can tell.
func zone(v, limit, band float64) int {
	switch {
	case v < limit-band:
		return -1
	case v > limit+band:
		return 1
	}
	return 0
}

// say writes a figure with at most three digits.
func say(v float64) string {
	if math.IsInf(v, 1) {
		return "OL"
	}
	s := fmt.Sprintf("%.3g", v)
	if math.Abs(v) >= 100 {
		s = fmt.Sprintf("%.0f", v)
	}
	return strings.Replace(s, "-", "−", 1)
}
