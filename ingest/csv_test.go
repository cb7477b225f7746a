package ingest_test

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"
	"time"

	"wexter/core/units"
	"wexter/ingest"
)

func TestReadsWhatLoggersWrite(t *testing.T) {
	for _, c := range []struct {
		name, text string
		unit       string
		p1         float64 // Pa, second reading
		t1         float64 // s
		wall       float64 // K, 0 none
	}{
		{"plain", "time_s,pressure_inH2O\n0,13\n0.5,12.9\n", "", 12.9 * units.InH2O, 0.5, 0},
		{"any order", "temp (°C),pressure (kPa),t\n20,3.2,0\n21,3.1,2\n", "", 3100, 2, 294.15},
		{"semicolons and decimal commas", "Zeit;Druck [hPa];Temperatur\n0,0;32,5;20,5\n0,5;32,4;20,6\n", "", 3240, 0.5, 293.75},
		{"tabs, mark, carriage returns", "\xef\xbb\xbftime\tp_Pa\r\n10\t100\r\n11\t99\r\n", "", 99, 1, 0},
		{"ISO time", "timestamp,gauge psi\n2026-03-01T10:00:00.000Z,0.5\n2026-03-01T10:00:00.250Z,0.4\n", "", 0.4 * units.Psi, 0.25, 0},
		{"clock time", "time,pressure_Pa\n1:00,5\n1:30,4\n", "", 4, 30, 0},
		{"minutes", "time (min),pressure_Pa\n0,5\n1,4\n", "", 4, 60, 0},
		{"comments and blanks", "# module 3\n\ntime,pressure_Pa\n0,5\n\n# a mark\n1,4\n", "", 4, 1, 0},
		{"unit supplied", "time,pressure\n0,13\n1,12\n", "inH2O", 12 * units.InH2O, 1, 0},
		{"other columns are left alone", "time,pressure_Pa,remark,rpm\n0,5,x,0\n1,4,\"y, z\",0\n", "", 4, 1, 0},
		{"vacuum", "time,vacuum_inH2O\n0,-8\n1,-7.5\n", "", -7.5 * units.InH2O, 1, 0},
		{"a bare unit", "s;inH2O\n0;1\n1;2\n", "", 2 * units.InH2O, 1, 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			l, err := ingest.ReadCSV(strings.NewReader(c.text), ingest.Options{PressureUnit: c.unit})
			if err != nil {
				t.Errorf("%s: %v", c.name, err)
				return
			}
			if math.Abs(l.Gauge[1]-c.p1) > 1e-6*math.Abs(c.p1) || math.Abs(l.Time[1]-c.t1) > 1e-9 {
				t.Errorf("%s: %g Pa at %g s, want %g at %g", c.name, l.Gauge[1], l.Time[1], c.p1, c.t1)
			}
			if c.wall == 0 && l.Wall != nil || c.wall != 0 && math.Abs(l.Wall[1]-c.wall) > 1e-9 {
				t.Errorf("%s: wall %v, want %g", c.name, l.Wall, c.wall)
			}
		})
	}
}

