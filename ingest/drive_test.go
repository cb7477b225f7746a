package ingest_test

import (
	"bytes"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"wexter/core/trim"
	"wexter/core/units"
	"wexter/ingest"
)

func TestDriveHeaders(t *testing.T) {
	for _, c := range []struct {
		head string
		cell string
		is   trim.Channel
		want float64 // SI
	}{
		{"SHRTFT1", "12.5", trim.Short1, 0.125},
		{"short term fuel trim bank 1 (%)", "12.5", trim.Short1, 0.125},
		{"Short Term Fuel Trim - Bank 2 [%]", "-3.9", trim.Short2, -0.039},
		{"STFT B1 %", "4", trim.Short1, 0.04},
		{"stft2", "4", trim.Short2, 0.04},
		{"06", "4", trim.Short1, 0.04},
		{"PID 07", "-8", trim.Long1, -0.08},
		{"0x09", "-8", trim.Long2, -0.08},
		{"LONGFT2_pct", "-8", trim.Long2, -0.08},
		{"Long fuel trim 1", "8", trim.Long1, 0.08},
		{"LTFT_B2 (%)", "8", trim.Long2, 0.08},
		{"RPM", "812.25", trim.Speed, 812.25},
		{"Engine speed (rpm)", "812", trim.Speed, 812},
		{"010C", "812", trim.Speed, 812},
		{"MAF", "3.1", trim.MeteredAir, 3.1e-3},
		{"MAF (kg/h)", "36", trim.MeteredAir, 0.01},
		{"maf_g_s", "3.1", trim.MeteredAir, 3.1e-3},
		{"Mass air flow rate (lb/min)", "1", trim.MeteredAir, units.Pound / 60},
		{"MAP", "35", trim.ManifoldPressure, 35e3},
		{"MAP_inHg", "10", trim.ManifoldPressure, 10 * units.InHg},
		{"Intake manifold absolute pressure (psi)", "5", trim.ManifoldPressure, 5 * units.Psi},
		{"LOAD_PCT", "30", trim.Load, 0.3},
		{"LOAD_PCT (%)", "0.3", trim.Load, 0.3},
		{"MAP (kPa)", "35", trim.ManifoldPressure, 35e3},
		{"ECT (°C)", "90", trim.Coolant, 363.15},
		{"Calculated engine load (%)", "30", trim.Load, 0.3},
		{"TP", "16", trim.Throttle, 0.16},
		{"Throttle position (%)", "16", trim.Throttle, 0.16},
		{"VSS", "36", trim.RoadSpeed, 10},
		{"Vehicle speed (mph)", "25", trim.RoadSpeed, 25 * units.Mile / 3600},
		{"speed_kmh", "36", trim.RoadSpeed, 10},
		{"ECT", "90", trim.Coolant, 363.15},
		{"Coolant temperature (°F)", "194", trim.Coolant, 363.15},
		{"coolant temp", "194", trim.Coolant, 363.15},
		{"IAT", "25", trim.IntakeAir, 298.15},
		{"Intake air temperature [°C]", "25", trim.IntakeAir, 298.15},
		{"FUELSYS1", "2", trim.FuelSystem, 2},
		{"Fuel system status", "OL-Drive", trim.FuelSystem, 4},
		{"Fuel system status", "\"Closed loop, using sensors\"", trim.FuelSystem, 2},
		{"fuel system", "512", trim.FuelSystem, 2},
		{"EVAP_PCT", "40", trim.Purge, 0.4},
		{"Commanded purge", "0.4", trim.Purge, 0.4},
		{"Commanded evaporative purge (%)", "40", trim.Purge, 0.4},
		{"EGR_PCT", "20", trim.Recirculation, 0.2},
		{"Commanded EGR (%)", "20", trim.Recirculation, 0.2},
		{"LAMBDA1", "0.99", trim.Lambda, 0.99},
		{"AFR", "14.7", trim.Lambda, 1},
		{"Boost pressure (kPa)", "150", trim.ChargePressure, 150e3},
		{"boost_psi", "7", trim.ChargePressure, 101325 + 7*units.Psi},
		{"BARO", "99", trim.Barometer, 99e3},
		{"Barometric pressure (hPa)", "990", trim.Barometer, 99e3},
	} {
		t.Run(c.head, func(t *testing.T) {
			text := "time_s," + strings.ReplaceAll(c.head, ",", " ")
			row := "," + c.cell
			// What a drive needs beside it, unless it is that.
			if c.is != trim.Speed {
				text, row = text+",RPM", row+",800"
			}
			if c.is != trim.Short1 && c.is != trim.Long1 {
				text, row = text+",LONGFT1", row+",4.7"
			}
			d, err := ingest.ParseDrive([]byte(text + "\n0" + row + "\n1" + row + "\n"))
			if err != nil {
				t.Fatal(err)
			}
			v := d.Log.Value[c.is]
			if v == nil {
				t.Fatalf("not recognised")
			}
			if math.Abs(v[1]-c.want) > 1e-6*math.Abs(c.want) {
				t.Errorf("%g, want %g", v[1], c.want)
			}
		})
	}
}

