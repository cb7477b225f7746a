package diagnose

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"wexter/core/bench"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
)

// Kind is what a piece of evidence is.
type Kind string

// The kinds of evidence.
const (
	Scanned Kind = "codes"   // codes present and absent, as the car's own computer could know them
	Frozen  Kind = "frame"   // what stood in the freeze frame of a code
	Limits  Kind = "limits"  // a vapour monitor's own number against its limit
	Trims   Kind = "trims"   // a total fuel trim at one point, from live data or a freeze frame
	Done    Kind = "test"    // a test of the Book with its outcome and what was read
	Held    Kind = "hold"    // a pressure or vacuum hold
	Exit    Kind = "exit"    // smoke or gas seen to leave at a part
	Looked  Kind = "looked"  // a part looked at without finding
	Smelt   Kind = "smelt"   // a smell of fuel, strongest at a part
	Signed  Kind = "sign"    // a sign of the Book, there or not
	Context Kind = "context" // what raises odds: salt, age, recent work
	Renewed Kind = "renewed" // a part that was renewed lately
	Worked  Kind = "marks"   // marks of an earlier attempt on a part
	Thought Kind = "hand"    // odds that somebody set by hand on a part
	Found   Kind = "found"   // a fault that was written down as found
	NoCause      = "none"    // of a repair: it failed by itself
	Whole        = "whole"   // of a hold: nothing plugged, as the archetype is sealed
)

// Evidence is one thing that is known about a car in an epoch.
type Evidence struct {
	ID        string // of the record it is from
	Says      string // in words
	Kind      Kind
	Key       string // of a context, sign or found fault; of Trims the point: idle, 2500 or load; of Frozen the condition
	Test      string // of Done
	Part      string
	Outcome   string
	Absent    bool           // of a sign: looked for and not there
	Readings  bench.Readings // of Done, by channel
	Overruled bool           // of Done: a person named the outcome, whatever the readings say
	Codes     []string
	Pending   []string // of Codes, those that failed on one trip and no more
	Past      []string // of Codes, those that are permanent only: cleared, and not back yet
	Ran       []string // monitors that have completed, so that a missing code means something; "" stands for all
	Curve     *Curve   // of Held
	Entry     string
	Set       plumbing.Settings
	Sense     plumbing.Sense
	Value     float64 // of Trims, %; of Thought, odds; of Limits, value over limit; of Found, how many times likelier it makes the fault
	Stop      bool    // of Trims: it stands at its stop
	Loose     bool    // of Trims: a moment's glance, not a test
	Size      string  // of Limits: very-small, small or large
	Before    bool    // of the time before the car came in: what is not there now may have been there
}

// Repair is a fault that was repaired, and the fault that it was found to be the victim of:
// NoCause when it failed by itself, empty when nobody said.
type Repair struct{ Fault, Cause string }

// Epoch is what was seen between two repairs.
type Epoch struct {
	Repairs  []Repair // that began it
	Evidence []Evidence
}

// History is all that is known about a car's trouble.
type History []Epoch

// ErrSilent is returned for evidence that says nothing about this car.
var ErrSilent = errors.New("it says nothing about this car's suspects")

// silence is ErrSilent with its reason, as the Book gives it.
type silence struct{ why string }

func (s silence) Error() string        { return "it does not change the odds, because " + s.why }
func (s silence) Is(target error) bool { return target == ErrSilent }

// read turns evidence into likelihoods. The error says in a sentence what is wrong.
func (m *Model) read(e Evidence) (piece, error) {
	p := piece{before: e.Before}
	switch e.Kind {
	case Scanned:
		return m.codes(e)
	case Frozen:
		return m.frozen(e)
	case Limits:
		return m.limits(e)
	case Trims:
		return m.trim(e)
	case Held:
		if e.Curve == nil {
			return p, fmt.Errorf("a hold without its diameter")
		}
		l, err := m.hold(e.Curve, e.Entry, e.Set, e.Sense)
		if err != nil {
			return p, err
		}
		p.parts = []part{{likelihood: l}}
	case Done:
		return m.done(e)
	case Exit:
		return m.exit(e)
	case Looked:
		pr, err := m.look(bench.With(bench.FromEyes), e.Part)
		if err != nil {
			return p, err
		}
		by := bench.With(bench.FromEyes)
		l, err := pr.words(by.Nothing[0])
		p.parts = []part{{l, ofTest(by.Key, e.Part, by.Nothing[0])}}
		return p, err
	case Smelt:
		return m.smelt(e)
	case Signed:
		return m.signed(e)
	case Context:
		return m.context(e)
	case Found:
		return m.found(e)
	case Renewed, Worked, Thought:
		return m.partly(e)
	default:
		return p, fmt.Errorf("evidence of the kind %q is not known", e.Kind)
	}
	return p, nil
}

