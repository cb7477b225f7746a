package live

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"wexter/casework"
	"wexter/core/decay"
	"wexter/core/record"
	"wexter/core/units"
	"wexter/instrument"
)

// Status of a bench's module.
type Status string

// The states: no answer yet, reading, answering but measuring nothing, gone.
const (
	Looking Status = "looking"
	On      Status = "on"
	Fault   Status = "fault"
	Lost    Status = "lost"
)

// Phase is how far a leg has come; empty before its first reading.
type Phase string

// Phases of a leg.
const (
	Charging Phase = "charge"
	Settling Phase = "settle"
	Holding  Phase = "hold"
)

const (
	rigSeconds  = 60.0
	zeroSeconds = 5.0
	settleTime  = 15.0  // s after the charge, shown as settling; the fit takes it in
	gapSeconds  = 1.0   // without a reading
	holdWithout = 180.0 // s planned when no hold is known to tell
	leastHold   = 60.0  // s planned at least: the gas gives off its heat meanwhile
)

// Bench is one test being read.
type Bench struct {
	hub    *Hub
	test   string
	number string
	source *source
	cancel context.CancelFunc

	mu        sync.Mutex
	live      casework.LiveTest
	gauge     instrument.Instrument
	about     instrument.About
	status    Status
	said      string    // about the module, a sentence
	starting  bool      // a leg is being begun
	relieved  bool      // the rig was told to open, over what is permitted
	moved     time.Time // when the rig was last told to charge or to draw
	kept      time.Time // when it was last told to stay as it is
	disk      string    // when readings cannot be written
	last      instrument.Reading
	has       bool
	clock     clock
	untrusted int // readings until the module is trusted again after a fault
	leg       *leg
	result    string  // of the leg that ended last, or what a module that is back takes up
	back      float64 // when it was back, on the module's clock; 0: not lately
	version   int     // counts up with everything a browser shows beside readings
	bell      int     // counts up when a leg is done or a verdict firm
	looked    time.Time
	estimate  *Estimate
	counted   int // of estimates
}

// Estimate is what the readings say so far.
type Estimate struct {
	Sum  record.Summary
	Said string // why there is none
	At   float64
	Run  string
}

func (b *Bench) reading() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.leg != nil
}

func (b *Bench) changed() { b.version++ }

