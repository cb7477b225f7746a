package casework_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"wexter/casework"
	"wexter/core/obd"
	"wexter/core/record"
	"wexter/evidence"
	"wexter/store"
)

// later lets the shop's clock run, so that entries have an order.
func later(s *casework.Shop, minutes int) {
	now := s.Now().Add(time.Duration(minutes) * time.Minute)
	s.Now = func() time.Time { return now }
}

func line(t *testing.T, s *casework.Shop, id, code string) evidence.CodeLine {
	t.Helper()
	f, err := s.Load(ctx, id)
	must(t, err)
	for _, l := range f.CodeHistory() {
		if l.Code == code {
			return l
		}
	}
	t.Fatalf("%s is not in the history", code)
	return evidence.CodeLine{}
}

const (
	scanBefore = "7E8 06 41 01 82 07 65 04\n7E8 06 43 02 04 42 04 56\n7E8 02 47 00\n7E8 04 4A 01 04 42"
	scanMade   = "7E8 06 43 02 04 42 04 43\n7E8 04 47 01 04 58\n7E8 04 4A 01 04 42"
	scanClean  = "7E8 02 43 00\n7E8 02 47 00\n7E8 04 4A 01 04 42"
)

// Codes over several scans: what came, what went, and what the hunt made itself.
func TestCodeHistory(t *testing.T) {
	s := shop(t)
	id, err := s.OpenCase(ctx, "", car("SQ 77"))
	must(t, err)
	f, _ := s.Load(ctx, id)
	if why := f.MayClear(); !strings.Contains(why, "Save a scan") {
		t.Errorf("may clear before a scan: %q", why)
	}
	later(s, 1)
	_, err = s.AddScan(ctx, "k", id, "pasted", scanBefore)
	must(t, err)
	f, _ = s.Load(ctx, id)
	if f.MayClear() != "" || f.Case.Monitors != "incomplete" {
		t.Errorf("after a scan: %q, monitors %q", f.MayClear(), f.Case.Monitors)
	}
	later(s, 1)
	must(t, s.AddNote(ctx, "", id, casework.NewNote{Kind: record.Unplugged, Text: "purge valve"}))
	later(s, 1)
	_, err = s.AddScan(ctx, "", id, "pasted", scanMade)
	must(t, err)
	if l := line(t, s, id, "P0443"); l.Offered != "purge valve" || l.Made {
		t.Errorf("%+v", l)
	}
	if l := line(t, s, id, "P0442"); l.Offered != "" || !slices.Equal(l.Now, []obd.CodeStatus{obd.Permanent, obd.Stored}) {
		t.Errorf("an older code is offered: %+v", l)
	}
	if l := line(t, s, id, "P0456"); len(l.Now) != 0 || !l.Seen[len(l.Seen)-1].Gone {
		t.Errorf("%+v is not gone", l)
	}
	must(t, s.AddNote(ctx, "", id, casework.NewNote{Kind: record.SelfMade, Subject: "P0443", Text: "came after the purge valve was unplugged"}))
	if l := line(t, s, id, "P0443"); !l.Made || l.Offered != "" {
		t.Errorf("%+v", l)
	}
	later(s, 1)
	must(t, s.AddNote(ctx, "", id, casework.NewNote{Kind: record.Cleared, Text: "with another tool"}))
	f, _ = s.Load(ctx, id)
	if !strings.Contains(f.MayClear(), "no scan was saved since") {
		t.Errorf("cleared twice: %q", f.MayClear())
	}
	later(s, 1)
	_, err = s.AddScan(ctx, "", id, "pasted", scanClean)
	must(t, err)
	later(s, 1)
	_, err = s.AddScan(ctx, "", id, "pasted", scanMade)
	must(t, err)
	if l := line(t, s, id, "P0443"); l.Made || !l.Return {
		t.Errorf("back after clearing: %+v", l)
	}
	// The bundle carries scans and notes and comes back to the byte.
	data, _, err := s.Export(ctx, id)
	must(t, err)
	other := shop(t)
	got, err := other.Import(ctx, data)
	must(t, err)
	again, _, err := other.Export(ctx, got)
	must(t, err)
	if string(again) != string(data) {
		t.Error("the bundle does not come back to the same byte")
	}
	if !strings.Contains(strings.Join(paperWords(other, t, got), " "), "P0456, gone") {
		t.Errorf("%q", paperWords(other, t, got))
	}
}

func paperWords(s *casework.Shop, t *testing.T, id string) (out []string) {
	t.Helper()
	f, err := s.Load(ctx, id)
	must(t, err)
	for _, sec := range s.Paper(ctx, f).Sections {
		for _, r := range sec.Rows {
			out = append(out, r.Name)
		}
	}
	return out
}

