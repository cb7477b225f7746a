package store

import "wexter/core/record"

// VehicleByPlate finds a car by its folded plate.
func (tx Tx) VehicleByPlate(key string) (record.Vehicle, error) {
	return take[record.Vehicle](tx.db.Where("plate_key = ?", key))
}

// Vehicles reads some cars at once, by id.
func (tx Tx) Vehicles(ids []string) (map[string]record.Vehicle, error) {
	var vs []record.Vehicle
	err := tx.db.Where("id IN ?", ids).Find(&vs).Error
	by := map[string]record.Vehicle{}
	for _, v := range vs {
		by[v.ID] = v
	}
	return by, err
}

// Alike returns the cars of the same make, model and archetype, without the car itself.
func (tx Tx) Alike(v record.Vehicle) (vs []record.Vehicle, err error) {
	err = tx.db.Where("make = ? COLLATE NOCASE AND model = ? COLLATE NOCASE AND archetype = ? AND id <> ?", v.Make, v.Model, v.Archetype, v.ID).
		Limit(200).Find(&vs).Error
	return vs, err
}

// StandingOfVehicles returns what is written down of some cars and is not struck out,
// oldest first, at most most rows.
func StandingOfVehicles[T any](tx Tx, ids []string, most int) ([]T, error) {
	return inOrder[T](tx.db.Where("vehicle_id IN ? AND struck_at IS NULL", ids).Limit(most))
}

// CasesOfVehicle returns a car's cases, oldest first.
func (tx Tx) CasesOfVehicle(id string) (cs []record.Case, err error) {
	err = tx.db.Where("vehicle_id = ?", id).Order("opened_at, id").Find(&cs).Error
	return cs, err
}

// HasCardPhoto reports whether an access card of a part shows the photo with the hash.
func (tx Tx) HasCardPhoto(part, hash string) (bool, error) {
	var n int64
	err := tx.db.Model(&record.AccessCard{}).Where("photo = ? AND part = ?", hash, part).Count(&n).Error
	return n > 0, err
}
