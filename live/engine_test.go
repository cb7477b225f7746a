package live_test

import (
	"cmp"
	"context"
	"errors"
	"math"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"wexter/casework"
	"wexter/core/bench"
	"wexter/core/record"
	"wexter/core/units"
	"wexter/ingest"
	"wexter/instrument"
	"wexter/live"
)

// fake is an instrument whose readings a test makes up, on the clock that the test owns.
type fake struct {
	instrument.About
	every time.Duration
	clock float64                                              // what its clock is ahead of this computer's, s
	late  func() time.Duration                                 // how late a reading arrives
	gives func(f *fake, s float64) []instrument.Value          // at s of this computer's clock since it began
	does  func(f *fake, s float64, c instrument.Command) error // nil: it takes none

	mu    sync.Mutex
	began time.Time
	n     int64
	told  []instrument.Command
	kept  time.Time // when what was commanded expires
	dead  bool      // it no longer answers
	mute  bool      // it answers and gives no reading
}

func (f *fake) since() float64 { return time.Since(f.began).Seconds() }

func (f *fake) Next(ctx context.Context) (instrument.Reading, error) {
	for {
		f.mu.Lock()
		f.n++
		due := f.began.Add(time.Duration(f.n) * f.every)
		if due.Before(time.Now()) {
			due = time.Now()
		}
		f.mu.Unlock()
		if err := wait(ctx, time.Until(due)); err != nil {
			return instrument.Reading{}, err
		}
		f.mu.Lock()
		s, n, dead, mute := f.since(), f.n, f.dead, f.mute
		values := f.gives(f, s)
		f.mu.Unlock()
		if dead {
			return instrument.Reading{}, errors.New("the instrument no longer answers")
		}
		if f.late != nil {
			if err := wait(ctx, f.late()); err != nil {
				return instrument.Reading{}, err
			}
		}
		if mute {
			continue
		}
		return instrument.Reading{N: n, Time: s + f.clock, Values: values}, nil
	}
}

func wait(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(max(d, time.Millisecond)):
		return nil
	}
}

// Do keeps what the fake is told, and when that runs out.
func (f *fake) Do(_ context.Context, c instrument.Command) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if c.Keep > 0 {
		f.kept = time.Now().Add(time.Duration(c.Keep * float64(time.Second)))
	}
	if c.Do != instrument.Keep {
		f.told = append(f.told, c)
	}
	if f.does == nil {
		return errors.New("done by hand")
	}
	return f.does(f, f.since(), c)
}

func (f *fake) Close() error { return nil }

// fakeConn gives the fake's About as an instrument does.
type fakeConn struct{ *fake }

func (c fakeConn) About() instrument.About { return c.fake.About }

// value is a reading of one channel.
func value(key string, v float64) instrument.Value { return instrument.Value{Channel: key, Value: v} }

// newFake is a fake with channels, each with its unit.
func newFake(name string, every time.Duration, keyUnits ...string) *fake {
	f := &fake{About: instrument.About{Protocol: 1, Name: name, Serial: "S1", Session: name, CalibratedOn: "2026-01-15"}, every: every}
	for i := 0; i < len(keyUnits); i += 2 {
		f.Channels = append(f.Channels, instrument.Channel{Key: keyUnits[i], Name: keyUnits[i], Unit: keyUnits[i+1], Resolution: 0.1})
	}
	return f
}

// engine is a shop with fakes and a bench of a test.
type engine struct {
	*casework.Shop
	hub    *live.Hub
	bench  *live.Bench
	caseID string
	id     string
	dial   live.Dial
}

// seated is a fake and what it gives at the bench.
type seated struct {
	*fake
	wants []string
	kind  record.DeviceKind
}

