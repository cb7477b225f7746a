package web

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"wexter/casework"
	"wexter/core/diagnose"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/evidence"
)

// reasoned is what a case's page shows of the reasoning.
type reasoned struct {
	Problem string
	Hunt    bool // what is next comes from the reasoning
	planView
	oddsView
	bayView
	Suspect *suspectView
	Clashes []clashView
	Left    []diagnose.Silent
	Signs   []signGroup
	Renewed []renewedAsk // parts that recent work may have replaced, and weigh
	NoCheck bool         // this car checks nothing by itself
	light   lights
}

// Lit reports whether the Map shows what the chosen test would do.
func (r reasoned) Lit() bool { return len(r.light.would) > 0 }

// buyView is what a further instrument would save here, and what that is worth in money.
type buyView struct {
	diagnose.Purchase
	Worth string
}

// bayView is the kit at hand for a case, and what more would help.
type bayView struct {
	Kit    []kitTick
	OwnKit bool
	Buy    []buyView
	Clear  bool     // this shop clears first and sees whether it returns
	With   string   // the kit at hand, in one line
	Unlock string   // what one more instrument would let this bay do
	Home   []atHome // with the car not here yet: what its owner may do
	Year   *casework.YearDoubt
	Guess  []guessView
}

type signGroup struct {
	Name  string
	Signs []signTap
}

type signTap struct {
	Kind           record.SeenKind
	Key, Name, Why string
	Yes, No, CanNo bool
}

// atHome is what the owner of a car that is not here may do of a test.
type atHome struct{ Name, Do string }

// guessView is what it costs that a family of the car's plumbing is not known.
type guessView struct {
	Family  string
	Percent int
}

// reader turns a thought into what a page shows.
type reader struct {
	s     *server
	f     evidence.Folder
	car   casework.Car
	t     *casework.Thought
	base  string              // address of the case
	ask   func(string) string // what the address asks for: the tapped test or suspect
	marg  []float64
	known bool // codes or a scan are there
}

// reason works out what a case's page shows; the address names the test or suspect that
// was tapped.
func (s *server) reason(ctx context.Context, c *echo.Context, f evidence.Folder, car casework.Car) (r reasoned, t *casework.Thought) {
	known := f.Read() || s.noReader(ctx, f)
	r.Hunt = known && slices.Contains([]record.Stage{record.Intake, record.Scan, record.Hunt}, f.Case.Stage) || repeatFails(f, s.shop.Book)
	r.Signs = s.signs(f)
	t, err := s.shop.Think(ctx, f)
	if err != nil {
		r.Problem = "The odds could not be worked out: " + err.Error()
		return r, nil
	}
	v := reader{s: s, f: f, car: car, t: t, base: "/cases/" + f.Case.ID, ask: c.QueryParam, marg: t.State.Marginals(), known: known}
	r.planView = v.plan()
	would := wouldDo(r.Next)
	r.oddsView, r.light, r.bayView, r.Left = v.odds(would), v.lights(would), v.bay(), t.Left
	if r.With, err = s.kitLine(ctx, f.Case.Kit); err != nil {
		r.Problem = "The kit of the bay cannot be read: " + err.Error()
	}
	r.Renewed, r.NoCheck = v.renewed(), !car.ChecksItself()
	for _, x := range t.Clashes {
		r.Clashes = append(r.Clashes, s.clash(x))
	}
	if k := v.ask("suspect"); k != "" {
		if r.Suspect = s.suspect(t, car, k, v.base); r.Suspect == nil {
			r.Problem = fmt.Sprintf("This car has no suspect %q.", k)
		}
	}
	return r, t
}

// noReader reports whether nothing in this bay reads a car: the hunt then begins with the
// symptoms.
func (s *server) noReader(ctx context.Context, f evidence.Folder) bool {
	w, err := s.shop.Ways(ctx)
	kit := w.Kit
	if len(f.Case.Kit) > 0 {
		kit = f.Case.Kit
	}
	return err == nil && kit != nil && !slices.Contains(kit, "reader") && !slices.Contains(kit, "commander")
}

// renewedAsk is a part of which it is asked whether it was replaced lately.
type renewedAsk struct{ Key, Name string }

// How likely a part is before it is asked about, and how many are asked about at once.
const (
	renewedFrom = 0.04
	renewedMost = 4
)

// replaced lists the likeliest parts that have not been asked about yet, where recent work is
// told: a part that was replaced is rarely the culprit, unless it was fitted wrong.
func (v *reader) renewed() (out []renewedAsk) {
	told := v.f.Case.RecentWork != "" || slices.ContainsFunc(v.f.Observations, func(x record.Observation) bool {
		return !x.Struck() && x.Kind == record.SeenContext && strings.HasSuffix(x.Key, "-work")
	})
	if !told || !v.known {
		return nil
	}
	asked := map[string]bool{}
	for _, x := range v.f.Observations {
		asked[x.Part] = asked[x.Part] || x.Kind == record.SeenRenewed && !x.Struck()
	}
	order := make([]int, len(v.marg))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(v.marg[b], v.marg[a]) })
	for _, i := range order {
		x := v.t.State.Suspects[i]
		if p, ok := v.car.Graph.Part(x.Part); ok && v.marg[i] >= renewedFrom && x.Order != "" && !asked[x.Part] && len(out) < renewedMost {
			asked[x.Part] = true
			out = append(out, renewedAsk{x.Part, p.Name})
		}
	}
	return out
}

// repeatFails reports whether the repair did not hold: the hunt goes on.
func repeatFails(f evidence.Folder, b knowledge.Book) bool {
	p := f.Proof(b)
	return f.Case.Stage == record.Proof && p.After != nil && p.After.Fails()
}

