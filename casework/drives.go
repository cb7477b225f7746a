package casework

import (
	"context"
	"encoding/json"
	"errors"
	"slices"

	"wexter/core/bench"
	"wexter/core/gas"
	"wexter/core/record"
	"wexter/core/trim"
	"wexter/evidence"
	"wexter/ingest"
	"wexter/store"
)

// NewDrive is the log of a drive that is handed in.
type NewDrive struct {
	Name         string // of the file
	Log          ingest.Drive
	Typed        []trim.Typed // in the place of a log
	Displacement float64      // m³; 0 when nobody said
	RepeatOf     string       // the result that it repeats, after a repair
}

// AddDrive keeps the log of a drive as a test of fuel trims. One of which nothing can be told is
// refused in a sentence, and nothing is kept.
func (s *Shop) AddDrive(ctx context.Context, key, caseID string, n NewDrive) (string, error) {
	name, err := text("name", n.Name, 120)
	if err != nil {
		return "", err
	}
	if len(n.Typed) > 0 {
		return s.addTyped(ctx, key, caseID, n)
	}
	cols, table := bench.DriveTable(&n.Log.Log)
	for i := range cols {
		cols[i].Instrument = name
	}
	t, car, err := s.driveTest(ctx, caseID, n)
	if err != nil {
		return "", err
	}
	at := t.At
	r := record.Run{ID: newID(), Kind: record.RunDrive, Name: name, Notes: append(record.Strings{}, n.Log.Notes...), Readings: table.Len(), At: at,
		Marks: record.Marks{}, Gaps: record.Gaps{}, EndedAt: &at, Channels: cols}
	r.TestID = t.ID
	err = s.InTurn(ctx, func() error {
		d, err := driveOf(car, t, r, table)
		if err != nil {
			return err
		}
		return keepDrive(&t, d)
	})
	if err != nil {
		return "", err
	}
	return s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, err := open(tx, caseID, 0)
		if err != nil {
			return "", err
		}
		if err := roomForLeg(tx, t, 0, table.Len()); err != nil {
			return "", err
		}
		if err := errors.Join(addTest(tx, &t), tx.Add(&r)); err != nil {
			return "", err
		}
		return t.ID, errors.Join(tx.PutReadings(r.ID, table), advance(tx, c, c.Stage))
	})
}

// driveTest is the test that a drive is to be kept in, with the car.
func (s *Shop) driveTest(ctx context.Context, caseID string, n NewDrive) (t record.Test, car Car, err error) {
	e, ok := s.Book.Test(bench.Trims.Key)
	if !ok {
		return t, car, problem("test", "The Book has no test of fuel trims.")
	}
	f, err := s.Load(ctx, caseID)
	if err != nil {
		return t, car, err
	}
	if car, err = s.Car(f.Vehicle, f.Corrections); err != nil {
		return t, car, err
	}
	if err := car.canBe(e, NewResult{Test: e.Key}); err != nil {
		return t, car, err
	}
	if _, err := repeated(f, NewResult{Test: e.Key, RepeatOf: n.RepeatOf}); err != nil {
		return t, car, err
	}
	t = record.Test{ID: newID(), Key: e.Key, CaseID: caseID, RepeatOf: n.RepeatOf, At: s.now(), Version: 1, Rules: trim.Version}
	t.Setup = record.Setup{Displacement: n.Displacement, Barometer: barometerOf(f)}
	return t, car, nil
}

// barometerOf is the barometer that was read for the newest hold of a case, Pa; 0 when nobody read
// one: the standard atmosphere is a guess.
func barometerOf(f evidence.Folder) float64 {
	for _, t := range slices.Backward(f.Tests) {
		if b := t.Setup.Barometer; b != 0 && b != gas.StandardPressure {
			return b
		}
	}
	return 0
}

// addTyped keeps typed trims as a test, without a run.
func (s *Shop) addTyped(ctx context.Context, key, caseID string, n NewDrive) (string, error) {
	t, car, err := s.driveTest(ctx, caseID, n)
	if err != nil {
		return "", err
	}
	d, err := trim.TypedDrive(n.Typed, bench.EngineOf(car.Graph, n.Displacement, 0))
	if err != nil {
		return "", problem("typed", "%s.", Upper(err.Error()))
	}
	if err := keepDrive(&t, d); err != nil {
		return "", err
	}
	return s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, err := open(tx, caseID, 0)
		if err != nil {
			return "", err
		}
		if err := addTest(tx, &t); err != nil {
			return "", err
		}
		return t.ID, advance(tx, c, c.Stage)
	})
}

// SetDisplacement says how large the engine of a drive is, and judges it anew.
func (s *Shop) SetDisplacement(ctx context.Context, key, testID string, displacement float64) error {
	if err := (trim.Engine{Displacement: displacement}).Check(); err != nil {
		return problem("displacement", "%s.", Upper(err.Error()))
	}
	_, err := s.do(ctx, key, func(tx store.Tx) (string, error) {
		t, err := s.openTest(tx, testID)
		if err != nil {
			return "", err
		}
		if t.Key != bench.Trims.Key {
			return "", ErrNotFound
		}
		t.Setup.Displacement = displacement
		return testID, s.judge(tx, t)
	})
	return err
}

// driveOf finds the points of a drive that was read.
func driveOf(car Car, t record.Test, r record.Run, table record.Table) (trim.Drive, error) {
	var marks []bench.Moment
	for _, m := range r.Marks {
		marks = append(marks, bench.Moment{Key: m.Key, At: m.Time})
	}
	e := bench.EngineOf(car.Graph, t.Setup.Displacement, t.Setup.Barometer)
	d, err := trim.NewDrive(bench.DriveLog(r.Channels, table), e, bench.ClampSpans(marks)...)
	if err != nil {
		return d, problem("log", "%s.", Upper(err.Error()))
	}
	d.Notes = append(d.Notes, r.Notes...)
	return d, nil
}

