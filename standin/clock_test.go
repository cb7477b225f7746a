package standin_test

import (
	"context"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"wexter/core/sim"
	"wexter/core/units"
	"wexter/instrument"
	"wexter/standin"
)

// A module whose clock stands shows that it is there and lets no time pass; stepped, it
// sends each reading of that time, however slowly they are taken.
func TestAModuleThatIsStepped(t *testing.T) {
	m, err := standin.NewModule(sim.Vessel{Volume: 0.03, Leak: 0.5e-3}, standin.Model{Name: "module", Range: 20 * units.InH2O, Rate: 10, Seed: 1})
	if err != nil {
		t.Fatal(err)
	}
	l, err := instrument.Listen("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	run, stop := context.WithCancel(ctx)
	done := make(chan error, 1)
	go func() { done <- standin.Serve(run, l, m) }()
	t.Cleanup(func() { stop(); <-done })
	c, err := instrument.Dialer{Patience: 20 * time.Minute}.Module(ctx, l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	for range 3 { // it stands, and is there
		r, err := c.Next(ctx)
		if err != nil || r.Time != 0 {
			t.Fatalf("%+v %v", r, err)
		}
	}
	said := make(chan error, 1)
	go func() { said <- c.Do(ctx, instrument.Command{Do: instrument.Run, Seconds: 120}) }()
	var times []float64
	for len(times) < 1200 {
		r, err := c.Next(ctx)
		if err != nil {
			t.Fatal(err)
		}
		if r.Time > 0 && (len(times) == 0 || r.Time > times[len(times)-1]) {
			times = append(times, r.Time)
		}
	}
	go func() { // the answer comes between readings
		for {
			if _, err := c.Next(ctx); err != nil {
				return
			}
		}
	}()
	if err := <-said; err != nil {
		t.Error(err)
	}
	for i, x := range times {
		if math.Abs(x-0.1*float64(i+1)) > 1e-9 {
			t.Fatalf("reading %d is at %g", i, x)
		}
	}
	for say, s := range map[string]float64{"more than 0": 0, "at most": 1e9, "and at most": math.NaN()} {
		t.Run(say, func(t *testing.T) {
			if err := m.Do(ctx, instrument.Command{Do: instrument.Run, Seconds: s}); err == nil || !strings.Contains(err.Error(), say) {
				t.Errorf("stepped by %g: %v", s, err)
			}
		})
	}
}

// A clock that keeps real time is not stepped, and no clock runs at a speed that cannot be.
func TestClockRefuses(t *testing.T) {
	c, err := standin.NewClock(2)
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Step(ctx, 1); err == nil || !strings.Contains(err.Error(), "keeps real time") {
		t.Errorf("stepped: %v", err)
	}
	for _, speed := range []float64{-1, 0.001, 1e6, math.NaN()} {
		if _, err := standin.NewClock(speed); err == nil {
			t.Errorf("a speed of %g is taken", speed)
		}
	}
}

// Several who read by one clock take their readings each at its moment, in order.
func TestPacersKeepOrder(t *testing.T) {
	c, err := standin.NewClock(0)
	if err != nil {
		t.Fatal(err)
	}
	run, stop := context.WithCancel(ctx)
	type tick struct{ at, clock float64 }
	seen := make(chan tick, 1000)
	ended := make(chan bool, 2)
	for _, period := range []float64{0.1, 0.25} {
		p := c.Pace()
		go func() {
			defer func() { ended <- true }()
			for n := 1; ; {
				came, err := p.Wait(run, period*float64(n))
				if err != nil {
					return
				}
				if came {
					seen <- tick{period * float64(n), c.Now()}
					n++
				}
			}
		}()
	}
	for range 5 {
		if err := c.Step(ctx, 1); err != nil {
			t.Fatal(err)
		}
	}
	stop()
	<-ended
	<-ended
	close(seen)
	n, last := 0, 0.0
	for x := range seen {
		n++
		if x.at < last || n > 2 && math.Abs(x.at-x.clock) > 0.11 {
			t.Fatalf("a reading of %g s was taken at %g s, after one of %g s", x.at, x.clock, last)
		}
		last = x.at
	}
	if n < 60 || c.Now() != 5 {
		t.Errorf("%d readings in %g s", n, c.Now())
	}
}

// A car whose clock stands is driven for as long as it is told, and not longer.
func TestACarThatIsStepped(t *testing.T) {
	at := serve(t, plant(t, strings.Replace(carFile, "trips: 2", "trips: 0", 1), 0)) // no past is needed
	a, err := dialAdapter(at["scan adapter"])
	if err != nil {
		t.Fatal(err)
	}
	defer a.Close()
	before, err := instrument.State(ctx, a)
	if err != nil {
		t.Fatal(err)
	}
	if err := a.Work(ctx, "drive idle"); err != nil {
		t.Fatal(err)
	}
	if s, err := instrument.State(ctx, a); err != nil || s.Time != before.Time || s.Running {
		t.Errorf("the clock stands, and the car went from %g to %g s, running: %v, %v", before.Time, s.Time, s.Running, err)
	}
	if err := a.Work(ctx, "run 6"); err != nil {
		t.Fatal(err)
	}
	if s, err := instrument.State(ctx, a); err != nil || math.Abs(s.Time-before.Time-6) > 0.2 || !s.Running {
		t.Errorf("6 s later: %g s after %g, running: %v, %v", s.Time, before.Time, s.Running, err)
	}
	if !slices.ContainsFunc([]string{"run", "run -3", "run ever"}, func(w string) bool { return a.Work(ctx, w) != nil }) {
		t.Error("nonsense steps the clock")
	}
}

// A sensor on the bench rig is still plugged in: the scan adapter reads what the hand pump holds on it,
// and the car again once the rig is let go.
func TestTheAdapterSeesASensorOnTheBenchRig(t *testing.T) {
	at := serve(t, plant(t, strings.Replace(strings.Replace(carFile, "trips: 2", "trips: 0", 1), "{flange-seal: 0.6}", "{}", 1), 0))
	a, err := dialAdapter(at["scan adapter"])
	if err != nil {
		t.Fatal(err)
	}
	defer a.Close()
	ask := func(words string) string {
		said, err := instrument.AskTool(ctx, at["bench rig"], words)
		if err != nil {
			t.Fatal(err)
		}
		return said
	}
	if said := ask("put tank-sensor steps 2491"); said != "done" {
		t.Fatal(said)
	}
	for i, want := range []float64{0, 747, 1495, 2491} { // each step takes a second and a half, and stays four
		if err := a.Work(ctx, map[bool]string{true: "run 3", false: "run 5.5"}[i == 0]); err != nil {
			t.Fatal(err)
		}
		s, err := instrument.State(ctx, a)
		if err != nil || math.Abs(s.Live["32"]-want) > 2 {
			t.Errorf("step %d: the car reads %g Pa, %v; %g are pumped", i, s.Live["32"], err, want)
		}
	}
	if said := ask("off"); said != "done" {
		t.Fatal(said)
	}
	if s, err := instrument.State(ctx, a); err != nil || math.Abs(s.Live["32"]) > 50 {
		t.Errorf("back on the car: %g Pa, %v", s.Live["32"], err)
	}
	if _, err := instrument.AskTool(ctx, at["bench rig"], "put tank-sensor juggle 2491"); err == nil {
		t.Error("hands juggle")
	}
}
