package casework

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"math"
	"slices"
	"strings"

	"wexter/core/diagnose"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/trim"
	"wexter/evidence"
	"wexter/ingest"
	"wexter/report"
	"wexter/store"
)

// Thought is the assessment of a case: its odds, and what to do next.
type Thought struct {
	State        *diagnose.State
	Explanations []diagnose.Explanation
	Plan         diagnose.Plan
	Clashes      []diagnose.Clash
	Left         []diagnose.Silent // evidence that was left out, and why
	Bay          diagnose.Bay
	Words        string // next, for the Slate
	Minutes      int
	Kit          []string // that it needs

	turns map[string]diagnose.Turn // see Trail; nil until somebody asked
}

// mostThoughts is how many cases are kept in mind at once.
const mostThoughts = 64

// thoughtKey names everything that a thought depends on: the program's algorithm and
// table, the Book, the whole folder with its car and corrections, and the bay. What is
// added to any of them later is in the key by itself, since all of it is written out.
// It is empty when that cannot be done; nothing is kept then.
func thoughtKey(b knowledge.Book, f evidence.Folder, bay diagnose.Bay) string {
	// A plain note, and the version that it counts up, say nothing of what is wrong.
	f.Case.Version = 0
	f.Notes = slices.DeleteFunc(slices.Clone(f.Notes), func(n record.Note) bool { return n.Kind == record.Noted })
	h := sha256.New()
	if err := json.NewEncoder(h).Encode([]any{diagnose.Version, trim.Version, ingest.TableVersion(), b.Version, f, bay}); err != nil {
		return ""
	}
	return string(h.Sum(nil))
}

// Think works out the assessment of a case. It is kept until anything changes on
// which it depends.
func (s *Shop) Think(ctx context.Context, f evidence.Folder) (*Thought, error) {
	car, err := s.Car(f.Vehicle, f.Corrections)
	if err != nil {
		return nil, err
	}
	bay, err := s.Bay(ctx, f)
	if err != nil {
		return nil, err
	}
	book, err := s.BookOf(ctx)
	if err != nil {
		return nil, err
	}
	key := thoughtKey(book, f, bay)
	if t, ok := s.minds.get(key); ok {
		return t, nil
	}
	var t *Thought
	err = s.InTurn(ctx, func() (err error) {
		var ok bool
		if t, ok = s.minds.get(key); ok { // somebody thought the same case through meanwhile
			return nil
		}
		if t, err = s.think(book, f, car, bay); err == nil && key != "" {
			s.minds.put(key, t, mostThoughts)
		}
		return err
	})
	return t, err
}

// think weighs what is on a case and plans what is next.
func (s *Shop) think(b knowledge.Book, f evidence.Folder, car Car, bay diagnose.Bay) (*Thought, error) {
	st, left, err := s.weigh(b, f, car)
	if err != nil {
		return nil, err
	}
	t := &Thought{State: st, Explanations: st.Explanations(), Left: append(left, st.Silent...), Bay: bay}
	t.Clashes = st.Clashes()
	bay.Doubts = diagnose.Doubts(t.Clashes)
	t.Plan = st.Next(bay)
	if len(t.Plan.Moves) > 0 {
		m := t.Plan.Moves[0]
		t.Words, t.Minutes = plumbing.Lower(m.Name), int(math.Round(m.Minutes))
		if m.Action != nil {
			test, _ := b.Test(m.Action.Test)
			t.Kit = test.Kit
		}
	}
	return t, nil
}

// Odds is how likely a fault is on a case: as was thought when that still holds, otherwise
// weighed without a plan.
func (s *Shop) Odds(ctx context.Context, f evidence.Folder, fault string) (float64, error) {
	car, err := s.Car(f.Vehicle, f.Corrections)
	if err != nil {
		return 0, err
	}
	bay, err := s.Bay(ctx, f)
	if err != nil {
		return 0, err
	}
	book, err := s.BookOf(ctx)
	if err != nil {
		return 0, err
	}
	if t, ok := s.minds.get(thoughtKey(book, f, bay)); ok {
		return t.State.Odds(fault), nil
	}
	st, _, err := s.weigh(book, f, car)
	if err != nil {
		return 0, err
	}
	return st.Odds(fault), nil
}

