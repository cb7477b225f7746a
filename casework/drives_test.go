package casework_test

import (
	"bytes"
	"errors"
	"strconv"
	"strings"
	"testing"

	"wexter/casework"
	"wexter/core/bench"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/sim"
	"wexter/evidence"
	"wexter/ingest"
)

// driveCSV is the log of a simulated car with an air meter, with a fault of some severity.
func driveCSV(t *testing.T, fault string, severity float64) ingest.Drive {
	t.Helper()
	b := ingest.Book()
	full, err := b.Plumbing.Complete(plumbing.Combination{Engine: "na-maf", Recirculation: "egr-stepper", Vapour: "engine-vacuum"})
	must(t, err)
	car, err := sim.NewCar(b.Plumbing, full, nil, sim.Conditions{Level: 0.4, Seed: 5})
	must(t, err)
	if f, ok := b.Fault(fault); ok {
		part, _ := f.Can(car.Graph, full)
		for _, d := range f.Defects(part, severity) {
			must(t, car.Apply(d))
		}
	}
	rows, err := car.Record(sim.TrimDrive(), 0.5)
	must(t, err)
	var out bytes.Buffer
	out.WriteString("time_s")
	for _, c := range ingest.DriveColumns() {
		out.WriteString("," + c[1])
	}
	for _, r := range rows {
		out.WriteString("\n" + strconv.FormatFloat(r.Time, 'f', 2, 64))
		for _, c := range ingest.DriveColumns() {
			out.WriteByte(',')
			if v, ok := r.Live[c[0]]; ok {
				out.WriteString(strconv.FormatFloat(v, 'f', 3, 64))
			}
		}
	}
	d, err := ingest.ParseDrive(append(out.Bytes(), '\n'))
	must(t, err)
	return d
}

// openedMAF opens a case of a car with an air meter.
func openedMAF(t *testing.T, s *casework.Shop) string {
	t.Helper()
	c := car("SQ 7")
	c.Engine, c.Recirculation = "na-maf", "egr-stepper"
	id, err := s.OpenCase(ctx, "", c)
	must(t, err)
	return id
}

func benchOf(t *testing.T, s *casework.Shop, caseID, testID string) (evidence.Folder, evidence.TestFolder) {
	t.Helper()
	f, err := s.Load(ctx, caseID)
	must(t, err)
	for _, x := range f.Benches {
		if x.ID == testID {
			return f, x
		}
	}
	t.Fatalf("the drive is not on the case")
	return f, evidence.TestFolder{}
}

// TestDrive follows a drive from its log to the odds, and after the repair to what became of it.
func TestDrive(t *testing.T) {
	s := shop(t)
	id := openedMAF(t, s)
	test, err := s.AddDrive(ctx, "k1", id, casework.NewDrive{Name: "before.csv", Log: driveCSV(t, "booster-hose", 0.6), Displacement: 1.6e-3})
	must(t, err)
	again, err := s.AddDrive(ctx, "k1", id, casework.NewDrive{Name: "before.csv", Log: driveCSV(t, "booster-hose", 0.6), Displacement: 1.6e-3})
	if err != nil || again != test {
		t.Errorf("sent twice: %q and %q, %v", test, again, err)
	}
	f, x := benchOf(t, s, id, test)
	r, ok, err := s.JudgedDrive(ctx, f, x)
	must(t, err)
	if !ok || r.Causes[0].Key() != "manifold-leak" || r.Change != nil {
		t.Fatalf("judged %v: %+v", ok, r.Causes)
	}
	odds := func() float64 {
		t.Helper()
		f, err := s.Load(ctx, id)
		must(t, err)
		th, err := s.Think(ctx, f)
		must(t, err)
		return th.State.Odds("booster-hose")
	}
	before := odds()
	kept, err := s.KeepDrive(ctx, "k2", test)
	must(t, err)
	if after := odds(); after < 1.2*before {
		t.Errorf("the odds of the hose go from %.4f to %.4f", before, after)
	}
	f, _ = benchOf(t, s, id, test)
	if y := f.Results[len(f.Results)-1]; y.ID != kept || y.Outcome != "idle-lean" || y.Bench != test || f.DriveOf(y) == nil || !strings.Contains(y.Measured, "before.csv") {
		t.Errorf("written down as %+v", y)
	}

	// The same again after the hose was renewed.
	test2, err := s.AddDrive(ctx, "", id, casework.NewDrive{Name: "after.csv", Log: driveCSV(t, "", 0), Displacement: 1.6e-3, RepeatOf: kept})
	must(t, err)
	f, x = benchOf(t, s, id, test2)
	r, _, err = s.JudgedDrive(ctx, f, x)
	must(t, err)
	if r.Change == nil || !strings.Contains(r.Change.Text, "The repair worked") {
		t.Errorf("before and after: %+v", r.Change)
	}

	// A run that is struck out says nothing any more.
	must(t, s.StampRun(ctx, "", x.Runs[0].ID, casework.Strike))
	_, x = benchOf(t, s, id, test2)
	if _, ok := x.Drive(); ok {
		t.Errorf("struck out, and judged all the same")
	}
	must(t, s.StampRun(ctx, "", x.Runs[0].ID, casework.Restore))
	must(t, s.SetDisplacement(ctx, "", test2, 1.8e-3))
	_, x = benchOf(t, s, id, test2)
	if d, ok := x.Drive(); !ok || d.Engine.Displacement != 1.8e-3 {
		t.Errorf("of 1.8 L: %v, %+v", ok, d.Engine)
	}
}

