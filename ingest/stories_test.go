package ingest

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"wexter/core/bench"
	"wexter/core/diagnose"
	"wexter/core/knowledge"
)

//go:embed testdata/stories.json
var storiesFile []byte

// story is a case as a technician would tell it (invented, from common practice, no source),
// written before the program was asked: what is wrong in truth, what a good technician may
// begin with, how many tests that technician needs, and what the tests would show.
type story struct {
	Name   string            `json:"name"`
	Truth  string            `json:"truth"`
	Same   string            `json:"same"` // a fault of the same part with the same cure, which nobody could tell from it
	HoleMm float64           `json:"hole_mm"`
	First  []string          `json:"first"` // test, or test:part
	Steps  int               `json:"steps"`
	Finds  map[string]string `json:"finds"` // outcome by test or test:part; others show what a sound car shows
	Case   json.RawMessage   `json:"case"`
}

func stories(t *testing.T) (out []story) {
	if err := json.Unmarshal(storiesFile, &out); err != nil {
		t.Fatal(err)
	}
	return out
}

// played is a story as the program goes through it.
type played struct {
	first string // what is proposed first
	steps int    // tests until the truth is established, or the most that were tried
	odds  float64
	best  string // the likeliest explanation at the end
	way   []string
}

const mostSteps = 8

// sure are the odds from which a part is replaced.
const sure = 0.8

// play follows the program's proposals until the truth is established or it has no more.
func (s story) play(t *testing.T) played {
	b := Book()
	f, car, h, err := ReadCase(b, s.Case)
	if err != nil {
		t.Fatal(err)
	}
	m, err := diagnose.New(b, Table(), car)
	if err != nil {
		t.Fatal(err)
	}
	var p played
	for {
		st, err := m.Think(h)
		if err != nil {
			t.Fatalf("%v: %v", p.way, err)
		}
		e := st.Explanations()[0]
		p.odds, p.best = st.Odds(s.Truth)+st.Odds(s.Same), e.Key
		if p.steps > 0 && p.odds >= sure || p.steps == mostSteps {
			return p
		}
		plan := st.Next(diagnose.Bay{Kit: f.Kit})
		if os.Getenv("STORY") != "" && strings.Contains(s.Name, os.Getenv("STORY")) {
			for i, m := range plan.Moves {
				if i < 14 {
					t.Logf("   %-8s %-45s cost %5.1f expect %6.1f", m.Kind, m.Name, m.Cost, m.Expect)
				}
			}
			t.Log("   now", plan.Now, plan.First, plan.Instead)
			for i, e := range st.Explanations() {
				if i < 8 {
					t.Logf("   %.3f %s", e.Odds, e.Key)
				}
			}
		}
		if p.first == "" {
			p.first = proposed(plan)
		}
		if m := plan.Moves[0]; m.Kind == diagnose.ToAsk { // the customer answers as most would with this trouble
			sign, _ := b.Sign(m.Sign)
			p.way = append(p.way, "ask "+m.Sign)
			last := &h[len(h)-1]
			last.Evidence = append(last.Evidence, diagnose.Evidence{ID: m.Sign, Kind: diagnose.Signed, Key: m.Sign, Absent: sign.Shows[s.Truth] < 0.5, Says: m.Name})
			continue
		}
		if plan.Moves[0].Kind != diagnose.ToTest {
			p.way = append(p.way, proposed(plan))
			return p
		}
		a := *plan.Moves[0].Action
		p.steps++
		ev := s.answer(m, a)
		p.way = append(p.way, proposed(plan)+"="+ev.Outcome)
		last := &h[len(h)-1]
		last.Evidence = append(last.Evidence, ev)
	}
}

// proposed says what a plan puts first.
func proposed(p diagnose.Plan) string {
	m := p.Moves[0]
	switch {
	case m.Kind == diagnose.ToReplace:
		return "(" + m.Fault + ")"
	case m.Kind != diagnose.ToTest:
		return "(" + string(m.Kind) + ")"
	case m.Action.Part != "":
		return m.Action.Test + ":" + m.Action.Part
	}
	return strings.TrimSuffix(m.Action.Test+"/"+m.Action.Plug, "/")
}

