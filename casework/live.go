package casework

import (
	"context"
	"fmt"
	"maps"
	"math"
	"reflect"
	"slices"
	"strings"
	"time"

	"wexter/core/bench"
	"wexter/core/decay"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/units"
	"wexter/evidence"
	"wexter/ingest"
	"wexter/store"
)

// LiveTest is a test as its live bench needs it: what it is, its set-up, the stretches that
// are in, and what the system is permitted.
type LiveTest struct {
	Case  record.Case
	Test  record.Test
	Arch  knowledge.Archetype
	Runs  []record.Run // not struck out, in order
	Bench bench.Test
	Entry knowledge.Test // of the Book

	car      Car
	level    float64  // share of the tank that is fuel, as the car said it last; 0: it did not
	stored   []string // codes that stand since codes were cleared last, of a test that asks for them
	past     map[record.RunKind]bench.Past
	gathered gathered // of a hold
}

// Holds reports whether the test is a pressure hold, which the fit of its trace judges.
func (l LiveTest) Holds() bool { return l.Test.Key == bench.PressureHold.Key }

// LiveTest reads a test for its live bench.
func (s *Shop) LiveTest(ctx context.Context, id string) (LiveTest, error) {
	tx := s.DB.Read(ctx)
	t, err := store.Get[record.Test](tx, id)
	if err != nil {
		return LiveTest{}, err
	}
	l := LiveTest{Test: t}
	v, err := record.Vehicle{}, error(nil)
	if l.Case, v, err = caseAndCar(tx, t.CaseID); err != nil {
		return LiveTest{}, err
	}
	if l.car, err = s.carOf(tx, v); err != nil && !l.Holds() { // a hold is one whatever the car is joined of
		return LiveTest{}, err
	}
	if l.Arch, err = s.permittedTo(tx, v); err != nil {
		return LiveTest{}, err
	}
	e, ok := s.Book.Test(t.Key)
	if !ok {
		return LiveTest{}, problem("test", "The Book has no test %q any more.", t.Key)
	}
	l.Entry, l.Bench = e, bench.For(e)
	if l.Holds() {
		if l.gathered, err = s.gather(tx, t); err != nil {
			return LiveTest{}, err
		}
		if err := l.gathered.read(tx, "", ingest.Log{}); err != nil {
			return LiveTest{}, err
		}
	}
	runs, err := store.OfTest(tx, id)
	if err != nil {
		return LiveTest{}, err
	}
	l.Runs = standing(runs)
	if l.Bench.On == bench.SealedSystem && !l.Holds() {
		if l.level, err = fuelLevel(tx, l.Case.ID); err != nil {
			return LiveTest{}, err
		}
	}
	if l.Bench.Live.AsksCodes {
		if l.stored, err = standingCodes(tx, l.Case.ID); err != nil {
			return LiveTest{}, err
		}
	}
	return l, l.lookBack(tx)
}

// standingCodes are the codes of a case that stand since codes were cleared last.
func standingCodes(tx store.Tx, caseID string) ([]string, error) {
	var f evidence.Folder
	scans, err := store.OfCase[record.ScanDone](tx, caseID)
	if err != nil {
		return nil, err
	}
	for _, x := range scans {
		f.Scans = append(f.Scans, evidence.ReadScan(x))
	}
	if f.Codes, err = store.OfCase[record.Code](tx, caseID); err != nil {
		return nil, err
	}
	f.Notes, err = store.OfCase[record.Note](tx, caseID)
	return f.Standing(), err
}

// Stored are the codes because of which the car's own check may not run; none for a test that does not ask.
func (l LiveTest) Stored() []string { return l.stored }

// fuelLevel is what the car's own sender said in the newest scan of a case; 0 when it never did.
func fuelLevel(tx store.Tx, caseID string) (float64, error) {
	scans, err := store.OfCase[record.ScanDone](tx, caseID)
	if err != nil {
		return 0, err
	}
	for _, x := range slices.Backward(standing(scans)) {
		if v, ok := evidence.ReadScan(x).Read.Live["2F"]; ok {
			return v.Value / 100, nil
		}
	}
	return 0, nil
}

