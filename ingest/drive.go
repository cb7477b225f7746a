package ingest

import (
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
	"time"

	"wexter/core/gas"
	"wexter/core/trim"
	"wexter/core/units"
)

// Drive is a drive's log as it was read, with sentences about what was recognised or left out.
type Drive struct {
	Log   trim.Log
	Notes []string
}

// mostJump is the longest stretch without a reading that a drive may have, s.
const mostJump = 6 * 3600.0

// ReadDrive reads a log of fuel trims and what goes with them. The error is one sentence with
// the line.
func ReadDrive(r io.Reader) (Drive, error) {
	data, err := readLimited(r, "cut it to the drive")
	if err != nil {
		return Drive{}, err
	}
	return ParseDrive(data)
}

// ParseDrive is ReadDrive on bytes at hand.
func ParseDrive(data []byte) (Drive, error) {
	rd, header, line, err := openCSV(data, "a time column and columns of readings")
	if err != nil {
		return Drive{}, err
	}
	clock, columns, err := driveColumns(header, line)
	if err != nil {
		return Drive{}, err
	}
	d := driveReader{rows: rd, clock: clock, columns: columns, width: len(header)}
	if err := d.read(); err != nil {
		return Drive{}, err
	}
	return d.finish()
}

// driveReader reads the rows of a drive.
type driveReader struct {
	rows    rows
	clock   clockColumn
	columns []driveColumn
	width   int

	time    []float64
	values  [][]float64 // of each column
	words   map[string]float64
	doubled int
	short   int // rows cut short at the end of the file
}

// read reads all rows as they are written.
func (d *driveReader) read() error {
	most := min(d.rows.Most(), MaxRows)
	d.time = make([]float64, 0, most)
	d.values = make([][]float64, len(d.columns))
	for i := range d.values {
		d.values[i] = make([]float64, 0, most)
	}
	d.words = map[string]float64{}
	var epoch time.Time
	iso := false
	last := math.Inf(-1)
	for n := 0; ; {
		rec, err := d.rows.Read()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		if comment(rec) {
			continue
		}
		if n++; n > MaxRows {
			return fmt.Errorf("line %d: more than %d rows; cut the log to the drive", d.rows.Line(), MaxRows)
		}
		if len(rec) != d.width {
			return fmt.Errorf("line %d: %d columns, the header has %d%s", d.rows.Line(), len(rec), d.width, hint(rec, d.width, d.rows.Comma()))
		}
		t, isISO, err := parseTime(rec[d.clock.at], d.clock.unit, &epoch)
		switch {
		case err != nil:
			return fmt.Errorf("line %d, column %d: %q is not a time; seconds or ISO 8601 were expected", d.rows.Line(), d.clock.at+1, clip(rec[d.clock.at]))
		case math.Abs(t) > maxClock:
			return fmt.Errorf("line %d, column %d: a time of %s cannot be; is the unit right?", d.rows.Line(), d.clock.at+1, clip(rec[d.clock.at]))
		case n > 1 && isISO != iso:
			return fmt.Errorf("line %d: the time is written in another way than before", d.rows.Line())
		case t < last:
			return fmt.Errorf("line %d: time runs backwards, %.6g s after %.6g s; the clock was set, or two logs were joined", d.rows.Line(), t, last)
		case n > 1 && t-last > mostJump:
			return fmt.Errorf("line %d: time jumps by %.1f h; the clock was set, or two drives were joined: read them one at a time", d.rows.Line(), (t-last)/3600)
		}
		iso = isISO
		if err := d.row(rec, t); err != nil {
			return err
		}
		if t == last && d.same() {
			d.drop()
			continue
		}
		last = t
	}
}

// comment reports whether a row is none.
func comment(rec []string) bool {
	if first := rec[0]; first == "" || first[0] == '#' || first[0] == ' ' {
		t := strings.TrimSpace(first)
		return strings.HasPrefix(t, "#") || t == "" && len(rec) == 1
	}
	return false
}

