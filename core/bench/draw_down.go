package bench

import (
	"fmt"
	"math"
	"slices"

	"gonum.org/v1/gonum/stat"

	"wexter/core/decay"
	"wexter/core/gas"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/units"
)

const drawDown = "draw-down"

// Vacuums of a draw-down, inH2O (common practice, no source): it draws to the first, less than
// the second in a minute is no build, and at the third everything is opened. A tank that is not
// built for it can collapse.
const (
	drawTo    = 8.0
	leastDraw = 3.0
	mostDraw  = 15.0
)

// DrawDown is the car drawing itself down: the vent commanded shut, the purge valve part open
// at idle, and the tank's own sensor watched while vacuum builds and then holds. Read live, the
// hold gives the leak as a diameter: by the vapour space of this car at this fuel level, less what
// the fuel gives off with the vent shut and nothing drawn. By itself the share that is lost in a
// minute decides: the fuel's own vapour takes up to a quarter of it, what loses two fifths leaks
// (common practice, no source).
var DrawDown = Register(Test{
	Key:       drawDown,
	Odds:      FromPlant,
	Feels:     []string{"vapour"},
	OneVolume: true,
	Channels: []Channel{
		{Key: "engine", Kind: Choice, Words: []string{"runs", "stalls"}, Sense: EngineRuns, Optional: true},
		{Key: "built", Unit: "inH2O", Low: -40, High: 40, Sense: SensorVacuum},
		{Key: "left", Unit: "inH2O", Low: -40, High: 40, Sense: SensorVacuum},
		{Key: "after", Unit: "s", Low: 5, High: 900, Optional: true},
		{Key: "drawn", Unit: "inH2O", Low: -40, High: 40, Sense: SensorVacuum, Optional: true},
		{Key: "level", Unit: "%", Low: 0, High: 100, Sense: FuelLevel, Optional: true},
		{Key: "barometer", Unit: "hPa", Low: 500, High: 1100, Sense: CarBarometer, Optional: true},
		{Key: "hole", Unit: "mm", Low: 0, High: 10, Optional: true, Worked: true},
		{Key: "hole-low", Unit: "mm", Low: 0, High: 10, Optional: true, Worked: true},
		{Key: "hole-high", Unit: "mm", Low: 0, High: 20, Optional: true, Worked: true},
		{Key: "own", Kind: Choice, Words: []string{"passed", "failed"}, Optional: true},
		{Key: "own-change", Unit: "inH2O", Low: -40, High: 40, Optional: true, Worked: true},
	},
	Phases: []Phase{
		{Do: []Step{{Do: Warm}}, Read: []string{"engine"}, Stops: true},
		{Do: []Step{{Do: Command, At: "isolation", Value: 1, May: true}, {Do: Command, At: "vent", Value: 1}, {Do: Command, At: "purge", Value: 0.12}}, For: 60, Every: 0.1, Until: SensorVacuum, Reach: drawTo, Mean: 0.5, Read: []string{"drawn"}},
		{Do: []Step{{Do: Command, At: "purge", Value: 0}}, For: 30, Read: []string{"built"}},
		{For: 60, Read: []string{"left"}},
		{Do: []Step{{Do: Uncommand, At: "purge"}, {Do: Uncommand, At: "vent"}, {Do: Uncommand, At: "isolation", May: true}}, For: 1},
	},
	Live:    Live{Stretches: drawStretches, Watch: newDrawWatch, Looks: []record.RunKind{record.RunZero, record.RunDrift, phaseKey(1), phaseKey(2)}},
	Picture: drawPicture,
	Reduce: func(s Subject, r Readings) Verdict {
		v := drawVerdict(r)
		if f, ok := drawnHole(s, r); ok && (v.Outcome == "falls" || v.Outcome == "holds" || v.Outcome == CannotTell) {
			v = againstLimit(v, f, r.Has("hole"))
		} else if ok && v.Ask == "left" { // so far
			v.Figures = []Figure{f}
		}
		return withOwnCheck(v, r)
	},
})