// lookBack reads the stretches that later ones of the test look back at, the newest of each kind.
func (l *LiveTest) lookBack(tx store.Tx) error {
	l.past = map[record.RunKind]bench.Past{}
	for _, r := range slices.Backward(l.Runs) {
		_, has := l.past[r.Kind]
		if has || r.EndedAt == nil || r.Doubted() || !slices.Contains(l.Bench.Live.Looks, r.Kind) {
			continue
		}
		t, err := tx.Readings(r.ID)
		if err != nil {
			return err
		}
		p := bench.Past{Cols: r.Channels, Table: t}
		for _, m := range r.Marks {
			p.Marks = append(p.Marks, bench.Moment{Key: m.Key, At: m.Time})
		}
		l.past[r.Kind] = p
	}
	return nil
}

// Name is what the test is called, with the part that it tries.
func (l LiveTest) Name() string {
	if l.Bench.On != bench.OnePart {
		return l.Entry.Name
	}
	if p, ok := l.car.Graph.Part(l.Test.Part); ok {
		return l.Entry.Name + ": " + plumbing.Lower(p.Name)
	}
	return l.Entry.Name
}

// Cautions are the keys of what can hurt somebody: those of the test, of a hold those of the
// system that is sealed.
func (l LiveTest) Cautions() []string {
	if l.Holds() {
		return l.Arch.Cautions
	}
	return l.Entry.Cautions
}

// Unsealed is how many steps of a hold's seal list are not ticked.
func (l LiveTest) Unsealed() int {
	if !l.Holds() {
		return 0
	}
	return max(0, len(l.Arch.Seal)-len(l.Test.Setup.Sealed))
}

// Done reports whether a stretch is in.
func (l LiveTest) Done(key record.RunKind) bool {
	return slices.ContainsFunc(l.Runs, func(r record.Run) bool { return r.Kind == key && r.EndedAt != nil })
}

// Known is what is known before a stretch is read. Works says what can be told rig and car
// from here, resolution is that of the first channel.
func (l LiveTest) Known(works func(bench.Verb) bool, resolution float64) bench.Known {
	k := bench.Known{Site: bench.Site{Seal: l.Arch.Settings(), Entry: l.Arch.Entry, Part: l.Test.Part},
		MaxPa: l.Arch.MaxPa, MaxVac: l.Arch.MaxVacPa, Setup: l.Test.Setup, In: map[record.RunKind]bool{}, Read: l.Readings(), Works: works, Resolution: resolution, Past: l.past}

	if l.car.Car != nil {
		k.Site.Graph, k.Subject = l.car.Graph, l.car.Subject(l.Test.Part)
		k.Level, k.Stored = l.level, l.stored
		if l.Bench.On == bench.SealedSystem && l.Test.Part != "" {
			k.Site.Entry, k.Entry = l.Test.Part, l.Test.Part
		}
		k.Engine = bench.EngineOf(l.car.Graph, l.Test.Setup.Displacement, l.Test.Setup.Barometer)
	}
	k.Hold = l.Test.Setup.Decay()
	for _, r := range l.Runs {
		if r.EndedAt != nil {
			k.In[r.Kind] = true
		}
	}
	return k
}

// Readings are what the stretches that are in gave, later ones before earlier ones.
func (l LiveTest) Readings() bench.Readings {
	out := bench.Readings{}
	for _, r := range l.Runs {
		if r.EndedAt == nil || r.Doubted() {
			continue
		}
		out = out.With(evidence.Readings(l.Entry, record.Result{Test: l.Test.Key, Figures: r.Figures}))
	}
	return out
}

// Estimate is what a test comes to so far.
type Estimate struct {
	Hold    *record.Summary // of a hold
	Verdict bench.Verdict   // of any other test
	Firm    bool            // it says something that further reading would hardly change
}

// Judge works out what the test comes to with a stretch that is still being read, as far as it
// went and with what it told. While a hold is Watched its verdict is one that may be looked at at
// any moment.
func (l LiveTest) Judge(r record.Run, t record.Table, told bench.Readings) (Estimate, error) {
	if !l.Holds() {
		v, err := bench.Judge(l.Entry, l.Known(nil, 0).Subject, l.Readings().With(told))
		return Estimate{Verdict: v, Firm: v.Outcome != "" && v.Outcome != bench.CannotTell}, err
	}
	b := l.gathered
	b.runs = append(slices.Clone(b.runs), r)
	b.legs = append(slices.Clone(b.legs), legsOf(l.Test.Setup, r, logOf(r, t))...)
	sum, err := b.judge()
	return Estimate{Hold: &sum, Firm: err == nil && sum.Verdict != decay.Undecided}, err
}

