package report

import (
	"fmt"
	"html"
	"slices"
	"strings"

	"wexter/core/drawing"
	"wexter/core/plumbing"
)

// Tool is an instrument on a drawing of a set-up, and the part at which it is joined.
type Tool struct{ Part, Name string }

// SetUp is a drawing of how a car stands for a test: the piece of its Map round what is done,
// what is joined where, and numbers at what was plugged, opened, shut or powered. It is a Map
// of its own: nothing in it can be tapped, and what was proven or is suspected is left out.
type SetUp struct {
	Graph    *plumbing.Graph
	Sheet    *drawing.Sheet
	Title    string
	Settings plumbing.Settings
	Tools    []Tool
}

// Call is what a number on the drawing stands for.
type Call struct {
	N    int
	Part string // key
	Says string // the part and what is done to it
}

// Calls lists what is numbered: every part that does not stand at rest, in the order of the
// plumbing.
func (s SetUp) Calls() (out []Call) {
	m := Map{Graph: s.Graph, Settings: s.Settings}
	for _, p := range s.Graph.Parts {
		if st, ok := s.Settings[p.Key]; ok && p.Name != "" && st != "" {
			out = append(out, Call{len(out) + 1, p.Key, p.Name + ": " + m.StateWords(p)})
		}
	}
	return out
}

// The drawing's marks: a tool's box, how near it may stand to its part and how far off, the
// circle of a number, and the rim around it all, px on the sheet.
const (
	toolHeight, toolOff  = 26, 12
	toolFar              = 180
	callRadius           = 11
	setUpRim             = 46
	setUpWide, setUpTall = 360, 240 // at least
	setUpLeast           = 76       // % of its size, below which its words are too small on glass
)

// placed is a tool with the room it takes.
type placed struct {
	Tool
	at  drawing.Point
	box drawing.Rect
}

