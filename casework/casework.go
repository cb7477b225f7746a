// Package casework is what people do to a case, one function for each thing a
// person does. It owns the transactions: an action is done whole or not at all, a
// form sent twice does its work once, and two people on one case are told of each
// other.
package casework

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/store"
)

// Shop does casework on a database.
type Shop struct {
	DB   *store.DB
	Book knowledge.Book
	Now  func() time.Time

	cars  carCache
	minds thoughts
}

// Upper begins a sentence with a capital.
func Upper(s string) string {
	r, n := utf8.DecodeRuneInString(s)
	if n == 0 {
		return ""
	}
	return string(unicode.ToUpper(r)) + s[n:]
}

// Problem is a refusal in one sentence that says what is wrong and what to do.
type Problem struct {
	Field, Sentence string
}

func (p *Problem) Error() string { return p.Sentence }

func problem(field, format string, a ...any) error {
	return &Problem{Field: field, Sentence: fmt.Sprintf(format, a...)}
}

// Question is something that is probably a mistake and is asked once.
type Question struct{ Sentence string }

func (q *Question) Error() string { return q.Sentence }

// Conflict says that somebody saved first.
type Conflict struct{ What string }

func (c *Conflict) Error() string {
	return c.What + " was saved by somebody else meanwhile; look at the difference and save again"
}

// ErrNotFound is returned for what is not in the shop.
var ErrNotFound = errors.New("this is not in the shop's records")

func (s *Shop) now() time.Time { return s.Now().UTC().Truncate(time.Millisecond) }

func newID() string { return uuid.NewString() }

// do runs an action in one transaction and returns the id it made. With a key the
// action is done once: a second call returns the first one's id.
func (s *Shop) do(ctx context.Context, key string, action func(tx *gorm.DB) (string, error)) (id string, err error) {
	err = s.DB.Write(ctx, func(tx *gorm.DB) error {
		if key != "" {
			var sent []string
			if err := tx.Table("sent_forms").Where("key = ?", key).Pluck("target", &sent).Error; err != nil {
				return err
			}
			if len(sent) > 0 {
				id = sent[0]
				return nil
			}
		}
		var err error
		if id, err = action(tx); err != nil {
			return err
		}
		if key == "" {
			return nil
		}
		return tx.Exec("INSERT INTO sent_forms(key, target, at) VALUES(?, ?, ?)", key, id, s.now()).Error
	})
	return id, err
}

func find[T any](tx *gorm.DB, id string) (T, error) {
	var v T
	err := tx.Where("id = ?", id).Take(&v).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return v, ErrNotFound
	}
	return v, err
}

// text cleans a typed line or paragraph: no control characters, no blanks around,
// at most most characters.
func text(field, s string, most int) (string, error) {
	s = strings.TrimSpace(strings.ReplaceAll(s, "\r\n", "\n"))
	if !utf8.ValidString(s) {
		return "", problem(field, "%s holds bytes that are no text", field)
	}
	for _, r := range s {
		if unicode.IsControl(r) && r != '\n' && r != '\t' {
			return "", problem(field, "%s holds a control character", field)
		}
	}
	if n := utf8.RuneCountInString(s); n > most {
		return "", problem(field, "%s is %d characters long; at most %d are kept", field, n, most)
	}
	return s, nil
}

// PlateKey folds a plate so that "sq 12-b" and "SQ12B" are one car.
func PlateKey(plate string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToUpper(r)
		}
		return -1
	}, plate)
}

// NewCase is what is asked when a car comes in.
type NewCase struct {
	Plate, Make, Model                             string
	Year, OdometerKM                               int
	TankL                                          float64
	Metering, Archetype                            string
	Engine, Boost, Crankcase, Recirculation        string // may be left out: the Map then says what it assumes
	Complaint, Circumstances, RecentWork, Deadline string
	Codes                                          string
}

