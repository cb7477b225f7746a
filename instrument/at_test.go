package instrument_test

import (
	"context"
	"fmt"
	"net"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"wexter/core/obd"
	"wexter/core/record"
	"wexter/demo"
	"wexter/ingest"
	"wexter/instrument"
	"wexter/standin"
)

var atDevice = record.Device{Kind: record.Adapter, Name: "adapter", Address: "here", Driver: record.ATCommands}

// joined is a wire on which a stand-in talks, again for every connection.
func joined(t *testing.T, talk func(context.Context, net.Conn)) instrument.Dialer {
	run, cancel := context.WithCancel(ctx)
	t.Cleanup(cancel)
	return instrument.Dialer{Wire: func(context.Context, string) (net.Conn, error) {
		mine, theirs := net.Pipe()
		go func() { defer theirs.Close(); talk(run, theirs) }()
		return mine, nil
	}}
}

// withAT runs a test at a stand-in with AT commands, on a clock that the test owns.
func withAT(t *testing.T, car string, m standin.ATModel, f func(t *testing.T, a *standin.AT, d instrument.Dialer)) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		c, err := standin.ReadCar([]byte(car))
		if err != nil {
			t.Fatal(err)
		}
		a := standin.NewAT(standin.NewAdapter(c, 1), m)
		f(t, a, joined(t, func(ctx context.Context, conn net.Conn) { a.Talk(ctx, conn) }))
	})
}