// drawVerdict is what the vacuum that was built and the one that was left say by themselves.
func drawVerdict(r Readings) Verdict {
	built, a := r.Mean("built")
	left, b := r.Mean("left")
	over := drawnFor(r)
	deepest, drawn := r.Mean("drawn")
	if !drawn {
		deepest = built
	}
	switch {
	case r.Word("engine") == "stalls":
		return is("stalls", "The engine does not keep running.")
	case !a:
		return ask("built", "How much vacuum does the tank's sensor show half a minute after the purge valve was shut again? 0 is an answer. Open the vent on any way out.")
	case built <= -leastDraw && !drawn: // typed; a sensor that is off by that much says so by itself
		return ask("built", "%s inH2O is a pressure: with the vent shut the engine draws a vacuum. Check the sign and the sensor.", say(-built))
	case built > mostDraw+0.5:
		return is("grows", "%s inH2O, where it was stopped at %s or less: the purge valve does not shut. Open the vent now.", say(built), say(mostDraw))
	case built < leastDraw && deepest >= leastDraw:
		return is("falls", "%s inH2O were drawn, and %s stood half a minute after the purge valve was shut: it does not hold.", say(deepest), say(math.Max(built, 0)))
	case built < leastDraw:
		return is("no-build", "Only %s inH2O built up: a large leak, a purge valve stuck shut, a blocked line, or a blind sensor.", say(built))
	case !b:
		return ask("left", "How much vacuum was left after a minute?")
	case left > built+0.5:
		return is("grows", "The vacuum grows from %s to %s inH2O with the purge valve shut: it passes. Open the vent now.", say(built), say(left))
	}
	// √p falls linearly with time through a small hole; as if a minute had passed.
	share := 1 - math.Pow(math.Max(math.Sqrt(math.Max(left, 0)/built)-1, -1)*60/over+1, 2)
	var v Verdict
	switch zone(share, 0.40, 0.05) {
	case 1:
		v = is("falls", "%s inH2O built, %s left after %s s: it does not hold.", say(built), say(left), say(over))
	case -1:
		v = is("holds", "%s inH2O built, %s left after %s s: it holds.", say(built), say(left), say(over))
	default:
		v = unsure("%s inH2O built, %s left after %s s: at the limit. Hold it longer.", say(built), say(left), say(over))
	}
	v.Figures = []Figure{{Name: "lost in a minute", Unit: "%", Value: 100 * share, Low: 100*share - 2, High: 100*share + 2}}
	return v
}

// drawnFor is how long it was held between the two readings, s.
func drawnFor(r Readings) float64 {
	if over, timed := r.Mean("after"); timed {
		return over
	}
	return 60
}

// againstLimit puts the diameter of a leak beside a verdict. One that was fitted to a trace decides
// where it is firm; one of two typed readings stands beside what they say.
func againstLimit(v Verdict, f Figure, fitted bool) Verdict {
	limit := decay.NominalLimit * 1e3
	says := fmt.Sprintf("Leak: %.2f mm (%.2f to %.2f)", f.Value, f.Low, f.High)
	figures := append([]Figure{f}, v.Figures...)
	switch {
	case !fitted:
		v.Says += " " + says + ", from two readings."
	case f.Low > limit:
		v = is("falls", "%s, over the %.2f mm limit.", says, limit)
	case f.High < limit:
		v = is("holds", "%s, within the %.2f mm limit.", says, limit)
	default:
		v = unsure("%s: the limit of %.2f mm lies in between. Hold it longer, or settle it with a leak-down test.", says, limit)
	}
	v.Figures = figures
	return v
}

