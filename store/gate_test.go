package store

import (
	"context"
	"errors"
	"path/filepath"
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

// What may be left for another time does not wait for a file that is locked, and leaves
// the writer as patient as it was.
func TestWriteEasy(t *testing.T) {
	path := filepath.Join(t.TempDir(), "shop.db")
	db, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	other, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	ctx := context.Background()
	err = other.Write(ctx, func(Tx) error {
		return db.WriteEasy(ctx, func(tx Tx) error { return tx.KeepSetting("a", "1") })
	})
	if b := new(BusyError); !errors.As(err, &b) {
		t.Errorf("beside a lock: %v", err)
	}
	if err := db.WriteEasy(ctx, func(tx Tx) error { return tx.KeepSetting("a", "2") }); err != nil {
		t.Error(err)
	}
	if v, _, err := db.Read(ctx).Setting("a"); v != "2" || err != nil {
		t.Errorf("%q %v", v, err)
	}
	var ms int
	if err := db.write.Raw("PRAGMA busy_timeout").Scan(&ms).Error; err != nil || ms != busyMilliseconds {
		t.Errorf("the writer waits %d ms, %v", ms, err)
	}
}
