package drawing

import (
	"cmp"
	"slices"

	"wexter/core/plumbing"
)

// pitch of the grid on which lines run, px.
const pitch = 4

// layer is the sheet while it is being laid out: which cells of the grid are closed,
// and by which lines the others are taken.
type layer struct {
	s      *Sheet
	g      *plumbing.Graph
	cols   int
	rows   int
	closed []uint8 // 1: nothing may run here; 2: close to something, dear
	across []bool  // a line runs here from left to right
	down   []bool
	ports  []Rect // room before each port, kept free of labels
	cost   []int32
	from   []int32
	stamp  []int32
	now    int32
	queue  *frontier
}

func newLayer(s *Sheet, g *plumbing.Graph) *layer {
	l := &layer{s: s, g: g, cols: s.W/pitch + 1, rows: s.H/pitch + 1, queue: &frontier{}}
	n := l.cols * l.rows
	l.closed, l.across, l.down = make([]uint8, n), make([]bool, n), make([]bool, n)
	l.cost, l.from, l.stamp = make([]int32, 4*n), make([]int32, 4*n), make([]int32, 4*n)
	return l
}

// close shuts the cells of a rectangle, and makes a rim round it dear.
func (l *layer) close(r Rect, rim int) {
	l.mark(r.grow(rim), 2)
	l.mark(r, 1)
}

func (l *layer) mark(r Rect, v uint8) {
	for y := max(0, (r.Y+pitch-1)/pitch); y <= min(l.rows-1, (r.Y+r.H)/pitch); y++ {
		for x := max(0, (r.X+pitch-1)/pitch); x <= min(l.cols-1, (r.X+r.W)/pitch); x++ {
			if i := y*l.cols + x; l.closed[i] != 1 {
				l.closed[i] = v
			}
		}
	}
}

// closeBoxes shuts every part's room, and keeps the places before the ports in use
// free of labels.
func (l *layer) closeBoxes() {
	for _, x := range l.s.Symbols {
		l.close(x.Box, 10)
	}
	for _, p := range l.g.Parts {
		if p.Kind != plumbing.Line {
			continue
		}
		for _, at := range []string{p.From, p.To} {
			if q, d, err := l.s.portOf(at); err == nil {
				l.ports = append(l.ports, runBox(q, Point{q.X + 12*d.X, q.Y + 12*d.Y}, 6))
			}
		}
	}
}

// routeAll finds the ways of all lines, the shortest first.
func (l *layer) routeAll() {
	type job struct {
		p    plumbing.Part
		a, b Point
		da   Point
		db   Point
	}
	var jobs []job
	for _, p := range l.g.Parts {
		if p.Kind != plumbing.Line {
			continue
		}
		a, da, errA := l.s.portOf(p.From)
		b, db, errB := l.s.portOf(p.To)
		if errA != nil || errB != nil {
			l.s.Missing = append(l.s.Missing, "pipe "+p.Key)
			continue
		}
		jobs = append(jobs, job{p, a, b, da, db})
	}
	slices.SortStableFunc(jobs, func(x, y job) int {
		return cmp.Compare(abs(x.a.X-x.b.X)+abs(x.a.Y-x.b.Y), abs(y.a.X-y.b.X)+abs(y.a.Y-y.b.Y))
	})
	for _, j := range jobs {
		way := l.route(j.a, j.da, j.b, j.db)
		if way == nil {
			l.s.Missing = append(l.s.Missing, "pipe "+j.p.Key)
			continue
		}
		l.take(way)
		l.s.Pipes = append(l.s.Pipes, Pipe{j.p, way})
	}
	order := map[string]int{}
	for i, p := range l.g.Parts {
		order[p.Key] = i
	}
	slices.SortFunc(l.s.Pipes, func(a, b Pipe) int { return cmp.Compare(order[a.Key], order[b.Key]) })
}

// take notes where a line runs.
func (l *layer) take(way []Point) {
	for i := 1; i < len(way); i++ {
		a, b := way[i-1], way[i]
		dx, dy := sign(b.X-a.X), sign(b.Y-a.Y)
		for x, y := a.X, a.Y; ; x, y = x+dx*pitch, y+dy*pitch {
			c := (y/pitch)*l.cols + x/pitch
			if dx != 0 {
				l.across[c] = true
			} else {
				l.down[c] = true
			}
			for _, o := range []int{-2, -1, 1, 2} { // lines keep their distance
				n := c + o
				if dx != 0 {
					n = c + o*l.cols
				}
				if n >= 0 && n < len(l.closed) && l.closed[n] == 0 {
					l.closed[n] = 2
				}
			}
			if (x == b.X || dx == 0) && (y == b.Y || dy == 0) {
				break
			}
			if dx > 0 && x > b.X || dx < 0 && x < b.X || dy > 0 && y > b.Y || dy < 0 && y < b.Y {
				break
			}
		}
	}
}

// The directions: right, down, left, up.
var steps = [4]Point{{1, 0}, {0, 1}, {-1, 0}, {0, -1}}

// What a step costs: along, beside something, a bend, a crossing.
const (
	costStep  = 2
	costClose = 3
	costBend  = 24
	costCross = 40
)

