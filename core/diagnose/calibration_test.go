package diagnose_test

import (
	"bufio"
	"bytes"
	"cmp"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"maps"
	"math"
	"math/rand/v2"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"wexter/core/bench"
	"wexter/core/diagnose"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/sim"
	"wexter/ingest"
)

// drawn is a car that was drawn from the odds, and what instruments showed on it at one
// random moment of a hunt. Its fuel, weather, tank and engine are nothing the reasoning knows.
type drawn struct {
	Car      plumbing.Combination
	Age      float64
	Km       int
	Truth    string // as an explanation's key
	Faults   map[string]float64
	At       sim.Conditions
	Codes    []string // nil: not read
	HasCodes bool
	Tests    []drawnTest
}

// drawnTest is a test that was done: what its instruments showed, in the form of the table.
// What that means is worked out when it is read.
type drawnTest struct {
	Test, Part, Plug string
	Line             string
	Size             []float64 `json:",omitempty"` // mm: of a hold, with its interval
	outcome          string
}

const drawnFile = "testdata/cars.jsonl.gz"

// carOf makes a fresh simulated car with the faults.
func (d *drawn) carOf(b knowledge.Book, faults map[string]float64, seed uint64) (*sim.Car, error) {
	at := d.At
	at.Seed += seed
	c, err := sim.NewCar(b.Plumbing, d.Car, nil, at)
	if err != nil {
		return nil, err
	}
	for _, k := range slices.Sorted(func(yield func(string) bool) {
		for k := range faults {
			if !yield(k) {
				return
			}
		}
	}) {
		f, _ := b.Fault(k)
		part, _ := f.Can(c.Graph, d.Car)
		for _, x := range f.Defects(part, faults[k]) {
			if x.Param == "ready" {
				continue
			}
			if err := c.Apply(x); err != nil {
				return nil, err
			}
		}
	}
	return c, nil
}

// do does a test on the car as it is now.
func (d *drawn) do(b knowledge.Book, faults map[string]float64, test, part, plug string) (drawnTest, error) {
	c, err := d.carOf(b, faults, 100)
	if err != nil {
		return drawnTest{}, err
	}
	at := part
	if plug != "" {
		at = plug
	}
	t, err := sim.Try(c, b, test, at)
	if err != nil {
		return drawnTest{}, err
	}
	entry, _ := b.Test(test)
	rule, _ := bench.Of(test)
	if rule.Odds == bench.FromEyes { // what is large enough, where eyes reach
		t.Readings[rule.PlaceChannel()] = bench.Reading{Places: d.looked(b, faults, c.Graph, part)}
	}
	out := drawnTest{Test: test, Part: part, Plug: plug, Line: rule.Format(t.Readings)}
	v := bench.For(entry).Reduce(t.On, t.Readings) // also what no gauge of a bay shows
	if rule.Odds == bench.FromHole && len(v.Figures) > 0 {
		out.Size = []float64{v.Figures[0].Value, v.Figures[0].Low, v.Figures[0].High}
	}
	out.outcome = v.Outcome
	return out, nil
}

// looked are the parts with a fault that a look can find.
func (d *drawn) looked(b knowledge.Book, faults map[string]float64, g *plumbing.Graph, part string) (out []bench.Place) {
	for k, severity := range faults {
		f, _ := b.Fault(k)
		p, _ := f.Can(g, d.Car)
		large := slices.ContainsFunc(f.Defects(p, severity), func(x plumbing.Defect) bool { return x.Param == "leak" && x.Value >= 1.5 })
		if x, _ := g.Part(p); large && x.Kind != plumbing.Seal && slices.Contains(f.Tests, bench.Look.Key) && (part == "" || p == part) {
			out = append(out, bench.Place{Part: p})
		}
	}
	slices.SortFunc(out, func(x, y bench.Place) int { return strings.Compare(x.Part, y.Part) })
	return out
}

