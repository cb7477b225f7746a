package live

import (
	"context"
	"errors"
	"log/slog"
	"reflect"
	"slices"
	"sync"
	"time"

	"gonum.org/v1/gonum/stat"

	"wexter/casework"
	"wexter/core/record"
	"wexter/instrument"
)

// source is one instrument that is being read, for all benches and pages that look at it:
// most instruments can be opened once only.
type source struct {
	hub    *Hub
	device record.Device
	cancel context.CancelFunc

	turn sync.Mutex // held while benches are told something, so that one that joins misses nothing

	mu     sync.Mutex
	gauge  instrument.Instrument // nil while it is not connected
	about  instrument.About
	status Status
	said   string
	last   map[string]instrument.Value // of each channel
	recent map[string][]float64        // the last readings of each channel
	lost   int                         // lines that could not be read since it was connected
	taken  int                         // readings
	looked time.Time
	seats  []*seat
}

// Reach is what is known of an instrument at this moment.
type Reach struct {
	Status Status
	Said   string // why it measures nothing
	About  instrument.About
	Last   map[string]instrument.Value // by channel; empty while it measures nothing
	Lost   int                         // lines that could not be read, of Lost and Taken together
	Taken  int
	Seen   []string // lines as they came, of an instrument that prints lines
	Bench  string   // number of the case on whose bench it is; empty: none
}

// Watch reads an instrument for as long as somebody asks, and says what it shows.
func (h *Hub) Watch(d record.Device) (Reach, error) {
	s, err := h.source(d)
	if err != nil {
		return Reach{}, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.looked = time.Now()
	r := Reach{Status: s.status, Said: s.said, About: s.about, Last: map[string]instrument.Value{}, Lost: s.lost, Taken: s.taken}
	for k, v := range s.last {
		r.Last[k] = v
	}
	if len(s.seats) > 0 {
		r.Bench = s.seats[0].bench.number
	}
	if x, ok := s.gauge.(interface{ Seen() []string }); ok {
		r.Seen = x.Seen()
	}
	return r, nil
}

// Mean is the mean of the last readings of a channel, and how far they scatter, in the
// channel's unit: what a zero is taken from.
func (h *Hub) Mean(d record.Device, channel string) (mean, sd float64, err error) {
	s, err := h.source(d)
	if err != nil {
		return 0, 0, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	x := s.recent[channel]
	if s.status != On || len(x) < leastMean {
		return 0, 0, refuse("%s has not measured long enough; wait until it reads, and press again", d.Name)
	}
	mean, sd = stat.PopMeanStdDev(x, nil)
	return mean, sd, nil
}

// How many readings a mean is taken over: at least, and at most.
const leastMean, mostMean = 3, 20

// Let ends the reading of an instrument that is to be taken away. One that is on a bench
// stays.
func (h *Hub) Let(d record.Device) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	s := h.sources[sourceKey(d)]
	if s == nil {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.seats) > 0 {
		return refuse("%s is on the bench of %s; let it go there first", d.Name, s.seats[0].bench.number)
	}
	s.cancel()
	delete(h.sources, sourceKey(d))
	return nil
}

// spoken is how an instrument is spoken to.
func spoken(d record.Device) []any {
	return []any{d.Driver, d.Baud, d.Settings.Lines, d.Settings.Modbus}
}

func sourceKey(d record.Device) string { return string(d.Kind) + " " + d.Address }

// source is the one of an instrument; it is opened when nobody has.
func (h *Hub) source(d record.Device) (*source, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.ctx.Err() != nil {
		return nil, errors.New("Wexter is closing")
	}
	key := sourceKey(d)
	if s := h.sources[key]; s != nil {
		s.mu.Lock()
		s.looked = time.Now()
		stale := len(s.seats) == 0 && !reflect.DeepEqual(spoken(s.device), spoken(d))
		s.mu.Unlock()
		if !stale {
			return s, nil
		}
		s.cancel() // it is spoken to in another way since: whoever asked just before had not heard of it
	}
	ctx, cancel := context.WithCancel(h.ctx)
	s := &source{hub: h, device: d, cancel: cancel, status: Looking, looked: time.Now(), last: map[string]instrument.Value{}, recent: map[string][]float64{}}
	h.sources[key] = s
	h.wg.Go(func() { s.read(ctx) })
	return s, nil
}

// idle lets the sources go at which nobody looks.
func (h *Hub) idle() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for key, s := range h.sources {
		s.mu.Lock()
		if len(s.seats) == 0 && time.Since(s.looked) > letGoAfter {
			s.cancel()
			delete(h.sources, key)
		}
		s.mu.Unlock()
	}
}

