package bench

import (
	"fmt"
	"math"
	"strings"

	"wexter/core/gas"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/trim"
)

// driveKey is the key of the column of a channel: its PID, where it has one.
func driveKey(c trim.Channel) string {
	if pid, ok := c.PID(); ok {
		return fmt.Sprintf("pid-%02X", pid)
	}
	return "charge"
}

// driveKeys are those of all channels of a drive that a control unit answers for.
func driveKeys() (out []string) {
	for c := range trim.Channels {
		if _, ok := c.PID(); ok {
			out = append(out, driveKey(c))
		}
	}
	return out
}

// DriveLog is what was read of a drive, as core/trim takes it.
func DriveLog(cols record.Channels, t record.Table) *trim.Log {
	l := &trim.Log{Time: t.Time}
	for c := range trim.Channels {
		i := cols.At(driveKey(c))
		if i < 0 || i >= len(t.Cols) {
			continue
		}
		v := make([]float64, len(t.Time))
		read := false
		for k, x := range t.Cols[i] {
			v[k] = c.SI(x)
			read = read || x == x
		}
		if read {
			l.Value[c] = v
		}
	}
	return l
}

// DriveTable is the log of a drive as runs are kept, in the units of the PIDs.
func DriveTable(l *trim.Log) (record.Channels, record.Table) {
	t := record.Table{Time: make([]float64, len(l.Time))}
	for i, x := range l.Time {
		if t.Time[i] = x; i > 0 { // readings that came at one moment follow each other
			t.Time[i] = math.Max(x, t.Time[i-1]+1e-4)
		}
	}
	var cols record.Channels
	for c := range trim.Channels {
		if !l.Has(c) {
			continue
		}
		v := make(record.Column, len(l.Time))
		for k, x := range l.Value[c] {
			v[k] = c.Coded(x)
		}
		cols, t.Cols = append(cols, record.RunChannel{Key: driveKey(c), Name: c.String(), Unit: c.Unit()}), append(t.Cols, v)
	}
	return cols, t
}

// EngineOf is what a car's plumbing says of how its engine is metered.
func EngineOf(g *plumbing.Graph, displacement, barometer float64) trim.Engine {
	e := trim.Engine{Displacement: displacement, Barometer: barometer}
	if g == nil {
		return e
	}
	e.Metering = trim.SpeedDensity
	for _, p := range g.Parts {
		if p.Role == "meter" {
			e.Metering = trim.AirMeter
		}
	}
	return e
}

// DriveReadings are a drive and what it gives of the other channels of the test.
func DriveReadings(d trim.Drive) Readings {
	out := Readings{"drive": {Drive: &d}}
	put := func(key string, v float64) {
		if !math.IsNaN(v) {
			out[key] = Num(told(v, 0.1))
		}
	}
	mean := func(in func(trim.Point) bool, of func(trim.Point) float64) float64 {
		sum, w := 0.0, 0.0
		for _, p := range d.Points.Points {
			if x := of(p); in(p) && x == x {
				sum, w = sum+x*p.Seconds, w+p.Seconds
			}
		}
		return sum / w
	}
	total := func(p trim.Point) float64 {
		t, _, _ := p.Mean()
		return 100 * t
	}
	at := func(r trim.Region) func(trim.Point) bool {
		return func(p trim.Point) bool { return p.Region == r && !boosted(p) }
	}
	put("idle", mean(at(trim.Idle), total))
	put("fast", mean(at(trim.Fast), total))
	put("loaded", mean(at(trim.Loaded), total))
	put("boosted", mean(boosted, total))
	put("air", mean(at(trim.Idle), func(p trim.Point) float64 { return 1e3 * p.Air }))
	put("manifold", mean(at(trim.Idle), func(p trim.Point) float64 { return p.Pressure / 1e3 }))
	return out
}

// boosted reports whether a point lies above the barometer.
func boosted(p trim.Point) bool {
	b := p.Barometer
	if math.IsNaN(b) {
		b = gas.StandardPressure
	}
	return p.Pressure > b+5e3
}

