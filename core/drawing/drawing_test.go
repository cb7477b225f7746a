package drawing_test

import (
	"reflect"
	"strings"
	"testing"

	"wexter/core/drawing"
	"wexter/core/plumbing"
	"wexter/ingest"
)

var lib = ingest.Book().Plumbing

// Every possible car is laid out: nothing overlaps, no label lies on a pipe or on
// another, nothing lies outside and nothing is left out.
func TestEveryCombinationIsLegible(t *testing.T) {
	n, wrong := 0, 0
	for _, c := range lib.Combinations() {
		g, err := lib.Combine(c)
		if err != nil {
			t.Fatal(err)
		}
		s := drawing.Lay(g)
		n++
		for _, w := range s.Check() {
			if wrong++; wrong < 20 {
				t.Errorf("%v: %s", c, w)
			}
		}
		labels := map[string]bool{}
		for _, l := range s.Labels {
			labels[l.Key] = true
		}
		for _, p := range g.Parts {
			if _, ok := s.Spot(g, p.Key); !ok {
				t.Errorf("%v: %s has no place to be tapped", c, p.Key)
			}
			if named := p.At != "" && p.Kind != plumbing.Tee || p.Kind == plumbing.Line && p.Label != ""; named != labels[p.Key] {
				t.Errorf("%v: label of %s: %v", c, p.Key, labels[p.Key])
			}
		}
	}
	if n < 200 {
		t.Errorf("only %d cars were looked at", n)
	}
}

func laid(t testing.TB) (*plumbing.Graph, *drawing.Sheet) {
	g, err := lib.Combine(plumbing.Combination{Engine: "turbo-petrol", Boost: "charged-jet", Crankcase: "regulator-turbo", Recirculation: "egr-vacuum", Vapour: "eonv-switch-remote"})
	if err != nil {
		t.Fatal(err)
	}
	return g, drawing.Lay(g)
}

// Lines meet their ports, run only along and across, and keep to corners.
func TestPipesAreOrthogonalAndJoined(t *testing.T) {
	for _, c := range lib.Combinations()[:40] {
		g, _ := lib.Combine(c)
		s := drawing.Lay(g)
		if len(s.Pipes) < 15 {
			t.Fatalf("%v: %d pipes", c, len(s.Pipes))
		}
		for _, p := range s.Pipes {
			for i := 1; i < len(p.Way); i++ {
				if a, b := p.Way[i-1], p.Way[i]; a.X != b.X && a.Y != b.Y {
					t.Errorf("%v: %s runs aslant from %v to %v", c, p.Key, a, b)
				}
			}
			for end, at := range map[int]string{0: p.From, len(p.Way) - 1: p.To} {
				key, _, _, _ := plumbing.Port(at)
				x, _ := s.Symbol(key)
				q := p.Way[end]
				if b := x.Box; q.X < b.X || q.X > b.X+b.W || q.Y < b.Y || q.Y > b.Y+b.H {
					t.Errorf("%v: %s ends at %v and not at %s %+v", c, p.Key, q, at, b)
				}
			}
		}
	}
}

// A part stands where it stood on the last car.
func TestPlacesAreFixed(t *testing.T) {
	at := map[string]drawing.Rect{}
	for _, c := range lib.Combinations() {
		g, _ := lib.Combine(c)
		s := drawing.Lay(g)
		for _, key := range []string{"manifold", "engine", "canister", "tank", "cap", "throttle", "air-filter"} {
			x, ok := s.Symbol(key)
			if !ok {
				continue
			}
			if was, seen := at[key]; seen && was != x.Box {
				t.Errorf("%v: %s moved from %v to %v", c, key, was, x.Box)
			}
			at[key] = x.Box
		}
	}
	if front, rear := at["air-filter"], at["cap"]; front.X > at["manifold"].X || rear.X < at["canister"].X {
		t.Error("the rear of the car is not on the right")
	}
}

func TestTheSameCarGivesTheSameSheet(t *testing.T) {
	_, a := laid(t)
	_, b := laid(t)
	if !reflect.DeepEqual(a, b) {
		t.Error("two sheets of one car differ")
	}
}

// The check itself finds what it is there to find.
func TestCheckFindsFaults(t *testing.T) {
	_, s := laid(t)
	if w := s.Check(); len(w) > 0 {
		t.Fatal(w)
	}
	move := func(key string, f func(*drawing.Rect)) {
		for i := range s.Labels {
			if s.Labels[i].Key == key {
				f(&s.Labels[i].Box)
			}
		}
	}
	pipe, _ := s.Pipe("control-line")
	for say, change := range map[string]func(){
		"label of cap lies outside":               func() { move("cap", func(r *drawing.Rect) { r.X = -5 }) },
		"label of port lies on pipe control-line": func() { move("service-port", func(r *drawing.Rect) { r.X, r.Y = pipe.Way[0].X-3, pipe.Way[0].Y+40 }) },
		"overlaps that of": func() {
			move("regulator", func(r *drawing.Rect) { move("separator", func(o *drawing.Rect) { *r = *o }) })
		},
		"cap overlaps neck":      func() { a, b := sym(s, "cap"), sym(s, "neck"); a.Box = b.Box },
		"throttle lies outside":  func() { sym(s, "throttle").Box.Y = 10000 },
		"no room for label of x": func() { s.Missing = append(s.Missing, "label of x") },
		"runs through oil-cap": func() {
			sym(s, "oil-cap").Box = drawing.Rect{X: pipe.Way[0].X - 10, Y: pipe.Way[0].Y + 100, W: 20, H: 16}
		},
		"runs on pipe": func() { s.Pipes = append(s.Pipes, drawing.Pipe{Part: plumbing.Part{Key: "twin"}, Way: pipe.Way}) },
	} {
		_, s = laid(t)
		change()
		say = strings.Replace(say, "port lies", "service-port lies", 1)
		if w := strings.Join(s.Check(), "; "); !strings.Contains(w, say) {
			t.Errorf("not found: %s in %q", say, w)
		}
	}
}

func sym(s *drawing.Sheet, key string) *drawing.Symbol {
	for i := range s.Symbols {
		if s.Symbols[i].Key == key {
			return &s.Symbols[i]
		}
	}
	return nil
}

func BenchmarkLay(b *testing.B) {
	g, _ := laid(b)
	for b.Loop() {
		drawing.Lay(g)
	}
}