// drawnHole is the leak as a diameter: as the trace gave it, or from the two readings and the
// vapour space of the car; false where neither is known.
func drawnHole(s Subject, r Readings) (Figure, bool) {
	f := Figure{Name: "leak, equivalent orifice", Unit: "mm"}
	if d, ok := r.Mean("hole"); ok {
		f.Value = d
		f.Low, _ = r.Mean("hole-low")
		f.High, _ = r.Mean("hole-high")
		return f, true
	}
	space, tolerance, ok := s.vapourSpace(r)
	built, a := r.Mean("built")
	left, b := r.Mean("left")
	over := drawnFor(r)
	if !ok || !a || !b || built < leastDraw || left > built {
		return f, false
	}
	// A dial is read to a tenth of an inch; what the fuel gives off is taken for a quarter of the
	// vacuum in a minute at most, and looks like a leak.
	const step = 0.1
	hole := func(built, left, volume float64) float64 {
		return smallHole(built*units.InH2O, math.Max(left, 0)*units.InH2O, over, volume) * 1e3
	}
	vapour := math.Min(0.25*built*over/60, built-left)
	f.Value = hole(built, left, space)
	f.Low = hole(built-step, math.Min(left+step+vapour, built-step), space*(1-tolerance))
	f.High = hole(built+step, left-step, space*(1+tolerance))
	return f, true
}

// smallHole is the sharp orifice (m, at Cd 0.61) through which a small vacuum in a closed volume
// falls from one pressure to another: √p falls linearly with time, isothermal, incompressible
// orifice.
func smallHole(from, to, seconds, volume float64) float64 {
	const p, t = gas.StandardPressure, 293.15
	rate := 2 * (math.Sqrt(from) - math.Sqrt(to)) / seconds // of dp/dt = rate·√p
	perArea := gas.NominalCd * math.Sqrt(2*p/(gas.RAir*t))  // kg/s through 1 m² at 1 Pa
	return gas.Diameter(rate * volume / (gas.RAir * t * perArea))
}

// Tolerances of the vapour space, k = 2: of the tank's size by the plumbing's starting value, of the
// level by the car's own sender, as a share of the tank, and where nobody knows the level (chosen).
const (
	tankUnstated = 0.35
	levelSender  = 0.04
	levelUnknown = 0.45
)

// vapourSpace is what the EVAP system of the car holds that is not fuel, m³, with its tolerance
// (k = 2, a share); false for a car whose plumbing nobody knows.
func (s Subject) vapourSpace(r Readings) (volume, tolerance float64, ok bool) {
	if s.Graph == nil {
		return 0, 0, false
	}
	i := slices.IndexFunc(s.Graph.Parts, func(p plumbing.Part) bool { return p.Role == "fuel" })
	if i < 0 {
		return 0, 0, false
	}
	own := s.Graph.Parts[i].Litres * 1e-3
	tank, known := own, tankUnstated
	if s.Tank > 0 {
		tank, known = s.Tank, s.TankTolerance
	}
	level, read := r.Mean("level")
	unsure := levelSender
	if !read {
		level, unsure = 50, levelUnknown
	}
	ullage := tank * (1 - level/100)
	volume = s.Graph.VapourSpace(level/100) + ullage - own*(1-level/100)
	return volume, math.Min(math.Hypot(known*ullage, unsure*tank)/volume, 0.9), true
}

// drawStretches are those of the phases, and two before the vacuum: the sensor's zero, and what the
// fuel gives off while the vent is shut.
func drawStretches(k Known) []Stretch {
	t, _ := Of(drawDown)
	all := t.phaseStretches(k)
	still := []Step{{Do: Command, At: "purge", Value: 0}}
	shut := []Step{{Do: Command, At: "isolation", Value: 1, May: true}, {Do: Command, At: "vent", Value: 1}}
	before := func(hand, from string) string { return k.beginsWith(still, hand, from) }
	zero := Stretch{Key: record.RunZero, Name: "Zero", Detail: "purge shut, vent open", Stand: k.has(still), For: zeroSeconds, Done: k.In[record.RunZero], Follows: !k.byHand(still), Rests: true,
		Before: before("purge valve shut, vent open. Five seconds give the sensor's zero.", "purge valve commanded shut, vent open. Five seconds give the sensor's zero.")}
	drift := Stretch{Key: record.RunDrift, Name: "Vent shut", Detail: "nothing drawn, 30 s", Stand: k.has(still), Do: k.has(shut), For: 30, Done: k.In[record.RunDrift], Rests: true,
		Read: []string{"level", "barometer"}, Before: before("shut the vent. Half a minute tells what the fuel gives off.", "the vent shuts for half a minute. What the fuel gives off is told apart from a leak.")}
	for i := range all {
		if s := &all[i]; s.Key == phaseKey(1) {
			s.Before = before(fmt.Sprintf("vent shut, then the purge valve part open until %s stand, never past %.0f inH2O.", both(drawTo*units.InH2O), mostDraw),
				"vacuum is drawn to "+both(drawTo*units.InH2O)+", then held; the purge valve shuts by itself.")
		}
	}
	return append(slices.Insert(all, 1, zero, drift), ownStretch(k))
}

