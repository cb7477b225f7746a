package live_test

import (
	"bufio"
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"wexter/casework"
	"wexter/core/record"
	"wexter/core/sim"
	"wexter/core/units"
	"wexter/ingest"
	"wexter/instrument"
	"wexter/live"
	"wexter/standin"
	"wexter/store"
)

var ctx = context.Background()

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

func dial(ctx context.Context, address string) (live.Gauge, error) {
	return instrument.Dial(ctx, address)
}

// module serves a stand-in on loopback until the test ends or stop is called. An
// address may be given, to start one anew in the same place.
func module(t *testing.T, v sim.Vessel, speed float64, address string) (addr string, m *standin.Module, stop func()) {
	t.Helper()
	m, err := standin.NewModule(v, standin.Model{Name: "module", Range: 20 * units.InH2O, Resolution: 0.01 * units.InH2O, Zero: 4, Noise: 3, Rate: 10, Speed: speed, Seed: 9, Calibrated: time.Now().Format(time.DateOnly)})
	must(t, err)
	var l net.Listener
	for range 50 {
		if l, err = net.Listen("tcp", address); err == nil {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	must(t, err)
	c, cancel := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() { defer close(done); _ = standin.Serve(c, l, m) }()
	stop = func() { cancel(); <-done }
	t.Cleanup(stop)
	return l.Addr().String(), m, stop
}

func open(t testing.TB, path string) *casework.Shop {
	t.Helper()
	db, err := store.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return &casework.Shop{DB: db, Book: ingest.Book(), Now: time.Now}
}

// test makes a case with a hold whose space is known and sealed.
func test(t *testing.T, s *casework.Shop, address string, volume float64) (caseID, id string) {
	t.Helper()
	return testOn(t, s, address, volume, "engine-vacuum")
}

func testOn(t *testing.T, s *casework.Shop, address string, volume float64, archetype string) (caseID, id string) {
	t.Helper()
	caseID, err := s.OpenCase(ctx, "", casework.NewCase{Plate: "SQ 1", Make: "Ostrel", Model: "Wherry", TankL: 50, Metering: "maf", Archetype: archetype, Complaint: "Lamp on."})
	must(t, err)
	id, err = s.StartTest(ctx, "", caseID, "")
	must(t, err)
	must(t, s.AddDevice(ctx, "", casework.NewDevice{Kind: "module", Name: "module", Address: address}))
	must(t, s.NoteGauge(ctx, id, func(su *record.Setup) {
		su.Level, su.VolumeTolerance, su.Wet = 1-(volume-su.Extra)/su.Tank, 0.06, false
		for _, x := range s.Book.Archetypes[0].Seal {
			su.Sealed = append(su.Sealed, x.Do)
		}
		su.Instrument.Name = "set"
	}))
	return caseID, id
}

func within(t *testing.T, d time.Duration, what string, f func() bool) {
	t.Helper()
	for end := time.Now().Add(d); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		if f() {
			return
		}
	}
	t.Fatalf("not within %v: %s", d, what)
}

func view(b *live.Bench) live.View { return *b.Since(-1, "", 0, -1).View }

// leg runs one leg to its own end.
func leg(t *testing.T, b *live.Bench, kind record.RunKind) {
	t.Helper()
	must(t, b.Start(ctx, kind))
	within(t, 60*time.Second, string(kind)+" ends by itself", func() bool { return view(b).Leg == "" })
}

func bench(t *testing.T, v sim.Vessel, speed float64) (*casework.Shop, *live.Hub, *live.Bench, *standin.Module, string, func()) {
	t.Helper()
	addr, m, stop := module(t, v, speed, "127.0.0.1:0")
	s := open(t, filepath.Join(t.TempDir(), "shop.db"))
	_, id := test(t, s, addr, v.Volume)
	h := live.New(s, dial)
	t.Cleanup(func() { h.Close() })
	must(t, h.Join(ctx, id, addr))
	b, _ := h.Look(id)
	within(t, 5*time.Second, "the module answers", func() bool { return b.Since(-1, "", 0, -1).Now != nil && view(b).Start != "" })
	return s, h, b, m, id, stop
}

func result(t *testing.T, s *casework.Shop, id string) casework.LiveTest {
	t.Helper()
	l, err := s.LiveTest(ctx, id)
	must(t, err)
	return l
}

// The whole bench, leg after leg, to a firm verdict on either side of the limit.
func TestWholeBench(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		leak    float64
		verdict record.Outcome
	}{{0.70e-3, "over_limit"}, {0.30e-3, "within_limit"}} {
		s, _, b, _, id, _ := bench(t, sim.Vessel{Volume: 0.033, Leak: c.leak, Drift: 0.15, Orifice: 0.508e-3}, 40)
		var asked []record.RunKind
		for range 8 {
			k := view(b).Start
			if k == "" {
				break
			}
			asked = append(asked, k)
			leg(t, b, k)
		}
		if !slices.Equal(asked, []record.RunKind{"rig", "zero", "drift", "hold"}) {
			t.Errorf("the bench asked for %v", asked)
		}
		l := result(t, s, id)
		su := l.Test.Setup.Instrument
		if su.RigHeld != "held" || su.Zero < 1 || su.Zero > 7 || su.Range < 4900 {
			t.Errorf("learned of the gauge: %+v", su)
		}
		sum, ok := l.Test.Summary()
		if !ok || l.Test.Outcome != c.verdict || sum.Low > c.leak || sum.High < c.leak {
			t.Errorf("%.2f mm reads %.3f to %.3f mm, %s %s", c.leak*1e3, sum.Low*1e3, sum.High*1e3, l.Test.Outcome, l.Test.Problem)
		}
		for _, r := range l.Runs {
			log, err := s.DB.Read(ctx).Readings(r.ID)
			if err != nil || len(log.Time) != r.Readings || r.Readings < 40 || r.EndedAt == nil || log.Wall == nil {
				t.Errorf("%s: %d readings kept of %d, %v", r.Kind, len(log.Time), r.Readings, err)
			}
		}
	}
}

