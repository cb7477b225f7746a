package standin

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"sync"

	"go.yaml.in/yaml/v3"

	"wexter/core/knowledge"
	"wexter/core/obd"
	"wexter/core/plumbing"
	"wexter/core/sim"
	"wexter/instrument"
)

// CarFile says what a whole simulated car is and how it comes into the bay.
type CarFile struct {
	Name       string
	VIN        string `yaml:"vin"`
	Archetypes []string
	Faults     map[string]float64 // by key, with severity 0 to 1
	Broken     map[string]string  // by part: the break of its circuit
	Level      float64            // of the fuel, share
	Ambient    float64            `yaml:"ambient_C"`
	Barometer  float64            `yaml:"barometer_kPa"`
	Reid       float64            `yaml:"reid_kPa"`
	Trips      int                // driven with its faults before it came
	Mode       sim.Mode           // how it stands now: off, key, idle …
	Warm       bool               // the engine is warm
	Seed       uint64
	Bus        string // can or old
}

// ReadCarFile reads a whole car's file; the error names the entry.
func ReadCarFile(data []byte) (CarFile, error) {
	f := CarFile{Level: 0.4, Ambient: 20, Barometer: 101.325, Reid: 62, Mode: sim.Key, Bus: "can", Seed: 1}
	d := yaml.NewDecoder(bytes.NewReader(data))
	d.KnownFields(true)
	if err := d.Decode(&f); err != nil {
		return f, fmt.Errorf("the car's file: %w", err)
	}
	switch {
	case f.Name == "":
		return f, errors.New("the car's file: no name")
	case f.Trips < 0 || f.Trips > 5:
		return f, fmt.Errorf("the car's file: trips is %d; it lies between 0 and 5", f.Trips)
	case f.Bus != "can" && f.Bus != "old":
		return f, fmt.Errorf("the car's file: bus is %q; it is can or old", f.Bus)
	case !slices.Contains(sim.Modes(), f.Mode):
		return f, fmt.Errorf("the car's file: mode is %q; it is one of %q", f.Mode, sim.Modes())
	}
	return f, nil
}

// Plant is a whole simulated car that several instruments see at one moment. Its clock
// goes on as long as somebody looks; unwatched for long, the car stands still.
type Plant struct {
	mu    sync.Mutex
	file  CarFile
	book  knowledge.Book
	car   *sim.Car
	clock *Clock
	last  float64 // the clock's time up to which the car has come
	woken bool
	bench bool              // sealed for a hold
	held  map[string]*lease // valves that are commanded for a while, by part
	// beside brings what stands beside the car, and is felt by it, to this moment; nil: nothing does.
	beside func(*sim.Car)
}

// NewPlant builds the car of a file; what is not known or not possible is said.
func NewPlant(f CarFile, b knowledge.Book, speed float64) (*Plant, error) {
	var c plumbing.Combination
	for _, k := range f.Archetypes {
		a, ok := b.Plumbing.Find(k)
		if !ok {
			return nil, fmt.Errorf("the car's file: there is no archetype %q", k)
		}
		c = c.With(a.Family, k)
	}
	full, err := b.Plumbing.Complete(c)
	if err != nil {
		return nil, fmt.Errorf("the car's file: %w", err)
	}
	p := &Plant{file: f, book: b, held: map[string]*lease{}}
	if p.clock, err = NewClock(speed); err != nil {
		return nil, err
	}
	if p.car, err = sim.NewCar(b.Plumbing, full, nil, sim.Conditions{Level: f.Level, Ambient: f.Ambient + 273.15, Barometer: f.Barometer * 1000, Reid: f.Reid * 1000, Seed: f.Seed}); err != nil {
		return nil, fmt.Errorf("the car's file: %w", err)
	}
	for _, k := range slices.Sorted(maps.Keys(f.Faults)) { // in one order, so that the same file gives the same car to the last bit
		if err := p.fault(k, f.Faults[k]); err != nil {
			return nil, fmt.Errorf("the car's file: %w", err)
		}
	}
	for _, part := range slices.Sorted(maps.Keys(f.Broken)) {
		if err := p.car.Break(part, f.Broken[part], middling); err != nil {
			return nil, fmt.Errorf("the car's file: %w", err)
		}
	}
	return p, nil
}

