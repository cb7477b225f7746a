package bench

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/stat"

	"wexter/core/decay"
)

// RampEvent is what a valve did while a pressure was slowly brought up and down.
type RampEvent struct {
	Kind RampKind
	At   float64 // s
	P    float64 // in the unit of the trace; away from zero is positive
}

// RampKind is a kind of event on a ramp.
type RampKind int

// The kinds.
const (
	Cracks  RampKind = iota // the valve opens: what was rising levels or falls
	Reseals                 // it is shut again: what was falling stays
)

// Of a ramp, chosen: below the first nothing counts, a level that is left by less than the second is
// the same, and so long a level must stand to be one, and so fast it may creep.
const (
	rampFloor = 0.08 // inH2O
	rampLeast = 0.05 // inH2O
	rampStay  = 1.2  // s
	rampCreep = 0.02 // 1/s, of the pressure, by which a level may fall
)

// Ramps finds where a valve opened and where it shut again in a trace (s, inH2O) that goes away from
// zero and back, as often as it was done. An opening is a rise that breaks: at a peak that is
// followed by a fall to a level that then stands, or at the knee before a plateau that ends so. A
// rise that ends with the pressure let go to the air is none.
func Ramps(t, p []float64) (out []RampEvent) {
	noise := decay.ReadingNoise(p)
	least := math.Max(rampLeast, 5*noise)
	turns := turnings(p, least)
	most := slices.Max(append([]float64{0}, p...))
	for i := 1; i < len(turns); i++ {
		from, top := turns[i-1], turns[i]
		if p[top] <= p[from] || p[top] < rampFloor { // a fall
			continue
		}
		end := len(p) - 1
		if i+1 < len(turns) {
			end = turns[i+1]
		}
		stop, level, ok := settles(t, p, span{top, end}, noise)
		// What only creeps about a level was not pressed up, and did not open.
		if rise := p[top] - p[from]; !ok || level < rampFloor || p[top]-level < least || rise < 0.12*most {
			continue
		}
		at, crack := breaks(t, p, span{from, top})
		out = append(out, RampEvent{Cracks, at, crack}, RampEvent{Reseals, t[stop], level})
	}
	return out
}

// span is a stretch of a trace by the numbers of its first and last reading.
type span struct{ from, to int }

// turnings are the readings at which the trace turns by more than least, beginning with the first.
func turnings(p []float64, least float64) (out []int) {
	if len(p) == 0 {
		return nil
	}
	out = []int{0}
	low, high, up := 0, 0, 0 // 1 rising, −1 falling, 0 not known yet
	for i := range p {
		if p[i] < p[low] {
			low = i
		}
		if p[i] > p[high] {
			high = i
		}
		switch {
		case up >= 0 && p[high]-p[i] > least:
			out, up, low = append(out, high), -1, i
		case up <= 0 && p[i]-p[low] > least:
			out, up, high = append(out, low), 1, i
		}
	}
	last := high
	if up < 0 {
		last = low
	}
	return append(out, last)
}

// settles finds the level to which a fall comes and at which it then stands, or from which it rises
// again; false where it goes on to the air.
func settles(t, p []float64, s span, noise float64) (at int, level float64, ok bool) {
	for i := s.from + 2; i < s.to; i++ {
		if p[s.from]-p[i] < rampLeast {
			continue
		}
		_, fall := stat.LinearRegression(t[s.from:i+1], p[s.from:i+1], nil, false)
		k, se, enough := stands(t, span{i, s.to}, noise, fall)
		if !enough {
			continue
		}
		a, after := stat.LinearRegression(t[i:k+1], p[i:k+1], nil, false)
		// A system that leaks a little goes on falling slowly.
		if after > 0.3*fall && after > -math.Max(3*se, rampCreep*p[i]) && residual(t[i:k+1], p[i:k+1], a, after) < 9*float64(k-i+1)*math.Max(noise*noise, 1e-5) {
			return i, a + after*t[i], p[i] >= rampFloor
		}
	}
	if s.to == len(p)-1 || p[s.to] < rampFloor {
		return 0, 0, false
	}
	return s.to, stat.Mean(p[s.to-1:s.to+2], nil), true // it rises again at once
}

