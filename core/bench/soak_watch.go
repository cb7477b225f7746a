package bench

import (
	"fmt"
	"math"
	"strings"

	"wexter/core/record"
	"wexter/core/units"
)

const soakWatch = "soak-watch"

// SoakWatch is what the tank does after shut-down. As it cools by ΔT a sealed tank loses p·ΔT/T of the air in
// it (ideal-gas law); the vapour above warm fuel takes up to six tenths of the pressure and may stay as it is.
// A unit with reliefs begins the night at half an inch of water of pressure. Below 0.8 K nothing follows.
var SoakWatch = Register(Test{
	Key:       soakWatch,
	Odds:      FromPlant,
	Feels:     []string{"vapour"},
	OneVolume: true,
	Channels: []Channel{
		{Key: "time", Unit: "min", Low: 0, High: 2000, Sense: SwitchTime, Open: true},
		{Key: "lowest", Unit: "inH2O", Low: -60, High: 60, Sense: LowestTank, Optional: true},
		{Key: "ambient", Unit: "°C", Low: -40, High: 60, Sense: AirTemperature, Optional: true},
		{Key: "cooled", Unit: "K", Low: -30, High: 60, Sense: TankCooled, Optional: true},
		{Key: "contact", Unit: "V", Low: -1, High: 32, Sense: SoakSwitch, Optional: true, Worked: true, Usual: true},
		{Key: "hours", Unit: "h", Low: 0, High: 100, Optional: true},
	},
	Phases: []Phase{
		{Do: []Step{{Do: Park}}},
		{For: 6 * 3600, Every: 60, Read: []string{"time", "lowest", "ambient", "cooled"}},
	},
	Live:    Live{Stretches: soakStretches, Watch: newSoakWatch, Looks: []record.RunKind{soakNight}, Picture: soakSoFar, Foresees: string(record.GaugePressure), AllIn: "The night is in. Keep the result, or watch another night."},
	Picture: soakPicture,
	Reduce:  reduceSoak,
})

// Of a night (chosen, where nothing else is said): the least share of the tank's pressure that is air, the
// pressure at which the unit's relief leaves it, K of cooling from which a night tells anything, inH2O that a
// tight tank must be expected to have lost before nothing is a finding, and the share of that which excludes one.
const (
	airLeast     = 0.4
	reliefLeft   = 0.5 // inH2O
	coolsLeast   = 0.8 // K
	mustLose     = 0.5 // inH2O
	holdsNone    = 0.3
	switchesAt   = 1.0 // inH2O, usual
	switchesLate = 2.0
)

// mustHave is the vacuum that a tight tank has at least after it has cooled, inH2O; below zero none need be.
func mustHave(cooled float64) float64 {
	const gas = 300.0 // K
	return airLeast*101325*cooled/gas/units.InH2O - reliefLeft
}

// reduceSoak judges the switch first, then the tank's pressure by how far it cooled.
func reduceSoak(_ Subject, r Readings) Verdict {
	when, ok := r.Mean("time")
	low, hasLow := r.Mean("lowest")
	cooled, hasCooled := r.Mean("cooled")
	hours, hasHours := r.Mean("hours")
	switch {
	case ok && !math.IsInf(when, 1) && hasLow && low > 0.3:
		return ask("time", "The switch changed after %s min, and yet the tank never fell below %s inH2O. Which of the two was read on another car, or with the wrong sign?", say(when), say(low))
	case ok && !math.IsInf(when, 1):
		return is("changes", "The switch changed after %s min: passed, a small leak is excluded.", say(when))
	case !ok && !hasLow:
		return ask("time", "After how many minutes did the switch change? \"no change\" is an answer.")
	case !hasLow && hasCooled && cooled < coolsLeast && hasHours && hours >= 1:
		return is("warm", "The tank cooled by only %s K: too little for any vacuum, so this night tells nothing.", say(cooled))
	case !hasLow:
		return ask("lowest", "The switch did not change. How far did the tank's pressure fall?")
	case !ok && low < -switchesAt && r.Has("contact"):
		return unsure("The tank fell to %s inH2O and holds it, but it never stood without vacuum: the switch may have changed before the watch began. Open the cap for a moment after shut-down, and watch again.", say(low))
	case !ok && low < -1.5: // a car that is watched by its sensor, or a gauge at the port
		return is("changes", "The tank fell to %s inH2O by itself: passed, a small leak is excluded.", say(low))
	case ok && low < -switchesLate:
		return is("vacuum-only", "The tank fell to %s inH2O and the switch did not change: the switch.", say(low))
	case low < -switchesAt:
		return unsure("The tank fell to %s inH2O%s. Switches change between 0.3 and 2 inH2O: watch on, or try the unit on a manometer.", say(low), map[bool]string{true: " and the switch did not change yet"}[ok])
	case !hasCooled:
		return ask("cooled", "No vacuum came. By how much did the tank cool? A warm night tells nothing.")
	case cooled < coolsLeast:
		return is("warm", "The tank cooled by only %s K: too little for any vacuum, so this night tells nothing.", say(cooled))
	case mustHave(cooled) >= mustLose && low > -holdsNone*mustHave(cooled):
		return is("none", "The tank cooled by %s K, and a tight one would stand at %s inH2O at least; it fell to %s. It cannot pass any more: it is not tight.", say(cooled), say(-mustHave(cooled)), say(low))
	}
	return unsure("The tank cooled by %s K and fell to %s inH2O: too little for a verdict. A colder night tells more.", say(cooled), say(low))
}

