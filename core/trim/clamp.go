package trim

import (
	"fmt"
	"math"
)

// Clamp is a time for which the purge hose was clamped at idle, and what that did: the best
// measure of what purge has in the trims, since nothing else changes.
type Clamp struct {
	From  float64 `json:"from_s"`
	To    float64 `json:"to_s"`
	Open  float64 `json:"open"`  // total trim at idle before and after, share
	Shut  float64 `json:"shut"`  // while it was clamped
	SD    float64 `json:"sd"`    // of their difference
	Short bool    `json:"short"` // too short on either side to say anything
}

// Share is what purge had in the total trim: below nought it carried fuel.
func (c Clamp) Share() float64 { return c.Open - c.Shut }

// Words says what a clamp showed.
func (c Clamp) Words() string {
	switch {
	case c.Short:
		return fmt.Sprintf("The purge hose was clamped from %.0f to %.0f s: too short at idle, on either side, to tell its share. Ten seconds of steady idle are needed before and while it is clamped.", c.From, c.To)
	case math.Abs(c.Share()) < 2*c.SD || math.Abs(c.Share()) < 0.01:
		return fmt.Sprintf("Clamping the purge hose changed nothing: the total stayed at %s. Purge has no share in the trims at idle.", signed(c.Shut))
	case c.Share() < 0:
		return fmt.Sprintf("With the purge hose clamped the total went from %s to %s: purge carried %.1f %% (±%.1f) of fuel.", signed(c.Open), signed(c.Shut), -100*c.Share(), 196*c.SD)
	}
	return fmt.Sprintf("With the purge hose clamped the total went from %s to %s: purge let in %.1f %% (±%.1f) of air.", signed(c.Open), signed(c.Shut), 100*c.Share(), 196*c.SD)
}

// clamped writes into a log that purge was shut, and returns the log that holds it. The log itself
// is not changed.
func (l *Log) clamped(spans [][2]float64) *Log {
	if len(spans) == 0 {
		return l
	}
	out := *l
	v := make([]float64, len(l.Time))
	for i, t := range l.Time {
		v[i] = math.NaN()
		if l.Has(Purge) {
			v[i] = l.Value[Purge][i]
		}
		for _, s := range spans {
			if t >= s[0] && t < s[1] {
				v[i] = 0
			}
		}
	}
	out.Value[Purge] = v
	return &out
}

// clamps says what each clamp did.
func (l *Log) clamps(spans [][2]float64) (out []Clamp) {
	const (
		around  = 60.0 // s before and after that it is compared with
		settles = 8.0  // s that trims take to follow
		least   = 5    // seconds on either side
	)
	b := newBins(l)
	why := b.judge()
	for _, s := range spans {
		c := Clamp{From: s[0], To: s[1]}
		var open, shut mean
		for i := range why {
			t := b.time(i)
			if why[i] != Kept && why[i] != PurgeMoves || Where(Point{Speed: b.at(Speed, i), Pressure: b.at(ManifoldPressure, i), Load: b.at(Load, i), Barometer: b.at(Barometer, i)}, b.at(RoadSpeed, i)) != Idle {
				continue
			}
			total := totalOf(b.at(Short1, i), b.at(Long1, i))
			switch {
			case t >= s[0]+settles && t < s[1]:
				shut.add(total)
			case t >= s[0]-around && t < s[0], t >= s[1]+settles && t < s[1]+around:
				open.add(total)
			}
		}
		c.Open, c.Shut = open.of(), shut.of()
		c.SD = math.Hypot(open.sd(), shut.sd())
		if c.Short = open.n < least || shut.n < least; c.Short {
			c.Open, c.Shut, c.SD = 0, 0, 0
		}
		out = append(out, c)
	}
	return out
}

// totalOf is the total of a short and a long trim, of which one may not have been read.
func totalOf(short, long float64) float64 {
	switch {
	case math.IsNaN(short):
		return long
	case math.IsNaN(long):
		return short
	}
	return (1+short)*(1+long) - 1
}

// mean is one of some values, with its standard deviation; the short trim swings over some three
// seconds.
type mean struct{ n, sum, squares float64 }

func (m *mean) add(x float64) {
	if x == x {
		m.n, m.sum, m.squares = m.n+1, m.sum+x, m.squares+x*x
	}
}
func (m *mean) of() float64 { return m.sum / m.n }
func (m *mean) sd() float64 {
	v := math.Max(m.squares/m.n-m.of()*m.of(), 0) + 1/(128*128*12.0)
	return math.Sqrt(v * 3 / math.Max(m.n, 3))
}
