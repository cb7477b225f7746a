package store

import (
	"bytes"
	"cmp"
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// applicationID stands in the header of every shop: "WXTR". The database file format of
// SQLite keeps four bytes for it (The SQLite Project, Database File Format, 2024, section
// 1.3; from memory).
const applicationID = 0x57585452

// headerSize is the length of SQLite's own header.
const headerSize = 100

// header is what the first bytes of a file say.
type header struct {
	app     uint32
	claimed int64 // bytes that the file should have; 0 when the header does not vouch for it
	size    int64
}

// errEmpty is a file of no bytes, which SQLite takes for a new database.
var errEmpty = errors.New("the file is empty")

// readHeader reads the header of a database; the error says what is there instead.
func readHeader(path string) (header, error) {
	f, err := os.Open(path)
	if err != nil {
		return header{}, fmt.Errorf("there is no file that can be read: %w", err)
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return header{}, err
	}
	if !st.Mode().IsRegular() {
		return header{}, errors.New("it is no file")
	}
	h := header{size: st.Size()}
	if h.size == 0 {
		return h, errEmpty
	}
	b := make([]byte, headerSize)
	n, err := io.ReadFull(f, b)
	if !bytes.HasPrefix(b, []byte("SQLite format 3\x00")[:min(n, 16)]) {
		return h, errors.New("it is no database, but a file of another kind")
	}
	if err != nil {
		return h, fmt.Errorf("it is cut off after %d bytes", n)
	}
	h.app = binary.BigEndian.Uint32(b[68:])
	page := int64(binary.BigEndian.Uint16(b[16:]))
	if page == 1 {
		page = 65536
	}
	// The count of pages counts only when it was written with the last change.
	if binary.BigEndian.Uint32(b[24:]) == binary.BigEndian.Uint32(b[92:]) {
		h.claimed = page * int64(binary.BigEndian.Uint32(b[28:]))
	}
	return h, nil
}

// inspect refuses at once what cannot be a shop: a file of another program, one cut off.
// A path where nothing is yet is fine.
func inspect(path string) error {
	h, err := readHeader(path)
	switch {
	case errors.Is(err, os.ErrNotExist), errors.Is(err, errEmpty):
		return nil
	case err != nil:
		return fmt.Errorf("%s is not a shop: %w", path, err)
	case h.app != 0 && h.app != applicationID:
		return fmt.Errorf("%s is a database of another program, not a shop", path)
	case h.claimed > h.size && !logged(path):
		return fmt.Errorf("%s is cut off: it has %d of its %d kB. %s", path, h.size>>10, h.claimed>>10, remedy(path))
	case h.app == 0:
		return unmarked(path)
	}
	return nil
}

// unmarked looks into a database without a mark, and changes nothing in it: a shop of
// before shops carried one is told by its tables.
func unmarked(path string) error {
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?mode=ro&_pragma=busy_timeout(1500)")
	if err != nil {
		return err
	}
	defer db.Close()
	var tables, shop int
	err = db.QueryRow("SELECT count(*), coalesce(sum(name IN ('goose_db_version', 'vehicles', 'cases')), 0) FROM sqlite_master").Scan(&tables, &shop)
	switch {
	case err != nil:
		return fmt.Errorf("%s cannot be read: %w", path, Busy(err))
	case tables > 0 && shop < 3:
		return fmt.Errorf("%s is a database of another program, not a shop", path)
	}
	return nil
}

// logged reports whether pages may still stand in the write-ahead log.
func logged(path string) bool {
	st, err := os.Stat(path + "-wal")
	return err == nil && st.Size() > 0
}

// Backup is a whole shop that lies beside another. Own says that it carries the other's
// name; otherwise it may be the backup of any shop.
type Backup struct {
	Path string
	Own  bool
}

// Backups are the whole shops beside path: what carries its name first, and of each kind
// the newest first. They are copies by [DB.Backup] and what a restore put aside.
func Backups(path string) []Backup {
	type found struct {
		Backup
		at int64
	}
	var all []found
	entries, _ := os.ReadDir(filepath.Dir(path))
	for _, e := range entries {
		name := filepath.Join(filepath.Dir(path), e.Name())
		if !e.Type().IsRegular() || filepath.Clean(name) == filepath.Clean(path) || strings.HasSuffix(name, ".part") || strings.HasSuffix(name, ".restoring") {
			continue
		}
		if h, err := readHeader(name); err != nil || h.app != applicationID || h.claimed > h.size {
			continue
		}
		if st, err := e.Info(); err == nil {
			all = append(all, found{Backup{name, strings.HasPrefix(name, strings.TrimSuffix(path, filepath.Ext(path)))}, st.ModTime().UnixNano()})
		}
	}
	slices.SortFunc(all, func(a, b found) int {
		if a.Own != b.Own {
			if a.Own {
				return -1
			}
			return 1
		}
		return cmp.Compare(b.at, a.at)
	})
	var out []Backup
	for _, f := range all {
		out = append(out, f.Backup)
	}
	return out
}

// Remedy is what to do about a shop that cannot be used as it is: words, and the command.
type Remedy struct{ Words, Command string }

func (r Remedy) String() string { return r.Words + ": " + r.Command }

// restoring is the command that puts a backup in place of a shop, as a shell takes it.
func restoring(backup, path string) string {
	quoted := func(s string) string {
		if strings.Trim(s, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789/._-:\\") == "" {
			return s
		}
		return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
	}
	return "wexter restore " + quoted(backup) + " --db " + quoted(path)
}

func remedy(path string) Remedy {
	b := Backups(path)
	switch {
	case len(b) == 0:
		return Remedy{"Put a backup in place", restoring("FILE", path)}
	case !b[0].Own:
		return Remedy{fmt.Sprintf("No backup here carries this shop's name; %s may be one. If it is, put it in place", filepath.Base(b[0].Path)), restoring(b[0].Path, path)}
	}
	return Remedy{"Put the newest backup in place", restoring(b[0].Path, path)}
}

// private makes the file for its owner alone, before anything is in it.
func private(path string) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	return errors.Join(f.Chmod(0o600), f.Close())
}

// DamageError says that a shop's file is not whole, what the check found, and what to do.
type DamageError struct {
	Path  string
	Found []string // as the database says it
	Do    Remedy
}

func (e *DamageError) Error() string {
	return fmt.Sprintf("%s is damaged (%s). %s", e.Path, strings.Join(e.Found, "; "), e.Do)
}

// Watch checks the whole file beside the work that goes on, and says what it found; it
// returns when it is done. Damage then tells it to anybody.
func (d *DB) Watch(ctx context.Context, say func(error)) {
	err := d.Whole(ctx)
	if err == nil || ctx.Err() != nil {
		return
	}
	if damage := new(DamageError); errors.As(err, &damage) {
		d.damage.Store(damage)
	}
	say(err)
}

// Damage is what is wrong with the file and what to do; nil as long as nothing is known.
func (d *DB) Damage() *DamageError { return d.damage.Load() }

// Whole reads every page and every index, which takes a while on a large shop; the error
// says what is wrong and what to do.
func (d *DB) Whole(ctx context.Context) error {
	var found []string
	if err := d.read.WithContext(ctx).Raw("PRAGMA integrity_check(5)").Scan(&found).Error; err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		found = []string{err.Error()}
	}
	if len(found) == 1 && found[0] == "ok" {
		return nil
	}
	return &DamageError{Path: d.path, Found: found, Do: remedy(d.path)}
}
