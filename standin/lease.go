package standin

import "time"

// lease is until when something that was commanded stands, unless it is asked for again: a
// tool that was killed, or whose link is gone, leaves nothing energised. It runs by this
// computer's clock, since the hand and the valve do. The zero lease holds nothing.
type lease struct {
	until time.Time
	frees bool // there is something to let go
}

// take begins a lease of so many seconds; 0 ends it: whoever commands without one says
// himself when it is over.
func (l *lease) take(seconds float64) {
	l.frees = seconds > 0
	l.until = time.Now().Add(time.Duration(seconds * float64(time.Second)))
}

// keep renews a lease that is not over.
func (l *lease) keep(seconds float64) {
	if l.frees && !l.over() {
		l.take(seconds)
	}
}

// over reports whether it has run out.
func (l *lease) over() bool { return l.frees && time.Now().After(l.until) }
