package live

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"time"

	"wexter/casework"
	"wexter/core/bench"
	"wexter/core/record"
	"wexter/core/units"
	"wexter/instrument"
)

func refuse(format string, a ...any) error {
	return &casework.Problem{Sentence: fmt.Sprintf(format, a...)}
}

// Redo makes a leg again: when the new one is begun, the last leg of its kind is struck
// out.
func (b *Bench) Redo(ctx context.Context, kind record.RunKind) error {
	b.mu.Lock()
	runs := b.live.Runs
	b.mu.Unlock()
	if err := b.Start(ctx, kind); err != nil {
		return err
	}
	for i := len(runs) - 1; i >= 0; i-- {
		if runs[i].Kind == kind {
			if err := b.hub.shop.StampRun(ctx, "", runs[i].ID, casework.Strike); err != nil {
				return err
			}
			return b.Refresh()
		}
	}
	return nil
}

// driftSeconds is how long a drift leg is planned: a phase of the test like any other.
var driftSeconds = bench.With(bench.FromHole).Waits(bench.ShutRig)

// planned is how long each leg but the holds takes, s.
var planned = map[record.RunKind]float64{record.RunRig: rigSeconds, record.RunZero: zeroSeconds, record.RunDrift: driftSeconds}

// Start begins a leg. A rig that can be worked from here is set as the leg needs it.
func (b *Bench) Start(ctx context.Context, kind record.RunKind) error {
	b.mu.Lock()
	switch {
	case b.leg != nil, b.starting: // or somebody else's press is setting the rig just now
		b.mu.Unlock()
		return refuse("A leg is being read already; stop it first")
	case !b.has || b.status != On || b.gauge == nil:
		b.mu.Unlock()
		return refuse("The module is not measuring right now; wait until it is")
	}
	g, a, t := b.gauge, b.about, b.live
	before, after := rigFor(kind, t.ChargeTo(kind), a)
	if err := b.mayMove(after); err != nil {
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
	seconds, ok := planned[kind]
	if !ok {
		seconds = holdWithout
		if p, err := t.Plan(); err == nil && !math.IsNaN(p.Hold) {
			seconds = math.Max(p.Hold, leastHold)
		}
	}
	if err := work(ctx, g, before); err != nil {
		return err
	}
	b.mu.Lock()
	origin := b.last.Time
	b.mu.Unlock()
	r, err := b.hub.shop.BeginRun(ctx, b.test, casework.NewLive{Kind: kind, Origin: origin, Planned: seconds,
		From: record.Source{Address: b.source.device.Address, Name: a.Name, Serial: a.Serial, Session: a.Session}})
	if err != nil {
		return err
	}
	b.mu.Lock()
	b.leg, b.estimate, b.result = &leg{run: r}, nil, ""
	b.noteMove(after)
	b.changed()
	b.mu.Unlock()
	return work(ctx, g, after)
}

// deadTime is how long after a charge or a draw the next one waits: two presses of a gloved
// hand are one. Stop, and opening to the air, never wait.
const deadTime = 2 * time.Second

// moves reports whether one of the commands charges or draws, on this rig.
func (b *Bench) moves(commands []instrument.Command) bool {
	return slices.ContainsFunc(commands, func(c instrument.Command) bool {
		return (c.Do == instrument.Charge || c.Do == instrument.Draw) && b.about.Can(c.Do)
	})
}

// mayMove refuses what charges or draws too soon after the last such command. The bench is
// locked.
func (b *Bench) mayMove(commands []instrument.Command) error {
	if since := b.hub.shop.Now().Sub(b.moved); b.moves(commands) && since >= 0 && since < deadTime {
		return refuse("The rig was told to charge or draw a moment ago; wait two seconds and press again")
	}
	return nil
}

// noteMove notes the moment of a command that charges or draws. The bench is locked.
func (b *Bench) noteMove(commands []instrument.Command) {
	if b.moves(commands) {
		b.moved = b.hub.shop.Now()
	}
}

// work sends a rig the commands that it knows, one after another.
func work(ctx context.Context, g instrument.Instrument, commands []instrument.Command) error {
	a := g.About()
	for _, c := range commands {
		if a.Can(c.Do) {
			c.Keep = keepSeconds
			if err := g.Do(ctx, c); err != nil {
				return refuse("The rig does not do it: %v", err)
			}
		}
	}
	return nil
}

// rigFor says how a rig that can be worked stands before a leg and is moved after
// its first reading.
func rigFor(kind record.RunKind, target float64, a instrument.About) (before, after []instrument.Command) {
	do := func(s string) instrument.Command { return instrument.Command{Do: s} }
	car := []instrument.Command{do(instrument.Car), do(instrument.Open)}
	if a.Orifice > 0 {
		car = append(car, do(instrument.Closed))
	}
	charge := []instrument.Command{{Do: instrument.Charge, Target: target}}
	switch kind {
	case record.RunRig:
		return []instrument.Command{do(instrument.Plug)}, charge
	case record.RunZero:
		return car, nil
	case record.RunDrift:
		return append(car, do(instrument.Seal)), nil
	case record.RunVacuum:
		return car, []instrument.Command{{Do: instrument.Draw, Target: target}}
	case record.RunReference:
		return append(car, do(instrument.Known)), charge
	}
	return car, charge
}

// Stop ends the leg and keeps it.
func (b *Bench) Stop() error {
	b.mu.Lock()
	l := b.leg
	b.mu.Unlock()
	if l == nil {
		return nil // stopped already, from another browser
	}
	b.end(func(r *record.Run) {
		// The verdict was watched: it stands only with the wider factor, unless the planned end decided it.
		r.Watched = r.Kind.OfCar() && r.Kind != record.RunDrift
	}, "")
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

// Mark puts a word at this moment of the leg.
func (b *Bench) Mark(ctx context.Context, key, words string) error {
	b.mu.Lock()
	l := b.leg
	if l == nil || len(l.log.Time) == 0 {
		b.mu.Unlock()
		return refuse("No leg is being read, so there is nothing to mark")
	}
	at, id := l.log.Time[len(l.log.Time)-1], l.run.ID
	b.mu.Unlock()
	r, err := b.hub.shop.MarkRun(ctx, key, id, at, words)
	if err != nil {
		return err
	}
	b.mu.Lock()
	l.run.Marks = r.Marks
	b.changed()
	b.mu.Unlock()
	return nil
}

// MoveStart puts the start of the hold at a time of the leg; 0 recognises it again.
func (b *Bench) MoveStart(ctx context.Context, key string, at float64) error {
	b.mu.Lock()
	l := b.leg
	b.mu.Unlock()
	if l == nil {
		return refuse("No leg is being read")
	}
	b.mu.Lock()
	last := 0.0
	if n := len(l.log.Time); n > 0 {
		last = l.log.Time[n-1]
	}
	b.mu.Unlock()
	if math.IsNaN(at) || at < 0 || at > last-5 {
		return refuse("The hold can start from 0 to %.0f s: five seconds must lie behind it", math.Max(last-5, 0))
	}
	if err := b.hub.shop.CutRun(ctx, key, l.run.ID, at, 0); err != nil {
		return err
	}
	b.mu.Lock()
	l.run.Start = at
	b.changed()
	b.mu.Unlock()
	return nil
}

// Rig works a rig that can be worked from here.
func (b *Bench) Rig(ctx context.Context, command string) error {
	b.mu.Lock()
	kind := record.RunHold
	if command == instrument.Draw {
		kind = record.RunVacuum
	}
	g, a, target := b.gauge, b.about, b.live.ChargeTo(kind)
	var soon error
	if g != nil && a.Can(command) {
		if soon = b.mayMove([]instrument.Command{{Do: command}}); soon == nil {
			b.noteMove([]instrument.Command{{Do: command}})
		}
	}
	b.mu.Unlock()
	switch {
	case g == nil:
		return refuse("The module does not answer")
	case !a.Can(command):
		return refuse("This rig is worked by hand")
	case soon != nil:
		return soon
	}
	if err := g.Do(ctx, instrument.Command{Do: command, Target: target, Keep: keepSeconds}); err != nil {
		return refuse("The rig does not do it: %v", err)
	}
	return nil
}

// StepState says how far a step of the bench has come.
type StepState string

// The states of a step. Maybe is one that would only make the verdict sharper.
const (
	StepDone  StepState = "done"
	StepNow   StepState = "now"
	StepNext  StepState = "next"
	StepLater StepState = "later"
	StepMaybe StepState = "maybe"
)

// Step is a leg of the test as the bench lists it.
type Step struct {
	Key    string         `json:"key"` // of a leg, or of a phase of the hold
	Name   string         `json:"name"`
	State  StepState      `json:"state"`
	Detail string         `json:"detail"`
	Leg    record.RunKind `json:"leg"` // what starting it begins; empty when it follows by itself
}

// View is what a browser shows beside the readings. Everything in it is the same
// for all who look.
type View struct {
	Version  int            `json:"version"`
	Status   Status         `json:"status"`
	Said     string         `json:"said"`
	Disk     string         `json:"disk"`
	Module   string         `json:"module"`
	Rate     float64        `json:"rate"`
	Leg      record.RunKind `json:"leg"` // kind, empty between legs
	Run      string         `json:"run"`
	LegName  string         `json:"leg_name"`
	Phase    Phase          `json:"phase"`
	Planned  float64        `json:"planned"`
	ShutAt   float64        `json:"shut_at"`
	Next     string         `json:"next"`
	Result   string         `json:"result"`
	Start    record.RunKind `json:"start"` // kind that the main button starts
	Bell     int            `json:"bell"`
	Steps    []Step         `json:"steps"`
	Marks    []Mark         `json:"marks"`
	Gaps     []Gap          `json:"gaps"`
	Commands []string       `json:"commands"`
	Moved    float64        `json:"moved"` // start set by hand
}

// Mark and Gap are those of the leg, in its time.
type (
	Mark = record.Mark
	Gap  = record.Gap
)

// News is what is new on a bench since a browser looked.
type News struct {
	View     *View
	Run      string    // of the readings
	From     int       // number of the first reading
	Time     []float64 // s
	Inches   []float64 // inH2O gauge, zero taken off
	Now      *Now
	Disk     float64 // s of the leg that are on disk
	Estimate *Estimate
	Counted  int
	Test     record.Test // with View: as it stands between legs
}

// Now is the reading of this moment.
type Now struct {
	N    int64
	Pa   float64
	Over bool
	At   float64 // s into the leg
}

// Since returns what is new for a browser that has the view of a version, readings
// of a run up to from, and counted estimates.
func (b *Bench) Since(version int, run string, from int, counted int) News {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.looked = time.Now()
	var n News
	if b.version != version {
		v := b.view()
		n.View, n.Test = &v, b.live.Test
	}
	if b.has {
		shown, _ := b.last.Of(instrument.PressureKey)
		n.Now = &Now{N: b.last.N, Pa: shown.Value - b.live.Test.Setup.Instrument.Zero, Over: shown.Over}
	}
	if l := b.leg; l != nil {
		if l.run.ID != run {
			from = 0
		}
		n.Run, n.From = l.run.ID, min(from, len(l.log.Time))
		n.Time = l.log.Time[n.From:]
		for _, p := range l.log.Gauge[n.From:] {
			n.Inches = append(n.Inches, (p-b.live.Test.Setup.Instrument.Zero)/units.InH2O)
		}
		if l.written > 0 {
			n.Disk = l.log.Time[l.written-1]
		}
		if k := len(l.log.Time); k > 0 && n.Now != nil {
			n.Now.At = l.log.Time[k-1]
		}
	}
	if b.estimate != nil && b.counted != counted {
		n.Estimate = b.estimate
	}
	n.Counted = b.counted
	return n
}

func (b *Bench) view() View {
	v := View{Version: b.version, Status: b.status, Said: b.said, Disk: b.disk, Module: b.about.Name, Rate: b.about.Rate, Result: b.result, Bell: b.bell, Commands: b.about.Commands}
	if l := b.leg; l != nil {
		v.Leg, v.Run, v.LegName, v.Phase, v.Planned, v.ShutAt = l.run.Kind, l.run.ID, l.run.Kind.Words(), l.phase, l.run.Planned, l.shutAt
		v.Marks, v.Gaps, v.Moved = l.run.Marks, l.run.Gaps, l.run.Start
	}
	b.steps(&v)
	return v
}

// steps lists the legs and says what to do now.
func (b *Bench) steps(v *View) {
	su := b.live.Test.Setup
	to := func(p float64) string { return fmt.Sprintf("%.1f inH2O (%.2f kPa)", p/units.InH2O, p/1e3) }
	target := b.live.ChargeTo(record.RunHold)
	holding := v.Leg == record.RunHold && v.Phase == Holding
	settling := v.Leg == record.RunHold && v.Phase == Settling
	rig := Step{Key: "rig", Name: "Rig by itself", Detail: "plugged, charged, one minute", Leg: record.RunRig}
	switch su.Instrument.RigHeld {
	case record.RigHeld:
		rig.Detail, rig.State = "holds by itself", StepDone
	case record.RigLost:
		rig.Detail = fmt.Sprintf("loses %.0f Pa a minute", su.Instrument.RigLoss)
	}
	zero := Step{Key: "zero", Name: "Zero", Detail: "open to air", Leg: record.RunZero, State: b.done(record.RunZero)}
	if zero.State == StepDone {
		zero.Detail = fmt.Sprintf("%+.1f Pa, taken off", su.Instrument.Zero)
	}
	charge := Step{Key: string(Charging), Name: "Charge, shut off", Detail: "to " + to(target), Leg: record.RunHold, State: b.done(record.RunHold)}
	settle := Step{Key: string(Settling), Name: "Settle", Detail: "the gas cools; the fit takes it in", State: charge.State}
	hold := Step{Key: string(Holding), Name: "Hold", Detail: "until the verdict is firm", State: charge.State}
	switch {
	case holding:
		charge.State, settle.State, hold.State = StepDone, StepDone, StepNow
	case settling:
		charge.State, settle.State = StepDone, StepNow
	}
	known := Step{Key: "reference", Name: "Known orifice", Detail: "its diameter belongs in the set-up", Leg: record.RunReference, State: b.done(record.RunReference)}
	if su.Reference > 0 {
		known.Detail = fmt.Sprintf("%.3f mm added; then the volume no longer matters", su.Reference*1e3)
	}
	for _, s := range []Step{rig, zero,
		{Key: "drift", Name: "Drift", Detail: fmt.Sprintf("sealed at zero, %.0f s", driftSeconds), Leg: record.RunDrift, State: b.done(record.RunDrift)},
		charge, settle, hold,
		{Key: "vacuum", Name: "Vacuum hold", Detail: "to " + to(b.live.ChargeTo(record.RunVacuum)) + "; what comes in is plain air", Leg: record.RunVacuum, State: b.done(record.RunVacuum)},
		known} {
		switch {
		case v.Leg != "" && s.Leg == v.Leg && (v.Leg != record.RunHold || s.Key == phaseKey(v.Phase)):
			s.State = StepNow
		case s.State != "":
		case s.Leg == record.RunVacuum || s.Leg == record.RunReference:
			s.State = StepMaybe
		case v.Start == "" && v.Leg == "" && s.Leg != "":
			s.State, v.Start = StepNext, s.Leg
		default:
			s.State = StepLater
		}
		v.Steps = append(v.Steps, s)
	}
	v.Next = b.next(v, target, to)
}

// done is the state of a leg that is in; empty for one that is not.
func (b *Bench) done(kind record.RunKind) StepState {
	if b.live.Done(kind) {
		return StepDone
	}
	return ""
}

func phaseKey(p Phase) string { return string(cmp.Or(p, Charging)) }

// next says what to do, in one or two sentences.
func (b *Bench) next(v *View, target float64, to func(float64) string) string {
	hand := !b.about.Can(instrument.Charge)
	switch {
	case b.status == Looking:
		return "Looking for the module."
	case b.status == Lost || b.status == Fault:
		return "Put the module right; the bench goes on by itself when it measures again."
	}
	l := b.leg
	if l == nil {
		switch v.Start {
		case record.RunRig:
			if b.live.Test.Setup.Instrument.RigHeld == record.RigLost {
				return "Mend the rig: hoses, adapters, plug. Then check it again."
			}
			if hand {
				return "Plug the rig's end, start, and charge it to " + to(target) + ". A minute tells whether it holds by itself."
			}
			return "The rig is plugged, charged to " + to(target) + " and watched for a minute: does it hold by itself?"
		case record.RunZero:
			return "Rig on the car, open to the air. Five seconds give the gauge's zero."
		case record.RunDrift:
			if hand {
				return "Seal the system at zero and start: what the fuel gives off is told apart from a leak."
			}
			return "Sealed at zero for 75 s: what the fuel gives off is told apart from a leak."
		case record.RunHold:
			if hand {
				return "Start, charge to " + to(target) + " with the regulated supply, and shut off."
			}
			return "Start: the rig charges to " + to(target) + " and shuts off."
		}
		return "The hold is in. The verdict stands at the right; a vacuum leg or the known orifice would make it sharper."
	}
	t := 0.0
	if n := len(l.log.Time); n > 0 {
		t = l.log.Time[n-1]
	}
	switch {
	case l.run.Kind == record.RunZero:
		return "Leave it open to the air."
	case l.run.Kind == record.RunDrift:
		return "Hands off, doors shut. It ends by itself and rings."
	case l.phase == Charging && t > 90:
		return "The pressure does not come up: a part is off, open or split wide, or the supply is too small. Stop, and say on the set-up page that it will not build pressure."
	case l.phase == Charging:
		if hand {
			return "Charge to " + to(b.target(l.run.Kind)) + " and shut off."
		}
		return "Charging to " + to(b.target(l.run.Kind)) + "."
	case l.run.Kind == record.RunRig:
		return "Hands off. It ends by itself and rings."
	case l.phase == Settling:
		return "Hands off: the gas gives off the heat of charging."
	case l.past && !l.firm:
		return "The planned hold is over and it cannot tell yet. Go on, or stop and see what would settle it."
	case l.firm:
		return "The verdict is firm. You may stop and keep it."
	}
	return fmt.Sprintf("Holding; planned to %d:%02d. It ends by itself when the verdict is firm by then, and rings.", int(l.run.Planned)/60, int(l.run.Planned)%60)
}