// TestDriveHeadersThatMeanSomethingElse keeps what is named alike out.
func TestDriveHeadersThatMeanSomethingElse(t *testing.T) {
	for _, h := range []string{"Desired idle rpm", "Fan rpm", "EVAP system pressure (kPa)", "EGR error (%)", "EGR temperature", "Ambient air temperature", "Target boost (kPa)", "MAF voltage (V)", "Fuel pressure (kPa)",
		"Absolute load (%)", "Short term fuel trim bank 3 (%)", "Timing advance (°)", "O2 sensor 1 (V)", "Run time since start (s)", "Fuel level (%)", "Remarks", "0A", "1F"} {
		d, err := ingest.ParseDrive([]byte("time_s,SHRTFT1,RPM," + h + "\n0,1,800,5\n1,2,800,5\n"))
		if err != nil {
			t.Errorf("%s: %v", h, err)
			continue
		}
		for c, v := range d.Log.Value {
			if v != nil && trim.Channel(c) != trim.Short1 && trim.Channel(c) != trim.Speed {
				t.Errorf("%s was taken for the %s", h, trim.Channel(c))
			}
		}
	}
}

// TestDriveWritings reads one drive in all the ways in which loggers write it.
func TestDriveWritings(t *testing.T) {
	for _, c := range []struct{ name, text, note string }{
		{"plain", "time_s,SHRTFT1,LONGFT1,RPM,MAF\n0,1.56,12.5,800,3\n0.5,-1.56,12.5,810,3.1\n", ""},
		{"semicolons and decimal commas", "Time (s);SHRTFT1;LONGFT1;RPM;MAF\n0;1,56;12,5;800;3\n0,5;-1,56;12,5;810;3,1\n", ""},
		{"tabs, mark, carriage returns, other order", "\xef\xbb\xbfMAF\tRPM\tLONGFT1\tSHRTFT1\ttime\r\n3\t800\t12.5\t1.56\t0\r\n3.1\t810\t12.5\t-1.56\t0.5\r\n", ""},
		{"ISO time", "timestamp,SHRTFT1,LONGFT1,RPM,MAF\n2026-03-01T10:00:00Z,1.56,12.5,800,3\n2026-03-01T10:00:00.5Z,-1.56,12.5,810,3.1\n", ""},
		{"day and time", "date,time,SHRTFT1,LONGFT1,RPM,MAF\n1.3.2026,10:00:00,1.56,12.5,800,3\n1.3.2026,10:00:00.5,-1.56,12.5,810,3.1\n", ""},
		{"milliseconds", "time (ms),SHRTFT1,LONGFT1,RPM,MAF\n0,1.56,12.5,800,3\n500,-1.56,12.5,810,3.1\n", ""},
		{"each at its own rate", "time_s,SHRTFT1,LONGFT1,RPM,MAF\n0,1.56,12.5,,\n0,,,800,3\n0.5,-1.56,,,\n0.5,,12.5,810,3.1\n", ""},
		{"doubled rows", "time_s,SHRTFT1,LONGFT1,RPM,MAF\n0,1.56,12.5,800,3\n0,1.56,12.5,800,3\n0.5,-1.56,12.5,810,3.1\n0.5,-1.56,12.5,810,3.1\n", "2 row(s) repeat"},
		{"fractions", "time_s,SHRTFT1,LONGFT1,RPM,MAF\n0,0.0156,0.125,800,3\n0.5,-0.0156,0.125,810,3.1\n", "written as fractions"},
		{"fractions that say percent", "time_s,SHRTFT1 (%),LONGFT1 (%),RPM,MAF\n0,0.0156,0.125,800,3\n0.5,-0.0156,0.125,810,3.1\n", "though the header says percent"},
		{"factors", "time_s,SHRTFT1,LONGFT1,RPM,MAF\n0,1.0156,1.125,800,3\n0.5,0.9844,1.125,810,3.1\n", "factors about 1"},
		{"bytes", "time_s,SHRTFT1,LONGFT1,RPM,MAF\n0,130,144,800,3\n0.5,126,144,810,3.1\n", "bytes about 128"},
		{"thousands", "time_s,SHRTFT1,LONGFT1,RPM,MAF\n0,1.56,12.5,0.8,3\n0.5,-1.56,12.5,0.81,3.1\n", "in thousands"},
		{"signs", "time_s,SHRTFT1,LONGFT1,RPM,MAF\n0,1.56%,12.5 %,800,3\n0.5,−1.56%,12.5 %,810,3.1\n", ""},
		{"nothing read in a column", "time_s,SHRTFT1,LONGFT1,RPM,MAF,MAP\n0,1.56,12.5,800,3,\n0.5,-1.56,12.5,810,3.1,n/a\n", "taken as not logged: manifold pressure"},
		{"comments", "# a drive\n\ntime_s,SHRTFT1,LONGFT1,RPM,MAF\n0,1.56,12.5,800,3\n# a mark\n0.5,-1.56,12.5,810,3.1\n", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			d, err := ingest.ReadDrive(strings.NewReader(c.text))
			if err != nil {
				t.Fatal(err)
			}
			last := func(c trim.Channel) (first, last float64) {
				v := slices.DeleteFunc(slices.Clone(d.Log.Value[c]), math.IsNaN)
				return v[0], v[len(v)-1]
			}
			for _, w := range []struct {
				c           trim.Channel
				first, last float64
			}{{trim.Short1, 0.0156, -0.0156}, {trim.Long1, 0.125, 0.125}, {trim.Speed, 800, 810}, {trim.MeteredAir, 3e-3, 3.1e-3}} {
				if a, b := last(w.c); math.Abs(a-w.first) > 1e-4*math.Max(1, w.first) || math.Abs(b-w.last) > 1e-4*math.Max(1, w.last) {
					t.Errorf("%s: %g to %g, want %g to %g", w.c, a, b, w.first, w.last)
				}
			}
			if n := len(d.Log.Time); math.Abs(d.Log.Time[n-1]-0.5) > 1e-9 {
				t.Errorf("it ends at %g s", d.Log.Time[n-1])
			}
			noted := strings.Join(d.Notes, " ")
			if !strings.Contains(noted, c.note) || c.note == "" && noted != "" {
				t.Errorf("notes: %q", noted)
			}
		})
	}
}

