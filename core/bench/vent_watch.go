package bench

import (
	"fmt"
	"math"
	"slices"

	"wexter/core/record"
	"wexter/core/units"
)

const ventUnit = "eonv-manometer"

// switched is the tap at the moment at which the switch of a vent unit changes, for a bay without a
// meter on it.
const switched = "switch-changes"

// Of a ramp by hand: how often each is to be seen, and how fast is too fast to tell where a valve
// opens (chosen).
const (
	rampTimes  = 3
	rampFaster = 0.6 // inH2O/s
)

// ventStretches are the ramps up and down, each ended by hand.
func ventStretches(k Known) []Stretch {
	t, _ := Of(ventUnit)
	all := t.phaseStretches(k)
	for i, x := range []struct {
		name, before string
		to           float64 // inH2O
	}{
		{"Pressure, three times", "Manometer and a bulb at the canister side, vent side open. Start; press slowly until the relief lets go, stop, wait until it stands, let it go to the air. Three times.", 2},
		{"Vacuum, three times", "Hand pump at the canister side. Start; draw slowly past the switch until the vacuum relief lets go, stop, wait until it stands, let it go. Three times.", -8},
	} {
		s := &all[i]
		s.Stand, s.Do = []Step{{Do: Ramp, At: AtPart, Value: x.to * units.InH2O}}, nil // no rig is that slow: a hand does it
		s.Name, s.Before, s.Detail, s.For = x.name, x.before, "slowly, by hand", 0
	}
	return all
}

// ventWatch finds in a ramp what the unit did.
type ventWatch struct {
	*phaseWatch
	known Known
	found ventFound
	at    float64 // s of the readings in which it was found
}

// ventFound is what a vent unit did so far, inH2O away from zero.
type ventFound struct {
	opens, reseals, vacuum, changes []float64
	rate                            float64   // of the fastest ramp, inH2O/s
	least                           bool      // it did not open as far as it was brought
	wrong                           string    // what is wrong with the ramp as a whole
	inch                            []float64 // V of the contact at each inch of the last ramp; NaN: not reached
}

func newVentWatch(k Known, s Stretch, cols record.Channels) Watcher {
	t, _ := Of(ventUnit)
	return &ventWatch{phaseWatch: newWholeWatch(t, s, cols), known: k, at: math.Inf(-1)}
}

// find works the ramps out anew, once a second.
func (w *ventWatch) find() ventFound {
	if w.kept.Len() == 0 || w.kept.Last()-w.at < 1 {
		return w.found
	}
	w.at, w.found = w.kept.Last(), ventFound{}
	past := Past{Cols: w.cols, Table: w.kept}
	t, pa := past.Column(string(record.GaugePressure))
	sign := 1.0
	if w.vacuum() {
		sign = -1
	}
	p := make([]float64, len(pa))
	for i, v := range pa {
		p[i] = sign * v / units.InH2O
	}
	f := &w.found
	if len(p) < 10 {
		return w.found
	}
	if low, high := slices.Min(p), slices.Max(p); low < -0.4 && -low > 2*high {
		f.wrong = map[bool]string{false: "That is a vacuum where pressure is meant: press air in.", true: "That is a pressure where vacuum is meant: draw."}[w.vacuum()]
		return w.found
	} else if high > 15 {
		f.wrong = fmt.Sprintf("%.0f inH2O is far beyond what any of its valves stands: is the manometer set to inches of water?", high)
	}
	for _, e := range Ramps(t, p) {
		switch {
		case e.Kind == Cracks && w.vacuum():
			f.vacuum = append(f.vacuum, e.P)
		case e.Kind == Cracks:
			f.opens = append(f.opens, e.P)
		case !w.vacuum():
			f.reseals = append(f.reseals, e.P)
		}
	}
	f.rate = fastest(t, p)
	if w.vacuum() {
		f.stays(p, vacuumMost+0.5, &f.vacuum)
	} else {
		f.stays(p, reliefMost+0.5, &f.opens)
	}
	if tv, v := past.Column(string(record.Volts)); len(v) > 0 {
		contact := at(t, tv, v)
		f.changes, f.inch = SwitchedAt(t, p, contact), byInches(p, contact)
	} else {
		for _, m := range w.marks {
			if k, _ := slices.BinarySearch(t, m.At); m.Key == switched && len(p) > 0 {
				f.changes = append(f.changes, p[min(k, len(p)-1)])
			}
		}
	}
	return w.found
}

func (w *ventWatch) vacuum() bool { return w.stretch.Key == phaseKey(1) }

// stays takes how far a valve was brought that did not open, as often as it must be tried, for where it
// opens: it is at least that.
func (f *ventFound) stays(p []float64, limit float64, seen *[]float64) {
	var tops []float64
	for _, i := range turnings(p, limit/2) {
		if p[i] > limit {
			tops = append(tops, p[i])
		}
	}
	if len(*seen) == 0 && len(tops) >= rampTimes {
		*seen, f.least = tops, true
	}
}

// byInches is what the contact shows at each inch of water, the last time that the trace came there from
// below; NaN where it never did.
func byInches(p, contact []float64) []float64 {
	out := slices.Repeat([]float64{math.NaN()}, inches)
	for i := 1; i < len(p); i++ {
		for n := range inches {
			if level := float64(n); p[i] >= level && p[i-1] < level || n == 0 && i == 1 {
				out[n] = contact[i]
			}
		}
	}
	return out
}

