package bench

// Scene is what the picture of a test shows: figures and states, for a page to draw.
type Scene interface{ scene() }

// Scene is what the test's picture shows by what is in; nil where it has none.
func (t Test) Scene(k Known) Scene {
	switch {
	case t.Live.Picture != nil:
		return t.Live.Picture(k)
	case t.Picture != nil:
		return t.Picture(k.Subject, k.Read)
	}
	return nil
}

// Painter is a watcher that has a picture of this moment.
type Painter interface{ Picture() Scene }

// Course is what a column would show with a suspect, or with nothing wrong.
type Course struct {
	Name string
	T, V []float64 // s into the stretch; in the column's SI unit
}

// Behind is a scene behind which the courses of a column are drawn, of a test whose trace cannot hold them.
type Behind interface {
	Scene
	// Column is what is to be foreseen.
	Column() string
	// With is the scene with the courses behind it.
	With([]Course) Scene
}

// TankScene is the picture of a tank that is drawn down: how far it is, and how the valves stand.
type TankScene struct {
	Level        float64 // share of the tank that is fuel; NaN: nobody knows
	Now          float64 // vacuum of this moment, Pa; NaN: none is read
	Built, Left  float64 // what was read, Pa; NaN: not yet
	Target, Stop float64 // Pa: it is drawn to the first, opened at the second
	Vent, Purge  Way
}

func (TankScene) scene() {}

// Way is how a valve stands, as far as this test has told it.
type Way int

// The ways.
const (
	AtRest Way = iota // it was let go
	Passes
	Holds
)
