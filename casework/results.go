package casework

import (
	"context"
	"slices"
	"strings"

	"wexter/core/bench"
	"wexter/core/diagnose"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/evidence"
	"wexter/store"
)

// NewObservation is a symptom or a circumstance that was tapped.
type NewObservation struct {
	Kind      record.SeenKind
	Key, Part string
	Absent    bool
}

// Observe writes an observation down. What was said before of the same thing is struck
// out: the newest counts. Tapped again as it stands, it is taken back.
func (s *Shop) Observe(ctx context.Context, key, caseID string, n NewObservation) error {
	n, err := s.checkSeen(n)
	if err != nil {
		return err
	}
	_, err = s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, v, err := caseAndCar(tx, caseID)
		if err != nil {
			return "", err
		}
		if n.Part != "" || n.Kind == record.SeenRenewed || n.Kind == record.SeenMarks {
			car, err := s.carOf(tx, v)
			if err != nil {
				return "", err
			}
			if _, err := car.part(n.Part); err != nil {
				return "", err
			}
		}
		said, err := store.OfCase[record.Observation](tx, caseID)
		if err != nil {
			return "", err
		}
		at, again := s.now(), false
		for _, x := range standing(said) {
			if x.Kind != n.Kind || x.Key != n.Key || x.Part != n.Part {
				continue
			}
			again = again || x.Absent == n.Absent
			if err := tx.Stamp(store.Entry{Kind: record.ObservationEntry, ID: x.ID, Owner: caseID}, store.StruckAt, &at); err != nil {
				return "", err
			}
		}
		if again {
			return caseID, advance(tx, c, c.Stage)
		}
		x := record.Observation{ID: newID(), CaseID: caseID, Kind: n.Kind, Key: n.Key, Part: n.Part, Absent: n.Absent, At: at}
		if err := addToCase(tx, caseID, &x); err != nil {
			return "", err
		}
		return x.ID, advance(tx, c, c.Stage)
	})
	return err
}

// checkSeen refuses what the Book does not know, and leaves out what an observation of its
// kind does not have.
func (s *Shop) checkSeen(n NewObservation) (NewObservation, error) {
	switch n.Kind {
	case record.SeenSign:
		if _, ok := s.Book.Sign(n.Key); !ok {
			return n, problem("sign", "there is no sign %q", n.Key)
		}
		n.Part = ""
	case record.SeenContext:
		if !slices.ContainsFunc(s.Book.Contexts, func(w knowledge.Word) bool { return w.Key == n.Key }) {
			return n, problem("circumstance", "there is no circumstance %q", n.Key)
		}
		n.Part, n.Absent = "", false
	case record.SeenRenewed:
		n.Key = ""
	case record.SeenMarks:
		n.Key, n.Absent = "", false
	default:
		return n, problem("observation", "a sign, a circumstance, a part replaced, or marks of earlier work")
	}
	return n, nil
}

// NewResult is a test of the Book with what was read. Outcome is empty, and the readings name
// it, unless a person names another; Why is then the reason.
type NewResult struct {
	Test, Part, Note string
	Readings         bench.Readings
	Outcome, Why     string
	RepeatOf         string // the result that it repeats
	Bench            string // the test as it was read live; empty: it was typed
	Photo            *record.Photo
}

