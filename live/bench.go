package live

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"wexter/casework"
	"wexter/core/bench"
	"wexter/core/record"
	"wexter/instrument"
)

// Bench is one test being read: its instruments, the stretch that is read just now, and who
// drives.
type Bench struct {
	hub     *Hub
	test    string
	number  string
	seats   []*seat // the first one's clock is the bench's
	columns int
	permits bool // what the system is permitted bounds the pressure of the rig
	cancel  context.CancelFunc
	tapping sync.Mutex // one mark at a time; before mu

	mu       sync.Mutex
	tapped   string // the form of the last mark
	live     casework.LiveTest
	starting bool      // a stretch is being begun
	relieved bool      // the rig was told to open, over what is permitted
	moved    time.Time // when something was last told to charge, draw or energise
	driven   bool      // a valve stands commanded
	seen     time.Time // when the first instrument measured last
	disk     string    // when readings cannot be written
	leg      *leg
	result   string  // of the stretch that ended last, or what an instrument that is back takes up
	back     float64 // when it was back, on its clock; 0: not lately
	version  int     // counts up with everything a browser shows beside readings
	bell     int     // counts up when a stretch is done or a verdict firm
	looked   time.Time
	estimate *Estimate
	counted  int // of estimates
	driver   driver
}

// Estimate is what the readings say so far.
type Estimate struct {
	casework.Estimate
	Test casework.LiveTest
	Read bench.Readings // so far
	Said string         // why there is none
	At   float64
	Run  string
}

func (b *Bench) reading() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.leg != nil
}

func (b *Bench) changed() { b.version++ }

// zero is what is taken off a column before it is shown.
func (b *Bench) zero(key string) float64 {
	return b.live.Zero(key)
}

// diskSays notes whether the last commit went well.
func (b *Bench) diskSays(err error) {
	words := ""
	if err != nil {
		words = "Readings cannot be written to disk: check whether it is full. They are kept in memory meanwhile."
	}
	if words != b.disk {
		b.disk = words
		b.changed()
	}
}

// met writes into a hold's set-up with what gauge it is read.
func (b *Bench) met(a instrument.About) {
	err := b.hub.shop.MeetGauge(b.hub.ctx, b.test, casework.Gauge{Name: a.Name, Range: a.Range, Resolution: a.Resolution, CalibratedOn: a.CalibratedOn, Orifice: a.Orifice})
	if err = errors.Join(err, b.Refresh()); err != nil { // it is read all the same
		slog.Error("the set-up does not say what it was read with", "test", b.test, "err", err)
	}
}

// Refresh reads the test again, after its set-up or stretches were changed elsewhere.
func (b *Bench) Refresh() error {
	t, err := b.hub.shop.LiveTest(context.WithoutCancel(b.hub.ctx), b.test)
	if err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.live = t
	b.changed()
	return nil
}

// known is what is known before a stretch is read. The bench is locked.
func (b *Bench) known() bench.Known {
	resolution := 0.0
	if c := b.seats[0].shown; len(c) > 0 {
		resolution = c[0].Resolution
	}
	k := b.live.Known(b.works, resolution)
	k.Has = func(column string) bool {
		return slices.ContainsFunc(b.seats, func(s *seat) bool { return slices.Contains(s.keys, column) })
	}
	for _, s := range b.seats {
		if s.about.Orifice > 0 && k.Orifice == 0 {
			k.Orifice = s.about.Orifice
		}
	}
	return k
}

// works reports what can be told from here. The bench is locked.
func (b *Bench) works(v bench.Verb) bool { return b.worker(v) != nil }

// worker is the seat whose instrument takes the command of a step.
func (b *Bench) worker(v bench.Verb) *seat {
	c, ok := commands[v]
	if !ok {
		return nil
	}
	for _, s := range b.seats {
		if s.about.Can(c) {
			return s
		}
	}
	return nil
}

// backSeconds is how long it is said what an instrument that is back takes up.
const backSeconds = 15.0

