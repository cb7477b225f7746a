package instrument

import (
	"context"
	"sync"
)

// Pool lets several use one scan adapter that can be opened once only: a page that shows
// the car, a scan, a bench. Their requests take turns.
type Pool struct {
	mu   sync.Mutex
	open map[string]*shared
}

// shared is an adapter that is open for whoever uses it.
type shared struct {
	users int // the pool's lock

	turn    turn
	scanner Scanner // nil before it is open, and after it was lost
}

// turn is held by whoever asks just now.
type turn chan struct{}

func (t turn) take()   { t <- struct{}{} }
func (t turn) passOn() { <-t }

// scanner is a place at the adapter of a key, which is opened when nobody has.
func (p *Pool) scanner(key string, open func() (Scanner, error)) (Scanner, error) {
	p.mu.Lock()
	if p.open == nil {
		p.open = map[string]*shared{}
	}
	s := p.open[key]
	if s == nil {
		s = &shared{turn: make(turn, 1)}
		p.open[key] = s
	}
	s.users++
	p.mu.Unlock()
	x := &place{pool: p, key: key, shared: s}
	s.turn.take()
	defer s.turn.passOn()
	if s.scanner == nil {
		var err error
		if s.scanner, err = open(); err != nil {
			s.scanner = nil
			x.leave()
			return nil, err
		}
	}
	x.about, x.can = s.scanner.About(), s.scanner.CAN()
	return x, nil
}

// place is one who uses a shared adapter.
type place struct {
	pool *Pool
	key  string
	once sync.Once

	shared *shared
	about  AdapterAbout
	can    bool
}

func (x *place) About() AdapterAbout { return x.about }

func (x *place) CAN() bool {
	x.shared.turn.take()
	defer x.shared.turn.passOn()
	if s := x.shared.scanner; s != nil {
		x.can = s.CAN()
	}
	return x.can
}

// Ask waits for its turn and asks. An adapter that is gone is gone for all; whoever comes
// next opens it anew.
func (x *place) Ask(ctx context.Context, request string) (lines []string, err error) {
	err = x.use(func(s Scanner) (err error) {
		if lines, err = s.Ask(ctx, request); err != nil && ctx.Err() == nil {
			s.Close()
			x.shared.scanner = nil
		}
		return err
	})
	return lines, err
}

func (x *place) Work(ctx context.Context, words string) error {
	return x.use(func(s Scanner) error { return s.Work(ctx, words) })
}

func (x *place) use(f func(Scanner) error) error {
	x.shared.turn.take()
	defer x.shared.turn.passOn()
	if x.shared.scanner == nil {
		return errAdapterGone
	}
	return f(x.shared.scanner)
}

// Close gives the place up; the last one closes the adapter.
func (x *place) Close() error {
	x.once.Do(func() {
		x.shared.turn.take()
		defer x.shared.turn.passOn()
		x.leave()
	})
	return nil
}

// leave counts one user less. The turn is his.
func (x *place) leave() {
	x.pool.mu.Lock()
	defer x.pool.mu.Unlock()
	if x.shared.users--; x.shared.users > 0 {
		return
	}
	if x.shared.scanner != nil {
		x.shared.scanner.Close()
		x.shared.scanner = nil
	}
	delete(x.pool.open, x.key)
}
