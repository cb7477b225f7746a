package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"wexter/core/record"
)

// Tx reads and writes records: inside one transaction when it comes from [DB.Write],
// and for reading alone when it comes from [DB.Read].
type Tx struct{ db *gorm.DB }

// ErrNotFound is returned for a row that is not in the shop.
var ErrNotFound = errors.New("this is not in the shop's records")

// Read returns a Tx on the read pool.
func (d *DB) Read(ctx context.Context) Tx { return Tx{d.read.WithContext(ctx)} }

// Write runs f in one transaction on the single writer; an error undoes all of it. While
// another program keeps the file locked, one caller waits for it and the others that came
// meanwhile are told at once what it was told.
func (d *DB) Write(ctx context.Context, f func(tx Tx) error) error {
	return d.writeFrom(ctx, &d.gate.usual, f)
}

// WriteFirst is Write for what must not wait for others: it goes before all who wait.
func (d *DB) WriteFirst(ctx context.Context, f func(tx Tx) error) error {
	return d.writeFrom(ctx, &d.gate.hurry, f)
}

// WriteEasy is Write for what may be left for another time: it does not wait while another
// program keeps the file locked.
func (d *DB) WriteEasy(ctx context.Context, f func(tx Tx) error) error {
	if err := d.gate.enter(ctx, &d.gate.usual); err != nil {
		return err
	}
	defer d.gate.leave()
	if err := d.patience(0); err != nil {
		return err
	}
	err := Busy(d.write.WithContext(ctx).Transaction(func(db *gorm.DB) error { return f(Tx{db}) }))
	return errors.Join(err, d.patience(busyMilliseconds))
}

// patience says how long the writer waits for another program, ms.
func (d *DB) patience(ms int) error {
	return d.write.Exec(fmt.Sprintf("PRAGMA busy_timeout = %d", ms)).Error
}

func (d *DB) writeFrom(ctx context.Context, q *queue, f func(tx Tx) error) error {
	came := d.refused.Load()
	if err := d.gate.enter(ctx, q); err != nil {
		return err
	}
	defer d.gate.leave()
	if d.refused.Load() != came {
		return &BusyError{errors.New("locked a moment ago")}
	}
	err := Busy(d.write.WithContext(ctx).Transaction(func(db *gorm.DB) error { return f(Tx{db}) }))
	if b := new(BusyError); errors.As(err, &b) {
		d.refused.Add(1)
	}
	return err
}

// Once is Write for an action that a form asked for. The key belongs to the form: the
// second time it is sent the action is not done again, and the id that the first one
// made is returned. An empty key does the action every time.
func (d *DB) Once(ctx context.Context, key string, now time.Time, action func(tx Tx) (id string, err error)) (id string, err error) {
	err = d.Write(ctx, func(tx Tx) error {
		if key != "" {
			var sent []string
			if err := tx.db.Table("sent_forms").Where("key = ?", key).Pluck("target", &sent).Error; err != nil {
				return err
			}
			if len(sent) > 0 {
				id = sent[0]
				return nil
			}
		}
		var err error
		if id, err = action(tx); err != nil || key == "" {
			return err
		}
		return tx.db.Exec("INSERT INTO sent_forms(key, target, at) VALUES(?, ?, ?)", key, id, now).Error
	})
	return id, err
}

// Sent is what a form that was sent with this key made, and when; ErrNotFound when none was.
func (tx Tx) Sent(key string) (id string, at time.Time, err error) {
	row, err := take[struct {
		Target string
		At     time.Time
	}](tx.db.Table("sent_forms").Where("key = ?", key))
	return row.Target, row.At, err
}

// Get returns the row of a record by its id, or ErrNotFound.
func Get[T any](tx Tx, id string) (T, error) { return take[T](tx.db.Where("id = ?", id)) }

// take returns the one row of a question, or ErrNotFound.
func take[T any](q *gorm.DB) (T, error) {
	var v T
	err := q.Take(&v).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return v, ErrNotFound
	}
	return v, err
}

// inOrder returns all rows of a question, oldest first.
func inOrder[T any](q *gorm.DB) (rows []T, err error) {
	err = q.Order("at, rowid").Find(&rows).Error
	return rows, err
}

// OfCase returns what stands on a case, oldest first, struck out or not.
func OfCase[T any](tx Tx, id string) ([]T, error) { return inOrder[T](tx.db.Where("case_id = ?", id)) }

// OfTest returns the runs of a test, oldest first, struck out or not.
func OfTest(tx Tx, id string) ([]record.Run, error) {
	rs, err := inOrder[record.Run](tx.db.Where("test_id = ?", id))
	if err != nil {
		return nil, err
	}
	return tx.withGaps(rs)
}

// OfVehicle returns what is written down of a car, oldest first, struck out or not.
func OfVehicle[T any](tx Tx, id string) ([]T, error) {
	return inOrder[T](tx.db.Where("vehicle_id = ?", id))
}

// Column names of owners.
const (
	CaseColumn = "case_id"
	CarColumn  = "vehicle_id"
)

// Owner is a case or a car to which entries belong.
type Owner struct{ Column, ID string }

// Count returns how many entries of a kind an owner has, struck out or not.
func Count[T any](tx Tx, o Owner) (int, error) {
	var n int64
	err := tx.db.Model(new(T)).Where(clause.Eq{Column: o.Column, Value: o.ID}).Count(&n).Error
	return int(n), err
}

// StandingOfCases returns what stands on any of some cases and is not struck out,
// oldest first.
func StandingOfCases[T any](tx Tx, ids []string) ([]T, error) {
	return inOrder[T](tx.db.Where("case_id IN ? AND struck_at IS NULL", ids))
}

// Has reports whether there is a row of a record with the id.
func Has[T any](tx Tx, id string) (bool, error) {
	var n int64
	err := tx.db.Model(new(T)).Where("id = ?", id).Count(&n).Error
	return n > 0, err
}

// Add writes new rows: a pointer to a record or to a slice of them.
func (tx Tx) Add(rows any) error { return tx.db.Create(rows).Error }

// Put writes a row again, all its columns; one that is not there yet is added.
func (tx Tx) Put(row any) error { return tx.db.Save(row).Error }