// soakNight is the stretch of a night.
var soakNight = phaseKey(1)

// soakStretches is the night after a drive.
func soakStretches(k Known) []Stretch {
	t, _ := Of(soakWatch)
	before := "Drive twenty minutes, then key off; the car is left alone from here on, bonnet and doors shut. "
	if k.Has != nil && k.Has(string(record.Volts)) {
		before += "Meter on the switch wire, back-probed with an insulated pin. "
	}
	if k.Has == nil || k.Has(string(record.GaugePressure)) {
		before += "Gauge on the service port, nothing else joined: no charger, no gas. "
	}
	if k.Has != nil && !k.Has(string(record.RigWall)) {
		before += "Without a probe on the tank's wall nobody knows how far it cooled: note it by hand. "
	}
	return []Stretch{{Key: soakNight, Name: "The night", Detail: "one reading a second, after ten minutes one a minute", Do: []Step{{Do: Park}}, For: t.Phases[1].For, Every: 1, Later: 600, LaterEvery: 60, Judged: true, Done: k.In[soakNight],
		Read: t.Phases[1].Read, Large: string(record.GaugePressure), Before: before + "Start. The page may be closed: it goes on."}}
}

// soaked is how far a night has come.
type soaked struct {
	Until   float64 // s
	Changed float64 // s, when the switch changed and stayed so; NaN: it did not
	Switch  bool    // it is read
	Early   bool    // it changed before the night counts, and may stand as vacuum leaves it
	Known   bool    // the tank was seen without vacuum, so that its state then is known; true without a gauge
	Volts   float64 // across it now; NaN
	Low     float64 // inH2O, lowest so far; NaN: no gauge
	Now     float64 // inH2O; NaN
	Peak    float64 // K, the wall at its warmest; NaN: no probe
	Cooled  float64 // K since then; NaN
	Warms   bool    // the tank grows warm again
	Air     float64 // K; NaN
}

// nightFrom is from when a night counts, s: what purging drew is let go or kept by then, and the control unit
// begins to watch (common practice, no source).
const nightFrom = 360.0

// noVacuum is below which vacuum no switch has changed yet, inH2O (common practice, no source).
const noVacuum = 0.25

// soak reads a night.
func (p Past) soak() soaked {
	nan := math.NaN()
	s := soaked{Until: p.Table.Last(), Known: true, Volts: nan, Changed: nan, Low: nan, Now: nan, Peak: nan, Cooled: nan, Air: nan}
	if t, v := p.Column(string(record.Volts)); len(v) > 1 {
		s.Switch, s.Volts = true, v[len(v)-1]
		for _, c := range Contacts(t, v) {
			if s.Early = s.Early || c.At < nightFrom; c.At >= nightFrom && t[len(t)-1]-c.At >= 60 { // not a touch of the probe
				s.Changed = c.At
				break
			}
		}
	}
	if t, v := p.Column(string(record.GaugePressure)); len(v) > 0 {
		s.Now, s.Known = v[len(v)-1]/units.InH2O, false
		for i, x := range v {
			s.Known = s.Known || x > -noVacuum*units.InH2O
			if t[i] >= nightFrom {
				s.Low = math.Min(cmpNaN(s.Low, math.Inf(1)), x/units.InH2O)
			}
		}
	}
	if t, v := p.Column(string(record.RigWall)); len(v) > 0 {
		least, at := math.Inf(1), 0.0
		s.Peak = math.Inf(-1)
		for i, x := range v {
			if x > s.Peak {
				s.Peak, least = x, math.Inf(1)
			}
			if x < least {
				least, at = x, t[i]
			}
		}
		last := v[len(v)-1]
		s.Cooled = s.Peak - least
		s.Warms = last > least+0.5 && s.Until-at > 1800 && s.Until > 3600
	}
	if _, v := p.Column(string(record.AirTemp)); len(v) > 0 {
		s.Air = v[len(v)-1]
	}
	return s
}

// over reports whether what is not seen by now will not come.
func (s soaked) over(planned float64) bool { return s.Warms || planned > 0 && s.Until >= planned-60 }

