package bench

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"wexter/core/record"
	"wexter/core/units"
)

// Stretch is a piece of a test that is begun by a press, read live, and kept by itself.
type Stretch struct {
	Key    record.RunKind // its readings are kept under it
	Name   string         // as the list of them says it
	Detail string         // beside the name: to what, how long, or what came out
	Before string         // what to do, said before it is begun
	Lacks  string         // why it cannot be begun yet; empty: it can
	Stand  []Step         // how the rig stands before the first reading
	Do     []Step         // what is done after it
	For    float64        // s that are planned; 0: it goes on until it is ended by hand
	Every  float64        // s between readings of an instrument that are kept; 0: all are
	// Later is from when on, s, only a reading each LaterEvery is kept; 0: it goes on as it began.
	Later, LaterEvery float64
	Mean              float64 // s before the end over which figures are averaged
	Until             Sense   // it ends early when this says yes, or reaches Reach
	Reach             float64
	Read              []string // channels of the test that are read at its end
	Parts             []Leg    // what it goes through; empty: it is one piece
	Firm              bool     // at its planned end it goes on unless the verdict is firm
	Maybe             bool     // it would only make the verdict sharper
	Done              bool     // it is in
	Judged            bool     // the readings so far are judged while it is read
	Rests             bool     // after it the rig is opened and valves are let go
	Leave             []Step   // what else is then done
	Toggle            Toggle   // what the tap [PowerTap] switches in it
	Large             string   // the column that is shown large and drawn; empty: the first
	// Follows marks a stretch that begins by itself when the one before has come to its end:
	// nothing is charged, drawn or energised, and no hand is needed. Where a valve is to be shut
	// again that must not wait for anybody.
	Follows bool
}

// Toggle is what the tap [PowerTap] switches, and at the next press back again: from here where an
// instrument takes the step, otherwise by hand. At the end it is taken back.
type Toggle struct {
	Step    Step
	On, Off string // what the tap says that switches it on, and off
	// Asked are the moments at which the stretch asks for it to be switched, s, one after another; nil: a hand
	// takes its time, and nothing can be foreseen.
	Asked []float64
}

// Back is the step that takes a toggle's back.
func (t Toggle) Back() Step {
	do := Clear
	if t.Step.Do == Command {
		do = Uncommand
	}
	return Step{Do: do, At: t.Step.At, May: t.Step.May}
}

// Leg is a piece of a stretch that follows by itself.
type Leg struct{ Key, Name, Detail string }

// Energises reports whether beginning the stretch charges, draws or energises something: only
// a person's press does that.
func (s Stretch) Energises() bool {
	return slices.ContainsFunc(slices.Concat(s.Stand, s.Do), Step.Energises)
}

// Energises reports whether the test charges, draws or energises anything at any time.
func (t Test) Energises() bool {
	return slices.ContainsFunc(t.Phases, func(p Phase) bool { return slices.ContainsFunc(p.Do, Step.Energises) })
}

// Energises reports whether a step charges, draws or energises something.
func (s Step) Energises() bool {
	switch s.Do {
	case Charge, Hold, Smoke, Draw, Press, OwnCheck:
		return true
	case Command:
		return s.Value != 0
	}
	return false
}

// Known is what is known of a test before a stretch of it is read.
type Known struct {
	Subject
	Site   Site
	MaxPa  float64                 // what the system is permitted, Pa above the barometer
	MaxVac float64                 // and below it, Pa, positive
	Setup  record.Setup            // of a hold
	In     map[record.RunKind]bool // stretches that are in
	Read   Readings                // what they gave
	// Works reports what rig or car can be told from here; what they cannot is done by hand.
	Works func(Verb) bool
	// Plan is how long a hold is to be, s, NaN when that cannot be told: it takes a while to work
	// out, and is asked when one is begun. Nil: the usual.
	Plan func() float64
	// Resolution is that of the first channel, in SI.
	Resolution float64
	// Has reports whether an instrument at the bench gives a column; nil: nobody knows yet.
	Has func(column string) bool
	// Orifice is the known orifice of the rig, m; 0: nobody knows of one.
	Orifice float64
	// Stored are the codes that stand stored since codes were cleared last, of a test that asks for them.
	Stored []string
	// Past are the stretches that are in of those that the test looks back at.
	Past map[record.RunKind]Past
}

// Past is a stretch that is in: its columns, its readings, and what was marked in it.
type Past struct {
	Cols  record.Channels
	Table record.Table
	Marks []Moment
}

