package evidence

import (
	"slices"
	"time"

	"wexter/core/bench"
	"wexter/core/obd"
	"wexter/core/record"
	"wexter/core/trim"
	"wexter/ingest"
)

// Folder is everything on a case.
type Folder struct {
	Case     record.Case
	Vehicle  record.Vehicle
	Codes    []record.Code
	Tests    []TestFolder // holds
	Benches  []TestFolder // other tests that were read live
	Findings []record.Finding
	Repairs  []record.RepairDone
	Trials   []record.Trial
	Scans    []ScanFolder
	Notes    []record.Note
	Marks    []record.MapMark
	Results  []record.Result

	Observations []record.Observation
	PostMortems  []record.PostMortem

	Corrections []record.Correction // of the car, over all its cases
	Cards       []record.AccessCard
}

// TestFolder is a test with its runs.
type TestFolder struct {
	record.Test
	Runs []record.Run
}

// ScanFolder is a scan with what it says.
type ScanFolder struct {
	record.ScanDone
	Read obd.Scan `json:"-"` // what the text says
	Bad  string   `json:"-"` // when the text can no longer be read
}

// ReadScan decodes a scan from its text.
func ReadScan(x record.ScanDone) ScanFolder {
	sf := ScanFolder{ScanDone: x}
	var err error
	if sf.Read, err = ingest.ReadScan([]byte(x.Raw)); err != nil {
		sf.Bad = err.Error()
	}
	return sf
}

// Read reports whether the car's codes are known, or it was said why they are not: no tool
// here, or a car that checks nothing by itself. The hunt need not wait for them then.
func (f Folder) Read() bool {
	return len(f.Scans)+len(f.Codes) > 0 || slices.ContainsFunc(f.Results, func(x record.Result) bool {
		t, ok := bench.Of(x.Test)
		return ok && t.Odds == bench.FromCodes && !x.Struck()
	})
}

// Test finds one of the folder's tests.
func (f Folder) Test(id string) (TestFolder, bool) {
	for _, t := range f.Tests {
		if t.ID == id {
			return t, true
		}
	}
	return TestFolder{}, false
}

// DriveOf is the drive that a result was read from; nil without one.
func (f Folder) DriveOf(x record.Result) *trim.Drive {
	for _, t := range f.Benches {
		if t.ID != x.Bench || t.Key != x.Test || t.Key != bench.Trims.Key {
			continue
		}
		if d, ok := t.Drive(); ok {
			return &d
		}
	}
	return nil
}

// Entry is a record of a case that evidence is read from. Judged is one that readings judge: a
// test or a result.
type Entry struct {
	ID     string
	At     time.Time
	Judged bool
}

// Order lists the records of a case that may be evidence, oldest first.
func (f Folder) Order() []Entry {
	var out []Entry
	out = entries(out, f.Scans, func(x ScanFolder) Entry { return Entry{ID: x.ID, At: x.At} })
	out = entries(out, f.Observations, func(x record.Observation) Entry { return Entry{ID: x.ID, At: x.At} })
	out = entries(out, f.Notes, func(x record.Note) Entry { return Entry{ID: x.ID, At: x.At} })
	out = entries(out, f.Marks, func(x record.MapMark) Entry { return Entry{ID: x.ID, At: x.At} })
	out = entries(out, f.Findings, func(x record.Finding) Entry { return Entry{ID: x.ID, At: x.At} })
	out = entries(out, f.Tests, func(x TestFolder) Entry { return Entry{x.ID, x.At, true} })
	out = entries(out, f.Results, func(x record.Result) Entry { return Entry{x.ID, x.At, true} })
	slices.SortStableFunc(out, func(a, b Entry) int { return a.At.Compare(b.At) })
	return out
}

func entries[T any](out []Entry, list []T, of func(T) Entry) []Entry {
	for _, x := range list {
		out = append(out, of(x))
	}
	return out
}
