package casework

import (
	"time"

	"wexter/core/record"
	"wexter/store"
)

// What is written down must fit into the bundle of its case, and a bundle holds so much:
// see the limits in core/record.

// addToCase keeps one more entry of a case.
func addToCase[T any](tx store.Tx, caseID string, x *T) error {
	return add(tx, store.Owner{Column: store.CaseColumn, ID: caseID}, x)
}

// addToCar keeps one more entry of a car.
func addToCar[T any](tx store.Tx, carID string, x *T) error {
	return add(tx, store.Owner{Column: store.CarColumn, ID: carID}, x)
}

func add[T any](tx store.Tx, o store.Owner, x *T) error {
	n, err := store.Count[T](tx, o)
	if err != nil {
		return err
	}
	if n >= record.MostEntries {
		return problem("", "There are %d entries of this kind already, as many as are kept of one car's work. Close the case and open a new one.", n)
	}
	return tx.Add(x)
}

// roomForLeg refuses a leg when its test or its case is full.
func roomForLeg(tx store.Tx, t record.Test, runs, readings int) error {
	if runs >= record.MostRuns {
		return problem("leg", "%d legs were read in this test, struck-out ones included; start another test.", runs)
	}
	have, err := tx.CaseReadings(t.CaseID)
	if err != nil {
		return err
	}
	if have+readings > record.MostReadings {
		return problem("leg", "This case holds %d readings, and %d is as many as it can; open another case, or cut the log to the test.", have, record.MostReadings)
	}
	return nil
}

// hashOf keeps a photo and returns its hash; empty without one.
func hashOf(tx store.Tx, c record.Case, p *record.Photo) (string, error) {
	if p == nil {
		return "", nil
	}
	have, err := tx.PhotoBytes(c.ID, c.VehicleID)
	if err != nil {
		return "", err
	}
	if have+len(p.Data) > record.MostPhotoBytes {
		return "", problem("photo", "The photos of this case and its car take %d MB, and %d MB is as much as is kept; take this one at a smaller size.", have>>20, record.MostPhotoBytes>>20)
	}
	return p.Hash, tx.KeepPhoto(*p)
}

// mostAhead is how far a day that is waited for may lie ahead.
const mostAhead = 5 * 366 * 24 * time.Hour

// soon refuses a day that has passed, or lies so far ahead that it must be mistyped.
func soon(until, now time.Time) bool { return !until.Before(now) && until.Sub(now) < mostAhead }
