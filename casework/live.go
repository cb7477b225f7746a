package casework

import (
	"context"
	"fmt"
	"math"
	"net"
	"slices"
	"strconv"
	"strings"

	"gorm.io/gorm"

	"wexter/core/decay"
	"wexter/core/knowledge"
	"wexter/core/record"
	"wexter/core/units"
	"wexter/ingest"
	"wexter/store"
)

// LiveTest is a test as its live bench needs it: set-up, the legs that are in, and
// what the system is permitted.
type LiveTest struct {
	Case  record.Case
	Test  record.Test
	Arch  knowledge.Archetype
	Runs  []record.Run // not struck out, in order
	bench bench
}

// LiveTest reads a test for its live bench.
func (s *Shop) LiveTest(ctx context.Context, id string) (LiveTest, error) {
	tx := s.DB.Read(ctx)
	t, err := find[record.Test](tx, id)
	if err != nil {
		return LiveTest{}, err
	}
	c, err := find[record.Case](tx, t.CaseID)
	if err != nil {
		return LiveTest{}, err
	}
	b, err := s.bench(tx, t)
	if err != nil {
		return LiveTest{}, err
	}
	l := LiveTest{Case: c, Test: t, Arch: b.arch, bench: b}
	return l, tx.Where("test_id = ? AND struck_at IS NULL", id).Order("at, rowid").Find(&l.Runs).Error
}

// Done reports whether a leg of the kind is in.
func (l LiveTest) Done(kind string) bool {
	return slices.ContainsFunc(l.Runs, func(r record.Run) bool { return r.Kind == kind && r.EndedAt != nil })
}

// Judge works the result out with a leg that is still being read, as far as it went.
// Unless ended is set, the verdict is one that may be looked at at any moment.
func (l LiveTest) Judge(r record.Run, log ingest.Log, ended bool) (record.Summary, error) {
	b := l.bench
	r.Watched = r.Watched || !ended
	b.runs = append(slices.Clone(b.runs), r)
	b.legs = append(slices.Clone(b.legs), legsOf(l.Test.Setup, r, log)...)
	return b.judge()
}

// ChargeTo is the pressure a hold starts from, Pa gauge: 13 inH2O, or four fifths of
// what the system is permitted; for a vacuum hold 10 inH2O below the barometer.
func (l LiveTest) ChargeTo(vacuum bool) float64 {
	if vacuum {
		return -math.Min(10*units.InH2O, 0.8*l.Arch.MaxVacPa)
	}
	return math.Min(13*units.InH2O, 0.8*l.Arch.MaxPa)
}

// Plan says how long to hold with the set-up as it is.
func (l LiveTest) Plan() (decay.Plan, error) {
	su := l.Test.Setup
	noise, rate := math.Max(su.Instrument.Resolution/2, 2), 5.0
	if su.Instrument.Resolution >= 20 {
		rate = 1.0 / 15 // a water column read by eye
	}
	drift := 0.0
	if l.Done("drift") {
		drift = 60
	}
	return decay.PlanHold(decay.PlanInput{Setup: su.Decay(), Start: l.ChargeTo(false), Noise: noise, Rate: rate, DriftLeg: drift, Tank: su.Tank, Level: su.Level})
}

// BeginRun opens a run that is read live. Only one leg of a test runs at a time.
func (s *Shop) BeginRun(ctx context.Context, testID, kind string, from record.Source, origin, planned float64) (record.Run, error) {
	if record.RunWords[kind] == "" {
		return record.Run{}, problem("leg", "there is no leg %q", kind)
	}
	r := record.Run{ID: newID(), TestID: testID, Kind: kind, Name: from.Name, Unit: "Pa", Notes: record.Strings{}, At: s.now(),
		Source: from, Origin: origin, Planned: planned, Marks: record.Marks{}, Gaps: record.Gaps{}}
	_, err := s.do(ctx, "", func(tx *gorm.DB) (string, error) {
		t, err := s.openTest(tx, testID)
		if err != nil {
			return "", err
		}
		if kind == "reference" && t.Setup.Reference == 0 {
			return "", problem("reference", "give the diameter of the known orifice in the set-up first")
		}
		var n, open int64
		q := tx.Model(&record.Run{}).Where("test_id = ? AND struck_at IS NULL", testID)
		if err := q.Session(&gorm.Session{}).Count(&n).Error; err != nil {
			return "", err
		}
		if err := q.Where("ended_at IS NULL").Count(&open).Error; err != nil {
			return "", err
		}
		if open > 0 {
			return "", problem("leg", "a leg is being read already; stop it first")
		}
		if n >= 24 {
			return "", problem("leg", "this test has many legs; strike some out or start another test")
		}
		return r.ID, tx.Create(&r).Error
	})
	return r, err
}

// EndRun closes a live run with what was gathered beside its readings, and judges
// the test. A run without readings is struck out.
func (s *Shop) EndRun(ctx context.Context, r record.Run) error {
	_, err := s.do(ctx, "", func(tx *gorm.DB) (string, error) {
		have, err := find[record.Run](tx, r.ID)
		if err != nil {
			return "", err
		}
		if have.EndedAt != nil {
			return r.ID, nil // ended already, from another browser
		}
		l, err := store.Readings(tx, r.ID)
		if err != nil {
			return "", err
		}
		at := s.now()
		have.EndedAt, have.Readings, have.Gaps, have.Watched, have.Notes = &at, len(l.Time), r.Gaps, r.Watched, r.Notes
		if len(l.Time) < 2 {
			have.StruckAt = &at
			have.Notes = append(have.Notes, "Nothing was read.")
		}
		if err := tx.Save(&have).Error; err != nil {
			return "", err
		}
		t, err := find[record.Test](tx, r.TestID)
		if err != nil {
			return "", err
		}
		return r.ID, s.judge(tx, t)
	})
	return err
}

