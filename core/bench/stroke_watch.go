package bench

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"wexter/core/plumbing"
	"wexter/core/record"
)

// Stretches of the car's own pump: one cold start each.
var (
	strokesWhole    = phaseKey(0)
	strokesPump     = phaseKey(1)
	strokesCanister = phaseKey(2)
)

// strokeSections says which section a stretch tries.
var strokeSections = map[record.RunKind]string{strokesWhole: "whole", strokesPump: "pump", strokesCanister: "canister"}

// strokeStretches are the sections, of which one is tried at a cold start.
func strokeStretches(k Known) []Stretch {
	cleared := ""
	if len(k.Stored) > 0 {
		cleared = fmt.Sprintf("Stored: %s. Save and clear them on the scan page first, or the pump may not run. ", strings.Join(k.Stored, ", "))
	}
	any := slices.ContainsFunc([]record.RunKind{strokesWhole, strokesPump, strokesCanister}, func(s record.RunKind) bool { return k.In[s] })
	feel := " Start, then start the engine: a hand on the pump, the space bar at each stroke, until it is silent or the purge valve begins to tick."
	if k.Has != nil && k.Has(string(record.Volts)) {
		feel = " Start, then start the engine: the meter on the pump's switch counts the strokes, until it is silent or the purge valve begins to tick."
	}
	var out []Stretch
	for _, x := range []struct {
		key           record.RunKind
		name, where   string
		done, further bool
	}{
		{strokesWhole, "The whole system", "nothing plugged", any, false},
		{strokesPump, "The pump alone", "plugged where its hose leaves the canister", k.In[strokesPump], true},
		{strokesCanister, "Pump and canister", "vapour line plugged at the canister", k.In[strokesCanister], true},
	} {
		s := Stretch{Key: x.key, Name: x.name, Detail: x.where + "; a cold start of its own", Do: []Step{{Do: ColdStart}}, For: 140, Judged: true, Read: []string{"strokes"}, Done: x.done, Maybe: x.further, Rests: true,
			Before: cleared + "Cold, after a night; fuel between 15 and 85 %. " + upperFirst(x.where) + "." + feel}
		if p := SectionPlug(strokeSections[x.key]); p != "" {
			s.Stand = []Step{{Do: Put, At: p, State: plumbing.Plugged}}
		}
		out = append(out, s)
	}
	return out
}

