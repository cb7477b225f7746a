package diagnose

import (
	"cmp"
	"fmt"
	"math"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"wexter/core/knowledge"
	"wexter/core/plumbing"
)

// Bay is what a shop has and how it works. Costs are in minutes and what is worth minutes.
type Bay struct {
	Kit      []string          // keys of the Book's kit; nil: all of it
	Rate     float64           // money an hour of work; 0 takes 66
	Day      float64           // what a day of waiting is worth; 0 takes 120 min
	Policies map[string]string // option by school of the Book
	Last     string            // the set-up that still stands: see Shares of a test
	Careful  bool              // there are people trained for sealed tanks and high voltage
	Access   map[string]int    // minutes to reach a part on this car, from its access cards
}

// Prices in minutes that the Book does not give, chosen here.
const (
	usualRate  = 66.0
	usualDay   = 120.0
	retest     = 15.0  // of the test that failed, after a part was renewed
	waitNone   = 60.0  // to run the monitor and see, when nothing is there
	findOther  = 240.0 // what it takes to find what is not in the Book
	forbidden  = 1e6
	plugHand   = 2.0
	lookAtPart = 5.0
	// What a school of gross or small leaks first takes off a test that is about these only.
	lean = 0.2
	// A leak is gross from 0.080 in of diameter on.
	gross = 2.032e-3
	// Smoke generators fill with some 10 L/min, and a mixed volume takes two to three changes
	// (common practice, no source).
	smokeFlow, smokeChanges = 10.0, 2.5
	// A proven equal costs some three fifths of the genuine part (common practice, no source).
	equalPrice = 0.6
)

var hazardMinutes = [4]float64{0, 2, 6, 60}

// Outcome is what may come out of an action.
type Outcome struct {
	Key, Name string
	Odds      float64
	Usual     bool   // what a sound car shows
	Best      string // the likeliest explanation then, in words
	BestOdds  float64
}

// Action is something that may be done next: a test of the Book on this car.
type Action struct {
	Test    string
	Part    string // that is tried by itself, or looked at
	Plug    string // line that is plugged for a hold
	Name    string
	Minutes float64 // of work, access and set-up included
	Days    int
	Hazard  int
	Cost    float64 // what it costs now, in minutes and what is worth them
	Expect  float64 // what is to be expected until the car is mended, this action included
	Bits    float64 // what it tells
	Why     string
	Missing []string // kit that the bay has not
	Barred  string   // why it is not offered here, though the kit is there
	Out     []Outcome
	Clears  []string // faults that its usual outcome makes much less likely
	Accuses []string // faults that another outcome makes much more likely
	Entry   string   // where gauge, supply or smoke is joined
	Set     plumbing.Settings

	odds [][]float64 // [outcome][particle]
	part float64     // of Expect that counts in the shop's school of which leak first
}

// Else is the key of rare outcomes put together.
const Else = "else"

// Swap is renewing a suspect's part without having proven it bad.
type Swap struct {
	Fault     string
	Name      string
	Odds      float64
	Minutes   float64 // of work and retest
	Price     float64
	Cost      float64 // of the attempt
	Expect    float64 // until the car is mended, when this is done first
	BreakEven float64 // odds from which it costs less than the test that would prove the part; 0 when none would
	Prove     string  // that test
}

// Plan is what may be done next, best first.
type Plan struct {
	Actions []Action // that this bay can do
	Without []Action // that lack kit or are barred here
	Swaps   []Swap
	Now     float64 // expected cost when nothing more is tested: parts renewed in the order of odds over cost
	First   string  // what is first in that order: a suspect, NoneNow or Other
	Instead string  // a sentence on First where no test is worth its time; empty where one is
	Buy     []Purchase
}

// Purchase is what a further instrument would save on this car.
type Purchase struct {
	Kit   string
	Saves float64 // min
	For   string  // the test it would be used for
}

// particle is a share of the odds: an explanation with its steps and kind of car.
type particle struct {
	a, b, ka, kb, j int // suspects, -1 for none
	group           int // explanation, index
	w               float64
}

type group struct {
	a, b  int // suspects, -1 for none; a: -1 none-now, -2 other
	total float64
}

// How many explanations and shares of them a plan looks at.
const (
	mostGroups    = 110
	mostParticles = 1300
	lookDeeper    = 4
	lookWide      = 8
)

