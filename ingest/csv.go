package ingest

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"wexter/core/decay"
	"wexter/core/units"
)

// Limits on what is read.
const (
	MaxBytes = 64 << 20  // a log
	MaxRows  = 2_000_000 // an hour of 12 channels at 500 Hz
	maxLine  = 64 << 10  // bytes
	maxSpan  = 7 * 24 * 3600.0
	maxClock = 1e11 // s; seconds and milliseconds since 1970 are far below
	mostLost = 0.05 // share of readings that may be no numbers
)

// Log is a pressure log in SI units.
type Log struct {
	Time      []float64 // s from the first reading
	Gauge     []float64 // Pa above the barometer
	Wall      []float64 // K, nil without such a column
	Unit      string    // unit the pressure was written in
	Absolute  bool      // the file held absolute pressure; the barometer was taken off
	Barometer float64   // Pa that were taken off
	Notes     []string  // sentences about what was recognised or left out
}

// Options supplies what a file does not say.
type Options struct {
	PressureUnit    string  // used when the header has none
	TemperatureUnit string  // °C when neither says
	Barometer       float64 // Pa, for absolute pressures; 0 is 101 325
}

// NoUnitError says that the pressure column has no unit.
type NoUnitError struct{ Column string }

func (e *NoUnitError) Error() string {
	return fmt.Sprintf("line 1: the pressure column %q has no unit; write it into the header, for example \"pressure_inH2O\", or supply it (--pressure-unit inH2O)", e.Column)
}

// NoBarometerError says that an absolute log does not begin open to the air, so that
// nobody can tell what to take off.
type NoBarometerError struct{ First float64 } // Pa

func (e *NoBarometerError) Error() string {
	return fmt.Sprintf("the pressure is absolute, and the log does not begin open to the air (it begins at %.2f kPa): give the barometer as this gauge reads it, or log some seconds open to the air first", e.First/1e3)
}

// ReadCSV reads a log. The error is one sentence with the line.
func ReadCSV(r io.Reader, o Options) (Log, error) {
	data, err := readLimited(r, "cut it to the test")
	if err != nil {
		return Log{}, err
	}
	return ParseCSV(data, o)
}

// ParseCSV is ReadCSV on bytes at hand.
func ParseCSV(data []byte, o Options) (Log, error) {
	rd, header, line, err := openCSV(data, "a time and a pressure column")
	if err != nil {
		return Log{}, err
	}
	cols, err := columns(header, o, line)
	if err != nil {
		return Log{}, err
	}
	return cols.read(rd, o, len(header))
}

// readLimited reads a file that may be as large as a log.
func readLimited(r io.Reader, advice string) ([]byte, error) {
	var data bytes.Buffer
	if f, ok := r.(interface{ Stat() (fs.FileInfo, error) }); ok {
		if st, err := f.Stat(); err == nil && st.Mode().IsRegular() && st.Size() <= MaxBytes {
			data.Grow(int(st.Size()) + bytes.MinRead)
		}
	}
	if _, err := data.ReadFrom(io.LimitReader(r, MaxBytes+1)); err != nil {
		return nil, fmt.Errorf("the file could not be read to its end: %w", err)
	}
	if data.Len() > MaxBytes {
		return nil, fmt.Errorf("the file is larger than %d MB; %s", MaxBytes>>20, advice)
	}
	return data.Bytes(), nil
}

// openCSV finds the header of a log and what comes after it.
func openCSV(data []byte, expected string) (rd rows, header []string, line int, err error) {
	if data, err = plainText(data); err != nil {
		return nil, nil, 0, err
	}
	if line, ok := longLine(data); ok {
		return nil, nil, 0, fmt.Errorf("line %d is longer than %d kB; this is no log of readings", line, maxLine>>10)
	}
	// Lines before the header that start with # are comments; they keep their numbers.
	skipped := 0
	for {
		head, rest, found := bytes.Cut(data, []byte("\n"))
		if t := bytes.TrimSpace(head); found && (len(t) == 0 || t[0] == '#') {
			data, skipped = rest, skipped+1
			continue
		}
		break
	}
	if len(bytes.TrimSpace(data)) == 0 {
		return nil, nil, 0, errors.New("the file is empty; a header line and readings were expected")
	}
	first, _, _ := bytes.Cut(data, []byte("\n"))
	sep, err := separator(string(first), skipped+1, expected)
	if err != nil {
		return nil, nil, 0, err
	}
	rd = newRows(data, sep, skipped)
	rec, err := rd.Read()
	if err != nil {
		return nil, nil, 0, fmt.Errorf("line %d: the header could not be read: %v", skipped+1, err)
	}
	return rd, slices.Clone(rec), skipped + 1, nil
}

