package drawing

import (
	"cmp"
	"fmt"
	"slices"

	"wexter/core/plumbing"
)

// FontSize is that of every label, px on a sheet of its full width; drawn a little
// smaller, as beside Next and Strip on a screen of 1280 px, they are still 14 px.
const FontSize = 16

// Point is a place on the sheet, px.
type Point struct{ X, Y int }

// Rect is a rectangle on the sheet, px.
type Rect struct{ X, Y, W, H int }

func (r Rect) grow(d int) Rect { return Rect{r.X - d, r.Y - d, r.W + 2*d, r.H + 2*d} }

// Overlaps reports whether two rectangles share an area.
func (r Rect) Overlaps(o Rect) bool {
	return r.X < o.X+o.W && o.X < r.X+r.W && r.Y < o.Y+o.H && o.Y < r.Y+r.H
}

func (r Rect) inside(w, h int) bool { return r.X >= 0 && r.Y >= 0 && r.X+r.W <= w && r.Y+r.H <= h }

// Middle is the rectangle's centre.
func (r Rect) Middle() Point { return Point{r.X + r.W/2, r.Y + r.H/2} }

// Label is text on the sheet. Lines stand one under another; Anchor is start, middle or end.
type Label struct {
	Key    string // of the part it names
	Lines  []string
	Box    Rect
	Anchor string
}

// Symbol is a part that has a place.
type Symbol struct {
	plumbing.Part
	Box Rect
}

// Pipe is a line with its corners.
type Pipe struct {
	plumbing.Part
	Way []Point
}

// Sheet is a car's plumbing laid out.
type Sheet struct {
	W, H    int
	Symbols []Symbol
	Pipes   []Pipe
	Labels  []Label
	Missing []string // labels and pipes that found no room, in words
}

// Lay places the parts of a graph.
func Lay(g *plumbing.Graph) *Sheet {
	s := &Sheet{W: plumbing.CanvasWidth, H: plumbing.CanvasHeight}
	l := newLayer(s, g)
	for _, p := range g.Parts {
		if p.Kind != plumbing.Line && p.At != "" {
			s.Symbols = append(s.Symbols, Symbol{p, boxOf(p)})
		}
	}
	l.closeBoxes()
	l.labelSymbols()
	l.routeAll()
	l.spots()
	l.labelPipes()
	return s
}

// Symbol finds one by key.
func (s *Sheet) Symbol(key string) (Symbol, bool) {
	i := slices.IndexFunc(s.Symbols, func(x Symbol) bool { return x.Key == key })
	if i < 0 {
		return Symbol{}, false
	}
	return s.Symbols[i], true
}

// Pipe finds one by key.
func (s *Sheet) Pipe(key string) (Pipe, bool) {
	i := slices.IndexFunc(s.Pipes, func(x Pipe) bool { return x.Key == key })
	if i < 0 {
		return Pipe{}, false
	}
	return s.Pipes[i], true
}

// Spot is where a flag or a tap on a part belongs, also for one that is only drawn by
// the part it sits in.
func (s *Sheet) Spot(g *plumbing.Graph, key string) (Point, bool) {
	if x, ok := s.Symbol(key); ok {
		return x.Box.Middle(), true
	}
	if x, ok := s.Pipe(key); ok {
		return x.middle(), true
	}
	if p, ok := g.Part(key); ok && p.On != "" && p.On != key {
		return s.Spot(g, p.On)
	}
	return Point{}, false
}

// middle is the middle of the longest straight run.
func (p Pipe) middle() Point {
	best, at := -1, Point{}
	for i := 1; i < len(p.Way); i++ {
		a, b := p.Way[i-1], p.Way[i]
		if n := abs(a.X-b.X) + abs(a.Y-b.Y); n > best {
			best, at = n, Point{(a.X + b.X) / 2, (a.Y + b.Y) / 2}
		}
	}
	return at
}

// boxOf is the room a part takes.
func boxOf(p plumbing.Part) Rect {
	x, y, _ := plumbing.Place(p.At)
	w, h := 26, 26
	switch {
	case len(p.Size) == 2:
		w, h = p.Size[0], p.Size[1]
	case p.Kind == plumbing.Tee:
		w, h = 8, 8
	case p.Kind == plumbing.Cover:
		w, h = 20, 16
	}
	return Rect{x - w/2, y - h/2, w, h}
}

