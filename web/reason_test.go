package web_test

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"wexter/casework"
	"wexter/core/record"
	"wexter/demo"
)

// coded opens a case with a code and returns its page.
func coded(b *browser, codes string) string {
	b.t.Helper()
	v := newCar(b)
	v.Set("codes", codes)
	code, body, at := b.post("/cases", v)
	if code != 200 {
		b.t.Fatalf("%d %s", code, body)
	}
	return at
}

// What is next is on the page with its split, its caution and the odds; tapping a test or a
// suspect opens it; nonsense in the address is told.
func TestNextOnTheCase(t *testing.T) {
	b := start(t, false)
	c := coded(b, "P0442")
	code, body := b.get(c)
	for _, want := range []string{"data-next=", "class=\"outbar\"", "class=\"caution", "data-odds", "1 in ", "Symptoms: tap all that apply", "Kit in this bay"} {
		if code != 200 || !strings.Contains(body, want) {
			t.Errorf("%d, %q is missing", code, want)
		}
	}
	if _, body := b.get(c + "?test=smoke"); !strings.Contains(body, "data-next=\"smoke\"") || !strings.Contains(body, "would-") || !strings.Contains(body, "back to the best") {
		t.Error("a tapped test is not shown, or nothing is lit")
	}
	if _, body := b.get(c + "?suspect=cap"); !strings.Contains(body, "id=\"suspect\"") || !strings.Contains(body, "tests would show") {
		t.Error("a suspect is not opened")
	}
	for _, q := range []string{"?suspect=<script>alert(1)</script>", "?test=<script>alert(1)</script>", "?suspect=regulator"} {
		code, body := b.get(c + "?" + strings.ReplaceAll(url.QueryEscape(q[1:]), "%3D", "="))
		if code != 200 || strings.Contains(body, "<script>alert") {
			t.Errorf("%s: %d", q, code)
		}
	}
}

// Every refusal of the new forms is a sentence, and nothing is half kept.
func TestReasonFormsRefuse(t *testing.T) {
	b := start(t, false)
	c := coded(b, "P0442")
	before, err := b.shop.Load(context.Background(), strings.TrimPrefix(c, "/cases/"))
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range []struct {
		page, path string
		kv         []string
		say        string
	}{
		{c + "/do/cap-check", "/do/cap-check", []string{"on", "cap", "outcome", "burns", "why", "it does"}, "has no outcome"},
		{c + "/do/cap-check", "/do/cap-check", []string{"on", "cap", "read-left-0", "NaN"}, "pressure after a minute"},
		{c + "/do/cap-check", "/do/cap-check", []string{"on", "<b>x</b>", "read-left-0", "12"}, "not on this car"},
		{c + "/do/smoke", "/do/smoke", []string{"read-exits-0", "cap", "read-exits-0-size", "ocean"}, "none of wisp, stream, billow"},
		{c, "/observe", []string{"tap", "sign aura"}, "no sign"},
		{c, "/observe", []string{"kind", "renewed", "part", "wing"}, "not on this car"},
		{c, "/kit", []string{"kit", "wand"}, "no kit"},
		{c, "/cause", []string{"finding", "none", "cause", "none"}, "not in the shop"},
		{c, "/opened", []string{"finding", "none", "confirmed", "maybe"}, "yes, no, or unclear"},
		{c + "/found", "/found", []string{"part", "cap", "how", "a hunch"}, "singles this part out"},
	} {
		t.Run(x.say, func(t *testing.T) {
			code, body, _ := b.post(c+x.path, b.fill(x.page, x.kv...))
			if code < 400 || code >= 500 || !strings.Contains(body, x.say) {
				t.Errorf("%s %v: %d, %q is not said", x.path, x.kv, code, x.say)
			}
			if strings.Contains(body, "<b>x</b>") {
				t.Errorf("%s: what was sent is run", x.path)
			}
		})
	}
	if code, body, _ := b.post("/ways", b.fill("/ways", "rate", "dear", "day", "120")); code != 422 || !strings.Contains(body, "Hour of work") {
		t.Errorf("a rate in words: %d", code)
	}
	v := b.fill(c, "tap", "sign smell")
	v.Del("csrf")
	if code, _, _ := b.post(c+"/observe", v); code != http.StatusForbidden && code != http.StatusBadRequest {
		t.Errorf("without a token: %d", code)
	}
	after, err := b.shop.Load(context.Background(), strings.TrimPrefix(c, "/cases/"))
	if err != nil || after.Case.Version != before.Case.Version {
		t.Errorf("something was kept: version %d from %d, %v", after.Case.Version, before.Case.Version, err)
	}
	for _, path := range []string{"/do/unobtainium", "/do/decay", "/do/readiness"} {
		if code, _ := b.get(c + path); code != http.StatusNotFound {
			t.Errorf("%s: %d", path, code)
		}
	}
}