func upperFirst(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

// strokeWatch counts the strokes of a pump: by taps, or by its switch on a meter.
type strokeWatch struct {
	*phaseWatch
	known Known
}

func newStrokeWatch(k Known, s Stretch, cols record.Channels) Watcher {
	t, _ := Of(pumpHand)
	return &strokeWatch{newWholeWatch(t, s, cols), k}
}

// strokes are those of a stretch: at the pump's switch where a meter stood on it, otherwise as they were
// felt. Why says what is wrong with the meter's; empty where nothing is.
func (p Past) strokes() (r strokeRhythm, why string) {
	until := p.Table.Last()
	if t, v := p.Column(string(record.Volts)); len(v) > 0 {
		at := Strokes(t, v)
		r = rhythm(at, t[len(t)-1])
		if len(t) > 3 && len(r.At) > 2 {
			every := (t[len(t)-1] - t[0]) / float64(len(t)-1)
			if r.First < 3*every {
				why = fmt.Sprintf("The meter reads only %.2g times a second, and the strokes come every %.2g s: some are missed. Feel them, and press the space bar.", 1/every, r.First)
			}
		}
		if len(at) == 0 { // a hand may feel what the meter does not show
			r = rhythm(p.felt(), until)
		}
		return r, why
	}
	return rhythm(p.felt(), until), ""
}

func (p Past) felt() (at []float64) {
	for _, m := range p.Marks {
		if m.Key == strokeTap {
			at = append(at, m.At)
		}
	}
	return at
}

// Strokes are the moments at which a contact that changes with each stroke of a pump goes over from what it
// shows mostly to the other state, s. What jumps back within a moment is a bounce.
func Strokes(t, v []float64) (at []float64) {
	if len(v) < 4 {
		return nil
	}
	sorted := slices.Sorted(slices.Values(v))
	low, high := sorted[len(sorted)/50], sorted[len(sorted)-1-len(sorted)/50]
	if high-low < 2 { // V: no contact on a car's supply changes by less
		return nil
	}
	up, down := low+0.65*(high-low), low+0.35*(high-low)
	mostly := 0.0 // time spent high
	for i := 1; i < len(v); i++ {
		if v[i-1] > (low+high)/2 {
			mostly += t[i] - t[i-1]
		}
	}
	rests := mostly > (t[len(t)-1]-t[0])/2 // the state in which it mostly is
	state := v[0] > (low+high)/2
	for i := range v {
		is := state
		if v[i] > up {
			is = true
		} else if v[i] < down {
			is = false
		}
		if is == state {
			continue
		}
		state = is
		if n := len(at); state != rests && (n == 0 || t[i]-at[n-1] >= strokeApart) {
			at = append(at, t[i])
		}
	}
	return at
}

// now are the strokes so far.
func (w *strokeWatch) now() (strokeRhythm, string) {
	return Past{Cols: w.cols, Table: w.kept, Marks: w.marks}.strokes()
}

// State says how the strokes come.
func (w *strokeWatch) State() State {
	s := w.phaseWatch.State()
	r, why := w.now()
	n := len(r.At)
	switch {
	case why != "":
		s.Now = why
	case n == 0 && w.kept.Last() > 60:
		s.Now = "Nothing yet. It may not run on this start: wait until the purge valve ticks, then stop."
	case n == 0:
		s.Now = "Wait for the first stroke, some 15 s after the start."
	case r.Hold > 0:
		s.Now = fmt.Sprintf("%d strokes, then silent for %.0f s: it holds. Listen until the purge valve ticks.", n, math.Floor(r.Hold))
	case n < 3:
		s.Now = fmt.Sprintf("%d so far. Go on until it is silent, or the purge valve ticks.", n)
	default:
		s.Now = fmt.Sprintf("%d strokes, a pause of %.1f s at first and %.1f s now.", n, r.First, r.Last)
	}
	return s
}

// Told are the strokes of this start.
func (w *strokeWatch) Told() Told {
	r, why := w.now()
	out := Told{Says: why}
	if why != "" || w.kept.Last() < 20 && len(r.At) == 0 {
		out.Readings = Readings{}
		return out
	}
	out.Readings = r.readings(strokeSections[w.stretch.Key])
	return out
}

// StrokeScene is the picture of the car's own pump: what is plugged, and its strokes along time.
type StrokeScene struct {
	Set         plumbing.Settings
	Section     string
	At          []float64 // s
	Until       float64   // s
	First, Last float64   // pauses, s; NaN
	Hold        float64   // s
	Slow        float64   // the pause from which it holds, s
	Supposed    []Course  // pauses against time with suspects, s; the first stroke is that of the pump
}

func (StrokeScene) scene() {}

// StrokesMade is the column of how many strokes the car's own pump has made.
const StrokesMade = "strokes made"

// Column is that of the strokes.
func (StrokeScene) Column() string { return StrokesMade }

// With draws the pauses behind the strokes: time counts from the first stroke, since nobody knows when in
// a start the pump begins.
func (s StrokeScene) With(courses []Course) Scene {
	if len(s.At) == 0 {
		return s
	}
	for _, c := range courses {
		at := strokesOf(c)
		out := Course{Name: c.Name}
		for i := 1; i < len(at); i++ {
			out.T, out.V = append(out.T, s.At[0]+at[i-1]-at[0]), append(out.V, at[i]-at[i-1])
		}
		if n := len(at); n > 0 && len(c.T) > 0 { // and how long it then stays silent
			out.T, out.V = append(out.T, s.At[0]+at[n-1]-at[0]), append(out.V, c.T[len(c.T)-1]-at[n-1])
		}
		s.Supposed = append(s.Supposed, out)
	}
	return s
}

// strokesOf are the moments of strokes that were counted, s; several between two looks lie evenly.
func strokesOf(c Course) (at []float64) {
	before, was := 0.0, 0.0
	for i, n := range c.V {
		for k := was + 1; k <= n; k++ {
			at = append(at, before+(c.T[i]-before)*(k-was)/(n-was))
		}
		before, was = c.T[i], n
	}
	return at
}

// strokePicture is a pump by its readings: strokes whose pauses grow evenly from the first to the last.
func strokePicture(_ Subject, r Readings) Scene {
	n, ok := r.Mean("strokes")
	section := r.Word("section")
	if !ok && section == "" {
		return nil
	}
	s := StrokeScene{Set: sectionSet(section), Section: section, First: math.NaN(), Last: math.NaN(), Slow: slowPause}
	s.First, _ = r.Mean("first")
	s.Last, _ = r.Mean("pause")
	s.Hold, _ = r.Mean("hold")
	if s.Hold != s.Hold {
		s.Hold = 0
	}
	if n <= 400 && s.First == s.First && s.Last == s.Last && s.First > 0 {
		at := 0.0
		for i := range int(n) {
			s.At = append(s.At, at)
			at += s.First + (s.Last-s.First)*float64(i)/math.Max(n-2, 1)
		}
		s.Until = at
	}
	return s
}

// strokesSoFar is the pump between stretches.
func strokesSoFar(k Known) Scene {
	s, ok := strokePicture(k.Subject, k.Read).(StrokeScene)
	if !ok {
		return nil
	}
	for key, section := range strokeSections {
		if p, has := k.Past[key]; has && section == s.Section {
			return p.strokeScene(section)
		}
	}
	return s
}

func (p Past) strokeScene(section string) StrokeScene {
	r, _ := p.strokes()
	return StrokeScene{Set: sectionSet(section), Section: section, At: r.At, Until: p.Table.Last(), First: r.First, Last: r.Last, Hold: r.Hold, Slow: slowPause}
}

// Picture is the pump of this moment.
func (w *strokeWatch) Picture() Scene {
	return Past{Cols: w.cols, Table: w.kept, Marks: w.marks}.strokeScene(strokeSections[w.stretch.Key])
}