// has are the steps that this car can take: one without such a part is done without.
func (k Known) has(steps []Step) (out []Step) {
	for _, s := range steps {
		if _, ok := k.Site.Name(s); ok {
			out = append(out, s)
		}
	}
	return out
}

// TankSensor is the column of the tank's own pressure sensor.
const TankSensor = "pid-32"

// drawWatch watches a stretch of a draw-down: that it never goes too far, and what the hold says.
type drawWatch struct {
	*phaseWatch
	known  Known
	sensor int // its column

	judged float64 // s, when the leak was worked out last
	result decay.Result
	why    error
}

func newDrawWatch(k Known, s Stretch, cols record.Channels) Watcher {
	t, _ := Of(drawDown)
	w := &drawWatch{phaseWatch: newPhaseWatch(t, s, cols), known: k, sensor: cols.At(TankSensor), judged: math.Inf(-1)}
	if s.Key == ownCheck {
		return &ownCheckWatch{w}
	}
	return w
}

// Take takes a reading. Beyond what a draw-down may reach everything is let go.
func (w *drawWatch) Take(t float64, row []float64) Heard {
	h := w.phaseWatch.Take(t, row)
	if w.sensor < 0 || math.IsNaN(row[w.sensor]) {
		return h
	}
	if v := -row[w.sensor] / units.InH2O; v >= mostDraw {
		return Heard{Mark: fmt.Sprintf("%.0f inH2O", mostDraw), At: t, Rest: true,
			Ends: fmt.Sprintf("Stopped at %.0f inH2O of vacuum: the vent is opened and the purge valve let go. The purge valve does not shut, or the line draws too fast.", mostDraw)}
	}
	return h
}

// State says what to do meanwhile.
func (w *drawWatch) State() State {
	s := w.phaseWatch.State()
	switch w.stretch.Key {
	case record.RunZero:
		s.Now = "Purge shut, vent open: the sensor's zero."
	case record.RunDrift:
		s.Now = "Vent shut, nothing drawn: what the fuel gives off."
	case phaseKey(1):
		s.Now = fmt.Sprintf("Drawing to %.0f inH2O; the vent opens by itself at %.0f.", drawTo, mostDraw)
	case phaseKey(2):
		s.Now = "Purge shut: it holds. The first half minute lets the gas settle."
	case ownCheck:
		s.Now = "The car was asked to shut its EVAP system off. Watch how the tank's pressure moves."
	case phaseKey(3):
		s.Now = "Holding. Hands off; the vent opens by itself at the end."
	}
	return s
}

// Told is what the stretch tells; of the hold the leak as well.
func (w *drawWatch) Told() Told {
	out := w.phaseWatch.Told()
	t, p := w.own()
	switch w.stretch.Key {
	case record.RunZero:
		if n := len(p); n > 1 {
			mean, sd := stat.MeanStdDev(p, nil)
			out.Says = fmt.Sprintf("The sensor shows %+.2f inH2O open to the air, within %.2f.", mean/units.InH2O, 2*sd/units.InH2O)
		}
	case record.RunDrift:
		if n := len(p); n > 9 {
			_, slope := stat.LinearRegression(t, p, nil, false)
			out.Says = fmt.Sprintf("With the vent shut it goes %+.2f inH2O in a minute.", slope*60/units.InH2O)
		}
	case phaseKey(2), phaseKey(3):
		w.fit()
		if w.why != nil {
			break
		}
		for key, d := range map[string]float64{"hole": w.result.D, "hole-low": w.result.Low, "hole-high": w.result.High} {
			out.Readings[key] = Num(math.Round(d*1e6) / 1e3)
		}
	}
	return out
}