// onBench runs a test of an engine on the clock that it owns.
func onBench(t *testing.T, test string, seats []seated, f func(t *testing.T, x *engine)) {
	t.Helper()
	ingest.Book()
	synctest.Test(t, func(t *testing.T) {
		x := &engine{Shop: open(t, filepath.Join(t.TempDir(), "shop.db"))}
		var err error
		x.caseID, err = x.OpenCase(ctx, "", casework.NewCase{Plate: "SQ 1", Make: "Ostrel", Model: "Wherry", TankL: 50, Metering: "maf", Archetype: cmp.Or(map[string]string{"pump-hand": "pressure-pump", "soak-watch": "eonv-switch-remote"}[test], "engine-vacuum"), Complaint: "Lamp on.", Who: "KM"})
		must(t, err)
		byAddress := map[string]*fake{}
		var chosen record.Seats
		for i, s := range seats {
			address := "127.0.0.1:41" + string(rune('0'+i)) + "0"
			id, err := x.AddDevice(ctx, "", casework.NewDevice{Kind: s.kind, Name: s.Name, Address: address})
			must(t, err)
			s.fake.began = time.Now()
			byAddress[address] = s.fake
			for _, w := range s.wants {
				chosen = append(chosen, record.Seat{Want: w, Device: id})
			}
		}
		x.dial = func(_ context.Context, d record.Device) (instrument.Instrument, error) {
			f := byAddress[d.Address]
			f.mu.Lock()
			defer f.mu.Unlock()
			if f.dead {
				return nil, errors.New("nothing answers at " + d.Address)
			}
			return fakeConn{f}, nil
		}
		x.hub = live.New(x.Shop, x.dial)
		t.Cleanup(func() { x.hub.Close() })
		x.id, err = x.StartBench(ctx, "", x.caseID, casework.NewBench{Test: test, Part: map[bool]string{true: "purge-valve"}[test == "valve-bench" || test == "circuit-walk"]})
		must(t, err)
		must(t, x.hub.Join(ctx, x.id, chosen))
		x.bench, _ = x.hub.Look(x.id)
		x.reads(t)
		f(t, x)
	})
}

// reads waits until the bench's first instrument measures.
func (x *engine) reads(t *testing.T) {
	t.Helper()
	until(t, "it measures", func() bool { return x.bench.Since(-1, "", 0, -1).Now != nil && view(x.bench).Status == live.On })
}

// ends waits until no stretch is read.
func (x *engine) ends(t *testing.T) {
	t.Helper()
	until(t, "it ends", func() bool { return view(x.bench).Leg == "" })
}

func (x *engine) runs(t *testing.T) []record.Run {
	t.Helper()
	l, err := x.LiveTest(ctx, x.id)
	must(t, err)
	return l.Runs
}

// channel is the times and values of a column where it gave some.
func channel(t record.Table, col int) (at, values []float64) {
	for i, v := range t.Cols[col] {
		if !math.IsNaN(v) {
			at, values = append(at, t.Time[i]), append(values, v)
		}
	}
	return at, values
}

// Two instruments with clocks of their own and readings that come late: what they measured at one
// moment is kept at one moment, as well as is claimed. Both show the same ramp, so that a value
// is the time at which it was measured.
func TestInstrumentsAreAligned(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 1))
	lateBy := func(least, spread float64) func() time.Duration {
		return func() time.Duration { return time.Duration((least + spread*rng.Float64()) * 1e9) }
	}
	flow := newFake("flow meter", 100*time.Millisecond, "flow", units.Base(units.Flow))
	flow.clock, flow.late = 1000, lateBy(0.002, 0.02)
	flow.gives = func(_ *fake, s float64) []instrument.Value { return []instrument.Value{value("flow", s)} }
	gauge := newFake("gauge", 250*time.Millisecond, "pressure", "Pa")
	gauge.clock, gauge.late = 5e6, lateBy(0.01, 0.15)
	gauge.gives = func(_ *fake, s float64) []instrument.Value { return []instrument.Value{value("pressure", s)} }
	onBench(t, "make-up-flow", []seated{{flow, []string{"flow"}, record.Module}, {gauge, []string{"pressure"}, record.Module}}, func(t *testing.T, x *engine) {
		must(t, x.bench.Start(ctx, "phase-1"))
		x.ends(t)
		r := x.runs(t)[0]
		if len(r.Channels) != 2 || r.Channels[0].Within > 0.1 || !(r.Channels[1].Within > 0.01 && r.Channels[1].Within < 0.4) || r.Channels[1].CalibratedOn != "2026-01-15" || r.Who != "KM" {
			t.Fatalf("%+v by %q", r.Channels, r.Who)
		}
		rec, err := x.Recorded(ctx, r.ID)
		must(t, err)
		at, measured := channel(rec.Table, 0)
		began := measured[0] - at[0]
		times, seen := channel(rec.Table, 1)
		if len(at) < 2300 || len(times) < 900 {
			t.Fatalf("%d and %d readings", len(at), len(times))
		}
		worst := 0.0
		for i := range times {
			worst = max(worst, math.Abs(seen[i]-began-times[i]))
		}
		if worst > r.Channels[1].Within {
			t.Errorf("a reading stands %.3f s from its moment; %.3f s are claimed", worst, r.Channels[1].Within)
		}
	})
}