// Hold says how long to hold with the set-up as it is, s; NaN when that cannot be told.
func (l LiveTest) Hold() float64 {
	p, err := l.Plan()
	if err != nil {
		return math.NaN()
	}
	return p.Hold
}

// ChargeTo is the pressure a stretch of a hold starts from, Pa gauge.
func (l LiveTest) ChargeTo(stretch record.RunKind) float64 {
	return bench.Known{MaxPa: l.Arch.MaxPa, MaxVac: l.Arch.MaxVacPa}.ChargeTo(stretch)
}

// Plan says how long to hold with the set-up as it is, and what would shorten it.
func (l LiveTest) Plan() (decay.Plan, error) {
	su := l.Test.Setup
	noise, rate := math.Max(su.Instrument.Resolution/2, 2), 5.0
	if su.Instrument.Resolution >= 20 {
		rate = 1.0 / 15 // a water column read by eye
	}
	drift := 0.0
	if l.Done(record.RunDrift) {
		drift = 60
	}
	return decay.PlanHold(decay.PlanInput{Setup: su.Decay(), Start: l.ChargeTo(record.RunHold), Noise: noise, Rate: rate, DriftLeg: drift, Tank: su.Tank, Level: su.Level})
}

// NewBench is a test of the Book that is to be read live.
type NewBench struct {
	Test, Part string
	Seats      record.Seats
	RepeatOf   string // a result, after a repair
}

// StartBench opens a test of the Book, other than a hold, to be read live.
func (s *Shop) StartBench(ctx context.Context, key, caseID string, n NewBench) (string, error) {
	e, ok := s.Book.Test(n.Test)
	t := bench.For(e)
	if !ok || t.Odds == bench.FromHole || t.Odds == bench.FromCodes || len(t.Phases) == 0 {
		return "", problem("test", "There is no bench for that test.")
	}
	return s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, v, err := caseAndCar(tx, caseID)
		if err != nil {
			return "", err
		}
		if _, err := open(tx, caseID, 0); err != nil {
			return "", err
		}
		car, err := s.carOf(tx, v)
		if err != nil {
			return "", err
		}
		if err := car.canBe(e, NewResult{Test: n.Test, Part: n.Part}); err != nil {
			return "", err
		}
		x := record.Test{ID: newID(), Key: n.Test, Part: n.Part, CaseID: caseID, RepeatOf: n.RepeatOf, Seats: n.Seats, At: s.now(), Version: 1}
		if err := addTest(tx, &x); err != nil {
			return "", err
		}
		return x.ID, advance(tx, c, c.Stage)
	})
}

// Seat writes down which instruments read a test.
func (s *Shop) Seat(ctx context.Context, testID string, seats record.Seats) error {
	return s.changeTest(ctx, testID, func(t *record.Test) error { t.Seats = seats; return nil })
}

// Drive writes down who drives a bench from now on.
func (s *Shop) Drive(ctx context.Context, testID string, turn record.Turn) error {
	who, err := text("who", turn.Who, 60)
	if err != nil {
		return err
	}
	turn.Who = who
	return s.changeTest(ctx, testID, func(t *record.Test) error {
		if n := len(t.Turns); n >= record.MostTurns { // what was first and what was last tells most
			t.Turns = slices.Delete(slices.Clone(t.Turns), n/2, n/2+1)
		}
		t.Turns = append(slices.Clone(t.Turns), turn)
		return nil
	})
}

// changeTest writes something about a test down that its result does not depend on.
func (s *Shop) changeTest(ctx context.Context, id string, change func(*record.Test) error) error {
	_, err := s.do(ctx, "", func(tx store.Tx) (string, error) {
		t, err := s.openTest(tx, id)
		if err != nil {
			return "", err
		}
		before := t
		if err := change(&t); err != nil || reflect.DeepEqual(t, before) {
			return id, err
		}
		return id, tx.Put(&t)
	})
	return err
}

// NewLive is a stretch that is about to be read.
type NewLive struct {
	Kind     record.RunKind
	From     record.Source
	Channels record.Channels
	Who      string
	Origin   float64 // the first instrument's clock at time 0, s
	Planned  float64 // s
}