// plainText takes a byte-order mark off and refuses what is not text.
func plainText(data []byte) ([]byte, error) {
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	for _, m := range []struct{ magic, name string }{{"%PDF", "a PDF document"}, {"PK\x03\x04", "a spreadsheet or an archive"}, {"\x89PNG", "a picture"}, {"\xff\xd8\xff", "a picture"}, {"\x1f\x8b", "a compressed file"}, {"\xd0\xcf\x11\xe0", "an old spreadsheet"}, {"\xff\xfe", "text in UTF-16"}, {"\xfe\xff", "text in UTF-16"}} {
		if bytes.HasPrefix(data, []byte(m.magic)) {
			return nil, fmt.Errorf("this is %s, not a CSV log; save the readings as CSV in UTF-8", m.name)
		}
	}
	sample := data[:min(len(data), 8192)]
	if bytes.IndexByte(sample, 0) >= 0 {
		return nil, errors.New("this is not a text file; save the readings as CSV in UTF-8")
	}
	return data, nil
}

// longLine is the first line that is longer than any log has.
func longLine(data []byte) (int, bool) {
	for line := 1; ; line++ {
		head, rest, found := bytes.Cut(data, []byte("\n"))
		if len(head) > maxLine {
			return line, true
		}
		if !found {
			return 0, false
		}
		data = rest
	}
}

// noNumbers are the words that loggers write where they have no reading.
var noNumbers = map[string]bool{"": true, "nan": true, "null": true, "none": true, "n/a": true, "na": true, "-": true, "--": true, "---": true, "inf": true, "+inf": true, "-inf": true, "err": true, "error": true, "ol": true}

func noNumber(s string) bool {
	if s != "" && s[len(s)-1] >= '0' && s[len(s)-1] <= '9' {
		return false // the plain case first
	}
	return len(s) <= 8 && noNumbers[strings.ToLower(strings.TrimSpace(s))]
}

// rows are the records of a file, one after another.
type rows interface {
	Read() ([]string, error) // valid until the next; io.EOF at the end
	Line() int               // of the record just read
	Most() int               // more records there are not
	Comma() rune
}

// newRows reads by encoding/csv, or, where nothing is quoted, by cutting lines: a log has
// hundreds of thousands of them.
func newRows(data []byte, sep rune, skipped int) rows {
	most := bytes.Count(data, []byte("\n")) + 1
	if bytes.IndexByte(data, '"') < 0 {
		return &plainRows{rest: string(data), sep: byte(sep), line: skipped, most: most}
	}
	rd := csv.NewReader(bytes.NewReader(data))
	rd.Comma = sep
	rd.ReuseRecord = true
	rd.FieldsPerRecord = -1
	rd.LazyQuotes = true
	rd.TrimLeadingSpace = sep != '\t'
	return quotedRows{rd, skipped, most}
}

type quotedRows struct {
	rd            *csv.Reader
	skipped, most int
}

func (q quotedRows) Most() int { return q.most }

func (q quotedRows) Comma() rune { return q.rd.Comma }

func (q quotedRows) Line() int {
	line, _ := q.rd.FieldPos(0)
	return line + q.skipped
}

func (q quotedRows) Read() ([]string, error) {
	rec, err := q.rd.Read()
	var pe *csv.ParseError
	if errors.As(err, &pe) {
		return nil, fmt.Errorf("line %d: %v", pe.Line+q.skipped, pe.Err)
	}
	return rec, err
}