// AddResult writes the result of a test of the Book down: the readings judge, and a person may
// overrule them with a short reason. A reading that is missing is asked for. The result is tried on
// the car first: what cannot be is refused in a sentence, and nothing is kept.
func (s *Shop) AddResult(ctx context.Context, key, caseID string, n NewResult) (string, error) {
	t, ok := s.Book.Test(n.Test)
	if !ok {
		return "", problem("test", "there is no test %q", n.Test)
	}
	n, err := s.asRead(ctx, n)
	if err != nil {
		return "", err
	}
	if n.Note, err = text("note", n.Note, 2000); err != nil {
		return "", err
	}
	if n.Why, err = text("why", n.Why, 400); err != nil {
		return "", err
	}
	return s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, err := open(tx, caseID, 0)
		if err != nil {
			return "", err
		}
		f, err := s.load(tx, caseID)
		if err != nil {
			return "", err
		}
		car, err := s.carOf(tx, f.Vehicle)
		if err != nil {
			return "", err
		}
		x := record.Result{ID: newID(), CaseID: caseID, Test: n.Test, Part: n.Part, Note: n.Note, Overruled: n.Why}
		x.Figures, x.Exits = evidence.Figures(t, n.Readings)
		if err := car.canBe(t, n); err != nil {
			return "", err
		}
		if err := car.decide(t, n, &x); err != nil {
			return "", err
		}
		if x.RepeatOf, err = repeated(f, n); err != nil {
			return "", err
		}
		if err := s.tryOn(f, car, n, x); err != nil {
			return "", err
		}
		if x.Bench, x.Measured, err = measured(tx, caseID, n); err != nil {
			return "", err
		}
		if x.Photo, err = hashOf(tx, c, n.Photo); err != nil {
			return "", err
		}
		x.At = s.now()
		if err := addToCase(tx, caseID, &x); err != nil {
			return "", err
		}
		stage := record.Hunt
		if p := f.Proof(s.Book); p.Repaired && c.Stage == record.Proof {
			stage = record.Proof
		}
		return x.ID, advance(tx, c, stage)
	})
}

// asRead gives a result what its bench read and worked out that no form carries.
func (s *Shop) asRead(ctx context.Context, n NewResult) (NewResult, error) {
	n, err := s.withDrive(ctx, n)
	if err != nil {
		return n, err
	}
	return s.withWorked(ctx, n)
}

// JudgeResult says what readings come to, without writing anything down.
func (s *Shop) JudgeResult(ctx context.Context, caseID string, n NewResult) (bench.Verdict, error) {
	t, ok := s.Book.Test(n.Test)
	if !ok {
		return bench.Verdict{}, problem("test", "there is no test %q", n.Test)
	}
	f, err := s.Load(ctx, caseID)
	if err != nil {
		return bench.Verdict{}, err
	}
	car, err := s.Car(f.Vehicle, f.Corrections)
	if err != nil {
		return bench.Verdict{}, err
	}
	if err := car.canBe(t, n); err != nil {
		return bench.Verdict{}, err
	}
	if n, err = s.asRead(ctx, n); err != nil {
		return bench.Verdict{}, err
	}
	v, err := car.judge(t, n)
	if err == nil && v.Outcome == "" {
		err = &Problem{Field: v.Ask, Sentence: v.Says}
	}
	return v, err
}

// judge turns readings of a test of this car into a verdict.
func (c Car) judge(t knowledge.Test, n NewResult) (bench.Verdict, error) {
	v, err := bench.Judge(t, c.Subject(n.Part), n.Readings)
	if err != nil {
		return v, problem("reading", "%s.", Upper(strings.TrimSuffix(err.Error(), ".")))
	}
	return v, nil
}

// canBe refuses parts that a test cannot be of, and places that this car does not have.
func (c Car) canBe(t knowledge.Test, n NewResult) error {
	b := bench.For(t)
	if !t.Fits(c.Combination) {
		return problem("test", "This test is not for this car.")
	}
	if n.Part != "" {
		if _, err := c.part(n.Part); err != nil {
			return err
		}
	}
	at := func(p plumbing.Part) bool { return p.Key == n.Part }
	switch {
	case b.On == bench.OnePart && n.Part == "":
		return problem("part", "Say which part was tried.")
	case b.On == bench.OnePart && !slices.ContainsFunc(c.Targets(t.Key), at):
		return problem("part", "This test does not try that part.")
	case b.On == bench.SealedSystem && n.Part != "" && !slices.ContainsFunc(c.SmokeEntries(), at):
		return problem("part", "Smoke cannot be fed into this car's EVAP system there.")
	}
	for _, r := range n.Readings {
		if len(r.Places) > mostPlaces {
			return problem("exits", "more than twelve places: write the strongest down")
		}
		for _, p := range r.Places {
			if _, err := c.part(p.Part); err != nil {
				return err
			}
		}
	}
	return nil
}

