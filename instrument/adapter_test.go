package instrument_test

import (
	"context"
	"slices"
	"strings"
	"testing"
	"time"

	"wexter/core/obd"
	"wexter/core/sim"
	"wexter/demo"
	"wexter/ingest"
	"wexter/instrument"
	"wexter/standin"
)

var ctx = context.Background()

const oldCar = `
name: old
vin: "11111111111111111"
bus: old
units:
  - id: "10"
    lamp: true
    stored: [P0455, P0442, P0171, P0133]
    readiness: {evap: incomplete, catalyst: complete}
    live: {"0C": "800", "06": "-3.9", "14": "hex:5A FF", "30": "12"}
    freeze: {code: P0455, data: {"0C": "2000"}}
  - id: "18"
    stored: []
    live: {"05": "90"}
`

// adapter serves a car on loopback.
func adapter(t *testing.T, car string, speed float64) string {
	t.Helper()
	c, err := standin.ReadCar([]byte(car))
	if err != nil {
		t.Fatal(err)
	}
	l, err := instrument.Listen("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	run, cancel := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() { defer close(done); _ = standin.NewAdapter(c, speed).Serve(run, l) }()
	t.Cleanup(func() { cancel(); <-done })
	return l.Addr().String()
}

func scan(t *testing.T, address string) (obd.Scan, string) {
	t.Helper()
	a, err := instrument.Dialer{Patience: 20 * time.Minute}.Adapter(ctx, address)
	if err != nil {
		t.Fatal(err)
	}
	defer a.Close()
	var said []string
	raw, err := instrument.TakeScan(ctx, a, func(s string) { said = append(said, s) })
	if err != nil || len(said) < 10 {
		t.Fatalf("%v after %q", err, said)
	}
	s, err := ingest.ReadScan([]byte(raw))
	if err != nil {
		t.Fatal(err)
	}
	return s, raw
}

func codes(s obd.Scan, status obd.CodeStatus) (out []string) {
	for _, c := range s.Codes {
		if c.Status == status {
			out = append(out, c.Code)
		}
	}
	return out
}

// What a car's file says comes back through frames, text and decoding.
func TestTakeScan(t *testing.T) {
	file, err := demo.Car("ibis")
	if err != nil {
		t.Fatal(err)
	}
	address := adapter(t, string(file), 200)
	s, raw := scan(t, address)
	if !slices.Equal(codes(s, obd.Stored), []string{"P0442", "P1450"}) || !slices.Equal(codes(s, obd.Pending), []string{"P0456"}) || !slices.Equal(codes(s, obd.Permanent), []string{"P0442"}) {
		t.Errorf("%v", s.Codes)
	}
	if s.Live["32"].Value != -31 || s.Live["0C"].Value != 742 || s.Others["7E9"]["05"].Value != 82 || s.Readiness["evap"] != obd.Incomplete || s.Lamp == nil || !*s.Lamp {
		t.Errorf("%v %v %v", s.Live, s.Others, s.Readiness)
	}
	if len(s.Freeze) != 1 || s.Freeze[0].Code != "P0442" || s.Freeze[0].Data["0C"].Value != 1486 {
		t.Errorf("%+v", s.Freeze)
	}
	if len(s.Tests) != 4 || s.Tests[1].Pass || s.Tests[1].Value != 160 || s.Tests[2].Ran {
		t.Errorf("%+v", s.Tests)
	}
	if len(s.VIN) != 17 || len(s.Warnings) > 0 {
		t.Errorf("%s %q\n%s", s.VIN, s.Warnings, raw)
	}
	// Cleared: stored and pending go, the permanent code stays, monitors begin again.
	a, err := instrument.Dialer{Patience: 20 * time.Minute}.Adapter(ctx, address)
	if err != nil {
		t.Fatal(err)
	}
	if err := instrument.Clear(ctx, a); err != nil {
		t.Error(err)
	}
	a.Close()
	s, _ = scan(t, address)
	if len(codes(s, obd.Stored)) != 0 || len(codes(s, obd.Permanent)) != 1 || s.Readiness["catalyst"] != obd.Incomplete || s.Live["30"].Value != 0 || len(s.Freeze) != 0 || s.Tests[0].Ran {
		t.Errorf("after clearing: %v %v %+v", s.Codes, s.Readiness, s.Freeze)
	}
}

// The older bus: no counts, three codes a line, numbered vehicle id, no permanent codes.
func TestTakeScanOldBus(t *testing.T) {
	s, raw := scan(t, adapter(t, oldCar, 100))
	if !slices.Equal(codes(s, obd.Stored), []string{"P0455", "P0442", "P0171", "P0133"}) || s.VIN != "11111111111111111" || s.Live["0C"].Value != 800 || s.Freeze[0].Code != "P0455" {
		t.Errorf("%v %s %v\n%s", s.Codes, s.VIN, s.Live, raw)
	}
	if len(s.Warnings) != 2 || !strings.Contains(s.Warnings[0], "no unit answered") {
		t.Errorf("%q", s.Warnings)
	}
}

func TestAdapterMishaps(t *testing.T) {
	if _, err := instrument.DialAdapter(ctx, "127.0.0.1:1"); err == nil || !strings.Contains(err.Error(), "nothing answers") {
		t.Errorf("no adapter: %v", err)
	}
	address := adapter(t, oldCar, 100)
	a, err := instrument.Dialer{Patience: 20 * time.Minute}.Adapter(ctx, address)
	if err != nil {
		t.Fatal(err)
	}
	defer a.Close()
	for _, c := range [][2]string{{"zz", "error: this is no request"}, {"", "error: this is no request"}, {"01 FE", "no data"}, {"!sing", "error: code CODE stored|pending, mute, unmute"}, {"!mute", "done"}} {
		t.Run(c[0], func(t *testing.T) {
			if got, err := a.Ask(ctx, c[0]); err != nil || strings.Join(got, " ") != c[1] {
				t.Errorf("%q: %q %v, want %q", c[0], got, err, c[1])
			}
		})
	}
	if _, err := instrument.TakeScan(ctx, a, func(string) {}); err == nil || !strings.Contains(err.Error(), "key on") {
		t.Errorf("a mute car: %v", err)
	}
	if err := instrument.Clear(ctx, a); err == nil || !strings.Contains(err.Error(), "did not clear") {
		t.Errorf("a mute car was cleared: %v", err)
	}
	stopped, cancel := context.WithCancel(ctx)
	cancel()
	if _, err := a.Ask(stopped, "0100"); err == nil || !strings.Contains(err.Error(), "stopped") {
		t.Errorf("stopped: %v", err)
	}
	for say, car := range map[string]string{"bus is": "name: x\nunits: []", "no units": "bus: can", "no trouble code": "bus: can\nunits: [{id: 7E8, stored: [nonsense]}]",
		"no monitor": "bus: can\nunits: [{id: 7E8, readiness: {love: complete}}]", "is no number": "bus: can\nunits: [{id: 7E8, live: {\"0C\": fast}}]", "field colour": "colour: red", "three hex digits": "bus: can\nunits: [{id: \"10\"}]"} {
		t.Run(say, func(t *testing.T) {
			if _, err := standin.ReadCar([]byte(car)); err == nil || !strings.Contains(err.Error(), say) {
				t.Errorf("%q: %v", car, err)
			}
		})
	}
}

// A module over the wire, one that is none, and the replay of a log.
func TestModuleAndReplay(t *testing.T) {
	m, err := standin.NewModule(sim.Vessel{Volume: 0.01}, standin.Model{Name: "m", Range: 3000, Rate: 10, Speed: 50, Seed: 1})
	if err != nil {
		t.Fatal(err)
	}
	l, err := instrument.Listen("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	run, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() { _ = standin.Serve(run, l, m) }()
	c, err := instrument.Dialer{Patience: 20 * time.Minute}.Module(ctx, l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	readings := make(chan instrument.Reading, 1000)
	go func() {
		defer close(readings)
		for {
			r, err := c.Next(ctx)
			if err != nil {
				return
			}
			readings <- r
		}
	}()
	if err := c.Do(ctx, instrument.Command{Do: instrument.Charge, Target: 2000}); err != nil {
		t.Error(err)
	}
	for say, cmd := range map[string]instrument.Command{"does not know": {Do: "dance"}, "charge goes to": {Do: instrument.Charge, Target: -5}, "no known orifice": {Do: instrument.Known}} {
		t.Run(say, func(t *testing.T) {
			if err := c.Do(ctx, cmd); err == nil || !strings.Contains(err.Error(), say) {
				t.Errorf("%v: %v", cmd, err)
			}
		})
	}
	top, last := 0.0, 0.0
	for range 120 {
		r := <-readings
		if last != 0 && r.Time-last < 0.0999 {
			t.Fatalf("time goes from %v to %v", last, r.Time)
		}
		shown, _ := r.Of(instrument.PressureKey)
		top, last = max(top, shown.Value), r.Time
	}
	if top < 1990 {
		t.Errorf("charged to %.0f Pa", top)
	}
	cancel()
	end := time.After(20 * time.Minute) // only keeps a broken program from hanging the tests
	for open := true; open; {
		select {
		case _, open = <-readings:
		case <-end:
			t.Fatal("the connection does not end with the module")
		}
	}
	if _, err := instrument.Dial(ctx, adapter(t, oldCar, 1)); err == nil || !strings.Contains(err.Error(), "protocol 1") && !strings.Contains(err.Error(), "does not say what it is") {
		t.Errorf("an adapter taken for a module: %v", err)
	}
	r := instrument.NewReplay("log", ingest.Log{Time: []float64{0, 1, 2}, Gauge: []float64{5, 6, 7}, Wall: []float64{293, 293, 294}}, 1000)
	if r.About().Rate != 1 || r.About().Check() != nil {
		t.Errorf("%+v", r.About())
	}
	for i := range 3 {
		x, err := r.Next(ctx)
		pressure, _ := x.Of(instrument.PressureKey)
		if wall, _ := x.Of(instrument.WallKey); err != nil || pressure.Value != float64(5+i) || wall.Value < 293 {
			t.Errorf("%+v %v", x, err)
		}
	}
	if _, err := r.Next(ctx); err == nil || r.Do(ctx, instrument.Command{Do: "open"}) == nil {
		t.Error("the replay goes on beyond its end, or obeys")
	}
}
