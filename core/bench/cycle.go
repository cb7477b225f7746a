package bench

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/stat"

	"wexter/core/decay"
	"wexter/core/plumbing"
)

// Switching is a moment at which what moves a valve came on or went off.
type Switching struct {
	At float64 // s
	On bool
}

// Span is the time between two switchings of a valve, and how it stood it.
type Span struct {
	From, To float64 // s
	On       bool    // what moves it is on
	Must     Way     // what a sound one does then: it passes, or it holds
	Did      Answer
	Loss     float64 // of one that must hold: the share that it loses in a second; NaN: not known
	Fall     float64 // of one that must pass: s until half is gone; +Inf: it was not; NaN: not known
	Clicks   int
	Why      string // why nobody can tell, a sentence; empty where somebody can or nothing was tried
}

// Answer is whether a valve did what it must.
type Answer int

// The answers.
const (
	CannotSay Answer = iota
	Did
	DidNot
)

// Of cycles, chosen: below the first nothing has been pumped up; a rise of less is none, and one of more is no noise; a fall to half
// takes at most so long where a valve passes; a span without a fall must last so long to be one; so
// long after pumping gas and wall still come to the same temperature, by so much of the pressure; and
// of what a valve held so much is left after 20 s.
const (
	cycleLeast = 2.0  // inHg
	riseLeast  = 0.12 // inHg
	riseMost   = 0.6  // inHg
	fallMost   = 2.0  // s
	fallSure   = 1.0  // s
	warmsIn    = 1.0  // s
	warmsBy    = 0.1
	keepsOver  = 20.0 // s
)

// keepsRate is the share of a second that a valve may lose which keeps 12 of 15 inHg for 20 s.
var keepsRate = math.Log(vacuumAt/heldAt) / keepsOver

// Spans finds how a valve stood each span between its switchings, by what a gauge showed (s, inHg
// away from zero) on the side that was pumped up. A hand or a pump brings the pressure up while the
// valve is to hold; when it is to pass, the pressure must be gone at once. within is how far off the
// moments of the switchings may be, s.
func Spans(t, p []float64, switched []Switching, rest plumbing.State, within float64) (out []Span) {
	if len(t) < 4 {
		return nil
	}
	g := newStrokes(t, p, within)
	from, on := t[0], false
	for i := 0; i <= len(switched); i++ {
		s := Span{From: from, To: t[len(t)-1], On: on, Must: mustAt(rest, powerOf(on)), Loss: math.NaN(), Fall: math.NaN()}
		last := i == len(switched)
		if !last {
			s.To = switched[i].At
		}
		before := math.NaN()
		if len(out) > 0 {
			before = out[len(out)-1].Loss
		}
		if s.Must == Holds {
			g.holds(&s)
		} else {
			g.passes(&s, before)
		}
		out = append(out, s)
		if !last {
			from, on = switched[i].At, switched[i].On
		}
	}
	return out
}

// strokes is a trace of a pump, with what of it is a rise.
type strokes struct {
	t, p        []float64
	noise, rise float64
	within      float64
}

func newStrokes(t, p []float64, within float64) *strokes {
	g := &strokes{t: t, p: p, noise: decay.ReadingNoise(p), within: within}
	g.rise = math.Min(math.Max(riseLeast, 6*g.noise), riseMost) // strokes that are gone at once look like noise
	return g
}

// index is the first reading at or after a time.
func (g *strokes) index(at float64) int {
	k, _ := slices.BinarySearch(g.t, at)
	return k
}

// holds says how a valve held that must.
func (g *strokes) holds(s *Span) {
	a, b := g.index(s.From+g.within), g.index(s.To-g.within)
	if b-a < 4 {
		return
	}
	from, risen := g.pumped(a, b)
	top := slices.Max(g.p[from:min(from+3, b)])
	switch {
	case top >= cycleLeast:
		g.loses(s, from, b, top)
	case risen >= 3 && g.t[b-1]-g.t[a] > 2:
		s.Did, s.Loss = DidNot, math.Inf(1) // whoever pumps brings nothing up
	default:
		s.Why = "It was not pumped up."
	}
	if s.Did == CannotSay { // pumped until it was switched: what goes between the strokes tells
		if loss, ok := g.between(a, b); ok && loss > 10*keepsRate {
			s.Did, s.Why, s.Loss = DidNot, "", loss
		}
	}
}

