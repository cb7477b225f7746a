package live

import (
	"context"
	"fmt"
	"math"
	"strings"
	"sync"
	"time"

	"wexter/casework"
	"wexter/core/decay"
	"wexter/core/record"
	"wexter/core/units"
	"wexter/ingest"
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
	hub     *Hub
	test    string
	number  string
	address string
	cancel  context.CancelFunc

	mu       sync.Mutex
	live     casework.LiveTest
	gauge    Gauge
	about    instrument.About
	status   Status
	said     string // about the module, a sentence
	starting bool   // a leg is being begun
	relieved bool   // the rig was told to open, over what is permitted
	disk     string // when readings cannot be written
	last     instrument.Reading
	has      bool
	leg      *leg
	result   string // of the leg that ended last
	version  int    // counts up with everything a browser shows beside readings
	bell     int    // counts up when a leg is done or a verdict firm
	looked   time.Time
	estimate *Estimate
	counted  int // of estimates
}

// leg is a run being read.
type leg struct {
	run     record.Run
	log     ingest.Log // appended to only
	written int        // readings on disk
	blocks  int
	resumed bool
	ending  bool
	// Of the charge, worked out as readings come.
	phase  Phase
	peak   float64 // largest |p|
	peakAt float64
	sign   float64
	shutAt float64
	over   bool   // beyond the range now
	fault  string // why the module measures nothing now
	firm   bool   // said so
	past   bool   // the planned end has passed
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
		words = "Readings cannot be written to disk: look whether it is full. They are kept in memory meanwhile."
	}
	if words != b.disk {
		b.disk = words
		b.changed()
	}
}

// read keeps a connection to the module and takes its readings.
func (b *Bench) read(ctx context.Context) {
	wait := 200 * time.Millisecond
	for ctx.Err() == nil {
		g, err := b.hub.dial(ctx, b.address)
		if err == nil {
			err = b.connected(g)
			if err == nil {
				wait = 200 * time.Millisecond
				err = b.listen(ctx, g)
			}
			g.Close()
			b.mu.Lock()
			b.gauge = nil
			b.mu.Unlock()
		}
		if ctx.Err() != nil {
			return
		}
		b.mu.Lock()
		if b.status != Lost {
			words := casework.Upper(err.Error()) + "."
			if b.leg != nil {
				words += " Look at its cable and its power. The leg waits; what was read is kept, and the gap is not judged."
			}
			b.has = false
			b.say(Lost, words)
		}
		b.mu.Unlock()
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
		wait = min(2*wait, 2*time.Second)
	}
}