// signed weighs a sign of the Book, seen or looked for and not there.
func (m *Model) signed(e Evidence) (piece, error) {
	s, ok := m.Book.Sign(e.Key)
	if !ok {
		var keys []string
		for _, s := range m.Book.Signs {
			keys = append(keys, s.Key)
		}
		return piece{}, fmt.Errorf("there is no sign %q; %s", e.Key, Near(e.Key, keys))
	}
	l := m.shown(s.Base, s.Shows)
	l.absent = e.Absent
	p := piece{before: e.Before || s.When == "complaint", parts: []part{{l, answer{"sign " + e.Key, fmt.Sprint(e.Absent), handRepeats}}}}
	if s.Intermittent && !e.Absent { // it is less sure to be there now
		p.before = true
	}
	return p, nil
}

// context weighs a circumstance of the Book.
func (m *Model) context(e Evidence) (piece, error) {
	if !slices.ContainsFunc(m.Book.Contexts, func(w knowledge.Word) bool { return w.Key == e.Key }) {
		var keys []string
		for _, w := range m.Book.Contexts {
			keys = append(keys, w.Key)
		}
		return piece{}, fmt.Errorf("there is no context %q; %s", e.Key, Near(e.Key, keys))
	}
	return piece{before: true, parts: []part{{likelihood: m.by(func(s Suspect) float64 {
		if v, ok := s.Context[e.Key]; ok {
			return v
		}
		return 1
	})}}}, nil
}

// found weighs that somebody found a fault.
func (m *Model) found(e Evidence) (piece, error) {
	i, err := m.suspect(e.Key)
	if err != nil {
		return piece{}, err
	}
	if !(e.Value > 0) || e.Value > 1e4 {
		return piece{}, fmt.Errorf("that a fault was found weighs %g; it lies above 0 and at most at 10 000", e.Value)
	}
	return piece{before: e.Before, parts: []part{{likelihood: m.by(func(s Suspect) float64 {
		if s.Key == m.Suspects[i].Key {
			return e.Value
		}
		return 1
	})}}}, nil
}

// partly weighs what is known of a part as a whole: that it was replaced lately, that it
// shows marks of earlier work, or that somebody suspects it.
func (m *Model) partly(e Evidence) (piece, error) {
	if err := m.has(e.Part); err != nil {
		return piece{}, err
	}
	// Common practice, no source: a new part is rarely the culprit, unless it was fitted
	// wrong; marks of tools or sealer show where somebody has been.
	by := map[Kind]float64{Renewed: 0.25, Worked: 2.5, Thought: 1 + 6*e.Value}[e.Kind]
	return piece{before: true, parts: []part{{likelihood: m.by(func(s Suspect) float64 {
		switch {
		case !m.at(s.Part, e.Part):
			return 1
		case e.Kind == Renewed && s.After:
			return 6
		}
		return by
	})}}}, nil
}

// at reports whether a fault of one part is one of the other: the same, or in its wall.
func (m *Model) at(fault, part string) bool {
	if fault == part {
		return true
	}
	p, _ := m.Graph.Part(fault)
	return p.On == part && !p.Drawn()
}

// has returns an error that names the nearest parts when the car has no such part.
func (m *Model) has(part string) error {
	if _, ok := m.Graph.Part(part); ok {
		return nil
	}
	var keys []string
	for _, p := range m.Graph.Parts {
		keys = append(keys, p.Key)
	}
	return fmt.Errorf("this car has no part %q; %s", part, Near(part, keys))
}

func (m *Model) by(f func(Suspect) float64) *factor {
	l := &factor{make([]bool, len(m.Suspects)), make([]float64, len(m.Suspects))}
	for i, s := range m.Suspects {
		l.by[i] = f(s)
		l.feels[i] = l.by[i] != 1
	}
	return l
}

