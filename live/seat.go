package live

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"wexter/casework"
	"wexter/core/bench"
	"wexter/core/record"
	"wexter/core/units"
	"wexter/instrument"
)

// Status of an instrument.
type Status string

// The states: no answer yet, reading, answering but measuring nothing, gone.
const (
	Looking Status = "looking"
	On      Status = "on"
	Fault   Status = "fault"
	Lost    Status = "lost"
)

// seat is an instrument's place at a bench: what it gives there, and how it is doing. What it
// holds is guarded by its bench.
type seat struct {
	bench  *Bench
	source *source
	wants  []bench.Want
	keys   []string // channels of the instrument, in the order of the bench's columns
	first  int      // column of the first of them
	shown  []column // of the keys: what they are and how the bay shows them

	gauge     instrument.Instrument
	about     instrument.About
	status    Status
	said      string             // about the instrument, a sentence
	last      instrument.Reading // of each channel: the newest value
	valueAt   map[string]float64 // s by its clock, of the newest value of each channel
	has       bool
	clock     clock
	steady    steady
	align     align
	untrusted int       // readings until it is trusted again after a fault
	kept      time.Time // when it was last told to stay as it is
	pushed    float64   // s by which a reading of it was put later, at most: readings are kept in order
	keptAt    float64   // s of the stretch, when a reading was kept last
	lostAt    float64   // s of the stretch since when it gave nothing; 0: it gives
}

// lead reports whether the seat is the bench's first: its clock is the bench's, and nothing is
// read without it.
func (s *seat) lead() bool { return s.bench.seats[0] == s }

func (s *seat) say(st Status, words string) {
	if s.status != st || s.said != words {
		s.status, s.said = st, words
		s.bench.changed()
	}
}

// gone says that the instrument no longer answers, and why.
func (s *seat) gone(words string) {
	b := s.bench
	b.mu.Lock()
	defer b.mu.Unlock()
	s.gauge = nil
	if s.status == Lost {
		return
	}
	if b.leg != nil && s.lead() {
		words += " Look at its cable and its power. The leg waits; what was read is kept, and the gap is not judged."
	}
	s.silent()
	s.say(Lost, words)
}

// silent notes that a seat beside the first gives nothing from here on.
func (s *seat) silent() {
	s.has = false
	s.last.Values = nil
	if l := s.bench.leg; l != nil && !s.lead() && s.lostAt == 0 {
		s.lostAt = math.Max(l.log.Last(), 1e-9)
	}
}

// connected takes an instrument that answers. A stretch goes on only when it is the instrument
// that it began with and its clock has gone on.
func (s *seat) connected(g instrument.Instrument) {
	b, a := s.bench, g.About()
	b.mu.Lock()
	l := b.leg
	other := s.lead() && l != nil && (a.Session != l.run.Source.Session || a.Serial != l.run.Source.Serial)
	if a.Session == s.about.Session || l != nil && s.lead() && !other {
		s.clock.silent = true
	} else {
		s.clock = clock{}
		s.align.reset()
	}
	s.gauge, s.about = g, a
	s.shown = s.columns()
	b.mu.Unlock()
	if other {
		b.end(ending{cut: true, note: "The instrument restarted while this was read: the leg ends where the readings ended.",
			said: "The instrument restarted: the leg ends where its readings ended. Repeat it."})
	}
	// What was wrong stays said until a reading has come: take says when it has.
	if s.lead() {
		b.met(a)
	}
}