// Readings of the first instrument that come several at once, after another's, are all kept.
func TestABurstIsKept(t *testing.T) {
	flow := newFake("flow meter", 100*time.Millisecond, "flow", units.Base(units.Flow))
	n := 0
	flow.late = func() time.Duration { // every tenth is held up, and those behind it with it
		if n++; n%10 == 0 {
			return 450 * time.Millisecond
		}
		return 0
	}
	flow.gives = func(_ *fake, s float64) []instrument.Value { return []instrument.Value{value("flow", s)} }
	gauge := newFake("gauge", 70*time.Millisecond, "pressure", "Pa")
	gauge.gives = func(*fake, float64) []instrument.Value { return []instrument.Value{value("pressure", 2490)} }
	onBench(t, "make-up-flow", []seated{{flow, []string{"flow"}, record.Module}, {gauge, []string{"pressure"}, record.Module}}, func(t *testing.T, x *engine) {
		must(t, x.bench.Start(ctx, "phase-1"))
		time.Sleep(60 * time.Second)
		must(t, x.bench.Stop())
		r := x.runs(t)[0]
		rec, err := x.Recorded(ctx, r.ID)
		must(t, err)
		at, measured := channel(rec.Table, 0)
		worst := 0.0
		for i := range at {
			worst = max(worst, math.Abs(measured[i]-measured[0]-(at[i]-at[0])))
		}
		if steps := measured[len(measured)-1] - measured[0]; float64(len(at)) < steps*8 || worst > r.Channels[0].Within+0.05 || r.Channels[0].Within > 0.6 || len(r.Gaps) > 0 {
			t.Errorf("%d readings in %.0f s, the worst %.2f s off, %.2f s claimed, gaps %v", len(at), steps, worst, r.Channels[0].Within, r.Gaps)
		}
	})
}

// What measures a thousand times a second is kept as means, ten a second.
func TestFastInstrumentIsMeaned(t *testing.T) {
	fast := newFake("fast gauge", time.Millisecond, "pressure", "Pa")
	rng := rand.New(rand.NewPCG(7, 7))
	fast.gives = func(*fake, float64) []instrument.Value {
		return []instrument.Value{value("pressure", -4000+50*rng.NormFloat64())}
	}
	onBench(t, "crankcase-manometer", []seated{{fast, []string{"pressure"}, record.Module}}, func(t *testing.T, x *engine) {
		must(t, x.bench.Start(ctx, "phase-1"))
		x.ends(t)
		r := x.runs(t)[0]
		if r.Readings < 250 || r.Readings > 310 {
			t.Errorf("%d readings of 30 s", r.Readings)
		}
		rec, err := x.Recorded(ctx, r.ID)
		must(t, err)
		_, v := channel(rec.Table, 0)
		sum := 0.0
		for _, p := range v[20:] {
			sum += (p + 4000) * (p + 4000) / float64(len(v)-20)
		}
		if sd := math.Sqrt(sum); sd > 10 { // 50 Pa over a hundred readings are 5 Pa
			t.Errorf("the means scatter by %.1f Pa", sd)
		}
	})
}

// tank is a car whose purge valve draws on its tank at idle: vacuum builds while the vent is
// commanded shut and the purge valve open, and falls away otherwise.
func tank(clock float64) *fake {
	f := newFake("adapter", 100*time.Millisecond, "pid-32", "Pa", "pid-2F", "%")
	f.clock, f.Session, f.NoClock = clock, instrument.OwnClock, true
	f.Commands = []string{instrument.Valve, instrument.Keep}
	open := map[string]float64{}
	vacuum, last := 0.0, 0.0
	pass := func(f *fake, s float64) {
		if time.Now().After(f.kept) { // nobody asks for it any more
			clear(open)
		}
		dt := s - last
		last = s
		if open["vent-valve"] > 0 {
			vacuum += 4000 * open["purge-valve"] * dt
			vacuum -= vacuum * dt / 400
		} else {
			vacuum -= vacuum * min(dt, 1)
		}
	}
	f.gives = func(f *fake, s float64) []instrument.Value {
		pass(f, s)
		return []instrument.Value{value("pid-32", -vacuum), value("pid-2F", 60)}
	}
	f.does = func(f *fake, s float64, c instrument.Command) error {
		pass(f, s)
		if c.Do == instrument.Valve {
			if open[c.Words] = c.Target; c.Target < 0 {
				delete(open, c.Words)
			}
		}
		return nil
	}
	return f
}

// energised reports whether a valve stands commanded now.
func (f *fake) energised() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.gives(f, f.since()) // what runs out meanwhile has
	stand := map[string]float64{}
	for _, c := range f.told {
		stand[c.Words] = c.Target
	}
	return !time.Now().After(f.kept) && slices.ContainsFunc([]string{"purge-valve", "vent-valve"}, func(k string) bool { return stand[k] > 0 })
}

