package main

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"wexter/casework"
	"wexter/core/record"
	"wexter/ingest"
	"wexter/store"
)

// killed is a shop that is killed again and again, and what it said to have saved.
type killed struct {
	w       world
	path    string
	test    string
	cases   []string
	mu      sync.Mutex
	said    map[string][]string // notes that were said to be saved, by case
	saved   ingest.Log          // readings found on disk so far
	lost    time.Duration       // the longest that a reading had been shown when it was lost
	changed int                 // readings and notes that are not as they were
}

// kills is kill -9 beside twenty who write and a hold that is read live.
func kills(ctx context.Context, w world) ([]figure, error) {
	m, err := newModule()
	if err != nil {
		return nil, err
	}
	address, err := serveGauge(ctx, m)
	if err != nil {
		return nil, err
	}
	k := &killed{w: w, path: filepath.Join(w.dir, "shop.db"), said: map[string][]string{}}
	err = stocked(ctx, k.path, func(s *casework.Shop) (err error) {
		if k.test, err = liveTest(ctx, s, address); err != nil {
			return err
		}
		for i := range w.crowd.writers {
			id, err := s.OpenCase(ctx, "", newCase(fmt.Sprint("KILL ", i)))
			if err != nil {
				return err
			}
			k.cases = append(k.cases, id)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	for i := range w.kills {
		if err := k.once(ctx, i, address); err != nil {
			return nil, fmt.Errorf("kill %d: %w", i+1, err)
		}
	}
	notes := 0
	for _, n := range k.said {
		notes += len(n)
	}
	fmt.Printf("    %d kills, %d readings and %d notes saved\n", w.kills, len(k.saved.Time), notes)
	if len(k.saved.Time) < 2*w.kills || notes < w.kills {
		return nil, errors.New("too little was saved: the kills prove nothing")
	}
	return []figure{{what: "readings lost had been shown for at most", got: float64(k.lost) / 1e6, most: 500, unit: "ms"},
		{what: "readings and notes changed or gone that were saved", got: float64(k.changed)}}, nil
}

// once serves the shop, lets all write for a while, kills it, and looks at what is there.
func (k *killed) once(ctx context.Context, n int, address string) error {
	p, err := k.w.serve(ctx, k.path)
	if err != nil {
		return err
	}
	defer p.kill()
	h := hold{newBrowser(p.base), k.test}
	if n == 0 {
		if h, err = beginHold(ctx, p.base, k.test, address); err != nil {
			return err
		}
	}
	during, end := context.WithCancel(ctx)
	defer end()
	var all sync.WaitGroup
	for i, id := range k.cases {
		all.Go(func() { k.write(during, p.base, id, fmt.Sprintf("%d/%d", n, i)) })
	}
	type shown struct {
		t  float64
		at time.Time
	}
	var seen []shown
	first := make(chan struct{})
	all.Go(func() {
		_ = h.stream(during, func(x news) bool { // it ends when the program is killed
			if x.Points != nil {
				for _, t := range x.Points.T {
					seen = append(seen, shown{t, time.Now()})
				}
				if len(seen) > 0 && x.Now != nil {
					select {
					case <-first:
					default:
						close(first)
					}
				}
			}
			return true
		})
	})
	select {
	case <-first:
	case <-time.After(30 * time.Second):
		return errors.New("the hold is not taken up")
	}
	time.Sleep(time.Duration(300+rand.IntN(900)) * time.Millisecond)
	at := time.Now()
	p.kill()
	end()
	all.Wait()
	return k.look(ctx, func(kept float64) {
		for _, s := range seen {
			if s.t > kept+1e-3 && s.at.Before(at) {
				k.lost = max(k.lost, at.Sub(s.at))
			}
		}
	})
}

// write adds one note after another to a case, and remembers which were said to be saved.
func (k *killed) write(ctx context.Context, base, id, name string) {
	b := newBrowser(base)
	for n := 0; ctx.Err() == nil; n++ {
		text := fmt.Sprintf("note %s/%d", name, n)
		a, err := b.upload(ctx, "/cases/"+id+"/notes", map[string]string{"kind": "note", "words": text}, file{"photo", "", nil})
		if err == nil && a.code == 303 {
			k.mu.Lock()
			k.said[id] = append(k.said[id], text)
			k.mu.Unlock()
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// look opens the shop as the kill left it and holds it against what was said and what was
// there before; lost is told up to where the hold is on disk.
func (k *killed) look(ctx context.Context, lost func(kept float64)) error {
	db, err := store.Open(k.path)
	if err != nil {
		return err
	}
	defer db.Close()
	s := &casework.Shop{DB: db, Book: ingest.Book(), Now: time.Now}
	runs, err := s.OpenRuns(ctx)
	if err != nil {
		return err
	}
	if len(runs) != 1 {
		return fmt.Errorf("%d legs are being read", len(runs))
	}
	_, log, err := s.Readings(ctx, runs[0].ID)
	if err != nil {
		return err
	}
	n := len(k.saved.Time)
	if len(log.Time) < n || !slices.Equal(log.Time[:n], k.saved.Time) || !slices.Equal(log.Gauge[:n], k.saved.Gauge) {
		k.changed++
	}
	k.saved = log
	kept := 0.0
	if len(log.Time) > 0 {
		kept = log.Time[len(log.Time)-1]
	}
	lost(kept)
	for id, said := range k.said {
		f, err := s.Load(ctx, id)
		if err != nil {
			return err
		}
		there := map[string]bool{}
		for _, x := range f.Notes {
			if strings.HasPrefix(x.Text, "note ") && x.Kind == record.Noted {
				there[x.Text] = true
			}
		}
		for _, text := range said {
			if !there[text] {
				k.changed++
			}
		}
	}
	return nil
}