// TestDriveInABundle takes a drive to another shop, where it says the same; one that cannot be is
// refused by name.
func TestDriveInABundle(t *testing.T) {
	s, other := shop(t), shop(t)
	id := openedMAF(t, s)
	test, err := s.AddDrive(ctx, "", id, casework.NewDrive{Name: "log.csv", Log: driveCSV(t, "injector-leaks", 0.6), Displacement: 1.6e-3})
	must(t, err)
	data, _, err := s.Export(ctx, id)
	must(t, err)
	got, err := other.Import(ctx, data)
	must(t, err)
	f, x := benchOf(t, other, got, test)
	r, ok, err := other.JudgedDrive(ctx, f, x)
	must(t, err)
	if !ok || r.Causes[0].Key() != "rich-idle" {
		t.Errorf("in the other shop: %v, %+v", ok, r.Causes)
	}
	for say, bad := range map[string][2]string{"cannot be one": {`"banks": [`, `"banked": [`}, "kind": {`"kind": "drive"`, `"kind": "ride"`}} {
		if !bytes.Contains(data, []byte(bad[0])) {
			t.Fatalf("the bundle has no %s", bad[0])
		}
		if _, err := shop(t).Import(ctx, bytes.Replace(data, []byte(bad[0]), []byte(bad[1]), 1)); err == nil || !strings.Contains(err.Error(), say) {
			t.Errorf("%s: %v", bad[1], err)
		}
	}
}

func TestDriveRefused(t *testing.T) {
	s := shop(t)
	id := openedMAF(t, s)
	cold := driveCSV(t, "", 0)
	for i := range cold.Log.Value[10] { // coolant
		cold.Log.Value[10][i] = 300
	}
	var p *casework.Problem
	if _, err := s.AddDrive(ctx, "", id, casework.NewDrive{Name: "cold.csv", Log: cold}); !errors.As(err, &p) || !strings.Contains(p.Sentence, "never warm") {
		t.Errorf("a cold drive: %v", err)
	}
	if _, err := s.AddDrive(ctx, "", id, casework.NewDrive{Name: "x", Log: driveCSV(t, "", 0), RepeatOf: "nobody"}); !errors.As(err, &p) {
		t.Errorf("a repeat of nothing: %v", err)
	}
	f, err := s.Load(ctx, id)
	must(t, err)
	if len(f.Benches) > 0 {
		t.Errorf("%d drives were kept", len(f.Benches))
	}
	if _, err := s.KeepDrive(ctx, "", "nobody"); err == nil {
		t.Errorf("a drive that is not there is written down")
	}
	empty, err := s.StartBench(ctx, "", id, casework.NewBench{Test: bench.Trims.Key})
	must(t, err)
	if _, err := s.KeepDrive(ctx, "", empty); !errors.As(err, &p) || !strings.Contains(p.Sentence, "no drive yet") {
		t.Errorf("nothing was driven: %v", err)
	}
	if err := s.SetDisplacement(ctx, "", empty, 7); !errors.As(err, &p) {
		t.Errorf("an engine of 7 m³: %v", err)
	}
	if _, err := s.AddRun(ctx, "", empty, casework.NewRun{Kind: record.RunDrive}); err == nil {
		t.Errorf("a drive is taken for a leg of a hold")
	}
}
