package store

import (
	"context"
	"errors"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
)

// Those in a hurry go first, the others in the order in which they came, and one who gives
// up is not waited for.
func TestGate(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var g gate
		ctx, giveUp := context.WithCancel(context.Background())
		if err := g.enter(ctx, &g.usual); err != nil {
			t.Fatal(err)
		}
		var mu sync.Mutex
		var order []string
		come := func(name string, ctx context.Context, q *queue) {
			go func() {
				err := g.enter(ctx, q)
				mu.Lock()
				defer mu.Unlock()
				if err != nil {
					if !errors.Is(err, context.Canceled) {
						t.Error(err)
					}
					order = append(order, name+" gave up")
					return
				}
				order = append(order, name)
				g.leave()
			}()
			synctest.Wait()
		}
		come("one", context.Background(), &g.usual)
		come("impatient", ctx, &g.usual)
		come("two", context.Background(), &g.usual)
		come("hurried", context.Background(), &g.hurry)
		giveUp()
		synctest.Wait()
		g.leave()
		synctest.Wait()
		if want := []string{"impatient gave up", "hurried", "one", "two"}; !slices.Equal(order, want) {
			t.Errorf("%q, want %q", order, want)
		}
		if g.taken || len(g.usual)+len(g.hurry) > 0 {
			t.Error("the gate stays shut")
		}
	})
}
