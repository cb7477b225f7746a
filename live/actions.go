package live

import (
	"context"
	"fmt"
	"math"
	"slices"
	"time"

	"wexter/casework"
	"wexter/core/bench"
	"wexter/core/record"
	"wexter/instrument"
)

func refuse(format string, a ...any) error {
	return &casework.Problem{Sentence: fmt.Sprintf(format, a...)}
}

// Redo reads a stretch again: when the new one is begun, the last one of its kind is struck out.
func (b *Bench) Redo(ctx context.Context, key record.RunKind) error {
	b.mu.Lock()
	runs := b.live.Runs
	b.mu.Unlock()
	if err := b.Start(ctx, key); err != nil {
		return err
	}
	return b.strikeLast(ctx, runs, key)
}

// TakeBack strikes out what was read last of a stretch.
func (b *Bench) TakeBack(ctx context.Context, key record.RunKind) error {
	b.mu.Lock()
	runs, reading := b.live.Runs, b.leg != nil
	b.mu.Unlock()
	if reading {
		return refuse("A leg is being read; stop it first")
	}
	return b.strikeLast(ctx, runs, key)
}

func (b *Bench) strikeLast(ctx context.Context, runs []record.Run, key record.RunKind) error {
	for _, r := range slices.Backward(runs) {
		if r.Kind == key {
			if err := b.hub.shop.StampRun(ctx, "", r.ID, casework.Strike); err != nil {
				return err
			}
			return b.Refresh()
		}
	}
	return nil
}

// Start begins a stretch. What can be worked from here is set as the stretch needs it. The test
// is read again before: somebody may have written down what this car is permitted.
func (b *Bench) Start(ctx context.Context, key record.RunKind) error {
	if err := b.Refresh(); err != nil {
		return err
	}
	return b.start(ctx, key, setUp)
}

// beginning is how a stretch finds rig and valves.
type beginning int

const (
	setUp  beginning = iota // they are set as it needs them, and then worked after its first reading
	asLeft                  // as the one before left them: it follows by itself
)

func (b *Bench) start(ctx context.Context, key record.RunKind, how beginning) error {
	b.mu.Lock()
	lead := b.seats[0]
	k := b.known()
	k.Plan = b.live.Hold
	st, ok := b.live.Bench.Stretch(k, key)
	before, after := append(b.held(st), b.orders(st.Stand)...), b.orders(st.Do)
	if how == asLeft { // a valve that is to be shut does not wait for the first reading
		before, after = b.orders(st.Do), nil
	}
	err := b.mayStart(st, ok)
	if err == nil {
		err = b.mayMove(slices.Concat(before, after))
	}
	if err != nil {
		b.mu.Unlock()
		return err
	}
	b.starting = true
	b.mu.Unlock()
	defer func() {
		b.mu.Lock()
		b.starting = false
		b.mu.Unlock()
	}()
	if err := work(ctx, before); err != nil {
		return err
	}
	b.mu.Lock()
	var cols record.Channels
	for _, s := range b.seats {
		cols = append(cols, s.channels()...)
		s.pushed, s.lostAt, s.keptAt = 0, 0, 0
		if !s.has && !s.lead() {
			s.lostAt = leastStep
		}
	}
	n := casework.NewLive{Kind: key, Origin: lead.last.Time, Planned: st.For, Channels: cols, Who: b.driver.who(b.live.Case.Who),
		From: record.Source{Address: lead.source.device.Address, Name: lead.about.Name, Serial: lead.about.Serial, Session: lead.about.Session}}
	b.mu.Unlock()
	r, err := b.hub.shop.BeginRun(ctx, b.test, n)
	if err != nil {
		return err
	}
	b.mu.Lock()
	b.leg = &leg{bench: b, run: r, stretch: st, watch: b.live.Bench.Watch(k, st, cols), log: record.NewTable(len(cols))}
	b.estimate, b.result = nil, ""
	b.noteMove(slices.Concat(before, after))
	b.changed()
	b.mu.Unlock()
	return work(ctx, after)
}

// mayStart refuses a stretch that cannot be begun now. The bench is locked.
func (b *Bench) mayStart(st bench.Stretch, known bool) error {
	lead := b.seats[0]
	switch {
	case !known:
		return refuse("This test has no such leg")
	case b.leg != nil, b.starting: // or somebody else's press is setting the rig just now
		return refuse("A leg is being read already; stop it first")
	case !lead.has || lead.status != On || lead.gauge == nil:
		return refuse("The instrument is not measuring right now; wait until it is")
	case st.Lacks != "":
		return refuse("%s", casework.Upper(st.Lacks))
	}
	return nil
}

// Onward is the one key: it ends a stretch that has no planned end and begins the next one, when
// that charges, draws and energises nothing. What does wants a press of its own.
func (b *Bench) Onward(ctx context.Context) error {
	b.mu.Lock()
	l := b.leg
	b.mu.Unlock()
	if l != nil {
		if err := b.finish(ending{cut: l.stretch.For > 0}); err != nil {
			return err
		}
	}
	b.mu.Lock()
	next := b.next()
	b.mu.Unlock()
	if next == nil || l != nil && (next.Energises() || next.Follows) {
		return nil
	}
	return b.Start(ctx, next.Key)
}

// Stop ends the stretch and keeps it; the rig is opened and valves are let go.
func (b *Bench) Stop() error { return b.finish(ending{cut: true, rest: true}) }

