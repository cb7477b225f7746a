package standin

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	mrand "math/rand/v2"
	"net"
	"sync"
	"time"

	"wexter/core/sim"
	"wexter/instrument"
)

// Gauge is what can be served: a simulated module, or the replay of a log.
type Gauge interface {
	About() instrument.About
	Next(ctx context.Context) (instrument.Reading, error)
	Do(ctx context.Context, c instrument.Command) error
}

// Model is the gauge of a simulated module.
type Model struct {
	Name       string
	Range      float64 // Pa
	Resolution float64 // Pa
	Zero       float64 // Pa, what it reads open to the air
	Noise      float64 // Pa, standard deviation of a reading
	Rate       float64 // Hz
	Speed      float64 // module seconds a second; 0 for a clock that is stepped
	Seed       uint64
	Calibrated string // date
}

// Check returns a sentence when a value cannot be.
func (m Model) Check() error {
	for _, c := range []struct {
		name      string
		v, lo, hi float64
	}{{"the range (Pa)", m.Range, 100, 1e6}, {"the resolution (Pa)", m.Resolution, 0, 1000}, {"the zero (Pa)", m.Zero, -1000, 1000},
		{"the noise (Pa)", m.Noise, 0, 1000}, {"the rate (Hz)", m.Rate, 0.1, 100}} {
		if math.IsNaN(c.v) || c.v < c.lo || c.v > c.hi {
			return fmt.Errorf("%s is %g; it must lie between %g and %g", c.name, c.v, c.lo, c.hi)
		}
	}
	return nil
}

// Module is a simulated pressure module on a plant. Its clock is the plant's.
type Module struct {
	mu        sync.Mutex
	plant     *sim.Plant
	model     Model
	about     instrument.About
	rng       *mrand.Rand
	n         int64
	unplugged bool
	clock     *Clock
	pacer     *Pacer
	last      instrument.Reading // shown again while a clock that is stepped stands
	lease     lease              // of how the rig stands
}

// NewModule makes one; noise is drawn from the model's seed, a draw a reading.
func NewModule(v sim.Vessel, m Model) (*Module, error) {
	clock, err := NewClock(m.Speed)
	if err != nil {
		return nil, err
	}
	return newModule(v, m, clock)
}

func newModule(v sim.Vessel, m Model, clock *Clock) (*Module, error) {
	if err := m.Check(); err != nil {
		return nil, err
	}
	p, err := sim.New(v)
	if err != nil {
		return nil, err
	}
	session := make([]byte, 8)
	_, _ = rand.Read(session) // never fails
	// Before its first reading it stands open to the air.
	air := instrument.Reading{Values: []instrument.Value{{Channel: instrument.PressureKey, Value: m.Zero}}}
	return &Module{plant: p, model: m, last: air, clock: clock, pacer: clock.Pace(), rng: mrand.New(mrand.NewPCG(m.Seed, 1)),
		about: instrument.About{Protocol: 1, Name: m.Name, Serial: fmt.Sprintf("S%04d", m.Seed%10000), Session: hex.EncodeToString(session), Range: m.Range,
			Resolution: m.Resolution, Rate: m.Rate, CalibratedOn: m.Calibrated, Orifice: v.Orifice, Simulated: true,
			Commands: []string{instrument.Open, instrument.Seal, instrument.Charge, instrument.Draw, instrument.Plug, instrument.Car, instrument.Known, instrument.Closed, instrument.Unplug, instrument.Replug, instrument.Run, instrument.Keep}}}, nil
}

// About says what the module is.
func (m *Module) About() instrument.About { return m.about }

// Next waits until the next reading is due and takes it.
func (m *Module) Next(ctx context.Context) (instrument.Reading, error) {
	return m.pace(ctx, m.Read)
}