// portOf is the point where a line meets a side, and the way it leaves.
func (s *Sheet) portOf(at string) (Point, Point, error) {
	key, side, off, err := plumbing.Port(at)
	if err != nil {
		return Point{}, Point{}, err
	}
	x, ok := s.Symbol(key)
	if !ok {
		return Point{}, Point{}, fmt.Errorf("%s is not on the sheet", key)
	}
	m := x.Box.Middle()
	if x.Kind == plumbing.Tee {
		d := map[string]Point{"left": {-1, 0}, "right": {1, 0}, "top": {0, -1}, "bottom": {0, 1}}[side]
		return m, d, nil
	}
	switch side {
	case "left":
		return Point{x.Box.X, m.Y + off}, Point{-1, 0}, nil
	case "right":
		return Point{x.Box.X + x.Box.W, m.Y + off}, Point{1, 0}, nil
	case "top":
		return Point{m.X + off, x.Box.Y}, Point{0, -1}, nil
	}
	return Point{m.X + off, x.Box.Y + x.Box.H}, Point{0, 1}, nil
}

// advance is the width of the letters from space to ~ in the narrow face of the
// Map, px at 14 and weight 500: measured in the font that ships with the program.
var advance = [...]float64{
	2.8, 4.13, 4.01, 8.88, 6.93, 11.32, 8.67, 1.98, 3.81, 3.81, 5.31, 6.56, 3.18, 5.04, 3.34, 5.53, 7.1, 4.33, 6.72,
	6.6, 7.07, 6.6, 6.61, 6.04, 6.7, 6.49, 4.08, 3.64, 6.56, 6.56, 6.56, 6.14, 11.08, 7.47, 7.56, 7.42, 7.62, 7.21,
	6.82, 7.49, 7.84, 3.36, 7.1, 7.58, 6.84, 8.73, 8.22, 7.59, 7.31, 7.23, 7.47, 7.1, 7.1, 7.83, 7.41, 10.67, 7.37,
	7.2, 6.67, 4.97, 5.53, 4.97, 6.05, 6.23, 2.83, 6.6, 6.89, 6.58, 6.89, 6.7, 4.57, 6.77, 6.82, 3.27, 3.18, 6.54,
	2.99, 10.39, 6.82, 6.86, 6.96, 6.96, 4.78, 6.12, 4.51, 6.79, 6.23, 9.23, 6.29, 6.05, 5.72, 4.39, 2.37, 4.39, 6.89,
}

// TextWidth is the width of a label on the sheet, px.
func TextWidth(t string) int {
	w := 0.0
	for _, r := range t {
		if i := int(r) - ' '; i >= 0 && i < len(advance) {
			w += advance[i]
		} else {
			w += 8
		}
	}
	return int(w*FontSize/14) + 2
}

const lineHeight = 17

func textBox(lines []string) (w, h int) {
	for _, t := range lines {
		w = max(w, TextWidth(t))
	}
	return w, lineHeight * len(lines)
}

// breaks gives the ways to set a label: on one line, then broken at a space so that
// the halves are as even as can be.
func breaks(t string) [][]string {
	out := [][]string{{t}}
	best := -1
	for i, r := range t {
		if r == ' ' && (best < 0 || abs(i-len(t)/2) < abs(best-len(t)/2)) {
			best = i
		}
	}
	if best > 0 {
		out = append(out, []string{t[:best], t[best+1:]})
	}
	return out
}

// labelSymbols names the parts that have a place, the fixed ones before the free.
func (l *layer) labelSymbols() {
	order := slices.Clone(l.s.Symbols)
	slices.SortStableFunc(order, func(a, b Symbol) int { return cmp.Compare(b2i(a.Text == ""), b2i(b.Text == "")) })
	for _, x := range order {
		text := x.Short()
		if x.Kind == plumbing.Tee || text == "" {
			continue
		}
		if !l.labelSymbol(x, text) {
			l.s.Missing = append(l.s.Missing, "label of "+x.Key)
		}
	}
}

