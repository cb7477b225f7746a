package network

import "slices"

// lu solves a sparse system whose pattern is symmetric and fixed. The plumbing of a car
// is nearly a tree: eliminated from its leaves inwards it fills in next to nothing.
type lu struct {
	n     int
	slot  map[[2]int]int
	a     []float64 // values by slot; the diagonal first
	steps []pivot
}

type pivot struct {
	k     int
	near  []int32 // rows below, and columns to the right: the pattern is symmetric
	low   []int32 // slot of (near, k)
	up    []int32 // slot of (k, near)
	cross []int32 // slot of (near, near), row by row
}

func newLU(n int, pairs [][2]int) *lu {
	l := &lu{n: n, slot: map[[2]int]int{}}
	near := make([]map[int]bool, n)
	at := func(i, j int) int {
		s, ok := l.slot[[2]int{i, j}]
		if !ok {
			s = len(l.slot)
			l.slot[[2]int{i, j}] = s
		}
		return s
	}
	for i := range n {
		near[i] = map[int]bool{}
		at(i, i)
	}
	for _, p := range pairs {
		if p[0] != p[1] {
			near[p[0]][p[1]], near[p[1]][p[0]] = true, true
			at(p[0], p[1])
			at(p[1], p[0])
		}
	}
	done := make([]bool, n)
	for range n {
		k := -1
		for i := range n {
			if !done[i] && (k < 0 || len(near[i]) < len(near[k])) {
				k = i
			}
		}
		done[k] = true
		p := pivot{k: k}
		rest := make([]int, 0, len(near[k]))
		for j := range near[k] {
			rest = append(rest, j)
		}
		slices.Sort(rest) // the same order in every run: sums round alike
		for _, j := range rest {
			p.near = append(p.near, int32(j))
			p.low, p.up = append(p.low, int32(at(j, k))), append(p.up, int32(at(k, j)))
			delete(near[j], k)
		}
		for _, i := range rest {
			for _, j := range rest {
				p.cross = append(p.cross, int32(at(i, j)))
				if i != j {
					near[i][j] = true
				}
			}
		}
		l.steps = append(l.steps, p)
	}
	l.a = make([]float64, len(l.slot))
	return l
}

func (l *lu) clear() { clear(l.a) }

// factor eliminates in place. Slot k of the first n is the diagonal.
func (l *lu) factor() {
	for s := range l.steps {
		p := &l.steps[s]
		d := 1 / l.a[p.k]
		n := len(p.near)
		for r, low := range p.low {
			f := l.a[low] * d
			l.a[low] = f
			if f == 0 {
				continue
			}
			row := p.cross[r*n : r*n+n]
			for c, up := range p.up {
				l.a[row[c]] -= f * l.a[up]
			}
		}
	}
}

// solve overwrites b with the solution.
func (l *lu) solve(b []float64) {
	for s := range l.steps {
		p := &l.steps[s]
		v := b[p.k]
		for r, low := range p.low {
			b[p.near[r]] -= l.a[low] * v
		}
	}
	for s := len(l.steps) - 1; s >= 0; s-- {
		p := &l.steps[s]
		v := b[p.k]
		for c, up := range p.up {
			v -= l.a[up] * b[p.near[c]]
		}
		b[p.k] = v / l.a[p.k]
	}
}

// solve2 does what solve does to two right sides at once. It costs little more than one:
// what is waited for is the way from row to row.
func (l *lu) solve2(b, c []float64) {
	for s := range l.steps {
		p := &l.steps[s]
		v, w := b[p.k], c[p.k]
		for r, low := range p.low {
			f, row := l.a[low], p.near[r]
			b[row] -= f * v
			c[row] -= f * w
		}
	}
	for s := len(l.steps) - 1; s >= 0; s-- {
		p := &l.steps[s]
		v, w := b[p.k], c[p.k]
		for j, up := range p.up {
			f, col := l.a[up], p.near[j]
			v -= f * b[col]
			w -= f * c[col]
		}
		d := l.a[p.k]
		b[p.k], c[p.k] = v/d, w/d
	}
}
