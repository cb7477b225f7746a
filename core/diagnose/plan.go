package diagnose

import (
	"cmp"
	"fmt"
	"math"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"wexter/core/knowledge"
	"wexter/core/plumbing"
)

// Bay is what a shop has and how it works. Costs are in minutes and what is worth minutes.
type Bay struct {
	Kit      []string           // keys of the Book's kit; nil: all of it
	Rate     float64            // money an hour of work; 0 takes UsualRate
	Currency string             // its sign; empty takes UsualCurrency
	Prices   map[string]float64 // of the part of a fault, where the shop has its own
	Day      float64            // what a day of waiting is worth; 0 takes UsualDay
	Policies map[string]string  // option by school of the Book
	Last     string             // the set-up that still stands: see Shares of a test
	Careful  bool               // there are people trained for sealed tanks and high voltage
	Doubts   []string           // ids of evidence that contradicts something: to be repeated
	Access   map[string]int     // minutes to reach a part on this car, from its access cards
}

// Worth says in money what minutes come to at the shop's rate, with what is worth minutes:
// work, parts and waiting together.
func (b Bay) Worth(minutes float64) string {
	return fmt.Sprintf("%.0f %s", minutes/60*cmp.Or(b.Rate, UsualRate), cmp.Or(b.Currency, UsualCurrency))
}

// Genuine reports whether a part of this kind is bought genuine: always where that is the
// shop's way, otherwise where poor copies come back most, at caps, valves and seals.
func (b Bay) Genuine(k plumbing.Kind) bool {
	return b.Policies[knowledge.SchoolParts] == "genuine" || slices.Contains([]plumbing.Kind{plumbing.Cover, plumbing.Valve, plumbing.Relief, plumbing.Check, plumbing.Seal}, k)
}

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
	Sign    string // of a question, that is no test
	Part    string // that is tried by itself, or looked at
	Plug    string // line that is plugged for a hold
	Name    string
	Minutes float64 // of work, access and set-up included
	Days    int
	Hazard  int
	Cost    float64 // what it costs now, in minutes and what is worth them
	Expect  float64 // the expected cost until the car is fixed, this action included
	Bits    float64 // what it tells
	Why     string
	Repeat  string   // what to do differently, where it was done before
	Breaks  float64  // min, what joints that it disturbs may cost; in Cost
	First   string   // why a hand would do it first; empty when the cost alone decides
	Missing []string // kit that the bay has not
	Barred  string   // why it is not offered here, though the kit is there
	Out     []Outcome
	Clears  []string // faults that its usual outcome makes much less likely
	Accuses []string // faults that another outcome makes much more likely
	Entry   string   // where gauge, supply or smoke is joined
	Set     plumbing.Settings

	odds  [][]float64 // [outcome][particle]
	calm  []float64   // weight of each suspect after the usual outcome, and after any other
	alarm []float64
	quiet float64 // odds of the usual outcome
	share float64 // of Expect that counts in the shop's school of which leak first
}

// Else is the key of rare outcomes put together.
const Else = "else"

// Swap is replacing a suspect's part without having proven it bad.
type Swap struct {
	Fault     string
	Name      string
	Odds      float64
	Minutes   float64 // of work and retest
	Price     float64
	Days      int     // until the part is here
	Cost      float64 // of the attempt
	Expect    float64 // until the car is fixed, when this is done first
	BreakEven float64 // odds from which it costs less than the test that would prove the part; 0 when none would
	Prove     string  // that test
}

// Plan is what may be done next, best first.
type Plan struct {
	Moves   []Move   // of every kind, best first
	Actions []Action // the tests among them, that this bay can do
	Without []Action // that lack kit or are barred here
	Swaps   []Swap
	Now     float64 // expected cost when nothing more is tested: parts replaced in the order of odds over cost
	First   string  // what is best where that is no test: a suspect, NoneNow or Other
	Instead string  // a sentence on it; empty where a test is best
	Buy     []Purchase
}

// Purchase is what a further instrument would save on this car.
type Purchase struct {
	Kit   string
	Saves float64 // min
	For   string  // the test it would be used for
}

// How many actions may follow another, how far beyond the leader one is still looked at, and the
// share of what the best test tells that a test must tell (chosen here).
const (
	lookWide   = 8
	lookDeeper = 3 // of what the bay cannot do
	lookFor    = 1.15
	leastBits  = 0.12
)

// planner holds what working out a plan needs: the state, the bay, and the odds
// gathered and priced once.
type planner struct {
	*State
	bay    Bay
	marg   []float64 // odds of each suspect, alone or with another
	ps     []particle
	gs     []group
	now    []float64 // odds of each group
	repair float64   // expected cost of the repair itself, whatever is done before
	mend   []float64 // cost of each suspect's repair; the last two: none-now, other
	// What may be tried: tests and the search, and by suspect its part alone.
	tests, alone []try
}

func (s *State) planner(bay Bay) *planner {
	p := &planner{State: s, bay: bay, marg: s.Marginals()}
	p.ps, p.gs = s.cloud()
	n := len(s.Suspects)
	p.mend = make([]float64, n+2)
	for i := range s.Suspects {
		p.mend[i] = s.mend(i, bay)
	}
	p.mend[n], p.mend[n+1] = waitNone, byHand
	p.now = make([]float64, len(p.gs))
	for g := range p.gs {
		p.now[g] = p.gs[g].total
	}
	p.repair = p.newCourse().begin(p.now)
	return p
}

