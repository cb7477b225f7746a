package circuit

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strings"
	"sync"
)

// Circuit is how a part is fed, switched and read.
type Circuit struct {
	Key  string
	Name string
	Note string // how it is fed and switched, in a sentence
	// Fuse is what a fuse of such a circuit usually has, A, from and to; empty: it has none of its own.
	Fuse     []float64
	Part     string // the link that is the part itself
	Sources  []Source
	Nodes    []Node
	Links    []Link
	Measures []Measure
	Breaks   []Break

	tree func() *Tree
}

// Node is a point at which a meter can be held, or at which links meet.
type Node struct {
	Key  string
	Name string
	At   []float64 // where it is drawn: columns from the left, rows from the top
}

// Source is a voltage behind its own resistance.
type Source struct {
	From, To string
	Volts    float64
	Ohm      float64
}

// Link joins two points.
type Link struct {
	Key      string
	Name     string
	From, To string
	Ohm      float64
	As       Look // how it is drawn
	Switched bool // joined only while the control unit drives it
}

// Look is how a link is drawn.
type Look string

// How links are drawn.
const (
	Wire    Look = "wire"
	Fuse    Look = "fuse"
	Pin     Look = "pin" // of a connector
	Winding Look = "winding"
	Slider  Look = "sensor"
	Contact Look = "contact"
	Output  Look = "output" // of the control unit
	Inside  Look = "inside" // of a part or unit; not drawn
)

// Drive is what the control unit does meanwhile.
type Drive string

// What it does.
const (
	Rest   Drive = ""
	Driven Drive = "on"
	Half   Drive = "half" // on and off by turns, half of the time each
)

// Measure is one thing that can be measured, or looked at.
type Measure struct {
	Key   string
	Name  string
	Ask   string // what to measure, a sentence
	Stand string // how key, connectors and unit stand meanwhile
	Unit  string // V, ohm or %; empty: it is looked at
	// Red and Black are the points at which the meter is held.
	Red, Black string
	Off        []string // links that are taken apart
	Drive      Drive
	Load       *Load // a test load that is joined for it
	Minutes    float64
	Bands      []Band
}

// Load is a resistance that is joined for a measurement.
type Load struct {
	From, To string
	Ohm      float64
}

// Band is a range of readings that mean the same, or a word. What lies between two bands is for
// neither.
type Band struct {
	Key      string
	From, To float64
	Says     string
	Sound    bool
}

// Break is a place where the current can be lost, or that nothing is lost.
type Break struct {
	Key     string
	Name    string // the finding
	Outcome string // of the test
	Weight  float64
	Changes []Change
	Looks   map[string]map[string]float64 // of what is looked at: the shares of its words
	Mend    string
	// Again is the measure that must be taken again when this is found: it is no fault of the car.
	Again string
}

// Change puts a resistance elsewhere: of a link, or a new one between two points.
type Change struct {
	Link     string
	From, To string
	Ohm      []float64 // between which it lies
}

