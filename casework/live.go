package casework

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"net"
	"reflect"
	"slices"
	"strconv"
	"strings"

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
	Case     record.Case
	Test     record.Test
	Arch     knowledge.Archetype
	Runs     []record.Run // not struck out, in order
	gathered gathered
}

// LiveTest reads a test for its live bench.
func (s *Shop) LiveTest(ctx context.Context, id string) (LiveTest, error) {
	tx := s.DB.Read(ctx)
	t, err := store.Get[record.Test](tx, id)
	if err != nil {
		return LiveTest{}, err
	}
	c, err := store.Get[record.Case](tx, t.CaseID)
	if err != nil {
		return LiveTest{}, err
	}
	b, err := s.gather(tx, t)
	if err != nil {
		return LiveTest{}, err
	}
	if err := b.read(tx, "", ingest.Log{}); err != nil {
		return LiveTest{}, err
	}
	l := LiveTest{Case: c, Test: t, Arch: b.arch, gathered: b}
	runs, err := store.OfTest(tx, id)
	l.Runs = standing(runs)
	return l, err
}

// Done reports whether a leg of the kind is in.
func (l LiveTest) Done(kind record.RunKind) bool {
	return slices.ContainsFunc(l.Runs, func(r record.Run) bool { return r.Kind == kind && r.EndedAt != nil })
}

// Judge works the result out with a leg that is still being read, as far as it went.
// While it is Watched the verdict is one that may be looked at at any moment.
func (l LiveTest) Judge(r record.Run, log ingest.Log) (record.Summary, error) {
	b := l.gathered
	b.runs = append(slices.Clone(b.runs), r)
	b.legs = append(slices.Clone(b.legs), legsOf(l.Test.Setup, r, log)...)
	return b.judge()
}

