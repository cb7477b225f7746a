package web

import (
	"strings"
	"testing"
	"time"

	"wexter/core/obd"
	"wexter/core/record"
	"wexter/evidence"
)

// scanned is a scan that asked for everything.
func scanned(id string, at time.Time, evap string, codes ...obd.Code) evidence.ScanFolder {
	return evidence.ScanFolder{ScanDone: record.ScanDone{ID: id, At: at}, Read: obd.Scan{
		Asked: map[obd.CodeStatus]bool{obd.Stored: true, obd.Pending: true, obd.Permanent: true}, Codes: codes, Readiness: map[string]string{"evap": evap, "fuel": obd.Complete}}}
}

// A stored code that was cleared ends at the scan that no longer has it; the permanent one
// stays; the monitor is filled once it has run.
func TestHistoryFollowsTheCodes(t *testing.T) {
	at := func(h int) time.Time { return time.Date(2026, 5, 4, h, 0, 0, 0, time.Local) }
	stored, permanent := obd.Code{Code: "P0442", Status: obd.Stored}, obd.Code{Code: "P0442", Status: obd.Permanent}
	f := evidence.Folder{
		Scans: []evidence.ScanFolder{scanned("a", at(8), obd.Complete, stored, permanent), scanned("b", at(10), obd.Incomplete, permanent), scanned("c", at(12), obd.Complete, permanent)},
		Notes: []record.Note{{ID: "n", Kind: record.Cleared, At: at(9)}},
	}
	v := history(f)
	if v == nil || len(v.Moments) != 4 || len(v.Rows) != 2 {
		t.Fatalf("%+v", v)
	}
	code, evap := string(v.Rows[0].Bars), string(v.Rows[1].Bars)
	wellFormed(t, v.Rows[0].Bars)
	for svg, wants := range map[string][]string{
		code: {`class="st-full" x="0.00%" y="3" width="50.00%"`, `class="st-line" x="0.00%" y="15" width="100.00%"`, "not stored any more at 4 May 10:00"},
		evap: {`class="st-full" x="0.00%" y="4" width="50.00%"`, `class="st-hollow" x="50.00%" y="4" width="25.00%"`, `class="st-full" x="75.00%" y="4" width="25.00%"`},
	} {
		for _, want := range wants {
			if !strings.Contains(svg, want) {
				t.Errorf("no %q in %s", want, svg)
			}
		}
	}
	if history(evidence.Folder{Scans: f.Scans[:1]}) != nil {
		t.Error("one moment is no strip")
	}
}

// A long case shows its newest moments; what was before them begins at the edge.
func TestHistoryOfALongCase(t *testing.T) {
	var f evidence.Folder
	for h := range 20 {
		f.Scans = append(f.Scans, scanned(string(rune('a'+h)), time.Date(2026, 5, 4, h, 0, 0, 0, time.Local), obd.Incomplete, obd.Code{Code: "P0456", Status: obd.Pending}))
	}
	v := history(f)
	if len(v.Moments) != mostMoments || !strings.Contains(string(v.Rows[0].Bars), `class="st-hollow" x="0.00%" y="3" width="100.00%"`) {
		t.Errorf("%d moments: %s", len(v.Moments), v.Rows[0].Bars)
	}
}