// middling is where within its range a break lies unless somebody says otherwise.
const middling = 0.5

// Name is the car's, as its file gives it.
func (p *Plant) Name() string { return p.file.Name }

// Tried is what the instruments showed in a test of the Book that somebody did on the car.
// What it means is for the bench to say.
type Tried struct {
	Test     string      `json:"test"`
	Part     string      `json:"part,omitempty"`
	Readings []TriedRead `json:"readings"`
	Log      [][]float64 `json:"log,omitempty"` // of a hold: leg (0 drift, 1 hold), s, Pa, K
}

// TriedRead is one reading, in the Book's unit: what the instrument showed, each time it was
// read, or the places where something was seen.
type TriedRead struct {
	Key    string       `json:"key"`
	Name   string       `json:"name"`
	Unit   string       `json:"unit,omitempty"`
	Said   []string     `json:"said,omitempty"`
	Places []TriedPlace `json:"places,omitempty"`
}

// TriedPlace is a part at which something came out or was seen.
type TriedPlace struct {
	Part     string `json:"part"`
	Size     string `json:"size,omitempty"`
	Expected bool   `json:"expected,omitempty"`
}

// try does a test of the Book on a car with the same faults, as a technician would who has
// the car to himself: the one that others look at stays as it is.
func (p *Plant) try(test, part string) (string, error) {
	fresh, err := NewPlant(p.file, p.book, 1)
	if err != nil {
		return "", err
	}
	t, err := sim.Try(fresh.car, p.book, test, part)
	if err != nil {
		return "", err
	}
	out := Tried{Test: t.Test, Part: t.On.Part.Key}
	entry, _ := p.book.Test(test)
	for _, r := range entry.Reads {
		x, ok := t.Readings[r.Key]
		if !ok {
			continue
		}
		said := TriedRead{Key: r.Key, Name: r.Name, Unit: r.Unit, Said: slices.Clone(x.Words)}
		for _, v := range x.Numbers {
			if math.IsInf(v, 1) {
				said.Said = append(said.Said, "OL")
				continue
			}
			said.Said = append(said.Said, strconv.FormatFloat(v, 'f', -1, 64))
		}
		for _, p := range x.Places {
			said.Places = append(said.Places, TriedPlace(p))
		}
		out.Readings = append(out.Readings, said)
	}
	for _, s := range t.Log {
		leg := 0.0
		if s.Leg != "drift" {
			leg = 1
		}
		out.Log = append(out.Log, []float64{leg, s.Time, s.Pressure, s.Wall})
	}
	data, err := json.Marshal(out)
	return string(data), err
}

func (p *Plant) fault(key string, severity float64) error {
	f, ok := p.book.Fault(key)
	if !ok {
		return fmt.Errorf("there is no fault %q", key)
	}
	part, can := f.Can(p.car.Graph, p.car.Combination)
	if !can {
		return fmt.Errorf("a car with %v cannot have the fault %q", p.car.Combination, key)
	}
	if math.IsNaN(severity) || severity < 0 || severity > 1 {
		return fmt.Errorf("fault %q: the severity is %g; it lies between 0 and 1", key, severity)
	}
	for _, d := range f.Defects(part, severity) {
		if err := p.car.Apply(d); err != nil {
			return err
		}
	}
	return nil
}