// evidence is what a test says, as a case would hand it over.
func (x *drawnTest) evidence(b knowledge.Book, d *drawn) ([]diagnose.Evidence, error) {
	entry, _ := b.Test(x.Test)
	rule, _ := bench.Of(x.Test)
	r, err := rule.Parse(x.Line)
	if err != nil {
		return nil, err
	}
	for _, c := range rule.Channels { // what lies beyond a gauge of the bay is read at its end
		for i, v := range r[c.Key].Numbers {
			if c.High > c.Low && !math.IsInf(v, 0) {
				r[c.Key].Numbers[i] = math.Min(math.Max(v, c.Low), c.High)
			}
		}
	}
	e := diagnose.Evidence{Kind: diagnose.Done, Test: x.Test, Part: x.Part, Readings: r, Says: x.Test}
	a, _ := b.Archetype(d.Car.Vapour)
	if rule.On == bench.SealedSystem {
		e.Entry, e.Set = a.Entry, a.Settings()
	}
	if rule.Odds == bench.FromHole {
		return x.hold(e), nil
	}
	if x.outcome == "" {
		g, err := b.Plumbing.Combine(d.Car)
		if err != nil {
			return nil, err
		}
		p, _ := g.Part(x.Part)
		v := bench.For(entry).Reduce(bench.Subject{Of: d.Car, Graph: g, Part: p}, r)
		x.outcome = cmp.Or(v.Outcome, bench.CannotTell)
	}
	e.Outcome = x.outcome
	if rule.ByPlace == "" || x.outcome != rule.ByPlace {
		return []diagnose.Evidence{e}, nil
	}
	var out []diagnose.Evidence
	for _, p := range r[rule.PlaceChannel()].Places {
		y := e
		y.Outcome = x.outcome + ":" + p.Part
		switch {
		case p.Expected:
			continue
		case rule.Odds == bench.FromEyes:
			y.Part = ""
		case len(out) > 0:
			y = diagnose.Evidence{Kind: diagnose.Exit, Part: p.Part}
		}
		out = append(out, y)
	}
	return out, nil
}

// hold is what a hold says; nothing when it could not be judged.
func (x *drawnTest) hold(e diagnose.Evidence) []diagnose.Evidence {
	if x.Plug != "" {
		e.Set[x.Plug] = plumbing.Plugged
	}
	e.Kind = diagnose.Held
	switch {
	case e.Readings.Word("up") == bench.No:
		e.Curve, x.outcome = diagnose.TooLarge(), "cannot_pressurise"
	case len(x.Size) == 3:
		e.Curve = diagnose.Measured(x.Size[0]*1e-3, x.Size[1]*1e-3, x.Size[2]*1e-3)
	default:
		return nil
	}
	return []diagnose.Evidence{e}
}

// draw draws one car from the odds of its model.
func draw(b knowledge.Book, combos []plumbing.Combination, rng *rand.Rand) (*drawn, *diagnose.Model, error) {
	engine := []string{"na-maf", "na-maf", "na-maf", "na-maf", "na-map", "na-map", "turbo-petrol", "turbo-diesel"}[rng.IntN(8)]
	var of []plumbing.Combination
	for _, c := range combos {
		if c.Engine == engine {
			of = append(of, c)
		}
	}
	between := func(a, b float64) float64 { return a + (b-a)*rng.Float64() }
	d := &drawn{Car: of[rng.IntN(len(of))], Age: math.Round(between(0, 20)), Km: int(between(5e3, 280e3)), Faults: map[string]float64{},
		At: sim.Conditions{Level: between(0.15, 0.85), Ambient: between(278, 305), Barometer: between(97e3, 103e3), Reid: between(50e3, 85e3), Swelling: between(0, 0.14), Displacement: between(1.2e-3, 2.4e-3), Seed: rng.Uint64N(1 << 30)}}
	g, err := b.Plumbing.Combine(d.Car)
	if err != nil {
		return nil, nil, err
	}
	m, err := diagnose.New(b, ingest.Table(), diagnose.Car{Of: d.Car, Graph: g, Age: d.Age, Km: d.Km})
	if err != nil {
		return nil, nil, err
	}
	two, none, other := m.Prior()
	pick := func() int {
		u, i := rng.Float64(), 0
		sum := 0.0
		for _, s := range m.Suspects {
			sum += s.Prior
		}
		for u *= sum; i < len(m.Suspects)-1 && u >= m.Suspects[i].Prior; i++ {
			u -= m.Suspects[i].Prior
		}
		return i
	}
	put := func(i int) string {
		d.Faults[m.Suspects[i].Key] = rng.Float64()
		return m.Suspects[i].Key
	}
	switch u := rng.Float64() * (1 - other); {
	case u < none:
		d.Truth = diagnose.NoneNow
		put(pick()) // it was there when the codes were set
	case u < none+two:
		i, j := pick(), pick()
		for i == j || m.Suspects[i].Key == "not-run" || m.Suspects[j].Key == "not-run" {
			i, j = pick(), pick()
		}
		d.Truth = m.Suspects[min(i, j)].Key + "+" + m.Suspects[max(i, j)].Key
		put(i)
		put(j)
	default:
		d.Truth = put(pick())
	}
	return d, m, nil
}