// A result sent twice is kept once, and stands on the Strip with a second unit.
func TestAResultOnTheStrip(t *testing.T) {
	b := start(t, false)
	c := coded(b, "P0442")
	v := b.fill(c+"/do/cap-check", "on", "cap", "read-left-0", "0,5 kPa", "read-clicks-0", "4", "note", "dry seal")
	for range 2 {
		if code, body, at := b.post(c+"/do/cap-check", v); code != 200 || at != c || !strings.Contains(body, "pressure after a minute: 2.007") || !strings.Contains(body, "dry seal") {
			t.Fatalf("%d at %s", code, at)
		}
	}
	f, err := b.shop.Load(context.Background(), strings.TrimPrefix(c, "/cases/"))
	if err != nil || len(f.Results) != 1 {
		t.Errorf("%d results, %v", len(f.Results), err)
	}
	if _, body := b.get(c); !strings.Contains(body, "foundoffer") || !strings.Contains(body, "filler cap, hard or cracked seal") {
		t.Error("a cap that falls on the tester is not offered as found")
	}
	if code, body := b.get(c + "/pulse"); code != 200 || !strings.Contains(body, "\"version\":") {
		t.Errorf("pulse: %d %s", code, body)
	}
}

// The schools of the shop are seen where the hand needs them.
func TestSchoolsOnThePages(t *testing.T) {
	b := start(t, false)
	ctx := context.Background()
	ways := func(kv ...string) {
		t.Helper()
		v := b.fill("/ways", append([]string{"rate", "66", "day", "120"}, kv...)...)
		for _, k := range b.shop.Book.Kit {
			v.Add("kit", k.Key)
		}
		if code, body, _ := b.post("/ways", v); code != 200 {
			t.Fatalf("%d %s", code, body)
		}
	}
	page := func(path string, want bool, words string) {
		t.Helper()
		if code, body := b.get(path); code != 200 || strings.Contains(body, words) != want {
			t.Errorf("%s answers %d and says %q: %v", path, code, words, !want)
		}
	}
	c := coded(b, "P0442")
	id := strings.TrimPrefix(c, "/cases/")
	page(c+"/do/smoke", true, `<option value="service-port" selected>`)
	ways("way-entry", "neck", "way-parts", "genuine", "way-codes", "wait", "way-prove", "swap")
	page(c+"/do/smoke", true, `<option value="cap" selected>`)
	page(c+"?test=smoke", true, "Smoke goes in at the filler cap.")
	page(c+"/do/cap-check", false, "Smoke goes in at")
	page(c, false, "data-swap")
	v := b.fill(c+"/do/smoke", "on", "manifold", "read-far-0", "yes", "read-exits-none", "1")
	if code, body, _ := b.post(c+"/do/smoke", v); code != 422 || !strings.Contains(body, "cannot be fed into") {
		t.Errorf("smoke into the vapour system at the manifold: %d", code)
	}
	v.Set("on", "cap")
	if code, body, _ := b.post(c+"/do/smoke", v); code != 200 || !strings.Contains(body, "in at the filler cap") {
		t.Errorf("smoke through the neck is not on the Strip: %d", code)
	}
	// With next to no kit no test comes before the cheap part.
	if err := b.shop.SetKit(ctx, "", id, []string{"probe"}); err != nil {
		t.Fatal(err)
	}
	page(c, true, "data-swap")
	page(c, true, "This shop swaps the cheap, likely part first")
	ways("way-prove", "prove", "way-parts", "genuine")
	page(c, false, "data-swap")
	if err := b.shop.AddFinding(ctx, "", id, casework.NewFinding{Part: "vapour-line", How: "rubbed through", By: record.ByWord}); err != nil {
		t.Fatal(err)
	}
	page(c+"/repair", true, "genuine, as this shop takes all parts")
	page(c+"/proof", false, "time out")
	ways("way-parts", "per-part")
	page(c+"/repair", true, "a proven equal will do")
	f, err := b.shop.Load(ctx, id)
	if err != nil {
		t.Fatal(err)
	}
	if err := b.shop.AddRepair(ctx, "", id, casework.NewRepair{Action: "new line", Causes: map[string]string{f.Findings[0].ID: "none"}}); err != nil {
		t.Fatal(err)
	}
	ways("way-codes", "wait")
	page(c+"/proof", true, "some 40 warm-ups")
	ways("way-codes", "clear")
	page(c+"/proof", true, "Cleared once the repair is proven, not before")
	if err := b.shop.AddNote(ctx, "", id, casework.NewNote{Kind: record.Cleared, Text: "by the reader"}); err != nil {
		t.Fatal(err)
	}
	page(c+"/proof", true, "Cleared after the repair")
}