// shown is a sign whose odds are set by hand.
func (m *Model) shown(base float64, shows map[string]float64) *sign {
	l := m.newSign(base)
	for i, s := range m.Suspects {
		if p, ok := shows[s.Key]; ok {
			l.feels[i] = true
			for x := range shades {
				l.p[i*shades+x] = p
			}
		}
	}
	return l
}

func (m *Model) newSign(base float64) *sign {
	return &sign{feels: make([]bool, len(m.Suspects)), base: base, p: make([]float64, len(m.Suspects)*shades)}
}

// limits weighs the number of an EVAP monitor against its limit (service 06): what it
// takes the leak for, times the root of value over limit, roughly.
func (m *Model) limits(e Evidence) (piece, error) {
	size := map[string]float64{"very-small": 0.508e-3, "small": 1.016e-3, "large": 2.3e-3}[e.Size]
	if size == 0 || !(e.Value >= 0) || e.Value > 100 {
		return piece{}, fmt.Errorf("a monitor's number over its limit lies between 0 and 100, for a leak that is very-small, small or large; this is %g for %q", e.Value, e.Size)
	}
	a, _ := m.Book.Archetype(m.Of.Vapour)
	// What a unit makes of a hole differs from car to car: spread chosen here.
	const spread = 0.45
	c := within(0, size*math.Sqrt(math.Max(e.Value, 0.02)), spread)
	if e.Value >= 1 {
		d := size * math.Sqrt(e.Value)
		c = Measured(d, d*math.Exp(-1.96*spread), d*math.Exp(1.96*spread))
	}
	l, err := m.hold(c, a.Entry, nil, plumbing.Pressure) // the whole system, as its own check sees it
	if err != nil {
		l2, err2 := m.hold(c, a.Entry, a.Settings(), plumbing.Pressure)
		if err2 != nil {
			return piece{}, err
		}
		l = l2
	}
	return piece{parts: []part{{likelihood: l}}, before: e.Before}, nil
}

var trimPoints = []string{"idle", "2500", "load"}

// trim weighs a total fuel trim at one point.
func (m *Model) trim(e Evidence) (piece, error) {
	if !slices.Contains(trimPoints, e.Key) {
		return piece{}, fmt.Errorf("a trim is read at %s, not at %q", strings.Join(trimPoints, ", "), e.Key)
	}
	if math.IsNaN(e.Value) || math.Abs(e.Value) > 100 {
		return piece{}, fmt.Errorf("a total trim lies within ±100 %%; this is %g", e.Value)
	}
	t := bench.Trimmed()
	l := m.numbers(t.Key, bench.Readings{t.Points[e.Key]: bench.Num(e.Value)})
	if l == nil {
		return piece{}, ErrSilent
	}
	if e.Stop {
		l.bound[l.place(t.Points[e.Key])] = math.Copysign(1, e.Value)
	}
	if e.Loose {
		l.spread = slices.Clone(l.spread)
		for i := range l.spread {
			l.spread[i] *= 1.6
		}
	}
	return piece{parts: []part{{likelihood: l}}, before: e.Before}, nil
}

// hole says between which diameters (m) a fault's hole lies at a step of severity: through
// the wall of its part, or past the part.
func (s Suspect) hole(k int) (low, high float64) { return s.largest(k, "leak", "passes", "reverse") }

// wall is hole for a part that stands under pressure on both sides: what passes it is not
// lost.
func (s Suspect) wall(k int) (low, high float64) { return s.largest(k, "leak") }

// largest is the largest of some holes at either end of a step of severity.
func (s Suspect) largest(k int, params ...string) (low, high float64) {
	at := func(severity float64) float64 {
		d := 0.0
		for _, x := range s.Defects(s.Part, severity) {
			if slices.Contains(params, x.Param) {
				d = math.Max(d, x.Value*1e-3)
			}
		}
		return d
	}
	return at(float64(k) / steps), at(float64(k+1) / steps)
}

// hold is the size of the holes under a gauge that is joined at entry, with the parts set
// as they were.
func (m *Model) hold(c *Curve, entry string, set plumbing.Settings, sense plumbing.Sense) (*holes, error) {
	low, high, err := m.spans(entry, set, sense)
	if err != nil {
		return nil, err
	}
	return newHoles(c, low, high), nil
}