// connected takes a module that answers. A leg goes on only when it is the module
// the leg began with and its clock has gone on.
func (b *Bench) connected(g Gauge) error {
	a := g.About()
	b.mu.Lock()
	l := b.leg
	other := l != nil && (a.Session != l.run.Source.Session || a.Serial != l.run.Source.Serial)
	b.gauge, b.about = g, a
	b.mu.Unlock()
	if other {
		b.end(func(r *record.Run) {
			r.Watched = true
			r.Notes = append(r.Notes, "The module was started anew while this was read: the leg ends where the readings ended.")
		}, "The module was started anew: the leg ends where its readings ended. Make it again.")
	}
	// What was wrong stays said until a reading has come: take says when it has.
	return b.note(func(su *record.Setup) {
		in := &su.Instrument
		in.Name, in.Range, in.Resolution, in.CalibratedOn = a.Name, a.Range, a.Resolution, a.CalibratedOn
		if su.Reference == 0 && a.Orifice > 0 {
			su.Reference = a.Orifice
		}
	})
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

func (b *Bench) listen(ctx context.Context, g Gauge) error {
	for {
		r, err := g.Next(ctx)
		if err != nil {
			return err
		}
		if done := b.take(r); done {
			b.finish()
		}
	}
}

// take is one reading; it reports whether the leg has come to its end by itself.
func (b *Bench) take(r instrument.Reading) (done bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if r.Fault != "" {
		b.has = false
		words := casework.Upper(r.Fault) + "."
		if b.leg != nil {
			words += " The leg waits; what was read is kept, and the gap is not judged."
			b.leg.fault = r.Fault
		}
		b.say(Fault, words)
		return false
	}
	b.last, b.has = r, true
	l := b.leg
	if r.Over {
		b.say(On, fmt.Sprintf("Over the range of the module, %.0f inH2O: nothing beyond is read. Open the rig.", b.about.Range/units.InH2O))
		if l != nil {
			l.over = true
		}
		return false
	}
	words := ""
	switch p := r.Pressure - b.live.Test.Setup.Instrument.Zero; {
	case p > 1.02*b.live.Arch.MaxPa:
		words = fmt.Sprintf("Over the %.1f inH2O this system is permitted: open the rig now.", b.live.Arch.MaxPa/units.InH2O)
	case -p > 1.02*b.live.Arch.MaxVacPa:
		words = fmt.Sprintf("Below the %.1f inH2O of vacuum this tank is permitted: open the rig now.", b.live.Arch.MaxVacPa/units.InH2O)
	}
	if words != "" && !b.relieved && b.gauge != nil && can(b.about, instrument.Open) {
		g := b.gauge
		b.hub.wg.Go(func() { b.release(g, "") })
	}
	b.relieved = words != ""
	if words != "" && can(b.about, instrument.Open) {
		words = strings.TrimSuffix(words, ": open the rig now.") + ": the rig has been told to open. See that it does."
	}
	b.say(On, words)
	if l == nil || l.ending {
		return false
	}
	return l.add(r, b)
}

// add takes a reading into the leg.
func (l *leg) add(r instrument.Reading, b *Bench) (done bool) {
	t := r.Time - l.run.Origin
	n := len(l.log.Time)
	if n > 0 && t <= l.log.Time[n-1] || n == 0 && t <= 0 {
		return false // doubled, or from before the leg
	}
	if n > 0 && (l.over || l.fault != "" || t-l.log.Time[n-1] > math.Max(gapSeconds, 5/math.Max(b.about.Rate, 0.1))) {
		why := "the module did not answer"
		switch {
		case l.resumed:
			why = "Wexter was stopped"
		case l.over:
			why = "over the range"
		case l.fault != "":
			why = l.fault
		}
		l.run.Gaps = append(l.run.Gaps, record.Gap{From: l.log.Time[n-1], To: t, Why: why})
		b.changed()
		run := l.run
		b.hub.wg.Go(func() { _ = b.hub.shop.KeepGaps(context.Background(), run) })
	}
	l.resumed, l.over, l.fault = false, false, ""
	wall := math.NaN()
	if r.Wall != nil {
		wall = *r.Wall
	}
	switch {
	case n == 0 && r.Wall != nil:
		l.log.Wall = []float64{wall}
	case l.log.Wall != nil && r.Wall != nil:
		l.log.Wall = append(l.log.Wall, wall)
	case l.log.Wall != nil:
		l.log.Wall = append(l.log.Wall, l.log.Wall[n-1])
	}
	l.log.Time, l.log.Gauge = append(l.log.Time, t), append(l.log.Gauge, r.Pressure)
	before := l.phase
	l.step(t, r.Pressure-b.live.Test.Setup.Instrument.Zero, b.target(l.run.Kind))
	if l.phase != before {
		b.changed()
	}
	switch l.run.Kind {
	case record.RunZero, record.RunDrift:
		return t-l.log.Time[0] >= l.run.Planned
	case record.RunRig:
		return l.shutAt > 0 && t-l.shutAt >= l.run.Planned
	}
	return false
}

// step works out the phase: charging until the pressure has stood below its peak for
// a second, settling, holding.
func (l *leg) step(t, p, target float64) {
	if l.run.Kind == record.RunZero || l.run.Kind == record.RunDrift {
		l.phase = Holding
		return
	}
	if l.phase == "" {
		l.phase = Charging
	}
	if math.Abs(p) > l.peak {
		l.peak, l.peakAt, l.sign = math.Abs(p), t, math.Copysign(1, p)
	}
	switch l.phase {
	case Charging:
		if l.peak > 0.3*math.Abs(target) && t-l.peakAt >= 1 {
			l.phase, l.shutAt = Settling, l.peakAt
		}
	default:
		if l.sign*p > l.peak-1e-9 && l.peakAt > l.shutAt+1.5 && l.sign*p > 1.03*math.Abs(target) {
			l.phase, l.shutAt = Charging, 0 // topped up
			return
		}
		if t-l.shutAt >= settleTime {
			l.phase = Holding
		}
	}
}

// replay works the phase out of readings taken from disk.
func (l *leg) replay(live casework.LiveTest) {
	for i, t := range l.log.Time {
		l.step(t, l.log.Gauge[i]-live.Test.Setup.Instrument.Zero, live.ChargeTo(l.run.Kind))
	}
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
func (b *Bench) release(g Gauge, kind record.RunKind) {
	ctx, cancel := context.WithTimeout(b.hub.ctx, 5*time.Second)
	defer cancel()
	if !can(g.About(), instrument.Open) {
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

func can(a instrument.About, command string) bool {
	for _, c := range a.Commands {
		if c == command {
			return true
		}
	}
	return false
}

// learn says what a leg that ended told about the gauge or the rig.
func (l *leg) learn(b *Bench) (string, func(*record.Setup)) {
	n := len(l.log.Time)
	if n < 2 {
		return "Nothing was read in this leg.", nil
	}
	switch l.run.Kind {
	case record.RunZero:
		mean, sd := stats(l.log.Gauge)
		if sd > math.Max(25, 5*b.about.Resolution) {
			return fmt.Sprintf("The gauge did not stand still at zero (it scatters by %.0f Pa): is the rig open to the air?", sd), nil
		}
		if math.Abs(mean) > 500 {
			return fmt.Sprintf("The gauge reads %.2f inH2O open to the air: too far from zero to be taken off. Is the rig open?", mean/units.InH2O), nil
		}
		return fmt.Sprintf("Zero is %+.1f Pa; it is taken off.", mean), func(su *record.Setup) { su.Instrument.Zero = mean }
	case record.RunRig:
		i := 0
		for i < n && l.log.Time[i] < l.shutAt+10 {
			i++
		}
		if l.shutAt == 0 || n-i < 20 {
			return "The rig was not charged, or too short: nothing is known of it.", nil
		}
		k := max(1, (n-i)/10)
		first, _ := stats(l.log.Gauge[i : i+k])
		last, _ := stats(l.log.Gauge[n-k:])
		span := l.log.Time[n-1-k/2] - l.log.Time[i+k/2]
		loss := l.sign * (first - last) * 60 / span
		// Held: what it loses in a minute is below the gauge's step or a hundredth of the pressure.
		if loss <= math.Max(2*b.about.Resolution, 0.01*l.peak) {
			return fmt.Sprintf("The rig holds by itself: %.0f Pa lost in a minute.", math.Max(loss, 0)),
				func(su *record.Setup) { su.Instrument.RigHeld, su.Instrument.RigLoss = record.RigHeld, 0 }
		}
		return fmt.Sprintf("The rig loses %.0f Pa in a minute by itself: mend it before the car is judged.", loss),
			func(su *record.Setup) { su.Instrument.RigHeld, su.Instrument.RigLoss = record.RigLost, loss }
	case record.RunDrift:
		first, _ := stats(l.log.Gauge[:max(1, n/10)])
		last, _ := stats(l.log.Gauge[n-max(1, n/10):])
		return fmt.Sprintf("Drift %+.2f Pa/s over %.0f s.", (last-first)/(l.log.Time[n-1]*0.9), l.log.Time[n-1]), nil
	}
	return "", nil
}

func stats(x []float64) (mean, sd float64) {
	for _, v := range x {
		mean += v / float64(len(x))
	}
	for _, v := range x {
		sd += (v - mean) * (v - mean) / float64(len(x))
	}
	return mean, math.Sqrt(sd)
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
func (b *Bench) Address() string { return b.address }