func TestEveryBadDriveGetsASentence(t *testing.T) {
	const head = "time_s,SHRTFT1,LONGFT1,RPM,MAF\n"
	for _, c := range []struct{ name, text, say string }{
		{"empty", "", "the file is empty"},
		{"one column", "time_s\n0\n1\n", "one column only"},
		{"no header", "0,1.56,12.5,800,3\n1,1.56,12.5,800,3\n", "line 1: readings where the header was expected"},
		{"ten columns of nothing", "a,b1x,c,d,e,f,g,h,i,j\n1,2,3,4,5,6,7,8,9,0\n", "none of the 10 columns is one of a drive log"},
		{"no time", "SHRTFT1,RPM\n1,800\n2,800\n", "no time column"},
		{"no trims", "time_s,RPM,MAF\n0,800,3\n1,800,3\n", "no fuel trim"},
		{"bank 2 alone", "time_s,SHRTFT2,RPM\n0,1,800\n1,2,800\n", "bank 2 only"},
		{"no engine speed", "time_s,SHRTFT1,MAF\n0,1,3\n1,2,3\n", "no engine speed"},
		{"two trims of one bank", "time_s,SHRTFT1,STFT B1,RPM\n0,1,1,800\n1,1,1,800\n", "two columns for the short trim of bank 1"},
		{"one row", head + "0,1,1,800,3\n", "1 row(s)"},
		{"half a row", head + "0,1,1,800,3\n1,1,1\n", "line 3: 3 columns, the header has 5; the line is cut short"},
		{"decimal commas between commas", head + "0,1,1,1,2,800,3\n", "decimal commas"},
		{"no time in a row", head + "0,1,1,800,3\nx,1,1,800,3\n", "line 3, column 1: \"x\" is not a time"},
		{"a word", head + "0,1,1,800,3\n1,1,1,many,3\n", "line 3, column 4: \"many\" is not a number for the engine speed"},
		{"no state", "time_s,SHRTFT1,RPM,FUELSYS1\n0,1,800,2\n1,1,800,maybe\n", "line 3, column 4: \"maybe\" is not a state of the fuel system"},
		{"clock set back", head + "0,1,1,800,3\n5,1,1,800,3\n2,1,1,800,3\n", "line 4: time runs backwards"},
		{"two drives joined", head + "0,1,1,800,3\n100000,1,1,800,3\n", "line 3: time jumps by 27.8 h"},
		{"absurd clock", head + "0,1,1,800,3\n1e15,1,1,800,3\n", "cannot be"},
		{"changing clock", head + "0,1,1,800,3\n2026-03-01T10:00:00Z,1,1,800,3\n", "written in another way"},
		{"trims beyond all", head + "0,1,1,800,3\n1,250,1,800,3\n", "column 2 (SHRTFT1)"},
		{"engine speed beyond all", head + "0,1,1,80000,3\n1,1,1,80000,3\n", "is the unit right?"},
		{"air beyond all", head + "0,1,1,800,3\n1,1,1,800,30000\n", "cannot be the air flow"},
		{"all trims empty", head + "0,,,800,3\n1,,,800,3\n", "no fuel trims"},
		{"a picture", "\x89PNG\r\n", "a picture"},
		{"a line without end", "time_s,RPM\n" + strings.Repeat("9", 70000), "longer than"},
		{"an unfinished quote", "time_s,SHRTFT1,RPM\n0,\"1,800\n1,1,800\n", "columns"},
	} {
		t.Run(c.name, func(t *testing.T) {
			d, err := ingest.ReadDrive(strings.NewReader(c.text))
			if err == nil || !strings.Contains(err.Error(), c.say) {
				t.Fatalf("error %v", err)
			}
			if d.Log.Time != nil {
				t.Errorf("half of it was read")
			}
			if strings.Contains(err.Error(), "\n") {
				t.Errorf("more than a sentence: %q", err)
			}
		})
	}
	t.Run("300 MB", func(t *testing.T) {
		big := io.MultiReader(strings.NewReader(head), io.LimitReader(&endless{}, 300<<20))
		if _, err := ingest.ReadDrive(big); err == nil || !strings.Contains(err.Error(), "larger than 64 MB") {
			t.Errorf("error %v", err)
		}
	})
}

