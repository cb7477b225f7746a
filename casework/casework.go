// Package casework is what people do to a case, one function for each thing a
// person does. It owns the transactions: an action is done whole or not at all, a
// form sent twice does its work once, and two people on one case are told of each
// other.
package casework

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/google/uuid"

	"wexter/core/diagnose"
	"wexter/core/knowledge"
	"wexter/core/obd"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/store"
)

// Shop does casework on a database.
type Shop struct {
	DB   *store.DB
	Book knowledge.Book
	Now  func() time.Time
	// Table is what the plant said of the Book's tests and faults; nil takes the one that
	// ships with the program.
	Table *diagnose.Table
	// Ports lists the serial devices of this computer that may be spoken to; nil: none.
	Ports func() ([]string, error)

	cars   desk[Car]      // their plumbing: joining it takes longer than anything else on a page
	told   desk[Foretold] // what suspects would show on a live bench
	minds  desk[*Thought]
	places chan struct{} // see InTurn
	once   sync.Once
	desk   desk[any]
}

// Upper begins a sentence with a capital.
func Upper(s string) string {
	r, n := utf8.DecodeRuneInString(s)
	if n == 0 {
		return ""
	}
	return string(unicode.ToUpper(r)) + s[n:]
}

// Sentence makes one of words: it begins with a capital and ends with a stop of some kind.
func Sentence(s string) string {
	if s = Upper(s); s == "" || strings.ContainsAny(s[len(s)-1:], ".?!") {
		return s
	}
	return s + "."
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
	return c.What + " was changed by somebody else meanwhile; check the differences and save again"
}

// ErrNotFound is returned for what is not in the shop.
var ErrNotFound = store.ErrNotFound

func (s *Shop) now() time.Time { return s.Now().UTC().Truncate(time.Millisecond) }

func newID() string { return uuid.NewString() }

