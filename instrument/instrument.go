package instrument

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"
	"unicode"

	"wexter/core/record"
)

// Instrument is a connection to whatever measures: a module, a line of numbers, registers,
// a car's control units. Next and Do may be called at the same time, Next by one goroutine.
type Instrument interface {
	// About says what the instrument is; it is known once it has answered.
	About() About
	// Next waits for the next reading. What was sent and is no reading becomes one with a
	// Fault; an error says in a sentence that the instrument is gone.
	Next(ctx context.Context) (Reading, error)
	// Do works what can be worked from here; the error is what the instrument said.
	Do(ctx context.Context, c Command) error
	Close() error
}

// About is what is known of an instrument.
type About struct {
	Protocol     int       `json:"protocol"` // 1
	Name         string    `json:"name"`
	Serial       string    `json:"serial"`
	Session      string    `json:"session"` // new whenever the instrument's clock starts anew
	Range        float64   `json:"range_pa"`
	Resolution   float64   `json:"resolution_pa"`
	Rate         float64   `json:"rate_hz"` // readings a second by its clock; 0 when nobody knows
	CalibratedOn string    `json:"calibrated_on"`
	Orifice      float64   `json:"orifice_m"` // the rig's known orifice; 0 for none
	Commands     []string  `json:"commands"`
	Channels     []Channel `json:"channels,omitempty"`
	Takes        []string  `json:"takes,omitempty"` // lines of words that it answers
	Simulated    bool      `json:"simulated"`
	NoClock      bool      `json:"-"` // Reading.Time is when it came: see OwnClock
}

// Channel is one quantity of an instrument. Its values are in its unit: SI where there is
// one, otherwise as the trade writes it (%, rpm).
type Channel struct {
	Key        string  `json:"key"` // a record.Quantity, or "pid-0C" of a control unit
	Name       string  `json:"name"`
	Unit       string  `json:"unit"`
	Low        float64 `json:"low"` // its range; both 0 when nobody knows
	High       float64 `json:"high"`
	Resolution float64 `json:"resolution"`
}

// Keys of the channels of a pressure module.
const (
	PressureKey = string(record.GaugePressure)
	WallKey     = string(record.RigWall)
)

// Channel finds a channel by its key.
func (a About) Channel(key string) (Channel, bool) {
	for _, c := range a.Channels {
		if c.Key == key {
			return c, true
		}
	}
	return Channel{}, false
}

// Can reports whether the instrument takes a command.
func (a About) Can(command string) bool { return slices.Contains(a.Commands, command) }

// Reading is what an instrument measured at one moment.
type Reading struct {
	N      int64
	Time   float64 // s, by the instrument's clock
	Within float64 // s: it was measured so long before Time at most
	Values []Value
	Fault  string // nothing was measured, and why
	Lost   int    // lines since the reading before that could not be read
}

// Value is what one channel showed.
type Value struct {
	Channel string
	Value   float64 // in the channel's unit
	Over    bool    // beyond the range: Value is its end
}

// Of is the value of a channel; false when the reading has none.
func (r Reading) Of(channel string) (Value, bool) {
	for _, v := range r.Values {
		if v.Channel == channel {
			return v, true
		}
	}
	return Value{}, false
}

// Command works a rig that can be worked from here.
type Command struct {
	Do      string  `json:"do"`
	Target  float64 `json:"pa,omitempty"`
	Seconds float64 `json:"s,omitempty"`     // of Run
	Words   string  `json:"words,omitempty"` // of Ask
	// Keep is for how long what is commanded stands, s, unless Keep is sent again: then the
	// rig opens by itself.
	Keep float64 `json:"keep_s,omitempty"`
}

// The commands: how the rig's ports stand, and, for a simulated module, mishaps.
const (
	Open     = "open"
	Seal     = "seal"
	Charge   = "charge"
	Draw     = "draw"
	Regulate = "regulate" // a regulator keeps the pressure Target; Words is the part at which the rig goes in, empty the usual one
	Smoke    = "smoke"    // the same, with smoke
	Plug     = "plug"     // the rig by itself
	Car      = "car"      // the rig on the car
	Known    = "known"    // known orifice open
	Closed   = "closed"   // known orifice shut
	Unplug   = "unplug"   // the sensor's cable is off
	Replug   = "replug"
	Run      = "run"   // steps the clock of a simulated module that stands
	Keep     = "keep"  // what was commanded goes on for Keep seconds more
	Valve    = "valve" // Words is the part, Target the share of its opening; below 0 it is let go
	// LeakCheck asks the control unit for its own leak check: it shuts the EVAP system off by itself.
	LeakCheck = "leak-check"
	Ask       = "ask" // words, to an instrument on a simulated car that takes them
)

// TakesDrive is what an instrument on a simulated car takes that drives it.
const TakesDrive = "drive MODE"

// TakesVolts is what a simulated meter takes that stands its probes on a part.
const TakesVolts = "volts PART"

// TakesProbe is what a simulated meter takes that stands its probes on the circuit of a part as a measure of it
// asks.
const TakesProbe = "probe PART MEASURE"

// TakesJoin is what a simulated rig takes that is joined at a part and regulated to a pressure by hand.
const TakesJoin = "join PART PRESSURE"

// TakesSet is what an instrument on a simulated car takes that puts a part as a hand does.
const TakesSet = "set PART plugged|open|shut|rest"

// TakesPart is what a simulated bench rig takes for what hands do at a real one: which part is on it, and
// whether it is pumped up or slowly ramped, to how many pascals.
const TakesPart = "put PART|new|plug pump|ramp|steps PA"

// TakesFar is what an instrument on a simulated car takes that opens and shuts a cover beside it.
const TakesFar = "open|shut PART"

// OwnClock is the session of instruments without a clock of their own: their readings have
// the time of this computer, s since 1970, which goes on whatever is plugged out and in.
const OwnClock = "the clock of this computer"

// stamps gives moments as seconds since 1970 that never go back while the program runs,
// whatever is done to the computer's clock.
type stamps struct{ began time.Time }

func (s stamps) at(t time.Time) float64 {
	return float64(s.began.UnixMicro())/1e6 + t.Sub(s.began).Seconds()
}

func (s stamps) now() float64 { return s.at(time.Now()) }

// errByHand is what an instrument says that only measures.
var errByHand = errors.New("this instrument only measures; work the rig and the car by hand")

// beyond says that a channel's value lies outside its range: most often its unit is wrong.
func beyond(c Channel, v float64) string {
	return fmt.Sprintf("%s reads %.4g %s, beyond its range of %.4g to %.4g: look at its unit", c.Name, v, c.Unit, c.Low, c.High)
}

// outside reports whether a value cannot come from a channel; a hundredth of its range and
// a step beyond are the instrument's own business.
func (c Channel) outside(v float64) bool {
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return true
	}
	if c.Low == c.High {
		return false
	}
	slack := 0.01*(c.High-c.Low) + c.Resolution
	return v < c.Low-slack || v > c.High+slack
}

// plain leaves out what a terminal or a page would not show as text.
func plain(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) && r != '\n' && r != '\t' {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(s, "?"))
}

// clip keeps what an instrument says about itself to a line on the screen.
func clip(s string) string {
	s = strings.NewReplacer("\n", " ", "\t", " ").Replace(plain(s))
	if r := []rune(s); len(r) > 120 {
		return string(r[:120]) + "…"
	}
	return s
}