// cloud is the pruned odds that a plan works on.
func (s *State) cloud() ([]particle, []group) {
	gs, all := make([]group, 0, 1<<10), make([]particle, 0, 1<<13)
	least := 0.0 // what is too light to be among the heaviest is left aside before they are ordered
	for _, rows := range [][]float64{s.w.single, s.w.pair, s.w.none[:], s.w.other[:]} {
		for _, v := range rows {
			least = max(least, v*1e-5)
		}
	}
	add := func(a, b int, row []float64, pair bool) {
		t := 0.0
		for _, v := range row {
			t += v
		}
		if t < 1e-5 {
			return
		}
		g := len(gs)
		gs = append(gs, group{a, b, t})
		for x, v := range row {
			if v < least {
				continue
			}
			p := particle{a: a, b: b, j: x % kinds, group: g, w: v}
			if pair {
				p.ka, p.kb = x/kinds/steps, x/kinds%steps
			} else {
				p.ka = x / kinds
			}
			all = append(all, p)
		}
	}
	for i := range s.Suspects {
		add(i, -1, s.w.single[i*shades:(i+1)*shades], false)
	}
	// A second fault that nothing speaks for is not what the car came for: the pair is mended
	// with the other one.
	single := map[int]int{}
	for g, x := range gs {
		single[x.a] = g
	}
	raised := s.Marginals()
	for i, p := range (&State{Model: s.Model, w: s.prior()}).Marginals() {
		raised[i] /= math.Max(p, 1e-9)
	}
	loud := func(a, b int) bool { return raised[b] < 1.5 && raised[a] > 4*raised[b] }
	for i, q := range s.pairs {
		n, from := len(gs), len(all)
		add(q[0], q[1], s.w.pair[i*pairShades:(i+1)*pairShades], true)
		if len(gs) == n {
			continue
		}
		for _, o := range [][2]int{{q[0], q[1]}, {q[1], q[0]}} {
			if g, ok := single[o[0]]; ok && loud(o[0], o[1]) {
				for k := from; k < len(all); k++ {
					all[k].group = g
				}
				gs[g].total += gs[n].total
				gs = gs[:n]
				break
			}
		}
	}
	add(-1, -1, s.w.none[:], false)
	add(-2, -1, s.w.other[:], false)
	order := make([]int, len(gs))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(x, y int) int { return cmp.Or(cmp.Compare(gs[y].total, gs[x].total), x-y) })
	keep := map[int]int{}
	for n, g := range order {
		if n < mostGroups {
			keep[g] = n
		}
	}
	all = slices.DeleteFunc(all, func(p particle) bool { _, ok := keep[p.group]; return !ok })
	slices.SortFunc(all, func(x, y particle) int {
		return cmp.Or(cmp.Compare(y.w, x.w), x.a-y.a, x.b-y.b, x.ka-y.ka, x.kb-y.kb, x.j-y.j)
	})
	all = all[:min(len(all), mostParticles)]
	kept := make([]group, len(keep))
	sum := 0.0
	for g, n := range keep {
		kept[n] = gs[g]
		kept[n].total = 0
	}
	for i := range all {
		all[i].group = keep[all[i].group]
		sum += all[i].w
	}
	for i := range all {
		all[i].w /= sum
		kept[all[i].group].total += all[i].w
	}
	return all, kept
}

// Genuine reports whether a part of this kind is bought genuine: always where that is the
// shop's way, otherwise where poor copies come back most, at caps, valves and seals.
func (b Bay) Genuine(k plumbing.Kind) bool {
	return b.Policies["parts"] == "genuine" || slices.Contains([]plumbing.Kind{plumbing.Cover, plumbing.Valve, plumbing.Relief, plumbing.Check, plumbing.Seal}, k)
}

// Price is what a suspect's part costs in this bay. The Book's prices are for caps, valves
// and seals genuine and the others proven equals.
func (s *State) Price(f knowledge.Fault, bay Bay) float64 {
	price := s.Book.CostOf(f.Cost).Price
	i, ok := s.index[f.Key]
	if !ok {
		return price
	}
	p, _ := s.Graph.Part(s.Suspects[i].Part)
	if p.Key != "" && bay.Genuine(p.Kind) && !(Bay{}).Genuine(p.Kind) {
		price /= equalPrice
	}
	return price
}

// mend is what renewing a suspect's part costs, the retest included.
func (s *State) mend(i int, bay Bay) float64 {
	f := s.Suspects[i]
	rate := cmp.Or(bay.Rate, usualRate)
	if bay.Policies["egr"] == "clean" && strings.Contains(f.Order, "cleaning") { // its time instead of the part
		return 1.5*float64(f.Minutes) + retest
	}
	return float64(f.Minutes) + s.Price(f.Fault, bay)/rate*60 + retest
}

