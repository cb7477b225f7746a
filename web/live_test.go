package web_test

import (
	"bufio"
	"context"
	"encoding/json"
	"net"
	"net/http"
	"net/http/httptest"
	"path"
	"strconv"
	"strings"
	"testing"
	"time"

	"wexter/casework"
	"wexter/core/record"
	"wexter/core/sim"
	"wexter/demo"
	"wexter/instrument"
	"wexter/standin"
)

func serveGauge(t testing.TB, g standin.Gauge) string {
	t.Helper()
	return beside(t, func(ctx context.Context, l net.Listener) error { return standin.Serve(ctx, l, g) })
}

// live opens a bench on a simulated module whose clock stands until it is stepped, and
// returns the page of the bench and how it is stepped.
func (b *browser) live() (page string, step func(seconds float64)) {
	b.t.Helper()
	m, err := standin.NewModule(sim.Vessel{Volume: 0.03, Leak: 0.4e-3}, standin.Model{Name: "module", Range: 7000, Resolution: 2.5, Noise: 3, Rate: 10, Seed: 1})
	if err != nil {
		b.t.Fatal(err)
	}
	address := serveGauge(b.t, m)
	test := b.bench()
	if code, body, _ := b.post("/instruments", b.fill("/instruments", "kind", "module", "name", "bay 1", "address", address)); code != 200 || !strings.Contains(body, address) {
		b.t.Fatalf("%d", code)
	}
	page = test + "/live"
	if code, body, at := b.post(page, b.fill(page, "do", "join", "seat-pressure", b.device(address), "seat-wall", "same")); code != 200 || at != page || !strings.Contains(body, "data-main") {
		b.t.Fatalf("%d at %s", code, at)
	}
	return page, func(seconds float64) {
		if err := m.Do(context.Background(), instrument.Command{Do: instrument.Run, Seconds: seconds}); err != nil {
			b.t.Error(err)
		}
	}
}

// device is the id of the shop's instrument at an address.
func (b *browser) device(address string) string {
	b.t.Helper()
	d, err := b.shop.Device(context.Background(), record.Module, address)
	if err != nil {
		b.t.Fatal(err)
	}
	return d.ID
}

// hangs is after what time a test that waits for a state is given up: it only keeps a
// broken program from hanging the tests.
const hangs = 20 * time.Minute

type news struct {
	id   string
	View *struct {
		Start, Leg, Next, Status string
	}
	Points *struct {
		Run  string
		From int
		T    []float64
		C    [][]*float64
	}
	Now      *struct{ V []*float64 }
	Disk     float64
	Estimate *struct{ HTML string }
}

// stream reads events until f has seen enough.
func (b *browser) stream(page, last string, f func(news) bool) {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), hangs)
	defer cancel()
	r, _ := http.NewRequestWithContext(ctx, "GET", b.srv.URL+page+"/stream", nil)
	if last != "" {
		r.Header.Set("Last-Event-ID", last)
	}
	res, err := b.c.Do(r)
	if err != nil {
		b.t.Fatal(err)
	}
	defer res.Body.Close()
	if ct := res.Header.Get("Content-Type"); ct != "text/event-stream" {
		b.t.Fatalf("the stream is %q, %d", ct, res.StatusCode)
	}
	in := bufio.NewScanner(res.Body)
	in.Buffer(nil, 4<<20)
	var n news
	for in.Scan() {
		switch line := in.Text(); {
		case strings.HasPrefix(line, "id: "):
			n.id = line[4:]
		case strings.HasPrefix(line, "data: "):
			id := n.id
			n = news{id: id}
			if err := json.Unmarshal([]byte(line[6:]), &n); err != nil {
				b.t.Fatalf("%v in %s", err, line)
			}
			if f(n) {
				return
			}
		}
	}
	b.t.Fatalf("the stream ended: %v", in.Err())
}

