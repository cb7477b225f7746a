package live

import (
	"context"
	"fmt"
	"log/slog"
	"math"
	"slices"
	"sync"
	"time"

	"wexter/casework"
	"wexter/core/bench"
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
	began  time.Time
	wg     sync.WaitGroup

	mu      sync.Mutex
	benches map[string]*Bench
	sources map[string]*source

	commit sync.Mutex // one commit at a time
}

// New starts a hub; Close ends it.
func New(shop *casework.Shop, dial Dial) *Hub {
	ctx, cancel := context.WithCancel(context.Background())
	h := &Hub{shop: shop, dial: dial, began: time.Now(), ctx: ctx, cancel: cancel, benches: map[string]*Bench{}, sources: map[string]*source{}}
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
		if l := b.leg; l != nil && l.log.Len() > l.written {
			legs = append(legs, l)
			pieces = append(pieces, casework.Piece{Run: l.run.ID, Block: l.blocks, Table: l.log.So(), From: l.written, To: l.log.Len(),
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

// Join seats instruments at the bench of a test. One that is on another bench is taken over when
// nothing is read there and nobody looks; otherwise it is refused.
func (h *Hub) Join(ctx context.Context, test string, seats record.Seats) error {
	t, err := h.shop.LiveTest(ctx, test)
	if err != nil {
		return err
	}
	chosen, err := h.chosen(ctx, t.Bench, seats)
	if err != nil {
		return err
	}
	for _, b := range h.all() {
		if b.test == test {
			if same(b.Devices(), chosen) {
				return nil
			}
			if b.reading() {
				return &casework.Problem{Field: "module", Sentence: "A leg is being read; stop it before another module is taken"}
			}
			h.Leave(test)
			continue
		}
		for _, d := range b.Devices() {
			switch {
			case shared(d) || !slices.ContainsFunc(chosen, func(x chair) bool { return x.device.ID == d.ID }):
			case b.reading() || b.watched():
				return &casework.Problem{Field: "module", Sentence: fmt.Sprintf("%s is on another bench (%s); let it go there first", d.Name, b.number)}
			default:
				h.Leave(b.test)
			}
		}
	}
	if err := h.shop.Seat(ctx, test, seats); err != nil {
		return err
	}
	_, err = h.open(ctx, test, chosen, nil)
	return err
}

// shared reports whether several benches may read an instrument at a time.
func shared(d record.Device) bool { return d.Kind == record.Adapter || d.ID == "" }

// chair is an instrument and what it gives at a bench.
type chair struct {
	device record.Device
	wants  []bench.Want
}

// same reports whether instruments sit as they are to.
func same(now []record.Device, chosen []chair) bool {
	return slices.EqualFunc(now, chosen, func(d record.Device, c chair) bool { return d.ID == c.device.ID })
}

// chosen are the instruments of some seats, with what each gives: the one without which nothing
// is read comes first.
func (h *Hub) chosen(ctx context.Context, t bench.Test, seats record.Seats) (out []chair, err error) {
	for _, w := range t.Wants() {
		i := slices.IndexFunc(seats, func(s record.Seat) bool { return s.Want == w.Key && s.Device != "" })
		if i < 0 {
			continue
		}
		d, err := h.shop.DeviceByID(ctx, seats[i].Device)
		if err != nil {
			return nil, &casework.Problem{Field: "module", Sentence: "One of the instruments is no longer among the shop's; choose again"}
		}
		if d, err = h.shop.Device(ctx, d.Kind, d.Address); err != nil {
			return nil, err
		}
		if (w.Key == bench.LiveData) != (d.Kind == record.Adapter) {
			return nil, &casework.Problem{Field: "module", Sentence: fmt.Sprintf("%s does not give that", d.Name)}
		}
		if at := slices.IndexFunc(out, func(c chair) bool { return c.device.ID == d.ID }); at >= 0 {
			out[at].wants = append(out[at].wants, w)
			continue
		}
		out = append(out, chair{d, []bench.Want{w}})
	}
	if len(out) == 0 {
		out = []chair{{device: ownClock}}
	}
	return out, nil
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

func (h *Hub) open(ctx context.Context, test string, chosen []chair, run *record.Run) (*Bench, error) {
	t, err := h.shop.LiveTest(ctx, test)
	if err != nil {
		return nil, err
	}
	if t.Case.Stage == record.Closed {
		return nil, &casework.Problem{Sentence: "case " + t.Case.Number + " is closed; open a new one for this car"}
	}
	bctx, cancel := context.WithCancel(h.ctx)
	b := &Bench{hub: h, test: test, number: t.Case.Number, live: t, cancel: cancel, permits: t.Bench.Energises() && t.Bench.Permitted(instrument.PressureKey), looked: time.Now()}
	for _, c := range chosen {
		s := &seat{bench: b, wants: c.wants, first: b.columns, status: Looking}
		for _, w := range c.wants {
			s.keys = append(s.keys, w.Keys...)
		}
		if s.source, err = h.source(c.device); err != nil {
			cancel()
			return nil, err
		}
		s.shown = s.columns()
		b.columns += len(s.keys)
		b.seats = append(b.seats, s)
	}
	if run != nil {
		if err := b.takeUp(ctx, *run); err != nil {
			cancel()
			return nil, err
		}
	}
	if old, err := h.put(b); err != nil || old != nil {
		cancel()
		return old, err
	}
	h.wg.Go(func() { b.judge(bctx) })
	for _, s := range b.seats {
		s.source.join(s)
	}
	return b, nil
}

// takeUp puts a stretch on the bench that was being read when the program stopped.
func (b *Bench) takeUp(ctx context.Context, run record.Run) error {
	log, blocks, err := b.hub.shop.KeptReadings(ctx, run.ID)
	if err != nil {
		return err
	}
	if len(run.Channels) == 0 { // begun by a Wexter that read one module
		for _, s := range b.seats {
			run.Channels = append(run.Channels, s.channels()...)
		}
	}
	for len(log.Cols) < b.columns {
		log.Cols = append(log.Cols, slices.Repeat([]float64{math.NaN()}, log.Len()))
	}
	k := b.known()
	st, ok := b.live.Bench.Stretch(k, run.Kind)
	st.For = run.Planned
	if !ok || len(run.Channels) != b.columns || len(log.Cols) != b.columns {
		return refuse("The leg was read with other instruments")
	}
	b.leg = &leg{bench: b, run: run, stretch: st, watch: b.live.Bench.Watch(k, st, run.Channels), log: log, written: log.Len(), blocks: blocks, gaps: len(run.Gaps), resumed: true}
	b.leg.replay()
	if log.Len() > 0 {
		b.seats[0].clock = clock{last: run.Origin + b.leg.leadAt, runs: true}
	}
	return b.leg.unpowered(ctx)
}

// unpowered marks that what a tap switched from here is off again: the command has expired while Wexter
// was stopped. What a hand has switched stands as it did.
func (l *leg) unpowered(ctx context.Context) error {
	if w, ok := l.watch.(bench.Switcher); !ok || !w.On() || l.stretch.Toggle.Step.Do != bench.Command {
		return nil
	}
	m := record.Mark{Time: l.log.Last(), Text: l.stretch.Toggle.Off + ": Wexter was stopped", Key: bench.PowerTap}
	r, err := l.bench.hub.shop.MarkRun(ctx, "", l.run.ID, m)
	if err != nil {
		return err
	}
	l.run.Marks = r.Marks
	l.watch.Mark(m.Time, m.Key)
	return nil
}

// put lists a bench, or returns the one that was quicker.
func (h *Hub) put(b *Bench) (*Bench, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if old := h.benches[b.test]; old != nil {
		return old, nil
	}
	for _, o := range h.benches {
		for _, s := range o.seats {
			taken := slices.ContainsFunc(b.seats, func(x *seat) bool { return x.source == s.source })
			if taken && !shared(s.source.device) {
				return nil, &casework.Problem{Field: "module", Sentence: fmt.Sprintf("%s is on another bench (%s); let it go there first", s.source.device.Name, o.number)}
			}
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
	for _, s := range b.seats {
		s.source.leave(s)
	}
	delete(h.benches, test)
	b.mu.Lock()
	defer b.mu.Unlock()
	if !b.moved.IsZero() { // it was charged, drawn or energised from here
		h.wg.Go(func() { b.rest(nil) })
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
		chosen, err := h.seated(ctx, r)
		if err == nil {
			_, err = h.open(ctx, r.TestID, chosen, &r)
		}
		if err != nil {
			// Its module is not this shop's, or its case is closed: keep what was read.
			r.Notes = append(r.Notes, "Wexter was stopped while this was read.")
			if err := h.shop.EndRun(ctx, r, nil); err != nil {
				return err
			}
		}
	}
	return nil
}

// seated are the instruments with which a run was begun.
func (h *Hub) seated(ctx context.Context, r record.Run) ([]chair, error) {
	t, err := h.shop.LiveTest(ctx, r.TestID)
	if err != nil {
		return nil, err
	}
	seats := t.Test.Seats
	if len(seats) == 0 && r.Source.Address != ownClock.Address { // begun by a Wexter that read one module
		d, err := h.shop.Device(ctx, record.Module, r.Source.Address)
		if err != nil {
			return nil, err
		}
		seats = record.Seats{{Want: instrument.PressureKey, Device: d.ID}, {Want: instrument.WallKey, Device: d.ID}}
	}
	return h.chosen(ctx, t.Bench, seats)
}

// elapsed is how long the hub has been running, s: a clock that never goes back.
func (h *Hub) elapsed() float64 { return time.Since(h.began).Seconds() }
