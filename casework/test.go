package casework

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"wexter/core/bench"
	"wexter/core/decay"
	"wexter/core/gas"
	"wexter/core/knowledge"
	"wexter/core/record"
	"wexter/core/units"
	"wexter/ingest"
	"wexter/store"
)

// StartTest opens a hold on a case. With repeatOf the same set-up is carried over,
// for the proof; otherwise it starts from the car and from the gauge used last.
func (s *Shop) StartTest(ctx context.Context, key, caseID, repeatOf string) (string, error) {
	return s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, err := open(tx, caseID, 0)
		if err != nil {
			return "", err
		}
		t := record.Test{ID: newID(), Key: bench.PressureHold.Key, CaseID: caseID, RepeatOf: repeatOf, At: s.now(), Version: 1, Rules: decay.Version}
		stage := record.Hunt
		if repeatOf != "" {
			old, err := store.Get[record.Test](tx, repeatOf)
			if err != nil || old.CaseID != caseID {
				return "", ErrNotFound
			}
			t.Setup = old.Setup
			t.Setup.Sealed = nil // to be done and ticked again
			stage = record.Proof
		} else {
			v, err := store.Get[record.Vehicle](tx, c.VehicleID)
			if err != nil {
				return "", err
			}
			tank, known := tankOf(v)
			t.Setup = record.Setup{VolumeHow: record.VolumeByLevel, VolumeTolerance: known, Tank: tank, Level: 0.5, Extra: 4e-3,
				Limit: 0.508e-3, Barometer: gas.StandardPressure, Temperature: 293.15, Wet: true}
			if _, ok := s.Archetype(v); !ok {
				return "", problem("test", "This car has no EVAP system that could be sealed and held.")
			}
			car, err := s.carOf(tx, v)
			if err != nil {
				return "", err
			}
			t.Setup.Entry, t.Setup.Set = car.UsualSealing()
			t.Setup.Volume = gas.Space{Tank: t.Setup.Tank, Level: t.Setup.Level, Lines: t.Setup.Extra}.Vapour()
			last, err := tx.NewestTest(bench.PressureHold.Key)
			if err != nil && !errors.Is(err, ErrNotFound) {
				return "", err
			}
			if err == nil {
				t.Setup.Instrument = last.Setup.Instrument
				t.Setup.Instrument.RigHeld, t.Setup.Instrument.RigLoss, t.Setup.Instrument.Zero = "", 0, 0
			}
		}
		if err := addTest(tx, &t); err != nil {
			return "", err
		}
		return t.ID, advance(tx, c, stage)
	})
}

// addTest keeps a test, when its case has room for one more.
func addTest(tx store.Tx, t *record.Test) error {
	n, err := store.Count[record.Test](tx, store.Owner{Column: store.CaseColumn, ID: t.CaseID})
	if err != nil {
		return err
	}
	if n >= record.MostTests {
		return problem("test", "There are %d tests on this case already; close it and open a new one.", n)
	}
	return tx.Add(t)
}

// SaveSetup writes a test's set-up; version is the one that was shown. The volume
// is worked out from what was chosen, and the result again.
func (s *Shop) SaveSetup(ctx context.Context, key, id string, version int, su record.Setup) error {
	if err := settle(&su); err != nil {
		return err
	}
	_, err := s.do(ctx, key, func(tx store.Tx) (string, error) {
		t, err := s.openTest(tx, id)
		if err != nil {
			return "", err
		}
		if t.Version != version {
			return "", &Conflict{What: "the set-up"}
		}
		if su.Entry == "" { // a form without the Map leaves it as it is
			su.Entry, su.Set = t.Setup.Entry, t.Setup.Set
		}
		t.Setup = su
		return id, s.judge(tx, t)
	})
	return err
}

// settle checks a set-up and works its volume out.
func settle(su *record.Setup) error {
	tolerance := 0.0
	switch su.VolumeHow {
	case record.VolumeByLevel:
		su.Volume, tolerance = gas.Space{Tank: su.Tank, Level: su.Level, Lines: su.Extra}.Vapour(), 0.2
	case record.VolumeMetered:
		su.Volume, tolerance = 0, 0.05
		if su.MeterRise > 0 {
			su.Volume = gas.MeteredVolume(su.MeterFlow, su.MeterTime, su.MeterRise, su.Barometer)
		}
	case record.VolumeNotNeeded:
		su.Volume = 0
	}
	if su.VolumeTolerance == 0 {
		su.VolumeTolerance = tolerance
	}
	var err error
	if su.Instrument.Name, err = text("gauge", su.Instrument.Name, 80); err != nil {
		return err
	}
	if err := checkDate("calibrated", su.Instrument.CalibratedOn); err != nil {
		return err
	}
	return fits(su.Check())
}