func (m *Model) spans(entry string, set plumbing.Settings, sense plumbing.Sense) (low, high [][steps]float64, err error) {
	if err := m.has(entry); err != nil {
		return nil, nil, err
	}
	for k := range set {
		if err := m.has(k); err != nil {
			return nil, nil, err
		}
	}
	r := m.Graph.Reach(entry, set, sense)
	if !r.Sealed() {
		return nil, nil, fmt.Errorf("the system stood open to the air at %s: such a hold says nothing", strings.Join(r.Vents, ", "))
	}
	low, high = make([][steps]float64, len(m.Suspects)), make([][steps]float64, len(m.Suspects))
	for i, s := range m.Suspects {
		as := s.hole
		switch {
		case slices.Contains(r.Bounds, s.Part):
		case slices.Contains(r.Inside, s.Part):
			as = s.wall
		default:
			continue
		}
		for k := range steps {
			a, b := as(k)
			low[i][k], high[i][k] = a*a, b*b
		}
	}
	return low, high, nil
}

// done weighs a test of the Book by what was read, or by its outcome.
func (m *Model) done(e Evidence) (piece, error) {
	p := piece{before: e.Before}
	entry, ok := m.Book.Test(e.Test)
	if !ok {
		var keys []string
		for _, t := range m.Book.Tests {
			keys = append(keys, t.Key)
		}
		return p, fmt.Errorf("there is no test %q; %s", e.Test, Near(e.Test, keys))
	}
	if !entry.Fits(m.Of) {
		return p, fmt.Errorf("the test %q is not for this car", e.Test)
	}
	if err := m.fits(entry, e); err != nil {
		return p, err
	}
	if bench.Beside(e.Readings) {
		return p, silence{"it is of another part, tried beside it"}
	}
	if d := e.Readings["drive"].Drive; d != nil && !e.Overruled {
		if l := m.driven(*d); l != nil {
			p.parts = []part{{l, ofTest(e.Test, e.Part, e.Outcome)}}
			return p, nil
		}
	}
	if o, _ := entry.Outcome(e.Outcome); o.Nothing != "" {
		return p, silence{o.Nothing}
	}
	t := bench.For(entry)
	v, err := bench.Judge(entry, m.subject(e.Part), e.Readings)
	if err != nil {
		return p, err
	}
	if section := bench.Section(e.Readings); section != "" {
		o, _ := entry.Outcome(cmp.Or(e.Outcome, v.Outcome))
		return m.section(section, o.Means, e.Before)
	}
	byPlace := strings.Contains(e.Outcome, ":")
	overruled := e.Overruled || e.Outcome != "" && e.Outcome != v.Outcome && !byPlace
	var l likelihood
	switch {
	case t.Odds == bench.FromFlow:
		if overruled {
			v.Figures = nil
		}
		l, err = m.flowed(e, v.Figures)
	case !overruled && !byPlace && t.Weighs(entry, e.Readings):
		if n := m.numbers(e.Test, e.Readings); n != nil {
			l = n
			break
		}
		fallthrough
	default:
		if e.Outcome = cmp.Or(e.Outcome, v.Outcome); e.Outcome == "" {
			return p, fmt.Errorf("the test %q: %s", e.Test, v.Says)
		}
		if o, _ := entry.Outcome(e.Outcome); o.Nothing != "" {
			return p, silence{o.Nothing}
		}
		return m.came(t, e)
	}
	if err != nil {
		return p, err
	}
	p.parts = []part{{l, ofTest(e.Test, e.Part, cmp.Or(e.Outcome, v.Outcome))}}
	return p, nil
}

// subject is what a test is done on.
func (m *Model) subject(part string) bench.Subject {
	p, _ := m.Graph.Part(part)
	return bench.Subject{Of: m.Of, Graph: m.Graph, Part: p}
}