// takesUp says which stretch goes on, and where, when the first instrument measures again at a
// time.
func (b *Bench) takesUp(at float64) {
	l := b.leg
	switch {
	case l == nil || l.ending:
		b.back = 0
	case b.seats[0].status != On:
		t := int(at - l.run.Origin)
		b.back, b.result = at, fmt.Sprintf("The instrument measures again: the %s goes on at %d:%02d.", strings.ToLower(l.name()), t/60, t%60)
		b.changed()
	case b.back > 0 && at-b.back > backSeconds:
		b.back, b.result = 0, ""
		b.changed()
	}
}

// name is what the stretch is called.
func (l *leg) name() string {
	if w := l.run.Kind.Words(); w != "" {
		return w
	}
	return l.stretch.Name
}

// recognised puts a mark of the test's own code down.
func (b *Bench) recognised(l *leg, m record.Mark) {
	r, err := b.hub.shop.MarkRun(context.Background(), "", l.run.ID, m)
	if err != nil {
		slog.Error("an event could not be marked", "test", b.test, "err", err)
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	l.run.Marks = r.Marks
	b.changed()
}

// end writes the stretch out and closes it.
func (b *Bench) end(e ending) {
	b.mu.Lock()
	l := b.leg
	if l == nil || l.ending {
		b.mu.Unlock()
		return
	}
	l.ending = true
	b.mu.Unlock()
	fail := func(words string) {
		b.mu.Lock()
		defer b.mu.Unlock()
		l.ending = false
		if words != "" {
			b.seats[0].say(b.seats[0].status, words)
		}
	}
	if err := b.hub.flush(); err != nil {
		fail("")
		return
	}
	b.mu.Lock()
	told := l.watch.Told()
	l.run.Watched = e.cut && l.stretch.Firm // a verdict that was watched stands only with the wider factor
	l.run.Notes = append(l.run.Notes, told.Notes...)
	if e.note != "" {
		l.run.Notes = append(l.run.Notes, e.note)
	}
	l.run.Says = told.Says
	l.run.Channels = b.timed(l.run.Channels)
	run := l.run
	b.mu.Unlock()
	if err := b.hub.shop.EndRun(context.Background(), run, told.Readings); err != nil {
		fail(casework.Sentence(err.Error()))
		return
	}
	words := told.Says
	if e.said != "" {
		words = e.said
	}
	// The test is read again before the stretch is let go, so that nobody sees the bench without both.
	if err := errors.Join(b.hub.shop.Learn(context.Background(), b.test, told.Learned), b.Refresh()); err != nil {
		slog.Error("what a stretch told is not in the set-up", "test", b.test, "err", err)
	}
	b.mu.Lock()
	b.leg, b.result = nil, words
	b.bell++
	b.changed()
	b.mu.Unlock()
	switch {
	case l.stretch.Rests || e.rest:
		b.hub.wg.Go(func() { b.rest(l.stretch.Leave) })
	case !e.cut:
		b.hub.wg.Go(b.follow)
	}
}

// follow begins what follows by itself.
func (b *Bench) follow() {
	b.mu.Lock()
	next := b.next()
	b.mu.Unlock()
	if next == nil || !next.Follows {
		return
	}
	ctx, cancel := context.WithTimeout(b.hub.ctx, 10*time.Second)
	defer cancel()
	if err := b.start(ctx, next.Key, asLeft); err != nil {
		slog.Error("what follows could not be begun; everything is put to rest", "test", b.test, "err", err)
		b.rest(nil)
		b.mu.Lock()
		defer b.mu.Unlock()
		b.result = casework.Upper(err.Error()) + ". Everything was put to rest."
		b.changed()
	}
}

// timed are a run's channels with how well the moments of their readings are known. The bench is
// locked.
func (b *Bench) timed(cs record.Channels) record.Channels {
	cs = slices.Clone(cs)
	for _, s := range b.seats {
		for i := range s.keys {
			if s.first+i < len(cs) {
				cs[s.first+i].Within = s.within()
			}
		}
	}
	return cs
}

// rest opens the rig and lets valves go, where that is done from here, and does what a stretch
// leaves to be done.
func (b *Bench) rest(leave []bench.Step) {
	b.mu.Lock()
	b.driven = false
	orders := append(b.resting(), b.orders(leave)...)
	b.mu.Unlock()
	ctx, cancel := context.WithTimeout(b.hub.ctx, 5*time.Second)
	defer cancel()
	for _, o := range orders {
		b.mu.Lock()
		g := o.seat.gauge
		b.mu.Unlock()
		if g != nil {
			_ = g.Do(ctx, o.Command) // one that does not hear it rests by itself
		}
	}
}

// attend sees to it that what is worked from here is never left alone. As long as somebody looks
// it is told to stay as it is, otherwise it goes to rest by itself: when this program is killed,
// when the link is gone. When nobody has looked for a while the stretch ends and everything is
// put to rest from here.
func (b *Bench) attend() {
	b.mu.Lock()
	l, unseen := b.leg, time.Since(b.looked)
	works := slices.ContainsFunc(b.seats, func(s *seat) bool {
		return s.gauge != nil && slices.ContainsFunc([]string{instrument.Charge, instrument.Regulate, instrument.Valve}, s.about.Can)
	})
	// A gauge that is only read may be left alone, and is: a night is watched with the page closed.
	moved := l != nil && (b.driven || b.live.Bench.Energises())
	alone := works && moved && !l.ending && unseen > aloneAfter
	blind := b.driven && time.Since(b.seen) > blindAfter
	var keep []instrument.Instrument
	for _, s := range b.seats {
		if works && !alone && !blind && unseen <= aloneAfter && s.gauge != nil && s.about.Can(instrument.Keep) && time.Since(s.kept) >= keepEvery {
			s.kept = time.Now()
			keep = append(keep, s.gauge)
		}
	}
	b.mu.Unlock()
	if alone {
		b.end(ending{cut: true, rest: true, note: "Nobody was looking for a minute: the rig was opened, and the leg ends there.",
			said: "Nobody was looking for a minute: the rig was opened. What was read is kept."})
		b.hub.wg.Go(func() { b.rest(l.stretch.Leave) })
	}
	if blind {
		said := "Nothing was measured for some seconds while the car was worked from here: everything was put to rest."
		b.end(ending{cut: true, rest: true, note: said, said: said + " What was read is kept."})
		b.hub.wg.Go(func() { b.rest(nil) })
	}
	for _, g := range keep {
		b.hub.wg.Go(func() {
			ctx, cancel := context.WithTimeout(b.hub.ctx, keepEvery)
			defer cancel()
			_ = g.Do(ctx, instrument.Command{Do: instrument.Keep, Keep: keepSeconds}) // one that does not hear it opens
		})
	}
}

// blindAfter is how long nothing may be measured while a valve is commanded or a vacuum drawn.
const blindAfter = 3 * time.Second

// judgedAfter is how much of a stretch must have been read before it is judged, s.
const judgedAfter = 5.0

// judge estimates twice a second while a stretch is read whose readings are judged, and ends one
// that may go on when at its planned end the verdict is firm.
func (b *Bench) judge(ctx context.Context) {
	tick := time.NewTicker(estimateEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		b.mu.Lock()
		l, t := b.leg, b.live
		if l == nil || l.ending || !l.stretch.Judged {
			b.mu.Unlock()
			continue
		}
		held, counts := l.held()
		run, log, past, told := l.run, l.log.So(), l.past, l.watch.Told().Readings
		b.mu.Unlock()
		if !counts || held < judgedAfter {
			continue
		}
		planned := l.stretch.Firm && !past && held >= run.Planned
		e := &Estimate{At: held, Run: run.ID, Test: t, Read: t.Readings().With(told)}
		run.Watched = run.Watched || !planned
		est, err := t.Judge(run, log, told)
		if err != nil {
			e.Said = casework.Sentence(err.Error())
		} else {
			e.Estimate = est
		}
		firm := err == nil && est.Firm
		b.mu.Lock()
		if b.leg != l {
			b.mu.Unlock()
			continue
		}
		b.estimate = e
		b.counted++
		if planned {
			l.past = true
			l.run.Watched = !firm
			b.changed()
		}
		if firm && l.stretch.Firm && !l.firm {
			l.firm = true
			b.bell++
			b.changed()
		}
		b.mu.Unlock()
		if planned && firm {
			b.end(ending{})
		}
	}
}

// Devices are the instruments of the bench, its first one first.
func (b *Bench) Devices() (out []record.Device) {
	for _, s := range b.seats {
		out = append(out, s.source.device)
	}
	return out
}
