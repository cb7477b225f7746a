package bench

import (
	"fmt"
	"math"
	"slices"

	"wexter/core/circuit"
	"wexter/core/record"
)

// pinTaps are what is seen of a connector's pins.
var pinTaps = []Tap{{"fit", "Bright and tight", pinsSeen}, {"loose", "Loose or pushed back", pinsSeen}, {"green", "Corroded or wet", pinsSeen}}

var pinsSeen = []record.RunKind{phaseKey(0)}

// pinTally makes a reading of the last tap.
func pinTally(marks []Moment) Readings {
	for _, m := range slices.Backward(marks) {
		if slices.ContainsFunc(pinTaps, func(t Tap) bool { return t.Key == m.Key }) {
			return Readings{"pins": Said(m.Key)}
		}
	}
	return nil
}

// circuitStretches is one for each measure that is in, and for each that still tells something: the one that
// tells most is next, and the others may be taken in its place.
func circuitStretches(k Known) []Stretch {
	c := k.Part.Wired
	if c == nil {
		return []Stretch{{Key: phaseKey(0), Name: "Pins of the connector", Lacks: "the Book has no circuit of this part"}}
	}
	walk := circuitNow(k.Subject, k.Read)
	var out []Stretch
	for i, key := range walked {
		m, ok := c.Measure(key)
		at := slices.IndexFunc(walk.Taken, func(t Taken) bool { return t.Channel == key })
		asked := slices.IndexFunc(walk.Next, func(a Asked) bool { return a.Channel == key })
		if ok && at >= 0 && asked < 0 {
			s := k.measured(m, i, "")
			s.Detail, s.Done = walk.Taken[at].Value+", "+walk.Taken[at].Says, true
			out = append(out, s)
		}
	}
	for n, a := range walk.Next {
		m, _ := c.Measure(a.Channel)
		s := k.measured(m, slices.Index(walked, a.Channel), a.Expect)
		s.Maybe = n > 0
		out = append(out, s)
	}
	return out
}

// measured is the stretch of a measure.
func (k Known) measured(m circuit.Measure, at int, expect string) Stretch {
	s := Stretch{Key: phaseKey(at), Name: casedName(m), Detail: expect, Before: casedStand(m) + ". " + m.Ask, Read: []string{m.Key}, Judged: true}
	column := record.Volts
	s.Do = []Step{{Do: KeyOn}}
	if m.Unit == "ohm" {
		column, s.Do = record.Ohms, []Step{{Do: EngineOff}}
	}
	if m.Unit != "" {
		s.Large = string(column)
		if k.Has != nil && !k.Has(s.Large) {
			s.Lacks = fmt.Sprintf("no instrument here gives %s: choose a meter that does, or type the reading", column.Words())
		}
	}
	if level := map[circuit.Drive]float64{circuit.Driven: 1, circuit.Half: 0.5}[m.Drive]; level > 0 {
		s.Do = append(s.Do, Step{Do: Command, At: AtPart, Value: level})
		s.Rests = true
	}
	return s
}

func casedStand(m circuit.Measure) string { return casedName(circuit.Measure{Name: m.Stand}) }

// beyondRange is from which resistance on a reading is an overload, ohm.
const beyondRange = 1e8

// Overload is how a meter's overload on ohms is kept.
const Overload = 1e9

// circuitWatch reads one measure.
type circuitWatch struct {
	*phaseWatch
	known   Known
	measure circuit.Measure
	ok      bool
	at      int // its column; −1: it is looked at, or there is none
}

func newCircuitWatch(k Known, s Stretch, cols record.Channels) Watcher {
	t, _ := Of(circuitWalk)
	w := &circuitWatch{phaseWatch: newWholeWatch(t, s, cols), known: k, at: -1}
	if k.Part.Wired != nil && len(s.Read) == 1 {
		w.measure, w.ok = k.Part.Wired.Measure(s.Read[0])
	}
	if w.measure.Unit != "" {
		w.at = cols.At(s.Large)
	}
	return w
}

// Windows of a reading of the meter, s.
const (
	steadyFor = 1.5
	dutyFor   = 4.0 // a duty wanders with its pulses
)

// value is what the meter shows now in the measure's unit, and whether it stands still; false while it shows
// nothing.
func (w *circuitWatch) value() (v float64, still, ok bool) {
	if w.at < 0 || w.kept.Len() == 0 {
		return 0, false, false
	}
	window := steadyFor
	if w.measure.Unit == "%" {
		window = dutyFor
	}
	var all []float64
	end := w.kept.Last()
	for i, t := range w.kept.Time {
		if x := w.kept.Cols[w.at][i]; t >= end-window && !math.IsNaN(x) {
			all = append(all, x)
		}
	}
	if len(all) < 3 {
		return 0, false, false
	}
	low, high := slices.Min(all), slices.Max(all)
	still = end >= window && high-low <= math.Max(0.03*math.Abs(high), 6*w.cols[w.at].Resolution)
	v = mean(all)
	switch {
	case w.measure.Unit == "ohm" && high > beyondRange:
		return math.Inf(1), low > beyondRange && end >= window, true
	case w.measure.Unit == "%":
		return math.Round(math.Min(math.Max(100*(1-v/w.supply()), 0), 100)), end >= dutyFor, true
	}
	return told(v, w.cols[w.at].Resolution), still, true
}

func mean(v []float64) float64 {
	sum := 0.0
	for _, x := range v {
		sum += x
	}
	return sum / float64(len(v))
}