// reading waits until the gauge is on and its pressure comes; the two may come one
// after the other.
func (b *browser) reading(page string) {
	on, now := false, false
	b.stream(page, "", func(n news) bool {
		on = on || n.View != nil && n.View.Status == "on"
		now = now || n.Now != nil
		return on && now
	})
}

// A stream broken off and taken up again sends nothing twice and leaves nothing out;
// a button pressed wrongly gets a sentence.
func TestLiveStream(t *testing.T) {
	b := start(t, false)
	page, step := b.live()
	seen := false
	b.stream(page, "", func(n news) bool {
		seen = seen || n.View != nil && n.View.Start == "rig" && n.View.Status == "on"
		return seen && n.Now != nil
	})
	press := func(kv ...string) (int, string) {
		code, body, _ := b.post(page, b.fill(page, kv...))
		return code, body
	}
	for say, kv := range map[string][]string{"no such leg": {"do", "start", "leg", "arm"}, "does not know what": {"do", "dance"}, "nothing to mark": {"do", "mark"},
		"No leg is being read": {"do", "move", "at", "3"}, "is not a number": {"do", "move", "at", "soon"}, "explode": {"do", "rig", "command", "explode"}} {
		t.Run(say, func(t *testing.T) {
			if code, body := press(kv...); code != 422 || !strings.Contains(strings.ToLower(body), strings.ToLower(say)) {
				t.Errorf("%v: %d %s", kv, code, body)
			}
		})
	}
	if code, body := press("do", "start", "leg", "hold"); code != 204 {
		t.Fatalf("%d %s", code, body)
	}
	if code, body := press("do", "start", "leg", "hold"); code != 422 || !strings.Contains(body, "already") {
		t.Errorf("a second leg: %d %s", code, body)
	}
	var times []float64
	last := ""
	take := func(n news) {
		last = n.id
		if n.Points != nil {
			if n.Points.From != len(times) && n.Points.Run != "" {
				t.Fatalf("readings from %d after %d", n.Points.From, len(times))
			}
			times = append(times, n.Points.T...)
		}
	}
	step(5)
	b.stream(page, "", func(n news) bool { take(n); return len(times) >= 50 })
	step(12)
	b.stream(page, last, func(n news) bool { take(n); return len(times) >= 170 && n.Disk > 16 })
	for i := range times {
		if want := times[0] + 0.1*float64(i); times[i] < want-1e-6 || times[i] > want+1e-6 {
			t.Fatalf("reading %d is at %v, want %v", i, times[i], want)
		}
	}
	if times[0] > 0.101 || len(times) != 170 {
		t.Errorf("%d readings of 17 s, the first at %v", len(times), times[0])
	}
	html := ""
	b.stream(page, "", func(n news) bool {
		if n.Estimate != nil {
			html = n.Estimate.HTML
		}
		return strings.Contains(html, "mm")
	})
	if strings.Contains(html, "<script") || !strings.Contains(html, "verdict") {
		t.Errorf("%s", html)
	}
	// A case cannot be closed or exported while it is read.
	caseAt := ""
	if _, body := b.get(page); true {
		i := strings.Index(body, `href="/cases/`)
		caseAt = body[i+6 : i+6+len("/cases/")+36]
	}
	if code, body, _ := b.post(caseAt+"/close", b.fill(caseAt, "reason", "none")); code != 422 || !strings.Contains(body, "is being read") {
		t.Errorf("closed while read: %d", code)
	}
	if code, _ := b.get(caseAt + "/bundle.json"); code != 422 {
		t.Errorf("exported while read: %d", code)
	}
	if code, _ := press("do", "stop"); code != 204 {
		t.Errorf("stop: %d", code)
	}
	b.stream(page, last, func(n news) bool { return n.View != nil && n.View.Leg == "" })
	if code, _, _ := b.post(page, b.fill(page, "do", "leave")); code != 200 {
		t.Errorf("leave: %d", code)
	}
	if r, err := b.c.Get(b.srv.URL + page + "/stream"); err != nil || r.StatusCode != 204 {
		t.Errorf("the stream of a bench that is not live: %v", r.StatusCode)
	}
}

