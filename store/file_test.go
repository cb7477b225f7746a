package store_test

import (
	"database/sql"
	"errors"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"wexter/store"
)

// filled is a closed shop with a run in it.
func filled(t *testing.T) string {
	t.Helper()
	db, path := open(t)
	if err := errors.Join(db.Write(ctx, withRun), db.Close()); err != nil {
		t.Fatal(err)
	}
	return path
}

func put(t *testing.T, path string, data []byte) string {
	t.Helper()
	if err := os.WriteFile(path, data, 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

func TestWhatIsNoShopIsRefusedAtOnce(t *testing.T) {
	shop, err := os.ReadFile(filled(t))
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	other := filepath.Join(dir, "other.db")
	if err := raw(t, other, "CREATE TABLE songs(id)", "INSERT INTO songs VALUES(1)"); err != nil {
		t.Fatal(err)
	}
	marked := filepath.Join(dir, "marked.db")
	if err := raw(t, marked, "PRAGMA application_id = 77", "CREATE TABLE songs(id)"); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ name, path, say string }{
		{"another program's", other, "of another program"},
		{"marked by another program", marked, "of another program"},
		{"cut off", put(t, filepath.Join(dir, "cut.db"), shop[:len(shop)/2]), "cut off"},
		{"cut off in its header", put(t, filepath.Join(dir, "head.db"), shop[:50]), "cut off after 50 bytes"},
		{"text", put(t, filepath.Join(dir, "text.db"), []byte(strings.Repeat("not a database ", 100))), "another kind"},
		{"a folder", dir, "it is no file"},
	} {
		t.Run(c.name, func(t *testing.T) {
			before, _ := os.ReadFile(c.path)
			db, err := store.Open(c.path)
			if err == nil {
				db.Close()
			}
			if err == nil || !strings.Contains(err.Error(), c.say) {
				t.Errorf("%v; want a sentence with %q", err, c.say)
			}
			if after, _ := os.ReadFile(c.path); string(after) != string(before) {
				t.Error("the file was changed")
			}
			to := filepath.Join(t.TempDir(), "shop.db")
			if err := store.Restore(c.path, to, func(string) {}); err == nil || !strings.Contains(err.Error(), c.say) || !strings.Contains(err.Error(), "nothing was changed") {
				t.Errorf("restored: %v", err)
			}
			if _, err := os.Stat(to); err == nil {
				t.Error("a shop was made of it")
			}
		})
	}
}

// A shop of before the mark in the header is a shop, and gets the mark.
func TestShopWithoutAMarkIsAShop(t *testing.T) {
	path := filled(t)
	if err := raw(t, path, "PRAGMA application_id = 0", "DROP INDEX findings_part", "DROP TABLE gaps", "DROP TABLE car_values", "ALTER TABLE cases DROP COLUMN away", "ALTER TABLE vehicles DROP COLUMN year_kept", "ALTER TABLE cases DROP COLUMN who", "ALTER TABLE cases DROP COLUMN left_minutes",
		"ALTER TABLE cases DROP COLUMN left_days", "ALTER TABLE cases DROP COLUMN left_night", "ALTER TABLE cases DROP COLUMN next_kit", "ALTER TABLE map_marks DROP COLUMN photo", "ALTER TABLE repairs DROP COLUMN photo",
		"ALTER TABLE devices DROP COLUMN driver", "ALTER TABLE devices DROP COLUMN baud", "ALTER TABLE devices DROP COLUMN settings", "ALTER TABLE tests DROP COLUMN key", "ALTER TABLE tests DROP COLUMN part", "ALTER TABLE tests DROP COLUMN seats", "ALTER TABLE tests DROP COLUMN turns",
		"ALTER TABLE runs DROP COLUMN channels", "ALTER TABLE runs DROP COLUMN figures", "ALTER TABLE runs DROP COLUMN says", "ALTER TABLE runs DROP COLUMN who", "ALTER TABLE results DROP COLUMN bench", "ALTER TABLE results DROP COLUMN measured", "DELETE FROM goose_db_version WHERE version_id >= 7"); err != nil {
		t.Fatal(err)
	}
	db, err := store.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	db.Close()
	data, err := os.ReadFile(path)
	if err != nil || string(data[68:72]) != "WXTR" {
		t.Errorf("the header says %q, %v", data[68:72], err)
	}
}

func TestEmptyFileIsNoBackup(t *testing.T) {
	path := filled(t)
	before, _ := os.ReadFile(path)
	err := store.Restore(put(t, filepath.Join(t.TempDir(), "empty.db"), nil), path, func(string) {})
	if err == nil || !strings.Contains(err.Error(), "empty") {
		t.Errorf("an empty file is restored: %v", err)
	}
	if after, _ := os.ReadFile(path); string(after) != string(before) {
		t.Error("the shop was changed")
	}
}

func must1(data []byte, err error) []byte {
	if err != nil {
		panic(err)
	}
	return data
}

func TestDamageIsFoundBesideTheWork(t *testing.T) {
	path := filled(t)
	db, err := store.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	db.Watch(ctx, func(err error) { t.Errorf("a whole shop: %v", err) })
	if db.Damage() != nil {
		t.Errorf("a whole shop: %v", db.Damage())
	}
	backup := filepath.Join(filepath.Dir(path), "monday.db")
	if err := errors.Join(db.Backup(ctx, backup), db.Close()); err != nil {
		t.Fatal(err)
	}
	data, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	// The pages behind the first hold tables and indexes: the shop opens, and is not whole.
	for i := len(data) / 2; i < len(data)/2+8192; i++ {
		data[i] = 0xA5
	}
	put(t, path, data)
	db, err = store.Open(path)
	if err != nil {
		if !strings.Contains(err.Error(), "malformed") {
			t.Fatal(err)
		}
		return
	}
	defer db.Close()
	said := 0
	db.Watch(ctx, func(error) { said++ })
	if d := db.Damage(); said != 1 || d == nil || len(d.Found) == 0 || d.Do.Command != "wexter restore "+backup+" --db '"+path+"'" || !strings.Contains(d.Do.Words, "monday.db may be one") {
		t.Errorf("said %d times: %v", said, d)
	}
	own := strings.TrimSuffix(path, ".db") + "-tuesday.db"
	put(t, own, must1(os.ReadFile(backup)))
	if err := db.Whole(ctx); err == nil || !strings.Contains(err.Error(), "Put the newest backup in place: wexter restore '"+own+"'") {
		t.Errorf("beside a backup of its own name: %v", err)
	}
	if err := store.Restore(path, filepath.Join(t.TempDir(), "x.db"), func(string) {}); err == nil {
		t.Error("a damaged shop is restored")
	}
}

func TestShopAndBackupAreTheirOwnersAlone(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("files have no such rights there")
	}
	path := filled(t)
	if err := os.Chmod(path, 0o644); err != nil {
		t.Fatal(err)
	}
	db, err := store.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	backup := path + ".copy"
	if err := errors.Join(db.Write(ctx, func(tx store.Tx) error { return tx.KeepSetting("currency", "€") }), db.Backup(ctx, backup)); err != nil {
		t.Fatal(err)
	}
	for _, f := range []string{path, path + "-wal", backup} {
		if st, err := os.Stat(f); err != nil || st.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v, %v", f, st.Mode(), err)
		}
	}
	if got := store.Backups(path); len(got) != 1 || got[0].Path != backup || !got[0].Own {
		t.Errorf("backups beside the shop: %v", got)
	}
}

