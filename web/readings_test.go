package web_test

import (
	"context"
	"fmt"
	"html/template"
	"strings"
	"testing"

	"wexter/core/bench"
	"wexter/core/record"
	"wexter/store"
)

// The readings name the outcome, on the page and on the Strip; a contradiction is asked about
// and nothing is kept; a person overrules them with a short reason, and both are kept.
func TestTheReadingsJudge(t *testing.T) {
	b := start(t, false)
	c := coded(b, "P0441")
	all := func(key, word string, n int) (kv []string) {
		for i := range n {
			kv = append(kv, fmt.Sprintf("read-%s-%d", key, i), word)
		}
		return kv
	}
	do := c + "/do/valve-bench"
	post := func(kv ...string) (int, string, string) {
		t.Helper()
		return b.post(do, b.fill(do, kv...))
	}
	vent := append([]string{"on", "vent-valve", "read-coil-0", "> 2 MΩ"}, all("sealed", "yes", 5)...)
	if code, body, _ := post(append(vent, all("passed", "no", 5)...)...); code != 422 || !strings.Contains(body, "Measure the coil again") || !strings.Contains(body, `class="asked" id="f-coil"`) {
		t.Errorf("an open coil that moves its valve: %d", code)
	}
	purge := append(append([]string{"on", "purge-valve"}, all("sealed", "no", 5)...), all("passed", "yes", 5)...)
	if code, body, at := post(append(purge, "check", "1")...); code != 200 || at != do || !strings.Contains(body, "Does not seal. It sealed 0 of 5, passed 5 of 5") {
		t.Errorf("asked what they say: %d at %s", code, at)
	}
	if code, body, _ := post(append(purge, "outcome", "good")...); code != 422 || !strings.Contains(body, "Say briefly why") {
		t.Errorf("overruled without a word: %d", code)
	}
	f, err := b.shop.Load(context.Background(), strings.TrimPrefix(c, "/cases/"))
	if err != nil || len(f.Results) != 0 {
		t.Fatalf("%d results were kept, %v", len(f.Results), err)
	}
	if code, body, at := post(append(purge, "outcome", "good", "why", "the pump's hose was off")...); code != 200 || at != c || !strings.Contains(body, "by hand: the pump&#39;s hose was off. The readings say: does not seal") {
		t.Errorf("overruled: %d at %s", code, at)
	}
	if f, _ = b.shop.Load(context.Background(), f.Case.ID); len(f.Results) != 1 || f.Results[0].Outcome != "good" || f.Results[0].Judged != "leaks" {
		t.Errorf("%+v", f.Results)
	}
}

// No dead ends: without a scan tool, without codes, and on a car that checks nothing by itself
// a tap goes on with the hunt.
func TestNoScanIsNoDeadEnd(t *testing.T) {
	for _, how := range []string{"no-tool", "none-complete", "none-incomplete", "no-check"} {
		t.Run(how, func(t *testing.T) {
			b := start(t, false)
			c := coded(b, "")
			if _, body := b.get(c); !strings.Contains(body, "Read the car first") || strings.Contains(body, "checks nothing by itself") {
				t.Error("a car with a monitor of its own, not read yet")
			}
			if code, body, at := b.post(c+"/unread", b.fill(c, "how", how)); code != 200 || at != c || !strings.Contains(body, "data-next=") {
				t.Errorf("%d at %s: the hunt stands still", code, at)
			}
		})
	}
	b := start(t, false)
	c := coded(b, "")
	if code, body, _ := b.post(c+"/unread", b.fill(c, "how", "<b>x</b>")); code != 422 || strings.Contains(body, "<b>x</b>") {
		t.Errorf("an answer that there is not: %d", code)
	}
}

// Where recent work is told, what may have been replaced is asked and answered with a tap, and the answer
// moves the odds.
func TestRenewedIsAsked(t *testing.T) {
	b := start(t, false)
	c := coded(b, "P0456")
	if _, body := b.get(c); strings.Contains(body, "renewedask") {
		t.Error("asked though no work is told")
	}
	if code, body, _ := b.post(c+"/observe", b.fill(c, "tap", "context pump-work")); code != 200 || !strings.Contains(body, "renewed flange") {
		t.Fatalf("recent work on the pump: %d", code)
	}
	code, body, _ := b.post(c+"/observe", b.fill(c, "tap", "renewed flange"))
	if code != 200 || !strings.Contains(body, "Renewed lately: pump and sender flange") || strings.Contains(body, `value="renewed flange"`) {
		t.Errorf("renewed: %d", code)
	}
	if code, body, _ = b.post(c+"/observe", b.fill(c, "tap", "renewed cap no")); code != 200 || !strings.Contains(body, "Not replaced: filler cap") {
		t.Errorf("not renewed: %d", code)
	}
}