// The page says of the lamp what the bytes say (PID 01, byte A, bit 7: SAE J1979, value
// from memory), and of codes that were asked for that there are none.
func TestScanPageSaysTheLamp(t *testing.T) {
	b := start(t, false)
	_, _, at := b.post("/cases", newCar(b))
	for _, c := range []struct{ raw, want, not string }{
		{"41 01 00 07 65 04", "Lamp off.", "Lamp on"}, {"41 01 81 07 65 04", "Lamp on.", "Lamp off"}, {"41 0C 1A F8", "Nobody has read whether the lamp", "Lamp o"},
		{"43 00 00 00 00 00 00", "No codes", "not asked"},
	} {
		t.Run(c.raw, func(t *testing.T) {
			code, body, _ := b.post(at+"/scan", b.fill(at+"/scan", "raw", c.raw))
			if code != 200 || !strings.Contains(body, c.want) || strings.Contains(body, c.not) {
				t.Errorf("%d, %q is not said, or %q is", code, c.want, c.not)
			}
		})
	}
}

// watched is a response whose connection notes which limits are set.
type watched struct {
	*httptest.ResponseRecorder
	read, write []time.Time
	flushed     chan bool
}

func (w *watched) SetReadDeadline(t time.Time) error  { w.read = append(w.read, t); return nil }
func (w *watched) SetWriteDeadline(t time.Time) error { w.write = append(w.write, t); return nil }
func (w *watched) FlushError() error {
	w.flushed <- true
	return nil
}

// The server's limits are for requests: a stream takes them off, and gives each event a
// limit of its own.
func TestStreamsOutlastTheLimits(t *testing.T) {
	b := start(t, false)
	page, _ := b.live()
	ctx, cancel := context.WithCancel(context.Background())
	w := &watched{ResponseRecorder: httptest.NewRecorder(), flushed: make(chan bool)}
	done := make(chan bool)
	go func() {
		defer close(done)
		r := httptest.NewRequestWithContext(ctx, "GET", b.srv.URL+page+"/stream", nil)
		b.srv.Config.Handler.ServeHTTP(w, r)
	}()
	for range 3 {
		<-w.flushed
	}
	cancel()
	for open := true; open; {
		select {
		case <-w.flushed:
		case <-done:
			open = false
		}
	}
	if len(w.read) == 0 || !w.read[0].IsZero() {
		t.Errorf("the limit of reading stays: %v", w.read)
	}
	if len(w.write) < 3 || !w.write[2].After(w.write[0]) {
		t.Errorf("an event has no limit of its own: %v", w.write)
	}
}

// A replay of a log is a module like any other.
func TestReplayOnTheBench(t *testing.T) {
	b := start(t, false)
	log := demo.Tank{Volume: 0.03, Hole: 0.6e-3, Noise: 3, Seed: 2}.Hold(3238, 240) // long enough for a slow machine
	address := serveGauge(t, instrument.NewReplay("replayed", log, 3))
	test := b.bench()
	b.post("/instruments", b.fill("/instruments", "kind", "module", "name", "file", "address", address))
	page := test + "/live"
	b.post(page, b.fill(page, "do", "join", "seat-pressure", b.device(address), "seat-wall", "same"))
	b.reading(page)
	if code, body, _ := b.post(page, b.fill(page, "do", "start", "leg", "hold")); code != 204 {
		t.Fatalf("%d %s", code, body)
	}
	b.stream(page, "", func(n news) bool { return n.Estimate != nil && strings.Contains(n.Estimate.HTML, "mm") })
}

