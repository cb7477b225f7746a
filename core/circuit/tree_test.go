package circuit_test

import (
	"cmp"
	"maps"
	"math"
	"slices"
	"strings"
	"testing"

	"wexter/core/circuit"
	"wexter/ingest"
)

func circuits() []*circuit.Circuit { return ingest.Book().Plumbing.Circuits }

// search finds the fewest measurements that a circuit needs on average, over every order in which they
// can be taken: nothing is left out.
type search struct {
	c      *circuit.Circuit
	cases  []circuit.Case
	known  map[uint64]float64                          // by the cases that are left
	policy func(circuit.Found) (circuit.Measure, bool) // nil: the best
	bits   float64                                     // that a measure tells at most
}

func newSearch(c *circuit.Circuit) *search {
	s := &search{c: c, cases: c.Tree().Cases(), known: map[uint64]float64{}}
	for _, m := range c.Measures {
		s.bits = math.Max(s.bits, math.Log2(float64(len(m.Bands))))
	}
	return s
}

// weights are those of the breaks that are left, and of all of them.
func (s *search) weights(left uint64) (of map[int]float64, all float64) {
	of = map[int]float64{}
	for i, x := range s.cases {
		if left>>i&1 == 1 {
			of[x.Break] += x.Weight
			all += x.Weight
		}
	}
	return of, all
}

// parts are the cases that are left by what measure m shows.
func (s *search) parts(left uint64, m int) map[string]uint64 {
	out := map[string]uint64{}
	for i, x := range s.cases {
		if left>>i&1 == 1 {
			out[x.Bands[m]] |= 1 << i
		}
	}
	return out
}

// mean is how many measurements more are needed, on average.
func (s *search) mean(left uint64, f circuit.Found) float64 {
	of, all := s.weights(left)
	if len(of) <= 1 {
		return 0
	}
	if s.policy != nil {
		m, ok := s.policy(f)
		if !ok {
			return 0
		}
		return s.with(left, f, slices.IndexFunc(s.c.Measures, func(x circuit.Measure) bool { return x.Key == m.Key }))
	}
	if v, ok := s.known[left]; ok {
		return v
	}
	type candidate struct {
		m     int
		least float64
	}
	var order []candidate
	for m := range s.c.Measures {
		if parts := s.parts(left, m); len(parts) > 1 {
			order = append(order, candidate{m, s.least(parts, all)})
		}
	}
	slices.SortFunc(order, func(a, b candidate) int { return cmp.Compare(a.least, b.least) })
	best := math.Inf(1)
	for _, x := range order {
		if x.least >= best { // nor can any after it be better
			break
		}
		best = math.Min(best, s.with(left, f, x.m))
	}
	if len(order) == 0 { // nothing parts them
		best = 0
	}
	s.known[left] = best
	return best
}

// least is a bound on how many measurements are needed when one comes next that leaves these parts: what then is
// open takes at least its entropy by that of a measure with the most bands (Shannon, A mathematical theory of
// communication, 1948, value from memory).
func (s *search) least(parts map[string]uint64, all float64) float64 {
	sum := 1.0
	for _, left := range parts {
		of, w := s.weights(left)
		for _, v := range of {
			sum -= v / all * math.Log2(v/w) / s.bits
		}
	}
	return sum
}

// with is that when measure m comes next.
func (s *search) with(left uint64, f circuit.Found, m int) float64 {
	_, all := s.weights(left)
	sum := 1.0
	for k, x := range s.parts(left, m) {
		g := f
		if s.policy != nil {
			g = maps.Clone(f)
			g[s.c.Measures[m].Key] = k
		}
		_, w := s.weights(x)
		sum += w / all * s.mean(x, g)
	}
	return sum
}