// wake drives what the car has driven before it came, once.
func (p *Plant) wake() error {
	if p.woken {
		return nil
	}
	p.woken = true
	for range p.file.Trips {
		for _, leg := range []struct {
			m sim.Mode
			s float64
		}{{sim.Idle, 420}, {sim.Fast, 45}, {sim.Load, 240}, {sim.Boost, 15}, {sim.Off, 8 * 3600}} {
			if err := p.car.Drive(leg.m); err != nil {
				return err
			}
			if err := p.car.Run(leg.s); err != nil {
				return err
			}
		}
	}
	p.car.Stood()
	if err := p.car.Drive(p.file.Mode); err != nil {
		return err
	}
	if p.file.Warm {
		p.car.Coolant = 358
	}
	p.last = p.clock.Now()
	return p.car.Run(1)
}

// Most that the clock is brought on at one look, s of the car.
const (
	mostRunning = 20.0
	mostResting = 4 * 3600.0
)

// at brings the car to this moment and lets f look at it, or work on it.
func (p *Plant) at(f func(c *sim.Car) error) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if err := p.wake(); err != nil {
		return err
	}
	p.expire()
	now := p.clock.Now()
	dt := now - p.last
	p.last = now
	most := mostResting
	if p.car.Engine.Running || p.car.Engine.Cranking {
		most = mostRunning * math.Max(1, p.clock.speed/10)
	}
	if p.clock.Stepped() { // all that was asked for passes
		most = mostStep
	}
	if dt = math.Min(dt, most); dt > 1e-3 {
		if err := p.car.Run(dt); err != nil {
			return err
		}
	}
	if p.beside != nil {
		p.beside(p.car)
	}
	return f(p.car)
}

// expire lets go of the valves whose command nobody has asked for again. On a clock that is
// stepped nothing happens between two steps. The lock is held.
func (p *Plant) expire() {
	for part, l := range p.held {
		if l.over() && !p.clock.Stepped() {
			_ = p.car.Command(part, -1)
			delete(p.held, part)
		}
	}
}

// unseal takes the power from what was powered to seal the car.
func (p *Plant) unseal(c *sim.Car) error {
	a, ok := p.book.Archetype(c.Vapour)
	if !ok {
		return nil
	}
	p.bench = false // the next command seals it again
	for k, s := range a.Settings() {
		if s != plumbing.Powered {
			continue
		}
		if err := c.Set(k, ""); err != nil {
			return err
		}
	}
	return nil
}

// State is what a simulated adapter can show besides what a car's unit says.
func (p *Plant) State() (s instrument.CarState, err error) {
	err = p.at(func(c *sim.Car) error {
		s = instrument.CarState{Time: c.Time, Mode: string(c.Engine.Mode), Running: c.Engine.Running, Stalled: c.Engine.Stalled(), Pressures: c.Pressures(), Open: c.Openings(), Smoke: c.Smoke(), Live: c.Live(),
			Stored: append([]string{}, c.Unit.List(obd.Stored)...), Pending: append([]string{}, c.Unit.List(obd.Pending)...), Blocked: c.Unit.Blocked}
		for _, m := range []map[string]float64{s.Pressures, s.Open, s.Smoke, s.Live} {
			for k, v := range m {
				m[k] = math.Round(v*1e4) / 1e4
			}
		}
		return nil
	})
	return
}

