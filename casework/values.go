package casework

import (
	"context"
	"slices"

	"wexter/core/bench"
	"wexter/core/record"
	"wexter/evidence"
	"wexter/ingest"
	"wexter/store"
)

// NewValue is a value of a car as a source states it.
type NewValue struct {
	What, Part, Said, Source string
}

// AddValue writes down what a source states of the case's car. What other sources state
// stays as it is, also where they contradict each other.
func (s *Shop) AddValue(ctx context.Context, key, caseID string, n NewValue) error {
	all := evidence.Quantities(s.Book)
	i := slices.IndexFunc(all, func(q evidence.Quantity) bool { return q.Key == n.What })
	if i < 0 {
		return problem("quantity", "choose what the value is of")
	}
	var err error
	if n.Said, err = text("value", n.Said, 60); err != nil {
		return err
	}
	if n.Source, err = text("source", n.Source, 200); err != nil {
		return err
	}
	if _, err := ingest.ReadSpec(n.Said, all[i].Unit); err != nil {
		return problem("value", "%s.", Upper(err.Error()))
	}
	if n.Source == "" {
		return problem("source", "say where you read it: title, publisher and year. A value without its source cannot be compared with another.")
	}
	if !all[i].OnPart {
		n.Part = ""
	} else if n.Part == "" {
		return problem("part", "say of which part.")
	}
	_, err = s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, v, err := caseAndCar(tx, caseID)
		if err != nil {
			return "", err
		}
		if n.Part != "" {
			car, err := s.carOf(tx, v)
			if err != nil {
				return "", err
			}
			if _, err := car.part(n.Part); err != nil {
				return "", err
			}
		}
		x := record.CarValue{ID: newID(), VehicleID: v.ID, What: n.What, Part: n.Part, Said: n.Said, Source: n.Source, At: s.now()}
		if err := addToCar(tx, v.ID, &x); err != nil {
			return "", err
		}
		return x.ID, advance(tx, c, c.Stage)
	})
	return err
}

// Values are the values that sources state of a car, beside what was measured on it over
// all its cases.
func (s *Shop) Values(ctx context.Context, v record.Vehicle) ([]evidence.CarValues, error) {
	tx := s.DB.Read(ctx)
	var l evidence.Life
	var err error
	if l.Values, err = store.OfVehicle[record.CarValue](tx, v.ID); err != nil || len(l.Values) == 0 {
		return nil, err
	}
	if l.Cases, err = tx.CasesOfVehicle(v.ID); err != nil {
		return nil, err
	}
	ids := idsOf(l.Cases)
	if l.Results, err = store.StandingOfCases[record.Result](tx, ids); err != nil {
		return nil, err
	}
	if l.Tests, err = tx.OutcomesOfCases(bench.PressureHold.Key, ids); err != nil {
		return nil, err
	}
	return evidence.Values(s.Book, l), nil
}