type plainRows struct {
	rest string
	sep  byte
	line int
	most int
	rec  []string
}

func (p *plainRows) Most() int { return p.most }

func (p *plainRows) Comma() rune { return rune(p.sep) }

func (p *plainRows) Line() int { return p.line }

func (p *plainRows) Read() ([]string, error) {
	for p.rest != "" {
		// Fields are short: one look at each byte is quicker than a search for each end.
		p.rec = p.rec[:0]
		from, end := 0, 0
		for ; end < len(p.rest); end++ {
			c := p.rest[end]
			if c == '\n' {
				break
			}
			if c == p.sep {
				p.rec = append(p.rec, p.field(p.rest[from:end]))
				from = end + 1
			}
		}
		last := strings.TrimSuffix(p.rest[from:end], "\r")
		p.rest = p.rest[min(end+1, len(p.rest)):]
		p.line++
		if last == "" && len(p.rec) == 0 {
			continue
		}
		p.rec = append(p.rec, p.field(last))
		return p.rec, nil
	}
	return nil, io.EOF
}

// field is a field without the blanks before it.
func (p *plainRows) field(s string) string {
	if s != "" && (s[0] == ' ' || s[0] == '\t') && p.sep != '\t' {
		return strings.TrimLeft(s, " \t")
	}
	return s
}

// separator chooses the character that splits the header.
func separator(head string, line int, expected string) (rune, error) {
	best, count := ',', 0
	for _, s := range []rune{'\t', ';', ','} {
		if n := strings.Count(head, string(s)); n > count {
			best, count = s, n
		}
	}
	if count == 0 {
		return 0, fmt.Errorf("line %d: one column only; %s, separated by commas, semicolons or tabs, were expected", line, expected)
	}
	return best, nil
}

type layout struct {
	time, pressure, wall int
	timeUnit, pUnit      units.Unit
	wallUnit             units.Unit
	absolute             bool
}

var names = []struct {
	what  string
	words []string
}{
	{"time", []string{"time", "t", "timestamp", "seconds", "elapsed", "zeit", "date", "datetime"}},
	{"pressure", []string{"pressure", "press", "p", "gauge", "vacuum", "druck", "ftp", "dp"}},
	{"wall", []string{"temp", "temperature", "wall", "walltemp", "t_wall", "twall", "temperatur"}},
}

// role says what a header names, by its first word.
func role(h string) string {
	words := strings.FieldsFunc(strings.ToLower(h), func(r rune) bool { return strings.ContainsRune(" _-([{.:/", r) })
	for _, w := range words {
		for _, n := range names {
			for _, x := range n.words {
				if w == x {
					return n.what
				}
			}
		}
	}
	return ""
}

func columns(header []string, o Options, line int) (layout, error) {
	l := layout{time: -1, pressure: -1, wall: -1}
	seen := map[string]string{}
	for i, h := range header {
		h = strings.TrimSpace(h)
		what := role(h)
		if what == "" {
			// A bare unit names its column too: "inH2O;°C".
			if _, ok := units.Guess(h, units.Pressure); ok {
				what = "pressure"
			} else if _, ok := units.Guess(h, units.Time); ok && strings.ToLower(h) != "m" {
				what = "time"
			}
		}
		if what == "" {
			continue
		}
		if other, twice := seen[what]; twice {
			if what == "wall" {
				continue // more than one temperature: the first is taken
			}
			return l, fmt.Errorf("line %d: two %s columns, %q and %q; keep one", line, what, clip(other), clip(h))
		}
		seen[what] = h
		switch what {
		case "time":
			l.time = i
			l.timeUnit = units.Must("s", units.Time)
			if u, ok := units.Guess(h, units.Time); ok {
				l.timeUnit = u
			}
		case "pressure":
			l.pressure = i
			low := strings.ToLower(h)
			l.absolute = strings.Contains(low, "abs")
			u, ok := units.Guess(h, units.Pressure)
			if !ok && o.PressureUnit != "" {
				if u, ok = units.Lookup(o.PressureUnit, units.Pressure); !ok {
					return l, fmt.Errorf("%q is not a unit of pressure; use one of %s", clip(o.PressureUnit), strings.Join(units.Symbols(units.Pressure), ", "))
				}
			}
			l.pUnit = u
		case "wall":
			l.wall = i
			l.wallUnit = units.Must("°C", units.Temperature)
			if o.TemperatureUnit != "" {
				if u, ok := units.Lookup(o.TemperatureUnit, units.Temperature); ok {
					l.wallUnit = u
				}
			}
			if u, ok := units.Guess(h, units.Temperature); ok {
				l.wallUnit = u
			}
		}
	}
	list := func() string {
		var q []string
		for _, h := range header {
			q = append(q, strconv.Quote(clip(h)))
		}
		return strings.Join(q, ", ")
	}
	if l.time < 0 {
		return l, fmt.Errorf("line %d: no time column among %s; name one \"time_s\"", line, clip(list()))
	}
	if l.pressure < 0 {
		return l, fmt.Errorf("line %d: no pressure column among %s; name one \"pressure_inH2O\"", line, clip(list()))
	}
	if l.pUnit.Symbol == "" {
		return l, &NoUnitError{Column: clip(header[l.pressure])}
	}
	return l, nil
}

