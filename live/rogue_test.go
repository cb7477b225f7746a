package live_test

import (
	"context"
	"fmt"
	"math"
	"net"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"wexter/core/record"
	"wexter/ingest"
	"wexter/live"
)

// rogue is a module that sends what it is told to.
type rogue struct {
	lines chan string
	conn  net.Conn
}

// send sends lines; when it returns all but the last of them have been taken.
func (m *rogue) send(lines ...string) {
	for _, l := range lines {
		m.lines <- l
	}
	synctest.Wait()
}

const rogueGreeting = `{"protocol":1,"name":"rogue","serial":"R1","session":"one","range_pa":5000,"resolution_pa":2.5,"rate_hz":10,"calibrated_on":"2026-01-05"}`

// reading is a good line at a time, of a system that stands at 3000 Pa and loses 1 Pa/s.
func reading(t float64) string {
	return fmt.Sprintf(`{"n":%d,"t":%.4f,"pa":%.1f,"wall_k":293.15}`, int(t*1000), t, 3000-t)
}

func readings(from, to float64) (out []string) {
	for t := from; t < to-1e-9; t += 0.1 {
		out = append(out, reading(t))
	}
	return out
}

// withRogue is a bench at a rogue module that has read good lines up to 20 s of its clock,
// the last 10 of them into a hold.
func withRogue(t *testing.T, f func(t *testing.T, x shop, m *rogue)) {
	t.Helper()
	ingest.Book()
	synctest.Test(t, func(t *testing.T) {
		x := shop{Shop: open(t, filepath.Join(t.TempDir(), "shop.db")), wires: &wires{at: map[string]*wire{}}}
		w := &wire{address: benchAddress, calls: make(chan net.Conn), done: make(chan struct{})}
		x.wires.at[benchAddress] = w
		m := &rogue{lines: make(chan string)}
		over := make(chan struct{})
		go func() {
			defer close(over)
			conn, err := w.Accept()
			if err != nil {
				return
			}
			defer conn.Close()
			_, _ = conn.Write([]byte(rogueGreeting + "\n"))
			for l := range m.lines {
				if _, err := conn.Write([]byte(l + "\n")); err != nil {
					t.Errorf("the bench hung up at %q: %v", l, err)
					return
				}
			}
		}()
		x.id = newTest(t, x.Shop, benchAddress, 0.033, "engine-vacuum")
		x.hub = live.New(x.Shop, x.wires.dial)
		t.Cleanup(func() { close(m.lines); <-over; x.hub.Close() })
		must(t, x.hub.Join(ctx, x.id, seatsAt(t, x.Shop, benchAddress)))
		x.bench, _ = x.hub.Look(x.id)
		m.send(readings(0.1, 10)...)
		must(t, x.bench.Start(ctx, record.RunHold))
		m.send(readings(10, 20)...)
		f(t, x, m)
	})
}

// kept is the run being read as it is on disk.
func (x shop) kept(t *testing.T) (record.Run, ingest.Log) {
	t.Helper()
	time.Sleep(time.Second) // of the clock that the test owns: all that was read is written
	synctest.Wait()
	l, err := x.LiveTest(ctx, x.id)
	must(t, err)
	r := l.Runs[len(l.Runs)-1]
	_, log, err := x.Readings(ctx, r.ID)
	must(t, err)
	return r, log
}

// No line that is no reading is kept as one: a gap with its reason stands in its place,
// and the figure on the screen goes out until the module can be trusted again.
func TestLinesThatAreNoReadings(t *testing.T) {
	for _, c := range []struct {
		name, line, why string
	}{
		{"no number", `{"n":1,"t":20.0}`, "without a pressure"},
		{"null", `{"n":1,"t":20.0,"pa":null}`, "without a pressure"},
		{"words", `{"n":1,"t":20.0,"pa":"low"}`, "a line that is no reading"},
		{"no JSON", `pa=0`, "a line that is no reading"},
		{"too large for a number", `{"n":1,"t":20.0,"pa":1e999}`, "a line that is no reading"},
		{"beyond its range", `{"n":1,"t":20.0,"pa":-5100}`, "beyond its own range of 5000 Pa"},
		{"no time", `{"n":1,"pa":2980}`, "without a time"},
		{"clock back", `{"n":1,"t":12.0,"pa":0}`, "went back"},
		{"clock ahead", `{"n":1,"t":2000,"pa":0}`, "jumped ahead"},
		{"clock beyond all", `{"n":1,"t":1e300,"pa":0}`, "a time that cannot be"},
		{"a fault", `{"n":1,"t":20.0,"fault":"the sensor is unplugged"}`, "he sensor is unplugged"},
	} {
		t.Run(c.name, func(t *testing.T) {
			withRogue(t, func(t *testing.T, x shop, m *rogue) {
				m.send(c.line, reading(20.05))
				n := x.bench.Since(-1, "", 0, -1)
				if n.Now != nil || n.View.Status != live.Fault || !strings.Contains(n.View.Said, c.why) {
					t.Errorf("shown %v, %s: %q", n.Now, n.View.Status, n.View.Said)
				}
				m.send(readings(20.1, 30)...)
				if n := x.bench.Since(-1, "", 0, -1); n.Now == nil || n.View.Status != live.On {
					t.Errorf("not back: %s %q", n.View.Status, n.View.Said)
				}
				r, log := x.kept(t)
				if len(r.Gaps) != 1 || !strings.Contains(r.Gaps[0].Why, c.why) || r.Gaps[0].To-r.Gaps[0].From < 0.1 {
					t.Errorf("gaps %+v", r.Gaps)
				}
				for i, at := range log.Time {
					if want := 3000 - (at + r.Origin); math.Abs(log.Gauge[i]-want) > 0.1 {
						t.Fatalf("%.2f s: %.1f Pa was kept, the module read %.1f", at, log.Gauge[i], want)
					}
				}
				if last := log.Time[len(log.Time)-1] + r.Origin; last < 29.7 {
					t.Errorf("kept up to %.1f s", last)
				}
			})
		})
	}
}

