package main

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"
	"testing"

	"wexter/core/diagnose"
	"wexter/ingest"
)

// wanted is some rows of the table that ships, in its order.
func wanted(t *testing.T, n int) []diagnose.Row {
	t.Helper()
	rows, err := ingest.ReadReadings(ingest.ReadingsFile())
	if err != nil {
		t.Fatal(err)
	}
	// Rows of codes: a text that can be anything, where the others hold a test's channels.
	rows = slices.DeleteFunc(rows, func(r diagnose.Row) bool { return r.Test != diagnose.Codes })
	return rows[:n]
}

// answered is what every row reads that was asked for.
const answered = "P0442"

func answer(r diagnose.Row) (diagnose.Row, error) {
	r.Codes = answered
	return r, nil
}

// Interrupted, the table stays as it was to the byte, nothing unanswered passes for
// answered, and the next run asks only for what is missing.
func TestInterrupted(t *testing.T) {
	want := wanted(t, 900)
	path := filepath.Join(t.TempDir(), "readings.csv")
	old := ingest.WriteReadings(want[:40])
	if err := os.WriteFile(path, old, 0o600); err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	var asked atomic.Int64
	tb := table{path: path, journal: path + ".journal", says: io.Discard}
	if err := tb.read([]string{tb.journal}); err != nil {
		t.Fatal(err)
	}
	err := tb.fill(ctx, want, func(r diagnose.Row) (diagnose.Row, error) {
		if asked.Add(1) == 500 {
			stop()
		}
		return answer(r)
	})
	if err == nil {
		t.Fatal("an interrupted run says that it is done")
	}
	if now, err := os.ReadFile(path); err != nil || !bytes.Equal(now, old) {
		t.Fatalf("the table was changed by a run that was interrupted: %v", err)
	}
	data, err := os.ReadFile(tb.journal)
	if err != nil {
		t.Fatal(err)
	}
	rows, err := ingest.ReadReadings(data)
	if err != nil || len(rows) < 500 || len(rows) >= len(want) {
		t.Fatalf("%d rows in the journal, %v", len(rows), err)
	}
	for _, r := range rows {
		if r.Codes != answered {
			t.Fatalf("%s was never answered, and stands in the journal", r.Key())
		}
	}
	before := asked.Load()
	again := table{path: path, journal: path + ".journal", says: io.Discard}
	if err := again.read([]string{again.journal}); err != nil {
		t.Fatal(err)
	}
	if err := again.fill(context.Background(), want, func(r diagnose.Row) (diagnose.Row, error) { asked.Add(1); return answer(r) }); err != nil {
		t.Fatal(err)
	}
	if n := asked.Load() - before; int(n) != len(want)-len(rows) {
		t.Errorf("%d rows were asked for the second time; %d were missing", n, len(want)-len(rows))
	}
	if data, err = os.ReadFile(path); err != nil {
		t.Fatal(err)
	}
	if rows, err = ingest.ReadReadings(data); err != nil || len(rows) != len(want) {
		t.Errorf("%d rows in the table, %v", len(rows), err)
	}
	if left, _ := filepath.Glob(path + "?*"); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

// A row that the plant cannot answer is left out, so that it is asked for again, and the rest
// is asked for.
func TestARowThatFails(t *testing.T) {
	want := wanted(t, 10)
	path := filepath.Join(t.TempDir(), "readings.csv")
	tb := table{path: path, journal: path + ".journal", says: io.Discard, have: map[string]diagnose.Row{}}
	if err := tb.fill(context.Background(), want, func(r diagnose.Row) (diagnose.Row, error) {
		if r.Key() == want[3].Key() {
			return diagnose.Row{}, errors.New("stiff")
		}
		return answer(r)
	}); err != nil {
		t.Fatal(err)
	}
	data, _ := os.ReadFile(path)
	rows, err := ingest.ReadReadings(data)
	if err != nil || len(rows) != 9 {
		t.Errorf("%d rows, %v", len(rows), err)
	}
}