// KeepGaps writes down the gaps of a run that goes on, so that a stop of the
// computer does not forget them.
func (s *Shop) KeepGaps(ctx context.Context, r record.Run) error {
	return s.DB.Write(ctx, func(tx *gorm.DB) error {
		return tx.Model(&record.Run{ID: r.ID}).Where("ended_at IS NULL").Select("gaps", "watched").Updates(&r).Error
	})
}

// MarkRun puts a word at a moment of a run.
func (s *Shop) MarkRun(ctx context.Context, key, runID string, at float64, words string) (record.Run, error) {
	words, err := text("mark", words, 120)
	if err != nil {
		return record.Run{}, err
	}
	if words == "" {
		words = "mark"
	}
	var r record.Run
	_, err = s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		if r, err = find[record.Run](tx, runID); err != nil {
			return "", err
		}
		if len(r.Marks) >= 200 {
			return "", problem("mark", "this leg has 200 marks")
		}
		r.Marks = append(r.Marks, record.Mark{Time: at, Text: words})
		return runID, tx.Model(&r).Select("marks").Updates(&r).Error
	})
	if err == nil && r.ID == "" { // the same form twice
		r, err = find[record.Run](s.DB.Read(ctx), runID)
	}
	return r, err
}

// OpenRuns lists runs that were being read when the program stopped.
func (s *Shop) OpenRuns(ctx context.Context) (rs []record.Run, err error) {
	err = s.DB.Read(ctx).Where("ended_at IS NULL AND struck_at IS NULL").Order("at").Find(&rs).Error
	return rs, err
}

// NoteGauge writes what was learned of the gauge into a test's set-up.
func (s *Shop) NoteGauge(ctx context.Context, testID string, change func(*record.Setup)) error {
	_, err := s.do(ctx, "", func(tx *gorm.DB) (string, error) {
		t, err := s.openTest(tx, testID)
		if err != nil {
			return "", err
		}
		before := t.Setup.Instrument
		orifice := t.Setup.Reference
		change(&t.Setup)
		if t.Setup.Instrument == before && t.Setup.Reference == orifice {
			return testID, nil
		}
		if err := settle(&t.Setup); err != nil {
			return "", err
		}
		return testID, s.judge(tx, t)
	})
	return err
}

// Devices lists the instruments of a kind, module or adapter.
func (s *Shop) Devices(ctx context.Context, kind string) (ds []record.Device, err error) {
	err = s.DB.Read(ctx).Where("kind = ?", kind).Order("at, id").Find(&ds).Error
	return ds, err
}

// Device finds one by kind and address: only addresses that the shop has written
// down are ever spoken to.
func (s *Shop) Device(ctx context.Context, kind, address string) (record.Device, error) {
	ds, err := s.Devices(ctx, kind)
	if err != nil {
		return record.Device{}, err
	}
	for _, d := range ds {
		if d.Address == address {
			return d, nil
		}
	}
	return record.Device{}, problem("instrument", "%q is not among the shop's instruments; add it there first", address)
}

// AddDevice writes an instrument's address down. Addresses on this computer are
// taken as they are; another one must be on the shop's own network and is asked
// about once.
func (s *Shop) AddDevice(ctx context.Context, key, kind, name, address string, sure bool) error {
	if kind != "module" && kind != "adapter" {
		return problem("kind", "an instrument is a pressure module or a scan adapter")
	}
	name, err := text("name", name, 60)
	if err != nil {
		return err
	}
	address = strings.TrimSpace(address)
	host, port, err := net.SplitHostPort(address)
	n, perr := strconv.Atoi(port)
	if err != nil || perr != nil || n < 1 || n > 65535 {
		return problem("address", "%q is no address; write it as 127.0.0.1:4100", address)
	}
	ip := net.ParseIP(host)
	if ip == nil {
		return problem("address", "write the address in figures, such as 127.0.0.1:4100; a name could come to mean another computer")
	}
	if !ip.IsLoopback() {
		if !ip.IsPrivate() {
			return problem("address", "%s is not on the shop's own network", host)
		}
		if !sure {
			return &Question{fmt.Sprintf("%s is another computer. Wexter would speak to it whenever this instrument is chosen. Is it the shop's own instrument?", host)}
		}
	}
	if name == "" {
		name = address
	}
	_, err = s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		var n int64
		if err := tx.Model(&record.Device{}).Count(&n).Error; err != nil {
			return "", err
		}
		if n >= 40 {
			return "", problem("address", "forty instruments are written down; take one away first")
		}
		d := record.Device{ID: newID(), Kind: kind, Name: name, Address: address, At: s.now()}
		return d.ID, tx.Exec("INSERT INTO devices(id, kind, name, address, at) VALUES(?,?,?,?,?) ON CONFLICT(kind, address) DO UPDATE SET name = excluded.name",
			d.ID, d.Kind, d.Name, d.Address, d.At).Error
	})
	return err
}

// RemoveDevice takes an address away.
func (s *Shop) RemoveDevice(ctx context.Context, key, id string) error {
	_, err := s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		return id, tx.Where("id = ?", id).Delete(&record.Device{}).Error
	})
	return err
}
