package diagnose

import (
	"cmp"
	"maps"
	"math"
	"slices"
	"strings"

	"wexter/core/bench"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
)

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
	{"wide", "will not build pressure", 2e-3, math.Inf(1)},
}

func (m *Model) holdWords(entry string, set plumbing.Settings) []outcome {
	low, high, err := m.spans(entry, set, plumbing.Pressure)
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
	low, high, err := m.spans(entry, set, plumbing.Pressure)
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
		o, _ := t.Outcome(k)
		name := o.Name
		if kind, at, ok := strings.Cut(k, ":"); ok {
			p, _ := m.Graph.Part(at)
			o, _ = t.Outcome(kind)
			name = o.Name + ": " + plumbing.Lower(p.Name)
		}
		out = append(out, outcome{Outcome{Key: k, Name: name, Usual: i == pr.usual}, l})
	}
	return out
}

// signWords are the two answers to a question.
func (m *Model) signWords(key string) []outcome {
	s, ok := m.Book.Sign(key)
	if !ok || len(s.Shows) == 0 {
		return nil
	}
	yes, no := m.shown(s.Base, s.Shows), m.shown(s.Base, s.Shows)
	no.absent = true
	if !slices.Contains(yes.feels, true) {
		return nil
	}
	usual := s.Base > 0.5
	return []outcome{{Outcome{Key: "yes", Name: "yes", Usual: usual}, yes}, {Outcome{Key: "no", Name: "no", Usual: !usual}, no}}
}

// outcomes are the ways an action may end.
func (m *Model) outcomes(a *Action) []outcome {
	if a.Sign != "" {
		return m.signWords(a.Sign)
	}
	switch asked(a.Test).Odds {
	case bench.FromHole:
		return m.holdWords(a.Entry, a.Set)
	case bench.FromFlow:
		return m.flowWords(a.Entry, a.Set)
	}
	return m.testWords(a.Test, a.Part, a.Entry, a.Set)
}

// lister lists the actions that are possible on a car.
type lister struct {
	p      *planner
	entry  string            // where gauge and supply are usually joined
	usual  plumbing.Settings // how the car is usually sealed
	sealed bool              // it can be sealed at all
	out    []Action
}

// actions lists everything that could be done on this car.
func (p *planner) actions() []Action {
	arch, sealed := p.Book.Archetype(p.Of.Vapour)
	l := &lister{p: p, entry: arch.Entry, usual: arch.Settings(), sealed: sealed}
	if _, ok := p.Graph.Part(l.entry); !ok {
		l.sealed = false
	}
	for k := range l.usual {
		if _, ok := p.Graph.Part(k); !ok {
			delete(l.usual, k)
		}
	}
	for _, t := range p.Book.Tests {
		if !t.Fits(p.Of) {
			continue
		}
		switch b := asked(t.Key); {
		case b.Odds == bench.FromHole:
			l.holds(t)
		case b.Odds == bench.FromFlow || b.Odds == bench.FromSmoke:
			if l.sealed {
				l.add(t, Action{Set: l.usual}, 0)
			}
		case b.Odds == bench.FromEyes:
			l.looks(t)
		case b.Odds == bench.FromPlant && b.On == bench.OnePart:
			l.parts(t)
		case b.Odds == bench.FromPlant, b.Odds == bench.FromCodes && !l.scanned():
			l.add(t, Action{}, 0)
		}
	}
	l.asks()
	return l.out
}

// Minutes to ask the customer, and to look or listen in passing (common practice, no source).
const (
	askMinutes     = 4.0
	passingMinutes = 2.0
)

// asks lists the signs that nobody has answered yet.
func (l *lister) asks() {
	for _, s := range l.p.Book.Signs {
		a := Action{Sign: s.Key, Name: "Ask: " + plumbing.Lower(s.Name) + "?", Minutes: askMinutes}
		if s.When == "bay" {
			a.Name, a.Minutes = "See in passing: "+plumbing.Lower(s.Name)+"?", passingMinutes
		}
		a.Cost = a.Minutes
		l.out = append(l.out, a)
	}
}

// scanned reports whether the car was scanned, or has been worked on since it came.
func (l *lister) scanned() bool {
	h := l.p.history
	return len(h) > 1 || len(h) == 1 && slices.ContainsFunc(h[0].Evidence, func(e Evidence) bool { return e.Kind == Scanned })
}

// reach is the minutes to get at a part: as the car's access cards say, otherwise the Book.
func (l *lister) reach(part string) float64 {
	if n, ok := l.p.bay.Access[part]; ok {
		return float64(n)
	}
	p, _ := l.p.Graph.Part(part)
	return float64(p.Minutes)
}