// A rig that leaks is told, and asked for again.
func TestRigThatLeaks(t *testing.T) {
	t.Parallel()
	s, _, b, _, id, _ := bench(t, sim.Vessel{Volume: 0.03, RigLeak: 0.06e-3}, 40)
	leg(t, b, "rig")
	if l := result(t, s, id); l.Test.Setup.Instrument.RigHeld != "lost" || view(b).Start != "rig" || !strings.Contains(view(b).Next, "Mend the rig") {
		t.Errorf("%+v %q", l.Test.Setup.Instrument, view(b).Next)
	}
}

// Unplugged in mid-hold and back: a sentence, a gap, and no false leak, also when the
// system was opened meanwhile.
func TestUnpluggedIsNoLeak(t *testing.T) {
	t.Parallel()
	for _, opened := range []bool{false, true} {
		s, _, b, m, id, _ := bench(t, sim.Vessel{Volume: 0.033, Leak: 0.15e-3}, 12)
		leg(t, b, "zero")
		leg(t, b, "drift")
		must(t, b.Start(ctx, "hold"))
		within(t, 20*time.Second, "holding", func() bool { return view(b).Phase == live.Holding })
		time.Sleep(400 * time.Millisecond)
		must(t, m.Do(ctx, instrument.Command{Do: instrument.Unplug}))
		within(t, 5*time.Second, "a sentence", func() bool {
			v := view(b)
			return v.Status == live.Fault && strings.Contains(v.Said, "unplugged") && b.Since(-1, "", 0, -1).Now == nil
		})
		if opened {
			must(t, m.Do(ctx, instrument.Command{Do: instrument.Open}))
		}
		// At once: however short it was, what was not read is a gap.
		must(t, m.Do(ctx, instrument.Command{Do: instrument.Replug}))
		within(t, 5*time.Second, "reading again", func() bool { v := view(b); return v.Status == live.On && len(v.Gaps) == 1 })
		time.Sleep(700 * time.Millisecond)
		must(t, b.Stop())
		l := result(t, s, id)
		sum, _ := l.Test.Summary()
		// The interval is one of 95 %: now and then it lies beside the true 0.15 mm. A step
		// taken for a leak would be far above.
		if l.Test.Outcome == "over_limit" || sum.Low > 0.3e-3 {
			t.Errorf("opened %v: %s, %.3f to %.3f mm", opened, l.Test.Outcome, sum.Low*1e3, sum.High*1e3)
		}
		if !strings.Contains(strings.Join(sum.Warnings, " "), "(the sensor is unplugged)") {
			t.Errorf("the gap is not said: %q", sum.Warnings)
		}
	}
}

