package decay

import (
	"math"
	"slices"
)

// run is a leg cut to its hold and averaged to knots.
type run struct {
	leg     Leg
	place   int       // of the leg in the test
	t       []float64 // s from the start of the hold, mean of each bin
	p       []float64 // Pa, mean of each bin
	wall    []float64 // K from the first knot, or nil
	weight  []float64 // √(n/mean n) of each bin
	spread  []float64 // variance of time within the bin, s²
	step    float64   // s, typical distance of knots
	stride  float64   // how far the integrator steps, in units of the fastest change
	count   float64   // readings per knot, typical
	trace   Trace
	noise   float64 // Pa, of one reading, from second differences
	peak    float64 // Pa, signed charge pressure
	offset  float64 // s, leg time of t = 0
	coarse  *run    // the same in a quarter of the bins; nil when there are few
	past    *past   // what was recorded before the hold; nil when it began with it
	after   settling
	against bool // a plateau before the hold was taken for pumping against the leak
}

// prepare cuts, despikes and averages one leg.
func prepare(l Leg, resolution float64) run {
	r := run{leg: l, stride: fineStride}
	med := medianFilter(l.Gauge, 5)
	r.noise = math.Max(ReadingNoise(l.Gauge), math.Max(resolution, smallestStep(l.Gauge))/math.Sqrt(12))
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
		lo = holdStart(l.Time, med, sign, top, r.noise)
		var gradual bool
		hi, gradual = holdEnd(l.Time, med, sign, lo, r.noise)
		if gradual {
			// Pumping against a large leak stands still and then falls: the fall is the hold.
			// Taking the plateau for a tight hold would be the dangerous mistake.
			lo, r.against = hi, true
			hi, _ = holdEnd(l.Time, med, sign, lo, r.noise)
		}
		if lo > 0 {
			lo = shutIn(l.Time[:hi], med[:hi], sign, lo)
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
	if l.Kind == Hold && keep[0] > 2 {
		r.past = newPast(l.Time[:keep[0]+1], med[:keep[0]+1])
		r.after = settles(l.Time, med, sign, keep[0]-2)
	}
	r.average(keep, maxKnots)
	if len(r.t) > maxKnots/2 {
		c := r
		c.t, c.p, c.wall, c.weight, c.spread = nil, nil, nil, nil, nil
		c.average(keep, maxKnots/4)
		c.stride = roughStride
		r.coarse = &c
	}
	return r
}

// holdStart finds the reading after the last steep rise of |p|: the end of
// pumping up, or of the last top-up.
func holdStart(t, p []float64, sign, top, noise float64) (start int) {
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
			start = best
		}
	}
	if start > 0 {
		// The median filter leads by its half width; two readings of guard cost nothing.
		start = min(start+2, len(p)-1)
	}
	return start
}

// fedLongest is how long a regulator is looked for after the rise, s.
const fedLongest = 60