// Tight, a code of something else, and next to no kit: no test is worth its time, and the page says so.
func TestNothingMoreAtHand(t *testing.T) {
	b := start(t, false)
	ctx := context.Background()
	c := coded(b, "P0700")
	id := strings.TrimPrefix(c, "/cases/")
	ok := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	if _, body := b.get(c); strings.Contains(body, "data-beyond") {
		t.Error("with all kit at hand")
	}
	ok(b.shop.SetKit(ctx, "", id, []string{"probe"}))
	test, err := b.shop.StartTest(ctx, "", id, "")
	ok(err)
	f, err := b.shop.Load(ctx, id)
	ok(err)
	tf, _ := f.Test(test)
	su := tf.Setup
	su.VolumeTolerance, su.Wet, su.Instrument.RigHeld = 0.06, false, "held"
	ok(b.shop.SaveSetup(ctx, "", test, tf.Version, su))
	tank := demo.Tank{Volume: su.Volume, Hole: 0.05e-3, Noise: 3, Seed: 7}
	_, err = b.shop.AddRun(ctx, "", test, casework.NewRun{Kind: "drift", Name: "drift.csv", Log: tank.Drifting(75)})
	ok(err)
	_, err = b.shop.AddRun(ctx, "", test, casework.NewRun{Kind: "hold", Name: "hold.csv", Log: tank.Hold(13*249.089, 150)})
	ok(err)
	if _, body := b.get(c); !strings.Contains(body, "data-beyond") || !strings.Contains(body, "Search the whole system by hand.") {
		f, _ = b.shop.Load(ctx, id)
		th, err := b.shop.Think(ctx, f)
		t.Errorf("nothing is said: %v, %s first of %.0f min, %d tests", err, th.Plan.First, th.Plan.Now, len(th.Plan.Actions))
	}
}

// All kit taken out of a case leaves eyes, not the shop's kit; "as the shop has" takes that again.
func TestKitOfACase(t *testing.T) {
	b := start(t, false)
	c := coded(b, "P0442")
	id := strings.TrimPrefix(c, "/cases/")
	for _, x := range []struct {
		kv   []string
		want []string
	}{
		{nil, []string{"eyes"}},
		{[]string{"kit", "smoke"}, []string{"smoke"}},
		{[]string{"shop", "1"}, nil},
	} {
		t.Run(fmt.Sprint(x.kv), func(t *testing.T) {
			v := b.fill(c, x.kv...)
			if x.kv == nil {
				v.Del("kit")
			}
			code, _, _ := b.post(c+"/kit", v)
			f, err := b.shop.Load(context.Background(), id)
			if err != nil {
				t.Fatal(err)
			}
			if code != 200 || strings.Join(f.Case.Kit, " ") != strings.Join(x.want, " ") {
				t.Errorf("%v: %d, at hand %q", x.kv, code, f.Case.Kit)
			}
		})
	}
	// With eyes alone no bench of the kit leads.
	b.post(c+"/kit", url.Values{"csrf": {b.fill(c).Get("csrf")}, "key": {b.fill(c).Get("key")}})
	if _, body := b.get(c); !strings.Contains(body, `data-next="look"`) {
		t.Error("with eyes alone it is not to look that comes next")
	}
}

