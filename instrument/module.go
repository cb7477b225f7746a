package instrument

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"sync"
	"time"

	"wexter/core/record"
	"wexter/ingest"
)

// Check returns a sentence when the lines come from something else.
func (a About) Check() error {
	if a.Protocol != 1 {
		return fmt.Errorf("it speaks protocol %d; this Wexter speaks 1", a.Protocol)
	}
	if a.Name == "" || len(a.Name) > 80 || a.Session == "" || len(a.Session) > 80 || len(a.Serial) > 80 || len(a.Commands) > 20 || len(a.Takes) > 20 || len(a.Channels) > record.MostColumns {
		return errors.New("it does not say what it is")
	}
	for _, x := range []float64{a.Range, a.Resolution, a.Rate, a.Orifice} {
		if math.IsNaN(x) || x < 0 || x > 1e6 {
			return errors.New("it states a range, resolution or rate that cannot be")
		}
	}
	for _, c := range a.Channels {
		if c.Key == "" || len(c.Key) > 40 || len(c.Name) > 80 || len(c.Unit) > 20 || !(c.Low <= c.High) || !(c.Resolution >= 0) {
			return errors.New("it states a channel that cannot be")
		}
	}
	return nil
}

// moduleLine is one line of a module as it is sent.
type moduleLine struct {
	N        int64              `json:"n"`                // counts up by one
	Time     *float64           `json:"t,omitempty"`      // s, by the module's clock
	Pressure *float64           `json:"pa,omitempty"`     // Pa gauge: short for the channel pressure
	Wall     *float64           `json:"wall_k,omitempty"` // K: short for the channel wall
	Values   map[string]float64 `json:"v,omitempty"`      // of the other channels, each in its unit
	Over     bool               `json:"over,omitempty"`   // pressure is beyond the range
	Beyond   []string           `json:"beyond,omitempty"` // other channels that are
	Fault    string             `json:"fault,omitempty"`  // nothing was measured, and why
	Done     string             `json:"done,omitempty"`   // answer to a command, not a reading
	Said     string             `json:"said,omitempty"`   // what an instrument said to words
	Error    string             `json:"error,omitempty"`
}

// Line writes a reading as a module sends it.
func (r Reading) Line() any {
	l := moduleLine{N: r.N, Time: &r.Time, Fault: r.Fault}
	for _, v := range r.Values {
		switch v.Channel {
		case PressureKey:
			l.Pressure, l.Over = &v.Value, v.Over
		case WallKey:
			l.Wall = &v.Value
		default:
			if l.Values == nil {
				l.Values = map[string]float64{}
			}
			l.Values[v.Channel] = v.Value
			if v.Over {
				l.Beyond = append(l.Beyond, v.Channel)
			}
		}
	}
	return l
}

// Answer is the line that answers a command.
func Answer(c Command, said string, err error) any {
	l := moduleLine{Done: cmp.Or(c.Do, "?"), Said: said}
	if err != nil {
		l.Error = err.Error()
	}
	return l
}

// Module is a connection to a module. Next is called by one goroutine.
type Module struct {
	// Patience is how long a line may take before the module counts as lost.
	Patience time.Duration

	about About
	link  *link
	mu    sync.Mutex // of writing
	asked chan answer
}

// answer is what a module said to a command.
type answer struct {
	said string
	err  error
}

func attach(ctx context.Context, l *link, address string, patience time.Duration) (*Module, error) {
	m := &Module{link: l, Patience: patience, asked: make(chan answer, 1)}
	line, err := l.line(ctx, patience, maxLine)
	if err != nil || json.Unmarshal(line, &m.about) != nil {
		l.close()
		return nil, fmt.Errorf("what answers at %s is no pressure module", address)
	}
	if err := m.about.Check(); err != nil {
		l.close()
		return nil, fmt.Errorf("the module at %s cannot be used: %w", address, err)
	}
	if len(m.about.Channels) == 0 {
		m.about.Channels = []Channel{{PressureKey, "pressure", "Pa", -m.about.Range, m.about.Range, m.about.Resolution}, {WallKey, "wall temperature", "K", leastWall, mostWall, 0}}
	}
	return m, nil
}

// About says what the module is.
func (m *Module) About() About { return m.about }

// Next waits for the next reading. A line that is none is one with a Fault; an error says
// that the module is gone.
func (m *Module) Next(ctx context.Context) (Reading, error) {
	for {
		line, err := m.link.line(ctx, m.Patience, maxLine)
		switch {
		case ctx.Err() != nil:
			return Reading{}, ctx.Err()
		case errors.Is(err, errLong):
			return Reading{Fault: "the module sent a line that is no reading"}, nil
		case err != nil:
			return Reading{}, errors.New("the module no longer answers")
		}
		r, said := m.about.reading(line)
		if said == nil {
			return r, nil
		}
		select {
		case m.asked <- *said:
		default:
		}
	}
}