// driveOutcomes are what a cause makes of the trims, in the test's words; a cause that is not here
// shows elsewhere than in the total.
var driveOutcomes = map[trim.Key]string{
	trim.ManifoldLeak: "idle-lean", trim.InletLeak: "even", trim.MeterScale: "even", trim.FuelDelivery: "load-lean", trim.RichIdle: "idle-rich", trim.ChargeLeak: "boost-rich", trim.Nothing: "normal",
}

// leastSure is the probability below which a drive's likeliest cause is not taken as its outcome
// (chosen here).
const leastSure = 0.6

// driveVerdict is what a drive comes to. Its odds speak through its likelihood; the outcome is for
// people.
func driveVerdict(d trim.Drive) Verdict {
	r := d.Judge()
	first := r.Causes[0]
	outcome, sure := driveOutcomes[first.Keys[0]], 0.0
	for _, c := range r.Causes {
		if driveOutcomes[c.Keys[0]] == outcome && len(c.Keys) == 1 {
			sure += c.Probability
		}
	}
	if outcome == "" || len(first.Keys) > 1 || sure < leastSure {
		outcome = CannotTell
	}
	v := Verdict{Outcome: outcome, Says: fmt.Sprintf("Most likely: %s (%s)%s.", first.Name, first.Odds(), sizeOf(first))}
	for _, a := range r.Ambiguous {
		v.Says += " To tell it from what looks alike: " + a.WouldTell
	}
	if first.Value == first.Value {
		v.Figures = []Figure{{Name: first.Name, Unit: first.Unit, Value: first.Value, Low: first.Low, High: first.High}}
	}
	return v
}

// sizeOf says a cause's size; nothing of one that has none.
func sizeOf(c trim.Cause) string {
	if c.Value != c.Value {
		return ""
	}
	return fmt.Sprintf(", %s %s (%s to %s)", say(c.Value), c.Unit, say(c.Low), say(c.High))
}

// Of a drive: marks that a hand puts down.
const (
	purgeClamped = "purge-clamped"
	purgeFreed   = "purge-freed"
)

// enough is how many seconds of a region a drive should have that count.
const enough = 25.0

// driveStretches is a single one, begun and ended by hand.
func driveStretches(k Known) []Stretch {
	return []Stretch{{Key: record.RunDrive, Name: "Drive", Detail: "idle, 2500 without load, steady pulls on the road", Judged: true, Done: k.In[record.RunDrive],
		Before: "Warm the engine up. Start, hold idle for half a minute, then 2500 without load, then drive steady pulls of ten seconds and more. One drives, another reads."}}
}

// driveWatch watches a drive: where the engine runs, what of it counts, and what is still missing.
type driveWatch struct {
	cols   record.Channels
	engine trim.Engine
	log    record.Table
	last   map[trim.Channel]float64

	region trim.Region // of now
	since  float64
	marks  []Moment    // of a hand
	marked trim.Region // the last that was marked
	any    bool        // one was

	drive  trim.Drive
	why    string  // there is none yet
	foundN int     // readings that went into it
	found  float64 // s, when it was worked out
	spent  map[trim.Region]float64
}

func newDriveWatch(k Known, _ Stretch, cols record.Channels) Watcher {
	return &driveWatch{cols: cols, engine: k.Engine, log: record.NewTable(len(cols)), last: map[trim.Channel]float64{}, spent: map[trim.Region]float64{}, why: "Nothing was read yet."}
}

// Take takes a reading, and marks where the engine has come to run.
func (w *driveWatch) Take(t float64, row []float64) Heard {
	w.log.Add(t, row)
	for c := range trim.Channels {
		if i := w.cols.At(driveKey(c)); i >= 0 && row[i] == row[i] {
			w.last[c] = c.SI(row[i])
		}
	}
	const stays = 5.0 // s
	if r := w.now(); r != w.region || w.log.Len() == 1 {
		w.region, w.since = r, t
	}
	if w.region != trim.Other && t-w.since >= stays && (!w.any || w.region != w.marked) {
		w.marked, w.any = w.region, true
		return Heard{Mark: w.region.String(), At: w.since}
	}
	return Heard{}
}

