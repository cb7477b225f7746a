package bench

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/units"
)

// Stretches of the valve bench beside the plugged rig: the part's cycles, those of a new one beside it,
// what it holds for 20 s, and its coil.
var (
	cyclesOld = phaseKey(0)
	cyclesNew = NewPart
	heldLong  = phaseKey(2)
	coilAlone = phaseKey(3)
)

// NewPart is the stretch in which a new part is worked beside the one off the car.
const NewPart = record.RunKind("phase-2")

// clickTap is the tap at the moment at which a click is heard.
const clickTap = "click"

// Of the moments of switchings: how far off a tap of a hand may be, and what is told from here or read
// at the lead, s (chosen).
const (
	tapWithin  = 0.3
	leadWithin = 0.15
)

// valveStretches are the rig by itself and the part on it; what power moves is worked five times, what
// holds vacuum is held.
func valveStretches(k Known) []Stretch {
	pump := []Step{{Do: Pump, At: AtPart, Value: -vacuumAt * units.InHg}}
	how := fmt.Sprintf("%.0f inHg (%.0f kPa)", vacuumAt, vacuumAt*units.InHg/1e3)
	power := "Join a fused lead at the part, switch it away from the part; the space bar marks each switching"
	if k.Works != nil && k.Works(Command) {
		power = "The space bar switches its power from here"
	}
	cycles := Stretch{Key: cyclesOld, Name: "Five cycles", Detail: sealsWhen(k.Part) + " it must hold, " + passesWhen(k.Part) + " let go", Stand: pump, Judged: true, Rests: true, Read: []string{"supply"}, Done: k.In[cyclesOld],
		Before: fmt.Sprintf("The part on the rig. Start; pump up to %s, hands off for three seconds, switch, and back. Five times. %s.", how, power)}
	beside := cycles
	beside.Key, beside.Name, beside.Done, beside.Maybe, beside.Judged = cyclesNew, "A new one beside it", k.In[cyclesNew], true, true
	beside.Detail, beside.Before = "the same five cycles", "The new part on the same rig. Start; the same five cycles."
	hold := Stretch{Key: heldLong, Name: fmt.Sprintf("Hold %s", how), Detail: "for 20 s, hands off", Stand: pump, For: keepsOver, Judged: true, Rests: true, Read: []string{"held"}, Done: k.In[heldLong],
		Before: "Start; pump up to " + how + ", then hands off for 20 s."}
	coil := Stretch{Key: coilAlone, Name: "Coil", Detail: "off the lead, at the air's temperature", For: 10, Judged: true, Read: []string{"coil"}, Maybe: true, Done: k.In[coilAlone],
		Before: "Meter on ohms across the coil, off the lead, the part at the air's temperature. Start."}
	rig := Stretch{Key: record.RunRig, Name: "Rig plugged", Detail: "the adapter hose may leak", Stand: []Step{{Do: PlugRig}, {Do: Pump, Value: -vacuumAt * units.InHg}}, For: keepsOver, Rests: true, Done: k.In[record.RunRig],
		Before: "Plug the rig's end. Start; pump up to " + how + ", then hands off for 20 s."}
	if !electric(k.Part) {
		return []Stretch{rig, hold}
	}
	hold.Maybe = true
	return []Stretch{rig, cycles, beside, hold, coil}
}

// valveWatch sees how a part stood a hand pump.
type valveWatch struct {
	*phaseWatch
	known Known
	spans []Span
	at    float64 // s of the readings of which they are
}

func newValveWatch(k Known, s Stretch, cols record.Channels) Watcher {
	t, _ := Of("valve-bench")
	if s.Key == coilAlone {
		return newPhaseWatch(t, s, cols)
	}
	return &valveWatch{phaseWatch: newPhaseWatch(t, s, cols), known: k, at: math.Inf(-1)}
}

// gauge is what the gauge showed, inHg away from zero on the side that was pumped up.
func (p Past) gauge() (t, level []float64) {
	t, pa := p.Column(string(record.GaugePressure))
	if len(pa) == 0 {
		return nil, nil
	}
	sign := -1.0
	if slices.Max(pa) > -slices.Min(pa) {
		sign = 1
	}
	for _, v := range pa {
		level = append(level, sign*v/units.InHg)
	}
	return t, level
}

