package casework

import (
	"context"
	"strings"
	"time"

	"wexter/core/diagnose"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/evidence"
	"wexter/ingest"
	"wexter/store"
)

// NewFinding is a part that was found.
// It needs a test that singles it out, tests that cleared the rest (By is
// record.ByElimination), or the technician's judgement (record.ByWord).
type NewFinding struct {
	Part, Place, How string
	By               record.Ground
	Photo            *record.Photo
}

// AddFinding writes down what was found.
func (s *Shop) AddFinding(ctx context.Context, key, id string, n NewFinding) error {
	if _, ok := s.Book.Fault(n.Part); !ok {
		return problem("part", "choose the part that was found")
	}
	var err error
	if n.Place, err = text("place", n.Place, 400); err != nil {
		return err
	}
	if n.How, err = text("how it was found", n.How, 2000); err != nil {
		return err
	}
	if n.How == "" {
		return problem("how it was found", "say what singled it out: the smoke seen, the joint that dripped; the next person starts from it")
	}
	book, err := s.BookOf(ctx)
	if err != nil {
		return err
	}
	_, err = s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, err := open(tx, id, 0)
		if err != nil {
			return "", err
		}
		f := record.Finding{ID: newID(), CaseID: id, Part: n.Part, Place: n.Place, How: n.How, At: s.now()}
		folder, err := s.load(tx, id)
		if err != nil {
			return "", err
		}
		if f.Odds, err = s.oddsAside(book, folder, n.Part); err != nil {
			return "", err
		}
		if f.By, f.RestsOn, err = s.restsOn(folder, f.Odds, n); err != nil {
			return "", err
		}
		if f.Photo, err = hashOf(tx, c, n.Photo); err != nil {
			return "", err
		}
		if err := addToCase(tx, id, &f); err != nil {
			return "", err
		}
		return f.ID, advance(tx, c, record.Found)
	})
	return err
}

// restsOn says what a finding rests on, when the part is as likely as odds.
func (s *Shop) restsOn(folder evidence.Folder, odds float64, n NewFinding) (by record.Ground, on string, err error) {
	var rests, cleared []string
	if car, err := s.Car(folder.Vehicle, folder.Corrections); err == nil { // with an archetype that is gone only a word is left
		rests, cleared = car.RestsOn(folder, n.Part, odds), car.Cleared(folder)
	}
	switch {
	case len(rests) > 0:
		return record.ByTest, strings.Join(rests, "; "), nil
	case n.By == record.ByElimination && len(cleared) > 0:
		return record.ByElimination, strings.Join(cleared, "; "), nil
	case n.By == record.ByElimination:
		return "", "", problem("found", "Nothing on this case has cleared other parts yet, so elimination has nothing to rest on.")
	case n.By == record.ByWord:
		return record.ByWord, "", nil
	}
	return "", "", problem("found", "No test on this case singles this part out. Test it by itself, flag the exit seen there, say that the rest was eliminated, or tick that it is your judgement.")
}

// oddsAside is how likely a part is on a case, worked out beside the writer; 0 on a case
// that cannot be weighed, for there too something may be found.
func (s *Shop) oddsAside(b knowledge.Book, f evidence.Folder, part string) (float64, error) {
	return aside(s, "odds", []any{diagnose.Version, ingest.TableVersion(), b.Version, f, part}, func(ctx context.Context) (float64, error) {
		odds, err := s.Odds(ctx, f, part)
		if err != nil {
			return 0, ctx.Err()
		}
		return odds, nil
	})
}

// NewRepair is a repair, done or waiting for its part.
type NewRepair struct {
	Action, Parts, Seals string
	CostCents            int64
	Minutes              int
	TorqueNm             float64
	Lasting              bool
	WaitUntil            *time.Time // a part is waited for
	WaitNote             string
	Causes               map[string]string // why what was found failed, by finding: see SetCause
	Why                  string            // in words
	Photo                *record.Photo
}