// OpenCase remembers the car by its plate and opens a case on it.
func (s *Shop) OpenCase(ctx context.Context, key string, n NewCase) (string, error) {
	var err error
	for _, f := range []struct {
		name string
		p    *string
		most int
		need bool
	}{{"plate", &n.Plate, 24, true}, {"make", &n.Make, 40, true}, {"model", &n.Model, 40, true}, {"complaint", &n.Complaint, 2000, true},
		{"when it happens", &n.Circumstances, 2000, false}, {"recent work", &n.RecentWork, 2000, false}} {
		if *f.p, err = text(f.name, *f.p, f.most); err != nil {
			return "", err
		}
		if f.need && *f.p == "" {
			return "", problem(f.name, "the %s is missing", f.name)
		}
	}
	if PlateKey(n.Plate) == "" {
		return "", problem("plate", "a plate or shop id needs a letter or a figure")
	}
	if n.Year != 0 && (n.Year < 1960 || n.Year > s.Now().Year()+1) {
		return "", problem("year", "%d is not a model year this shop can have", n.Year)
	}
	if n.OdometerKM < 0 || n.OdometerKM > 5_000_000 {
		return "", problem("odometer", "%d km is not an odometer reading", n.OdometerKM)
	}
	if n.TankL < 5 || n.TankL > 400 {
		return "", problem("tank size", "a tank holds between 5 and 400 L; this says %.4g L", n.TankL)
	}
	if n.Metering != "maf" && n.Metering != "map" && n.Metering != "unknown" {
		return "", problem("metering", "choose how the engine meters its air")
	}
	if a, ok := s.Book.Plumbing.Find(n.Archetype); !ok || a.Family != "vapour" {
		return "", problem("self-check", "choose how the vapour system checks itself")
	}
	built := plumbing.Combination{Engine: n.Engine, Boost: n.Boost, Crankcase: n.Crankcase, Recirculation: n.Recirculation, Vapour: n.Archetype}
	if _, err := s.Book.Plumbing.Complete(built); err != nil {
		return "", problem("plumbing", "%s.", Upper(err.Error()))
	}
	if n.Engine == "na-maf" && n.Metering == "map" || n.Engine == "na-map" && n.Metering == "maf" {
		return "", problem("metering", "the engine and how it meters its air contradict each other")
	}
	if n.Deadline != "" {
		if _, err := time.Parse(time.DateOnly, n.Deadline); err != nil {
			return "", problem("inspection", "%q is not a date", n.Deadline)
		}
	}
	codes, err := splitCodes(n.Codes)
	if err != nil {
		return "", err
	}
	return s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		v := record.Vehicle{}
		err := tx.Where("plate_key = ?", PlateKey(n.Plate)).Take(&v).Error
		if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
			return "", err
		}
		known := err == nil
		if !known {
			v = record.Vehicle{ID: newID(), PlateKey: PlateKey(n.Plate), CreatedAt: s.now()}
		}
		v.Plate, v.Make, v.Model, v.Year, v.OdometerKM = n.Plate, n.Make, n.Model, n.Year, n.OdometerKM
		v.TankL, v.Metering, v.Archetype = n.TankL, n.Metering, n.Archetype
		for _, f := range []struct {
			to   *string
			said string
		}{{&v.Engine, n.Engine}, {&v.Boost, n.Boost}, {&v.Crankcase, n.Crankcase}, {&v.Recirculation, n.Recirculation}} {
			if f.said != "" { // what the shop knows already is not forgotten
				*f.to = f.said
			}
		}
		if err := tx.Save(&v).Error; err != nil {
			return "", err
		}
		number, err := nextNumber(tx)
		if err != nil {
			return "", err
		}
		c := record.Case{ID: newID(), Number: number, VehicleID: v.ID, Stage: record.Scan, Complaint: n.Complaint,
			Circumstances: n.Circumstances, RecentWork: n.RecentWork, Deadline: n.Deadline, OpenedAt: s.now(), Version: 1}
		if err := tx.Create(&c).Error; err != nil {
			return "", err
		}
		for _, code := range codes {
			if err := tx.Create(&record.Code{ID: newID(), CaseID: c.ID, Code: code, Status: "stored", At: s.now()}).Error; err != nil {
				return "", err
			}
		}
		return c.ID, nil
	})
}

func splitCodes(s string) ([]string, error) {
	var out []string
	seen := map[string]bool{}
	for _, w := range strings.FieldsFunc(s, func(r rune) bool { return unicode.IsSpace(r) || r == ',' || r == ';' }) {
		c, err := knowledge.FoldCode(w)
		if err != nil {
			return nil, problem("codes", "%v", err)
		}
		if !seen[c] {
			out, seen[c] = append(out, c), true
		}
	}
	if len(out) > 40 {
		return nil, problem("codes", "more than 40 codes; note the ones that matter")
	}
	return out, nil
}

