package casework

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wexter/core/bench"
	"wexter/core/calendar"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/evidence"
	"wexter/store"
)

// Load reads a case with all that belongs to it.
func (s *Shop) Load(ctx context.Context, id string) (f evidence.Folder, err error) {
	err = s.beside(ctx, func() error {
		f, err = s.load(s.DB.Read(ctx), id)
		return err
	})
	return f, err
}

func (s *Shop) load(tx store.Tx, id string) (f evidence.Folder, err error) {
	if f.Case, err = store.Get[record.Case](tx, id); err != nil {
		return f, err
	}
	if f.Vehicle, err = store.Get[record.Vehicle](tx, f.Case.VehicleID); err != nil {
		return f, err
	}
	var tests []record.Test
	var scans []record.ScanDone
	if err = errors.Join(ofCase(tx, id, &f.Codes), ofCase(tx, id, &f.Findings), ofCase(tx, id, &f.Repairs), ofCase(tx, id, &f.Trials),
		ofCase(tx, id, &f.Notes), ofCase(tx, id, &f.Marks), ofCase(tx, id, &f.Results), ofCase(tx, id, &f.Observations),
		ofCase(tx, id, &f.PostMortems), ofCase(tx, id, &scans), ofCase(tx, id, &tests)); err != nil {
		return f, err
	}
	if f.Corrections, err = store.OfVehicle[record.Correction](tx, f.Vehicle.ID); err != nil {
		return f, err
	}
	if f.Cards, err = store.OfVehicle[record.AccessCard](tx, f.Vehicle.ID); err != nil {
		return f, err
	}
	if f.Scans, err = s.readScans(scans); err != nil {
		return f, err
	}
	for _, t := range tests {
		tf := evidence.TestFolder{Test: t}
		if tf.Runs, err = store.OfTest(tx, t.ID); err != nil {
			return f, err
		}
		if t.Key == bench.PressureHold.Key {
			f.Tests = append(f.Tests, tf)
			continue
		}
		f.Benches = append(f.Benches, tf)
	}
	return f, nil
}

// readScans decodes scans. Their text never changes; what else is said of them may.
func (s *Shop) readScans(scans []record.ScanDone) ([]evidence.ScanFolder, error) {
	if len(scans) == 0 {
		return nil, nil
	}
	ids := make([]string, len(scans))
	for i, x := range scans {
		ids[i] = x.ID
	}
	read, err := aside(s, "scans", ids, func(context.Context) ([]evidence.ScanFolder, error) {
		var out []evidence.ScanFolder
		for _, x := range scans {
			out = append(out, evidence.ReadScan(x))
		}
		return out, nil
	})
	if err != nil {
		return nil, err
	}
	read = slices.Clone(read)
	for i := range read {
		read[i].ScanDone = scans[i]
	}
	return read, nil
}

func ofCase[T any](tx store.Tx, id string, to *[]T) (err error) {
	*to, err = store.OfCase[T](tx, id)
	return err
}

// SlateRow is one car on the rail.
type SlateRow struct {
	Case    record.Case
	Vehicle record.Vehicle
	Next    string
	Minutes int // that Next takes; 0 when nobody has worked it out
	Waits   bool
	Monitor bool     // closed; only the EVAP monitor has still to run
	Kit     []string // that Next needs
	Left    Left
	Due     Due
}

// Slate lists the open cases, and closed ones whose EVAP monitor has still to run. Those with
// an inspection come first, by how little time they have to spare; then what can be worked on
// now, what waits, by when the waiting ends, and by age.
func (s *Shop) Slate(ctx context.Context) ([]SlateRow, error) {
	w, err := s.Ways(ctx)
	if err != nil {
		return nil, err
	}
	tx := s.DB.Read(ctx)
	cases, err := tx.OpenCases(s.now(), 400)
	if err != nil {
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
		row := SlateRow{Case: c, Vehicle: by[c.VehicleID], Waits: c.WaitUntil != nil && c.WaitUntil.After(s.now()), Monitor: c.Stage == record.Closed}
		if thinks := c.Stage == record.Intake || c.Stage == record.Scan || c.Stage == record.Hunt; thinks && c.Next != "" && c.NextBasis == s.nextBasis(c, row.Vehicle, w) {
			row.Next, row.Minutes, row.Kit = c.Next, c.NextMinutes, c.NextKit
		} else {
			row.Next = s.nextWords(c, row.Vehicle, newest[c.ID])
		}
		row.Left = Left{c.LeftMinutes, c.LeftDays, c.LeftNight || row.Monitor}
		row.Due = due(s.Now().Local(), calendar.Usual(), c, row.Left)
		rows = append(rows, row)
	}
	slices.SortStableFunc(rows, bySlack)
	return rows, nil
}

// lastTest is the newest test of a case, without its result.
type lastTest struct {
	record.Test
	beyond bool // it is within the limit with more plugs than an earlier one that was over it
}