// BeginRun opens a run that is read live. Only one stretch of a test runs at a time.
func (s *Shop) BeginRun(ctx context.Context, testID string, n NewLive) (record.Run, error) {
	r := record.Run{ID: newID(), TestID: testID, Kind: n.Kind, Name: n.From.Name, Unit: "Pa", Notes: record.Strings{}, At: s.now(), Channels: n.Channels, Who: n.Who,
		Source: n.From, Origin: n.Origin, Planned: n.Planned, Marks: record.Marks{}, Gaps: record.Gaps{}}
	_, err := s.do(ctx, "", func(tx store.Tx) (string, error) {
		t, err := s.openTest(tx, testID)
		if err != nil {
			return "", err
		}
		runs, err := store.OfTest(tx, testID)
		if err != nil {
			return "", err
		}
		if err := roomForLeg(tx, t, len(runs), record.MostLive); err != nil {
			return "", err
		}
		runs = standing(runs)
		if slices.ContainsFunc(runs, func(x record.Run) bool { return x.EndedAt == nil }) {
			return "", problem("leg", "a leg is being read already; stop it first")
		}
		if len(runs) >= 24 {
			return "", problem("leg", "this test has many legs; strike some out or start another test")
		}
		return r.ID, tx.Add(&r)
	})
	return r, err
}

// EndRun closes a live run with what was gathered beside its readings and what it told, and
// judges a hold. A run without readings is struck out.
func (s *Shop) EndRun(ctx context.Context, r record.Run, told bench.Readings) error {
	_, err := s.do(ctx, "", func(tx store.Tx) (string, error) {
		have, err := store.Get[record.Run](tx, r.ID)
		if err != nil {
			return "", err
		}
		if have.EndedAt != nil {
			return r.ID, nil // ended already, from another browser
		}
		l, err := tx.Readings(r.ID)
		if err != nil {
			return "", err
		}
		at := s.now()
		have.EndedAt, have.Readings, have.Gaps, have.Watched, have.Notes, have.Says, have.Channels = &at, l.Len(), r.Gaps, r.Watched, r.Notes, r.Says, r.Channels
		if l.Len() < 2 {
			have.StruckAt = &at
			have.Notes = append(have.Notes, "Nothing was read.")
		}
		t, err := store.Get[record.Test](tx, r.TestID)
		if err != nil {
			return "", err
		}
		if e, ok := s.Book.Test(t.Key); ok && len(told) > 0 {
			have.Figures = evidence.RunFigures(e, told)
		}
		if err := tx.EndRun(have); err != nil {
			return "", err
		}
		return r.ID, s.judge(tx, t)
	})
	return err
}

// MarkRun puts a word at a moment of a run.
func (s *Shop) MarkRun(ctx context.Context, key, runID string, m record.Mark) (record.Run, error) {
	words, err := text("mark", m.Text, 120)
	if err != nil {
		return record.Run{}, err
	}
	if m.Text = words; words == "" {
		m.Text = "mark"
	}
	var r record.Run
	_, err = s.do(ctx, key, func(tx store.Tx) (string, error) {
		if r, err = store.Get[record.Run](tx, runID); err != nil {
			return "", err
		}
		if len(r.Marks) >= record.MostMarks {
			return "", problem("mark", "this leg has %d marks", record.MostMarks)
		}
		r.Marks = append(r.Marks, m)
		return runID, tx.KeepMarks(r)
	})
	if err == nil && r.ID == "" { // the same form twice
		r, err = store.Get[record.Run](s.DB.Read(ctx), runID)
	}
	return r, err
}

// OpenRuns lists runs that were being read when the program stopped.
func (s *Shop) OpenRuns(ctx context.Context) (rs []record.Run, err error) {
	return s.DB.Read(ctx).OpenRuns()
}

// NoteGauge writes what is known of the gauge into a hold's set-up.
func (s *Shop) NoteGauge(ctx context.Context, testID string, change func(*record.Setup)) error {
	_, err := s.do(ctx, "", func(tx store.Tx) (string, error) {
		t, err := s.openTest(tx, testID)
		if err != nil || t.Key != bench.PressureHold.Key {
			return "", err
		}
		before := t.Setup
		change(&t.Setup)
		if reflect.DeepEqual(t.Setup, before) {
			return testID, nil
		}
		if err := settle(&t.Setup); err != nil {
			return "", err
		}
		return testID, s.judge(tx, t)
	})
	return err
}