// price is what is still to be expected when nothing more is tested: parts are renewed one
// after another in rising cost over odds, each followed by the test that failed, until the
// car is well. first is renewed before all others; -1 leaves the order free.
func (s *State) price(gs []group, p, mend []float64, first int) float64 {
	n := len(s.Suspects)
	marg := make([]float64, n+2) // the last two: none-now, other
	for g, x := range gs {
		switch {
		case x.a == -1:
			marg[n] += p[g]
		case x.a == -2:
			marg[n+1] += p[g]
		default:
			marg[x.a] += p[g]
			if x.b >= 0 {
				marg[x.b] += p[g]
			}
		}
	}
	order := make([]int, 0, 48)
	for i, v := range marg {
		if v > 1e-9 {
			order = append(order, i)
		}
	}
	slices.SortFunc(order, func(x, y int) int {
		if x == first || y == first {
			return btoi(y == first) - btoi(x == first)
		}
		return cmp.Or(cmp.Compare(marg[y]*mend[x], marg[x]*mend[y]), x-y)
	})
	after := make([]float64, n+2)
	t := 0.0
	for _, i := range order {
		t += mend[i]
		after[i] = t
	}
	sum := 0.0
	for g, x := range gs {
		switch {
		case x.a == -1:
			sum += p[g] * after[n]
		case x.a == -2:
			sum += p[g] * after[n+1]
		case x.b >= 0:
			sum += p[g] * math.Max(after[x.a], after[x.b])
		default:
			sum += p[g] * after[x.a]
		}
	}
	return sum
}

