package decay

import (
	"math"
	"slices"
)

// run is a leg cut to its hold and averaged to knots.
type run struct {
	leg     Leg
	t       []float64 // s from the start of the hold, mean of each bin
	p       []float64 // Pa, mean of each bin
	wall    []float64 // K from the first knot, or nil
	weight  []float64 // √(n/mean n) of each bin
	spread  []float64 // variance of time within the bin, s²
	step    float64   // s, typical distance of knots
	count   float64   // readings per knot, typical
	trace   Trace
	noise   float64 // Pa, of one reading, from second differences
	peak    float64 // Pa, signed charge pressure
	offset  float64 // s, leg time of t = 0
	pumped  float64 // s, how long the last rise before the hold took; 0 when it was not recorded
	against bool    // a plateau before the hold was taken for pumping against the leak
}

// prepare cuts, despikes and averages one leg.
func prepare(l Leg, resolution float64) run {
	r := run{leg: l}
	med := medianFilter(l.Gauge, 5)
	r.noise = math.Max(secondDifferenceNoise(l.Gauge), math.Max(resolution, smallestStep(l.Gauge))/math.Sqrt(12))
	sign := 1.0
	top := 0.0
	for _, p := range med {
		if math.Abs(p) > top {
			top, sign = math.Abs(p), math.Copysign(1, p)
		}
	}
	lo, hi := 0, len(l.Time)
	if l.Start != 0 || l.End != 0 {
		lo, _ = slices.BinarySearch(l.Time, l.Start)
		if l.End != 0 {
			hi, _ = slices.BinarySearch(l.Time, math.Nextafter(l.End, math.Inf(1)))
		}
	} else if l.Kind == Hold {
		lo, r.pumped = holdStart(l.Time, med, sign, top, r.noise)
		var gradual bool
		hi, gradual = holdEnd(l.Time, med, sign, lo, r.noise)
		if gradual {
			// Pumping against a large leak stands still and then falls: the fall is the hold.
			// Taking the plateau for a tight hold would be the dangerous mistake.
			r.pumped = l.Time[hi] - l.Time[0]
			lo, r.against = hi, true
			hi, _ = holdEnd(l.Time, med, sign, lo, r.noise)
		}
		r.trace.CutStart, r.trace.CutEnd = lo > 0, hi < len(l.Time)
	}
	if hi-lo < 2 {
		return r
	}
	keep := r.despike(lo, hi)
	if len(keep) < 2 {
		return r
	}
	r.trace.Start, r.trace.End = l.Time[lo], l.Time[hi-1]
	r.offset = l.Time[keep[0]]
	r.peak = sign * math.Abs(med[lo])
	r.average(keep)
	return r
}

// holdStart finds the reading after the last steep rise of |p|: the end of
// pumping up, or of the last top-up, and how long that rise took.
func holdStart(t, p []float64, sign, top, noise float64) (start int, took float64) {
	foot := 0
	j := 0
	for i := 1; i < len(p); i++ {
		for j < i-3 && t[i]-t[j+1] >= 3 {
			j++
		}
		w := t[i] - t[j]
		rise := sign * (p[i] - p[j])
		if rise > math.Max(math.Min(0.012*w, 0.25)*top, 8*noise) {
			// The hold begins at the highest reading of this rise and what follows directly.
			best := i
			for k := i; k < len(p) && k <= i+2; k++ {
				if sign*p[k] > sign*p[best] {
					best = k
				}
			}
			if start == 0 || t[j] > t[start]+1 {
				foot = j
			}
			start = best
		}
	}
	if start > 0 {
		took = t[start] - t[foot]
		// The median filter leads by its half width; two readings of guard cost nothing.
		start = min(start+2, len(p)-1)
	}
	return start, took
}

