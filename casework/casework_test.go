package casework_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"wexter/casework"
	"wexter/core/bench"
	"wexter/core/record"
	"wexter/demo"
	"wexter/ingest"
	"wexter/report"
	"wexter/store"
)

var ctx = context.Background()

func shop(t *testing.T) *casework.Shop {
	t.Helper()
	db, err := store.Open(filepath.Join(t.TempDir(), "shop.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	start := time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
	var mu sync.Mutex
	return &casework.Shop{DB: db, Book: ingest.Book(), Now: func() time.Time {
		mu.Lock()
		defer mu.Unlock()
		start = start.Add(time.Second)
		return start
	}}
}

func car(plate string) casework.NewCase {
	return casework.NewCase{Plate: plate, Make: "Ostrel", Model: "Wherry", Year: 2019, OdometerKM: 1000, TankL: 50, Metering: "maf",
		Archetype: "engine-vacuum", Complaint: "Lamp on.", Codes: "P0456, p0442 P0456"}
}

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// hold adds a test with a drift leg and a hold through a hole of d metres.
func hold(t *testing.T, s *casework.Shop, caseID, repeatOf string, d float64) string {
	t.Helper()
	id, err := s.StartTest(ctx, "", caseID, repeatOf)
	must(t, err)
	f, err := s.Load(ctx, caseID)
	must(t, err)
	tf, _ := f.Test(id)
	su := tf.Setup
	su.VolumeTolerance, su.Wet, su.Instrument.RigHeld = 0.06, false, "held"
	must(t, s.SaveSetup(ctx, "", id, tf.Version, su))
	tank := demo.Tank{Volume: su.Volume, Hole: d, Noise: 3, Seed: 7}
	_, err = s.AddRun(ctx, "", id, casework.NewRun{Kind: "drift", Name: "drift.csv", Log: tank.Drifting(75)})
	must(t, err)
	_, err = s.AddRun(ctx, "", id, casework.NewRun{Kind: "hold", Name: "hold.csv", Log: tank.Hold(13*249.089, 150)})
	must(t, err)
	return id
}

func outcome(t *testing.T, s *casework.Shop, caseID, test string) record.Outcome {
	t.Helper()
	f, err := s.Load(ctx, caseID)
	must(t, err)
	tf, _ := f.Test(test)
	return tf.Outcome
}

func TestAWholeCase(t *testing.T) {
	s := shop(t)
	id, err := s.OpenCase(ctx, "", car("SQ 1"))
	must(t, err)
	before := hold(t, s, id, "", 0.7e-3)
	if got := outcome(t, s, id, before); got != "over_limit" {
		t.Fatalf("0.7 mm is %s", got)
	}
	if err := s.AddRepair(ctx, "", id, casework.NewRepair{Action: "new line"}); err == nil || !strings.Contains(err.Error(), "found") {
		t.Errorf("a repair before anything was found: %v", err)
	}
	must(t, s.AddFinding(ctx, "", id, casework.NewFinding{Part: "vapour-line", By: record.ByWord, How: "smoke at the bend"}))
	until := s.Now().Add(48 * time.Hour)
	must(t, s.AddRepair(ctx, "", id, casework.NewRepair{Action: "new line", Lasting: true, WaitUntil: &until, WaitNote: "line"}))
	rows, err := s.Slate(ctx)
	must(t, err)
	if len(rows) != 1 || !rows[0].Waits || rows[0].Case.Stage != record.Repair {
		t.Fatalf("%+v", rows)
	}
	f, _ := s.Load(ctx, id)
	must(t, s.FinishRepair(ctx, "", id, f.Repairs[0].ID))
	// Without proof a reason is needed, and what is missing is said.
	err = s.Close(ctx, "", id, "")
	if err == nil || !strings.Contains(err.Error(), "has not been repeated") || !strings.Contains(err.Error(), "tried again") {
		t.Fatalf("closed on hope: %v", err)
	}
	after := hold(t, s, id, before, 0.05e-3)
	if got := outcome(t, s, id, after); got != "within_limit" {
		t.Fatalf("the repeat is %s", got)
	}
	must(t, s.TryComplaint(ctx, "", id, casework.NewTrial{How: "drove an hour", Minutes: 60}))
	if f, _ = s.Load(ctx, id); f.Proof(s.Book).Whole() {
		t.Error("proven though the complaint came back")
	}
	must(t, s.TryComplaint(ctx, "", id, casework.NewTrial{How: "drove an hour", Minutes: 60, Gone: true}))
	must(t, s.Close(ctx, "", id, ""))
	f, _ = s.Load(ctx, id)
	if f.Case.Outcome != record.Proven || f.Case.Stage != record.Closed {
		t.Errorf("%+v", f.Case)
	}
	if err := s.TryComplaint(ctx, "", id, casework.NewTrial{How: "again", Minutes: 1, Gone: true}); err == nil || !strings.Contains(err.Error(), "closed") {
		t.Errorf("a closed case was changed: %v", err)
	}
	p := s.Paper(ctx, f)
	if !strings.HasPrefix(p.Verdict, "Repair proven") || !slices.ContainsFunc(p.Sections, func(x report.Section) bool { return x.Before != nil && x.After != nil }) {
		t.Errorf("%+v", p)
	}
	done, _, err := s.Record(ctx, "")
	must(t, err)
	if len(done) != 1 || done[0].Found[0].Name != "Vapour line rusted or rubbed through" {
		t.Errorf("%+v", done)
	}
}

func TestClosingWithoutProofKeepsTheReason(t *testing.T) {
	s := shop(t)
	id, _ := s.OpenCase(ctx, "", car("SQ 2"))
	must(t, s.Close(ctx, "", id, "the customer sold the car"))
	f, _ := s.Load(ctx, id)
	if f.Case.Outcome != record.Unproven || f.Case.Reason != "the customer sold the car" {
		t.Errorf("%+v", f.Case)
	}
}

// A repeat made before the repair, or struck out, proves nothing.
func TestProofMustFollowTheRepair(t *testing.T) {
	s := shop(t)
	id, _ := s.OpenCase(ctx, "", car("SQ 3"))
	before := hold(t, s, id, "", 0.7e-3)
	hold(t, s, id, before, 0.05e-3)
	must(t, s.TryComplaint(ctx, "", id, casework.NewTrial{How: "drove", Minutes: 10, Gone: true}))
	must(t, s.AddFinding(ctx, "", id, casework.NewFinding{Part: "cap", By: record.ByWord, How: "cracked"}))
	must(t, s.AddRepair(ctx, "", id, casework.NewRepair{Action: "cap", Lasting: true}))
	f, _ := s.Load(ctx, id)
	if p := f.Proof(s.Book); p.Repeat || p.Complaint {
		t.Errorf("what was done before the repair proves it: %+v", p)
	}
	after := hold(t, s, id, before, 0.05e-3)
	if f, _ = s.Load(ctx, id); !f.Proof(s.Book).Repeat {
		t.Error("the repeat after the repair does not count")
	}
	must(t, s.Stamp(ctx, "", id, casework.Entry{Kind: "test", ID: after}, casework.Strike))
	if f, _ = s.Load(ctx, id); f.Proof(s.Book).Repeat {
		t.Error("a repeat that was struck out counts")
	}
	must(t, s.Stamp(ctx, "", id, casework.Entry{Kind: "test", ID: after}, casework.Restore))
	if f, _ = s.Load(ctx, id); !f.Proof(s.Book).Repeat {
		t.Error("put back, it does not count")
	}
}

func TestRefusedCases(t *testing.T) {
	s := shop(t)
	for _, c := range []struct {
		change func(*casework.NewCase)
		say    string
	}{
		{func(n *casework.NewCase) { n.Plate = " " }, "plate is missing"},
		{func(n *casework.NewCase) { n.Plate = "--" }, "letter or a figure"},
		{func(n *casework.NewCase) { n.Complaint, n.Codes = "", "" }, "complaint is missing"},
		{func(n *casework.NewCase) { n.Make = strings.Repeat("x", 41) }, "at most 40"},
		{func(n *casework.NewCase) { n.Year = 1890 }, "1890 is not a model year"},
		{func(n *casework.NewCase) { n.OdometerKM = -1 }, "odometer"},
		{func(n *casework.NewCase) { n.TankL = 5000 }, "5 and 400 L"},
		{func(n *casework.NewCase) { n.Metering = "karman" }, "meters its air"},
		{func(n *casework.NewCase) { n.Archetype = "?" }, "checks itself"},
		{func(n *casework.NewCase) { n.Deadline = "soon" }, "not a date"},
		{func(n *casework.NewCase) { n.Codes = "P0456 banana" }, "not a trouble code"},
		{func(n *casework.NewCase) { n.Complaint = "a\x00b" }, "control character"},
		{func(n *casework.NewCase) { n.Complaint = "a\xffb" }, "no text"},
	} {
		t.Run(c.say, func(t *testing.T) {
			n := car("SQ 9")
			c.change(&n)
			if _, err := s.OpenCase(ctx, "", n); err == nil || !strings.Contains(err.Error(), c.say) {
				t.Errorf("%v; want %q", err, c.say)
			}
		})
	}
	if rows, _ := s.Slate(ctx); len(rows) != 0 {
		t.Errorf("%d half-saved cases", len(rows))
	}
	if _, err := s.VehicleByPlate(ctx, "SQ 9"); !errors.Is(err, casework.ErrNotFound) {
		t.Error("a half-saved car")
	}
}

func TestVehiclesAreRememberedByPlate(t *testing.T) {
	s := shop(t)
	_, err := s.OpenCase(ctx, "", car("sq 12-b"))
	must(t, err)
	n := car("SQ12B")
	n.OdometerKM = 2000
	_, err = s.OpenCase(ctx, "", n)
	must(t, err)
	v, err := s.VehicleByPlate(ctx, "Sq 12b")
	must(t, err)
	rows, _ := s.Slate(ctx)
	if len(rows) != 2 || rows[0].Vehicle.ID != rows[1].Vehicle.ID || v.OdometerKM != 2000 {
		t.Errorf("%+v", rows)
	}
	if rows[0].Case.Number != "SQ-101" || rows[1].Case.Number != "SQ-102" {
		t.Errorf("numbers %s and %s", rows[0].Case.Number, rows[1].Case.Number)
	}
}

func TestTheSameFormTwiceDoesItsWorkOnce(t *testing.T) {
	s := shop(t)
	var wg sync.WaitGroup
	ids := make([]string, 8)
	for i := range ids {
		wg.Go(func() { ids[i], _ = s.OpenCase(ctx, "one-key", car("SQ 4")) })
	}
	wg.Wait()
	for _, id := range ids {
		if id == "" || id != ids[0] {
			t.Fatalf("%v", ids)
		}
	}
	if rows, _ := s.Slate(ctx); len(rows) != 1 {
		t.Errorf("%d cases", len(rows))
	}
}

func TestTwoTabs(t *testing.T) {
	s := shop(t)
	id, _ := s.OpenCase(ctx, "", car("SQ 5"))
	f, _ := s.Load(ctx, id)
	v := f.Case.Version
	must(t, s.EditCase(ctx, "", id, v, casework.CaseWords{Complaint: "first"}))
	err := s.EditCase(ctx, "", id, v, casework.CaseWords{Complaint: "second"})
	var conflict *casework.Conflict
	if !errors.As(err, &conflict) {
		t.Fatalf("the second tab saved over the first: %v", err)
	}
	if f, _ = s.Load(ctx, id); f.Case.Complaint != "first" {
		t.Errorf("%q", f.Case.Complaint)
	}
	test, _ := s.StartTest(ctx, "", id, "")
	f, _ = s.Load(ctx, id)
	tf, _ := f.Test(test)
	must(t, s.SaveSetup(ctx, "", test, tf.Version, tf.Setup))
	if err := s.SaveSetup(ctx, "", test, tf.Version, tf.Setup); !errors.As(err, &conflict) {
		t.Errorf("the set-up was saved over: %v", err)
	}
}

func TestPressuresOverThePermittedAreAsked(t *testing.T) {
	s := shop(t)
	id, _ := s.OpenCase(ctx, "", car("SQ 6"))
	test, _ := s.StartTest(ctx, "", id, "")
	l := demo.Tank{Volume: 0.03, Hole: 0.4e-3, Noise: 3, Seed: 1}.Hold(13*249.089, 60)
	for i := range l.Gauge {
		l.Gauge[i] *= 1000 / 249.089 // kPa typed where inH2O is meant
	}
	_, err := s.AddRun(ctx, "", test, casework.NewRun{Kind: "hold", Name: "x.csv", Log: l})
	var q *casework.Question
	if !errors.As(err, &q) || !strings.Contains(q.Sentence, "Is the unit") {
		t.Fatalf("52 inH2O is swallowed: %v", err)
	}
	if f, _ := s.Load(ctx, id); len(f.Tests[0].Runs) != 0 {
		t.Error("the leg was half saved")
	}
	_, err = s.AddRun(ctx, "", test, casework.NewRun{Kind: "hold", Name: "x.csv", Log: l, Sure: true})
	must(t, err)
}

func TestARigThatLeaksGivesNoVerdict(t *testing.T) {
	s := shop(t)
	id, _ := s.OpenCase(ctx, "", car("SQ 7"))
	test := hold(t, s, id, "", 0.7e-3)
	f, _ := s.Load(ctx, id)
	tf, _ := f.Test(test)
	tf.Setup.Instrument.RigHeld, tf.Setup.Instrument.RigLoss = "lost", 200
	must(t, s.SaveSetup(ctx, "", test, tf.Version, tf.Setup))
	f, _ = s.Load(ctx, id)
	tf, _ = f.Test(test)
	sum, _ := tf.Summary()
	if tf.Outcome != "undecided" || !strings.Contains(strings.Join(sum.Warnings, " "), "rig loses 200 Pa") {
		t.Errorf("%s %q", tf.Outcome, sum.Warnings)
	}
	if !strings.Contains(strings.Join(sum.Warnings, " "), "sealing steps are not ticked") {
		t.Errorf("nobody says that nothing was sealed: %q", sum.Warnings)
	}
}

func TestCuttingAndStrikingJudgeAnew(t *testing.T) {
	s := shop(t)
	id, _ := s.OpenCase(ctx, "", car("SQ 8"))
	test := hold(t, s, id, "", 0.7e-3)
	f, _ := s.Load(ctx, id)
	run := f.Tests[0].Runs[1].ID
	must(t, s.CutRun(ctx, "", run, 20, 60))
	f, _ = s.Load(ctx, id)
	sum, _ := f.Tests[0].Summary()
	if l := sum.Legs[1]; l.Start < 20 || l.End > 60 {
		t.Errorf("cut to %g to %g", l.Start, l.End)
	}
	if err := s.CutRun(ctx, "", run, 60, 20); err == nil {
		t.Error("a hold that ends before it starts")
	}
	must(t, s.StampRun(ctx, "", run, casework.Strike))
	if got := outcome(t, s, id, test); got != "" {
		t.Errorf("without its hold the test is %s", got)
	}
	must(t, s.StampRun(ctx, "", run, casework.Restore))
	if got := outcome(t, s, id, test); got != "over_limit" {
		t.Errorf("put back it is %s", got)
	}
}

// What was not read is said, also when nothing beside it is long enough to judge.
func TestGapsAreSaid(t *testing.T) {
	s := shop(t)
	for plate, c := range map[string]struct {
		before, after float64
		say           string
	}{
		"SQ 8 A": {2, 2, "Nothing was read from 2 to 4 s (the module did not answer): what came before and after it is too short to judge"},
		"SQ 8 B": {90, 20, "Nothing was read from 90 to 92 s (the module did not answer): that stretch is not judged"},
	} {
		t.Run(plate, func(t *testing.T) {
			id, _ := s.OpenCase(ctx, "", car(plate))
			test := hold(t, s, id, "", 0.7e-3)
			f, _ := s.Load(ctx, id)
			must(t, s.StampRun(ctx, "", f.Tests[0].Runs[1].ID, casework.Strike))
			r, err := s.BeginRun(ctx, test, casework.NewLive{Kind: record.RunHold, From: record.Source{Name: "module"}, Planned: 60})
			must(t, err)
			tank := demo.Tank{Volume: f.Tests[0].Setup.Volume, Hole: 0.7e-3, Noise: 3, Seed: 7}
			log := tank.Hold(13*249.089, 150)
			var kept ingest.Log
			for i, at := range log.Time {
				if at <= c.before || at >= c.before+2 && at <= c.before+2+c.after {
					kept.Time, kept.Gauge = append(kept.Time, at), append(kept.Gauge, log.Gauge[i])
				}
			}
			must(t, s.DB.Write(ctx, func(tx store.Tx) error {
				return tx.AppendReadings(r.ID, 0, store.Piece{Table: record.Table{Time: kept.Time, Cols: []record.Column{kept.Gauge}}, To: len(kept.Time)})
			}))
			// Stopped twice with nothing read between: one gap.
			r.Gaps = record.Gaps{{From: c.before, To: c.before + 1, Why: "the module did not answer"}, {From: c.before, To: c.before + 2, Why: "the module did not answer"}}
			must(t, s.EndRun(ctx, r, nil))
			f, _ = s.Load(ctx, id)
			sum, _ := f.Tests[0].Summary()
			if said := f.Tests[0].Problem + strings.Join(sum.Warnings, " "); !strings.Contains(said, c.say) || strings.Count(said, "Nothing was read") != 1 {
				t.Errorf("%g and %g s beside a gap: %q", c.before, c.after, said)
			}
		})
	}
}

func TestMeteredVolumeAndKnownOrifice(t *testing.T) {
	s := shop(t)
	id, _ := s.OpenCase(ctx, "", car("SQ 10"))
	test, _ := s.StartTest(ctx, "", id, "")
	f, _ := s.Load(ctx, id)
	su := f.Tests[0].Setup
	su.VolumeHow = "metered"
	if err := s.SaveSetup(ctx, "", test, f.Tests[0].Version, su); err == nil || !strings.Contains(err.Error(), "flow") {
		t.Errorf("metering without a flow: %v", err)
	}
	// 1 L/min for 60 s that raises 101 325 Pa by a fortieth: 40 L [ideal-gas law].
	su.MeterFlow, su.MeterTime, su.MeterRise, su.VolumeTolerance = 1e-3/60, 60, 101325.0/40, 0.05
	must(t, s.SaveSetup(ctx, "", test, f.Tests[0].Version, su))
	f, _ = s.Load(ctx, id)
	if v := f.Tests[0].Setup.Volume; v < 0.0399 || v > 0.0401 {
		t.Errorf("%g m³", v)
	}
	su.VolumeHow, su.Reference = "reference", 0.508e-3
	must(t, s.SaveSetup(ctx, "", test, f.Tests[0].Version, su))
	k := demo.Tank{Volume: 0.04, Hole: 0.7e-3, Noise: 3, Seed: 3}
	for kind, d := range map[record.RunKind]float64{record.RunHold: 0.7e-3, record.RunReference: 0.865e-3} { // areas add
		k.Hole = d
		_, err := s.AddRun(ctx, "", test, casework.NewRun{Kind: kind, Name: string(kind), Log: k.Hold(3238, 120)})
		must(t, err)
	}
	f, _ = s.Load(ctx, id)
	sum, ok := f.Tests[0].Summary()
	if !ok || sum.D < 0.66e-3 || sum.D > 0.74e-3 || sum.Nominal {
		t.Errorf("%v %+v %s", ok, sum.D, f.Tests[0].Problem)
	}
}

func TestBundleRoundTripsToTheByte(t *testing.T) {
	s := shop(t)
	real := s.Now
	must(t, demo.Fill(ctx, s))
	s.Now = real
	other := shop(t)
	rows, _ := s.Slate(ctx)
	done, _, _ := s.Record(ctx, "")
	ids := []string{done[0].Case.ID}
	for _, r := range rows {
		ids = append(ids, r.Case.ID)
	}
	for _, id := range ids {
		a, number, err := s.Export(ctx, id)
		must(t, err)
		got, err := other.Import(ctx, a)
		must(t, err)
		b, _, err := other.Export(ctx, got)
		must(t, err)
		if !bytes.Equal(a, b) {
			t.Errorf("%s is not the same after coming and going", number)
		}
		if again, err := other.Import(ctx, a); err != nil || again != got {
			t.Errorf("%s twice: %v", number, err)
		}
	}
}

func TestBadBundles(t *testing.T) {
	s := shop(t)
	id, _ := s.OpenCase(ctx, "", car("SQ 11"))
	hold(t, s, id, "", 0.7e-3)
	good, _, err := s.Export(ctx, id)
	must(t, err)
	other := shop(t)
	for _, c := range []struct{ from, to, say string }{
		{report.Schema, "wexter-case/99", "newer Wexter"},
		{report.Schema, "letter/1", "no bundle of a case"},
		{"\"complaint\"", "\"complain\"", "complain"},
		{"\"stage\": \"hunt\"", "\"stage\": \"lunch\"", "lunch"},
		{"\"kind\": \"drift\"", "\"kind\": \"raft\"", "raft"},
		{"\"year\": 2019", "\"year\": \"old\"", "year"},
		{"\"P0456\"", "\"<b>\"", "trouble code"},
		{"\"readings\": ", "\"readings\": 9", "readings and holds"},
		{"\"tank_l\": 50", "\"tank_l\": -5", "this says -5 L"},
		{"\"tank_l\": 50", "\"tank_l\": null", "null at vehicle.tank_l"},
		{"\"tank_l\": 50", "\"tank_l\": NaN", "nan at vehicle.tank_l"},
		{"\"tank_l\": 50", "\"tank_l\": 1e300", "1e+300 at vehicle.tank_l"},
		{"\"temperature_k\": 293.15", "\"temperature_k\": 0", "temperature of 0 K"},
		{"\"temperature_k\": 293.15", "\"temperature_k\": 1e300", "tests[0].setup.temperature_k"},
		{"\"gauge_pa\": [\n", "\"gauge_pa\": [\nnull,", "tests[0].runs[0].gauge_pa[0]"},
		{"\"opened_at\": \"2026", "\"opened_at\": \"0026", "year 26 at case.opened_at"},
		{"\n \"notes\": []", "\n \"notes\": [" + strings.TrimSuffix(strings.Repeat("{},", 60_000), ",") + "]", "more than 2000 entries in notes"},
		{"\"gaps\": []", "\"gaps\": [" + strings.TrimSuffix(strings.Repeat("{},", 60_000), ",") + "]", "more than 4000 entries in tests[0].runs[0].gaps"},
		{"\"d_m\": ", "\"d_m\": 1e300,\"x\": ", "result.d_m"},
	} {
		t.Run(c.say, func(t *testing.T) {
			data := bytes.Replace(good, []byte(c.from), []byte(c.to), 1)
			if bytes.Equal(data, good) {
				t.Fatalf("%.80q is not in the bundle", c.from)
			}
			if _, err := other.Import(ctx, data); err == nil || !strings.Contains(err.Error(), c.say) {
				t.Errorf("%.80s: %v; want %q", c.to, err, c.say)
			}
		})
	}
	for _, cut := range []int{0, 10, len(good) / 2, len(good) - 3} {
		if _, err := other.Import(ctx, good[:cut]); err == nil {
			t.Errorf("half a bundle of %d bytes was taken", cut)
		}
	}
	if rows, _ := other.Slate(ctx); len(rows) != 0 {
		t.Errorf("%d cases half imported", len(rows))
	}
	if _, err := s.Import(ctx, bytes.Replace(good, []byte("Lamp on."), []byte("Lamp off."), 1)); err == nil || !strings.Contains(err.Error(), "differs") {
		t.Errorf("a case was overwritten: %v", err)
	}
}

func TestBackupAndRestore(t *testing.T) {
	dir := t.TempDir()
	path, copied := filepath.Join(dir, "shop.db"), filepath.Join(dir, "copy.db")
	db, err := store.Open(path)
	must(t, err)
	s := &casework.Shop{DB: db, Book: ingest.Book(), Now: time.Now}
	_, err = s.OpenCase(ctx, "", car("SQ 12"))
	must(t, err)
	must(t, db.Backup(ctx, copied))
	if err := db.Backup(ctx, copied); err == nil || !strings.Contains(err.Error(), "never overwrites") {
		t.Errorf("a backup was overwritten: %v", err)
	}
	_, err = s.OpenCase(ctx, "", car("SQ 13"))
	must(t, err)
	if err := store.Restore(copied, path, func(string) {}); err == nil || !strings.Contains(err.Error(), "in use") {
		t.Errorf("restored under a running shop: %v", err)
	}
	must(t, db.Close())
	if err := store.Restore(filepath.Join(dir, "none"), path, nil); err == nil {
		t.Error("a missing backup")
	}
	kept := ""
	must(t, store.Restore(copied, path, func(k string) { kept = k }))
	db, err = store.Open(path)
	must(t, err)
	defer db.Close()
	s.DB = db
	if rows, _ := s.Slate(ctx); len(rows) != 1 || kept == "" {
		t.Errorf("%d cases, the old shop kept as %q", len(rows), kept)
	}
}

func TestThePDFOfEveryDemoCase(t *testing.T) {
	if testing.Short() {
		t.Skip("one after another: nothing for the race detector")
	}
	s := shop(t)
	must(t, demo.Fill(ctx, s))
	want := map[record.Outcome]bool{"within_limit": false, "over_limit": false, "undecided": false, "cannot_pressurise": false}
	rows, _ := s.Slate(ctx)
	for _, r := range rows {
		f, err := s.Load(ctx, r.Case.ID)
		must(t, err)
		for _, x := range f.Tests {
			want[x.Outcome] = true
			if x.Problem != "" {
				t.Errorf("%s: %s", f.Case.Number, x.Problem)
			}
		}
		p := s.Paper(ctx, f)
		if len(p.Sections) < 3 || !strings.Contains(strings.Join(p.Foot, ""), "local rules") {
			t.Errorf("%s: %d sections", f.Case.Number, len(p.Sections))
		}
	}
	for k, seen := range want {
		if !seen {
			t.Errorf("no demo case ends %s", k)
		}
	}
	if _, err := report.ReadBundle([]byte("{}")); err == nil {
		t.Error("an empty object passes for a bundle")
	}
}

func BenchmarkSlateAndCase(b *testing.B) {
	db, err := store.Open(filepath.Join(b.TempDir(), "shop.db"))
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	s := &casework.Shop{DB: db, Book: ingest.Book(), Now: time.Now}
	for i := range 40 {
		if _, err := s.OpenCase(ctx, "", car(fmt.Sprint("SQ ", i))); err != nil {
			b.Fatal(err)
		}
	}
	for b.Loop() {
		rows, err := s.Slate(ctx)
		if err != nil || len(rows) != 40 {
			b.Fatal(err)
		}
		if _, err := s.Load(ctx, rows[0].Case.ID); err != nil {
			b.Fatal(err)
		}
	}
}

// A separate vent unit has reliefs that open near half an inch of water: not
// capped, a hold over the limit accuses a healthy valve.
func TestAnUncappedReliefGivesNoVerdict(t *testing.T) {
	s := shop(t)
	n := car("SQ 14")
	n.Archetype = "eonv-switch-remote"
	id, _ := s.OpenCase(ctx, "", n)
	test := hold(t, s, id, "", 0.9e-3)
	f, _ := s.Load(ctx, id)
	tf, _ := f.Test(test)
	sum, _ := tf.Summary()
	if tf.Outcome != "undecided" || !strings.Contains(strings.Join(sum.Warnings, " "), "blown through a healthy valve") {
		t.Errorf("%s %q", tf.Outcome, sum.Warnings)
	}
	a, _ := s.Book.Archetype(n.Archetype)
	tf.Setup.Sealed = []string{a.Seal[0].Do}
	must(t, s.SaveSetup(ctx, "", test, tf.Version, tf.Setup))
	if got := outcome(t, s, id, test); got != "over_limit" {
		t.Errorf("capped it is %s", got)
	}
}

// After closing the monitor keeps the car on the rail until it is complete.
func TestTheMonitorStaysOnTheRail(t *testing.T) {
	s := shop(t)
	id, _ := s.OpenCase(ctx, "", car("SQ 15"))
	must(t, s.Monitors(ctx, "", id, "incomplete"))
	must(t, s.Close(ctx, "", id, "sold"))
	rows, err := s.Slate(ctx)
	must(t, err)
	if len(rows) != 1 || !rows[0].Monitor {
		t.Fatalf("%+v", rows)
	}
	must(t, s.Monitors(ctx, "", id, "complete"))
	if rows, _ = s.Slate(ctx); len(rows) != 0 {
		t.Errorf("%+v", rows)
	}
}

// What can be worked on comes first, then what waits, by when the waiting ends; what waited
// until a moment that has passed can be worked on again. Closed ones come last.
func TestTheOrderOfTheSlate(t *testing.T) {
	s := shop(t)
	begin := s.Now()
	at := begin
	s.Now = func() time.Time { return at }
	for _, c := range []struct {
		plate string
		hours float64
	}{{"SQ 21", 30}, {"SQ 22", 1}, {"SQ 23", 0}, {"SQ 24", 5}, {"SQ 25", 0}} {
		at = at.Add(time.Minute)
		id, err := s.OpenCase(ctx, "", car(c.plate))
		must(t, err)
		if c.hours > 0 {
			until := begin.Add(time.Duration(c.hours * float64(time.Hour)))
			must(t, s.Wait(ctx, "", id, casework.NewWait{Kind: record.WaitPart, Until: &until}))
		}
		if c.plate == "SQ 23" {
			must(t, s.Monitors(ctx, "", id, record.MonitorsIncomplete))
			must(t, s.Close(ctx, "", id, "sold"))
		}
	}
	at = begin.Add(2 * time.Hour)
	rows, err := s.Slate(ctx)
	must(t, err)
	var got []string
	for _, r := range rows {
		got = append(got, strings.TrimPrefix(r.Vehicle.Plate, "SQ "))
	}
	if want := "25 22 24 21 23"; strings.Join(got, " ") != want {
		t.Errorf("%v, want %s", got, want)
	}
}

// A bundle of an older schema has results without judgement: they are read on, and stand as
// judged by hand.
func TestBundleWithoutJudgement(t *testing.T) {
	s := shop(t)
	id, _ := s.OpenCase(ctx, "", car("SQ 77"))
	_, err := s.AddResult(ctx, "", id, casework.NewResult{Test: "cap-check", Part: "cap", Readings: bench.Readings{"left": bench.Num(12.8)}})
	must(t, err)
	data, _, err := s.Export(ctx, id)
	must(t, err)
	old := strings.Replace(string(data), report.Schema, "wexter-case/4", 1)
	for _, field := range []string{"judged", "says", "overruled", "repeat_of", "key"} {
		old = regexp.MustCompile(`\n *"`+field+`": "[^\n]*",`).ReplaceAllStringFunc(old, func(line string) string {
			if field == "repeat_of" && !strings.HasPrefix(line, "\n    ") {
				return line
			}
			return ""
		})
	}
	other := shop(t)
	at, err := other.Import(ctx, []byte(old))
	must(t, err)
	f, err := other.Load(ctx, at)
	must(t, err)
	if x := f.Results[0]; x.Outcome != "holds" || !x.ByHand() || x.Figures[1].Key != "" {
		t.Errorf("%+v", x)
	}
	th, err := other.Think(ctx, f)
	must(t, err)
	if len(th.Left) > 0 {
		t.Errorf("left out: %+v", th.Left)
	}
}

// By elimination is a ground of its own, and lists what cleared the rest.
func TestFoundByElimination(t *testing.T) {
	s := shop(t)
	id, _ := s.OpenCase(ctx, "", car("SQ 78"))
	n := casework.NewFinding{Part: "flange-seal", How: "nothing else is left", By: record.ByElimination}
	if err := s.AddFinding(ctx, "", id, n); err == nil || !strings.Contains(err.Error(), "nothing to rest on") {
		t.Errorf("eliminated by nothing: %v", err)
	}
	_, err := s.AddResult(ctx, "", id, casework.NewResult{Test: "cap-check", Part: "cap", Readings: bench.Readings{"left": bench.Num(12.8)}})
	must(t, err)
	must(t, s.AddFinding(ctx, "", id, n))
	f, err := s.Load(ctx, id)
	must(t, err)
	if x := f.Findings[0]; x.By != record.ByElimination || !strings.Contains(x.RestsOn, "Cap test") {
		t.Errorf("%+v", x)
	}
	if p := s.Paper(ctx, f); !strings.Contains(fmt.Sprint(p.Sections), "by elimination; cleared: Cap test") {
		t.Errorf("%+v", p.Sections)
	}
}

func TestSentence(t *testing.T) {
	for said, want := range map[string]string{
		"":                     "",
		"no reading":           "No reading.",
		"is the key on?":       "Is the key on?",
		"The rig is open.":     "The rig is open.",
		"über 30 kPa":          "Über 30 kPa.",
		"measured at 0.02 in²": "Measured at 0.02 in².",
	} {
		if got := casework.Sentence(said); got != want {
			t.Errorf("%q became %q, wanted %q", said, got, want)
		}
	}
}