func scanner(t *testing.T, d instrument.Dialer) instrument.Scanner {
	t.Helper()
	s, err := d.Scanner(ctx, atDevice)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func demoCar(t *testing.T) string {
	t.Helper()
	file, err := demo.Car("ibis")
	if err != nil {
		t.Fatal(err)
	}
	return string(file)
}

// A scan through AT commands holds what the same car's own adapter says: with headers, and
// from an old adapter that gives none.
func TestATScan(t *testing.T) {
	for _, c := range []struct {
		name, car string
		old       bool
	}{{"headers", "", false}, {"numbered frames without headers", "", true}, {"the older bus", oldCar, false}, {"the older bus without headers", oldCar, true}} {
		t.Run(c.name, func(t *testing.T) {
			car := c.car
			if car == "" {
				car = demoCar(t)
			}
			withAT(t, car, standin.ATModel{Delay: 20 * time.Millisecond, Search: 4 * time.Second, Old: c.old}, func(t *testing.T, _ *standin.AT, d instrument.Dialer) {
				s := scanner(t, d)
				raw, err := instrument.TakeScan(ctx, s, func(string) {})
				if err != nil {
					t.Fatalf("%v\n%s", err, raw)
				}
				got, err := ingest.ReadScan([]byte(raw))
				if err != nil {
					t.Fatal(err)
				}
				want := []string{"P0442", "P1450"}
				if c.car != "" {
					want = []string{"P0455", "P0442", "P0171", "P0133"}
				}
				if !slices.Equal(codes(got, obd.Stored), want) || len(got.VIN) != 17 || got.Live["0C"].Value < 500 || len(got.Freeze) != 1 || got.Readiness["evap"] != obd.Incomplete {
					t.Errorf("%v %s %v %v\n%s", got.Codes, got.VIN, got.Live, got.Freeze, raw)
				}
				if s.CAN() != (c.car == "") {
					t.Errorf("CAN is %v", s.CAN())
				}
				if err := s.Work(ctx, "command purge-valve 50"); err == nil || !strings.Contains(err.Error(), "by hand") {
					t.Errorf("a valve is commanded: %v", err)
				}
			})
		})
	}
}

// Whatever an adapter says instead of an answer, the next request is answered again, and
// what came in between is no reading.
func TestATMishaps(t *testing.T) {
	for _, c := range []struct {
		mishaps []string
		want    string
	}{
		{[]string{standin.ATStopped}, "7E804410C"}, {[]string{standin.ATFull}, "7E804410C"}, {[]string{standin.ATError, standin.ATError}, "7E804410C"},
		{[]string{standin.ATError, standin.ATError, standin.ATError}, "error: the adapter says CAN ERROR"}, {[]string{standin.ATUnknown}, "error: the adapter does not understand"},
		{[]string{standin.ATNoPrompt}, "7E804410C"}, {[]string{standin.ATReset}, "7E804410C"}, {[]string{standin.ATNoConnect}, "no data"}, {[]string{standin.ATNoise}, "7E804410C"},
	} {
		t.Run(strings.Join(c.mishaps, " "), func(t *testing.T) {
			withAT(t, demoCar(t), standin.ATModel{Delay: 20 * time.Millisecond}, func(t *testing.T, a *standin.AT, d instrument.Dialer) {
				s := scanner(t, d)
				for range 2 {
					for _, m := range c.mishaps {
						a.Mishap(m)
					}
					lines, err := s.Ask(ctx, "01 0C")
					if err != nil || len(lines) != 1 || !strings.HasPrefix(lines[0], c.want) {
						t.Errorf("%q, %v; want %s", lines, err, c.want)
					}
					if lines, err := s.Ask(ctx, "01 0C"); err != nil || len(lines) != 1 || !strings.HasPrefix(lines[0], "7E804410C") {
						t.Errorf("afterwards: %q, %v", lines, err)
					}
				}
			})
		})
	}
	t.Run("no prompt any more", func(t *testing.T) {
		withAT(t, demoCar(t), standin.ATModel{}, func(t *testing.T, a *standin.AT, d instrument.Dialer) {
			s := scanner(t, d)
			a.Mishap(standin.ATDead)
			if lines, err := s.Ask(ctx, "01 0C"); err == nil || len(lines) > 0 || !strings.Contains(err.Error(), "no longer answers") {
				t.Errorf("%q, %v", lines, err)
			}
		})
	})
	t.Run("what is none", func(t *testing.T) {
		synctest.Test(t, func(t *testing.T) {
			for name, talk := range map[string]func(context.Context, net.Conn){
				"silent":       func(ctx context.Context, c net.Conn) { <-ctx.Done() },
				"hangs up":     func(context.Context, net.Conn) {},
				"prints lines": func(ctx context.Context, c net.Conn) { new(standin.Printer).Print(ctx, c) },
			} {
				s, err := joined(t, talk).Scanner(ctx, atDevice)
				if err == nil {
					s.Close()
					t.Errorf("%s: taken for an adapter", name)
				} else if name == "hangs up" && !strings.Contains(err.Error(), "another program") {
					t.Errorf("%s: %v", name, err)
				}
			}
		})
	})
}

// Live data are read as fast as they are answered, several with a request on CAN. At 20 ms
// a request that is well over 25 values a second, on the older bus without groups too.
func TestPoll(t *testing.T) {
	for _, c := range []struct {
		name, car string
		least     int // values in a second
	}{{"CAN", "", 250}, {"the older bus", oldCar, 40}} {
		t.Run(c.name, func(t *testing.T) {
			car := c.car
			if car == "" {
				car = demoCar(t)
			}
			withAT(t, car, standin.ATModel{Delay: 20 * time.Millisecond, Search: time.Second}, func(t *testing.T, a *standin.AT, d instrument.Dialer) {
				p, err := d.Instrument(ctx, atDevice, nil)
				if err != nil {
					t.Fatal(err)
				}
				defer p.Close()
				if ch, ok := p.About().Channel("pid-0C"); !ok || ch.Unit != "rpm" || ch.Resolution != 0.25 || !p.About().NoClock {
					t.Errorf("%+v", p.About())
				}
				values, last := 0, 0.0
				for began := time.Now(); time.Since(began) < 10*time.Second; {
					r, err := p.Next(ctx)
					if err != nil || r.Fault != "" || r.Time < last || r.Within < 0.02 {
						t.Fatalf("%+v, %v", r, err)
					}
					values, last = values+len(r.Values), r.Time
					if v, ok := r.Of("pid-0C"); ok && v.Value < 500 {
						t.Errorf("%+v", v)
					}
				}
				if values < 10*c.least {
					t.Errorf("%d values in 10 s", values)
				}
				t.Logf("%d values a second", values/10)
				// The key is turned off: a sentence, and no value.
				for range 40 {
					a.Mishap(standin.ATNoConnect)
				}
				for range 10 {
					if r, err := p.Next(ctx); err != nil || len(r.Values) > 0 || !strings.Contains(r.Fault, "key on") {
						t.Fatalf("%+v, %v", r, err)
					}
				}
			})
		})
	}
}

// FuzzATAnswers gives whatever an adapter may send to a request: the answer ends, and what
// is taken for an answer of the car reads as a scan or is refused.
func FuzzATAnswers(f *testing.F) {
	for _, s := range []string{"SEARCHING...\r7E8 06 41 00 BE 1F A8 13\r\r>", "7E8064100BE1FA813\r>", "014\r0: 49 02 01 31 44 34\r1: 47 50 30 30 52 35 35\r>", "NO DATA\r>", "BUS INIT: ...ERROR\r>", "BUFFER FULL\r>", "?\r>", ">>>", "STOPPED\r\r>", "7E8\x00\x01 06", "LV RESET\r\rX v1\r>", "48 6B 10 41 0C 0B B8 0F\r>"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		synctest.Test(t, func(t *testing.T) {
			asked := 0
			d := joined(t, func(ctx context.Context, conn net.Conn) {
				buf := make([]byte, 256)
				for {
					n, err := conn.Read(buf)
					if err != nil {
						return
					}
					switch q := string(buf[:n]); {
					case q == "ATZ\r":
						fmt.Fprint(conn, "OBD v1\r\r>")
					case strings.HasPrefix(q, "AT"):
						fmt.Fprint(conn, "OK\r\r>")
					default:
						asked++
						_, _ = conn.Write(text)
					}
				}
			})
			s, err := d.Scanner(ctx, atDevice)
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			lines, err := s.Ask(ctx, "01 0C")
			if asked == 0 || err != nil && len(lines) > 0 || err == nil && len(lines) == 0 {
				t.Fatalf("asked %d times: %q, %v", asked, lines, err)
			}
			if scan, err := ingest.ReadScan([]byte(strings.Join(lines, "\n"))); err == nil {
				for _, v := range scan.Live {
					if v.Value != v.Value {
						t.Fatalf("%+v", v)
					}
				}
			}
		})
	})
}