var keyForm = regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)*$`)

// find is the first of a list that is what is looked for.
func find[T any](list []T, is func(T) bool) (out T, ok bool) {
	if i := slices.IndexFunc(list, is); i >= 0 {
		return list[i], true
	}
	return out, false
}

// Node finds a point.
func (c *Circuit) Node(key string) (Node, bool) {
	return find(c.Nodes, func(n Node) bool { return n.Key == key })
}

// Link finds a link.
func (c *Circuit) Link(key string) (Link, bool) {
	return find(c.Links, func(l Link) bool { return l.Key == key })
}

// Measure finds a measure.
func (c *Circuit) Measure(key string) (Measure, bool) {
	return find(c.Measures, func(m Measure) bool { return m.Key == key })
}

// Break finds a break.
func (c *Circuit) Break(key string) (Break, bool) {
	return find(c.Breaks, func(b Break) bool { return b.Key == key })
}

// Tree is the circuit's tree; it is worked out once, when it is first asked for.
func (c *Circuit) Tree() *Tree { return c.tree() }

// Sound is the band of a sound circuit.
func (m Measure) Sound() Band {
	b, _ := find(m.Bands, func(b Band) bool { return b.Sound })
	return b
}

// Band is the band into which a reading falls; false where it lies between two or beyond all. Volts
// count without their sign: it only says which way round the leads are.
func (m Measure) Band(v float64) (Band, bool) {
	if m.Unit == "V" {
		v = math.Abs(v)
	}
	return find(m.Bands, func(b Band) bool { return v >= b.From && v <= b.To })
}

// Word is the band of a word.
func (m Measure) Word(w string) (Band, bool) {
	if m.Unit != "" {
		return Band{}, false
	}
	return find(m.Bands, func(b Band) bool { return b.Key == w })
}

// Beside are the bands between which a reading lies that is in none; an empty key stands for none.
func (m Measure) Beside(v float64) (below, above Band) {
	if m.Unit == "V" {
		v = math.Abs(v)
	}
	for _, b := range m.Bands {
		if b.To < v && (below.Key == "" || b.To > below.To) {
			below = b
		}
		if b.From > v && (above.Key == "" || b.From < above.From) {
			above = b
		}
	}
	return below, above
}

// Check says what is wrong with the circuit by itself, and makes it ready for use.
func (c *Circuit) Check() error {
	for _, f := range []func() error{c.checkPoints, c.checkMeasures, c.checkBreaks} {
		if err := f(); err != nil {
			return err
		}
	}
	c.tree = sync.OnceValue(func() *Tree { return newTree(c) })
	return nil
}

func (c *Circuit) checkPoints() error {
	seen := map[string]bool{}
	for _, n := range c.Nodes {
		if !keyForm.MatchString(n.Key) || seen[n.Key] || len(n.At) != 2 || n.Name == "" {
			return fmt.Errorf("node %q: a key of its own, a name, and where it is drawn (at: two figures)", n.Key)
		}
		seen[n.Key] = true
	}
	links := map[string]bool{}
	for _, l := range c.Links {
		switch {
		case !keyForm.MatchString(l.Key) || links[l.Key] || l.Name == "":
			return fmt.Errorf("link %q: a key of its own and a name", l.Key)
		case !seen[l.From] || !seen[l.To] || l.From == l.To:
			return fmt.Errorf("link %q: it joins %q and %q, which are no two nodes", l.Key, l.From, l.To)
		case !positive(l.Ohm):
			return fmt.Errorf("link %q: ohm is %g; it lies above 0", l.Key, l.Ohm)
		case !slices.Contains([]Look{Wire, Fuse, Pin, Winding, Slider, Contact, Output, Inside}, l.As):
			return fmt.Errorf("link %q: it is drawn as %q, which is nothing", l.Key, l.As)
		}
		links[l.Key] = true
	}
	for _, s := range c.Sources {
		if !seen[s.From] || !seen[s.To] || !positive(s.Ohm) || !positive(s.Volts) {
			return fmt.Errorf("the source from %q to %q: two nodes, volts and ohm above 0", s.From, s.To)
		}
	}
	switch {
	case c.Name == "" || len(c.Sources) == 0 || !links[c.Part]:
		return fmt.Errorf("a name, a source, and the link that is the part (part) are needed")
	case len(c.Fuse) != 0 && (len(c.Fuse) != 2 || !positive(c.Fuse[0]) || c.Fuse[1] < c.Fuse[0] || c.Fuse[1] > 100):
		return fmt.Errorf("fuse is what it usually has, from and to, in A")
	}
	return nil
}

func positive(v float64) bool { return v > 0 && !math.IsInf(v, 1) }

func (c *Circuit) checkMeasures() error {
	seen := map[string]bool{}
	for _, m := range c.Measures {
		_, red := c.Node(m.Red)
		_, black := c.Node(m.Black)
		switch {
		case !keyForm.MatchString(m.Key) || seen[m.Key] || m.Name == "" || m.Ask == "" || m.Stand == "":
			return fmt.Errorf("measure %q: a key of its own, name, ask and stand", m.Key)
		case !slices.Contains([]string{"", "V", "ohm", "%"}, m.Unit):
			return fmt.Errorf("measure %q: unit %q is not V, ohm or %%", m.Key, m.Unit)
		case m.Unit != "" && (!red || !black || m.Red == m.Black):
			return fmt.Errorf("measure %q: red %q and black %q are no two nodes", m.Key, m.Red, m.Black)
		case m.Unit == "%" && m.Drive != Half:
			return fmt.Errorf("measure %q: a duty is measured while the unit drives half of the time", m.Key)
		case !slices.Contains([]Drive{Rest, Driven, Half}, m.Drive):
			return fmt.Errorf("measure %q: drive %q is nothing that a unit does", m.Key, m.Drive)
		case !positive(m.Minutes):
			return fmt.Errorf("measure %q: it takes %g minutes", m.Key, m.Minutes)
		}
		for _, k := range m.Off {
			if _, ok := c.Link(k); !ok {
				return fmt.Errorf("measure %q: there is no link %q to take apart", m.Key, k)
			}
		}
		if l := m.Load; l != nil {
			_, from := c.Node(l.From)
			_, to := c.Node(l.To)
			if !from || !to || !positive(l.Ohm) {
				return fmt.Errorf("measure %q: its load lies between two nodes and has ohm", m.Key)
			}
		}
		if err := m.checkBands(); err != nil {
			return fmt.Errorf("measure %q: %w", m.Key, err)
		}
		seen[m.Key] = true
	}
	return nil
}

func (m Measure) checkBands() error {
	sound := 0
	for i, b := range m.Bands {
		if !keyForm.MatchString(b.Key) || b.Says == "" || slices.IndexFunc(m.Bands, func(x Band) bool { return x.Key == b.Key }) != i {
			return fmt.Errorf("band %q: a key of its own and what it says", b.Key)
		}
		if m.Unit != "" && (math.IsNaN(b.From+b.To) || b.From < 0 || b.To <= b.From || i > 0 && b.From < m.Bands[i-1].To) {
			return fmt.Errorf("band %q goes from %g to %g; bands rise and do not overlap", b.Key, b.From, b.To)
		}
		if b.Sound {
			sound++
		}
	}
	if sound != 1 || len(m.Bands) < 2 {
		return fmt.Errorf("two bands at least, one of them that of a sound circuit")
	}
	return nil
}

func (c *Circuit) checkBreaks() error {
	seen := map[string]bool{}
	for _, b := range c.Breaks {
		switch {
		case !keyForm.MatchString(b.Key) || seen[b.Key] || b.Name == "" || b.Mend == "":
			return fmt.Errorf("break %q: a key of its own, a name and what to do (mend)", b.Key)
		case (b.Outcome == "") == (b.Again == ""):
			return fmt.Errorf("break %q: either an outcome, or the measure to take again", b.Key)
		case !positive(b.Weight):
			return fmt.Errorf("break %q: weight is %g", b.Key, b.Weight)
		}
		if _, ok := c.Measure(b.Again); b.Again != "" && !ok {
			return fmt.Errorf("break %q: there is no measure %q to take again", b.Key, b.Again)
		}
		for _, x := range b.Changes {
			if err := c.checkChange(x); err != nil {
				return fmt.Errorf("break %q: %w", b.Key, err)
			}
		}
		for k, shares := range b.Looks {
			m, ok := c.Measure(k)
			sum := 0.0
			for w, s := range shares {
				_, known := m.Word(w)
				ok = ok && known && s > 0
				sum += s
			}
			if !ok || math.Abs(sum-1) > 1e-9 {
				return fmt.Errorf("break %q: %q is nothing to look at, or the shares of its words do not add up to 1", b.Key, k)
			}
		}
		seen[b.Key] = true
	}
	if len(c.Breaks) < 2 || !slices.ContainsFunc(c.Breaks, func(b Break) bool { return len(b.Changes) == 0 }) {
		return fmt.Errorf("breaks are needed, and one without changes for a circuit in which nothing is lost now")
	}
	return nil
}

func (c *Circuit) checkChange(x Change) error {
	_, link := c.Link(x.Link)
	_, from := c.Node(x.From)
	_, to := c.Node(x.To)
	switch {
	case link == (x.From != "") || !link && (!from || !to):
		return fmt.Errorf("a change is of a link, or between two nodes (link %q, from %q, to %q)", x.Link, x.From, x.To)
	case len(x.Ohm) != 2 || !positive(x.Ohm[0]) || !positive(x.Ohm[1]) || x.Ohm[1] < x.Ohm[0]:
		return fmt.Errorf("a change needs ohm, from and to, above 0")
	}
	return nil
}

// At is the change with one resistance, at a share of the way from its least to its most by
// ratios.
func (x Change) At(share float64) Change {
	v := x.Ohm[0] * math.Pow(x.Ohm[1]/x.Ohm[0], share)
	x.Ohm = []float64{v, v}
	return x
}

// At is what a break changes, at a share of the way from its least to its most.
func (b Break) At(share float64) (out []Change) {
	for _, x := range b.Changes {
		out = append(out, x.At(share))
	}
	return out
}

// Lower is a finding as it goes on in a sentence.
func (b Break) Lower() string { return strings.ToLower(b.Name[:1]) + b.Name[1:] }
