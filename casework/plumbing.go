package casework

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"sync"

	"wexter/core/drawing"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/evidence"
	"wexter/store"
)

// Car is a vehicle's plumbing as it is known. It is shared and never changed.
type Car struct {
	*evidence.Car
	Assumed  []string        // families that nobody has said yet, in words
	Changed  map[string]bool // parts that were corrected
	Problems []string        // corrections that no longer fit

	sheet func() *drawing.Sheet
}

// Sheet is the car's plumbing laid out. That is worked out when it is asked for first:
// the reasoning and the records never do.
func (c Car) Sheet() *drawing.Sheet { return c.sheet() }

// Combination is what a vehicle is made of. What nobody said is taken from how its
// air is metered, and named in assumed.
func (s *Shop) Combination(v record.Vehicle) (c plumbing.Combination, assumed []string) {
	c = plumbing.Combination{Engine: v.Engine, Boost: v.Boost, Crankcase: v.Crankcase, Recirculation: v.Recirculation, Vapour: v.Archetype}
	for _, f := range plumbing.Families {
		if c.Of(f) == "" {
			assumed = append(assumed, f)
		}
	}
	if c.Engine == "" {
		guess := c.With("engine", "na-maf")
		if v.Metering == "map" {
			guess = c.With("engine", "na-map")
		}
		if full, err := s.Book.Plumbing.Complete(guess); err == nil {
			return full, assumed
		}
	}
	c, _ = s.Book.Plumbing.Complete(c)
	return c, assumed
}

// Car joins a vehicle's plumbing with its corrections. A correction that does not fit
// (since the archetype was changed) is left out and named.
func (s *Shop) Car(v record.Vehicle, corrections []record.Correction) (Car, error) {
	var key strings.Builder
	fmt.Fprint(&key, s.Book.Version, "|", v.Archetype, "|", v.Engine, "|", v.Boost, "|", v.Crankcase, "|", v.Recirculation, "|", v.Metering, "|", v.TankL)
	for _, x := range corrections {
		fmt.Fprintf(&key, "|%v %s %s %s %s", x.StruckAt != nil, x.Kind, x.Part, x.From, x.To)
	}
	if car, ok := s.cars.get(key.String()); ok {
		return car, nil
	}
	car, err := s.join(v, corrections)
	if err == nil {
		s.cars.put(key.String(), car, mostCars)
	}
	return car, err
}

// mostCars is how many cars' plumbing is kept.
const mostCars = 200

func (s *Shop) join(v record.Vehicle, corrections []record.Correction) (Car, error) {
	car := Car{Changed: map[string]bool{}}
	var c plumbing.Combination
	c, car.Assumed = s.Combination(v)
	graph, err := s.Book.Plumbing.Combine(c)
	if err != nil {
		return car, problem("plumbing", "%s.", Upper(err.Error()))
	}
	for _, x := range corrections {
		if x.StruckAt != nil {
			continue
		}
		car.Changed[x.Part] = true
		if x.Kind == noteOnly {
			continue
		}
		g, err := graph.Correct([]plumbing.Change{{Kind: x.Kind, Part: x.Part, From: x.From, To: x.To}})
		if err != nil {
			car.Problems = append(car.Problems, Upper(err.Error())+".")
			continue
		}
		graph = g
	}
	car.Car, car.sheet = evidence.NewCar(s.Book, c, graph), sync.OnceValue(func() *drawing.Sheet { return drawing.Lay(graph) })
	car.Tank, car.TankTolerance = tankOf(v)
	return car, nil
}

// noteOnly is a correction that changes nothing but says something.
const noteOnly = "note"

// SetPlumbing says what a car is made of.
func (s *Shop) SetPlumbing(ctx context.Context, key, caseID string, c plumbing.Combination) error {
	if err := s.Book.Plumbing.Possible(c); err != nil {
		return problem("plumbing", "%s.", Upper(err.Error()))
	}
	_, err := s.do(ctx, key, func(tx store.Tx) (string, error) {
		k, v, err := caseAndCar(tx, caseID)
		if err != nil {
			return "", err
		}
		v.Engine, v.Boost, v.Crankcase, v.Recirculation, v.Archetype = c.Engine, c.Boost, c.Crankcase, c.Recirculation, c.Vapour
		switch c.Engine {
		case "na-maf":
			v.Metering = "maf"
		case "na-map":
			v.Metering = "map"
		}
		v.Version++
		if err := tx.Put(&v); err != nil {
			return "", err
		}
		return v.ID, advance(tx, k, k.Stage)
	})
	return err
}