// Next ranks what may be done, by the cost still expected until the car is fixed.
func (s *State) Next(bay Bay) Plan {
	p := s.planner(bay)
	plan := Plan{Now: p.price(p.now)}
	open, rest := p.ranked()
	for _, a := range open {
		p.describe(a)
	}
	open = slices.DeleteFunc(open, func(a *Action) bool { return !a.changes() })
	plan.Moves = p.moves(open)
	for _, m := range plan.Moves {
		if m.Kind == ToTest {
			plan.Actions = append(plan.Actions, *m.Action)
		}
	}
	best := math.Inf(1)
	for _, m := range plan.Moves {
		best = math.Min(best, m.Expect)
	}
	if m := plan.Moves[0]; m.Kind != ToTest {
		plan.First, plan.Instead = cmp.Or(m.Fault, map[MoveKind]string{ToStop: Other}[m.Kind], NoneNow), m.Name+". "+m.Why
	}
	for _, a := range rest {
		p.describe(a)
		plan.Without = append(plan.Without, *a)
	}
	plan.Buy = p.purchases(rest, best)
	plan.Swaps = p.swaps(open)
	return plan
}

// changes reports whether an outcome of an action could change what is thought of any suspect.
func (a *Action) changes() bool { return len(a.Accuses)+len(a.Clears) > 0 }

// able reports whether a bay can do an action.
func (a *Action) able() bool { return len(a.Missing) == 0 && a.Barred == "" }

// ranked returns the actions that this bay can do, best first, and those that it cannot.
func (p *planner) ranked() (open, rest []*Action) {
	list := p.actions()
	list = slices.DeleteFunc(list, func(a Action) bool { return p.was(&a) })
	for i := range list {
		p.was(&list[i]) // says why it is a repeat
	}
	tells := make([]bool, len(list))
	side(len(list), func(i int) {
		a := &list[i]
		tells[i] = p.expect(a)
	})
	var able []*Action
	for i := range list {
		if tells[i] && list[i].able() && list[i].Sign == "" {
			able = append(able, &list[i])
		}
	}
	p.tries(able)
	side(len(list), func(i int) {
		a := &list[i]
		if tells[i] {
			a.Expect, a.Bits = p.value(a)
			a.share = 1
			if school := p.bay.Policies[knowledge.SchoolOrder]; school == "gross" || school == "small" {
				a.share -= lean * p.leans(a, school)
			}
		}
	})
	var asks []*Action
	for i := range list {
		switch a := &list[i]; {
		case !tells[i]:
		case a.Sign != "":
			asks = append(asks, a)
		case a.able():
			open = append(open, a)
		default:
			rest = append(rest, a)
		}
	}
	for _, l := range [][]*Action{open, rest, asks} {
		slices.SortStableFunc(l, cheaper)
	}
	tell := telling(open)
	more := slices.Clone(open[:min(tell, lookWide)])
	leader := p.deepen(open[:tell], more, math.Inf(1))
	p.deepen(rest[:min(len(rest), lookDeeper)], more, leader)
	asks = slices.DeleteFunc(asks[:min(len(asks), lookDeeper)], func(a *Action) bool { return a.Bits < leastBits/2*bitsOf(open) })
	p.deepen(asks, more, leader)
	return append(open, asks...), rest
}

// bitsOf is what the best of some actions tells, bits.
func bitsOf(list []*Action) (most float64) {
	for _, a := range list {
		most = math.Max(most, a.Bits)
	}
	return most
}

// cheaper orders actions by the expected cost of them, less what a school takes off.
func cheaper(a, b *Action) int { return cmp.Compare(a.Expect*a.share, b.Expect*b.share) }

// telling puts actions that tell enough before the others, and returns how many there are. What
// tells next to nothing is not worth its place, however cheap: with the best test behind it, it
// would look nearly as good as that.
func telling(open []*Action) (n int) {
	tells := func(a *Action) bool { return a.Bits >= leastBits*bitsOf(open) }
	slices.SortStableFunc(open, func(a, b *Action) int { return btoi(tells(b)) - btoi(tells(a)) })
	for n < len(open) && tells(open[n]) {
		n++
	}
	return n
}

// deepen looks deeper below all actions of a list, so that they stand on one footing: after each
// outcome the better of going on by the rule of thumb and the best further test. One is left
// as soon as what is certain of it by then lies far beyond the leader. It orders the list, and
// returns the expected cost of the best.
func (p *planner) deepen(list, more []*Action, leader float64) float64 {
	if len(list) == 0 {
		return leader
	}
	from := 0
	if math.IsInf(leader, 1) {
		list[0].Expect = p.deeper(list[0], more, leader)
		leader, from = list[0].Expect*list[0].share, 1
	}
	side(len(list)-from, func(i int) {
		a := list[i+from]
		a.Expect = p.deeper(a, more, lookFor*leader/a.share)
	})
	slices.SortStableFunc(list, cheaper)
	return math.Min(leader, list[0].Expect*list[0].share)
}

// purchases says what each piece of kit that alone is missing would save, against the
// best that can be done without it.
func (p *planner) purchases(rest []*Action, best float64) (out []Purchase) {
	saves := map[string]Purchase{}
	for _, a := range rest {
		if len(a.Missing) == 1 && a.Barred == "" {
			if k := a.Missing[0]; best-a.Expect > saves[k].Saves+0.5 {
				saves[k] = Purchase{k, best - a.Expect, a.Name}
			}
		}
	}
	for _, k := range p.Book.Kit {
		if x, ok := saves[k.Key]; ok {
			out = append(out, x)
		}
	}
	slices.SortStableFunc(out, func(a, b Purchase) int { return cmp.Compare(b.Saves, a.Saves) })
	return out
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

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}