func TestEveryBadFileGetsASentence(t *testing.T) {
	for _, c := range []struct{ name, text, say string }{
		{"empty", "", "the file is empty"},
		{"blank", " \n \n", "the file is empty"},
		{"header only", "time,pressure_Pa\n", "0 reading(s)"},
		{"one row", "time,pressure_Pa\n0,1\n", "1 reading(s)"},
		{"no pressure", "time,rpm\n0,1\n1,2\n", "no pressure column"},
		{"no time", "pressure_Pa,rpm\n0,1\n1,2\n", "no time column"},
		{"one column", "pressure_Pa\n0\n", "one column only"},
		{"two pressures", "time,pressure_Pa,pressure_kPa\n0,1,2\n", "two pressure columns"},
		{"no unit", "time,pressure\n0,1\n1,2\n", "has no unit"},
		{"text", "time,pressure_Pa\n0,1\n1,high\n", "line 3, column 2: \"high\" is not a pressure in Pa"},
		{"NaN", "time,pressure_Pa\n0,1\n1,NaN\n", "line 3: no number for a reading"},
		{"infinity", "time,pressure_Pa\n0,1\n1,Inf\n", "line 3: no number for a reading"},
		{"long line", "time,pressure_Pa\n0,1\n1," + strings.Repeat("2", 70<<10) + "\n", "line 3 is longer than 64 kB"},
		{"far off time", "time_s,pressure_Pa\n1e300,1\n2e300,2\n", "line 2, column 1: a time of 1e300 cannot be"},
		{"a log of years", "time_s,pressure_Pa\n0,1\n1,2\n1e9,2\n", "line 4: the log goes on for more than 7 days"},
		{"bad time", "time,pressure_Pa\nzero,1\n1,2\n", "line 2, column 1: \"zero\" is not a time"},
		{"backwards", "time,pressure_Pa\n5,1\n6,2\n4,3\n", "line 4: time runs backwards"},
		{"short line", "time,pressure_Pa,temp\n0,1,20\n1,2\n", "line 3: 2 columns, the header has 3"},
		{"mixed separators", "time,pressure_Pa\n0,1\n1;2\n", "line 3: 1 columns"},
		{"decimal commas between commas", "time,pressure_Pa\n0,1\n1,2,5\n", "decimal commas"},
		{"time changes its kind", "time,pressure_Pa\n0,1\n2026-01-01 10:00:00,2\n", "line 3: the time changes"},
		{"temperature", "time,pressure_Pa,temp_C\n0,1,20\n1,2,2000\n", "line 3: a temperature of 2000"},
		{"kilopascals called bar", "time,pressure_bar\n0,1\n1,300\n", "is the unit right?"},
		{"PDF", "%PDF-1.7\n%âãÏÓ", "a PDF document"},
		{"spreadsheet", "PK\x03\x04xxxx", "spreadsheet"},
		{"picture", "\x89PNG\r\n\x1a\n", "a picture"},
		{"UTF-16", "\xff\xfet\x00i\x00", "UTF-16"},
		{"binary", "time,p\x00\x01\x02", "not a text file"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := ingest.ReadCSV(strings.NewReader(c.text), ingest.Options{})
			if err == nil || !strings.Contains(err.Error(), c.say) {
				t.Errorf("%s: %v; want a sentence with %q", c.name, err, c.say)
			}
		})
	}
	var unit *ingest.NoUnitError
	if _, err := ingest.ParseCSV([]byte("time,pressure\n0,1\n"), ingest.Options{}); !errors.As(err, &unit) || !strings.Contains(err.Error(), "--pressure-unit") {
		t.Errorf("a missing unit is told as %v", err)
	}
}

// endless gives the same row over and over, and counts what was taken.
type endless struct{ taken int }

func (e *endless) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = "1,1\n"[(e.taken+i)%4]
	}
	e.taken += len(p)
	return len(p), nil
}

// What is too long is read no further than it takes to see that: a file without end to one
// byte over the limit, rows without end to the first that is too many.
func TestTooLongIsReadNoFurther(t *testing.T) {
	e := &endless{}
	if _, err := ingest.ReadCSV(e, ingest.Options{}); err == nil || !strings.Contains(err.Error(), "larger than 64 MB") || e.taken > ingest.MaxBytes+1 {
		t.Errorf("without end: %v after %d bytes", err, e.taken)
	}
	var b strings.Builder
	b.WriteString("time,pressure_Pa\n")
	for i := range 5_000_000 {
		fmt.Fprintf(&b, "%d.%02d,1\n", i/100, i%100)
	}
	want := fmt.Sprintf("line %d: more than %d readings", ingest.MaxRows+2, ingest.MaxRows)
	if _, err := ingest.ReadCSV(strings.NewReader(b.String()), ingest.Options{}); err == nil || !strings.Contains(err.Error(), want) {
		t.Errorf("five million rows: %v, want %q", err, want)
	}
}

func TestDuplicatesAndAbsolutePressureAreSaid(t *testing.T) {
	l, err := ingest.ParseCSV([]byte("time,pressure_Pa\n0,5\n0,5\n1,4\n"), ingest.Options{})
	if err != nil || len(l.Time) != 2 || len(l.Notes) != 1 || !strings.Contains(l.Notes[0], "1 row(s) repeat") {
		t.Errorf("%+v %v", l, err)
	}
	l, err = ingest.ParseCSV([]byte("time,pressure_kPa_abs\n0,104.5\n1,104.4\n"), ingest.Options{Barometer: 101300})
	if err != nil || math.Abs(l.Gauge[0]-3200) > 1 {
		t.Errorf("absolute with a barometer: %+v %v", l, err)
	}
}