// pace waits until the next reading is due and takes it. While a clock that is stepped
// stands, the last reading is shown again: the module is still there.
func (m *Module) pace(ctx context.Context, read func() instrument.Reading) (instrument.Reading, error) {
	due, err := m.pacer.Wait(ctx, float64(m.n+1)/m.model.Rate)
	if err != nil {
		return instrument.Reading{}, err
	}
	if due {
		r := read()
		m.mu.Lock()
		defer m.mu.Unlock()
		m.last = r
		return r, nil
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	r := m.last
	if m.unplugged {
		r.Values, r.Fault = nil, unplugged
	}
	return r, nil
}

// Patient reports whether who reads too slowly is waited for instead of being dropped:
// on a clock that is stepped nothing is too slow.
func (m *Module) Patient() bool { return m.clock.Stepped() }

// unplugged is what a module says whose sensor's cable is off.
const unplugged = "the sensor is unplugged"

// Read lets one period of the clock pass and reads the gauge.
func (m *Module) Read() instrument.Reading {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.expired() {
		_ = m.plant.Set(sim.Open, 0)
		m.plant.ShutKnown()
	}
	m.plant.Run(float64(m.n+1)/m.model.Rate - m.plant.Time())
	return m.show(m.plant.Gauge(), m.plant.Wall())
}

// expired reports, once, that whoever worked the rig has not said for too long that he is
// still there. On a clock that is stepped nothing happens between two steps.
func (m *Module) expired() bool {
	if m.clock.Stepped() || !m.lease.over() {
		return false
	}
	m.lease.take(0)
	return true
}

// leased notes for how long a command stands that was done.
func (m *Module) leased(c instrument.Command) {
	switch c.Do {
	case instrument.Keep:
		m.lease.keep(c.Keep)
	case instrument.Open:
		m.lease.take(0)
	case instrument.Seal, instrument.Charge, instrument.Draw, instrument.Plug, instrument.Known:
		m.lease.take(c.Keep)
	}
}

// show is what the module makes of a true pressure (Pa gauge) and wall temperature (K).
func (m *Module) show(gauge, wallK float64) instrument.Reading {
	m.n++
	r := instrument.Reading{N: m.n, Time: math.Round(float64(m.n)/m.model.Rate*1e6) / 1e6}
	noise, probe := m.rng.NormFloat64(), m.rng.NormFloat64()
	if m.unplugged {
		r.Fault = unplugged
		return r
	}
	p := gauge + m.model.Zero + m.model.Noise*noise
	if m.model.Resolution > 0 {
		p = math.Round(p/m.model.Resolution) * m.model.Resolution
	}
	over := math.Abs(p) >= m.model.Range
	if over {
		p = math.Copysign(m.model.Range, p)
	}
	r.Values = []instrument.Value{{Channel: instrument.PressureKey, Value: p, Over: over}, {Channel: instrument.WallKey, Value: math.Round((wallK+0.02*probe)*50) / 50}}
	return r
}

// Do works the rig, gives the module a mishap, or steps its clock.
func (m *Module) Do(ctx context.Context, c instrument.Command) error {
	if c.Do == instrument.Run {
		return m.clock.Step(ctx, c.Seconds)
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	err := m.work(c)
	if err == nil {
		m.leased(c)
	}
	return err
}

// work does a command. The lock is held.
func (m *Module) work(c instrument.Command) error {
	switch c.Do {
	case instrument.Keep:
	case instrument.Open, instrument.Seal, instrument.Charge, instrument.Draw:
		return m.plant.Set(sim.Port(c.Do), c.Target)
	case instrument.Plug:
		m.plant.Plug()
	case instrument.Car:
		m.plant.Connect()
	case instrument.Known, instrument.Closed:
		if m.about.Orifice == 0 {
			return errors.New("this rig has no known orifice")
		}
		work := m.plant.ShutKnown
		if c.Do == instrument.Known {
			work = m.plant.OpenKnown
		}
		work()
	case instrument.Unplug, instrument.Replug:
		m.unplugged = c.Do == instrument.Unplug
	default:
		return fmt.Errorf("this module does not know %q", c.Do)
	}
	return nil
}

// Serve sends the gauge's readings to everyone who connects, and takes their
// commands, until ctx ends. A client too slow to keep up is dropped.
func Serve(ctx context.Context, l net.Listener, g Gauge, takers ...Taker) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	h := &server{gauge: g, takers: takers, clients: map[*client]bool{}}
	defer h.end()
	go func() { <-ctx.Done(); l.Close() }()
	go h.accept(ctx, l)
	for {
		r, err := g.Next(ctx)
		if err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return err
		}
		h.send(ctx, r.Line())
		for _, t := range takers {
			t.Take(r)
		}
	}
}

