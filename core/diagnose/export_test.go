package diagnose

// For tests outside the package, which need the Book: what they check against.

// Price is what a repair one after another would cost, for single faults alone.
func Price(odds, mend []float64) float64 {
	s := &State{Model: &Model{Suspects: make([]Suspect, len(odds))}}
	gs := make([]group, len(odds))
	for i := range gs {
		gs[i] = group{i, -1, odds[i]}
	}
	return (&planner{State: s, gs: gs, mend: append(mend[:len(mend):len(mend)], 0, 0)}).price(odds, -1)
}

// Entropy is in bits.
func Entropy(p []float64) float64 { return entropy(p, 1) }

// Rows are what the plant said of a fault under a test, by step of severity and kind of car.
func (m *Model) Rows(test, fault string) *[shades]*Row {
	return m.table.of(test, m.Suspects[m.index[fault]], m.Car)
}

// At is the likelihood of a curve at one diameter, m.
func (c *Curve) At(d float64) float64 { return c.mean(d*d, d*d) }

// Prior masses of a model.
func (m *Model) Prior() (two, none, other float64) { return m.two, m.none, m.other }

// Hole is the range of a fault's hole at a step, m, and Wall that of one in the wall of its
// part alone.
func (s Suspect) Hole(k int) (low, high float64) { return s.hole(k) }
func (s Suspect) Wall(k int) (low, high float64) { return s.wall(k) }

// Sizes of the model.
const (
	Steps = steps
	Kinds = kinds
)

// Actions lists everything that could be done on a car of which nothing is known.
func (m *Model) Actions() []Action {
	s, err := m.Think(History{{}})
	if err != nil {
		return nil
	}
	return s.Next(Bay{Careful: true}).Actions
}
