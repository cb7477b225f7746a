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

// followed is the stretch in which a sensor goes along with the pump.
var followed = phaseKey(0)

// TankSensorWide is the column of a tank sensor with a wider range.
const TankSensorWide = "pid-54"

// coarsest is the largest step in which a gauge may show its pressure here, Pa (chosen).
const coarsest = 75.0

// sensorColumn is the column that gives a sensor's pressure: live data tell of the tank's alone.
func sensorColumn(p plumbing.Part, has func(string) bool) string {
	if p.Family != "vapour" && p.Family != "" {
		return ""
	}
	for _, c := range []string{TankSensor, TankSensorWide} {
		if has(c) {
			return c
		}
	}
	return ""
}

// sensorStretches is the sensor beside the gauge.
func sensorStretches(k Known) []Stretch {
	f := Stretch{Key: followed, Name: "Along with the pump", Detail: "up to 10 inH2O and back, then as much vacuum", Stand: []Step{{Do: UpAndDown, At: AtPart, Value: 10 * units.InH2O}}, Do: []Step{{Do: KeyOn}},
		Judged: true, Rests: true, Done: k.In[followed], Read: []string{"gauge"}, Large: TankSensor,
		Before: "Key on, engine off. Connector on; hose off the sensor, and hand pump and gauge joined there by a tee. Start with all of it open to the air."}
	if k.Has != nil && sensorColumn(k.Part, k.Has) == "" && !k.Has(string(record.Volts)) {
		f.Lacks = "choose what reads the sensor: live data for the tank's sensor, or a meter on its signal wire"
	}
	return []Stretch{f}
}

// sensorWatch compares a sensor with the gauge beside it.
type sensorWatch struct {
	*phaseWatch
	known  Known
	column string  // that gives the sensor's pressure; empty: volts do
	at     float64 // s of the readings that were compared
	f      Followed
	wrong  string
}

func newSensorWatch(k Known, s Stretch, cols record.Channels) Watcher {
	t, _ := Of(sensorCheck)
	w := &sensorWatch{phaseWatch: newWholeWatch(t, s, cols), known: k, at: math.Inf(-1)}
	w.column = sensorColumn(k.Part, func(c string) bool { return cols.At(c) >= 0 })
	return w
}

// compare works out anew, once a second, how the sensor follows.
func (w *sensorWatch) compare() Followed {
	if w.kept.Len() == 0 || w.kept.Last()-w.at < 1 {
		return w.f
	}
	w.at, w.f, w.wrong = w.kept.Last(), Followed{Lag: math.NaN()}, ""
	past := Past{Cols: w.cols, Table: w.kept}
	tg, pa := past.Column(string(record.GaugePressure))
	if i := w.cols.At(string(record.GaugePressure)); i >= 0 && w.cols[i].Resolution > coarsest {
		w.wrong = fmt.Sprintf("This gauge shows steps of %s inH2O, too coarse for a sensor: take a manometer in inches of water.", say(w.cols[i].Resolution/units.InH2O))
		return w.f
	}
	g := inWaterAll(pa)
	ts, s := w.sensor(past)
	if len(g) < 10 || len(s) < 5 {
		if w.kept.Last() > 8 && len(s) < 5 {
			w.wrong = "The sensor is not read. Is the key on, and its connector on?"
		}
		return w.f
	}
	if most := math.Max(slices.Max(g), -slices.Min(g)); most > 60 {
		w.wrong = fmt.Sprintf("%.0f inH2O is far beyond any tank's sensor, and may harm it. Is the gauge set to inches of water?", most)
		return w.f
	}
	w.f = Follow(tg, g, ts, s)
	return w.f
}

func inWaterAll(pa []float64) []float64 {
	out := make([]float64, len(pa))
	for i, v := range pa {
		out[i] = v / units.InH2O
	}
	return out
}

// sensor is what the sensor showed, inH2O or, of a meter, V.
func (w *sensorWatch) sensor(p Past) (t, v []float64) {
	if w.column == "" {
		return p.Column(string(record.Volts))
	}
	t, v = p.Column(w.column)
	return t, inWaterAll(v)
}

// State says what to do: open to the air, up, back, and down.
func (w *sensorWatch) State() State {
	s := w.phaseWatch.State()
	f := w.compare()
	low, high := 0.0, 0.0
	for _, x := range f.Gauge {
		low, high = math.Min(low, math.Round(x*10)/10), math.Max(high, math.Round(x*10)/10)
	}
	switch {
	case w.wrong != "":
		s.Now = w.wrong
	case w.kept.Last() < openFor+1:
		s.Now = "Leave sensor and gauge open to the air."
	case high < 8:
		s.Now = "Pump slowly to 10 inH2O, and stop a few seconds at some heights. So far to " + say(high) + "."
	case low > -8:
		s.Now = "Let it go; then draw slowly to 10 inH2O of vacuum, with stops. So far to " + say(-low) + "."
	default:
		s.Now = fmt.Sprintf("Tried from %s to %s inH2O: that is enough. Let it go, and go on.", say(low), say(high))
	}
	return s
}

// Told are the points, and what the line through them says.
func (w *sensorWatch) Told() Told {
	f := w.compare()
	out := Told{Readings: Readings{}, Says: w.wrong}
	if w.wrong != "" || len(f.Gauge) == 0 {
		return out
	}
	key, digits := "shows", 100.0
	if w.column == "" {
		key, digits = "volts", 1000
	}
	var g, s []float64
	for i := range f.Gauge {
		g, s = append(g, math.Round(f.Gauge[i]*100)/100+0), append(s, math.Round(f.Shows[i]*digits)/digits+0)
	}
	out.Readings["gauge"], out.Readings[key] = Num(g...), Num(s...)
	if f.Lag == f.Lag {
		out.Readings["lag"] = Num(math.Round(f.Lag*100) / 100)
	}
	for _, end := range []float64{f.Low, f.High} {
		if end == end {
			out.Says = fmt.Sprintf("It shows no more than %s%s: that is the end of its range, and what was pumped beyond counts for nothing.", say(end), map[string]string{"shows": " inH2O", "volts": " V"}[key])
		}
	}
	if !f.Zeroed {
		out.Says = strings.TrimSpace(out.Says + " It did not stand open to the air at first: the gauge's own zero is not known, and taken for none.")
	}
	l, _, ok := sensorLineOf(w.known.Read.With(out.Readings))
	if ok && l.strange() == "" && !l.volts && !(f.Lag > slowAfter) { // a slow one has the right figures, and is not right
		out.Readings["zero"], out.Readings["ten"] = Num(math.Round(l.Zero*100)/100), Num(math.Round((l.Zero+10*l.Gain)*100)/100)
	}
	return out
}

// Picture is the sensor of this moment.
func (w *sensorWatch) Picture() Scene {
	s, ok := sensorPicture(w.known.Subject, w.known.Read.With(w.Told().Readings)).(SensorScene)
	if !ok {
		s = SensorScene{Zero: math.NaN(), Gain: math.NaN(), Scale: scaleOff, Nothing: zeroOff}
	}
	s.NowAt, s.Now = math.NaN(), math.NaN()
	past := Past{Cols: w.cols, Table: w.kept}
	if _, p := past.Column(string(record.GaugePressure)); len(p) > 0 {
		s.NowAt = p[len(p)-1] / units.InH2O
	}
	if _, v := w.sensor(past); w.column != "" && len(v) > 0 {
		s.Now = v[len(v)-1]
	}
	return s
}