// holdEnd finds the first reading that no longer belongs to the hold: a sudden
// fall that no leak can show, since a leak only ever slows down, or a system that
// has emptied. gradual is set when the fall took its time, as a leak would and an
// opened valve would not.
func holdEnd(t, p []float64, sign float64, lo int, noise float64) (end int, gradual bool) {
	n := len(p)
	end = n
	if lo >= n-1 {
		return n, false
	}
	start := sign * p[lo]
	for _, window := range []float64{2, 8, 30} {
		if at, slow, found := suddenFall(t, p, sign, lo, noise, window); found {
			if slow {
				return at, true
			}
			end = at
			break
		}
	}
	// Emptied: below 1.5 % of the start, or lost in noise, for good.
	floor := math.Max(0.015*start, math.Max(4*noise, 3))
	for end > lo+minHold+1 && sign*p[end-1] < floor {
		end--
	}
	return end, false
}

// suddenFall looks for a fall over window seconds that is much faster than the one
// before it. Over the shortest window it may be an opened valve, from nine tenths
// to one within two seconds; slower ones are a leak that pumping had hidden.
func suddenFall(t, p []float64, sign float64, lo int, noise, window float64) (at int, slow, found bool) {
	n := len(p)
	start := sign * p[lo]
	j, back := lo, lo
	for i := lo + 1; i < n; i++ {
		for j < i-3 && t[i]-t[j+1] >= window {
			j++
		}
		w := t[i] - t[j]
		for back < j && t[j]-t[back+1] >= 2*w {
			back++
		}
		if t[j]-t[lo] < math.Max(10, 2*w) || t[j]-t[back] <= 0 {
			continue
		}
		drop := sign * (p[j] - p[i])
		before := math.Max(sign*(p[back]-p[j]), 0) * w / (t[j] - t[back])
		if drop < 0.12*start || drop < 4*before+10*noise {
			continue
		}
		a := j
		for a+1 < n && sign*p[a+1] > 0.97*sign*p[j] {
			a++
		}
		b := a
		for b+1 < n && sign*p[b] > 0.1*sign*p[j] {
			b++
		}
		if t[b]-t[a] > 2 && b-a >= minHold {
			return a, true, true
		}
		if window > 2 {
			continue
		}
		return max(j-1, lo+2), false, true
	}
	return 0, false, false
}

// despike drops readings that stand off their neighbours' median by more than
// six times the noise, and returns the indices kept.
func (r *run) despike(lo, hi int) []int {
	g := r.leg.Gauge
	keep := make([]int, 0, hi-lo)
	var buf [7]float64
	for i := lo; i < hi; i++ {
		a, b := max(lo, i-3), min(hi, i+4)
		// Only a reading that stands off both neighbours needs a second look.
		if i > lo && i < hi-1 && b-a >= 5 && math.Min(math.Abs(g[i]-g[i-1]), math.Abs(g[i]-g[i+1])) > 3*r.noise {
			w := buf[:b-a]
			copy(w, g[a:b])
			slices.Sort(w)
			m := w[len(w)/2]
			spread := w[len(w)*3/4] - w[len(w)/4]
			if math.Abs(g[i]-m) > math.Max(6*r.noise, 3*spread) {
				// A reading between its two neighbours is a fall, not a spike.
				if (g[i]-g[i-1])*(g[i]-g[i+1]) > 0 {
					r.trace.Spikes++
					continue
				}
			}
		}
		keep = append(keep, i)
	}
	return keep
}

// average puts the kept readings into at most maxKnots bins of equal duration.
func (r *run) average(keep []int) {
	l := r.leg
	t0, t1 := l.Time[keep[0]], l.Time[keep[len(keep)-1]]
	bins := min(len(keep), maxKnots)
	width := (t1 - t0) / float64(bins)
	r.step = math.Max((t1-t0)/float64(max(bins-1, 1)), 1e-9)
	r.count = float64(len(keep)) / float64(bins)
	each := func(from, to int) {
		var st, sp, sw, stt float64
		n := float64(to - from)
		for _, k := range keep[from:to] {
			dt := l.Time[k] - t0
			st += dt
			stt += dt * dt
			sp += l.Gauge[k]
			if l.Wall != nil {
				sw += l.Wall[k]
			}
		}
		r.t = append(r.t, st/n)
		r.p = append(r.p, sp/n)
		r.spread = append(r.spread, math.Max(stt/n-st/n*st/n, 0))
		r.weight = append(r.weight, math.Min(math.Sqrt(n/r.count), 1.5))
		if l.Wall != nil {
			r.wall = append(r.wall, sw/n)
		}
	}
	if bins == len(keep) {
		for i := range keep {
			each(i, i+1)
		}
	} else {
		from := 0
		for b := 1; from < len(keep); b++ {
			edge := t0 + width*float64(b)
			to := from
			for to < len(keep) && (l.Time[keep[to]] < edge || b >= bins) {
				to++
			}
			if to > from {
				each(from, to)
				from = to
			}
		}
	}
	if r.wall != nil {
		r.wall = smooth(r.t, r.wall)
		zero := r.wall[0]
		for i := range r.wall {
			r.wall[i] -= zero
		}
	}
}

