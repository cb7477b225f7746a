package bench

import (
	"fmt"
	"math"
	"slices"

	"wexter/core/record"
	"wexter/core/units"
)

// usualMean is over how much of its end a stretch is averaged where its phase does not say, s.
const usualMean = 2.0

// phaseWatch reads a phase: at its end, or when what it waits for has come.
type phaseWatch struct {
	test    Test
	stretch Stretch
	cols    record.Channels
	kept    record.Table // the last readings
	keeps   float64      // s for which they are kept; +Inf: all
	lowest  []float64    // of each column
	reads   map[string]read
	marks   []Moment
	came    bool
}

// keptSeconds is how much of a stretch is kept for its figures: those of a minute before have a
// mean of their own.
const keptSeconds = 180.0

func newPhaseWatch(t Test, s Stretch, cols record.Channels) *phaseWatch {
	w := &phaseWatch{test: t, stretch: s, cols: cols, kept: record.NewTable(len(cols)), keeps: keptSeconds, lowest: make([]float64, len(cols)), reads: map[string]read{}}
	for i := range w.lowest {
		w.lowest[i] = math.NaN()
	}
	for _, c := range t.Channels {
		if r, ok := readsOf(c, cols); ok {
			w.reads[c.Key] = r
		}
	}
	return w
}

// newWholeWatch is one that keeps all of a stretch: what is looked for may be anywhere in it, and hands
// take their time.
func newWholeWatch(t Test, s Stretch, cols record.Channels) *phaseWatch {
	w := newPhaseWatch(t, s, cols)
	w.keeps = math.Inf(1)
	return w
}

// read is how a channel's figure is made of columns.
type read struct {
	Source
	cols []int
	in   []Conversion // of each column, to the channel's unit
}

// readsOf says how a channel's figure is made of some columns; false when they do not give it.
func readsOf(c Channel, cols record.Channels) (r read, ok bool) {
	if r.Source, ok = sources[c.Sense]; !ok || c.Kind != Number {
		return r, false
	}
	for _, k := range r.Keys {
		i := cols.At(k)
		if i < 0 {
			return r, false
		}
		in, ok := Convert(cols[i].Unit, c.Unit)
		if !ok {
			return r, false
		}
		r.cols, r.in = append(r.cols, i), append(r.in, in)
	}
	return r, true
}

// of is the figure, from values of the columns.
func (r read) of(value func(col int) (float64, bool)) (float64, bool) {
	sum := 0.0
	for i, col := range r.cols {
		v, ok := value(col)
		if !ok {
			return 0, false
		}
		sum += r.in[i].Of(v)
	}
	return r.Factor * sum, true
}

// Take keeps a reading and sees whether the wait is over.
func (w *phaseWatch) Take(t float64, row []float64) Heard {
	w.kept.Add(t, row)
	if drop, _ := slices.BinarySearch(w.kept.Time, t-w.keeps); drop > 1024 { // now and then, not each time
		w.kept.Time = slices.Clone(w.kept.Time[drop:])
		for i := range w.kept.Cols {
			w.kept.Cols[i] = slices.Clone(w.kept.Cols[i][drop:])
		}
	}
	for i, v := range row {
		if !math.IsNaN(v) {
			w.lowest[i] = math.Min(v, cmpNaN(w.lowest[i], v))
		}
	}
	return w.reached(t, row)
}

func cmpNaN(v, or float64) float64 {
	if math.IsNaN(v) {
		return or
	}
	return v
}

// reached says when what is waited for has come.
func (w *phaseWatch) reached(t float64, row []float64) Heard {
	i := slices.IndexFunc(w.test.Channels, func(c Channel) bool { return w.stretch.Until != "" && c.Sense == w.stretch.Until })
	if i < 0 || w.came {
		return Heard{}
	}
	c := w.test.Channels[i]
	r, ok := w.reads[c.Key]
	if !ok {
		return Heard{}
	}
	v, ok := r.of(func(col int) (float64, bool) { return row[col], !math.IsNaN(row[col]) })
	if !ok || v < w.stretch.Reach {
		return Heard{}
	}
	w.came = true
	words := fmt.Sprintf("%s %s reached", say(w.stretch.Reach), c.Unit)
	return Heard{Mark: words, At: t, Ends: words + "."}
}

// Conversion brings values from one unit to another.
type Conversion struct{ factor, plus float64 }

// Of is a value in the other unit.
func (c Conversion) Of(v float64) float64 { return v*c.factor + c.plus }

// Convert is how values are brought from one unit to another; false when they measure different
// things.
func Convert(from, to string) (Conversion, bool) {
	if from == to {
		return Conversion{factor: 1}, true
	}
	kind, ok := units.KindOf(to)
	if !ok {
		return Conversion{factor: 1}, false
	}
	a, ok := units.Lookup(from, kind)
	b, both := units.Lookup(to, kind)
	if !ok || !both {
		return Conversion{factor: 1}, false
	}
	at0 := b.FromSI(a.ToSI(0))
	return Conversion{b.FromSI(a.ToSI(1)) - at0, at0}, true
}