// The shop's own prices and money are taken, refused in a sentence when they cannot be, and seen
// where a part would be replaced.
func TestOwnPrices(t *testing.T) {
	b := start(t, false)
	code, body, _ := b.post("/ways", b.fill("/ways", "rate", "66", "day", "120", "currency", "kr", "price-cap", "310"))
	if code != 200 {
		t.Fatalf("%d %.300s", code, body)
	}
	if _, body := b.get("/ways"); !strings.Contains(body, `value="310"`) || !strings.Contains(body, `value="kr"`) {
		t.Error("what was kept is not shown")
	}
	c := coded(b, "P0442")
	if _, body := b.get(c + "?suspect=cap"); !strings.Contains(body, "some 310 kr") {
		t.Error("the shop's own price of a cap is not said")
	}
	for _, kv := range [][]string{{"price-cap", "-4", "a part costs between 0 and 100 000"}, {"price-cap", "NaN", "hard or cracked seal"}, {"price-cap", "much", "hard or cracked seal"}, {"currency", "doubloons", "currency"}} {
		if code, body, _ := b.post("/ways", b.fill("/ways", "rate", "66", "day", "120", kv[0], kv[1])); code != 422 || !strings.Contains(body, kv[2]) {
			t.Errorf("%s %q: %d", kv[0], kv[1], code)
		}
	}
	if _, body := b.get("/ways"); !strings.Contains(body, `value="310"`) {
		t.Error("a refused form changed what was kept")
	}
}

// A smell at a place is marked on the Map, and stands on the Strip and in the odds.
func TestASmellAtAPlace(t *testing.T) {
	b := start(t, false)
	c := coded(b, "P0442")
	odds := func() float64 {
		f, err := b.shop.Load(context.Background(), strings.TrimPrefix(c, "/cases/"))
		if err != nil {
			t.Fatal(err)
		}
		th, err := b.shop.Think(context.Background(), f)
		if err != nil {
			t.Fatal(err)
		}
		return th.State.Odds("neck")
	}
	if _, body := b.get(c + "?part=neck"); !strings.Contains(body, `value="smelt"`) {
		t.Error("a smell cannot be marked")
	}
	before := odds()
	code, body, _ := b.post(c+"/marks", b.fill(c, "part", "neck", "kind", "smelt"))
	if code != 200 || !strings.Contains(body, "Smells of fuel") {
		t.Errorf("%d; the Strip does not say it", code)
	}
	if after := odds(); after < 2*before {
		t.Errorf("neck from %.3f to %.3f", before, after)
	}
}

// What an instrument that the shop lacks would have saved over its last cases stands beside it.
func TestWhatKitIsWorth(t *testing.T) {
	b := start(t, false)
	for _, codes := range []string{"P0442", "P0455"} {
		coded(b, codes)
	}
	if _, body := b.get("/ways"); strings.Contains(body, "would have saved") {
		t.Error("nothing was ticked, and something lacks")
	}
	ctx := context.Background()
	w, err := b.shop.Ways(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range b.shop.Book.Kit {
		if k.Key != "smoke" {
			w.Kit = append(w.Kit, k.Key)
		}
	}
	if err := b.shop.SetWays(ctx, "", w); err != nil {
		t.Fatal(err)
	}
	if _, body := b.get("/ways"); !strings.Contains(body, " € over the last 2 cases, in ") {
		t.Error("what smoke would have saved is not said")
	}
}
