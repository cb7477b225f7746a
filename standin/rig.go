package standin

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	mrand "math/rand/v2"
	"net"
	"strings"
	"sync"

	"wexter/core/gas"
	"wexter/core/sim"
	"wexter/core/units"
	"wexter/instrument"
)

// carModule is the pressure module joined to a whole car. Its clock runs with its
// readings; the car's is the plant's.
type carModule struct {
	*Module
	plant *Plant
}

// NewCarModule makes the pressure and temperature module of a whole car.
func NewCarModule(p *Plant, m Model) (Gauge, error) {
	g, err := newModule(sim.Vessel{Volume: 0.01, Orifice: rigOrifice}, m, p.clock)
	if err != nil {
		return nil, err
	}
	return &carModule{g, p}, nil
}

// Next waits until the next reading is due and takes it.
func (m *carModule) Next(ctx context.Context) (instrument.Reading, error) {
	return m.pace(ctx, m.Read)
}

// Read reads the rig that is joined to the car.
func (m *carModule) Read() instrument.Reading {
	var gauge, wall float64
	err := m.plant.at(func(c *sim.Car) error {
		gauge, wall = c.RigGauge(), c.RigWall()
		return nil
	})
	m.mu.Lock()
	defer m.mu.Unlock()
	r := m.show(gauge, wall)
	if err != nil {
		r = instrument.Reading{N: r.N, Time: r.Time, Fault: err.Error()}
	}
	return r
}

// Do works the rig; the first command that needs the car seals it as its archetype asks.
func (m *carModule) Do(ctx context.Context, c instrument.Command) error {
	switch c.Do {
	case instrument.Unplug, instrument.Replug, instrument.Run:
		return m.Module.Do(ctx, c)
	}
	return m.plant.at(func(car *sim.Car) error {
		if err := m.plant.seal(car); err != nil {
			return err
		}
		r := car.Rig()
		switch c.Do {
		case instrument.Open, instrument.Seal, instrument.Charge, instrument.Draw:
			return r.Set(sim.Port(c.Do), c.Target)
		case instrument.Plug, instrument.Car:
			r.Plugged, r.Port = c.Do == instrument.Plug, sim.Open
		case instrument.Known, instrument.Closed:
			r.Known = c.Do == instrument.Known
		default:
			return fmt.Errorf("this module does not know %q", c.Do)
		}
		return nil
	})
}

// Tool is a hand instrument on a whole car: it takes a line of words and answers with a
// line, as somebody who holds it would read it out.
type Tool struct {
	Name  string
	Takes []string // what it can be asked, in words
	plant *Plant
	do    func(t *Tool, c *sim.Car, words []string) (string, error)

	mu        sync.Mutex
	rng       *mrand.Rand
	at        string // the part it is joined to
	unplugged bool
	lag       float64 // of a probe, what it shows now
	lagAt     float64 // the car's time then
}

// scale is what a hand instrument makes of a true value.
type scale struct {
	zero  float64 // what it shows of nothing
	noise float64 // standard deviation
	step  float64 // resolution
	most  float64 // range, either way
	unit  string
}

// The scales of the instruments.
var (
	slant    = scale{0.01, 0.01, 0.02, 24, "inH2O"}
	pumpDial = scale{0.1, 0.05, 0.5, 30, "inHg"}
	flowTube = scale{0, 0.02, 0.05, 25, "L/min"}
	rigDial  = scale{0, 0.05, 0.1, 30, "inH2O"}
	ohms     = scale{0, 0.1, 0.1, 40e6, "ohm"}
	volts    = scale{0, 0.01, 0.01, 60, "V"}
	finely   = scale{0, 0.005, 0.01, 60, "V"} // of a sensor
	probe    = scale{0.5, 0.3, 1, 900, "°C"}
)

// reads turns a true value into what an instrument shows.
func (t *Tool) reads(v float64, s scale) string {
	v += s.zero + s.noise*t.rng.NormFloat64()
	v = math.Round(v/s.step) * s.step
	if math.Abs(v) > s.most {
		return fmt.Sprintf("over range (%g %s)", s.most, s.unit)
	}
	return fmt.Sprintf("%g %s", math.Round(v*1e6)/1e6+0, s.unit) // +0: no minus before a nought
}

