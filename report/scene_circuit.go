package report

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"wexter/core/bench"
	"wexter/core/circuit"
)

// circuitSheet is where a circuit's points stand on the picture.
type circuitSheet struct {
	bench.CircuitScene
	c      *SVG
	dx, dy float64 // of a column, a row
}

const (
	circuitLeft = 34.0
	circuitTop  = 40.0
)

// circuitScene draws the circuit from battery to ground: what is no longer suspected is a whole line, what may be
// broken still is dashed, with its share, and the probes are where they are wanted.
func circuitScene(x bench.CircuitScene) string {
	columns, rows := 1.0, 1.0
	for _, n := range x.Circuit.Nodes {
		columns, rows = math.Max(columns, n.At[0]), math.Max(rows, n.At[1])
	}
	says := "the circuit: " + lowerCase(x.Circuit.Name)
	switch {
	case x.Found != "":
		says += "; found: " + lowerCase(x.Found)
	case x.Looks:
		says += "; look at the connector"
	case x.Red != "":
		red, _ := x.Circuit.Node(x.Red)
		black, _ := x.Circuit.Node(x.Black)
		says += fmt.Sprintf("; red probe on the %s, black on the %s", red.Name, black.Name)
	}
	s := circuitSheet{CircuitScene: x, dx: (sceneWidth - 2*circuitLeft - 20) / columns, dy: 78}
	below := 48.0 // what stands under the last row: the names of the boxes, then the key
	s.c = NewSVG(sceneWidth, circuitTop+s.dy*rows+below+12, says)
	s.boxes()
	for _, l := range x.Circuit.Links {
		s.link(l)
	}
	s.paths()
	s.ends()
	s.probes()
	s.c.Text("small", "start", 8, circuitTop+s.dy*rows+below, "whole line: not suspected; dashed: may be broken, with its odds")
	return s.c.String()
}

func lowerCase(s string) string {
	if s == "" {
		return s
	}
	return strings.ToLower(s[:1]) + s[1:]
}

func (s circuitSheet) at(key string) (x, y float64) {
	n, _ := s.Circuit.Node(key)
	if len(n.At) != 2 {
		return 0, 0
	}
	return circuitLeft + n.At[0]*s.dx, circuitTop + n.At[1]*s.dy
}

// frame draws a box around some points; empty where there are none.
func (s circuitSheet) frame(style, label string, keys []string) {
	if len(keys) == 0 {
		return
	}
	x0, y0, x1, y1 := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for _, k := range keys {
		x, y := s.at(k)
		x0, y0, x1, y1 = math.Min(x0, x), math.Min(y0, y), math.Max(x1, x), math.Max(y1, y)
	}
	const pad = 18.0
	s.c.Rect(style, x0-pad, y0-pad, x1-x0+2*pad, y1-y0+2*pad)
	s.c.Text("small", "middle", (x0+x1)/2, y1+pad+15, label)
}

// boxes are those of the part and of the control unit.
func (s circuitSheet) boxes() {
	var part, unit []string
	for _, l := range s.Circuit.Links {
		switch l.As {
		case circuit.Winding, circuit.Slider, circuit.Contact:
			part = append(part, l.From, l.To)
		case circuit.Output:
			unit = append(unit, l.From, l.To)
		}
	}
	for _, n := range s.Circuit.Nodes {
		if strings.HasPrefix(n.Key, "unit-") && !strings.Contains(n.Key, "pin") {
			unit = append(unit, n.Key)
		}
	}
	p, _ := s.Circuit.Link(s.Circuit.Part)
	s.frame("scenebox", p.Name, part)
	s.frame("scenebox", "control unit", unit)
}

// link draws a link by what it is.
func (s circuitSheet) link(l circuit.Link) {
	if l.As == circuit.Inside {
		return
	}
	x0, y0 := s.at(l.From)
	x1, y1 := s.at(l.To)
	mx, my := (x0+x1)/2, (y0+y1)/2
	style := s.style(l.Key)
	if slices.Contains(s.Off, l.Key) { // apart: the ends only
		s.c.Line(style, x0, y0, x0+(x1-x0)*0.3, y0+(y1-y0)*0.3)
		s.c.Line(style, x1-(x1-x0)*0.3, y1-(y1-y0)*0.3, x1, y1)
	} else {
		s.c.Line(style, x0, y0, x1, y1)
	}
	switch l.As {
	case circuit.Fuse:
		s.c.Rect("scenemeter", mx-14, my-7, 28, 14)
		s.c.Line("thinline", mx-14, my, mx+14, my)
		s.c.Text("small", "middle", mx, my-12, "fuse")
	case circuit.Pin:
		s.c.Line("sceneline", mx-6, my-6, mx, my)
		s.c.Line("sceneline", mx-6, my+6, mx, my)
	case circuit.Winding, circuit.Slider:
		for i := range 3 {
			f := (float64(i) + 0.5) / 3
			s.c.Circle("scenevalve", x0+(x1-x0)*f, y0+(y1-y0)*f, 5)
		}
	case circuit.Contact, circuit.Output:
		s.c.Circle("scenelevel", x0+(x1-x0)*0.25, y0+(y1-y0)*0.25, 3)
		s.c.Circle("scenelevel", x0+(x1-x0)*0.75, y0+(y1-y0)*0.75, 3)
	}
	switch l.As {
	case circuit.Winding, circuit.Slider, circuit.Contact: // beside the box of the part
		s.odds(l.Key, mx+44, my+5)
	case circuit.Output: // above that of the unit
		s.odds(l.Key, mx, my-26)
	default:
		s.odds(l.Key, mx, my+22)
	}
	if s.Found != "" && s.Suspicion[l.Key] > 0 {
		s.c.Line("sceneblade", mx-9, my-9, mx+9, my+9)
		s.c.Line("sceneblade", mx-9, my+9, mx+9, my-9)
	}
}