// unit is what the car's control unit answers now.
func (p *Plant) unit() (u Unit, err error) {
	err = p.at(func(c *sim.Car) error {
		u = Unit{ID: "7E8", Diesel: c.Diesel(), Lamp: c.Unit.Lamp(), Stored: append([]string{}, c.Unit.List(obd.Stored)...), Pending: append([]string{}, c.Unit.List(obd.Pending)...), Permanent: c.Unit.List(obd.Permanent), Live: map[string]string{}, Readiness: map[string]string{}}
		if p.file.Bus == "old" {
			u.ID = "10"
		}
		for _, m := range obd.Monitors(u.Diesel) {
			u.Readiness[m] = obd.Unsupported
			if done, has := c.Unit.Ready[m]; has {
				u.Readiness[m] = obd.Incomplete
				if done {
					u.Readiness[m] = obd.Complete
				}
			}
		}
		for _, m := range []string{"misfire", "fuel", "components"} {
			u.Readiness[m] = obd.Complete
		}
		text := func(m map[string]float64) map[string]string {
			out := map[string]string{}
			for k, v := range m {
				if k != "03" {
					out[k] = strconv.FormatFloat(v, 'f', 4, 64)
				}
			}
			return out
		}
		u.Live = text(c.Live())
		u.Live["03"] = "hex:01 00"
		if c.Unit.Closed {
			u.Live["03"] = "hex:02 00"
		}
		u.Freeze.Code, u.Freeze.Data = c.Unit.FreezeCode, text(c.Unit.Freeze)
		small := "small leak"
		if _, ok := c.Unit.Results["share"]; ok { // of the pressure behind the pump's own orifice, 0.5 mm
			small = "share"
		}
		for id, name := range map[byte]string{0x39: "draw-down", 0x3C: small, 0x3D: "purge leak", 0x31: "recirculation"} {
			if r, ok := c.Unit.Results[name]; ok {
				unit := 1.0
				if r.Unit == "mm" || r.Unit == "V" {
					unit = 1000
				}
				n := func(v float64) uint16 { return uint16(math.Min(math.Max(v*unit, 0), 65535)) }
				u.Tests = append(u.Tests, struct {
					Monitor, Test, Scaling byte
					Value, Min, Max        uint16
				}{id, 1, 1, n(r.Value), n(r.Min), n(r.Max)})
			}
		}
		return nil
	})
	slices.SortFunc(u.Tests, func(a, b struct {
		Monitor, Test, Scaling byte
		Value, Min, Max        uint16
	}) int {
		return int(a.Monitor) - int(b.Monitor)
	})
	return
}

// commands lists the parts that a tool can command on this car.
func (p *Plant) commands() []string { return p.car.Commandable() }

// tell works on the car as a driver, a technician or a tool would: "command PART 50",
// "command PART release", "drive idle", "set PART open", "set PART rest", "fault KEY 0.5",
// "mend PART", "refuel 60", and "run 30" for a clock that is stepped, s.
func (p *Plant) tell(words string) error {
	f := strings.Fields(words)
	bad := errors.New("command PART PERCENT [for SECONDS]|release, keep SECONDS, drive MODE, set PART open|shut|powered|plugged|rest, fault KEY SEVERITY, mend PART, refuel PERCENT, run SECONDS")
	if len(f) < 2 {
		return bad
	}
	number := func(s string, lo, hi float64) (float64, error) {
		v, err := strconv.ParseFloat(strings.TrimSuffix(strings.Replace(s, ",", ".", 1), "%"), 64)
		if err != nil || !(v >= lo && v <= hi) {
			return 0, fmt.Errorf("%q: a number from %g to %g is needed", s, lo, hi)
		}
		return v, nil
	}
	if f[0] == "run" && len(f) == 2 {
		v, err := number(f[1], 0, mostStep)
		if err != nil {
			return err
		}
		return p.clock.Step(context.Background(), v)
	}
	return p.at(func(c *sim.Car) error {
		switch {
		case f[0] == "command" && len(f) == 3 && f[2] == "release":
			delete(p.held, f[1])
			return c.Command(f[1], -1)
		case f[0] == "command" && (len(f) == 3 || len(f) == 5 && f[3] == "for"):
			v, err := number(f[2], 0, 100)
			seconds := 0.0
			if err == nil && len(f) == 5 {
				seconds, err = number(f[4], 1, 600)
			}
			if err == nil {
				err = c.Command(f[1], v/100)
			}
			if err != nil {
				return err
			}
			p.held[f[1]] = &lease{}
			p.held[f[1]].take(seconds)
			return nil
		case f[0] == "keep" && len(f) == 2:
			seconds, err := number(f[1], 1, 600)
			if err != nil {
				return err
			}
			for _, l := range p.held {
				l.keep(seconds)
			}
			return nil
		case f[0] == "drive" && len(f) == 2, f[0] == "set" && len(f) == 3:
			return byHand(c, f)
		case f[0] == "fault" && len(f) == 3:
			v, err := number(f[2], 0, 1)
			if err != nil {
				return err
			}
			return p.fault(f[1], v)
		case f[0] == "break" && (len(f) == 3 || len(f) == 4):
			share, err := middling, error(nil)
			if len(f) == 4 {
				share, err = number(f[3], 0, 1)
			}
			if err != nil {
				return err
			}
			return c.Break(f[1], f[2], share)
		case f[0] == "mend" && len(f) == 2:
			return c.Mend(f[1])
		case f[0] == "refuel" && len(f) == 2:
			v, err := number(f[1], 0, 98)
			if err != nil {
				return err
			}
			return c.Refuel(v / 100)
		}
		return bad
	})
}