func TestScanAndNoteRefusals(t *testing.T) {
	s := shop(t)
	id, err := s.OpenCase(ctx, "", car("SQ 78"))
	must(t, err)
	for say, raw := range map[string]string{"The text is empty": "", "answer of a car": "NO DATA", "PDF": "%PDF-1"} {
		t.Run(say, func(t *testing.T) {
			if _, err := s.AddScan(ctx, "", id, "pasted", raw); err == nil || !strings.Contains(err.Error(), say) {
				t.Errorf("%q: %v", raw, err)
			}
		})
	}
	for say, n := range map[string]casework.NewNote{"a note, something": {Kind: "poem", Text: "x"}, "say what was unplugged": {Kind: record.Unplugged, Text: " "},
		"not a trouble code": {Kind: record.SelfMade, Subject: "P9", Text: "x"}, "write a word": {Kind: record.Noted}} {
		t.Run(say, func(t *testing.T) {
			if err := s.AddNote(ctx, "", id, n); err == nil || !strings.Contains(err.Error(), say) {
				t.Errorf("%v: %v", n, err)
			}
		})
	}
	for say, a := range map[string]string{"no address": "somewhere", "in figures": "localhost:80", "own network": "8.8.8.8:80", "another computer": "192.168.1.4:80", "ports 4100 to 4399": "127.0.0.1:631", "another program may listen": "[::1]:22"} {
		t.Run(say, func(t *testing.T) {
			if _, err := s.AddDevice(ctx, "", casework.NewDevice{Kind: "module", Name: "m", Address: a}); err == nil || !strings.Contains(err.Error(), say) {
				t.Errorf("%s: %v", a, err)
			}
		})
	}
	if _, err := s.AddDevice(ctx, "", casework.NewDevice{Kind: "module", Name: "m", Address: "192.168.1.4:80", Sure: true}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.AddDevice(ctx, "", casework.NewDevice{Kind: "adapter", Name: "", Address: "127.0.0.1:4180"}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.AddDevice(ctx, "", casework.NewDevice{Kind: "adapter", Name: "again", Address: "127.0.0.1:4180"}); err != nil {
		t.Fatal(err)
	}
	if ds, _ := s.Devices(ctx, "adapter"); len(ds) != 1 || ds[0].Name != "again" {
		t.Errorf("%+v", ds)
	}
	if _, err := s.Device(ctx, "adapter", "127.0.0.1:4181"); err == nil {
		t.Error("an address nobody wrote down")
	}
	// One that an older Wexter wrote down stays listed, and is not spoken to.
	must(t, s.DB.Write(ctx, func(tx store.Tx) error {
		return tx.KeepDevice(record.Device{ID: "old", Kind: record.Module, Name: "printer", Address: "127.0.0.1:631", At: s.Now()})
	}))
	if _, err := s.Device(ctx, record.Module, "127.0.0.1:631"); err == nil || !strings.Contains(err.Error(), "not spoken to") {
		t.Errorf("a printer: %v", err)
	}
	if _, err := s.AddDevice(ctx, "", casework.NewDevice{Kind: "adapter", Address: "127.0.0.1:4181", For: "SQ-101"}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.AddDevice(ctx, "", casework.NewDevice{Kind: "adapter", Address: "127.0.0.1:4182", For: "SQ-102"}); err != nil {
		t.Fatal(err)
	}
	if ds, err := s.DevicesFor(ctx, record.Adapter, "SQ-102"); err != nil || len(ds) != 2 || ds[0].Address != "127.0.0.1:4182" || ds[1].Address != "127.0.0.1:4180" {
		t.Errorf("at SQ-102: %+v %v", ds, err)
	}
}

// What is doubted proves nothing, and can be trusted again; nothing is deleted.
func TestDoubtedRepeatProvesNothing(t *testing.T) {
	s := shop(t)
	id, err := s.OpenCase(ctx, "", car("SQ 79"))
	must(t, err)
	before := hold(t, s, id, "", 0.7e-3)
	must(t, s.AddFinding(ctx, "", id, casework.NewFinding{Part: "vapour-line", By: record.ByWord, How: "smoke"}))
	must(t, s.AddRepair(ctx, "", id, casework.NewRepair{Action: "new line"}))
	after := hold(t, s, id, before, 0.05e-3)
	must(t, s.TryComplaint(ctx, "", id, casework.NewTrial{How: "drove", Minutes: 30, Gone: true}))
	proof := func() evidence.Proof {
		f, err := s.Load(ctx, id)
		must(t, err)
		return f.Proof(s.Book)
	}
	if !proof().Whole() {
		t.Fatalf("not whole: %s", proof().Missing())
	}
	must(t, s.Stamp(ctx, "", id, casework.Entry{Kind: "test", ID: after}, casework.Doubt))
	if p := proof(); p.Whole() || !strings.Contains(p.Missing(), "doubted") {
		t.Errorf("a doubted repeat proves: %q", p.Missing())
	}
	must(t, s.Stamp(ctx, "", id, casework.Entry{Kind: "test", ID: after}, casework.Trust))
	if !proof().Whole() {
		t.Error("trusted again it does not prove")
	}
	if err := s.Stamp(ctx, "", id, casework.Entry{Kind: "case", ID: id}, casework.Doubt); err == nil {
		t.Error("a case was doubted")
	}
}
