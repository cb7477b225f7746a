package live

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"wexter/casework"
	"wexter/core/bench"
	"wexter/core/record"
)

// StepState says how far a step of the bench has come.
type StepState string

// The states of a step. Maybe is one that would only make the verdict sharper.
const (
	StepDone  StepState = "done"
	StepNow   StepState = "now"
	StepNext  StepState = "next"
	StepLater StepState = "later"
	StepMaybe StepState = "maybe"
)

// Step is a stretch of the test, or a piece of one, as the bench lists it.
type Step struct {
	Key       string         `json:"key"`
	Name      string         `json:"name"`
	State     StepState      `json:"state"`
	Detail    string         `json:"detail"`
	Leg       record.RunKind `json:"leg"`       // what starting it begins; empty when it follows by itself
	Energises bool           `json:"energises"` // starting it charges, draws or energises from here
}

// SeenColumn is a figure that the bench shows.
type SeenColumn struct {
	Key    string `json:"key"`
	Name   string `json:"name"`
	Unit   string `json:"unit"`
	Digits int    `json:"digits"`
	By     string `json:"by"`     // the instrument
	Absent bool   `json:"absent"` // the instrument does not measure it
}

// SeenSeat is an instrument of the bench.
type SeenSeat struct {
	Name   string   `json:"name"`
	Status Status   `json:"status"`
	Said   string   `json:"said"`
	Rate   float64  `json:"rate"`
	Lacks  []string `json:"lacks,omitempty"` // what it does not measure
	Past   string   `json:"past,omitempty"`  // the date by which it was to be calibrated
}

// View is what a browser shows beside the readings. Everything in it is the same
// for all who look.
type View struct {
	Version  int            `json:"version"`
	Name     string         `json:"name"` // of the test
	Status   Status         `json:"status"`
	Said     string         `json:"said"`
	Disk     string         `json:"disk"`
	Module   string         `json:"module"`
	Rate     float64        `json:"rate"`
	Leg      record.RunKind `json:"leg"` // that is read, empty between two
	Run      string         `json:"run"`
	LegName  string         `json:"leg_name"`
	Phase    string         `json:"phase"`
	Planned  float64        `json:"planned"`
	From     float64        `json:"from"` // since when the planned time counts, s
	Held     bool           `json:"held"` // it counts
	Word     string         `json:"word"` // beside the clock
	Shut     bool           `json:"shut"` // From is when a charge was shut off
	Next     string         `json:"next"`
	Result   string         `json:"result"`
	Start    record.RunKind `json:"start"`  // what the main button starts
	Onward   bool           `json:"onward"` // it ends what is read and goes on
	Bell     int            `json:"bell"`
	Steps    []Step         `json:"steps"`
	Marks    []Mark         `json:"marks"`
	Gaps     []Gap          `json:"gaps"`
	Commands []string       `json:"commands"`
	Moved    float64        `json:"moved"` // start set by hand
	Columns  []SeenColumn   `json:"columns"`
	Seats    []SeenSeat     `json:"seats"`
	Large    int            `json:"large"` // the column that counts in this stretch
	Taps     []bench.Tap    `json:"taps"`
	Driver   string         `json:"driver"`
	Holds    bool           `json:"holds"`
	Rig      bool           `json:"rig"` // it can be worked by hand from here
}

// Mark and Gap are those of the stretch, in its time.
type (
	Mark = record.Mark
	Gap  = record.Gap
)

// News is what is new on a bench since a browser looked.
type News struct {
	View     *View
	Run      string      // of the readings
	From     int         // number of the first reading
	Time     []float64   // s
	Columns  [][]float64 // in the bay's units, zero taken off; NaN where nothing was read
	Now      *Now
	Disk     float64 // s of the stretch that are on disk
	Estimate *Estimate
	Counted  int
	Live     casework.LiveTest // with View: as it stands between stretches
}

// Now are the readings of this moment.
type Now struct {
	N      int64
	Pa     float64 // of the first column, in its own unit, zero taken off
	Over   bool
	At     float64   // s into the stretch
	Values []float64 // of each column, in the bay's units; NaN where nothing is read
	Overs  []bool
}

