package casework

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"

	"wexter/core/drawing"
	"wexter/core/plumbing"
	"wexter/core/record"
)

// Car is a vehicle's plumbing as it is known. It is shared and never changed.
type Car struct {
	Combination plumbing.Combination
	Assumed     []string // families that nobody has said yet, in words
	Graph       *plumbing.Graph
	Changed     map[string]bool // parts that were corrected
	Problems    []string        // corrections that no longer fit
	Sheet       *drawing.Sheet
}

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
	fmt.Fprint(&key, v.Archetype, "|", v.Engine, "|", v.Boost, "|", v.Crankcase, "|", v.Recirculation, "|", v.Metering)
	for _, x := range corrections {
		fmt.Fprintf(&key, "|%v %s %s %s %s", x.StruckAt != nil, x.Kind, x.Part, x.From, x.To)
	}
	if car, ok := s.cars.get(key.String()); ok {
		return car, nil
	}
	car, err := s.join(v, corrections)
	if err == nil {
		s.cars.put(key.String(), car)
	}
	return car, err
}

// carCache keeps the plumbing of the cars that were looked at last: joining it takes
// longer than anything else on a page.
type carCache struct {
	mu sync.Mutex
	m  map[string]Car
}

func (c *carCache) get(key string) (Car, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	car, ok := c.m[key]
	return car, ok
}

func (c *carCache) put(key string, car Car) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.m == nil || len(c.m) >= 200 {
		c.m = map[string]Car{}
	}
	c.m[key] = car
}

func (s *Shop) join(v record.Vehicle, corrections []record.Correction) (Car, error) {
	var car Car
	car.Combination, car.Assumed = s.Combination(v)
	car.Changed = map[string]bool{}
	var err error
	if car.Graph, err = s.Book.Plumbing.Combine(car.Combination); err != nil {
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
		g, err := car.Graph.Correct([]plumbing.Change{{Kind: x.Kind, Part: x.Part, From: x.From, To: x.To}})
		if err != nil {
			car.Problems = append(car.Problems, Upper(err.Error())+".")
			continue
		}
		car.Graph = g
	}
	car.Sheet = drawing.Lay(car.Graph)
	return car, nil
}

// noteOnly is a correction that changes nothing but says something.
const noteOnly = "note"

// SetPlumbing says what a car is made of.
func (s *Shop) SetPlumbing(ctx context.Context, key, caseID string, c plumbing.Combination) error {
	if err := s.Book.Plumbing.Possible(c); err != nil {
		return problem("plumbing", "%s.", Upper(err.Error()))
	}
	_, err := s.do(ctx, key, func(tx *gorm.DB) (string, error) {
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
		if err := tx.Save(&v).Error; err != nil {
			return "", err
		}
		return v.ID, advance(tx, k, k.Stage)
	})
	return err
}

func caseAndCar(tx *gorm.DB, caseID string) (record.Case, record.Vehicle, error) {
	c, err := open(tx, caseID, 0)
	if err != nil {
		return c, record.Vehicle{}, err
	}
	v, err := find[record.Vehicle](tx, c.VehicleID)
	return c, v, err
}

// carOf joins the plumbing of a case's vehicle inside a transaction.
func (s *Shop) carOf(tx *gorm.DB, v record.Vehicle) (Car, error) {
	var corrections []record.Correction
	if err := tx.Where("vehicle_id = ?", v.ID).Order("at, rowid").Find(&corrections).Error; err != nil {
		return Car{}, err
	}
	return s.Car(v, corrections)
}

// atPart finds an open case with its car's plumbing, on whose Map the part must stand.
func (s *Shop) atPart(tx *gorm.DB, caseID, part string) (record.Case, record.Vehicle, Car, error) {
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
	Kind, Part, Size, Text string
	Expected               bool
	Odds                   float64 // 0 to 1
}

