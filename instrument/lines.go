package instrument

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"
	"unicode/utf8"

	"wexter/core/record"
	"wexter/core/units"
)

// mostLine is how many bytes a line of numbers may have.
const mostLine = 400

// thinTo is how often what comes faster is passed on: the mean of what came meanwhile.
const thinTo = 100 * time.Millisecond

// silentAfter is how long lines that cannot be read may come, with nothing else, before it
// is said that nothing is measured.
const silentAfter = time.Second

// Lines is a connection to what prints a line of numbers again and again. It has no clock:
// a line counts from when it came. What comes more often than ten times a second is
// averaged; lines that cannot be read are counted and nothing more, as long as others can.
type Lines struct {
	// Patience is how long a line may take before the instrument counts as lost.
	Patience time.Duration

	about  About
	came   time.Time     // when the last line came
	usual  time.Duration // between lines
	format record.LineFormat
	link   *link
	stamps stamps
	n      int64
	first  bool      // the next line is the first: it may have begun before
	passed time.Time // when the last reading was passed on

	mu   sync.Mutex
	seen []string // the last lines as they came
}

// attachLines reads a link as lines of a format.
func attachLines(l *link, d record.Device, patience time.Duration) *Lines {
	x := &Lines{Patience: patience, format: d.Settings.Lines, link: l, stamps: stamps{time.Now()}, first: true, about: aboutOf(d)}
	for _, c := range x.format.Columns {
		x.about.add(c.Scaling)
	}
	x.came = x.stamps.began
	return x
}

// quiet is how long nothing comes before it is said.
const quiet = 3 * time.Second

// hush is how long nothing may come from this instrument before it is said: one that prints
// once a minute is not silent between.
func (x *Lines) hush() time.Duration { return max(quiet, 3*x.usual) }

// heard notes that a line came.
func (x *Lines) heard() {
	now := time.Now()
	x.usual += (now.Sub(x.came) - x.usual) / 4
	x.came = now
}

// begunBefore is how soon after the connection was made a line may come that had begun before
// it: its first figures are missing, and what is left may look like a number.
const begunBefore = time.Second

// mostSeen is how many lines are shown as they came.
const mostSeen = 4

// show keeps a line for whoever sets the instrument up.
func (x *Lines) show(line []byte) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.seen = append(x.seen, clip(string(line)))
	x.seen = x.seen[max(len(x.seen)-mostSeen, 0):]
}

// Seen are the last lines as they came.
func (x *Lines) Seen() []string {
	x.mu.Lock()
	defer x.mu.Unlock()
	return slices.Clone(x.seen)
}

// aboutOf is what the shop has written down of an instrument that says nothing of itself.
func aboutOf(d record.Device) About {
	return About{Protocol: 1, Name: d.Name, Serial: d.Settings.Serial, Session: OwnClock, CalibratedOn: d.Settings.CalibratedOn, NoClock: true}
}

// add adds the channel of a scaling.
func (a *About) add(s record.Scaling) {
	c := channelOf(s)
	a.Channels = append(a.Channels, c)
	if c.Key == PressureKey {
		a.Range, a.Resolution = math.Max(math.Abs(c.Low), math.Abs(c.High)), c.Resolution
	}
}

// channelOf is the channel of a scaling, in SI.
func channelOf(s record.Scaling) Channel {
	kind, _ := s.Quantity.Kind()
	return Channel{Key: string(s.Quantity), Name: s.Quantity.Words(), Unit: units.Base(kind), Low: s.SI(s.Low), High: s.SI(s.High), Resolution: s.SI(s.Resolution) - s.SI(0)}
}

// About says what the instrument is.
func (x *Lines) About() About { return x.about }

// Do refuses: what prints numbers cannot be worked.
func (x *Lines) Do(context.Context, Command) error { return errByHand }

// Close ends the connection.
func (x *Lines) Close() error { return x.link.close() }

// Next waits for the next reading: of a slow instrument a line, of a fast one the mean of
// those of a tenth of a second.
func (x *Lines) Next(ctx context.Context) (Reading, error) {
	var mean mean
	lost := 0
	wrong := ""
	began := time.Now()
	for {
		wait := max(time.Until(x.came.Add(x.hush())), quiet)
		if mean.n > 0 {
			wait = max(time.Until(x.passed.Add(thinTo)), time.Millisecond)
		}
		line, err := x.link.line(ctx, wait, mostLine)
		switch {
		case ctx.Err() != nil:
			return Reading{}, ctx.Err()
		case errors.Is(err, errLong):
			x.heard()
			wrong = "a line has no end"
			lost++
		case errors.Is(err, errSilent) && mean.n > 0:
			return x.reading(mean, lost), nil
		case errors.Is(err, errSilent) && time.Since(x.came) < x.Patience:
			what := "nothing"
			if len(x.link.left) > 0 {
				what = "no whole line"
			}
			return x.nothing(fmt.Sprintf("%s has sent %s for %.0f s", x.about.Name, what, time.Since(x.came).Seconds()), lost), nil
		case errors.Is(err, errSilent):
			return Reading{}, fmt.Errorf("%s is silent: is it on, and is the speed right?", x.about.Name)
		case err != nil:
			return Reading{}, fmt.Errorf("%s no longer answers", x.about.Name)
		default:
			x.heard()
			x.show(line)
			first := x.first
			x.first = false
			values, says := ParseLine(x.format, line)
			switch {
			case first && time.Since(x.stamps.began) < begunBefore:
			case says == "":
				mean.add(values)
			case len(x.format.Columns) == 0: // it is being set up
				if time.Since(x.passed) < thinTo {
					continue
				}
				x.passed = time.Now()
				return x.nothing(says, 0), nil
			default:
				lost++
				wrong = says
			}
		}
		switch {
		case mean.n > 0 && time.Since(x.passed) >= thinTo:
			return x.reading(mean, lost), nil
		case mean.n == 0 && lost > 0 && time.Since(began) >= silentAfter:
			return x.nothing(fmt.Sprintf("%s sends lines that are no readings: %s", x.about.Name, wrong), lost), nil
		}
	}
}

