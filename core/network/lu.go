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
	a := l.a
	for s := range l.steps {
		p := &l.steps[s]
		d := 1 / a[p.k]
		n := len(p.near)
		for r, low := range p.low {
			f := a[low] * d
			a[low] = f
			if f == 0 {
				continue
			}
			row := p.cross[r*n : r*n+n]
			for c, up := range p.up {
				a[row[c]] -= f * a[up]
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

// factorWith eliminates two matrices of the same pattern at once. It costs little more than
// one: what is waited for is the way from row to row.
func (l *lu) factorWith(o *lu) {
	a, b := l.a, o.a
	for s := range l.steps {
		p := &l.steps[s]
		d, e := 1/a[p.k], 1/b[p.k]
		n := len(p.near)
		for r, low := range p.low {
			f, g := a[low]*d, b[low]*e
			a[low], b[low] = f, g
			if f == 0 && g == 0 {
				continue
			}
			row := p.cross[r*n : r*n+n]
			for c, up := range p.up {
				at := row[c]
				a[at] -= f * a[up]
				b[at] -= g * b[up]
			}
		}
	}
}

// solveGas overwrites x, by row, with the masses: the fuel by one matrix, all else by another.
func (l *lu) solveGas(fuel *lu, x []Gas) {
	a, b := l.a, fuel.a
	for s := range l.steps {
		p := &l.steps[s]
		v := &x[p.k]
		for r, low := range p.low {
			f, g, row := a[low], b[low], &x[p.near[r]]
			row[Air] -= f * v[Air]
			row[Fuel] -= g * v[Fuel]
			row[Burnt] -= f * v[Burnt]
			row[Smoke] -= f * v[Smoke]
		}
	}
	for s := len(l.steps) - 1; s >= 0; s-- {
		p := &l.steps[s]
		v := x[p.k]
		for c, up := range p.up {
			f, g, col := a[up], b[up], &x[p.near[c]]
			v[Air] -= f * col[Air]
			v[Fuel] -= g * col[Fuel]
			v[Burnt] -= f * col[Burnt]
			v[Smoke] -= f * col[Smoke]
		}
		d, e := a[p.k], b[p.k]
		if v[Smoke] != 0 { // hardly ever: a division less
			v[Smoke] /= d
		}
		x[p.k] = Gas{Air: v[Air] / d, Fuel: v[Fuel] / e, Burnt: v[Burnt] / d, Smoke: v[Smoke]}
	}
}