// fits makes a Problem of what cannot be.
func fits(err error) error {
	if u := new(record.Unfit); errors.As(err, &u) {
		return problem(u.Field, "%s", u.Says)
	}
	return err
}

func (s *Shop) openTest(tx store.Tx, id string) (record.Test, error) {
	t, err := store.Get[record.Test](tx, id)
	if err != nil {
		return t, err
	}
	_, err = open(tx, t.CaseID, 0)
	return t, err
}

// NewRun is a leg that was read elsewhere: a log, or typed pairs.
type NewRun struct {
	Kind record.RunKind
	Name string // of the file
	Log  ingest.Log
	Sure bool // the question about its pressures was answered
}

// AddRun keeps a leg that was read and judges the test again. A start pressure over
// what the system is permitted is asked about once.
func (s *Shop) AddRun(ctx context.Context, key, testID string, n NewRun) (string, error) {
	if !n.Kind.OfCar() || n.Kind == record.RunDrive {
		return "", problem("leg", "a leg is a drift leg, a hold, or a hold with the known orifice")
	}
	name, err := text("name", n.Name, 120)
	if err != nil {
		return "", err
	}
	l := n.Log
	reaches := spanOf(l)
	at := s.now()
	r := record.Run{ID: newID(), TestID: testID, Kind: n.Kind, Name: name, Unit: l.Unit, Notes: append(record.Strings{}, l.Notes...), Readings: len(l.Time), At: at,
		Marks: record.Marks{}, Gaps: record.Gaps{}, EndedAt: &at}
	return s.do(ctx, key, func(tx store.Tx) (string, error) {
		t, err := s.openTest(tx, testID)
		if err != nil {
			return "", err
		}
		if n.Kind == record.RunReference && t.Setup.Reference == 0 {
			return "", problem("reference", "give the diameter of the known orifice in the set-up first")
		}
		runs, err := store.OfTest(tx, testID)
		if err != nil {
			return "", err
		}
		if err := roomForLeg(tx, t, len(runs), len(l.Time)); err != nil {
			return "", err
		}
		if len(standing(runs)) >= 12 {
			return "", problem("leg", "this test has twelve legs; strike one out or start another test")
		}
		if !n.Sure {
			if err := s.permitted(tx, t, reaches); err != nil {
				return "", err
			}
		}
		if err := tx.Add(&r); err != nil {
			return "", err
		}
		if err := s.judgeWith(tx, t, r.ID, l); err != nil {
			return "", err
		}
		return r.ID, tx.PutReadings(r.ID, tableOf(l))
	})
}

// span is how far a log reaches, Pa, and the unit it was written in.
type span struct {
	low, high float64
	unit      string
}

func spanOf(l ingest.Log) span {
	x := span{unit: l.Unit}
	for _, p := range l.Gauge {
		x.high, x.low = math.Max(x.high, p), math.Min(x.low, p)
	}
	return x
}

// permitted asks about pressures over what the system may see.
func (s *Shop) permitted(tx store.Tx, t record.Test, x span) error {
	c, err := store.Get[record.Case](tx, t.CaseID)
	if err != nil {
		return err
	}
	v, err := store.Get[record.Vehicle](tx, c.VehicleID)
	if err != nil {
		return err
	}
	a, err := s.permittedTo(tx, v)
	if err != nil {
		return err
	}
	both := func(p float64) string {
		return fmt.Sprintf("%.1f inH2O (%.2f kPa)", p/units.InH2O, p/1e3)
	}
	if x.high > 1.02*a.MaxPa {
		return &Question{fmt.Sprintf("The trace reaches %s; this system is permitted %s. Is the unit %s right?", both(x.high), both(a.MaxPa), x.unit)}
	}
	if -x.low > 1.02*a.MaxVacPa {
		return &Question{fmt.Sprintf("The trace reaches %s below the barometer; this tank is permitted %s. Is the unit %s right?", both(-x.low), both(a.MaxVacPa), x.unit)}
	}
	return nil
}