// row takes the readings of a row.
func (d *driveReader) row(rec []string, t float64) error {
	d.time = append(d.time, t)
	for i := range d.columns {
		c := &d.columns[i]
		s := rec[c.at]
		v, plain := decimal(s)
		if !plain {
			var err error
			if v, err = d.reading(c, s); err != nil {
				return err
			}
		}
		d.values[i] = append(d.values[i], v)
	}
	return nil
}

// reading reads what is no plain figure.
func (d *driveReader) reading(c *driveColumn, s string) (float64, error) {
	if noNumber(s) {
		return math.NaN(), nil
	}
	if c.measure == state {
		if v, ok := d.words[s]; ok {
			return v, nil
		}
		v, err := fuelState(s)
		if err != nil {
			return 0, fmt.Errorf("line %d, column %d: %w", d.rows.Line(), c.at+1, err)
		}
		d.words[strings.Clone(s)] = v
		return v, nil
	}
	v, err := number(strings.TrimSuffix(strings.TrimSpace(s), "%"))
	if err != nil {
		return 0, fmt.Errorf("line %d, column %d: %q is not a number for the %s", d.rows.Line(), c.at+1, clip(s), c.channel)
	}
	return v, nil
}

// same reports whether the last row says what the one before it says.
func (d *driveReader) same() bool {
	n := len(d.time)
	for _, v := range d.values {
		if a, b := v[n-1], v[n-2]; a != b && (a == a || b == b) {
			return false
		}
	}
	return true
}

// drop takes the last row away.
func (d *driveReader) drop() {
	n := len(d.time) - 1
	d.time = d.time[:n]
	for i := range d.values {
		d.values[i] = d.values[i][:n]
	}
	d.doubled++
}

// fuelStates are the states of the fuel system in words, with the codes of PID 03. Source: SAE
// J1979, 2014 (from memory).
var fuelStates = []struct {
	words []string
	code  float64
}{
	{[]string{"clfault", "closedloopfault", "closedloopwithfault"}, 16},
	{[]string{"olfault", "openloopfault", "openloopwithfault", "openloopduetofault"}, 8},
	{[]string{"oldrive", "openloopdrive", "openloopduetodriving", "openloopload", "openloopdecel"}, 4},
	{[]string{"cl", "closed", "closedloop"}, 2},
	{[]string{"ol", "open", "openloop"}, 1},
}

// fuelState reads a state of the fuel system that is written in words or as two bytes.
func fuelState(s string) (float64, error) {
	joined := plain(s)
	for _, f := range fuelStates {
		if slices.Contains(f.words, joined) {
			return f.code, nil
		}
	}
	// The longer words may go on: "closed loop, using sensors".
	for _, f := range fuelStates {
		if slices.ContainsFunc(f.words, func(w string) bool { return len(w) > 4 && strings.HasPrefix(joined, w) }) {
			return f.code, nil
		}
	}
	first, _, _ := strings.Cut(strings.TrimSpace(s), " ")
	if v, err := number(first); err == nil {
		return v, nil
	}
	return 0, fmt.Errorf("%q is not a state of the fuel system; 1, 2, 4, 8, 16 or OL, CL, OL-Drive, OL-Fault, CL-Fault were expected", clip(s))
}