func TestParsePairs(t *testing.T) {
	l, err := ingest.ParsePairs("0 13\n0:30 11,4\n# wind\n60; 10.1\n", ingest.Options{PressureUnit: "inH2O"})
	if err != nil || len(l.Time) != 3 || l.Time[1] != 30 || math.Abs(l.Gauge[1]-11.4*units.InH2O) > 1e-9 {
		t.Fatalf("%+v %v", l, err)
	}
	for _, c := range []struct{ text, unit, say string }{
		{"0 13\n30", "inH2O", "line 2: \"30\" is not a pair"},
		{"0 13\n30 x", "inH2O", "line 2: \"x\" is not a pressure"},
		{"x 13", "inH2O", "line 1: \"x\" is not a time"},
		{"0 13\n0 12", "inH2O", "line 2: time must rise"},
		{"0 13", "inH2O", "1 reading(s) typed"},
		{"0 13", "", "choose the unit"},
		{"0 13 14", "inH2O", "not a pair"},
	} {
		t.Run(c.say, func(t *testing.T) {
			if _, err := ingest.ParsePairs(c.text, ingest.Options{PressureUnit: c.unit}); err == nil || !strings.Contains(err.Error(), c.say) {
				t.Errorf("%q: %v; want %q", c.text, err, c.say)
			}
		})
	}
}

func FuzzReadCSV(f *testing.F) {
	for _, s := range []string{"time,pressure_Pa\n0,1\n1,2\n", "t;p_kPa\n0,0;1,5\n", "\xef\xbb\xbfzeit\tdruck\n", "#\n", "time,p\n\"", "s,Pa\n1:2:3,4\n"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		l, err := ingest.ParseCSV(data, ingest.Options{PressureUnit: "Pa"})
		if err != nil {
			if err.Error() == "" {
				t.Error("an error without words")
			}
			return
		}
		if len(l.Time) != len(l.Gauge) || l.Wall != nil && len(l.Wall) != len(l.Time) {
			t.Fatal("columns of unequal length")
		}
		for i, p := range l.Gauge {
			if math.IsNaN(p) || math.IsInf(p, 0) || i > 0 && l.Time[i] <= l.Time[i-1] {
				t.Fatalf("reading %d: %g Pa at %g s", i, p, l.Time[i])
			}
		}
	})
}

// BenchmarkCSVAgainstTheStandardLibrary reads an hour of a 10 Hz log and, in the
// same run, the same bytes by encoding/csv with their numbers converted; the ratio
// is what is asked to stay below 2.
func BenchmarkCSVAgainstTheStandardLibrary(b *testing.B) {
	var t strings.Builder
	t.WriteString("time_s,pressure_inH2O,temp_C\n")
	for i := range 36000 {
		fmt.Fprintf(&t, "%.1f,%.3f,%.2f\n", float64(i)/10, 13-float64(i)/4000, 20+float64(i%50)/100)
	}
	data := []byte(t.String())
	var ours, theirs time.Duration
	for b.Loop() {
		at := time.Now()
		if _, err := ingest.ParseCSV(data, ingest.Options{}); err != nil {
			b.Fatal(err)
		}
		ours += time.Since(at)
		theirs += byStandardLibrary(b, data)
	}
	b.ReportMetric(ours.Seconds()/theirs.Seconds(), "times-stdlib")
}

// byStandardLibrary is how long encoding/csv takes to read a log with its numbers converted.
func byStandardLibrary(b *testing.B, data []byte) time.Duration {
	at := time.Now()
	rd := csv.NewReader(bytes.NewReader(data))
	rd.ReuseRecord = true
	if _, err := rd.Read(); err != nil {
		b.Fatal(err)
	}
	for {
		rec, err := rd.Read()
		if err == io.EOF {
			return time.Since(at)
		}
		for _, f := range rec {
			if _, err := strconv.ParseFloat(f, 64); err != nil {
				b.Fatal(err)
			}
		}
	}
}