// touchCar counts a car's version up, after something that is written down of it changed.
func touchCar(tx store.Tx, id string) error {
	v, err := store.Get[record.Vehicle](tx, id)
	if err != nil {
		return err
	}
	v.Version++
	return tx.Put(&v)
}

func caseAndCar(tx store.Tx, caseID string) (record.Case, record.Vehicle, error) {
	c, err := open(tx, caseID, 0)
	if err != nil {
		return c, record.Vehicle{}, err
	}
	v, err := store.Get[record.Vehicle](tx, c.VehicleID)
	return c, v, err
}

// carOf joins the plumbing of a case's vehicle inside a transaction.
func (s *Shop) carOf(tx store.Tx, v record.Vehicle) (Car, error) {
	corrections, err := store.OfVehicle[record.Correction](tx, v.ID)
	if err != nil {
		return Car{}, err
	}
	return s.Car(v, corrections)
}

// atPart finds an open case with its car's plumbing, on whose Map the part must stand.
func (s *Shop) atPart(tx store.Tx, caseID, part string) (record.Case, record.Vehicle, Car, error) {
	c, v, err := caseAndCar(tx, caseID)
	if err != nil {
		return c, v, Car{}, err
	}
	car, err := s.carOf(tx, v)
	if err != nil {
		return c, v, car, err
	}
	_, err = car.part(part)
	return c, v, car, err
}

// part finds a part of the car, or says which are near.
func (c Car) part(key string) (plumbing.Part, error) {
	p, ok := c.Graph.Part(key)
	if !ok {
		return p, problem("part", "%q is not on this car's Map.", key)
	}
	return p, nil
}

// NewMark is what is marked on a part of the Map.
type NewMark struct {
	Kind       record.MarkKind
	Part, Text string
	Size       record.ExitSize
	Expected   bool
	Odds       float64 // 0 to 1
	Photo      *record.Photo
}

// AddMark marks an exit seen, a place looked at, or a suspect set by hand.
func (s *Shop) AddMark(ctx context.Context, key, caseID string, n NewMark) error {
	if n.Kind.Words() == "" {
		return problem("mark", "an exit seen, a place looked at, or a suspect")
	}
	if n.Kind == record.MarkExit && !n.Size.Known() {
		return problem("size", "say how much comes out: a wisp, a stream or a billow")
	}
	if n.Kind != record.MarkExit {
		n.Size, n.Expected = "", false
	}
	if math.IsNaN(n.Odds) || n.Odds < 0 || n.Odds > 1 {
		return problem("odds", "odds lie between 0 and 100 %%")
	}
	if n.Kind != record.MarkSuspect {
		n.Odds = 0
	}
	var err error
	if n.Text, err = text("note", n.Text, 400); err != nil {
		return err
	}
	_, err = s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, _, _, err := s.atPart(tx, caseID, n.Part)
		if err != nil {
			return "", err
		}
		m := record.MapMark{ID: newID(), CaseID: caseID, Kind: n.Kind, Part: n.Part, Odds: n.Odds, Size: n.Size, Expected: n.Expected, Text: n.Text, At: s.now()}
		if m.Photo, err = hashOf(tx, c, n.Photo); err != nil {
			return "", err
		}
		if err := addToCase(tx, caseID, &m); err != nil {
			return "", err
		}
		return m.ID, advance(tx, c, c.Stage)
	})
	return err
}

// NewCorrection is where a car differs from its archetype.
type NewCorrection struct {
	Kind, Part, From, To, Text string
	Photo                      *record.Photo
}

