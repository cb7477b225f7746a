package live

import "math"

// alignSeconds is how long a moment of arrival counts when an instrument's clock is held against
// this computer's: long enough to meet a reading that came quickly, short enough to follow two
// clocks that go at different speeds.
const alignSeconds = 60.0

// align knows how an instrument's clock stands to this computer's. A reading comes some time
// after it was measured, never before: of many, the one that came soonest says best how far the
// clocks are apart, and how far the others came later says how well that is known.
type align struct {
	since   float64 // s, by this computer's clock, when the newer of two stretches began
	newer   float64 // smallest difference of arrival and own time in it, s
	older   float64 // and in the one before it
	late    float64 // mean of how far later the others came, s
	readers int
}

// add takes a reading that arrived at a time by this computer's clock and says own by its own.
func (a *align) add(arrived, own float64) {
	d := arrived - own
	switch {
	case a.readers == 0:
		a.since, a.newer, a.older = arrived, d, d
	case arrived-a.since > alignSeconds:
		a.since, a.older, a.newer = arrived, a.newer, d
	}
	a.newer = math.Min(a.newer, d)
	a.readers++
	late := d - a.offset()
	a.late += (late - a.late) / math.Min(float64(a.readers), 100)
}

// offset is what the instrument's time lacks to this computer's, s.
func (a *align) offset() float64 { return math.Min(a.newer, a.older) }

// reset forgets a clock that began anew.
func (a *align) reset() { *a = align{} }
