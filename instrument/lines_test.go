package instrument_test

import (
	"context"
	"fmt"
	"math"
	"net"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"wexter/core/record"
	"wexter/core/sim"
	"wexter/instrument"
	"wexter/standin"
)

// pressureColumn is a column of gauge pressure in a unit, up to 20 inH2O.
func pressureColumn(at int, unit string) record.LineColumn {
	return record.LineColumn{At: at, Scaling: record.Scaling{Quantity: record.GaugePressure, Unit: unit, Factor: 1, Low: -20, High: 20, Resolution: 0.001}}
}

func wallColumn(at int) record.LineColumn {
	return record.LineColumn{At: at, Scaling: record.Scaling{Quantity: record.RigWall, Unit: "°C", Factor: 1, Low: -40, High: 120, Resolution: 0.01}}
}

func lineDevice(f record.LineFormat) record.Device {
	return record.Device{Kind: record.Module, Name: "board", Address: "here", Driver: record.NumberLines, Settings: record.DeviceSettings{Lines: f, CalibratedOn: "2026-06-15"}}
}

func TestParseLine(t *testing.T) {
	comma := record.LineFormat{Separator: "comma", Columns: []record.LineColumn{pressureColumn(1, "inH2O"), wallColumn(2)}}
	other := func(f record.LineFormat, separator string, decimal bool) record.LineFormat {
		f.Separator, f.Comma = separator, decimal
		return f
	}
	backwards := pressureColumn(2, "inH2O")
	backwards.Factor, backwards.Zero = -1, 0.5
	for _, c := range []struct {
		name   string
		format record.LineFormat
		line   string
		pa     float64
		says   string
	}{
		{"plain", comma, "13.0,21.5", 3238.157, ""},
		{"blanks about", comma, "  13.0 ,\t21.5 ", 3238.157, ""},
		{"exponent", comma, "1.3e1,21.5", 3238.157, ""},
		{"labels and units", comma, "P=13.0 inH2O, T: 21.5°C", 3238.157, ""},
		{"more columns", comma, "13.0,21.5,7,8,x", 3238.157, ""},
		{"decimal comma", other(comma, "semicolon", true), "13,0;21,5", 3238.157, ""},
		{"tabs", other(comma, "tab", false), "13.0\t21.5", 3238.157, ""},
		{"blanks", other(comma, "blank", false), "13.0   21.5", 3238.157, ""},
		{"sign and zero", record.LineFormat{Separator: "comma", Columns: []record.LineColumn{backwards}}, "0,-13.5", 3238.157, ""},
		{"below the air", comma, "−13.0,21.5", -3238.157, ""},
		{"a comma where none belongs", other(comma, "semicolon", false), "13,0;21.5", 0, "is no number"},
		{"half a line", comma, "13.0", 0, "1 columns and column 2 is read"},
		{"a word", comma, "nan,21.5", 0, "is no number"},
		{"nothing", comma, ",21.5", 0, "is no number"},
		{"two numbers glued", comma, "13.013.0,21.5", 0, "is no number"},
		{"hex", comma, "0x1F,21.5", 0, "is no number"},
		{"no text", comma, "\xff\xfe,21.5", 0, "is the speed right"},
		{"the unit is another", comma, "13.0 kPa,21.5", 0, "the line says kPa and inH2O is set up"},
		{"the unit is of something else", comma, "13.0 V,21.5", 0, "no unit of gauge pressure"},
		{"pascals where inches were set up", comma, "3238,21.5", 0, "beyond the range of -20 to 20: look at its unit"},
		{"too large for a number", comma, "1e999,21.5", 0, "is no number"},
	} {
		t.Run(c.name, func(t *testing.T) {
			v, says := instrument.ParseLine(c.format, []byte(c.line))
			if c.says != "" {
				if !strings.Contains(says, c.says) {
					t.Errorf("%v, %q; want %q", v, says, c.says)
				}
				return
			}
			if says != "" || math.Abs(v[0].Value-c.pa) > 0.01 {
				t.Errorf("%v, %q; want %g Pa", v, says, c.pa)
			}
		})
	}
}