// letGoAfter is how long an instrument is kept that is on no bench and on no page.
const letGoAfter = 5 * time.Second

// join tells a seat of everything from now on.
func (s *source) join(b *seat) {
	s.turn.Lock()
	defer s.turn.Unlock()
	s.mu.Lock()
	s.seats = append(s.seats, b)
	g := s.gauge
	s.mu.Unlock()
	s.hurry(g)
	if g != nil {
		b.connected(g)
	}
}

// unhurried is how long a car's control units are left alone between two requests while no
// bench needs them.
const unhurried = 2 * time.Second

// hurry says how fast an instrument that is asked is to be asked, and for what.
func (s *source) hurry(g instrument.Instrument) {
	p, ok := g.(interface {
		Rest(time.Duration)
		Want([]string)
	})
	if !ok {
		return
	}
	var keys []string
	rest := unhurried
	for _, x := range s.all() {
		rest = 0
		keys = append(keys, x.keys...)
	}
	p.Want(keys)
	p.Rest(rest)
}

// leave tells a seat nothing more.
func (s *source) leave(b *seat) {
	s.mu.Lock()
	s.looked = time.Now() // its rig may still have to be opened
	s.seats = slices.DeleteFunc(s.seats, func(x *seat) bool { return x == b })
	g := s.gauge
	s.mu.Unlock()
	s.hurry(g)
}

func (s *source) all() []*seat {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.seats)
}

// read keeps a connection to the instrument and takes its readings.
func (s *source) read(ctx context.Context) {
	wait := leastWait
	for ctx.Err() == nil {
		g, err := s.open(ctx)
		if err == nil {
			s.connected(g)
			wait = leastWait
			err = s.listen(ctx, g)
			g.Close()
		}
		if ctx.Err() != nil {
			return
		}
		s.gone(err)
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
		wait = min(2*wait, mostWait)
	}
}

// open connects to the instrument; this computer's own clock is always there.
func (s *source) open(ctx context.Context) (instrument.Instrument, error) {
	if s.device.ID == "" {
		return &ticker{began: time.Now()}, nil
	}
	return s.hub.dial(ctx, s.device)
}

// How long after a failure the instrument is tried again: at first, and at most.
const (
	leastWait = 200 * time.Millisecond
	mostWait  = 2 * time.Second
)

func (s *source) connected(g instrument.Instrument) {
	s.turn.Lock()
	defer s.turn.Unlock()
	s.mu.Lock()
	s.gauge, s.about, s.lost, s.taken = g, g.About(), 0, 0
	s.mu.Unlock()
	s.hurry(g)
	for _, b := range s.all() {
		b.connected(g)
	}
	if d := s.device; d.Kind == record.Module && d.Driver == record.OwnLines {
		var keys []string
		for _, c := range g.About().Channels {
			keys = append(keys, c.Key)
		}
		if err := s.hub.shop.NoteMeasures(s.hub.ctx, d.ID, keys); err != nil { // it is read all the same
			slog.Error("what an instrument measures is not written down", "instrument", d.Name, "err", err)
		}
	}
}

func (s *source) listen(ctx context.Context, g instrument.Instrument) error {
	for {
		r, err := g.Next(ctx)
		if err != nil {
			return err
		}
		s.mu.Lock()
		s.taken++
		s.lost += r.Lost
		if r.Fault != "" {
			s.status, s.said = Fault, casework.Upper(r.Fault)+"."
			clear(s.last)
			clear(s.recent)
		} else {
			s.status, s.said = On, ""
			for _, v := range r.Values {
				s.last[v.Channel] = v
				x := append(s.recent[v.Channel], v.Value)
				s.recent[v.Channel] = x[max(len(x)-mostMean, 0):]
			}
		}
		s.mu.Unlock()
		s.turn.Lock()
		for _, b := range s.all() {
			if e := b.take(r); e != nil {
				b.bench.end(*e)
			}
		}
		s.turn.Unlock()
	}
}

// gone says that the instrument is.
func (s *source) gone(err error) {
	s.turn.Lock()
	defer s.turn.Unlock()
	words := casework.Sentence(err.Error())
	s.mu.Lock()
	s.gauge, s.status, s.said = nil, Lost, words
	clear(s.last)
	clear(s.recent)
	s.mu.Unlock()
	for _, b := range s.all() {
		b.gone(words)
	}
}
