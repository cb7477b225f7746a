package casework

import (
	"context"
	"strings"
	"time"

	"gorm.io/gorm"

	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/record"
)

// Folder is everything on a case.
type Folder struct {
	Case     record.Case
	Vehicle  record.Vehicle
	Codes    []record.Code
	Tests    []TestFolder
	Findings []record.Finding
	Repairs  []record.RepairDone
	Trials   []record.Trial
	Scans    []ScanFolder
	Notes    []record.Note
	Marks    []record.MapMark
	Results  []record.Result

	Observations []record.Observation
	PostMortems  []record.PostMortem

	Corrections []record.Correction // of the car, over all its cases
	Cards       []record.AccessCard
}

// TestFolder is a test with its runs.
type TestFolder struct {
	record.Test
	Runs []record.Run
}

// Load reads a case with all that belongs to it.
func (s *Shop) Load(ctx context.Context, id string) (Folder, error) { return load(s.DB.Read(ctx), id) }

func load(tx *gorm.DB, id string) (f Folder, err error) {
	if f.Case, err = find[record.Case](tx, id); err != nil {
		return f, err
	}
	if f.Vehicle, err = find[record.Vehicle](tx, f.Case.VehicleID); err != nil {
		return f, err
	}
	var tests []record.Test
	var scans []record.ScanDone
	for _, list := range []any{&f.Codes, &f.Findings, &f.Repairs, &f.Trials, &f.Notes, &f.Marks, &f.Results, &f.Observations, &f.PostMortems, &scans, &tests} {
		if err = tx.Where("case_id = ?", id).Order("at, rowid").Find(list).Error; err != nil {
			return f, err
		}
	}
	for _, list := range []any{&f.Corrections, &f.Cards} {
		if err = tx.Where("vehicle_id = ?", f.Vehicle.ID).Order("at, rowid").Find(list).Error; err != nil {
			return f, err
		}
	}
	for _, x := range scans {
		f.Scans = append(f.Scans, readScan(x))
	}
	for _, t := range tests {
		tf := TestFolder{Test: t}
		if err = tx.Where("test_id = ?", t.ID).Order("at, rowid").Find(&tf.Runs).Error; err != nil {
			return f, err
		}
		f.Tests = append(f.Tests, tf)
	}
	return f, nil
}

// Test finds one of the folder's tests.
func (f Folder) Test(id string) (TestFolder, bool) {
	for _, t := range f.Tests {
		if t.ID == id {
			return t, true
		}
	}
	return TestFolder{}, false
}

func (f Folder) hasRun(id string) bool {
	for _, t := range f.Tests {
		for _, r := range t.Runs {
			if r.ID == id {
				return true
			}
		}
	}
	return false
}

// Proof is what stands for a repair.
type Proof struct {
	Before, After *TestFolder // the test that failed and its passing or failing repeat
	Repaired      bool
	Repeat        bool // the repeat passed
	Trial         *record.Trial
	Complaint     bool // the complaint is gone
}

// Whole reports whether the repair counts as proven.
func (p Proof) Whole() bool { return p.Repaired && p.Repeat && p.Complaint }

// Missing says what is missing, in sentences.
func (p Proof) Missing() string {
	var m []string
	if !p.Repaired {
		m = append(m, "No repair is written down as done.")
	}
	switch {
	case p.After == nil:
		m = append(m, "The test has not been repeated.")
	case p.After.Doubted():
		m = append(m, "The repeat is doubted; make it again, or take the doubt back.")
	case !p.Repeat:
		m = append(m, "The repeat does not pass: "+record.OutcomeWords(p.After.Outcome)+".")
	}
	switch {
	case p.Trial == nil:
		m = append(m, "The complaint has not been tried again.")
	case p.Trial.Doubted():
		m = append(m, "The trial of the complaint is doubted.")
	case !p.Complaint:
		m = append(m, "The complaint came back when it was tried.")
	}
	return strings.Join(m, " ")
}