// nextNumber counts cases up: SQ-101, SQ-102.
func nextNumber(tx *gorm.DB) (string, error) {
	var last int
	err := tx.Raw("SELECT COALESCE(MAX(CAST(substr(number, 4) AS INTEGER)), 100) FROM cases WHERE number LIKE 'SQ-%'").Scan(&last).Error
	return fmt.Sprintf("SQ-%d", last+1), err
}

// open loads a case that is not closed and checks the version when one is given.
func open(tx *gorm.DB, id string, version int) (record.Case, error) {
	c, err := find[record.Case](tx, id)
	if err != nil {
		return c, err
	}
	if c.Stage == record.Closed {
		return c, problem("", "case %s is closed; open a new one for this car", c.Number)
	}
	if version != 0 && version != c.Version {
		return c, &Conflict{What: "case " + c.Number}
	}
	return c, nil
}

// advance saves a case at least at stage, with its version counted up.
func advance(tx *gorm.DB, c record.Case, stage record.Stage) error {
	if stage.Index() > c.Stage.Index() {
		c.Stage = stage
	}
	c.Version++
	return tx.Save(&c).Error
}

// EditCase changes the words of a case; version is the one that was shown.
func (s *Shop) EditCase(ctx context.Context, key, id string, version int, complaint, circumstances, recent, deadline string) error {
	var err error
	for _, f := range []struct {
		name string
		p    *string
	}{{"complaint", &complaint}, {"when it happens", &circumstances}, {"recent work", &recent}} {
		if *f.p, err = text(f.name, *f.p, 2000); err != nil {
			return err
		}
	}
	if complaint == "" {
		return problem("complaint", "the complaint is missing; it is what will be tried again at the end")
	}
	if deadline != "" {
		if _, err := time.Parse(time.DateOnly, deadline); err != nil {
			return problem("inspection", "%q is not a date", deadline)
		}
	}
	_, err = s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		c, err := open(tx, id, version)
		if err != nil {
			return "", err
		}
		c.Complaint, c.Circumstances, c.RecentWork, c.Deadline = complaint, circumstances, recent, deadline
		return id, advance(tx, c, c.Stage)
	})
	return err
}

// AddCodes writes down codes; known ones of the same status are not doubled.
func (s *Shop) AddCodes(ctx context.Context, key, id, typed, status string) error {
	if status != "stored" && status != "pending" && status != "permanent" {
		return problem("status", "a code is stored, pending or permanent")
	}
	codes, err := splitCodes(typed)
	if err != nil {
		return err
	}
	if len(codes) == 0 {
		return problem("codes", "no code was typed")
	}
	_, err = s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		c, err := open(tx, id, 0)
		if err != nil {
			return "", err
		}
		for _, code := range codes {
			var n int64
			if err := tx.Model(&record.Code{}).Where("case_id = ? AND code = ? AND status = ? AND struck_at IS NULL", id, code, status).Count(&n).Error; err != nil {
				return "", err
			}
			if n == 0 {
				if err := tx.Create(&record.Code{ID: newID(), CaseID: id, Code: code, Status: status, At: s.now()}).Error; err != nil {
					return "", err
				}
			}
		}
		return id, advance(tx, c, record.Scan)
	})
	return err
}

// Strike takes an entry out of the reckoning, or puts it back; nothing is deleted.
func (s *Shop) Strike(ctx context.Context, key, caseID, kind, id string, back bool) error {
	return s.stamp(ctx, key, caseID, kind, id, "struck_at", back)
}

// evidence names the tables of what a strip holds.
var evidence = map[string]string{"code": "codes", "finding": "findings", "repair": "repairs", "trial": "trials", "test": "tests", "scan": "scans", "note": "notes", "mark": "map_marks", "result": "results", "observation": "observations", "post-mortem": "post_mortems"}

func (s *Shop) stamp(ctx context.Context, key, caseID, kind, id, column string, back bool) error {
	if kind == "run" {
		f, err := s.Load(ctx, caseID)
		if err != nil {
			return err
		}
		if !f.hasRun(id) {
			return ErrNotFound
		}
		if column == "doubted_at" {
			return s.DoubtRun(ctx, key, id, back)
		}
		return s.StrikeRun(ctx, key, id, back)
	}
	table, ok := evidence[kind]
	if !ok {
		return ErrNotFound
	}
	_, err := s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		c, err := open(tx, caseID, 0)
		if err != nil {
			return "", err
		}
		at := any(s.now())
		if back {
			at = nil
		}
		r := tx.Table(table).Where("id = ? AND case_id = ?", id, caseID).Update(column, at)
		if r.Error != nil {
			return "", r.Error
		}
		if r.RowsAffected == 0 {
			return "", ErrNotFound
		}
		return id, advance(tx, c, c.Stage)
	})
	return err
}