func (v *reader) bay() bayView {
	b := bayView{OwnKit: len(v.f.Case.Kit) > 0}
	for _, x := range v.t.Plan.Buy {
		b.Buy = append(b.Buy, buyView{x, v.t.Bay.Worth(x.Saves)})
	}
	for _, k := range v.s.shop.Book.Kit {
		b.Kit = append(b.Kit, kitTick{Key: k.Key, Name: k.Name, Gives: k.Gives, On: v.t.Bay.Kit == nil || slices.Contains(v.t.Bay.Kit, k.Key)})
	}
	cleared := slices.ContainsFunc(v.f.Notes, func(n record.Note) bool { return n.Kind == record.Cleared && !n.Struck() })
	if d, ok := v.s.shop.DoubtYear(v.f); ok {
		b.Year = &d
	}
	b.Unlock, b.Home = v.unlock(), v.home()
	for _, g := range v.s.shop.Guesses(v.f.Vehicle, v.car, v.t) {
		b.Guess = append(b.Guess, guessView{familyNames[g.Family], int(g.Share*100 + 0.5)})
	}
	b.Clear = v.t.Bay.Policies[knowledge.SchoolClear] == "first" && !cleared && v.f.MayClear() == ""
	return b
}

// unlock says what one more piece of kit would let this bay do; empty where none pays.
func (v *reader) unlock() string {
	for _, x := range v.t.Plan.Buy {
		return fmt.Sprintf("With a %s you could do: %s; saves about %s", plumbing.Lower(v.s.shop.Book.KitNamed(x.Kit).Short), plumbing.Lower(x.For), v.t.Bay.Worth(x.Saves))
	}
	for _, a := range v.t.Plan.Without {
		if x := v.s.action(a, v.base, v.car); len(x.KitSays) > 0 {
			return fmt.Sprintf("With %s you could do: %s", strings.Join(x.KitSays, " and "), plumbing.Lower(x.Name))
		}
	}
	return ""
}

// home lists what the owner of a car that is not here may do, in the order of the plan.
func (v *reader) home() (out []atHome) {
	if !v.f.Case.Away {
		return nil
	}
	seen := map[string]bool{}
	for _, a := range slices.Concat(v.t.Plan.Actions, v.t.Plan.Without) {
		if t, ok := v.s.shop.Book.Test(a.Test); ok && t.Owner != "" && a.Part == "" && !seen[t.Key] {
			seen[t.Key] = true
			out = append(out, atHome{t.Name, t.Owner})
		}
	}
	return out
}

// signs lists signs and circumstances to be tapped, with what was tapped.
func (s *server) signs(f evidence.Folder) (out []signGroup) {
	type about struct {
		kind record.SeenKind
		key  string
	}
	is := map[about]*record.Observation{}
	for i, x := range f.Observations {
		if !x.Struck() {
			is[about{x.Kind, x.Key}] = &f.Observations[i]
		}
	}
	for _, g := range []struct{ name, when string }{{"As the customer met it", "complaint"}, {"Seen and heard here", "bay"}} {
		group := signGroup{Name: g.name}
		for _, x := range s.shop.Book.Signs {
			if x.When != g.when {
				continue
			}
			o := is[about{record.SeenSign, x.Key}]
			group.Signs = append(group.Signs, signTap{record.SeenSign, x.Key, x.Name, x.Why, o != nil && !o.Absent, o != nil && o.Absent, true})
		}
		out = append(out, group)
	}
	group := signGroup{Name: "Circumstances and recent work"}
	for _, x := range s.shop.Book.Contexts {
		group.Signs = append(group.Signs, signTap{Kind: record.SeenContext, Key: x.Key, Name: x.Name, Yes: is[about{record.SeenContext, x.Key}] != nil})
	}
	return append(out, group)
}

func (s *server) observe(c *echo.Context) error {
	return s.act(c, "#signs", func(ctx context.Context, f *form, id string) error {
		n := casework.NewObservation{Kind: record.SeenKind(f.text("kind")), Part: f.text("part")}
		if w := strings.Fields(f.text("tap")); len(w) > 1 { // a sign or circumstance; "no" behind it: looked for and not so
			n.Kind, n.Key, n.Absent = record.SeenKind(w[0]), w[1], len(w) > 2
			if n.Kind == record.SeenRenewed {
				n.Key, n.Part = "", w[1]
			}
		}
		return s.shop.Observe(ctx, f.key(), id, n)
	})
}

// unread answers the scan without one.
func (s *server) unread(c *echo.Context) error {
	return s.act(c, "", func(ctx context.Context, f *form, id string) error {
		return s.shop.Unread(ctx, f.key(), id, f.text("how"))
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
		return s.shop.SetCause(ctx, f.key(), id, casework.Answer{Finding: f.text("finding"), Cause: f.text("cause"), Why: f.text("why")})
	})
}

func (s *server) postMortem(c *echo.Context) error {
	return s.act(c, "", func(ctx context.Context, f *form, id string) error {
		n := casework.NewPostMortem{Finding: f.text("finding"), Confirmed: record.Confirmed(f.text("confirmed")), Text: f.text("text"), Photo: f.photo()}
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

// pulse is a case's version, and what was changed since the one a page shows.
func (s *server) pulse(c *echo.Context) error {
	v, err := s.shop.CaseVersion(c.Request().Context(), c.Param("id"))
	if err != nil {
		return err
	}
	out := struct {
		Version int      `json:"version"`
		Said    []string `json:"said,omitempty"`
	}{Version: v}
	if from, err := strconv.Atoi(c.QueryParam("from")); err == nil && from != v {
		out.Said = s.told(c.Request().Context(), c.Param("id"), from)
	}
	return c.JSON(http.StatusOK, out)
}
