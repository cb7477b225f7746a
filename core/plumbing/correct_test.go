package plumbing_test

import (
	"strings"
	"testing"

	"wexter/core/drawing"
	"wexter/core/plumbing"
)

func TestCorrect(t *testing.T) {
	g := graph(t, plain)
	for _, c := range []struct {
		name    string
		changes []plumbing.Change
		gone    string // parts that are off the Map afterwards
		joined  string // "a b": b stands under pressure from a, everything open
		apart   string
	}{
		{"no service port", []plumbing.Change{{Kind: plumbing.Gone, Part: "service-port"}}, "service-port port-stub", "purge-valve canister", ""},
		{"no booster check valve: one hose", []plumbing.Change{{Kind: plumbing.Gone, Part: "booster-check"}}, "booster-check booster-end", "manifold booster", ""},
		{"no tank sensor", []plumbing.Change{{Kind: plumbing.Gone, Part: "tank-sensor"}}, "tank-sensor", "tank canister", ""},
		{"no vapour line", []plumbing.Change{{Kind: plumbing.Gone, Part: "vapour-line"}}, "vapour-line", "", "canister tank"},
		{"vapour line to the neck", []plumbing.Change{{Kind: plumbing.Runs, Part: "vapour-line", From: "neck", To: "canister"}}, "", "canister neck", ""},
		{"breather to the filter box, then a part gone", []plumbing.Change{{Kind: plumbing.Runs, Part: "breather-line", From: "crankcase", To: "air-filter"}, {Kind: plumbing.Gone, Part: "dipstick"}}, "dipstick dipstick-tube", "crankcase air-filter", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			n, err := g.Correct(c.changes)
			if err != nil {
				t.Errorf("%s: %v", c.name, err)
				return
			}
			for _, k := range strings.Fields(c.gone) {
				if _, ok := n.Part(k); ok {
					t.Errorf("%s: %s is still there", c.name, k)
				}
			}
			open := plumbing.Settings{}
			for _, p := range n.Parts {
				if p.Kind == plumbing.Valve {
					open[p.Key] = plumbing.Open
				}
			}
			if a, b, ok := strings.Cut(c.joined, " "); ok && !n.Reach(a, open, plumbing.Pressure).Tests(b) && !n.Reach(b, open, plumbing.Pressure).Tests(a) {
				t.Errorf("%s: %s and %s are apart", c.name, a, b)
			}
			if a, b, ok := strings.Cut(c.apart, " "); ok && n.Reach(a, open, plumbing.Pressure).Tests(b) {
				t.Errorf("%s: %s and %s are joined", c.name, a, b)
			}
			if s := drawing.Lay(n); len(s.Pipes) != len(lines(n)) {
				t.Errorf("%s: %v", c.name, s.Missing)
			}
			if _, ok := g.Part("service-port"); !ok {
				t.Fatal("the graph itself was changed")
			}
		})
	}
	for _, c := range []struct {
		change plumbing.Change
		say    string
	}{
		{plumbing.Change{Kind: plumbing.Gone, Part: "nothing"}, `"nothing" is not on this car's Map`},
		{plumbing.Change{Kind: "melted", Part: "cap"}, "is no change"},
		{plumbing.Change{Kind: plumbing.Gone, Part: "engine"}, "cannot be taken off"},
		{plumbing.Change{Kind: plumbing.Gone, Part: "manifold"}, "joins"},
		{plumbing.Change{Kind: plumbing.Gone, Part: "purge-pipe"}, "something hangs loose"},
		{plumbing.Change{Kind: plumbing.Runs, Part: "cap", From: "tank", To: "neck"}, "is no line"},
		{plumbing.Change{Kind: plumbing.Runs, Part: "vapour-line", From: "tank", To: "tank"}, "to itself"},
		{plumbing.Change{Kind: plumbing.Runs, Part: "vapour-line", From: "moon", To: "tank"}, `"moon" is not`},
		{plumbing.Change{Kind: plumbing.Runs, Part: "vapour-line", From: "purge-line", To: "canister"}, "nothing can be joined"},
	} {
		t.Run(c.say, func(t *testing.T) {
			if _, err := g.Correct([]plumbing.Change{c.change}); err == nil || !strings.Contains(err.Error(), c.say) {
				t.Errorf("%+v: %v; want %q", c.change, err, c.say)
			}
		})
	}
}

func lines(g *plumbing.Graph) (out []plumbing.Part) {
	for _, p := range g.Parts {
		if p.Kind == plumbing.Line {
			out = append(out, p)
		}
	}
	return
}

// Whatever is taken off one by one, the answer is a whole graph or a sentence.
func TestCorrectNeverBreaks(t *testing.T) {
	for _, c := range []plumbing.Combination{plain, turbo, plain.With("vapour", "early-ported")} {
		g := graph(t, c)
		done := 0
		for _, p := range g.Parts {
			n, err := g.Correct([]plumbing.Change{{Kind: plumbing.Gone, Part: p.Key}})
			if err != nil {
				continue
			}
			done++
			if _, ok := n.Part(p.Key); ok {
				t.Errorf("%s is gone and there", p.Key)
			}
			drawing.Lay(n)
		}
		if done < 20 {
			t.Errorf("%v: only %d parts can be taken off", c, done)
		}
	}
}