// supply is the battery's volts: by the car, by what was measured against plus, or as they usually are.
func (w *circuitWatch) supply() float64 {
	if i := w.cols.At("pid-42"); i >= 0 {
		for n := range w.kept.Cols[i] {
			if v := w.kept.Cols[i][len(w.kept.Cols[i])-1-n]; v > 9 {
				return v
			}
		}
	}
	for _, k := range []string{"proof", "supply", "feed"} {
		if v, ok := w.known.Read.Mean(k); ok && math.Abs(v) > 9 {
			return math.Abs(v)
		}
	}
	return w.known.Part.Wired.Supply()
}

// other reports whether the meter stands on another quantity than is asked for.
func (w *circuitWatch) other() bool {
	i := w.cols.At(string(record.Volts))
	if w.measure.Unit != "ohm" {
		i = w.cols.At(string(record.Ohms))
	}
	if i < 0 {
		return false
	}
	for n, t := range w.kept.Time {
		if t > w.kept.Last()-steadyFor && t > steadyFor && !math.IsNaN(w.kept.Cols[i][n]) {
			return true
		}
	}
	return false
}

// State says where the probes go, and what they show.
func (w *circuitWatch) State() State {
	s := State{Held: true, Word: "measured"}
	v, still, ok := w.value()
	switch {
	case !w.ok:
		s.Now = "The Book has no such measure."
	case w.measure.Unit == "" && len(w.marks) > 0:
		s.Now = "Noted. Go on."
	case w.measure.Unit == "":
		s.Now = w.measure.Ask + " Press what you see."
	case !ok && w.other():
		s.Now = fmt.Sprintf("The meter stands on the wrong quantity: turn it to %s.", map[bool]string{true: "ohms", false: "volts"}[w.measure.Unit == "ohm"])
	case !ok || !still:
		s.Now = w.measure.Ask
	default:
		s.Now = w.judged(v)
	}
	return s
}

// judged says what a reading that stands still means, and what it could mean besides.
func (w *circuitWatch) judged(v float64) string {
	says := fmt.Sprintf("Still at %s", reads(w.measure, v))
	r := readCircuit(w.known.Part.Wired, w.known.Read.With(Readings{w.measure.Key: Num(v)}))
	b, ok := r.band(w.measure, v)
	switch {
	case !ok:
		return says + ", for neither: see that the probes touch bright metal."
	case math.IsInf(v, 1) || w.measure.Unit == "V" && math.Abs(v) < 0.05:
		return says + ": " + b.Says + ". A meter shows the same with its probes in the air: see that they touch, then go on."
	}
	return says + ": " + b.Says + ". Go on."
}

// Told is the measure's reading, and the car's own volts where they are read.
func (w *circuitWatch) Told() Told {
	out := w.phaseWatch.Told()
	if out.Readings == nil {
		out.Readings = Readings{}
	}
	delete(out.Readings, w.measure.Key)
	if w.measure.Unit == "" {
		for k, r := range pinTally(w.marks) {
			out.Readings[k] = r
		}
		return out
	}
	v, still, ok := w.value()
	if !ok {
		out.Says = "The meter showed nothing that could be read."
		return out
	}
	if out.Readings[w.measure.Key] = Num(v); !still {
		out.Says = "The meter had not come to rest: look at the figure again."
	}
	return out
}

// Picture is the circuit with what is being measured.
func (w *circuitWatch) Picture() Scene {
	read := w.known.Read
	if v, still, ok := w.value(); ok && still {
		read = read.With(Readings{w.measure.Key: Num(v)})
	}
	s, ok := circuitPicture(w.known.Subject, read).(CircuitScene)
	if ok && w.ok {
		s.probe(w.measure)
	}
	return s
}

// CircuitScene is the picture of a circuit: what is cleared, what is suspected, and where the probes go.
type CircuitScene struct {
	Circuit    *circuit.Circuit
	Suspicion  map[string]float64 // of links and, for a path to ground or plus, of nodes: share of what is left
	Cleared    map[string]bool    // links on which nothing can be lost any more
	Found      string             // the finding
	At         map[string]string  // what was measured, at the point of the red probe
	Red, Black string             // where the probes go now
	Off        []string           // links that are apart for it
	Load       *circuit.Load
	Looks      bool // at the connector
}

func (CircuitScene) scene() {}

// probe puts the probes where a measure wants them.
func (s *CircuitScene) probe(m circuit.Measure) {
	s.Red, s.Black, s.Off, s.Load, s.Looks = m.Red, m.Black, m.Off, m.Load, m.Unit == ""
}

// circuitPicture is the circuit by its readings, with the probes at what is asked for next.
func circuitPicture(on Subject, r Readings) Scene {
	c := on.Part.Wired
	if c == nil {
		return nil
	}
	w := readCircuit(c, r)
	s := CircuitScene{Circuit: c, Suspicion: map[string]float64{}, Cleared: map[string]bool{}, At: map[string]string{}}
	left := w.Tree().Left(w.found)
	touches := func(b circuit.Break, f func(string)) {
		for _, x := range b.Changes {
			if f(x.Link); x.Link == "" {
				f(x.From)
			}
		}
	}
	for _, b := range c.Breaks {
		touches(b, func(k string) { s.Cleared[k] = true })
	}
	for _, x := range left {
		touches(x.Break, func(k string) {
			s.Suspicion[k] += x.Share
			delete(s.Cleared, k)
		})
	}
	for _, m := range c.Measures {
		if v := r[m.Key].Numbers; len(v) > 0 && m.Unit == "V" {
			s.At[m.Red] = reads(m, v[len(v)-1])
		}
	}
	if walk := circuitNow(on, r); walk.Found != "" {
		s.Found = walk.Found
	} else if len(walk.Next) > 0 {
		m, _ := c.Measure(walk.Next[0].Channel)
		s.probe(m)
	}
	return s
}
