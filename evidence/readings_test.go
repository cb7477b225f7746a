package evidence_test

import (
	"math"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"wexter/core/bench"
	"wexter/core/diagnose"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/evidence"
	"wexter/ingest"
)

// What a result keeps comes back as the readings that were made.
func TestFiguresComeBack(t *testing.T) {
	b := ingest.Book()
	for _, c := range []struct {
		test string
		r    bench.Readings
	}{
		{"cap-check", bench.Readings{"left": bench.Num(12.5), "clicks": bench.Num(4)}},
		{"valve-bench", bench.Readings{"sealed": bench.CountOf(3, 5), "passed": bench.CountOf(5, 5), "coil": bench.Num(math.Inf(1)), "which": bench.Said("old")}},
		{"eonv-manometer", bench.Readings{"opens": bench.Num(0.5, 0.6), "switch": bench.Num(1, math.Inf(1))}},
		{"smoke", bench.Readings{"far": bench.Said("yes"), "exits": {}, "clear": {Places: []bench.Place{{Part: "neck"}}}}},
		{"smoke", bench.Readings{"exits": {Places: []bench.Place{{Part: "neck", Size: "wisp"}, {Part: "vent-filter", Size: "billow", Expected: true}}}}},
		{"look", bench.Readings{"seen": {}, "marks": {Places: []bench.Place{{Part: "cap"}}}}},
		{"readiness", bench.Readings{"codes": bench.Said("P0442 stored"), "open": {}}},
	} {
		t.Run(c.test, func(t *testing.T) {
			e, _ := b.Test(c.test)
			x := record.Result{Test: c.test}
			x.Figures, x.Exits = evidence.Figures(e, c.r)
			if got := evidence.Readings(e, x); !reflect.DeepEqual(got, c.r) {
				t.Errorf("%v came back as %v", c.r, got)
			}
		})
	}
}

func figure(name, unit string, v float64) record.Figure {
	return record.Figure{Name: name, Unit: unit, Value: &v}
}

// Results of before have no keys, no judgement, and outcomes that a person chose: they are
// read on, and count as judged by hand.
func TestOldResults(t *testing.T) {
	car := newCar(t, plain)
	for _, c := range []struct {
		name string
		x    record.Result
		test string // of the evidence
		want string // its outcome
		part string
	}{
		{"an outcome alone", record.Result{Test: "smoke", Outcome: "none"}, "smoke", "none", ""},
		{"a valve, counted", record.Result{Test: "valve-bench", Part: "purge-valve", Outcome: "good", Figures: record.Figures{figure("cycles that sealed", "", 0), figure("cycles that passed", "", 5)}}, "valve-bench", "good", "purge-valve"},
		{"a look at a part", record.Result{Test: "look", Part: "neck", Outcome: "seen"}, "look", "seen:neck", ""},
		{"exits", record.Result{Test: "smoke", Outcome: "exit", Exits: record.ExitsSeen{{Part: "neck", Size: "wisp"}}}, "smoke", "exit:neck", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.x.ID, c.x.At = "r", at(3)
			if !c.x.ByHand() {
				t.Error("it counts as judged by its readings")
			}
			es := car.ResultEvidence(c.x, nil)
			if len(es) != 1 || es[0].Test != c.test || es[0].Outcome != c.want || es[0].Part != c.part {
				t.Fatalf("%+v", es)
			}
		})
	}
	marks := car.ResultEvidence(record.Result{ID: "r", Test: "look", Part: "neck", Outcome: "marks"}, nil)
	if len(marks) != 1 || marks[0].Kind != diagnose.Worked || marks[0].Part != "neck" {
		t.Errorf("marks of earlier work: %+v", marks)
	}
	e, _ := ingest.Book().Test("valve-bench")
	r := evidence.Readings(e, record.Result{Test: "valve-bench", Figures: record.Figures{figure("cycles that sealed", "", 0), figure("vacuum held", "inHg", 3)}})
	if yes, all := r.Cycles("sealed"); yes != 0 || all != 5 {
		t.Errorf("cycles that were counted: %d of %d", yes, all)
	}
	if v, ok := r.Mean("held"); !ok || v != 3 {
		t.Errorf("a figure by its name: %g", v)
	}
}