// The car's own adapter and the one that is carried stand in sight, that of another car is
// folded; a shop that has only such a one is not told that it has none.
func TestAdaptersOfOtherCarsAreFolded(t *testing.T) {
	b := start(t, false)
	_, _, at := b.post("/cases", newCar(b))
	own, err := b.shop.Load(context.Background(), path.Base(at))
	if err != nil {
		t.Fatal(err)
	}
	for _, step := range []struct {
		n              casework.NewDevice
		shown, folded  int
		firstIsChecked bool
	}{
		{casework.NewDevice{Name: "other car", For: "SQ-999"}, 0, 1, false},
		{casework.NewDevice{Name: "carried"}, 1, 1, true},
		{casework.NewDevice{Name: "own", For: own.Case.Number}, 2, 1, true},
	} {
		step.n.Kind, step.n.Address = record.Adapter, "127.0.0.1:"+strconv.Itoa(4190+len(step.n.Name))
		if _, err := b.shop.AddDevice(context.Background(), step.n.Name, step.n); err != nil {
			t.Fatal(err)
		}
		_, body := b.get(at + "/scan")
		before, inside, _ := strings.Cut(body, "Adapters of other cars")
		inside, _, _ = strings.Cut(inside, "</details>")
		radio := `name="adapter"`
		if a, o := strings.Count(before, radio), strings.Count(inside, radio); a != step.shown || o != step.folded || strings.Contains(body, "no scan adapter yet") {
			t.Errorf("with %q: %d shown, %d folded", step.n.Name, a, o)
		}
		if strings.Contains(before, "checked") != step.firstIsChecked || strings.Contains(inside, "checked") {
			t.Errorf("with %q: the wrong one is chosen", step.n.Name)
		}
	}
}

func TestScanPages(t *testing.T) {
	b := start(t, false)
	_, _, at := b.post("/cases", newCar(b))
	if code, body, _ := b.post(at+"/clear", b.fill(at, "sure", "1")); code != 422 || !strings.Contains(body, "Save a scan") {
		t.Errorf("cleared before a scan: %d", code)
	}
	if code, body, _ := b.post(at+"/scan", b.fill(at+"/scan", "raw", "<script>alert(1)</script>")); code != 422 || strings.Contains(body, "<script>alert") {
		t.Errorf("a script for a scan: %d", code)
	}
	if code, _, _ := b.upload(at+"/scan", b.fill(at+"/scan"), "file", "x.txt", []byte("\x00\x01")); code != 422 {
		t.Errorf("bytes for a scan: %d", code)
	}
	code, body, scan := b.upload(at+"/scan", b.fill(at+"/scan"), "file", "saved <b>.txt", []byte("41 01 82 07 65 04\r\n43 02 04 56 04 42\r\n41 0C 1A F8\r\n# <i>note</i>"))
	if code != 200 || !strings.HasPrefix(scan, "/scans/") || !strings.Contains(body, "1726") || strings.Contains(body, "<i>note") || strings.Contains(body, "saved <b>") {
		t.Errorf("%d at %s", code, scan)
	}
	if _, raw := b.get(scan + "/raw.txt"); !strings.HasPrefix(raw, "41 01 82 07 65 04\n") || !strings.Contains(raw, "<i>note</i>") {
		t.Errorf("the text is not kept as it was: %q", raw)
	}
	if code, body, _ := b.post(at+"/scan/take", b.fill(at, "adapter", "127.0.0.1:1")); code != 422 || !strings.Contains(body, "not among the shop") {
		t.Errorf("an adapter nobody wrote down: %d", code)
	}
	if code, _, _ := b.post(at+"/clear", b.fill(at)); code != 422 {
		t.Errorf("cleared without reading what goes: %d", code)
	}
	if code, body, _ := b.post(at+"/clear", b.fill(at, "sure", "1")); code != 200 || !strings.Contains(body, "Codes cleared") {
		t.Errorf("cleared with another tool: %d", code)
	}
	for _, path := range []string{"/scans/none", "/scans/none/raw.txt", "/tests/none/live"} {
		if code, _ := b.get(path); code != 404 {
			t.Errorf("%s: %d", path, code)
		}
	}
	if code, body, _ := b.post("/instruments", b.fill("/instruments", "kind", "module", "address", "10.0.0.9:1")); code != 422 || !strings.Contains(body, "another computer") {
		t.Errorf("an address elsewhere: %d", code)
	}
}