// Column are the readings of a column of the stretch with their times; none where it has no such
// column.
func (p Past) Column(key string) (t, v []float64) {
	i := p.Cols.At(key)
	if i < 0 || i >= len(p.Table.Cols) {
		return nil, nil
	}
	for k, x := range p.Table.Cols[i] {
		if !math.IsNaN(x) {
			t, v = append(t, p.Table.Time[k]), append(v, x)
		}
	}
	return t, v
}

// Heard is what a watcher makes of a reading.
type Heard struct {
	Mark string  // an event that it recognised; empty: none
	At   float64 // when it was, s
	Ends string  // why the stretch ends with it, as a sentence; empty: it goes on
	Rest bool    // it ends, and everything is put to rest at once
}

// State is how far a stretch has come.
type State struct {
	Leg  string  // of Parts; empty where it has none
	From float64 // since when the planned time counts, s
	Held bool    // it counts
	Word string  // beside the clock: charging, held, read
	Now  string  // what to do meanwhile
}

// Told is what a stretch told.
type Told struct {
	Says     string // about gauge, rig or readings, in a sentence; empty: nothing beside the verdict
	Readings Readings
	Learned  []Learned
	Notes    []string // to be kept with its readings
}

// Lesson is a kind of thing that is learned of gauge and rig.
type Lesson int

// What is learned.
const (
	GaugeZero Lesson = iota // Pa that it shows open to the air
	RigHolds                // the rig by itself
	RigLoses                // Pa that it loses in a minute
)

// Learned is what was learned of gauge or rig.
type Learned struct {
	What  Lesson
	Value float64
}

// Watcher takes the readings of a stretch as they come: the test's own code, which recognises
// events and says what it told.
type Watcher interface {
	// Take takes the reading at t, s from the stretch's beginning: a value of each column in the
	// column's unit, NaN where there is none.
	Take(t float64, row []float64) Heard
	// Mark takes a mark that was put down by hand.
	Mark(t float64, word string)
	State() State
	// Told is what the readings so far tell.
	Told() Told
}

// Tap is what a hand puts down at the moment at which it is heard or felt.
type Tap struct {
	Key  string           `json:"key"`
	Name string           `json:"name"`
	In   []record.RunKind `json:"-"` // the stretches in which it is put down; nil: all
}

// PowerTap is the tap at which a stretch's toggle is switched.
const PowerTap = "power"

// Switcher is a watcher that knows whether its stretch's toggle is on.
type Switcher interface{ On() bool }

// Moment is a tap and when it was, s.
type Moment struct {
	Key string
	At  float64
}

// Live is what a test adds to its phases when it is read live.
type Live struct {
	// Taps are what a hand marks; Tally makes readings of them.
	Taps  []Tap
	Tally func([]Moment) Readings
	// Stretches are the test's own; nil: one for each of its phases.
	Stretches func(Known) []Stretch
	// Looks are the stretches whose readings later ones look back at.
	Looks []record.RunKind
	// Picture is the test's picture between stretches; nil: the one of its readings.
	Picture func(Known) Scene
	// AsksCodes marks a test that runs only once stored codes were saved and cleared.
	AsksCodes bool
	// Foresees is the column whose course with each suspect is drawn; empty: the first.
	Foresees string
	// AllIn is what is said when all is in that the verdict needs; empty: the usual.
	AllIn string
	// Watch is the test's own watcher of its stretches; nil: one that reads at the end.
	Watch func(Known, Stretch, record.Channels) Watcher
}

// Taps are what a hand marks in a stretch.
func (t Test) Taps(in record.RunKind) []Tap {
	return slices.DeleteFunc(slices.Clone(t.Live.Taps), func(x Tap) bool { return x.In != nil && !slices.Contains(x.In, in) })
}

// Stretches lists what is read of a test, in order.
func (t Test) Stretches(k Known) []Stretch {
	if t.Live.Stretches != nil {
		return t.Live.Stretches(k)
	}
	return t.phaseStretches(k)
}

// phaseStretches are one for each of the test's phases.
func (t Test) phaseStretches(k Known) []Stretch {
	var out []Stretch
	var stands []Step // valves that phases before left commanded
	for i, p := range t.Phases {
		s := Stretch{Key: phaseKey(i), For: p.For, Mean: p.Mean, Until: p.Until, Reach: p.Reach, Read: p.Read, Judged: true}
		if p.Every >= slowly {
			s.Every = p.Every
		}
		var words []string
		for _, step := range p.Do {
			name, ok := k.Site.Name(step)
			if !ok {
				continue
			}
			s.Do = append(s.Do, step)
			words = append(words, step.Words(name))
		}
		s.Name = strings.Join(words, ", ")
		if s.Name == "" {
			s.Name = "Wait"
			if len(p.Read) > 0 {
				s.Name = "Wait and read"
			}
		}
		s.Detail = p.WaitWords()
		s.Before = s.Name + "."
		if k.byHand(s.Do) {
			s.Before = "By hand: " + lowerFirst(s.Name) + ". Then start."
		}
		s.Done, s.Stand = k.In[s.Key], stands
		s.Rests = i == len(t.Phases)-1
		s.Follows = i > 0 && !slices.ContainsFunc(s.Do, Step.Energises) && !k.byHand(s.Do)
		stands = leftBy(stands, s.Do)
		out = append(out, s)
	}
	return out
}