func FuzzReadDrive(f *testing.F) {
	f.Add([]byte("time_s,SHRTFT1,LONGFT1,RPM,MAF,MAP,FUELSYS1\n0,1,2,800,3,35,CL\n1,,2,810,3.1,36,2\n"))
	f.Add([]byte("Zeit;06;07;0C;10\n0;1,5;2;800;3\n0;1,5;2;800;3\n"))
	f.Add([]byte("time,stft b1 (%),rpm,boost (psi)\n2026-01-01 00:00:00,0.1,0.8,-3\n2026-01-01 00:00:01,0.1,0.8,7\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		d, err := ingest.ParseDrive(data)
		if err != nil {
			if err.Error() == "" || strings.Contains(err.Error(), "\n") {
				t.Errorf("error %q", err)
			}
			return
		}
		if err := d.Log.Check(); err != nil {
			t.Errorf("a log that is none came through: %v", err)
		}
		for c, v := range d.Log.Value {
			for i, x := range v {
				if math.IsInf(x, 0) {
					t.Errorf("%s is infinite at row %d", trim.Channel(c), i)
				}
			}
		}
		// Whatever was read can be judged, or gets its sentence.
		if _, err := trim.Judge(&d.Log, trim.Engine{Metering: trim.AirMeter}); err != nil && err.Error() == "" {
			t.Errorf("no sentence")
		}
	})
}