func (t *Tool) part(c *sim.Car, words []string, i int) (string, error) {
	if len(words) > i {
		t.at = words[i]
	}
	if _, ok := c.Gauge(t.at); !ok {
		return "", fmt.Errorf("say at which part of the car: %q is none that has a pressure", t.at)
	}
	return t.at, nil
}

// Tools are the hand instruments of a whole car.
func Tools(p *Plant) []*Tool {
	out := []*Tool{
		{Name: "technician", Takes: []string{"try TEST [PART]"}, do: technician},
		{Name: "slant manometer", Takes: []string{"read PART", "unplug", "replug"}, do: manometer},
		{Name: "hand vacuum pump", Takes: []string{"draw PART INHG", "release", "read"}, do: handPump},
		{Name: "smoke rig", Takes: []string{"join PART PRESSURE", "exits", "read", "off"}, do: smokeRig},
		{Name: "multimeter", Takes: []string{"volts PART", "ohms PART", "switch", "volts battery", "volts difference"}, do: multimeter},
		{Name: "gas-temperature probe", Takes: []string{"read"}, do: gasProbe},
	}
	for i, t := range out {
		t.plant, t.rng = p, mrand.New(mrand.NewPCG(p.file.Seed, uint64(i+3)))
	}
	return out
}

func technician(t *Tool, _ *sim.Car, w []string) (string, error) {
	if w[0] != "try" || len(w) < 2 || len(w) > 3 {
		return "", orUse(nil, t)
	}
	return t.plant.try(w[1], strings.Join(w[2:], ""))
}

func manometer(t *Tool, c *sim.Car, w []string) (string, error) {
	at, err := t.part(c, w, 1)
	if err != nil || w[0] != "read" {
		return "", orUse(err, t)
	}
	g, _ := c.Gauge(at)
	return t.reads(g/units.InH2O, slant), nil
}

func handPump(t *Tool, c *sim.Car, w []string) (string, error) {
	switch {
	case w[0] == "draw" && len(w) == 3:
		inHg, err := units.Parse(w[2], units.Pressure, "inHg")
		if err != nil {
			return "", err
		}
		if _, err := c.Connect(w[1], 0); err != nil {
			return "", err
		}
		t.plant.bench = false
		return "done", c.Rig().Set(sim.Draw, -math.Abs(inHg))
	case w[0] == "release":
		c.Disconnect()
		return "done", nil
	case w[0] == "read":
		return t.reads(-c.RigGauge()/units.InHg, pumpDial), nil
	}
	return "", orUse(nil, t)
}

func smokeRig(t *Tool, c *sim.Car, w []string) (string, error) {
	switch {
	case w[0] == "join" && len(w) == 3:
		pa, err := units.Parse(w[2], units.Pressure, "inH2O")
		if err != nil {
			return "", err
		}
		if pa > 6900 {
			return "", errors.New("the regulator goes to 1 psi and no further: more harms a tank")
		}
		if _, err := c.Connect(w[1], 0); err != nil {
			return "", err
		}
		t.plant.bench = false
		if err := c.Rig().Set(sim.Charge, pa); err != nil {
			return "", err
		}
		c.Rig().Hold, c.Rig().Smoke = true, true
		return "done", nil
	case w[0] == "exits":
		var list []string
		for _, x := range c.SmokeExits() {
			p, _ := c.Graph.Part(x.Part)
			list = append(list, p.Name+": "+x.Size)
		}
		if len(list) == 0 {
			return "no smoke leaves anywhere", nil
		}
		return strings.Join(list, "; "), nil
	case w[0] == "read":
		flow := 0.0
		if r := c.Rig(); r != nil {
			flow = gas.FreeAir(r.Meter, c.At.Barometer, c.At.Ambient) * 60e3
		}
		return t.reads(flow, flowTube) + " at " + t.reads(c.RigGauge()/units.InH2O, rigDial), nil
	case w[0] == "off":
		c.Disconnect()
		return "done", nil
	}
	return "", orUse(nil, t)
}