// Mark takes a mark.
func (w *phaseWatch) Mark(t float64, word string) { w.marks = append(w.marks, Moment{word, t}) }

// State says how long it has been read.
func (w *phaseWatch) State() State {
	s := State{Held: true, Word: "read", Now: w.stretch.Name + "."}
	switch {
	case len(w.test.Taps(w.stretch.Key)) > 0:
		s.Now += " Press the space bar each time: " + lowerFirst(w.test.Taps(w.stretch.Key)[0].Name) + "."
	case w.stretch.For == 0:
		s.Now += " Go on when it is done."
	}
	return s
}

// Told is what is read at the end of the phase: the rest is for eyes and hands.
func (w *phaseWatch) Told() Told {
	out := Told{Readings: Readings{}}
	if w.test.Live.Tally != nil && len(w.marks) > 0 {
		for k, r := range w.test.Live.Tally(w.marks) {
			out.Readings[k] = r
		}
	}
	for _, key := range w.stretch.Read {
		r, ok := w.reads[key]
		if !ok {
			continue
		}
		if v, ok := r.of(func(col int) (float64, bool) { return w.over(col, r.From) }); ok {
			out.Readings[key] = Num(told(v, math.Abs(r.in[0].factor)*w.cols[r.cols[0]].Resolution))
		}
	}
	return out
}

// told is a mean of what was read with as many digits as can mean anything: to a tenth of the
// step in which the instrument shows it, and without one four.
func told(v, step float64) float64 {
	if v == 0 || math.IsInf(v, 0) {
		return v
	}
	digits := 3 - math.Floor(math.Log10(math.Abs(v)))
	if step > 0 {
		digits = math.Min(digits, 1-math.Floor(math.Log10(step)+1e-9))
	}
	k := math.Pow(10, digits)
	return math.Round(v*k)/k + 0 // no minus before a nought
}

// over is the figure of a column at the end of the stretch, a minute before it, or its lowest.
func (w *phaseWatch) over(col int, from When) (float64, bool) {
	if from == Lowest {
		return w.lowest[col], !math.IsNaN(w.lowest[col])
	}
	mean, end := w.stretch.Mean, w.kept.Last()
	if mean == 0 {
		mean = usualMean
	}
	if from == AMinuteOn {
		if end -= 60; end < mean { // it was not read long enough
			return 0, false
		}
	}
	sum, n := 0.0, 0
	var times []float64
	last := 0.0
	for i, t := range w.kept.Time {
		v := w.kept.Cols[col][i]
		if t > end+1e-9 || math.IsNaN(v) {
			continue
		}
		times, last = append(times, t), v
		if t > end-mean {
			sum += v
			n++
		}
	}
	if n == 0 { // a slow channel has its last figure, as long as the next one is not overdue
		k := len(times)
		return last, k > 1 && end-times[k-1] <= lateBy*(times[k-1]-times[k-2])
	}
	return sum / float64(n), true
}

// lateBy is how much longer than between the two before it the next figure of a slow channel may
// take before the last one counts no more.
const lateBy = 1.5

// InBay is the unit in which the bay reads a column, and how its values are brought to it.
func InBay(c record.RunChannel) (string, Conversion) {
	unit := record.Quantity(c.Key).BayUnit()
	if unit == "" && c.Unit == "Pa" { // of a control unit
		unit = record.GaugePressure.BayUnit()
	}
	to, ok := Convert(c.Unit, unit)
	if unit == "" || !ok {
		return c.Unit, Conversion{factor: 1}
	}
	return unit, to
}

// InBay is the unit in which the test reads a column, and how its values are brought to it: that of the
// bay, but for a vacuum pump, which is read in inches of mercury.
func (t Test) InBay(c record.RunChannel) (string, Conversion) {
	for _, x := range t.Channels {
		if s, ok := sources[x.Sense]; ok && x.Unit == "inHg" && slices.Contains(s.Keys, c.Key) {
			if to, ok := Convert(c.Unit, x.Unit); ok {
				return x.Unit, to
			}
		}
	}
	return InBay(c)
}

// Digits is how many decimals the bay's figure of a column is shown with.
func Digits(c record.RunChannel, to Conversion) int {
	step := math.Abs(to.Of(c.Resolution) - to.Of(0))
	switch {
	case c.Key == string(record.GaugePressure), c.Unit == "Pa": // in inH2O
		return 2
	case step <= 0:
		return 1
	}
	return int(math.Min(math.Max(math.Ceil(-math.Log10(step)-1e-9), 0), 3))
}