// byHand does what a driver or a technician does by hand: "drive warm", "drive cold", "drive MODE",
// "set PART open|shut|plugged|rest".
func byHand(c *sim.Car, words []string) error {
	switch {
	case words[0] == "set":
		s := plumbing.State(words[2])
		if s == "rest" {
			s = ""
		}
		return c.Set(words[1], s)
	case words[1] == "warm":
		c.Coolant = 358
		return c.Drive(sim.Idle)
	case words[1] == "cold":
		return coldStart(c)
	case words[1] == "park":
		return park(c)
	}
	return c.Drive(sim.Mode(words[1]))
}

// park drives a car for twenty minutes and shuts it off.
func park(c *sim.Car) error {
	for _, leg := range []struct {
		m sim.Mode
		s float64
	}{{sim.Idle, 120}, {sim.Load, 1080}} {
		if err := c.Drive(leg.m); err != nil {
			return err
		}
		if err := c.Run(leg.s); err != nil {
			return err
		}
	}
	return c.Drive(sim.Off)
}

// overnight is how long a car stands for a cold start, s.
const overnight = 9 * 3600.0

// coldStart starts a car after a night; one that has stood so long already starts at once.
func coldStart(c *sim.Car) error {
	if c.Engine.Running || c.Coolant > c.At.Ambient+5 {
		if err := c.Drive(sim.Off); err != nil {
			return err
		}
		if err := c.Run(overnight); err != nil {
			return err
		}
		c.Stood()
	}
	return c.Drive(sim.Idle)
}

// seal puts the car up for a hold as its archetype asks: what a technician does by hand
// before a rig is worked.
func (p *Plant) seal(c *sim.Car) error {
	if p.bench {
		return nil
	}
	a, ok := p.book.Archetype(c.Vapour)
	if !ok {
		return errors.New("this car has no EVAP system to join a rig to")
	}
	for k, s := range a.Settings() {
		if err := c.Set(k, s); err != nil {
			return err
		}
	}
	if _, err := c.Connect(a.Entry, rigOrifice); err != nil {
		return err
	}
	p.bench = true
	return nil
}

const rigOrifice = 0.508e-3 // m

// NewPlantAdapter makes the scan adapter of a whole car.
func NewPlantAdapter(p *Plant) *Adapter {
	return &Adapter{car: Car{Name: p.file.Name, VIN: p.file.VIN, Bus: p.file.Bus, Units: make([]Unit, 1)}, plant: p, failed: map[string]bool{}, speed: math.Max(p.clock.speed, 1)}
}

// plantWords answers what is neither hex nor a mishap: "?" is the state, "@…" works on
// the car.
func (a *Adapter) plantWords(line string) (string, bool) {
	words, told := strings.CutPrefix(line, "@")
	if a.plant == nil || !told && line != "?" {
		return "", false
	}
	if told {
		if err := a.plant.tell(words); err != nil {
			return instrument.ErrorWord + ": " + err.Error(), true
		}
		return "done", true
	}
	s, err := a.plant.State()
	if err != nil {
		return instrument.ErrorWord + ": " + err.Error(), true
	}
	b, err := json.Marshal(s)
	if err != nil {
		return instrument.ErrorWord + ": " + err.Error(), true
	}
	return string(b), true
}