// NewFinding is a part that was found.
// It needs a test that singles it out, or the technician's word (By is record.ByWord).
type NewFinding struct {
	Part, Place, How string
	By               string
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
	_, err = s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		c, err := open(tx, id, 0)
		if err != nil {
			return "", err
		}
		f := record.Finding{ID: newID(), CaseID: id, Part: n.Part, Place: n.Place, How: n.How, At: s.now()}
		if f.By, f.RestsOn, f.Odds, err = s.restsOn(tx, id, n); err != nil {
			return "", err
		}
		if f.Photo, err = hashOf(tx, n.Photo); err != nil {
			return "", err
		}
		if err := tx.Create(&f).Error; err != nil {
			return "", err
		}
		return f.ID, advance(tx, c, record.Found)
	})
	return err
}

// restsOn says what a finding rests on, and how likely it was.
func (s *Shop) restsOn(tx *gorm.DB, id string, n NewFinding) (by, on string, odds float64, err error) {
	folder, err := load(tx, id)
	if err != nil {
		return "", "", 0, err
	}
	var rests []string
	if car, err := s.Car(folder.Vehicle, folder.Corrections); err == nil { // with an archetype that is gone only a word is left
		rests = s.RestsOn(folder, car, n.Part)
		if t, err := s.Think(tx.Statement.Context, folder); err == nil {
			odds = t.State.Odds(n.Part)
		}
	}
	switch {
	case len(rests) > 0:
		return record.ByTest, strings.Join(rests, "; "), odds, nil
	case n.By == record.ByWord:
		return record.ByWord, "", odds, nil
	}
	return "", "", 0, problem("found", "No test on this case singles this part out. Test it by itself, flag the exit seen there, or tick that it stands on your word.")
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
	switch {
	case n.Action == "":
		return problem("what was done", "say what is done in the repair")
	case n.CostCents < 0 || n.CostCents > 10_000_000:
		return problem("cost", "a cost lies between 0 and 100 000")
	case n.Minutes < 0 || n.Minutes > 6000:
		return problem("minutes", "the time lies between 0 and 6000 minutes")
	case n.TorqueNm < 0 || n.TorqueNm > 1000:
		return problem("torque", "a torque lies between 0 and 1000 N·m")
	case n.WaitUntil != nil && n.WaitUntil.Before(s.now()):
		return problem("until", "the part is expected in the past; give a day to come, or leave it empty when the repair is done")
	}
	_, err = s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		c, err := open(tx, id, 0)
		if err != nil {
			return "", err
		}
		var found int64
		if err := tx.Model(&record.Finding{}).Where("case_id = ? AND struck_at IS NULL", id).Count(&found).Error; err != nil {
			return "", err
		}
		if found == 0 {
			return "", problem("", "nothing is written down as found yet; say what was found before it is repaired")
		}
		if err := s.askCauses(tx, c, n); err != nil {
			return "", err
		}
		r := record.RepairDone{ID: newID(), CaseID: id, Action: n.Action, Parts: n.Parts, Seals: n.Seals, CostCents: n.CostCents,
			Minutes: n.Minutes, Torque: n.TorqueNm, Lasting: n.Lasting, At: s.now()}
		stage := record.Proof
		if n.WaitUntil == nil {
			r.DoneAt = &r.At
		} else {
			stage = record.Repair
			c.WaitKind, c.WaitNote = "part", n.WaitNote
			until := n.WaitUntil.UTC().Truncate(time.Second)
			c.WaitUntil = &until
		}
		if err := tx.Create(&r).Error; err != nil {
			return "", err
		}
		return r.ID, advance(tx, c, stage)
	})
	return err
}

