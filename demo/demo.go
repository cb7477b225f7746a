// Package demo fills a shop with invented cars: the municipal garage of the made-up
// port of Saltmarsh Quay. Makes, people and figures are invented; the traces come
// from a small tank with a hole, heat of charging and gauge noise.
package demo

import (
	"cmp"
	"context"
	"embed"
	"errors"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"time"

	"wexter/casework"
	"wexter/core/bench"
	"wexter/core/calendar"
	"wexter/core/obd"
	"wexter/core/record"
	"wexter/core/sim"
	"wexter/core/units"
	"wexter/evidence"
	"wexter/ingest"
)

// Tank is a sealed vapour space with one hole, read by a small gauge.
type Tank struct {
	Volume float64 // m³
	Hole   float64 // m
	Drift  float64 // Pa/s
	Noise  float64 // Pa
	Seed   uint64
}

// Drifting records seconds sealed at zero gauge, five readings a second.
func (k Tank) Drifting(seconds float64) ingest.Log { return k.record(0, 0, seconds, 5) }

// Hold records pumping to start (Pa gauge) and then holding for seconds.
func (k Tank) Hold(start, seconds float64) ingest.Log { return k.record(start, 8, seconds, 5) }

// record works a plant: pumped to start in eight seconds, shut off, and read with a
// gauge of 0.01 inH2O.
func (k Tank) record(start, pump, seconds, rate float64) ingest.Log {
	rng := rand.New(rand.NewPCG(k.Seed, 1))
	p, err := sim.New(sim.Vessel{Volume: k.Volume, Leak: k.Hole, Drift: k.Drift})
	port := sim.Seal
	if start > 0 {
		port = sim.Charge
	}
	if err == nil {
		err = p.Set(port, start)
	}
	if err != nil {
		panic(err) // the demo's own numbers
	}
	l := ingest.Log{Unit: "inH2O"}
	end, held := 4*pump+seconds, start == 0
	for i := 0; float64(i)/rate < end; i++ {
		l.Time = append(l.Time, float64(i)/rate)
		l.Gauge = append(l.Gauge, math.Round((p.Gauge()+k.Noise*rng.NormFloat64())/2.5)*2.5)
		p.Run(1 / rate)
		if !held && p.Port() == sim.Seal {
			held, end = true, p.Time()+seconds
		}
	}
	return l
}

// held is what the legs of a hold are read on. Its traces are made while other things
// are written down.
type held struct {
	tank        Tank
	tolerance   float64 // of the volume
	drift, hold func() ingest.Log
}

func reads(k Tank, tolerance, seconds float64) held {
	after := k
	after.Seed++
	return held{k, tolerance, sync.OnceValue(func() ingest.Log { return k.Drifting(75) }),
		sync.OnceValue(func() ingest.Log { return after.Hold(13*units.InH2O, seconds) })}
}

// holds are those of the demo, by what they are called here.
var holds = map[string]held{
	"clamp":       reads(Tank{Volume: 0.032, Hole: 0.66e-3, Drift: 0.2, Noise: 4, Seed: 11}, 0.06, 150),
	"clamp-after": reads(Tank{Volume: 0.032, Hole: 0.08e-3, Drift: 0.15, Noise: 4, Seed: 21}, 0.06, 150),
	"axle":        reads(Tank{Volume: 0.041, Hole: 0.64e-3, Drift: 0.11, Noise: 4, Seed: 31}, 0.08, 180),
	"axle-front":  reads(Tank{Volume: 0.0065, Hole: 0.03e-3, Noise: 3, Seed: 35}, 0.08, 150),
	"sweeper":     reads(Tank{Volume: 0.038, Hole: 1.15e-3, Drift: 0.4, Noise: 5, Seed: 41}, 0.1, 60),
	"purge":       reads(Tank{Volume: 0.035, Hole: 0.82e-3, Drift: -0.2, Noise: 3, Seed: 51}, 0.07, 120),
	"purge-after": reads(Tank{Volume: 0.035, Hole: 0.11e-3, Drift: -0.1, Noise: 3, Seed: 61}, 0.07, 150),
	"undecided":   reads(Tank{Volume: 0.058, Hole: 0.49e-3, Drift: 0.3, Noise: 6, Seed: 71}, 0.2, 120),
	"within":      reads(Tank{Volume: 0.030, Hole: 0.09e-3, Drift: 0.05, Noise: 3, Seed: 81}, 0.08, 180),
}