// vacuum is what the tank stands at, Pa below the air.
func (f *fake) vacuum() float64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	return -f.gives(f, f.since())[0].Value
}

func adapterSeat(f *fake) []seated { return []seated{{f, []string{"live-data"}, record.Adapter}} }

// A draw-down: the sensor's zero follows by itself, what energises wants a press of its own, and
// from that press on the purge valve is shut by itself at 8 inH2O, the readings are taken,
// everything is let go, and the readings give a verdict.
func TestDrawDownRunsFromOnePress(t *testing.T) {
	car := tank(0)
	onBench(t, "draw-down", adapterSeat(car), func(t *testing.T, x *engine) {
		must(t, x.bench.Start(ctx, "phase-1"))
		time.Sleep(2 * time.Second)
		must(t, x.bench.Onward(ctx)) // warm: what comes next energises, and wants a press of its own
		time.Sleep(8 * time.Second)
		if v := view(x.bench); v.Leg != "" || v.Start != "drift" || car.energised() {
			t.Fatalf("%q is read, %q comes next, told %v", v.Leg, v.Start, car.told)
		}
		must(t, x.bench.Start(ctx, "drift"))
		until(t, "the vent is let go again", func() bool { v := view(x.bench); return v.Leg == "" && v.Start == "phase-2" && !car.energised() })
		must(t, x.bench.Start(ctx, "phase-2"))
		most := 0.0
		until(t, "all is in", func() bool {
			most = max(most, car.vacuum())
			v := view(x.bench)
			return v.Leg == "" && v.Start == "" && !car.energised()
		})
		if most < 8*units.InH2O || most > 9*units.InH2O {
			t.Errorf("drawn to %.1f inH2O, 8 are asked for", most/units.InH2O)
		}
		l, err := x.LiveTest(ctx, x.id)
		must(t, err)
		built, _ := l.Readings().Mean("built")
		left, _ := l.Readings().Mean("left")
		e, err := l.Judge(record.Run{}, record.Table{}, nil)
		if err != nil || e.Verdict.Outcome != "holds" || math.Abs(left/built-math.Exp(-60.0/400)) > 0.01 {
			t.Errorf("%.2f built, %.2f left, %+v, %v", built, left, e.Verdict, err)
		}
		runs := x.runs(t)
		if len(runs) != 7 || len(runs[3].Marks) != 1 || runs[3].Marks[0].Key != record.Recognised {
			t.Errorf("%d runs, marks %+v", len(runs), runs[3].Marks)
		}
		// Its result says who measured, with what, calibrated when.
		id, err := x.AddResult(ctx, "", x.caseID, casework.NewResult{Test: "draw-down", Readings: l.Readings(), Bench: x.id})
		must(t, err)
		f, err := x.Load(ctx, x.caseID)
		must(t, err)
		if r := f.Results[0]; r.ID != id || r.Outcome != "holds" || r.Bench != x.id || !strings.HasPrefix(r.Measured, "KM with adapter S1, calibrated 2026-01-15") {
			t.Errorf("%+v", r)
		}
	})
}

// Whatever ends a draw-down in its middle, the valves are at rest soon after: Wexter killed, the
// adapter gone, an adapter that answers and gives no reading, the last browser closed, Stop, and
// a vacuum beyond what the tank is permitted.
func TestValvesAreNeverLeft(t *testing.T) {
	for _, c := range []struct {
		name   string
		ends   func(t *testing.T, x *engine, car *fake)
		looks  bool
		within time.Duration
	}{
		{"killed", func(t *testing.T, x *engine, _ *fake) { must(t, x.hub.Close()) }, false, 65 * time.Second},
		{"the adapter is gone", func(_ *testing.T, _ *engine, car *fake) { car.mu.Lock(); car.dead = true; car.mu.Unlock() }, true, 65 * time.Second},
		{"no reading comes", func(_ *testing.T, _ *engine, car *fake) { car.mu.Lock(); car.mute = true; car.mu.Unlock() }, true, 5 * time.Second},
		{"nobody looks", func(*testing.T, *engine, *fake) {}, false, 65 * time.Second},
		{"stop", func(t *testing.T, x *engine, _ *fake) { must(t, x.bench.Stop()) }, true, time.Second},
	} {
		t.Run(c.name, func(t *testing.T) {
			car := tank(0)
			onBench(t, "draw-down", adapterSeat(car), func(t *testing.T, x *engine) {
				gives := car.gives
				car.gives = func(f *fake, s float64) []instrument.Value { // a hole keeps it from building
					gives(f, s)
					return []instrument.Value{value("pid-32", -500)}
				}
				must(t, x.bench.Start(ctx, "phase-2"))
				time.Sleep(3 * time.Second)
				view(x.bench)
				if !car.energised() {
					t.Fatalf("nothing is commanded: %v", car.told)
				}
				c.ends(t, x, car)
				began := time.Now()
				for car.energised() {
					if time.Since(began) > c.within {
						t.Fatalf("still commanded after %v", time.Since(began))
					}
					if c.looks {
						view(x.bench)
					}
					time.Sleep(100 * time.Millisecond)
				}
			})
		})
	}
	t.Run("beyond what the tank is permitted", func(t *testing.T) {
		car := tank(0)
		onBench(t, "draw-down", adapterSeat(car), func(t *testing.T, x *engine) {
			gives := car.gives
			car.gives = func(f *fake, s float64) []instrument.Value {
				gives(f, s)
				if len(f.told) > 1 && s > 5 {
					return []instrument.Value{value("pid-32", -6000)}
				}
				return []instrument.Value{value("pid-32", -100)}
			}
			must(t, x.bench.Start(ctx, "phase-2"))
			until(t, "it is put to rest", func() bool { return view(x.bench).Leg == "" && !car.energised() })
			if r := x.runs(t)[0]; !strings.Contains(strings.Join(r.Notes, " "), "is permitted") {
				t.Errorf("%+v", r.Notes)
			}
		})
	})
}

