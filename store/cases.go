package store

import (
	"database/sql"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm/clause"

	"wexter/core/record"
)

// NextNumber counts case numbers up: SQ-101, SQ-102.
func (tx Tx) NextNumber() (string, error) {
	var last int
	err := tx.db.Raw("SELECT COALESCE(MAX(CAST(substr(number, 4) AS INTEGER)), 100) FROM cases WHERE number LIKE 'SQ-%'").Scan(&last).Error
	return fmt.Sprintf("SQ-%d", last+1), err
}

// CaseID finds a case by its number or its id.
func (tx Tx) CaseID(name string) (string, error) {
	var ids []string
	err := tx.db.Model(&record.Case{}).Where("number = upper(?) OR id = ?", name, name).Limit(1).Pluck("id", &ids).Error
	if err == nil && len(ids) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return "", err
	}
	return ids[0], nil
}

// CaseVersion returns the number that is counted up by everything done to a case.
func (tx Tx) CaseVersion(id string) (int, error) {
	var v []int
	err := tx.db.Model(&record.Case{}).Where("id = ?", id).Pluck("version", &v).Error
	if err == nil && len(v) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return 0, err
	}
	return v[0], nil
}

// KeepNext remembers what is to be done next on a case, as its Next fields say it, when
// the case still stands at the version for which that was worked out.
func (tx Tx) KeepNext(c record.Case) error {
	return tx.db.Model(&record.Case{}).Where("id = ? AND version = ?", c.ID, c.Version).
		Select("next", "next_minutes", "next_kit", "left_minutes", "left_days", "left_night", "next_basis").Updates(&c).Error
}

// OpenCases lists the cases of the Slate: those that are open, and closed ones whose
// EVAP monitor has still to run. What can be worked on now comes first, then what
// waits, by when the waiting ends, then by age.
func (tx Tx) OpenCases(now time.Time, most int) (cases []record.Case, err error) {
	order := clause.Expr{SQL: "stage = 'closed', wait_until IS NOT NULL AND wait_until > ?, wait_until, opened_at, number", Vars: []any{now.UTC().Format("2006-01-02 15:04:05")}}
	err = tx.db.Where("stage IN ? OR monitors = 'incomplete' AND stage = 'closed'", openStages()).
		Clauses(clause.OrderBy{Expression: order}).Limit(most).Find(&cases).Error
	return cases, err
}

// openStages are all but the last: an index finds what stands at one of them, however many
// cases are closed.
func openStages() []record.Stage {
	return slices.DeleteFunc(record.Stages(), func(s record.Stage) bool { return s == record.Closed })
}

// Initials lists who works on open cases, in order.
func (tx Tx) Initials() (who []string, err error) {
	err = tx.db.Model(&record.Case{}).Where("stage IN ? AND who <> ''", openStages()).Distinct().Order("who").Pluck("who", &who).Error
	return who, err
}

// ClosedCases lists closed cases, newest first, from the one closed before the case
// named on, when one is. The cost does not grow with the record.
func (tx Tx) ClosedCases(before string, most int) (cases []record.Case, err error) {
	q := tx.db.Where("closed_at IS NOT NULL")
	if before != "" {
		q = q.Where("(closed_at, id) < (SELECT closed_at, id FROM cases WHERE id = ?)", before)
	}
	err = q.Order("closed_at DESC, id DESC").Limit(most).Find(&cases).Error
	return cases, err
}

// Often is a fault and how often it was found.
type Often struct {
	Part  string
	Times int
}

// FoundOften counts what was found and stands, by the key of the fault, the commonest first.
func (tx Tx) FoundOften() (out []Often, err error) {
	err = tx.db.Raw("SELECT part, COUNT(*) AS times FROM findings WHERE struck_at IS NULL GROUP BY part ORDER BY times DESC, part").Scan(&out).Error
	return out, err
}