// take is one reading; it says how the stretch ends with it.
func (s *seat) take(r instrument.Reading) *ending {
	b := s.bench
	b.mu.Lock()
	defer b.mu.Unlock()
	turnedBack := false
	if r.Fault == "" {
		r.Fault, turnedBack = s.clock.fits(r.Time)
	}
	if turnedBack {
		s.align.reset()
		if b.leg != nil && s.lead() {
			return broken("The instrument's clock was set back while this was read")
		}
	}
	if r.Fault != "" {
		s.faulty(r.Fault)
		return nil
	}
	s.align.add(b.hub.elapsed(), r.Time)
	// After a fault the first readings are not trusted yet: a plug that is only just in
	// may be out again.
	if s.untrusted > 0 {
		s.untrusted--
		return nil
	}
	if len(s.keys) > 0 && !slices.ContainsFunc(r.Values, func(v instrument.Value) bool { return slices.Contains(s.keys, v.Channel) }) {
		if len(r.Values) == 0 {
			s.faulty("the instrument sent a reading without a pressure")
		}
		return nil // of other channels
	}
	s.note(r)
	if s.lead() {
		b.seen = time.Now()
	}
	words, over := s.beyond(r)
	if s.lead() {
		b.takesUp(r.Time)
	}
	s.say(On, words)
	l := b.leg
	switch {
	case l == nil || l.ending:
		return nil
	case b.relieved && !l.stretch.Firm: // of what is judged by its trace what comes now still tells something
		return &ending{cut: true, rest: true, note: words, said: words}
	case over && s.lead():
		l.over = true
		return nil
	}
	if r, ok := s.steady.add(r); ok {
		return l.add(s, r)
	}
	return nil
}

// staleSeconds is how long the newest value of a channel stands for now while others of its instrument
// come: what a meter showed before it was turned to another quantity is no reading of this moment.
const staleSeconds = 10.0

// note keeps the newest value of each channel.
func (s *seat) note(r instrument.Reading) {
	values := slices.Clone(r.Values)
	if s.valueAt == nil {
		s.valueAt = map[string]float64{}
	}
	for _, v := range r.Values {
		s.valueAt[v.Channel] = r.Time
	}
	for _, v := range s.last.Values {
		if _, ok := r.Of(v.Channel); !ok && r.Time-s.valueAt[v.Channel] < staleSeconds {
			values = append(values, v)
		}
	}
	s.last, s.has = r, true
	s.last.Values = values
}

// beyond says what lies over a range, or over what the system is permitted; over: the reading is
// none. A rig that is beyond is opened, and valves are let go. The bench is locked.
func (s *seat) beyond(r instrument.Reading) (words string, over bool) {
	b := s.bench
	for _, v := range r.Values {
		if !slices.Contains(s.keys, v.Channel) {
			continue
		}
		if v.Over && v.Channel == instrument.PressureKey && b.permits {
			return fmt.Sprintf("Over the range of the instrument, %.0f inH2O: nothing beyond is read. Open the rig.", s.about.Range/units.InH2O), true
		}
		if v.Over && v.Channel != string(record.Ohms) { // there it is a reading: an open circuit
			over = true
			words = fmt.Sprintf("Over the range of %s: nothing beyond is read.", s.about.Name)
		}
		if warn := s.unpermitted(v); warn != "" {
			words = strings.TrimSpace(warn + " " + words)
		}
	}
	return words, over
}

// unpermitted says that a pressure is beyond what the system is permitted.
func (s *seat) unpermitted(v instrument.Value) string {
	b := s.bench
	if !b.live.Bench.Permitted(v.Channel) {
		return ""
	}
	warn, arch := "", b.live.Arch
	switch p := v.Value - b.zero(v.Channel); {
	case p > 1.02*arch.MaxPa && arch.MaxPa > 0:
		warn = fmt.Sprintf("Over the %.1f inH2O this system is permitted", arch.MaxPa/units.InH2O)
	case -p > 1.02*arch.MaxVacPa && arch.MaxVacPa > 0:
		warn = fmt.Sprintf("Below the %.1f inH2O of vacuum this tank is permitted", arch.MaxVacPa/units.InH2O)
	}
	can := func(command string) bool {
		return slices.ContainsFunc(b.seats, func(s *seat) bool { return s.gauge != nil && s.about.Can(command) })
	}
	if warn == "" {
		b.relieved = false
		return ""
	}
	if !can(instrument.Open) && !can(instrument.Valve) {
		return warn + ": open the rig now."
	}
	if !b.relieved {
		b.relieved = true
		b.hub.wg.Go(func() { b.rest(nil) })
	}
	if !can(instrument.Open) {
		return warn + ": the valves have been let go. See that they are."
	}
	return warn + ": the rig has been told to open. See that it does."
}