func (b *Bench) say(s Status, words string) {
	if b.status != s || b.said != words {
		b.status, b.said = s, words
		b.changed()
	}
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

// gone says that the module no longer answers, and why.
func (b *Bench) gone(words string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.gauge = nil
	if b.status == Lost {
		return
	}
	if b.leg != nil {
		words += " Look at its cable and its power. The leg waits; what was read is kept, and the gap is not judged."
	}
	b.has = false
	b.say(Lost, words)
}

// connected takes a module that answers. A leg goes on only when it is the module
// the leg began with and its clock has gone on.
func (b *Bench) connected(g instrument.Instrument) {
	a := g.About()
	b.mu.Lock()
	l := b.leg
	other := l != nil && (a.Session != l.run.Source.Session || a.Serial != l.run.Source.Serial)
	if a.Session == b.about.Session || l != nil && !other {
		b.clock.silent = true
	} else {
		b.clock = clock{}
	}
	b.gauge, b.about = g, a
	b.mu.Unlock()
	if other {
		b.end(func(r *record.Run) {
			r.Watched = true
			r.Notes = append(r.Notes, "The module restarted while this was read: the leg ends where the readings ended.")
		}, "The module restarted: the leg ends where its readings ended. Repeat it.")
	}
	// What was wrong stays said until a reading has come: take says when it has.
	err := b.note(func(su *record.Setup) {
		in := &su.Instrument
		in.Name, in.Range, in.Resolution, in.CalibratedOn = a.Name, a.Range, a.Resolution, a.CalibratedOn
		if su.Reference == 0 && a.Orifice > 0 {
			su.Reference = a.Orifice
		}
	})
	if err != nil { // it is read all the same
		slog.Error("the set-up does not say what it was read with", "test", b.test, "err", err)
	}
}

// note writes into the set-up and reads the test again.
func (b *Bench) note(change func(*record.Setup)) error {
	if err := b.hub.shop.NoteGauge(b.hub.ctx, b.test, change); err != nil {
		return err
	}
	return b.Refresh()
}

// Refresh reads the test again, after its set-up or legs were changed elsewhere.
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

// close ends the leg as its last reading said.
func (b *Bench) close(e ending) {
	switch e {
	case atPlan:
		b.finish()
	case full:
		b.broken(fmt.Sprintf("%d readings are as many as a leg holds", record.MostLive))
	case turned:
		b.broken("The module's clock was set back while this was read")
	case gone:
		b.end(func(r *record.Run) { r.Watched = false }, "The pressure is gone: what was read is kept. Charge again for another hold.")
	}
}

// broken ends the leg where its readings end, and says why.
func (b *Bench) broken(why string) {
	b.end(func(r *record.Run) {
		r.Watched = true
		r.Notes = append(r.Notes, why+": the leg ends where the readings ended.")
	}, why+": the leg ends where its readings ended.")
}

// take is one reading; it says how the leg ends with it.
func (b *Bench) take(r instrument.Reading) ending {
	b.mu.Lock()
	defer b.mu.Unlock()
	turnedBack := false
	if r.Fault == "" {
		r.Fault, turnedBack = b.clock.fits(r.Time)
	}
	if turnedBack && b.leg != nil {
		return turned
	}
	if r.Fault != "" {
		b.faulty(r.Fault)
		return goesOn
	}
	// After a fault the first readings are not trusted yet: a plug that is only just in
	// may be out again.
	if b.untrusted > 0 {
		b.untrusted--
		return goesOn
	}
	shown, ok := r.Of(instrument.PressureKey)
	if !ok {
		b.faulty("the module sent a reading without a pressure")
		return goesOn
	}
	b.last, b.has = r, true
	l := b.leg
	if shown.Over {
		b.say(On, fmt.Sprintf("Over the range of the module, %.0f inH2O: nothing beyond is read. Open the rig.", b.about.Range/units.InH2O))
		if l != nil {
			l.over = true
		}
		return goesOn
	}
	words := ""
	switch p := shown.Value - b.live.Test.Setup.Instrument.Zero; {
	case p > 1.02*b.live.Arch.MaxPa:
		words = fmt.Sprintf("Over the %.1f inH2O this system is permitted: open the rig now.", b.live.Arch.MaxPa/units.InH2O)
	case -p > 1.02*b.live.Arch.MaxVacPa:
		words = fmt.Sprintf("Below the %.1f inH2O of vacuum this tank is permitted: open the rig now.", b.live.Arch.MaxVacPa/units.InH2O)
	}
	if words != "" && !b.relieved && b.gauge != nil && b.about.Can(instrument.Open) {
		g := b.gauge
		b.hub.wg.Go(func() { b.release(g, "") })
	}
	b.relieved = words != ""
	if words != "" && b.about.Can(instrument.Open) {
		words = strings.TrimSuffix(words, ": open the rig now.") + ": the rig has been told to open. See that it does."
	}
	b.takesUp(r.Time)
	b.say(On, words)
	if l == nil || l.ending {
		return goesOn
	}
	return l.add(r, b)
}

// backSeconds is how long it is said what a module that is back takes up.
const backSeconds = 15.0

// takesUp says which leg goes on, and where, when the module measures again at a time.
func (b *Bench) takesUp(at float64) {
	l := b.leg
	switch {
	case l == nil || l.ending:
		b.back = 0
	case b.status != On:
		t := int(at - l.run.Origin)
		b.back, b.result = at, fmt.Sprintf("The module measures again: the %s goes on at %d:%02d.", strings.ToLower(l.run.Kind.Words()), t/60, t%60)
		b.changed()
	case b.back > 0 && at-b.back > backSeconds:
		b.back, b.result = 0, ""
		b.changed()
	}
}

// faulty takes a line of the module in which nothing was measured: the figure goes out.
func (b *Bench) faulty(why string) {
	b.has = false
	b.untrusted = int(min(max(b.about.Rate/2, 1), 5))
	words := casework.Upper(why) + "."
	if b.leg != nil {
		words += " The leg waits; what was read is kept, and the gap is not judged."
		b.leg.fault = why
	}
	b.say(Fault, words)
}

func (b *Bench) target(kind record.RunKind) float64 { return b.live.ChargeTo(kind) }

// finish ends the leg at its planned end.
func (b *Bench) finish() {
	b.end(func(r *record.Run) { r.Watched = false }, "")
}

// end writes the leg out and closes it; said replaces the words about it.
func (b *Bench) end(change func(*record.Run), said string) {
	b.mu.Lock()
	l := b.leg
	if l == nil || l.ending {
		b.mu.Unlock()
		return
	}
	l.ending = true
	b.mu.Unlock()
	if err := b.hub.flush(); err != nil {
		b.mu.Lock()
		l.ending = false
		b.mu.Unlock()
		return
	}
	change(&l.run)
	if err := b.hub.shop.EndRun(context.Background(), l.run); err != nil {
		b.mu.Lock()
		l.ending = false
		b.say(b.status, casework.Upper(err.Error())+".")
		b.mu.Unlock()
		return
	}
	words, set := l.learn(b)
	if said != "" {
		words = said
	}
	// The test is read again before the leg is let go, so that nobody sees the bench without both.
	if set == nil {
		set = func(*record.Setup) {}
	}
	_ = b.note(set)
	b.mu.Lock()
	b.leg, b.result = nil, words
	b.bell++
	b.changed()
	g := b.gauge
	b.mu.Unlock()
	if g != nil && l.run.Kind != record.RunDrift && l.run.Kind != record.RunZero {
		b.hub.wg.Go(func() { b.release(g, l.run.Kind) })
	}
}

// release opens a rig that can be worked from here.
func (b *Bench) release(g instrument.Instrument, kind record.RunKind) {
	ctx, cancel := context.WithTimeout(b.hub.ctx, 5*time.Second)
	defer cancel()
	if !g.About().Can(instrument.Open) {
		return
	}
	_ = g.Do(ctx, instrument.Command{Do: instrument.Open})
	if kind == record.RunRig {
		_ = g.Do(ctx, instrument.Command{Do: instrument.Car})
	}
	if kind == record.RunReference {
		_ = g.Do(ctx, instrument.Command{Do: instrument.Closed})
	}
}

// attend sees to it that a rig that is worked from here is never left alone. As long as
// somebody looks it is told to stay as it is, otherwise it opens by itself: when this program
// is killed, when the link is gone. When nobody has looked for a while the leg ends and the rig
// is opened from here.
func (b *Bench) attend() {
	b.mu.Lock()
	g, l := b.gauge, b.leg
	works := g != nil && b.about.Can(instrument.Charge)
	alone := works && l != nil && !l.ending && time.Since(b.looked) > aloneAfter
	keep := works && !alone && b.about.Can(instrument.Keep) && time.Since(b.looked) <= aloneAfter && time.Since(b.kept) >= keepEvery
	if keep {
		b.kept = time.Now()
	}
	b.mu.Unlock()
	if alone {
		b.end(func(r *record.Run) {
			r.Watched = true
			r.Notes = append(r.Notes, "Nobody was looking for a minute: the rig was opened, and the leg ends there.")
		}, "Nobody was looking for a minute: the rig was opened. What was read is kept.")
		b.hub.wg.Go(func() { b.release(g, l.run.Kind) })
	}
	if keep {
		b.hub.wg.Go(func() {
			ctx, cancel := context.WithTimeout(b.hub.ctx, keepEvery)
			defer cancel()
			_ = g.Do(ctx, instrument.Command{Do: instrument.Keep, Keep: keepSeconds}) // one that does not hear it opens
		})
	}
}

// judge estimates twice a second while a hold runs, and ends it when at its planned
// end the verdict is firm.
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
		ready := l != nil && !l.ending && (l.run.Kind == record.RunHold || l.run.Kind == record.RunVacuum || l.run.Kind == record.RunReference) && l.shutAt > 0
		if !ready {
			b.mu.Unlock()
			continue
		}
		run, log, shut, past := l.run, l.log, l.shutAt, l.past
		b.mu.Unlock()
		held := log.Time[len(log.Time)-1] - shut
		if held < 5 {
			continue
		}
		planned := !past && held >= run.Planned
		e := &Estimate{At: held, Run: run.ID}
		run.Watched = run.Watched || !planned
		sum, err := t.Judge(run, log)
		if err != nil {
			e.Said = casework.Upper(err.Error()) + "."
		} else {
			e.Sum = sum
		}
		firm := err == nil && sum.Verdict != decay.Undecided
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
		}
		if firm && !l.firm {
			l.firm = true
			b.bell++
			b.changed()
		}
		b.mu.Unlock()
		if planned && firm {
			b.finish()
		}
	}
}

// Address is the module's.
func (b *Bench) Address() string { return b.source.device.Address }