// switchings are those of a stretch: at the lead where a meter stood on it, otherwise where they were
// tapped or told from here.
func (p Past) switchings() (out []Switching, within float64) {
	if t, v := p.Column(string(record.Volts)); len(v) > 0 {
		return Switched(t, v), leadWithin
	}
	for _, m := range p.Marks {
		if m.Key == PowerTap {
			out = append(out, Switching{m.At, len(out)%2 == 0})
		}
	}
	return out, tapWithin
}

// cycles are the spans of a stretch, with the clicks that were heard.
func (p Past) cycles(rest plumbing.State) []Span {
	t, level := p.gauge()
	sw, within := p.switchings()
	spans := Spans(t, level, sw, rest, within)
	for _, m := range p.Marks {
		if m.Key != clickTap {
			continue
		}
		for i := range spans { // heard a moment after the switching that made it
			if m.At >= spans[i].From-within && m.At < spans[i].To {
				spans[i].Clicks++
				break
			}
		}
	}
	return spans
}

func (w *valveWatch) past() Past { return Past{Cols: w.cols, Table: w.kept, Marks: w.marks} }

// find works the cycles out anew, twice a second.
func (w *valveWatch) find() []Span {
	if w.kept.Len() > 0 && w.kept.Last()-w.at >= 0.5 {
		w.at, w.spans = w.kept.Last(), w.past().cycles(w.known.Part.Rest)
	}
	return w.spans
}

// Mark takes a mark; what follows from it is worked out at once.
func (w *valveWatch) Mark(t float64, word string) {
	w.phaseWatch.Mark(t, word)
	w.at = math.Inf(-1)
}

// On reports whether the power is on.
func (w *valveWatch) On() bool {
	n := 0
	for _, m := range w.marks {
		if m.Key == PowerTap {
			n++
		}
	}
	return n%2 == 1
}

// cycles reports whether it is a stretch of cycles.
func (w *valveWatch) cycles() bool { return w.stretch.Key == cyclesOld || w.stretch.Key == cyclesNew }

// held is since when the gauge is held, and at which level it began; false while it is pumped up, or
// was not far enough.
func (w *valveWatch) held() (since, top, now float64, ok bool) {
	t, level := w.past().gauge()
	if len(t) < 4 {
		return 0, 0, 0, false
	}
	g := newStrokes(t, level, 0)
	from, _ := g.pumped(0, len(t))
	return t[from], level[from], level[len(level)-1], level[from] >= 0.6*vacuumAt && level[from] >= cycleLeast
}

// State says what to do now.
func (w *valveWatch) State() State {
	s := w.phaseWatch.State()
	t, level := w.past().gauge()
	if len(level) == 0 {
		s.Now = "Waiting for the gauge."
		return s
	}
	if why := oddGauge(level); why != "" {
		s.Now = why
		return s
	}
	since, top, now, ok := w.held()
	if !w.cycles() {
		s.Held, s.Word = ok, "pumped up"
		switch {
		case !ok:
			s.Now = fmt.Sprintf("Pump it up to %.0f inHg: %.1f now.", vacuumAt, now)
		default:
			s.From, s.Word = since, "held"
			s.Now = "Hands off: it is held."
			if now < 0.5*top {
				s.Now = "It does not hold. Let it run, or stop."
			}
		}
		return s
	}
	s.Now = w.cycleWords(t[len(t)-1]-since, now)
	return s
}

