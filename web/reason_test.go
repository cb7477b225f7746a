package web_test

import (
	"context"
	"net/http"
	"net/url"
	"strings"
	"testing"
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
	for _, want := range []string{"data-next=", "class=\"split\"", "class=\"caution", "data-odds", "1 in ", "Told and seen", "Kit at hand"} {
		if code != 200 || !strings.Contains(body, want) {
			t.Errorf("%d, %q is missing", code, want)
		}
	}
	if _, body := b.get(c + "?test=cap-check&on=cap"); !strings.Contains(body, "data-next=\"cap-check\"") || !strings.Contains(body, "would-") || !strings.Contains(body, "back to the best") {
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
		{c + "/do/cap-check", "/do/cap-check", []string{"on", "cap", "outcome", "burns"}, "has no outcome"},
		{c + "/do/cap-check", "/do/cap-check", []string{"on", "cap", "outcome", "holds", "read0", "NaN"}, "pressure after a minute"},
		{c + "/do/cap-check", "/do/cap-check", []string{"on", "<b>x</b>", "outcome", "holds"}, "not on this car"},
		{c + "/do/smoke", "/do/smoke", []string{"outcome", "exit", "exit0", "cap", "size0", "ocean"}, "wisp, a stream or a billow"},
		{c, "/observe", []string{"tap", "sign aura"}, "no sign"},
		{c, "/observe", []string{"kind", "renewed", "part", "wing"}, "not on this car"},
		{c, "/kit", []string{"kit", "wand"}, "no kit"},
		{c, "/cause", []string{"finding", "none", "cause", "none"}, "not in the shop"},
		{c, "/opened", []string{"finding", "none", "confirmed", "maybe"}, "yes, no, or unclear"},
		{c + "/found", "/found", []string{"part", "cap", "how", "a hunch"}, "singles this part out"},
	} {
		code, body, _ := b.post(c+x.path, b.fill(x.page, x.kv...))
		if code < 400 || code >= 500 || !strings.Contains(body, x.say) {
			t.Errorf("%s %v: %d, %q is not said", x.path, x.kv, code, x.say)
		}
		if strings.Contains(body, "<b>x</b>") {
			t.Errorf("%s: what was sent is run", x.path)
		}
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
	v := b.fill(c+"/do/cap-check", "on", "cap", "outcome", "falls", "read0", "0,5 kPa", "read1", "4", "note", "dry seal")
	for range 2 {
		if code, body, at := b.post(c+"/do/cap-check", v); code != 200 || at != c || !strings.Contains(body, "pressure after a minute 2.007") || !strings.Contains(body, "dry seal") {
			t.Fatalf("%d at %s", code, at)
		}
	}
	f, err := b.shop.Load(context.Background(), strings.TrimPrefix(c, "/cases/"))
	if err != nil || len(f.Results) != 1 {
		t.Errorf("%d results, %v", len(f.Results), err)
	}
	if _, body := b.get(c); !strings.Contains(body, "foundoffer") || !strings.Contains(body, "filler cap seal") {
		t.Error("a cap that falls on the tester is not offered as found")
	}
	if code, body := b.get(c + "/pulse"); code != 200 || !strings.Contains(body, "\"version\":") {
		t.Errorf("pulse: %d %s", code, body)
	}
}