// first is what costs least for its odds: what would be tried first when nothing more is
// tested.
func (s *State) first(gs []group, mend []float64) string {
	key, best := "", math.Inf(1)
	marg := make([]float64, len(mend))
	for _, x := range gs {
		at := x.a
		switch x.a {
		case -1:
			at = len(mend) - 2
		case -2:
			at = len(mend) - 1
		}
		marg[at] += x.total
		if x.b >= 0 {
			marg[x.b] += x.total
		}
	}
	for i, p := range marg {
		if p <= 0 || mend[i]/p >= best {
			continue
		}
		best = mend[i] / p
		switch i {
		case len(mend) - 2:
			key = NoneNow
		case len(mend) - 1:
			key = Other
		default:
			key = s.Suspects[i].Key
		}
	}
	return key
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// outcome is one way an action may end, with its likelihood.
type outcome struct {
	Outcome
	like likelihood
}

// sizes of a hold's outcome that a plan tells apart.
var holdOutcomes = []struct {
	key, name string
	low, high float64
}{
	{"holds", "holds", 0, 0.25e-3},
	{"small", "leaks, within 0.020 in", 0.25e-3, 0.508e-3},
	{"over", "leaks, over 0.020 in", 0.508e-3, 2e-3},
	{"wide", "wide open, or cannot be charged", 2e-3, math.Inf(1)},
}

func (m *Model) holdWords(entry string, set plumbing.Settings) []outcome {
	low, high, err := m.spans(entry, set, false)
	if err != nil {
		return nil
	}
	var out []outcome
	for i, o := range holdOutcomes {
		out = append(out, outcome{Outcome{Key: o.key, Name: o.name, Usual: i == 0}, newHoles(within(o.low, o.high, 0.12), low, high)})
	}
	return out
}

func (m *Model) flowWords(entry string, set plumbing.Settings) []outcome {
	low, high, err := m.spans(entry, set, false)
	if err != nil {
		return nil
	}
	return []outcome{{Outcome{Key: "below", Name: "less than the reference", Usual: true}, newHoles(within(0, 0.508e-3, 0.1), low, high)},
		{Outcome{Key: "above", Name: "more than the reference"}, newHoles(within(0.508e-3, math.Inf(1), 0.1), low, high)}}
}

func (m *Model) testWords(test, part, entry string, set plumbing.Settings) []outcome {
	pr, err := m.predict(test, part, entry, set)
	if err != nil {
		return nil
	}
	t, _ := m.Book.Test(test)
	var out []outcome
	for i, k := range pr.outcomes {
		l, err := pr.words(k)
		if err != nil {
			return nil
		}
		name := k
		for _, w := range t.Outcomes {
			if w.Key == k {
				name = w.Name
			}
		}
		if kind, at, ok := strings.Cut(k, ":"); ok {
			p, _ := m.Graph.Part(at)
			name = map[string]string{"exit": "smoke at the ", "seen": "damage seen: "}[kind] + knowledge.Lower(p.Name)
			if test == "boost-pressure" {
				name = "air at the " + knowledge.Lower(p.Name)
			}
		}
		out = append(out, outcome{Outcome{Key: k, Name: name, Usual: i == pr.usual}, l})
	}
	return out
}

// outcomes are the ways an action may end.
func (m *Model) outcomes(a *Action) []outcome {
	switch a.Test {
	case wholeHold:
		return m.holdWords(a.Entry, a.Set)
	case "make-up-flow":
		return m.flowWords(a.Entry, a.Set)
	}
	return m.testWords(a.Test, a.Part, a.Entry, a.Set)
}

// actions lists everything that could be done on this car.
func (s *State) actions(bay Bay, marg []float64) []Action {
	arch, sealed := s.Book.Archetype(s.Of.Vapour)
	usual := arch.Settings()
	entry := arch.Entry
	if _, ok := s.Graph.Part(entry); !ok {
		sealed = false
	}
	for k := range usual {
		if _, ok := s.Graph.Part(k); !ok {
			delete(usual, k)
		}
	}
	var out []Action
	reach := func(part string) float64 {
		if n, ok := bay.Access[part]; ok {
			return float64(n)
		}
		p, _ := s.Graph.Part(part)
		return float64(p.Minutes)
	}
	add := func(t knowledge.Test, part, plug string, set plumbing.Settings, extra float64) {
		a := Action{Test: t.Key, Part: part, Plug: plug, Name: t.Name, Minutes: float64(t.Minutes) + extra, Days: t.Days, Hazard: t.Hazard, Entry: "", Set: set}
		if set != nil {
			a.Entry = entry
		}
		if t.Shares != "" && t.Shares == bay.Last {
			a.Minutes -= float64(t.Saves)
		}
		a.Cost = a.Minutes + hazardMinutes[t.Hazard] + float64(t.Days)*cmp.Or(bay.Day, usualDay)
		p, _ := s.Graph.Part(part)
		switch {
		case plug != "":
			l, _ := s.Graph.Part(plug)
			a.Name = "Hold, plugged at the " + knowledge.Lower(s.Graph.PlugName(l))
		case part != "" && t.Key == "look":
			a.Name = "Look at the " + knowledge.Lower(p.Name)
		case part != "" && t.Key != "cap-check":
			a.Name = t.Name + ": " + knowledge.Lower(p.Name)
		case t.Key == "decay":
			a.Name = "Hold on the whole system"
		}
		a.Missing = lacking(t, bay.Kit)
		if (t.Hazard == 3 || strings.Contains(s.Of.Vapour, "sealed") && set != nil) && !bay.Careful {
			a.Barred = "trained people only"
		}
		if t.Key == "smoke" && set != nil {
			into, minutes := s.smokeEntry(bay.Policies["entry"], entry, set, marg, reach)
			a.Entry = into
			a.Minutes += minutes
			a.Cost += minutes
		}
		if t.Key == "smoke" && bay.Policies["gas"] == "air" { // inert gas is asked for unless the shop says air
			a.Missing = slices.DeleteFunc(a.Missing, func(k string) bool { return k == "inert" })
		}
		out = append(out, a)
	}
	for _, t := range s.Book.Tests {
		if !t.Fits(s.Of) || t.Key == "readiness" {
			continue
		}
		switch {
		case t.Key == "decay":
			if !sealed {
				continue
			}
			add(t, "", "", usual, 0)
			whole := s.Graph.Reach(entry, usual, false)
			for _, p := range s.Graph.Plugs() {
				if usual[p.Key] != "" || !slices.Contains(whole.Inside, p.Key) {
					continue
				}
				set := plumbing.Settings{p.Key: plumbing.Plugged}
				for k, v := range usual {
					set[k] = v
				}
				if r := s.Graph.Reach(entry, set, false); r.Sealed() && len(r.Inside) < len(whole.Inside) {
					add(t, "", p.Key, set, plugHand+reach(p.Key))
				}
			}
		case t.Key == "make-up-flow" || t.Key == "smoke":
			if sealed {
				add(t, "", "", usual, 0)
			}
		case PartTest(t.Key):
			done := map[string]bool{}
			for i, x := range s.Suspects {
				part := Target(s.Graph, x.Fault, x.Part, t.Key)
				if part == "" || done[part] || marg[i] < 0.004 {
					continue
				}
				done[part] = true
				extra := reach(part)
				if t.Key == "cap-check" {
					extra = 0
				}
				add(t, part, "", nil, extra)
			}
		case t.Key == "look":
			add(t, "", "", nil, 0)
			done := map[string]bool{}
			for i, x := range s.Suspects {
				if marg[i] >= 0.02 && slices.Contains(x.Tests, "look") && !done[x.Part] {
					done[x.Part] = true
					t := t
					t.Minutes = lookAtPart
					add(t, x.Part, "", nil, reach(x.Part))
				}
			}
		case Simulated(t.Key, s.Of):
			add(t, "", "", nil, 0)
		}
	}
	return out
}

// entries are the places where smoke is let into a vapour system, by the option of the
// Book: the service port, the purge line at the valve, the neck instead of its cap.
var entries = map[string]string{"port": "service-port", "purge": "purge-pipe", "neck": "cap"}

// smokeEntry says where smoke goes in, and the minutes that it takes beyond the usual
// place: to get there, and to fill up to where the suspects are.
func (s *State) smokeEntry(policy, usual string, set plumbing.Settings, marg []float64, reach func(string) float64) (string, float64) {
	system := s.Graph.Reach(usual, set, false)
	minutes := func(at string) float64 {
		fill := s.Graph.Fill(at, set)
		t := reach(at)
		for i, x := range s.Suspects {
			if v, ok := fill[x.Part]; ok && x.Part != at {
				t += marg[i] * v * smokeChanges / smokeFlow
			}
			if x.Part == at { // it cannot show then, and takes a test of its own
				t += marg[i] * retest
			}
		}
		return t
	}
	fits := func(at string) bool { return at == usual || at != "" && system.Tests(at) }
	best, least := usual, minutes(usual)
	if at := entries[policy]; fits(at) {
		return at, minutes(at) - least
	}
	if policy != "near" && policy != "" {
		return usual, 0 // this car has no such place
	}
	from := least
	for _, o := range []string{"port", "purge", "neck"} {
		if at := entries[o]; at != usual && fits(at) {
			if t := minutes(at); t < least-1 {
				best, least = at, t
			}
		}
	}
	return best, least - from
}

// leans is the share of a test's alarms that are about gross leaks, or about small ones;
// it is asked for by the school of which leak first.
func (s *State) leans(a *Action, ps []particle, school string) float64 {
	of, all := 0.0, 0.0
	for i, p := range ps {
		if p.a < 0 {
			continue
		}
		alarm := 0.0
		for o := range a.Out {
			if !a.Out[o].Usual {
				alarm += p.w * a.odds[o][i]
			}
		}
		all += alarm
		_, d := s.Suspects[p.a].hole(p.ka, true, true)
		if p.b >= 0 {
			_, e := s.Suspects[p.b].hole(p.kb, true, true)
			d = math.Max(d, e)
		}
		if d > 0 && (d >= gross) == (school == "gross") {
			of += alarm
		}
	}
	if all == 0 {
		return 0
	}
	return of / all
}

// lacking lists the kit that a test needs and a bay has not. What the Book names instead
// stands for one thing that is missing.
func lacking(t knowledge.Test, kit []string) (missing []string) {
	if kit == nil {
		return nil
	}
	for _, k := range t.Kit {
		if !slices.Contains(kit, k) {
			missing = append(missing, k)
		}
	}
	for _, k := range t.Instead {
		if len(missing) > 0 && slices.Contains(kit, k) {
			return missing[1:]
		}
	}
	return missing
}

// was reports whether an action was done in this epoch with a result that stands.
func (s *State) was(a Action) bool {
	if len(s.history) == 0 {
		return false
	}
	for _, e := range s.history[len(s.history)-1].Evidence {
		switch {
		case e.Kind == Held && a.Test == wholeHold:
			same := true
			for k, v := range a.Set {
				same = same && e.Set[k] == v
			}
			for k, v := range e.Set {
				same = same && a.Set[k] == v
			}
			if same {
				return true
			}
		case e.Kind == Done && e.Test == a.Test && e.Part == a.Part:
			return true
		case e.Kind == Looked && a.Test == "look" && a.Part == e.Part:
			return true
		}
	}
	return false
}

// Next ranks what may be done, by what it is then still to cost until the car is mended.
func (s *State) Next(bay Bay) Plan {
	marg := s.Marginals()
	ps, gs := s.cloud()
	n := len(s.Suspects)
	mend := make([]float64, n+2)
	for i := range s.Suspects {
		mend[i] = s.mend(i, bay)
	}
	mend[n], mend[n+1] = waitNone, findOther
	now := make([]float64, len(gs))
	for g := range gs {
		now[g] = gs[g].total
	}
	plan := Plan{Now: s.price(gs, now, mend, -1), First: s.first(gs, mend)}
	var can []*Action
	list := slices.DeleteFunc(s.actions(bay, marg), s.was)
	tells := make([]bool, len(list))
	side(len(list), func(i int) {
		a := &list[i]
		if tells[i] = s.expect(a, ps); tells[i] {
			a.Expect, a.Bits = s.value(a, ps, gs, nil, mend)
			a.part = 1
			if school := bay.Policies["order"]; school == "gross" || school == "small" {
				a.part -= lean * s.leans(a, ps, school)
			}
		}
	})
	rank := func(a, b *Action) int { return cmp.Compare(a.Expect*a.part, b.Expect*b.part) }
	for i := range list {
		if tells[i] {
			can = append(can, &list[i])
		}
	}
	slices.SortStableFunc(can, rank)
	able := func(a *Action) bool { return len(a.Missing) == 0 && a.Barred == "" }
	var open []*Action
	for _, a := range can {
		if able(a) {
			open = append(open, a)
		}
	}
	// What tells next to nothing is not worth its place, however cheap: with the best test
	// behind it, it would look nearly as good as that.
	most := 0.0
	for _, a := range open {
		most = math.Max(most, a.Bits)
	}
	telling := func(a *Action) bool { return a.Bits >= 0.12*most && a.Expect < plan.Now }
	slices.SortStableFunc(open, func(a, b *Action) int { return btoi(telling(b)) - btoi(telling(a)) })
	tell := 0
	for tell < len(open) && telling(open[tell]) {
		tell++
	}
	// Look deeper below the best few: after each outcome the better of renewing and the
	// best of some further tests.
	side(min(tell, lookDeeper), func(i int) {
		open[i].Expect = s.deeper(open[i], open[:min(len(open), lookWide)], ps, gs, mend)
	})
	slices.SortStableFunc(open[:min(tell, lookDeeper)], rank)
	for _, a := range open {
		s.describe(a, ps, gs, marg)
		plan.Actions = append(plan.Actions, *a)
	}
	best := plan.Now
	if len(open) > 0 && open[0].Expect < best {
		best = open[0].Expect
	} else {
		plan.Instead = s.instead(plan.First, marg)
	}
	saves := map[string]Purchase{}
	for _, a := range can {
		if able(a) {
			continue
		}
		s.describe(a, ps, gs, marg)
		plan.Without = append(plan.Without, *a)
		if len(a.Missing) == 1 && a.Barred == "" {
			if k := a.Missing[0]; best-a.Expect > saves[k].Saves+0.5 {
				saves[k] = Purchase{k, best - a.Expect, a.Name}
			}
		}
	}
	for _, k := range s.Book.Kit {
		if p, ok := saves[k.Key]; ok {
			plan.Buy = append(plan.Buy, p)
		}
	}
	slices.SortStableFunc(plan.Buy, func(a, b Purchase) int { return cmp.Compare(b.Saves, a.Saves) })
	plan.Swaps = s.swaps(bay, gs, now, mend, marg, open)
	return plan
}

// instead says what to do where no test lowers what is to be expected.
func (s *State) instead(first string, marg []float64) string {
	switch first {
	case NoneNow:
		return "No test at hand is worth its time now: most likely nothing is there at the moment. Let the monitor run, and see."
	case Other:
		return "No test at hand is worth its time now, and no part: look for what the Book does not know, along the whole system, or repeat the test that you trust least."
	}
	for i, x := range s.Suspects {
		if x.Key == first {
			return fmt.Sprintf("No test at hand is worth its time now: for its odds, %.0f %%, %s costs least to renew. See it bad with your own eyes before you do.", min(100*marg[i], 99), knowledge.Lower(x.Name))
		}
	}
	return ""
}

// side does n independent things, on as many processors as there are.
func side(n int, do func(i int)) {
	var next atomic.Int64
	var g sync.WaitGroup
	for range min(n, runtime.GOMAXPROCS(0)) {
		g.Go(func() {
			for i := int(next.Add(1)) - 1; i < n; i = int(next.Add(1)) - 1 {
				do(i)
			}
		})
	}
	g.Wait()
}

// seldom is an outcome so rare that it is put together with the other rare ones.
const seldom = 0.012

// expect works out how likely each outcome of an action is under every particle.
func (s *State) expect(a *Action, ps []particle) bool {
	outs := s.outcomes(a)
	if len(outs) < 2 {
		return false
	}
	a.odds = make([][]float64, len(outs))
	a.Out = make([]Outcome, len(outs))
	prior := 0.0
	for i := range s.Suspects {
		prior += s.Suspects[i].Prior
	}
	for o := range outs {
		l := outs[o].like
		a.Out[o] = outs[o].Outcome
		v := make([]float64, len(ps))
		var sound, mean [kinds]float64
		for j := range kinds {
			sound[j] = l.sound(j)
			for i := range s.Suspects {
				r := sound[j]
				if l.felt(i) {
					r = 0
					for k := range steps {
						r += l.one(i, k, j) / steps
					}
				}
				mean[j] += r * s.Suspects[i].Prior / prior
			}
		}
		for i, p := range ps {
			switch {
			case p.a == -1:
				v[i] = sound[p.j]
			case p.a == -2:
				v[i] = mean[p.j]
			default:
				fa, fb := l.felt(p.a), p.b >= 0 && l.felt(p.b)
				switch {
				case fa && fb:
					v[i] = l.two(p.a, p.ka, p.b, p.kb, p.j)
				case fa:
					v[i] = l.one(p.a, p.ka, p.j)
				case fb:
					v[i] = l.one(p.b, p.kb, p.j)
				default:
					v[i] = sound[p.j]
				}
			}
		}
		a.odds[o] = v
	}
	for i := range ps {
		t := 0.0
		for o := range a.odds {
			t += a.odds[o][i]
		}
		for o := range a.odds {
			a.odds[o][i] /= math.Max(t, 1e-12)
		}
	}
	for o := range a.odds {
		for i, p := range ps {
			a.Out[o].Odds += p.w * a.odds[o][i]
		}
	}
	// What is rare is put together: it hardly moves the expectation.
	rest, n := -1, 0
	for o := range a.odds {
		switch rare := a.Out[o].Odds < seldom && !a.Out[o].Usual && len(a.odds) > 4; {
		case rare && rest >= 0:
			for i, v := range a.odds[o] {
				a.odds[rest][i] += v
			}
			a.Out[rest].Odds += a.Out[o].Odds
		case rare:
			rest = n
			a.odds[n], a.Out[n] = a.odds[o], Outcome{Key: Else, Name: "something else", Odds: a.Out[o].Odds}
			n++
		default:
			a.odds[n], a.Out[n] = a.odds[o], a.Out[o]
			n++
		}
	}
	a.odds, a.Out = a.odds[:n], a.Out[:n]
	return true
}

// value is what is to be expected of an action, and what it tells in bits. Given is the
// likelihood of what came before, by particle; nil for nothing: only then are bits counted.
func (s *State) value(a *Action, ps []particle, gs []group, given, mend []float64) (cost, bits float64) {
	p, w := make([]float64, len(gs)), make([]float64, len(ps))
	total := 0.0
	for i, x := range ps {
		w[i] = x.w
		if given != nil {
			w[i] *= given[i]
		}
		p[x.group] += w[i]
		total += w[i]
	}
	cost = a.Cost
	if given == nil {
		bits = entropy(p, total)
	}
	for _, odds := range a.odds {
		clear(p)
		t := 0.0
		for i, v := range odds {
			v *= w[i]
			p[ps[i].group] += v
			t += v
		}
		if t <= 1e-9*total {
			continue
		}
		for g := range p {
			p[g] /= t
		}
		cost += t / total * s.price(gs, p, mend, -1)
		if given == nil {
			bits -= t / total * entropy(p, 1)
		}
	}
	return cost, math.Max(bits, 0)
}

// entropy of odds that sum to total, in bits.
func entropy(p []float64, total float64) float64 {
	h := 0.0
	for _, v := range p {
		if v > 0 {
			h -= v / total * math.Log2(v/total)
		}
	}
	return h
}

// deeper is what is to be expected of an action when after each outcome the best of some
// further ones may follow.
func (s *State) deeper(a *Action, more []*Action, ps []particle, gs []group, mend []float64) float64 {
	cost := a.Cost
	p := make([]float64, len(gs))
	for o := range a.odds {
		clear(p)
		t := 0.0
		for i, x := range ps {
			w := x.w * a.odds[o][i]
			p[x.group] += w
			t += w
		}
		if t <= 1e-9 {
			continue
		}
		for g := range p {
			p[g] /= t
		}
		best := s.price(gs, p, mend, -1)
		if t > 0.01 {
			for _, b := range more {
				if b == a {
					continue
				}
				c, _ := s.value(b, ps, gs, a.odds[o], mend)
				best = math.Min(best, c)
			}
		}
		cost += t * best
	}
	return cost
}

// describe says in words what an action would tell.
func (s *State) describe(a *Action, ps []particle, gs []group, marg []float64) {
	name := func(g group) string {
		switch {
		case g.a == -1:
			return "no fault present now"
		case g.a == -2:
			return "something else"
		case g.b >= 0:
			return knowledge.Lower(s.Suspects[g.a].Name) + " and " + knowledge.Lower(s.Suspects[g.b].Name)
		}
		return knowledge.Lower(s.Suspects[g.a].Name)
	}
	calm, alarm := make([]float64, len(s.Suspects)), make([]float64, len(s.Suspects))
	tc, ta := 0.0, 0.0
	raised := make([]bool, len(s.Suspects)) // by an outcome of its own, as an exit at the part
	before := make([]float64, len(s.Suspects))
	for o := range a.Out {
		copy(before, alarm)
		p := make([]float64, len(gs))
		t := 0.0
		for i, x := range ps {
			w := x.w * a.odds[o][i]
			p[x.group] += w
			t += w
			to := alarm
			if a.Out[o].Usual {
				to = calm
			}
			if x.a >= 0 {
				to[x.a] += w
				if x.b >= 0 {
					to[x.b] += w
				}
			}
		}
		if a.Out[o].Usual {
			tc += t
		} else {
			ta += t
			for i := range alarm {
				// It would come often enough if the part is bad.
				w := alarm[i] - before[i]
				raised[i] = raised[i] || t > 0 && w > 1.4*marg[i]*t && w > 0.15*marg[i]
			}
		}
		best := 0
		for g := range p {
			if p[g] > p[best] {
				best = g
			}
		}
		if t > 0 {
			a.Out[o].Best, a.Out[o].BestOdds = name(gs[best]), p[best]/t
		}
	}
	for i := range s.Suspects {
		if marg[i] < 0.01 {
			continue
		}
		if tc > 0 && calm[i]/tc < 0.45*marg[i] {
			a.Clears = append(a.Clears, s.Suspects[i].Key)
		}
		if ta > 0 && alarm[i]/ta > 1.4*marg[i] || raised[i] {
			a.Accuses = append(a.Accuses, s.Suspects[i].Key)
		}
	}
	slices.SortStableFunc(a.Out, func(x, y Outcome) int {
		if x.Usual != y.Usual {
			return btoi(y.Usual) - btoi(x.Usual)
		}
		return cmp.Compare(y.Odds, x.Odds)
	})
	list := func(keys []string) string {
		slices.SortStableFunc(keys, func(x, y string) int { return cmp.Compare(marg[s.index[y]], marg[s.index[x]]) })
		var out []string
		for i, k := range keys {
			if i == 2 && len(keys) > 3 {
				out = append(out, fmt.Sprintf("%d more", len(keys)-2))
				break
			}
			out = append(out, knowledge.Lower(s.Suspects[s.index[k]].Name))
		}
		return strings.Join(out, ", ")
	}
	a.Why = a.words(list, calm, alarm, tc, ta, marg, s)
}

// words says what an action would tell: where, or what it would leave either way.
func (a *Action) words(list func([]string) string, calm, alarm []float64, tc, ta float64, marg []float64, s *State) string {
	if slices.ContainsFunc(a.Out, func(o Outcome) bool { return strings.HasPrefix(o.Key, "exit:") }) {
		seen := 0.0
		for _, o := range a.Out {
			if strings.HasPrefix(o.Key, "exit:") {
				seen += o.Odds
			}
		}
		if seen > 0.15 {
			return fmt.Sprintf("Shows the place: %.0f %% that an exit is seen, and with it the part is all but certain.", 100*seen)
		}
	}
	var left []string // what is likelier after the usual outcome
	for i := range s.Suspects {
		if marg[i] >= 0.01 && tc > 0 && calm[i]/tc > 1.25*marg[i] {
			left = append(left, s.Suspects[i].Key)
		}
	}
	usual, rest := a.Out[0], 0.0
	for _, o := range a.Out[1:] {
		rest += o.Odds
	}
	switch {
	case len(left) > 0 && len(a.Accuses) > 0:
		return fmt.Sprintf("%s: then rather %s. Otherwise: %s.", upperName(usual.Name), list(left), list(a.Accuses))
	case len(a.Accuses) > 0 && len(a.Clears) > 0:
		return fmt.Sprintf("%s: %s would be clear. Otherwise it is most likely there.", upperName(usual.Name), list(a.Clears))
	case len(a.Accuses) > 0:
		return fmt.Sprintf("If not %s (%.0f %%): %s.", usual.Name, 100*rest, list(a.Accuses))
	case len(a.Clears) > 0:
		return fmt.Sprintf("%s: %s would be clear.", upperName(usual.Name), list(a.Clears))
	}
	return "Tells little now."
}

func upperName(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// swaps says what renewing each likely part unproven would cost, and from which odds on it
// costs less than proving it first.
func (s *State) swaps(bay Bay, gs []group, now, mend, marg []float64, open []*Action) []Swap {
	var out []Swap
	for i, x := range s.Suspects {
		if marg[i] < 0.03 || x.Key == notOneFault || x.Order == "" {
			continue
		}
		w := Swap{Fault: x.Key, Name: x.Name, Odds: marg[i], Minutes: float64(x.Minutes) + retest, Price: s.Price(x.Fault, bay), Cost: mend[i], Expect: s.price(gs, now, mend, i)}
		for _, a := range open {
			if slices.Contains(a.Accuses, x.Key) && a.Cost < mend[i] && (w.Prove == "" || 1-a.Cost/mend[i] > w.BreakEven) {
				w.BreakEven, w.Prove = 1-a.Cost/mend[i], a.Name
			}
		}
		out = append(out, w)
	}
	slices.SortStableFunc(out, func(a, b Swap) int { return cmp.Compare(a.Expect, b.Expect) })
	return out
}

// Shows says in words what a test would show if a suspect were there, at the sizes that are
// still likely; empty when the test does not feel it.
func (s *State) Shows(fault string, a Action) string {
	i, ok := s.index[fault]
	if !ok {
		return ""
	}
	outs := s.outcomes(&a)
	severity := s.Severity(fault)
	var names []string
	var odds []float64
	total := 0.0
	for _, o := range outs {
		if !o.like.felt(i) {
			return ""
		}
		p := 0.0
		for k := range steps {
			for j := range kinds {
				p += severity[k] * o.like.one(i, k, j) / kinds
			}
		}
		names, odds, total = append(names, o.Name), append(odds, p), total+p
	}
	var out []string
	for n := range names {
		if odds[n] > 0.15*total {
			out = append(out, fmt.Sprintf("%s %.0f %%", names[n], 100*odds[n]/total))
		}
	}
	return strings.Join(out, ", ")
}

// SizeWords says between which diameters a suspect's hole would lie, given what is known;
// empty for one that is no hole.
func (s *State) SizeWords(fault string) string {
	i, ok := s.index[fault]
	if !ok {
		return ""
	}
	v := s.Severity(fault)
	low, high, sum := 0, steps-1, 0.0
	for k := range steps {
		if sum += v[k]; sum > 0.05 {
			low = k
			break
		}
	}
	sum = 0
	for k := steps - 1; k >= 0; k-- {
		if sum += v[k]; sum > 0.05 {
			high = k
			break
		}
	}
	a, _ := s.Suspects[i].hole(low, true, true)
	_, b := s.Suspects[i].hole(high, true, true)
	if b == 0 {
		return ""
	}
	return fmt.Sprintf("%.2g to %.2g mm", a*1e3, b*1e3)
}
