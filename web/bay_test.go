package web_test

import (
	"context"
	"encoding/json"
	"regexp"
	"strings"
	"testing"

	"wexter/core/sim"
	"wexter/instrument"
	"wexter/standin"
)

// crankcase opens a case and the bench of its crankcase manometer with a module whose clock stands
// until it is stepped.
func (b *browser) crankcase() (caseAt, page string, step func(float64)) {
	b.t.Helper()
	m, err := standin.NewModule(sim.Vessel{Volume: 0.03, Leak: 0.4e-3}, standin.Model{Name: "module", Range: 7000, Resolution: 2.5, Rate: 10, Seed: 1, Calibrated: "2026-01-15"})
	if err != nil {
		b.t.Fatal(err)
	}
	address := serveGauge(b.t, m)
	_, _, caseAt = b.post("/cases", newCar(b))
	b.post("/instruments", b.fill("/instruments", "kind", "module", "name", "bay 1", "address", address))
	do := caseAt + "/do/crankcase-manometer"
	_, body, page := b.post(caseAt+"/benches", b.fill(do, "test", "crankcase-manometer"))
	if !strings.HasSuffix(page, "/live") || !strings.Contains(body, "What reads it?") || !strings.Contains(body, address) {
		b.t.Fatalf("at %s", page)
	}
	if code, body, _ := b.post(page, b.fill(page, "do", "join", "seat-pressure", b.device(address))); code != 200 || !strings.Contains(body, "data-main") {
		b.t.Fatalf("%d", code)
	}
	b.reading(page)
	return caseAt, page, func(s float64) {
		if err := m.Do(context.Background(), instrument.Command{Do: instrument.Run, Seconds: s}); err != nil {
			b.t.Error(err)
		}
	}
}

// press sends a press of a window to a live bench.
func (b *browser) press(page, hand string, kv ...string) (int, string) {
	code, body, _ := b.post(page, b.fill(page, append([]string{"hand", hand}, kv...)...))
	return code, body
}

// Any test of the Book is read live: leg after leg, to a result that holds what was measured and
// says by whom and with what; one window drives, and each run can be looked at again.
func TestAnyTestIsReadLive(t *testing.T) {
	b := start(t, false)
	caseAt, page, step := b.crankcase()
	if code, body := b.press(page, "aa", "do", "start", "leg", "phase-1"); code != 204 {
		t.Fatalf("%d %s", code, body)
	}
	for _, kv := range [][]string{{"do", "mark", "words", "let go"}, {"do", "onward"}, {"do", "back", "leg", "phase-1"}} {
		if code, body := b.press(page, "bb", kv...); code != 422 || !strings.Contains(body, "drives this bench") {
			t.Errorf("%v by who only watches: %d %s", kv, code, body)
		}
	}
	if code, body := b.press(page, "aa", "do", "rig", "command", "charge"); code != 422 || !strings.Contains(body, "charges nothing") {
		t.Errorf("a crankcase is charged: %d %s", code, body)
	}
	step(32)
	b.stream(page, "", func(n news) bool { return n.View != nil && n.View.Leg == "" && n.View.Start == "phase-2" })
	if code, body := b.press(page, "bb", "do", "over", "screen", "bay"); code != 204 {
		t.Fatalf("taking over: %d %s", code, body)
	}
	if code, body := b.press(page, "bb", "do", "start", "leg", "phase-2"); code != 204 {
		t.Fatalf("%d %s", code, body)
	}
	step(10)
	b.stream(page, "", func(n news) bool { return n.Disk > 9 })
	if code, _ := b.press(page, "aa", "do", "stop"); code != 204 {
		t.Errorf("who watches may stop: %d", code)
	}
	html := ""
	b.stream(page, "", func(n news) bool {
		if n.Estimate != nil {
			html = n.Estimate.HTML
		}
		return strings.Contains(html, "As it should be") || strings.Contains(html, "should be")
	})
	_, body := b.get(page)
	if !strings.Contains(body, "another screen, bay view") || strings.Count(body, "/replay") != 2 {
		t.Error("the page does not say who drove, or offers no replay")
	}
	done := regexp.MustCompile(`/cases/[^"]*\?bench=[^"]*`).FindString(body)
	code, form := b.get(done)
	if code != 200 || !strings.Contains(form, "As it was read live") || !strings.Contains(form, "bay 1") || !regexp.MustCompile(`name="read-idle-0"[^>]*value="-?[0-9.]+"`).MatchString(strings.ReplaceAll(form, "\n", " ")) {
		t.Fatalf("%d: the result's form does not hold what was read", code)
	}
	test := strings.TrimSuffix(strings.TrimPrefix(page, "/tests/"), "/live")
	if code, _, at := b.post(strings.Split(done, "?")[0], b.fill(done, "bench", test, "read-engine-0", "runs", "read-idle-0", "0.01", "read-fast-0", "0.02")); code != 200 || at != caseAt {
		t.Fatalf("%d at %s", code, at)
	}
	if _, body = b.get(caseAt); !strings.Contains(body, "calibrated 2026-01-15") || !strings.Contains(body, page) {
		t.Error("the case does not say with what it was measured")
	}
	if code, body, _ := b.post(strings.Split(done, "?")[0], b.fill(done, "bench", "00000000-0000-0000-0000-000000000000", "read-idle-0", "0")); code != 422 && code != 404 {
		t.Errorf("a result of no bench: %d %.80s", code, body)
	}
	b.replays(t, body)
}