// FuzzLine gives whatever may stand in a line: a value is a figure within its range, or
// there is none.
func FuzzLine(f *testing.F) {
	for _, s := range []string{"13.0,21.5", "P=13 inH2O,T=21", "13,0;21,5", "\xff,", "1e308,1e308", "-,-", "::,==", "NaN,Inf", strings.Repeat(",", 500)} {
		f.Add(s, uint8(0))
		f.Add(s, uint8(5))
	}
	f.Fuzz(func(t *testing.T, line string, how uint8) {
		format := record.LineFormat{Separator: record.Separators[int(how)%4], Comma: how&4 != 0 && how%4 != 0, Columns: []record.LineColumn{pressureColumn(1, "inH2O"), wallColumn(2)}}
		if err := format.Check(); err != nil {
			t.Fatal(err)
		}
		values, says := instrument.ParseLine(format, []byte(line))
		if (says == "") != (len(values) == 2) {
			t.Fatalf("%v, %q", values, says)
		}
		if says == "" && !(math.Abs(values[0].Value) <= 5100 && values[1].Value > 230 && values[1].Value < 396) {
			t.Fatalf("%q is %v", line, values)
		}
	})
}

// withPrinter runs a test at a simulated module that is read by its lines, on a clock that
// the test owns.
func withPrinter(t *testing.T, p *standin.Printer, f record.LineFormat, run func(t *testing.T, x instrument.Instrument, m *standin.Module)) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		m, err := standin.NewModule(sim.Vessel{Volume: 0.033, Leak: 0.4e-3}, standin.Model{Name: "m", Range: 5000, Rate: 10, Speed: 1, Seed: 4})
		if err != nil {
			t.Fatal(err)
		}
		within, cancel := context.WithCancel(ctx)
		done := make(chan struct{})
		go func() {
			defer close(done)
			for {
				r, err := m.Next(within)
				if err != nil {
					return
				}
				p.Take(r)
			}
		}()
		d := joined(t, func(ctx context.Context, conn net.Conn) { p.Print(ctx, conn) })
		x, err := d.Instrument(ctx, lineDevice(f), nil)
		if err != nil {
			t.Fatal(err)
		}
		defer func() { x.Close(); cancel(); <-done }()
		run(t, x, m)
	})
}

// What a board prints is what the module reads, in every unit and spelling; at 1 kHz it is
// averaged to ten a second.
func TestLinesRead(t *testing.T) {
	for _, c := range []struct {
		name    string
		printer *standin.Printer
		format  record.LineFormat
	}{
		{"inH2O with commas", &standin.Printer{Unit: "inH2O", Separator: ","}, record.LineFormat{Separator: "comma", Columns: []record.LineColumn{pressureColumn(1, "inH2O"), wallColumn(2)}}},
		{"kPa with decimal commas", &standin.Printer{Unit: "kPa", Separator: ";", Comma: true}, record.LineFormat{Separator: "semicolon", Comma: true, Columns: []record.LineColumn{pressureColumn(1, "kPa"), wallColumn(2)}}},
		{"1 kHz", &standin.Printer{Unit: "inH2O", Separator: " ", Times: 90}, record.LineFormat{Separator: "blank", Columns: []record.LineColumn{pressureColumn(1, "inH2O")}}},
	} {
		t.Run(c.name, func(t *testing.T) {
			withPrinter(t, c.printer, c.format, func(t *testing.T, x instrument.Instrument, m *standin.Module) {
				if err := m.Do(ctx, instrument.Command{Do: instrument.Charge, Target: 2000}); err != nil {
					t.Fatal(err)
				}
				began, n, top, last := time.Now(), 0, 0.0, 0.0
				for time.Since(began) < 5*time.Second {
					r, err := x.Next(ctx)
					if err != nil || r.Fault != "" || r.Lost > 0 || r.Time <= last {
						t.Fatalf("%+v after %g, %v", r, last, err)
					}
					v, _ := r.Of(instrument.PressureKey)
					n, top, last = n+1, math.Max(top, v.Value), r.Time
				}
				if n < 44 || n > 52 || math.Abs(top-2000) > 30 {
					t.Errorf("%d readings in 5 s, up to %.0f Pa", n, top)
				}
				if x.Do(ctx, instrument.Command{Do: instrument.Open}) == nil {
					t.Error("a line of numbers is worked")
				}
			})
		})
	}
}

