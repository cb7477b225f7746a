package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"
)

// Backup writes a consistent copy of the running shop to path, which must not exist.
func (d *DB) Backup(ctx context.Context, path string) error {
	if _, err := os.Lstat(path); err == nil {
		return fmt.Errorf("%s exists already; a backup never overwrites", path)
	}
	part := path + ".part"
	os.Remove(part)
	if err := private(part); err != nil {
		return fmt.Errorf("the backup could not be written: %w", err)
	}
	if err := d.read.WithContext(ctx).Exec("VACUUM INTO ?", part).Error; err != nil {
		os.Remove(part)
		return fmt.Errorf("the backup could not be written: %w", err)
	}
	return os.Rename(part, path)
}

// Restore puts a backup in place at path. The backup is copied and opened first,
// so that a damaged one changes nothing; the shop that was there is kept beside it
// and its name told to done (empty when there was none). A shop that is being
// served is refused.
func Restore(backup, path string, done func(kept string)) error {
	if _, err := readHeader(backup); err != nil {
		return fmt.Errorf("%s is no backup: %w; nothing was changed", backup, err)
	}
	if err := inspect(backup); err != nil {
		return fmt.Errorf("%w; nothing was changed", err)
	}
	part := path + ".restoring"
	defer func() {
		for _, end := range []string{"", "-wal", "-shm"} {
			os.Remove(part + end)
		}
	}()
	data, err := os.ReadFile(backup)
	if err != nil {
		return err
	}
	if err := os.WriteFile(part, data, 0o600); err != nil {
		return err
	}
	db, err := Open(part)
	if err != nil {
		return fmt.Errorf("%s is no whole backup: %w", backup, err)
	}
	var found []string
	checked := db.read.Raw("PRAGMA integrity_check(5)").Scan(&found).Error
	if err := errors.Join(checked, db.Close()); err != nil || !slices.Equal(found, []string{"ok"}) {
		return fmt.Errorf("%s is damaged (%s); nothing was changed", backup, strings.Join(found, "; "))
	}
	hold, err := Serve(path, "a restore", time.Now())
	if err != nil {
		return err
	}
	defer hold.Close()
	kept := ""
	if _, err := os.Stat(path); err == nil {
		if err := alone(path); err != nil {
			return err
		}
		kept = fmt.Sprintf("%s.before-%s", path, time.Now().Format("20060102-150405"))
		if err := os.Rename(path, kept); err != nil {
			return err
		}
		for _, end := range []string{"-wal", "-shm"} {
			os.Remove(path + end)
		}
	}
	if err := os.Rename(part, path); err != nil {
		if kept != "" {
			err = errors.Join(err, os.Rename(kept, path))
		}
		return err
	}
	done(kept)
	return nil
}

// alone makes sure that nobody else has the file open: only then may the journal
// leave write-ahead logging, which folds the log into the file.
func alone(path string) error {
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?_pragma=busy_timeout(500)")
	if err != nil {
		return err
	}
	defer db.Close()
	var mode string
	if err := db.QueryRow("PRAGMA journal_mode=DELETE").Scan(&mode); err != nil || mode != "delete" {
		return fmt.Errorf("the shop at %s is in use; stop Wexter there first", path)
	}
	return nil
}