// OutcomesOfCases lists the tests of a kind of some cases that are not struck out, oldest
// first, with set-up and outcome but without their results.
func (tx Tx) OutcomesOfCases(test string, ids []string) ([]record.Test, error) {
	return inOrder[record.Test](tx.db.Select("id", "case_id", "outcome", "repeat_of", "setup", "at", "doubted_at").
		Where("key = ? AND case_id IN ? AND struck_at IS NULL", test, ids))
}

// NewestTest returns the test of a kind that was begun last in the shop.
func (tx Tx) NewestTest(test string) (record.Test, error) {
	return take[record.Test](tx.db.Where("key = ?", test).Order("at DESC").Limit(1))
}

// CaseReadings returns how many readings the legs of a case hold.
func (tx Tx) CaseReadings(caseID string) (n int, err error) {
	err = tx.db.Raw("SELECT COALESCE(SUM(r.readings), 0) FROM runs r JOIN tests t ON t.id = r.test_id WHERE t.case_id = ?", caseID).Scan(&n).Error
	return n, err
}

// ScanBytes returns how long the texts of a case's scans are together.
func (tx Tx) ScanBytes(caseID string) (n int, err error) {
	err = tx.db.Raw("SELECT COALESCE(SUM(LENGTH(CAST(raw AS BLOB))), 0) FROM scans WHERE case_id = ?", caseID).Scan(&n).Error
	return n, err
}

// PhotoBytes returns how large the photos of a case and its car are together.
func (tx Tx) PhotoBytes(caseID, carID string) (n int, err error) {
	err = tx.db.Raw(`SELECT COALESCE(SUM(LENGTH(data)), 0) FROM photos WHERE hash IN (
		SELECT photo FROM findings WHERE case_id = @case UNION SELECT photo FROM map_marks WHERE case_id = @case UNION SELECT photo FROM repairs WHERE case_id = @case UNION SELECT photo FROM notes WHERE case_id = @case UNION SELECT photo FROM results WHERE case_id = @case
		UNION SELECT photo FROM post_mortems WHERE case_id = @case UNION SELECT photo FROM corrections WHERE vehicle_id = @car UNION SELECT photo FROM access_cards WHERE vehicle_id = @car)`,
		sql.Named("case", caseID), sql.Named("car", carID)).Scan(&n).Error
	return n, err
}

// Column is a moment that is stamped on an entry of a case.
type Column string

// The stamps: struck out, or doubted.
const (
	StruckAt  Column = "struck_at"
	DoubtedAt Column = "doubted_at"
)

// stamped names the tables of what the Strip and the Map hold, and the column that says
// to whom an entry belongs.
var stamped = map[record.EntryKind]struct{ table, owner string }{
	record.CodeEntry: {"codes", "case_id"}, record.FindingEntry: {"findings", "case_id"}, record.RepairEntry: {"repairs", "case_id"},
	record.TrialEntry: {"trials", "case_id"}, record.TestEntry: {"tests", "case_id"}, record.ScanEntry: {"scans", "case_id"},
	record.NoteEntry: {"notes", "case_id"}, record.MarkEntry: {"map_marks", "case_id"}, record.ResultEntry: {"results", "case_id"},
	record.ObservationEntry: {"observations", "case_id"}, record.PostMortemEntry: {"post_mortems", "case_id"},
	record.CorrectionEntry: {"corrections", "vehicle_id"}, record.CardEntry: {"access_cards", "vehicle_id"}, record.ValueEntry: {"car_values", "vehicle_id"},
}

// Entry names a row of the Strip or the Map by its kind, its id, and the case or, for
// what is said of the car, the vehicle to which it belongs.
type Entry struct {
	Kind      record.EntryKind
	ID, Owner string
}

// Stamp writes a moment on an entry, or takes it off again when at is nil. Nothing is
// ever deleted. An entry of somebody else, or of no known kind, is not found.
func (tx Tx) Stamp(e Entry, c Column, at *time.Time) error {
	s, ok := stamped[e.Kind]
	if !ok || c == DoubtedAt && s.owner != "case_id" {
		return ErrNotFound
	}
	r := tx.db.Table(s.table).Where("id = ? AND "+s.owner+" = ?", e.ID, e.Owner).Update(string(c), at)
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return r.Error
}
