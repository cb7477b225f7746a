package live

import (
	"cmp"
	"context"
	"time"

	"wexter/core/record"
)

// Hand is a window in which somebody works a bench: an id of its own, what its screen is called,
// and what it shows.
type Hand struct {
	ID     string
	Who    string // the screen's name
	Screen string // "bench" or "bay view"
}

// driver is the hand that drives; the others watch.
type driver struct {
	Hand
	seen time.Time // its window asked for what is new
}

// who measures: who works on the case, or else the screen that drives.
func (d driver) who(onCase string) string { return cmp.Or(onCase, d.Who) }

// leftAfter is how long after its window asked last a driver counts as gone: the next hand that
// presses drives.
const leftAfter = 15 * time.Second

// May lets a hand work the bench when it drives, or when nobody else does; otherwise it refuses
// and says how to take over. Stopping, and opening the rig, are for everybody.
func (b *Bench) May(ctx context.Context, h Hand) error {
	b.mu.Lock()
	d := b.driver
	mine := d.ID == h.ID
	free := d.ID == "" || time.Since(d.seen) > leftAfter
	if mine {
		b.driver.Hand, b.driver.seen = h, time.Now()
	}
	b.mu.Unlock()
	switch {
	case mine:
		return nil
	case free:
		return b.TakeOver(ctx, h)
	}
	return refuse("%s drives this bench from another window. Take over first, or let them press", cmp.Or(d.Who, "Somebody"))
}

// TakeOver makes a hand the one that drives, and writes that down.
func (b *Bench) TakeOver(ctx context.Context, h Hand) error {
	b.mu.Lock()
	if b.driver.ID == h.ID {
		b.mu.Unlock()
		return nil
	}
	name := cmp.Or(h.Who, "somebody")
	b.mu.Unlock()
	if h.Screen != "" {
		name += ", " + h.Screen
	}
	turn := record.Turn{Who: name, At: b.hub.shop.Now().UTC()}
	if err := b.hub.shop.Drive(ctx, b.test, turn); err != nil {
		return err
	}
	b.mu.Lock()
	b.driver = driver{h, time.Now()}
	b.changed()
	b.mu.Unlock()
	return b.Refresh()
}

// Sees notes that a window looks, and says whether it drives.
func (b *Bench) Sees(id string) (drives bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.driver.ID != id || id == "" {
		return false
	}
	b.driver.seen = time.Now()
	return true
}