// Proof gathers what stands for the repair: the newest repeat made after the last
// repair, and the newest trial made after it.
func (f Folder) Proof() (p Proof) {
	var repaired time.Time
	for _, r := range f.Repairs {
		if r.StruckAt == nil && r.DoneAt != nil {
			p.Repaired = true
			if r.DoneAt.After(repaired) {
				repaired = *r.DoneAt
			}
		}
	}
	for i := range f.Tests {
		t := &f.Tests[i]
		if t.StruckAt != nil {
			continue
		}
		if t.RepeatOf != "" {
			if p.Repaired && !t.At.Before(repaired) {
				p.After = t
				p.Repeat = t.Outcome == "within_limit" && !t.Doubted()
			}
		} else if t.Outcome != "" && (t.Outcome != "within_limit" || p.Before == nil || p.Before.Outcome == "within_limit") {
			p.Before = t // the test that failed; a section that held says nothing of the repair
		}
	}
	if p.After != nil {
		if b, ok := f.Test(p.After.RepeatOf); ok {
			p.Before = &b
		}
	}
	for i := range f.Trials {
		t := &f.Trials[i]
		if t.StruckAt == nil && p.Repaired && !t.At.Before(repaired) {
			p.Trial, p.Complaint = t, t.Gone && !t.Doubted()
		}
	}
	return p
}

// SlateRow is one car on the rail.
type SlateRow struct {
	Case    record.Case
	Vehicle record.Vehicle
	Next    string
	Waits   bool
	Monitor bool // closed; only the vapour monitor has still to run
}

// Slate lists the open cases, and closed ones whose vapour monitor has still to run: what can be worked on now first, then by when the
// waiting ends, then by age.
func (s *Shop) Slate(ctx context.Context) ([]SlateRow, error) {
	var cases []record.Case
	tx := s.DB.Read(ctx)
	if err := tx.Where("stage IN ? OR monitors = 'incomplete' AND stage = 'closed'", []string{"intake", "scan", "hunt", "found", "repair", "proof"}).
		Order("stage = 'closed', wait_until IS NOT NULL AND wait_until > '" + s.now().Format("2006-01-02 15:04:05") + "', wait_until, opened_at, number").
		Limit(400).Find(&cases).Error; err != nil {
		return nil, err
	}
	by, err := vehiclesOf(tx, cases)
	if err != nil {
		return nil, err
	}
	newest, err := newestTests(tx, cases)
	if err != nil {
		return nil, err
	}
	var rows []SlateRow
	for _, c := range cases {
		rows = append(rows, SlateRow{Case: c, Vehicle: by[c.VehicleID], Next: s.nextWords(c, by[c.VehicleID], newest[c.ID]),
			Waits: c.WaitUntil != nil && c.WaitUntil.After(s.now()), Monitor: c.Stage == record.Closed})
	}
	return rows, nil
}

// lastTest is the newest test of a case, without its result.
type lastTest struct {
	record.Test
	beyond bool // it is within the limit with more plugs than an earlier one that was over it
}

// newestTests returns the newest test of each case.
func newestTests(tx *gorm.DB, cases []record.Case) (map[string]lastTest, error) {
	ids := make([]string, len(cases))
	for i, c := range cases {
		ids[i] = c.ID
	}
	var ts []record.Test
	err := tx.Select("id", "case_id", "outcome", "repeat_of", "setup", "doubted_at").Where("case_id IN ? AND struck_at IS NULL", ids).Order("at, rowid").Find(&ts).Error
	out := map[string]lastTest{}
	over := map[string]int{} // fewest plugs of a test over the limit, by case
	for _, t := range ts {
		plugs := 0
		for _, st := range t.Setup.Set {
			if st == string(plumbing.Plugged) {
				plugs++
			}
		}
		n, ok := over[t.CaseID]
		out[t.CaseID] = lastTest{t, ok && t.Outcome == "within_limit" && !t.Doubted() && t.RepeatOf == "" && plugs > n}
		if t.Outcome == "over_limit" && !t.Doubted() && (!ok || plugs < n) {
			over[t.CaseID] = plugs
		}
	}
	return out, err
}

// nextWords says what is to be done at a stage, after the newest test.
func (s *Shop) nextWords(c record.Case, v record.Vehicle, t lastTest) string {
	switch c.Stage {
	case record.Intake, record.Scan:
		if c.Next != "" && c.NextVersion == c.Version {
			return c.Next
		}
		if _, ok := s.Book.Archetype(v.Archetype); !ok { // no vapour system to seal and hold
			return "look on the Map, take the procedures from there"
		}
		return "write the codes down, then hold"
	case record.Hunt:
		if c.Next != "" && c.NextVersion == c.Version {
			return c.Next
		}
		switch t.Outcome {
		case "over_limit":
			return "over the limit: find where it leaks"
		case "within_limit":
			if t.beyond {
				return "leaks beyond the plug: look there"
			}
			return "within the limit: look elsewhere"
		case "undecided":
			return "cannot tell yet: see what would settle it"
		case record.CannotPressurise:
			return "cannot be charged: find what is open"
		}
		return "size the leak, then find it"
	case record.Found:
		return "repair what was found"
	case record.Repair:
		return "fit the part"
	case record.Proof:
		return "repeat the test, try the complaint"
	case record.Closed:
		return "closed; the vapour monitor has still to run"
	}
	return ""
}