// AddCorrection corrects the Map of the case's car. It is tried first: what would hang
// loose is refused in a sentence.
func (s *Shop) AddCorrection(ctx context.Context, key, caseID string, n NewCorrection) error {
	var err error
	if n.Text, err = text("note", n.Text, 1000); err != nil {
		return err
	}
	if n.Text == "" {
		return problem("note", "say what you saw; the next person on this car starts from it")
	}
	if n.Kind != plumbing.Runs {
		n.From, n.To = "", ""
	}
	_, err = s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, v, car, err := s.atPart(tx, caseID, n.Part)
		if err != nil {
			return "", err
		}
		if n.Kind != noteOnly {
			if _, err := car.Graph.Correct([]plumbing.Change{{Kind: n.Kind, Part: n.Part, From: n.From, To: n.To}}); err != nil {
				return "", problem("correction", "%s.", Upper(err.Error()))
			}
		}
		x := record.Correction{ID: newID(), VehicleID: v.ID, Kind: n.Kind, Part: n.Part, From: n.From, To: n.To, Text: n.Text, At: s.now()}
		if x.Photo, err = hashOf(tx, c, n.Photo); err != nil {
			return "", err
		}
		if err := addToCar(tx, v.ID, &x); err != nil {
			return "", err
		}
		if err := touchCar(tx, v.ID); err != nil {
			return "", err
		}
		return x.ID, advance(tx, c, c.Stage)
	})
	return err
}

// NewCard says how a part is reached.
type NewCard struct {
	Part, Place, First, Fasteners, Locks, Breaks string
	Minutes                                      int
	Photo                                        *record.Photo
	Keep                                         string // hash of the photo of the card it follows
}

// AddCard writes an access card of the case's car; it takes the place of the last one
// for the same part, which is kept.
func (s *Shop) AddCard(ctx context.Context, key, caseID string, n NewCard) error {
	var err error
	said := n.Minutes != 0 || n.Photo != nil
	for _, f := range []struct {
		name string
		p    *string
	}{{"where", &n.Place}, {"what comes off first", &n.First}, {"fasteners", &n.Fasteners}, {"locks", &n.Locks}, {"what breaks", &n.Breaks}} {
		if *f.p, err = text(f.name, *f.p, 600); err != nil {
			return err
		}
		said = said || *f.p != ""
	}
	if !said {
		return problem("card", "an empty card helps nobody: write where it sits, or what comes off first")
	}
	if err := fits(record.AccessCard{Minutes: n.Minutes}.Check()); err != nil {
		return err
	}
	_, err = s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, v, _, err := s.atPart(tx, caseID, n.Part)
		if err != nil {
			return "", err
		}
		x := record.AccessCard{ID: newID(), VehicleID: v.ID, Part: n.Part, Place: n.Place, First: n.First, Fasteners: n.Fasteners, Locks: n.Locks, Breaks: n.Breaks, Minutes: n.Minutes, At: s.now()}
		if x.Photo, err = hashOf(tx, c, n.Photo); err != nil {
			return "", err
		}
		if x.Photo == "" && n.Keep != "" {
			has, err := tx.HasCardPhoto(n.Part, n.Keep)
			if err != nil {
				return "", err
			}
			if has {
				x.Photo = n.Keep
			}
		}
		if err := addToCar(tx, v.ID, &x); err != nil {
			return "", err
		}
		if err := touchCar(tx, v.ID); err != nil {
			return "", err
		}
		return x.ID, advance(tx, c, c.Stage)
	})
	return err
}

// Known is something that was written down at a car: this one or its like.
type Known[T any] struct {
	Entry T
	Plate string // of the other car; empty for this one
}

// Cards returns the access cards that help at a car, by part: its own, otherwise the
// newest of a car of the same make and model.
func (s *Shop) Cards(ctx context.Context, v record.Vehicle) (map[string]Known[record.AccessCard], error) {
	own, like, err := alike[record.AccessCard](s.DB.Read(ctx), v)
	if err != nil {
		return nil, err
	}
	out := map[string]Known[record.AccessCard]{}
	for _, x := range slices.Concat(like, own) { // later ones win
		out[x.Entry.Part] = x
	}
	return out, nil
}