// shutIn finds the reading from which the system is left to itself: a regulator holds
// the pressure at its highest until it is shut, and what is sealed falls from the first
// moment. Where it does not fall, nothing tells one from the other, and lo stays.
func shutIn(t, p []float64, sign float64, lo int) int {
	n := len(p)
	end := lo
	for end < n && t[end]-t[lo] <= fedLongest {
		end++
	}
	if end-lo < 8 {
		return lo
	}
	// Means over a second and a half, three readings at least.
	wide := 3
	for lo+wide < n && t[lo+wide]-t[lo] < 1.5 {
		wide++
	}
	mean := make([]float64, 0, n-lo)
	sum := 0.0
	for i := lo; i < n; i++ {
		sum += sign * p[i]
		if i >= lo+wide {
			sum -= sign * p[i-wide]
		}
		if i >= lo+wide-1 {
			mean = append(mean, sum/float64(wide))
		}
	}
	var second []float64
	for i := 0; i+2*wide < len(mean); i++ {
		second = append(second, mean[i]-2*mean[i+wide]+mean[i+2*wide])
	}
	if len(second) < 4 {
		return lo
	}
	noise := mad(second) / math.Sqrt(6)
	look := min(end-lo, len(mean))
	top := slices.Max(mean[:look])
	last := 0
	for i, m := range mean[:look] {
		if m >= top-4*noise {
			last = i
		}
	}
	if last >= look-wide || t[lo+last]-t[lo] > 0.6*(t[n-1]-t[lo]) {
		return lo
	}
	if last == 0 {
		return lo
	}
	return min(lo+last+wide/2+1, n-1)
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
	looked := t[lo]
	for i := lo + 1; i < n; i++ {
		if t[i]-looked < window/16 {
			continue
		}
		looked = t[i]
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

// firstKnot is the width of the first bin as a share of the mean one: while the gas
// settles the trace bends within seconds, later it takes minutes.
const firstKnot = 0.25

const (
	fineStride  = 0.4
	roughStride = 1.0 // for looking around
)

// average puts the kept readings into at most so many bins, narrow ones at first.
func (r *run) average(keep []int, most int) {
	l := r.leg
	t0, t1 := l.Time[keep[0]], l.Time[keep[len(keep)-1]]
	bins := min(len(keep), most)
	r.step = math.Max((t1-t0)/float64(max(bins-1, 1)), 1e-9)
	r.count = float64(len(keep)) / float64(bins)
	first := math.Max(firstKnot, 1/r.count)
	if l.Kind == Drift {
		first = 1
	}
	growth := growing(bins, float64(bins)/first)
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
		width, edge := first*(t1-t0)/float64(bins), t0
		for b := 1; from < len(keep); b++ {
			edge += width
			width *= growth
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

// growing is the factor by which each of n widths exceeds the one before when all
// together are total times the first.
func growing(n int, total float64) float64 {
	if total < float64(n)*1.001 {
		return 1
	}
	lo, hi := 1.0, 2.0
	for range 40 {
		g := (lo + hi) / 2
		if (math.Pow(g, float64(n))-1)/(g-1) < total {
			lo = g
		} else {
			hi = g
		}
	}
	return lo
}

// past is the pressure before the hold, from which the heat follows that charging or
// drawing down left in the gas.
type past struct {
	dt, dp []float64 // s and Pa from one point to the next
	first  float64   // Pa, what was there when the recording began
	span   float64   // s
}

const pastPoints = 40

func newPast(t, p []float64) *past {
	out := &past{first: p[0], span: t[len(t)-1] - t[0]}
	stride := max(1, (len(t)-1)/pastPoints)
	last := 0
	for i := range t {
		if i > last && (i-last >= stride || i == len(t)-1) {
			out.dt, out.dp = append(out.dt, t[i]-t[last]), append(out.dp, p[i]-p[last])
			last = i
		}
	}
	return out
}

// heat returns the part of the pressure that is heat at the end of the past, and its
// slope in ln τ. At given pressure the gas follows dψ/dt = (γ−1)/γ·dp/dt − ψ/(γτ): mass
// and energy of a volume fed (or emptied) through an opening at wall temperature.
func (h *past) heat(tau float64) (psi, slope float64) {
	const gamma = 1 + gammaMinus1
	for i, dt := range h.dt {
		x := dt / (gamma * tau)
		e := math.Exp(-x)
		fed := -math.Expm1(-x) / x // mean of the decay over the step
		slope = slope*e + psi*e*x + adiabatic*h.dp[i]*(fed-e)
		psi = psi*e + adiabatic*h.dp[i]*fed
	}
	return psi, slope
}

// unsure is the standard deviation of that heat in Pa, for a hold that starts at peak.
// What was in the system when the recording began may have brought heat of its own.
func (h *past) unsure(peak float64) float64 {
	return math.Hypot(heatSpread*peak, heatWide*h.first*math.Exp(-h.span/(2*tauGuess)))
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
		if h == 2 {
			out[i] = medianOfFive(x[i-2], x[i-1], x[i], x[i+1], x[i+2])
			continue
		}
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

// medianOfFive drops the least of four, and takes the second of what is left.
func medianOfFive(a, b, c, d, e float64) float64 {
	if b < a {
		a, b = b, a
	}
	if d < c {
		c, d = d, c
	}
	if c < a {
		b, c, d = d, a, b
	}
	a = e
	if b < a {
		a, b = b, a
	}
	if c < a {
		b, c = d, a
	}
	if b < c {
		return b
	}
	return c
}

// ReadingNoise estimates the noise of one reading, in its unit, from the median
// second difference, which neither trend nor spikes disturb; 0 for fewer than five.
func ReadingNoise(x []float64) float64 {
	if len(x) < 5 {
		return 0
	}
	stride := max(1, (len(x)-2)/1000)
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
