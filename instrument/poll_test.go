package instrument_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/synctest"

	"wexter/instrument"
)

// car answers requests for live data and keeps what it was asked and told.
type car struct {
	about       instrument.AdapterAbout
	asked, told []string
	loop        bool   // it says the state of its fuel system as well (PID 03)
	checks      string // what it answers when it is asked for its own leak check
}

func (c *car) About() instrument.AdapterAbout { return c.about }
func (c *car) CAN() bool                      { return true }
func (c *car) Close() error                   { return nil }

func (c *car) Work(_ context.Context, words string) error {
	c.told = append(c.told, words)
	return nil
}

// Ask answers as an engine's control unit on CAN that has engine speed, air flow and manifold
// pressure (PIDs 0B, 0C, 10), whatever is asked of it.
func (c *car) Ask(_ context.Context, request string) ([]string, error) {
	request = strings.ReplaceAll(request, " ", "")
	c.asked = append(c.asked, request)
	if request == "0100" {
		if c.loop {
			return []string{"7E8 06 41 00 20 31 00 00"}, nil
		}
		return []string{"7E8 06 41 00 00 31 00 00"}, nil
	}
	if strings.HasPrefix(request, "0801") {
		return []string{c.checks}, nil
	}
	data := map[string]string{"03": "03 02 00", "0B": "0B 64", "0C": "0C 0C 80", "10": "10 01 F4"}
	var body []string
	for i := 2; i+1 < len(request); i += 2 {
		body = append(body, data[request[i:i+2]])
	}
	bytes := strings.Fields("41 " + strings.Join(body, " "))
	return []string{fmt.Sprintf("7E8 %02X %s", len(bytes), strings.Join(bytes, " "))}, nil
}

// Only what is needed is asked for; a valve is commanded for as long as is said, let go, and kept;
// an adapter that does not let valves go by itself commands none.
func TestPollerWantsAndCommands(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx := context.Background()
		c := &car{about: instrument.AdapterAbout{Protocol: 1, Adapter: "adapter", Commands: []string{"purge-valve"}, Keeps: true}}
		p, err := instrument.Poll(ctx, c, nil)
		if err != nil {
			t.Fatal(err)
		}
		read := func() (keys []string) {
			r, err := p.Next(ctx)
			if err != nil || r.Fault != "" {
				t.Fatalf("%v %q, asked %v", err, r.Fault, c.asked)
			}
			for _, v := range r.Values {
				keys = append(keys, v.Channel)
			}
			slices.Sort(keys)
			return keys
		}
		if got := read(); !slices.Equal(got, []string{"pid-0B", "pid-0C", "pid-10"}) {
			t.Errorf("read %v", got)
		}
		p.Want([]string{"pid-10", "pid-32"})
		if got := read(); !slices.Equal(got, []string{"pid-10"}) {
			t.Errorf("of two that are wanted, one of which the car has: %v", got)
		}
		p.Want([]string{"pid-32"})
		if got := read(); len(got) != 3 {
			t.Errorf("of a car that has nothing that is wanted: %v", got)
		}
		for _, x := range []instrument.Command{{Do: instrument.Valve, Words: "purge-valve", Target: 0.12, Keep: 60}, {Do: instrument.Valve, Words: "purge-valve", Target: 0, Keep: 60},
			{Do: instrument.Keep, Keep: 60}, {Do: instrument.Valve, Words: "purge-valve", Target: -1}} {
			if err := p.Do(ctx, x); err != nil {
				t.Error(err)
			}
		}
		want := []string{"command purge-valve 12 for 60", "command purge-valve 0 for 60", "keep 60", "command purge-valve release"}
		if !slices.Equal(c.told, want) {
			t.Errorf("told %q, want %q", c.told, want)
		}
		for _, x := range []instrument.Command{{Do: instrument.Charge}, {Do: instrument.Valve, Target: 1}, {Do: instrument.Valve, Words: "purge-valve 100\nkeep", Target: 1}} {
			if err := p.Do(ctx, x); err == nil || len(c.told) != len(want) {
				t.Errorf("%+v was done", x)
			}
		}
		// The car's own leak check: taken, not now, and not at all (answers by SAE J1979, values from memory).
		for answer, say := range map[string]string{"7E8 07 48 01 00 00 00 00 00": "", "7E8 03 7F 08 22": "key on, engine off", "7E8 03 7F 08 12": "maker's tool", "NO DATA": "maker's tool"} {
			c.checks = answer
			if err := p.Do(ctx, instrument.Command{Do: instrument.LeakCheck}); (err == nil) != (say == "") || err != nil && !strings.Contains(err.Error(), say) {
				t.Errorf("%s: %v", answer, err)
			}
		}
		c.about.Keeps = false
		if p, err = instrument.Poll(ctx, c, nil); err != nil || p.About().Can(instrument.Valve) {
			t.Errorf("valves that nobody lets go: %v", err)
		}
	})
}

// The state of the fuel system is read where a bench names it, as often as what changes fast, and
// nowhere else.
func TestPollerReadsTheLoopWhereItIsNamed(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx := context.Background()
		c := &car{loop: true}
		p, err := instrument.Poll(ctx, c, nil)
		if err != nil {
			t.Fatal(err)
		}
		if _, ok := p.About().Channel("pid-03"); !ok {
			t.Error("the car has it, and nobody says so")
		}
		if _, err := p.Next(ctx); err != nil || strings.Contains(c.asked[len(c.asked)-1], "03") {
			t.Errorf("asked for it though nobody needs it: %v, %v", c.asked, err)
		}
		p.Want([]string{"pid-0C", "pid-03"})
		for range 3 {
			r, err := p.Next(ctx)
			if err != nil {
				t.Fatal(err)
			}
			if v, ok := r.Of("pid-03"); !ok || v.Value != 2 {
				t.Errorf("closed loop is read as %+v", r)
			}
		}
	})
}

// The channel of a PID is found by its key.
func TestLiveChannel(t *testing.T) {
	if c, ok := instrument.LiveChannel("pid-32"); !ok || c.Unit != "Pa" || c.Resolution != 0.25 { // SAE J1979, 2002, PID 32: a quarter of a Pa, from memory
		t.Errorf("%+v", c)
	}
	for _, k := range []string{"pressure", "pid-", "pid-00", ""} {
		if c, ok := instrument.LiveChannel(k); ok {
			t.Errorf("%q is the channel %+v", k, c)
		}
	}
}
