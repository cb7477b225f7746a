package web

import (
	"cmp"
	"fmt"
	"html/template"
	"net/url"
	"slices"
	"strings"

	"wexter/casework"
	"wexter/core/bench"
	"wexter/core/diagnose"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
)

// planView is what a case's page says of what to do next.
type planView struct {
	Next   *actionView  // the tapped test, or the best
	First  bool         // that is the best one
	Or     []actionView // two others
	More   []actionView // the rest, and what lacks kit
	Swap   *swapView
	Found  *foundOffer // a part that a test singled out
	Ask    *askView    // a question whose answer is worth more than any test
	Look   *lookOffer  // a part that is to be seen bad, when replacing it comes before any test
	Beyond string      // what to do when neither a test nor a part is worth its cost
	Now    string      // expected cost when parts are replaced without another test
}

type actionView struct {
	diagnose.Action
	Test       knowledge.Test
	Link, Do   string
	Hold       bool
	Time       string
	Lift       bool
	Cautions   []string
	Seal       []knowledge.Step
	Out        []outRow
	Bar        template.HTML // the same as a drawing
	HazardSays string
	KitSays    []string
	Chosen     bool
	Rank       int
	Into       string // where smoke goes in
}

// askView is a question that is answered with yes or no.
type askView struct{ Sign, Name, Why string }

// outRow is one way in which a test may come out, and what that leads to.
type outRow struct {
	Letter     string // in the bar
	Name, Then string
	Percent    int
	Usual      bool
	Rest       bool // whatever else
}

// Class is how the piece of the bar is filled.
func (r outRow) Class() string {
	switch {
	case r.Usual:
		return "usual"
	case r.Rest:
		return "rest"
	}
	return "other"
}

type swapView struct {
	diagnose.Swap
	Money, Says string
	On          bool   // the shop's way is to swap
	First       string // and it is expected to cost less than what the best test leads to
}

type foundOffer struct {
	Fault, Name, Rests string
	Percent            int
}

// lookOffer leads to a look at a part that would be replaced without another test.
type lookOffer struct {
	Name, Link, Percent string
}

// How many further actions a page lists: those that can be done, and with those that
// lack kit.
const (
	mostMore    = 12
	mostWithout = 18
)

// beyond is the cost, min, from which replacing parts one after another comes to no end here.
const beyond = 1e5

// plan works out what to do next: the tapped test, or the best, and what else there is.
func (v *reader) plan() (p planView) {
	plan := v.t.Plan
	if plan.Now < beyond {
		p.Now = v.t.Bay.Worth(plan.Now)
	}
	all := slices.Concat(plan.Actions, plan.Without)
	at := -1
	if test := v.ask("test"); test != "" {
		at = slices.IndexFunc(all, func(a diagnose.Action) bool {
			return a.Test == test && a.Part == v.ask("on") && a.Plug == v.ask("plug")
		})
	}
	if p.First = at <= 0; at < 0 && len(plan.Actions) > 0 {
		at = 0
	}
	if at >= 0 {
		next := v.s.action(all[at], v.base, v.car)
		next.Chosen = true
		p.Next = &next
	}
	rank := 1
	for i, a := range plan.Actions {
		if i == at {
			continue
		}
		x := v.s.action(a, v.base, v.car)
		if rank++; rank <= 3 {
			x.Rank = rank
			p.Or = append(p.Or, x)
		} else if len(p.More) < mostMore {
			p.More = append(p.More, x)
		}
	}
	for _, a := range plan.Without {
		if len(p.More) < mostWithout {
			p.More = append(p.More, v.s.action(a, v.base, v.car))
		}
	}
	if m := plan.Moves[0]; m.Kind == diagnose.ToAsk {
		p.Ask = &askView{m.Sign, m.Name, m.Why}
	}
	p.Found, p.Swap = v.found(), v.swap()
	v.swapFirst(&p)
	isPart := plan.First != diagnose.NoneNow && plan.First != diagnose.Other
	if p.Ask != nil {
		return p
	}
	if !isPart || p.Found == nil && (p.Swap == nil || p.Swap.First == "") {
		p.Beyond = plan.Instead
		p.Look = v.look(plan.Moves[0])
	}
	return p
}

// look leads to the part that a move replaces: the button then goes where the words point.
func (v *reader) look(m diagnose.Move) *lookOffer {
	at := v.car.Where(m.Fault)
	p, ok := v.car.Graph.Part(at)
	if m.Kind != diagnose.ToReplace || !ok || v.ask("test") != "" {
		return nil
	}
	return &lookOffer{plumbing.Lower(p.Name), v.base + "/do/" + bench.With(bench.FromEyes).Key + "?on=" + url.QueryEscape(at), perCent(v.t.State.Odds(m.Fault))}
}

// swap is the part that would be replaced without testing, and what that would cost.
func (v *reader) swap() *swapView {
	plan := v.t.Plan
	if len(plan.Swaps) == 0 {
		return nil
	}
	x := plan.Swaps[0]
	w := swapView{Swap: x, Money: money(x, v.t.Bay), On: v.t.Bay.Policies[knowledge.SchoolProve] == "swap"}
	switch {
	case x.BreakEven > 0:
		w.Says = fmt.Sprintf("Cheaper than testing first (%s) only above %.0f %%; it stands at %s %%.", plumbing.Lower(x.Prove), 100*x.BreakEven, perCent(x.Odds))
	case x.Prove == "" && len(plan.Actions) > 0:
		w.Says = "No test at hand proves this part for less than the part costs."
	default:
		w.Says = fmt.Sprintf("It stands at %s %%.", perCent(x.Odds))
	}
	return &w
}

