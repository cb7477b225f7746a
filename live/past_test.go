package live_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"wexter/casework"
	"wexter/core/record"
	"wexter/instrument"
	"wexter/live"
)

// What was measured with an instrument past its date says so: on the bench, and on the result,
// for good, whatever is written down about the instrument later.
func TestPastItsDate(t *testing.T) {
	gauge := newFake("old gauge", 100*time.Millisecond, "pressure", "Pa")
	gauge.gives = func(*fake, float64) []instrument.Value { return []instrument.Value{value("pressure", -4000)} }
	onBench(t, "crankcase-manometer", []seated{{gauge, []string{"pressure"}, record.Module}}, func(t *testing.T, x *engine) {
		due := func(on string) {
			t.Helper()
			l, err := x.LiveTest(ctx, x.id)
			must(t, err)
			must(t, x.SetDevice(ctx, "", l.Test.Seats[0].Device, func(d *record.Device) error { d.Settings.DueOn = on; return nil }))
			x.hub.Leave(x.id)
			time.Sleep(10 * time.Second) // it is let go, and read anew
			must(t, x.hub.Join(ctx, x.id, l.Test.Seats))
			x.bench, _ = x.hub.Look(x.id)
			x.reads(t)
		}
		due("1999-12-31") // this clock begins with the year 2000
		if s := view(x.bench).Seats[0]; s.Past != "1999-12-31" {
			t.Errorf("on the bench: %+v", s)
		}
		must(t, x.bench.Start(ctx, "phase-1"))
		x.ends(t)
		due("2000-12-31")
		must(t, x.bench.Start(ctx, "phase-2"))
		x.ends(t)
		l, err := x.LiveTest(ctx, x.id)
		must(t, err)
		_, err = x.AddResult(ctx, "", x.caseID, casework.NewResult{Test: "crankcase-manometer", Readings: l.Readings(), Bench: x.id})
		must(t, err)
		f, err := x.Load(ctx, x.caseID)
		must(t, err)
		if said := f.Results[0].Measured; strings.Count(said, "past its date of 1999-12-31") != 1 || strings.Contains(said, "2000-12-31") {
			t.Errorf("the result says %q", said)
		}
	})
}

// A hold that was read with a gauge past its date says so beside its verdict.
func TestHoldPastItsDate(t *testing.T) {
	run(t, tight, "engine-vacuum", func(t *testing.T, x shop) {
		d, err := x.Device(ctx, record.Module, benchAddress)
		must(t, err)
		must(t, x.SetDevice(ctx, "", d.ID, func(d *record.Device) error { d.Settings.DueOn = "1999-06-30"; return nil }))
		seats := seatsAt(t, x.Shop, benchAddress)
		x.hub.Leave(x.id)
		time.Sleep(10 * time.Second)
		must(t, x.hub.Join(ctx, x.id, seats))
		x.bench, _ = x.hub.Look(x.id)
		until(t, "it measures", func() bool { return x.bench.Since(-1, "", 0, -1).Now != nil })
		x.leg(t, record.RunZero)
		x.holding(t)
		time.Sleep(30 * time.Second)
		must(t, x.bench.Stop())
		sum, _ := x.result(t).Test.Summary()
		if said := strings.Join(sum.Warnings, " "); !strings.Contains(said, "was to be calibrated by 1999-06-30, and was past its date") {
			t.Errorf("%q", sum.Warnings)
		}
	})
}

// Who asks for an instrument as it was spoken to before does not keep it so for the others.
func TestHowItIsSpokenToIsNew(t *testing.T) {
	gauge := newFake("board", 100*time.Millisecond, "pressure", "Pa")
	gauge.gives = func(*fake, float64) []instrument.Value { return []instrument.Value{value("pressure", 100)} }
	onBench(t, "crankcase-manometer", []seated{{gauge, []string{"pressure"}, record.Module}}, func(t *testing.T, x *engine) {
		var with []string
		hub := live.New(x.Shop, func(_ context.Context, d record.Device) (instrument.Instrument, error) {
			with = append(with, d.Settings.Lines.Separator)
			return fakeConn{gauge}, nil
		})
		t.Cleanup(func() { hub.Close() })
		d := record.Device{ID: "d", Kind: record.Module, Driver: record.NumberLines, Address: "127.0.0.1:4199"}
		now := d
		now.Settings.Lines.Separator = "comma"
		for _, asked := range []record.Device{now, d, now, now} {
			if _, err := hub.Watch(asked); err != nil {
				t.Fatal(err)
			}
			time.Sleep(time.Second)
		}
		if got := strings.Join(with, " "); got != "comma  comma" {
			t.Errorf("spoken to with %q", got)
		}
	})
}