// Typed pairs are taken whole or refused in a sentence; what is taken is a trace that can
// be judged: time rises, and every pressure is finite.
func FuzzParsePairs(f *testing.F) {
	for _, s := range []string{"0 13\n30 12.4\n60 11.9", "0;13,0\n1:30;12,1", "0 13 inH2O\n1 min 12 inH2O", "0 13\n0 12", "a b", "0 13\n\n\n30", "0 1e400\n1 2", "5 1\n3 1", "0\t13\r\n30\t12"} {
		f.Add(s, "inH2O")
		f.Add(s, "")
	}
	f.Fuzz(func(t *testing.T, text, unit string) {
		l, err := ingest.ParsePairs(text, ingest.Options{PressureUnit: unit})
		if err != nil {
			if strings.TrimSpace(err.Error()) == "" {
				t.Fatal("refused without a word")
			}
			return
		}
		if len(l.Time) != len(l.Gauge) || len(l.Time) == 0 {
			t.Fatalf("%d times and %d pressures", len(l.Time), len(l.Gauge))
		}
		for i := range l.Time {
			if math.IsNaN(l.Gauge[i]) || math.IsInf(l.Gauge[i], 0) || math.IsNaN(l.Time[i]) || i > 0 && l.Time[i] <= l.Time[i-1] {
				t.Fatalf("pair %d: %g s, %g Pa", i, l.Time[i], l.Gauge[i])
			}
		}
	})
}

// absolute writes a log of absolute pressures at 5 Hz, kPa over 101.3 by f.
func absolute(seconds float64, f func(t float64) float64) []byte {
	var b bytes.Buffer
	b.WriteString("time_s,pressure_kPa\n")
	for i := range int(seconds * 5) {
		t := float64(i) / 5
		fmt.Fprintf(&b, "%.1f,%.4f\n", t, 101.3+f(t)+0.002*math.Sin(7.3*float64(i)))
	}
	return b.Bytes()
}

// An absolute log says its barometer only where it begins open to the air: a hold that
// begins charged, or while the pump runs, would make its leak larger or smaller by far.
func TestBarometerOfAnAbsoluteLog(t *testing.T) {
	leak := func(t float64) float64 { return 3 * math.Exp(-t/300) }
	pumped := func(wait, charge float64) func(t float64) float64 {
		return func(t float64) float64 {
			if t < wait {
				return 0
			}
			if t < wait+charge {
				return 3 * (t - wait) / charge
			}
			return leak(t - wait - charge)
		}
	}
	for _, c := range []struct {
		name string
		log  []byte
		told bool
	}{
		{"open, then charged", absolute(240, pumped(4, 8)), true},
		{"open, then drawn down", absolute(240, func(t float64) float64 { return -pumped(4, 20)(t) }), true},
		{"a drift leg", absolute(90, func(t float64) float64 { return 0.0004 * t }), true},
		{"begins in mid-pump", absolute(240, func(t float64) float64 { return pumped(4, 20)(t + 12) }), false},
		{"begins charged", absolute(240, leak), false},
		{"begins charged and leaks fast", absolute(240, func(t float64) float64 { return 3 * math.Exp(-t/12) }), false},
		{"charged, then opened", absolute(240, func(t float64) float64 {
			if t > 230 {
				return 0
			}
			return 3 * math.Exp(-t/5000)
		}), false},
	} {
		t.Run(c.name, func(t *testing.T) {
			l, err := ingest.ParseCSV(c.log, ingest.Options{})
			var no *ingest.NoBarometerError
			switch {
			case c.told && (err != nil || !l.Absolute || math.Abs(l.Barometer-101300) > 12):
				t.Errorf("barometer %.0f Pa, %v", l.Barometer, err)
			case !c.told && !errors.As(err, &no):
				t.Errorf("taken with a barometer of %.0f Pa, %v", l.Barometer, err)
			}
			given, err := ingest.ParseCSV(c.log, ingest.Options{Barometer: 101300})
			if err != nil || given.Barometer != 101300 {
				t.Errorf("with the barometer given: %.0f Pa, %v", given.Barometer, err)
			}
		})
	}
}

// One reading without a number among hundreds is a gap, and said.
func TestReadingWithoutANumberIsAGap(t *testing.T) {
	for _, word := range []string{"NaN", "nan", "", "null", "-", "Inf", "---"} {
		var b strings.Builder
		b.WriteString("time_s;pressure_Pa\n")
		for i := range 400 {
			if i == 200 {
				fmt.Fprintf(&b, "%d;%s\n", i, word)
				continue
			}
			fmt.Fprintf(&b, "%d;%d\n", i, 3000-i)
		}
		l, err := ingest.ParseCSV([]byte(b.String()), ingest.Options{})
		if err != nil || len(l.Time) != 399 || len(l.Notes) != 1 || !strings.Contains(l.Notes[0], "1 reading(s) had no number, the first in line 202") {
			t.Errorf("%q: %d readings, %q, %v", word, len(l.Time), l.Notes, err)
		}
	}
}