// finish turns what was written into SI units.
func (d *driveReader) finish() (out Drive, err error) {
	if len(d.time) < 2 {
		return out, fmt.Errorf("the file has %d row(s) of readings; a drive needs at least two", len(d.time))
	}
	if d.doubled > 0 {
		out.Notes = append(out.Notes, fmt.Sprintf("%d row(s) repeat the one before and were left out.", d.doubled))
	}
	zero := d.time[0]
	for i := range d.time {
		d.time[i] -= zero
	}
	out.Log.Time = d.time
	trimmed, note := d.trimsAs()
	if note != "" {
		out.Notes = append(out.Notes, note)
	}
	var empty []string
	for i := range d.columns {
		c := &d.columns[i]
		v := d.values[i]
		low, high, n := extent(v)
		if n == 0 {
			empty = append(empty, c.channel.String())
			continue
		}
		note, err := c.toSI(v, low, high, trimmed)
		if err != nil {
			return Drive{}, err
		}
		if note != "" {
			out.Notes = append(out.Notes, note)
		}
		out.Log.Value[c.channel] = v
	}
	if len(empty) > 0 {
		out.Notes = append(out.Notes, "Without a single reading, and taken as not logged: "+strings.Join(empty, ", ")+".")
	}
	if err := out.Log.Check(); err != nil {
		return Drive{}, err
	}
	d.overAtmosphere(&out)
	return out, nil
}

// extent is the least and the largest of what was read, and how many readings there were.
func extent(v []float64) (low, high float64, n int) {
	low, high = math.Inf(1), math.Inf(-1)
	for _, x := range v {
		if x < low {
			low = x
		}
		if x > high {
			high = x
		}
		if x == x {
			n++
		}
	}
	return
}

// writing is how trims are written.
type writing struct{ scale, offset float64 }

func (w writing) share(x float64) float64 { return (x + w.offset) * w.scale }

var (
	inPercent  = writing{0.01, 0}
	inParts    = writing{1, 0}
	asFactor   = writing{1, -1}
	asRawBytes = writing{1.0 / 128, -128}
)

// trimsAs tells how the trims of a log are written: their steps are those of one byte, 1/128,
// however they are put (SAE J1979, PIDs 06 to 09, 2014, from memory).
func (d *driveReader) trimsAs() (writing, string) {
	low, high := math.Inf(1), math.Inf(-1)
	says, whole, steps, n := false, true, 0, 0
	for i, c := range d.columns {
		if c.measure != trims {
			continue
		}
		says = says || c.says
		for _, x := range d.values[i] {
			if x != x {
				continue
			}
			n++
			low, high = math.Min(low, x), math.Max(high, x)
			whole = whole && x == math.Trunc(x)
			if math.Abs(x*128-math.Round(x*128)) < 0.09 { // three decimals
				steps++
			}
		}
	}
	small := math.Max(math.Abs(low), math.Abs(high)) <= 0.6 && (low != 0 || high != 0)
	switch {
	case n == 0:
		return inPercent, ""
	case small && (!says || float64(steps) > 0.95*float64(n)):
		note := "The trims are written as fractions and were read as such."
		if says {
			note = "The trims are written as fractions, though the header says percent: they go in steps of 1/128 and never beyond ±0.6. They were read as fractions."
		}
		return inParts, note
	case low >= 0.5 && high <= 1.6 && high-low > 0.01 && (!says || low < 0.75):
		return asFactor, "The trims are written as factors about 1 (lambda, or a multiplier): 1.05 was read as +5 %."
	case whole && low >= 60 && high <= 200 && low > 50:
		return asRawBytes, "The trims are written as bytes about 128: 141 was read as +10.2 %."
	}
	return inPercent, ""
}

