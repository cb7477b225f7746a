package evidence_test

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"wexter/core/diagnose"
	"wexter/core/obd"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/evidence"
	"wexter/ingest"
)

var opened = time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)

// at is a moment some minutes after the case was opened.
func at(minutes int) time.Time { return opened.Add(time.Duration(minutes) * time.Minute) }

func newCar(t *testing.T, c plumbing.Combination) *evidence.Car {
	t.Helper()
	b := ingest.Book()
	g, err := b.Plumbing.Combine(c)
	if err != nil {
		t.Fatal(err)
	}
	return evidence.NewCar(b, c, g)
}

var plain = plumbing.Combination{Engine: "na-maf", Boost: "no-boost", Crankcase: "fixed-valve", Recirculation: "egr-motor", Vapour: "engine-vacuum"}

func folder() evidence.Folder {
	return evidence.Folder{Case: record.Case{ID: "c", OpenedAt: opened, Stage: record.Hunt}, Vehicle: record.Vehicle{ID: "v", Year: 2019, Archetype: "engine-vacuum"}}
}

// find returns the evidence of a kind in an epoch.
func find(h diagnose.History, epoch int, k diagnose.Kind) (out []diagnose.Evidence) {
	for _, e := range h[epoch].Evidence {
		if e.Kind == k {
			out = append(out, e)
		}
	}
	return out
}

// What the opened part shows moves a finding up or down; a word that is none of the
// answers moves nothing, instead of striking the part off.
func TestOpenedPartsWeigh(t *testing.T) {
	car := newCar(t, plain)
	for _, c := range []struct {
		said record.Confirmed
		by   float64
	}{{record.ConfirmedYes, 5}, {record.ConfirmedNo, 0.05}, {record.ConfirmedUnclear, 1}, {"perhaps", 1}, {"", 1}} {
		t.Run(fmt.Sprintf("%q", c.said), func(t *testing.T) {
			f := folder()
			f.Findings = []record.Finding{{ID: "f", Part: "cap", By: record.ByTest, At: at(1)}}
			h, _ := evidence.History(f, car)
			alone := find(h, 0, diagnose.Found)
			f.PostMortems = []record.PostMortem{{ID: "p", FindingID: "f", Confirmed: c.said, At: at(2)}}
			h, _ = evidence.History(f, car)
			found := find(h, 0, diagnose.Found)
			if len(found) != 1 || len(alone) != 1 || math.Abs(found[0].Value/alone[0].Value-c.by) > 1e-12 {
				t.Errorf("%+v, want %g times %+v", found, c.by, alone)
			}
		})
	}
}

// A repair that was done ends an epoch; what it replaced is what had been found before it.
func TestRepairsEndEpochs(t *testing.T) {
	car := newCar(t, plain)
	f := folder()
	f.Findings = []record.Finding{{ID: "a", Part: "cap", At: at(5), Cause: record.NoCause}, {ID: "b", Part: "booster-hose", At: at(30)}, {ID: "c", Part: "no-such-fault", At: at(31)}}
	first, second := at(10), at(40)
	f.Repairs = []record.RepairDone{{ID: "r2", At: at(12), DoneAt: &second}, {ID: "r1", At: at(6), DoneAt: &first}, {ID: "r3", At: at(50)}}
	f.Observations = []record.Observation{{ID: "o1", Kind: record.SeenSign, Key: "hard-start", At: at(1)}, {ID: "o2", Kind: record.SeenMarks, Part: "neck", At: at(20)}}
	h, _ := evidence.History(f, car)
	if len(h) != 3 {
		t.Fatalf("%d epochs", len(h))
	}
	if r := h[1].Repairs; len(r) != 1 || r[0].Fault != "cap" || r[0].Cause != diagnose.NoCause {
		t.Errorf("the first repair: %+v", r)
	}
	if r := h[2].Repairs; len(r) != 1 || r[0].Fault != "booster-hose" {
		t.Errorf("the second repair: %+v", r)
	}
	if len(find(h, 0, diagnose.Signed)) != 1 || len(find(h, 1, diagnose.Worked)) != 1 {
		t.Errorf("observations in their epochs: %+v", h)
	}
}