// CutRun sets start and end of the hold by hand; both zero recognises them again.
func (s *Shop) CutRun(ctx context.Context, key, runID string, start, end float64) error {
	if math.IsNaN(start) || math.IsNaN(end) || start < 0 || end != 0 && end <= start {
		return problem("hold", "the hold must end after it starts")
	}
	return s.changeRun(ctx, key, runID, func(r *record.Run) { r.Start, r.End = start, end })
}

// stampRun strikes a leg of a case out or doubts it, or takes that back, and judges
// its test again: while a leg is doubted the test has no verdict.
func (s *Shop) stampRun(tx store.Tx, caseID, runID string, st Stamp) error {
	return s.changeRunIn(tx, runID, func(t record.Test, r *record.Run) error {
		if t.CaseID != caseID {
			return ErrNotFound
		}
		at := st.moment(s.now())
		if st.column() == store.DoubtedAt {
			r.DoubtedAt = at
		} else {
			r.StruckAt = at
		}
		return nil
	})
}

// StampRun strikes a leg out or doubts it, or takes that back, and judges its test again.
func (s *Shop) StampRun(ctx context.Context, key, runID string, st Stamp) error {
	_, err := s.do(ctx, key, func(tx store.Tx) (string, error) {
		r, err := store.Get[record.Run](tx, runID)
		if err != nil {
			return "", err
		}
		t, err := store.Get[record.Test](tx, r.TestID)
		if err != nil {
			return "", err
		}
		return runID, s.stampRun(tx, t.CaseID, runID, st)
	})
	return err
}

func (s *Shop) changeRun(ctx context.Context, key, runID string, change func(*record.Run)) error {
	_, err := s.do(ctx, key, func(tx store.Tx) (string, error) {
		return runID, s.changeRunIn(tx, runID, func(_ record.Test, r *record.Run) error { change(r); return nil })
	})
	return err
}

func (s *Shop) changeRunIn(tx store.Tx, runID string, change func(record.Test, *record.Run) error) error {
	r, err := store.Get[record.Run](tx, runID)
	if err != nil {
		return err
	}
	t, err := s.openTest(tx, r.TestID)
	if err != nil {
		return err
	}
	if err := change(t, &r); err != nil {
		return err
	}
	if err := tx.Put(&r); err != nil {
		return err
	}
	return s.judge(tx, t)
}

// SetOutcome writes down what no leg can say: record.CannotPressurise when the system
// took all the air the supply gave, and no pressure built, which is a result too; record.NoOutcome
// takes that back.
func (s *Shop) SetOutcome(ctx context.Context, key, testID string, o record.Outcome) error {
	if o != record.CannotPressurise && o != record.NoOutcome {
		return problem("outcome", "the readings judge a leak-down test; only that it will not build pressure is said by hand")
	}
	_, err := s.do(ctx, key, func(tx store.Tx) (string, error) {
		t, err := s.openTest(tx, testID)
		if err != nil {
			return "", err
		}
		t.Outcome = o
		return testID, s.judge(tx, t)
	})
	return err
}

// judge works a hold's result out from its legs and saves it.
func (s *Shop) judge(tx store.Tx, t record.Test) error {
	return s.judgeWith(tx, t, "", ingest.Log{})
}

// judgeWith is judge for a test one of whose runs is not on disk yet: its log is handed in.
func (s *Shop) judgeWith(tx store.Tx, t record.Test, run string, log ingest.Log) error {
	if t.Key != bench.PressureHold.Key { // its readings are judged as a result of the case
		if t.Key == bench.Trims.Key {
			if err := s.judgeDrive(tx, &t); err != nil {
				return err
			}
		}
		t.Version++
		return errors.Join(tx.Put(&t), touch(tx, t.CaseID))
	}
	b, err := s.gather(tx, t)
	if err != nil {
		return err
	}
	j, err := aside(s, "judge", b.dependsOn(s.Book.Version), func(ctx context.Context) (judged, error) {
		// Readings never change, so they are the same beside the transaction as in it.
		if err := b.read(s.DB.Read(ctx), run, log); err != nil {
			return judged{}, err
		}
		return b.judged()
	})
	if err != nil {
		return err
	}
	cannot := t.Outcome == record.CannotPressurise
	t.Problem, t.Result, t.Outcome, t.Rules = j.problem, j.result, j.outcome, decay.Version
	if cannot && t.Outcome == "" {
		t.Outcome = record.CannotPressurise
	}
	t.Version++
	if err := tx.Put(&t); err != nil {
		return err
	}
	return touch(tx, t.CaseID)
}

