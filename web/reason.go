package web

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"

	"wexter/casework"
	"wexter/core/diagnose"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/units"
	"wexter/ingest"
	"wexter/report"
)

// reasoned is what a case's page shows of the reasoning.
type reasoned struct {
	Problem string
	Hunt    bool         // what is next comes from the reasoning
	Next    *actionView  // chosen, or the best
	First   bool         // the chosen one is the best
	Or      []actionView // two others
	More    []actionView // the rest, and what lacks kit
	Swap    *swapView
	Beyond  string      // what to do when neither a test nor a part is worth its cost
	Found   *foundOffer // a part that a test singled out
	Odds    []oddsRow
	Rest    []oddsRow
	Count   int
	Pair    string // the likeliest pair, when there is one to speak of
	PairPct int
	Suspect *suspectView
	Clashes []clashView
	Left    []diagnose.Silent
	Buy     []diagnose.Purchase
	Kit     []kitTick
	OwnKit  bool
	Signs   []signGroup
	Clear   bool // this shop clears first and sees whether it returns
	light   lights
	Now     string // expected cost when only parts are renewed
}

// lights are what the Map shows of the reasoning: odds by part, and what the chosen test
// would do to a part.
type lights struct {
	odds  map[string]float64
	would map[string]string
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
	HazardSays string
	KitSays    []string
	Chosen     bool
	Rank       int
	Saves      string
	Into       string // where smoke goes in
}

type outRow struct {
	Name, Then string
	Percent    int
	Bar        int
	Usual      bool
}

type swapView struct {
	diagnose.Swap
	Money, Says string
	On          bool   // the shop's way is to swap
	First       string // and it is to be expected to cost less than what the best test leads to
}

type foundOffer struct {
	Fault, Name, Rests string
	Percent            int
}

type oddsRow struct {
	Key, Name, Link string
	Percent         string
	OneIn           string
	Bar, Density    int
	Light           string // what the chosen test would do to it
	Chosen          bool
}

type suspectView struct {
	Fault          knowledge.Fault
	Part           plumbing.Part
	Percent        string
	For, Against   []weightRow
	Little         int
	Shows          []predicted
	Proves, Clears []string
	Causes         []string
	Price          string
	Link           string
	Size           string
}

type weightRow struct{ Says, Words string }

type predicted struct{ Test, Link, Says string }

type clashView struct{ First, Second, Repeat string }

type kitTick struct {
	Key, Name, Gives string
	On               bool
}

type signGroup struct {
	Name  string
	Signs []signTap
}