// now is where the engine runs.
func (w *driveWatch) now() trim.Region {
	get := func(c trim.Channel) float64 {
		if v, ok := w.last[c]; ok {
			return v
		}
		return math.NaN()
	}
	return trim.Where(trim.Point{Speed: get(trim.Speed), Pressure: get(trim.ManifoldPressure), Load: get(trim.Load), Barometer: get(trim.Barometer)}, get(trim.RoadSpeed))
}

// Mark takes a mark.
func (w *driveWatch) Mark(t float64, word string) {
	w.marks, w.foundN = append(w.marks, Moment{word, t}), 0
}

// ClampSpans are when the purge hose was clamped, by the marks of a drive, s from and to.
func ClampSpans(marks []Moment) (out [][2]float64) {
	for _, m := range marks {
		n := len(out)
		switch m.Key {
		case purgeClamped:
			if n == 0 || !math.IsInf(out[n-1][1], 1) {
				out = append(out, [2]float64{m.At, math.Inf(1)})
			}
		case purgeFreed:
			if n > 0 && math.IsInf(out[n-1][1], 1) {
				out[n-1][1] = m.At
			}
		}
	}
	return out
}

// find works the points out anew, when two seconds more have been read.
func (w *driveWatch) find() {
	if w.foundN == w.log.Len() || w.foundN > 0 && w.log.Last()-w.found < 2 {
		return
	}
	w.foundN, w.found = w.log.Len(), w.log.Last()
	d, err := trim.NewDrive(DriveLog(w.cols, w.log), w.engine, ClampSpans(w.marks)...)
	if err != nil {
		w.why = strings.ToUpper(err.Error()[:1]) + err.Error()[1:] + "."
		return
	}
	w.drive, w.why = d, ""
	clear(w.spent)
	for _, p := range d.Points.Points {
		w.spent[p.Region] += p.Seconds
	}
}

// State says what is still missing.
func (w *driveWatch) State() State {
	w.find()
	s := State{Held: true, Word: "read"}
	var in, out []string
	for _, r := range []trim.Region{trim.Idle, trim.Fast, trim.Loaded} {
		if n := w.spent[r]; n >= enough {
			in = append(in, r.String())
		} else {
			out = append(out, fmt.Sprintf("%s (%.0f of %.0f s)", r, math.Floor(n/5)*5, enough))
		}
	}
	switch {
	case len(out) == 0:
		s.Now = "All three points are in. More pulls make it sharper; end it when you have enough, or clamp the purge hose at idle and free it again, with a mark each."
	case len(in) > 0:
		s.Now = "In: " + strings.Join(in, ", ") + ". Still missing: " + strings.Join(out, ", ") + "."
	default:
		s.Now = "Still missing: " + strings.Join(out, ", ") + "."
	}
	if why := w.waits(); why != "" && len(out) > 0 {
		s.Now = why + " " + s.Now
	}
	return s
}

// waits says why nothing of this moment counts; empty when it does, or when it only has to stay
// as it is.
func (w *driveWatch) waits() string {
	coolant, warm := w.last[trim.Coolant]
	state, said := w.last[trim.FuelSystem]
	speed, runs := w.last[trim.Speed]
	switch {
	case runs && speed < 300:
		return "The engine does not run."
	case warm && coolant < trim.WarmFrom:
		return fmt.Sprintf("Not warm yet, %.0f °C: trims count from %.0f °C on.", coolant-273.15, trim.WarmFrom-273.15)
	case said && state != 2 && state != 16:
		return "Open loop now: trims mean nothing."
	}
	return ""
}

// Told is what the drive tells so far.
func (w *driveWatch) Told() Told {
	w.find()
	if w.why != "" {
		return Told{Says: w.why}
	}
	out := Told{Readings: DriveReadings(w.drive)}
	for _, c := range w.drive.Clamps {
		out.Says = strings.TrimSpace(out.Says + " " + c.Words())
	}
	return out
}
