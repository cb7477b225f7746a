package diagnose

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"wexter/core/bench"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
)

// MoveKind is what a move is.
type MoveKind string

// The kinds of move.
const (
	ToTest    MoveKind = "test"    // a test of the Book
	ToReplace MoveKind = "replace" // a part, without another test
	ToAsk     MoveKind = "ask"     // a question that the customer, or a look in passing, answers
	ToWait    MoveKind = "wait"    // leave the car overnight for its own leak check
	ToDrive   MoveKind = "drive"   // drive until the monitor has run, and scan again
	ToStop    MoveKind = "stop"    // nothing in the Book is worth its time now
)

// Move is one thing that may be done next, of whatever kind; all of them are compared by the
// cost still expected then.
type Move struct {
	Kind    MoveKind
	Action  *Action // of a test
	Fault   string  // of a part to replace
	Sign    string  // of a question
	Name    string
	Minutes float64 // of work
	Money   float64 // for parts, in the shop's money
	Days    int     // to wait
	Cost    float64 // all of that, in minutes and what is worth them
	Expect  float64 // until the car is fixed, this move included
	Why     string
}

// What is about the same, chosen here: an experienced hand's move goes first when no more than
// this is lost by it.
const (
	sameShare   = 0.18
	sameMinutes = 8.0
	worthAsking = 0.9  // of what the best other move leads to, for a question to come first
	tieShare    = 0.02 // what comes to the same
	tieMinutes  = 4.0
	leadShare   = 0.1  // for which what stands out is followed before everything is searched
	standsOut   = 0.25 // a suspect's odds from which on it is followed before everything is searched
	proven      = 0.5  // odds of finding from which on a test proves a part
)

// moves puts the tests and everything that is no test into one order.
func (p *planner) moves(open []*Action) []Move {
	var out []Move
	for _, a := range open {
		kind := ToTest
		if a.Sign != "" {
			kind = ToAsk
		}
		if a.Repeat != "" && !strings.HasPrefix(a.Name, "Repeat: ") {
			a.Name = "Repeat: " + plumbing.Lower(a.Name)
		}
		out = append(out, Move{Kind: kind, Sign: a.Sign, Action: a, Name: a.Name, Minutes: a.Minutes, Days: a.Days, Cost: a.Cost, Expect: a.Expect, Why: a.Why})
	}
	rank := func(a, b Move) int { return cmp.Compare(a.ranked(), b.ranked()) }
	out = append(append(out, p.replacements()...), p.idle()...)
	slices.SortStableFunc(out, rank)
	p.askLast(out)
	p.leadFirst(out)
	p.findsFirst(out)
	p.provenFirst(out)
	p.handsFirst(out)
	return out
}

// askLast keeps questions behind the best move that is none, unless an answer is worth much
// more: they take no time, and tell little.
func (p *planner) askLast(out []Move) {
	at := slices.IndexFunc(out, func(m Move) bool { return m.Kind != ToAsk })
	if at > 0 && out[0].Expect-p.repair > worthAsking*(out[at].Expect-p.repair) {
		toFront(out, at)
	}
}

// leadFirst keeps searching everything by hand behind the best test, question or part, as long as
// a suspect stands out and that costs about the same: what looks most like it is followed first.
func (p *planner) leadFirst(out []Move) {
	if out[0].Kind != ToStop || slices.Max(p.marg) < standsOut {
		return
	}
	at := slices.IndexFunc(out, func(m Move) bool { return m.Kind != ToStop && m.Kind != ToDrive && m.Kind != ToWait })
	if at > 0 && out[at].ranked() <= p.margin(out[0], leadShare, sameMinutes) {
		toFront(out, at)
	}
}

// ranked is the cost by which a move is ordered: schools take something off some tests.
func (m Move) ranked() float64 {
	if m.Action != nil {
		return m.Expect * m.Action.share
	}
	return m.Expect
}

// replacements are the parts that could be replaced without another test.
func (p *planner) replacements() (out []Move) {
	for i, x := range p.Suspects {
		if p.marg[i] < 0.03 || x.Silent() || x.Order == "" {
			continue
		}
		out = append(out, Move{Kind: ToReplace, Fault: x.Key, Name: "Replace without testing: " + plumbing.Lower(x.Name), Minutes: float64(x.Minutes) + Retest, Money: p.Price(x.Fault, p.bay), Days: p.days(i),
			Cost: p.mend[i], Expect: p.unproven(i), Why: fmt.Sprintf("It stands at %.0f %%. See for yourself that the part is bad before you replace it.", math.Min(100*p.marg[i], 99))})
	}
	return out
}