// AddMark marks an exit seen, a place looked at, or a suspect set by hand.
func (s *Shop) AddMark(ctx context.Context, key, caseID string, n NewMark) error {
	if record.MarkWords[n.Kind] == "" {
		return problem("mark", "an exit seen, a place looked at, or a suspect")
	}
	if n.Kind == record.MarkExit && !slices.Contains(record.ExitSizes, n.Size) {
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
	_, err = s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		c, _, _, err := s.atPart(tx, caseID, n.Part)
		if err != nil {
			return "", err
		}
		m := record.MapMark{ID: newID(), CaseID: caseID, Kind: n.Kind, Part: n.Part, Odds: n.Odds, Size: n.Size, Expected: n.Expected, Text: n.Text, At: s.now()}
		if err := tx.Create(&m).Error; err != nil {
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
		return problem("note", "say what you saw; the next one at this car starts from it")
	}
	if n.Kind != plumbing.Runs {
		n.From, n.To = "", ""
	}
	_, err = s.do(ctx, key, func(tx *gorm.DB) (string, error) {
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
		if x.Photo, err = hashOf(tx, n.Photo); err != nil {
			return "", err
		}
		if err := tx.Create(&x).Error; err != nil {
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
	if n.Minutes < 0 || n.Minutes > 600 {
		return problem("minutes", "between 0 and 600 minutes to reach it")
	}
	_, err = s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		c, v, _, err := s.atPart(tx, caseID, n.Part)
		if err != nil {
			return "", err
		}
		x := record.AccessCard{ID: newID(), VehicleID: v.ID, Part: n.Part, Place: n.Place, First: n.First, Fasteners: n.Fasteners, Locks: n.Locks, Breaks: n.Breaks, Minutes: n.Minutes, At: s.now()}
		if x.Photo, err = hashOf(tx, n.Photo); err != nil {
			return "", err
		}
		if x.Photo == "" && n.Keep != "" {
			var has int64
			if err := tx.Model(&record.AccessCard{}).Where("photo = ? AND part = ?", n.Keep, n.Part).Count(&has).Error; err != nil {
				return "", err
			}
			if has > 0 {
				x.Photo = n.Keep
			}
		}
		if err := tx.Create(&x).Error; err != nil {
			return "", err
		}
		return x.ID, advance(tx, c, c.Stage)
	})
	return err
}

// StrikeOnCar takes a correction or an access card of the case's car out, or puts it
// back; nothing is deleted.
func (s *Shop) StrikeOnCar(ctx context.Context, key, caseID, kind, id string, back bool) error {
	table, ok := map[string]string{"correction": "corrections", "card": "access_cards"}[kind]
	if !ok {
		return ErrNotFound
	}
	_, err := s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		c, v, err := caseAndCar(tx, caseID)
		if err != nil {
			return "", err
		}
		at := any(s.now())
		if back {
			at = nil
		}
		r := tx.Table(table).Where("id = ? AND vehicle_id = ?", id, v.ID).Update("struck_at", at)
		if r.Error != nil {
			return "", r.Error
		}
		if r.RowsAffected == 0 {
			return "", ErrNotFound
		}
		return id, advance(tx, c, c.Stage)
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
	own, like, err := alike[record.AccessCard](s.DB.Read(ctx), "access_cards", v)
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
	own, like, err := alike[record.Correction](s.DB.Read(ctx), "corrections", v)
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

// alike reads what stands in a table for a car and for others of its make and model,
// oldest first.
func alike[T any](tx *gorm.DB, table string, v record.Vehicle) (own, like []Known[T], err error) {
	var mine []T
	if err = tx.Table(table).Where("vehicle_id = ? AND struck_at IS NULL", v.ID).Order("at, rowid").Find(&mine).Error; err != nil {
		return nil, nil, err
	}
	for _, x := range mine {
		own = append(own, Known[T]{Entry: x})
	}
	var others []record.Vehicle
	err = tx.Where("make = ? COLLATE NOCASE AND model = ? COLLATE NOCASE AND archetype = ? AND id <> ?", v.Make, v.Model, v.Archetype, v.ID).Limit(200).Find(&others).Error
	if err != nil || len(others) == 0 {
		return own, nil, err
	}
	var ids []string
	plates := map[string]string{}
	for _, o := range others {
		ids = append(ids, o.ID)
		plates[o.ID] = o.Plate
	}
	rows, err := tx.Table(table).Where("vehicle_id IN ? AND struck_at IS NULL", ids).Order("at, rowid").Limit(500).Rows()
	if err != nil {
		return own, nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var x T
		if err := tx.ScanRows(rows, &x); err != nil {
			return own, nil, err
		}
		like = append(like, Known[T]{Entry: x, Plate: plates[vehicleOf(x)]})
	}
	return own, like, rows.Err()
}

func vehicleOf(x any) string {
	switch x := x.(type) {
	case record.AccessCard:
		return x.VehicleID
	case record.Correction:
		return x.VehicleID
	}
	return ""
}

// SetPart makes a part of the car stand otherwise than at rest in a test's set-up:
// plugged, powered, open or shut; an empty state puts it back to rest.
func (s *Shop) SetPart(ctx context.Context, key, testID, part, state string) error {
	return s.changeSet(ctx, key, testID, func(car Car, su *record.Setup) error {
		p, err := car.part(part)
		if err != nil {
			return err
		}
		if state != "" && !slices.Contains(CanBe(p), plumbing.State(state)) {
			return problem("state", "the %s cannot be %s", strings.ToLower(p.Name), state)
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
		if !CanEnter(p) {
			return problem("entry", "a gauge cannot be joined at the %s", strings.ToLower(p.Name))
		}
		su.Entry = part
		return nil
	})
}

// SealAsUsual puts a test's set-up back to how the car's archetype is sealed.
func (s *Shop) SealAsUsual(ctx context.Context, key, testID string) error {
	return s.changeSet(ctx, key, testID, func(car Car, su *record.Setup) error {
		su.Entry, su.Set = s.sealing(car)
		return nil
	})
}

func (s *Shop) changeSet(ctx context.Context, key, testID string, f func(Car, *record.Setup) error) error {
	_, err := s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		t, err := s.openTest(tx, testID)
		if err != nil {
			return "", err
		}
		c, err := find[record.Case](tx, t.CaseID)
		if err != nil {
			return "", err
		}
		v, err := find[record.Vehicle](tx, c.VehicleID)
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
		return t.ID, tx.Save(&t).Error
	})
	return err
}

// CanBe lists the states that a hand, a plug or a command can give a part.
func CanBe(p plumbing.Part) (out []plumbing.State) {
	if p.Plug != "" {
		out = append(out, plumbing.Plugged)
	}
	switch p.Kind {
	case plumbing.Valve:
		if p.Moves() {
			out = append(out, plumbing.Powered)
		}
		out = append(out, plumbing.Open, plumbing.Shut)
	case plumbing.Cover:
		out = append(out, plumbing.Open)
	case plumbing.Inlet:
		out = append(out, plumbing.Shut)
	}
	return out
}

// CanEnter reports whether gauge, smoke or supply can be joined at a part: where the
// data say so, and wherever a line can be opened.
func CanEnter(p plumbing.Part) bool {
	return p.Entry || p.Plug != ""
}

// sealing is how a car is sealed for a hold: as its archetype says, as far as the parts
// are there.
func (s *Shop) sealing(car Car) (entry string, set record.States) {
	a, _ := s.Book.Archetype(car.Combination.Vapour)
	set = record.States{}
	for k, st := range a.Set {
		if _, ok := car.Graph.Part(k); ok {
			set[k] = st
		}
	}
	entry = a.Entry
	if _, ok := car.Graph.Part(entry); !ok {
		for _, p := range car.Graph.Parts {
			if CanEnter(p) && p.Family == "vapour" {
				return p.Key, set
			}
		}
	}
	return entry, set
}

// Sealing is the entry and the states of a test: as they were set, or as the car's
// archetype is sealed for tests that were made before there was a Map.
func (s *Shop) Sealing(car Car, su record.Setup) (entry string, set plumbing.Settings) {
	e, m := su.Entry, su.Set
	if _, ok := car.Graph.Part(e); !ok { // also when the car turned out to be built otherwise
		e, m = s.sealing(car)
	}
	set = plumbing.Settings{}
	for k, v := range m {
		if _, ok := car.Graph.Part(k); ok {
			set[k] = plumbing.State(v)
		}
	}
	return e, set
}

// Proven is a part that a hold showed to be tight.
type Proven struct {
	Test string
	At   time.Time
	High float64 // upper bound of the hold, m
}

// Tight returns the parts that holds have proven tight: what stood under the gauge of
// a hold whose upper bound lies below its tight threshold, with nothing open to the
// air. A part that was found, marked with an exit or renewed afterwards is not.
func (s *Shop) Tight(f Folder, car Car) map[string]Proven {
	out := map[string]Proven{}
	for _, t := range f.Tests {
		sum, ok := t.Summary()
		if !ok || t.StruckAt != nil || t.Doubted() || !sum.Tight {
			continue
		}
		entry, set := s.Sealing(car, t.Setup)
		r := car.Graph.Reach(entry, set, len(sum.Legs) > 0 && vacuumOnly(sum))
		if !r.Sealed() {
			continue
		}
		for _, k := range slices.Concat(r.Inside, r.Bounds) {
			if p, _ := car.Graph.Part(k); p.Kind != plumbing.Block && p.Kind != plumbing.Tee {
				out[k] = Proven{t.ID, t.At, sum.High}
			}
		}
		for _, k := range s.lost(f, car, t.At) {
			delete(out, k)
		}
	}
	return out
}

func vacuumOnly(sum record.Summary) bool { return sum.Vacuum != nil && sum.Pressure == nil }

// lost lists the parts whose proof ended after a moment: found, seen to leak, or
// renewed.
func (s *Shop) lost(f Folder, car Car, after time.Time) (out []string) {
	for _, x := range f.Findings {
		if x.StruckAt == nil && x.At.After(after) {
			out = append(out, s.carries(car, x.Part)...)
		}
	}
	for _, m := range f.Marks {
		if m.StruckAt == nil && m.Kind == record.MarkExit && !m.Expected && m.At.After(after) {
			out = append(out, m.Part)
		}
	}
	for _, r := range f.Repairs {
		if r.StruckAt != nil || r.DoneAt == nil || !r.DoneAt.After(after) {
			continue
		}
		for _, x := range f.Findings { // a repair renews what was found before it
			if x.StruckAt == nil && x.At.Before(*r.DoneAt) {
				out = append(out, s.carries(car, x.Part)...)
			}
		}
	}
	return out
}

// carries is the part that has a fault on this car.
func (s *Shop) carries(car Car, fault string) []string {
	f, ok := s.Book.Fault(fault)
	if !ok || f.Family == "other" {
		return nil
	}
	if k, ok := f.Can(car.Graph, car.Combination); ok {
		return []string{k}
	}
	return nil
}

// Where is the part of the car's Map on which a fault sits; empty for one that this
// car cannot have.
func (s *Shop) Where(car Car, fault string) string {
	if k := s.carries(car, fault); len(k) > 0 {
		return k[0]
	}
	return ""
}
