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