// Prepare begins to make the traces of the holds. They are the same every time and need
// nothing else, so that a program may begin with them before it has read the Book.
func Prepare() {
	go func() {
		for _, name := range []string{"clamp", "clamp-after", "axle", "axle-front", "sweeper", "purge", "purge-after", "undecided", "within"} {
			holds[name].drift()
			holds[name].hold()
		}
	}()
}

// Fill makes the shop, with what is next on every case. Times lie around the shop's clock
// as it is.
func Fill(ctx context.Context, s *casework.Shop) error {
	if err := Stock(ctx, s); err != nil {
		return err
	}
	return s.Plan(ctx)
}

// Stock writes down what the shop holds: its cases, as far as each has come.
func Stock(ctx context.Context, s *casework.Shop) error {
	Prepare()
	real := s.Now
	defer func() { s.Now = real }()
	now := real()
	back := 0 * time.Hour
	s.Now = func() time.Time { return now.Add(-back) }
	var kit []string
	for _, k := range s.Book.Kit {
		kit = append(kit, k.Key)
	}
	if err := s.SetShopKit(ctx, "", kit); err != nil {
		return err
	}
	f := &filler{ctx: ctx, s: s, at: func(hours, minutes float64) {
		back = time.Duration(hours*float64(time.Hour) + minutes*float64(time.Minute))
	}, now: now}
	for _, c := range []func(){f.clamp, f.axle, f.sweeper, f.purge, f.undecided, f.wide, f.within, f.diesel, f.fresh, f.hose, f.pipe, f.cooler, f.early} {
		if c(); f.err != nil {
			return f.err
		}
	}
	return nil
}

type filler struct {
	ctx context.Context
	s   *casework.Shop
	at  func(hoursAgo, minutesAgo float64)
	now time.Time
	err error
}

func (f *filler) try(err error) {
	if f.err == nil {
		f.err = err
	}
}

func (f *filler) open(n casework.NewCase) string {
	id, err := f.s.OpenCase(f.ctx, "", n)
	f.try(err)
	return id
}

func (f *filler) day(ahead int) string { return f.now.AddDate(0, 0, ahead).Format(time.DateOnly) }

// workday is a day on which the shop works: what a case has to be ready for leaves it the
// same work whatever day and hour the demo begins at.
func (f *filler) workday(ahead int) string {
	return calendar.Usual().AddDays(f.now, ahead).Format(time.DateOnly)
}

func (f *filler) later(hours float64) *time.Time {
	t := f.now.Add(time.Duration(hours * float64(time.Hour)))
	return &t
}

// unit is what a made-up control unit on CAN has to say; its EVAP monitor has not run.
type unit struct {
	stored, permanent []string
	live              map[byte]float64
}

// scan keeps what a made-up control unit would have answered.
func (f *filler) scan(caseID string, u unit) {
	var b strings.Builder
	say := func(request string, answer ...byte) {
		fmt.Fprintf(&b, "> %s\n", request)
		for _, frame := range obd.Frames(answer) {
			fmt.Fprintf(&b, "7E8 % X\n", frame)
		}
	}
	ready := map[string]string{"evap": obd.Incomplete}
	for _, k := range []string{"misfire", "fuel", "components", "catalyst", "oxygen_sensor", "oxygen_heater"} {
		ready[k] = obd.Complete
	}
	say("01 01", append([]byte{0x41, 1}, obd.EncodeStatus(obd.Status{Lamp: len(u.stored) > 0, Codes: len(u.stored), Readiness: ready})...)...)
	for _, x := range []struct {
		request string
		service byte
		codes   []string
	}{{"03", 0x43, u.stored}, {"07", 0x47, nil}, {"0A", 0x4A, u.permanent}} {
		m := []byte{x.service, byte(len(x.codes))}
		for _, c := range x.codes {
			hi, lo, _ := obd.EncodeDTC(c)
			m = append(m, hi, lo)
		}
		say(x.request, m...)
	}
	for _, p := range slices.Sorted(maps.Keys(u.live)) {
		data, _ := obd.Encode(p, u.live[p])
		say(fmt.Sprintf("01 %02X", p), append([]byte{0x41, p}, data...)...)
	}
	_, err := f.s.AddScan(f.ctx, "", caseID, "scan adapter, bay 1", b.String())
	f.try(err)
}