// Taker shows a module's readings in another way as well: as lines of numbers, in registers.
type Taker interface {
	Take(r instrument.Reading)
	Do(mishap string) bool // false when it knows no such mishap
}

type server struct {
	gauge   Gauge
	takers  []Taker
	mu      sync.Mutex
	clients map[*client]bool
}

type client struct {
	conn  net.Conn
	lines chan []byte
}

func (s *server) accept(ctx context.Context, l net.Listener) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		c := &client{conn, make(chan []byte, 256)}
		c.line(s.gauge.About())
		s.mu.Lock()
		full := len(s.clients) >= 16
		if !full {
			s.clients[c] = true
		}
		s.mu.Unlock()
		if full {
			conn.Close()
			continue
		}
		go s.write(c)
		go s.read(ctx, c)
	}
}

// line queues a line; false when the client is too far behind.
func (c *client) line(v any) bool {
	b, err := json.Marshal(v)
	if err != nil {
		return false
	}
	select {
	case c.lines <- append(b, '\n'):
		return true
	default:
		return false
	}
}

func (s *server) send(ctx context.Context, v any) {
	p, ok := s.gauge.(interface{ Patient() bool })
	patient := ok && p.Patient()
	s.mu.Lock()
	defer s.mu.Unlock()
	for c := range s.clients {
		for patient && s.clients[c] && len(c.lines) == cap(c.lines) && ctx.Err() == nil {
			s.mu.Unlock()
			time.Sleep(time.Millisecond)
			s.mu.Lock()
		}
		if s.clients[c] && !c.line(v) {
			s.drop(c)
			c.conn.Close()
		}
	}
}

// drop forgets a client; its writer ends with the lines. The lock is held.
func (s *server) drop(c *client) {
	if s.clients[c] {
		delete(s.clients, c)
		close(c.lines)
	}
}

// end lets every client go.
func (s *server) end() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for c := range s.clients {
		s.drop(c)
		c.conn.Close()
	}
}

func (s *server) write(c *client) {
	defer c.conn.Close()
	for b := range c.lines {
		_ = c.conn.SetWriteDeadline(time.Now().Add(5 * time.Second))
		if _, err := c.conn.Write(b); err != nil {
			break
		}
	}
	s.mu.Lock()
	s.drop(c)
	s.mu.Unlock()
}

// answer does a command and says so; false when the client is gone.
func (s *server) answer(ctx context.Context, c *client, cmd instrument.Command) bool {
	known := false
	for _, t := range s.takers {
		known = t.Do(cmd.Do) || known
	}
	if known {
		return s.reply(c, instrument.Answer(cmd, "", nil))
	}
	return s.reply(c, instrument.Answer(cmd, "", s.gauge.Do(ctx, cmd)))
}

func (s *server) reply(c *client, a any) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.clients[c] && c.line(a)
}

func (s *server) read(ctx context.Context, c *client) {
	in := bufio.NewScanner(c.conn)
	in.Buffer(make([]byte, 4096), 4096)
	for alive := true; alive && in.Scan(); {
		var cmd instrument.Command
		switch err := json.Unmarshal(in.Bytes(), &cmd); {
		case err != nil:
			alive = s.reply(c, instrument.Answer(cmd, "", errors.New("this line is no command")))
		case cmd.Do == instrument.Run: // readings go on meanwhile, and other commands
			go s.answer(ctx, c, cmd)
		default:
			alive = s.answer(ctx, c, cmd)
		}
	}
	s.mu.Lock()
	s.drop(c)
	s.mu.Unlock()
	c.conn.Close()
}

// Port is how the rig stands.
func (m *Module) Port() sim.Port {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.plant.Port()
}
