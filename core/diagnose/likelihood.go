package diagnose

import (
	"math"
	"slices"
)

// likelihood is one thing that was seen, as its odds under every explanation. What a
// suspect that is not felt reads is what a sound car reads.
type likelihood interface {
	felt(s int) bool
	sound(j int) float64             // nothing wrong that it could feel, on a kind of car
	one(s, k, j int) float64         // one fault, at a step of severity
	two(a, ka, b, kb, j int) float64 // two faults, both of them felt
}

// words is a test with an outcome in words. Each fault shows its own outcome; when both
// differ from what a sound car shows, either may be met.
type words struct {
	feels []bool
	seen  []float64 // [suspect][shade] odds of the outcome that was met
	well  []float64 // [suspect][shade] odds of the outcome of a sound car
	none  [kinds]float64
	ok    bool // what was met is the outcome of a sound car
}

func (l *words) felt(s int) bool         { return l.feels[s] }
func (l *words) sound(j int) float64     { return l.none[j] }
func (l *words) one(s, k, j int) float64 { return l.seen[s*shades+k*kinds+j] }
func (l *words) two(a, ka, b, kb, j int) float64 {
	x, y := a*shades+ka*kinds+j, b*shades+kb*kinds+j
	sa, sb := l.seen[x], l.seen[y]
	if l.ok {
		return sa * sb
	}
	wa, wb := l.well[x], l.well[y]
	return sa*wb + wa*sb + sa*sb + 0.5*(sa*(1-wb-sb)+sb*(1-wa-sa))
}

// numbers is a test read as numbers: each fault changes them, and the changes add.
type numbers struct {
	feels  []bool
	at     weighed // the channels
	n      int
	read   []float64           // what was read; NaN where nothing was
	well   [kinds][]float64    // what a sound car reads
	change [][shades][]float64 // by suspect
	wide   [][shades][]float64 // standard deviation within the step, by suspect
	spread []float64           // of like cars and of the instrument
	bound  []float64           // ±1: what was read is at a stop, the truth lies beyond
	flat   float64             // of a stray reading
	// Where practice knows better: the share of cars with a suspect that read otherwise than the
	// plant's, and how likely those make what was read.
	other, so []float64
}

// place is where a channel stands among the numbers.
func (l *numbers) place(channel string) int { return slices.Index(l.at, channel) }

func (l *numbers) felt(s int) bool { return l.feels[s] }

func (l *numbers) odds(j int, a, b, wideA, wideB []float64) float64 {
	ln := 0.0
	for i, x := range l.read {
		if math.IsNaN(x) {
			continue
		}
		mu, v := l.well[j][i], l.spread[i]*l.spread[i]
		if a != nil {
			mu, v = mu+a[i], v+wideA[i]*wideA[i]
		}
		if b != nil {
			mu, v = mu+b[i], v+wideB[i]*wideB[i]
		}
		if l.bound[i] != 0 {
			ln += math.Log(math.Max(phi(l.bound[i]*(mu-x)/math.Sqrt(v)), 1e-12) / (4 * l.spread[i]))
			continue
		}
		ln -= (x-mu)*(x-mu)/(2*v) + 0.5*math.Log(2*math.Pi*v)
	}
	return (1-stray)*math.Exp(ln) + stray*l.flat
}

func (l *numbers) sound(j int) float64 { return l.odds(j, nil, nil, nil, nil) }
func (l *numbers) one(s, k, j int) float64 {
	i := k*kinds + j
	return (1-l.other[s])*l.odds(j, l.change[s][i], nil, l.wide[s][i], nil) + l.so[s]
}
func (l *numbers) two(a, ka, b, kb, j int) float64 {
	x, y := ka*kinds+j, kb*kinds+j
	return (1-l.other[a])*(1-l.other[b])*l.odds(j, l.change[a][x], l.change[b][y], l.wide[a][x], l.wide[b][y]) + math.Max(l.so[a], l.so[b])
}

// holes is a reading of the size of all holes under the gauge together: areas add.
type holes struct {
	curve *Curve
	// Squared diameters (m²) at the ends of each step; zero where the gauge does not see
	// the part, or the fault is no hole.
	low, high [][steps]float64
	tight     float64
}

func newHoles(c *Curve, low, high [][steps]float64) *holes {
	return &holes{c, low, high, c.mean(0, 0)}
}

func (l *holes) felt(s int) bool         { return l.high[s][steps-1] > 0 }
func (l *holes) sound(int) float64       { return l.tight }
func (l *holes) one(s, k, _ int) float64 { return l.curve.mean(l.low[s][k], l.high[s][k]) }
func (l *holes) two(a, ka, b, kb, _ int) float64 {
	return l.curve.mean(l.low[a][ka]+l.low[b][kb], l.high[a][ka]+l.high[b][kb])
}

