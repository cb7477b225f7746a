package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/url"
	"sync/atomic"
	"time"

	"github.com/pressly/goose/v3"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
	_ "modernc.org/sqlite" // the driver named "sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

//go:embed migrations/*.sql
var migrations embed.FS

// DB is an open shop.
type DB struct {
	write, read *gorm.DB
	path        string
	damage      atomic.Pointer[DamageError]
	gate        gate         // held by whoever writes
	refused     atomic.Int64 // how often the file was found locked
}

// Open opens or creates the file and brings it to the newest schema. A file of a
// newer Wexter, one of another program, one cut off, or one that is no database, is
// refused with a sentence. The file is its owner's alone.
func Open(path string) (*DB, error) {
	if err := inspect(path); err != nil {
		return nil, err
	}
	if err := private(path); err != nil {
		return nil, fmt.Errorf("%s cannot be opened: %w", path, err)
	}
	w, err := connect(path, 1, "immediate")
	if err != nil {
		return nil, fmt.Errorf("%s cannot be opened as a Wexter database: %w", path, Busy(err))
	}
	sqlDB, _ := w.DB()
	if err := migrate(sqlDB); err != nil {
		sqlDB.Close()
		return nil, fmt.Errorf("%s: %w", path, Busy(err))
	}
	r, err := connect(path, 4, "deferred")
	if err != nil {
		sqlDB.Close()
		return nil, err
	}
	return &DB{write: w, read: r, path: path}, nil
}

// statementsStay is the time to live by which GORM keeps statements prepared for good.
// With any other it starts a goroutine for each pool that never ends.
const statementsStay = 10 * 365 * 24 * time.Hour

// busyMilliseconds is how long another program that keeps the file locked is waited for.
const busyMilliseconds = 1500

func connect(path string, conns int, lock string) (*gorm.DB, error) {
	q := url.Values{"_txlock": {lock}, "_time_format": {"sqlite"}}
	for _, p := range []string{"journal_mode(WAL)", "synchronous(FULL)", "foreign_keys(1)", fmt.Sprintf("busy_timeout(%d)", busyMilliseconds), "trusted_schema(0)"} {
		q.Add("_pragma", p)
	}
	dsn := "file:" + (&url.URL{Path: path}).EscapedPath() + "?" + q.Encode()
	db, err := gorm.Open(sqlite.Dialector{DriverName: "sqlite", DSN: dsn}, &gorm.Config{
		SkipDefaultTransaction: true, PrepareStmt: true, PrepareStmtTTL: statementsStay,
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

// BusyError says that another program keeps the shop's file locked.
type BusyError struct{ err error }

func (e *BusyError) Error() string {
	return "another program keeps the shop's file locked; close it there and try again. Nothing was saved"
}

func (e *BusyError) Unwrap() error { return e.err }

// Busy makes a BusyError of an error that comes from a lock, and returns any other as it
// is.
func Busy(err error) error {
	var code interface{ Code() int }
	if errors.As(err, &code) && (code.Code()&0xff == sqlite3.SQLITE_BUSY || code.Code()&0xff == sqlite3.SQLITE_LOCKED) {
		return &BusyError{err}
	}
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