// route finds the cheapest way from a, leaving along da, to b, arriving against db.
func (l *layer) route(a, da, b, db Point) []Point {
	start, goal := Point{snap(a.X), snap(a.Y)}, Point{snap(b.X), snap(b.Y)}
	l.now++
	*l.queue = (*l.queue)[:0]
	dirOf := func(d Point) int {
		for i, s := range steps {
			if s == d {
				return i
			}
		}
		return 0
	}
	first, last := dirOf(da), dirOf(Point{-db.X, -db.Y})
	guess := func(x, y int) int32 {
		n := costStep * (abs(x-goal.X) + abs(y-goal.Y))
		if x != goal.X && y != goal.Y {
			n += costBend // at least one corner is still to come
		}
		return int32(n)
	}
	index := func(x, y, d int) int32 { return int32((y*l.cols+x)*4 + d) }
	s0 := index(start.X, start.Y, first)
	l.stamp[s0], l.cost[s0], l.from[s0] = l.now, 0, -1
	l.queue.push(item{guess(start.X, start.Y), s0})
	near := func(x, y int, p Point) bool { return abs(x-p.X) <= 2 && abs(y-p.Y) <= 2 }
	for len(*l.queue) > 0 {
		it := l.queue.pop()
		d := int(it.at % 4)
		cell := it.at / 4
		x, y := int(cell)%l.cols, int(cell)/l.cols
		if it.rank > l.cost[it.at]+guess(x, y) {
			continue
		}
		if x == goal.X && y == goal.Y && d == last {
			return l.walk(it.at, a, b)
		}
		for nd := range 4 {
			if (nd+2)%4 == d {
				continue
			}
			if nd != d && x == start.X && y == start.Y {
				continue // leaves straight
			}
			nx, ny := x+steps[nd].X, y+steps[nd].Y
			if nx < 1 || ny < 1 || nx >= l.cols-1 || ny >= l.rows-1 {
				continue
			}
			c := ny*l.cols + nx
			step := int32(costStep)
			ends := near(nx, ny, start) || near(nx, ny, goal)
			switch {
			case l.closed[c] == 1 && !ends:
				continue
			case l.closed[c] != 0:
				step += costClose
			}
			horizontal := nd%2 == 0
			if horizontal && l.across[c] || !horizontal && l.down[c] {
				if !ends {
					continue
				}
				step += costCross
			}
			if horizontal && l.down[c] || !horizontal && l.across[c] {
				step += costCross
			}
			if nd != d {
				step += costBend
				here := y*l.cols + x
				if l.across[here] || l.down[here] {
					continue // no bend on another line
				}
			}
			n := index(nx, ny, nd)
			total := l.cost[it.at] + step
			if l.stamp[n] == l.now && l.cost[n] <= total {
				continue
			}
			l.stamp[n], l.cost[n], l.from[n] = l.now, total, it.at
			l.queue.push(item{total + guess(nx, ny), n})
		}
	}
	return nil
}

// walk reads the corners of a way back from its end and sets it to its ports.
func (l *layer) walk(at int32, a, b Point) []Point {
	var pts []Point
	for ; at >= 0; at = l.from[at] {
		c := int(at / 4)
		p := Point{c % l.cols * pitch, c / l.cols * pitch}
		if n := len(pts); n >= 2 && (pts[n-1].X == p.X && pts[n-2].X == p.X || pts[n-1].Y == p.Y && pts[n-2].Y == p.Y) {
			pts[n-1] = p
			continue
		}
		pts = append(pts, p)
	}
	slices.Reverse(pts)
	// The ends lie on the grid's lines next to the ports: set them exactly.
	fit := func(end, next *Point, to Point) {
		if end.X == next.X && len(pts) > 1 {
			next.X = to.X
		} else {
			next.Y = to.Y
		}
		*end = to
	}
	if len(pts) == 1 {
		return []Point{a, b}
	}
	if len(pts) == 2 {
		pts[0], pts[1] = a, b
		if a.X != b.X && a.Y != b.Y {
			if abs(a.X-b.X) < abs(a.Y-b.Y) {
				pts[1].X = a.X
			} else {
				pts[1].Y = a.Y
			}
		}
		return pts
	}
	fit(&pts[0], &pts[1], a)
	n := len(pts)
	fit(&pts[n-1], &pts[n-2], b)
	return pts
}

// snap is the nearest line of the grid.
func snap(v int) int { return (v + pitch/2) / pitch }

func sign(v int) int {
	switch {
	case v > 0:
		return 1
	case v < 0:
		return -1
	}
	return 0
}

// frontier is a binary heap of places still to look at, the cheapest first; equal ones
// in the order of the grid, so that the same sheet comes out every time.
type frontier []item

type item struct {
	rank int32
	at   int32
}

func (a item) before(b item) bool { return a.rank < b.rank || a.rank == b.rank && a.at < b.at }

func (f *frontier) push(x item) {
	h := append(*f, x)
	i := len(h) - 1
	for i > 0 {
		up := (i - 1) / 2
		if !h[i].before(h[up]) {
			break
		}
		h[i], h[up] = h[up], h[i]
		i = up
	}
	*f = h
}

func (f *frontier) pop() item {
	h := *f
	x := h[0]
	n := len(h) - 1
	h[0] = h[n]
	h = h[:n]
	for i := 0; ; {
		c := 2*i + 1
		if c >= n {
			break
		}
		if c+1 < n && h[c+1].before(h[c]) {
			c++
		}
		if !h[c].before(h[i]) {
			break
		}
		h[i], h[c] = h[c], h[i]
		i = c
	}
	*f = h
	return x
}