// AddRepair writes down a repair; with a date it waits for a part until then.
func (s *Shop) AddRepair(ctx context.Context, key, id string, n NewRepair) error {
	var err error
	for _, f := range []struct {
		name string
		p    *string
	}{{"what was done", &n.Action}, {"parts", &n.Parts}, {"seals", &n.Seals}, {"what is waited for", &n.WaitNote}} {
		if *f.p, err = text(f.name, *f.p, 1000); err != nil {
			return err
		}
	}
	if err := fits(record.RepairDone{CostCents: n.CostCents, Minutes: n.Minutes, Torque: n.TorqueNm}.Check()); err != nil {
		return err
	}
	switch {
	case n.Action == "":
		return problem("what was done", "say what is done in the repair")
	case n.WaitUntil != nil && !soon(*n.WaitUntil, s.now()):
		return problem("until", "the part is expected in the past, or years ahead; give a day to come, or leave it empty when the repair is done")
	}
	_, err = s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, err := open(tx, id, 0)
		if err != nil {
			return "", err
		}
		found, err := store.OfCase[record.Finding](tx, id)
		if err != nil {
			return "", err
		}
		if found = standing(found); len(found) == 0 {
			return "", problem("", "nothing is written down as found yet; say what was found before it is repaired")
		}
		if err := s.askCauses(tx, c, found, n); err != nil {
			return "", err
		}
		r := record.RepairDone{ID: newID(), CaseID: id, Action: n.Action, Parts: n.Parts, Seals: n.Seals, CostCents: n.CostCents,
			Minutes: n.Minutes, Torque: n.TorqueNm, Lasting: n.Lasting, At: s.now()}
		if r.Photo, err = hashOf(tx, c, n.Photo); err != nil {
			return "", err
		}
		stage := record.Proof
		if n.WaitUntil == nil {
			r.DoneAt = &r.At
		} else {
			stage = record.Repair
			c.WaitKind, c.WaitNote = record.WaitPart, n.WaitNote
			until := n.WaitUntil.UTC().Truncate(time.Second)
			c.WaitUntil = &until
		}
		if err := addToCase(tx, id, &r); err != nil {
			return "", err
		}
		return r.ID, advance(tx, c, stage)
	})
	return err
}

// askCauses keeps why each part failed, before the new one goes on. Where the Book knows
// what it may be the victim of, an answer is asked for.
func (s *Shop) askCauses(tx store.Tx, c record.Case, found []record.Finding, n NewRepair) error {
	why, err := text("why", n.Why, 1000)
	if err != nil {
		return err
	}
	v, err := store.Get[record.Vehicle](tx, c.VehicleID)
	if err != nil {
		return err
	}
	car, err := s.carOf(tx, v)
	if err != nil {
		return err
	}
	for _, x := range found {
		if x.Cause != "" {
			continue
		}
		fault, _ := s.Book.Fault(x.Part)
		answer := n.Causes[x.ID]
		if answer == "" {
			for _, k := range fault.Causes {
				if k, ok := s.Book.Fault(k); ok && car.Can(k.Key) {
					return problem("why it failed", "Why did it fail (%s)? It may be the victim of another fault: %s. Answer before the new part goes on; \"not known\" is an answer.", plumbing.Lower(fault.Name), plumbing.Lower(k.Name))
				}
			}
			continue
		}
		if err := s.checkCause(tx, v, x.Part, answer); err != nil {
			return err
		}
		x.Cause, x.Why = answer, why
		if err := tx.Put(&x); err != nil {
			return err
		}
	}
	return nil
}

// FinishRepair says that a repair that waited for its part is done.
func (s *Shop) FinishRepair(ctx context.Context, key, caseID, id string) error {
	_, err := s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, err := open(tx, caseID, 0)
		if err != nil {
			return "", err
		}
		r, err := store.Get[record.RepairDone](tx, id)
		if err != nil || r.CaseID != caseID {
			return "", ErrNotFound
		}
		at := s.now()
		r.DoneAt = &at
		if err := tx.Put(&r); err != nil {
			return "", err
		}
		if c.WaitKind == record.WaitPart {
			c.WaitKind, c.WaitNote, c.WaitUntil = "", "", nil
		}
		return id, advance(tx, c, record.Proof)
	})
	return err
}