// idle is what may be done without test or part: letting the monitor run, and looking for what
// the Book does not know.
func (p *planner) idle() []Move {
	n := len(p.Suspects)
	own, _ := p.Book.Plumbing.Find(p.Of.Vapour)
	run := Move{Kind: ToDrive, Name: "Drive until the monitor has run, and scan again", Minutes: Driving, Cost: p.mend[n], Expect: p.unproven(n),
		Why: "Most likely no fault is present now. Let the monitor run and see."}
	if plumbing.Overnight(own.Monitor) {
		run.Kind, run.Name, run.Days = ToWait, "Leave the car overnight for its own leak check", 1
	}
	if i, ok := p.index["not-run"]; ok && p.marg[i] > p.outside(-1) {
		run.Expect = math.Min(run.Expect, p.unproven(i))
		run.Why = "Nothing points to a fault: the monitor has not run. Find what holds it back and let it run."
	}
	stop := Move{Kind: ToStop, Name: "Search the whole system by hand", Minutes: byHand, Cost: p.mend[n+1], Expect: p.searched(),
		Why: "No test at hand and no part is worth its price now. Go through the whole system piece by piece, or repeat the test you trust least."}
	if p.watched(own.Monitor) {
		return []Move{stop}
	}
	return []Move{run, stop}
}

// searched is the expected cost when the whole system is searched by hand now.
func (p *planner) searched() float64 {
	c := p.newCourse()
	repair := c.begin(p.now)
	none := c.mass[len(p.Suspects)]
	return repair + byHand + none*waitNone
}

// watched reports whether the car's own checks have run since it came in, or since the last
// repair: left to them again, they would only find the same again. Once more may tell whether it
// comes back when tests have been done since.
func (p *planner) watched(monitor string) bool {
	if len(p.history) == 0 {
		return false
	}
	last := p.history[len(p.history)-1].Evidence
	runs, at := 0, 0
	for i, e := range last {
		if e.Kind == Scanned && !e.Before && (e.ran("evap") || !plumbing.Overnight(monitor) && len(e.Ran) > 0) {
			runs, at = runs+1, i
		}
	}
	return runs > 1 || runs == 1 && at == len(last)-1
}

// outside is the odds of a group that is no suspect: -1 none-now, -2 other.
func (p *planner) outside(a int) float64 {
	for g, x := range p.gs {
		if x.a == a {
			return p.now[g]
		}
	}
	return 0
}

// provenFirst puts the best test that proves a part before replacing it, unless something has
// singled the part out already, the shop swaps, or proving it costs more than being wrong now and
// then.
func (p *planner) provenFirst(out []Move) {
	if len(out) > 0 && out[0].Kind == ToReplace && p.bay.Policies[knowledge.SchoolProve] != "swap" {
		i := p.index[out[0].Fault]
		if p.singled(i) {
			return
		}
		at := slices.IndexFunc(out, func(m Move) bool { return m.Kind == ToTest && p.proves(m.Action, i) })
		if at < 0 || (1-p.marg[i])*p.mend[i] < out[at].Cost { // to be wrong now and then costs less
			return
		}
		out[at].Action.First = fmt.Sprintf("Proves %s before it is replaced.", plumbing.Lower(p.Suspects[i].Name))
		toFront(out, at)
	}
}

// proves reports whether a test singles a suspect out often enough.
func (p *planner) proves(a *Action, i int) bool {
	for _, t := range p.tests {
		if t.test == a {
			return slices.ContainsFunc(t.finds, func(f found) bool { return f.i == i && f.odds >= proven })
		}
	}
	return false
}

// singled reports whether something of this epoch has singled a suspect out.
func (p *planner) singled(i int) bool {
	if len(p.history) == 0 || p.marg[i] < proven {
		return false
	}
	s := p.Suspects[i]
	for _, e := range p.history[len(p.history)-1].Evidence {
		switch {
		case e.Kind == Found && e.Key == s.Key, e.Kind == Exit && !e.Absent && p.at(s.Part, e.Part):
			return true
		case e.Kind == Done:
			t, _ := p.Book.Test(e.Test)
			o, place := p.ended(t, e)
			if o.Singles && (place == "" || p.at(s.Part, place)) && (e.Part == "" || Target(p.Graph, s.Fault, s.Part, e.Test) == e.Part || p.at(s.Part, e.Part)) {
				return true
			}
		}
	}
	return false
}