// Gauge is what a pressure gauge says of itself.
type Gauge struct {
	Name         string
	Range        float64 // Pa
	Resolution   float64 // Pa
	CalibratedOn string
	Orifice      float64 // m, of the rig's known orifice; 0: none
}

// MeetGauge writes the gauge of a hold into its set-up.
func (s *Shop) MeetGauge(ctx context.Context, testID string, g Gauge) error {
	return s.NoteGauge(ctx, testID, func(su *record.Setup) {
		in := &su.Instrument
		in.Name, in.Range, in.Resolution, in.CalibratedOn = g.Name, g.Range, g.Resolution, g.CalibratedOn
		if su.Reference == 0 && g.Orifice > 0 {
			su.Reference = g.Orifice
		}
	})
}

// Learn writes what a stretch told of gauge and rig into a hold's set-up.
func (s *Shop) Learn(ctx context.Context, testID string, learned []bench.Learned) error {
	if len(learned) == 0 {
		return nil
	}
	return s.NoteGauge(ctx, testID, func(su *record.Setup) {
		for _, x := range learned {
			switch x.What {
			case bench.GaugeZero:
				su.Instrument.Zero = x.Value
			case bench.RigHolds:
				su.Instrument.RigHeld, su.Instrument.RigLoss = record.RigHeld, 0
			case bench.RigLoses:
				su.Instrument.RigHeld, su.Instrument.RigLoss = record.RigLost, x.Value
			}
		}
	})
}

// Piece is a stretch of readings of a run that is being read, as block number Block, and
// the gaps that are new or have grown, the first of them as number Gap.
type Piece struct {
	Run      string
	Block    int
	Table    record.Table
	From, To int // readings From up to, but without, To
	Gap      int
	Gaps     record.Gaps
}

// KeepReadings writes pieces of several runs with their gaps in one commit, before all
// else that waits to be written: a reading cannot be made again.
func (s *Shop) KeepReadings(ctx context.Context, pieces []Piece) error {
	return s.DB.WriteFirst(ctx, func(tx store.Tx) error {
		for _, p := range pieces {
			if err := tx.AppendReadings(p.Run, p.Block, store.Piece{Table: p.Table, From: p.From, To: p.To}); err != nil {
				return err
			}
			if err := tx.AppendGaps(p.Run, p.Gap, p.Gaps); err != nil {
				return err
			}
		}
		return nil
	})
}

// KeptReadings returns what is on disk of a run, and how many blocks that are.
func (s *Shop) KeptReadings(ctx context.Context, run string) (t record.Table, blocks int, err error) {
	tx := s.DB.Read(ctx)
	if t, err = tx.Readings(run); err != nil {
		return t, 0, err
	}
	blocks, err = tx.Blocks(run)
	return t, blocks, err
}

// measured says by whom and with what the readings of a result were measured, when they were
// read live.
func measured(tx store.Tx, caseID string, n NewResult) (id, words string, err error) {
	if n.Bench == "" {
		return "", "", nil
	}
	t, err := store.Get[record.Test](tx, n.Bench)
	if err != nil || t.CaseID != caseID || t.Key != n.Test {
		return "", "", problem("bench", "These readings were made in another test; load the page again.")
	}
	runs, err := store.OfTest(tx, t.ID)
	if err != nil {
		return "", "", err
	}
	return t.ID, MeasuredWith(standing(runs)), nil
}

// MeasuredWith says by whom and with what runs were measured, calibrated when; what was past its
// date is said.
func MeasuredWith(runs []record.Run) string {
	var who, with []string
	add := func(to *[]string, s string) {
		if s != "" && !slices.Contains(*to, s) {
			*to = append(*to, s)
		}
	}
	for _, r := range runs {
		if len(r.Channels) > 0 {
			add(&who, r.Who)
		}
		for _, c := range r.Channels {
			words := c.Instrument
			if c.Serial != "" {
				words += " " + c.Serial
			}
			if c.CalibratedOn != "" {
				words += ", calibrated " + c.CalibratedOn
			}
			if c.DueOn != "" && c.DueOn < r.At.Format(time.DateOnly) {
				words += ", past its date of " + c.DueOn
			}
			add(&with, words)
		}
	}
	out := strings.Join(with, "; ")
	if len(who) > 0 && out != "" {
		out = strings.Join(who, ", ") + " with " + out
	}
	return out
}

