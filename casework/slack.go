package casework

import (
	"context"
	"math"
	"slices"
	"strings"
	"time"
	"unicode"

	"wexter/core/calendar"
	"wexter/core/diagnose"
	"wexter/core/record"
	"wexter/evidence"
)

// Left is what is left of a case: work, a part to come, a night for its monitor.
type Left struct {
	Minutes int  // of work
	Days    int  // working days until the part is here
	Night   bool // the EVAP monitor needs a cold start after a night, and a drive
}

// Due is how a case stands against its inspection. All of it is an expectation, worked out
// when the case was last thought through; At is zero where there is no inspection.
type Due struct {
	At    time.Time     // closing time of the day of the inspection
	Ready time.Time     // when the car is expected to be ready
	Steps []Step        // until then, in order
	Slack time.Duration // working time from Ready to At; negative when the car will miss it
}

// Step is a stretch of a case's time that is still to come.
type Step struct {
	From, To time.Time
	Works    bool // somebody works on the car; otherwise it waits
}

// Has reports whether there is an inspection that the case can be held against.
func (d Due) Has() bool { return !d.At.IsZero() && !d.Ready.IsZero() }

// Misses reports whether the car will not be ready for its inspection.
func (d Due) Misses() bool { return d.Has() && d.Slack < 0 }

// leftOf works out what is left of a case from what is thought of it.
func (s *Shop) leftOf(f evidence.Folder, t *Thought) Left {
	l := Left{}
	c := f.Case
	if own, ok := s.Book.Plumbing.Find(f.Vehicle.Archetype); ok {
		l.Night = own.Monitor != "" && c.Monitors != record.MonitorsComplete
	}
	switch c.Stage {
	case record.Found, record.Repair:
		var repaired time.Time
		for _, r := range f.Repairs {
			if r.StruckAt == nil && r.DoneAt != nil && r.DoneAt.After(repaired) {
				repaired = *r.DoneAt
			}
		}
		for _, x := range f.Findings {
			if m, ok := t.State.Mend(x.Part); ok && x.StruckAt == nil && x.At.After(repaired) {
				l.Minutes += int(math.Round(m.Minutes))
				l.Days = max(l.Days, m.Days)
			}
		}
		if c.Stage == record.Repair { // its wait says when the part is here
			l.Days = 0
		}
	case record.Proof:
		p := f.Proof(s.Book)
		if !p.Repeat {
			l.Minutes += diagnose.Retest
		}
		if !p.Complaint {
			l.Minutes += diagnose.Driving
		}
	case record.Closed:
	default:
		m := t.State.Left(t.Bay)
		l.Minutes, l.Days = int(math.Round(m.Minutes)), m.Days
	}
	return l
}

// due holds a case against its inspection, as far as what is left of it is known.
func due(now time.Time, w calendar.Week, c record.Case, l Left) (d Due) {
	day, err := time.ParseInLocation(time.DateOnly, c.Deadline, now.Location())
	if far := day.Sub(now); err == nil && far < mostAhead && far > -mostAhead { // a date mistyped by a century is none
		d.At = w.Closing(day)
	}
	if c.NextBasis == "" && c.Stage != record.Closed { // nobody has thought it through
		return d
	}
	t := now
	step := func(to time.Time, works bool) {
		if to.After(t) {
			d.Steps = append(d.Steps, Step{t, to, works})
			t = to
		}
	}
	work := func(minutes int) {
		for left := time.Duration(minutes) * time.Minute; left > 0; {
			step(w.Opening(t), false) // the shop is shut
			begin := t
			step(earlier(w.Closing(t), t.Add(left)), true)
			left -= t.Sub(begin)
		}
	}
	waits := c.WaitUntil != nil && c.WaitUntil.After(now)
	if waits {
		step(c.WaitUntil.In(now.Location()), false)
		if c.WaitKind == record.WaitPart {
			l.Days = 0
		}
	}
	work(l.Minutes)
	step(w.AddDays(t, l.Days), false)
	if soaks := waits && slices.Contains([]record.WaitKind{record.WaitSoak, record.WaitDrive, record.WaitMonitors}, c.WaitKind); l.Night && !soaks {
		step(w.Morning(t), false)
		work(diagnose.Driving)
	}
	d.Ready = t
	if !d.At.IsZero() {
		d.Slack = w.Between(t, d.At)
	}
	return d
}

func earlier(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

// bySlack orders rows by how little time they have to spare; those without an inspection
// follow as they are.
func bySlack(a, b SlateRow) int {
	switch {
	case a.Due.Has() && b.Due.Has():
		return int((a.Due.Slack - b.Due.Slack) / time.Minute)
	case a.Due.Has():
		return -1
	case b.Due.Has():
		return 1
	}
	return 0
}

// Plan thinks every open case through whose next step or work left is not known as it now
// stands, so that the Slate says it before anybody opens one. What cannot be thought through
// is passed over; its own page says why.
func (s *Shop) Plan(ctx context.Context) error {
	rows, err := s.Slate(ctx)
	if err != nil {
		return err
	}
	w, err := s.Ways(ctx)
	if err != nil {
		return err
	}
	for _, r := range rows {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if r.Case.Stage == record.Closed || r.Case.NextBasis == s.nextBasis(r.Case, r.Vehicle, w) {
			continue
		}
		f, err := s.Load(ctx, r.Case.ID)
		if err != nil {
			return err
		}
		t, err := s.Think(ctx, f)
		if err != nil {
			continue
		}
		if err := s.KeepNext(ctx, f, t); err != nil {
			return err
		}
	}
	return nil
}

// mostInitials is how many letters initials have at most.
const mostInitials = 4

// initials folds what was typed of a person: "m. k." is MK.
func initials(typed string) (string, error) {
	who, err := text("who", typed, 40)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	n := 0
	for _, r := range who {
		switch {
		case unicode.IsLetter(r):
			b.WriteRune(unicode.ToUpper(r))
			n++
		case r != ' ' && r != '.' && r != '-':
			return "", problem("who", "initials are letters, such as MK")
		}
	}
	if n > mostInitials {
		return "", problem("who", "%q is longer than initials are: at most %d letters", who, mostInitials)
	}
	return b.String(), nil
}

// TakeOn says who works on a case; nobody when who is empty.
func (s *Shop) TakeOn(ctx context.Context, key, id, who string) error {
	who, err := initials(who)
	if err != nil {
		return err
	}
	return s.set(ctx, key, id, func(c *record.Case) { c.Who = who })
}

// Initials lists who works on the open cases, in order.
func (s *Shop) Initials(ctx context.Context) ([]string, error) { return s.DB.Read(ctx).Initials() }

// Today leaves of some finished cases, newest first, those closed since midnight where the
// shop is.
func (s *Shop) Today(rows []Finished) []Finished {
	now := s.Now().Local()
	midnight := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location())
	n := slices.IndexFunc(rows, func(r Finished) bool { return r.Case.ClosedAt.Before(midnight) })
	if n < 0 {
		n = len(rows)
	}
	return rows[:n]
}