func (l layout) read(rd rows, o Options, width int) (Log, error) {
	out := Log{Unit: l.pUnit.Symbol}
	most := min(rd.Most(), MaxRows)
	out.Time, out.Gauge = make([]float64, 0, most), make([]float64, 0, most)
	if l.wall >= 0 {
		out.Wall = make([]float64, 0, most)
	}
	var epoch time.Time
	iso := false
	at := rd.Line // asked for only when a sentence needs it
	var n tally
	last := math.Inf(-1)
	for {
		rec, err := rd.Read()
		if err == io.EOF {
			break
		}
		if err != nil {
			return Log{}, err
		}
		if comment(rec) {
			continue
		}
		if n.rows++; n.rows > MaxRows {
			return Log{}, fmt.Errorf("line %d: more than %d readings; cut the log to the test", at(), MaxRows)
		}
		if len(rec) != width {
			return Log{}, fmt.Errorf("line %d: %d columns, the header has %d%s", at(), len(rec), width, hint(rec, width, rd.Comma()))
		}
		t, isISO, err := parseTime(rec[l.time], l.timeUnit, &epoch)
		if err != nil {
			return Log{}, fmt.Errorf("line %d, column %d: %q is not a time; seconds or ISO 8601 were expected", at(), l.time+1, clip(rec[l.time]))
		}
		if math.Abs(t) > maxClock {
			return Log{}, fmt.Errorf("line %d, column %d: a time of %s cannot be; is the unit right?", at(), l.time+1, clip(rec[l.time]))
		}
		if n.rows > 1 && isISO != iso {
			return Log{}, fmt.Errorf("line %d: the time changes from %s", at(), map[bool]string{true: "ISO 8601 to a number", false: "a number to ISO 8601"}[iso])
		}
		iso = isISO
		if noNumber(rec[l.pressure]) {
			if n.lost++; n.lost == 1 {
				n.firstLost = at()
			}
			continue
		}
		p, w, err := l.values(rec, at)
		if err != nil {
			return Log{}, err
		}
		switch {
		case t == last:
			n.doubled++
			continue
		case t < last:
			return Log{}, fmt.Errorf("line %d: time runs backwards, %.6g s after %.6g s; the clock was set, or two logs were joined", at(), t, last)
		}
		if len(out.Time) > 0 && t-out.Time[0] > maxSpan {
			return Log{}, fmt.Errorf("line %d: the log goes on for more than %.0f days; cut it to the test", at(), maxSpan/86400)
		}
		last = t
		out.Time = append(out.Time, t)
		out.Gauge = append(out.Gauge, p)
		if l.wall >= 0 {
			out.Wall = append(out.Wall, w)
		}
	}
	if err := out.settle(n); err != nil {
		return Log{}, err
	}
	if err := out.gauge(l.absolute, o.Barometer); err != nil {
		return Log{}, err
	}
	return out, nil
}