type signTap struct {
	Kind, Key, Name, Why string
	Yes, No, CanNo       bool
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

// reason works out what a case's page shows; chosen names the test or suspect that was
// tapped.
func (s *server) reason(ctx context.Context, c *echo.Context, f casework.Folder, car casework.Car) (r reasoned, t *casework.Thought) {
	q := c.QueryParam
	known := len(f.Scans) > 0 || len(f.Codes) > 0
	repeatFails := false
	if f.Case.Stage == record.Proof {
		p := f.Proof()
		repeatFails = p.After != nil && !p.Repeat && p.After.Outcome != ""
	}
	r.Hunt = known && slices.Contains([]record.Stage{record.Intake, record.Scan, record.Hunt}, f.Case.Stage) || repeatFails
	s.taps(&r, f)
	t, err := s.shop.Think(ctx, f)
	if err != nil {
		r.Problem = "The odds could not be worked out: " + err.Error()
		return r, nil
	}
	base := "/cases/" + f.Case.ID
	r.Left, r.Buy, r.Now = t.Left, t.Plan.Buy, minutesWords(t.Plan.Now)
	for _, k := range s.shop.Book.Kit {
		r.Kit = append(r.Kit, kitTick{k.Key, k.Name, k.Gives, t.Bay.Kit == nil || slices.Contains(t.Bay.Kit, k.Key)})
	}
	r.OwnKit = len(f.Case.Kit) > 0
	for _, x := range t.Clashes {
		r.Clashes = append(r.Clashes, s.clash(x))
	}
	marg := t.State.Marginals()
	cleared := slices.ContainsFunc(f.Notes, func(n record.Note) bool { return n.Kind == record.Cleared && n.StruckAt == nil })
	r.Clear = t.Bay.Policies["clear"] == "first" && !cleared && f.MayClear() == ""

	// What is next: the tapped test, or the best.
	all := slices.Concat(t.Plan.Actions, t.Plan.Without)
	at := -1
	if q("test") != "" {
		at = slices.IndexFunc(all, func(a diagnose.Action) bool {
			return a.Test == q("test") && a.Part == q("on") && a.Plug == q("plug")
		})
	}
	if r.First = at <= 0; at < 0 && len(t.Plan.Actions) > 0 {
		at = 0
	}
	if at >= 0 {
		v := s.action(all[at], base, car)
		v.Chosen = true
		r.Next = &v
	}
	n := 1
	for i, a := range t.Plan.Actions {
		if i == at {
			continue
		}
		if n++; n <= 3 {
			v := s.action(a, base, car)
			v.Rank = n
			r.Or = append(r.Or, v)
		} else if len(r.More) < 12 {
			r.More = append(r.More, s.action(a, base, car))
		}
	}
	for _, a := range t.Plan.Without {
		if len(r.More) < 18 {
			r.More = append(r.More, s.action(a, base, car))
		}
	}
	if len(t.Plan.Swaps) > 0 {
		x := t.Plan.Swaps[0]
		sw := swapView{Swap: x, Money: fmt.Sprintf("≈ %.0f €", x.Price), On: t.Bay.Policies["prove"] == "swap"}
		switch {
		case x.BreakEven > 0:
			sw.Says = fmt.Sprintf("Pays from %.0f %% on, against: %s. Now %s %%.", 100*x.BreakEven, knowledge.Lower(x.Prove), perCent(x.Odds))
		case x.Prove == "" && len(t.Plan.Actions) > 0:
			sw.Says = "No test at hand proves this part for less than the part costs."
		default:
			sw.Says = fmt.Sprintf("Now %s %%.", perCent(x.Odds))
		}
		r.Swap = &sw
	}
	// A part that a test has singled out.
	best := 0
	for i := range marg {
		if marg[i] > marg[best] {
			best = i
		}
	}
	if x := t.State.Suspects[best]; marg[best] > 0.5 {
		if rests := s.shop.RestsOn(f, car, x.Key); len(rests) > 0 {
			r.Found = &foundOffer{x.Key, x.Name, strings.Join(rests, "; "), int(100*marg[best] + 0.5)}
		}
	}
	if x := r.Swap; x != nil && x.On && r.Found == nil && (len(t.Plan.Actions) == 0 || x.Expect < t.Plan.Actions[0].Expect) {
		x.First = minutesWords(x.Expect) + " to be expected"
		if len(t.Plan.Actions) > 0 {
			x.First += fmt.Sprintf(", against %s when the test below comes first", minutesWords(t.Plan.Actions[0].Expect))
		}
	}
	if part := t.Plan.First != diagnose.NoneNow && t.Plan.First != diagnose.Other; !part || r.Found == nil && (r.Swap == nil || r.Swap.First == "") {
		r.Beyond = t.Plan.Instead
	}
	light := map[string]string{}
	if r.Next != nil {
		for _, k := range r.Next.Clears {
			light[k] = report.WouldClear
		}
		for _, k := range r.Next.Accuses {
			if light[k] != "" {
				light[k] = report.WouldSplit
			} else {
				light[k] = report.WouldAccuse
			}
		}
	}
	r.light = lights{map[string]float64{}, map[string]string{}}
	byHand := map[string]bool{} // what somebody suspects is hatched, however little speaks for it
	for _, x := range f.Marks {
		if x.StruckAt == nil && x.Kind == record.MarkSuspect {
			byHand[x.Part] = x.Odds > 0
		}
	}
	for i, x := range t.State.Suspects {
		if !known && len(f.Results)+len(f.Tests) == 0 {
			break // nothing is known yet: hatching the whole car would say something
		}
		if marg[i] >= 0.02 || byHand[x.Part] {
			r.light.odds[x.Part] = 1 - (1-r.light.odds[x.Part])*(1-marg[i])
		}
		if l := light[x.Key]; l != "" && marg[i] >= 0.02 && q("test") != "" {
			if was := r.light.would[x.Part]; was != "" && was != l {
				l = report.WouldSplit
			}
			r.light.would[x.Part] = l
		}
	}
	order := make([]int, len(marg))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		switch {
		case marg[a] > marg[b]:
			return -1
		case marg[a] < marg[b]:
			return 1
		}
		return 0
	})
	row := func(key, name string, p float64) oddsRow {
		o := oddsRow{Key: key, Name: name, Percent: perCent(p), OneIn: oneIn(p), Bar: max(4, int(246*p)), Density: report.Density(p), Light: light[key]}
		if key != diagnose.NoneNow && key != diagnose.Other {
			o.Link = base + "?suspect=" + url.QueryEscape(key) + "#suspect"
			o.Chosen = key == q("suspect")
		}
		return o
	}
	none, other := 0.0, 0.0
	for _, e := range t.Explanations {
		switch {
		case e.Key == diagnose.NoneNow:
			none = e.Odds
		case e.Key == diagnose.Other:
			other = e.Odds
		case len(e.Faults) == 2 && r.Pair == "" && e.Odds > 0.03:
			r.Pair, r.PairPct = e.Name, int(100*e.Odds+0.5)
		}
	}
	for _, i := range order {
		if marg[i] >= 0.005 {
			r.Count++
		}
		x := t.State.Suspects[i]
		if len(r.Odds) < 6 && marg[i] >= 0.01 || len(r.Odds) == 0 {
			r.Odds = append(r.Odds, row(x.Key, x.Name, marg[i]))
		} else if marg[i] >= 0.001 && len(r.Rest) < 24 {
			r.Rest = append(r.Rest, row(x.Key, x.Name, marg[i]))
		}
	}
	r.Rest = append(r.Rest, row(diagnose.NoneNow, "Nothing that is there now", none), row(diagnose.Other, "Something the Book does not know", other))
	if none > 0.15 {
		r.Odds = append(r.Odds, row(diagnose.NoneNow, "Nothing that is there now", none))
	}
	if k := q("suspect"); k != "" {
		r.Suspect = s.suspect(t, car, k, base)
		if r.Suspect == nil {
			r.Problem = fmt.Sprintf("This car has no suspect %q.", k)
		}
	}
	return r, t
}