// own are the sensor's readings of this stretch.
func (w *drawWatch) own() (t, p []float64) {
	return Past{Cols: w.cols, Table: w.kept}.Column(TankSensor)
}

// fit works the leak out of the hold so far, once a second of it.
func (w *drawWatch) fit() {
	if w.kept.Len() == 0 || w.kept.Last()-w.judged < 1 {
		return
	}
	w.judged = w.kept.Last()
	legs := drawLegs(w.known, Past{Cols: w.cols, Table: w.kept}, w.stretch.Key)
	r := w.known.Read.With(w.phaseWatch.Told().Readings)
	volume, tolerance, ok := w.known.vapourSpace(r)
	if !ok {
		w.why = fmt.Errorf("nobody knows how this car is built")
		return
	}
	su := decay.Setup{Volume: volume, VolumeTolerance: tolerance, Resolution: 0.25, Wet: true, Barometer: gas.StandardPressure}
	if b, ok := r.Mean("barometer"); ok {
		su.Barometer = b * 100
	}
	w.result, w.why = decay.Judge(legs, su)
}

// drawLegs are the legs that the fit takes: what went on with the vent shut and nothing drawn, and
// the hold with the drawing before it, which cooled the gas.
func drawLegs(k Known, now Past, at record.RunKind) (out []decay.Leg) {
	zero := 0.0
	if _, p := k.Past[record.RunZero].Column(TankSensor); len(p) > 1 {
		zero = stat.Mean(p, nil)
	}
	if t, p := k.Past[record.RunDrift].Column(TankSensor); len(p) > 9 {
		const settles = 3.0 // s, until the vent is shut
		if i := slices.IndexFunc(t, func(x float64) bool { return x >= settles }); i > 0 {
			t, p = t[i:], p[i:]
		}
		out = append(out, decay.Leg{Kind: decay.Drift, Time: t, Gauge: less(p, zero)})
	}
	hold := decay.Leg{Kind: decay.Hold}
	join := func(x Past) {
		t, p := x.Column(TankSensor)
		from := 0.0
		if n := len(hold.Time); n > 0 && len(t) > 1 {
			from = hold.Time[n-1] + (t[len(t)-1]-t[0])/float64(len(t)-1) - t[0]
		}
		for i := range t {
			hold.Time, hold.Gauge = append(hold.Time, t[i]+from), append(hold.Gauge, p[i]-zero)
		}
	}
	join(k.Past[phaseKey(1)])
	if n := len(hold.Time); n > 0 {
		hold.Start = hold.Time[n-1] + 1 // the valve is shut by then
	}
	if at == phaseKey(3) {
		join(k.Past[phaseKey(2)])
	}
	join(now)
	return append(out, hold)
}

func less(p []float64, zero float64) []float64 {
	out := slices.Clone(p)
	for i := range out {
		out[i] -= zero
	}
	return out
}

// drawPicture is a draw-down by its readings.
func drawPicture(_ Subject, r Readings) Scene {
	s := TankScene{Now: math.NaN(), Built: math.NaN(), Left: math.NaN(), Level: math.NaN(), Target: drawTo * units.InH2O, Stop: mostDraw * units.InH2O}
	for key, to := range map[string]*float64{"built": &s.Built, "left": &s.Left} {
		if v, ok := r.Mean(key); ok {
			*to = v * units.InH2O
		}
	}
	if v, ok := r.Mean("level"); ok {
		s.Level = v / 100
	}
	return s
}

// Picture is the tank of this moment.
func (w *drawWatch) Picture() Scene {
	s := drawPicture(w.known.Subject, w.known.Read.With(w.phaseWatch.Told().Readings)).(TankScene)
	if _, p := w.own(); len(p) > 0 {
		s.Now = -p[len(p)-1]
	}
	switch w.stretch.Key {
	case record.RunZero:
		s.Purge = Holds
	case record.RunDrift, phaseKey(2), phaseKey(3):
		s.Vent, s.Purge = Holds, Holds
	case phaseKey(1):
		s.Vent, s.Purge = Holds, Passes
	}
	return s
}