// add lists a test as an action whose Part, Plug and Set say what it is done on; extra is
// minutes on top of the Book's.
func (l *lister) add(t knowledge.Test, a Action, extra float64) {
	bay := l.p.bay
	a.Test, a.Minutes, a.Days, a.Hazard = t.Key, float64(t.Minutes)+extra, t.Days, t.Hazard
	a.Name = l.p.actionName(t, a)
	if a.Set != nil {
		a.Entry = l.entry
	}
	if t.Shares != "" && t.Shares == bay.Last {
		a.Minutes -= float64(t.Saves)
	}
	a.Missing = lacking(t, bay.Kit)
	if asked(t.Key).Odds == bench.FromSmoke {
		into, minutes := l.smokeEntry()
		a.Entry = into
		a.Minutes += minutes
		gas := l.option(knowledge.SchoolGas) // inert gas is asked for unless the shop says air
		a.Missing = slices.DeleteFunc(a.Missing, func(k string) bool { return slices.Contains(gas.Spares, k) })
	}
	a.Breaks = l.breaks(t, a)
	a.Cost = a.Breaks + a.Minutes + hazardMinutes[t.Hazard] + float64(t.Days)*cmp.Or(bay.Day, UsualDay)
	if (t.Hazard == 3 || l.isolated() && a.Set != nil) && !bay.Careful {
		a.Barred = "trained people only"
	}
	l.out = append(l.out, a)
}

// What a joint that is disturbed costs when it breaks, min, and how often it does: where
// somebody has patched it, and where it is old (common practice, no source).
const (
	jointMends  = 60.0
	patchBreaks = 0.5
	oldBreaks   = 0.1
)

// breaks is what taking a part off may cost in joints that do not survive it: at a part that
// shows marks of earlier work, and on an old car at whatever is rubber.
func (l *lister) breaks(t knowledge.Test, a Action) float64 {
	at := cmp.Or(a.Part, a.Plug)
	if !t.Disturbs && a.Plug == "" || at == "" || len(l.p.history) == 0 {
		return 0
	}
	odds := 0.0
	for _, e := range l.p.history[len(l.p.history)-1].Evidence {
		on, _ := l.p.Graph.Part(e.Part)
		switch {
		case e.Kind == Worked && (e.Part == at || on.On == at || l.p.beside(e.Part, at)):
			odds = math.Max(odds, patchBreaks)
		case e.Kind == Context && (e.Key == "age" || e.Key == "heat"):
			odds = math.Max(odds, oldBreaks)
		}
	}
	return odds * jointMends
}

// beside reports whether a line ends at a part.
func (m *Model) beside(line, part string) bool {
	p, _ := m.Graph.Part(line)
	for _, end := range []string{p.From, p.To} {
		if key, _, _, _ := plumbing.Port(end); end != "" && key == part {
			return true
		}
	}
	return false
}

// holds lists a leak-down test of the whole system, and one for each line that can be plugged.
func (l *lister) holds(t knowledge.Test) {
	if !l.sealed {
		return
	}
	l.add(t, Action{Set: l.usual}, 0)
	g := l.p.Graph
	whole := g.Reach(l.entry, l.usual, plumbing.Pressure)
	for _, p := range g.Plugs() {
		if l.usual[p.Key] != "" || !slices.Contains(whole.Inside, p.Key) {
			continue
		}
		set := maps.Clone(l.usual)
		set[p.Key] = plumbing.Plugged
		if r := g.Reach(l.entry, set, plumbing.Pressure); r.Sealed() && len(r.Inside) < len(whole.Inside) {
			l.add(t, Action{Plug: p.Key, Set: set}, plugHand+l.reach(p.Key))
		}
	}
}

// parts lists a test of one part for every part that a suspect sits on.
func (l *lister) parts(t knowledge.Test) {
	done := map[string]bool{}
	for i, x := range l.p.Suspects {
		part := Target(l.p.Graph, x.Fault, x.Part, t.Key)
		if part == "" || done[part] || l.p.marg[i] < 0.004 {
			continue
		}
		done[part] = true
		extra := l.reach(part)
		if asked(t.Key).NamesPart {
			extra = 0
		}
		l.add(t, Action{Part: part}, extra)
	}
}

// looks lists a look at the whole car, and one at each part that is likely enough.
func (l *lister) looks(t knowledge.Test) {
	l.add(t, Action{}, 0)
	done := map[string]bool{}
	t.Minutes = lookAtPart
	for i, x := range l.p.Suspects {
		if l.p.marg[i] >= 0.02 && slices.Contains(x.Tests, t.Key) && !done[x.Part] {
			done[x.Part] = true
			l.add(t, Action{Part: x.Part}, l.reach(x.Part))
		}
	}
}

// option is how the bay does a matter on which shops differ.
func (l *lister) option(school string) knowledge.Option {
	s, _ := l.p.Book.School(school)
	return s.Option(l.p.bay.Policies[school])
}