func result(id string, minutes int, made, outcome string, r bench.Readings) record.Result {
	test, part, _ := strings.Cut(made, " of ")
	e, _ := ingest.Book().Test(test)
	x := record.Result{ID: id, Test: test, Part: part, Outcome: outcome, Judged: outcome, At: at(minutes)}
	x.Figures, x.Exits = evidence.Figures(e, r)
	return x
}

// A finding rests on what outcomes mean, and a new part tried beside the old one says nothing.
func TestWhatAFindingRestsOn(t *testing.T) {
	car := newCar(t, plain)
	f := folder()
	f.Results = []record.Result{
		result("a", 1, "valve-bench of purge-valve", "leaks", bench.Readings{"which": bench.Said("new")}),
		result("b", 2, "valve-bench of vent-valve", "good", nil),
		result("c", 3, "cap-check of cap", "holds", nil),
	}
	if on := car.RestsOn(f, "purge-valve", 0.9); len(on) != 0 {
		t.Errorf("a new valve accuses the old one: %q", on)
	}
	if got := car.Cleared(f); len(got) != 2 || !strings.Contains(got[0], "vent valve") {
		t.Errorf("cleared by %q", got)
	}
	f.Results[0] = result("a", 1, "valve-bench of purge-valve", "leaks", nil)
	if on := car.RestsOn(f, "purge-valve", 0.9); len(on) != 1 {
		t.Errorf("the valve that leaks rests on %q", on)
	}
	if on := car.RestsOn(f, "vent-valve", 0.9); len(on) != 0 {
		t.Errorf("a sound valve is singled out: %q", on)
	}
}

// Any test that had failed proves a repair when it passes afterwards, in any family; another
// that fails again speaks against it, and what cannot prove anything asks for one that can.
func TestProofByAnyTest(t *testing.T) {
	b := ingest.Book()
	done := at(20)
	repaired := func(rs ...record.Result) evidence.Folder {
		f := folder()
		f.Results, f.Repairs = rs, []record.RepairDone{{ID: "r", At: at(20), DoneAt: &done}}
		return f
	}
	smoke := result("s1", 1, "smoke", "exit", bench.Readings{"exits": {Places: []bench.Place{{Part: "neck", Size: "wisp"}}}})
	egr := result("e1", 2, "egr-command", "no-flow", nil)
	for _, c := range []struct {
		name    string
		f       evidence.Folder
		proven  bool
		pairs   string // tests and their repeats that are compared, the one that decides first
		missing string
	}{
		{"nothing failed", repaired(), false, "", "No test showed the fault"},
		{"not repeated", repaired(smoke), false, "s1>", "has not been repeated: Smoke test, EVAP system"},
		{"smoke, and none afterwards", repaired(smoke, result("s2", 30, "smoke", "none", nil)), true, "s1>s2", ""},
		{"made before the repair", repaired(smoke, result("s2", 10, "smoke", "none", nil)), false, "s1>", "has not been repeated"},
		{"still there", repaired(smoke, result("s2", 30, "smoke", "exit", nil)), false, "s1>s2", "does not pass"},
		{"smoke too early", repaired(smoke, result("s2", 30, "smoke", "not-filled", nil)), false, "s1>s2", "does not pass"},
		{"EGR", repaired(egr, result("e2", 30, "egr-command", "follows", nil)), true, "e1>e2", ""},
		{"one passes, the other fails again", repaired(smoke, egr, result("s2", 30, "smoke", "none", nil), result("e2", 31, "egr-command", "no-flow", nil)), false, "e1>e2 s1>s2", "does not pass"},
		{"and passes at last", repaired(smoke, egr, result("e2", 31, "egr-command", "no-flow", nil), result("e3", 40, "egr-command", "follows", nil)), true, "e1>e3", ""},
		{"both pass", repaired(smoke, egr, result("e2", 31, "egr-command", "follows", nil), result("s2", 32, "smoke", "none", nil)), true, "s1>s2 e1>e2", ""},
		{"another part is no repeat", repaired(result("v1", 1, "valve-bench of purge-valve", "leaks", nil), result("v2", 30, "valve-bench of vent-valve", "good", nil)), false, "v1>", "has not been repeated"},
		{"a look cannot prove", repaired(result("l1", 1, "look", "seen", nil)), false, "l1>", "cannot prove that it is gone"},
		{"what can prove it does", repaired(result("l1", 1, "look", "seen", nil), result("s2", 30, "smoke", "none", nil)), true, "l1>s2", ""},
		{"a new part beside the old one", repaired(result("v1", 1, "valve-bench of purge-valve", "leaks", nil), result("v2", 30, "valve-bench of purge-valve", "good", bench.Readings{"which": bench.Said("new")})), false, "v1>", "has not been repeated"},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := c.f.Proof(b)
			var pairs []string
			for _, x := range p.Pairs() {
				after := ""
				if x.After != nil {
					after = x.After.ID()
				}
				pairs = append(pairs, x.Before.ID()+">"+after)
			}
			if got := strings.Join(pairs, " "); p.Repeat != c.proven || got != c.pairs {
				t.Errorf("proven %v by %q, want %v by %q", p.Repeat, got, c.proven, c.pairs)
			}
			if !strings.Contains(p.Missing(), c.missing) {
				t.Errorf("%q; want %q", p.Missing(), c.missing)
			}
		})
	}
}