// One server a shop: a second is told who serves it, whatever became of the first process.
func TestOneServerAShop(t *testing.T) {
	if path := os.Getenv("WEXTER_HOLD"); path != "" {
		h, err := store.Serve(path, "at http://127.0.0.1:8080", time.Now())
		if err != nil {
			os.Exit(3)
		}
		os.Stdout.WriteString("held\n")
		_, _ = os.Stdin.Read(make([]byte, 1)) // until it is killed
		h.Close()                             // what nobody holds any more would be closed, and the lock with it
		os.Exit(0)
	}
	path := filled(t)
	cmd := exec.Command(os.Args[0], "-test.run", "^TestOneServerAShop$")
	cmd.Env = append(os.Environ(), "WEXTER_HOLD="+path)
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	in, err := cmd.StdinPipe() // open as long as this test runs
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	if _, err := out.Read(make([]byte, 5)); err != nil {
		t.Fatal(err)
	}
	_, err = store.Serve(path, "at http://127.0.0.1:8081", time.Now())
	var held *store.HeldError
	if !errors.As(err, &held) || !strings.Contains(err.Error(), "at http://127.0.0.1:8080") {
		t.Errorf("a second server: %v", err)
	}
	if err := store.Restore(path, path, func(string) {}); !errors.As(err, &held) {
		t.Errorf("restored under a server: %v", err)
	}
	// Every other command works beside the server.
	db, err := store.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(db.Backup(ctx, path+".copy"), db.Close()); err != nil {
		t.Errorf("a backup beside the server: %v", err)
	}
	if err := cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	_ = cmd.Wait()
	h, err := store.Serve(path, "at http://127.0.0.1:8081", time.Now())
	if err != nil {
		t.Fatalf("after the first was killed: %v", err)
	}
	h.Close()
}

// While another program keeps the file locked, everybody gets a sentence after one wait.
func TestLockedByAnotherProgram(t *testing.T) {
	db, path := open(t)
	if err := db.Write(ctx, withRun); err != nil {
		t.Fatal(err)
	}
	free := keepLocked(t, path)
	var wg sync.WaitGroup
	errs := make([]error, 12)
	for i := range errs {
		wg.Go(func() { errs[i] = db.Write(ctx, func(tx store.Tx) error { return tx.KeepSetting("currency", "€") }) })
	}
	wg.Wait()
	free()
	for _, err := range errs {
		if b := new(store.BusyError); !errors.As(err, &b) || !strings.Contains(err.Error(), "keeps the shop's file locked") {
			t.Errorf("locked: %v", err)
		}
	}
	if err := db.Write(ctx, func(tx store.Tx) error { return tx.KeepSetting("currency", "€") }); err != nil {
		t.Errorf("after it was freed: %v", err)
	}
}

// keepLocked writes to the shop beside the program and does not end.
func keepLocked(t *testing.T, path string) (free func()) {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath())
	if err != nil {
		t.Fatal(err)
	}
	db.SetMaxOpenConns(1)
	if _, err := db.Exec("BEGIN EXCLUSIVE"); err != nil {
		t.Fatal(err)
	}
	return func() {
		if _, err := db.Exec("ROLLBACK"); err != nil {
			t.Error(err)
		}
		db.Close()
	}
}
