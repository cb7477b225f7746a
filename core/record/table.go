package record

import (
	"bytes"
	"encoding/json"
	"math"
	"slices"
	"strconv"
	"time"
)

// Table holds the readings of a run as columns: the time, s from the run's beginning, and for
// each of the run's channels its value, NaN where it gave none at that moment.
type Table struct {
	Time []float64
	Cols []Column
}

// Column is a column of readings. In JSON, which has no word for what was not read, NaN is null.
type Column []float64

// NewTable is an empty table with so many channels.
func NewTable(channels int) Table { return Table{Cols: make([]Column, channels)} }

// Len is how many readings there are.
func (t Table) Len() int { return len(t.Time) }

// Last is the time of the last reading; 0 without one.
func (t Table) Last() float64 {
	if len(t.Time) == 0 {
		return 0
	}
	return t.Time[len(t.Time)-1]
}

// Add adds a reading: its time and a value of each channel.
func (t *Table) Add(at float64, values []float64) {
	t.Time = append(t.Time, at)
	for i := range t.Cols {
		t.Cols[i] = append(t.Cols[i], values[i])
	}
}

// So is the table as it is now: what is added later does not show in it.
func (t Table) So() Table { return Table{Time: t.Time, Cols: slices.Clone(t.Cols)} }

// Row is a reading's values.
func (t Table) Row(i int) []float64 {
	row := make([]float64, len(t.Cols))
	for c := range t.Cols {
		row[c] = t.Cols[c][i]
	}
	return row
}

// MarshalJSON writes NaN as null.
func (c Column) MarshalJSON() ([]byte, error) {
	if c == nil {
		return []byte("null"), nil
	}
	out := []byte{'['}
	for i, v := range c {
		if i > 0 {
			out = append(out, ',')
		}
		if math.IsNaN(v) || math.IsInf(v, 0) {
			out = append(out, "null"...)
			continue
		}
		out = strconv.AppendFloat(out, v, 'g', -1, 64)
	}
	return append(out, ']'), nil
}

// UnmarshalJSON reads null as NaN.
func (c *Column) UnmarshalJSON(data []byte) error {
	if bytes.Equal(data, []byte("null")) {
		*c = nil
		return nil
	}
	var in []*float64
	if err := json.Unmarshal(data, &in); err != nil {
		return err
	}
	*c = make(Column, len(in))
	for i, v := range in {
		(*c)[i] = math.NaN()
		if v != nil {
			(*c)[i] = *v
		}
	}
	return nil
}

// RunChannel is one quantity of a run that is read live, and with what: as the instrument said it
// when the run began.
type RunChannel struct {
	Key          string  `json:"key"` // a Quantity, or "pid-0C" of a control unit
	Name         string  `json:"name"`
	Unit         string  `json:"unit"`
	Resolution   float64 `json:"resolution"`
	Instrument   string  `json:"instrument"`
	Serial       string  `json:"serial,omitempty"`
	Address      string  `json:"address"`
	CalibratedOn string  `json:"calibrated_on,omitempty"`
	DueOn        string  `json:"due_on,omitempty"`
	// Within is how far the times of its readings may be off those of the run's first channel,
	// s; it is known when the run has ended.
	Within float64 `json:"within_s,omitempty"`
}

// Channels are those of a run.
type Channels []RunChannel

// At is the place of a channel; −1 where there is none.
func (cs Channels) At(key string) int {
	return slices.IndexFunc(cs, func(c RunChannel) bool { return c.Key == key })
}

// Seat says which instrument gives what a test wants to read.
type Seat struct {
	Want   string `json:"want"`   // key of what is wanted
	Device string `json:"device"` // id of the instrument; empty: it is read by eye
}

// Seats are those of a test.
type Seats []Seat

// Turn says who drove a bench from when on.
type Turn struct {
	Who string    `json:"who"`
	At  time.Time `json:"at"`
}

// Turns are kept in order.
type Turns []Turn

// MostTurns is how many are kept of a test.
const MostTurns = 200