// test begins a test.
func (f *filler) test(caseID string) string {
	id, err := f.s.StartTest(f.ctx, "", caseID, "")
	f.try(err)
	return id
}

// hold makes a test with the drift leg and the hold of a name.
func (f *filler) hold(caseID, repeatOf, name string) string {
	id, err := f.s.StartTest(f.ctx, "", caseID, repeatOf)
	f.try(err)
	f.legs(caseID, id, name)
	return id
}

// legs reads the legs of a test.
func (f *filler) legs(caseID, id, name string) {
	if f.err != nil {
		return
	}
	h := holds[name]
	k := h.tank
	folder, err := f.s.Load(f.ctx, caseID)
	f.try(err)
	t, _ := folder.Test(id)
	su := t.Setup
	a, _ := f.s.Book.Archetype(folder.Vehicle.Archetype)
	su.Sealed = nil
	for _, st := range a.Seal {
		su.Sealed = append(su.Sealed, st.Do)
	}
	su.VolumeTolerance = h.tolerance
	su.Level = 1 - (k.Volume-su.Extra)/su.Tank
	if su.Set["vapour-line"] == "plugged" { // the tank is not under the gauge
		su.Level, su.Extra = 1, k.Volume
	}
	su.Wet = false
	su.Instrument = record.Instrument{Name: "pressure module 2", Range: 30 * units.InH2O, Resolution: 0.01 * units.InH2O, CalibratedOn: f.day(-120), RigHeld: "held"}
	f.try(f.s.SaveSetup(f.ctx, "", id, t.Version, su))
	_, err = f.s.AddRun(f.ctx, "", id, casework.NewRun{Kind: "drift", Name: "drift.csv", Log: h.drift()})
	f.try(err)
	_, err = f.s.AddRun(f.ctx, "", id, casework.NewRun{Kind: "hold", Name: "hold.csv", Log: h.hold()})
	f.try(err)
}

// clamp: a loose neck clamp, found, put right, proven and closed.
func (f *filler) clamp() {
	f.at(98, 0)
	id := f.open(casework.NewCase{Plate: "SQ 402 D", Make: "Quillane", Model: "Dabchick", Year: 2018, OdometerKM: 88210, TankL: 50, Metering: "maf", Archetype: "engine-vacuum", Engine: "na-maf", Boost: "no-boost", Crankcase: "fixed-valve", Recirculation: "egr-stepper",
		Complaint: "Lamp on since the wheel arch was repaired.", Circumstances: "Came on two days later, stays on.", RecentWork: "Rear wheel arch, left, five weeks ago.", Codes: "P0442"})
	f.at(97, 20)
	before := f.hold(id, "", "clamp")
	f.at(97, 30)
	f.told(id, record.SeenContext, "neck-work")
	f.at(96, 55)
	f.smoke(id, "stream", "neck-hose")
	f.at(96, 50)
	f.try(f.s.AddFinding(f.ctx, "", id, casework.NewFinding{Part: "neck-hose", Place: "lower clamp, behind the liner", How: "A steady stream of smoke at the hose end; the clamp turned by hand."}))
	f.at(96, 20)
	f.try(f.s.AddRepair(f.ctx, "", id, casework.NewRepair{Action: "hose pushed home, both clamps new", Parts: "two clamps", Seals: "none", CostCents: 640, Minutes: 35, TorqueNm: 3, Lasting: true}))
	f.at(95, 40)
	f.hold(id, before, "clamp-after")
	f.at(72, 0)
	f.try(f.s.TryComplaint(f.ctx, "", id, casework.NewTrial{How: "driven to the ferry and back, parked overnight, started", Minutes: 45, Gone: true}))
	f.try(f.s.Monitors(f.ctx, "", id, "complete"))
	if folder, err := f.s.Load(f.ctx, id); err == nil && len(folder.Findings) > 0 {
		f.try(f.s.Open(f.ctx, "", id, casework.NewPostMortem{Finding: folder.Findings[0].ID, Confirmed: "yes", Text: "The clamp's thread is stripped; the hose shows its old mark a finger's breadth further in."}))
	}
	f.try(f.s.Close(f.ctx, "", id, ""))
}