// weigh works out the odds of a case, and what was left out.
func (s *Shop) weigh(b knowledge.Book, f evidence.Folder, car Car) (*diagnose.State, []diagnose.Silent, error) {
	m, err := s.model(b, f, car)
	if err != nil {
		return nil, nil, err
	}
	h, left := evidence.History(f, car.Car)
	// One reading that cannot be weighed (of a part that a correction took away) must not
	// stop the rest: it is left out and named.
	var st *diagnose.State
	for range 50 {
		if st, err = m.Think(h); err == nil {
			break
		}
		n, at := worst(m, h)
		if n < 0 {
			return nil, nil, err
		}
		e := h[n].Evidence[at]
		left = append(left, diagnose.Silent{ID: e.ID, Says: e.Says, Why: strings.TrimPrefix(err.Error(), e.Says+": ")})
		h[n].Evidence = slices.Delete(slices.Clone(h[n].Evidence), at, at+1)
	}
	return st, left, err
}

// worst finds a piece of evidence that by itself cannot be weighed.
func worst(m *diagnose.Model, h diagnose.History) (epoch, at int) {
	for n := range h {
		for i := range h[n].Evidence {
			if _, err := m.Think(diagnose.History{{Evidence: h[n].Evidence[i : i+1]}}); err != nil {
				return n, i
			}
		}
	}
	return -1, 0
}

// model is what may be wrong with the car of a case.
func (s *Shop) model(b knowledge.Book, f evidence.Folder, car Car) (*diagnose.Model, error) {
	age := 0.0
	if f.Vehicle.Year > 1900 {
		age = math.Max(float64(f.Case.OpenedAt.Year()-f.Vehicle.Year), 0)
	}
	m, err := diagnose.New(b, cmp.Or(s.Table, ingest.Table()), diagnose.Car{Of: car.Combination, Graph: car.Graph, Age: age, Km: f.Vehicle.OdometerKM})
	if err != nil {
		return nil, problem("plumbing", "%s.", Upper(err.Error()))
	}
	return m, nil
}

// nextBasis names what the next step that is kept for the Slate rests on, by what the
// Slate has read anyway: versions of case and car instead of all that is on them.
func (s *Shop) nextBasis(c record.Case, v record.Vehicle, w Ways) string {
	h := sha256.New()
	_ = json.NewEncoder(h).Encode([]any{diagnose.Version, trim.Version, ingest.TableVersion(), s.Book.Version, c.Version, v.Version, w})
	return hex.EncodeToString(h.Sum(nil)[:12])
}

// KeepNext remembers what is to be done next and what is left of a case, for the Slate.
func (s *Shop) KeepNext(ctx context.Context, f evidence.Folder, t *Thought) error {
	w, err := s.Ways(ctx)
	if err != nil {
		return err
	}
	c := f.Case
	basis := s.nextBasis(c, f.Vehicle, w)
	if c.NextBasis == basis || c.Stage == record.Closed {
		return nil
	}
	c.Next, c.NextMinutes, c.NextKit, c.NextBasis = t.Words, t.Minutes, t.Kit, basis
	if err := s.InTurn(ctx, func() error {
		l := s.leftOf(f, t)
		c.LeftMinutes, c.LeftDays, c.LeftNight = l.Minutes, l.Days, l.Night
		return nil
	}); err != nil {
		return err
	}
	if !f.Read() || !slices.Contains([]record.Stage{record.Intake, record.Scan, record.Hunt}, c.Stage) {
		c.Next = "" // the order of the work says what is next
	}
	return s.DB.WriteEasy(ctx, func(tx store.Tx) error { return tx.KeepNext(c) })
}

// CaseVersion is counted up by everything that is done to a case.
func (s *Shop) CaseVersion(ctx context.Context, id string) (int, error) {
	return s.DB.Read(ctx).CaseVersion(id)
}

// ThinkOfBundle works out the assessment of a case from its bundle, without a
// shop: the state, the kit the case had at hand, and what was left out.
func (s *Shop) ThinkOfBundle(b report.Bundle) (*diagnose.State, []string, []diagnose.Silent, error) {
	f := evidence.Folder{Case: b.Case, Vehicle: b.Vehicle, Codes: b.Codes, Findings: b.Findings, Repairs: b.Repairs, Trials: b.Trials, Notes: b.Notes, Marks: b.Marks, Results: b.Results,
		Observations: b.Told, PostMortems: b.Opened, Corrections: b.Corrections, Cards: b.Cards}
	for _, x := range b.Scans {
		f.Scans = append(f.Scans, evidence.ReadScan(x))
	}
	for _, t := range b.Tests {
		tf := evidence.TestFolder{Test: t.Test}
		for _, r := range t.Runs {
			tf.Runs = append(tf.Runs, r.Run)
		}
		f.Tests = append(f.Tests, tf)
	}
	car, err := s.Car(f.Vehicle, f.Corrections)
	if err != nil {
		return nil, nil, nil, err
	}
	t, err := s.think(s.Book, f, car, diagnose.Bay{Kit: f.Case.Kit})
	if err != nil {
		return nil, nil, nil, err
	}
	return t.State, f.Case.Kit, t.Left, nil
}