// Lit reports whether the Map shows what the chosen test would do.
func (r reasoned) Lit() bool { return len(r.light.would) > 0 }

// taps lists signs and circumstances to be tapped, with what was tapped.
func (s *server) taps(r *reasoned, f casework.Folder) {
	is := map[string]*record.Observation{}
	for i, x := range f.Observations {
		if x.StruckAt == nil {
			is[x.Kind+x.Key] = &f.Observations[i]
		}
	}
	group := func(name, when string) {
		g := signGroup{Name: name}
		for _, x := range s.shop.Book.Signs {
			if x.When != when {
				continue
			}
			o := is[record.SeenSign+x.Key]
			g.Signs = append(g.Signs, signTap{record.SeenSign, x.Key, x.Name, x.Why, o != nil && !o.Absent, o != nil && o.Absent, true})
		}
		r.Signs = append(r.Signs, g)
	}
	group("As the customer met it", "complaint")
	group("Seen and heard here", "bay")
	g := signGroup{Name: "Circumstances and recent work"}
	for _, x := range s.shop.Book.Contexts {
		g.Signs = append(g.Signs, signTap{Kind: record.SeenContext, Key: x.Key, Name: x.Name, Yes: is[record.SeenContext+x.Key] != nil})
	}
	r.Signs = append(r.Signs, g)
}

func minutesWords(m float64) string {
	switch {
	case m >= 1e5:
		return "not to be done here"
	case m >= 600:
		return fmt.Sprintf("%.0f h", m/60)
	case m >= 120:
		return fmt.Sprintf("%.1f h", m/60)
	}
	return fmt.Sprintf("%.0f min", m)
}

