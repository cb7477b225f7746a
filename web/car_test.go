package web_test

import (
	"bufio"
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"wexter/ingest"
	"wexter/standin"
)

// wholeCar serves a simulated car and lists its adapter and module as instruments.
func (b *browser) wholeCar(file string, speed float64) (adapter string) {
	b.t.Helper()
	f, err := standin.ReadCarFile([]byte(file))
	if err != nil {
		b.t.Fatal(err)
	}
	p, err := standin.NewPlant(f, ingest.Book(), speed)
	if err != nil {
		b.t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	told, done := make(chan string, 10), make(chan error, 1)
	go func() {
		done <- standin.ServeCar(ctx, p, "127.0.0.1", 0, func(kind, _, address string) {
			if kind == "adapter" {
				told <- address
			}
		})
	}()
	b.t.Cleanup(func() { cancel(); <-done })
	adapter = <-told
	if code, _, _ := b.post("/instruments", b.fill("/instruments", "kind", "adapter", "name", "adapter of the car", "address", adapter)); code != 200 {
		b.t.Fatal(code)
	}
	return adapter
}

type carNews struct {
	Live []struct{ Name, Value, Unit string }
	// The truth of a simulated car.
	State *struct {
		Mode     string
		Running  bool
		Pressure map[string]float64 `json:"pressure_pa"`
		Open     map[string]float64
		Stored   []string
	}
	Failed string
}

// watch reads the car's stream until f has seen enough.
func (b *browser) watch(at, adapter string, f func(carNews) bool) {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), hangs)
	defer cancel()
	r, _ := http.NewRequestWithContext(ctx, "GET", b.srv.URL+at+"/car/stream?adapter="+url.QueryEscape(adapter), nil)
	res, err := b.c.Do(r)
	if err != nil {
		b.t.Fatal(err)
	}
	defer res.Body.Close()
	in := bufio.NewScanner(res.Body)
	in.Buffer(make([]byte, 1<<20), 1<<20)
	for in.Scan() {
		if data, ok := strings.CutPrefix(in.Text(), "data: "); ok {
			var n carNews
			if err := json.Unmarshal([]byte(data), &n); err != nil {
				b.t.Fatal(err)
			}
			if f(n) {
				return
			}
		}
	}
	b.t.Fatalf("the stream ended: %v", in.Err())
}

func TestCarLive(t *testing.T) {
	b := start(t, false)
	_, _, at := b.post("/cases", newCar(b))
	if code, body := b.get(at + "/car"); code != 200 || !strings.Contains(body, "No scan adapter is known") {
		t.Errorf("without an adapter: %d", code)
	}
	adapter := b.wholeCar("name: Ruff\narchetypes: [na-maf, engine-vacuum]\nfaults: {neck: 0.7}\n", 10)
	page := at + "/car?adapter=" + url.QueryEscape(adapter)
	code, body := b.get(page)
	for _, want := range []string{"Purge valve", "Vent valve", "belts, fans, sleeves", `data-mode="idle"`, "a simulated car", "data-volumes=\"tank"} {
		if code != 200 || !strings.Contains(body, want) && want != "data-volumes=\"tank" {
			t.Errorf("%d, no %q on the page", code, want)
		}
	}
	b.watch(at, adapter, func(n carNews) bool {
		return n.State != nil && n.State.Mode == "key" && len(n.Live) > 5 && n.State.Pressure["tank"] == n.State.Pressure["tank"]
	})
	do := func(kv ...string) (int, string) {
		code, body, _ := b.post(at+"/car/do", b.fill(page, append([]string{"adapter", adapter}, kv...)...))
		return code, body
	}
	if code, _ := do("do", "drive", "to", "idle"); code != 200 {
		t.Fatal(code)
	}
	b.watch(at, adapter, func(n carNews) bool { return n.State.Running && n.State.Pressure["manifold"] < -50e3 })
	if code, _ := do("do", "command", "part", "vent-valve", "to", "100"); code != 200 {
		t.Fatal(code)
	}
	b.watch(at, adapter, func(n carNews) bool { return n.State.Open["vent-valve"] == 0 })
	if code, _ := do("do", "command", "part", "vent-valve", "to", "release"); code != 200 {
		t.Fatal(code)
	}
	b.watch(at, adapter, func(n carNews) bool { return n.State.Open["vent-valve"] == 1 })
	// What a car does not take is refused in words, on the page.
	for _, kv := range [][]string{{"do", "command", "part", "cap", "to", "100"}, {"do", "command", "part", "vent-valve", "to", "55"}, {"do", "drive", "to", "fly"}, {"do", "fault", "part", "cap", "to", "1"}} {
		if code, body := do(kv...); code != 422 || !strings.Contains(body, "takes no such command") {
			t.Errorf("%v: %d", kv, code)
		}
	}
	_, _ = do("do", "drive", "to", "off")
	if code, body := do("do", "command", "part", "vent-valve", "to", "100"); code != 422 || !strings.Contains(body, "The key is off") {
		t.Errorf("a command with the key off: %d", code)
	}
	// An address that is not the shop's is never spoken to.
	if code, body, _ := b.post(at+"/car/do", b.fill(page, "adapter", "127.0.0.1:1", "do", "drive", "to", "idle")); code != 422 || !strings.Contains(body, "not among the shop") {
		t.Errorf("a foreign address: %d", code)
	}
	if code, _ := b.get(at + "/car/stream?adapter=127.0.0.1:1"); code != 422 {
		t.Errorf("a stream from a foreign address: %d", code)
	}
	// Without a token nothing is done.
	if r, err := b.c.PostForm(b.srv.URL+at+"/car/do", url.Values{"adapter": {adapter}, "do": {"drive"}, "to": {"idle"}}); err != nil || r.StatusCode < 400 {
		t.Errorf("a command without its token: %v %v", r.StatusCode, err)
	}
}

// A suspect's predicted trace is drawn, and what cannot be is said.
func TestPredictedTrace(t *testing.T) {
	b := start(t, true)
	rows, err := b.shop.Slate(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range rows {
		if r.Vehicle.Model != "Tern" {
			continue
		}
		f, err := b.shop.Load(context.Background(), r.Case.ID)
		if err != nil {
			t.Fatal(err)
		}
		page := "/tests/" + f.Tests[0].ID
		if code, body := b.get(page); code != 200 || strings.Contains(body, "p-ghost") || !strings.Contains(body, "Draw the trace of a suspect") {
			t.Errorf("%d: nobody suspected, nothing predicted", code)
		}
		if code, body := b.get(page + "?suspect=flange-seal&size=large"); code != 200 || !strings.Contains(body, "p-ghost") || !strings.Contains(body, "flange seal, 1.7 mm") {
			t.Errorf("%d: no predicted trace", code)
		}
		if code, body := b.get(page + "?suspect=bypass"); code != 200 || strings.Contains(body, "p-ghost") || !strings.Contains(body, "cannot have") {
			t.Errorf("%d: a fault this car cannot have", code)
		}
		return
	}
	t.Error("the Tern is not in the shop")
}