// maxClock is the latest time a module's clock may show, s: the seconds since 1970 fit.
const maxClock = 1e11

// Temperatures that a wall can have, K. What lies outside is the probe's trouble.
const leastWall, mostWall = 150.0, 500.0

// reading makes a Reading of a line, or the answer to a command. What cannot be a reading
// becomes one with a Fault, never one with a zero: a number that is left out is not 0 Pa.
func (a About) reading(line []byte) (Reading, *answer) {
	var in moduleLine
	fault := func(f string, x ...any) (Reading, *answer) {
		return Reading{N: in.N, Fault: fmt.Sprintf(f, x...)}, nil
	}
	if err := json.Unmarshal(line, &in); err != nil {
		return fault("the module sent a line that is no reading")
	}
	switch {
	case in.Done != "":
		var err error
		if in.Error != "" {
			err = errors.New(clip(in.Error))
		}
		return Reading{}, &answer{plain(in.Said), err}
	case in.Fault != "":
		return fault("%s", clip(in.Fault))
	case in.Time == nil:
		return fault("the module sent a reading without a time")
	case math.Abs(*in.Time) > maxClock:
		return fault("the module sent a time that cannot be")
	}
	r := Reading{N: in.N, Time: *in.Time}
	if _, measures := a.Channel(PressureKey); measures {
		v, wrong := a.pressure(in)
		if wrong != "" {
			return fault("%s", wrong)
		}
		r.Values = append(r.Values, v)
	}
	if w := in.Wall; w != nil && *w >= leastWall && *w <= mostWall {
		r.Values = append(r.Values, Value{Channel: WallKey, Value: *w})
	}
	for _, c := range a.Channels { // in their order; what is not announced is not taken
		v, ok := in.Values[c.Key]
		if !ok {
			continue
		}
		over := slices.Contains(in.Beyond, c.Key)
		if !over && c.outside(v) {
			return fault("%s", beyond(c, v))
		}
		r.Values = append(r.Values, Value{c.Key, v, over})
	}
	if len(r.Values) == 0 {
		return fault("the module sent a reading without a value")
	}
	return r, nil
}

// pressure is the gauge pressure of a line, or what is wrong with it.
func (a About) pressure(in moduleLine) (Value, string) {
	p := in.Pressure
	if p == nil && in.Over {
		p = &a.Range
	}
	limit := 1e6
	if a.Range > 0 {
		limit = 1.01*a.Range + a.Resolution
	}
	switch {
	case p == nil:
		return Value{}, "the module sent a reading without a pressure"
	case math.Abs(*p) > limit && !in.Over:
		return Value{}, fmt.Sprintf("the module sent %.4g Pa, beyond its own range of %.4g Pa", *p, a.Range)
	case math.Abs(*p) > 1e6:
		return Value{}, "the module sent a pressure that cannot be"
	}
	return Value{PressureKey, *p, in.Over}, ""
}

// Do sends a command and waits for its answer, which Next reads.
func (m *Module) Do(ctx context.Context, c Command) error {
	_, err := m.Ask(ctx, c)
	return err
}

// Ask sends a command and returns what the module says to it, which Next reads.
func (m *Module) Ask(ctx context.Context, c Command) (string, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	select {
	case <-m.asked: // of a command given up earlier
	default:
	}
	b, err := json.Marshal(c)
	if err != nil {
		return "", err
	}
	if err := m.link.write(append(b, '\n')); err != nil {
		return "", errors.New("the module no longer answers")
	}
	select {
	case a := <-m.asked:
		return a.said, a.err
	case <-ctx.Done():
		return "", ctx.Err()
	case <-time.After(m.Patience):
		return "", errors.New("the module did not answer the command")
	}
}

// Close ends the connection.
func (m *Module) Close() error { return m.link.close() }

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
	about := About{Protocol: 1, Name: name, Serial: "replay", Session: fmt.Sprint("replay-", len(l.Time)), Simulated: true,
		Channels: []Channel{{Key: PressureKey, Name: "pressure", Unit: "Pa"}, {Key: WallKey, Name: "wall temperature", Unit: "K", Low: leastWall, High: mostWall}}}
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
	out := Reading{N: int64(r.at), Time: r.log.Time[r.at], Values: []Value{{Channel: PressureKey, Value: r.log.Gauge[r.at]}}}
	if r.log.Wall != nil {
		out.Values = append(out.Values, Value{Channel: WallKey, Value: r.log.Wall[r.at]})
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