// newestTests returns the newest test of each case.
func newestTests(tx store.Tx, cases []record.Case) (map[string]lastTest, error) {
	ts, err := tx.OutcomesOfCases(bench.PressureHold.Key, idsOf(cases))
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
		out[t.CaseID] = lastTest{t, ok && t.Outcome == record.WithinLimit && !t.Doubted() && t.RepeatOf == "" && plugs > n}
		if t.Outcome == record.OverLimit && !t.Doubted() && (!ok || plugs < n) {
			over[t.CaseID] = plugs
		}
	}
	return out, err
}

// nextWords says what is to be done at a stage, after the newest test.
func (s *Shop) nextWords(c record.Case, v record.Vehicle, t lastTest) string {
	switch c.Stage {
	case record.Intake, record.Scan:
		if _, ok := s.Archetype(v); !ok { // no EVAP system to seal and hold
			return "look on the Map, take the procedures from there"
		}
		return "write the codes down, then the leak-down test"
	case record.Hunt:
		switch t.Outcome {
		case record.OverLimit:
			return "over the limit: find where it leaks"
		case record.WithinLimit:
			if t.beyond {
				return "leaks beyond the plug: look there"
			}
			return "within the limit: look elsewhere"
		case record.CannotTell:
			return "cannot tell yet: see what would settle it"
		case record.CannotPressurise:
			return "will not build pressure: find what is open"
		}
		return "size the leak, then find it"
	case record.Found:
		return "repair what was found"
	case record.Repair:
		return "fit the part"
	case record.Proof:
		return "repeat the test, try the complaint"
	case record.Closed:
		return "closed; the EVAP monitor has still to run"
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
type FoundLine struct {
	Name                   string
	By                     record.Ground
	RestsOn, Cause, Opened string
}

// pageSize is how many finished cases a page shows.
const pageSize = 50

// Record lists closed cases, newest first, fifty a page; those that were closed
// before the case named, when one is. The cost does not grow with the record.
func (s *Shop) Record(ctx context.Context, before string) (rows []Finished, more bool, err error) {
	tx := s.DB.Read(ctx)
	cases, err := tx.ClosedCases(before, pageSize+1)
	if err != nil {
		return nil, false, err
	}
	if more = len(cases) > pageSize; more {
		cases = cases[:pageSize]
	}
	vehicles, err := vehiclesOf(tx, cases)
	if err != nil {
		return nil, false, err
	}
	found, err := store.StandingOfCases[record.Finding](tx, idsOf(cases))
	if err != nil {
		return nil, false, err
	}
	opened, err := store.StandingOfCases[record.PostMortem](tx, idsOf(cases))
	if err != nil {
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
			l.Cause = "failed on its own"
		default:
			c, _ := s.Book.Fault(f.Cause)
			l.Cause = "victim of: " + plumbing.Lower(c.Name)
		}
		for _, o := range opened {
			if o.FindingID == f.ID {
				l.Opened = strings.TrimSpace(o.Confirmed.Words() + ". " + o.Text)
			}
		}
		lines[f.CaseID] = append(lines[f.CaseID], l)
	}
	for _, c := range cases {
		rows = append(rows, Finished{Case: c, Vehicle: vehicles[c.VehicleID], Found: lines[c.ID]})
	}
	return rows, more, nil
}

// FoundOften counts what this shop has found, by the part that failed, the commonest first.
func (s *Shop) FoundOften(ctx context.Context) (out []Often, err error) {
	rows, err := s.DB.Read(ctx).FoundOften()
	for _, r := range rows {
		f, ok := s.Book.Fault(r.Part)
		if !ok {
			continue
		}
		name := f.Name
		if len(f.Carries) > 0 {
			name = Upper(strings.ReplaceAll(f.Carries[0], "-", " "))
		}
		at := slices.IndexFunc(out, func(o Often) bool { return o.Part == name })
		if at < 0 {
			at, out = len(out), append(out, Often{Part: name})
		}
		out[at].Times += r.Times
		out[at].Faults = append(out[at].Faults, fmt.Sprintf("%s %d", plumbing.Lower(f.Name), r.Times))
	}
	slices.SortStableFunc(out, func(a, b Often) int { return b.Times - a.Times })
	return out, err
}

// Often is a part, how often it was found, and with which faults.
type Often struct {
	Part   string
	Times  int
	Faults []string
}

// vehiclesOf reads the cars of some cases at once.
func vehiclesOf(tx store.Tx, cases []record.Case) (map[string]record.Vehicle, error) {
	ids := make([]string, len(cases))
	for i, c := range cases {
		ids[i] = c.VehicleID
	}
	return tx.Vehicles(ids)
}

func idsOf(cases []record.Case) []string {
	ids := make([]string, len(cases))
	for i, c := range cases {
		ids[i] = c.ID
	}
	return ids
}

// VehicleByPlate finds a car the shop remembers.
func (s *Shop) VehicleByPlate(ctx context.Context, plate string) (record.Vehicle, error) {
	return s.DB.Read(ctx).VehicleByPlate(PlateKey(plate))
}

// Photo returns a kept photo.
func (s *Shop) Photo(ctx context.Context, hash string) (record.Photo, error) {
	return s.DB.Read(ctx).Photo(hash)
}
