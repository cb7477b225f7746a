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
		Toggle: Toggle{Step: Step{Do: Command, At: AtPart, Value: 1}, On: "Power on", Off: "Power off"},
		Before: fmt.Sprintf("The part on the rig. Start; pump up to %s, hands off for three seconds, switch, and back. Five times. %s.", how, power)}
	beside := cycles
	beside.Key, beside.Name, beside.Done, beside.Maybe, beside.Judged = cyclesNew, "A new one beside it", k.In[cyclesNew], true, true
	beside.Detail, beside.Before = "the same five cycles", "The new part on the same rig. Start; the same five cycles."
	hold := Stretch{Key: heldLong, Name: fmt.Sprintf("Hold %s", how), Detail: "for 20 s, hands off", Stand: pump, For: keepsOver, Judged: true, Rests: true, Read: []string{"held"}, Done: k.In[heldLong],
		Before: "Start; pump up to " + how + ", then hands off for 20 s."}
	coil := Stretch{Key: coilAlone, Name: "Coil", Detail: "off the lead, at the air's temperature", For: 10, Judged: true, Read: []string{"coil"}, Maybe: true, Done: k.In[coilAlone],
		Before: "Meter on ohms across the coil, off the lead, the part at the air's temperature. Start."}
	rig := rigPlugged(k, pump[0])
	switch {
	case k.Part.Kind == plumbing.Relief && k.Part.Crack > 0 && !relieved(k.Subject):
		return []Stretch{rig, reliefStretch(k)}
	case ported(k.Part):
		return append([]Stretch{rig, hold}, portedStretches(k)...)
	case !electric(k.Part):
		return []Stretch{rig, hold}
	}
	if k.Has != nil && !k.Has(string(record.GaugePressure)) { // by eye and by hand: what a gauge tells is left out
		return []Stretch{cycles, beside, coil}
	}
	hold.Maybe = true
	if relieved(k.Subject) {
		why := fmt.Sprintf("this unit has reliefs of its own, which let go long before %s: read it as a vent unit on the manometer, or type what you see at 2 inH2O", how)
		cycles.Lacks, beside.Lacks, hold.Lacks = why, why, why
	}
	return []Stretch{rig, cycles, beside, hold, coil}
}

// relieved reports whether reliefs sit on the part, as on a vent unit: a pump only opens them.
func relieved(s Subject) bool {
	return s.Graph != nil && slices.ContainsFunc(s.Graph.On(s.Part.Key), func(p plumbing.Part) bool { return p.Kind == plumbing.Relief })
}

// valveWatch sees how a part stood its cycles.
type valveWatch struct {
	pumpWatch
	spans []Span
	at    float64 // s of the readings of which they are
}

func newValveWatch(k Known, s Stretch, cols record.Channels) Watcher {
	t, _ := Of("valve-bench")
	pump := pumpWatch{newWholeWatch(t, s, cols), k, map[record.RunKind]string{record.RunRig: "rig", heldLong: "held"}[s.Key]}
	switch s.Key {
	case coilAlone, signalClosed, signalOff:
		return pump.phaseWatch
	case reliefRamp:
		return &reliefWatch{pump.phaseWatch, k.Part}
	case cyclesOld, cyclesNew:
		return &valveWatch{pumpWatch: pump, at: math.Inf(-1)}
	}
	return &pump
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

// State says what to do now.
func (w *valveWatch) State() State {
	s := w.phaseWatch.State()
	t, level := w.past().gauge()
	switch {
	case w.cols.At(string(record.GaugePressure)) < 0:
		s.Now = "No gauge is read here: see in which cycles it seals and passes, and write that in the result."
	case len(level) == 0:
		s.Now = "Waiting for the gauge."
	case oddGauge(level) != "":
		s.Now = oddGauge(level)
	default:
		since, _, now, _ := w.held()
		s.Now = w.cycleWords(t[len(t)-1]-since, now)
	}
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
	switch passes := mustAt(w.known.Part.Rest, powerOf(on)) == Passes; {
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

// Told is how it sealed and passed.
func (w *valveWatch) Told() Told {
	out := Told{Readings: Readings{}}
	_, level := w.past().gauge()
	if len(level) < 4 {
		out.Says = "Nothing was read yet."
		if slices.ContainsFunc(w.marks, func(m Moment) bool { return m.Key == clickTap }) {
			out.Readings["click"] = Said(Yes)
		}
		return out
	}
	if out.Says = oddGauge(level); out.Says != "" && slices.Max(level) > cycleLeast {
		return out
	}
	spans := w.past().cycles(w.known.Part.Rest)
	prefix := map[bool]string{true: newPrefix}[w.stretch.Key == cyclesNew]
	for key, must := range map[string]Way{"sealed": Holds, "passed": Passes} {
		if a := answered(spans, must); len(a) > 0 {
			out.Readings[prefix+key] = Said(a...)
		}
	}
	if prefix == "" {
		w.toldBeside(&out, spans)
	}
	if sw, _ := w.past().switchings(); len(sw) == 0 {
		out.Says += " Its power was never seen to be switched: press the space bar each time, or put a meter on its lead."
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
