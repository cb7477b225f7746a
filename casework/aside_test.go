package casework

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"wexter/store"
)

func newShop(t *testing.T) *Shop {
	t.Helper()
	db, err := store.Open(filepath.Join(t.TempDir(), "shop.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return &Shop{DB: db, Now: time.Now}
}

// What an action waits for is worked out with the writer free, once for all that it
// depends on, and what was written before it is undone and written once.
func TestAside(t *testing.T) {
	s := newShop(t)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	begun, worked := 0, 0
	act := func(on int) (string, error) {
		return s.do(ctx, "", func(tx store.Tx) (string, error) {
			begun++
			if err := tx.KeepSetting("a", "half"); err != nil {
				return "", err
			}
			return aside(s, "test", on, func(ctx context.Context) (string, error) {
				worked++
				// Another writes meanwhile: with the writer held this would wait for ever.
				err := s.DB.Write(ctx, func(tx store.Tx) error { return tx.KeepSetting("b", "whole") })
				if v, ok, _ := s.DB.Read(ctx).Setting("a"); ok && on == 1 {
					t.Errorf("half an action was written: %q", v)
				}
				return "made", err
			})
		})
	}
	for _, on := range []int{1, 1, 2} {
		if id, err := act(on); id != "made" || err != nil {
			t.Fatalf("%q, %v", id, err)
		}
	}
	if begun != 5 || worked != 2 {
		t.Errorf("begun %d times and worked out %d times", begun, worked)
	}
	if v, ok, err := s.DB.Read(ctx).Setting("a"); v != "half" || !ok || err != nil {
		t.Errorf("%q %v %v", v, ok, err)
	}
}

// An action whose grounds change every time is given up with a sentence, and work that
// fails fails the action.
func TestAsideGivesUp(t *testing.T) {
	s := newShop(t)
	n := 0
	_, err := s.do(context.Background(), "", func(tx store.Tx) (string, error) {
		n++
		return aside(s, "test", n, func(context.Context) (string, error) { return "", nil })
	})
	if c := new(Conflict); !errors.As(err, &c) || n != mostRounds {
		t.Errorf("%v after %d rounds", err, n)
	}
	broken := errors.New("broken")
	_, err = s.do(context.Background(), "", func(tx store.Tx) (string, error) {
		return aside(s, "broken", 0, func(context.Context) (string, error) { return "", broken })
	})
	if !errors.Is(err, broken) {
		t.Errorf("%v", err)
	}
}

func TestDeskForgetsTheOldest(t *testing.T) {
	var d desk[int]
	for i := range deskSize + 10 {
		d.put(fmt.Sprint(i), i, deskSize)
		d.put(fmt.Sprint(i), i, deskSize)
	}
	if _, ok := d.get("9"); ok || len(d.made) != deskSize || len(d.keys) != deskSize {
		t.Errorf("%d are kept", len(d.made))
	}
	if v, ok := d.get(fmt.Sprint(deskSize + 9)); !ok || v != deskSize+9 {
		t.Errorf("the newest is %v", v)
	}
	d.get("10") // asked for again, it stays
	d.put("one more", 1, deskSize)
	if _, ok := d.get("10"); !ok {
		t.Error("what was asked for last is forgotten")
	}
	if _, ok := d.get("11"); ok {
		t.Error("what was asked for longest ago is kept")
	}
}