func (l *layer) labelSymbol(x Symbol, text string) bool {
	sides := []string{"below", "above", "right", "left"}
	if x.Text != "" {
		sides = append([]string{x.Text}, sides...)
	}
	m, gap := x.Box.Middle(), 4
	for _, side := range sides {
		for _, lines := range breaks(text) {
			w, h := textBox(lines)
			lab := Label{Key: x.Key, Lines: lines, Anchor: "middle"}
			switch side {
			case "inside":
				if w > x.Box.W || h > x.Box.H {
					continue
				}
				lab.Box = Rect{m.X - w/2, m.Y - h/2, w, h}
				l.s.Labels = append(l.s.Labels, lab)
				return true
			case "below":
				lab.Box = Rect{m.X - w/2, x.Box.Y + x.Box.H + gap - 2, w, h}
			case "above":
				lab.Box = Rect{m.X - w/2, x.Box.Y - h - gap + 2, w, h}
			case "right":
				lab.Box, lab.Anchor = Rect{x.Box.X + x.Box.W + gap, m.Y - h/2, w, h}, "start"
			case "left":
				lab.Box, lab.Anchor = Rect{x.Box.X - w - gap, m.Y - h/2, w, h}, "end"
			}
			if l.free(lab.Box, x.Key) {
				l.s.Labels = append(l.s.Labels, lab)
				l.close(lab.Box.grow(3), 0)
				return true
			}
		}
	}
	return false
}

// free reports whether a label may stand there: on the sheet, off every box, port,
// label and pipe.
func (l *layer) free(r Rect, own string) bool {
	if !r.inside(l.s.W, l.s.H) {
		return false
	}
	for _, x := range l.s.Symbols {
		if x.Key != own && r.Overlaps(x.Box.grow(2)) || x.Key == own && r.Overlaps(x.Box) {
			return false
		}
	}
	for _, o := range l.s.Labels {
		if r.Overlaps(o.Box.grow(1)) {
			return false
		}
	}
	for _, p := range l.ports {
		if r.Overlaps(p) {
			return false
		}
	}
	for _, p := range l.s.Pipes {
		for i := 1; i < len(p.Way); i++ {
			if r.Overlaps(runBox(p.Way[i-1], p.Way[i], 5)) {
				return false
			}
		}
	}
	return true
}

// runBox is the room of a straight run of pipe, r to each side.
func runBox(a, b Point, r int) Rect {
	return Rect{min(a.X, b.X) - r, min(a.Y, b.Y) - r, abs(a.X-b.X) + 2*r, abs(a.Y-b.Y) + 2*r}
}

// labelPipes names the lines beside their straight runs, longest first.
func (l *layer) labelPipes() {
	for _, p := range l.s.Pipes {
		text := p.Label
		if text == "" {
			continue
		}
		if !l.labelPipe(p, text) {
			l.s.Missing = append(l.s.Missing, "label of "+p.Key)
		}
	}
}

func (l *layer) labelPipe(p Pipe, text string) bool {
	type run struct{ a, b Point }
	var runs []run
	for i := 1; i < len(p.Way); i++ {
		runs = append(runs, run{p.Way[i-1], p.Way[i]})
	}
	length := func(r run) int { return abs(r.a.X-r.b.X) + abs(r.a.Y-r.b.Y) }
	slices.SortStableFunc(runs, func(x, y run) int { return cmp.Compare(length(y), length(x)) })
	for _, lines := range breaks(text) {
		w, h := textBox(lines)
		for _, r := range runs {
			if length(r) < 12 {
				continue
			}
			m := Point{(r.a.X + r.b.X) / 2, (r.a.Y + r.b.Y) / 2}
			for step := 0; step <= length(r)/2; step += 8 {
				for _, d := range []int{step, -step} {
					var boxes []Label
					if r.a.Y == r.b.Y { // along
						boxes = []Label{{Box: Rect{m.X + d - w/2, m.Y - h - 6, w, h}, Anchor: "middle"}, {Box: Rect{m.X + d - w/2, m.Y + 7, w, h}, Anchor: "middle"}}
					} else {
						boxes = []Label{{Box: Rect{m.X + 8, m.Y + d - h/2, w, h}, Anchor: "start"}, {Box: Rect{m.X - 8 - w, m.Y + d - h/2, w, h}, Anchor: "end"}}
					}
					for _, lab := range boxes {
						if l.free(lab.Box, "") {
							lab.Key, lab.Lines = p.Key, lines
							l.s.Labels = append(l.s.Labels, lab)
							return true
						}
					}
				}
			}
		}
	}
	return false
}

