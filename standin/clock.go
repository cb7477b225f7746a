package standin

import (
	"context"
	"fmt"
	"math"
	"sync"
	"time"
)

// Clock is the time of a stand-in, s since it began. It is this computer's, times a
// speed; at speed 0 it stands, and is stepped by whoever wants something to happen: then
// nothing that is seen depends on how fast the computer is.
type Clock struct {
	speed float64
	mu    sync.Mutex
	began time.Time
	now   float64         // of a clock that is stepped
	pacer map[*Pacer]bool // of those who read by a clock that is stepped
	moved chan struct{}   // closed when now or a pacer moved, and made again
}

// mostStep is the most that a clock is stepped at once, s.
const mostStep = 24 * 3600.0

// NewClock makes a clock; speed is 0 for one that is stepped.
func NewClock(speed float64) (*Clock, error) {
	if math.IsNaN(speed) || speed < 0 || speed > 10000 || speed > 0 && speed < 0.01 {
		return nil, fmt.Errorf("the speed is %g; it lies between 0.01 and 10000, or is 0 for a clock that is stepped", speed)
	}
	return &Clock{speed: speed, began: time.Now(), pacer: map[*Pacer]bool{}, moved: make(chan struct{})}, nil
}

// Stepped reports whether the clock stands until it is stepped.
func (c *Clock) Stepped() bool { return c.speed == 0 }

// Now is the time, s.
func (c *Clock) Now() float64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.Stepped() {
		return c.now
	}
	return time.Since(c.began).Seconds() * c.speed
}

// move tells everybody who waits that something moved. The lock is held.
func (c *Clock) move() {
	close(c.moved)
	c.moved = make(chan struct{})
}

// Step lets so many seconds pass on a clock that is stepped. Everybody who reads by it
// takes each of his readings at its moment before the clock goes on.
func (c *Clock) Step(ctx context.Context, seconds float64) error {
	if !c.Stepped() {
		return fmt.Errorf("this stand-in keeps real time; start it with --speed 0 to step it")
	}
	if !(seconds > 0) || seconds > mostStep {
		return fmt.Errorf("a clock is stepped by more than 0 and at most %g s", mostStep)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for target := c.now + seconds; c.now < target; {
		due := target
		for p := range c.pacer {
			due = math.Min(due, p.due)
		}
		c.now = math.Max(c.now, due)
		c.move()
		for c.behind() {
			moved := c.moved
			c.mu.Unlock()
			select {
			case <-moved:
			case <-ctx.Done():
			}
			c.mu.Lock()
			if ctx.Err() != nil {
				return ctx.Err()
			}
		}
	}
	return nil
}

// behind reports whether somebody has still to take a reading that is due. The lock is held.
func (c *Clock) behind() bool {
	for p := range c.pacer {
		if p.due <= c.now {
			return true
		}
	}
	return false
}

// Pacer waits for the moments of one instrument's readings.
type Pacer struct {
	clock *Clock
	due   float64
}

// Pace returns a pacer of a clock. A clock that is stepped does not go on before it waits.
func (c *Clock) Pace() *Pacer {
	c.mu.Lock()
	defer c.mu.Unlock()
	p := &Pacer{clock: c}
	c.pacer[p] = true
	return p
}

// Leave lets the clock go on without the pacer.
func (p *Pacer) Leave() {
	p.clock.mu.Lock()
	defer p.clock.mu.Unlock()
	if p.clock.pacer[p] {
		delete(p.clock.pacer, p)
		p.clock.move()
	}
}

// standing is how long a pacer waits on a clock that stands before it says so, in real
// time: whoever listens must not take the instrument for dead.
const standing = 200 * time.Millisecond

// Wait waits until the clock shows a time. It returns false when the clock stands, so
// that the instrument can show that it is still there; it is then asked again.
func (p *Pacer) Wait(ctx context.Context, at float64) (bool, error) {
	if p.clock.Stepped() {
		return p.waitStep(ctx, at)
	}
	c := p.clock
	c.mu.Lock()
	wait := time.Until(c.began.Add(time.Duration(at / c.speed * float64(time.Second))))
	if wait < -time.Second { // the computer slept: the clock goes on from here, readings do not rush
		c.began = c.began.Add(-wait)
	}
	c.mu.Unlock()
	if wait <= 0 {
		return true, ctx.Err()
	}
	select {
	case <-ctx.Done():
		return false, ctx.Err()
	case <-time.After(wait):
		return true, nil
	}
}

func (p *Pacer) waitStep(ctx context.Context, at float64) (bool, error) {
	c := p.clock
	c.mu.Lock()
	defer c.mu.Unlock()
	if p.due != at {
		p.due = at
		c.move()
	}
	stands := time.After(standing)
	for c.now < at {
		moved := c.moved
		c.mu.Unlock()
		still := false
		select {
		case <-moved:
		case <-stands:
			still = true
		case <-ctx.Done():
		}
		c.mu.Lock()
		if ctx.Err() != nil {
			delete(c.pacer, p)
			c.move()
			return false, ctx.Err()
		}
		if still && c.now < at {
			return false, nil
		}
	}
	return true, nil
}