// isolated reports whether the tank is kept shut by an isolation valve.
func (l *lister) isolated() bool {
	return slices.ContainsFunc(l.p.Graph.Parts, func(p plumbing.Part) bool { return p.Role == "isolation" })
}

// smokeEntry says where smoke goes in, and the minutes that it takes beyond the usual
// place: to get there, and to fill up to where the suspects are.
func (l *lister) smokeEntry() (string, float64) {
	s, usual, set, policy := l.p, l.entry, l.usual, l.option(knowledge.SchoolEntry)
	system := s.Graph.Reach(usual, set, plumbing.Pressure)
	minutes := func(at string) float64 {
		fill := s.Graph.Fill(at, set)
		t := l.reach(at)
		for i, x := range s.Suspects {
			if v, ok := fill[x.Part]; ok && x.Part != at {
				t += s.marg[i] * v * smokeChanges / smokeFlow
			}
			if x.Part == at { // it cannot show then, and takes a test of its own
				t += s.marg[i] * Retest
			}
		}
		return t
	}
	fits := func(at string) bool { return at == usual || at != "" && system.Tests(at) }
	best, least := usual, minutes(usual)
	if fits(policy.At) {
		return policy.At, minutes(policy.At) - least
	}
	if policy.At != "" {
		return usual, 0 // this car has no such place
	}
	from := least
	school, _ := s.Book.School(knowledge.SchoolEntry)
	for _, o := range school.Options {
		if at := o.At; at != usual && fits(at) {
			if t := minutes(at); t < least-1 {
				best, least = at, t
			}
		}
	}
	return best, least - from
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

// did reports whether a piece of evidence is of an action.
func (a *Action) did(e Evidence) bool {
	switch {
	case a.Sign != "":
		return e.Kind == Signed && e.Key == a.Sign
	case e.Kind == Held && asked(a.Test).Odds == bench.FromHole:
		return maps.Equal(a.Set, e.Set)
	case e.Kind == Done:
		_, place, _ := strings.Cut(e.Outcome, ":")
		seen := asked(a.Test).Odds == bench.FromEyes && a.Part != "" && place == a.Part // whatever was looked at
		return e.Test == a.Test && (e.Part == a.Part || seen) && bench.Section(e.Readings) == ""
	}
	return e.Kind == Looked && asked(a.Test).Odds == bench.FromEyes && a.Part == e.Part
}

// was reports whether an action was done in this epoch with a result that stands. One whose
// result is in doubt, or told nothing, or failed before the repair, is a repeat: it says what
// to do differently. A third time tells no more than the second.
func (p *planner) was(a *Action) bool {
	if len(p.history) == 0 {
		return false
	}
	last := len(p.history) - 1
	stands, times := false, 0
	for _, e := range p.history[last].Evidence {
		if !a.did(e) {
			continue
		}
		times++
		switch kind := p.outcomeOf(e); {
		case slices.Contains(p.bay.Doubts, e.ID):
			a.Repeat = "It contradicts something else: repeat it with the other one in mind, rig first, and have a second person read it."
		case kind == knowledge.Unclear && e.Kind == Done:
			a.Repeat = "It could not tell last time: repeat it slowly, longer, or once car and weather have settled."
		case kind == knowledge.NotDone:
			a.Repeat = "It did not come about last time: see to what was in its way first."
		default:
			stands = true
		}
	}
	if stands || times > 1 {
		a.Repeat = ""
		return true
	}
	for _, ep := range p.history[:last] {
		for _, e := range ep.Evidence {
			if a.Repeat == "" && a.Sign == "" && a.did(e) && p.outcomeOf(e) == knowledge.Faulty {
				a.Repeat = "It failed before the repair: the same set-up again shows whether that is gone."
			}
		}
	}
	return false
}

// ended is how a test of the Book ended: by the word of who did it, or by its readings; with the
// place at which something showed.
func (p *planner) ended(t knowledge.Test, e Evidence) (o knowledge.Outcome, place string) {
	out := e.Outcome
	if out == "" {
		if v, err := bench.Judge(t, p.subject(e.Part), e.Readings); err == nil {
			out = v.Outcome
		}
	}
	kind, place, _ := strings.Cut(out, ":")
	o, _ = t.Outcome(kind)
	return o, place
}

// outcomeOf is what the outcome of a piece of evidence means.
func (p *planner) outcomeOf(e Evidence) knowledge.Meaning {
	if e.Kind == Held { // larger than any hole that is none
		if e.Curve != nil && e.Curve.mean(soundHole*soundHole/4, soundHole*soundHole) < e.Curve.mean(0.5e-6, 4e-6) {
			return knowledge.Faulty
		}
		return knowledge.Sound
	}
	t, ok := p.Book.Test(e.Test)
	if !ok {
		return knowledge.Sound
	}
	o, _ := p.ended(t, e)
	return o.Means
}

// seldom is an outcome so rare that it is put together with the other rare ones.
const seldom = 0.012

// expect works out how likely each outcome of an action is under every particle; false
// when the action has less than two outcomes.
func (p *planner) expect(a *Action) bool {
	outs := p.outcomes(a)
	if len(outs) < 2 {
		return false
	}
	a.odds, a.Out = make([][]float64, len(outs)), make([]Outcome, len(outs))
	for o := range outs {
		a.Out[o] = outs[o].Outcome
		a.odds[o] = p.under(outs[o].like)
	}
	for i := range p.ps {
		t := 0.0
		for o := range a.odds {
			t += a.odds[o][i]
		}
		for o := range a.odds {
			a.odds[o][i] /= math.Max(t, 1e-12)
		}
	}
	p.repeats(a)
	for o := range a.odds {
		for i, x := range p.ps {
			a.Out[o].Odds += x.w * a.odds[o][i]
		}
	}
	a.gatherRare()
	return true
}

// repeats lets a test that was done before show the same again more often; after a repair not
// on a car on which nothing is left, since it is the repair that cleared it.
func (p *planner) repeats(a *Action) {
	last, ok := p.told[ofTest(a.Test, a.Part, "").to]
	now := len(p.history) - 1
	if !ok || a.Sign != "" || last.epoch < now-1 {
		return
	}
	at := slices.IndexFunc(a.Out, func(o Outcome) bool { return o.Key == last.is })
	if at < 0 {
		return
	}
	for i, x := range p.ps {
		if last.epoch < now && x.a == -1 {
			continue
		}
		for o := range a.odds {
			a.odds[o][i] *= 1 - last.repeats
			if o == at {
				a.odds[o][i] += last.repeats
			}
		}
	}
}

// under is a likelihood under every particle. What is not in the Book shows what a fault
// of the Book shows in the mean.
func (p *planner) under(l likelihood) []float64 {
	v := make([]float64, len(p.ps))
	var sound [kinds]float64
	for j := range kinds {
		sound[j] = l.sound(j)
	}
	mean := p.meanOf(l, sound)
	for i, x := range p.ps {
		switch {
		case x.a == -1:
			v[i] = sound[x.j]
			continue
		case x.a == -2:
			v[i] = mean[x.j]
			continue
		}
		fa, fb := l.felt(x.a), x.b >= 0 && l.felt(x.b)
		switch {
		case fa && fb:
			v[i] = l.two(x.a, x.ka, x.b, x.kb, x.j)
		case fa:
			v[i] = l.one(x.a, x.ka, x.j)
		case fb:
			v[i] = l.one(x.b, x.kb, x.j)
		default:
			v[i] = sound[x.j]
		}
	}
	return v
}

// meanOf is a likelihood in the mean over all suspects, as they are likely beforehand.
func (p *planner) meanOf(l likelihood, sound [kinds]float64) (mean [kinds]float64) {
	prior := 0.0
	for i := range p.Suspects {
		prior += p.Suspects[i].Prior
	}
	for j := range kinds {
		for i := range p.Suspects {
			r := sound[j]
			if l.felt(i) {
				r = 0
				for k := range steps {
					r += l.one(i, k, j) / steps
				}
			}
			mean[j] += r * p.Suspects[i].Prior / prior
		}
	}
	return mean
}

// gatherRare puts outcomes that are rare together: they hardly move the expectation.
func (a *Action) gatherRare() {
	rest, n := -1, 0
	var rares []Outcome
	for o := range a.odds {
		switch rare := a.Out[o].Odds < seldom && !a.Out[o].Usual && len(a.odds) > 4; {
		case rare && rest >= 0:
			for i, v := range a.odds[o] {
				a.odds[rest][i] += v
			}
			rares = append(rares, a.Out[o])
			a.Out[rest].Odds += a.Out[o].Odds
		case rare:
			rest, rares = n, append(rares, a.Out[o])
			a.odds[n], a.Out[n] = a.odds[o], Outcome{Key: Else, Odds: a.Out[o].Odds}
			n++
		default:
			a.odds[n], a.Out[n] = a.odds[o], a.Out[o]
			n++
		}
	}
	a.odds, a.Out = a.odds[:n], a.Out[:n]
	if rest >= 0 {
		a.Out[rest].Name = Together(rares)
	}
}

// Together says several outcomes in a few words, by what they have in common.
func Together(outs []Outcome) string {
	const mixed = "another result"
	name := ""
	for _, o := range outs {
		n := mixed
		switch kind, _, _ := strings.Cut(o.Key, ":"); kind {
		case "exit":
			n = "an exit at a less likely part"
		case "seen":
			n = "damage at a less likely part"
		case Else: // put together already
			n = o.Name
		}
		if name != "" && n != name {
			return mixed
		}
		name = n
	}
	return name
}