// phaseKey is the key of the stretch of a test's phase.
func phaseKey(i int) record.RunKind { return record.RunKind(fmt.Sprintf("phase-%d", i+1)) }

// Phase is which of the test's phases a stretch is, from 0; false for one that is none of them.
func (t Test) Phase(k record.RunKind) (int, bool) {
	for i := range t.Phases {
		if k == phaseKey(i) {
			return i, true
		}
	}
	return 0, false
}

// mostPhases is how many phases a test has at most.
const mostPhases = 20

// IsStretch reports whether a key can be that of a stretch of a test.
func IsStretch(k record.RunKind) bool {
	if k.Words() != "" {
		return true
	}
	for i := range mostPhases {
		if k == phaseKey(i) {
			return true
		}
	}
	return false
}

// slowly is from how many seconds between looks on no more readings are kept than that: a night
// is not kept at ten a second.
const slowly = 10.0

// leftBy are the valves that stay commanded after some steps.
func leftBy(before, steps []Step) []Step {
	out := slices.Clone(before)
	for _, s := range steps {
		if s.Do != Command && s.Do != Uncommand {
			continue
		}
		out = slices.DeleteFunc(out, func(x Step) bool { return x.At == s.At })
		if s.Do == Command {
			out = append(out, s)
		}
	}
	return out
}

// beginsWith says how a stretch is begun: what a hand does first where steps are a hand's, otherwise what
// the press does from here.
func (k Known) beginsWith(steps []Step, hand, from string) string {
	if k.byHand(steps) {
		return "By hand: " + hand + " Then start."
	}
	return "Start: " + from
}

// byHand reports whether one of the steps must be done by hand.
func (k Known) byHand(steps []Step) bool {
	return slices.ContainsFunc(steps, func(s Step) bool { return k.Works == nil || !k.Works(s.Do) })
}

func lowerFirst(s string) string {
	if s == "" || len(s) > 1 && s[1] >= 'A' && s[1] <= 'Z' { // an abbreviation
		return s
	}
	return strings.ToLower(s[:1]) + s[1:]
}

// Stretch finds a stretch by its key.
func (t Test) Stretch(k Known, key record.RunKind) (Stretch, bool) {
	for _, s := range t.Stretches(k) {
		if s.Key == key {
			return s, true
		}
	}
	return Stretch{}, false
}

// Watch is the watcher of a stretch that is about to be read.
func (t Test) Watch(k Known, s Stretch, cols record.Channels) Watcher {
	if t.Live.Watch != nil {
		return t.Live.Watch(k, s, cols)
	}
	return newPhaseWatch(t, s, cols)
}

// Source is what an instrument must give for a sense, and how the sense's figure follows.
type Source struct {
	Keys   []string // of channels; their values are added up
	Or     []string // channels that do as well, where the first is missing
	Factor float64  // −1 for what is read as a vacuum
	From   When
}

// ByInstrument reports whether an instrument can give the channel.
func (c Channel) ByInstrument() bool { _, ok := sources[c.Sense]; return ok }

// When says which of a stretch's readings a figure is made of.
type When int

// Which readings make a figure.
const (
	AtEnd     When = iota // the mean of the last ones
	AMinuteOn             // the mean of those a minute before
	Lowest                // the lowest of all
)