// sign is something that is there or not, which each fault may bring by itself.
type sign struct {
	feels  []bool
	base   float64
	p      []float64 // [suspect][shade] odds of it with this fault
	absent bool
}

func (l *sign) felt(s int) bool { return l.feels[s] }
func (l *sign) is(p float64) float64 {
	if l.absent {
		return 1 - p
	}
	return p
}
func (l *sign) sound(int) float64       { return l.is(l.base) }
func (l *sign) one(s, k, j int) float64 { return l.is(l.p[s*shades+k*kinds+j]) }
func (l *sign) two(a, ka, b, kb, j int) float64 {
	pa, pb := l.p[a*shades+ka*kinds+j], l.p[b*shades+kb*kinds+j]
	if pa < l.base || pb < l.base { // what keeps it away does so beside the other
		return l.is(l.base * math.Min(pa/l.base, 1) * math.Min(pb/l.base, 1))
	}
	return l.is(1 - (1-pa)*(1-pb)/(1-l.base))
}

// factor raises or lowers the odds of suspects, as their history does.
type factor struct {
	feels []bool
	by    []float64
}

func (l *factor) felt(s int) bool               { return l.feels[s] }
func (l *factor) sound(int) float64             { return 1 }
func (l *factor) one(s, _, _ int) float64       { return l.by[s] }
func (l *factor) two(a, _, b, _, _ int) float64 { return l.by[a] * l.by[b] }

// piece is one piece of evidence: what it says taken together, and whether it is of the
// time before (the car may have been otherwise then).
type piece struct {
	parts  []part
	before bool
}

// weigh multiplies every explanation's weight by a likelihood, less a part that all have in
// common, which it returns. before says that it is of the time before the car came: what is not
// there now may have been there.
func (m *Model) weigh(w *weights, l likelihood, before bool) (common float64) {
	var base [kinds]float64
	for j := range kinds {
		base[j] = math.Max(l.sound(j), 1e-9)
	}
	// What is not in the model, or not there now, is judged by the mean of what is.
	var mean [kinds]float64
	sum := 0.0
	for s := range m.Suspects {
		sum += m.Suspects[s].Prior
	}
	ratio := make([]float64, len(w.single))
	for s := range m.Suspects {
		feels := l.felt(s)
		for k := range steps {
			for j := range kinds {
				r := 1.0
				if feels {
					r = l.one(s, k, j) / base[j]
				}
				i := s*shades + k*kinds + j
				ratio[i] = r
				w.single[i] *= r
				if before { // one fault that is gone has to have shown all of it
					w.gone[i] *= r
				}
				mean[j] += r * m.Suspects[s].Prior / sum / steps
			}
		}
	}
	for i, q := range m.pairs {
		a, b := q[0], q[1]
		fa, fb := l.felt(a), l.felt(b)
		if !fa && !fb {
			continue
		}
		row := w.pair[i*pairShades : (i+1)*pairShades]
		for ka := range steps {
			for kb := range steps {
				for j := range kinds {
					x := &row[(ka*steps+kb)*kinds+j]
					switch {
					case !fb:
						*x *= ratio[a*shades+ka*kinds+j]
					case !fa:
						*x *= ratio[b*shades+kb*kinds+j]
					case *x > 0:
						*x *= l.two(a, ka, b, kb, j) / base[j]
					}
				}
			}
		}
	}
	for j := range kinds {
		w.other[j] *= mean[j]
		if before {
			w.none[j] *= mean[j]
		}
	}
	// The kinds of car differ in what a sound one reads; the common part is left out.
	top := math.Max(base[0], base[1])
	for j := range kinds {
		if f := base[j] / top; f != 1 {
			w.kind(j, f)
		}
	}
	return top
}

// add adds other weights.
func (w *weights) add(x *weights) {
	from := [][]float64{x.single, x.pair, x.none[:], x.gone, x.other[:]}
	for n, to := range [][]float64{w.single, w.pair, w.none[:], w.gone, w.other[:]} {
		for i, v := range from[n] {
			to[i] += v
		}
	}
}

// kind multiplies the weights of one kind of car.
func (w *weights) kind(j int, f float64) {
	for i := j; i < len(w.single); i += kinds {
		w.single[i] *= f
	}
	for i := j; i < len(w.pair); i += kinds {
		w.pair[i] *= f
	}
	for i := j; i < len(w.gone); i += kinds {
		w.gone[i] *= f
	}
	w.none[j] *= f
	w.other[j] *= f
}
