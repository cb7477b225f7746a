package standin

import (
	"testing"
	"testing/synctest"
	"time"

	"wexter/ingest"
)

// A valve that is commanded for a while is let go when nobody asks for it again, whoever was
// killed; one that is kept stays.
func TestCommandedValveIsLetGo(t *testing.T) {
	ingest.Book() // read outside the bubble: it is kept for all tests
	f, err := ReadCarFile([]byte("name: c\nvin: \"11111111111111111\"\narchetypes: [na-maf, no-boost, fixed-valve, egr-vacuum, engine-vacuum]\n"))
	if err != nil {
		t.Fatal(err)
	}
	synctest.Test(t, func(t *testing.T) {
		p, err := NewPlant(f, ingest.Book(), 1)
		if err != nil {
			t.Fatal(err)
		}
		tell := func(words string) {
			t.Helper()
			if err := p.tell(words); err != nil {
				t.Fatal(err)
			}
		}
		open := func() float64 {
			t.Helper()
			s, err := p.State()
			if err != nil {
				t.Fatal(err)
			}
			return s.Open["purge-valve"]
		}
		tell("command purge-valve 50 for 30")
		for range 10 {
			time.Sleep(20 * time.Second)
			if open() < 0.3 {
				t.Fatal("it is let go while it is kept")
			}
			tell("keep 30")
		}
		time.Sleep(31 * time.Second)
		if x := open(); x > 0.05 {
			t.Errorf("nobody asks for it any more and it stands at %.2f", x)
		}
		tell("keep 30")
		if x := open(); x > 0.05 {
			t.Errorf("kept when it was over, it stands at %.2f", x)
		}
		tell("command purge-valve 50") // by hand, until it is released by hand
		time.Sleep(10 * time.Minute)
		if open() < 0.3 {
			t.Error("a command without an end has ended")
		}
		for _, bad := range []string{"command purge-valve 50 for", "command purge-valve 50 for ever", "command purge-valve 50 for 1e9", "keep", "keep -1"} {
			if p.tell(bad) == nil {
				t.Errorf("%q is done", bad)
			}
		}
	})
}