// cycleWords say what the hand does next in a cycle.
func (w *valveWatch) cycleWords(held, now float64) string {
	sealed, passed := answered(w.find(), Holds), answered(w.find(), Passes)
	n := min(len(sealed), len(passed))
	is, on := map[bool]string{true: "Power is on. ", false: "Power is off. "}, w.On()
	if sw, _ := w.past().switchings(); len(sw) > 0 {
		on = sw[len(sw)-1].On
	}
	words := is[on]
	switch passes := on == (w.known.Part.Rest == plumbing.Shut); {
	case n >= leastRuns:
		return fmt.Sprintf("%d cycles are in: that is enough. Go on.", n)
	case passes && now < cycleLeast:
		words += "It has let go: switch back and pump it up again."
	case passes:
		words += fmt.Sprintf("It must let go: %.1f inHg stand.", now)
	case now < 0.5*vacuumAt:
		words += fmt.Sprintf("Pump it up to %.0f inHg.", vacuumAt)
	case held < 3:
		words += "Hands off: it must hold for three seconds."
	default:
		words += "It was held long enough: switch."
	}
	return fmt.Sprintf("Cycle %d of %d. %s", min(n+1, leastRuns), leastRuns, words)
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

// answered are the answers of the spans in which a valve had to do something.
func answered(spans []Span, must Way) (out []string) {
	for _, s := range spans {
		switch {
		case s.Must != must || s.Did == CannotSay:
		case s.Did == Did:
			out = append(out, Yes)
		default:
			out = append(out, No)
		}
	}
	return out
}

// Told is how it sealed and passed, or what was held.
func (w *valveWatch) Told() Told {
	out := Told{Readings: Readings{}}
	_, level := w.past().gauge()
	if len(level) < 4 {
		out.Says = "Nothing was read yet."
		return out
	}
	if out.Says = oddGauge(level); out.Says != "" && slices.Max(level) > cycleLeast {
		return out
	}
	if !w.cycles() {
		return w.toldHeld(out)
	}
	spans := w.past().cycles(w.known.Part.Rest)
	prefix := map[bool]string{true: "new-"}[w.stretch.Key == cyclesNew]
	for key, must := range map[string]Way{"sealed": Holds, "passed": Passes} {
		if a := answered(spans, must); len(a) > 0 {
			out.Readings[prefix+key] = Said(a...)
		}
	}
	if prefix == "" {
		w.toldBeside(&out, spans)
	}
	out.Says = strings.TrimSpace(out.Says + " " + unclearWords(spans))
	return out
}

// toldBeside is what else cycles of the part told: what it lost, how fast it let go, clicks and supply.
func (w *valveWatch) toldBeside(out *Told, spans []Span) {
	put := func(key string, v float64) {
		x := out.Readings[key]
		x.Numbers = append(x.Numbers, v)
		out.Readings[key] = x
	}
	clicks := 0
	for _, s := range spans {
		if s.Must == Holds && s.Did != CannotSay {
			put("loss", lossInMinute(s))
		}
		if s.Must == Passes && s.Did != CannotSay {
			put("fall", math.Round(s.Fall*100)/100)
		}
		clicks += s.Clicks
	}
	if clicks > 0 {
		out.Readings["click"] = Said(Yes)
	}
	if _, v := w.past().Column(string(record.Volts)); len(v) > 0 && slices.Max(v) > 2 {
		var on []float64
		for _, x := range v {
			if x > 0.8*slices.Max(v) {
				on = append(on, x)
			}
		}
		slices.Sort(on)
		out.Readings["supply"] = Num(math.Round(on[len(on)/2]*100) / 100)
	}
	if _, v := w.past().Column("pid-42"); len(v) > 0 {
		out.Readings["car-supply"] = Num(math.Round(v[len(v)-1]*100) / 100)
	}
}

// lossInMinute is what a valve that must hold loses of 15 inHg in a minute, inHg; +Inf where it builds
// nothing up.
func lossInMinute(s Span) float64 {
	if math.IsInf(s.Loss, 1) {
		return s.Loss
	}
	return math.Round(vacuumAt*-math.Expm1(-60*s.Loss)*100) / 100
}

// toldHeld is what was left of 15 inHg after 20 s.
func (w *valveWatch) toldHeld(out Told) Told {
	since, top, _, ok := w.held()
	if !ok {
		out.Says = strings.TrimSpace(out.Says + " It was not brought up far enough to be held: it leaks wide, or was not pumped.")
		return out
	}
	t, level := w.past().gauge()
	k, _ := slices.BinarySearch(t, since+keepsOver-0.5)
	if k >= len(t) {
		out.Says = fmt.Sprintf("It was held for %.0f s only, of %.0f.", t[len(t)-1]-since, keepsOver)
		return out
	}
	left := math.Max(level[k], 0) / top * vacuumAt // of 15, whatever it was pumped to
	left = math.Round(left*10) / 10
	key := map[bool]string{true: "rig", false: "held"}[w.stretch.Key == record.RunRig]
	out.Readings[key] = Num(left)
	switch {
	case key == "rig" && left < heldAt:
		out.Says = fmt.Sprintf("Plugged, it keeps only %s of %s inHg: mend the rig first.", say(left), say(vacuumAt))
	default:
		out.Says = fmt.Sprintf("It keeps %s of %s inHg for 20 s.", say(left), say(vacuumAt))
	}
	return out
}

// unclearWords say which spans do not count, and why.
func unclearWords(spans []Span) string {
	var why []string
	n := 0
	for i, s := range spans {
		if s.Why == "" || i == len(spans)-1 { // the last one is cut off by the end
			continue
		}
		if n++; len(why) == 0 {
			why = append(why, s.Why)
		}
	}
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("%d of %d switchings do not count: %s", n, len(spans), lowerFirst(why[0]))
}

// ValveScene is the picture of a valve on the bench: how it stood its cycles, beside those of a new one.
type ValveScene struct {
	Rest     plumbing.State
	Electric bool
	On       bool    // its power
	Now      float64 // inHg; NaN: none is read
	Old, New Tried
}

// Tried is how a part stood its cycles, and what the gauge showed meanwhile.
type Tried struct {
	Spans []Span
	T, P  []float64 // s, inHg
}

func (ValveScene) scene() {}

// valvePicture is a valve by its readings; nil where nothing was read of it.
func valvePicture(s Subject, r Readings) Scene {
	x := ValveScene{Rest: s.Part.Rest, Electric: electric(s.Part), Now: math.NaN()}
	x.Old.Spans = spansOf(r, "")
	x.New.Spans = spansOf(r, "new-")
	if len(x.Old.Spans)+len(x.New.Spans) == 0 {
		return nil
	}
	return x
}

// spansOf are the cycles that readings tell, in pairs.
func spansOf(r Readings, prefix string) (out []Span) {
	sealed, passed := r[prefix+"sealed"].Words, r[prefix+"passed"].Words
	figure := func(key string, i int) float64 {
		if v := r[key].Numbers; prefix == "" && i < len(v) {
			return v[i]
		}
		return math.NaN()
	}
	did := map[string]Answer{Yes: Did, No: DidNot}
	for i := range max(len(sealed), len(passed)) {
		if i < len(sealed) {
			loss := figure("loss", i)
			if !math.IsInf(loss, 1) {
				loss = -math.Log1p(-math.Min(loss/vacuumAt, 1-1e-9)) / 60
			}
			out = append(out, Span{Must: Holds, Did: did[sealed[i]], Loss: loss, Fall: math.NaN()})
		}
		if i < len(passed) {
			out = append(out, Span{Must: Passes, Did: did[passed[i]], Loss: math.NaN(), Fall: figure("fall", i)})
		}
	}
	return out
}

// tried is a stretch of cycles for the picture.
func (p Past) tried(rest plumbing.State) (out Tried) {
	out.T, out.P = p.gauge()
	out.Spans = slices.DeleteFunc(p.cycles(rest), func(s Span) bool { return s.Did == CannotSay && s.Why == "" })
	return out
}

// valveLivePicture is the valve between stretches: with what was read of both parts.
func valveLivePicture(k Known) Scene {
	x := ValveScene{Rest: k.Part.Rest, Electric: electric(k.Part), Now: math.NaN()}
	if p, ok := k.Past[cyclesOld]; ok {
		x.Old = p.tried(k.Part.Rest)
	}
	if p, ok := k.Past[cyclesNew]; ok {
		x.New = p.tried(k.Part.Rest)
	}
	if len(x.Old.Spans)+len(x.New.Spans) == 0 {
		if s := valvePicture(k.Subject, k.Read); s != nil {
			return s
		}
	}
	return x
}

// Picture is the valve of this moment.
func (w *valveWatch) Picture() Scene {
	x, ok := valveLivePicture(w.known).(ValveScene)
	if !ok {
		return nil
	}
	if t, level := w.past().gauge(); len(level) > 0 {
		x.Now = level[len(level)-1]
		mine := Tried{T: t, P: level, Spans: slices.DeleteFunc(slices.Clone(w.find()), func(s Span) bool { return s.Did == CannotSay && s.Why == "" })}
		switch w.stretch.Key {
		case cyclesOld:
			x.Old = mine
		case cyclesNew:
			x.New = mine
		}
	}
	x.On = w.On()
	if sw, _ := w.past().switchings(); len(sw) > 0 {
		x.On = sw[len(sw)-1].On
	}
	return x
}