// finish ends the stretch from outside.
func (b *Bench) finish(e ending) error {
	b.mu.Lock()
	l := b.leg
	if l != nil && l.stretch.For > 0 && l.log.Len() > 0 && !l.stretch.Firm {
		if held, counts := l.held(); counts && held < l.stretch.For {
			e.note = fmt.Sprintf("It was stopped after %.0f of %.0f s.", held, l.stretch.For)
		}
	}
	b.mu.Unlock()
	if l == nil {
		return nil // stopped already, from another browser
	}
	b.end(e)
	// It may be ending by itself at this very moment.
	for range 100 {
		b.mu.Lock()
		still, ending := b.leg == l, l.ending
		b.mu.Unlock()
		switch {
		case !still:
			return nil
		case !ending:
			return refuse("The leg could not be written to disk yet; reading goes on. Try again")
		}
		time.Sleep(50 * time.Millisecond)
	}
	return refuse("The leg is still being written to disk; look again in a moment")
}

// Mark puts a word at this moment of the stretch. Of a tap it is the tap's own word, and what the tap
// switches from here is switched first.
func (b *Bench) Mark(ctx context.Context, form, tap, words string) error {
	b.tapping.Lock() // one after another: a second press switches back what the first has switched
	defer b.tapping.Unlock()
	b.mu.Lock()
	l := b.leg
	if form != "" && form == b.tapped { // sent twice
		b.mu.Unlock()
		return nil
	}
	if l == nil || l.log.Len() == 0 {
		b.mu.Unlock()
		return refuse("No leg is being read, so there is nothing to mark")
	}
	if tap != "" {
		taps := b.taps(l)
		i := slices.IndexFunc(taps, func(t bench.Tap) bool { return t.Key == tap })
		if i < 0 {
			b.mu.Unlock()
			return refuse("This test has no such mark")
		}
		words = taps[i].Name
	}
	orders := b.toggles(l, tap)
	b.mu.Unlock()
	if err := work(ctx, orders); err != nil {
		return err
	}
	b.mu.Lock()
	m := record.Mark{Time: l.log.Last(), Text: words, Key: tap}
	if b.seats[0].about.Session == instrument.OwnClock { // between two readings
		m.Time += min(time.Since(b.seen), time.Second).Seconds()
	}
	b.driven = b.driven || moves(orders)
	b.mu.Unlock()
	r, err := b.hub.shop.MarkRun(ctx, form, l.run.ID, m)
	if err != nil {
		return err
	}
	b.mu.Lock()
	if len(r.Marks) > len(l.run.Marks) { // not the same form twice
		l.watch.Mark(m.Time, tap)
	}
	l.run.Marks, b.tapped = r.Marks, form
	b.changed()
	b.mu.Unlock()
	return nil
}

// taps are what a hand marks now: what switches says which way. The bench is locked.
func (b *Bench) taps(l *leg) (out []bench.Tap) {
	for _, t := range b.live.Bench.Taps(l.run.Kind) {
		if t.Key == bench.PowerTap {
			w, ok := l.watch.(bench.Switcher)
			if x := l.stretch.Toggle; !ok || x.On == "" {
				continue
			} else if t.Name = x.On; w.On() {
				t.Name = x.Off
			}
		}
		out = append(out, t)
	}
	return out
}

// toggles are the orders by which a tap switches the toggle of the stretch: on, or off again. There are
// none where a hand does it. The bench is locked.
func (b *Bench) toggles(l *leg, tap string) []order {
	w, ok := l.watch.(bench.Switcher)
	x := l.stretch.Toggle
	if tap != bench.PowerTap || !ok || x.On == "" {
		return nil
	}
	step := x.Step
	if w.On() {
		step = x.Back()
	}
	return append(b.orders([]bench.Step{step}), b.puts([]bench.Step{step})...)
}

// Place notes what is seen at a part in the stretch that is read: a size, nothing, or that the last
// word about it is taken back. The test's own code may refuse it.
func (b *Bench) Place(ctx context.Context, form, part, what string) error {
	b.mu.Lock()
	l := b.leg
	if l == nil || l.log.Len() == 0 {
		b.mu.Unlock()
		return refuse("No leg is being read: start it first, then say what comes out where")
	}
	p, ok := l.watch.(bench.Placer)
	if !ok {
		b.mu.Unlock()
		return refuse("This test takes no places")
	}
	why := p.Place(part, what)
	m := record.Mark{Time: l.log.Last(), Text: b.live.PlaceWords(part, what), Key: bench.PlaceKey(part, what)}
	b.mu.Unlock()
	if why != "" {
		return refuse("%s", why)
	}
	r, err := b.hub.shop.MarkRun(ctx, form, l.run.ID, m)
	if err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(r.Marks) > len(l.run.Marks) { // not the same form twice
		l.watch.Mark(m.Time, m.Key)
	}
	l.run.Marks = r.Marks
	b.changed()
	return nil
}

// MoveStart puts the start of the hold at a time of the stretch; 0 recognises it again.
func (b *Bench) MoveStart(ctx context.Context, form string, at float64) error {
	b.mu.Lock()
	l := b.leg
	last := 0.0
	if l != nil {
		last = l.log.Last()
	}
	b.mu.Unlock()
	if l == nil {
		return refuse("No leg is being read")
	}
	if math.IsNaN(at) || at < 0 || at > last-5 {
		return refuse("The hold can start from 0 to %.0f s: five seconds must lie behind it", math.Max(last-5, 0))
	}
	if err := b.hub.shop.CutRun(ctx, form, l.run.ID, at, 0); err != nil {
		return err
	}
	b.mu.Lock()
	l.run.Start = at
	b.changed()
	b.mu.Unlock()
	return nil
}

// next is the stretch that comes now; nil when all that the verdict needs are in. The bench is
// locked.
func (b *Bench) next() *bench.Stretch {
	for _, s := range b.live.Bench.Stretches(b.known()) {
		if !s.Done && !s.Maybe {
			return &s
		}
	}
	return nil
}