// A valve in place is switched by the adapter with each tap of the power, and is let go by the next one,
// by Stop, and when nobody looks; a press that is sent twice switches once, and one that the adapter
// refuses is no switching.
func TestPowerIsToldFromHere(t *testing.T) {
	gauge := newFake("gauge", 100*time.Millisecond, "pressure", "Pa")
	gauge.gives = func(*fake, float64) []instrument.Value { return []instrument.Value{value("pressure", -40e3)} }
	car := tank(0)
	seats := []seated{{gauge, []string{"pressure"}, record.Module}, {car, []string{"live-data"}, record.Adapter}}
	onBench(t, "valve-bench", seats, func(t *testing.T, x *engine) {
		must(t, x.bench.Start(ctx, "phase-1"))
		time.Sleep(3 * time.Second)
		power := func(form string) bool {
			must(t, x.bench.Mark(ctx, form, bench.PowerTap, ""))
			view(x.bench)
			return car.energised()
		}
		if !power("p1") || !power("p1") {
			t.Fatalf("told %v", car.told)
		}
		if v := view(x.bench); v.Taps[0].Name != "Power off" || len(v.Marks) != 1 || v.Marks[0].Text != "Power on" {
			t.Errorf("%+v, %+v", v.Taps, v.Marks)
		}
		if power("p2") {
			t.Errorf("still on: %v", car.told)
		}
		does := car.does
		car.does = func(*fake, float64, instrument.Command) error { return errors.New("no command for that part") }
		if err := x.bench.Mark(ctx, "p3", bench.PowerTap, ""); err == nil || !strings.Contains(err.Error(), "no command") {
			t.Errorf("a refusal of the adapter: %v", err)
		}
		car.does = does
		if v := view(x.bench); len(v.Marks) != 2 || v.Taps[0].Name != "Power on" {
			t.Errorf("what was refused is marked: %+v", v.Marks)
		}
		if !power("p4") {
			t.Fatal("it does not come on again")
		}
		must(t, x.bench.Stop())
		until(t, "Stop lets it go", func() bool { return !car.energised() })
		// Stopped with the power on, Wexter takes the leg up with the power off.
		must(t, x.bench.Start(ctx, "phase-1"))
		time.Sleep(time.Second)
		if !power("p5") {
			t.Fatal("not on in the second leg")
		}
		must(t, x.hub.Close())
		x.hub = live.New(x.Shop, x.dial)
		t.Cleanup(func() { x.hub.Close() })
		must(t, x.hub.Resume(ctx))
		x.bench, _ = x.hub.Look(x.id)
		x.reads(t)
		if v := view(x.bench); v.Taps[0].Name != "Power on" || !strings.Contains(v.Marks[len(v.Marks)-1].Text, "Wexter was stopped") {
			t.Errorf("%+v, %+v", v.Taps, v.Marks)
		}
		time.Sleep(time.Second)
		if !power("p6") {
			t.Fatal("not on again")
		}
		for began := time.Now(); car.energised(); time.Sleep(time.Second) {
			if time.Since(began) > 65*time.Second {
				t.Fatal("nobody looks, and it stays commanded")
			}
		}
	})
}

