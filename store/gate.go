package store

import (
	"context"
	"slices"
	"sync"
)

// gate lets one writer in at a time. Who is in a hurry goes before all others that wait;
// otherwise first come is first served.
type gate struct {
	mu    sync.Mutex
	taken bool
	hurry queue
	usual queue
}

// queue is who waits at the gate, first come first.
type queue []chan struct{}

// enter waits for the gate in one of its queues; leave opens it again.
func (g *gate) enter(ctx context.Context, q *queue) error {
	g.mu.Lock()
	if !g.taken {
		g.taken = true
		g.mu.Unlock()
		return nil
	}
	turn := make(chan struct{})
	*q = append(*q, turn)
	g.mu.Unlock()
	select {
	case <-turn:
		return nil
	case <-ctx.Done():
	}
	g.mu.Lock()
	i := slices.Index(*q, turn)
	if i >= 0 {
		*q = slices.Delete(*q, i, i+1)
	}
	g.mu.Unlock()
	if i < 0 { // let in at this very moment
		g.leave()
	}
	return ctx.Err()
}

// leave lets the next one in.
func (g *gate) leave() {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, q := range []*queue{&g.hurry, &g.usual} {
		if len(*q) > 0 {
			next := (*q)[0]
			*q = (*q)[1:]
			close(next)
			return
		}
	}
	g.taken = false
}