// smooth takes the noise off a wall temperature, which moves slowly, by local
// lines with Gaussian weights; the width is the one that predicts each reading
// best from the others. Noise left in would pass for heat.
func smooth(t, x []float64) []float64 {
	n := len(t)
	span := t[n-1] - t[0]
	best, out := math.Inf(1), slices.Clone(x)
	if n < 8 {
		return out
	}
	try := make([]float64, n)
	for _, share := range []float64{0.01, 0.02, 0.04, 0.08, 0.16, 0.32, 2} {
		h := share * span
		if h < 1.5*span/float64(n) {
			continue
		}
		miss := 0.0
		for i := range n {
			var s0, s1, s2, y0, y1 float64
			for j := i; j >= 0 && t[i]-t[j] < 3*h; j-- {
				local1(t[j]-t[i], x[j], h, &s0, &s1, &s2, &y0, &y1)
			}
			for j := i + 1; j < n && t[j]-t[i] < 3*h; j++ {
				local1(t[j]-t[i], x[j], h, &s0, &s1, &s2, &y0, &y1)
			}
			det := s0*s2 - s1*s1
			if det <= 1e-12*s0*s2 {
				try[i], miss = x[i], math.Inf(1)
				continue
			}
			try[i] = (s2*y0 - s1*y1) / det
			lever := s2 / det // weight of the reading itself
			d := (x[i] - try[i]) / (1 - math.Min(lever, 0.99))
			miss += d * d
		}
		if miss < best {
			best = miss
			copy(out, try)
		}
	}
	return out
}

func local1(dt, x, h float64, s0, s1, s2, y0, y1 *float64) {
	w := math.Exp(-0.5 * dt * dt / (h * h))
	*s0 += w
	*s1 += w * dt
	*s2 += w * dt * dt
	*y0 += w * x
	*y1 += w * dt * x
}

func medianFilter(x []float64, width int) []float64 {
	out := make([]float64, len(x))
	buf := make([]float64, 0, width)
	half := width / 2
	for i := range x {
		h := min(half, min(i, len(x)-1-i))
		buf = append(buf[:0], x[i-h:i+h+1]...)
		// Insertion sort: the window has five entries at most.
		for a := 1; a < len(buf); a++ {
			for b := a; b > 0 && buf[b] < buf[b-1]; b-- {
				buf[b], buf[b-1] = buf[b-1], buf[b]
			}
		}
		out[i] = buf[h]
	}
	return out
}

// secondDifferenceNoise estimates the noise of one reading from the median
// second difference, which neither trend nor spikes disturb.
func secondDifferenceNoise(x []float64) float64 {
	if len(x) < 5 {
		return 0
	}
	stride := max(1, (len(x)-2)/2000)
	var d []float64
	for i := 1; i+1 < len(x); i += stride {
		d = append(d, math.Abs(x[i-1]-2*x[i]+x[i+1]))
	}
	slices.Sort(d)
	return d[len(d)/2] / 0.6745 / math.Sqrt(6)
}

// smallestStep returns the smallest change between neighbours, the visible
// resolution of the gauge; zero when nothing changes.
func smallestStep(x []float64) float64 {
	step := math.Inf(1)
	for i := 1; i < len(x); i++ {
		if d := math.Abs(x[i] - x[i-1]); d > 1e-9 && d < step {
			step = d
		}
	}
	if math.IsInf(step, 0) {
		return 0
	}
	return step
}