// between is the share of a second that goes between strokes; false where fewer than three tell.
func (g *strokes) between(a, b int) (loss float64, ok bool) {
	var all []float64
	peak := a
	for i := a + 1; i < b; i++ {
		switch {
		case g.p[i] >= g.p[peak]:
			peak = i
		case i+1 < b && g.p[i+1] > g.p[i]+g.rise:
			if d := g.t[i] - g.t[peak]; d > 0.05 && g.p[peak] > 2*g.rise {
				all = append(all, math.Log(g.p[peak]/math.Max(g.p[i], 0.02*g.p[peak]))/d)
			}
			peak = i + 1
		}
	}
	if len(all) < 3 {
		return 0, false
	}
	slices.Sort(all)
	return all[len(all)/2], true
}

// loses says how fast the pressure goes in what was held from one reading to another.
func (g *strokes) loses(s *Span, from, to int, top float64) {
	// Gas and wall first come to the same temperature: of a long hold what comes after that counts.
	k := from
	for k < to && g.t[k] < g.t[from]+math.Min(2*warmsIn, 0.4*(g.t[to-1]-g.t[from])) {
		k++
	}
	end := k
	for end < to && g.p[end] > 0.3*top {
		end++
	}
	if end < to && g.t[end]-g.t[from] < 10 { // it is gone
		s.Did, s.Loss = DidNot, math.Log(1/0.3)/math.Max(g.t[end]-g.t[from], 0.1)
		return
	}
	if end-k < 4 || g.t[end-1]-g.t[k] < 0.8 {
		s.Why = "It was held too shortly to tell: at least three seconds."
		return
	}
	x, y := g.t[k:end], make([]float64, end-k)
	for i := range y {
		y[i] = math.Log(math.Max(g.p[k+i], 0.01))
	}
	_, slope := stat.LinearRegression(x, y, nil, false)
	n, w := float64(len(x)), x[len(x)-1]-x[0]
	off := 2 * g.noise / stat.Mean(g.p[k:end], nil) / (math.Sqrt(n) * 0.29 * w)
	still := warmsBy * math.Exp(-(x[0]-g.t[from])/warmsIn) / w // gas that still warms
	s.Loss = math.Max(-slope, 0)
	switch {
	case -slope+off < keepsRate:
		s.Did = Did
	case -slope-off-still > keepsRate:
		s.Did = DidNot
	default:
		s.Why = "It loses a little: hold it longer to tell."
	}
}

// pumped is where pumping ends between two readings, and how often the pressure rose before.
func (g *strokes) pumped(a, b int) (from, risen int) {
	from = a
	low, rising := g.p[a], false
	for i := a; i < b; i++ {
		switch {
		case g.p[i] < low:
			low, rising = g.p[i], false
		case g.p[i] > low+g.rise:
			if !rising {
				risen++
			}
			rising, from, low = true, i, g.p[i]-g.rise/2
		}
	}
	for from+1 < b && g.p[from+1] > g.p[from] { // the tip of the last rise
		from++
	}
	return from, risen
}

// passes says how fast a valve that must pass lets go what stood behind it; before is what it lost
// in a second while it held.
func (g *strokes) passes(s *Span, before float64) {
	a, b := g.index(s.From-math.Max(2*g.within, 0.3)), g.index(s.To-g.within)
	if s.From == g.t[0] || b-a < 3 {
		return
	}
	stood := slices.Max(g.p[max(0, g.index(s.From-1)):max(g.index(s.From+0.1), 1)])
	if stood < cycleLeast {
		s.Why = "Nothing stood behind it when it was switched: pump it up first."
		return
	}
	half := -1
	for i := a; i < b; i++ {
		if g.p[i] < 0.5*stood {
			half = i
			break
		}
	}
	lasted := g.t[b-1] - s.From
	switch {
	case half >= 0 && g.t[half]-s.From <= fallMost+g.within && !(before*3*math.Max(g.t[half]-s.From, 0.05) > math.Ln2):
		s.Did, s.Fall = Did, math.Max(g.t[half]-s.From, 0)
	case half >= 0:
		s.Fall = g.t[half] - s.From
		s.Why = "It goes only slowly: partly blocked, or nothing but its leak."
	case lasted >= fallSure && g.p[b-1] > 0.8*stood*math.Exp(-math.Max(before, 0)*lasted), lasted >= 2*fallMost:
		s.Did, s.Fall = DidNot, math.Inf(1)
	default:
		s.Why = "It was switched back too soon to tell."
	}
}

// Switched are the moments at which the supply of a valve came on and went off, by what is read across
// its lead, V. It finds none where the lead stands as it is.
func Switched(t, v []float64) (out []Switching) {
	for _, c := range Contacts(t, v) {
		out = append(out, Switching{c.At, !c.Closed})
	}
	return out
}