// Proof repeats the test that failed, and shows both in its own form; the report prints them,
// and nothing that nobody wrote down.
func TestProofOfWhatFailed(t *testing.T) {
	b := start(t, false)
	ctx := context.Background()
	c := coded(b, "P0455")
	do, cap := c+"/do/smoke", c+"/do/cap-check"
	if code, _, _ := b.post(cap, b.fill(cap, "on", "cap", "read-left-0", "0,5 kPa", "read-clicks-0", "4")); code != 200 {
		t.Fatalf("a cap that does not hold: %d", code)
	}
	if code, _, at := b.post(do, b.fill(do, "on", "service-port", "read-exits-0", "neck", "read-exits-0-size", "stream")); code != 200 || at != c {
		t.Fatalf("an exit: %d at %s", code, at)
	}
	if code, body, _ := b.post(c+"/found", b.fill(c+"/found", "part", "vapour-line", "how", "nothing else is left", "by", "elimination")); code != 422 || !strings.Contains(body, "nothing to rest on") {
		t.Errorf("eliminated by nothing: %d", code)
	}
	if code, _, _ := b.post(c+"/found", b.fill(c+"/found", "part", "neck", "how", "smoke behind the bracket")); code != 200 {
		t.Fatalf("found: %d", code)
	}
	if code, _, _ := b.post(c+"/repair", b.fill(c+"/repair", "action", "new neck")); code != 200 {
		t.Fatalf("repaired: %d", code)
	}
	f, err := b.shop.Load(ctx, strings.TrimPrefix(c, "/cases/"))
	if err != nil {
		t.Fatal(err)
	}
	smoke := f.Results[1].ID
	again := "?repeat=" + smoke
	if _, body := b.get(c + "/proof"); !strings.Contains(body, do+again) || !strings.Contains(body, "EVAP monitor") {
		t.Error("the smoke test is not offered to be repeated")
	}
	if _, body := b.get(do + again); !strings.Contains(body, "Repeat of the test that failed") || !strings.Contains(body, "stream at the filler neck") {
		t.Error("its page does not show what it was before")
	}
	code, body, at := b.post(do, b.fill(do+again, "on", "service-port", "repeat_of", smoke, "read-far-0", "yes", "read-exits-none", "1"))
	if code != 200 || at != c+"/proof" || !strings.Contains(body, ">gone</td>") || strings.Count(body, `class="beforeafter"`) != 1 {
		t.Errorf("the repeat: %d at %s", code, at)
	}
	capAgain := cap + "?repeat=" + f.Results[0].ID
	if !strings.Contains(body, "Also failed before the repair") || !strings.Contains(body, capAgain) || strings.Contains(body, do+again) {
		t.Error("the cap failed too and is not offered, or the smoke test is once more")
	}
	code, body, at = b.post(cap, b.fill(capAgain, "on", "cap", "repeat_of", f.Results[0].ID, "read-left-0", "12 inH2O", "read-clicks-0", "4"))
	if code != 200 || at != c+"/proof" || strings.Count(body, `class="beforeafter"`) != 2 || strings.Contains(body, "Also failed before the repair") {
		t.Errorf("both repeated: %d at %s, %d compared", code, at, strings.Count(body, `class="beforeafter"`))
	}
	if code, body, _ := b.post(do, b.fill(do, "on", "cap", "repeat_of", smoke, "read-far-0", "yes", "read-exits-none", "1")); code != 422 || !strings.Contains(body, "the same test of the same part") {
		t.Errorf("a repeat let in elsewhere: %d", code)
	}
	_, report := b.get(c + "/report")
	for _, want := range []string{"The test that failed: ", "Smoke test, EVAP system", "It failed too: ", "The same test after the repair", "stream at the filler neck", "judged", "by its readings"} {
		if !strings.Contains(report, want) {
			t.Errorf("the report does not print %q", want)
		}
	}
	for _, blank := range []string{" 0 km", "0.00 €", "0 min,"} {
		if strings.Contains(report, blank) {
			t.Errorf("the report prints %q, which nobody wrote down", blank)
		}
	}
	if f, _ = b.shop.Load(ctx, f.Case.ID); f.Results[2].RepeatOf != smoke || f.Case.Stage != record.Proof {
		t.Errorf("%+v at %s", f.Results[2], f.Case.Stage)
	}
}

// Every outcome of every test has the colour of its meaning on the Strip, and no other.
func TestColoursOfOutcomes(t *testing.T) {
	b := start(t, false)
	ctx := context.Background()
	want := map[string]string{"sound": "within", "fault": "over", "unclear": "cannot", "not-done": "cannot"}
	c := coded(b, "P0442")
	id := strings.TrimPrefix(c, "/cases/")
	f, err := b.shop.Load(ctx, id)
	if err != nil {
		t.Fatal(err)
	}
	car, err := b.shop.Car(f.Vehicle, f.Corrections)
	if err != nil {
		t.Fatal(err)
	}
	shown, rows := map[string]string{}, []record.Result{}
	for _, e := range b.shop.Book.Tests {
		if !e.Fits(car.Combination) || e.Key == "decay" {
			continue
		}
		part := ""
		if at := car.Targets(e.Key); len(at) > 0 {
			part = at[0].Key
		} else if bench.Part(e.Key) {
			continue // this car has no such part
		}
		for _, o := range e.Outcomes {
			if want[string(o.Means)] == "" {
				t.Errorf("%s of %s means %q", o.Key, e.Key, o.Means)
			}
			rows = append(rows, record.Result{ID: fmt.Sprintf("r%d", len(rows)), CaseID: id, Test: e.Key, Part: part, Outcome: o.Key, Overruled: "as told", At: f.Case.OpenedAt})
			shown[o.Name] = want[string(o.Means)]
		}
	}
	if err := b.shop.DB.Write(ctx, func(tx store.Tx) error { return tx.Add(rows) }); err != nil {
		t.Fatal(err)
	}
	_, body := b.get(c)
	for name, class := range shown {
		if !strings.Contains(body, fmt.Sprintf(`<span class="fig %s">%s</span>`, class, template.HTMLEscapeString(name))) {
			t.Errorf("%q is not shown as %s", name, class)
		}
	}
	if len(shown) < 50 {
		t.Errorf("only %d outcomes were shown", len(shown))
	}
}
