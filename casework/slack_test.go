package casework_test

import (
	"strings"
	"testing"
	"time"

	"wexter/casework"
	"wexter/core/record"
)

// at sets the shop's clock, in the place of this computer.
func at(s *casework.Shop, day, hour, minute int) time.Time {
	now := time.Date(2026, time.May, day, hour, minute, 0, 0, time.Local) // 4 May 2026 is a Monday
	s.Now = func() time.Time { return now }
	return now
}

// A case that nobody has thought through has no slack; after that it has.
func TestSlackIsKnownAfterThinking(t *testing.T) {
	s := shop(t)
	at(s, 4, 9, 0)
	n := car("SQ 1")
	n.Deadline = "2026-05-08"
	id, err := s.OpenCase(ctx, "", n)
	must(t, err)
	if r := slateRow(t, s, id); r.Due.Has() || r.Due.At.Hour() != 17 {
		t.Errorf("before it was thought through: %+v", r.Due)
	}
	must(t, s.Plan(ctx))
	r := slateRow(t, s, id)
	if !r.Due.Has() || r.Left.Minutes < 20 || r.Left.Minutes > 600 || !r.Left.Night {
		t.Fatalf("%+v, left %+v", r.Due, r.Left)
	}
	// What is left and what is to spare make up the working time until the inspection, but for
	// the part's days and the evening before the drive.
	if got := r.Due.Slack; got <= 0 || got >= 4*9*time.Hour+8*time.Hour-time.Duration(r.Left.Minutes)*time.Minute {
		t.Errorf("%v to spare with %+v left", got, r.Left)
	}
}

func TestTheWaitIsHeldAgainstTheInspection(t *testing.T) {
	s := shop(t)
	now := at(s, 4, 9, 0)
	for _, x := range []struct {
		plate, deadline string
		wait            time.Duration
		kind            record.WaitKind
		misses          bool
	}{
		{"FRI", "2026-05-15", 0, "", false},
		{"LATE", "2026-05-06", 49 * time.Hour, record.WaitPart, true}, // the part comes on the day itself
		{"GONE", "2026-05-01", 0, "", true},
		{"NONE", "", 0, "", false},
		{"TYPO", "9026-05-15", 0, "", false},
	} {
		n := car(x.plate)
		n.Deadline = x.deadline
		id, err := s.OpenCase(ctx, "", n)
		must(t, err)
		if x.wait > 0 {
			u := now.Add(x.wait)
			must(t, s.Wait(ctx, "", id, casework.NewWait{Kind: x.kind, Until: &u}))
		}
		must(t, s.Plan(ctx))
		if r := slateRow(t, s, id); r.Due.Misses() != x.misses || r.Due.Has() != (x.deadline != "" && x.plate != "TYPO") {
			t.Errorf("%s: %+v", x.plate, r.Due)
		}
	}
	rows, err := s.Slate(ctx)
	must(t, err)
	var order []string
	for _, r := range rows {
		order = append(order, r.Vehicle.Plate)
	}
	if got := strings.Join(order, " "); got != "GONE LATE FRI NONE TYPO" {
		t.Errorf("the Slate is in the order %s", got)
	}
}

