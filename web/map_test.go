package web_test

import (
	"bytes"
	"context"
	"errors"
	"image"
	"image/png"
	"net/http"
	"strings"
	"testing"

	"wexter/core/record"
	"wexter/store"
)

// onMap opens a case and returns its page.
func onMap(b *browser) string {
	b.t.Helper()
	code, body, at := b.post("/cases", newCar(b))
	if code != 200 {
		b.t.Fatalf("%d %s", code, body)
	}
	return at
}

func picture(t *testing.T) []byte {
	t.Helper()
	var buf bytes.Buffer
	if err := png.Encode(&buf, image.NewGray(image.Rect(0, 0, 4, 4))); err != nil {
		t.Fatal(err)
	}
	return buf.Bytes()
}

// Anything sent to the Map's forms gets a sentence; nothing is half kept, and what
// was typed is still there.
func TestMapFormsRefuse(t *testing.T) {
	b := start(t, false)
	c := onMap(b)
	before, err := b.shop.Load(context.Background(), strings.TrimPrefix(c, "/cases/"))
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range []struct {
		path string
		kv   []string
		say  string
	}{
		{"/marks", []string{"part", "cap", "kind", "exit", "size", "flood"}, "a wisp, a stream or a billow"},
		{"/marks", []string{"part", "cap", "kind", "hunch"}, "n exit seen"},
		{"/marks", []string{"part", "cap", "kind", "suspect"}, "Odds: this is missing"},
		{"/marks", []string{"part", "cap", "kind", "suspect", "odds", "NaN"}, "Odds"},
		{"/marks", []string{"part", "cap", "kind", "suspect", "odds", "170"}, "between 0 and 100"},
		{"/marks", []string{"part", "flux", "kind", "looked"}, "not on this car&#39;s Map"},
		{"/marks", []string{"part", "<script>alert(1)</script>", "kind", "looked", "large", "1"}, "not on this car&#39;s Map"},
		{"/cards", []string{"part", "tank"}, "helps nobody"},
		{"/cards", []string{"part", "tank", "minutes", "soon"}, "Minutes"},
		{"/cards", []string{"part", "tank", "place", strings.Repeat("x", 700)}, "characters long"},
		{"/corrections", []string{"part", "tank", "kind", "gone", "words", "x"}, "joins"},
		{"/corrections", []string{"part", "vapour-line", "kind", "runs", "from", "tank", "to", "tank", "words", "x"}, "to itself"},
		{"/corrections", []string{"part", "cap", "kind", "gone"}, "ay what you saw"},
		{"/plumbing", []string{"engine", "turbo-petrol", "boost", "no-boost", "crankcase", "fixed-valve", "recirculation", "no-egr", "vapour", "engine-vacuum", "large", "1"}, "a turbo engine has a charge side"},
		{"/plumbing", []string{"engine", "steam", "large", "1"}, "is not known; known are"},
		{"/car/strike", []string{"what", "card", "entry", "none"}, "not in the shop"},
	} {
		t.Run(x.say, func(t *testing.T) {
			code, body, _ := b.post(c+x.path, b.fill(c, x.kv...))
			if code < 400 || code >= 500 || !strings.Contains(body, x.say) {
				t.Errorf("%s %v: %d, %q is not said", x.path, x.kv, code, x.say)
			}
			if strings.Contains(body, "<script>alert") {
				t.Errorf("%s %v: what was sent is run", x.path, x.kv)
			}
		})
	}
	// No token, another site, an upload that is no photo, and one too large.
	v := b.fill(c, "part", "cap", "kind", "looked")
	v.Del("csrf")
	if code, _, _ := b.post(c+"/marks", v); code != http.StatusForbidden && code != http.StatusBadRequest {
		t.Errorf("without a token: %d", code)
	}
	v = b.fill(c, "part", "cap", "kind", "note", "words", "seen")
	if code, body, _ := b.upload(c+"/corrections", v, "photo", "x.png", []byte("no picture")); code != 422 || !strings.Contains(body, "Photo") {
		t.Errorf("no photo: %d", code)
	}
	if code, _, _ := b.upload(c+"/corrections", v, "photo", "x.png", make([]byte, 20<<20)); code != http.StatusRequestEntityTooLarge {
		t.Errorf("a photo of 20 MB: %d", code)
	}
	after, _ := b.shop.Load(context.Background(), before.Case.ID)
	if len(after.Marks)+len(after.Cards)+len(after.Corrections) != 0 || after.Vehicle != before.Vehicle {
		t.Errorf("something was kept: %+v", after.Marks)
	}
	// What is right is kept once, pressed twice or not, photo and all.
	for range 2 {
		if code, body, _ := b.upload(c+"/corrections", v, "photo", "x.png", picture(t)); code != 200 || !strings.Contains(body, "seen") {
			t.Errorf("%d", code)
		}
	}
	if after, _ = b.shop.Load(context.Background(), before.Case.ID); len(after.Corrections) != 1 || after.Corrections[0].Photo == "" {
		t.Errorf("%+v", after.Corrections)
	}
	if code, _ := b.get("/photos/" + after.Corrections[0].Photo); code != 200 {
		t.Errorf("its photo: %d", code)
	}
}