// came weighs the outcome of a test.
func (m *Model) came(t bench.Test, e Evidence) (piece, error) {
	p := piece{before: e.Before}
	pr, err := m.predict(e.Test, e.Part, e.Entry, e.Set)
	if err != nil {
		return p, err
	}
	outcome := e.Outcome
	if slices.Contains(t.Nothing, outcome) { // exits that prove nothing: none besides
		outcome = t.Nothing[0]
	}
	l, err := pr.words(outcome)
	if errors.Is(err, ErrSilent) {
		if kind, at, ok := strings.Cut(e.Outcome, ":"); ok && kind == t.ByPlace && t.Odds != bench.FromEyes { // a place where this test was not expected to show one
			return m.exit(Evidence{Part: at, Before: e.Before})
		}
		return p, err
	}
	if _, at, ok := strings.Cut(outcome, ":"); ok && e.missing(at) {
		m.sharpen(l, at)
	}
	said := ofTest(e.Test, e.Part, outcome)
	if _, at, ok := strings.Cut(outcome, ":"); ok && t.Odds == bench.FromEyes { // whether the whole was looked at or that place
		said = ofTest(e.Test, at, outcome)
	}
	p.parts = []part{{l, said}}
	return p, err
}

// section weighs the car's own pump test with only a part of the system joined: the pump by
// itself, or with the canister. What fails it sits in what is joined.
func (m *Model) section(section string, means knowledge.Meaning, before bool) (piece, error) {
	if means != knowledge.Sound && means != knowledge.Faulty {
		return piece{}, silence{"no verdict came out of it"}
	}
	a, _ := m.Book.Archetype(m.Of.Vapour)
	set := a.Settings()
	for _, p := range m.Graph.Plugs() {
		if set[p.Key] == "" && p.Key == bench.SectionPlug(section) {
			set[p.Key] = plumbing.Plugged
		}
	}
	const stray = 0.03 // a plug of the hand's making (chosen here)
	l := m.newSign(stray)
	l.absent = means == knowledge.Sound
	low, high := make([][steps]float64, len(m.Suspects)), make([][steps]float64, len(m.Suspects))
	if section != "pump" {
		var err error
		if low, high, err = m.spans(a.Entry, set, plumbing.Pressure); err != nil {
			return piece{}, err
		}
	}
	for i, s := range m.Suspects {
		p, _ := m.Graph.Part(s.Part)
		own := p.Role == "leak-pump" || strings.HasPrefix(s.Key, "pump-")
		for x := range shades {
			d := math.Sqrt(math.Sqrt(low[i][x/kinds] * high[i][x/kinds]))
			switch {
			case own:
				l.p[i*shades+x] = 0.9
			case d > 0:
				l.p[i*shades+x] = math.Max(0.95*phi(math.Log(d/0.508e-3)/0.3), stray)
			default:
				continue
			}
			l.feels[i] = true
		}
	}
	return piece{parts: []part{{likelihood: l}}, before: before}, nil
}

// missing reports whether a look found a part gone, off or loose, not only damaged.
func (e Evidence) missing(part string) bool {
	for _, r := range e.Readings {
		for _, p := range r.Places {
			if p.Part == part && p.Size == "missing" {
				return true
			}
		}
	}
	return false
}

// sharply is how often a look takes a part that is there for missing, as a share of how often
// it takes a whole one for damaged (chosen here).
const sharply = 0.15

// sharpen makes a look that found a part missing count for more.
func (m *Model) sharpen(l *words, part string) {
	for j := range kinds {
		l.none[j] *= sharply
	}
	for i, s := range m.Suspects {
		if l.feels[i] && !m.at(s.Part, part) {
			for x := i * shades; x < (i+1)*shades; x++ {
				l.seen[x] *= sharply
			}
		}
	}
}

// smelt weighs a smell of fuel that is strongest at a place.
func (m *Model) smelt(e Evidence) (piece, error) {
	if err := m.has(e.Part); err != nil {
		return piece{}, err
	}
	// Common practice, no source: noses find a hole above the fuel a third of the time, and a
	// place beside it now and then.
	const there, beside = 0.35, 0.03
	l := m.newSign(beside)
	for i, s := range m.Suspects {
		if _, high := s.hole(steps - 1); high > 0 && s.Family == "vapour" && m.at(s.Part, e.Part) {
			l.feels[i] = true
			for x := range shades {
				l.p[i*shades+x] = there
			}
		}
	}
	return piece{parts: []part{{likelihood: l}}, before: e.Before}, nil
}