// What suspects would show is foreseen for what a part holds, from the last stroke on, and for a phase of
// the whole car; not where a hand decides when a part is switched, and not for a quantity of no plant.
func TestSuspectsAreForetold(t *testing.T) {
	onBench(t, "valve-bench", nil, func(t *testing.T, x *engine) {
		told, err := x.Foretell(ctx, x.id, "phase-3", "pressure")
		must(t, err)
		if n := len(told); n == 0 || told[n-1].Name != "nothing wrong" || !told[n-1].Held || len(told[n-1].Time) < 40 {
			t.Fatalf("%+v", told)
		}
		for _, c := range [][2]string{{"phase-1", "pressure"}, {"rig", "pressure"}, {"phase-3", "volts"}, {"no such leg", "pressure"}} {
			if told, err := x.Foretell(ctx, x.id, record.RunKind(c[0]), c[1]); err != nil || len(told) > 0 {
				t.Errorf("%v: %+v, %v", c, told, err)
			}
		}
	})
	onBench(t, "purge-running", nil, func(t *testing.T, x *engine) { // a hose is clamped when the stretch asks for it
		for _, c := range []struct {
			leg, column string
			draws       bool
		}{{"phase-3", "pid-06", true}, {"phase-4", "pid-0C", true}, {"phase-3", "pid-99", false}} {
			told, err := x.Foretell(ctx, x.id, record.RunKind(c.leg), c.column)
			must(t, err)
			if n := len(told); (n > 0) != c.draws || n > 0 && (told[n-1].Name != "nothing wrong" || told[n-1].Held || len(told[n-1].Time) < 50) {
				t.Errorf("%s of %s: %d courses", c.column, c.leg, n)
			}
		}
	})
	onBench(t, "draw-down", adapterSeat(tank(0)), func(t *testing.T, x *engine) {
		told, err := x.Foretell(ctx, x.id, "phase-2", bench.TankSensor)
		must(t, err)
		if n := len(told); n < 2 || told[n-1].Held || told[0].Name == told[n-1].Name {
			t.Errorf("%+v", told)
		}
	})
}

// One window drives, the others watch; stopping is for everybody, taking over is one tap, and
// who has gone away no longer drives. Each turn is written down.
func TestOneDrives(t *testing.T) {
	car := tank(0)
	a, b := live.Hand{ID: "a", Who: "bay 1", Screen: "bench page"}, live.Hand{ID: "b", Who: "tablet", Screen: "bay view"}
	onBench(t, "draw-down", adapterSeat(car), func(t *testing.T, x *engine) {
		must(t, x.bench.May(ctx, a))
		if err := x.bench.May(ctx, b); err == nil || !strings.Contains(err.Error(), "bay 1 drives") {
			t.Errorf("two drive: %v", err)
		}
		if !x.bench.Sees("a") || x.bench.Sees("b") || x.bench.Sees("") {
			t.Error("it is not known who drives")
		}
		must(t, x.bench.TakeOver(ctx, b))
		must(t, x.bench.TakeOver(ctx, b)) // pressed twice
		if err := x.bench.May(ctx, a); err == nil {
			t.Error("who was relieved still drives")
		}
		time.Sleep(10 * time.Second)
		x.bench.Sees("b")
		time.Sleep(10 * time.Second)
		if err := x.bench.May(ctx, a); err == nil {
			t.Error("who still looks is taken to be gone")
		}
		time.Sleep(16 * time.Second)
		must(t, x.bench.May(ctx, a))
		l, err := x.LiveTest(ctx, x.id)
		must(t, err)
		var who []string
		for _, turn := range l.Test.Turns {
			who = append(who, turn.Who)
		}
		if want := []string{"bay 1, bench page", "tablet, bay view", "bay 1, bench page"}; !slices.Equal(who, want) {
			t.Errorf("%v drove, want %v", who, want)
		}
	})
}