// The tree needs on average at most a fifth more measurements than the best one, which is found by trying every
// order on the same data.
func TestTreeAgainstTheBest(t *testing.T) {
	for _, c := range circuits() {
		best, greedy := newSearch(c), newSearch(c)
		if len(best.cases) > 63 {
			t.Fatalf("%s: %d cases are more than this search can hold", c.Key, len(best.cases))
		}
		greedy.policy = c.Tree().Next
		every := uint64(1)<<len(best.cases) - 1
		b, g := best.mean(every, nil), greedy.mean(every, circuit.Found{})
		t.Logf("%-10s %d breaks in %d cases, %d measures: %.3f measurements, the best tree %.3f (%d states), ratio %.3f", c.Key, len(c.Breaks), len(best.cases), len(c.Measures), g, b, len(best.known), g/b)
		if b < 1 || g < b-1e-9 {
			t.Errorf("%s: the search is wrong: %.3f below %.3f", c.Key, g, b)
		}
		if g > 1.2*b {
			t.Errorf("%s: %.3f measurements on average, and the best tree %.3f", c.Key, g, b)
		}
	}
}

// Every break of every circuit is found by walking the tree with what a meter shows, wherever within its
// range it lies, and nothing else is left.
func TestEveryBreakIsFound(t *testing.T) {
	for _, c := range circuits() {
		tree := c.Tree()
		for _, b := range c.Breaks {
			for step := range 5 {
				f, changes := circuit.Found{}, b.At(float64(step)/4)
				for range c.Measures {
					left := tree.Left(f)
					if len(left) == 1 {
						break
					}
					m, ok := tree.Next(f)
					if !ok {
						t.Fatalf("%s, %s: %d are left and nothing parts them: %s and %s", c.Key, b.Key, len(left), left[0].Key, left[1].Key)
					}
					f[m.Key] = shown(t, c, m, b, changes)
				}
				if left := tree.Left(f); len(left) != 1 || left[0].Key != b.Key {
					t.Errorf("%s with %s comes to %v by %v", c.Key, b.Key, left, f)
				}
			}
		}
	}
}

// shown is the band of a measure; a reading between two is the likelier of what the tree expects.
func shown(t *testing.T, c *circuit.Circuit, m circuit.Measure, b circuit.Break, changes []circuit.Change) string {
	t.Helper()
	if m.Unit == "" {
		for _, w := range m.Bands {
			if s, ok := b.Looks[m.Key]; ok && s[w.Key] > 0 || !ok && w.Sound {
				return w.Key
			}
		}
	}
	x, ok := m.Band(c.Reads(m, changes))
	if !ok {
		below, above := m.Beside(c.Reads(m, changes))
		if x = below; x.Key == "" {
			x = above
		}
	}
	return x.Key
}

// A sound circuit shows the sound band everywhere, with room to its limits.
func TestSoundIsSound(t *testing.T) {
	for _, c := range circuits() {
		for _, m := range c.Measures {
			if m.Unit == "" {
				continue
			}
			if b, ok := m.Band(c.Reads(m, nil)); !ok || !b.Sound {
				t.Errorf("%s, %s: a sound one reads %g: %q", c.Key, m.Key, c.Reads(m, nil), b.Key)
			}
		}
	}
}