// told taps a sign or a circumstance.
func (f *filler) told(id string, kind record.SeenKind, keys ...string) {
	for _, k := range keys {
		f.try(f.s.Observe(f.ctx, "", id, casework.NewObservation{Kind: kind, Key: k}))
	}
}

// smoke writes down where smoke of the EVAP system came out; nowhere when no part is named.
func (f *filler) smoke(id string, size record.ExitSize, parts ...string) {
	var exits bench.Reading
	for _, p := range parts {
		exits.Places = append(exits.Places, bench.Place{Part: p, Size: string(size)})
	}
	f.result(id, casework.NewResult{Test: bench.VapourSmoke.Key, Readings: bench.Readings{"far": bench.Said(bench.Yes), "exits": exits}})
}

// result writes down what a test read.
func (f *filler) result(id string, n casework.NewResult) {
	_, err := f.s.AddResult(f.ctx, "", id, n)
	f.try(err)
}

// tern is a car whose vapour line leaks since its rear axle was out.
func tern() casework.NewCase {
	return casework.NewCase{Make: "Hathmere", Model: "Tern", Year: 2019, OdometerKM: 61340, TankL: 62, Metering: "maf", Archetype: "engine-vacuum", Engine: "na-maf", Boost: "no-boost", Crankcase: "fixed-valve", Recirculation: "egr-stepper",
		Complaint: "Lamp came on after the rear axle was out.", Circumstances: "No smell noticed, runs well.", RecentWork: "Rear axle out and in, 14 days ago.", Codes: "P0456"}
}

// The demo car is the Tern of SQ-102 as it came in.
const (
	CarFile  = "SQ-102"
	carPlate = "DEMO 1"
)

// FindCar returns the open case of the demo car and its number; casework.ErrNotFound
// without one.
func FindCar(ctx context.Context, s *casework.Shop) (id, number string, err error) {
	rows, err := s.Slate(ctx)
	for _, r := range rows {
		if r.Vehicle.Plate == carPlate && r.Case.Stage != record.Closed {
			return r.Case.ID, r.Case.Number, nil
		}
	}
	return "", "", cmp.Or(err, casework.ErrNotFound)
}

// OpenCar opens a case on the demo car, or finds the one that is open.
func OpenCar(ctx context.Context, s *casework.Shop, key string) (id, number string, err error) {
	if id, number, err = FindCar(ctx, s); !errors.Is(err, casework.ErrNotFound) {
		return id, number, err
	}
	n := tern()
	n.Plate, n.Codes, n.Seen = carPlate, "", []casework.NewObservation{{Kind: record.SeenContext, Key: "axle-work"}}
	if _, err = s.OpenCase(ctx, key, n); err != nil {
		return "", "", err
	}
	return FindCar(ctx, s)
}

