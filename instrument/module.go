package instrument

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net"
	"strings"
	"sync"
	"time"
	"unicode"

	"wexter/ingest"
)

// About is what a module says about itself.
type About struct {
	Protocol     int      `json:"protocol"` // 1
	Name         string   `json:"name"`
	Serial       string   `json:"serial"`
	Session      string   `json:"session"` // new whenever the module's clock starts anew
	Range        float64  `json:"range_pa"`
	Resolution   float64  `json:"resolution_pa"`
	Rate         float64  `json:"rate_hz"` // by the module's clock
	CalibratedOn string   `json:"calibrated_on"`
	Orifice      float64  `json:"orifice_m"` // the rig's known orifice; 0 for none
	Commands     []string `json:"commands"`
	Simulated    bool     `json:"simulated"`
}

// Check returns a sentence when the lines come from something else.
func (a About) Check() error {
	if a.Protocol != 1 {
		return fmt.Errorf("it speaks protocol %d; this Wexter speaks 1", a.Protocol)
	}
	if a.Name == "" || len(a.Name) > 80 || a.Session == "" || len(a.Session) > 80 || len(a.Serial) > 80 || len(a.Commands) > 20 {
		return errors.New("it does not say what it is")
	}
	for _, x := range []float64{a.Range, a.Resolution, a.Rate, a.Orifice} {
		if math.IsNaN(x) || x < 0 || x > 1e6 {
			return errors.New("it states a range, resolution or rate that cannot be")
		}
	}
	return nil
}

// Reading is one line of a module.
type Reading struct {
	N        int64    `json:"n"`                // counts up by one
	Time     float64  `json:"t"`                // s, by the module's clock
	Pressure float64  `json:"pa"`               // Pa gauge
	Wall     *float64 `json:"wall_k,omitempty"` // K
	Over     bool     `json:"over,omitempty"`   // beyond the range: Pressure is its end
	Fault    string   `json:"fault,omitempty"`  // nothing was measured, and why
	Done     string   `json:"done,omitempty"`   // answer to a command, not a reading
	Error    string   `json:"error,omitempty"`
}

// Command works a rig that can be worked from here.
type Command struct {
	Do      string  `json:"do"`
	Target  float64 `json:"pa,omitempty"`
	Seconds float64 `json:"s,omitempty"` // of Run
}

// The commands: how the rig's ports stand, and, for a simulated module, mishaps.
const (
	Open   = "open"
	Seal   = "seal"
	Charge = "charge"
	Draw   = "draw"
	Plug   = "plug"   // the rig by itself
	Car    = "car"    // the rig on the car
	Known  = "known"  // known orifice open
	Closed = "closed" // known orifice shut
	Unplug = "unplug" // the sensor's cable is off
	Replug = "replug"
	Run    = "run" // steps the clock of a simulated module that stands
)

// Module is a connection to a module. Next is called by one goroutine.
type Module struct {
	// Patience is how long a line may take before the module counts as lost.
	Patience time.Duration

	about About
	conn  net.Conn
	in    *bufio.Scanner
	mu    sync.Mutex // of writing
	asked chan error
}

const maxLine = 32 << 10

func attach(conn net.Conn, address string, patience time.Duration) (*Module, error) {
	m := &Module{conn: conn, in: bufio.NewScanner(conn), Patience: patience, asked: make(chan error, 1)}
	m.in.Buffer(make([]byte, maxLine), maxLine)
	_ = conn.SetReadDeadline(time.Now().Add(m.Patience))
	if !m.in.Scan() || json.Unmarshal(m.in.Bytes(), &m.about) != nil {
		conn.Close()
		return nil, fmt.Errorf("what answers at %s is no pressure module", address)
	}
	if err := m.about.Check(); err != nil {
		conn.Close()
		return nil, fmt.Errorf("the module at %s cannot be used: %w", address, err)
	}
	return m, nil
}

// About says what the module is.
func (m *Module) About() About { return m.about }

// Next waits for the next reading. A line that is none is one with a Fault; an error says
// that the module is gone.
func (m *Module) Next(ctx context.Context) (Reading, error) {
	for {
		if err := ctx.Err(); err != nil {
			return Reading{}, err
		}
		_ = m.conn.SetReadDeadline(time.Now().Add(m.Patience))
		if !m.in.Scan() {
			return Reading{}, errors.New("the module no longer answers")
		}
		r, ok := m.about.reading(m.in.Bytes())
		if ok {
			return r, nil
		}
		var err error
		if r.Error != "" {
			err = errors.New(clip(r.Error))
		}
		select {
		case m.asked <- err:
		default:
		}
	}
}

