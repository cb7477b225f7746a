package web_test

import (
	"context"
	"strings"
	"testing"

	"wexter/casework"
)

// A maker's own code says nothing until the shop has looked it up: then it weighs like the codes
// beside it, on every case, and the shop's other ways stand.
func TestMakersCode(t *testing.T) {
	b := start(t, false)
	ctx := context.Background()
	c := coded(b, "P0456 P1450")
	id := strings.TrimPrefix(c, "/cases/")
	odds := func() float64 {
		t.Helper()
		f, err := b.shop.Load(ctx, id)
		if err != nil {
			t.Fatal(err)
		}
		th, err := b.shop.Think(ctx, f)
		if err != nil {
			t.Fatal(err)
		}
		return th.State.Odds("purge-blocked")
	}
	link := "/book?code=P1450&amp;from=" + id + "#makers"
	if _, body := b.get(c); !strings.Contains(body, link) || strings.Contains(body, "code=P0456") {
		t.Error("the case does not lead to the form for its maker's code, or does for a standard one")
	}
	before := odds()
	meaning := func(kv ...string) (int, string, string) {
		t.Helper()
		return b.post("/book/codes", b.fill("/book?code=P1450&from="+id, append([]string{"code", "p1450", "says", "purge flow too low", "group", "purge-flow", "source", "Workshop manual, Ostrel, 2019", "from", id}, kv...)...))
	}
	for _, x := range []struct{ field, value, want string }{
		{"code", "P0456", "is a standard code"}, {"code", "P2XX9", "is not a trouble code"}, {"code", "", "is not a trouble code"},
		{"says", "  ", "Write what the maker says that P1450 means."}, {"says", strings.Repeat("x", 121), "at most 120"},
		{"source", "", "Write where the meaning of P1450 was read"}, {"source", "a\x00b", "control character"},
		{"group", "", "Choose the codes that P1450 counts like."}, {"group", "swans", "Choose the codes"},
	} {
		code, body, _ := meaning(x.field, x.value)
		if code != 422 || !strings.Contains(body, x.want) {
			t.Errorf("%s %q: %d, without %q", x.field, x.value, code, x.want)
		}
		if x.field != "says" && !strings.Contains(body, `value="purge flow too low"`) {
			t.Errorf("%s %q: what was typed is gone", x.field, x.value)
		}
	}
	if odds() != before {
		t.Error("a refused meaning weighs")
	}
	if code, body, at := meaning(); code != 200 || at != c || strings.Contains(body, link) || !strings.Contains(body, "P1450 purge flow too low") {
		t.Errorf("after it was saved: %d at %s, the notice still there %v", code, at, strings.Contains(body, link))
	}
	given := odds()
	if given < 1.5*before {
		t.Errorf("a blocked purge stands at %.3f with the code looked up, at %.3f without", given, before)
	}
	if err := b.shop.SetWays(ctx, "", casework.Ways{Rate: 80}); err != nil {
		t.Fatal(err)
	}
	if _, body := b.get("/book"); !strings.Contains(body, "Workshop manual, Ostrel, 2019") {
		t.Error("the meaning is gone once the shop's ways were saved")
	}
	if w, err := b.shop.Ways(ctx); err != nil || w.Rate != 80 || len(w.Codes) != 1 {
		t.Errorf("ways: %v, %+v", err, w)
	}
	if _, _, at := meaning("says", "vacuum too high", "group", "vent", "from", "../evil"); at != "/book" {
		t.Errorf("sent to %q", at)
	}
	if w, _ := b.shop.Ways(ctx); w.Rate != 80 || len(w.Codes) != 1 || w.Codes[0].Says != "vacuum too high" {
		t.Errorf("corrected: %+v", w)
	}
	if code, _, _ := meaning("forget", "1", "code", "P1450"); code != 200 || odds() != before {
		t.Errorf("forgotten: %d, and it still weighs", code)
	}
}