// Since returns what is new for a browser that has the view of a version, readings
// of a run up to from, and counted estimates.
func (b *Bench) Since(version int, run string, from int, counted int) News {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.looked = time.Now()
	var n News
	if b.version != version {
		v := b.view()
		n.View, n.Live = &v, b.live
	}
	n.Now = b.now()
	if l := b.leg; l != nil {
		if l.run.ID != run {
			from = 0
		}
		n.Run, n.From = l.run.ID, min(from, l.log.Len())
		n.Time = l.log.Time[n.From:]
		for _, s := range b.seats {
			for i, c := range s.shown {
				shown, zero := make([]float64, len(n.Time)), b.zero(c.Key)
				for j, v := range l.log.Cols[s.first+i][n.From:] {
					shown[j] = c.to.Of(v - zero)
				}
				n.Columns = append(n.Columns, shown)
			}
		}
		if l.written > 0 {
			n.Disk = l.log.Time[l.written-1]
		}
		if n.Now != nil {
			n.Now.At = l.log.Last()
		}
	}
	if b.estimate != nil && b.counted != counted {
		n.Estimate = b.estimate
	}
	n.Counted = b.counted
	return n
}

// Foreseen is a column of a bench whose course with each suspect can be drawn.
type Foreseen struct {
	Column record.RunChannel
	To     bench.Conversion // to the unit in which it is shown
	At     int              // which of the columns it is
}

// Foreseen is the column whose course can be foreseen: the one that the test names, else the one that the
// bench shows large; false while nobody knows what the instrument gives.
func (b *Bench) Foreseen() (Foreseen, bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	want := b.live.Bench.Live.Foresees
	if want == "" && b.leg != nil && len(b.leg.stretch.Toggle.Asked) > 0 {
		want = b.leg.stretch.Large
	}
	for _, s := range b.seats {
		for i, c := range s.shown {
			if want == "" || c.Key == want {
				return Foreseen{c.RunChannel, c.to, s.first + i}, true
			}
		}
	}
	return Foreseen{}, false
}

// Picture is what the test's picture shows now: of the stretch that is read, or of what is in; nil
// where the test has none. With it the test, as it stands between stretches.
func (b *Bench) Picture() (bench.Scene, casework.LiveTest) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.leg != nil {
		if p, ok := b.leg.watch.(bench.Painter); ok {
			return p.Picture(), b.live
		}
	}
	return b.live.Bench.Scene(b.known()), b.live
}

// now are the readings of this moment; nil while the first instrument gives none. The bench is
// locked.
func (b *Bench) now() *Now {
	if !b.seats[0].has {
		return nil
	}
	out := &Now{N: b.seats[0].last.N, Values: []float64{}, Overs: []bool{}}
	for _, s := range b.seats {
		for i, c := range s.shown {
			v, ok := s.last.Of(c.Key)
			if !ok || !s.has {
				v.Value = math.NaN()
			}
			if s.lead() && i == 0 {
				out.Pa, out.Over = v.Value-b.zero(c.Key), v.Over
			}
			out.Values, out.Overs = append(out.Values, c.to.Of(v.Value-b.zero(c.Key))), append(out.Overs, v.Over)
		}
	}
	return out
}