// Only monitors that codes or family concern are asked for, as far as the car has them.
func TestMonitorsThatConcern(t *testing.T) {
	for _, c := range []struct {
		name  string
		car   plumbing.Combination
		found string
		codes []string
		want  []string
	}{
		{"vapour", plain, "cap", nil, []string{"evap"}},
		{"an EGR code", plain, "", []string{"P0401"}, []string{"egr"}},
		{"both", plain, "egr-ports", []string{"P0442"}, []string{"egr", "evap"}},
		{"a diesel without vapour", plumbing.Combination{Engine: "turbo-diesel", Boost: "charged", Crankcase: "regulator-inlet", Recirculation: "no-egr", Vapour: "no-vapour"}, "charge-hose", []string{"P0299"}, nil},
		{"an early car", plumbing.Combination{Engine: "na-map", Boost: "no-boost", Crankcase: "fixed-valve", Recirculation: "no-egr", Vapour: "early-ported"}, "tank-valve", nil, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := folder()
			if c.found != "" {
				f.Findings = []record.Finding{{ID: "f", Part: c.found, At: at(1)}}
			}
			for _, k := range c.codes {
				f.Codes = append(f.Codes, record.Code{ID: k, Code: k, Status: "stored", At: at(1)})
			}
			if got := newCar(t, c.car).Monitors(f); !slices.Equal(got, c.want) {
				t.Errorf("%v, want %v", got, c.want)
			}
		})
	}
}

// What a test leaves on the car is told of until somebody says that it is off again; a test that is done
// once more leaves it there once more.
func TestLeftOnTheCar(t *testing.T) {
	b := ingest.Book()
	at := func(h int) time.Time { return time.Date(2026, 3, 4, h, 0, 0, 0, time.UTC) }
	out := func(h int) record.Note { return record.Note{Kind: record.TakenOut, Subject: "by-pass", At: at(h)} }
	for _, c := range []struct {
		name  string
		f     evidence.Folder
		stays bool
	}{
		{"nothing done", evidence.Folder{}, false},
		{"another test", evidence.Folder{Results: []record.Result{{Test: "smoke", At: at(8)}}}, false},
		{"by-passed", evidence.Folder{Results: []record.Result{{Test: "by-pass", At: at(8)}}}, true},
		{"read live only", evidence.Folder{Benches: []evidence.TestFolder{{Test: record.Test{Key: "by-pass"}, Runs: []record.Run{{At: at(8)}}}}}, true},
		{"out again", evidence.Folder{Results: []record.Result{{Test: "by-pass", At: at(8)}}, Notes: []record.Note{out(9)}}, false},
		{"once more", evidence.Folder{Results: []record.Result{{Test: "by-pass", At: at(8)}, {Test: "by-pass", At: at(10)}}, Notes: []record.Note{out(9)}}, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := c.f.LeftOn(b); (len(got) == 1) != c.stays {
				t.Errorf("%v", got)
			}
		})
	}
}