// NewWait is what a case waits for, and until when. An empty kind takes it up again.
type NewWait struct {
	Kind  record.WaitKind
	Note  string
	Until *time.Time
}

// Wait parks a case until a time, or takes it up again.
func (s *Shop) Wait(ctx context.Context, key, id string, n NewWait) error {
	waits := n.Kind != ""
	if waits && n.Kind.Words() == "" {
		return problem("wait", "a case waits for a part, a soak, a drive, the monitors or the customer")
	}
	note, err := text("note", n.Note, 200)
	if err != nil {
		return err
	}
	if waits && (n.Until == nil || !soon(*n.Until, s.now())) {
		return problem("until", "say until when: a day and time to come, within five years")
	}
	return s.set(ctx, key, id, func(c *record.Case) {
		c.WaitKind, c.WaitNote, c.WaitUntil = n.Kind, note, nil
		if waits {
			u := n.Until.UTC().Truncate(time.Second)
			c.WaitUntil = &u
		}
	})
}

// NewTrial is the complaint tried again as the customer met it.
type NewTrial struct {
	How     string
	Minutes float64
	Gone    bool
}

// TryComplaint writes down that the complaint was tried again.
func (s *Shop) TryComplaint(ctx context.Context, key, id string, n NewTrial) error {
	how, err := text("how it was tried", n.How, 1000)
	if err != nil {
		return err
	}
	if how == "" {
		return problem("how it was tried", "say how it was tried, as the customer met it")
	}
	if !(n.Minutes > 0) || n.Minutes > 24*60 {
		return problem("duration", "the duration lies between 0 and 1440 minutes")
	}
	_, err = s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, err := open(tx, id, 0)
		if err != nil {
			return "", err
		}
		t := record.Trial{ID: newID(), CaseID: id, How: how, Seconds: int(n.Minutes*60 + 0.5), Gone: n.Gone, At: s.now()}
		if err := addToCase(tx, id, &t); err != nil {
			return "", err
		}
		return t.ID, advance(tx, c, c.Stage)
	})
	return err
}

// Monitors notes whether the EVAP monitor has run; typed by hand.
func (s *Shop) Monitors(ctx context.Context, key, id string, state record.Monitors) error {
	if state != "" && state != record.MonitorsIncomplete && state != record.MonitorsComplete {
		return problem("monitors", "the monitors are complete or not complete")
	}
	_, err := s.do(ctx, key, func(tx store.Tx) (string, error) {
		// A closed case keeps its place on the rail until the monitor has run, so this
		// one thing may still be noted.
		c, err := store.Get[record.Case](tx, id)
		if err != nil {
			return "", err
		}
		c.Monitors = state
		return id, advance(tx, c, c.Stage)
	})
	return err
}

// Close ends a case: proven when the proof is whole, otherwise without proof and
// with a reason.
func (s *Shop) Close(ctx context.Context, key, id, reason string) error {
	reason, err := text("reason", reason, 1000)
	if err != nil {
		return err
	}
	_, err = s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, err := open(tx, id, 0)
		if err != nil {
			return "", err
		}
		f, err := s.load(tx, id)
		if err != nil {
			return "", err
		}
		for _, t := range f.Tests {
			for _, r := range t.Runs {
				if r.EndedAt == nil && r.StruckAt == nil {
					return "", problem("", "A leg of this case is being read; stop it first.")
				}
			}
		}
		if left := f.LeftOn(s.Book); len(left) > 0 {
			return "", problem("", "%s is still on the car: take it out, say so on the case, then close it.", Upper(left[0].Leaves))
		}
		c.Outcome = record.Proven
		if p := f.Proof(s.Book); !p.Whole() {
			c.Outcome = record.Unproven
			if reason == "" {
				return "", problem("reason", "%s Give the reason for closing without proof.", p.Missing())
			}
		}
		c.Reason = reason
		at := s.now()
		c.ClosedAt, c.WaitKind, c.WaitNote, c.WaitUntil = &at, "", "", nil
		return id, advance(tx, c, record.Closed)
	})
	return err
}