// Several use one adapter at a time: each gets the answer to what he asked, one that is
// lost is opened anew by whoever comes next, and the last one lets it go.
func TestPool(t *testing.T) {
	withAT(t, demoCar(t), standin.ATModel{Delay: 20 * time.Millisecond}, func(t *testing.T, a *standin.AT, d instrument.Dialer) {
		opened, wire := 0, d.Wire
		d.Pool = &instrument.Pool{}
		d.Wire = func(ctx context.Context, address string) (net.Conn, error) { opened++; return wire(ctx, address) }
		first, second := scanner(t, d), scanner(t, d)
		done := make(chan error)
		for s, pid := range map[instrument.Scanner]string{first: "0C", second: "05"} {
			go func() {
				for range 50 {
					if lines, err := s.Ask(ctx, "01"+pid); err != nil || len(lines) == 0 || lines[0][7:9] != pid {
						done <- fmt.Errorf("%s: %q, %v", pid, lines, err)
						return
					}
				}
				done <- nil
			}()
		}
		for range 2 {
			if err := <-done; err != nil {
				t.Error(err)
			}
		}
		if opened != 1 || !first.CAN() || !second.CAN() {
			t.Errorf("opened %d times", opened)
		}
		first.Close()
		first.Close()
		if _, err := second.Ask(ctx, "010C"); err != nil {
			t.Errorf("the first one took it along: %v", err)
		}
		a.Mishap(standin.ATDead)
		if _, err := second.Ask(ctx, "010C"); err == nil {
			t.Error("it is dead and answers")
		}
		if _, err := second.Ask(ctx, "010C"); err == nil || !strings.Contains(err.Error(), "no longer answers") {
			t.Errorf("%v", err)
		}
		second.Close()
		a.Mend()
		third := scanner(t, d)
		if _, err := third.Ask(ctx, "010C"); err != nil || opened != 2 {
			t.Errorf("%v, opened %d times", err, opened)
		}
	})
}