// axle: a joint pinched after axle work; over the limit, to be found.
func (f *filler) axle() {
	f.at(3, 20)
	n := tern()
	n.Plate, n.Who, n.Deadline = "SQ 114 K", "MK", f.workday(8)
	id := f.open(n)
	f.told(id, record.SeenContext, "axle-work")
	f.at(3, 5)
	f.scan(id, unit{stored: []string{"P0456"}, permanent: []string{"P0456"}, live: map[byte]float64{0x06: 1.6, 0x07: 0.8, 0x0C: 731, 0x2F: 34, 0x30: 31, 0x31: 820, 0x32: -12}})
	f.at(2, 30)
	f.hold(id, "", "axle")
	// The tank side left out by a plug: what remains under the gauge holds.
	f.at(1, 40)
	front := f.test(id)
	f.try(f.s.SetPart(f.ctx, "", front, "vapour-line", "plugged"))
	f.legs(id, front, "axle-front")
	f.at(1, 30)
	for _, m := range []casework.NewMark{{Kind: record.MarkLooked, Part: "cap", Text: "seal soft, four clicks"}} {
		f.try(f.s.AddMark(f.ctx, "", id, m))
	}
	f.try(f.s.AddCard(f.ctx, "", id, casework.NewCard{Part: "vapour-line", Place: "above the rear axle, left of the tank", First: "left rear wheel, liner (six clips)", Fasteners: "two 8 mm bolts at the bracket",
		Locks: "grey slide lock: push in, then pull", Breaks: "liner clips when cold", Minutes: 20}))
	f.try(f.s.AddCorrection(f.ctx, "", id, casework.NewCorrection{Kind: "note", Part: "service-port", Text: "Sits behind the coolant bottle on this one."}))
	for _, v := range []casework.NewValue{
		{What: evidence.LeakLimit, Said: "0.020 in", Source: "Tern, emission systems, Quay Press, 2019"},
		{What: evidence.LeakLimit, Said: "0.5 mm", Source: "Small cars at inspection, Harbour Books, 2021"},
		{What: "valve-bench/coil", Part: "vent-valve", Said: "20 to 26 ohm", Source: "Tern, emission systems, Quay Press, 2019"},
		{What: "valve-bench/coil", Part: "vent-valve", Said: "32 ± 2 ohm", Source: "Valves and solenoids, Harbour Books, 2017"},
	} {
		f.try(f.s.AddValue(f.ctx, "", id, v))
	}
}

// sweeper: a rubbed vapour line on the street sweeper; found, waits for its part.
func (f *filler) sweeper() {
	f.at(50, 0)
	id := f.open(casework.NewCase{Plate: "SWEEP 2", Make: "Ostrel", Model: "Packer", Year: 2016, OdometerKM: 40120, TankL: 70, Metering: "map", Archetype: "pressure-pump", Engine: "na-map", Boost: "no-boost", Crankcase: "regulator", Recirculation: "no-egr",
		Complaint: "Smells of fuel after washing down.", Circumstances: "Warm days, tank full.", RecentWork: "Brush arm bearing.", Who: "JT", Deadline: f.workday(1), Codes: "P0455 P0442"})
	f.at(49, 10)
	f.hold(id, "", "sweeper")
	f.at(48, 50)
	f.try(f.s.AddMark(f.ctx, "", id, casework.NewMark{Kind: record.MarkExit, Part: "vent-filter", Size: "wisp", Expected: true, Text: "before it was plugged"}))
	f.try(f.s.AddMark(f.ctx, "", id, casework.NewMark{Kind: record.MarkExit, Part: "vapour-line", Size: "billow", Text: "under the brush arm"}))
	f.at(48, 30)
	f.try(f.s.AddFinding(f.ctx, "", id, casework.NewFinding{Part: "vapour-line", Place: "along the frame, under the brush arm", How: "Rubbed through by the arm's hose; smoke billows when the arm is lifted."}))
	f.at(48, 0)
	f.try(f.s.AddRepair(f.ctx, "", id, casework.NewRepair{Action: "new line from tank to canister, clipped clear of the arm", Parts: "vapour line", Seals: "two line O-rings", CostCents: 8750, Minutes: 90, Lasting: true,
		WaitUntil: f.later(50), WaitNote: "vapour line, from the depot"}))
}

