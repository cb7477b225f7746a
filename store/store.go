// Package store keeps a shop in one SQLite file: a write pool of one connection
// that begins its transactions immediately, a read pool beside it, write-ahead
// logging with full synchronisation, numbered forward-only migrations, and
// readings in blocks that never change.
package store

import (
	"context"
	"database/sql"
	"embed"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math"
	"net/url"
	"os"
	"time"

	"github.com/pressly/goose/v3"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
	_ "modernc.org/sqlite" // the driver named "sqlite"

	"wexter/ingest"
)

//go:embed migrations/*.sql
var migrations embed.FS

// DB is an open shop.
type DB struct {
	write, read *gorm.DB
	path        string
}

// Open opens or creates the file and brings it to the newest schema. A file of a
// newer Wexter, or one that is no database, is refused with a sentence.
func Open(path string) (*DB, error) {
	w, err := connect(path, 1, "immediate")
	if err != nil {
		return nil, fmt.Errorf("%s cannot be opened as a Wexter database: %w", path, err)
	}
	sqlDB, _ := w.DB()
	if err := migrate(sqlDB); err != nil {
		sqlDB.Close()
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	r, err := connect(path, 4, "deferred")
	if err != nil {
		sqlDB.Close()
		return nil, err
	}
	return &DB{write: w, read: r, path: path}, nil
}

func connect(path string, conns int, lock string) (*gorm.DB, error) {
	q := url.Values{"_txlock": {lock}, "_time_format": {"sqlite"}}
	for _, p := range []string{"journal_mode(WAL)", "synchronous(FULL)", "foreign_keys(1)", "busy_timeout(5000)", "trusted_schema(0)"} {
		q.Add("_pragma", p)
	}
	dsn := "file:" + (&url.URL{Path: path}).EscapedPath() + "?" + q.Encode()
	db, err := gorm.Open(sqlite.Dialector{DriverName: "sqlite", DSN: dsn}, &gorm.Config{
		SkipDefaultTransaction: true, PrepareStmt: true,
		Logger:  logger.New(slog.NewLogLogger(slog.Default().Handler(), slog.LevelWarn), logger.Config{LogLevel: logger.Silent}),
		NowFunc: func() time.Time { return time.Now().UTC() },
	})
	if err != nil {
		return nil, err
	}
	s, err := db.DB()
	if err != nil {
		return nil, err
	}
	s.SetMaxOpenConns(conns)
	s.SetMaxIdleConns(conns)
	return db, s.Ping()
}

func migrate(db *sql.DB) error {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, db, sub)
	if err != nil {
		return err
	}
	ctx := context.Background()
	have, want, err := p.GetVersions(ctx)
	if err != nil {
		return fmt.Errorf("this is no Wexter database: %w", err)
	}
	if have > want {
		return fmt.Errorf("this database was written by a newer Wexter (schema %d, this one knows %d); take the newer program", have, want)
	}
	_, err = p.Up(ctx)
	return err
}

// Close closes both pools; the write-ahead log is folded into the file.
func (d *DB) Close() error {
	r, _ := d.read.DB()
	w, _ := d.write.DB()
	err := r.Close()
	_, ckErr := w.Exec("PRAGMA wal_checkpoint(TRUNCATE)")
	return errors.Join(err, ckErr, w.Close())
}

// Read returns a handle for queries.
func (d *DB) Read(ctx context.Context) *gorm.DB { return d.read.WithContext(ctx) }

// Write runs f in one transaction on the single writer; an error undoes all of it.
func (d *DB) Write(ctx context.Context, f func(tx *gorm.DB) error) error {
	return d.write.WithContext(ctx).Transaction(f)
}

// Backup writes a consistent copy of the running shop to path, which must not exist.
func (d *DB) Backup(ctx context.Context, path string) error {
	if _, err := os.Lstat(path); err == nil {
		return fmt.Errorf("%s exists already; a backup never overwrites", path)
	}
	part := path + ".part"
	os.Remove(part)
	if err := d.Read(ctx).Exec("VACUUM INTO ?", part).Error; err != nil {
		os.Remove(part)
		return fmt.Errorf("the backup could not be written: %w", err)
	}
	return os.Rename(part, path)
}

const blockReadings = 4096

// block is some readings of a run.
type block struct {
	RunID    string
	Seq      int
	Readings int
	Wall     bool
	Data     []byte
}

// PutReadings writes a run's readings in blocks.
func PutReadings(tx *gorm.DB, run string, l ingest.Log) error {
	for seq, at := 0, 0; at < len(l.Time); seq++ {
		n := min(blockReadings, len(l.Time)-at)
		if err := AppendReadings(tx, run, seq, l, at, at+n); err != nil {
			return err
		}
		at += n
	}
	return nil
}

// AppendReadings writes readings from up to to of a log as block seq of a run.
func AppendReadings(tx *gorm.DB, run string, seq int, l ingest.Log, from, to int) error {
	b := block{RunID: run, Seq: seq, Readings: to - from, Wall: l.Wall != nil}
	cols := [][]float64{l.Time, l.Gauge}
	if b.Wall {
		cols = append(cols, l.Wall)
	}
	for _, c := range cols {
		for _, x := range c[from:to] {
			b.Data = binary.LittleEndian.AppendUint64(b.Data, math.Float64bits(x))
		}
	}
	return tx.Table("blocks").Create(&b).Error
}

// Blocks returns how many blocks a run has: the number of the next one.
func Blocks(tx *gorm.DB, run string) (n int, err error) {
	err = tx.Table("blocks").Where("run_id = ?", run).Select("COALESCE(MAX(seq) + 1, 0)").Scan(&n).Error
	return n, err
}

// Readings returns a run's readings.
func Readings(tx *gorm.DB, run string) (ingest.Log, error) {
	var bs []block
	if err := tx.Table("blocks").Where("run_id = ?", run).Order("seq").Find(&bs).Error; err != nil {
		return ingest.Log{}, err
	}
	var l ingest.Log
	for _, b := range bs {
		cols := 2
		if b.Wall {
			cols = 3
		}
		if len(b.Data) != 8*cols*b.Readings {
			return l, fmt.Errorf("block %d of run %s is damaged: %d bytes for %d readings", b.Seq, run, len(b.Data), b.Readings)
		}
		for c := range cols {
			for i := range b.Readings {
				x := math.Float64frombits(binary.LittleEndian.Uint64(b.Data[8*(c*b.Readings+i):]))
				switch c {
				case 0:
					l.Time = append(l.Time, x)
				case 1:
					l.Gauge = append(l.Gauge, x)
				case 2:
					l.Wall = append(l.Wall, x)
				}
			}
		}
	}
	return l, nil
}

// Restore puts a backup in place at path. The backup is copied and opened first,
// so that a damaged one changes nothing; the shop that was there is kept beside it
// and its name told to done (empty when there was none). A shop that is being
// served is refused.
func Restore(backup, path string, done func(kept string)) error {
	if st, err := os.Stat(backup); err != nil || !st.Mode().IsRegular() {
		return fmt.Errorf("%s is no file that can be read", backup)
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
	var ok string
	checked := db.Read(context.Background()).Raw("PRAGMA integrity_check").Scan(&ok).Error
	if err := errors.Join(checked, db.Close()); err != nil || ok != "ok" {
		return fmt.Errorf("%s is damaged (%s); nothing was changed", backup, ok)
	}
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
