package live

import (
	"math"

	"wexter/instrument"
)

// keptEvery is how often readings are kept of an instrument that measures faster: a mean of all in
// between says more than any of them, and a whole day fits.
const keptEvery = 0.1 // s

// fasterThan is from how short a time between readings on that is done, s.
const fasterThan = 0.045

// steady makes readings of an instrument that measures faster than they are kept: means of those
// that came together.
type steady struct {
	last  float64 // s, of the reading before
	apart float64 // s between readings, smoothed; 0: not known yet
	sum   map[string]float64
	n     map[string]int
	since float64 // s, of the first that was not given on
	until float64 // of the last
	open  bool
	worst float64 // largest Within
}

// every is how far apart readings are given on, s; rate is what the instrument says of itself.
func (s *steady) every(rate float64) float64 {
	switch {
	case rate > 0:
		return 1 / rate
	case s.apart > 0:
		return math.Max(s.apart, keptEvery)
	}
	return 10 // nobody knows yet
}

// add takes a reading, and gives one on when it is time.
func (s *steady) add(r instrument.Reading) (instrument.Reading, bool) {
	if d := r.Time - s.last; d > 0 && d < 120 {
		if s.apart == 0 {
			s.apart = d
		}
		s.apart += (d - s.apart) / 20
	}
	s.last = r.Time
	if s.apart == 0 || s.apart > fasterThan {
		s.open = false
		return r, true
	}
	if !s.open || r.Time < s.since {
		*s = steady{last: s.last, apart: s.apart, sum: map[string]float64{}, n: map[string]int{}, since: r.Time, open: true}
	}
	for _, v := range r.Values {
		if !v.Over {
			s.sum[v.Channel] += v.Value
			s.n[v.Channel]++
		}
	}
	s.until, s.worst = r.Time, math.Max(s.worst, r.Within)
	if r.Time-s.since < keptEvery {
		return r, false
	}
	out := instrument.Reading{N: r.N, Time: (s.since + s.until) / 2, Within: s.worst}
	for k, n := range s.n {
		out.Values = append(out.Values, instrument.Value{Channel: k, Value: s.sum[k] / float64(n)})
	}
	s.open = false
	return out, true
}
