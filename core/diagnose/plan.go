package diagnose

import (
	"cmp"
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
	Kit      []string          // keys of the Book's kit; nil: all of it
	Rate     float64           // money an hour of work; 0 takes 66
	Day      float64           // what a day of waiting is worth; 0 takes 120 min
	Policies map[string]string // option by school of the Book
	Last     string            // the set-up that still stands: see Shares of a test
	Careful  bool              // there are people trained for sealed tanks and high voltage
	Access   map[string]int    // minutes to reach a part on this car, from its access cards
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

	odds  [][]float64 // [outcome][particle]
	calm  []float64   // weight of each suspect after the usual outcome, and after any other
	alarm []float64
	quiet float64 // odds of the usual outcome
	share float64 // of Expect that counts in the shop's school of which leak first
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

// How many actions are looked at more deeply, and how many may follow each.
const (
	lookDeeper = 4
	lookWide   = 8
)

// planner holds what all of a plan's reckoning needs: the state, the bay, and the odds
// gathered and priced once.
type planner struct {
	*State
	bay  Bay
	marg []float64 // odds of each suspect, alone or with another
	ps   []particle
	gs   []group
	now  []float64 // odds of each group
	mend []float64 // cost of each suspect's repair; the last two: none-now, other
}

func (s *State) planner(bay Bay) *planner {
	p := &planner{State: s, bay: bay, marg: s.Marginals()}
	p.ps, p.gs = s.cloud()
	n := len(s.Suspects)
	p.mend = make([]float64, n+2)
	for i := range s.Suspects {
		p.mend[i] = s.mend(i, bay)
	}
	p.mend[n], p.mend[n+1] = waitNone, findOther
	p.now = make([]float64, len(p.gs))
	for g := range p.gs {
		p.now[g] = p.gs[g].total
	}
	return p
}

// Next ranks what may be done, by what it is then still to cost until the car is fixed.
func (s *State) Next(bay Bay) Plan {
	p := s.planner(bay)
	plan := Plan{Now: p.price(p.now, -1), First: p.first()}
	open, rest := p.ranked(plan.Now)
	for _, a := range open {
		p.describe(a)
		plan.Actions = append(plan.Actions, *a)
	}
	best := plan.Now
	if len(open) > 0 && open[0].Expect < best {
		best = open[0].Expect
	} else {
		plan.Instead = p.instead(plan.First)
	}
	for _, a := range rest {
		p.describe(a)
		plan.Without = append(plan.Without, *a)
	}
	plan.Buy = p.purchases(rest, best)
	plan.Swaps = p.swaps(open)
	return plan
}

// able reports whether a bay can do an action.
func (a *Action) able() bool { return len(a.Missing) == 0 && a.Barred == "" }

// ranked returns the actions that this bay can do, best first, and those that it cannot.
// now is what is expected when nothing more is tested.
func (p *planner) ranked(now float64) (open, rest []*Action) {
	list := slices.DeleteFunc(p.actions(), p.was)
	tells := make([]bool, len(list))
	side(len(list), func(i int) {
		a := &list[i]
		if tells[i] = p.expect(a); tells[i] {
			a.Expect, a.Bits = p.value(a, nil)
			a.share = 1
			if school := p.bay.Policies[knowledge.SchoolOrder]; school == "gross" || school == "small" {
				a.share -= lean * p.leans(a, school)
			}
		}
	})
	var can []*Action
	for i := range list {
		if tells[i] {
			can = append(can, &list[i])
		}
	}
	rank := func(a, b *Action) int { return cmp.Compare(a.Expect*a.share, b.Expect*b.share) }
	slices.SortStableFunc(can, rank)
	for _, a := range can {
		if a.able() {
			open = append(open, a)
		} else {
			rest = append(rest, a)
		}
	}
	// What tells next to nothing is not worth its place, however cheap: with the best test
	// behind it, it would look nearly as good as that.
	most := 0.0
	for _, a := range open {
		most = math.Max(most, a.Bits)
	}
	telling := func(a *Action) bool { return a.Bits >= 0.12*most && a.Expect < now }
	slices.SortStableFunc(open, func(a, b *Action) int { return btoi(telling(b)) - btoi(telling(a)) })
	tell := 0
	for tell < len(open) && telling(open[tell]) {
		tell++
	}
	// Look deeper below the best few: after each outcome the better of repairing and the
	// best of some further tests.
	side(min(tell, lookDeeper), func(i int) {
		open[i].Expect = p.deeper(open[i], open[:min(len(open), lookWide)])
	})
	slices.SortStableFunc(open[:min(tell, lookDeeper)], rank)
	return open, rest
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