// mostPlaces is how many places a test may show.
const mostPlaces = 12

// decide takes the outcome from the readings, or from the person who overrules them.
func (c Car) decide(t knowledge.Test, n NewResult, x *record.Result) error {
	v, err := c.judge(t, n)
	if err != nil {
		return err
	}
	x.Judged, x.Says, x.Outcome = v.Outcome, v.Says, n.Outcome
	if _, ok := t.Outcome(n.Outcome); n.Outcome != "" && !ok {
		return problem("outcome", "the test %q has no outcome %q", t.Name, n.Outcome)
	}
	byHand := bench.For(t).Odds == bench.ByHand
	switch {
	case n.Outcome == "" && v.Outcome != "":
		x.Outcome, x.Overruled = v.Outcome, ""
	case n.Outcome == "" && byHand:
		return problem("outcome", "This test is judged by hand: say what came out.")
	case n.Outcome == "":
		return &Problem{Field: v.Ask, Sentence: v.Says}
	case n.Outcome == v.Outcome:
		x.Overruled = ""
	case n.Why == "" && !byHand:
		return problem("why", "The readings say otherwise, or are not complete. Say briefly why \"%s\" is right all the same.", outcomeName(t, n.Outcome))
	}
	return nil
}

func outcomeName(t knowledge.Test, key string) string {
	o, _ := t.Outcome(key)
	return o.Name
}

// repeated checks what a result repeats: one of the same test and part, on the same case.
func repeated(f evidence.Folder, n NewResult) (string, error) {
	if n.RepeatOf == "" {
		return "", nil
	}
	i := slices.IndexFunc(f.Results, func(r record.Result) bool { return r.ID == n.RepeatOf && !r.Struck() })
	if i < 0 {
		return "", problem("repeat", "The result that this one repeats is not on this case.")
	}
	if r := f.Results[i]; r.Test != n.Test || r.Part != n.Part {
		return "", problem("repeat", "A repeat is the same test of the same part; that was %q.", r.Test)
	}
	return n.RepeatOf, nil
}

// tryOn holds a result against the reasoning: what cannot have come out of a test on this car
// is refused.
func (s *Shop) tryOn(f evidence.Folder, car Car, n NewResult, x record.Result) error {
	on := x
	on.ID = "" // another one each time it is tried
	_, err := aside(s, "try on", []any{s.Book.Version, f.Vehicle, f.Corrections, f.Case.OpenedAt, on, n.drive()}, func(context.Context) (struct{}, error) {
		m, err := s.model(s.Book, f, car)
		if err != nil {
			return struct{}{}, err
		}
		if _, err = m.Think(diagnose.History{{Evidence: car.ResultEvidence(x, n.drive())}}); err != nil {
			msg := err.Error()
			if _, rest, ok := strings.Cut(msg, car.ResultWords(x)+": "); ok {
				msg = rest
			}
			err = problem("result", "%s.", Upper(strings.TrimSuffix(msg, ".")))
		}
		return struct{}{}, err
	})
	return err
}

// unread are the ways in which the scan is answered without one, by the outcome of the Book's
// test of codes and readiness, with the readings that this stands for.
var unread = map[string]bench.Readings{
	"no-tool":         nil,
	"no-check":        nil,
	"none-complete":   {"codes": {}, "open": {}},
	"none-incomplete": {"codes": {}, "open": bench.Said("not all")},
}

// Unread records that there are no codes, or why none were read, so that the
// hunt goes on.
func (s *Shop) Unread(ctx context.Context, key, caseID, how string) error {
	r, ok := unread[how]
	if !ok {
		return problem("scan", "There is no such answer: no scan tool here, no codes, or a car that checks nothing by itself.")
	}
	_, err := s.AddResult(ctx, key, caseID, NewResult{Test: bench.Readiness.Key, Readings: r, Outcome: how, Why: "tapped on the case"})
	return err
}

