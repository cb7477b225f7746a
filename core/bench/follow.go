package bench

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"

	"wexter/core/decay"
)

// Followed is how a sensor followed a gauge while a hand pump moved both: points of what it showed
// against the gauge, with its lag taken out.
type Followed struct {
	Gauge, Shows []float64 // inH2O, or V of the sensor; the gauge's own zero is taken off
	Lag          float64   // s by which the sensor came later; NaN: nothing moved, so nobody knows
	Zeroed       bool      // both stood open to the air at the beginning
	Low, High    float64   // ends of its range at which it stood; NaN: none. Points leave out what was read there
}

// Of a sensor beside a gauge, chosen: how long both stand open to the air, what counts as nothing
// there, and into how many steps of pressure the readings are put.
const (
	openFor   = 3.0 // s
	openWhere = 0.5 // inH2O
	followIn  = 7
	tellsWhen = 0.1 // s by which the moments of two instruments may be apart
)

// delays and times constants that are tried for the lag, s.
var (
	followDelays = []float64{0, 0.05, 0.1, 0.15, 0.2, 0.3, 0.4, 0.6, 0.8}
	followTimes  = []float64{0, 0.1, 0.2, 0.35, 0.5, 0.75, 1, 1.5, 2, 3, 4.5, 6.5, 10}
)

// Follow compares a sensor (ts, s) with a gauge (tg, g inH2O) that saw the same pressure. The sensor may
// come later: by a delay, and as a filter of first order. The delay and the time constant with which a
// straight line fits best are taken out, and the readings are put into points by pressure. A reading
// counts the less the faster the pressure moved: then the moments of two instruments decide.
func Follow(tg, g, ts, s []float64) Followed {
	out := Followed{Lag: math.NaN(), Low: math.NaN(), High: math.NaN()}
	if len(g) < 10 || len(s) < 5 {
		return out
	}
	zero, open := opened(tg, g)
	out.Zeroed = open
	level := make([]float64, len(g))
	for i := range g {
		level[i] = g[i] - zero
	}
	noise := math.Max(decay.ReadingNoise(s), 1e-3)
	ts, s, out.Low, out.High = withinRange(tg, level, ts, s)
	best := math.Inf(1)
	var x, w []float64
	for _, tau := range followTimes {
		passed := passLow(tg, level, tau)
		for _, d := range followDelays {
			xs, ws := seenAt(tg, passed, ts, d)
			a, b := stat.LinearRegression(xs, s, ws, false)
			miss := 0.0
			for i := range s {
				e := s[i] - a - b*xs[i]
				miss += ws[i] * e * e
			}
			if miss < best {
				best, x, w = miss, xs, ws
				if out.Lag = tau + d; math.Abs(b)*stat.StdDev(xs, nil) < 3*noise { // it does not move
					out.Lag = math.NaN()
				}
			}
		}
	}
	out.Gauge, out.Shows = gather(x, s, w)
	return out
}

// opened is what a gauge shows open to the air, where it stood so at the beginning.
func opened(t, g []float64) (zero float64, ok bool) {
	n := 0
	for n < len(t) && math.Abs(g[n]) < openWhere && t[n]-t[0] < 2*openFor {
		n++
	}
	if n < 3 || t[n-1]-t[0] < openFor {
		return 0, false
	}
	if k, _ := slices.BinarySearch(t[:n], t[n-1]-0.5); n < len(t) && k > 2 { // not the moment at which the hand begins
		n = k
	}
	return stat.Mean(g[:n], nil), true
}

// passLow is a trace behind a filter of first order.
func passLow(t, v []float64, tau float64) []float64 {
	if tau == 0 {
		return v
	}
	out := make([]float64, len(v))
	out[0] = v[0]
	for i := 1; i < len(v); i++ { // exact for what goes straight from one reading to the next
		h := t[i] - t[i-1]
		k := math.Exp(-h / tau)
		slope := 0.0
		if h > 0 {
			slope = (v[i] - v[i-1]) / h
		}
		out[i] = v[i] - slope*tau + (out[i-1]-v[i-1]+slope*tau)*k
	}
	return out
}

// seenAt is a trace at some times less a delay, and how much each counts.
func seenAt(t, v, times []float64, delay float64) (x, w []float64) {
	x, w = make([]float64, len(times)), make([]float64, len(times))
	k := 0
	for i, at := range times {
		at -= delay
		for k+1 < len(t)-1 && t[k+1] < at {
			k++
		}
		slope := 0.0
		if h := t[k+1] - t[k]; h > 0 {
			slope = (v[k+1] - v[k]) / h
		}
		x[i] = v[k] + slope*math.Min(math.Max(at-t[k], 0), t[k+1]-t[k])
		j, l := max(k-2, 0), min(k+3, len(t)-1)
		if h := t[l] - t[j]; h > 0 {
			slope = (v[l] - v[j]) / h
		}
		w[i] = 1 / (1 + math.Pow(slope*tellsWhen/0.03, 2))
	}
	return x, w
}