// SVG draws the set-up; empty when nothing of it is on the sheet.
func (s SetUp) SVG() string {
	m := &Map{Graph: s.Graph, Sheet: s.Sheet, Title: s.Title, Settings: s.Settings}
	tools := s.place()
	crop, ok := s.crop(tools)
	if !ok {
		return ""
	}
	var b strings.Builder
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="%d %d %d %d" width="%d" class="setup" role="img" aria-label="%s">`, crop.X, crop.Y, crop.W, crop.H, crop.W*setUpLeast/100, html.EscapeString(s.says()))
	for _, p := range s.Sheet.Pipes {
		m.pipe(&b, p)
	}
	for _, x := range s.Sheet.Symbols {
		m.symbol(&b, x)
	}
	for _, l := range s.Sheet.Labels { // half a word says nothing
		if l.Box.X >= crop.X && l.Box.Y >= crop.Y && l.Box.X+l.Box.W <= crop.X+crop.W && l.Box.Y+l.Box.H <= crop.Y+crop.H {
			m.label(&b, l)
		}
	}
	for _, t := range tools {
		t.draw(&b)
	}
	for _, c := range s.Calls() {
		if at, ok := s.Sheet.Spot(s.Graph, c.Part); ok {
			at = s.beside(c.Part, at, tools)
			fmt.Fprintf(&b, `<g class="m-call"><circle cx="%d" cy="%d" r="%d"/><text x="%d" y="%d">%d</text></g>`, at.X, at.Y, callRadius, at.X, at.Y+5, c.N)
		}
	}
	b.WriteString("</svg>")
	return b.String()
}

// says is the drawing in words.
func (s SetUp) says() string {
	out := []string{s.Title}
	for _, t := range s.Tools {
		p, _ := s.Graph.Part(t.Part)
		out = append(out, t.Name+" at "+plumbing.Lower(p.Name))
	}
	for _, c := range s.Calls() {
		out = append(out, c.Says)
	}
	return strings.Join(out, "; ")
}

// beside is where a part's number goes: off its box, where it covers the least.
func (s SetUp) beside(key string, at drawing.Point, tools []placed) drawing.Point {
	w, h := callRadius+5, callRadius+5
	if x, ok := s.Sheet.Symbol(key); ok {
		w, h = x.Box.W/2+callRadius+2, x.Box.H/2+callRadius+2
	}
	best, cost := at, 1<<30
	for _, d := range corners {
		p := drawing.Point{X: at.X + d.X*w, Y: at.Y + d.Y*h}
		r := drawing.Rect{X: p.X - callRadius, Y: p.Y - callRadius, W: 2 * callRadius, H: 2 * callRadius}
		if c := s.covers(r, tools); r.X >= 0 && r.Y >= 0 && c < cost {
			best, cost = p, c
		}
	}
	return best
}

// corners are the ways off a part for its number.
var corners = []drawing.Point{{X: -1, Y: -1}, {X: 1, Y: -1}, {X: -1, Y: 1}, {X: 1, Y: 1}, {X: -1}, {X: 1}, {Y: -1}, {Y: 1}}

// place finds room for each tool beside its part: where its box covers no symbol, no label
// and no other tool, and as little pipe as can be.
func (s SetUp) place() (out []placed) {
	for _, t := range s.Tools {
		at, ok := s.Sheet.Spot(s.Graph, t.Part)
		if !ok {
			continue
		}
		w := drawing.TextWidth(t.Name) + 18
		best, cost := drawing.Rect{}, 1<<30
		for dx := -toolFar; dx <= toolFar; dx += 10 {
			for dy := -toolFar; dy <= toolFar; dy += 10 {
				r := drawing.Rect{X: at.X - w/2 + dx, Y: at.Y - toolHeight/2 + dy, W: w, H: toolHeight}
				if r.X < 0 || r.Y < 0 || r.X+r.W > s.Sheet.W || r.Y+r.H > s.Sheet.H {
					continue
				}
				to := s.edge(t.Part, at, r)
				from := within(r, to)
				far := max(from.X-to.X, to.X-from.X) + max(from.Y-to.Y, to.Y-from.Y)
				if c := s.covers(r, out) + s.crosses(t.Part, r, to) + max(far, toolOff)/2; c < cost {
					best, cost = r, c
				}
			}
		}
		out = append(out, placed{t, s.edge(t.Part, at, best), best})
	}
	return out
}

// edge is where a tool's hose meets its part: on the side of its box that lies nearest.
func (s SetUp) edge(key string, at drawing.Point, tool drawing.Rect) drawing.Point {
	x, ok := s.Sheet.Symbol(key)
	if !ok {
		return at
	}
	return within(x.Box, tool.Middle())
}

// within is the point of a rectangle that lies nearest to another.
func within(r drawing.Rect, p drawing.Point) drawing.Point {
	return drawing.Point{X: max(r.X, min(p.X, r.X+r.W)), Y: max(r.Y, min(p.Y, r.Y+r.H))}
}

// crosses is how bad it is to lay a hose from a box to a point: over words and other parts.
func (s SetUp) crosses(key string, box drawing.Rect, to drawing.Point) (cost int) {
	from := within(box, to)
	const steps = 12
	for i := 1; i < steps; i++ {
		p := drawing.Rect{X: from.X + (to.X-from.X)*i/steps, Y: from.Y + (to.Y-from.Y)*i/steps, W: 1, H: 1}
		for _, l := range s.Sheet.Labels {
			if p.Overlaps(l.Box) {
				cost += 12
			}
		}
		for _, x := range s.Sheet.Symbols {
			if x.Key != key && p.Overlaps(x.Box) {
				cost += 16
			}
		}
	}
	return cost
}

// covers is how bad it is to lay a box there.
func (s SetUp) covers(r drawing.Rect, tools []placed) (cost int) {
	for _, x := range s.Sheet.Symbols {
		if r.Overlaps(x.Box) {
			cost += 1000
		}
	}
	for _, l := range s.Sheet.Labels {
		if r.Overlaps(l.Box) {
			cost += 1000
		}
	}
	for _, t := range tools {
		if r.Overlaps(t.box) {
			cost += 1000
		}
	}
	for _, p := range s.Sheet.Pipes {
		for i := 1; i < len(p.Way); i++ {
			if r.Overlaps(run(p.Way[i-1], p.Way[i])) {
				cost += 20
			}
		}
	}
	return cost
}

// run is the room of a straight stretch of pipe.
func run(a, b drawing.Point) drawing.Rect {
	return drawing.Rect{X: min(a.X, b.X) - 6, Y: min(a.Y, b.Y) - 6, W: max(a.X, b.X) - min(a.X, b.X) + 12, H: max(a.Y, b.Y) - min(a.Y, b.Y) + 12}
}

// draw draws a tool: its box, and the hose or lead to its part.
func (t placed) draw(b *strings.Builder) {
	end := within(t.box, t.at)
	fmt.Fprintf(b, `<g class="m-tool"><path d="M%d %dL%d %d"/><circle cx="%d" cy="%d" r="5"/><rect x="%d" y="%d" width="%d" height="%d"/><text x="%d" y="%d">%s</text></g>`,
		end.X, end.Y, t.at.X, t.at.Y, t.at.X, t.at.Y, t.box.X, t.box.Y, t.box.W, t.box.H, t.box.X+t.box.W/2, t.box.Y+18, html.EscapeString(t.Name))
}

// crop is the piece of the sheet that the test is about: round what is joined and numbered.
func (s SetUp) crop(tools []placed) (drawing.Rect, bool) {
	var out drawing.Rect
	ok := false
	add := func(r drawing.Rect) {
		if !ok {
			out, ok = r, true
			return
		}
		x, y := min(out.X, r.X), min(out.Y, r.Y)
		out = drawing.Rect{X: x, Y: y, W: max(out.X+out.W, r.X+r.W) - x, H: max(out.Y+out.H, r.Y+r.H) - y}
	}
	about := func(key string) bool {
		_, set := s.Settings[key]
		return set || slices.ContainsFunc(s.Tools, func(t Tool) bool { return t.Part == key })
	}
	for _, x := range s.Sheet.Symbols {
		if about(x.Key) {
			add(x.Box)
		}
	}
	for _, p := range s.Sheet.Pipes {
		for i := 1; i < len(p.Way) && about(p.Key); i++ {
			add(run(p.Way[i-1], p.Way[i]))
		}
	}
	for _, t := range tools {
		add(t.box)
		add(drawing.Rect{X: t.at.X, Y: t.at.Y, W: 1, H: 1})
	}
	if !ok {
		return out, false
	}
	out.Y, out.H = around(out.Y, out.H, setUpTall, s.Sheet.H)
	out.X, out.W = around(out.X, out.W, max(setUpWide, out.H*4/5), s.Sheet.W)
	return out, true
}

// around widens a stretch by the rim, and to the least that shows what is about it, within
// the sheet.
func around(from, long, least, all int) (int, int) {
	rim := max(setUpRim, (least-long)/2)
	end := min(from+long+rim, all)
	from = max(from-rim, 0)
	return from, end - from
}
