package web_test

import (
	"context"
	"fmt"
	"net"
	"net/url"
	"strings"
	"testing"
	"time"

	"wexter/instrument"
	"wexter/standin"
)

// beside serves something at an address of its own until the test ends.
func beside(t testing.TB, serve func(context.Context, net.Listener) error) string {
	t.Helper()
	l, err := instrument.Listen("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { defer close(done); _ = serve(ctx, l) }()
	t.Cleanup(func() { cancel(); <-done })
	return l.Addr().String()
}

// shows loads a page until it says something.
func (b *browser) shows(page, want string) {
	b.t.Helper()
	for end := time.Now().Add(hangs); ; time.Sleep(20 * time.Millisecond) {
		code, body := b.get(page)
		if code == 200 && strings.Contains(body, want) {
			return
		}
		if time.Now().After(end) {
			b.t.Fatalf("%s does not say %q", page, want)
		}
	}
}

// board prints 1002 Pa and 20 °C for as long as the test lasts.
func board(t *testing.T) (*standin.Printer, string) {
	p := &standin.Printer{Unit: "inH2O", Separator: ","}
	r := instrument.Reading{Values: []instrument.Value{{Channel: instrument.PressureKey, Value: 1002}, {Channel: instrument.WallKey, Value: 293.15}}}
	return p, beside(t, func(ctx context.Context, l net.Listener) error {
		go func() {
			for ctx.Err() == nil {
				p.Take(r)
				time.Sleep(2 * time.Millisecond)
			}
		}()
		return p.Serve(ctx, l)
	})
}

// A board that prints numbers is set up while its line is looked at; what it reads is shown
// in both units, its zero is taken off, and on a bench it stays as it is.
func TestSetUpALineOfNumbers(t *testing.T) {
	b := start(t, false)
	printer, address := board(t)
	code, body, page := b.post("/instruments", b.fill("/instruments", "kind", "lines", "name", "board", "address", address))
	if code != 200 || !strings.HasPrefix(page, "/instruments/") || !strings.Contains(body, "quantity-0") {
		t.Fatalf("%d at %s", code, page)
	}
	b.shows(page, "4.023,20.00")
	b.shows(page, "obody has said yet")
	set := func(kv ...string) url.Values {
		return b.fill(page, append([]string{"separator", "comma", "name", "board", "quantity-0", "pressure", "unit-0", "inH2O", "low-0", "-20", "high-0", "20", "resolution-0", "0,001",
			"quantity-1", "wall", "unit-1", "°C", "low-1", "-40", "high-1", "120", "calibrated", "2026-01-05", "due", "2026-02-05"}, kv...)...)
	}
	for say, wrong := range map[string][]string{
		"is not a unit of gauge pressure": {"unit-0", "°C"}, "from the lowest to the highest": {"low-0", "20", "high-0", "-20"}, "lowest reading: this is missing": {"low-0", ""},
		"cannot measure the same": {"quantity-1", "pressure", "unit-1", "Pa"}, "cannot both separate": {"comma", "1"}, "is no date": {"due", "soon"}, "factor of 0 cannot be": {"factor-0", "0"},
		"is not a number": {"zero-0", "nan"},
	} {
		t.Run(say, func(t *testing.T) {
			code, body, _ := b.post(page, set(wrong...))
			if code != 422 || !strings.Contains(body, say) {
				t.Errorf("%d", code)
			}
			if ticked := strings.Contains(body, `name="comma" value="1" checked`); ticked != (wrong[0] == "comma") {
				t.Error("a tick is lost, or comes by itself")
			}
		})
	}
	if code, _, at := b.post(page, set()); code != 200 || at != page {
		t.Fatalf("%d at %s", code, at)
	}
	b.shows(page, "4.02 inH2O</span>")
	b.shows(page, "1.00 kPa</small>")
	b.shows("/instruments", "past the date of its calibration")
	for end := time.Now().Add(hangs); ; { // a zero is a mean: it waits until some readings are there
		code, body, _ := b.post(page+"/zero", b.fill(page, "quantity", "pressure"))
		if code == 200 {
			break
		}
		if code != 422 || !strings.Contains(body, "not measured long enough") || time.Now().After(end) {
			t.Fatalf("zero: %d", code)
		}
	}
	b.shows(page, "0.00 inH2O</span>")
	b.shows(page, "zero 4.02 inH2O taken off")
	if code, body, _ := b.post(page+"/zero", b.fill(page, "quantity", "wall")); code != 422 || !strings.Contains(body, "open to the air") {
		t.Errorf("the zero of a temperature: %d", code)
	}
	printer.Do(standin.OtherUnit)
	b.shows(page, "look at its unit")
	printer.Do(standin.NoMishap)
	test := b.bench()
	if code, _, _ := b.post(test+"/live", b.fill(test+"/live", "do", "join", "seat-pressure", b.device(address))); code != 200 {
		t.Fatalf("no bench: %d", code)
	}
	b.stream(test+"/live", "", func(n news) bool { return n.Now != nil })
	if code, body, _ := b.post(page, set()); code != 422 || !strings.Contains(body, "is on the bench of") {
		t.Errorf("changed on a bench: %d", code)
	}
	id := strings.TrimPrefix(page, "/instruments/")
	if code, body, _ := b.post("/instruments/remove", b.fill("/instruments", "device", id)); code != 422 || !strings.Contains(body, "is on the bench of") {
		t.Errorf("taken away on a bench: %d", code)
	}
}

// A Modbus unit and an adapter with AT commands are added by their address and show what
// they read.
func TestAddOtherInstruments(t *testing.T) {
	b := start(t, false)
	unit := &standin.Registers{UnitID: 1}
	unit.Take(instrument.Reading{Values: []instrument.Value{{Channel: instrument.PressureKey, Value: 1000}}})
	address := beside(t, unit.Serve)
	_, _, page := b.post("/instruments", b.fill("/instruments", "kind", "modbus", "name", "transmitter", "address", address))
	b.shows(page, "what its registers hold")
	fields := []string{"unit", "1", "rate", "10", "quantity-0", "pressure", "function-0", "4", "at-0", "2", "type-0", "f32", "unit-0", "Pa", "low-0", "-5000", "high-0", "5000"}
	for say, wrong := range map[string][]string{"0 to 65535": {"at-0", "65535"}, "number from 0 to 255": {"unit", "300"}, "20 times a second": {"rate", "1000"}, "how the value lies": {"type-0", "f64"}, "function 3": {"function-0", "6"}} {
		t.Run(say, func(t *testing.T) {
			if code, body, _ := b.post(page, b.fill(page, append(fields, wrong...)...)); code != 422 || !strings.Contains(body, say) {
				t.Errorf("%d", code)
			}
		})
	}
	if code, _, _ := b.post(page, b.fill(page, fields...)); code != 200 {
		t.Fatalf("%d", code)
	}
	b.shows(page, "4.01 inH2O")
	car, err := standin.ReadCar([]byte("name: c\nvin: \"11111111111111111\"\nbus: can\nunits: [{id: 7E8, live: {\"0C\": \"800\"}}]"))
	if err != nil {
		t.Fatal(err)
	}
	at := beside(t, standin.NewAT(standin.NewAdapter(car, 100), standin.ATModel{}).Serve)
	if code, _, _ := b.post("/instruments", b.fill("/instruments", "kind", "adapter-at", "name", "bay adapter", "address", at)); code != 200 {
		t.Fatalf("%d", code)
	}
	b.shows("/instruments", "800.0 rpm")
	for say, wrong := range map[string][]string{"no serial device of this computer": {"port", "/etc/passwd", "baud", "115200"}, "300 baud is not a speed": {"port", "/dev/ttyUSB0", "baud", "300"}, "Choose what it is": {"kind", "telepathy"}} {
		t.Run(say, func(t *testing.T) {
			if code, body, _ := b.post("/instruments", b.fill("/instruments", append([]string{"kind", "adapter-at", "name", "x"}, wrong...)...)); code != 422 || !strings.Contains(body, say) {
				t.Errorf("%d", code)
			}
		})
	}
	if code, body := b.get(fmt.Sprintf("/instruments/%s", "nobody")); code != 404 {
		t.Errorf("%d %s", code, body)
	}
}