// Finished is a closed case in the Record.
type Finished struct {
	Case    record.Case
	Vehicle record.Vehicle
	Found   []FoundLine
}

// FoundLine is what it was in the end: the part, what that rests on, why it failed, and
// what the opened part showed.
type FoundLine struct{ Name, By, RestsOn, Cause, Opened string }

// pageSize is how many finished cases a page shows.
const pageSize = 50

// Record lists closed cases, newest first, fifty a page; those that were closed
// before the case named, when one is. The cost does not grow with the record.
func (s *Shop) Record(ctx context.Context, before string) (rows []Finished, more bool, err error) {
	tx := s.DB.Read(ctx)
	var cases []record.Case
	q := tx.Where("closed_at IS NOT NULL")
	if before != "" {
		q = q.Where("(closed_at, id) < (SELECT closed_at, id FROM cases WHERE id = ?)", before)
	}
	if err = q.Order("closed_at DESC, id DESC").Limit(pageSize + 1).Find(&cases).Error; err != nil {
		return nil, false, err
	}
	if more = len(cases) > pageSize; more {
		cases = cases[:pageSize]
	}
	vehicles, err := vehiclesOf(tx, cases)
	if err != nil {
		return nil, false, err
	}
	ids := make([]string, len(cases))
	for i, c := range cases {
		ids[i] = c.ID
	}
	var found []record.Finding
	if err := tx.Where("case_id IN ? AND struck_at IS NULL", ids).Order("at, rowid").Find(&found).Error; err != nil {
		return nil, false, err
	}
	var opened []record.PostMortem
	if err := tx.Where("case_id IN ? AND struck_at IS NULL", ids).Order("at, rowid").Find(&opened).Error; err != nil {
		return nil, false, err
	}
	lines := map[string][]FoundLine{}
	for _, f := range found {
		p, ok := s.Book.Fault(f.Part)
		if !ok {
			continue
		}
		l := FoundLine{Name: p.Name, By: f.By, RestsOn: f.RestsOn}
		switch f.Cause {
		case "", record.CauseUnknown:
		case record.NoCause:
			l.Cause = "failed of itself"
		default:
			c, _ := s.Book.Fault(f.Cause)
			l.Cause = "victim of: " + knowledge.Lower(c.Name)
		}
		for _, o := range opened {
			if o.FindingID == f.ID {
				l.Opened = strings.TrimSpace(map[string]string{"yes": "confirms it", "no": "does not confirm it", "unclear": "unclear"}[o.Confirmed] + ". " + o.Text)
			}
		}
		lines[f.CaseID] = append(lines[f.CaseID], l)
	}
	for _, c := range cases {
		rows = append(rows, Finished{Case: c, Vehicle: vehicles[c.VehicleID], Found: lines[c.ID]})
	}
	return rows, more, nil
}

// vehiclesOf reads the cars of some cases at once.
func vehiclesOf(tx *gorm.DB, cases []record.Case) (map[string]record.Vehicle, error) {
	ids := make([]string, len(cases))
	for i, c := range cases {
		ids[i] = c.VehicleID
	}
	var vs []record.Vehicle
	err := tx.Where("id IN ?", ids).Find(&vs).Error
	by := map[string]record.Vehicle{}
	for _, v := range vs {
		by[v.ID] = v
	}
	return by, err
}

// VehicleByPlate finds a car the shop remembers.
func (s *Shop) VehicleByPlate(ctx context.Context, plate string) (record.Vehicle, error) {
	var v record.Vehicle
	err := s.DB.Read(ctx).Where("plate_key = ?", PlateKey(plate)).Take(&v).Error
	if err != nil {
		return v, ErrNotFound
	}
	return v, nil
}

// Photo returns a kept photo.
func (s *Shop) Photo(ctx context.Context, hash string) (record.Photo, error) {
	var p record.Photo
	if err := s.DB.Read(ctx).Where("hash = ?", hash).Take(&p).Error; err != nil {
		return p, ErrNotFound
	}
	return p, nil
}
