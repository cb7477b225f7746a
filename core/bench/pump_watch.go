package bench

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"wexter/core/record"
	"wexter/core/units"
)

// pumpWatch sees what is left of a vacuum that a hand pump has drawn, 20 s later.
type pumpWatch struct {
	*phaseWatch
	known Known
	reads string // the channel that takes it
}

func (w *pumpWatch) past() Past { return Past{Cols: w.cols, Table: w.kept, Marks: w.marks} }

// held is since when the gauge is held, and at which level it began; false while it is pumped up, or
// was not far enough.
func (w *pumpWatch) held() (since, top, now float64, ok bool) {
	t, level := w.past().gauge()
	if len(t) < 4 {
		return 0, 0, 0, false
	}
	g := newStrokes(t, level, 0)
	from, _ := g.pumped(0, len(t))
	return t[from], level[from], level[len(level)-1], level[from] >= 0.6*vacuumAt
}

// State says what to do now.
func (w *pumpWatch) State() State {
	s := w.phaseWatch.State()
	_, level := w.past().gauge()
	since, top, now, ok := w.held()
	s.Held, s.Word = ok, "pumped up"
	switch {
	case len(level) == 0:
		s.Now = "Waiting for the gauge."
	case oddGauge(level) != "":
		s.Now = oddGauge(level)
	case !ok:
		s.Now = fmt.Sprintf("Pump it up to %.0f inHg: %.1f now.", vacuumAt, now)
	default:
		s.From, s.Word, s.Now = since, "held", "Hands off: it is held."
		if now < 0.5*top {
			s.Now = "It does not hold. Let it run, or stop."
		}
	}
	return s
}

// Told is what was left of 15 inHg after 20 s.
func (w *pumpWatch) Told() Told {
	out := Told{Readings: Readings{}}
	t, level := w.past().gauge()
	since, top, _, ok := w.held()
	switch {
	case len(level) < 4:
		out.Says = "Nothing was read yet."
		return out
	case oddGauge(level) != "" && slices.Max(level) > cycleLeast:
		out.Says = oddGauge(level)
		return out
	case !ok && strokesInVain(t, level):
		out.Readings[w.reads] = Num(0)
		out.Says = "Stroke after stroke brings nothing up: it does not hold."
		return out
	case !ok:
		out.Says = strings.TrimSpace(oddGauge(level) + " It was not brought up far enough to be held: it leaks wide, or was not pumped.")
		return out
	}
	k, _ := slices.BinarySearch(t, since+keepsOver-0.5)
	if k >= len(t) {
		out.Says = fmt.Sprintf("It was held for %.0f s only, of %.0f.", t[len(t)-1]-since, keepsOver)
		return out
	}
	left := math.Round(math.Max(level[k], 0)/top*vacuumAt*10) / 10 // of 15, whatever it was pumped to
	out.Readings[w.reads] = Num(left)
	out.Says = fmt.Sprintf("It keeps %s of %s inHg for %.0f s.", say(left), say(vacuumAt), keepsOver)
	if w.stretch.Key == record.RunRig && left < heldAt {
		out.Says = fmt.Sprintf("Plugged, it keeps only %s of %s inHg: mend the rig first.", say(left), say(vacuumAt))
	}
	return out
}

// strokesInVain reports whether somebody pumps and what each stroke brings is gone before the next.
func strokesInVain(t, level []float64) bool {
	loss, ok := newStrokes(t, level, 0).between(0, len(t))
	return ok && loss > 10*keepsRate
}

// Picture is what is on the pump at this moment.
func (w *pumpWatch) Picture() Scene {
	x, ok := w.test.Scene(w.known).(ValveScene)
	if !ok {
		x = ValveScene{Electric: electric(w.known.Part), Now: math.NaN()}
	}
	x.Must, x.Plugged = Holds, w.stretch.Key == record.RunRig
	if _, level := w.past().gauge(); len(level) > 0 {
		x.Now = level[len(level)-1]
	}
	return x
}

// oddGauge says what is wrong with a gauge as a whole; empty: nothing.
func oddGauge(level []float64) string {
	most := slices.Max(level)
	switch {
	case most > 30.5:
		return fmt.Sprintf("%.0f inHg is more than there is air: is the gauge set to inches of mercury?", most)
	case most > 0.5 && most < cycleLeast:
		return fmt.Sprintf("It shows only %.1f inHg, which is %.0f inH2O: pump on. If the gauge says more, it is set to another unit.", most, most*units.InHg/units.InH2O)
	}
	return ""
}
