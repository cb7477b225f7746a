package live

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"wexter/casework"
	"wexter/core/record"
	"wexter/instrument"
)

// Dial connects to an instrument of the shop.
type Dial func(ctx context.Context, d record.Device) (instrument.Instrument, error)

// Timing of the hub.
const (
	commitEvery   = 200 * time.Millisecond
	estimateEvery = 500 * time.Millisecond
	idleAfter     = 30 * time.Second // without a leg and without anybody looking
	aloneAfter    = 60 * time.Second // nobody looks at a rig that is worked from here
	keepEvery     = 10 * time.Second // it is said that somebody still looks
	keepSeconds   = 60.0             // s for which a rig stays as it is without that
)

// Hub holds the benches that are live.
type Hub struct {
	shop   *casework.Shop
	dial   Dial
	ctx    context.Context
	cancel context.CancelFunc
	wg     sync.WaitGroup

	mu      sync.Mutex
	benches map[string]*Bench
	sources map[string]*source

	commit sync.Mutex // one commit at a time
}

// New starts a hub; Close ends it.
func New(shop *casework.Shop, dial Dial) *Hub {
	ctx, cancel := context.WithCancel(context.Background())
	h := &Hub{shop: shop, dial: dial, ctx: ctx, cancel: cancel, benches: map[string]*Bench{}, sources: map[string]*source{}}
	h.wg.Go(h.keep)
	return h
}

// Done is closed when the hub ends: streams end with it.
func (h *Hub) Done() <-chan struct{} { return h.ctx.Done() }

// Close writes what was read and lets the modules go. Legs stay open, to be taken
// up again.
func (h *Hub) Close() error {
	h.cancel()
	h.wg.Wait()
	return h.flush()
}

// keep writes five times a second and lets go of benches nobody looks at.
func (h *Hub) keep() {
	tick := time.NewTicker(commitEvery)
	defer tick.Stop()
	failing := false
	for {
		select {
		case <-h.ctx.Done():
			return
		case <-tick.C:
		}
		err := h.flush()
		if err != nil && !failing {
			slog.Error("readings could not be written; they are kept in memory", "err", err)
		}
		failing = err != nil
		for _, b := range h.all() {
			b.mu.Lock()
			idle := b.leg == nil && time.Since(b.looked) > idleAfter
			b.mu.Unlock()
			if idle {
				h.Leave(b.test)
			}
			b.attend()
		}
		h.idle()
	}
}

func (h *Hub) all() (out []*Bench) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, b := range h.benches {
		out = append(out, b)
	}
	return out
}

// flush writes all readings that are not on disk yet in one transaction.
func (h *Hub) flush() error {
	h.commit.Lock()
	defer h.commit.Unlock()
	var pieces []casework.Piece
	var legs []*leg
	for _, b := range h.all() {
		b.mu.Lock()
		if l := b.leg; l != nil && len(l.log.Time) > l.written {
			legs = append(legs, l)
			pieces = append(pieces, casework.Piece{Run: l.run.ID, Block: l.blocks, Log: l.log, From: l.written, To: len(l.log.Time),
				Gap: l.gaps, Gaps: l.run.Gaps[l.gaps:]})
			l.gaps = len(l.run.Gaps)
		}
		b.mu.Unlock()
	}
	if len(pieces) == 0 {
		return nil
	}
	// Readings are only ever appended, so the slices may be read without the lock.
	err := h.shop.KeepReadings(context.Background(), pieces)
	for _, b := range h.all() {
		b.mu.Lock()
		for i, l := range legs {
			if b.leg == l {
				if err == nil {
					l.written = pieces[i].To
					l.blocks++
				} else {
					l.gaps = min(l.gaps, pieces[i].Gap)
				}
				b.diskSays(err)
			}
		}
		b.mu.Unlock()
	}
	return err
}

// Look returns the bench of a test when it is live. Who opens its page has looked at it:
// it is not let go between the page and its stream.
func (h *Hub) Look(test string) (*Bench, bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	b, ok := h.benches[test]
	if ok {
		b.mu.Lock()
		b.looked = time.Now()
		b.mu.Unlock()
	}
	return b, ok
}

