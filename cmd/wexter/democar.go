package main

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"sync"

	"wexter/casework"
	"wexter/demo"
)

// demoCar is the stand-in car on which a shop without cars can be tried out: a case of its
// own, and simulated instruments that answer as on a real car. It runs as long as the
// program; a case that is still open then gets its instruments again.
type demoCar struct {
	ctx    context.Context // until it the instruments run
	shop   *casework.Shop
	beside *sync.WaitGroup

	mu      sync.Mutex
	running bool
}

// Open opens the case of the demo car, or finds the one that is open, and starts its
// instruments beside it.
func (d *demoCar) Open(ctx context.Context, key string) (string, error) {
	id, number, err := demo.OpenCar(ctx, d.shop, key)
	if err == nil {
		err = d.start(number)
	}
	return id, err
}

// resume starts the instruments again of a demo car whose case is still open.
func (d *demoCar) resume() {
	_, number, err := demo.FindCar(d.ctx, d.shop)
	if err == nil {
		err = d.start(number)
	}
	if err != nil && !errors.Is(err, casework.ErrNotFound) && d.ctx.Err() == nil {
		slog.Error("the demo car could not be started", "error", err)
	}
}

func (d *demoCar) start(number string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.running {
		return nil
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	// What was listed of it before has gone with the program that ran it.
	old, err := d.shop.Devices(d.ctx, "")
	if err != nil {
		return err
	}
	for _, x := range old {
		if x.For == number {
			if err := d.shop.RemoveDevice(d.ctx, "", x.ID); err != nil {
				return err
			}
		}
	}
	d.running = true
	d.beside.Go(func() {
		bringCars(d.ctx, d.shop, self, map[string]string{demo.CarFile: number})
		d.mu.Lock()
		d.running = false
		d.mu.Unlock()
	})
	return nil
}
