package store

import (
	"gorm.io/gorm/clause"

	"wexter/core/record"
)

// KeepPhoto keeps a photo; one that is kept already stays as it is.
func (tx Tx) KeepPhoto(p record.Photo) error {
	return tx.db.Exec("INSERT INTO photos(hash, mime, width, height, data) VALUES(?,?,?,?,?) ON CONFLICT(hash) DO NOTHING",
		p.Hash, p.Mime, p.Width, p.Height, p.Data).Error
}

// Photo returns a kept photo by the hash of its bytes.
func (tx Tx) Photo(hash string) (record.Photo, error) {
	return take[record.Photo](tx.db.Where("hash = ?", hash))
}

// OpenRuns lists the runs that are being read, or were when the program stopped.
func (tx Tx) OpenRuns() (rs []record.Run, err error) {
	if err = tx.db.Where("ended_at IS NULL AND struck_at IS NULL").Order("at").Find(&rs).Error; err != nil {
		return nil, err
	}
	return tx.withGaps(rs)
}

// KeepMarks writes the marks of a run.
func (tx Tx) KeepMarks(r record.Run) error { return tx.db.Model(&r).Select("marks").Updates(&r).Error }

// Devices lists the instruments of a kind in the order in which they were added; of
// all kinds when none is named.
func (tx Tx) Devices(kind record.DeviceKind) (ds []record.Device, err error) {
	q := tx.db.Order("at, id")
	if kind != "" {
		q = q.Where("kind = ?", kind)
	}
	err = q.Find(&ds).Error
	return ds, err
}

// KeepDevice writes an instrument down; one that is there at its address takes the new name
// and how it is spoken to.
func (tx Tx) KeepDevice(d record.Device) error {
	return tx.db.Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "kind"}, {Name: "address"}},
		DoUpdates: clause.AssignmentColumns([]string{"name", "for_case", "driver", "baud", "settings"})}).Create(&d).Error
}

// RemoveDevice takes an instrument's address away.
func (tx Tx) RemoveDevice(id string) error {
	return tx.db.Where("id = ?", id).Delete(&record.Device{}).Error
}

// Setting is one of the shop's settings.
type Setting string

// Ways is the setting of how the shop works.
const Ways Setting = "ways"

// Setting returns a setting's value; ok is false when it was never set.
func (tx Tx) Setting(key Setting) (value string, ok bool, err error) {
	var v []string
	err = tx.db.Table("settings").Where("key = ?", key).Pluck("value", &v).Error
	if err != nil || len(v) == 0 {
		return "", false, err
	}
	return v[0], true, nil
}

// KeepSetting writes a setting.
func (tx Tx) KeepSetting(key Setting, value string) error {
	return tx.db.Exec("INSERT INTO settings(key, value) VALUES(?, ?) ON CONFLICT(key) DO UPDATE SET value = excluded.value", key, value).Error
}
