package bench

import (
	"fmt"
	"math"

	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/trim"
	"wexter/core/units"
)

// Stretches of a purge valve on the running engine: the gauge on its open side, its hose clamped and
// freed, and the filler cap off.
var (
	purgeGauge    = phaseKey(1)
	purgeClamping = phaseKey(2)
	purgeCap      = phaseKey(3)
)

// Of the hose, chosen: how often it is clamped, and how long it stays each way, s.
const (
	clampTimes   = 3
	clampSeconds = 20.0
	capBefore    = 6.0
	capSeconds   = 20.0
)

// clampKeys are the live data that tell what a clamped hose changes: the fewer are asked for, the more often
// each comes.
var clampKeys = []string{"pid-06", "pid-07", "pid-08", "pid-09", "pid-0C", "pid-10", "pid-0B", "pid-04", "pid-0D", "pid-03", "pid-05", "pid-33"}

// purgeStretches are what the instruments at hand can read.
func purgeStretches(k Known) (out []Stretch) {
	has := func(column string) bool { return k.Has == nil || k.Has(column) }
	shut := []Step{{Do: Command, At: "purge", Value: 0, May: true}}
	told := "The valve is told to stay shut from here. "
	if k.byHand(shut) {
		told = "Unplug the valve, or command it to 0 %: unplugging sets a code, write it down as self-made. "
	}
	if has(string(record.GaugePressure)) {
		out = append(out, Stretch{Key: purgeGauge, Name: "Pull on the open side", Detail: "hose off at the canister side, gauge on the valve", Stand: append(shut[:1:1], Step{Do: Put, At: AtPurgeLine, State: plumbing.Plugged}), Do: []Step{{Do: Warm}},
			For: 20, Judged: true, Rests: true, Read: []string{"pull"}, Done: k.In[purgeGauge],
			Before: told + "Warm, at idle. Hose off at the canister side, gauge on the valve's open end. Start."})
	}
	if has("pid-06") {
		out = append(out, Stretch{Key: purgeClamping, Name: "Hose clamped and freed", Detail: fmt.Sprintf("%d times, %.0f s each way, trims read", clampTimes, clampSeconds), Stand: shut, Do: []Step{{Do: Warm}}, Judged: true, Rests: true, Done: k.In[purgeClamping],
			Read: []string{"free", "clamped"}, Large: "pid-06", Toggle: Toggle{Step{Do: Put, At: AtPurgeLine, State: plumbing.Plugged}, "Hose clamped", "Hose freed", clampAsked()},
			Before: told + "Hose on again, warm, at idle, closed loop. A soft-jaw clamp on rubber only: nylon cracks, unplug and cap it there. Start with the hose free."})
	}
	if has("pid-0C") {
		out = append(out, Stretch{Key: purgeCap, Name: "Cap off at idle", Detail: "does the idle drop?", Stand: shut, Do: []Step{{Do: Warm}}, Judged: true, Maybe: true, Rests: true, Done: k.In[purgeCap], Read: []string{"cap-off"}, Large: "pid-0C",
			Toggle: Toggle{Step{Do: Put, At: "cap", State: plumbing.Open}, "Cap off", "Cap on", []float64{capBefore, capBefore + capSeconds}},
			Before: told + "Outdoors or with the doors open, nothing that could light vapour near the neck. Start with the cap on."})
	}
	return out
}

// clampAsked are the moments at which the hose is to be clamped and freed by turns.
func clampAsked() (out []float64) {
	for i := range 2 * clampTimes {
		out = append(out, clampSeconds*float64(i+1))
	}
	return out
}

// pullWatch reads how much the valve pulls. What pulls the gauge beyond its range pulls at least so much.
type pullWatch struct{ *phaseWatch }

// Told is the pull.
func (w *pullWatch) Told() Told {
	out := w.phaseWatch.Told()
	i := w.cols.At(string(record.GaugePressure))
	if out.Readings.Has("pull") || i < 0 || !(w.lowest[i] < -pullSure*units.InH2O) {
		return out
	}
	pull := -w.lowest[i] / units.InH2O
	out.Readings["pull"] = Num(told(pull, w.cols[i].Resolution/units.InH2O))
	out.Says = fmt.Sprintf("It pulls the gauge beyond its range: %s inH2O and more. Take a vacuum gauge for that, and no manometer with water in it.", say(pull))
	return out
}