// askCauses keeps why each part failed, before the new one goes on. Where the Book knows
// what it may be the victim of, an answer is asked for.
func (s *Shop) askCauses(tx *gorm.DB, c record.Case, n NewRepair) error {
	why, err := text("why", n.Why, 1000)
	if err != nil {
		return err
	}
	v, err := find[record.Vehicle](tx, c.VehicleID)
	if err != nil {
		return err
	}
	car, err := s.carOf(tx, v)
	if err != nil {
		return err
	}
	var found []record.Finding
	if err := tx.Where("case_id = ? AND struck_at IS NULL AND cause = ''", c.ID).Find(&found).Error; err != nil {
		return err
	}
	for _, x := range found {
		fault, _ := s.Book.Fault(x.Part)
		answer := n.Causes[x.ID]
		if answer == "" {
			for _, k := range fault.Causes {
				if k, ok := s.Book.Fault(k); ok && s.canHave(car, k.Key) {
					return problem("why it failed", "Why did it fail (%s)? It may be the victim of another trouble: %s. Answer before the new part goes on; \"not known\" is an answer.", knowledge.Lower(fault.Name), knowledge.Lower(k.Name))
				}
			}
			continue
		}
		if err := s.checkCause(tx, v, x.Part, answer); err != nil {
			return err
		}
		if err := tx.Model(&record.Finding{}).Where("id = ?", x.ID).Updates(map[string]any{"cause": answer, "cause_text": why}).Error; err != nil {
			return err
		}
	}
	return nil
}

// FinishRepair says that a repair that waited for its part is done.
func (s *Shop) FinishRepair(ctx context.Context, key, caseID, id string) error {
	_, err := s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		c, err := open(tx, caseID, 0)
		if err != nil {
			return "", err
		}
		r, err := find[record.RepairDone](tx, id)
		if err != nil || r.CaseID != caseID {
			return "", ErrNotFound
		}
		at := s.now()
		r.DoneAt = &at
		if err := tx.Save(&r).Error; err != nil {
			return "", err
		}
		if c.WaitKind == "part" {
			c.WaitKind, c.WaitNote, c.WaitUntil = "", "", nil
		}
		return id, advance(tx, c, record.Proof)
	})
	return err
}

// Wait parks a case until a time, or, with an empty kind, takes it up again.
func (s *Shop) Wait(ctx context.Context, key, id, kind, note string, until *time.Time) error {
	switch kind {
	case "", "part", "soak", "drive", "customer", "monitors":
	default:
		return problem("wait", "a case waits for a part, a soak, a drive, the monitors or the customer")
	}
	note, err := text("note", note, 200)
	if err != nil {
		return err
	}
	if kind != "" && (until == nil || until.Before(s.now())) {
		return problem("until", "say until when: a day and time to come")
	}
	_, err = s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		c, err := open(tx, id, 0)
		if err != nil {
			return "", err
		}
		c.WaitKind, c.WaitNote, c.WaitUntil = kind, note, nil
		if kind != "" {
			u := until.UTC().Truncate(time.Second)
			c.WaitUntil = &u
		}
		return id, advance(tx, c, c.Stage)
	})
	return err
}

// TryComplaint writes down that the complaint was tried again.
func (s *Shop) TryComplaint(ctx context.Context, key, id, how string, minutes float64, gone bool) error {
	how, err := text("how it was tried", how, 1000)
	if err != nil {
		return err
	}
	if how == "" {
		return problem("how it was tried", "say how it was tried, as the customer met it")
	}
	if !(minutes > 0) || minutes > 24*60 {
		return problem("duration", "the duration lies between 0 and 1440 minutes")
	}
	_, err = s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		c, err := open(tx, id, 0)
		if err != nil {
			return "", err
		}
		t := record.Trial{ID: newID(), CaseID: id, How: how, Seconds: int(minutes*60 + 0.5), Gone: gone, At: s.now()}
		if err := tx.Create(&t).Error; err != nil {
			return "", err
		}
		return t.ID, advance(tx, c, c.Stage)
	})
	return err
}

// Monitors notes whether the vapour monitor has run; typed by hand.
func (s *Shop) Monitors(ctx context.Context, key, id, state string) error {
	if state != "" && state != "incomplete" && state != "complete" {
		return problem("monitors", "the monitors are complete or not complete")
	}
	_, err := s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		// A closed case keeps its place on the rail until the monitor has run, so this
		// one thing may still be noted.
		c, err := find[record.Case](tx, id)
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
	_, err = s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		c, err := open(tx, id, 0)
		if err != nil {
			return "", err
		}
		f, err := load(tx, id)
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
		c.Outcome = record.Proven
		if p := f.Proof(); !p.Whole() {
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