// judged is what a test comes to, as it is written down.
type judged struct {
	result  record.Blob
	outcome record.Outcome
	problem string // why there is no result
}

// judged works the result out.
func (b gathered) judged() (judged, error) {
	sum, err := b.judge()
	switch {
	case len(b.legs) == 0:
		return judged{problem: strings.Join(b.gaps(), " ")}, nil
	case err != nil:
		say := err.Error()
		if errors.Is(err, decay.ErrNoHold) && len(b.legs) == 1 && b.legs[0].leg.Kind == decay.Drift {
			say = "The drift leg is in; now the hold."
		}
		return judged{problem: strings.Join(append(b.gaps(), say), " ")}, nil
	}
	data, err := json.Marshal(sum)
	return judged{result: record.Blob(data), outcome: record.Outcome(sum.Verdict)}, err
}

// touch counts a case's version up, after something on it was changed.
func touch(tx store.Tx, caseID string) error {
	c, err := store.Get[record.Case](tx, caseID)
	if err != nil {
		return err
	}
	return advance(tx, c, c.Stage)
}

// gathered is a test with the runs that count, and, once they were read, what its legs
// hold: ready to be judged.
type gathered struct {
	setup record.Setup
	arch  knowledge.Archetype
	now   time.Time
	runs  []record.Run // that count
	legs  []leg
}

// leg is a stretch of readings of a run; a run with gaps gives several.
type leg struct {
	run  record.Run
	leg  decay.Leg
	over bool // reaches the end of the gauge's range
}

func (s *Shop) gather(tx store.Tx, t record.Test) (gathered, error) {
	b := gathered{setup: t.Setup, now: s.now()}
	c, err := store.Get[record.Case](tx, t.CaseID)
	if err != nil {
		return b, err
	}
	v, err := store.Get[record.Vehicle](tx, c.VehicleID)
	if err != nil {
		return b, err
	}
	b.arch, _ = s.Archetype(v)
	runs, err := store.OfTest(tx, t.ID)
	if err != nil {
		return b, err
	}
	for _, r := range runs {
		if r.Counts() {
			b.runs = append(b.runs, r)
		}
	}
	return b, nil
}

// read takes the readings of the runs in. Those of the run that is named come from log.
func (b *gathered) read(tx store.Tx, run string, log ingest.Log) error {
	for _, r := range b.runs {
		l, err := log, error(nil)
		if r.ID != run {
			l, err = kept(tx, r)
		}
		if err != nil {
			return err
		}
		b.legs = append(b.legs, legsOf(b.setup, r, l)...)
	}
	return nil
}

// dependsOn is everything that the result depends on. Readings are named by their run:
// they never change.
func (b gathered) dependsOn(book string) []any {
	on := []any{decay.Version, book, b.arch.Key, b.setup, b.now.Format(time.DateOnly)}
	for _, r := range b.runs {
		on = append(on, r.ID, r.Kind, r.Name, r.Readings, r.Start, r.End, r.Watched, r.Gaps, r.Doubted())
	}
	return on
}

// legsOf cuts a run at its gaps, since nobody knows what happened in them: each
// stretch starts from its own pressure. Stretches that only rise to a gap, or stand
// open after one, are no holds and are left out.
func legsOf(su record.Setup, r record.Run, l ingest.Log) []leg {
	whole := leg{run: r, leg: decay.Leg{Start: r.Start, End: r.End}}
	switch r.Kind {
	case record.RunDrift:
		whole.leg.Kind = decay.Drift
	case record.RunReference:
		whole.leg.Reference = su.Reference
	}
	top := 0.0
	for _, p := range l.Gauge {
		top = max(top, math.Abs(p))
	}
	whole.over = su.Instrument.Range > 0 && top >= 0.995*su.Instrument.Range
	var out []leg
	for _, at := range r.Gaps.Stretches(l.Time) {
		x := whole
		cut := func(c []float64) []float64 {
			if c == nil {
				return nil
			}
			return slices.Clone(c[at[0]:at[1]])
		}
		x.leg.Time, x.leg.Gauge, x.leg.Wall = cut(l.Time), cut(l.Gauge), cut(l.Wall)
		for i := range x.leg.Gauge {
			x.leg.Gauge[i] -= su.Instrument.Zero
		}
		if len(r.Gaps) == 0 || isHold(x.leg, top, at[0]) {
			out = append(out, x)
		}
	}
	return out
}