func (s *server) action(a diagnose.Action, base string, car casework.Car) actionView {
	v := actionView{Action: a, Hold: a.Test == "decay"}
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
	if p, ok := car.Graph.Part(a.Entry); ok && a.Test == "smoke" {
		v.Into = knowledge.Lower(p.Name)
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
		v.KitSays = append(v.KitSays, knowledge.Lower(s.shop.Book.KitNamed(k).Name))
	}
	rest := 0.0
	for i, o := range a.Out {
		if i >= 3 || o.Odds < 0.03 && i > 1 {
			rest += o.Odds
			continue
		}
		v.Out = append(v.Out, outRow{Name: o.Name, Percent: int(100*o.Odds + 0.5), Bar: max(5, int(110*o.Odds)), Usual: o.Usual, Then: thenWords(o)})
	}
	if rest > 0.02 {
		v.Out = append(v.Out, outRow{Name: "something else", Percent: int(100*rest + 0.5), Bar: max(5, int(110*rest))})
	}
	return v
}

func thenWords(o diagnose.Outcome) string {
	if o.Best == "" {
		return ""
	}
	return fmt.Sprintf("%s %s %%", o.Best, perCent(o.BestOdds))
}

func (s *server) clash(x diagnose.Clash) clashView {
	v := clashView{First: x.First.Says, Second: x.Second.Says}
	cost := func(e diagnose.Evidence) (string, int) {
		key := e.Test
		if e.Kind == diagnose.Held {
			key = "decay"
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
	v.Repeat = fmt.Sprintf("%s, some %d min", knowledge.Lower(a), ma)
	return v
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
	v.Part, _ = car.Graph.Part(s.shop.Where(car, key))
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
		if x, ok := s.shop.Book.Fault(k); ok && s.shop.Where(car, k) != "" {
			v.Causes = append(v.Causes, knowledge.Lower(x.Name))
		}
	}
	v.Price = fmt.Sprintf("%d min and some %.0f €", f.Minutes, t.State.Price(f, t.Bay))
	v.Size = t.State.SizeWords(key)
	return v
}

// doPage is the plain bench of a test: set-up, steps, and the result to be entered.
type doPage struct {
	casework.Folder
	Stages   []stageMark
	Test     knowledge.Test
	On       plumbing.Part
	Action   *actionView
	Reads    []readField
	Parts    []plumbing.Part // that can be named: exits, or what was looked at
	Targets  []plumbing.Part // parts that this test can try
	Entries  []plumbing.Part // where smoke may go in
	Exits    []exitField
	Sizes    []string
	Self     bool // it needs a part
	Cautions []string
	Calcs    []string
}

type readField struct{ Name, Unit, Kind, Second, Field string }

type exitField struct{ N int }

const mostExits = 4

// counted are readings without a unit that are numbers.
var counted = regexp.MustCompile(`cycles|clicks|strokes`)

// unitOf is the kind of quantity that a unit of the Book measures.
func unitOf(unit string) (string, units.Kind, bool) {
	for k := range kindNames {
		if u, ok := units.Lookup(unit, k); ok && unit != "" {
			return u.Symbol, k, true
		}
	}
	return "", 0, false
}

func (s *server) doView(c *echo.Context) error { return s.showDo(c, nil) }

func (s *server) showDo(c *echo.Context, failed error) error {
	ctx := c.Request().Context()
	f, err := s.shop.Load(ctx, c.Param("id"))
	if err != nil {
		return err
	}
	car, err := s.shop.Car(f.Vehicle, f.Corrections)
	if err != nil {
		return err
	}
	t, ok := s.shop.Book.Test(c.Param("test"))
	if !ok || t.Key == "decay" || t.Key == "readiness" {
		return echo.NewHTTPError(http.StatusNotFound, "There is no such bench; tests of the Book have theirs, holds and scans their own.")
	}
	d := doPage{Folder: f, Test: t, Sizes: record.ExitSizes, Self: diagnose.PartTest(t.Key)}
	for _, st := range record.Stages() {
		d.Stages = append(d.Stages, stageMark{string(st), stageClass(st, f.Case.Stage)})
	}
	p := s.page(c, t.Name+" · "+f.Case.Number, "slate", nil)
	on := cmp.Or(c.FormValue("on"), c.QueryParam("on"))
	d.On, _ = car.Graph.Part(on)
	for i, r := range t.Reads {
		if r.Unit == "" && !counted.MatchString(r.Name) {
			continue // a word: the outcome says it
		}
		x := readField{Name: r.Name, Unit: r.Unit, Field: fmt.Sprintf("read%d", i)}
		if u, k, ok := unitOf(r.Unit); ok {
			x.Kind, x.Second = kindNames[k], units.Second(u, k)
		}
		d.Reads = append(d.Reads, x)
	}
	for i := range mostExits {
		d.Exits = append(d.Exits, exitField{i})
	}
	for _, x := range car.Graph.Parts {
		if x.Name != "" && x.Kind != plumbing.Block {
			d.Parts = append(d.Parts, x)
		}
	}
	slices.SortStableFunc(d.Parts, func(a, b plumbing.Part) int { return strings.Compare(a.Name, b.Name) })
	done := map[string]bool{}
	for _, x := range s.shop.Book.Faults {
		part := s.shop.Where(car, x.Key)
		if k := diagnose.Target(car.Graph, x, part, t.Key); part != "" && k != "" && !done[k] {
			done[k] = true
			p, _ := car.Graph.Part(k)
			d.Targets = append(d.Targets, p)
		}
	}
	if t.Key == "smoke" {
		d.Entries = s.shop.SmokeEntries(car)
	}
	if th, err := s.shop.Think(ctx, f); err == nil {
		for _, a := range slices.Concat(th.Plan.Actions, th.Plan.Without) {
			if a.Test == t.Key && (a.Part == on || on == "" || t.Key == "smoke") {
				if t.Key == "smoke" && on == "" {
					d.On, _ = car.Graph.Part(a.Entry)
				}
				v := s.action(a, "/cases/"+f.Case.ID, car)
				d.Action = &v
				break
			}
		}
	}
	seen := map[string]bool{}
	for _, k := range t.Cautions {
		if !seen[k] {
			seen[k] = true
			d.Cautions = append(d.Cautions, s.shop.Book.Caution(k))
		}
	}
	p.Data = d
	if failed != nil {
		return s.again(c, failed, "do.html", p)
	}
	return s.render(c, http.StatusOK, "do.html", p)
}

func (s *server) addResult(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := &form{c: c}
	t, _ := s.shop.Book.Test(c.Param("test"))
	n := casework.NewResult{Test: c.Param("test"), Part: f.text("on"), Outcome: f.text("outcome"), Note: f.text("note")}
	for i, r := range t.Reads {
		v, err := ingest.ReadFigure(f.text(fmt.Sprintf("read%d", i)), r.Unit)
		if err != nil {
			f.wrong(r.Name, err.Error())
		}
		n.Readings = append(n.Readings, v)
	}
	for i := range mostExits {
		if part := f.text(fmt.Sprintf("exit%d", i)); part != "" {
			n.Exits = append(n.Exits, record.ExitSeen{Part: part, Size: f.text(fmt.Sprintf("size%d", i))})
		}
	}
	err := f.err
	if err == nil {
		_, err = s.shop.AddResult(c.Request().Context(), f.key(), c.Param("id"), n)
	}
	if err != nil {
		return s.showDo(c, err)
	}
	return c.Redirect(http.StatusSeeOther, "/cases/"+c.Param("id"))
}

func (s *server) observe(c *echo.Context) error {
	return s.act(c, "#signs", func(ctx context.Context, f *form, id string) error {
		n := casework.NewObservation{Kind: f.text("kind"), Part: f.text("part")}
		if w := strings.Fields(f.text("tap")); len(w) > 1 { // a sign or circumstance; "no" behind it: looked for and not so
			n.Kind, n.Key, n.Absent = w[0], w[1], len(w) > 2
		}
		return s.shop.Observe(ctx, f.key(), id, n)
	})
}

func (s *server) caseKit(c *echo.Context) error {
	return s.act(c, "", func(ctx context.Context, f *form, id string) error {
		if f.text("shop") != "" {
			return s.shop.SetKit(ctx, f.key(), id, nil)
		}
		kit := c.Request().Form["kit"]
		if len(kit) == 0 { // all taken out: whoever does it has eyes
			kit = []string{"eyes"}
		}
		return s.shop.SetKit(ctx, f.key(), id, kit)
	})
}

func (s *server) cause(c *echo.Context) error {
	return s.act(c, "", func(ctx context.Context, f *form, id string) error {
		return s.shop.SetCause(ctx, f.key(), id, f.text("finding"), f.text("cause"), f.text("why"))
	})
}

func (s *server) postMortem(c *echo.Context) error {
	return s.act(c, "", func(ctx context.Context, f *form, id string) error {
		n := casework.NewPostMortem{Finding: f.text("finding"), Confirmed: f.text("confirmed"), Text: f.text("text"), Photo: f.photo()}
		if f.err != nil {
			return f.err
		}
		return s.shop.Open(ctx, f.key(), id, n)
	})
}

// plugged starts a hold with a line plugged, as the reasoning proposed it.
func (s *server) plugged(ctx context.Context, f *form, test string) error {
	if plug := f.text("plug"); plug != "" {
		return s.shop.SetPart(ctx, "", test, plug, string(plumbing.Plugged))
	}
	return nil
}

// waysPage is the kit of the shop and how it works.
type waysPage struct {
	Kit     []kitTick
	Ticked  bool
	Rate    string
	Day     string
	Careful bool
	Schools []schoolPick
}

type schoolPick struct {
	knowledge.School
	Now string
}

func (s *server) waysView(c *echo.Context) error { return s.showWays(c, nil) }

func (s *server) showWays(c *echo.Context, failed error) error {
	w, err := s.shop.Ways(c.Request().Context())
	if err != nil {
		return err
	}
	d := waysPage{Ticked: w.Kit != nil, Rate: fmt.Sprintf("%g", orElse(w.Rate, 66)), Day: fmt.Sprintf("%g", orElse(w.Day, 120)), Careful: w.Careful}
	ticked := func(key string) bool { return w.Kit == nil || slices.Contains(w.Kit, key) }
	way := func(key string) string { return w.Policies[key] }
	if failed != nil { // what was chosen is still there
		ticked = func(key string) bool { return slices.Contains(c.Request().PostForm["kit"], key) }
		way = func(key string) string { return c.FormValue("way-" + key) }
		d.Careful = c.FormValue("trained") != ""
	}
	for _, k := range s.shop.Book.Kit {
		d.Kit = append(d.Kit, kitTick{k.Key, k.Name, k.Gives, ticked(k.Key)})
	}
	for _, x := range s.shop.Book.Schools {
		d.Schools = append(d.Schools, schoolPick{x, x.Option(way(x.Key)).Key})
	}
	p := s.page(c, "What this bay has", "instruments", d)
	if failed != nil {
		return s.again(c, failed, "ways.html", p)
	}
	return s.render(c, http.StatusOK, "ways.html", p)
}

func orElse(v, usual float64) float64 {
	if v == 0 {
		return usual
	}
	return v
}

func (s *server) saveWays(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := &form{c: c}
	w := casework.Ways{Kit: append([]string{}, c.Request().Form["kit"]...), Rate: f.number("rate", "Hour of work", true), Day: f.number("day", "Day of waiting", true), Careful: f.text("trained") != "", Policies: map[string]string{}}
	for _, x := range s.shop.Book.Schools {
		if v := f.text("way-" + x.Key); v != "" {
			w.Policies[x.Key] = v
		}
	}
	err := f.err
	if err == nil {
		err = s.shop.SetWays(c.Request().Context(), f.key(), w)
	}
	if err != nil {
		return s.showWays(c, err)
	}
	return c.Redirect(http.StatusSeeOther, "/ways")
}

// pulse is a case's version, for pages that watch it.
func (s *server) pulse(c *echo.Context) error {
	v, err := s.shop.CaseVersion(c.Request().Context(), c.Param("id"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]int{"version": v})
}