// tally is what the rows of a log came to.
type tally struct{ rows, lost, firstLost, doubled int }

// settle says what was left out, and lets time begin at the first reading.
func (l *Log) settle(n tally) error {
	if float64(n.lost) > mostLost*float64(n.rows) {
		return fmt.Errorf("line %d: no number for a reading, and so for %d of %d; more than one in twenty is no gap", n.firstLost, n.lost, n.rows)
	}
	if n.lost > 0 {
		l.Notes = append(l.Notes, fmt.Sprintf("%d reading(s) had no number, the first in line %d, and were left out as a gap.", n.lost, n.firstLost))
	}
	if n.doubled > 0 {
		l.Notes = append(l.Notes, fmt.Sprintf("%d row(s) repeat a time and were left out.", n.doubled))
	}
	if len(l.Time) < 2 {
		return fmt.Errorf("the file has %d reading(s); a trace needs at least two", len(l.Time))
	}
	l.wholeWall()
	zero := l.Time[0]
	for i := range l.Time {
		l.Time[i] -= zero
	}
	return nil
}

// wholeWall puts the temperature before it where the wall's probe gave none; where it gave
// none too often the wall counts as not measured.
func (l *Log) wholeWall() {
	lost, last := 0, math.NaN()
	for i, w := range l.Wall {
		switch {
		case !math.IsNaN(w):
			if math.IsNaN(last) { // before the first the wall was as warm
				for j := range i {
					l.Wall[j] = w
				}
			}
			last = w
		default:
			lost++
			l.Wall[i] = last
		}
	}
	switch {
	case lost == 0:
	case float64(lost) > mostLost*float64(len(l.Wall)):
		l.Wall = nil
		l.Notes = append(l.Notes, fmt.Sprintf("The wall's probe gave no number in %d of %d readings: the wall counts as not measured.", lost, len(l.Time)))
	default:
		l.Notes = append(l.Notes, fmt.Sprintf("The wall's probe gave no number in %d reading(s); the one before it was taken.", lost))
	}
}

// hint says what most likely gave a row another number of columns than the header.
func hint(rec []string, width int, comma rune) string {
	switch {
	case len(rec) < width:
		return "; the line is cut short, or another separator is used"
	case comma == ',' && !strings.Contains(strings.Join(rec, ""), "."):
		return "; with decimal commas the columns must be separated by semicolons or tabs"
	}
	return ""
}

// values reads the pressure and the wall temperature of a row, in SI units.
func (l layout) values(rec []string, at func() int) (p, w float64, err error) {
	if p, err = number(rec[l.pressure]); err != nil {
		return 0, 0, fmt.Errorf("line %d, column %d: %q is not a pressure in %s", at(), l.pressure+1, clip(rec[l.pressure]), l.pUnit.Symbol)
	}
	if p = l.pUnit.ToSI(p); math.Abs(p) > 1e6 {
		return 0, 0, fmt.Errorf("line %d: %s %s is more than any gauge here can read; is the unit right?", at(), clip(rec[l.pressure]), l.pUnit.Symbol)
	}
	if l.wall < 0 {
		return p, 0, nil
	}
	if noNumber(rec[l.wall]) { // the probe's trouble, not the gauge's
		return p, math.NaN(), nil
	}
	if w, err = number(rec[l.wall]); err != nil {
		return 0, 0, fmt.Errorf("line %d, column %d: %q is not a temperature in %s", at(), l.wall+1, clip(rec[l.wall]), l.wallUnit.Symbol)
	}
	if w = l.wallUnit.ToSI(w); w < 200 || w > 400 {
		return 0, 0, fmt.Errorf("line %d: a temperature of %s %s cannot be; is the unit right?", at(), clip(rec[l.wall]), l.wallUnit.Symbol)
	}
	return p, w, nil
}

