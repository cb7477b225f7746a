package diagnose_test

import (
	"math"
	"math/rand/v2"
	"slices"

	"wexter/core/bench"
	"wexter/core/diagnose"
	"wexter/core/knowledge"
)

// world is what stands between a drawn car and what the reasoning is told: a maker's control unit
// and a pair of hands. The assumed one does as the Book says of them; a foreign one has
// thresholds and numbers of its own, and misreads at a rate of its own, which the reasoning does
// not know.
type world struct {
	*diagnose.Model
	rng     *rand.Rand
	foreign bool
	units   float64 // share of codes that go by practice
	hands   float64 // times the Book's rate of misreading
	naming  map[string]string
	limits  float64 // of leak sizes, times the Book's
	habit   float64 // how often a test that is repeated is read as it was before
	lean    map[string]float64
}

// siblings are groups of codes that one maker gives where another gives the other.
var siblings = map[string]string{"purge-flow": "purge-low", "purge-low": "purge-flow", "purge-passes": "purge-flow", "vent": "vent-shut", "vent-shut": "vent", "lean": "lean-idle",
	"rich": "rich-idle", "lean-idle": "lean", "rich-idle": "rich", "egr-range": "egr-much", "egr-much": "egr-range", "pump": "pump-reference", "meter": "manifold-pressure", "idle-high": "meter"}

func newWorld(m *diagnose.Model, rng *rand.Rand, foreign bool) *world {
	w := &world{Model: m, rng: rng, foreign: foreign, units: m.Book.Practice, hands: 1, limits: 1, habit: 0.6, naming: map[string]string{}, lean: map[string]float64{}}
	if !foreign {
		return w
	}
	w.units, w.hands, w.limits, w.habit = rng.Float64(), 0.5+2.5*rng.Float64(), math.Exp(0.35*rng.NormFloat64()), rng.Float64()
	for _, g := range m.Book.Groups {
		if to, ok := siblings[g.Key]; ok && rng.Float64() < 0.15 {
			w.naming[g.Key] = to
		}
	}
	return w
}

// leans is by how much this maker's odds of a code with a fault differ from the Book's.
func (w *world) leans(group, fault string) float64 {
	if !w.foreign {
		return 1
	}
	k := group + "|" + fault
	if w.lean[k] == 0 {
		w.lean[k] = math.Exp(0.5 * w.rng.NormFloat64())
	}
	return w.lean[k]
}

// codes are what this unit has stored on a car with faults, of which the plant's stored plant.
func (w *world) codes(faults map[string]float64, plant []string) []string {
	var out []string
	for _, g := range w.Book.Groups {
		if !g.Sets(w.Of) {
			continue
		}
		by := w.units
		switch {
		case !w.Knows(g):
			by = 1
		case g.Practice > 0 && !w.foreign:
			by = g.Practice
		}
		stray := g.Base
		if stray == 0 {
			stray = diagnose.CodeStray
		}
		quiet := 1 - stray
		if w.rng.Float64() < by {
			for f, severity := range faults {
				quiet *= 1 - math.Min(w.Practiced(g, f, severity)*w.leans(g.Key, f), 0.95)
			}
		} else if slices.ContainsFunc(g.Codes, func(c string) bool { return slices.Contains(plant, c) }) {
			quiet *= 1 - diagnose.CodeSet
		}
		if w.rng.Float64() < quiet {
			continue
		}
		if to := w.naming[g.Key]; to != "" {
			for _, x := range w.Book.Groups {
				if x.Key == to && x.Sets(w.Of) {
					g = x
				}
			}
		}
		out = append(out, g.Codes[0])
	}
	if own, _ := w.Book.Plumbing.Find(w.Of.Vapour); own.Monitor != "" {
		for _, s := range w.sizes(faults, plant) {
			out = append(out, s)
		}
	}
	return out
}

