package casework

import (
	"context"
	"encoding/json"
	"errors"

	"wexter/core/bench"
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
	Displacement float64 // m³; 0 when nobody said
	RepeatOf     string  // the result that it repeats, after a repair
}

// AddDrive keeps the log of a drive as a test of fuel trims. One of which nothing can be told is
// refused in a sentence, and nothing is kept.
func (s *Shop) AddDrive(ctx context.Context, key, caseID string, n NewDrive) (string, error) {
	name, err := text("name", n.Name, 120)
	if err != nil {
		return "", err
	}
	e, ok := s.Book.Test(bench.Trims.Key)
	if !ok {
		return "", problem("test", "The Book has no test of fuel trims.")
	}
	cols, table := bench.DriveTable(&n.Log.Log)
	for i := range cols {
		cols[i].Instrument = name
	}
	at := s.now()
	r := record.Run{ID: newID(), Kind: record.RunDrive, Name: name, Notes: append(record.Strings{}, n.Log.Notes...), Readings: table.Len(), At: at,
		Marks: record.Marks{}, Gaps: record.Gaps{}, EndedAt: &at, Channels: cols}
	return s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, v, err := caseAndCar(tx, caseID)
		if err != nil {
			return "", err
		}
		if _, err := open(tx, caseID, 0); err != nil {
			return "", err
		}
		car, err := s.carOf(tx, v)
		if err != nil {
			return "", err
		}
		if err := car.canBe(e, NewResult{Test: e.Key}); err != nil {
			return "", err
		}
		t := record.Test{ID: newID(), Key: e.Key, CaseID: caseID, RepeatOf: n.RepeatOf, Setup: record.Setup{Displacement: n.Displacement}, At: at, Version: 1, Rules: trim.Version}
		if r.TestID = t.ID; n.RepeatOf != "" {
			f, err := s.load(tx, caseID)
			if err != nil {
				return "", err
			}
			if _, err := repeated(f, NewResult{Test: e.Key, RepeatOf: n.RepeatOf}); err != nil {
				return "", err
			}
		}
		if err := roomForLeg(tx, t, 0, table.Len()); err != nil {
			return "", err
		}
		d, err := driveOf(car, t, r, table)
		if err != nil {
			return "", err
		}
		if err := keepDrive(&t, d); err != nil {
			return "", err
		}
		if err := errors.Join(addTest(tx, &t), tx.Add(&r)); err != nil {
			return "", err
		}
		return t.ID, errors.Join(tx.PutReadings(r.ID, table), advance(tx, c, c.Stage))
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
	d, err := trim.NewDrive(bench.DriveLog(r.Channels, table), bench.EngineOf(car.Graph, t.Setup.Displacement, t.Setup.Barometer))
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

// judgeDrive finds the points of the newest drive of a test; without one there is no result.
func (s *Shop) judgeDrive(tx store.Tx, t *record.Test) error {
	runs, err := store.OfTest(tx, t.ID)
	if err != nil {
		return err
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
		table, err := tx.Readings(r.ID)
		if err != nil {
			return err
		}
		d, err := driveOf(car, *t, r, table)
		var p *Problem
		if errors.As(err, &p) {
			t.Problem = p.Sentence
			return nil
		}
		if err != nil {
			return err
		}
		return keepDrive(t, d)
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
	r, err := aside(s, "drive", []any{trim.Version, d, before}, func(context.Context) (DriveResult, error) {
		out := DriveResult{Result: d.Judge()}
		if before != nil {
			was := before.Judge()
			c := trim.CompareRepair(&was, &out.Result)
			out.Change = &c
		}
		return out, nil
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
