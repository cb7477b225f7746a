package casework

import (
	"cmp"
	"context"
	"slices"

	"wexter/core/knowledge"
	"wexter/core/obd"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/evidence"
	"wexter/store"
)

// Archetype is how a car's EVAP system checks itself: as it was said, or as it is assumed
// until somebody does.
func (s *Shop) Archetype(v record.Vehicle) (knowledge.Archetype, bool) {
	c, _ := s.Combination(v)
	return s.Book.Archetype(cmp.Or(v.Archetype, c.Vapour))
}

// Permitted is a car's archetype, permitted no more pressure than any source states of this
// very car.
func (s *Shop) Permitted(ctx context.Context, v record.Vehicle) (knowledge.Archetype, error) {
	return s.permittedTo(s.DB.Read(ctx), v)
}

func (s *Shop) permittedTo(tx store.Tx, v record.Vehicle) (knowledge.Archetype, error) {
	a, _ := s.Archetype(v)
	stated, err := store.OfVehicle[record.CarValue](tx, v.ID)
	return evidence.Permitted(a, stated), err
}

// Arrived notes that the car of a case that was opened before it came is here.
func (s *Shop) Arrived(ctx context.Context, key, id string) error {
	_, err := s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, err := open(tx, id, 0)
		if err != nil {
			return "", err
		}
		c.Away = false
		return id, advance(tx, c, c.Stage)
	})
	return err
}

// YearDoubt is a model year that the vehicle id does not bear out.
type YearDoubt struct {
	VIN   string
	Typed int
	Says  []int // years that the id may mean, the likeliest first
}

// DoubtYear compares the model year that was typed with the newest scan's vehicle id. It is
// false where they agree, where the id names no year, and where a person kept the typed one.
func (s *Shop) DoubtYear(f evidence.Folder) (YearDoubt, bool) {
	for _, x := range slices.Backward(f.Scans) {
		if x.StruckAt != nil || x.Read.VIN == "" {
			continue
		}
		years := obd.ModelYears(x.Read.VIN, s.Now().Year()+1)
		if len(years) == 0 || f.Vehicle.Year == 0 || slices.Contains(years, f.Vehicle.Year) || f.Vehicle.YearKept == x.Read.VIN {
			return YearDoubt{}, false
		}
		slices.Reverse(years)
		return YearDoubt{x.Read.VIN, f.Vehicle.Year, years}, true
	}
	return YearDoubt{}, false
}

// SettleYear answers that doubt: the car takes the year that was chosen. The typed one is
// kept for this vehicle id, so that it is not asked again.
func (s *Shop) SettleYear(ctx context.Context, key, id string, year int) error {
	f, err := s.Load(ctx, id)
	if err != nil {
		return err
	}
	d, doubted := s.DoubtYear(f)
	if !doubted {
		return nil // answered on another screen
	}
	if year != d.Typed && !slices.Contains(d.Says, year) {
		return problem("year", "the vehicle id does not say %d", year)
	}
	_, err = s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, v, err := caseAndCar(tx, id)
		if err != nil {
			return "", err
		}
		if v.Year = year; year == d.Typed {
			v.YearKept = d.VIN
		}
		v.Version++
		if err := tx.Put(&v); err != nil {
			return "", err
		}
		return v.ID, advance(tx, c, c.Stage)
	})
	return err
}

// Guess is a family of plumbing that nobody has said yet, and what that costs.
type Guess struct {
	Family string
	Share  float64 // of the odds: on suspects that this car may not have at all
}

// Guesses says of each family that is assumed how much of the odds rests on it: what stands
// on suspects that another car of the family would not have.
func (s *Shop) Guesses(v record.Vehicle, car Car, t *Thought) (out []Guess) {
	marg := t.State.Marginals()
	for _, family := range car.Assumed {
		sure, first := map[string]bool{}, true
		for _, a := range s.Book.Plumbing.Family(family) {
			other, err := s.Car(withFamily(v, family, a.Key), nil)
			if err != nil {
				continue
			}
			for _, x := range t.State.Suspects {
				_, can := x.Fault.Can(other.Graph, other.Combination)
				sure[x.Key] = can && (first || sure[x.Key])
			}
			first = false
		}
		g := Guess{Family: family}
		for i, x := range t.State.Suspects {
			if !sure[x.Key] {
				g.Share += marg[i]
			}
		}
		out = append(out, g)
	}
	return out
}

func withFamily(v record.Vehicle, family, key string) record.Vehicle {
	c := plumbing.Combination{Engine: v.Engine, Boost: v.Boost, Crankcase: v.Crankcase, Recirculation: v.Recirculation, Vapour: v.Archetype}.With(family, key)
	v.Engine, v.Boost, v.Crankcase, v.Recirculation, v.Archetype = c.Engine, c.Boost, c.Crankcase, c.Recirculation, c.Vapour
	return v
}

// usualTankL is the size that a tank is taken to have until somebody says it, and how well
// that and a stated size are known (k = 2). Passenger cars hold some 35 to 80 L: common
// practice, no source.
const (
	usualTankL   = 55.0
	tankGuessed  = 0.35
	tankAsStated = 0.2
)

// tankOf is the size of a car's tank, m³, and the tolerance of the volume that follows.
func tankOf(v record.Vehicle) (size, tolerance float64) {
	if v.TankL == 0 {
		return usualTankL / 1e3, tankGuessed
	}
	return v.TankL / 1e3, tankAsStated
}
