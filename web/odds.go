package web

import (
	"cmp"
	"fmt"
	"math"
	"net/url"
	"slices"

	"wexter/casework"
	"wexter/core/bench"
	"wexter/core/diagnose"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/report"
)

// oddsView is the list of suspects beside the Map.
type oddsView struct {
	Odds    []oddsRow
	Rest    []oddsRow
	Count   int    // suspects worth a line
	Pair    string // the likeliest pair, when there is one to speak of
	PairPct int
}

type oddsRow struct {
	Key, Name, Link string
	Percent         string
	OneIn           string
	Bar, Density    int
	Light           string // what the chosen test would do to it
	Chosen          bool
}

// lights are what the Map shows of the reasoning: odds by part, and what the chosen test
// would do to a part.
type lights struct {
	odds  map[string]float64
	would map[string]string
}

type suspectView struct {
	Fault        knowledge.Fault
	Part         plumbing.Part
	Percent      string
	For, Against []weightRow
	Little       int
	Shows        []predicted
	Proves       []string
	Clears       []string
	Causes       []string
	Price        string
	Link         string
	Size         string
}

type weightRow struct{ Says, Words string }

type predicted struct{ Test, Link, Says string }

type clashView struct{ First, Second, Repeat string }

// Odds from which a suspect has a line in the list at once, a line behind it, is hatched
// on the Map, and is counted.
const (
	listed  = 0.01
	behind  = 0.001
	hatched = 0.02
	worth   = 0.005
)

// wouldDo says what the chosen test would do to each suspect.
func wouldDo(next *actionView) map[string]string {
	light := map[string]string{}
	if next == nil {
		return light
	}
	for _, k := range next.Clears {
		light[k] = report.WouldClear
	}
	for _, k := range next.Accuses {
		if light[k] != "" {
			light[k] = report.WouldSplit
		} else {
			light[k] = report.WouldAccuse
		}
	}
	return light
}

// lights works out what the Map shows. A part that somebody suspects is hatched, however
// little speaks for it. Before anything is known nothing is: hatching the whole car would
// say something.
func (v *reader) lights(would map[string]string) lights {
	l := lights{map[string]float64{}, map[string]string{}}
	if !v.known && len(v.f.Results)+len(v.f.Tests) == 0 {
		return l
	}
	byHand := map[string]bool{}
	for _, x := range v.f.Marks {
		if !x.Struck() && x.Kind == record.MarkSuspect {
			byHand[x.Part] = x.Odds > 0
		}
	}
	for i, x := range v.t.State.Suspects {
		if v.marg[i] >= hatched || byHand[x.Part] {
			l.odds[x.Part] = 1 - (1-l.odds[x.Part])*(1-v.marg[i])
		}
		w := would[x.Key]
		if w == "" || v.marg[i] < hatched || v.ask("test") == "" {
			continue
		}
		if was := l.would[x.Part]; was != "" && was != w {
			w = report.WouldSplit
		}
		l.would[x.Part] = w
	}
	return l
}

// odds lists the suspects, likeliest first, and what else it may be.
func (v *reader) odds(would map[string]string) (o oddsView) {
	order := make([]int, len(v.marg))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(v.marg[b], v.marg[a]) })
	for _, i := range order {
		p, x := v.marg[i], v.t.State.Suspects[i]
		if p >= worth {
			o.Count++
		}
		row := v.row(x.Key, x.Name, p)
		row.Light = would[x.Key]
		row.Link = v.base + "?suspect=" + url.QueryEscape(x.Key) + "#suspect"
		row.Chosen = x.Key == v.ask("suspect")
		if len(o.Odds) < 6 && p >= listed || len(o.Odds) == 0 {
			o.Odds = append(o.Odds, row)
		} else if p >= behind && len(o.Rest) < 24 {
			o.Rest = append(o.Rest, row)
		}
	}
	none, other := 0.0, 0.0
	for _, e := range v.t.Explanations {
		switch {
		case e.Key == diagnose.NoneNow:
			none = e.Odds
		case e.Key == diagnose.Other:
			other = e.Odds
		case len(e.Faults) == 2 && o.Pair == "" && e.Odds > 0.03:
			o.Pair, o.PairPct = e.Name, int(100*e.Odds+0.5)
		}
	}
	if row := v.row(diagnose.NoneNow, diagnose.NoneNowName, none); none > 0.15 {
		o.Odds = append(o.Odds, row)
	} else {
		o.Rest = append(o.Rest, row)
	}
	o.Rest = append(o.Rest, v.row(diagnose.Other, diagnose.OtherName, other))
	return o
}