// pastDate says what of a run's channels was past its calibration date when it was read, a
// sentence each.
func pastDate(r record.Run) (out []string) {
	for _, c := range r.Channels {
		said := fmt.Sprintf("%s was to be calibrated by %s, and was past its date when this was read.", c.Instrument, c.DueOn)
		if c.DueOn != "" && c.DueOn < r.At.Format(time.DateOnly) && !slices.Contains(out, said) {
			out = append(out, said)
		}
	}
	return out
}

// Car is the plumbing of the test's car; false where nobody knows it.
func (l LiveTest) Car() (Car, bool) { return l.car, l.car.Car != nil }

// PlaceWords say what is seen at a part.
func (l LiveTest) PlaceWords(part, what string) string {
	name := part
	if p, ok := l.car.Graph.Part(part); ok {
		name = p.Name
	}
	words := map[string]string{bench.NothingThere: "looked at, nothing", bench.TakenBack: "taken back"}[what]
	if words == "" {
		words = what
	}
	return name + ": " + words
}

// Shown are readings in words, as the pages show them.
func (l LiveTest) Shown(r bench.Readings) []evidence.Line {
	typed := maps.Clone(r)
	for _, c := range l.Bench.Channels {
		if c.Worked { // it stands with the verdict
			delete(typed, c.Key)
		}
	}
	figures, exits := evidence.Figures(l.Entry, typed)
	return l.car.Lines(record.Result{Test: l.Test.Key, Part: l.Test.Part, Figures: figures, Exits: exits})
}

// Recorded is a run as it was read live, with its test.
type Recorded struct {
	LiveTest
	Run   record.Run
	Table record.Table
}

// Recorded returns a run with all that was read in it.
func (s *Shop) Recorded(ctx context.Context, run string) (x Recorded, err error) {
	tx := s.DB.Read(ctx)
	if x.Run, err = store.Get[record.Run](tx, run); err != nil {
		return x, err
	}
	if x.Table, err = tx.Readings(run); err != nil {
		return x, err
	}
	x.LiveTest, err = s.LiveTest(ctx, x.Run.TestID)
	if len(x.Run.Channels) == 0 { // a file, or read by a Wexter that read one module
		for _, q := range []record.Quantity{record.GaugePressure, record.RigWall}[:len(x.Table.Cols)] {
			kind, _ := q.Kind()
			x.Run.Channels = append(x.Run.Channels, record.RunChannel{Key: string(q), Name: q.Words(), Unit: units.Base(kind), Instrument: x.Run.Name})
		}
	}
	return x, err
}

// Zero is what is taken off a column before it is shown, in its unit.
func (l LiveTest) Zero(column string) float64 {
	if l.Holds() && column == string(record.GaugePressure) {
		return l.Test.Setup.Instrument.Zero
	}
	return 0
}

// Bay are the columns in the bay's units, zero taken off.
func (x Recorded) Bay() [][]float64 {
	out := make([][]float64, len(x.Table.Cols))
	for i, col := range x.Table.Cols {
		c := x.Run.Channels[i]
		_, to := x.Bench.InBay(c)
		for _, v := range col {
			out[i] = append(out[i], to.Of(v-x.Zero(c.Key)))
		}
	}
	return out
}

// StretchName is what a stretch of the test is called.
func (l LiveTest) StretchName(key record.RunKind) string {
	if w := key.Words(); w != "" {
		return Upper(w)
	}
	if st, ok := l.Bench.Stretch(l.Known(nil, 0), key); ok {
		return st.Name
	}
	return string(key)
}

// Play lets the test's own code see the run again, reading by reading, and says when it comes to
// another state.
func (x Recorded) Play(says func(t float64, st bench.State)) {
	resolution := 0.0
	if len(x.Run.Channels) > 0 {
		resolution = x.Run.Channels[0].Resolution
	}
	k := x.Known(nil, resolution)
	st, ok := x.LiveTest.Bench.Stretch(k, x.Run.Kind)
	if !ok {
		return
	}
	if x.Run.Planned > 0 {
		st.For = x.Run.Planned
	}
	w, last := x.LiveTest.Bench.Watch(k, st, x.Run.Channels), bench.State{}
	for i, t := range x.Table.Time {
		w.Take(t, x.Table.Row(i))
		if now := w.State(); now != last || i == 0 {
			last = now
			says(t, now)
		}
	}
}