// standing keeps the entries that are not struck out.
func standing[T record.Entry](all []T) []T {
	return slices.DeleteFunc(all, func(x T) bool { return x.Struck() })
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

// checkDate refuses what is no date; nothing is one.
func checkDate(field, date string) error {
	if date == "" {
		return nil
	}
	if _, err := time.Parse(time.DateOnly, date); err != nil {
		return problem(field, "%q is not a date", date)
	}
	return nil
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
	Engine, Boost, Crankcase, Recirculation        string // may be left out, as TankL and Archetype: the Map then says what it assumes
	Complaint, Circumstances, RecentWork, Deadline string
	Who                                            string // works on it, initials
	Codes                                          string
	Seen                                           []NewObservation // signs, circumstances, parts replaced
	Away                                           bool             // the car is not here yet
}

// checkCase cleans what was typed, refuses what cannot be, and returns the codes.
func (s *Shop) checkCase(n *NewCase) ([]string, error) {
	var err error
	for _, f := range []struct {
		name string
		p    *string
		most int
		need bool
	}{{"plate", &n.Plate, 24, true}, {"make", &n.Make, 40, true}, {"model", &n.Model, 40, true}, {"complaint", &n.Complaint, 2000, false},
		{"circumstances", &n.Circumstances, 2000, false}, {"recent_work", &n.RecentWork, 2000, false}} {
		if *f.p, err = text(strings.ReplaceAll(f.name, "_", " "), *f.p, f.most); err != nil {
			return nil, in(f.name, err)
		}
		if f.need && *f.p == "" {
			return nil, problem(f.name, "the %s is missing", f.name)
		}
	}
	if PlateKey(n.Plate) == "" {
		return nil, problem("plate", "a plate or shop id needs a letter or a figure")
	}
	if n.Year > s.Now().Year()+1 {
		return nil, problem("year", "%d is not a model year this shop can have", n.Year)
	}
	if err := fits(record.Vehicle{Year: n.Year, OdometerKM: n.OdometerKM, TankL: n.TankL}.Check()); err != nil {
		return nil, err
	}
	if n.Metering != "maf" && n.Metering != "map" && n.Metering != "unknown" {
		return nil, problem("metering", "choose how the engine meters its air")
	}
	if a, ok := s.Book.Plumbing.Find(n.Archetype); n.Archetype != "" && (!ok || a.Family != "vapour") {
		return nil, problem("archetype", "choose how the EVAP system checks itself, or \"not known yet\"")
	}
	built := plumbing.Combination{Engine: n.Engine, Boost: n.Boost, Crankcase: n.Crankcase, Recirculation: n.Recirculation, Vapour: n.Archetype}
	if _, err := s.Book.Plumbing.Complete(built); err != nil {
		return nil, problem("engine", "%s.", Upper(err.Error()))
	}
	if n.Engine == "na-maf" && n.Metering == "map" || n.Engine == "na-map" && n.Metering == "maf" {
		return nil, problem("metering", "the engine and how it meters its air contradict each other")
	}
	if err := checkDate("inspection", n.Deadline); err != nil {
		return nil, in("deadline", err)
	}
	if n.Who, err = initials(n.Who); err != nil {
		return nil, err
	}
	codes, err := splitCodes(n.Codes)
	if err != nil {
		return nil, err
	}
	if n.Complaint == "" { // chips and codes are a complaint too
		n.Complaint = s.inWords(n.Seen, codes)
	}
	if n.Complaint == "" {
		return nil, problem("complaint", "the complaint is missing: write it, tap a symptom, or enter a code")
	}
	return codes, nil
}

// in names the field of the form that a refusal is about.
func in(field string, err error) error {
	var p *Problem
	if errors.As(err, &p) {
		return &Problem{Field: field, Sentence: p.Sentence}
	}
	return err
}

// inWords says what was tapped and coded, where nobody wrote a complaint.
func (s *Shop) inWords(seen []NewObservation, codes []string) string {
	var out []string
	for _, x := range seen {
		if sign, ok := s.Book.Sign(x.Key); ok && x.Kind == record.SeenSign && !x.Absent && !slices.Contains(out, sign.Name) {
			out = append(out, sign.Name)
		}
	}
	if len(codes) > 0 {
		out = append(out, "Lamp on: "+strings.Join(codes, ", "))
	}
	return strings.Join(out, ". ")
}

// OpenCase remembers the car by its plate and opens a case on it.
func (s *Shop) OpenCase(ctx context.Context, key string, n NewCase) (string, error) {
	codes, err := s.checkCase(&n)
	if err != nil {
		return "", err
	}
	return s.do(ctx, key, func(tx store.Tx) (string, error) {
		v, err := tx.VehicleByPlate(PlateKey(n.Plate))
		if err != nil && !errors.Is(err, ErrNotFound) {
			return "", err
		}
		if err != nil {
			v = record.Vehicle{ID: newID(), PlateKey: PlateKey(n.Plate), CreatedAt: s.now()}
		}
		v.Plate, v.Make, v.Model, v.Year, v.OdometerKM = n.Plate, n.Make, n.Model, n.Year, n.OdometerKM
		if v.Metering = n.Metering; n.TankL > 0 {
			v.TankL = n.TankL
		}
		for _, f := range []struct {
			to   *string
			said string
		}{{&v.Archetype, n.Archetype}, {&v.Engine, n.Engine}, {&v.Boost, n.Boost}, {&v.Crankcase, n.Crankcase}, {&v.Recirculation, n.Recirculation}} {
			if f.said != "" { // what the shop knows already is not forgotten
				*f.to = f.said
			}
		}
		v.Version++
		if err := tx.Put(&v); err != nil {
			return "", err
		}
		number, err := tx.NextNumber()
		if err != nil {
			return "", err
		}
		c := record.Case{ID: newID(), Number: number, VehicleID: v.ID, Stage: record.Scan, Complaint: n.Complaint,
			Circumstances: n.Circumstances, RecentWork: n.RecentWork, Deadline: n.Deadline, Who: n.Who, Away: n.Away, OpenedAt: s.now(), Version: 1}
		if err := tx.Add(&c); err != nil {
			return "", err
		}
		for _, code := range codes {
			if err := tx.Add(&record.Code{ID: newID(), CaseID: c.ID, Code: code, Status: obd.Stored, At: s.now()}); err != nil {
				return "", err
			}
		}
		return c.ID, s.seenAtIntake(tx, c, v, n.Seen)
	})
}

// seenAtIntake writes down what was tapped when the case was opened. What this car cannot
// have is refused, as on the case itself.
func (s *Shop) seenAtIntake(tx store.Tx, c record.Case, v record.Vehicle, seen []NewObservation) error {
	said := map[NewObservation]bool{}
	for _, n := range seen {
		n, err := s.checkSeen(n)
		if err != nil {
			return in("complaint", err)
		}
		if n.Part != "" {
			car, err := s.carOf(tx, v)
			if err == nil {
				_, err = car.part(n.Part)
			}
			if err != nil {
				return in("recent_work", err)
			}
		}
		if said[n] {
			continue
		}
		said[n] = true
		if err := addToCase(tx, c.ID, &record.Observation{ID: newID(), CaseID: c.ID, Kind: n.Kind, Key: n.Key, Part: n.Part, Absent: n.Absent, At: s.now()}); err != nil {
			return err
		}
	}
	return nil
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

// open loads a case that is not closed and checks the version when one is given.
func open(tx store.Tx, id string, version int) (record.Case, error) {
	c, err := store.Get[record.Case](tx, id)
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
func advance(tx store.Tx, c record.Case, stage record.Stage) error {
	if stage.Index() > c.Stage.Index() {
		c.Stage = stage
	}
	c.Version++
	return tx.Put(&c)
}

// set changes a field of an open case.
func (s *Shop) set(ctx context.Context, key, id string, change func(c *record.Case)) error {
	_, err := s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, err := open(tx, id, 0)
		if err != nil {
			return "", err
		}
		change(&c)
		return id, advance(tx, c, c.Stage)
	})
	return err
}

// CaseWords are the words of a case, which may be changed while it is open.
type CaseWords struct {
	Complaint, Circumstances, RecentWork, Deadline string
	Who                                            string // works on it, initials
}

// EditCase changes the words of a case; version is the one that was shown.
func (s *Shop) EditCase(ctx context.Context, key, id string, version int, w CaseWords) error {
	var err error
	for _, f := range []struct {
		name string
		p    *string
	}{{"complaint", &w.Complaint}, {"when it happens", &w.Circumstances}, {"recent work", &w.RecentWork}} {
		if *f.p, err = text(f.name, *f.p, 2000); err != nil {
			return err
		}
	}
	if w.Complaint == "" {
		return problem("complaint", "the complaint is missing; it is what will be tried again at the end")
	}
	if err := checkDate("inspection", w.Deadline); err != nil {
		return err
	}
	if w.Who, err = initials(w.Who); err != nil {
		return err
	}
	_, err = s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, err := open(tx, id, version)
		if err != nil {
			return "", err
		}
		c.Complaint, c.Circumstances, c.RecentWork, c.Deadline, c.Who = w.Complaint, w.Circumstances, w.RecentWork, w.Deadline, w.Who
		return id, advance(tx, c, c.Stage)
	})
	return err
}

