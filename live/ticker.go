package live

import (
	"context"
	"time"

	"wexter/core/record"
	"wexter/instrument"
)

// ownClock stands for an instrument where a bench has none: what eyes and hands find is marked by
// this computer's clock.
var ownClock = record.Device{Name: "this computer's clock", Address: "clock"}

// tickEvery is how often that clock is read.
const tickEvery = 100 * time.Millisecond

// ticker is this computer's clock as an instrument without channels.
type ticker struct {
	began time.Time
	n     int64
}

// About says what it is.
func (t *ticker) About() instrument.About {
	return instrument.About{Protocol: 1, Name: ownClock.Name, Session: instrument.OwnClock, Rate: 1 / tickEvery.Seconds(), NoClock: true}
}

// Next waits for the next tick.
func (t *ticker) Next(ctx context.Context) (instrument.Reading, error) {
	select {
	case <-ctx.Done():
		return instrument.Reading{}, ctx.Err()
	case <-time.After(tickEvery):
	}
	t.n++
	// The moment it began, and what has passed since: never back, whatever is done to the computer's clock.
	return instrument.Reading{N: t.n, Time: float64(t.began.UnixNano())/1e9 + time.Since(t.began).Seconds()}, nil
}

// Do refuses: there is nothing to work.
func (t *ticker) Do(context.Context, instrument.Command) error { return refuse("done by hand") }

// Close has nothing to close.
func (t *ticker) Close() error { return nil }