// spots places what is drawn in the wall of another part.
func (l *layer) spots() {
	for _, p := range l.g.Parts {
		if p.On == "" || len(p.Spot) != 2 {
			continue
		}
		at, ok := l.s.Spot(l.g, p.On)
		if !ok {
			l.s.Missing = append(l.s.Missing, p.Key)
			continue
		}
		at = Point{at.X + p.Spot[0], at.Y + p.Spot[1]}
		l.s.Symbols = append(l.s.Symbols, Symbol{p, Rect{at.X - 8, at.Y - 8, 16, 16}})
	}
}

// Check returns what overlaps, lies on a pipe or outside, in words; empty when the
// sheet can be read.
func (s *Sheet) Check() (wrong []string) {
	say := func(f string, a ...any) { wrong = append(wrong, fmt.Sprintf(f, a...)) }
	for _, m := range s.Missing {
		say("no room for %s", m)
	}
	for i, x := range s.Symbols {
		if !x.Box.inside(s.W, s.H) {
			say("%s lies outside", x.Key)
		}
		for _, y := range s.Symbols[:i] {
			if x.Box.Overlaps(y.Box) && x.On != y.Key && y.On != x.Key {
				say("%s overlaps %s", x.Key, y.Key)
			}
		}
		for _, p := range s.Pipes {
			if x.On == p.Key {
				continue
			}
			for j := 1; j < len(p.Way); j++ {
				b := runBox(p.Way[j-1], p.Way[j], 0)
				if x.Box.grow(-1).Overlaps(Rect{b.X, b.Y, max(b.W, 1), max(b.H, 1)}) && x.Kind != plumbing.Tee {
					say("pipe %s runs through %s", p.Key, x.Key)
					break
				}
			}
		}
	}
	for i, a := range s.Labels {
		if !a.Box.inside(s.W, s.H) {
			say("label of %s lies outside", a.Key)
		}
		for _, b := range s.Labels[:i] {
			if a.Box.Overlaps(b.Box) {
				say("label of %s overlaps that of %s", a.Key, b.Key)
			}
		}
		for _, x := range s.Symbols {
			if x.Key != a.Key && x.On != a.Key && a.Box.Overlaps(x.Box) {
				say("label of %s lies on %s", a.Key, x.Key)
			}
		}
		for _, p := range s.Pipes {
			if x, ok := s.Symbol(a.Key); ok && x.Box.Overlaps(a.Box) {
				break // inside its own box, where no pipe runs
			}
			for j := 1; j < len(p.Way); j++ {
				if a.Box.Overlaps(runBox(p.Way[j-1], p.Way[j], 3)) {
					say("label of %s lies on pipe %s", a.Key, p.Key)
					break
				}
			}
		}
	}
	for i, p := range s.Pipes {
		for _, q := range s.Pipes[:i] {
			if along(p, q) {
				say("pipe %s runs on pipe %s", p.Key, q.Key)
			}
		}
	}
	return wrong
}

// along reports whether two pipes share a stretch and do not merely cross.
func along(p, q Pipe) bool {
	for i := 1; i < len(p.Way); i++ {
		for j := 1; j < len(q.Way); j++ {
			a, b, c, d := p.Way[i-1], p.Way[i], q.Way[j-1], q.Way[j]
			if a.X == b.X && c.X == d.X && a.X == c.X && min(max(a.Y, b.Y), max(c.Y, d.Y))-max(min(a.Y, b.Y), min(c.Y, d.Y)) > 4 {
				return true
			}
			if a.Y == b.Y && c.Y == d.Y && a.Y == c.Y && min(max(a.X, b.X), max(c.X, d.X))-max(min(a.X, b.X), min(c.X, d.X)) > 4 {
				return true
			}
		}
	}
	return false
}

func abs(x int) int {
	if x < 0 {
		return -x
	}
	return x
}

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}