func (v *reader) row(key, name string, p float64) oddsRow {
	return oddsRow{Key: key, Name: name, Percent: perCent(p), OneIn: oneIn(p), Bar: max(4, int(246*p)), Density: report.Density(p)}
}

// perCent writes odds so that small ones are not called nothing.
func perCent(p float64) string {
	switch {
	case p >= 0.995:
		return "> 99"
	case p < 0.005:
		return "< 1"
	}
	return fmt.Sprintf("%.0f", 100*p)
}

func oneIn(p float64) string {
	switch {
	case p <= 0.0005:
		return "1 in > 2000"
	case p >= 0.995:
		return "> 199 in 200"
	case p >= 0.9:
		n := math.Round(1 / (1 - p))
		return fmt.Sprintf("%.0f in %.0f", n-1, n)
	case p > 0.4:
		return fmt.Sprintf("1 in %.1f", 1/p)
	}
	return fmt.Sprintf("1 in %.0f", 1/p)
}

// suspect opens one suspect: what speaks for and against, what it would make tests show,
// and what would prove or clear it.
func (s *server) suspect(t *casework.Thought, car casework.Car, key, base string) *suspectView {
	f, ok := s.shop.Book.Fault(key)
	weights, err := t.State.Why(key)
	if !ok || err != nil {
		return nil
	}
	v := &suspectView{Fault: f, Percent: perCent(t.State.Odds(key)), Link: base}
	v.Part, _ = car.Graph.Part(car.Where(key))
	for _, w := range weights {
		row := weightRow{w.Says, w.Words()}
		switch {
		case w.Ratio >= 1.15:
			v.For = append(v.For, row)
		case w.Ratio <= 1/1.15:
			v.Against = append(v.Against, row)
		default:
			v.Little++
		}
	}
	for _, a := range slices.Concat(t.Plan.Actions, t.Plan.Without) {
		av := s.action(a, base, car)
		if slices.Contains(a.Accuses, key) && len(v.Proves) < 4 {
			v.Proves = append(v.Proves, a.Name)
		}
		if slices.Contains(a.Clears, key) && len(v.Clears) < 4 {
			v.Clears = append(v.Clears, a.Name)
		}
		if says := t.State.Shows(key, a); says != "" && len(v.Shows) < 6 {
			v.Shows = append(v.Shows, predicted{a.Name, av.Link, says})
		}
	}
	for _, k := range f.Causes {
		if x, ok := s.shop.Book.Fault(k); ok && car.Where(k) != "" {
			v.Causes = append(v.Causes, plumbing.Lower(x.Name))
		}
	}
	v.Price = fmt.Sprintf("%d min and some %.0f %s", f.Minutes, t.State.Price(f, t.Bay), cmp.Or(t.Bay.Currency, diagnose.UsualCurrency))
	v.Size = t.State.SizeWords(key)
	return v
}

func (s *server) clash(x diagnose.Clash) clashView {
	v := clashView{First: x.First.Says, Second: x.Second.Says}
	cost := func(e diagnose.Evidence) (string, int) {
		key := e.Test
		if e.Kind == diagnose.Held {
			key = bench.With(bench.FromHole).Key
		}
		if t, ok := s.shop.Book.Test(key); ok {
			return t.Name, t.Minutes
		}
		return e.Says, 5
	}
	a, ma := cost(x.First)
	b, mb := cost(x.Second)
	if mb <= ma {
		a, ma = b, mb
	}
	v.Repeat = fmt.Sprintf("%s, some %d min", plumbing.Lower(a), ma)
	return v
}