// purgeWatch sees what clamping the hose, or taking the cap off, does to trims and idle.
type purgeWatch struct {
	*phaseWatch
	known Known
	at    float64 // s of the readings that were worked out
	found trim.Clamping
}

func newPurgeWatch(k Known, s Stretch, cols record.Channels) Watcher {
	t, _ := Of(purgeRunning)
	if s.Key == purgeGauge {
		return &pullWatch{newPhaseWatch(t, s, cols)}
	}
	return &purgeWatch{phaseWatch: newWholeWatch(t, s, cols), known: k, at: math.Inf(-1)}
}

// On reports whether the hose is clamped, or the cap off.
func (w *purgeWatch) On() bool { return len(w.toggled())%2 == 1 }

func (w *purgeWatch) toggled() (out []float64) {
	for _, m := range w.marks {
		if m.Key == PowerTap {
			out = append(out, m.At)
		}
	}
	return out
}

// toggledSpans are when it was on, s from and to.
func toggledSpans(at []float64) (out [][2]float64) {
	for i := 0; i < len(at); i += 2 {
		to := math.Inf(1)
		if i+1 < len(at) {
			to = at[i+1]
		}
		out = append(out, [2]float64{at[i], to})
	}
	return out
}

// clamped is what clamping a stretch's hose changed.
func (p Past) clamped() trim.Clamping {
	var at []float64
	for _, m := range p.Marks {
		if m.Key == PowerTap {
			at = append(at, m.At)
		}
	}
	return DriveLog(p.Cols, p.Table).Clamp(toggledSpans(at))
}

// find works the change out anew, once in two seconds.
func (w *purgeWatch) find() trim.Clamping {
	if w.kept.Len() > 0 && w.kept.Last()-w.at >= 2 {
		w.at, w.found = w.kept.Last(), Past{Cols: w.cols, Table: w.kept, Marks: w.marks}.clamped()
	}
	return w.found
}

// Mark takes a tap; what was worked out before it counts no more.
func (w *purgeWatch) Mark(t float64, word string) {
	w.phaseWatch.Mark(t, word)
	w.at = math.Inf(-1)
}

// State says when to clamp and when to free it.
func (w *purgeWatch) State() State {
	s := w.phaseWatch.State()
	at := w.toggled()
	since := w.kept.Last()
	if n := len(at); n > 0 {
		since -= at[n-1]
	}
	if w.stretch.Key == purgeCap {
		s.Now = w.capNow(len(at), since)
		return s
	}
	left := math.Ceil((clampSeconds-since)/5) * 5
	each := map[bool]string{true: "clamped", false: "free"}[w.On()]
	switch c := w.find(); {
	case c.Spans == 0 && w.kept.Last() > 30 && len(c.Pieces) == 0:
		s.Now = c.Why + " Leave it at idle until they do."
	case left > 0:
		s.Now = fmt.Sprintf("Leave it %s for %.0f s more: the trims have to follow.", each, left)
	case len(at) >= 2*clampTimes:
		s.Now = "Three times clamped and freed: that is enough. Go on."
	case w.On():
		s.Now = "Free the hose, and press the space bar."
	default:
		s.Now = fmt.Sprintf("Clamp the hose, and press the space bar (%d of %d).", len(at)/2+1, clampTimes)
	}
	return s
}

// capNow says what to do with the cap.
func (w *purgeWatch) capNow(toggled int, since float64) string {
	switch {
	case toggled == 0 && since < capBefore:
		return "Leave the cap on: the idle is read first."
	case toggled == 0:
		return "Take the cap off, and press the space bar."
	case toggled == 1 && since < capSeconds:
		return fmt.Sprintf("Cap off: does the neck suck, does the engine stumble? %.0f s more.", math.Ceil((capSeconds-since)/5)*5)
	case toggled == 1:
		return "Put the cap on again, and press the space bar."
	}
	return "The cap is on again: go on."
}

// speeds are the idle before the cap came off, and the lowest while it was off, rpm.
func (w *purgeWatch) speeds() (idle, least float64, ok bool) {
	at := w.toggled()
	t, v := Past{Cols: w.cols, Table: w.kept}.Column("pid-0C")
	if len(at) == 0 {
		return 0, 0, false
	}
	off := toggledSpans(at)[0]
	sum, n := 0.0, 0.0
	least = math.Inf(1)
	for i := range t {
		switch {
		case t[i] < off[0] && t[i] > off[0]-3*capBefore:
			sum, n = sum+v[i], n+1
		case t[i] >= off[0] && t[i] < off[1]+2:
			least = math.Min(least, v[i])
		}
	}
	return sum / n, least, n >= 3 && !math.IsInf(least, 1)
}

