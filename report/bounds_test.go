package report_test

import (
	"bytes"
	"fmt"
	"runtime"
	"strings"
	"testing"

	"wexter/core/record"
	"wexter/report"
)

// many repeats a piece of JSON to 60 MB.
func many(piece string) string {
	return strings.TrimSuffix(strings.Repeat(piece+",", 60<<20/(len(piece)+1)), ",")
}

// A file of 60 MB that holds nothing but brackets, numbers or letters costs hardly more than
// itself, and is refused in a sentence that names the place.
func TestHostileBundlesCostLittle(t *testing.T) {
	for _, c := range []struct{ name, text, say string }{
		{"codes", `{"schema":"wexter-case/8","codes":[` + many("{}") + `]}`, "2000 entries in codes"},
		{"gaps", `{"schema":"wexter-case/8","tests":[{"runs":[{"gaps":[` + many("{}") + `]}]}]}`, "4000 entries in tests[0].runs[0].gaps"},
		{"gaps over runs", `{"schema":"wexter-case/8","tests":[` + many(`{"runs":[`+strings.TrimSuffix(strings.Repeat(`{"gaps":[`+strings.TrimSuffix(strings.Repeat("{},", 3000), ",")+`]},`, 150), ",")+`]}`) + `]}`, "400000 values"},
		{"readings", `{"schema":"wexter-case/8","tests":[{"runs":[{"time_s":[` + many("0") + `]}]}]}`, "2000000 entries in tests[0].runs[0].time_s"},
		{"a list that nobody knows", `{"schema":"wexter-case/8","x":[` + many("[]") + `]}`, "2000 entries in x"},
		{"fields", `{"schema":"wexter-case/8",` + many(`"a":{}`) + `}`, "200 fields"},
		{"deep", strings.Repeat(`{"a":`, 10<<20), "too deep"},
		{"a text", `{"schema":"wexter-case/8","vehicle":{"plate":"` + strings.Repeat("a", 60<<20) + `"}}`, "text of 60 MB at vehicle.plate"},
		{"quotes", `{"schema":"` + strings.Repeat(`\"`, 30<<20), "text of 60 MB at schema"},
		{"open lists", strings.Repeat("[", 60<<20), "too deep"},
	} {
		t.Run(c.name, func(t *testing.T) {
			data := []byte(c.text)
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			_, err := report.ReadBundle(data)
			runtime.ReadMemStats(&after)
			if err == nil || !strings.Contains(err.Error(), c.say) || len(err.Error()) > 200 {
				t.Errorf("%v; want %q", err, c.say)
			}
			if took := after.TotalAlloc - before.TotalAlloc; took > 1<<20 {
				t.Errorf("%d MB were taken to refuse it", took>>20)
			}
		})
	}
}

// A case as large as one can be comes back, and nothing that a shop can write is refused
// for its size.
func TestTheLargestBundle(t *testing.T) {
	b := small()
	for i := range record.MostEntries {
		b.Notes = append(b.Notes, record.Note{ID: fmt.Sprint("n", i), CaseID: b.Case.ID, Kind: record.Noted, Text: strings.Repeat("é", 2000), At: b.Case.OpenedAt})
	}
	at := b.Case.OpenedAt
	test := report.BundleTest{Test: record.Test{ID: "t", CaseID: b.Case.ID, Setup: setup(), At: at, Version: 1}}
	run := report.BundleRun{Run: record.Run{ID: "r", TestID: "t", Kind: record.RunHold, Readings: record.MostReadings / 20, At: at, EndedAt: &at, Notes: record.Strings{}, Marks: record.Marks{}}}
	for i := range record.MostGaps {
		run.Gaps = append(run.Gaps, record.Gap{From: float64(i), To: float64(i) + 0.5, Why: "the module did not answer"})
	}
	for i := range run.Readings {
		run.Time, run.Gauge, run.Wall = append(run.Time, float64(i)/3), append(run.Gauge, 1e4/3), append(run.Wall, 880.0/3)
	}
	test.Runs = append(test.Runs, run)
	b.Tests = append(b.Tests, test)
	data, err := report.WriteBundle(b)
	if err != nil {
		t.Fatal(err)
	}
	again, err := report.ReadBundle(data)
	if err != nil {
		t.Fatal(err)
	}
	back, err := report.WriteBundle(again)
	if err != nil || !bytes.Equal(back, data) {
		t.Errorf("it comes back otherwise, %v", err)
	}
	// All the readings, and the photos and scans beside them.
	b.Tests[0].Runs[0].Time, b.Tests[0].Runs[0].Gauge, b.Tests[0].Runs[0].Wall = nil, nil, nil
	without, err := report.WriteBundle(b)
	if err != nil {
		t.Fatal(err)
	}
	if most := 20*(len(data)-len(without)) + len(without)*4 + record.MostPhotoBytes*4/3 + record.MostScanBytes*6/5; most > report.MaxBytes {
		t.Errorf("the largest bundle may take %d MB, and %d MB are read", most>>20, report.MaxBytes>>20)
	}
}