// faulty takes a line of the instrument in which nothing was measured: the figure goes out.
func (s *seat) faulty(why string) {
	s.silent()
	s.untrusted = int(min(max(s.about.Rate/2, 1), 5))
	words := casework.Sentence(why)
	if l := s.bench.leg; l != nil && s.lead() {
		words += " The leg waits; what was read is kept, and the gap is not judged."
		l.fault = why
	}
	s.say(Fault, words)
}

// row is a reading as the bench keeps it: its values in their columns, and NaN in all others.
func (s *seat) row(r instrument.Reading) []float64 {
	row := slices.Repeat([]float64{math.NaN()}, s.bench.columns)
	for i, k := range s.keys {
		switch v, ok := r.Of(k); {
		case ok && v.Over && k == string(record.Ohms):
			row[s.first+i] = bench.Overload
		case ok && !v.Over:
			row[s.first+i] = v.Value
		}
	}
	return row
}

// at is the moment of a reading by the clock of the bench's first instrument, s.
func (s *seat) at(r instrument.Reading) float64 {
	if s.lead() {
		return r.Time
	}
	return r.Time - r.Within/2 + s.align.offset() - s.bench.seats[0].align.offset()
}

// within is how far that may be off, s: how late readings come of either, and how early they may
// have been measured.
func (s *seat) within() float64 {
	if s.lead() {
		return s.pushed
	}
	return s.align.late + s.bench.seats[0].align.late + (s.last.Within+s.bench.seats[0].last.Within)/2 + s.pushed
}

// channels say what the seat's columns are, and with what they are read.
func (s *seat) channels() (out record.Channels) {
	d := s.source.device
	for _, k := range s.keys {
		c := record.RunChannel{Key: k, Instrument: d.Name, Serial: s.about.Serial, Address: d.Address, CalibratedOn: s.about.CalibratedOn, DueOn: d.Settings.DueOn}
		if c.Serial == "" {
			c.Serial = d.Settings.Serial
		}
		if c.CalibratedOn == "" {
			c.CalibratedOn = d.Settings.CalibratedOn
		}
		if x, ok := s.about.Channel(k); ok {
			c.Name, c.Unit, c.Resolution = x.Name, x.Unit, x.Resolution
		} else if x, ok := instrument.LiveChannel(k); ok {
			c.Name, c.Unit, c.Resolution = x.Name, x.Unit, x.Resolution
		} else if kind, ok := record.Quantity(k).Kind(); ok {
			c.Name, c.Unit = record.Quantity(k).Words(), units.Base(kind)
		}
		out = append(out, c)
	}
	return out
}

// column is a quantity as the bench shows it.
type column struct {
	record.RunChannel
	unit string // of the bay
	to   bench.Conversion
}

// columns are the seat's, with how the bay shows them.
func (s *seat) columns() (out []column) {
	for _, c := range s.channels() {
		x := column{RunChannel: c}
		x.unit, x.to = s.bench.live.Bench.InBay(c)
		out = append(out, x)
	}
	return out
}

// absent reports whether the instrument, as far as it has said, does not measure a channel.
func (s *seat) absent(key string) bool {
	_, ok := s.about.Channel(key)
	return !ok && len(s.about.Channels) > 0
}

// lacks names what the instrument does not measure though the bench reads it there.
func (s *seat) lacks() (out []string) {
	for _, w := range s.wants {
		for _, k := range w.Must {
			if s.absent(k) && s.gauge != nil {
				out = append(out, channelName(k))
			}
		}
	}
	return out
}

// channelName is what a channel is called in a sentence.
func channelName(key string) string {
	if c, ok := instrument.LiveChannel(key); ok {
		return c.Name
	}
	return cmp.Or(record.Quantity(key).Words(), key)
}

// do works what can be worked at this seat.
func (s *seat) do(ctx context.Context, c instrument.Command) error {
	s.bench.mu.Lock()
	g := s.gauge
	s.bench.mu.Unlock()
	if g == nil {
		return refuse("%s does not answer", s.source.device.Name)
	}
	c.Keep = keepSeconds
	if err := g.Do(ctx, c); err != nil {
		return refuse("The rig does not do it: %v", err)
	}
	return nil
}