// money says what replacing takes, apart: work, parts and days.
func money(x diagnose.Swap, b diagnose.Bay) string {
	out := fmt.Sprintf("≈ %.0f min and %.0f %s", x.Minutes, x.Price, cmp.Or(b.Currency, diagnose.UsualCurrency))
	switch {
	case x.Days == 1:
		out += ", part in a day"
	case x.Days > 1:
		out += fmt.Sprintf(", part in %d days", x.Days)
	}
	return out
}

// swapFirst puts replacing without testing first where that is the shop's way and is
// expected to cost less than what the best test leads to.
func (v *reader) swapFirst(p *planView) {
	x, actions := p.Swap, v.t.Plan.Actions
	if x == nil || !x.On || p.Found != nil || len(actions) > 0 && x.Expect >= actions[0].Expect {
		return
	}
	x.First = fmt.Sprintf("Expected until it is fixed: work, parts and waiting worth %s", v.t.Bay.Worth(x.Expect))
	if len(actions) > 0 {
		x.First += fmt.Sprintf(", against %s when the test below comes first", v.t.Bay.Worth(actions[0].Expect))
	}
}

// found is the likeliest part when something on the case singles it out.
func (v *reader) found() *foundOffer {
	best := 0
	for i := range v.marg {
		if v.marg[i] > v.marg[best] {
			best = i
		}
	}
	if len(v.marg) == 0 || v.marg[best] <= 0.5 {
		return nil
	}
	x := v.t.State.Suspects[best]
	rests := v.car.RestsOn(v.f, x.Key, v.marg[best])
	if len(rests) == 0 {
		return nil
	}
	return &foundOffer{x.Key, x.Name, strings.Join(rests, "; "), int(100*v.marg[best] + 0.5)}
}

func (s *server) action(a diagnose.Action, base string, car casework.Car) actionView {
	kind, _ := bench.Of(a.Test)
	v := actionView{Action: a, Hold: kind.Odds == bench.FromHole}
	v.Test, _ = s.shop.Book.Test(a.Test)
	q := url.Values{"test": {a.Test}}
	if a.Part != "" {
		q.Set("on", a.Part)
	}
	if a.Plug != "" {
		q.Set("plug", a.Plug)
	}
	v.Link = base + "?" + q.Encode()
	v.Do = base + "/do/" + a.Test
	if kind.Odds == bench.FromCodes {
		v.Do = base + "/scan"
	}
	if a.Part != "" {
		v.Do += "?on=" + url.QueryEscape(a.Part)
	}
	v.Time = fmt.Sprintf("%.0f min", a.Minutes)
	if a.Days > 0 {
		v.Time += ", and a day"
	}
	for _, k := range []string{a.Part, a.Plug} {
		if p, ok := car.Graph.Part(k); ok && p.Lift {
			v.Lift = true
		}
	}
	if p, ok := car.Graph.Part(a.Entry); ok && kind.Odds == bench.FromSmoke {
		v.Into = plumbing.Lower(p.Name)
		if arch, _ := s.shop.Book.Archetype(car.Combination.Vapour); a.Entry != arch.Entry {
			v.Seal = append(v.Seal, knowledge.Step{Do: "Smoke goes in at the " + v.Into + ".", Why: "Not at the usual place: what is said of either below is for a gauge there."})
			if p.Kind == plumbing.Cover {
				v.Seal[0].Why = "By a cone or adapter in its place: leave out what is said of it below, it is not tested."
			}
		}
	}
	cautions := v.Test.Cautions
	if arch, ok := s.shop.Book.Archetype(car.Combination.Vapour); ok && a.Set != nil {
		cautions, v.Seal = slices.Concat(cautions, arch.Cautions), append(v.Seal, arch.Seal...)
	}
	if v.Lift {
		cautions = append([]string{"lift"}, cautions...)
	}
	seen := map[string]bool{}
	for _, k := range cautions {
		if text := s.shop.Book.Caution(k); !seen[k] && text != "" {
			seen[k] = true
			v.Cautions = append(v.Cautions, text)
		}
	}
	v.HazardSays = knowledge.HazardWords[min(max(a.Hazard, 0), 3)]
	for _, k := range a.Missing {
		v.KitSays = append(v.KitSays, plumbing.Lower(s.shop.Book.KitNamed(k).Name))
	}
	var rest []diagnose.Outcome
	for i, o := range a.Out {
		if i >= 3 || o.Odds < 0.03 && i > 1 {
			rest = append(rest, o)
			continue
		}
		v.Out = append(v.Out, outRow{Name: o.Name, Percent: int(100*o.Odds + 0.5), Usual: o.Usual, Then: thenWords(o), Rest: o.Key == diagnose.Else})
	}
	v.Out = restOf(v.Out, rest)
	for i := range v.Out {
		v.Out[i].Letter = letters[i : i+1]
	}
	v.Bar = outcomeBar(v.Out)
	return v
}

// restOf adds the outcomes that are left as one row: the one that gathers some already, or
// another.
func restOf(rows []outRow, rest []diagnose.Outcome) []outRow {
	odds := 0.0
	for _, o := range rest {
		odds += o.Odds
	}
	if i := slices.IndexFunc(rows, func(r outRow) bool { return r.Rest }); i >= 0 {
		rows[i].Percent += int(100*odds + 0.5)
		rows[i].Name = diagnose.Together(append(rest, diagnose.Outcome{Key: diagnose.Else, Name: rows[i].Name}))
		return rows
	}
	if odds <= 0.02 {
		return rows
	}
	return append(rows, outRow{Name: diagnose.Together(rest), Percent: int(100*odds + 0.5), Rest: true})
}

func thenWords(o diagnose.Outcome) string {
	if o.Best == "" {
		return ""
	}
	return fmt.Sprintf("%s %s %%", o.Best, perCent(o.BestOdds))
}