func hold(id string, minutes int, o record.Outcome) evidence.TestFolder {
	end := at(minutes)
	return evidence.TestFolder{Test: record.Test{ID: id, At: at(minutes), Outcome: o, Setup: record.Setup{Entry: "service-port", Set: record.States{"vent-valve": "powered"}},
		Result: `{"d_m":0.0007,"low_m":0.00066,"high_m":0.00074,"verdict":"over_limit"}`}, Runs: []record.Run{{ID: id + "-run", Kind: record.RunHold, EndedAt: &end}}}
}

// What is struck out, doubted or says nothing does not count, and is named.
func TestWhatDoesNotCount(t *testing.T) {
	car := newCar(t, plain)
	now := at(99)
	for _, c := range []struct {
		name   string
		change func(*evidence.TestFolder)
		counts bool
		left   string
	}{
		{"as it is", func(*evidence.TestFolder) {}, true, ""},
		{"struck out", func(x *evidence.TestFolder) { x.StruckAt = &now }, false, ""},
		{"doubted", func(x *evidence.TestFolder) { x.DoubtedAt = &now }, false, ""},
		{"a doubted leg", func(x *evidence.TestFolder) { x.Runs[0].DoubtedAt = &now }, false, "doubted"},
		{"a doubted leg that is struck out", func(x *evidence.TestFolder) { x.Runs[0].DoubtedAt, x.Runs[0].StruckAt = &now, &now }, true, ""},
		{"no result", func(x *evidence.TestFolder) { x.Outcome = record.NoOutcome }, false, ""},
		{"open to the air", func(x *evidence.TestFolder) { x.Setup.Set = record.States{} }, false, "open to the air"},
		{"will not build pressure", func(x *evidence.TestFolder) { x.Outcome, x.Result = record.CannotPressurise, "" }, true, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := folder()
			x := hold("t", 3, record.OverLimit)
			c.change(&x)
			f.Tests = []evidence.TestFolder{x}
			h, left := evidence.History(f, car)
			if got := len(find(h, 0, diagnose.Held)) == 1; got != c.counts {
				t.Errorf("counts: %v", got)
			}
			if c.left == "" && len(left) > 0 || c.left != "" && (len(left) != 1 || !strings.Contains(left[0].Why, c.left)) {
				t.Errorf("left out: %+v", left)
			}
		})
	}
}

// A code is followed over scans: it comes, goes, and is laid at the hunt's own door when
// somebody says so.
func TestCodeHistory(t *testing.T) {
	scan := func(id string, minutes int, codes ...obd.Code) evidence.ScanFolder {
		return evidence.ScanFolder{ScanDone: record.ScanDone{ID: id, At: at(minutes)}, Read: obd.Scan{Asked: map[obd.CodeStatus]bool{obd.Stored: true}, Codes: codes}}
	}
	purge := obd.Code{Code: "P0443", Status: obd.Stored, ECU: "7E8"}
	f := folder()
	f.Scans = []evidence.ScanFolder{scan("s1", 1), scan("s2", 10, purge), scan("s3", 20), scan("s4", 30, purge)}
	f.Notes = []record.Note{{ID: "n1", Kind: record.Unplugged, Text: "purge valve", At: at(5)}}
	lines := f.CodeHistory()
	if len(lines) != 1 || lines[0].Offered != "purge valve" || len(lines[0].Seen) != 3 || !lines[0].Seen[1].Gone {
		t.Fatalf("%+v", lines)
	}
	f.Scans, f.Notes = f.Scans[:2], append(f.Notes, record.Note{ID: "n2", Kind: record.SelfMade, Subject: "P0443", At: at(11)})
	if lines = f.CodeHistory(); !lines[0].Made || lines[0].Offered != "" {
		t.Errorf("said to be self-made: %+v", lines)
	}
	h, left := evidence.History(f, newCar(t, plain))
	if codes := find(h, 0, diagnose.Scanned); len(codes) != 1 || len(codes[0].Codes) != 0 || len(left) != 1 {
		t.Errorf("a self-made code weighs: %+v, left out %+v", codes, left)
	}
	f.Scans = append(f.Scans, scan("s3", 20), scan("s4", 30, purge))
	if lines = f.CodeHistory(); lines[0].Made || !lines[0].Return {
		t.Errorf("it came back after it was cleared: %+v", lines)
	}
	if got := f.Standing(); len(got) != 1 || got[0] != "P0443" {
		t.Errorf("standing: %v", got)
	}
	f.Notes = append(f.Notes, record.Note{ID: "n3", Kind: record.Cleared, At: at(31)})
	if got := f.Standing(); len(got) != 0 {
		t.Errorf("after clearing: %v", got)
	}
	f.Notes = f.Notes[:len(f.Notes)-1]
	if f.MayClear() != "" || folder().MayClear() == "" {
		t.Error("codes may be cleared once a scan is saved, not before")
	}
}