// ChargeTo is the pressure a hold starts from, Pa gauge: 13 inH2O, or four fifths of
// what the system is permitted; for a vacuum hold 10 inH2O below the barometer.
func (l LiveTest) ChargeTo(kind record.RunKind) float64 {
	if kind == record.RunVacuum {
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
	if l.Done(record.RunDrift) {
		drift = 60
	}
	return decay.PlanHold(decay.PlanInput{Setup: su.Decay(), Start: l.ChargeTo(record.RunHold), Noise: noise, Rate: rate, DriftLeg: drift, Tank: su.Tank, Level: su.Level})
}

// NewLive is a leg that is about to be read from a module.
type NewLive struct {
	Kind    record.RunKind
	From    record.Source
	Origin  float64 // the module's clock at time 0, s
	Planned float64 // s of hold
}

// BeginRun opens a run that is read live. Only one leg of a test runs at a time.
func (s *Shop) BeginRun(ctx context.Context, testID string, n NewLive) (record.Run, error) {
	if n.Kind.Words() == "" {
		return record.Run{}, problem("leg", "there is no leg %q", n.Kind)
	}
	r := record.Run{ID: newID(), TestID: testID, Kind: n.Kind, Name: n.From.Name, Unit: "Pa", Notes: record.Strings{}, At: s.now(),
		Source: n.From, Origin: n.Origin, Planned: n.Planned, Marks: record.Marks{}, Gaps: record.Gaps{}}
	_, err := s.do(ctx, "", func(tx store.Tx) (string, error) {
		t, err := s.openTest(tx, testID)
		if err != nil {
			return "", err
		}
		if n.Kind == record.RunReference && t.Setup.Reference == 0 {
			return "", problem("reference", "give the diameter of the known orifice in the set-up first")
		}
		runs, err := store.OfTest(tx, testID)
		if err != nil {
			return "", err
		}
		if err := roomForLeg(tx, t, len(runs), record.MostLive); err != nil {
			return "", err
		}
		runs = standing(runs)
		if slices.ContainsFunc(runs, func(x record.Run) bool { return x.EndedAt == nil }) {
			return "", problem("leg", "a leg is being read already; stop it first")
		}
		if len(runs) >= 24 {
			return "", problem("leg", "this test has many legs; strike some out or start another test")
		}
		return r.ID, tx.Add(&r)
	})
	return r, err
}

// EndRun closes a live run with what was gathered beside its readings, and judges
// the test. A run without readings is struck out.
func (s *Shop) EndRun(ctx context.Context, r record.Run) error {
	_, err := s.do(ctx, "", func(tx store.Tx) (string, error) {
		have, err := store.Get[record.Run](tx, r.ID)
		if err != nil {
			return "", err
		}
		if have.EndedAt != nil {
			return r.ID, nil // ended already, from another browser
		}
		l, err := tx.Readings(r.ID)
		if err != nil {
			return "", err
		}
		at := s.now()
		have.EndedAt, have.Readings, have.Gaps, have.Watched, have.Notes = &at, len(l.Time), r.Gaps, r.Watched, r.Notes
		if len(l.Time) < 2 {
			have.StruckAt = &at
			have.Notes = append(have.Notes, "Nothing was read.")
		}
		if err := tx.EndRun(have); err != nil {
			return "", err
		}
		t, err := store.Get[record.Test](tx, r.TestID)
		if err != nil {
			return "", err
		}
		return r.ID, s.judge(tx, t)
	})
	return err
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
	_, err = s.do(ctx, key, func(tx store.Tx) (string, error) {
		if r, err = store.Get[record.Run](tx, runID); err != nil {
			return "", err
		}
		if len(r.Marks) >= 200 {
			return "", problem("mark", "this leg has 200 marks")
		}
		r.Marks = append(r.Marks, record.Mark{Time: at, Text: words})
		return runID, tx.KeepMarks(r)
	})
	if err == nil && r.ID == "" { // the same form twice
		r, err = store.Get[record.Run](s.DB.Read(ctx), runID)
	}
	return r, err
}

// OpenRuns lists runs that were being read when the program stopped.
func (s *Shop) OpenRuns(ctx context.Context) (rs []record.Run, err error) {
	return s.DB.Read(ctx).OpenRuns()
}

// NoteGauge writes what was learned of the gauge into a test's set-up.
func (s *Shop) NoteGauge(ctx context.Context, testID string, change func(*record.Setup)) error {
	_, err := s.do(ctx, "", func(tx store.Tx) (string, error) {
		t, err := s.openTest(tx, testID)
		if err != nil {
			return "", err
		}
		before := t.Setup
		change(&t.Setup)
		if reflect.DeepEqual(t.Setup, before) {
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
func (s *Shop) Devices(ctx context.Context, kind record.DeviceKind) (ds []record.Device, err error) {
	return s.DB.Read(ctx).Devices(kind)
}

// DevicesFor lists the instruments of a kind that may be used at a case: its car's own
// first, then those that are carried around.
func (s *Shop) DevicesFor(ctx context.Context, kind record.DeviceKind, number string) ([]record.Device, error) {
	all, err := s.Devices(ctx, kind)
	all = slices.DeleteFunc(all, func(d record.Device) bool { return d.For != "" && d.For != number })
	slices.SortStableFunc(all, func(a, b record.Device) int { return strings.Compare(b.For, a.For) })
	return all, err
}

// Device finds one by kind and address: only addresses that the shop has written
// down are ever spoken to.
func (s *Shop) Device(ctx context.Context, kind record.DeviceKind, address string) (record.Device, error) {
	ds, err := s.Devices(ctx, kind)
	if err != nil {
		return record.Device{}, err
	}
	for _, d := range ds {
		if d.Address == address {
			if d.Serial() {
				return d, nil // whoever opens it looks whether it is there
			}
			return d, reachable(address, true) // written down by an older Wexter, it may be one that is not spoken to
		}
	}
	return record.Device{}, problem("instrument", "%q is not among the shop's instruments; add it there first", address)
}

// NewDevice is an instrument to be written down.
type NewDevice struct {
	Kind          record.DeviceKind
	Name, Address string
	For           string        // number of the case at whose car it is; empty: it is carried around
	Driver        record.Driver // empty: it says itself what it is
	Baud          int           // of a serial device, whose name Address is
	Settings      record.DeviceSettings
	Sure          bool // the question about another computer was answered
}

// MostDevices is how many instruments a shop writes down.
const MostDevices = 200

// AddDevice writes an instrument down, with how it is spoken to. Addresses on this computer
// and serial devices that the system lists are taken as they are; another address must be on
// the shop's own network and is asked about once. It returns the instrument's id.
func (s *Shop) AddDevice(ctx context.Context, key string, n NewDevice) (string, error) {
	name, err := text("name", n.Name, 60)
	if err != nil {
		return "", err
	}
	serial, err := text("serial", n.Settings.Serial, 40)
	if err != nil {
		return "", err
	}
	n.Settings.Serial = serial
	d := record.Device{ID: newID(), Kind: n.Kind, Name: name, Address: strings.TrimSpace(n.Address), For: n.For, At: s.now(),
		Driver: cmp.Or(n.Driver, record.OwnLines), Baud: n.Baud, Settings: n.Settings}
	if err := fits(d.Check()); err != nil {
		return "", err
	}
	if err := s.reachable(d, n.Sure); err != nil {
		return "", err
	}
	if d.Name == "" {
		d.Name = d.Address
	}
	return s.do(ctx, key, func(tx store.Tx) (string, error) {
		ds, err := tx.Devices("")
		if err != nil {
			return "", err
		}
		if i := slices.IndexFunc(ds, func(x record.Device) bool { return x.Kind == d.Kind && x.Address == d.Address }); i >= 0 {
			return ds[i].ID, tx.KeepDevice(d) // the same one again, perhaps spoken to in another way
		}
		if len(ds) >= MostDevices {
			return "", problem("address", "%d instruments are written down; take one away first", MostDevices)
		}
		return d.ID, tx.KeepDevice(d)
	})
}

// reachable refuses an instrument that may not be spoken to: at a path that is no serial
// device of this computer, or at an address that is not the shop's.
func (s *Shop) reachable(d record.Device, sure bool) error {
	if !d.Serial() {
		return reachable(d.Address, sure)
	}
	var names []string
	if s.Ports != nil {
		var err error
		if names, err = s.Ports(); err != nil {
			return problem("address", "%v", err)
		}
	}
	if !slices.Contains(names, d.Address) {
		return problem("address", "%q is no serial device of this computer: is its plug in?", d.Address)
	}
	return nil
}

// reachable refuses an address that may not be spoken to: another program of this computer,
// or a computer elsewhere. One on the shop's own network is asked about unless it is sure.
func reachable(address string, sure bool) error {
	host, port, err := net.SplitHostPort(address)
	number, perr := strconv.Atoi(port)
	if err != nil || perr != nil || number < 1 || number > 65535 {
		return problem("address", "%q is no address; write it as 127.0.0.1:%d", address, record.FirstPort)
	}
	ip := net.ParseIP(host)
	switch {
	case ip == nil:
		return problem("address", "write the address in figures, such as 127.0.0.1:%d; a name could come to mean another computer", record.FirstPort)
	case ip.IsLoopback() && !record.OwnPort(number):
		return problem("address", "instruments of this computer answer at ports %d to %d; at %d another program may listen, and it is not spoken to", record.FirstPort, record.LastPort, number)
	case ip.IsLoopback():
		return nil
	case !ip.IsPrivate():
		return problem("address", "%s is not on the shop's own network", host)
	case !sure:
		return &Question{fmt.Sprintf("%s is another computer. Wexter would speak to it whenever this instrument is chosen. Is it the shop's own instrument?", host)}
	}
	return nil
}

// RemoveDevice takes an address away.
func (s *Shop) RemoveDevice(ctx context.Context, key, id string) error {
	_, err := s.do(ctx, key, func(tx store.Tx) (string, error) {
		return id, tx.RemoveDevice(id)
	})
	return err
}

// Piece is a stretch of readings of a run that is being read, as block number Block, and
// the gaps that are new or have grown, the first of them as number Gap.
type Piece struct {
	Run      string
	Block    int
	Log      ingest.Log
	From, To int // readings From up to, but without, To
	Gap      int
	Gaps     record.Gaps
}

// KeepReadings writes pieces of several runs with their gaps in one commit, before all
// else that waits to be written: a reading cannot be made again.
func (s *Shop) KeepReadings(ctx context.Context, pieces []Piece) error {
	return s.DB.WriteFirst(ctx, func(tx store.Tx) error {
		for _, p := range pieces {
			if err := tx.AppendReadings(p.Run, p.Block, store.Piece{Log: p.Log, From: p.From, To: p.To}); err != nil {
				return err
			}
			if err := tx.AppendGaps(p.Run, p.Gap, p.Gaps); err != nil {
				return err
			}
		}
		return nil
	})
}

// KeptReadings returns what is on disk of a run, and how many blocks that are.
func (s *Shop) KeptReadings(ctx context.Context, run string) (l ingest.Log, blocks int, err error) {
	tx := s.DB.Read(ctx)
	if l, err = tx.Readings(run); err != nil {
		return l, 0, err
	}
	blocks, err = tx.Blocks(run)
	return l, blocks, err
}

// DeviceByID finds an instrument of the shop.
func (s *Shop) DeviceByID(ctx context.Context, id string) (record.Device, error) {
	return store.Get[record.Device](s.DB.Read(ctx), id)
}

// SetDevice changes how an instrument is called, read and calibrated. Where it is stays as
// it is: another address is another instrument.
func (s *Shop) SetDevice(ctx context.Context, key, id string, change func(*record.Device) error) error {
	_, err := s.do(ctx, key, func(tx store.Tx) (string, error) {
		d, err := store.Get[record.Device](tx, id)
		if err != nil {
			return "", err
		}
		was := d
		if err := change(&d); err != nil {
			return "", err
		}
		d.ID, d.Kind, d.Address, d.Driver, d.At, d.For = was.ID, was.Kind, was.Address, was.Driver, was.At, was.For
		if d.Name, err = text("name", d.Name, 60); err != nil {
			return "", err
		}
		if d.Name == "" {
			d.Name = d.Address
		}
		if d.Settings.Serial, err = text("serial", d.Settings.Serial, 40); err != nil {
			return "", err
		}
		if err := fits(d.Check()); err != nil {
			return "", err
		}
		return id, tx.Put(&d)
	})
	return err
}