// tries refuses a part that a test of one part does not try, and names those that it does.
func (m *Model) tries(b bench.Test, part string) error {
	if b.On != bench.OnePart || part == "" {
		return nil
	}
	p, _ := m.Graph.Part(part)
	if b.Tries == nil || b.Tries(bench.Target{Graph: m.Graph, Part: p}) != "" {
		return nil
	}
	var right []string
	for _, s := range m.Suspects {
		switch at := Target(m.Graph, s.Fault, s.Part, b.Key); {
		case at == part:
			return nil
		case at != "" && !slices.Contains(right, at):
			right = append(right, at)
		}
	}
	if len(right) == 0 {
		return nil // nothing on this car: it says nothing
	}
	return fmt.Errorf("the test %q does not try %q; on this car it tries %s", b.Key, part, strings.Join(right, ", "))
}

// fits refuses what cannot have come out of a test on this car.
func (m *Model) fits(t knowledge.Test, e Evidence) error {
	if e.Part != "" {
		if err := m.has(e.Part); err != nil {
			return err
		}
	}
	b := bench.For(t)
	if err := m.tries(b, e.Part); err != nil {
		return err
	}
	for k := range e.Readings {
		if _, ok := b.Channel(k); !ok {
			return fmt.Errorf("the test %q has no reading %q", e.Test, k)
		}
	}
	if kind, at, ok := strings.Cut(e.Outcome, ":"); ok && kind == b.ByPlace {
		return m.has(at)
	}
	if _, ok := t.Outcome(e.Outcome); e.Outcome != "" && !ok {
		var keys []string
		for _, w := range t.Outcomes {
			keys = append(keys, w.Key)
		}
		return fmt.Errorf("the test %q has no outcome %q; it has %s", e.Test, e.Outcome, strings.Join(keys, ", "))
	}
	return nil
}

// flowed weighs the diameter that a flow comes to; without one, whether it was more than the
// rig's own orifice takes.
func (m *Model) flowed(e Evidence, worked []bench.Figure) (*holes, error) {
	c := map[string]*Curve{"below": within(0, 0.508e-3, 0.12), "above": within(0.508e-3, math.Inf(1), 0.12)}[e.Outcome]
	if len(worked) > 0 {
		mm := worked[0]
		c = Measured(mm.Value*1e-3, mm.Low*1e-3, mm.High*1e-3)
	}
	if c == nil {
		return nil, ErrSilent
	}
	return m.hold(c, e.Entry, e.Set, plumbing.Pressure)
}

// exit weighs gas or smoke seen to leave at a part.
func (m *Model) exit(e Evidence) (piece, error) {
	if err := m.has(e.Part); err != nil {
		return piece{}, err
	}
	const stray = 0.012 // an exit is seen where none is: a hose of the rig, a reflection (chosen here)
	l := m.newSign(stray)
	l.absent = e.Absent
	for i, s := range m.Suspects {
		if !m.at(s.Part, e.Part) {
			continue
		}
		for k := range steps {
			low, high := s.hole(k)
			for j := range kinds {
				l.p[i*shades+k*kinds+j] = math.Max(seenSmoke(math.Sqrt(low*high)), stray)
			}
			l.feels[i] = l.feels[i] || high > 0
		}
	}
	return piece{parts: []part{{likelihood: l}}, before: e.Before}, nil
}

// seenSmoke is the odds that smoke is seen at a hole (m): a wisp from some 0.3 mm on, and
// not every place can be looked into (common practice, no source).
func seenSmoke(d float64) float64 {
	if d <= 0 {
		return 0
	}
	return 0.92 * phi(math.Log(d/0.3e-3)/0.3)
}

// Near says which of some keys are nearest to a mistyped one.
func Near(key string, known []string) string {
	type near struct {
		k string
		d int
	}
	var best []near
	for _, k := range known {
		best = append(best, near{k, distance(key, k)})
	}
	slices.SortStableFunc(best, func(a, b near) int { return a.d - b.d })
	var out []string
	for i, b := range best {
		if i < 4 {
			out = append(out, b.k)
		}
	}
	if len(out) == 0 {
		return "there are none"
	}
	return "the nearest are " + strings.Join(out, ", ")
}

// distance is how many letters must be put in, left out or changed (Levenshtein), less for
// words that hold one another.
func distance(a, b string) int {
	if a != "" && strings.Contains(b, a) {
		return len(b) - len(a) - len(b)/2
	}
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		last := row[0]
		row[0] = i + 1
		for j := range len(b) {
			c := last
			if a[i] != b[j] {
				c++
			}
			last = row[j+1]
			row[j+1] = min(c, row[j]+1, last+1)
		}
	}
	return row[len(b)]
}