// Join connects the bench of a test to a module. One that is on another bench is taken over
// when nothing is read there and nobody looks; otherwise it is refused.
func (h *Hub) Join(ctx context.Context, test, address string) error {
	d, err := h.shop.Device(ctx, record.Module, address)
	if err != nil {
		return err
	}
	for _, b := range h.all() {
		switch {
		case b.Address() != address:
		case b.test == test:
			return nil
		case b.reading() || b.watched():
			return &casework.Problem{Field: "module", Sentence: fmt.Sprintf("%s is on another bench (%s); let it go there first", d.Name, b.number)}
		default:
			h.Leave(b.test)
		}
	}
	if b, ok := h.Look(test); ok {
		if b.reading() {
			return &casework.Problem{Field: "module", Sentence: "A leg is being read; stop it before another module is taken"}
		}
		h.Leave(test)
	}
	_, err = h.open(ctx, test, d, nil)
	return err
}

// watchedFor is how long after a look somebody counts as looking: a page asks ten times a
// second.
const watchedFor = 2 * time.Second

// watched reports whether somebody looks at the bench.
func (b *Bench) watched() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return time.Since(b.looked) < watchedFor
}

func (h *Hub) open(ctx context.Context, test string, d record.Device, l *leg) (*Bench, error) {
	t, err := h.shop.LiveTest(ctx, test)
	if err != nil {
		return nil, err
	}
	if t.Case.Stage == record.Closed {
		return nil, &casework.Problem{Sentence: "case " + t.Case.Number + " is closed; open a new one for this car"}
	}
	s, err := h.source(d)
	if err != nil {
		return nil, err
	}
	bctx, cancel := context.WithCancel(h.ctx)
	b := &Bench{hub: h, test: test, number: t.Case.Number, source: s, live: t, cancel: cancel, leg: l, status: Looking, looked: time.Now()}
	if l != nil {
		l.replay(t)
		if n := len(l.log.Time); n > 0 {
			b.clock = clock{last: l.run.Origin + l.log.Time[n-1], runs: true}
		}
	}
	if old, err := h.put(b); err != nil || old != nil {
		cancel()
		return old, err
	}
	h.wg.Go(func() { b.judge(bctx) })
	s.join(b)
	return b, nil
}

// put lists a bench, or returns the one that was quicker.
func (h *Hub) put(b *Bench) (*Bench, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if old := h.benches[b.test]; old != nil {
		return old, nil
	}
	for _, o := range h.benches {
		if o.source == b.source {
			return nil, &casework.Problem{Field: "module", Sentence: fmt.Sprintf("this module is on another bench (%s); let it go there first", o.number)}
		}
	}
	h.benches[b.test] = b
	return nil, nil
}

// Leave lets a module go. A leg that is being read keeps it.
func (h *Hub) Leave(test string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	b := h.benches[test]
	if b == nil || b.reading() {
		return
	}
	b.cancel()
	b.source.leave(b)
	delete(h.benches, test)
	b.mu.Lock()
	defer b.mu.Unlock()
	if g := b.gauge; g != nil && !b.moved.IsZero() { // it was charged or drawn from here
		h.wg.Go(func() { b.release(g, "") })
	}
}

// Resume takes up the legs that were being read when the program stopped: the
// module, when it is still the same one with its clock going on, continues the leg;
// otherwise the leg waits to be stopped and judged as far as it went.
func (h *Hub) Resume(ctx context.Context) error {
	runs, err := h.shop.OpenRuns(ctx)
	if err != nil {
		return err
	}
	for _, r := range runs {
		log, blocks, err := h.shop.KeptReadings(ctx, r.ID)
		if err != nil {
			return err
		}
		l := &leg{run: r, log: log, written: len(log.Time), blocks: blocks, gaps: len(r.Gaps), resumed: true}
		d, err := h.shop.Device(ctx, record.Module, r.Source.Address)
		if err == nil {
			_, err = h.open(ctx, r.TestID, d, l)
		}
		if err != nil {
			// Its module is not this shop's, or its case is closed: keep what was read.
			r.Notes = append(r.Notes, "Wexter was stopped while this was read.")
			if err := h.shop.EndRun(ctx, r); err != nil {
				return err
			}
		}
	}
	return nil
}