// gauge takes the barometer off an absolute trace: one that says so, or one in
// which every reading lies near an atmosphere, which no EVAP system could hold.
func (l *Log) gauge(said bool, barometer float64) error {
	low, high := slices.Min(l.Gauge), slices.Max(l.Gauge)
	looks := low > 60e3 && high < 115e3
	if !said && !looks {
		return nil
	}
	l.Absolute = true
	from := "the barometer given"
	if barometer == 0 {
		n := l.open(high - low)
		if n == 0 {
			return &NoBarometerError{First: l.Gauge[0]}
		}
		for _, p := range l.Gauge[:n] {
			barometer += p / float64(n)
		}
		from = "the first reading, taken as the barometer"
		if n > 1 {
			from = fmt.Sprintf("the mean of the first %d readings, open to the air", n)
		}
	}
	l.Barometer = barometer
	for i := range l.Gauge {
		l.Gauge[i] -= barometer
	}
	l.Notes = append(l.Notes, fmt.Sprintf("The pressure is absolute (%.1f to %.1f kPa): %.2f kPa, %s, was taken off.", low/1e3, high/1e3, barometer/1e3, from))
	return nil
}

// What tells a log that begins open to the air: it stands still, then leaves quickly for
// good, and what follows lasts longer. All chosen here.
const (
	stillWithin = 20.0  // Pa, that readings open to the air may move
	noCharge    = 250.0 // Pa; a log that moves less holds no charge, but a drift leg
	stillLeast  = 3     // readings
)

// open counts the readings at the beginning that stand open to the air; 0 when it cannot
// be told. A hold that leaks away slowly, or begins while the pump runs, must not pass:
// its first reading for the barometer would make a small leak of a large one.
func (l *Log) open(span float64) int {
	if span < noCharge {
		return 1
	}
	still := max(stillWithin, 3*decay.ReadingNoise(l.Gauge))
	n := 0
	for n < len(l.Gauge) && math.Abs(l.Gauge[n]-l.Gauge[0]) <= still {
		n++
	}
	if n < stillLeast || n == len(l.Gauge) {
		return 0
	}
	far := 0
	for i, p := range l.Gauge {
		if math.Abs(p-l.Gauge[0]) > math.Abs(l.Gauge[far]-l.Gauge[0]) {
			far = i
		}
	}
	// From a tenth to nine tenths of the way.
	way := math.Abs(l.Gauge[far] - l.Gauge[0])
	from, to := -1, far
	for i := n; i <= far; i++ {
		d := math.Abs(l.Gauge[i] - l.Gauge[0])
		if from < 0 && d > 0.1*way {
			from = i
		}
		if d > 0.9*way {
			to = i
			break
		}
	}
	if from < 0 {
		return 0
	}
	end := l.Time[len(l.Time)-1]
	quick, before, after := l.Time[to]-l.Time[from], l.Time[from], end-l.Time[to]
	if quick > 90 || after < 2*before || after < quick {
		return 0
	}
	// Readings just before the pump starts may already move: leave the last of them out.
	return max(n-1, stillLeast-1)
}

func number(s string) (float64, error) {
	// The plain case first: a log has hundreds of thousands of these.
	if v, ok := decimal(s); ok {
		return v, nil
	}
	if len(s) > 0 && (s[0] >= '0' && s[0] <= '9' || s[0] == '-') && (len(s) < 2 || s[1] < 'A') {
		if v, err := strconv.ParseFloat(s, 64); err == nil && !math.IsInf(v, 0) {
			return v, nil
		}
	}
	return units.Number(s)
}

// mostDigits is how many digits a whole number may have to be exact as a float64.
const mostDigits = 15

var tens = [mostDigits + 1]float64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15}

// decimal reads figures with a point among them, as instruments write them; ok is false for
// anything else. Whole number and power of ten are exact, so that their quotient is rounded
// once and is what strconv gives (Clinger, How to read floating point numbers accurately,
// ACM SIGPLAN Notices 25, 1990; from memory).
func decimal(s string) (v float64, ok bool) {
	if len(s) > mostDigits {
		return 0, false
	}
	i := 0
	if s != "" && s[0] == '-' {
		i = 1
	}
	if i == len(s) || s[i] == '.' || s[len(s)-1] == '.' {
		return 0, false
	}
	whole, point := uint64(0), len(s)
	for j := i; j < len(s); j++ {
		switch d := s[j] - '0'; {
		case d <= 9:
			whole = 10*whole + uint64(d)
		case s[j] == '.' && point == len(s):
			point = j + 1
		default:
			return 0, false
		}
	}
	v = float64(whole) / tens[len(s)-point]
	if i == 1 {
		v = -v
	}
	return v, true
}