// sizes are the codes of leak sizes of this unit.
func (w *world) sizes(faults map[string]float64, plant []string) (out []string) {
	n := len(w.Book.Sizes)
	class := 0
	merge := func(c int) {
		switch {
		case c > 0 && class > 0 && c != class:
			class = n + 1
		case c > 0:
			class = c
		}
	}
	if w.rng.Float64() < w.units {
		for f, severity := range faults {
			merge(w.pick(w.PracticeSizes(f, severity, w.limits)))
		}
		if len(faults) == 0 {
			merge(w.pick(w.PlantSizes(nil)))
		}
	} else {
		merge(w.pick(w.PlantSizes(plant)))
	}
	switch {
	case class > n:
		at := w.rng.IntN(n - 1)
		return []string{w.Book.Sizes[at].Codes[0], w.Book.Sizes[at+1].Codes[0]}
	case class > 0:
		return []string{w.Book.Sizes[class-1].Codes[0]}
	}
	return nil
}

// pick draws from odds that need not sum to one.
func (w *world) pick(odds []float64) int {
	sum := 0.0
	for _, v := range odds {
		sum += v
	}
	u := w.rng.Float64() * sum
	for i, v := range odds {
		if u -= v; u < 0 {
			return i
		}
	}
	return len(odds) - 1
}

// read is what these hands write down of a test on a car with faults: what it showed, what
// practice knows that such cars show, or something else by mistake.
func (w *world) read(x *drawnTest, faults map[string]float64, shown []diagnose.Evidence) []diagnose.Evidence {
	rule, _ := bench.Of(x.Test)
	entry, _ := w.Book.Test(x.Test)
	if rule.Odds != bench.FromPlant || len(shown) == 0 || rule.ByPlace != "" {
		return shown
	}
	tried := func(f string) bool {
		fault, _ := w.Book.Fault(f)
		part, ok := fault.Can(w.Graph, w.Of)
		return ok && (rule.On != bench.OnePart || diagnose.Target(w.Graph, fault, part, x.Test) == x.Part)
	}
	outcome := x.outcome
	for _, s := range w.Book.Showings {
		if !slices.Contains(s.Tests, x.Test) {
			continue
		}
		if w.rng.Float64() < s.Base {
			outcome = s.Outcome
		}
		for f := range faults {
			if p := s.Shows[f]; p > 0 && tried(f) && w.rng.Float64() < p {
				outcome = s.Outcome
			}
		}
	}
	misread := w.Book.Misread(x.Test)
	right := outcome
	for _, o := range entry.Outcomes {
		if o.Key != right && o.Means != knowledge.NotDone && w.rng.Float64() < w.hands*misread.Of(o.Key) {
			outcome = o.Key
		}
	}
	if outcome == x.outcome {
		return shown
	}
	return []diagnose.Evidence{{Kind: diagnose.Done, Test: x.Test, Part: x.Part, Outcome: outcome, Overruled: true, Says: x.Test}}
}

// told is all that the reasoning is told of a drawn car in this world.
func (w *world) told(d *drawn) (diagnose.History, error) {
	var ep diagnose.Epoch
	if d.HasCodes {
		ep.Evidence = append(ep.Evidence, diagnose.Evidence{Kind: diagnose.Scanned, Codes: w.codes(d.Faults, d.Codes), Ran: []string{""}, Before: true, Says: "codes"})
	}
	now := d.Faults
	if d.Truth == diagnose.NoneNow {
		now = nil
	}
	for i := range d.Tests {
		e, err := d.Tests[i].evidence(w.Book, d)
		if err != nil {
			return nil, err
		}
		ep.Evidence = append(ep.Evidence, w.read(&d.Tests[i], now, e)...)
	}
	return diagnose.History{ep}, nil
}

// said is an explanation's odds, and whether it was so.
type said struct {
	odds float64
	was  bool
}

// calibration is the expected calibration error over ten bins of equal mass.
func calibration(all []said) float64 {
	slices.SortFunc(all, func(a, b said) int {
		switch {
		case a.odds < b.odds:
			return -1
		case a.odds > b.odds:
			return 1
		}
		return 0
	})
	sum := 0.0
	for i := range 10 {
		part := all[i*len(all)/10 : (i+1)*len(all)/10]
		said, was := 0.0, 0.0
		for _, x := range part {
			said += x.odds
			if x.was {
				was++
			}
		}
		sum += math.Abs(said-was) / float64(len(all))
	}
	return sum
}