// replays looks at a run again.
func (b *browser) replays(t *testing.T, body string) {
	t.Helper()
	at := regexp.MustCompile(`/runs/[0-9a-f-]+/replay`).FindString(body)
	if code, page := b.get(at); code != 200 || !strings.Contains(page, "as it was read") {
		t.Errorf("%s: %d", at, code)
	}
	code, data := b.get(at + ".json")
	var run struct {
		T       []float64
		Columns []struct {
			Unit string
			Read []*float64
		}
		Moments []struct{ T float64 }
	}
	if err := json.Unmarshal([]byte(data), &run); err != nil || code != 200 || len(run.T) < 90 || len(run.Columns) != 1 || run.Columns[0].Unit != "inH2O" || len(run.Columns[0].Read) != len(run.T) || len(run.Moments) == 0 {
		t.Errorf("%d %v, %d readings, %+v", code, err, len(run.T), run.Moments)
	}
	if code, csv := b.get(strings.TrimSuffix(at, "replay") + "readings.csv"); code != 200 || !strings.HasPrefix(csv, "time_s,pressure_Pa\n") {
		t.Errorf("%d %.60q", code, csv)
	}
	for _, path := range []string{"/runs/none/replay", "/runs/none/replay.json", "/tests/none/bay"} {
		if code, _ := b.get(path); code != 404 {
			t.Errorf("%s: %d", path, code)
		}
	}
}

// The bay view is a page of its own; without instruments it says so.
func TestBayView(t *testing.T) {
	b := start(t, false)
	_, page, _ := b.crankcase()
	bay := strings.TrimSuffix(page, "live") + "bay"
	if code, body := b.get(bay); code != 200 || !strings.Contains(body, "data-press") || strings.Contains(body, "<style") {
		t.Errorf("%d", code)
	}
	b.post(page, b.fill(page, "do", "leave"))
	if code, body := b.get(bay); code != 200 || !strings.Contains(body, "Nothing reads this test just now") {
		t.Errorf("%d", code)
	}
}

// A bench is started with an instrument from the page of the instruments; a test of one part asks
// for the part first, and what does not fit the car is refused in a sentence.
func TestStartABenchWithIt(t *testing.T) {
	b := start(t, false)
	caseAt, _, _ := b.crankcase()
	id := strings.TrimPrefix(caseAt, "/cases/")
	for _, c := range []struct{ test, at string }{{"make-up-flow", "/live"}, {"decay", "/tests/"}, {"valve-bench", "/do/valve-bench"}, {"crankcase-manometer", "/live"}} {
		code, _, at := b.post("/instruments/start", b.fill("/instruments", "case", id, "test", c.test, "device", "none"))
		if code != 200 || !strings.Contains(at, c.at) {
			t.Errorf("%s: %d at %s", c.test, code, at)
		}
	}
	if code, body, _ := b.post("/instruments/start", b.fill("/instruments", "case", id, "test", "pump-hand")); code != 422 || !strings.Contains(body, "not for this car") {
		t.Errorf("%d", code)
	}
	if code, body, _ := b.post(caseAt+"/benches", b.fill(caseAt, "test", "valve-bench")); code != 422 || !strings.Contains(body, "Say which part") {
		t.Errorf("%d", code)
	}
}