// purge: a chafed purge line, repaired; the repeat passes, the trial is to come.
func (f *filler) purge() {
	f.at(28, 0)
	id := f.open(casework.NewCase{Plate: "SQ 087 B", Make: "Quillane", Model: "Marl", Year: 2020, OdometerKM: 33005, TankL: 55, Metering: "maf", Archetype: "eonv-switch-remote", Engine: "turbo-petrol", Boost: "charged-line", Crankcase: "regulator-turbo", Recirculation: "egr-motor-temperature",
		Complaint: "Failed its inspection for the lamp.", Circumstances: "Always.", RecentWork: "Starter, spring.", Who: "MK", Deadline: f.workday(4), Codes: "P0442"})
	f.at(27, 40)
	f.scan(id, unit{stored: []string{"P0442"}, permanent: []string{"P0442"}, live: map[byte]float64{0x06: 0.8, 0x07: 2.3, 0x2F: 40, 0x30: 18, 0x31: 402}})
	f.at(27, 30)
	f.try(f.s.AddNote(f.ctx, "", id, casework.NewNote{Kind: record.Unplugged, Text: "purge valve, key on"}))
	f.at(27, 20)
	before := f.hold(id, "", "purge")
	f.at(26, 45)
	f.smoke(id, "wisp", "purge-line")
	f.at(26, 40)
	f.try(f.s.AddFinding(f.ctx, "", id, casework.NewFinding{Part: "purge-line", Place: "behind the engine, at the starter bracket", How: "Chafed by the bracket; a wisp of smoke, more when the line is bent."}))
	f.at(25, 30)
	f.try(f.s.AddRepair(f.ctx, "", id, casework.NewRepair{Action: "new purge line, bracket wrapped", Parts: "purge line", Seals: "O-rings both ends", CostCents: 4120, Minutes: 55, Lasting: true}))
	f.at(24, 50)
	f.hold(id, before, "purge-after")
	f.at(24, 30)
	f.scan(id, unit{stored: []string{"P0442", "P0443"}, permanent: []string{"P0442"}, live: map[byte]float64{0x06: -0.8, 0x07: 2.3, 0x2F: 40, 0x30: 18, 0x31: 404}})
	f.at(24, 25)
	f.try(f.s.AddNote(f.ctx, "", id, casework.NewNote{Kind: record.SelfMade, Subject: "P0443", Text: "came after: purge valve, key on"}))
	f.at(24, 20)
	f.try(f.s.AddNote(f.ctx, "", id, casework.NewNote{Kind: record.Cleared, Text: "through scan adapter, bay 1"}))
	f.at(24, 10)
	f.scan(id, unit{permanent: []string{"P0442"}, live: map[byte]float64{0x06: 0.8, 0x07: 0, 0x2F: 40, 0x30: 0, 0x31: 0}})
	f.try(f.s.Wait(f.ctx, "", id, casework.NewWait{Kind: record.WaitSoak, Note: "cold soak, then drive and try the complaint", Until: f.later(19)}))
}

// undecided: close to the limit with a space poorly known.
func (f *filler) undecided() {
	f.at(5, 0)
	id := f.open(casework.NewCase{Plate: "SQ 075 H", Make: "Ostrel", Model: "Hod", Year: 2017, OdometerKM: 120400, TankL: 80, Metering: "maf", Archetype: "pump-current", Engine: "na-maf", Boost: "no-boost", Crankcase: "fixed-valve", Recirculation: "egr-vacuum",
		Complaint: "Lamp comes and goes.", Circumstances: "Cold mornings.", Who: "AR", Deadline: f.workday(3), Codes: "P0456"})
	f.at(4, 10)
	f.told(id, record.SeenSign, "comes-and-goes")
	f.hold(id, "", "undecided")
}

// wide: sand held the vent open; the system cannot be charged at all.
func (f *filler) wide() {
	f.at(6, 0)
	id := f.open(casework.NewCase{Plate: "BEACH 1", Make: "Quillane", Model: "Sprat", Year: 2015, OdometerKM: 70990, TankL: 45, Metering: "maf", Archetype: "engine-vacuum",
		Complaint: "Lamp on after the beach patrol.", Circumstances: "Sand everywhere.", Codes: "P0455"})
	f.at(5, 30)
	f.told(id, record.SeenContext, "dust")
	t, err := f.s.StartTest(f.ctx, "", id, "")
	f.try(err)
	f.try(f.s.SetOutcome(f.ctx, "", t, record.CannotPressurise))
	f.try(f.s.Wait(f.ctx, "", id, casework.NewWait{Kind: record.WaitCustomer, Note: "price of a vent valve agreed?", Until: f.later(5)}))
}