// The module's process ends and a new one takes its place: the leg ends where its
// readings ended, and the new module's pressure is not taken for a leak.
func TestModuleStartedAnew(t *testing.T) {
	t.Parallel()
	v := sim.Vessel{Volume: 0.033, Leak: 0.15e-3}
	s, _, b, _, id, stop := bench(t, v, 12)
	leg(t, b, "zero")
	leg(t, b, "drift")
	must(t, b.Start(ctx, "hold"))
	within(t, 20*time.Second, "holding", func() bool { return view(b).Phase == live.Holding })
	stop()
	within(t, 5*time.Second, "lost", func() bool { return view(b).Status == live.Lost })
	if err := b.Start(ctx, "drift"); err == nil {
		t.Error("a second leg was begun")
	}
	module(t, v, 30, b.Address())
	within(t, 10*time.Second, "the leg ends", func() bool { v := view(b); return v.Leg == "" && v.Status == live.On })
	l := result(t, s, id)
	if l.Test.Outcome == "over_limit" || !strings.Contains(strings.Join(l.Runs[len(l.Runs)-1].Notes, " "), "started anew") {
		t.Errorf("%s %q", l.Test.Outcome, l.Runs[len(l.Runs)-1].Notes)
	}
	if v := view(b); !strings.Contains(v.Result, "started anew") {
		t.Errorf("said %q", v.Result)
	}
}

func TestOverRangeAndActions(t *testing.T) {
	t.Parallel()
	s, h, b, m, id, _ := bench(t, sim.Vessel{Volume: 0.033, Leak: 0.4e-3}, 12)
	leg(t, b, "zero")
	must(t, b.Start(ctx, "hold"))
	within(t, 20*time.Second, "settling", func() bool { return view(b).ShutAt > 0 })
	must(t, m.Do(ctx, instrument.Command{Do: instrument.Charge, Target: 9000}))
	within(t, 10*time.Second, "over the range", func() bool { return strings.Contains(view(b).Said, "Over the range") })
	must(t, m.Do(ctx, instrument.Command{Do: instrument.Open}))
	within(t, 10*time.Second, "a gap", func() bool { return len(view(b).Gaps) == 1 })
	must(t, b.Mark(ctx, "k1", "let go"))
	must(t, b.Mark(ctx, "k1", "let go")) // the same press twice
	if v := view(b); len(v.Marks) != 1 || v.Marks[0].Text != "let go" || v.Gaps[0].Why != "over the range" {
		t.Errorf("%+v %+v", v.Marks, v.Gaps)
	}
	if err := b.MoveStart(ctx, "", 1e6); err == nil || !strings.Contains(err.Error(), "five seconds") {
		t.Errorf("start moved beyond the end: %v", err)
	}
	must(t, b.MoveStart(ctx, "", 2))
	if err := b.Rig(ctx, "explode"); err == nil {
		t.Error("an unknown command was sent")
	}
	// Two browsers see the same, and another test cannot take the module.
	if one, two := view(b), view(b); one.Version != two.Version || one.Next != two.Next {
		t.Errorf("%+v %+v", one, two)
	}
	other, err := s.StartTest(ctx, "", result(t, s, id).Case.ID, "")
	must(t, err)
	if err := h.Join(ctx, other, b.Address()); err == nil || !strings.Contains(err.Error(), "another bench") {
		t.Errorf("joined twice: %v", err)
	}
	if err := h.Join(ctx, other, "127.0.0.1:1"); err == nil || !strings.Contains(err.Error(), "not among") {
		t.Errorf("an address nobody wrote down: %v", err)
	}
	must(t, b.Stop())
	must(t, b.Stop()) // from the other browser
	l := result(t, s, id)
	if r := l.Runs[len(l.Runs)-1]; r.Start != 2 || len(r.Marks) != 1 || len(r.Gaps) != 1 || !r.Watched {
		t.Errorf("%+v", r)
	}
	// Made again: the first is struck out.
	must(t, b.Redo(ctx, "hold"))
	must(t, b.Stop())
	n := 0
	for _, r := range result(t, s, id).Runs {
		if r.Kind == "hold" {
			n++
		}
	}
	if n > 1 {
		t.Errorf("%d holds stand after one was made again", n)
	}
}