// Told is what the trims, or the idle, say so far.
func (w *purgeWatch) Told() Told {
	out := Told{Readings: Readings{}}
	t, v := Past{Cols: w.cols, Table: w.kept}.Column("pid-0C")
	if n := len(v); n > 3 && t[n-1]-t[0] > 5 {
		word := "runs"
		if v[n-1] < 300 && v[n-2] < 300 {
			word = "stalls"
		}
		out.Readings["engine"] = Said(word)
	}
	if w.stretch.Key == purgeCap {
		if idle, least, ok := w.speeds(); ok {
			out.Readings["idle"], out.Readings["least"] = Num(math.Round(idle)), Num(math.Round(least))
		}
		return out
	}
	c := w.find()
	if c.Why != "" {
		out.Says = c.Why
		return out
	}
	put := func(key string, v float64) {
		if v == v {
			out.Readings[key] = Num(math.Round(v*100) / 100)
		}
	}
	put("share", 100*c.Share)
	put("share-low", 100*c.Low)
	put("share-high", 100*c.High)
	put("air", 1e3*c.Air)
	put("manifold", c.Pressure/1e3)
	put("barometer", c.Baro/100)
	for _, key := range []string{"free", "clamped"} {
		var v []float64
		for _, p := range c.Pieces {
			if p.Shut == (key == "clamped") && len(v) < clampTimes {
				v = append(v, math.Round(1000*p.Total)/10+0)
			}
		}
		out.Readings[key] = Num(v...)
	}
	if c.Stopped {
		out.Says = "A trim stands at its stop: what passes is at least so much. "
	}
	if c.Spans < clampTimes {
		out.Says += fmt.Sprintf("Clamped only %d of %d times: a trim that wanders by itself may have done that.", c.Spans, clampTimes)
	}
	return out
}

// PurgeScene is the picture of a purge valve on the running engine: its hose with the clamp, and the total
// trim each time it was free or clamped.
type PurgeScene struct {
	Clamped bool
	CapOff  bool
	Cap     bool    // it is about the cap
	Speed   float64 // rpm of this moment; NaN
	Pull    float64 // inH2O; NaN: not read
	Pieces  []trim.ClampPiece
	Share   float64 // %; NaN: not known yet
	Low     float64
	High    float64
}

func (PurgeScene) scene() {}

// purgePicture is the valve by its readings.
func purgePicture(_ Subject, r Readings) Scene {
	s := PurgeScene{Speed: math.NaN(), Pull: math.NaN(), Share: math.NaN()}
	s.Pull, _ = r.Mean("pull")
	free, clamped := r["free"].Numbers, r["clamped"].Numbers
	for i := range max(len(free), len(clamped)) {
		for _, x := range []struct {
			v    []float64
			shut bool
		}{{free, false}, {clamped, true}} {
			if i < len(x.v) {
				s.Pieces = append(s.Pieces, trim.ClampPiece{Shut: x.shut, Total: x.v[i] / 100})
			}
		}
	}
	if x, ok := purgeShareOf(r); ok {
		s.Share, s.Low, s.High = x.is, x.low, x.high
	}
	if s.Pull != s.Pull && len(s.Pieces) == 0 {
		return nil
	}
	return s
}

// purgeSoFar is the valve between stretches.
func purgeSoFar(k Known) Scene {
	s, ok := purgePicture(k.Subject, k.Read).(PurgeScene)
	if !ok {
		return nil
	}
	if p, ok := k.Past[purgeClamping]; ok {
		if c := p.clamped(); len(c.Pieces) > 0 {
			s.Pieces = c.Pieces
		}
	}
	return s
}

// Picture is the valve of this moment.
func (w *purgeWatch) Picture() Scene {
	s, ok := purgePicture(w.known.Subject, w.known.Read.With(w.Told().Readings)).(PurgeScene)
	if !ok {
		s = PurgeScene{Pull: math.NaN(), Share: math.NaN()}
	}
	s.Speed = math.NaN()
	if _, v := (Past{Cols: w.cols, Table: w.kept}).Column("pid-0C"); len(v) > 0 {
		s.Speed = v[len(v)-1]
	}
	if s.Cap = w.stretch.Key == purgeCap; s.Cap {
		s.CapOff = w.On()
		return s
	}
	s.Clamped = w.On()
	s.Pieces = w.find().Pieces
	return s
}