// A log is read alike whether anything in it is quoted or not.
func TestQuotesChangeNothing(t *testing.T) {
	for _, log := range []string{
		"time_s,pressure_Pa,wall_C\n0,3000,20\n1, 2990 ,20.1\r\n\n# note\n2,2980,20.2\n",
		"time_s;pressure_Pa\n0;3000,5\n 1;2990,25\n2;2980",
		"time_s\tpressure_Pa\n0\t3000\n\n1\t2990\n",
		"time_s,pressure_Pa\n0,3000\n1\n",
		"time_s,pressure_Pa\n0,3000\n\n1,x\n",
	} {
		plain, err := ingest.ParseCSV([]byte(log), ingest.Options{})
		quoted, errQuoted := ingest.ParseCSV([]byte(strings.Replace(log, "time_s", `"time_s"`, 1)), ingest.Options{})
		if fmt.Sprint(plain, err) != fmt.Sprint(quoted, errQuoted) {
			t.Errorf("%q: %v, %v; with quotes %v, %v", log, plain, err, quoted, errQuoted)
		}
	}
}

// What is read the short way is to the last bit what the library reads.
func TestDecimalIsExact(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 5))
	for _, s := range []string{"0", "-0", "0.1", "13.000", "-3238.15712", "999999999999999", "0.00000000000001", "123456789.012345", "00012.50", "7."} {
		checkDecimal(t, s)
	}
	for range 20_000 {
		checkDecimal(t, strconv.FormatFloat((rng.Float64()-0.5)*math.Pow(10, float64(rng.IntN(9))), 'f', rng.IntN(8), 64))
	}
	for _, s := range []string{"", "-", ".", "-.", "1.2.3", "1e5", "+1", "1,5", "NaN", " 1", ".5", "--1"} {
		if v, ok := ingest.Decimal(s); ok {
			t.Errorf("%q was read as %g the short way", s, v)
		}
	}
}

func checkDecimal(t *testing.T, s string) {
	t.Helper()
	v, ok := ingest.Decimal(s)
	want, err := strconv.ParseFloat(s, 64)
	if ok && (err != nil || math.Float64bits(v) != math.Float64bits(want)) {
		t.Fatalf("%q: %g, want %g", s, v, want)
	}
	if !ok && len(s) <= 15 && s != "7." {
		t.Errorf("%q takes the long way", s)
	}
}

// A wall probe that gives no numbers leaves the pressures as they are: for a moment the wall
// is as warm as before, and without numbers it counts as not measured.
func TestWallWithoutNumbers(t *testing.T) {
	for _, c := range []struct {
		name    string
		silent  func(i int) bool
		measure bool
		say     string
	}{
		{"for a moment", func(i int) bool { return i == 7 }, true, "the one before it was taken"},
		{"at first", func(i int) bool { return i < 2 }, true, "in 2 reading(s)"},
		{"always", func(int) bool { return true }, false, "counts as not measured"},
		{"often", func(i int) bool { return i%3 == 0 }, false, "in 34 of 100"},
		{"never", func(int) bool { return false }, true, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			text := "time_s,pressure_inH2O,temp_C\n"
			for i := range 100 {
				wall := fmt.Sprintf("%.1f", 20+float64(i)/50)
				if c.silent(i) {
					wall = "NaN"
				}
				text += fmt.Sprintf("%d,%.2f,%s\n", i, 13-float64(i)/100, wall)
			}
			l, err := ingest.ParseCSV([]byte(text), ingest.Options{})
			if err != nil || len(l.Time) != 100 || (l.Wall != nil) != c.measure {
				t.Fatalf("%d readings, %d walls, %v", len(l.Time), len(l.Wall), err)
			}
			for i, w := range l.Wall {
				if math.Abs(w-293.15-float64(i)/50) > 0.05 {
					t.Errorf("reading %d: a wall of %g K", i, w)
				}
			}
			if said := strings.Join(l.Notes, " "); !strings.Contains(said, c.say) || (c.say == "") != (said == "") {
				t.Errorf("said %q", said)
			}
		})
	}
}