// Answer says why a found part failed: a fault of which it is the victim,
// record.NoCause or record.CauseUnknown; and in words.
type Answer struct{ Finding, Cause, Why string }

// SetCause answers why a part failed, before the new one goes on.
func (s *Shop) SetCause(ctx context.Context, key, caseID string, a Answer) error {
	why, err := text("why", a.Why, 1000)
	if err != nil {
		return err
	}
	_, err = s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, v, err := caseAndCar(tx, caseID)
		if err != nil {
			return "", err
		}
		x, err := store.Get[record.Finding](tx, a.Finding)
		if err != nil || x.CaseID != caseID {
			return "", ErrNotFound
		}
		if err := s.checkCause(tx, v, x.Part, a.Cause); err != nil {
			return "", err
		}
		x.Cause, x.Why = a.Cause, why
		if err := tx.Put(&x); err != nil {
			return "", err
		}
		return x.ID, advance(tx, c, c.Stage)
	})
	return err
}

func (s *Shop) checkCause(tx store.Tx, v record.Vehicle, fault, cause string) error {
	switch cause {
	case "":
		return problem("cause", "say why it failed: on its own, because of another fault, or not known")
	case record.NoCause, record.CauseUnknown:
		return nil
	}
	car, err := s.carOf(tx, v)
	if err != nil {
		return err
	}
	if _, ok := s.Book.Fault(cause); !ok || cause == fault || !car.Can(cause) {
		return problem("cause", "this car cannot have %q as a cause of it", cause)
	}
	return nil
}

// NewPostMortem is what a failed part looked like when it was opened.
type NewPostMortem struct {
	Finding, Text string
	Confirmed     record.Confirmed
	Photo         *record.Photo
}

// Open writes the post-mortem of a part down; a closed case still takes it, for parts are
// opened when there is time.
func (s *Shop) Open(ctx context.Context, key, caseID string, n NewPostMortem) error {
	if !n.Confirmed.Known() {
		return problem("confirmed", "say whether the part shows the failure: yes, no, or unclear")
	}
	var err error
	if n.Text, err = text("what was seen", n.Text, 2000); err != nil {
		return err
	}
	if n.Text == "" && n.Photo == nil {
		return problem("what was seen", "say what the opened part looks like, or take a photo of it")
	}
	_, err = s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, err := store.Get[record.Case](tx, caseID)
		if err != nil {
			return "", err
		}
		x, err := store.Get[record.Finding](tx, n.Finding)
		if err != nil || x.CaseID != caseID {
			return "", ErrNotFound
		}
		p := record.PostMortem{ID: newID(), CaseID: caseID, FindingID: n.Finding, Confirmed: n.Confirmed, Text: n.Text, At: s.now()}
		if p.Photo, err = hashOf(tx, c, n.Photo); err != nil {
			return "", err
		}
		if err := addToCase(tx, caseID, &p); err != nil {
			return "", err
		}
		return p.ID, advance(tx, c, c.Stage)
	})
	return err
}

// withWorked gives a result that was read on a bench what the bench worked out: nobody types that.
func (s *Shop) withWorked(ctx context.Context, n NewResult) (NewResult, error) {
	e, _ := s.Book.Test(n.Test)
	t := bench.For(e)
	if n.Bench == "" || !slices.ContainsFunc(t.Channels, func(c bench.Channel) bool { return c.Worked }) {
		return n, nil
	}
	l, err := s.LiveTest(ctx, n.Bench)
	if err != nil || l.Case.ID == "" || l.Test.Key != n.Test {
		return n, err
	}
	read, worked := l.Readings(), bench.Readings{}
	for _, c := range t.Channels {
		if x, ok := read[c.Key]; ok && c.Worked {
			worked[c.Key] = x
		}
	}
	n.Readings = n.Readings.With(worked)
	return n, nil
}