// The Book's faults sit where the car has room for them.
func TestWhere(t *testing.T) {
	for _, c := range []struct {
		fault string
		car   plumbing.Combination
		part  string
	}{
		{"cap", plain, "cap"},
		{"charge-hose", plain, ""},
		{"egr-open-unseen", plain, "egr-valve"},
		{"egr-open-unseen", plain.With("recirculation", "no-egr"), ""},
	} {
		t.Run(c.fault+" "+c.car.Recirculation, func(t *testing.T) {
			car := newCar(t, c.car)
			if got := car.Where(c.fault); got != c.part && !(c.part != "" && got != "") || car.Can(c.fault) != (c.part != "") {
				t.Errorf("%q", got)
			}
		})
	}
	car := newCar(t, plain)
	entry, set := car.UsualSealing()
	if entry != "service-port" || len(set) == 0 || !slices.ContainsFunc(car.SmokeEntries(), func(p plumbing.Part) bool { return p.Key == "service-port" }) {
		t.Errorf("sealed at %q with %v", entry, set)
	}
}

// A leak check's own result is taken by its nearest limit: some must stay below a limit, some
// must reach one. The largest leak that failed counts; when all passed, the smallest sought
// (ideal cases, no source; monitor ids of service $06: SAE J1979, values from memory).
func TestMonitorResults(t *testing.T) {
	result := func(monitor string, value, low, high float64) obd.TestResult {
		return obd.TestResult{Monitor: monitor, Name: monitor, Value: value, Min: low, Max: high, HasMin: true, HasMax: high > 0, Ran: true}
	}
	stale := result("3C", 9, 0, 1)
	stale.Ran = false
	for _, c := range []struct {
		name  string
		tests []obd.TestResult
		size  string
		share float64
		says  string
	}{
		{"below its upper limit", []obd.TestResult{result("3C", 21, 0, 42)}, "very-small", 0.5, "3C: 21, passes (at most 42)"},
		{"above its upper limit", []obd.TestResult{result("3B", 640, 0, 498)}, "small", 640.0 / 498, "3B: 640, fails (at most 498)"},
		{"does not reach what it must", []obd.TestResult{result("3C", 30, 100, 1000)}, "very-small", 100.0 / 30, "3C: 30, fails (at least 100)"},
		{"reaches it, nearer to the upper limit", []obd.TestResult{result("3C", 500, 100, 1000)}, "very-small", 0.5, "3C: 500, passes (at most 1000)"},
		{"reached nothing", []obd.TestResult{result("39", 0, 3500, 0)}, "large", 100, "39: 0, fails (at least 3500)"},
		{"the smallest of those that passed", []obd.TestResult{result("39", 10, 0, 100), result("3C", 20, 0, 100)}, "very-small", 0.2, "3C"},
		{"the largest that failed", []obd.TestResult{result("3C", 900, 0, 100), result("3B", 150, 0, 100), result("39", 10, 0, 100)}, "small", 1.5, "3B"},
		{"has not run, is another monitor or has no limit", []obd.TestResult{stale, result("3D", 9, 0, 1), result("3C", 9, 0, 0)}, "", 0, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := folder()
			f.Scans = []evidence.ScanFolder{{ScanDone: record.ScanDone{ID: "s", At: at(1)}, Read: obd.Scan{Tests: c.tests}}}
			h, _ := evidence.History(f, newCar(t, plain))
			got := find(h, 0, diagnose.Limits)
			if c.size == "" {
				if len(got) != 0 {
					t.Fatalf("%+v", got)
				}
				return
			}
			if len(got) != 1 || got[0].Size != c.size || math.Abs(got[0].Value-c.share) > 1e-9 || !strings.Contains(got[0].Says, c.says) {
				t.Errorf("%+v, want %s at %g: %s", got, c.size, c.share, c.says)
			}
		})
	}
}