// within: holds; a reading of the cap contradicts it.
func (f *filler) within() {
	f.at(7, 0)
	id := f.open(casework.NewCase{Plate: "SQ 119 C", Make: "Ostrel", Model: "Wherry", Year: 2021, OdometerKM: 21800, TankL: 48, Metering: "map", Archetype: "eonv-sensor",
		Complaint: "Cap message once, then gone.", Circumstances: "After refuelling at the quay.", Codes: "P0457"})
	f.at(6, 20)
	f.hold(id, "", "within")
	// The cap falls on the tester, and the whole system with that cap on it holds: one of
	// the two is wrong (here the tester's adapter leaks).
	f.at(5, 50)
	f.result(id, casework.NewResult{Test: bench.CapCheck.Key, Part: "cap", Readings: bench.Readings{"left": bench.Num(2.1), "clicks": bench.Num(4)}, Note: "adapter of the Wherry, not tried plugged"})
}

// diesel: two faults at once: a gasket under the EGR valve blows, and the ports
// behind it are clogged; no EVAP system to hold.
func (f *filler) diesel() {
	f.at(2, 0)
	id := f.open(casework.NewCase{Plate: "ROPE 7", Make: "Hathmere", Model: "Grebe", Year: 2017, OdometerKM: 188400, TankL: 75, Metering: "maf", Archetype: "no-vapour",
		Engine: "turbo-diesel", Boost: "charged", Crankcase: "regulator-inlet", Recirculation: "egr-motor-temperature",
		Complaint: "Ticks when cold and smells of exhaust at the lights.", Circumstances: "Cold, at idle.", RecentWork: "Glow plugs, last winter.", Who: "JT", Codes: "P0401"})
	f.at(1, 45)
	f.scan(id, unit{stored: []string{"P0401"}, permanent: []string{"P0401"}, live: map[byte]float64{0x0C: 820, 0x0B: 99, 0x10: 9.4, 0x2C: 0}})
	f.at(1, 20)
	f.told(id, record.SeenSign, "exhaust-smell")
	f.try(f.s.AddMark(f.ctx, "", id, casework.NewMark{Kind: record.MarkLooked, Part: "charge-hose", Text: "dry, clamps home"}))
	f.try(f.s.AddMark(f.ctx, "", id, casework.NewMark{Kind: record.MarkExit, Part: "egr-gasket", Size: "stream", Text: "smoke at the flange, engine side"}))
}

// fresh: just in.
func (f *filler) fresh() {
	f.at(0, 25)
	f.open(casework.NewCase{Plate: "SQ 131 M", Make: "Hathmere", Model: "Ibis", Year: 2014, OdometerKM: 143900, TankL: 58, Metering: "maf", Archetype: "pump-absolute", Engine: "turbo-petrol", Boost: "charged-jet", Crankcase: "regulator-turbo", Recirculation: "no-egr",
		Complaint: "Lamp on, plus a maker's own code.", Circumstances: "Since the car wash.", Codes: "P0442 P1450"})
	f.at(0, 0)
}

// hose: a torn booster hose on an engine without an air meter: its trims are silent, its idle is
// not.
func (f *filler) hose() {
	f.at(2, 40)
	id := f.open(casework.NewCase{Plate: "SQ 143 P", Make: "Ostrel", Model: "Linnet", Year: 2013, OdometerKM: 151200, TankL: 45, Metering: "map", Archetype: "engine-vacuum", Engine: "na-map", Boost: "no-boost", Crankcase: "fixed-valve", Recirculation: "no-egr",
		Complaint: "Idles fast and hisses when the brake is pressed.", Circumstances: "Warm, always.", Codes: "P0507"})
	f.drive(id, "SQ-110", 1.6e-3)
}

// pipe: a split inlet pipe, which no log tells from a meter that reads too little.
func (f *filler) pipe() {
	f.at(2, 10)
	id := f.open(casework.NewCase{Plate: "PILOT 2", Make: "Quillane", Model: "Siskin", Year: 2016, OdometerKM: 99310, TankL: 50, Metering: "maf", Archetype: "engine-vacuum", Engine: "na-maf", Boost: "no-boost", Crankcase: "fixed-valve", Recirculation: "egr-stepper",
		Complaint: "Hesitates when it pulls away; lamp on.", Circumstances: "Warm and cold.", RecentWork: "Air filter, last month.", Codes: "P0171"})
	f.drive(id, "SQ-111", 1.6e-3)
}