// An exit and a repair take a photo too, and the answer why the part failed comes with it.
func TestExitAndRepairTakeAPhoto(t *testing.T) {
	b := start(t, false)
	c := onMap(b)
	before, err := b.shop.Load(context.Background(), strings.TrimPrefix(c, "/cases/"))
	if err != nil {
		t.Fatal(err)
	}
	v := b.fill(c, "part", "vapour-line", "kind", "exit", "size", "stream")
	if code, _, _ := b.upload(c+"/marks", v, "photo", "x.png", picture(t)); code != 200 {
		t.Errorf("an exit with a photo: %d", code)
	}
	v = b.fill(c+"/found", "part", "vapour-line", "by", "word", "how", "smoke at the bend")
	if code, _, _ := b.post(c+"/found", v); code != 200 {
		t.Fatalf("found: %d", code)
	}
	v = b.fill(c+"/repair", "action", "new line", "lasting", "yes")
	after, _ := b.shop.Load(context.Background(), before.Case.ID)
	v.Set("cause-"+after.Findings[0].ID, "none")
	if code, body, _ := b.upload(c+"/repair", v, "photo", "x.png", picture(t)); code != 200 || !strings.Contains(body, "/photos/") {
		t.Errorf("a repair with a photo: %d", code)
	}
	after, _ = b.shop.Load(context.Background(), before.Case.ID)
	if len(after.Marks) != 1 || after.Marks[0].Photo == "" || len(after.Repairs) != 1 || after.Repairs[0].Photo == "" || after.Findings[0].Cause != record.NoCause {
		t.Errorf("%+v, %+v", after.Marks, after.Repairs)
	}
}

// The set-up's Map: what cannot be set is refused, and a closed case is left alone.
func TestSetUpFormsRefuse(t *testing.T) {
	b := start(t, false)
	test := b.bench()
	page := test + "/map"
	for _, x := range []struct {
		kv  []string
		say string
	}{
		{[]string{"part", "tank", "state", "plugged"}, "cannot be plugged"},
		{[]string{"part", "flux", "state", "plugged"}, "not on this car&#39;s Map"},
		{[]string{"part", "tank", "do", "entry"}, "cannot be joined"},
	} {
		t.Run(x.say, func(t *testing.T) {
			if code, body, _ := b.post(page, b.fill(page, x.kv...)); code != 422 || !strings.Contains(body, x.say) {
				t.Errorf("%v: %d", x.kv, code)
			}
		})
	}
	if code, body, _ := b.post(page, b.fill(page, "part", "purge-line", "state", "plugged")); code != 200 || !strings.Contains(body, "Not under the gauge") {
		t.Errorf("plugged: %d", code)
	}
	if code, _ := b.get("/tests/none/map"); code != 404 {
		t.Errorf("a test that is not there: %d", code)
	}
	id, err := b.shop.TestCase(context.Background(), strings.TrimPrefix(test, "/tests/"))
	if err != nil {
		t.Fatal(err)
	}
	v := b.fill(page, "part", "purge-line", "state", "")
	if err := b.shop.Close(context.Background(), "", id, "given back"); err != nil {
		t.Fatal(err)
	}
	if code, body, _ := b.post(page, v); code != 422 || !strings.Contains(body, "is closed") {
		t.Errorf("after closing: %d", code)
	}
	if _, body := b.get(page + "?part=purge-line"); strings.Contains(body, "take back") {
		t.Error("a closed case offers to change its set-up")
	}
}

