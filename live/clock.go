package live

// leapSeconds is how far the clock of a module that is being read may go on between two
// readings.
const leapSeconds = 60.0

// clock watches the time that a module states. One reading out of time is a fault; two in
// a row that fit each other are the module's new time.
type clock struct {
	last   float64 // s
	odd    float64 // s, the reading before this one, when it was out of time
	runs   bool    // there is a last
	doubt  bool    // there is an odd
	silent bool    // nothing was read for a while: the clock may have gone on far
}

// fits says what is wrong with the time of a reading, in words; empty for nothing.
// turnedBack reports that the clock has been set back for good.
func (c *clock) fits(t float64) (wrong string, turnedBack bool) {
	usual := func(from float64) bool { return t >= from && t-from <= leapSeconds }
	switch {
	case !c.runs || usual(c.last) || c.silent && t >= c.last:
		turnedBack = false
	case c.doubt && usual(c.odd):
		turnedBack = t < c.last
	default:
		c.odd, c.doubt = t, true
		if t < c.last {
			return "the clock of the instrument went back", false
		}
		return "the clock of the instrument jumped ahead", false
	}
	c.last, c.runs, c.doubt, c.silent = t, true, false, false
	return "", turnedBack
}