// What is felt by hand is marked by this computer's clock where no instrument reads; a leg is
// read again or taken back, and what is on disk goes on after the program was stopped.
func TestMarksByHandOutliveAStop(t *testing.T) {
	onBench(t, "pump-hand", nil, func(t *testing.T, x *engine) {
		must(t, x.bench.Start(ctx, "phase-1"))
		tap := func(after time.Duration, key string) {
			t.Helper()
			time.Sleep(after)
			must(t, x.bench.Mark(ctx, key, "stroke", ""))
		}
		tap(2*time.Second, "m1")
		tap(time.Second, "m2")
		must(t, x.bench.Mark(ctx, "m2", "stroke", "")) // the same press twice
		if err := x.bench.Mark(ctx, "m3", "whistle", ""); err == nil {
			t.Error("a mark that the test does not know")
		}
		must(t, x.hub.Close())
		time.Sleep(3 * time.Second)
		x.hub = live.New(x.Shop, x.dial)
		t.Cleanup(func() { x.hub.Close() })
		must(t, x.hub.Resume(ctx))
		x.bench, _ = x.hub.Look(x.id)
		x.reads(t)
		tap(4*time.Second, "m4")
		must(t, x.bench.Stop())
		l, err := x.LiveTest(ctx, x.id)
		must(t, err)
		n, _ := l.Readings().Mean("strokes")
		if pause, ok := l.Readings().Mean("pause"); n != 3 || !ok || pause < 7 || pause > 9 {
			t.Errorf("%v strokes, a pause of %v s; %+v", n, pause, l.Runs)
		}
		if len(l.Runs) != 1 || len(l.Runs[0].Gaps) != 1 || l.Runs[0].Gaps[0].Why != "Wexter was stopped" {
			t.Errorf("%+v", l.Runs)
		}
		must(t, x.bench.Redo(ctx, "phase-1"))
		time.Sleep(2 * time.Second)
		must(t, x.bench.Stop())
		if l, err = x.LiveTest(ctx, x.id); err != nil || len(l.Runs) != 1 || l.Readings().Has("strokes") {
			t.Errorf("read again: %d legs, %v, %v", len(l.Runs), l.Readings(), err)
		}
		must(t, x.bench.TakeBack(ctx, "phase-1"))
		if v := view(x.bench); len(x.runs(t)) != 0 || v.Start != "phase-1" {
			t.Errorf("taken back: %d legs, %q comes next", len(x.runs(t)), v.Start)
		}
	})
}

// A night is read slowly, goes on though nobody looks and though Wexter is stopped meanwhile, even with a
// module that could charge, stands on the rail, and is over when the switch has changed.
func TestANightIsWatchedAlone(t *testing.T) {
	night := newFake("module", time.Second, "volts", "V", "pressure", "Pa", "wall", "K")
	night.Commands = []string{instrument.Charge, instrument.Open, instrument.Keep}
	night.does = func(*fake, float64, instrument.Command) error { return nil }
	night.gives = func(_ *fake, s float64) []instrument.Value {
		volts, h := 11.8, s/3600
		if h > 3.5 {
			volts = 0.2
		}
		return []instrument.Value{value("volts", volts), value("pressure", 100-100*h), value("wall", 295-0.5*h)}
	}
	onBench(t, "soak-watch", []seated{{night, []string{"volts", "pressure", "wall"}, record.Module}}, func(t *testing.T, x *engine) {
		must(t, x.bench.Start(ctx, "phase-2"))
		if v := view(x.bench); v.Rig {
			t.Error("a car that is left alone could be charged")
		}
		time.Sleep(90 * time.Minute)
		longs := x.hub.Longs()
		if len(longs) != 1 || longs[0].Test != x.id || time.Until(longs[0].Until) < 4*time.Hour || time.Until(longs[0].Until) > 5*time.Hour {
			t.Fatalf("%+v", longs)
		}
		must(t, x.hub.Close())
		time.Sleep(time.Hour)
		x.hub = live.New(x.Shop, x.dial)
		t.Cleanup(func() { x.hub.Close() })
		must(t, x.hub.Resume(ctx))
		time.Sleep(90 * time.Minute)
		if len(x.hub.Longs()) != 0 {
			t.Error("it is not over")
		}
		l, err := x.LiveTest(ctx, x.id)
		must(t, err)
		r := l.Runs[0]
		if len(l.Runs) != 1 || r.EndedAt == nil || r.Readings < 600 || r.Readings > 900 || len(r.Gaps) == 0 || r.Gaps[0].Why != "Wexter was stopped" {
			t.Errorf("%d readings, gaps %+v", r.Readings, r.Gaps)
		}
		if when, _ := l.Readings().Mean("time"); math.Abs(when-210) > 2 {
			t.Errorf("changed after %v min; %+v", when, l.Readings())
		}
		for _, c := range night.told {
			if c.Do == instrument.Open || c.Do == instrument.Charge {
				t.Errorf("it was told to %s", c.Do)
			}
		}
	})
}