// answer is what a test shows on the car of the story.
func (s story) answer(m *diagnose.Model, a diagnose.Action) diagnose.Evidence {
	ev := diagnose.Evidence{ID: fmt.Sprint(a.Test, a.Part, a.Plug), Kind: diagnose.Done, Test: a.Test, Part: a.Part, Entry: a.Entry, Set: a.Set, Says: a.Name}
	b, _ := bench.Of(a.Test)
	fault, _ := m.Book.Fault(s.Truth)
	part, _ := fault.Can(m.Graph, m.Of)
	under := false // the hole of the truth is under the gauge
	if s.HoleMm > 0 && a.Set != nil {
		r := m.Graph.Reach(a.Entry, a.Set, 0)
		under = slices.Contains(r.Inside, part) || slices.Contains(r.Bounds, part)
		if on, _ := m.Graph.Part(part); on.On != "" {
			under = under || slices.Contains(r.Inside, on.On)
		}
	}
	found, ok := s.Finds[strings.TrimSuffix(a.Test+":"+a.Part, ":")]
	if !ok && b.Odds != bench.FromEyes && !strings.Contains(strings.Join(slices.Collect(maps.Keys(s.Finds)), " ")+" ", a.Test+":") {
		found, ok = s.Finds[a.Test] // said of the test, whatever it is done on
	}
	switch {
	case b.Odds == bench.FromHole:
		ev.Kind, ev.Curve, ev.Outcome = diagnose.Held, diagnose.Measured(0.05e-3, 0, 0.1e-3), "tight"
		if d := s.HoleMm * 1e-3; under {
			ev.Curve, ev.Outcome = diagnose.Measured(d, d*0.92, d*1.08), fmt.Sprint(s.HoleMm, " mm")
			if s.HoleMm > 3 {
				ev.Curve, ev.Outcome = diagnose.TooLarge(), "too large"
			}
		}
	case ok:
		ev.Outcome = found
	case b.Odds == bench.FromSmoke && under:
		ev.Outcome = "exit:" + part
	case b.Odds == bench.FromFlow && under && s.HoleMm > 0.508:
		ev.Outcome = "above"
	default:
		for _, o := range a.Out {
			if o.Usual {
				ev.Outcome = o.Key
			}
		}
	}
	if kind, at, ok := strings.Cut(ev.Outcome, ":"); ok && a.Part != "" && b.Odds == bench.FromEyes {
		ev.Outcome, ev.Part = kind+":"+at, ""
	}
	return ev
}

// Thirty stories are gone through with the program's own proposals: the first is one that a
// good technician would accept, the truth comes out, and it takes no more tests.
func TestStories(t *testing.T) {
	var first, truth, quick, all int
	for _, s := range stories(t) {
		all++
		p := s.play(t)
		ok := slices.ContainsFunc(s.First, func(x string) bool {
			test, _, _ := strings.Cut(p.first, ":")
			return x == p.first || x == test && x != "look" || x == strings.Trim(p.first, "()")
		})
		right := p.odds >= 0.5 || strings.Contains("+"+p.best+"+", "+"+s.Truth+"+")
		fast := right && p.steps <= s.Steps
		first, truth, quick = first+one(ok), truth+one(right), quick+one(fast)
		t.Logf("%s %s %s %-52s %.2f %d of %d: %v", mark(ok), mark(right), mark(fast), s.Name, math.Round(100*p.odds)/100, p.steps, s.Steps, p.way)
	}
	if all != 30 || first < 27 || truth < 29 || quick < 24 {
		t.Errorf("of 30 stories too few are gone through as a good technician would")
	}
	t.Logf("of %d: first accepted %d, truth first at the end %d, no more steps than a good technician %d", all, first, truth, quick)
}

func one(b bool) int {
	if b {
		return 1
	}
	return 0
}

func mark(b bool) string {
	if b {
		return "+"
	}
	return "-"
}

// A maker's own code says nothing until a shop gives it its meaning, once and with its source;
// from then on it weighs like its group.
func TestAMakersOwnCode(t *testing.T) {
	page := filepath.Join(t.TempDir(), "codes.yaml")
	write := func(text string) {
		if err := os.WriteFile(page, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	odds := func(b knowledge.Book) float64 {
		_, car, h, err := ReadCase(b, []byte(`{"schema": "wexter-diagnose/1", "archetypes": ["na-maf", "engine-vacuum"], "codes": ["P1450"]}`))
		if err != nil {
			t.Fatal(err)
		}
		m, err := diagnose.New(b, Table(), car)
		if err != nil {
			t.Fatal(err)
		}
		s, err := m.Think(h)
		if err != nil {
			t.Fatal(err)
		}
		return s.Odds("purge-valve")
	}
	before := odds(Book())
	write("codes:\n  - {code: P1450, says: \"vacuum stays in the tank\", group: purge-passes, source: \"Workshop handbook, the maker, 2019\"}\n")
	b, err := BookWith(page)
	if err != nil {
		t.Fatal(err)
	}
	if after := odds(b); after < 5*before {
		t.Errorf("purge valve from %.3f to %.3f", before, after)
	}
	if c := b.Explain("P1450"); c.Says != "vacuum stays in the tank" || c.Source == "" {
		t.Errorf("it is explained as %+v", c)
	}
	for say, text := range map[string]string{
		"needs its source":              "codes:\n  - {code: P1450, says: \"x\", group: purge-passes}\n",
		`no group of codes "purge-pas"`: "codes:\n  - {code: P1450, says: \"x\", group: purge-pas, source: y}\n",
		"four digits, once":             "codes:\n  - {code: P0496, says: \"x\", group: lean, source: y}\n",
	} {
		write(text)
		if _, err := BookWith(page); err == nil || !strings.Contains(err.Error(), say) {
			t.Errorf("%s: %v", say, err)
		}
	}
}