// Whatever happens to a line, no value is read that was not measured.
func TestLineMishaps(t *testing.T) {
	format := record.LineFormat{Separator: "comma", Columns: []record.LineColumn{pressureColumn(1, "inH2O"), wallColumn(2)}}
	for mishap, says := range map[string]string{standin.Garbage: "is the speed right", standin.Halves: "column", standin.Silence: "has sent nothing", standin.OtherUnit: "look at its unit", standin.Endless: "line"} {
		t.Run(mishap, func(t *testing.T) {
			p := &standin.Printer{Unit: "inH2O", Separator: ","}
			withPrinter(t, p, format, func(t *testing.T, x instrument.Instrument, m *standin.Module) {
				if err := m.Do(ctx, instrument.Command{Do: instrument.Charge, Target: 2000}); err != nil {
					t.Fatal(err)
				}
				read := func(want string) {
					t.Helper()
					for range 400 {
						r, err := x.Next(ctx)
						if err != nil {
							t.Fatal(err)
						}
						if v, ok := r.Of(instrument.PressureKey); ok && (v.Value < -20 || v.Value > 2050) {
							t.Fatalf("read %.0f Pa", v.Value)
						}
						if want == "" && r.Fault == "" || want != "" && strings.Contains(r.Fault, want) {
							return
						}
					}
					t.Fatalf("not within 400 readings: %q", want)
				}
				for range 20 {
					read("")
				}
				p.Do(mishap)
				read(says)
				p.Do(standin.NoMishap)
				read("")
			})
		})
	}
	t.Run("begun before", func(t *testing.T) {
		synctest.Test(t, func(t *testing.T) {
			d := joined(t, func(_ context.Context, conn net.Conn) { fmt.Fprint(conn, "3.0,20\n13.0,20\n13.0,20\n") })
			x, err := d.Instrument(ctx, lineDevice(format), nil)
			if err != nil {
				t.Fatal(err)
			}
			defer x.Close()
			r, err := x.Next(ctx)
			if v, _ := r.Of(instrument.PressureKey); err != nil || math.Abs(v.Value-3238) > 1 {
				t.Errorf("%+v, %v", r, err)
			}
		})
	})
	t.Run("unplugged", func(t *testing.T) {
		synctest.Test(t, func(t *testing.T) {
			d := joined(t, func(_ context.Context, conn net.Conn) { fmt.Fprint(conn, "1,20\n1,20\n1,20\n1,2") })
			x, err := d.Instrument(ctx, lineDevice(format), nil)
			if err != nil {
				t.Fatal(err)
			}
			defer x.Close()
			n := 0
			for {
				r, err := x.Next(ctx)
				if err != nil {
					if n == 0 || !strings.Contains(err.Error(), "no longer answers") {
						t.Errorf("after %d readings: %v", n, err)
					}
					return
				}
				n += len(r.Values)
			}
		})
	})
	t.Run("once a minute", func(t *testing.T) {
		synctest.Test(t, func(t *testing.T) {
			d := joined(t, func(ctx context.Context, conn net.Conn) {
				for ctx.Err() == nil {
					if _, err := fmt.Fprint(conn, "1,20\n"); err != nil {
						return
					}
					select {
					case <-time.After(time.Minute):
					case <-ctx.Done():
					}
				}
			})
			x, err := d.Instrument(ctx, lineDevice(format), nil)
			if err != nil {
				t.Fatal(err)
			}
			defer x.Close()
			values, faults := 0, 0
			for began := time.Now(); time.Since(began) < 20*time.Minute; {
				r, err := x.Next(ctx)
				if err != nil {
					t.Fatal(err)
				}
				values += len(r.Values)
				if r.Fault != "" && time.Since(began) > 10*time.Minute {
					faults++
				}
			}
			if values < 36 || faults > 0 {
				t.Errorf("%d values, %d times taken for silent", values, faults)
			}
		})
	})
}