// handsFirst puts what an experienced hand would do first before the leader, when it costs
// about the same.
func (p *planner) handsFirst(out []Move) {
	if len(out) == 0 || out[0].Kind == ToTest && out[0].Action.First != "" {
		return
	}
	most := p.margin(out[0], sameShare, sameMinutes)
	best, place := -1, len(p.Book.Firsts)
	for i, m := range out {
		switch {
		case (m.Kind == ToDrive || m.Kind == ToWait) && p.quiet():
			best, place = i, -1 // nothing asks for more
		case m.ranked() > most:
		case m.Kind == ToTest:
			if n := p.named(m.Action); n < len(p.Book.Firsts) {
				m.Action.First = p.Book.Firsts[n].Why
				if n < place {
					best, place = i, n
				}
			}
		}
	}
	if best > 0 {
		toFront(out, best)
	}
}

// margin is the cost up to which a move comes to about the same as the leader: a share of what can
// still be saved, which the repair itself cannot, and some minutes.
func (p *planner) margin(leader Move, share, minutes float64) float64 {
	v := leader.ranked()
	return v + share*math.Max(v-p.repair, 0) + minutes
}

// toFront puts move i before all others.
func toFront(out []Move, i int) {
	m := out[i]
	copy(out[1:i+1], out[:i])
	out[0] = m
}

// findsFirst puts, among tests that come to the same, the one that finds most for its cost: a
// cheap one with the same test behind it looks nearly as good, and finds nothing.
func (p *planner) findsFirst(out []Move) {
	if len(out) == 0 || out[0].Action == nil {
		return
	}
	most := p.margin(out[0], tieShare, tieMinutes)
	rate := func(a *Action) float64 {
		for _, t := range p.tests {
			if t.test == a {
				finds := 0.0
				for _, f := range t.finds {
					finds += p.marg[f.i] * f.odds
				}
				return finds / t.cost
			}
		}
		return 0
	}
	best := 0
	for i, m := range out {
		if m.Kind == ToTest && m.ranked() <= most && rate(m.Action) > rate(out[best].Action) {
			best = i
		}
	}
	toFront(out, best)
}

// quiet reports whether there was a scan with all that it could say, and neither code nor
// complaint, so that nothing is as likely as that nothing is there.
func (p *planner) quiet() bool {
	none := p.outside(-1)
	if i, ok := p.index["not-run"]; ok {
		none += p.marg[i]
	}
	if len(p.history) == 0 || none < slices.Max(p.marg) {
		return false
	}
	scanned := false
	for _, e := range p.history[len(p.history)-1].Evidence {
		if e.Kind == Signed && !e.Absent || e.Kind == Scanned && len(e.Codes) > 0 {
			return false
		}
		scanned = scanned || e.Kind == Scanned && len(e.Ran) > 0
	}
	return scanned
}

// named is the place, among what a hand does first, of a test that a code or a sign names;
// beyond the last where none does.
func (p *planner) named(a *Action) int {
	if len(p.history) == 0 {
		return len(p.Book.Firsts)
	}
	last := p.history[len(p.history)-1].Evidence
	for n, f := range p.Book.Firsts {
		if f.Test != a.Test || f.Part != (a.Part != "") && asked(a.Test).On == bench.AnyPart || !f.Fits(p.Of) {
			continue
		}
		if slices.ContainsFunc(last, func(e Evidence) bool {
			shows := p.names(f, e)
			return shows != nil && p.about(a, f, shows)
		}) {
			return n
		}
	}
	return len(p.Book.Firsts)
}

// names is what a piece of evidence shows by which it names a first move; nil when it does not.
func (p *planner) names(f knowledge.First, e Evidence) map[string]float64 {
	if e.Kind == Signed && !e.Absent && slices.Contains(f.Signs, e.Key) {
		s, _ := p.Book.Sign(e.Key)
		return s.Shows
	}
	if e.Kind != Scanned {
		return nil
	}
	for _, c := range e.Codes {
		if g, ok := p.Book.Group(c); ok && slices.Contains(f.Groups, g.Key) {
			return g.Shows
		}
		for _, z := range p.Book.Sizes {
			if slices.Contains(z.Codes, c) && slices.Contains(f.Groups, z.Key) {
				return z.Shows
			}
		}
	}
	return nil
}

// about reports whether a test of one part is of a part that a code or sign is about.
func (p *planner) about(a *Action, f knowledge.First, shows map[string]float64) bool {
	if a.Part == "" || !f.Part {
		return true
	}
	for i, s := range p.Suspects {
		on := s.Part == a.Part || Target(p.Graph, s.Fault, s.Part, a.Test) == a.Part
		if on && p.marg[i] > 0.05 && (shows[s.Key] >= 0.25 || f.Hole && p.sealed[i][steps-1] > 0) {
			return true
		}
	}
	return false
}