// AddCodes writes down codes; known ones of the same status are not doubled.
func (s *Shop) AddCodes(ctx context.Context, key, id, typed string, status obd.CodeStatus) error {
	if !status.Known() {
		return problem("status", "a code is stored, pending or permanent")
	}
	codes, err := splitCodes(typed)
	if err != nil {
		return err
	}
	if len(codes) == 0 {
		return problem("codes", "no code was typed")
	}
	_, err = s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, err := open(tx, id, 0)
		if err != nil {
			return "", err
		}
		have, err := store.OfCase[record.Code](tx, id)
		if err != nil {
			return "", err
		}
		have = standing(have)
		for _, code := range codes {
			if slices.ContainsFunc(have, func(x record.Code) bool { return x.Code == code && x.Status == status }) {
				continue
			}
			if err := addToCase(tx, id, &record.Code{ID: newID(), CaseID: id, Code: code, Status: status, At: s.now()}); err != nil {
				return "", err
			}
		}
		return id, advance(tx, c, record.Scan)
	})
	return err
}

// Made is what a form that was sent with this key made, and when.
func (s *Shop) Made(ctx context.Context, key string) (id string, at time.Time, err error) {
	return s.DB.Read(ctx).Sent(key)
}

// Stamp is what is said of an entry of the Strip or the Map. Nothing is deleted.
type Stamp string

// The stamps: struck out of the calculation and put back, doubted and trusted again.
const (
	Strike  Stamp = "strike"
	Restore Stamp = "restore"
	Doubt   Stamp = "doubt"
	Trust   Stamp = "trust"
)

// moment is the time that a stamp writes; nil when it takes one off.
func (s Stamp) moment(now time.Time) *time.Time {
	if s == Restore || s == Trust {
		return nil
	}
	return &now
}

func (s Stamp) column() store.Column {
	if s == Doubt || s == Trust {
		return store.DoubtedAt
	}
	return store.StruckAt
}

// Entry names something that can be struck out or doubted.
type Entry struct {
	Kind record.EntryKind
	ID   string
}

// Stamp strikes an entry of a case out or doubts it, or takes that back. An entry of
// the car is reached through one of its open cases; a leg is judged again with its test.
func (s *Shop) Stamp(ctx context.Context, key, caseID string, e Entry, st Stamp) error {
	_, err := s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, err := open(tx, caseID, 0)
		if err != nil {
			return "", err
		}
		switch {
		case e.Kind == record.RunEntry:
			if err := s.stampRun(tx, caseID, e.ID, st); err != nil {
				return "", err
			}
			return e.ID, nil
		case e.Kind.OfCar():
			if err = tx.Stamp(store.Entry{Kind: e.Kind, ID: e.ID, Owner: c.VehicleID}, st.column(), st.moment(s.now())); err == nil {
				err = touchCar(tx, c.VehicleID)
			}
		default:
			err = tx.Stamp(store.Entry{Kind: e.Kind, ID: e.ID, Owner: caseID}, st.column(), st.moment(s.now()))
		}
		if err != nil {
			return "", err
		}
		return e.ID, advance(tx, c, c.Stage)
	})
	return err
}