// cooler: the end tank of a charge cooler lets go under boost.
func (f *filler) cooler() {
	f.at(1, 35)
	id := f.open(casework.NewCase{Plate: "SQ 151 T", Make: "Hathmere", Model: "Fulmar", Year: 2018, OdometerKM: 76440, TankL: 55, Metering: "maf", Archetype: "eonv-switch-remote", Engine: "turbo-petrol", Boost: "charged-line", Crankcase: "regulator-turbo", Recirculation: "no-egr",
		Complaint: "Weak on the hill to the lighthouse, whistles.", Circumstances: "Foot down, warm.", Codes: "P0299"})
	f.drive(id, "SQ-112", 1.6e-3)
	f.at(0, 0)
}

// early: a pontoon tractor whose thermal vacuum switch never opens, so that its carbon is never purged. It
// checks nothing by itself.
func (f *filler) early() {
	f.at(1, 10)
	id := f.open(casework.NewCase{Plate: "PONTOON 1", Make: "Ostrel", Model: "Yawl", Year: 1992, OdometerKM: 41200, TankL: 60, Metering: "map", Archetype: "early-ported", Engine: "na-map", Boost: "no-boost", Crankcase: "fixed-valve", Recirculation: "no-egr",
		Complaint: "Smells of petrol in the boat shed on the morning after work.", Circumstances: "Runs well, warm and cold."})
	f.try(f.s.Unread(f.ctx, "", id, "no-check"))
	f.at(0, 0)
}

// drive brings the log of a drive, as the car of the bay gave it: wexter simulate --drive with that
// car's fault.
func (f *filler) drive(id, log string, displacement float64) {
	data, err := drives.ReadFile("drives/" + log + ".csv")
	f.try(err)
	d, err := ingest.ParseDrive(data)
	f.try(err)
	f.at(0, 30)
	_, err = f.s.AddDrive(f.ctx, "", id, casework.NewDrive{Name: log + ".csv", Log: d, Displacement: displacement})
	f.try(err)
}

//go:embed drives/*.csv
var drives embed.FS

// Instrument is a stand-in that the demo runs.
type Instrument struct {
	Kind, Name string
	For        string   // number of the case at whose car it is
	Args       []string // of the stand-in
}

// Instruments are the demo's: a module on a car that leaks a little over the limit,
// and one on a car that is well within it.
func Instruments() []Instrument {
	return []Instrument{
		{"module", "pressure module, bay 1", "", []string{"--name", "pressure module, bay 1", "--volume", "33L", "--leak", "0.70mm", "--drift", "0.15", "--zero", "4", "--seed", "1201"}},
		{"adapter", "scan adapter, bay 1", "", []string{"--car", "demo:ibis"}},
		{"module", "pressure module, bay 2", "", []string{"--name", "pressure module, bay 2", "--volume", "28L", "--leak", "0.30mm", "--drift", "0.05", "--zero", "-2", "--seed", "1202"}},
	}
}

//go:embed cars/*.yaml bay/*.yaml
var cars embed.FS

// WholeCar returns the file of the whole simulated car of a demo case, by its number.
func WholeCar(number string) ([]byte, error) {
	data, err := cars.ReadFile("bay/" + number + ".yaml")
	if err != nil {
		return nil, fmt.Errorf("the demo has no car %q; it has %s", number, strings.Join(WholeCars(), ", "))
	}
	return data, nil
}

// WholeCars lists the numbers of the cases whose car stands in the bay.
func WholeCars() (out []string) {
	files, _ := cars.ReadDir("bay")
	for _, f := range files {
		out = append(out, strings.TrimSuffix(f.Name(), ".yaml"))
	}
	return
}

// Car returns the file of one of the demo's cars, for the scan adapter.
func Car(name string) ([]byte, error) {
	data, err := cars.ReadFile("cars/" + name + ".yaml")
	if err != nil {
		return nil, fmt.Errorf("the demo has no car %q", name)
	}
	return data, nil
}
