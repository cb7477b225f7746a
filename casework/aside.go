package casework

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"slices"
	"sync"

	"wexter/store"
)

// The writer of a shop only writes. Whatever takes long (fitting a trace, weighing a case,
// reading the text of a scan) is worked out with the writer free, by what it depends on,
// and is at hand when the transaction begins again: see aside and do.

// pending says what has to be worked out before an action can be written.
type pending struct {
	work func(ctx context.Context) error
}

func (p *pending) Error() string { return "this has still to be worked out" }

// desk keeps what was worked out, or asked for, last.
type desk[T any] struct {
	mu   sync.Mutex
	made map[string]T
	keys []string // the one that was asked for longest ago first
}

// deskSize is how much is kept for actions: more than all who write at once can need.
const deskSize = 256

func (d *desk[T]) get(key string) (v T, ok bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if v, ok = d.made[key]; ok {
		i := slices.Index(d.keys, key)
		d.keys = append(slices.Delete(d.keys, i, i+1), key)
	}
	return v, ok
}

// put keeps one more, and at most so many.
func (d *desk[T]) put(key string, v T, most int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.made == nil {
		d.made = map[string]T{}
	}
	if _, ok := d.made[key]; !ok {
		d.keys = append(d.keys, key)
	}
	d.made[key] = v
	if len(d.keys) > most {
		delete(d.made, d.keys[0])
		d.keys = slices.Delete(d.keys, 0, 1)
	}
}

// aside returns what work comes to, when it has been done for all that it depends on. It
// has not the first time: the error then undoes what was written, and has the work done
// beside the writer. What it depends on must name everything, and be fit for JSON.
func aside[T any](s *Shop, what string, on any, work func(ctx context.Context) (T, error)) (T, error) {
	h := sha256.New()
	if err := json.NewEncoder(h).Encode([]any{what, on}); err != nil {
		var none T
		return none, err
	}
	key := string(h.Sum(nil))
	if v, ok := s.desk.get(key); ok {
		return v.(T), nil
	}
	var none T
	return none, &pending{func(ctx context.Context) error {
		v, err := work(ctx)
		if err == nil {
			s.desk.put(key, v, deskSize)
		}
		return err
	}}
}

// mostInTurn is how many may do at once what takes long.
const mostInTurn = 2

// InTurn does what takes long and keeps a processor busy (reading a log, fitting it,
// weighing a case), few at a time: all others are still answered, an instrument is still
// read, and memory does not pile up. What is done in turn must not ask for its turn again.
func (s *Shop) InTurn(ctx context.Context, work func() error) error {
	s.once.Do(func() { s.places = make(chan struct{}, mostInTurn) })
	select {
	case s.places <- struct{}{}:
		defer func() { <-s.places }()
		return work()
	case <-ctx.Done():
		return ctx.Err()
	}
}

// mostRounds is how often an action is begun again because something else was changed
// while it was worked out, before it is given up.
const mostRounds = 12

// beside runs an action, and works out beside it what it says is pending.
func (s *Shop) beside(ctx context.Context, action func() error) error {
	for range mostRounds {
		err := action()
		var p *pending
		if !errors.As(err, &p) {
			return err
		}
		if err := s.InTurn(ctx, func() error { return p.work(ctx) }); err != nil {
			return err
		}
	}
	return &Conflict{What: "this"}
}

// do runs an action in one transaction and returns the id it made. With a key the
// action is done once: a second call returns the first one's id. An action may be begun
// several times, see aside; the last time counts.
func (s *Shop) do(ctx context.Context, key string, action func(tx store.Tx) (string, error)) (id string, err error) {
	err = s.beside(ctx, func() error {
		id, err = s.DB.Once(ctx, key, s.now(), action)
		return err
	})
	return id, err
}