// An instrument beside the first that falls silent leaves a hole in its own column and a sentence;
// the stretch goes on.
func TestSecondInstrumentFallsSilent(t *testing.T) {
	flow := newFake("flow meter", 100*time.Millisecond, "flow", units.Base(units.Flow))
	flow.gives = func(*fake, float64) []instrument.Value { return []instrument.Value{value("flow", 1e-5)} }
	gauge := newFake("gauge", 100*time.Millisecond, "pressure", "Pa")
	gauge.gives = func(*fake, float64) []instrument.Value { return []instrument.Value{value("pressure", 2490)} }
	onBench(t, "make-up-flow", []seated{{flow, []string{"flow"}, record.Module}, {gauge, []string{"pressure"}, record.Module}}, func(t *testing.T, x *engine) {
		must(t, x.bench.Start(ctx, "phase-1"))
		time.Sleep(20 * time.Second)
		gauge.mu.Lock()
		gauge.dead = true
		gauge.mu.Unlock()
		time.Sleep(10 * time.Second)
		v := view(x.bench)
		if v.Leg == "" || v.Seats[1].Status != live.Lost || v.Status != live.On {
			t.Fatalf("%+v", v.Seats)
		}
		gauge.mu.Lock()
		gauge.dead = false
		gauge.mu.Unlock()
		x.ends(t)
		r := x.runs(t)[0]
		rec, err := x.Recorded(ctx, r.ID)
		must(t, err)
		times, _ := channel(rec.Table, 1)
		hole := 0.0
		for i := 1; i < len(times); i++ {
			hole = max(hole, times[i]-times[i-1])
		}
		if hole < 9 || hole > 14 || len(r.Gaps) != 0 || !strings.Contains(strings.Join(r.Notes, " "), "gauge gave nothing from 20 to") {
			t.Errorf("a hole of %.1f s, gaps %v, notes %q", hole, r.Gaps, r.Notes)
		}
	})
}

// A meter that is turned from volts to ohms: what it shows beyond its range is an open circuit and no gap, the volts
// of before are none of this moment, and one key goes from one measurement to the next.
func TestAMeterIsTurnedToOhms(t *testing.T) {
	var onOhms atomic.Bool
	meter := newFake("meter", 100*time.Millisecond, "volts", "V", "ohms", "ohm")
	meter.gives = func(*fake, float64) []instrument.Value {
		if onOhms.Load() {
			return []instrument.Value{{Channel: "ohms", Value: 2e4, Over: true}}
		}
		return []instrument.Value{value("volts", 12.5)}
	}
	onBench(t, "circuit-walk", []seated{{meter, []string{"volts", "ohms"}, record.Module}}, func(t *testing.T, x *engine) {
		must(t, x.bench.Start(ctx, "phase-2"))
		time.Sleep(5 * time.Second)
		must(t, x.bench.Onward(ctx)) // the supply is there: the coil comes next, and is begun at once
		if v := view(x.bench); v.Leg != "phase-9" {
			t.Fatalf("after the supply comes %q", v.Leg)
		}
		onOhms.Store(true)
		time.Sleep(12 * time.Second)
		now := x.bench.Since(-1, "", 0, -1).Now
		if now == nil || !math.IsNaN(now.Values[0]) || !now.Overs[1] {
			t.Errorf("on ohms for twelve seconds it shows %+v", now)
		}
		if v := view(x.bench); v.Status != live.On || !strings.Contains(v.Next, "probes in the air") {
			t.Errorf("%s: %s", v.Status, v.Next)
		}
		must(t, x.bench.Onward(ctx))
		l, err := x.LiveTest(ctx, x.id)
		must(t, err)
		if c := l.Readings()["coil"].Numbers; len(c) != 1 || !math.IsInf(c[0], 1) || len(x.runs(t)[1].Gaps) != 0 {
			t.Errorf("a coil beyond the range is read as %v, gaps %v", c, x.runs(t)[1].Gaps)
		}
		if v := l.Bench.Reduce(l.Known(nil, 0).Subject, l.Readings()); v.Outcome != "coil" {
			t.Errorf("%s: %s", v.Outcome, v.Says)
		}
	})
}

// A test is not begun with instruments that cannot give it.
func TestWrongSeats(t *testing.T) {
	car := tank(0)
	onBench(t, "draw-down", adapterSeat(car), func(t *testing.T, x *engine) {
		l, err := x.LiveTest(ctx, x.id)
		must(t, err)
		adapter := l.Test.Seats[0].Device
		other, err := x.StartBench(ctx, "", x.caseID, casework.NewBench{Test: "make-up-flow"})
		must(t, err)
		for _, c := range []struct{ want, device, says string }{{"flow", adapter, "does not give that"}, {"flow", "gone", "no longer among"}} {
			if err := x.hub.Join(ctx, other, record.Seats{{Want: c.want, Device: c.device}}); err == nil || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%v, want %q", err, c.says)
			}
		}
		for _, n := range []casework.NewBench{{Test: "decay"}, {Test: "readiness"}, {Test: "raft"}, {Test: "valve-bench"}} {
			if _, err := x.StartBench(ctx, "", x.caseID, n); err == nil {
				t.Errorf("a bench of %q", n.Test)
			}
		}
	})
}