// sources say which instrument gives what. A sense that is not here is an eye, a hand or a page.
var sources = map[Sense]Source{
	BenchPressure: gauge(1, AtEnd), RigPressure: gauge(1, AtEnd), RigTrace: gauge(1, AtEnd), Crankcase: gauge(1, AtEnd), UnitPressure: gauge(1, AtEnd), TankPressure: gauge(1, AtEnd), LowestTank: gauge(1, Lowest),
	BenchVacuum: gauge(-1, AtEnd), HoldsBackward: gauge(-1, AtEnd), PurgePull: gauge(-1, AtEnd), TankVacuum: gauge(-1, AtEnd),
	RigFlow: by(record.RigFlowing, AtEnd), RigFlowBefore: by(record.RigFlowing, AMinuteOn),
	WallTemperature: by(record.RigWall, AtEnd), Barometer: by(record.AirPressure, AtEnd), AirTemperature: by(record.AirTemp, AtEnd), GasTemperature: by(record.GasTemp, AtEnd),
	CoilOhms: by(record.Ohms, AtEnd), SupplyVolts: by(record.Volts, AtEnd), SwitchVolts: by(record.Volts, AtEnd), PumpSwitch: by(record.Volts, AtEnd), SoakSwitch: by(record.Volts, AtEnd), SignalVacuum: gauge(-1, AtEnd), TankCooled: by(record.RigWall, AtEnd), SensorVolts: by(record.Volts, AtEnd),
	PumpGauge: gauge(1, AtEnd), SensorShows: {Keys: []string{TankSensor}, Or: []string{TankSensorWide}, Factor: 1}, DifferenceVolts: by(record.Volts, AtEnd),
	TotalTrim: pids(1, "pid-06", "pid-07"), MeteredAir: pids(1, "pid-10"), ManifoldPressure: pids(1, "pid-0B"), SensorVacuum: pids(-1, TankSensor), FuelLevel: pids(1, "pid-2F"), CarBarometer: pids(1, "pid-33"), CarVolts: pids(1, "pid-42"),
	DriveData: pids(1, driveKeys()...), ClampData: pids(1, clampKeys...),
}

func init() {
	for _, c := range CircuitWalk.Channels {
		if !strings.HasPrefix(string(c.Sense), string(CircuitSense(""))) || c.Kind != Number {
			continue
		}
		q := record.Volts
		if c.Unit == "ohm" {
			q = record.Ohms
		}
		sources[c.Sense] = by(q, AtEnd)
	}
}

func gauge(factor float64, from When) Source {
	return Source{Keys: []string{string(record.GaugePressure)}, Factor: factor, From: from}
}
func by(q record.Quantity, from When) Source {
	return Source{Keys: []string{string(q)}, Factor: 1, From: from}
}
func pids(factor float64, keys ...string) Source { return Source{Keys: keys, Factor: factor} }

// Want is what a test wants of one instrument: a quantity, or live data of the control unit.
type Want struct {
	Key      string   // of a quantity; LiveData for all live data together
	Keys     []string // channels of the instrument
	Reads    []string // channels of the test that come of it
	Held     string   // what is held to the place where it is read: manometer, meter; empty: the rig
	Optional bool     // the test can do without any of them
	Usual    bool     // it is chosen all the same, unless somebody says otherwise
	Must     []string // of Keys, those that it cannot do without
}

// LiveData is the key of a want that a scan adapter gives.
const LiveData = "live-data"

// Wants lists what instruments can give a test: what it cannot do without first, then what is usual.
func (t Test) Wants() []Want {
	var out []Want
	for _, c := range t.Channels {
		s, ok := sources[c.Sense]
		if !ok {
			continue
		}
		key := s.Keys[0]
		if strings.HasPrefix(key, "pid-") {
			key = LiveData
		}
		i := slices.IndexFunc(out, func(w Want) bool { return w.Key == key })
		if i < 0 {
			i = len(out)
			out = append(out, Want{Key: key, Optional: true})
		}
		w := &out[i]
		if t, ok := probes[c.Sense]; ok && w.Held == "" {
			w.Held = t.Name
		}
		w.Reads = append(w.Reads, c.Key)
		w.Optional = w.Optional && c.Optional && c.Kind != Trace
		w.Usual = w.Usual || c.Usual
		for _, k := range slices.Concat(s.Keys, s.Or) {
			if !slices.Contains(w.Keys, k) {
				w.Keys = append(w.Keys, k)
			}
			if !c.Optional && !slices.Contains(w.Must, k) {
				w.Must = append(w.Must, k)
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Want) int { return cmp.Compare(a.rank(), b.rank()) })
	return out
}

// rank is the order in which wants come: what the test cannot do without, what is usual, the rest.
func (w Want) rank() int {
	switch {
	case !w.Optional:
		return 0
	case w.Usual:
		return 1
	}
	return 2
}

// Permitted reports whether what the EVAP system is permitted bounds a column of the test.
func (t Test) Permitted(column string) bool {
	return slices.ContainsFunc(t.Channels, func(c Channel) bool {
		switch c.Sense {
		case RigPressure, RigTrace, TankPressure, TankVacuum, LowestTank, SensorVacuum:
			return slices.Contains(sources[c.Sense].Keys, column)
		}
		return false
	})
}

// both says a pressure in the bay's unit and in kPa.
func both(p float64) string { return fmt.Sprintf("%.1f inH2O (%.2f kPa)", p/units.InH2O, p/1e3) }