// maxClock is the latest time a module's clock may show, s: the seconds since 1970 fit.
const maxClock = 1e11

// reading makes a Reading of a line; ok is false for the answer to a command. What cannot
// be a reading becomes one with a Fault, never one with a zero: a number that is left out
// is not 0 Pa.
func (a About) reading(line []byte) (r Reading, ok bool) {
	var in struct {
		Reading
		Time     *float64 `json:"t"`
		Pressure *float64 `json:"pa"`
	}
	fault := func(f string, x ...any) (Reading, bool) {
		return Reading{N: in.N, Fault: fmt.Sprintf(f, x...)}, true
	}
	if err := json.Unmarshal(line, &in); err != nil {
		return fault("the module sent a line that is no reading")
	}
	r = in.Reading
	limit := 1e6
	if a.Range > 0 {
		limit = 1.01*a.Range + a.Resolution
	}
	switch {
	case r.Done != "":
		return r, false
	case r.Fault != "":
		return fault("%s", clip(r.Fault))
	case in.Time == nil:
		return fault("the module sent a reading without a time")
	case math.Abs(*in.Time) > maxClock:
		return fault("the module sent a time that cannot be")
	case in.Pressure == nil && r.Over:
		in.Pressure = &a.Range
	case in.Pressure == nil:
		return fault("the module sent a reading without a pressure")
	case math.Abs(*in.Pressure) > limit && !r.Over:
		return fault("the module sent %.4g Pa, beyond its own range of %.4g Pa", *in.Pressure, a.Range)
	case math.Abs(*in.Pressure) > 1e6:
		return fault("the module sent a pressure that cannot be")
	}
	r.Time, r.Pressure = *in.Time, *in.Pressure
	if r.Wall != nil && (*r.Wall < 150 || *r.Wall > 500) {
		r.Wall = nil // the probe's trouble, not the gauge's
	}
	return r, true
}

// clip keeps what a module says about itself to a line on the screen.
func clip(s string) string {
	s = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(s, "?"))
	if r := []rune(s); len(r) > 120 {
		return string(r[:120]) + "…"
	}
	return s
}

// Do sends a command and waits for its answer, which Next reads.
func (m *Module) Do(ctx context.Context, c Command) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	select {
	case <-m.asked: // of a command given up earlier
	default:
	}
	b, err := json.Marshal(c)
	if err != nil {
		return err
	}
	_ = m.conn.SetWriteDeadline(time.Now().Add(time.Second))
	if _, err := m.conn.Write(append(b, '\n')); err != nil {
		return errors.New("the module no longer answers")
	}
	select {
	case err := <-m.asked:
		return err
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(m.Patience):
		return errors.New("the module did not answer the command")
	}
}

// Close ends the connection.
func (m *Module) Close() error { return m.conn.Close() }

// Replay plays a log as a module, speed times as fast as it was read.
type Replay struct {
	about About
	log   ingest.Log
	at    int
	speed float64
	began time.Time
}

// NewReplay makes a module of a log.
func NewReplay(name string, l ingest.Log, speed float64) *Replay {
	about := About{Protocol: 1, Name: name, Serial: "replay", Session: fmt.Sprint("replay-", len(l.Time)), Simulated: true}
	if n := len(l.Time); n > 1 {
		about.Rate = float64(n-1) / (l.Time[n-1] - l.Time[0])
	}
	return &Replay{about: about, log: l, speed: math.Max(speed, 1e-3)}
}

// About says what is played.
func (r *Replay) About() About { return r.about }

// Next waits until the next reading is due; io.EOF-like, the end is an error.
func (r *Replay) Next(ctx context.Context) (Reading, error) {
	if r.at >= len(r.log.Time) {
		return Reading{}, errors.New("the log has been played to its end")
	}
	if r.at == 0 {
		r.began = time.Now()
	}
	due := r.began.Add(time.Duration((r.log.Time[r.at] - r.log.Time[0]) / r.speed * float64(time.Second)))
	select {
	case <-ctx.Done():
		return Reading{}, ctx.Err()
	case <-time.After(time.Until(due)):
	}
	out := Reading{N: int64(r.at), Time: r.log.Time[r.at], Pressure: r.log.Gauge[r.at]}
	if r.log.Wall != nil {
		w := r.log.Wall[r.at]
		out.Wall = &w
	}
	r.at++
	return out, nil
}

// Do refuses: a log cannot be worked.
func (r *Replay) Do(context.Context, Command) error {
	return errors.New("a replay cannot be worked: the log is as it was")
}

// Close ends the replay.
func (r *Replay) Close() error { r.at = len(r.log.Time); return nil }
