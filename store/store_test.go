package store_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"gorm.io/gorm"

	"wexter/ingest"
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
func withRun(tx *gorm.DB) error {
	for _, sql := range []string{
		`INSERT INTO vehicles(id, plate, plate_key, make, model, year, odometer_km, tank_l, metering, archetype, created_at) VALUES('v','p','P','m','o',0,0,50,'maf','engine-vacuum','2026-01-01 00:00:00+00:00')`,
		`INSERT INTO cases(id, number, vehicle_id, stage, complaint, circumstances, recent_work, deadline, wait_kind, wait_note, monitors, outcome, reason, opened_at, version) VALUES('c','SQ-1','v','hunt','','','','','','','','','','2026-01-01 00:00:00+00:00',1)`,
		`INSERT INTO tests(id, case_id, repeat_of, setup, rules, outcome, problem, result, at, struck_at, version) VALUES('t','c','','{}','','','','','2026-01-01 00:00:00+00:00',NULL,1)`,
		`INSERT INTO runs(id, test_id, kind, name, unit, notes, start, "end", readings, at, struck_at) VALUES('r','t','hold','x','Pa','[]',0,0,10000,'2026-01-01 00:00:00+00:00',NULL)`,
	} {
		if err := tx.Exec(sql).Error; err != nil {
			return err
		}
	}
	return nil
}

func TestReadingsComeBackExactlyAndNeverChange(t *testing.T) {
	db, _ := open(t)
	var l ingest.Log
	for i := range 10000 {
		x := float64(i)
		l.Time, l.Gauge, l.Wall = append(l.Time, x/7), append(l.Gauge, 3000/(1+x)), append(l.Wall, 290+x/1e4)
	}
	err := db.Write(ctx, func(tx *gorm.DB) error {
		if err := withRun(tx); err != nil {
			return err
		}
		return store.PutReadings(tx, "r", l)
	})
	if err != nil {
		t.Fatal(err)
	}
	got, err := store.Readings(db.Read(ctx), "r")
	if err != nil || len(got.Time) != 10000 {
		t.Fatalf("%d readings, %v", len(got.Time), err)
	}
	for i := range l.Time {
		if got.Time[i] != l.Time[i] || got.Gauge[i] != l.Gauge[i] || got.Wall[i] != l.Wall[i] {
			t.Fatalf("reading %d changed", i)
		}
	}
	if err := db.Write(ctx, func(tx *gorm.DB) error { return tx.Exec("UPDATE blocks SET data = x'00'").Error }); err == nil || !strings.Contains(err.Error(), "never changed") {
		t.Errorf("readings were changed: %v", err)
	}
}

func TestAFailedActionLeavesNothing(t *testing.T) {
	db, _ := open(t)
	err := db.Write(ctx, func(tx *gorm.DB) error {
		if err := withRun(tx); err != nil {
			return err
		}
		return tx.Exec("INSERT INTO runs(id) VALUES('half')").Error
	})
	if err == nil {
		t.Fatal("half a row was taken")
	}
	var n int64
	db.Read(ctx).Table("vehicles").Count(&n)
	if n != 0 {
		t.Errorf("%d vehicles are left behind", n)
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
	if err := db.Write(ctx, func(tx *gorm.DB) error {
		return tx.Exec("INSERT INTO goose_db_version(version_id, is_applied) VALUES(9999, 1)").Error
	}); err != nil {
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
		_ = db.Write(ctx, func(tx *gorm.DB) error {
			err := withRun(tx)
			close(inside)
			<-leave
			return err
		})
	})
	<-inside
	var n int64
	if err := db.Read(ctx).Table("vehicles").Count(&n).Error; err != nil || n != 0 {
		t.Errorf("while a write is under way a reader sees %d, %v", n, err)
	}
	close(leave)
	wg.Wait()
	if db.Read(ctx).Table("vehicles").Count(&n); n != 1 {
		t.Errorf("after it %d", n)
	}
}

// A shop of the first schema is brought up: its runs count as ended.
func TestOlderShopIsBroughtUp(t *testing.T) {
	db, path := open(t)
	if err := db.Write(ctx, func(tx *gorm.DB) error {
		if err := withRun(tx); err != nil {
			return err
		}
		for _, sql := range []string{"DROP INDEX runs_open", "DROP TABLE scans", "DROP TABLE notes", "DROP TABLE devices", "DROP TABLE map_marks", "DROP TABLE corrections", "DROP TABLE access_cards", "DROP TABLE results", "DROP TABLE observations", "DROP TABLE post_mortems", "DROP INDEX vehicles_like", "DELETE FROM goose_db_version WHERE version_id > 1"} {
			if err := tx.Exec(sql).Error; err != nil {
				return err
			}
		}
		for table, columns := range map[string]string{"vehicles": "engine boost crankcase recirculation", "runs": "source origin planned watched marks gaps ended_at doubted_at", "codes": "doubted_at", "tests": "doubted_at", "findings": "doubted_at by rests_on odds cause cause_text", "cases": "kit next next_minutes next_version", "repairs": "doubted_at", "trials": "doubted_at"} {
			for _, c := range strings.Fields(columns) {
				if err := tx.Exec("ALTER TABLE " + table + " DROP COLUMN " + c).Error; err != nil {
					return err
				}
			}
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	db, err := store.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var open int64
	if err := db.Read(ctx).Table("runs").Where("ended_at IS NULL").Count(&open).Error; err != nil || open != 0 {
		t.Errorf("%d runs are open, %v", open, err)
	}
}