// style is how a link looks: cleared, possible, or neither.
func (s circuitSheet) style(key string) string {
	switch {
	case s.Suspicion[key] > 0:
		return "circuitopen"
	case s.Cleared[key]:
		return "circuitsound"
	}
	return "circuitrest"
}

// leastShown is the share of what is still possible from which on it is written.
const leastShown = 0.03

func (s circuitSheet) odds(key string, x, y float64) {
	if share := s.Suspicion[key]; share >= leastShown && s.Found == "" {
		s.c.Text("tick", "middle", x, y, fmt.Sprintf("%.0f %%", math.Min(100*share, 99)))
	}
}

// paths are those from a point to ground or plus that nobody built.
func (s circuitSheet) paths() {
	for _, n := range s.Circuit.Nodes {
		if s.Suspicion[n.Key] < leastShown {
			continue
		}
		x, y := s.at(n.Key)
		s.c.Line("circuitopen", x, y, x, y+22)
		s.c.Line("circuitopen", x-8, y+22, x+8, y+22)
		s.odds(n.Key, x, y+38)
	}
}

// joined reports whether a point is drawn by itself: one to which a link leads that is drawn, or the ground of
// the meter.
func (s circuitSheet) joined(key string) bool {
	return slices.ContainsFunc(s.Circuit.Links, func(l circuit.Link) bool {
		return (l.From == key || l.To == key) && (l.As != circuit.Inside || key == "probe")
	})
}

// ends are battery and grounds.
func (s circuitSheet) ends() {
	for _, k := range []string{"plus", "earth", "probe"} {
		if !s.joined(k) && k != s.Red && k != s.Black {
			continue
		}
		x, y := s.at(k)
		if k == "plus" {
			s.c.Circle("scenevalve", x, y, 9)
			s.c.Text("label", "middle", x, y+5, "+")
			continue
		}
		for i, w := range []float64{11, 7, 3} {
			s.c.Line("sceneblade", x-w, y+6+6*float64(i), x+w, y+6+6*float64(i))
		}
		if k == "probe" {
			s.c.Text("small", "start", x+18, y+14, "ground of the meter")
			s.c.Line("thinline", x, y-8, x, y+6)
		}
	}
}

// probes are the meter's, and what was measured before at its points.
func (s circuitSheet) probes() {
	for _, n := range s.Circuit.Nodes {
		if v, ok := s.At[n.Key]; ok {
			x, y := s.at(n.Key)
			s.c.Text("label", "middle", x, y-14, v)
		}
	}
	for _, p := range []struct{ key, style, word string }{{s.Red, "circuitred", "red"}, {s.Black, "circuitblack", "black"}} {
		if p.key == "" || s.Found != "" {
			continue
		}
		x, y := s.at(p.key)
		s.c.Circle(p.style, x, y, 8)
		switch {
		case p.key == "probe":
			s.c.Text("label", "end", x-16, y+5, p.word)
		case strings.HasPrefix(p.key, "part-"): // beside the box of the part
			s.c.Text("label", "start", x+24, y+5, p.word)
		default:
			s.c.Text("label", "middle", x, y-28, p.word)
		}
	}
	if s.Load != nil {
		x0, y0 := s.at(s.Load.From)
		x1, y1 := s.at(s.Load.To)
		s.c.Line("thinline", x0, y0, x1, y1)
		s.c.Circle("scenevalve", (x0+x1)/2, (y0+y1)/2, 9)
		if x0 == x1 {
			s.c.Text("small", "end", x0-14, (y0+y1)/2+5, "load")
			return
		}
		s.c.Text("small", "start", (x0+x1)/2+12, (y0+y1)/2-10, "load")
	}
}
