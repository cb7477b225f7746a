package store_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"wexter/core/record"
	"wexter/store"
)

var ctx = context.Background()

func open(t *testing.T) (*store.DB, string) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "a shop #1.db") // a blank and a mark that means something in a name
	db, err := store.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db, path
}

// withRun makes the rows that a run hangs on.
// withRun makes a car with a case, a test and a run.
func withRun(tx store.Tx) error {
	at := time.Date(2026, 1, 5, 9, 0, 0, 0, time.UTC)
	return errors.Join(tx.Add(&record.Vehicle{ID: "v", PlateKey: "P", CreatedAt: at}),
		tx.Add(&record.Case{ID: "c", Number: "SQ-101", VehicleID: "v", Stage: record.Hunt, OpenedAt: at, Version: 1}),
		tx.Add(&record.Test{ID: "t", CaseID: "c", At: at, Version: 1}),
		tx.Add(&record.Run{ID: "r", TestID: "t", Kind: record.RunHold, Notes: record.Strings{}, Marks: record.Marks{}, Gaps: record.Gaps{}, At: at, EndedAt: &at}))
}

// raw runs statements on a shop's file beside the program.
func raw(t *testing.T, path string, statements ...string) error {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?_pragma=busy_timeout(5000)")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	for _, s := range statements {
		if _, err := db.Exec(s); err != nil {
			return fmt.Errorf("%s: %w", s, err)
		}
	}
	return nil
}

func TestReadingsComeBackExactlyAndNeverChange(t *testing.T) {
	db, path := open(t)
	l := record.NewTable(2)
	for i := range 10000 {
		x := float64(i)
		wall := 290 + x/1e4
		if i%7 == 3 {
			wall = math.NaN() // the probe gave nothing
		}
		l.Add(x/7, []float64{3000 / (1 + x), wall})
	}
	err := db.Write(ctx, func(tx store.Tx) error {
		if err := withRun(tx); err != nil {
			return err
		}
		return tx.PutReadings("r", l)
	})
	if err != nil {
		t.Fatal(err)
	}
	got, err := db.Read(ctx).Readings("r")
	if err != nil || len(got.Time) != 10000 {
		t.Fatalf("%d readings, %v", len(got.Time), err)
	}
	for i := range l.Time {
		wall, want := got.Cols[1][i], l.Cols[1][i]
		if got.Time[i] != l.Time[i] || got.Cols[0][i] != l.Cols[0][i] || wall != want && !(math.IsNaN(wall) && math.IsNaN(want)) {
			t.Fatalf("reading %d changed", i)
		}
	}
	if err := raw(t, path, "UPDATE blocks SET data = x'00'"); err == nil || !strings.Contains(err.Error(), "never changed") {
		t.Errorf("readings were changed: %v", err)
	}
}

func TestAFailedActionLeavesNothing(t *testing.T) {
	db, _ := open(t)
	err := db.Write(ctx, func(tx store.Tx) error {
		if err := withRun(tx); err != nil {
			return err
		}
		return tx.Add(&record.Run{ID: "half", TestID: "no such test"})
	})
	if err == nil {
		t.Fatal("half a row was taken")
	}
	if has, err := store.Has[record.Vehicle](db.Read(ctx), "v"); has || err != nil {
		t.Errorf("the vehicle is left behind: %v %v", has, err)
	}
}

func TestFilesThatAreNoShop(t *testing.T) {
	dir := t.TempDir()
	text := filepath.Join(dir, "text.db")
	if err := os.WriteFile(text, []byte(strings.Repeat("not a database ", 100)), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := store.Open(text); err == nil {
		t.Error("a text file opens as a shop")
	}
	if _, err := store.Open(filepath.Join(dir, "no", "such", "folder.db")); err == nil {
		t.Error("a shop in no folder")
	}
	db, path := open(t)
	if err := raw(t, path, "INSERT INTO goose_db_version(version_id, is_applied) VALUES(9999, 1)"); err != nil {
		t.Fatal(err)
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	if _, err := store.Open(path); err == nil || !strings.Contains(err.Error(), "newer Wexter") {
		t.Errorf("a newer schema: %v", err)
	}
}

func TestReadersDoNotWaitForTheWriter(t *testing.T) {
	db, _ := open(t)
	inside, leave := make(chan struct{}), make(chan struct{})
	var wg sync.WaitGroup
	wg.Go(func() {
		_ = db.Write(ctx, func(tx store.Tx) error {
			err := withRun(tx)
			close(inside)
			<-leave
			return err
		})
	})
	<-inside
	if has, err := store.Has[record.Vehicle](db.Read(ctx), "v"); err != nil || has {
		t.Errorf("while a write is under way a reader sees its row: %v, %v", has, err)
	}
	close(leave)
	wg.Wait()
	if has, err := store.Has[record.Vehicle](db.Read(ctx), "v"); err != nil || !has {
		t.Errorf("after it: %v, %v", has, err)
	}
}

// A shop of the first schema is brought up: its runs count as ended.
func TestOlderShopIsBroughtUp(t *testing.T) {
	db, path := open(t)
	if err := db.Write(ctx, withRun); err != nil {
		t.Fatal(err)
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	back := []string{"DROP INDEX findings_part", "DROP INDEX runs_open", "DROP INDEX vehicles_like", "DELETE FROM goose_db_version WHERE version_id > 1",
		"ALTER TABLE cases ADD COLUMN next_version INTEGER NOT NULL DEFAULT 0"}
	for _, table := range strings.Fields("scans notes devices map_marks corrections access_cards results observations post_mortems gaps car_values") {
		back = append(back, "DROP TABLE "+table)
	}
	for table, columns := range map[string]string{"vehicles": "engine boost crankcase recirculation version year_kept", "runs": "source origin planned watched marks gaps ended_at doubted_at channels figures says who",
		"codes": "doubted_at", "tests": "doubted_at key part seats turns", "findings": "doubted_at by rests_on odds cause cause_text",
		"cases": "kit next next_minutes next_version next_basis away who left_minutes left_days left_night next_kit", "repairs": "doubted_at photo", "trials": "doubted_at"} {
		for _, c := range strings.Fields(columns) {
			back = append(back, "ALTER TABLE "+table+" DROP COLUMN "+c)
		}
	}
	if err := raw(t, path, back...); err != nil {
		t.Fatal(err)
	}
	db, err := store.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if open, err := db.Read(ctx).OpenRuns(); err != nil || len(open) != 0 {
		t.Errorf("%d runs are open, %v", len(open), err)
	}
	if c, err := store.Get[record.Case](db.Read(ctx), "c"); err != nil || c.Number != "SQ-101" || c.NextBasis != "" {
		t.Errorf("%+v, %v", c, err)
	}
}