func multimeter(t *Tool, c *sim.Car, w []string) (string, error) {
	if len(w) == 1 && w[0] == "switch" {
		changed, ok := c.Switch()
		if !ok {
			return "", errors.New("this car has no pressure switch")
		}
		if changed {
			return t.reads(0.4, ohms), nil
		}
		return "open (over range)", nil
	}
	if len(w) != 2 {
		return "", orUse(nil, t)
	}
	switch {
	case w[0] == "volts" && w[1] == "battery":
		return t.reads(c.Volts(), volts), nil
	case w[0] == "volts" && w[1] == "difference":
		v, ok := c.Difference()
		if !ok {
			return "", errors.New("this car has no differential sensor")
		}
		return t.reads(v, finely), nil
	case w[0] == "volts":
		if c.Engine.Mode == sim.Off {
			return t.reads(0, volts), nil
		}
		return t.reads(c.Volts(), volts), nil
	case w[0] == "ohms":
		r, ok := c.Coil(w[1])
		if !ok {
			return "", fmt.Errorf("%q has no coil", w[1])
		}
		return t.reads(r, ohms), nil
	}
	return "", orUse(nil, t)
}

func gasProbe(t *Tool, c *sim.Car, w []string) (string, error) {
	k, ok := c.BehindValve()
	if !ok || w[0] != "read" {
		return "", orUse(nil, t)
	}
	// The probe follows with a time constant of three seconds.
	if t.lag == 0 {
		t.lag = k
	}
	t.lag += (k - t.lag) * -math.Expm1(-math.Max(c.Time-t.lagAt, 0)/3)
	t.lagAt = c.Time
	return t.reads(t.lag-units.ZeroCelsius, probe), nil
}

func orUse(err error, t *Tool) error {
	if err != nil {
		return err
	}
	return fmt.Errorf("the %s takes: %s", t.Name, strings.Join(t.Takes, ", "))
}

// Answer is what the tool says to a line of words.
func (t *Tool) Answer(line string) string {
	t.mu.Lock()
	defer t.mu.Unlock()
	w := strings.Fields(line)
	if len(w) == 0 || len(line) > 200 {
		return instrument.ErrorWord + ": " + orUse(nil, t).Error()
	}
	switch w[0] {
	case "unplug", "replug":
		t.unplugged = w[0] == "unplug"
		return "done"
	}
	if t.unplugged {
		return instrument.ErrorWord + ": the " + t.Name + " is unplugged"
	}
	var said string
	err := t.plant.at(func(c *sim.Car) (err error) {
		said, err = t.do(t, c, w)
		return err
	})
	if err != nil {
		return instrument.ErrorWord + ": " + err.Error()
	}
	return said
}

// Serve answers everyone who connects until ctx ends.
func (t *Tool) Serve(ctx context.Context, l net.Listener) error {
	return accept(ctx, l, func(ctx context.Context, conn net.Conn) {
		about, _ := json.Marshal(instrument.ToolAbout{Protocol: 1, Tool: t.Name, Takes: t.Takes, Simulated: true})
		if _, err := conn.Write(append(about, '\n')); err != nil {
			return
		}
		in := bufio.NewScanner(conn)
		in.Buffer(make([]byte, 512), 512)
		for in.Scan() {
			if reply(conn, t.Answer(in.Text())) != nil { // a technician takes his time
				return
			}
		}
	})
}

// ServeCar serves every instrument of a whole car on its own address and says where;
// they end together. A port of 0 takes any; another takes that and those that follow.
func ServeCar(ctx context.Context, p *Plant, host string, port int, say func(kind, name, address string)) error {
	module, err := NewCarModule(p, Model{Name: "pressure module, " + p.file.Name, Range: 30 * units.InH2O, Resolution: 0.01 * units.InH2O, Noise: 3, Rate: 10, Seed: p.file.Seed, Calibrated: "2026-06-15"})
	if err != nil {
		return err
	}
	type served struct {
		kind, name string
		run        func(context.Context, net.Listener) error
	}
	adapter := NewPlantAdapter(p)
	all := []served{{"adapter", "scan adapter", adapter.Serve}, {"module", "pressure module", func(ctx context.Context, l net.Listener) error { return Serve(ctx, l, module) }}}
	for _, t := range Tools(p) {
		all = append(all, served{"tool", t.Name, t.Serve})
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	errs := make(chan error, len(all))
	for i, s := range all {
		at := port
		if port > 0 {
			at = port + i
		}
		l, err := instrument.Listen(net.JoinHostPort(host, fmt.Sprint(at)))
		if err != nil {
			return fmt.Errorf("cannot serve the %s: %w", s.name, err)
		}
		say(s.kind, s.name, l.Addr().String())
		go func() { errs <- s.run(ctx, l) }()
	}
	err = <-errs
	cancel()
	for range len(all) - 1 {
		<-errs
	}
	return err
}
