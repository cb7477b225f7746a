package diagnose

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"wexter/core/bench"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
)

// actionName says what an action is.
func (s *State) actionName(t knowledge.Test, a Action) string {
	p, _ := s.Graph.Part(a.Part)
	switch {
	case a.Plug != "":
		l, _ := s.Graph.Part(a.Plug)
		return "Leak-down test, plugged at the " + plumbing.Lower(s.Graph.PlugName(l))
	case a.Part != "" && asked(t.Key).Odds == bench.FromEyes:
		return "Look at the " + plumbing.Lower(p.Name)
	case a.Part != "" && !asked(t.Key).NamesPart:
		return t.Name + ": " + plumbing.Lower(p.Name)
	case asked(t.Key).Odds == bench.FromHole:
		return "Leak-down test, whole system"
	}
	return t.Name
}

// name says an explanation in mid-sentence.
func (p *planner) name(g group) string {
	switch {
	case g.a == -1:
		return plumbing.Lower(NoneNowName)
	case g.a == -2:
		return plumbing.Lower(OtherName)
	case g.b >= 0:
		return plumbing.Lower(p.Suspects[g.a].Name) + " and " + plumbing.Lower(p.Suspects[g.b].Name)
	}
	return plumbing.Lower(p.Suspects[g.a].Name)
}

// describe says what an action would tell: the best explanation after each outcome, what
// it would clear and accuse, and why it is worth doing.
func (p *planner) describe(a *Action) {
	n := len(p.Suspects)
	a.calm, a.alarm, a.quiet = make([]float64, n), make([]float64, n), 0
	raised := make([]bool, n) // by an outcome of its own, as an exit at the part
	loud := 0.0
	for o := range a.Out {
		t := p.after(a, o, raised)
		if a.Out[o].Usual {
			a.quiet += t
		} else {
			loud += t
		}
	}
	for i := range p.Suspects {
		if p.marg[i] < 0.01 {
			continue
		}
		if a.quiet > 0 && a.calm[i]/a.quiet < 0.45*p.marg[i] {
			a.Clears = append(a.Clears, p.Suspects[i].Key)
		}
		if loud > 0 && a.alarm[i]/loud > 1.4*p.marg[i] || raised[i] {
			a.Accuses = append(a.Accuses, p.Suspects[i].Key)
		}
	}
	slices.SortStableFunc(a.Out, func(x, y Outcome) int {
		if x.Usual != y.Usual {
			return btoi(y.Usual) - btoi(x.Usual)
		}
		return cmp.Compare(y.Odds, x.Odds)
	})
	a.Why = p.why(a)
}

// after weighs outcome o of an action: the best explanation then, and every suspect's
// weight. It returns the odds of the outcome, and marks the suspects that it raises by
// itself.
func (p *planner) after(a *Action, o int, raised []bool) float64 {
	to := a.alarm
	if a.Out[o].Usual {
		to = a.calm
	}
	before := slices.Clone(to)
	odds := make([]float64, len(p.gs))
	t := 0.0
	for i, x := range p.ps {
		w := x.w * a.odds[o][i]
		odds[x.group] += w
		t += w
		if x.a >= 0 {
			to[x.a] += w
			if x.b >= 0 {
				to[x.b] += w
			}
		}
	}
	if !a.Out[o].Usual {
		for i := range to {
			// It would come often enough if the part is bad.
			w := to[i] - before[i]
			raised[i] = raised[i] || t > 0 && w > 1.4*p.marg[i]*t && w > 0.15*p.marg[i]
		}
	}
	best := 0
	for g := range odds {
		if odds[g] > odds[best] {
			best = g
		}
	}
	if t > 0 {
		a.Out[o].Best, a.Out[o].BestOdds = p.name(p.gs[best]), odds[best]/t
	}
	return t
}

// list says some suspects, the likeliest first, and how many more there are.
func (p *planner) list(keys []string) string {
	slices.SortStableFunc(keys, func(x, y string) int { return cmp.Compare(p.marg[p.index[y]], p.marg[p.index[x]]) })
	var out []string
	for i, k := range keys {
		if i == 2 && len(keys) > 3 {
			out = append(out, fmt.Sprintf("%d more", len(keys)-2))
			break
		}
		out = append(out, plumbing.Lower(p.Suspects[p.index[k]].Name))
	}
	return strings.Join(out, ", ")
}

// why says what an action would tell: where, or what it would leave either way.
func (p *planner) why(a *Action) string {
	seen := 0.0
	for _, o := range a.Out {
		if strings.HasPrefix(o.Key, "exit:") {
			seen += o.Odds
		}
	}
	if seen > 0.15 {
		return fmt.Sprintf("Shows where it leaks: you see the exit in %.0f %% of cases, and the exit names the part.", 100*seen)
	}
	var left []string // what is likelier after the usual outcome
	for i := range p.Suspects {
		if p.marg[i] >= 0.01 && a.quiet > 0 && a.calm[i]/a.quiet > 1.25*p.marg[i] {
			left = append(left, p.Suspects[i].Key)
		}
	}
	usual, rest := a.Out[0], 0.0
	for _, o := range a.Out[1:] {
		rest += o.Odds
	}
	switch {
	case len(left) > 0 && len(a.Accuses) > 0:
		return fmt.Sprintf("%s: suspect %s. Otherwise: %s.", upperName(usual.Name), p.list(left), p.list(a.Accuses))
	case len(a.Accuses) > 0 && len(a.Clears) > 0:
		there := "that is most likely the fault"
		if len(a.Clears) > 1 {
			there = "one of them is most likely the fault"
		}
		return fmt.Sprintf("%s: %s would be clear. Otherwise %s.", upperName(usual.Name), p.list(a.Clears), there)
	case len(a.Accuses) > 0 && asked(a.Test).ByPlace != "":
		return fmt.Sprintf("If something shows (%.0f %%): %s.", 100*rest, p.list(a.Accuses))
	case len(a.Accuses) > 0 && len(a.Out) == 2 && a.Out[1].Key != Else:
		return fmt.Sprintf("If %s (%.0f %%): %s.", a.Out[1].Name, 100*rest, p.list(a.Accuses))
	case len(a.Accuses) > 0:
		return fmt.Sprintf("If not %s (%.0f %%): %s.", usual.Name, 100*rest, p.list(a.Accuses))
	case len(a.Clears) > 0:
		return fmt.Sprintf("%s: %s would be clear.", upperName(usual.Name), p.list(a.Clears))
	}
	return "The result would not change what to do."
}

func upperName(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
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
	a, _ := s.Suspects[i].hole(low)
	_, b := s.Suspects[i].hole(high)
	if b == 0 {
		return ""
	}
	return fmt.Sprintf("%.2g to %.2g mm", a*1e3, b*1e3)
}