// readings are the night as the test reads it. How far the tank cooled counts only once it must have shown
// something, or the night is over: before that it may still cool.
func (s soaked) readings(planned float64) Readings {
	out := Readings{}
	put := func(key string, v float64) {
		if v == v && !math.IsInf(v, -1) {
			out[key] = Num(math.Round(v*100) / 100)
		}
	}
	put("lowest", s.Low)
	put("ambient", s.Air-units.ZeroCelsius)
	put("hours", s.Until/3600)
	if s.over(planned) || mustHave(s.Cooled) >= mustLose {
		put("cooled", s.Cooled)
	}
	switch {
	case s.Changed == s.Changed:
		put("time", s.Changed/60)
	case s.Switch && !s.Early && s.Known && (s.over(planned) || mustHave(s.Cooled) >= mustLose || s.Low < -switchesAt):
		out["time"] = Num(math.Inf(1))
	case s.Switch && (s.Early || !s.Known):
		put("contact", s.Volts)
	}
	return out
}

// nightWatch watches a night.
type nightWatch struct {
	*phaseWatch
	known Known
	ended bool
}

func newSoakWatch(k Known, s Stretch, cols record.Channels) Watcher {
	t, _ := Of(soakWatch)
	return &nightWatch{phaseWatch: newWholeWatch(t, s, cols), known: k}
}

func (w *nightWatch) night() soaked { return Past{Cols: w.cols, Table: w.kept}.soak() }

// Take keeps a reading, and ends the night when it can tell nothing more.
func (w *nightWatch) Take(t float64, row []float64) Heard {
	w.phaseWatch.Take(t, row)
	if w.ended {
		return Heard{}
	}
	s := w.night()
	v := reduceSoak(w.known.Subject, s.readings(w.stretch.For))
	switch {
	case v.Outcome == "changes", v.Outcome == "none" && s.Until > 3600, v.Outcome == "vacuum-only" && s.Until > 3600, s.Warms:
		w.ended = true
		return Heard{Ends: v.Says}
	}
	return Heard{}
}

// State says how far the night has come.
func (w *nightWatch) State() State {
	s := State{Held: true, Word: "watched"}
	n := w.night()
	words := ""
	if n.Now == n.Now {
		words += fmt.Sprintf(" Tank at %s inH2O.", say(math.Round(n.Now*100)/100))
	}
	if n.Low == n.Low {
		words = strings.TrimSuffix(words, ".") + fmt.Sprintf(", lowest %s.", say(math.Round(n.Low*100)/100))
	}
	switch {
	case n.Changed == n.Changed:
		s.Now = fmt.Sprintf("Passed: the switch changed after %.0f min.", n.Changed/60)
	case n.Until < nightFrom:
		s.Now = "Leave the car alone. The control unit begins to watch 6 to 10 minutes after shut-down." + words
	case n.Cooled != n.Cooled:
		s.Now = "Not passed yet. Nothing says how far the tank has cooled: note its wall, or the fuel." + words
	default:
		s.Now = fmt.Sprintf("Not passed yet.%s It cooled by %.1f K; a tight tank must show it from %.1f K on.", words, n.Cooled, coolsEnough())
	}
	return s
}

// coolsEnough is the cooling from which a tight tank must have shown it, K.
func coolsEnough() float64 { return (mustLose + reliefLeft) * units.InH2O * 300 / (airLeast * 101325) }

// Told is the night so far.
func (w *nightWatch) Told() Told {
	return Told{Readings: w.night().readings(w.stretch.For)}
}

// SoakScene is the picture of a night: the tank's pressure with the switch's window and what a tight tank has
// at least by now, and how far it has cooled.
type SoakScene struct {
	Now, Low     float64 // inH2O; NaN
	Must         float64 // inH2O of vacuum that a tight tank has at least; below zero: none need be
	Cooled, Need float64 // K; NaN
	Changed      float64 // min; NaN: not yet
	Hours        float64
	SwitchFrom   float64 // inH2O
	SwitchTo     float64
}

func (SoakScene) scene() {}

func (s soaked) scene() SoakScene {
	x := SoakScene{Now: s.Now, Low: s.Low, Must: mustHave(s.Cooled), Cooled: s.Cooled, Need: coolsEnough(), Changed: s.Changed / 60, Hours: s.Until / 3600, SwitchFrom: switchLeast, SwitchTo: switchMost}
	return x
}

// soakPicture is a night by its readings; nil where nothing was read.
func soakPicture(_ Subject, r Readings) Scene {
	s := soaked{Changed: math.NaN(), Now: math.NaN()}
	s.Low, _ = r.Mean("lowest")
	s.Cooled, _ = r.Mean("cooled")
	if when, ok := r.Mean("time"); ok && !math.IsInf(when, 1) {
		s.Changed = 60 * when
	}
	if h, ok := r.Mean("hours"); ok {
		s.Until = 3600 * h
	}
	if s.Low != s.Low && s.Cooled != s.Cooled && s.Changed != s.Changed {
		return nil
	}
	return s.scene()
}

// soakSoFar is the night that is in.
func soakSoFar(k Known) Scene {
	if p, ok := k.Past[soakNight]; ok {
		return p.soak().scene()
	}
	return soakPicture(k.Subject, k.Read)
}

// Picture is the night of this moment.
func (w *nightWatch) Picture() Scene { return w.night().scene() }