// hour is a drive of an hour at ten rows a second with twelve channels.
func hour() []byte {
	r := rand.New(rand.NewPCG(5, 17))
	var w bytes.Buffer
	w.WriteString("time_s,SHRTFT1,LONGFT1,RPM,MAF,MAP,LOAD_PCT,TP,VSS,ECT,IAT,FUELSYS1,EVAP_PCT\n")
	at := func(part int) (rpm, maf, pressure, load, speed, long float64) {
		if part%4 == 0 {
			return 750, 2.8, 34, 24, 0, 14.8
		}
		f := float64(part*7%13) / 13
		return 1500 + 1200*f, 8 + 20*f, 45 + 45*f, 30 + 50*f, 40 + 50*f, 14.8 * 2.8 / (8 + 20*f)
	}
	for i := range 36000 {
		rpm, maf, pressure, load, speed, long := at(i / 300)
		g := r.NormFloat64
		fmt.Fprintf(&w, "%.1f,%.2f,%.2f,%.2f,%.2f,%.0f,%.1f,%.1f,%.0f,%d,%d,%d,%.1f\n", float64(i)/10, math.Round((1+1.5*g())/0.78)*0.78, long, rpm*(1+0.003*g()), maf*(1+0.01*g()), pressure+0.3*g(), load, load/2, speed, 90, 31, 2, float64(i/500%3)*12)
	}
	return w.Bytes()
}

// BenchmarkDriveAgainstTheStandardLibrary reads and judges an hour's drive and, in the same run,
// reads the same bytes by encoding/csv with their numbers converted; the ratio is what is asked
// to stay below 2.
func BenchmarkDriveAgainstTheStandardLibrary(b *testing.B) {
	data := hour()
	var ours, theirs time.Duration
	points := 0
	for b.Loop() {
		at := time.Now()
		d, err := ingest.ParseDrive(data)
		if err != nil {
			b.Fatal(err)
		}
		r, err := trim.Judge(&d.Log, trim.Engine{Metering: trim.AirMeter, Displacement: 1.8e-3})
		if err != nil {
			b.Fatal(err)
		}
		points = len(r.Points.Points)
		ours += time.Since(at)
		theirs += byStandardLibrary(b, data)
	}
	b.ReportMetric(ours.Seconds()/theirs.Seconds(), "times-stdlib")
	b.ReportMetric(float64(points), "points")
}