// A repair that waits for its part has the repair, the repeat, a night and a drive left; a
// soak that is waited for is that night.
func TestLeftFollowsTheStage(t *testing.T) {
	s := shop(t)
	now := at(s, 4, 9, 0)
	n := car("SQ 2")
	n.Deadline = "2026-05-08"
	id, err := s.OpenCase(ctx, "", n)
	must(t, err)
	must(t, s.AddFinding(ctx, "", id, casework.NewFinding{Part: "vapour-line", By: record.ByWord, How: "smoke at the bend"}))
	must(t, s.Plan(ctx))
	fault, _ := s.Book.Fault("vapour-line")
	found := slateRow(t, s, id)
	if want := fault.Minutes + 15; found.Left.Minutes != want || found.Left.Days != s.Book.CostOf(fault.Cost).Days {
		t.Errorf("found: %+v, wanted %d min and the days of %q", found.Left, want, fault.Cost)
	}
	until := now.Add(24 * time.Hour)
	must(t, s.AddRepair(ctx, "", id, casework.NewRepair{Action: "new line", Lasting: true, WaitUntil: &until}))
	must(t, s.Plan(ctx))
	repair := slateRow(t, s, id)
	if repair.Left.Days != 0 || !repair.Due.Ready.After(until) {
		t.Errorf("repair: %+v, %+v", repair.Left, repair.Due)
	}
	f, err := s.Load(ctx, id)
	must(t, err)
	must(t, s.FinishRepair(ctx, "", id, f.Repairs[0].ID))
	must(t, s.Wait(ctx, "", id, casework.NewWait{Kind: record.WaitSoak, Until: &until}))
	must(t, s.Plan(ctx))
	proof := slateRow(t, s, id)
	if proof.Due.Ready.Sub(until) != time.Duration(proof.Left.Minutes)*time.Minute {
		t.Errorf("proof: ready %v after the soak, with %+v left", proof.Due.Ready.Sub(until), proof.Left)
	}
}

func TestInitials(t *testing.T) {
	s := shop(t)
	id, err := s.OpenCase(ctx, "", car("SQ 3"))
	must(t, err)
	for typed, want := range map[string]string{"m. k.": "MK", "öz": "ÖZ", "": "", "a-b": "AB"} {
		must(t, s.TakeOn(ctx, "", id, typed))
		if f, err := s.Load(ctx, id); err != nil || f.Case.Who != want {
			t.Errorf("%q is %q, %v", typed, f.Case.Who, err)
		}
	}
	for _, typed := range []string{"Marlene", "m<k", "12", "a\x00b"} {
		if err := s.TakeOn(ctx, "", id, typed); err == nil {
			t.Errorf("%q was taken", typed)
		}
	}
	must(t, s.TakeOn(ctx, "", id, "mk"))
	if who, err := s.Initials(ctx); err != nil || len(who) != 1 || who[0] != "MK" {
		t.Errorf("%q work here, %v", who, err)
	}
}

// Faults of one part count together; what was struck out does not count.
func TestFoundByPart(t *testing.T) {
	s := shop(t)
	for i, fault := range []string{"vent-valve", "vent-circuit", "cap", "vent-valve"} {
		if _, ok := s.Book.Fault(fault); !ok {
			t.Fatalf("no fault %q", fault)
		}
		id, err := s.OpenCase(ctx, "", car("SQ "+string(rune('A'+i))))
		must(t, err)
		must(t, s.AddFinding(ctx, "", id, casework.NewFinding{Part: fault, By: record.ByWord, How: "seen"}))
		if fault == "cap" {
			f, err := s.Load(ctx, id)
			must(t, err)
			must(t, s.Stamp(ctx, "", id, casework.Entry{Kind: record.FindingEntry, ID: f.Findings[0].ID}, casework.Strike))
		}
	}
	often, err := s.FoundOften(ctx)
	must(t, err)
	if len(often) != 1 || often[0].Times != 3 || len(often[0].Faults) != 2 || !strings.HasPrefix(often[0].Part, "Vent valve") {
		t.Errorf("%+v", often)
	}
}

// What was closed since midnight was finished today; tomorrow it was not.
func TestFinishedToday(t *testing.T) {
	s := shop(t)
	for day, plate := range map[int]string{4: "MON", 5: "TUE"} {
		at(s, day, 11, 0)
		id, err := s.OpenCase(ctx, "", car(plate))
		must(t, err)
		must(t, s.Close(ctx, "", id, "tried out"))
	}
	for day, want := range map[int]string{5: "TUE", 6: ""} {
		at(s, day, 23, 0)
		rows, _, err := s.Record(ctx, "")
		must(t, err)
		got := ""
		for _, r := range s.Today(rows) {
			got += r.Vehicle.Plate
		}
		if got != want {
			t.Errorf("finished on the %d.: %q, wanted %q", day, got, want)
		}
	}
}