// stands is up to which reading a level must be looked at until its slope can be told from that of
// the fall before it, with the standard error of that slope; false where the span is too short.
func stands(t []float64, s span, noise, fall float64) (to int, se float64, enough bool) {
	for k := s.from + 2; k <= s.to; k++ {
		w := t[k] - t[s.from]
		se = noise / (math.Sqrt(float64(k-s.from+1)) * 0.29 * w) // of evenly spread readings
		if w >= rampStay && (3*se <= 0.3*math.Abs(fall) || w >= 3*rampStay) {
			return k, se, true
		}
	}
	return 0, 0, false
}

// breaks finds where a rise breaks: the knee of two lines, where the second is much flatter than the
// first; else its end.
func breaks(t, p []float64, s span) (at, level float64) {
	// Of the rise only what is away from its beginning: a hand begins slowly.
	from := s.from
	for from < s.to && p[from] < p[s.from]+0.3*(p[s.to]-p[s.from]) {
		from++
	}
	n := s.to - from + 1
	at, level = t[s.to], p[s.to]
	if n < 6 {
		return at, level
	}
	x, y := t[from:s.to+1], p[from:s.to+1]
	a, b := stat.LinearRegression(x, y, nil, false)
	level = a + b*x[n-1]
	best := residual(x, y, a, b)
	for k := 3; k <= n-3; k++ {
		a1, b1 := stat.LinearRegression(x[:k], y[:k], nil, false)
		a2, b2 := stat.LinearRegression(x[k:], y[k:], nil, false)
		if b1 <= 0 || b2 > 0.4*b1 {
			continue
		}
		if r := residual(x[:k], y[:k], a1, b1) + residual(x[k:], y[k:], a2, b2); r < 0.7*best {
			best = r
			at = math.Min(math.Max((a2-a1)/(b1-b2), x[k-1]), x[k])
			level = a1 + b1*at
		}
	}
	return at, level
}

func residual(x, y []float64, a, b float64) (sum float64) {
	for i := range x {
		d := y[i] - a - b*x[i]
		sum += d * d
	}
	return sum
}

// Contact is a change of a contact.
type Contact struct {
	At     float64 // s
	Closed bool    // what is read went down
}

// Contacts finds where a contact changed, by what is read across it (volts or ohms): half-way between
// what it shows open and shut, and only where it then stays.
func Contacts(t, v []float64) (out []Contact) {
	if len(v) < 4 {
		return nil
	}
	low, high := slices.Min(v), slices.Max(v)
	if math.IsInf(high, 1) { // a meter that shows OL
		high = math.Max(2*low, 1e4)
	}
	if high-low < math.Max(0.3*math.Abs(high), 0.2) {
		return nil
	}
	half := (low + high) / 2
	shut := func(i int) bool { return v[i] < half }
	is := shut(0)
	for i := 1; i < len(v); i++ {
		if shut(i) == is {
			continue
		}
		stays := true
		for k := i; k < len(v) && t[k] < t[i]+0.3; k++ {
			stays = stays && shut(k) == !is
		}
		if stays {
			is = !is
			out = append(out, Contact{At: (t[i-1] + t[i]) / 2, Closed: is})
		}
	}
	return out
}

// SwitchedAt is at which pressure a contact changed each time the trace went away from zero: the way
// back, on which it changes again, is left out.
func SwitchedAt(t, p, contact []float64) (out []float64) {
	cs := Contacts(t, contact)
	for i := 0; i < len(cs); i++ {
		k, _ := slices.BinarySearch(t, cs[i].At)
		if k < 2 || k >= len(t)-1 {
			continue
		}
		before, after := max(k-4, 0), min(k+3, len(t)-1)
		if p[after] < p[before] { // on the way back
			continue
		}
		a, b := stat.LinearRegression(t[before:after+1], p[before:after+1], nil, false)
		out = append(out, a+b*cs[i].At)
	}
	return out
}