// Ohm's and Kirchhoff's laws by hand (any textbook of electrical engineering): a coil of 25 ohm behind 0.18 ohm of feed and
// 0.53 ohm of return carries 12.6/25.74 A.
func TestNetworkByHand(t *testing.T) {
	i := slices.IndexFunc(circuits(), func(c *circuit.Circuit) bool { return c.Key == "solenoid" })
	c := circuits()[i]
	current := 12.6 / (0.02 + 0.05 + 0.01 + 0.1 + 0.01 + 25 + 0.01 + 0.2 + 0.01 + 0.3 + 0.02)
	loaded, _ := c.Measure("loaded")
	drop, _ := c.Measure("ground")
	coil, _ := c.Measure("coil")
	control, _ := c.Measure("control")
	for _, x := range []struct {
		what      string
		got, want float64
	}{
		{"volts at the supply pin under load", c.Reads(loaded, nil), 12.6 - current*0.18},
		{"drop over the unit's ground", c.Reads(drop, nil), current * 0.02},
		{"coil", c.Reads(coil, nil), 25},
		{"supply through 200 ohm of corrosion, under load", c.Reads(loaded, []circuit.Change{{Link: "supply-wire", Ohm: []float64{200, 200}}}), 12.6 * (25.55) / (25.55 + 0.08 + 200)},
		{"duty", c.Reads(control, nil), 50},
		{"mean of the volts at half duty", c.Mean(control, nil), (12.6 + 12.6*0.53/(24+0.53+0.02)) / 2},
	} {
		if math.Abs(x.got-x.want) > 2e-3 {
			t.Errorf("%s: %.4f, by hand %.4f", x.what, x.got, x.want)
		}
	}
	open := []circuit.Change{{Link: "coil", Ohm: []float64{1e9, 1e9}}}
	if v := c.Reads(coil, open); !math.IsInf(v, 1) {
		t.Errorf("an open coil reads %g", v)
	}
	if c.Works(open, 0.6) || !c.Works(nil, 0.6) {
		t.Error("a valve with an open coil works, or a sound one does not")
	}
	if weak := []circuit.Change{{Link: "supply-wire", Ohm: []float64{200, 200}}}; c.Works(weak, 0.6) {
		t.Error("a valve works behind 200 ohm")
	}
}

// What cannot be all at once is said by the reading to take again.
func TestContradictions(t *testing.T) {
	c := circuits()[0]
	if _, ok := c.Tree().Contradicts(circuit.Found{"supply": "none", "coil": "good"}); ok {
		t.Error("no supply and a whole coil are no contradiction")
	}
	m, ok := c.Tree().Contradicts(circuit.Found{"supply": "good", "back": "good", "coil": "short", "case": "low", "control": "good"})
	if !ok || m.Key != "coil" && m.Key != "case" {
		t.Errorf("a coil that is short and whole: measure %q again", m.Key)
	}
	m, ok = c.Tree().Contradicts(circuit.Found{"supply": "none", "proof": "good", "loaded": "good", "fuse": "good"})
	if !ok || m.Key != "supply" {
		t.Errorf("no supply that holds under load: measure %q again", m.Key)
	}
}

// Bands take what a meter shows, whichever way round its leads are; what lies between two is for neither.
func TestBands(t *testing.T) {
	c := circuits()[0]
	supply, _ := c.Measure("supply")
	coil, _ := c.Measure("coil")
	pins, _ := c.Measure("pins")
	for _, x := range []struct {
		m    circuit.Measure
		v    float64
		want string
	}{{supply, 12.4, "good"}, {supply, -12.4, "good"}, {supply, 0, "none"}, {supply, 10.7, ""}, {supply, 28, ""}, {coil, math.Inf(1), "open"}, {coil, 0.2, "short"}, {coil, 60, ""}} {
		b, _ := x.m.Band(x.v)
		if b.Key != x.want {
			t.Errorf("%s of %g is %q, not %q", x.m.Key, x.v, b.Key, x.want)
		}
	}
	if below, above := supply.Beside(10.7); below.Key != "low" || above.Key != "good" {
		t.Errorf("10.7 V lies between %q and %q", below.Key, above.Key)
	}
	if _, above := supply.Beside(28); above.Key != "" {
		t.Errorf("28 V lies below %q", above.Key)
	}
	if _, ok := supply.Word("good"); ok {
		t.Error("a word for what is measured")
	}
	if b, ok := pins.Word("green"); !ok || b.Sound {
		t.Errorf("green pins: %+v", b)
	}
}

