package standin

import (
	"context"
	"fmt"
	"net"

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
	m.mu.Lock()
	expired := m.expired()
	m.mu.Unlock()
	var gauge, wall float64
	err := m.plant.at(func(c *sim.Car) error {
		if r := c.Rig(); expired && r != nil {
			_ = r.Set(sim.Open, 0)
			r.Known = false
			if err := m.plant.unseal(c); err != nil {
				return err
			}
		}
		gauge, wall = c.RigGauge(), c.RigWall()
		return nil
	})
	m.mu.Lock()
	defer m.mu.Unlock()
	r := m.show(gauge, wall)
	if err != nil {
		r.Values, r.Fault = nil, err.Error()
	}
	return r
}

// Do works the rig; the first command that needs the car seals it as its archetype asks.
func (m *carModule) Do(ctx context.Context, c instrument.Command) error {
	switch c.Do {
	case instrument.Unplug, instrument.Replug, instrument.Run, instrument.Keep:
		return m.Module.Do(ctx, c)
	}
	err := m.plant.at(func(car *sim.Car) error {
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
	if err == nil {
		m.mu.Lock()
		m.leased(c)
		m.mu.Unlock()
	}
	return err
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