func (b *Bench) view() View {
	lead := b.seats[0]
	v := View{Version: b.version, Name: b.live.Name(), Status: lead.status, Said: lead.said, Disk: b.disk, Module: lead.about.Name, Rate: lead.about.Rate, Result: b.result, Bell: b.bell,
		Driver: cmp.Or(b.driver.Who, b.driver.Screen), Holds: b.live.Holds(), Taps: b.live.Bench.Live.Taps}
	if b.leg != nil {
		v.Taps = b.taps(b.leg)
	}
	v.Rig, v.Columns, v.Seats, v.Steps = b.permits && b.works(bench.Charge), []SeenColumn{}, []SeenSeat{}, []Step{}
	for _, s := range b.seats {
		v.Commands = append(v.Commands, s.about.Commands...)
		seen := SeenSeat{Name: cmp.Or(s.about.Name, s.source.device.Name), Status: s.status, Said: s.said, Rate: s.about.Rate, Lacks: s.lacks()}
		if due := s.source.device.Settings.DueOn; s.source.device.Past(b.hub.shop.Now()) {
			seen.Past = due
		}
		v.Seats = append(v.Seats, seen)
		for _, c := range s.shown {
			v.Columns = append(v.Columns, SeenColumn{c.Key, c.Name, c.unit, bench.Digits(c.RunChannel, c.to), s.source.device.Name, s.absent(c.Key)})
		}
	}
	if l := b.leg; l != nil {
		st := l.watch.State()
		v.Leg, v.Run, v.LegName, v.Phase, v.Planned, v.From, v.Held, v.Word = l.run.Kind, l.run.ID, l.name(), st.Leg, l.run.Planned, st.From, st.Held, st.Word
		v.Marks, v.Gaps, v.Moved, v.Shut = l.run.Marks, l.run.Gaps, l.run.Start, st.From > 0
		v.Onward = l.run.Planned == 0
	}
	b.steps(&v)
	return v
}

// steps lists the stretches and says what to do now.
func (b *Bench) steps(v *View) {
	all := b.live.Bench.Stretches(b.known())
	for _, s := range all {
		steps := []Step{{Key: string(s.Key), Name: s.Name, Detail: s.Detail, Leg: s.Key}}
		if len(s.Parts) > 0 {
			steps = nil
			for i, p := range s.Parts {
				x := Step{Key: p.Key, Name: p.Name, Detail: p.Detail}
				if i == 0 {
					x.Leg = s.Key
				}
				steps = append(steps, x)
			}
		}
		for i := range steps {
			x := &steps[i]
			x.Energises = x.Leg != "" && moves(b.orders(slices.Concat(s.Stand, s.Do)))
			x.State = stateOf(s, *x, v)
		}
		v.Steps = append(v.Steps, steps...)
	}
	v.Next = b.words(v, all)
	for _, s := range all {
		if s.Key == cmp.Or(v.Leg, v.Start) {
			v.Large = max(slices.IndexFunc(v.Columns, func(c SeenColumn) bool { return s.Large != "" && c.Key == s.Large && !c.Absent }), 0)
		}
	}
}

// stateOf says how far a step has come.
func stateOf(s bench.Stretch, x Step, v *View) StepState {
	at := slices.IndexFunc(s.Parts, func(p bench.Leg) bool { return p.Key == v.Phase })
	here := slices.IndexFunc(s.Parts, func(p bench.Leg) bool { return p.Key == x.Key })
	switch {
	case v.Leg == s.Key && len(s.Parts) == 0, v.Leg == s.Key && here == at:
		return StepNow
	case v.Leg == s.Key && here < at, s.Done:
		return StepDone
	case s.Maybe:
		return StepMaybe
	case v.Start == "" && v.Leg == "" && x.Leg != "":
		v.Start = s.Key
		return StepNext
	}
	return StepLater
}

// words say what to do, in one or two sentences.
func (b *Bench) words(v *View, all []bench.Stretch) string {
	lead, l := b.seats[0], b.leg
	switch {
	case lead.status != Lost && len(lead.lacks()) > 0:
		return fmt.Sprintf("%s does not give %s here: let it go and choose another instrument, or type the readings.", lead.source.device.Name, strings.Join(lead.lacks(), ", "))
	case lead.status == Looking:
		return "Looking for the instrument."
	case lead.status == Lost || lead.status == Fault:
		return "Put the instrument right; the bench goes on by itself when it measures again."
	case l == nil && v.Start == "":
		return cmp.Or(b.live.Bench.Live.AllIn, "All legs are in. Add what eyes and hands found, and keep the result.")
	case l == nil:
		i := slices.IndexFunc(all, func(s bench.Stretch) bool { return s.Key == v.Start })
		return all[i].Before
	case l.past && !l.firm:
		return "The planned hold is over and it cannot tell yet. Go on, or stop and see what would settle it."
	case l.firm:
		return "The verdict is firm. You may stop and keep it."
	}
	return l.watch.State().Now
}