var isoLayouts = []string{time.RFC3339Nano, "2006-01-02T15:04:05.999999999", "2006-01-02 15:04:05.999999999", "2006-01-02T15:04:05", "2006-01-02 15:04:05"}

func parseTime(s string, u units.Unit, epoch *time.Time) (seconds float64, iso bool, err error) {
	if v, err := number(s); err == nil {
		return u.ToSI(v), false, nil
	}
	s = strings.TrimSpace(s)
	if strings.Count(s, "-") >= 2 && strings.Contains(s, ":") {
		for _, layout := range isoLayouts {
			if t, e := time.Parse(layout, strings.Replace(s, ",", ".", 1)); e == nil {
				if epoch.IsZero() {
					*epoch = t
				}
				return t.Sub(*epoch).Seconds(), true, nil
			}
		}
		return 0, true, errors.New("not ISO 8601")
	}
	if strings.Contains(s, ":") { // m:ss or h:mm:ss
		total := 0.0
		for _, part := range strings.Split(s, ":") {
			v, e := number(part)
			if e != nil || v < 0 {
				return 0, false, errors.New("not a time")
			}
			total = total*60 + v
		}
		return total, false, nil
	}
	return 0, false, errors.New("not a time")
}

func clip(s string) string {
	if !utf8.ValidString(s) {
		s = strings.ToValidUTF8(s, "?")
	}
	if r := []rune(s); len(r) > 80 {
		return string(r[:80]) + "…"
	}
	return s
}

// ParsePairs reads typed pairs, one reading a line: a time and a pressure,
// "0:30 11.4" or "30; 11,4". They become a log as if they came from a file.
func ParsePairs(text string, o Options) (Log, error) {
	u, ok := units.Lookup(o.PressureUnit, units.Pressure)
	if !ok {
		return Log{}, fmt.Errorf("choose the unit of the typed pressures")
	}
	if len(text) > 1<<20 {
		return Log{}, errors.New("more than a megabyte was typed; use a CSV file")
	}
	out := Log{Unit: u.Symbol}
	var epoch time.Time
	for i, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		f := strings.FieldsFunc(line, func(r rune) bool { return r == ' ' || r == '\t' || r == ';' || r == '\r' || r == '\u00a0' })
		if len(f) == 1 && strings.Count(line, ",") == 1 {
			f = strings.Split(line, ",")
		}
		if len(f) != 2 {
			return Log{}, fmt.Errorf("line %d: %q is not a pair; write a time and a pressure, for example \"30 11.4\"", i+1, clip(line))
		}
		t, _, err := parseTime(f[0], units.Must("s", units.Time), &epoch)
		if err != nil {
			return Log{}, fmt.Errorf("line %d: %q is not a time in seconds or m:ss", i+1, clip(f[0]))
		}
		p, err := units.Number(f[1])
		if err != nil {
			return Log{}, fmt.Errorf("line %d: %q is not a pressure", i+1, clip(f[1]))
		}
		if math.Abs(u.ToSI(p)) > 1e6 {
			return Log{}, fmt.Errorf("line %d: %s %s is more than any gauge here can read", i+1, clip(f[1]), u.Symbol)
		}
		if n := len(out.Time); n > 0 && t <= out.Time[n-1] {
			return Log{}, fmt.Errorf("line %d: time must rise; %s comes after %.6g s", i+1, clip(f[0]), out.Time[n-1])
		}
		out.Time, out.Gauge = append(out.Time, t), append(out.Gauge, u.ToSI(p))
	}
	if len(out.Time) < 2 {
		return Log{}, fmt.Errorf("%d reading(s) typed; a trace needs at least two, a hold at least six", len(out.Time))
	}
	return out, nil
}