// moment gives a drawn car the evidence of one random moment.
func (d *drawn) moment(b knowledge.Book, m *diagnose.Model, rng *rand.Rand) error {
	if d.HasCodes = rng.Float64() < 0.25; d.HasCodes {
		c, err := d.carOf(b, d.Faults, 0)
		if err != nil {
			return err
		}
		if d.Codes, err = sim.Trip(c); err != nil {
			return err
		}
	}
	now := d.Faults
	if d.Truth == diagnose.NoneNow {
		now = nil
	}
	for range []int{0, 1, 1, 1, 2, 2, 2, 3}[rng.IntN(8)] {
		a := m.Actions()
		x := a[rng.IntN(len(a))]
		if x.Test == "intake-smoke" && strings.HasPrefix(d.Car.Engine, "turbo") {
			continue // the plant takes a minute over it
		}
		if simulated := diagnose.Simulated(b, x.Test, d.Car) && !bench.Part(x.Test); simulated && rng.Float64() < 0.6 {
			continue // the long ones less often
		}
		t, err := d.do(b, now, x.Test, x.Part, x.Plug)
		if err != nil {
			return err
		}
		d.Tests = append(d.Tests, t)
	}
	return nil
}

// history is all that is known of a drawn car.
func (d *drawn) history(b knowledge.Book) (diagnose.History, error) {
	var ep diagnose.Epoch
	if d.HasCodes {
		ep.Evidence = append(ep.Evidence, diagnose.Evidence{Kind: diagnose.Scanned, Codes: d.Codes, Ran: []string{""}, Before: true, Says: "codes"})
	}
	for i := range d.Tests {
		e, err := d.Tests[i].evidence(b, d)
		if err != nil {
			return nil, err
		}
		ep.Evidence = append(ep.Evidence, e...)
	}
	return diagnose.History{ep}, nil
}

// TestDrawCars draws the cars again and writes them: WEXTER_DRAW=5000, some half an hour.
func TestDrawCars(t *testing.T) {
	n, _ := strconv.Atoi(os.Getenv("WEXTER_DRAW"))
	if n == 0 {
		t.Skip("WEXTER_DRAW says how many cars are drawn")
	}
	b := ingest.Book()
	combos := b.Plumbing.Combinations()
	out := make([]*drawn, n)
	var g sync.WaitGroup
	work := make(chan int)
	for range runtime.NumCPU() {
		g.Go(func() {
			for i := range work {
				rng := rand.New(rand.NewPCG(2026, uint64(i)))
				d, m, err := draw(b, combos, rng)
				if err == nil {
					err = d.moment(b, m, rng)
				}
				if err != nil {
					t.Logf("car %d: %v", i, err)
					continue
				}
				out[i] = d
			}
		})
	}
	for i := range n {
		work <- i
	}
	close(work)
	g.Wait()
	writeDrawn(t, out)
}