// toSI turns a column's readings into SI units, and says what was guessed.
func (c *driveColumn) toSI(v []float64, low, high float64, trimmed writing) (note string, err error) {
	each := func(f func(float64) float64) {
		for i, x := range v {
			v[i] = f(x)
		}
	}
	limits := func(from, to float64) {
		low, high, _ := extent(v)
		if low < from || high > to {
			err = fmt.Errorf("column %d (%s): readings from %s to %s as written cannot be the %s; is the unit right?", c.at+1, clip(c.header), units.Digits(c.written(low, trimmed), 3), units.Digits(c.written(high, trimmed), 3), c.channel)
		}
	}
	switch c.measure {
	case trims:
		each(trimmed.share)
		limits(-1, 1)
	case revs:
		if high < 12 && high > 0.3 {
			each(func(x float64) float64 { return 1000 * x })
			note = "The engine speed is written in thousands: 0.75 was read as 750 rpm."
		}
		limits(0, 20000)
	case share:
		// Load and throttle of a running engine are never below one per cent; what stands beside trims
		// that are fractions is one as well.
		if high <= 1.0001 && (!c.says || c.channel == trim.Load || c.channel == trim.Throttle || trimmed == inParts) {
			if high > 0 {
				note = fmt.Sprintf("The %s is written as a fraction and was read as such.", c.channel)
			}
		} else {
			each(func(x float64) float64 { return x / 100 })
		}
		limits(-0.05, 2)
	case state:
		each(func(x float64) float64 {
			if x >= 256 { // both banks in one number
				return math.Floor(x / 256)
			}
			return x
		})
		limits(0, 255)
	case ratio:
		if low > 6 && high < 30 {
			each(func(x float64) float64 { return x / 14.7 })
			note = "Lambda is written as air to fuel by mass and was divided by 14.7."
		}
		limits(0, 2.5)
	default:
		note = c.convert(v, high)
		limits(c.channel.Sane())
	}
	return note, err
}

// written is an SI value as the column writes it, for a sentence about it.
func (c *driveColumn) written(x float64, trimmed writing) float64 {
	switch {
	case c.measure == trims:
		return x/trimmed.scale - trimmed.offset
	case c.unit.Symbol != "":
		return c.unit.FromSI(x)
	case c.measure == share:
		return 100 * x
	}
	return x
}

// convert applies a column's unit, or the usual one where the header names none.
func (c *driveColumn) convert(v []float64, high float64) (note string) {
	k, _ := c.measure.kindOf()
	usual := map[measure]string{massFlow: "g/s", absolute: "kPa", velocity: "km/h", warmth: "°C"}[c.measure]
	switch {
	case c.measure == warmth && high > 130 && high < 300 && (c.unit.Symbol == "" || c.unit.Symbol == "°C"):
		c.unit = units.Must("°F", k)
		note = fmt.Sprintf("The %s reaches %.0f: it was read as °F.", c.channel, high)
	case c.unit.Symbol != "":
	case c.measure == absolute && high > 600:
		c.unit = units.Must("hPa", k)
		note = fmt.Sprintf("The %s has no unit and reaches %.0f: it was read as hPa.", c.channel, high)
	default:
		c.unit = units.Must(usual, k)
		if !c.coded && (c.measure == absolute || c.measure == velocity && high > 0) {
			note = fmt.Sprintf("The %s has no unit: it was read as %s.", c.channel, usual)
		}
	}
	for i, x := range v {
		v[i] = c.unit.ToSI(x)
	}
	return note
}

// Below these a pressure is not absolute, Pa: before the throttle there is hardly less than the
// barometer.
var leastAbsolute = map[trim.Channel]float64{trim.ManifoldPressure: 0, trim.ChargePressure: 60e3}

// overAtmosphere adds the barometer where a pressure was written as gauge.
func (d *driveReader) overAtmosphere(out *Drive) {
	barometer := gas.StandardPressure
	from := "the standard atmosphere"
	if v := out.Log.Value[trim.Barometer]; v != nil {
		if low, high, _ := extent(v); low > 50e3 {
			barometer, from = (low+high)/2, "the logged barometer"
		}
	}
	for _, c := range []trim.Channel{trim.ManifoldPressure, trim.ChargePressure} {
		v := out.Log.Value[c]
		if v == nil {
			continue
		}
		below, n := 0.0, 0.0
		for _, x := range v {
			if x < leastAbsolute[c] {
				below++
			}
			if x == x {
				n++
			}
		}
		if below < 0.05*n {
			continue
		}
		for i := range v {
			v[i] += barometer
		}
		out.Notes = append(out.Notes, fmt.Sprintf("The %s is written above the barometer: %s (%.1f kPa) was added.", c, from, barometer/1e3))
	}
}
