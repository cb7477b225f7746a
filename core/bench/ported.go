package bench

import (
	"fmt"
	"math"
	"slices"

	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/units"
)

// Of valves of early cars, which ported vacuum moves (common practice, no source): the fitting above the
// throttle plate gives no more than an inch of mercury with the throttle closed, and five and more off idle.
// A relief opens and shuts again within a quarter of what it is made for, and each time alike.
const (
	signalNone  = 1.0 // inHg
	signalOpen  = 5.0 // inHg
	reliefSlack = 0.25
	reliefAlike = 0.15
)

// Stretches of a valve of an early car: the signal vacuum at its hose, and a relief on a slow ramp.
var (
	signalClosed = phaseKey(4)
	signalOff    = phaseKey(5)
	reliefRamp   = phaseKey(6)
)

// ported reports whether ported vacuum moves a part.
func ported(p plumbing.Part) bool { return p.By == "diaphragms" }

// portedStretches are the signal at the hose of a diaphragm: none closed, present off idle.
func portedStretches(k Known) []Stretch {
	at := Stretch{Key: signalClosed, Name: "Signal, throttle closed", Detail: "none may come", Do: []Step{{Do: Warm}}, For: 10, Judged: true, Maybe: true, Rests: true, Read: []string{"signal-closed"}, Done: k.In[signalClosed],
		Before: "Vacuum gauge on the hose at the diaphragm. Warm, at idle, throttle closed. Start."}
	off := at
	off.Key, off.Name, off.Detail, off.Do, off.Read, off.Done = signalOff, "Signal, off idle", "it must come", []Step{{Do: Fast}}, []string{"signal-open"}, k.In[signalOff]
	off.Before = "The same, at 2500 rpm. Start."
	return []Stretch{at, off}
}

// reliefStretch is a relief by itself on a slow ramp.
func reliefStretch(k Known) Stretch {
	p := k.Part
	to := 1.4 * p.Crack
	if p.Inward {
		to = -to
	}
	return Stretch{Key: reliefRamp, Name: "Slowly until it opens", Detail: "three times; it opens near " + both(p.Crack), Stand: []Step{{Do: Ramp, At: AtPart, Value: to}}, Judged: true, Rests: true, Read: []string{"held"}, Done: k.In[reliefRamp],
		Before: "The relief by itself on the rig, gas free. Start; " + map[bool]string{true: "draw", false: "press"}[p.Inward] + " slowly until it lets go, stop, wait until it stands, let it go to the air. Three times."}
}

// reliefWatch finds in the ramps where a relief opens and shuts.
type reliefWatch struct {
	*phaseWatch
	part plumbing.Part
}

// ramps are its openings and where it was shut again, inH2O, and what is wrong with the ramp; empty: nothing.
func (w *reliefWatch) ramps() (opens, reseals []float64, wrong string) {
	t, pa := Past{Cols: w.cols, Table: w.kept}.Column(string(record.GaugePressure))
	if len(pa) < 10 {
		return nil, nil, ""
	}
	sign := 1.0
	if w.part.Inward {
		sign = -1
	}
	p := make([]float64, len(pa))
	for i, v := range pa {
		p[i] = sign * v / units.InH2O
	}
	if low, high := slices.Min(p), slices.Max(p); low < -0.4 && -low > 2*high {
		return nil, nil, map[bool]string{false: "That is a vacuum where pressure is meant: press air in.", true: "That is a pressure where vacuum is meant: draw."}[w.part.Inward]
	}
	for _, e := range Ramps(t, p) {
		if v := math.Round(e.P*100) / 100; e.Kind == Cracks {
			opens = append(opens, v)
		} else {
			reseals = append(reseals, v)
		}
	}
	if most := 1.3 * w.part.Crack / units.InH2O; len(opens) == 0 { // it did not open as far as it was brought
		var tops []float64
		for _, i := range turnings(p, most/2) {
			if p[i] > most {
				tops = append(tops, math.Round(p[i]*100)/100)
			}
		}
		if len(tops) >= rampTimes {
			opens = tops
		}
	}
	return opens, reseals, ""
}

// State says how often it has been seen.
func (w *reliefWatch) State() State {
	s := w.phaseWatch.State()
	opens, _, wrong := w.ramps()
	switch {
	case wrong != "":
		s.Now = wrong
	case len(opens) >= rampTimes:
		s.Now = fmt.Sprintf("Seen %d times: that is enough. Go on.", len(opens))
	default:
		s.Now = fmt.Sprintf("Slowly until it lets go, stop, wait until it stands, let it go. Seen %d of %d times.", len(opens), rampTimes)
	}
	return s
}

// Told is where it opened and shut again.
func (w *reliefWatch) Told() Told {
	opens, reseals, wrong := w.ramps()
	out := Told{Readings: Readings{}, Says: wrong}
	if len(opens) > 0 {
		out.Readings["opens"] = Num(opens...)
	}
	if len(reseals) > 0 {
		out.Readings["reseals"] = Num(reseals...)
	}
	return out
}