// A clock that is set back ends the leg where its readings ended.
func TestClockSetBack(t *testing.T) {
	withRogue(t, func(t *testing.T, x shop, m *rogue) {
		m.send(readings(3, 6)...)
		until(t, "the leg ends", func() bool { return view(x.bench).Leg == "" })
		r, log := x.kept(t)
		if r.EndedAt == nil || !strings.Contains(strings.Join(r.Notes, " "), "clock was set back") || log.Time[len(log.Time)-1]+r.Origin > 20 || !r.Watched {
			t.Errorf("%+v up to %g", r, log.Time[len(log.Time)-1])
		}
		if v := view(x.bench); v.Status != live.On || !strings.Contains(v.Result, "set back") {
			t.Errorf("%s %q", v.Status, v.Result)
		}
	})
}

// Faults by the hundred a second: every other line is one. The gaps are appended as they
// come, summed up when there are many, and stopping waits for nothing.
func TestFlickeringModule(t *testing.T) {
	withRogue(t, func(t *testing.T, x shop, m *rogue) {
		wrote := 0
		at := 20.0
		for range 600 { // a minute
			for range 25 {
				at += 0.004
				m.send(fmt.Sprintf(`{"t":%.4f,"fault":"fault %d"}`, at, wrote))
				wrote++
			}
			m.send(readings(at+0.0001, at+0.6)...) // trusted for a moment
			at += 0.6
			time.Sleep(100 * time.Millisecond)
		}
		r, log := x.kept(t)
		if n := len(r.Gaps); n < 20 || n > 60 {
			t.Errorf("%d gaps", n)
		}
		sum := 0
		for i, g := range r.Gaps {
			sum += max(g.Times, 1)
			if i > 0 && g.From < r.Gaps[i-1].To || g.To <= g.From {
				t.Fatalf("gap %d is %+v after %+v", i, g, r.Gaps[i-1])
			}
		}
		if sum != 600 {
			t.Errorf("%d gaps are told of 600", sum)
		}
		began := time.Now()
		must(t, x.bench.Stop())
		if took := time.Since(began); took > time.Second {
			t.Errorf("stopping took %v of the clock", took)
		}
		l := x.result(t)
		ended := l.Runs[len(l.Runs)-1]
		if ended.EndedAt == nil || len(ended.Gaps) != len(r.Gaps) || ended.Readings != len(log.Time) {
			t.Errorf("%d gaps and %d readings, %d and %d on disk before", len(ended.Gaps), ended.Readings, len(r.Gaps), len(log.Time))
		}
		if sum, ok := l.Test.Summary(); ok && sum.Verdict != "" && l.Test.Outcome == record.OverLimit {
			t.Errorf("judged %s", l.Test.Outcome)
		}
		if strings.Count(l.Test.Problem, "Nothing was read") > 4 {
			t.Errorf("every gap is told: %q", l.Test.Problem)
		}
	})
}

// A wall probe that falls silent for good leaves the leg without a wall; for a moment it
// is where it was.
func TestWallProbeFallsSilent(t *testing.T) {
	for _, c := range []struct {
		name    string
		silent  float64
		measure bool
	}{{"for a moment", 3, true}, {"for good", 15, false}} {
		t.Run(c.name, func(t *testing.T) {
			withRogue(t, func(t *testing.T, x shop, m *rogue) {
				for at := 20.0; at < 20+c.silent; at += 0.1 {
					m.send(fmt.Sprintf(`{"t":%.4f,"pa":2980,"wall_k":-5}`, at))
				}
				m.send(readings(20+c.silent, 40)...)
				r, log := x.kept(t)
				if len(r.Gaps) != 0 || (log.Wall != nil) != c.measure || log.Wall != nil && len(log.Wall) != len(log.Time) {
					t.Errorf("gaps %+v, %d walls of %d readings", r.Gaps, len(log.Wall), len(log.Time))
				}
				must(t, x.bench.Stop())
				l := x.result(t)
				if said := strings.Join(l.Runs[len(l.Runs)-1].Notes, " "); strings.Contains(said, "wall probe") == c.measure {
					t.Errorf("said %q", said)
				}
			})
		})
	}
}

// Gaps written down so far are there when the program is started again.
func TestGapsOutliveAStop(t *testing.T) {
	withRogue(t, func(t *testing.T, x shop, m *rogue) {
		m.send(`{"t":20.0,"pa":null}`)
		m.send(readings(20.1, 22)...)
		r, _ := x.kept(t)
		runs, err := x.OpenRuns(context.Background())
		must(t, err)
		if len(runs) != 1 || len(runs[0].Gaps) != 1 || runs[0].Gaps[0] != r.Gaps[0] {
			t.Errorf("%+v", runs)
		}
	})
}
