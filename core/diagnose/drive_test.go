package diagnose_test

import (
	"testing"

	"wexter/core/bench"
	"wexter/core/diagnose"
	"wexter/core/plumbing"
	"wexter/core/sim"
	"wexter/core/trim"
	"wexter/ingest"
)

// driveOf drives a simulated car with a fault and reads its log. The seed and the engine's size are
// others than those of the table that faults are weighed by.
func driveOf(t testing.TB, c plumbing.Combination, fault string, severity float64) trim.Drive {
	t.Helper()
	b := ingest.Book()
	full, err := b.Plumbing.Complete(c)
	if err != nil {
		t.Fatal(err)
	}
	car, err := sim.NewCar(b.Plumbing, full, nil, sim.Conditions{Level: 0.4, Ambient: 291, Seed: 4711, Displacement: 1.9e-3})
	if err != nil {
		t.Fatal(err)
	}
	if f, ok := b.Fault(fault); ok {
		part, can := f.Can(car.Graph, full)
		if !can {
			t.Fatalf("%v cannot have %s", full, fault)
		}
		for _, d := range f.Defects(part, severity) {
			if err := car.Apply(d); err != nil {
				t.Fatal(err)
			}
		}
	}
	rows, err := car.Record(sim.TrimDrive(), 0.25)
	if err != nil {
		t.Fatal(err)
	}
	l := &trim.Log{}
	for c := range trim.Channels {
		pid, ok := c.PID()
		if !ok {
			continue
		}
		var v []float64
		for _, r := range rows {
			if x, ok := r.Live[pidKey(pid)]; ok {
				v = append(v, c.SI(x))
			}
		}
		if len(v) == len(rows) {
			l.Value[c] = v
		}
	}
	for _, r := range rows {
		l.Time = append(l.Time, r.Time)
	}
	d, err := trim.NewDrive(l, bench.EngineOf(car.Graph, 1.9e-3, 0))
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func pidKey(p byte) string {
	return string("0123456789ABCDEF"[p>>4]) + string("0123456789ABCDEF"[p&15])
}

func driven(d trim.Drive) diagnose.Evidence {
	return diagnose.Evidence{ID: "drive", Kind: diagnose.Done, Test: bench.Trims.Key, Says: "drive", Readings: bench.DriveReadings(d)}
}

// TestDriven looks at how the odds move with a drive that was read as a whole.
func TestDriven(t *testing.T) {
	for _, c := range []struct {
		of       plumbing.Combination
		fault    string
		severity float64
		grows    float64 // how many times likelier at least the true fault becomes
	}{
		{naMAF, "booster-hose", 0.5, 1.5},
		{naMAF, "inlet-pipe", 0.9, 2},
		{naMAF, "air-meter", 0.6, 2},
		{naMAF, "fuel-pressure", 0.5, 2},
		{naMAF, "injector-leaks", 0.6, 2},
		{turbo, "cooler-tank", 0.6, 2},
		{naMAF, "egr-open", 0.5, 2},
	} {
		t.Run(c.fault, func(t *testing.T) {
			m := model(t, c.of)
			before := think(t, m)
			d := driveOf(t, c.of, c.fault, c.severity)
			after := think(t, m, driven(d))
			three := bench.DriveReadings(d)
			delete(three, "drive")
			numbers := think(t, m, diagnose.Evidence{ID: "three", Kind: diagnose.Done, Test: bench.Trims.Key, Says: "three", Readings: three})
			t.Logf("%s: %.4f before, %.4f by the drive, %.4f by its percentages", c.fault, before.Odds(c.fault), after.Odds(c.fault), numbers.Odds(c.fault))
			if got := after.Odds(c.fault) / before.Odds(c.fault); got < c.grows {
				t.Errorf("the true fault becomes %.2f times as likely", got)
			}
		})
	}
}