// isHold reports whether a stretch between gaps may be judged: from is its place in
// the run, top the largest pressure of the whole run.
func isHold(l decay.Leg, top float64, from int) bool {
	n := len(l.Time)
	if n < 10 || l.Time[n-1]-l.Time[0] < 5 || l.Start != 0 && l.Time[n-1] <= l.Start || l.End != 0 && l.Time[0] >= l.End {
		return false
	}
	if l.Kind == decay.Drift {
		return true
	}
	high, peak := 0.0, 0
	for i, p := range l.Gauge {
		if math.Abs(p) > high {
			high, peak = math.Abs(p), i
		}
	}
	// Open after a gap, or only pumped up before one.
	return (from == 0 || high > 0.1*top) && n-peak >= 10 && l.Time[n-1]-l.Time[peak] >= 5
}

// judge fits the legs and says what speaks against the result.
func (b gathered) judge() (record.Summary, error) {
	su := b.setup.Decay()
	var legs []decay.Leg
	for _, l := range b.legs {
		legs = append(legs, l.leg)
		su.Watching = su.Watching || l.run.Watched
	}
	res, _, err := bench.JudgeHold(legs, su)
	if err != nil {
		return record.Summary{}, err
	}
	sum := summarise(res, b.legs)
	var said string
	for _, l := range b.legs {
		if l.over && said != l.run.ID {
			sum.Warnings = append(sum.Warnings, l.run.Name+" reaches the end of the gauge's range: what lies beyond was not read.")
			said = l.run.ID
		}
	}
	sum.Warnings = append(sum.Warnings, b.gaps()...)
	b.doubts(&sum)
	return sum, nil
}

// mostGapsTold is how many gaps of a run are told one by one.
const mostGapsTold = 4

// gaps says of each gap what was not read, and whether anything beside it is judged.
func (b gathered) gaps() []string {
	var said []string
	for _, r := range b.runs {
		rest := "that stretch is not judged; what came before and after it is."
		if !slices.ContainsFunc(b.legs, func(l leg) bool { return l.run.ID == r.ID }) {
			rest = "what came before and after it is too short to judge, so this leg says nothing."
		}
		told := 0
		for i, g := range r.Gaps {
			if i+1 < len(r.Gaps) && r.Gaps[i+1].From == g.From {
				continue // nothing was read between two stops: one gap
			}
			if told++; told > mostGapsTold {
				said = append(said, fmt.Sprintf("There are %d more gaps up to %.0f s: %s", len(r.Gaps)-i, r.Gaps[len(r.Gaps)-1].To, rest))
				break
			}
			said = append(said, fmt.Sprintf("%s (%s): %s", Upper(g.Words()), g.Why, rest))
		}
	}
	return said
}

func summarise(r decay.Result, legs []leg) record.Summary {
	s := record.Summary{Rules: decay.Version, D: r.D, Low: r.Low, High: r.High, Limit: r.Limit, Nominal: r.Nominal, Verdict: r.Verdict,
		Drift: r.DriftRate, Settle: r.Settle, Tau: r.SettleTau, Volume: r.Volume, Residual: r.Residual, Tight: r.Tight(0),
		Pressure: r.Pressure, Vacuum: r.Vacuum, Differ: r.Differ, Budget: r.Budget, Warnings: r.Warnings, Sharper: r.Sharper}
	if !math.IsNaN(r.HoldMore) {
		s.HoldMore = &r.HoldMore
	}
	for i, l := range r.Legs {
		s.Legs = append(s.Legs, record.SummaryLeg{Run: legs[i].run.ID, Start: l.Start, End: l.End, CutStart: l.CutStart, CutEnd: l.CutEnd,
			Spikes: l.Spikes, Time: l.Time, Measured: l.Measured, Fitted: l.Fitted, AtLimit: l.AtLimit})
	}
	return s
}