// A diesel has no EVAP system: no hold is offered, and asking for one gets a sentence.
func TestACarWithoutVapourSystem(t *testing.T) {
	b := start(t, false)
	v := newCar(b)
	v.Set("archetype", "no-vapour")
	code, body, at := b.post("/cases", v)
	if code != 200 || strings.Contains(body, "Start the bench") || strings.Contains(body, "Another hold") {
		t.Fatalf("%d", code)
	}
	if code, body, _ := b.post(at+"/tests", b.fill(at)); code != 422 || !strings.Contains(body, "no EVAP system") {
		t.Errorf("%d", code)
	}
	f, err := b.shop.Load(context.Background(), strings.TrimPrefix(at, "/cases/"))
	if err != nil {
		t.Fatal(err)
	}
	if car, err := b.shop.Car(f.Vehicle, nil); err != nil || car.Combination.Engine != "turbo-diesel" {
		t.Errorf("%v %v", car.Combination, err)
	}
	v = newCar(b)
	v.Set("archetype", "no-vapour")
	v.Set("engine", "na-maf")
	if code, body, _ := b.post("/cases", v); code != 422 || !strings.Contains(body, "do not go together") || !strings.Contains(body, `value="na-maf" selected`) {
		t.Errorf("a petrol car without vapour system: %d", code)
	}
}

// A page with a Map is sent packed; a live stream never is.
func TestPagesArePacked(t *testing.T) {
	b := start(t, false)
	at := onMap(b)
	r, _ := http.NewRequest("GET", b.srv.URL+at, nil)
	r.Header.Set("Accept-Encoding", "gzip")
	res, err := (&http.Transport{DisableCompression: true}).RoundTrip(r)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	if res.Header.Get("Content-Encoding") != "gzip" || !strings.Contains(res.Header.Get("Content-Security-Policy"), "default-src") {
		t.Errorf("%v", res.Header)
	}
}

// A figure in a sentence of the Book gets its second unit, once.
func TestSecondUnitInSentences(t *testing.T) {
	b := start(t, false)
	for path, want := range map[string]string{
		"/book/test/decay":          "charge to 13 inH2O (3.2 kPa)",
		"/book/test/smoke":          "10 to 15 inH2O (2.5 to 3.7 kPa)",
		"/book/test/valve-bench":    "15 inHg (51 kPa) for 20 s", // it has one already
		"/book/test/eonv-manometer": "near 0.5 inH2O (0.12 kPa)",
		"/book/test/intake-smoke":   "1 psi (6.9 kPa)",
	} {
		t.Run(want, func(t *testing.T) {
			if _, body := b.get(path); !strings.Contains(body, want) {
				t.Errorf("%s does not say %q", path, want)
			}
		})
	}
}

// A car whose archetype is no longer in the Book (the shop's own page was left out) still
// opens: the Map says what is missing and offers to say what the car is made of.
func TestAnArchetypeThatIsGone(t *testing.T) {
	b := start(t, false)
	test := b.bench()
	id, err := b.shop.TestCase(context.Background(), strings.TrimPrefix(test, "/tests/"))
	if err != nil {
		t.Fatal(err)
	}
	if err := b.shop.DB.Write(context.Background(), func(tx store.Tx) error {
		c, err := store.Get[record.Case](tx, id)
		if err != nil {
			return err
		}
		v, err := store.Get[record.Vehicle](tx, c.VehicleID)
		v.Archetype = "own-tank"
		return errors.Join(err, tx.Put(&v))
	}); err != nil {
		t.Fatal(err)
	}
	c := "/cases/" + id
	for path, want := range map[string]string{c: "is not known; known are", c + "/map": "What this car is made of", test: "Leak-down test", c + "/found": "Something else", "/": "SQ-1"} {
		t.Run(want, func(t *testing.T) {
			if code, body := b.get(path); code != 200 || !strings.Contains(body, want) {
				t.Errorf("%s: %d, %q is not said", path, code, want)
			}
		})
	}
	if code, body := b.get(test + "/map"); code >= 500 || !strings.Contains(body, "is not known") {
		t.Errorf("the set-up's Map: %d", code)
	}
	if code, _, at := b.post(c+"/plumbing", b.fill(c+"/map", "engine", "na-maf", "boost", "no-boost", "crankcase", "fixed-valve", "recirculation", "no-egr", "vapour", "eonv-sensor", "large", "1")); code != 200 || !strings.HasSuffix(at, "/map") {
		t.Errorf("said anew: %d %s", code, at)
	}
	if _, body := b.get(c); strings.Contains(body, "is not known") {
		t.Error("said, and still not known")
	}
}