// nothing is a reading in which nothing was measured.
func (x *Lines) nothing(why string, lost int) Reading {
	x.n++
	return Reading{N: x.n, Time: x.stamps.now(), Fault: why, Lost: lost}
}

// reading is what the lines of a while come to.
func (x *Lines) reading(m mean, lost int) Reading {
	x.n++
	x.passed = time.Now()
	r := Reading{N: x.n, Time: x.stamps.at(m.first.Add(m.last.Sub(m.first) / 2)), Within: m.last.Sub(m.first).Seconds(), Lost: lost}
	for _, v := range m.values {
		v.Value /= float64(m.n)
		r.Values = append(r.Values, v)
	}
	return r
}

// mean gathers lines.
type mean struct {
	n           int
	values      []Value // sums
	first, last time.Time
}

func (m *mean) add(values []Value) {
	m.last = time.Now()
	if m.n++; m.n == 1 {
		m.values, m.first = slices.Clone(values), m.last
		return
	}
	for i, v := range values {
		m.values[i].Value += v.Value
	}
}

// ParseLine reads a line of a format. It returns the value of every column in SI, or what
// is wrong with the line in words. A label before a number ("P=3.2", "temp: 21") and a unit
// behind it ("3.2 kPa") are read over; a unit that is another than the column's is not.
func ParseLine(f record.LineFormat, line []byte) ([]Value, string) {
	if !utf8.Valid(line) {
		return nil, "a line is not text; is the speed right?"
	}
	fields := SplitLine(f, string(line))
	var out []Value
	if len(f.Columns) == 0 {
		return nil, "nobody has said yet what its columns measure"
	}
	for _, c := range f.Columns {
		if c.At > len(fields) {
			return nil, fmt.Sprintf("a line has %d columns and column %d is read", len(fields), c.At)
		}
		sent, unit, ok := number(fields[c.At-1], f.Comma)
		if !ok {
			return nil, fmt.Sprintf("column %d says %q, which is no number", c.At, clip(fields[c.At-1]))
		}
		if says := sameUnit(unit, c.Scaling); says != "" {
			return nil, fmt.Sprintf("column %d: %s", c.At, says)
		}
		v := c.Of(sent)
		ch := channelOf(c.Scaling)
		si := c.SI(v)
		if ch.outside(si) {
			return nil, fmt.Sprintf("column %d reads %.4g %s, beyond the range of %.4g to %.4g: look at its unit", c.At, v, c.Unit, c.Low, c.High)
		}
		out = append(out, Value{Channel: ch.Key, Value: si})
	}
	return out, ""
}

// SplitLine takes a line apart at its separator.
func SplitLine(f record.LineFormat, line string) []string {
	switch f.Separator {
	case "blank":
		return strings.Fields(line)
	case "semicolon":
		return strings.Split(line, ";")
	case "tab":
		return strings.Split(line, "\t")
	}
	return strings.Split(line, ",")
}

// number finds the number of a field, and the unit behind it.
func number(field string, comma bool) (v float64, unit string, ok bool) {
	s := strings.TrimSpace(field)
	if i := strings.LastIndexAny(s, "=:"); i >= 0 {
		s = strings.TrimSpace(s[i+1:])
	}
	end := strings.IndexFunc(s, func(r rune) bool {
		return unicode.IsLetter(r) && r != 'e' && r != 'E' || r == '%' || r == '°' || r == '"' || unicode.IsSpace(r)
	})
	if end < 0 {
		end = len(s)
	}
	figure := s[:end]
	if strings.Contains(figure, ",") != (comma && strings.Contains(figure, ",")) {
		return 0, "", false
	}
	unit = strings.TrimSpace(s[end:])
	if !units.Known(unit) && strings.ContainsAny(unit, "0123456789") { // 0x1F, 3.2V1
		return 0, "", false
	}
	v, err := units.Number(figure)
	return v, unit, err == nil
}

// sameUnit says what is wrong with the unit that stands behind a number; a word that is no
// unit is read over.
func sameUnit(unit string, s record.Scaling) string {
	if unit == "" {
		return ""
	}
	kind, _ := s.Quantity.Kind()
	if u, ok := units.Lookup(unit, kind); ok {
		if want, _ := units.Lookup(s.Unit, kind); u != want {
			return fmt.Sprintf("the line says %s and %s is set up", u.Symbol, want.Symbol)
		}
		return ""
	}
	if units.Known(unit) {
		return fmt.Sprintf("the line says %s, which is no unit of %s", clip(unit), s.Quantity.Words())
	}
	return ""
}