// TestReadCarsAnew has the drawn cars' tests done again, the same ones on the same cars: for
// when the plant's instruments change. WEXTER_REREAD=1, some minutes.
func TestReadCarsAnew(t *testing.T) {
	if os.Getenv("WEXTER_REREAD") == "" {
		t.Skip("WEXTER_REREAD has the drawn cars' tests done again")
	}
	b := ingest.Book()
	cars := readDrawn(t)
	var g sync.WaitGroup
	work := make(chan *drawn)
	for range runtime.NumCPU() {
		g.Go(func() {
			for d := range work {
				now := d.Faults
				if d.Truth == diagnose.NoneNow {
					now = nil
				}
				var tests []drawnTest
				for _, x := range d.Tests {
					again, err := d.do(b, now, x.Test, x.Part, x.Plug)
					if err != nil { // the Book no longer has it for such a car
						t.Logf("%s on %v: %v", x.Test, d.Car, err)
						continue
					}
					tests = append(tests, again)
				}
				d.Tests = tests
			}
		})
	}
	for _, d := range cars {
		work <- d
	}
	close(work)
	g.Wait()
	writeDrawn(t, cars)
}

func writeDrawn(t *testing.T, out []*drawn) {
	t.Helper()
	var buf bytes.Buffer
	z, _ := gzip.NewWriterLevel(&buf, gzip.BestCompression)
	for _, d := range out {
		if d == nil {
			continue
		}
		line, err := json.Marshal(d)
		if err != nil {
			t.Fatal(err)
		}
		_, _ = z.Write(append(line, '\n'))
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll("testdata", 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(drawnFile, buf.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
}

func readDrawn(t *testing.T) (out []*drawn) {
	t.Helper()
	f, err := os.Open(drawnFile)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	z, err := gzip.NewReader(f)
	if err != nil {
		t.Fatal(err)
	}
	in := bufio.NewScanner(z)
	in.Buffer(nil, 1<<20)
	for in.Scan() {
		d := &drawn{}
		if err := json.Unmarshal(in.Bytes(), d); err != nil {
			t.Fatal(err)
		}
		out = append(out, d)
	}
	if in.Err() != nil {
		t.Fatal(in.Err())
	}
	return
}

// bins gathers what was said against what was so.
type bins [10]struct{ n, said, was float64 }

func (b *bins) add(p float64, was bool) {
	x := &b[min(int(p*10), 9)]
	x.n++
	x.said += p
	if was {
		x.was++
	}
}

func (b *bins) String() string {
	var s strings.Builder
	for _, x := range b {
		if x.n > 0 {
			fmt.Fprintf(&s, "\n  said %.2f, was %.2f, %5.0f times", x.said/x.n, x.was/x.n, x.n)
		}
	}
	return s.String()
}

// Odds mean what they say: of what is given 70 %, seven in ten are so. On five thousand cars
// drawn as raw readings of the plant, with fuel, weather, tank, engine and noise that the
// reasoning does not know: seen by the units and hands that the Book assumes, and by foreign
// ones.
func TestCalibration(t *testing.T) {
	cars := readDrawn(t)
	if len(cars) < 5000 {
		t.Errorf("%d cars were drawn, at least 5000 are asked for", len(cars))
	}
	for _, x := range []struct {
		name    string
		foreign bool
		few     int
		most    float64
	}{{"units and hands as assumed", false, 1000, 0.02}, {"foreign units and hands", true, 1000, 0.05}} {
		t.Run(x.name, func(t *testing.T) {
			some, most := cars, x.most
			if os.Getenv("WEXTER_LONG") == "" { // all of them in the long form: see make accuracy
				some, most = cars[:min(x.few, len(cars))], x.most+0.015
			}
			top, each, right := judged(t, some, x.foreign)
			t.Logf("%d cars: the likeliest explanation is right in %.1f %%; calibration error %.4f of it, %.4f of every suspect", len(some), 100*right, calibration(top), calibration(each))
			t.Logf("the likeliest explanation:%v", binned(top))
			t.Logf("every suspect:%v", binned(each))
			if calibration(top) > most || calibration(each) > most {
				t.Errorf("calibration error %.4f of the likeliest explanation, %.4f of every suspect; at most %g", calibration(top), calibration(each), most)
			}
		})
	}
}

// judged is what was said of drawn cars, of the likeliest explanation and of every suspect, and
// how often the likeliest was right.
func judged(t *testing.T, cars []*drawn, foreign bool) (top, each []said, right float64) {
	b := ingest.Book()
	var mu sync.Mutex
	var g sync.WaitGroup
	work := make(chan int)
	for range runtime.NumCPU() {
		g.Go(func() {
			for n := range work {
				d := cars[n]
				gr, err := b.Plumbing.Combine(d.Car)
				if err != nil {
					t.Error(err)
					continue
				}
				m, err := diagnose.New(b, ingest.Table(), diagnose.Car{Of: d.Car, Graph: gr, Age: d.Age, Km: d.Km})
				if err != nil {
					t.Error(err)
					continue
				}
				h, err := newWorld(m, rand.New(rand.NewPCG(9, uint64(n))), foreign).told(d)
				if err != nil {
					t.Error(err)
					continue
				}
				s, err := m.Think(h)
				if err != nil {
					t.Errorf("%v, %s: %v", d.Car, d.Truth, err)
					continue
				}
				e := s.Explanations()[0]
				marg := s.Marginals()
				mu.Lock()
				top = append(top, said{e.Odds, e.Key == d.Truth})
				if e.Key == d.Truth {
					right += 1 / float64(len(cars))
				}
				for i, x := range m.Suspects {
					_, has := d.Faults[x.Key]
					each = append(each, said{marg[i], has && d.Truth != diagnose.NoneNow})
				}
				mu.Unlock()
			}
		})
	}
	for n := range cars {
		work <- n
	}
	close(work)
	g.Wait()
	return top, each, right
}

// binned puts what was said into bins of a tenth each.
func binned(all []said) *bins {
	var b bins
	for _, x := range all {
		b.add(x.odds, x.was)
	}
	return &b
}

// strategies are ways to choose the next test: ours, and three that need no reasoning to
// choose (the odds are kept for all of them, so that all know when to stop).
var strategies = []string{"least expected cost", "order of the work", "cheapest first", "likeliest first"}

// usualOrder is the order of the work as it is taught: eyes, valves, size, place, part
// (common practice, no source).
var usualOrder = []string{"look", "valve-bench", "egr-vacuum", "egr-command", "egr-ramp", "crankcase-manometer", "trims", "decay", "smoke", "intake-smoke", "boost-pressure", "purge-running", "vent-path", "sensor-check", "circuit-walk", "check-valve", "cap-check", "eonv-manometer", "egr-coils", "make-up-flow", "part-smoke", "pump-hand", "pump-self-test", "by-pass", "soak-watch"}

// byHand is what it takes to find what the Book's faults do not explain: the price that the
// plan itself puts on it.
const byHand = 240.0

// hunted is one hunt while it goes on.
type hunted struct {
	*drawn
	book   knowledge.Book
	world  *world
	seen   seen
	left   map[string]float64 // faults that are still there
	h      diagnose.History
	cost   float64
	failed *diagnose.Action // the last test that showed something
	times  map[string]int   // how often a test was done on the car as it is
}

// hunt works on a drawn car until its true faults are replaced, or until one was and the car
// no longer shows what it came for: no code after a trip, and the test that failed passes.
// It returns what that took, in minutes and what is worth them: tests, parts replaced for
// nothing, retests. Where what the Book does not know has become the cheapest thing to look
// for, it is looked for, and found.
func (d *drawn) hunt(w *world, strategy string, seen seen) (float64, bool) {
	x := &hunted{drawn: d, book: w.Book, world: w, seen: seen, left: maps.Clone(d.Faults), times: map[string]int{}}
	if d.Truth == diagnose.NoneNow {
		clear(x.left)
	}
	x.h = diagnose.History{{Evidence: []diagnose.Evidence{{Kind: diagnose.Scanned, Codes: d.Codes, Ran: []string{""}, Before: true, Says: "codes"}}}}
	for range 40 {
		s, err := w.Think(x.h)
		if err != nil {
			return x.cost, false
		}
		plan := s.Next(diagnose.Bay{Careful: true})
		marg := s.Marginals()
		best := 0
		for i := range marg {
			if marg[i] > marg[best] {
				best = i
			}
		}
		m := chosen(plan, strategy, w.Suspects[best].Key)
		if marg[best] >= 0.8 || m.Kind == "" {
			m = diagnose.Move{Kind: diagnose.ToReplace, Fault: w.Suspects[best].Key}
		}
		var over, ok bool
		switch m.Kind {
		case diagnose.ToReplace:
			f, _ := x.book.Fault(m.Fault)
			for _, e := range s.Explanations() {
				if e.Key == diagnose.Other && marg[best] < 0.8 && e.Odds/byHand > s.Odds(m.Fault)/(x.price(f)+15) {
					return x.cost + byHand, true
				}
			}
			over, ok = x.renew(f)
		case diagnose.ToStop:
			return x.cost + byHand, true
		case diagnose.ToAsk:
			x.ask(m)
		case diagnose.ToDrive, diagnose.ToWait:
			over, ok = x.drive(m)
		default:
			over, ok = x.test(*m.Action)
		}
		if over {
			return x.cost, ok
		}
	}
	return x.cost, false
}

// chosen is what a strategy does next; without a kind when it has no test left.
func chosen(plan diagnose.Plan, strategy, likeliest string) diagnose.Move {
	var list []diagnose.Move
	for _, m := range plan.Moves {
		if strategy == "least expected cost" {
			return m
		}
		if m.Kind == diagnose.ToTest && m.Action.Bits >= 0.01 {
			list = append(list, m)
		}
	}
	byCost := func(x, y diagnose.Move) int { return cmp.Compare(x.Cost, y.Cost) }
	switch strategy {
	case "order of the work":
		slices.SortStableFunc(list, func(x, y diagnose.Move) int {
			return slices.Index(usualOrder, x.Action.Test) - slices.Index(usualOrder, y.Action.Test)
		})
	case "likeliest first":
		list = slices.DeleteFunc(list, func(x diagnose.Move) bool { return !slices.Contains(x.Action.Accuses, likeliest) })
		fallthrough
	default:
		slices.SortStableFunc(list, byCost)
	}
	if len(list) == 0 {
		return diagnose.Move{}
	}
	return list[0]
}

// price is what a part that is replaced for nothing costs: work, money, and the days until it is
// here at what the plan takes for a day.
func (x *hunted) price(f knowledge.Fault) float64 {
	c := x.book.CostOf(f.Cost)
	return float64(f.Minutes) + cmp.Or(f.Price, c.Price)/66*60 + float64(c.Days)*diagnose.UsualDay
}

// luck makes what befalls the same whoever hunts, and in whatever order things are done.
func (x *hunted) luck(k string) {
	h := fnv.New64a()
	h.Write([]byte(k))
	x.world.rng = rand.New(rand.NewPCG(uint64(x.At.Seed), h.Sum64()))
}

// put adds evidence to the epoch that runs.
func (x *hunted) put(e ...diagnose.Evidence) {
	last := &x.h[len(x.h)-1]
	last.Evidence = append(last.Evidence, e...)
}

// renew replaces a part: over when the car is fixed, or cannot be gone on with.
func (x *hunted) renew(f knowledge.Fault) (over, ok bool) {
	_, hit := x.left[f.Key]
	if !hit { // a part replaced for nothing; what is broken has to be replaced whoever finds it
		x.cost += x.price(f)
	}
	x.cost += 15 // the retest
	delete(x.left, f.Key)
	if len(x.left) == 0 {
		return true, true
	}
	ep := diagnose.Epoch{Repairs: []diagnose.Repair{{Fault: f.Key, Cause: diagnose.NoCause}}}
	well := hit
	if x.failed != nil { // the test that failed is repeated
		if t, e, err := x.showed(*x.failed); err == nil {
			ep.Evidence = append(ep.Evidence, e...)
			well = well && !fails(*x.failed, t)
		}
	}
	codes, err := x.trip()
	if err != nil {
		return true, false
	}
	if well && len(codes) == 0 {
		return true, true
	}
	ep.Evidence = append(ep.Evidence, diagnose.Evidence{Kind: diagnose.Scanned, Codes: codes, Ran: []string{""}, Says: "codes after the repair"})
	x.h = append(x.h, ep)
	return false, false
}

// ask answers a question as the car's customer would.
func (x *hunted) ask(m diagnose.Move) {
	x.cost += m.Cost
	k := "ask|" + m.Sign + fmt.Sprint(x.left)
	yes, told := x.seen.signs[k]
	if !told {
		x.luck(k)
		s, _ := x.book.Sign(m.Sign)
		quiet := 1 - s.Base
		for f := range x.left {
			if p := s.Shows[f]; p > s.Base {
				quiet *= (1 - p) / (1 - s.Base)
			}
		}
		yes = x.world.rng.Float64() >= quiet
		x.seen.signs[k] = yes
	}
	x.put(diagnose.Evidence{ID: m.Sign, Kind: diagnose.Signed, Key: m.Sign, Absent: !yes, Says: m.Name})
}

// drive lets the monitors run and scans again; over when nothing is there and nothing shows.
func (x *hunted) drive(m diagnose.Move) (over, ok bool) {
	x.cost += m.Cost
	codes, err := x.trip()
	if err != nil {
		return true, false
	}
	x.put(diagnose.Evidence{Kind: diagnose.Scanned, Codes: codes, Ran: []string{""}, Says: "codes after a drive"})
	return len(codes) == 0 && len(x.left) == 0, true
}

// test does a test; over when it cannot be done here.
func (x *hunted) test(a diagnose.Action) (over, ok bool) {
	x.cost += a.Cost
	t, e, err := x.showed(a)
	if err != nil {
		return true, false
	}
	if fails(a, t) {
		x.failed = &a
	}
	if len(e) == 0 { // it told nothing; it is not done again
		if a.Test == "decay" {
			return true, false
		}
		e = []diagnose.Evidence{{Kind: diagnose.Done, Test: a.Test, Part: a.Part, Outcome: t.outcome, Says: "nothing told"}}
	}
	x.put(e...)
	return false, false
}

// fails reports whether a test showed what a sound car does not.
func fails(a diagnose.Action, t drawnTest) bool {
	return slices.ContainsFunc(a.Out, func(o diagnose.Outcome) bool {
		return o.Usual && !strings.HasPrefix(t.outcome, o.Key) && t.outcome != "within_limit"
	})
}

// seen is what a car showed already with some of its faults: the same whoever hunts.
type seen struct {
	tests map[string]shownTest
	codes map[string][]string
	signs map[string]bool
}

// shownTest is a test with what the hands wrote down of it.
type shownTest struct {
	drawnTest
	evidence []diagnose.Evidence
}

// showed is what a test shows on the car as it is now, and what was written down of it.
func (x *hunted) showed(a diagnose.Action) (drawnTest, []diagnose.Evidence, error) {
	k := fmt.Sprint(a.Test, "|", a.Part, "|", a.Plug, "|", len(x.left), x.left)
	x.times[k]++
	x.luck(fmt.Sprint("habit|", k, "|", x.times[k]))
	if n := x.times[k]; n > 1 && x.world.rng.Float64() >= x.world.habit { // with care, by a second person
		k = fmt.Sprint(k, "|", n)
	}
	if t, ok := x.seen.tests[k]; ok {
		return t.drawnTest, t.evidence, nil
	}
	t, err := x.do(x.book, x.left, a.Test, a.Part, a.Plug)
	if err != nil {
		return t, nil, err
	}
	e, err := t.evidence(x.book, x.drawn)
	if err != nil {
		return t, nil, err
	}
	x.luck(k)
	e = x.world.read(&t, x.left, e)
	if len(e) == 1 && e[0].Overruled {
		t.outcome = e[0].Outcome
	}
	x.seen.tests[k] = shownTest{t, e}
	return t, e, nil
}

// trip drives the car as it is now and reads its codes.
func (x *hunted) trip() ([]string, error) {
	k := fmt.Sprint(x.left)
	if codes, ok := x.seen.codes[k]; ok {
		return codes, nil
	}
	c, err := x.carOf(x.book, x.left, 0)
	if err != nil {
		return nil, err
	}
	plant, err := sim.Trip(c)
	if err != nil {
		return nil, err
	}
	x.luck("trip|" + k)
	x.seen.codes[k] = x.world.codes(x.left, plant)
	return x.seen.codes[k], nil
}

// TestStrategies compares ways to choose the next test by what the hunt takes until the car
// is fixed. WEXTER_HUNTS=500 gives the figures of docs/reasoning.md; by itself it is a
// look at a few cars.
func TestStrategies(t *testing.T) {
	n, _ := strconv.Atoi(os.Getenv("WEXTER_HUNTS"))
	few := n == 0
	if few {
		n = 1
	}
	b := ingest.Book()
	combos := b.Plumbing.Combinations()
	type result struct {
		cost [4]float64
		done [4]bool
	}
	var out []result
	var mu sync.Mutex
	var g sync.WaitGroup
	work := make(chan int)
	for range runtime.NumCPU() {
		g.Go(func() {
			for i := range work {
				rng := rand.New(rand.NewPCG(77, uint64(i)))
				var d *drawn
				var m *diagnose.Model
				var w *world
				for { // a car that came with a code, whether its trouble is still there or not
					var err error
					if d, m, err = draw(b, combos, rng); err != nil {
						continue
					}
					if d.Faults["not-run"] > 0 || few && strings.HasPrefix(d.Car.Engine, "turbo") {
						continue
					}
					c, err := d.carOf(b, d.Faults, 0)
					if err != nil {
						continue
					}
					plant, err := sim.Trip(c)
					if err != nil {
						continue
					}
					w = newWorld(m, rng, true) // a unit and hands that the reasoning does not know
					if d.Codes = w.codes(d.Faults, plant); len(d.Codes) > 0 {
						break
					}
				}
				var r result
				seen := seen{map[string]shownTest{}, map[string][]string{fmt.Sprint(d.Faults): d.Codes}, map[string]bool{}}
				for k, s := range strategies {
					r.cost[k], r.done[k] = d.hunt(w, s, seen)
				}
				mu.Lock()
				if out = append(out, r); len(out)%25 == 0 { // it takes long
					var sum [4]float64
					for _, x := range out {
						for k := range sum {
							sum[k] += x.cost[k] / float64(len(out))
						}
					}
					t.Logf("%d cars so far, mean min: %.0f", len(out), sum)
				}
				mu.Unlock()
			}
		})
	}
	for i := range n {
		work <- i
	}
	close(work)
	g.Wait()
	var mean [4]float64
	var lost [4]int
	for _, r := range out {
		for k := range strategies {
			mean[k] += r.cost[k] / float64(len(out))
			if !r.done[k] {
				lost[k]++
			}
		}
	}
	for k, s := range strategies {
		var all []float64
		for _, r := range out {
			all = append(all, r.cost[k])
		}
		slices.Sort(all)
		if testing.Verbose() {
			t.Logf("%-20s the dearest %.0f", s, all[max(len(all)-8, 0):])
		}
		t.Logf("%-20s mean %.0f min, median %.0f, nine in ten within %.0f; %d of %d not mended in 40 steps", s, mean[k], all[len(all)/2], all[len(all)*9/10], lost[k], len(out))
	}
	if n < 100 {
		return
	}
	ninth := func(k int) float64 {
		var all []float64
		for _, r := range out {
			all = append(all, r.cost[k])
		}
		slices.Sort(all)
		return all[len(all)*9/10]
	}
	for k := 1; k < len(strategies); k++ {
		if mean[0] > mean[k]*2/3 || ninth(0) > ninth(k)*2/3 {
			t.Errorf("%s takes %.0f min in the mean and %.0f in nine of ten, %s %.0f and %.0f: not a third less", strategies[0], mean[0], ninth(0), strategies[k], mean[k], ninth(k))
		}
	}
	if lost[0]*100 > n {
		t.Errorf("%d of %d were not mended: more than one in a hundred", lost[0], n)
	}
}