// withinRange leaves out the readings in which the sensor stands at the end of its range: as high, or as
// low, as it ever shows, though the line through those between goes on. It returns the ends that were
// reached, NaN where none was.
func withinRange(tg, level, ts, s []float64) (times, shown []float64, low, high float64) {
	low, high = math.NaN(), math.NaN()
	x, w := seenAt(tg, level, ts, followDelays[4])
	near := math.Max(4*decay.ReadingNoise(s), 0.01)
	top, bottom := slices.Max(s)-near, slices.Min(s)+near
	var between, of []float64
	for i := range s {
		if s[i] < top && s[i] > bottom {
			between, of = append(between, x[i]), append(of, s[i])
		}
	}
	if len(between) < 5 || spread(between) < leastTried/2 {
		return ts, s, low, high
	}
	zero, slope := stat.LinearRegression(between, of, nil, false)
	beyond := func(at func(v float64) bool) float64 { // how far the line goes on where it stands, by slow readings
		var miss []float64
		for i := range s {
			if at(s[i]) && w[i] > 0.3 {
				miss = append(miss, zero+slope*x[i]-s[i])
			}
		}
		if len(miss) < 3 {
			return 0
		}
		return stat.Mean(miss, nil)
	}
	if beyond(func(v float64) bool { return v >= top }) > strayMost+near {
		high = top + near
	}
	if beyond(func(v float64) bool { return v <= bottom }) < -strayMost-near {
		low = bottom - near
	}
	for i := range s {
		if !(s[i] >= top && high == high || s[i] <= bottom && low == low) {
			times, shown = append(times, ts[i]), append(shown, s[i])
		}
	}
	return times, shown, low, high
}

// gather puts readings into points by pressure; a point to which much less counts than to most is left out.
func gather(x, s, w []float64) (gauge, shows []float64) {
	low, high := slices.Min(x), slices.Max(x)
	step := math.Max((high-low)/followIn, 0.2)
	type bin struct{ w, x, s float64 }
	bins := make([]bin, followIn)
	for i := range x {
		b := &bins[min(int((x[i]-low)/step), len(bins)-1)]
		b.w, b.x, b.s = b.w+w[i], b.x+w[i]*x[i], b.s+w[i]*s[i]
	}
	var all []float64
	for _, b := range bins {
		if b.w > 0 {
			all = append(all, b.w)
		}
	}
	slices.Sort(all)
	for _, b := range bins {
		if b.w > 0 && b.w >= 0.15*all[len(all)/2] {
			gauge, shows = append(gauge, b.x/b.w), append(shows, b.s/b.w)
		}
	}
	return gauge, shows
}

// straight is a line through points.
type straight struct {
	Zero, Gain     float64 // shown at nothing, and of each unit
	ZeroSE, GainSE float64 // standard errors
	T              float64 // of Student's distribution, for 95 % both ways
	Worst, WorstAt float64 // the point that lies farthest from the line, by how much and where
}

// lineThrough fits a line to points; false where fewer than three points, or all at one place.
func lineThrough(x, y []float64) (l straight, ok bool) {
	n := float64(len(x))
	if len(x) < 3 || len(x) != len(y) || slices.Max(x)-slices.Min(x) < 1e-9 {
		return l, false
	}
	l.Zero, l.Gain = stat.LinearRegression(x, y, nil, false)
	mean, sxx, see := stat.Mean(x, nil), 0.0, 0.0
	for i := range x {
		e := y[i] - l.Zero - l.Gain*x[i]
		see += e * e
		sxx += (x[i] - mean) * (x[i] - mean)
		if math.Abs(e) > math.Abs(l.Worst) {
			l.Worst, l.WorstAt = e, x[i]
		}
	}
	v := see / (n - 2)
	l.GainSE, l.ZeroSE = math.Sqrt(v/sxx), math.Sqrt(v*(1/n+mean*mean/sxx))
	l.T = distuv.StudentsT{Sigma: 1, Nu: n - 2}.Quantile(0.975)
	return l, true
}

// withoutEnds leaves out the points at which a sensor stands at the end of its range: it shows the same
// there though the gauge goes on. It returns where the range ends, NaN for an end that was not reached.
func withoutEnds(x, y []float64) (xs, ys []float64, low, high float64) {
	order := make([]int, len(x))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int {
		if x[a] < x[b] {
			return -1
		}
		return 1
	})
	for _, i := range order {
		xs, ys = append(xs, x[i]), append(ys, y[i])
	}
	low, high = math.NaN(), math.NaN()
	var slopes []float64
	for i := 1; i < len(xs); i++ {
		if xs[i]-xs[i-1] > 0.3 {
			slopes = append(slopes, (ys[i]-ys[i-1])/(xs[i]-xs[i-1]))
		}
	}
	if len(slopes) < 3 {
		return xs, ys, low, high
	}
	slices.Sort(slopes)
	usual := math.Abs(slopes[len(slopes)/2])
	if most := math.Abs(slopes[len(slopes)-1]); usual < 0.3*most { // more than half of it stands at an end
		usual = most
	}
	flat := func(a, b int) bool { return math.Abs(ys[b]-ys[a]) < 0.15*usual*math.Abs(xs[b]-xs[a]) }
	for n := len(xs); n > 4 && usual > 0.1 && flat(n-2, n-1); n = len(xs) {
		high = ys[n-1]
		xs, ys = xs[:n-1], ys[:n-1]
	}
	for len(xs) > 4 && usual > 0.1 && flat(0, 1) {
		low = ys[0]
		xs, ys = xs[1:], ys[1:]
	}
	if high == high { // the first of the flat ones may already stand at it
		xs, ys = xs[:len(xs)-1], ys[:len(ys)-1]
	}
	if low == low {
		xs, ys = xs[1:], ys[1:]
	}
	return xs, ys, low, high
}