// reliefRamped judges a relief by where it opens and shuts again; false where that was not read.
func reliefRamped(p plumbing.Part, r Readings) (Verdict, bool) {
	opens, reseals := r["opens"].Numbers, r["reseals"].Numbers
	if p.Kind == plumbing.Relief && p.Crack > 0 && len(opens) == 0 && len(r["sealed"].Words)+len(r["held"].Numbers) == 0 {
		return ask("opens", "At which pressure does it open, and at which is it shut again? Three times. About %s is right.", both(p.Crack)), true
	}
	if len(opens) == 0 || p.Kind != plumbing.Relief || p.Crack <= 0 {
		return Verdict{}, false
	}
	want := p.Crack / units.InH2O
	low, high := slices.Min(opens), slices.Max(opens)
	words := fmt.Sprintf("It opens at %s to %s inH2O; about %s is right", say(low), say(high), say(want))
	switch {
	case len(reseals) > 0 && slices.Max(reseals) > high+0.05*want:
		return ask("reseals", "It cannot be shut again at %s inH2O when it opens at %s. Read it again on the way down.", say(slices.Max(reseals)), say(high)), true
	case len(opens) < rampTimes:
		return ask("opens", "%s. Try it %d times: what opens once may stick.", words, rampTimes), true
	case high-low > reliefAlike*want:
		return is("sticky", "%s, and not each time alike: it sticks.", words), true
	case low < want*(1-reliefSlack), len(reseals) > 0 && slices.Min(reseals) < 0.5*want:
		return is("leaks", "%s%s: it does not keep what it should.", words, resealWords(reseals)), true
	case high > want*(1+reliefSlack):
		return is("stuck", "%s: it does not open in time, and the tank is left without relief.", words), true
	case len(reseals) == 0:
		return ask("reseals", "%s. At which pressure is it shut again?", words), true
	}
	return is("good", "%s%s: sound.", words, resealWords(reseals)), true
}

func resealWords(v []float64) string {
	if len(v) == 0 {
		return ""
	}
	return fmt.Sprintf(", and it is shut again at %s", say(slices.Min(v)))
}

// valveSignal asks when the signal of a diaphragm cannot be as it was read.
func valveSignal(s Subject, r Readings) (Verdict, bool) {
	for _, key := range []string{"signal-closed", "signal-open"} {
		if v, ok := r.Mean(key); ok && !ported(s.Part) && s.Part.Key != "" && s.Part.By == "" && electric(s.Part) {
			return ask(key, "Power moves this valve, no vacuum: %s inHg belong to another part.", say(v)), true
		}
	}
	return Verdict{}, false
}

// signalSays is what the signal vacuum says beside the valve itself; empty where it was not read.
func signalSays(r Readings) string {
	closed, a := r.Mean("signal-closed")
	open, b := r.Mean("signal-open")
	switch {
	case b && open < signalOpen-0.5:
		return fmt.Sprintf("It gets only %s inHg off idle, and cannot open on the car: the ported hose, its fitting, or the thermal switch.", say(open))
	case a && closed > signalNone+0.5:
		return fmt.Sprintf("It gets %s inHg with the throttle closed, where none may come: the hose is on the manifold, or the throttle stands open.", say(closed))
	case a && b:
		return fmt.Sprintf("Its signal is right: %s inHg closed, %s off idle.", say(closed), say(open))
	}
	return ""
}

// ReliefScene is the picture of a relief by itself: where it must open and be shut again, what was seen, and
// the pressure of now; of a diaphragm, the signal vacuum that moves it.
type ReliefScene struct {
	Crack          float64 // inH2O that it is made for; 0: it is a diaphragm
	Slack          float64 // share by which it may be off
	Opens, Reseals []float64
	Now            float64 // inH2O; NaN
	Inward         bool
	Closed, Off    float64 // inHg of the signal with the throttle closed, and off idle; NaN
	None, Must     float64 // inHg: no more than the first closed, the second and more off idle
}

func (ReliefScene) scene() {}

// reliefPicture is a relief, or a diaphragm's signal, by its readings; false where nothing was read of it.
func reliefPicture(p plumbing.Part, r Readings) (ReliefScene, bool) {
	s := ReliefScene{Slack: reliefSlack, Now: math.NaN(), None: signalNone, Must: signalOpen, Inward: p.Inward, Opens: r["opens"].Numbers, Reseals: r["reseals"].Numbers}
	s.Closed, _ = r.Mean("signal-closed")
	s.Off, _ = r.Mean("signal-open")
	switch {
	case p.Kind == plumbing.Relief && p.Crack > 0 && len(s.Opens)+len(s.Reseals) > 0:
		s.Crack = p.Crack / units.InH2O
		return s, true
	case ported(p) && (s.Closed == s.Closed || s.Off == s.Off):
		return s, true
	}
	return s, false
}

// Picture is the relief of this moment.
func (w *reliefWatch) Picture() Scene {
	s, _ := reliefPicture(w.part, w.Told().Readings)
	s.Crack = w.part.Crack / units.InH2O
	if _, p := (Past{Cols: w.cols, Table: w.kept}).Column(string(record.GaugePressure)); len(p) > 0 {
		s.Now = math.Abs(p[len(p)-1]) / units.InH2O
	}
	return s
}