// What is wrong with a circuit is said with the entry that is wrong.
func TestCheckNamesTheEntry(t *testing.T) {
	for _, x := range []struct {
		say  string
		harm func(*circuit.Circuit)
	}{
		{`link "feed"`, func(c *circuit.Circuit) { c.Links[0].To = "nowhere" }},
		{`link "fuse"`, func(c *circuit.Circuit) { c.Links[1].Ohm = math.NaN() }},
		{"drawn as", func(c *circuit.Circuit) { c.Links[1].As = "spaghetti" }},
		{`node "plus"`, func(c *circuit.Circuit) { c.Nodes[1].Key = "plus"; c.Nodes[1].At = nil }},
		{`measure "supply"`, func(c *circuit.Circuit) { c.Measures[1].Red = "nowhere" }},
		{"do not overlap", func(c *circuit.Circuit) { c.Measures[1].Bands[1].From = 0.5 }},
		{"one of them that of a sound", func(c *circuit.Circuit) { c.Measures[1].Bands[0].Sound = true }},
		{`no link "wings"`, func(c *circuit.Circuit) { c.Measures[1].Off = []string{"wings"} }},
		{"nothing that a unit does", func(c *circuit.Circuit) { c.Measures[1].Drive = "dance" }},
		{`unit "A"`, func(c *circuit.Circuit) { c.Measures[1].Unit = "A" }},
		{"half of the time", func(c *circuit.Circuit) { c.Measures[1].Unit = "%" }},
		{"weight is", func(c *circuit.Circuit) { c.Breaks[1].Weight = 0 }},
		{"either an outcome", func(c *circuit.Circuit) { c.Breaks[1].Again = "supply" }},
		{"add up to 1", func(c *circuit.Circuit) { c.Breaks[9].Looks = map[string]map[string]float64{"pins": {"loose": 0.5}} }},
		{"between two nodes", func(c *circuit.Circuit) { c.Breaks[1].Changes = []circuit.Change{{From: "plus", Ohm: []float64{1, 2}}} }},
		{"from and to, above 0", func(c *circuit.Circuit) { c.Breaks[1].Changes = []circuit.Change{{Link: "feed", Ohm: []float64{2, 1}}} }},
		{"nothing is lost now", func(c *circuit.Circuit) { c.Breaks = c.Breaks[:4] }},
		{"the source", func(c *circuit.Circuit) { c.Sources[0].Volts = -1 }},
		{"fuse is what", func(c *circuit.Circuit) { c.Fuse = []float64{20, 10} }},
	} {
		c := *circuits()[0]
		c.Nodes, c.Links, c.Measures, c.Breaks, c.Sources = slices.Clone(c.Nodes), slices.Clone(c.Links), slices.Clone(c.Measures), slices.Clone(c.Breaks), slices.Clone(c.Sources)
		for i := range c.Measures {
			c.Measures[i].Bands = slices.Clone(c.Measures[i].Bands)
		}
		x.harm(&c)
		if err := c.Check(); err == nil || !strings.Contains(err.Error(), x.say) {
			t.Errorf("%s: %v", x.say, err)
		}
	}
}

// Every part that carries current has its circuit, on every car.
func TestEveryPartHasItsCircuit(t *testing.T) {
	cars, err := ingest.Book().Plumbing.Cars()
	if err != nil {
		t.Fatal(err)
	}
	used, n := map[string]bool{}, 0
	for _, car := range cars {
		for _, p := range car.Graph.Parts {
			electric := slices.Contains([]string{"coil", "duty", "motor", "stepper"}, p.Drive) || p.Kind == "pump" || p.Kind == "sensor" || p.Kind == "switch"
			if electric != (p.Wired != nil) {
				t.Errorf("%v: %s has the circuit %q", car.Combination, p.Key, p.Circuit)
			}
			if p.Wired != nil {
				used[p.Circuit] = true
				n++
			}
		}
	}
	if len(used) != len(circuits()) || n < len(cars) {
		t.Errorf("%d of %d circuits are used, by %d parts", len(used), len(circuits()), n)
	}
}

func BenchmarkTree(b *testing.B) {
	for b.Loop() {
		c := *circuits()[0]
		if err := c.Check(); err != nil {
			b.Fatal(err)
		}
		c.Tree()
	}
}