// Over what the system is permitted the rig is told to open, and the bench says so.
func TestOverWhatIsPermitted(t *testing.T) {
	t.Parallel()
	addr, m, _ := module(t, sim.Vessel{Volume: 0.033}, 3, "127.0.0.1:0")
	s := open(t, filepath.Join(t.TempDir(), "shop.db"))
	_, id := testOn(t, s, addr, 0.033, "early-ported") // half the usual pressure
	h := live.New(s, dial)
	t.Cleanup(func() { h.Close() })
	must(t, h.Join(ctx, id, addr))
	b, _ := h.Look(id)
	within(t, 5*time.Second, "the module answers", func() bool { return b.Since(-1, "", 0, -1).Now != nil })
	must(t, m.Do(ctx, instrument.Command{Do: instrument.Charge, Target: 4500}))
	within(t, 10*time.Second, "a sentence", func() bool {
		return strings.Contains(view(b).Said, "13.8 inH2O this system is permitted: the rig has been told to open")
	})
	within(t, 10*time.Second, "open to air", func() bool { n := b.Since(-1, "", 0, -1).Now; return n != nil && n.Pa < 50 && view(b).Said == "" })
}

// Looking often must not make wrong verdicts: holds of leaks near the limit, ended at
// the moment the live verdict becomes firm. 95 of 100 would allow two or three.
func TestStoppingWhenFirm(t *testing.T) {
	if testing.Short() {
		t.Skip("many holds")
	}
	t.Parallel()
	wrong, firm := 0, 0
	for i := range 24 {
		d := 0.508e-3 * []float64{0.8, 0.9, 1.1, 1.25}[i%4]
		s, h, b, _, id, _ := bench(t, sim.Vessel{Volume: 0.033 * (1 + 0.03*rand.New(rand.NewPCG(uint64(i), 2)).NormFloat64()), Leak: d, Drift: 0.1}, 90)
		must(t, s.NoteGauge(ctx, id, func(su *record.Setup) { su.Level, su.Instrument.RigHeld = 1-(0.033-su.Extra)/su.Tank, "held" }))
		must(t, b.Refresh())
		leg(t, b, "zero")
		leg(t, b, "drift")
		must(t, b.Start(ctx, "hold"))
		end := time.Now().Add(3500 * time.Millisecond)
		for time.Now().Before(end) && view(b).Leg != "" {
			if e := b.Since(-1, "", 0, -1).Estimate; e != nil && e.Said == "" && e.Sum.Verdict != "undecided" {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
		must(t, b.Stop())
		switch o := result(t, s, id).Test.Outcome; {
		case o == "over_limit":
			firm++
			if d < 0.508e-3 {
				wrong++
			}
		case o == "within_limit":
			firm++
			if d > 0.508e-3 {
				wrong++
			}
		}
		h.Close()
	}
	t.Logf("%d firm of 24, %d wrong", firm, wrong)
	if wrong > 1 || firm < 6 {
		t.Errorf("%d wrong of %d firm", wrong, firm)
	}
}

// TestChild is the process that is killed: it takes a leg up, or begins one, and
// prints each reading that a browser would have been shown.
func TestChild(t *testing.T) {
	path := os.Getenv("WEXTER_CHILD")
	if path == "" {
		t.Skip("run by TestHundredKills")
	}
	s := open(t, path)
	h := live.New(s, dial)
	must(t, h.Resume(ctx))
	id, addr := os.Getenv("WEXTER_TEST"), os.Getenv("WEXTER_ADDR")
	b, ok := h.Look(id)
	if !ok {
		must(t, h.Join(ctx, id, addr))
		b, _ = h.Look(id)
		within(t, 5*time.Second, "the module", func() bool { return b.Since(-1, "", 0, -1).Now != nil })
		must(t, b.Start(ctx, "hold"))
	}
	run, from := "", 0
	for {
		n := b.Since(-1, run, from, -1)
		run, from = n.Run, n.From+len(n.Time)
		if k := len(n.Time); k > 0 {
			fmt.Printf("shown %.3f\n", n.Time[k-1])
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// A hundred times the program is killed in the middle of a hold (SIGKILL). Each time
// at most a second of what was shown is lost, and nothing once saved ever is.
func TestHundredKills(t *testing.T) {
	t.Parallel()
	kills := 100
	if testing.Short() {
		kills = 6
	}
	path := filepath.Join(t.TempDir(), "shop.db")
	addr, _, _ := module(t, sim.Vessel{Volume: 0.033, Leak: 0.6e-3}, 1, "127.0.0.1:0")
	s := open(t, path)
	_, id := test(t, s, addr, 0.033)
	var saved ingest.Log
	worst := 0.0
	rng := rand.New(rand.NewPCG(4, 4))
	for i := range kills {
		cmd := exec.Command(os.Args[0], "-test.run=^TestChild$", "-test.v")
		cmd.Env = append(os.Environ(), "WEXTER_CHILD="+path, "WEXTER_TEST="+id, "WEXTER_ADDR="+addr)
		out, err := cmd.StdoutPipe()
		must(t, err)
		must(t, cmd.Start())
		in := bufio.NewScanner(out)
		var shown []float64
		var killAt time.Time
		for in.Scan() {
			var at float64
			if _, err := fmt.Sscanf(in.Text(), "shown %f", &at); err != nil {
				continue
			}
			shown = append(shown, at)
			if killAt.IsZero() {
				killAt = time.Now().Add(time.Duration(50+rng.IntN(600)) * time.Millisecond)
			}
			if time.Now().After(killAt) {
				break
			}
		}
		must(t, cmd.Process.Kill())
		_ = cmd.Wait()
		if len(shown) == 0 {
			t.Fatalf("kill %d: nothing was shown", i)
		}
		runs, err := s.OpenRuns(ctx)
		must(t, err)
		if len(runs) != 1 {
			t.Fatalf("kill %d: %d runs are open", i, len(runs))
		}
		log, err := s.DB.Read(ctx).Readings(runs[0].ID)
		must(t, err)
		n := len(saved.Time)
		if len(log.Time) < n || !slices.Equal(log.Time[:n], saved.Time) || !slices.Equal(log.Gauge[:n], saved.Gauge) {
			t.Fatalf("kill %d: what was saved is changed", i)
		}
		last := -1.0
		if k := len(log.Time); k > 0 {
			last = log.Time[k-1]
		}
		if i, _ := slices.BinarySearch(shown, last+1e-6); i < len(shown) {
			worst = max(worst, shown[len(shown)-1]-shown[i]+0.1)
		}
		saved = log
	}
	t.Logf("%d kills, %d readings kept, at most %.2f s lost", kills, len(saved.Time), worst)
	if worst > 1 {
		t.Errorf("%.2f s of what was shown were lost", worst)
	}
	// What is there can be judged as far as it went, by a program that finds it.
	h := live.New(s, dial)
	defer h.Close()
	must(t, h.Resume(ctx))
	b, ok := h.Look(id)
	if !ok {
		t.Fatal("the leg is not taken up")
	}
	time.Sleep(12 * time.Second)
	must(t, b.Stop())
	l := result(t, s, id)
	sum, judged := l.Test.Summary()
	if !judged || sum.Low > 0.6e-3 || sum.High < 0.6e-3 {
		t.Errorf("%.3f to %.3f mm, %s %s", sum.Low*1e3, sum.High*1e3, l.Test.Outcome, l.Test.Problem)
	}
}