// doubts adds what speaks against the result though the fit is good: a rig that
// leaks, a calibration long past, a step of the sealing not ticked.
func (b gathered) doubts(sum *record.Summary) {
	in := b.setup.Instrument
	say := func(f string, a ...any) { sum.Warnings = append(sum.Warnings, fmt.Sprintf(f, a...)) }
	for i, l := range b.legs {
		if l.run.Doubted() && (i == 0 || b.legs[i-1].run.ID != l.run.ID) {
			say("The %s is doubted: repeat it, or take the doubt back. Until then there is no verdict.", l.run.Kind.Words())
			sum.Verdict, sum.HoldMore, sum.Tight = decay.Undecided, nil, false
		}
	}
	switch in.RigHeld {
	case "":
		say("The rig was not checked by itself: plug it and see that it holds before the car is judged.")
	case record.RigLost:
		say("The rig loses %.0f Pa a minute by itself: mend it and repeat the test. Until then there is no verdict.", in.RigLoss)
		sum.Verdict, sum.HoldMore, sum.Tight = decay.Undecided, nil, false
	}
	if d, err := time.Parse(time.DateOnly, in.CalibratedOn); err == nil && b.now.Sub(d) > 366*24*time.Hour {
		say("The gauge was calibrated on %s, more than a year ago.", in.CalibratedOn)
	}
	var past []string
	for _, r := range b.runs {
		for _, w := range pastDate(r) {
			if !slices.Contains(past, w) {
				past = append(past, w)
			}
		}
	}
	sum.Warnings = append(sum.Warnings, past...)
	a := b.arch
	if slices.Contains(a.Cautions, "eonv-pressure") && !slices.Contains(b.setup.Sealed, a.Seal[0].Do) && sum.Verdict == decay.Over {
		say("%s is not ticked: the unit's relief opens near 0.5 inH2O, and the test may have blown through a healthy valve. Until then there is no verdict.", strings.TrimSuffix(a.Seal[0].Do, "."))
		sum.Verdict, sum.HoldMore = decay.Undecided, nil
	}
	if n := len(a.Seal) - len(b.setup.Sealed); n > 0 {
		say("%d of %d sealing steps are not ticked: what is not sealed counts as leak.", n, len(a.Seal))
	}
}

// Readings returns a run with its readings.
func (s *Shop) Readings(ctx context.Context, runID string) (record.Run, ingest.Log, error) {
	tx := s.DB.Read(ctx)
	r, err := store.Get[record.Run](tx, runID)
	if err != nil {
		return r, ingest.Log{}, err
	}
	l, err := kept(tx, r)
	return r, l, err
}

// kept are the readings of a hold's run, as they are judged.
func kept(tx store.Tx, r record.Run) (ingest.Log, error) {
	t, err := tx.Readings(r.ID)
	return logOf(r, t), err
}

// logOf makes the log of a hold of what was read: where there was a pressure, with the wall's
// temperature when that was measured all the time.
func logOf(r record.Run, t record.Table) ingest.Log {
	pressure, wall := 0, 1
	if len(r.Channels) > 0 {
		pressure, wall = r.Channels.At(string(record.GaugePressure)), r.Channels.At(string(record.RigWall))
	}
	l := ingest.Log{Unit: r.Unit}
	if pressure < 0 || pressure >= len(t.Cols) {
		return l
	}
	var felt []float64
	for i, p := range t.Cols[pressure] {
		if math.IsNaN(p) {
			continue
		}
		l.Time, l.Gauge = append(l.Time, t.Time[i]), append(l.Gauge, p)
		if wall >= 0 && wall < len(t.Cols) {
			felt = append(felt, t.Cols[wall][i])
		}
	}
	l.Wall, _ = bench.Wall(l.Time, felt)
	return l
}

// tableOf is a log as it is kept.
func tableOf(l ingest.Log) record.Table {
	t := record.Table{Time: l.Time, Cols: []record.Column{l.Gauge}}
	if l.Wall != nil {
		t.Cols = append(t.Cols, l.Wall)
	}
	return t
}

// TestCase returns the case a test belongs to.
func (s *Shop) TestCase(ctx context.Context, id string) (string, error) {
	t, err := store.Get[record.Test](s.DB.Read(ctx), id)
	return t.CaseID, err
}