// keepDrive writes a drive into its test.
func keepDrive(t *record.Test, d trim.Drive) error {
	data, err := json.Marshal(d)
	t.Result, t.Problem, t.Rules = record.Blob(data), "", trim.Version
	return err
}

// found is a drive, or why there is none.
type found struct {
	drive trim.Drive
	why   string
}

// judgeDrive finds the points of the newest drive of a test; without one there is no result.
func (s *Shop) judgeDrive(tx store.Tx, t *record.Test) error {
	runs, err := store.OfTest(tx, t.ID)
	if err != nil {
		return err
	}
	if d, ok := t.Drive(); ok && len(runs) == 0 { // it was typed
		d.Engine.Displacement = t.Setup.Displacement
		return keepDrive(t, d)
	}
	t.Result, t.Problem = "", ""
	_, v, err := caseAndCar(tx, t.CaseID)
	if err != nil {
		return err
	}
	car, err := s.carOf(tx, v)
	if err != nil {
		return err
	}
	runs = standing(runs)
	for i := len(runs) - 1; i >= 0; i-- {
		r := runs[i]
		if r.Kind != record.RunDrive || r.EndedAt == nil || r.Doubted() {
			continue
		}
		on := []any{trim.Version, r.ID, r.Notes, r.Marks, t.Setup, bench.EngineOf(car.Graph, 0, 0)}
		d, err := aside(s, "find drive", on, func(ctx context.Context) (found, error) {
			table, err := s.DB.Read(ctx).Readings(r.ID) // they never change
			if err != nil {
				return found{}, err
			}
			d, err := driveOf(car, *t, r, table)
			var p *Problem
			if errors.As(err, &p) {
				return found{why: p.Sentence}, nil
			}
			return found{drive: d}, err
		})
		if err != nil {
			return err
		}
		if d.why != "" {
			t.Problem = d.why
			return nil
		}
		return keepDrive(t, d.drive)
	}
	return nil
}

// DriveResult is a drive that was judged, with the one that it repeats.
type DriveResult struct {
	trim.Result
	Change *trim.Change // since the one before a repair; nil without one
}

// JudgedDrive is what a test's drive comes to; false while there is none.
func (s *Shop) JudgedDrive(ctx context.Context, f evidence.Folder, t evidence.TestFolder) (DriveResult, bool, error) {
	d, ok := t.Drive()
	if !ok {
		return DriveResult{}, false, nil
	}
	var before *trim.Drive
	for _, x := range f.Results {
		if t.RepeatOf != "" && x.ID == t.RepeatOf {
			before = f.DriveOf(x)
		}
	}
	var r DriveResult
	err := s.beside(ctx, func() (err error) {
		r, err = aside(s, "drive", []any{trim.Version, d, before}, func(context.Context) (DriveResult, error) {
			out := DriveResult{Result: d.Judge()}
			if before != nil {
				was := before.Judge()
				c := trim.CompareRepair(&was, &out.Result)
				out.Change = &c
			}
			return out, nil
		})
		return err
	})
	return r, err == nil, err
}

// KeepDrive writes a drive down as evidence: its readings judge.
func (s *Shop) KeepDrive(ctx context.Context, key, testID string) (string, error) {
	t, err := store.Get[record.Test](s.DB.Read(ctx), testID)
	if err != nil {
		return "", err
	}
	d, ok := t.Drive()
	if !ok {
		return "", problem("drive", "There is no drive yet of which anything could be told.")
	}
	return s.AddResult(ctx, key, t.CaseID, NewResult{Test: t.Key, Readings: bench.DriveReadings(d), Bench: t.ID, RepeatOf: t.RepeatOf})
}

// withDrive gives a result of fuel trims that were read on a bench the drive that was read there.
func (s *Shop) withDrive(ctx context.Context, n NewResult) (NewResult, error) {
	if n.Test != bench.Trims.Key || n.Bench == "" || n.drive() != nil {
		return n, nil
	}
	t, err := store.Get[record.Test](s.DB.Read(ctx), n.Bench)
	if err != nil {
		return n, err
	}
	if d, ok := t.Drive(); ok {
		n.Readings = n.Readings.With(bench.Readings{"drive": {Drive: &d}})
	}
	return n, nil
}

// drive is the drive among the readings of a result; nil without one.
func (n NewResult) drive() *trim.Drive { return n.Readings["drive"].Drive }

// DriveLog is the newest drive of a test as it was read, with its run; nil without one.
func (s *Shop) DriveLog(ctx context.Context, t evidence.TestFolder) (*trim.Log, record.Run, error) {
	for i := len(t.Runs) - 1; i >= 0; i-- {
		r := t.Runs[i]
		if r.Kind != record.RunDrive || r.EndedAt == nil || r.Struck() || r.Doubted() {
			continue
		}
		table, err := s.DB.Read(ctx).Readings(r.ID)
		return bench.DriveLog(r.Channels, table), r, err
	}
	return nil, record.Run{}, nil
}

// ForetellTrims is what a fault of some severity, 0 to 1, does to the trims of a car.
func (s *Shop) ForetellTrims(f evidence.Folder, car Car, fault string, severity float64) (trim.Doing, error) {
	m, err := s.model(s.Book, f, car)
	if err != nil {
		return trim.Doing{}, err
	}
	return m.Doing(fault, severity)
}