// at brings values that were read at other moments to some times: each as it was read last.
func at(t, tv, v []float64) []float64 {
	out, k := make([]float64, len(t)), 0
	for i := range t {
		for k+1 < len(tv) && tv[k+1] <= t[i] {
			k++
		}
		out[i] = v[k]
	}
	return out
}

// fastest is how fast a trace rises at most, over half a second.
func fastest(t, p []float64) (most float64) {
	k := 0
	for i := range t {
		for t[i]-t[k] > 0.5 {
			k++
		}
		if d := t[i] - t[k]; d > 0.3 {
			most = math.Max(most, (p[i]-p[k])/d)
		}
	}
	return most
}

// State says how often each has been seen.
func (w *ventWatch) State() State {
	s := w.phaseWatch.State()
	f := w.find()
	switch n := len(f.opens) + len(f.vacuum); {
	case f.wrong != "":
		s.Now = f.wrong
	case n >= rampTimes:
		s.Now = fmt.Sprintf("Seen %d times: that is enough. Go on.", n)
	default:
		s.Now = fmt.Sprintf("Slowly until it lets go, stop, wait until it stands, let it go. Seen %d of %d times.", n, rampTimes)
	}
	if f.wrong == "" && f.rate > rampFaster {
		s.Now = "Slower: so fast nobody can tell where it opens. " + s.Now
	}
	return s
}

// Told is what the unit did.
func (w *ventWatch) Told() Told {
	f := w.find()
	out := Told{Readings: Readings{}, Says: f.wrong}
	if f.wrong != "" {
		return out
	}
	put := func(key string, v []float64) {
		if len(v) > 0 {
			out.Readings[key] = Num(v...)
		}
	}
	for _, v := range [][]float64{f.opens, f.reseals, f.vacuum, f.changes} {
		for i := range v {
			v[i] = math.Round(v[i]*100) / 100
		}
	}
	put("opens", f.opens)
	put("reseals", f.reseals)
	put("vacuum", f.vacuum)
	put("switch", f.changes)
	if w.vacuum() {
		for n, v := range f.inch {
			if v == v {
				put(inchKey(n), []float64{math.Round(v*100) / 100})
			}
		}
	}
	if w.cols.At(string(record.Volts)) >= 0 && len(f.vacuum) > 0 && len(f.changes) == 0 { // the meter stood on it, and it did not change
		out.Readings["switch"] = Num(math.Inf(1))
	}
	if n := len(f.opens) + len(f.vacuum); f.least {
		out.Says = "It did not open as far as it was brought: it opens there at the soonest, or not at all."
	} else if n == 0 {
		out.Says = "No valve was seen to open: it leaks, does not open at all, or was not brought far enough."
	} else if n < rampTimes {
		out.Says = fmt.Sprintf("Seen only %d of %d times: a valve that lets go once may do so again.", n, rampTimes)
	}
	return out
}

// UnitScene is the picture of a vent unit: its windows, what was seen in each repetition, and where the
// pressure is now.
type UnitScene struct {
	Now     float64 // inH2O, below zero for a vacuum; NaN: none is read
	Windows []Window
	Inch    []float64 // V of the contact at each inch of vacuum; NaN: not read
	Order   []Departure
}

// Departure is one thing that the unit does, in the order in which it must, and whether it came so.
type Departure struct {
	Name string
	At   float64 // inH2O, below zero for a vacuum; NaN: not read; −Inf: it never came
	Is   Answer  // it came in its window and in its turn
}

// Window is one of a unit's windows, inH2O of pressure or of vacuum, with what was seen.
type Window struct {
	Name        string
	Least, Most float64
	Vacuum      bool
	Seen        []float64
}

func (UnitScene) scene() {}

// ventPicture is a unit by its readings; nil where nothing was read of it.
func ventPicture(_ Subject, r Readings) Scene {
	r = switchByInch(r)
	s := UnitScene{Now: math.NaN(), Windows: []Window{
		{"relief opens", reliefLeast, reliefMost, false, r["opens"].Numbers},
		{"reseals", 0.05, reliefMost, false, r["reseals"].Numbers},
		{"switch", switchLeast, switchMost, true, r["switch"].Numbers},
		{"vacuum relief", vacuumLeast, vacuumMost, true, r["vacuum"].Numbers},
	}, Inch: make([]float64, inches)}
	for n := range s.Inch {
		s.Inch[n], _ = r.Mean(inchKey(n))
	}
	s.Order = order(s.Windows)
	return s
}

// order is what a unit does as its vacuum grows, each with whether it came in its window and before
// what must come after it.
func order(ws []Window) (out []Departure) {
	switched, lets := ws[2], ws[3]
	for _, w := range ws {
		d := Departure{Name: w.Name, At: math.NaN()}
		if len(w.Seen) > 0 {
			worst := slices.Max(w.Seen)
			d.At, d.Is = worst, Did
			if worst > w.Most || slices.Min(w.Seen) < w.Least {
				d.Is = DidNot
			}
			if w.Vacuum {
				d.At = -worst
			}
		}
		out = append(out, d)
	}
	if len(switched.Seen) > 0 && len(lets.Seen) > 0 && slices.Max(switched.Seen) >= slices.Min(lets.Seen) {
		out[2].Is, out[3].Is = DidNot, DidNot // the relief before the switch
	}
	return out
}

// Picture is the unit of this moment.
func (w *ventWatch) Picture() Scene {
	s := ventPicture(w.known.Subject, w.known.Read.With(w.Told().Readings)).(UnitScene)
	if _, p := (Past{Cols: w.cols, Table: w.kept}).Column(string(record.GaugePressure)); len(p) > 0 {
		s.Now = p[len(p)-1] / units.InH2O
	}
	return s
}