// LikeCorrections returns what was corrected on cars of the same make, model and
// archetypes and is not said of this one.
func (s *Shop) LikeCorrections(ctx context.Context, v record.Vehicle) ([]Known[record.Correction], error) {
	own, like, err := alike[record.Correction](s.DB.Read(ctx), v)
	if err != nil {
		return nil, err
	}
	same := func(a, b record.Correction) bool {
		return a.Kind == b.Kind && a.Part == b.Part && a.From == b.From && a.To == b.To
	}
	var out []Known[record.Correction]
	for _, x := range like {
		has := func(o Known[record.Correction]) bool { return same(o.Entry, x.Entry) }
		if !slices.ContainsFunc(own, has) && !slices.ContainsFunc(out, has) {
			out = append(out, x)
		}
	}
	return out, nil
}

// alike reads what is written down of a car and of others of its make, model and
// archetype, oldest first.
func alike[T record.CarEntry](tx store.Tx, v record.Vehicle) (own, like []Known[T], err error) {
	mine, err := store.OfVehicle[T](tx, v.ID)
	if err != nil {
		return nil, nil, err
	}
	for _, x := range standing(mine) {
		own = append(own, Known[T]{Entry: x})
	}
	others, err := tx.Alike(v)
	if err != nil || len(others) == 0 {
		return own, nil, err
	}
	var ids []string
	plates := map[string]string{}
	for _, o := range others {
		ids = append(ids, o.ID)
		plates[o.ID] = o.Plate
	}
	theirs, err := store.StandingOfVehicles[T](tx, ids, 500)
	for _, x := range theirs {
		like = append(like, Known[T]{Entry: x, Plate: plates[x.Car()]})
	}
	return own, like, err
}

// SetPart makes a part of the car stand otherwise than at rest in a test's set-up:
// plugged, powered, open or shut; an empty state puts it back to rest.
func (s *Shop) SetPart(ctx context.Context, key, testID, part, state string) error {
	return s.changeSet(ctx, key, testID, func(car Car, su *record.Setup) error {
		p, err := car.part(part)
		if err != nil {
			return err
		}
		if state != "" && !slices.Contains(evidence.CanBe(p), plumbing.State(state)) {
			return problem("state", "the %s cannot be %s", plumbing.Lower(p.Name), state)
		}
		if state == "" {
			delete(su.Set, part)
		} else {
			su.Set[part] = state
		}
		return nil
	})
}

// SetEntry says where gauge and supply are joined in a test.
func (s *Shop) SetEntry(ctx context.Context, key, testID, part string) error {
	return s.changeSet(ctx, key, testID, func(car Car, su *record.Setup) error {
		p, err := car.part(part)
		if err != nil {
			return err
		}
		if !evidence.CanEnter(p) {
			return problem("entry", "a gauge cannot be joined at the %s", plumbing.Lower(p.Name))
		}
		su.Entry = part
		return nil
	})
}

// SealAsUsual puts a test's set-up back to how the car's archetype is sealed.
func (s *Shop) SealAsUsual(ctx context.Context, key, testID string) error {
	return s.changeSet(ctx, key, testID, func(car Car, su *record.Setup) error {
		su.Entry, su.Set = car.UsualSealing()
		return nil
	})
}

func (s *Shop) changeSet(ctx context.Context, key, testID string, f func(Car, *record.Setup) error) error {
	_, err := s.do(ctx, key, func(tx store.Tx) (string, error) {
		t, err := s.openTest(tx, testID)
		if err != nil {
			return "", err
		}
		c, err := store.Get[record.Case](tx, t.CaseID)
		if err != nil {
			return "", err
		}
		v, err := store.Get[record.Vehicle](tx, c.VehicleID)
		if err != nil {
			return "", err
		}
		car, err := s.carOf(tx, v)
		if err != nil {
			return "", err
		}
		set := record.States{}
		for k, v := range t.Setup.Set {
			set[k] = v
		}
		t.Setup.Set = set
		if err := f(car, &t.Setup); err != nil {
			return "", err
		}
		t.Version++
		if err := tx.Put(&t); err != nil {
			return "", err
		}
		return t.ID, touch(tx, t.CaseID)
	})
	return err
}
