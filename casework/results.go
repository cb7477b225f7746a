package casework

import (
	"context"
	"math"
	"slices"
	"strings"

	"wexter/core/diagnose"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/store"
)

// NewObservation is something told or seen, by one tap.
type NewObservation struct {
	Kind      record.SeenKind
	Key, Part string
	Absent    bool
}

// Observe writes an observation down. What was said before of the same thing is struck
// out: the newest counts. Tapped again as it stands, it is taken back.
func (s *Shop) Observe(ctx context.Context, key, caseID string, n NewObservation) error {
	switch n.Kind {
	case record.SeenSign:
		if _, ok := s.Book.Sign(n.Key); !ok {
			return problem("sign", "there is no sign %q", n.Key)
		}
		n.Part = ""
	case record.SeenContext:
		if !slices.ContainsFunc(s.Book.Contexts, func(w knowledge.Word) bool { return w.Key == n.Key }) {
			return problem("circumstance", "there is no circumstance %q", n.Key)
		}
		n.Part, n.Absent = "", false
	case record.SeenRenewed, record.SeenMarks:
		n.Key, n.Absent = "", false
	default:
		return problem("observation", "a sign, a circumstance, a part renewed, or marks of earlier work")
	}
	_, err := s.do(ctx, key, func(tx store.Tx) (string, error) {
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
		if err := tx.Add(&x); err != nil {
			return "", err
		}
		return x.ID, advance(tx, c, c.Stage)
	})
	return err
}

// NewResult is what came out of a test.
type NewResult struct {
	Test, Part, Outcome, Note string
	Readings                  []float64 // in the Book's units; NaN where nothing was read
	Exits                     []record.ExitSeen
}

// check cleans what was typed and refuses what cannot be, whatever the car.
func (n *NewResult) check() error {
	var err error
	if n.Note, err = text("note", n.Note, 2000); err != nil {
		return err
	}
	if n.Outcome == "" {
		return problem("outcome", "say what came out")
	}
	for _, e := range n.Exits {
		if !e.Size.Known() {
			return problem("exits", "an exit is a wisp, a stream or a billow")
		}
	}
	if n.Outcome == "exit" && len(n.Exits) == 0 && !diagnose.PartTest(n.Test) {
		return problem("exits", "say where it came out: the place is what this test tells")
	}
	if n.Outcome != "exit" {
		n.Exits = nil
	}
	if len(n.Exits) > 12 {
		return problem("exits", "more than twelve exits: write the strongest down")
	}
	if n.Test == "look" && (n.Outcome == "seen" || n.Outcome == "marks") && n.Part == "" {
		return problem("part", "say on which part")
	}
	return nil
}

// AddResult writes the result of a test of the Book down. It is tried on the car first:
// what cannot be is refused in a sentence, and nothing is kept.
func (s *Shop) AddResult(ctx context.Context, key, caseID string, n NewResult) (string, error) {
	t, ok := s.Book.Test(n.Test)
	if !ok {
		return "", problem("test", "there is no test %q", n.Test)
	}
	if err := n.check(); err != nil {
		return "", err
	}
	x := record.Result{ID: newID(), CaseID: caseID, Test: n.Test, Part: n.Part, Outcome: n.Outcome, Note: n.Note, Figures: record.Figures{}, Exits: append(record.ExitsSeen{}, n.Exits...)}
	for i, r := range t.Reads {
		fig := record.Figure{Name: r.Name, Unit: r.Unit}
		if i < len(n.Readings) && !math.IsNaN(n.Readings[i]) {
			v := n.Readings[i]
			fig.Value = &v
		}
		x.Figures = append(x.Figures, fig)
	}
	return s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, err := open(tx, caseID, 0)
		if err != nil {
			return "", err
		}
		f, err := load(tx, caseID)
		if err != nil {
			return "", err
		}
		car, err := s.carOf(tx, f.Vehicle)
		if err != nil {
			return "", err
		}
		if x.Part != "" {
			if _, err := car.part(x.Part); err != nil {
				return "", err
			}
		}
		if x.Test == "smoke" && x.Part != "" && !slices.ContainsFunc(car.SmokeEntries(), func(p plumbing.Part) bool { return p.Key == x.Part }) {
			return "", problem("part", "smoke cannot be let into this car's vapour system there")
		}
		for _, e := range x.Exits {
			if _, err := car.part(e.Part); err != nil {
				return "", err
			}
		}
		m, err := s.model(f, car)
		if err != nil {
			return "", err
		}
		if _, err := m.Think(diagnose.History{{Evidence: car.ResultEvidence(x)}}); err != nil {
			msg := err.Error()
			if _, rest, ok := strings.Cut(msg, car.ResultWords(x)+": "); ok {
				msg = rest
			}
			return "", problem("result", "%s.", Upper(msg))
		}
		x.At = s.now()
		if err := tx.Add(&x); err != nil {
			return "", err
		}
		return x.ID, advance(tx, c, record.Hunt)
	})
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
		return problem("cause", "say why it failed: of itself, because of another trouble, or that nobody knows")
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
		if p.Photo, err = hashOf(tx, n.Photo); err != nil {
			return "", err
		}
		if err := tx.Add(&p); err != nil {
			return "", err
		}
		return p.ID, advance(tx, c, c.Stage)
	})
	return err
}
