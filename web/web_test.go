package web_test

import (
	"bytes"
	"context"
	"database/sql"
	"image"
	"image/png"
	"io"
	"log/slog"
	"math/rand/v2"
	"mime/multipart"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"wexter/casework"
	"wexter/core/record"
	"wexter/demo"
	"wexter/ingest"
	"wexter/instrument"
	"wexter/live"
	"wexter/report"
	"wexter/store"
	"wexter/web"
)

type browser struct {
	t    *testing.T
	srv  *httptest.Server
	c    *http.Client
	shop *casework.Shop
	path string // of the shop's file
}

// patient reaches instruments with all the patience that a slow machine needs.
var patient = instrument.Dialer{Patience: hangs}

func dial(ctx context.Context, d record.Device) (instrument.Instrument, error) {
	return patient.Instrument(ctx, d, nil)
}

func start(t *testing.T, full bool) *browser {
	t.Helper()
	path := filepath.Join(t.TempDir(), "shop.db")
	db, err := store.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	s := &casework.Shop{DB: db, Book: ingest.Book(), Now: time.Now}
	if full {
		if err := demo.Fill(context.Background(), s); err != nil {
			t.Fatal(err)
		}
	}
	hub := live.New(s, dial)
	h, err := web.New(s, hub, patient, nil)
	if err != nil {
		t.Fatal(err)
	}
	srv := httptest.NewServer(h)
	t.Cleanup(func() { hub.Close(); srv.Close(); db.Close() })
	jar, _ := cookiejar.New(nil)
	return &browser{t: t, srv: srv, c: &http.Client{Jar: jar}, shop: s, path: path}
}

func (b *browser) read(r *http.Response, err error) (int, string, string) {
	b.t.Helper()
	if err != nil {
		b.t.Fatal(err)
	}
	defer r.Body.Close()
	body, _ := io.ReadAll(r.Body)
	text := string(body)
	if strings.HasPrefix(r.Header.Get("Content-Type"), "text/html") {
		text = folded.Replace(text)
	}
	return r.StatusCode, text, r.Request.URL.Path
}

// folded reads a page as a browser does: between elements the line ends of a template mean
// nothing, within a sentence they are spaces.
var folded = strings.NewReplacer(">\n", ">", "\n<", "<", "\n", " ")

func (b *browser) get(path string) (int, string) {
	b.t.Helper()
	code, body, _ := b.read(b.c.Get(b.srv.URL + path))
	return code, body
}

var hidden = regexp.MustCompile(`name="(csrf|key|version)" value="([^"]*)"`)

// fill takes the hidden fields of a page and adds what is typed.
func (b *browser) fill(page string, kv ...string) url.Values {
	b.t.Helper()
	code, body := b.get(page)
	if code != 200 {
		b.t.Fatalf("%s: %d", page, code)
	}
	v := url.Values{}
	for _, m := range hidden.FindAllStringSubmatch(body, -1) {
		v.Set(m[1], m[2])
	}
	for i := 0; i+1 < len(kv); i += 2 {
		v.Set(kv[i], kv[i+1])
	}
	return v
}

func (b *browser) post(path string, v url.Values) (int, string, string) {
	b.t.Helper()
	return b.read(b.c.PostForm(b.srv.URL+path, v))
}

func (b *browser) upload(path string, v url.Values, field, name string, data []byte) (int, string, string) {
	b.t.Helper()
	var buf bytes.Buffer
	w := multipart.NewWriter(&buf)
	for k, x := range v {
		_ = w.WriteField(k, x[0])
	}
	f, _ := w.CreateFormFile(field, name)
	_, _ = f.Write(data)
	w.Close()
	return b.read(b.c.Post(b.srv.URL+path, w.FormDataContentType(), &buf))
}

func newCar(b *browser) url.Values {
	return b.fill("/cases/new", "plate", "SQ 1", "make", "Ostrel", "model", "Hod", "year", "2019", "odometer", "1000", "tank", "50 L",
		"archetype", "engine-vacuum", "metering", "maf", "complaint", "lamp on", "codes", "P0456")
}

func TestEveryPageOfTheDemoShop(t *testing.T) {
	if testing.Short() {
		t.Skip("one reader after another: nothing for the race detector")
	}
	b := start(t, true)
	rows, err := b.shop.Slate(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	pages := []string{"/", "/record", "/cases/new", "/book"}
	for _, x := range b.shop.Book.Tests {
		pages = append(pages, "/book/test/"+x.Key)
	}
	for _, r := range rows {
		c := "/cases/" + r.Case.ID
		pages = append(pages, c, c+"/edit", c+"/found", c+"/repair", c+"/proof", c+"/report", c+"/report.pdf", c+"/bundle.json", c+"/map", c+"/map?at=rest", c+"/map.svg", c+"/values", c+"?part=tank")
		f, _ := b.shop.Load(context.Background(), r.Case.ID)
		for _, x := range f.Tests {
			pages = append(pages, "/tests/"+x.ID, "/tests/"+x.ID+"/map", "/tests/"+x.ID+"/map?part=cap")
			for _, run := range x.Runs {
				pages = append(pages, "/runs/"+run.ID+"/readings.csv", "/tests/"+x.ID+"?leg="+run.ID)
			}
		}
	}
	for _, p := range pages {
		code, body := b.get(p)
		if code != 200 || len(body) < 100 {
			t.Errorf("%s: %d, %d bytes", p, code, len(body))
		}
		if strings.HasSuffix(p, ".pdf") && !strings.HasPrefix(body, "%PDF-") {
			t.Errorf("%s is no PDF", p)
		}
		if strings.Contains(body, "<script>") || strings.Contains(body, " onclick=") || strings.Contains(body, " style=") {
			t.Errorf("%s holds inline script or style", p)
		}
	}
	for _, p := range []string{"/cases/none", "/tests/none", "/runs/none/readings.csv", "/photos/none", "/nowhere"} {
		if code, body := b.get(p); code != 404 || !strings.Contains(body, "problem") {
			t.Errorf("%s: %d", p, code)
		}
	}
}

func TestSecurity(t *testing.T) {
	b := start(t, false)
	r, err := b.c.Get(b.srv.URL + "/")
	if err != nil {
		t.Fatal(err)
	}
	r.Body.Close()
	csp := r.Header.Get("Content-Security-Policy")
	for _, want := range []string{"default-src 'none'", "script-src 'self'", "style-src 'self'", "frame-ancestors 'none'"} {
		if !strings.Contains(csp, want) || strings.Contains(csp, "unsafe") {
			t.Errorf("the content policy is %q", csp)
		}
	}
	// A name elsewhere that points here gets nothing.
	req, _ := http.NewRequest("GET", b.srv.URL+"/", nil)
	req.Host = "shop.example:80"
	if code, body, _ := b.read(b.c.Do(req)); code != http.StatusMisdirectedRequest || strings.Contains(body, "No cars in the shop") {
		t.Errorf("another host gets %d", code)
	}
	// No token, wrong token, another origin: refused, nothing saved.
	v := newCar(b)
	v.Set("csrf", "")
	if code, _, _ := b.post("/cases", v); code < 400 {
		t.Errorf("without a token: %d", code)
	}
	v = newCar(b)
	req, _ = http.NewRequest("POST", b.srv.URL+"/cases", strings.NewReader(v.Encode()))
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	req.Header.Set("Origin", "http://elsewhere.example")
	if code, _, _ := b.read(b.c.Do(req)); code != 403 {
		t.Errorf("from another origin: %d", code)
	}
	if rows, _ := b.shop.Slate(context.Background()); len(rows) != 0 {
		t.Errorf("%d cases were saved", len(rows))
	}
	if !web.Loopback("127.0.0.1:80") || !web.Loopback("[::1]:80") || !web.Loopback("localhost") || web.Loopback("10.0.0.1:80") || web.Loopback("localhost.evil:80") || web.Loopback(":8080") {
		t.Error("loopback is judged wrong")
	}
}

func TestAPlateWithAScriptIsText(t *testing.T) {
	b := start(t, false)
	v := newCar(b)
	v.Set("plate", "<script>x</script>")
	v.Set("complaint", `"><img src=x onerror=alert(1)>`)
	code, body, _ := b.post("/cases", v)
	if code != 200 || strings.Contains(body, "<script>x") || strings.Contains(body, "<img src=x") || !strings.Contains(body, "&lt;script&gt;x") {
		t.Errorf("%d: not escaped", code)
	}
}

func TestARefusedFormKeepsEveryWord(t *testing.T) {
	b := start(t, false)
	v := newCar(b)
	v.Set("tank", "50 furlong")
	v.Set("recent_work", "only on Tuesdays")
	code, body, _ := b.post("/cases", v)
	if code != 422 || !strings.Contains(body, "not a unit of volume") || !strings.Contains(body, "only on Tuesdays") || !strings.Contains(body, "50 furlong") {
		t.Errorf("%d", code)
	}
}

func TestDoubleClickAndBack(t *testing.T) {
	b := start(t, false)
	v := newCar(b)
	_, _, one := b.post("/cases", v)
	_, _, two := b.post("/cases", v) // the same form, its key unchanged
	if one != two || !strings.HasPrefix(one, "/cases/") {
		t.Errorf("%s and %s", one, two)
	}
	// Back after closing: the old form of a closed case is refused with a sentence.
	codes := b.fill(one, "codes", "P0442", "status", "stored")
	if err := b.shop.Close(context.Background(), "", strings.TrimPrefix(one, "/cases/"), "sold"); err != nil {
		t.Fatal(err)
	}
	code, body, _ := b.post(one+"/codes", codes)
	if code != 422 || !strings.Contains(body, "is closed; open a new one") {
		t.Errorf("%d", code)
	}
}

// All forms of a page share its key. On a page reached with Back, another form, or the same
// form with other words, must still be saved; the same words again must not.
func TestAnOldPageLosesNothing(t *testing.T) {
	b := start(t, false)
	_, _, at := b.post("/cases", newCar(b))
	page := b.fill(at)
	send := func(path string, kv ...string) {
		t.Helper()
		v := url.Values{"csrf": page["csrf"], "key": page["key"]}
		for i := 0; i+1 < len(kv); i += 2 {
			v.Set(kv[i], kv[i+1])
		}
		if code, _, _ := b.post(at+path, v); code != 200 {
			t.Fatalf("%s: %d", path, code)
		}
	}
	for range 2 {
		send("/codes", "codes", "P0442", "status", "stored")
		send("/codes", "codes", "P0442", "status", "pending")
		send("/monitors", "monitors", "incomplete")
		send("/trial", "how", "drove", "minutes", "10", "result", "gone")
		send("/trial", "how", "drove again", "minutes", "10", "result", "gone")
	}
	f, err := b.shop.Load(context.Background(), strings.TrimPrefix(at, "/cases/"))
	if err != nil {
		t.Fatal(err)
	}
	if len(f.Codes) != 3 || f.Case.Monitors != "incomplete" || len(f.Trials) != 2 {
		t.Errorf("%d codes, monitors %q, %d trials", len(f.Codes), f.Case.Monitors, len(f.Trials))
	}
}

func TestTheSecondTabIsShownTheDifference(t *testing.T) {
	b := start(t, false)
	_, _, at := b.post("/cases", newCar(b))
	one := b.fill(at+"/edit", "complaint", "theirs", "circumstances", "", "recent_work", "", "deadline", "")
	two := b.fill(at+"/edit", "complaint", "mine", "circumstances", "", "recent_work", "", "deadline", "")
	b.post(at+"/edit", one)
	code, body, _ := b.post(at+"/edit", two)
	if code != 409 || !strings.Contains(body, "Saved by another screen") || !strings.Contains(body, "theirs") || !strings.Contains(body, "mine") {
		t.Fatalf("%d", code)
	}
	for _, m := range hidden.FindAllStringSubmatch(body, -1) {
		two.Set(m[1], m[2])
	}
	if code, body, _ := b.post(at+"/edit", two); code != 200 || !strings.Contains(body, "mine") {
		t.Errorf("saving again after seeing the difference: %d", code)
	}
}

// bench opens a case and a test and returns the test's path.
func (b *browser) bench() string {
	b.t.Helper()
	_, _, at := b.post("/cases", newCar(b))
	_, _, test := b.post(at+"/tests", b.fill(at))
	if !strings.HasPrefix(test, "/tests/") {
		b.t.Fatalf("no bench at %s", test)
	}
	return test
}

func TestBadLogs(t *testing.T) {
	b := start(t, false)
	test := b.bench()
	for _, c := range []struct{ name, data, say string }{
		{"x.csv", "%PDF-1.7 …", "PDF document"},
		{"x.csv", "time,rpm\n0,1\n1,2\n", "no pressure column"},
		{"x.csv", "time,pressure_Pa\n0,1\n1,oops\n", "line 3, column 2"},
		{"x.csv", "time,pressure_Pa\n0,1\n1,NaN\n", "line 3: no number"},
		{"x.csv", "time,pressure_Pa\n3,1\n1,2\n", "time runs backwards"},
		{"x.csv", "time,pressure_Pa\n", "0 reading(s)"},
		{"x.csv", "time,pressure_Pa\n0,1\n1;2\n", "1 columns, the header has 2"},
	} {
		t.Run(c.name, func(t *testing.T) {
			code, body, _ := b.upload(test+"/legs", b.fill(test, "kind", "hold"), "csv", c.name, []byte(c.data))
			if code != 422 || !strings.Contains(body, c.say) {
				t.Errorf("%q: %d, want a sentence with %q", c.data, code, c.say)
			}
		})
	}
	if code, body, _ := b.post(test+"/legs", b.fill(test, "kind", "hold")); code != 422 || !strings.Contains(body, "Choose a CSV file") {
		t.Errorf("nothing chosen: %d", code)
	}
	// A file without a unit is asked for it and kept.
	code, body, _ := b.upload(test+"/legs", b.fill(test, "kind", "hold"), "csv", "u.csv", []byte("time,pressure\n0,13\n1,12\n"))
	if code != 422 || !strings.Contains(body, "has no unit") || !strings.Contains(body, `name="kept"`) {
		t.Errorf("%d: the unit is not asked", code)
	}
	if code, body, _ := b.post(test+"/legs", b.fill(test, "kind", "hold", "kept", "time,pressure\n0,13\n1,12\n", "kept_as", "u.csv", "unit", "inH2O")); code != 200 || !strings.Contains(body, "u.csv") {
		t.Errorf("the kept file with its unit: %d", code)
	}
	// kPa where inH2O is meant: asked, not swallowed.
	code, body, _ = b.upload(test+"/legs", b.fill(test, "kind", "hold"), "csv", "k.csv", []byte("time,pressure_kPa\n0,13\n1,12.9\n2,12.8\n"))
	if code != 422 || !strings.Contains(body, "Is the unit kPa right?") || !strings.Contains(body, `name="sure"`) {
		t.Errorf("13 kPa in a tank: %d", code)
	}
}

func TestPhotos(t *testing.T) {
	b := start(t, false)
	_, _, at := b.post("/cases", newCar(b))
	form := func() url.Values {
		return b.fill(at+"/found", "part", "cap", "place", "", "how", "cracked seal", "by", "word")
	}
	// A 16 MB photo is refused, and what is sent is heard out so that the sentence is seen.
	code, body, _ := b.upload(at+"/found", form(), "photo", "big.jpg", append([]byte{0xff, 0xd8, 0xff}, make([]byte, 16<<20)...))
	if code != http.StatusRequestEntityTooLarge || !strings.Contains(body, "nothing was saved") {
		t.Errorf("16 MB: %d", code)
	}
	// A picture bomb says 60000 × 60000 in a few bytes: its header is looked at first.
	var small bytes.Buffer
	_ = png.Encode(&small, image.NewGray(image.Rect(0, 0, 4, 4)))
	bomb := append([]byte(nil), small.Bytes()...)
	copy(bomb[16:24], []byte{0, 0, 0xea, 0x60, 0, 0, 0xea, 0x60})
	for name, data := range map[string][]byte{"bomb": bomb, "text": []byte("no photo"), "half": small.Bytes()[:40]} {
		t.Run(name, func(t *testing.T) {
			if code, body, _ := b.upload(at+"/found", form(), "photo", "x.png", data); code != 422 || !strings.Contains(body, "Photo: ") || !strings.Contains(body, "cracked seal") {
				t.Errorf("%s: %d", name, code)
			}
		})
	}
	if code, _, where := b.upload(at+"/found", form(), "photo", "x.png", small.Bytes()); code != 200 || where != at {
		t.Errorf("a good photo: %d at %s", code, where)
	}
	_, body = b.get(at + "/found")
	m := regexp.MustCompile(`/photos/[0-9a-f]{64}`).FindString(body)
	if code, _ := b.get(m); code != 200 || m == "" {
		t.Errorf("photo %q: %d", m, code)
	}
}

func TestAFormThatIsTooLarge(t *testing.T) {
	b := start(t, false)
	v := newCar(b)
	v.Set("complaint", strings.Repeat("x", 2<<20))
	if code, body, _ := b.post("/cases", v); code != http.StatusRequestEntityTooLarge || !strings.Contains(body, "larger than 1 MB") {
		t.Errorf("%d", code)
	}
}

func TestImportOverTheWeb(t *testing.T) {
	b := start(t, true)
	rows, _ := b.shop.Slate(context.Background())
	_, bundle := b.get("/cases/" + rows[0].Case.ID + "/bundle.json")
	other := start(t, false)
	if code, body, at := other.upload("/import", other.fill("/"), "bundle", "c.json", []byte(bundle)); code != 200 || !strings.HasPrefix(at, "/cases/") {
		t.Errorf("%d %s", code, body[:min(len(body), 200)])
	}
	if code, body, _ := other.upload("/import", other.fill("/"), "bundle", "c.json", []byte(strings.Replace(bundle, report.Schema, "wexter-case/99", 1))); code != 422 || !strings.Contains(body, "newer Wexter") {
		t.Errorf("a newer schema: %d", code)
	}
}

// BenchmarkPages asks for pages of a shop with 20 000 cases and 200 000 tests.
func BenchmarkPages(b *testing.B) {
	path := filepath.Join(b.TempDir(), "shop.db")
	db, err := store.Open(path)
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	raw, err := sql.Open("sqlite", path) // to fill in faster than people do
	if err != nil {
		b.Fatal(err)
	}
	defer raw.Close()
	s := &casework.Shop{DB: db, Book: ingest.Book(), Now: time.Now}
	if err := demo.Fill(context.Background(), s); err != nil {
		b.Fatal(err)
	}
	for _, statement := range []string{
		`WITH RECURSIVE n(i) AS (SELECT 1000 UNION ALL SELECT i+1 FROM n WHERE i < 20999)
		 INSERT INTO cases(id, number, vehicle_id, stage, complaint, circumstances, recent_work, deadline, wait_kind, wait_note, monitors, outcome, reason, opened_at, closed_at, version)
		 SELECT 'c'||i, 'SQ-'||i, (SELECT id FROM vehicles LIMIT 1), 'closed', 'lamp', '', '', '', '', '', '', 'unproven', 'old',
		 '2020-01-01 00:00:00+00:00', datetime('2020-01-01', i||' minutes')||'+00:00', 1 FROM n`,
		`WITH RECURSIVE n(i) AS (SELECT 0 UNION ALL SELECT i+1 FROM n WHERE i < 199999)
		 INSERT INTO tests(id, case_id, repeat_of, setup, rules, outcome, problem, result, at, version) SELECT 't'||i, 'c'||(1000+i/10), '', '{}', '', 'within_limit', '', '', '2020-01-01 00:00:00+00:00', 1 FROM n`,
	} {
		if _, err := raw.Exec(statement); err != nil {
			b.Fatal(err)
		}
	}
	hub := live.New(s, dial)
	h, err := web.New(s, hub, patient, nil)
	if err != nil {
		b.Fatal(err)
	}
	rows, err := s.Slate(context.Background())
	if err != nil {
		b.Fatal(err)
	}
	f, _ := s.Load(context.Background(), rows[0].Case.ID)
	for name, path := range map[string]string{"slate": "/", "record": "/record", "record-400": "/record?before=c1050", "case": "/cases/" + f.Case.ID, "bench": "/tests/" + f.Tests[0].ID} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				r := httptest.NewRecorder()
				h.ServeHTTP(r, httptest.NewRequest("GET", "http://127.0.0.1"+path, nil))
				if r.Code != 200 {
					b.Fatal(r.Code)
				}
			}
		})
	}
}

// The assets' addresses change with what is in them; those of another build are not here.
func TestAssetsAreNamedByTheirContents(t *testing.T) {
	b := start(t, false)
	_, body := b.get("/")
	names := regexp.MustCompile(`/static/([0-9a-f]{12})/(\w+\.(?:js|css))`).FindAllStringSubmatch(body, -1)
	if len(names) < 3 {
		t.Fatalf("assets on the page: %v", names)
	}
	for _, n := range names {
		r, err := b.c.Get(b.srv.URL + n[0])
		if err != nil {
			t.Fatal(err)
		}
		r.Body.Close()
		if r.StatusCode != 200 || !strings.Contains(r.Header.Get("Cache-Control"), "immutable") {
			t.Errorf("%s: %d %s", n[0], r.StatusCode, r.Header.Get("Cache-Control"))
		}
	}
	for _, path := range []string{"/static/app.css", "/static/000000000000/app.css", "/static/" + names[0][1] + "/none.js", "/static/" + names[0][1] + "/", "/static/" + names[0][1] + "/fonts/"} {
		r, err := b.c.Get(b.srv.URL + path)
		if err != nil {
			t.Fatal(err)
		}
		r.Body.Close()
		if r.StatusCode != 404 || r.StatusCode == 404 && strings.Contains(r.Header.Get("Cache-Control"), "immutable") && path != "/static/"+names[0][1]+"/none.js" {
			t.Errorf("%s: %d %s", path, r.StatusCode, r.Header.Get("Cache-Control"))
		}
	}
}

// The hint under a field takes what the form takes.
func TestTheHintIsTheServers(t *testing.T) {
	b := start(t, false)
	for _, c := range []struct{ query, want string }{
		{"kind=pressure&bare=inH2O&text=24+mmHg", `{"beside":"12.8 inH2O"}`},
		{"kind=temperature&bare=%C2%B0C&text=300+K", `{"beside":"26.9 °C"}`},
		{"kind=pressure&bare=inH2O&text=13+furlongs", "is not a unit of pressure"},
		{"kind=pressure&bare=rope&text=13", "has no unit"},
	} {
		t.Run(c.query, func(t *testing.T) {
			if code, body := b.get("/second?" + c.query); code != 200 || !strings.Contains(body, c.want) {
				t.Errorf("%d %s", code, body)
			}
		})
	}
	if code, _ := b.get("/second?kind=love&text=13"); code != 404 {
		t.Errorf("a kind that is none: %d", code)
	}
	if _, body := b.get("/book/orifice"); !strings.Contains(body, `x-text="beside">`) {
		t.Error("a calculator's fields have no hint")
	}
}

// Photos of a megabyte and more go wherever a form has room for one.
func TestPhotoLimits(t *testing.T) {
	b := start(t, false)
	_, _, at := b.post("/cases", newCar(b))
	noise := image.NewRGBA(image.Rect(0, 0, 700, 700))
	_, _ = rand.NewChaCha8([32]byte{1}).Read(noise.Pix)
	var photo bytes.Buffer
	if err := png.Encode(&photo, noise); err != nil {
		t.Fatal(err)
	}
	if photo.Len() < 1400<<10 {
		t.Fatalf("%d bytes only", photo.Len())
	}
	for _, path := range []string{"/opened", "/notes", "/found", "/corrections", "/cards"} {
		t.Run(path, func(t *testing.T) {
			if code, body, _ := b.upload(at+path, b.fill(at, "words", "a photo"), "photo", "x.png", photo.Bytes()); code == 413 || code >= 500 || strings.Contains(body, "larger than") {
				t.Errorf("%d", code)
			}
		})
	}
	if code, _, _ := b.upload(at+"/codes", b.fill(at), "photo", "x.png", photo.Bytes()); code != 413 {
		t.Errorf("a form that takes no photo took one: %d", code)
	}
}

// The token of a form counts in the form and in a header, and nowhere else.
func TestTokenCountsInFormAndHeaderOnly(t *testing.T) {
	b := start(t, false)
	v := newCar(b)
	token := v.Get("csrf")
	v.Del("csrf")
	send := func(address, header string) int {
		r, err := http.NewRequest(http.MethodPost, b.srv.URL+address, strings.NewReader(v.Encode()))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		if header != "" {
			r.Header.Set("X-CSRF-Token", header)
		}
		code, _, _ := b.read(b.c.Do(r))
		return code
	}
	if code := send("/cases?csrf="+url.QueryEscape(token), ""); code != http.StatusForbidden {
		t.Errorf("a token in the address: %d", code)
	}
	if code := send("/cases", ""); code != http.StatusForbidden && code != http.StatusBadRequest {
		t.Errorf("no token: %d", code)
	}
	if rows, err := b.shop.Slate(context.Background()); err != nil || len(rows) != 0 {
		t.Errorf("%d cases were made of refused forms, %v", len(rows), err)
	}
	if code := send("/cases", token); code != http.StatusOK {
		t.Errorf("a token in the header: %d", code)
	}
}

// A refusal stands in the log once, with its reason.
func TestRefusalsAreLoggedOnce(t *testing.T) {
	var log bytes.Buffer
	before := slog.Default()
	slog.SetDefault(slog.New(slog.NewTextHandler(&log, nil)))
	defer slog.SetDefault(before)
	b := start(t, false)
	v := newCar(b)
	v.Set("plate", "")
	if code, _, _ := b.post("/cases", v); code != http.StatusUnprocessableEntity {
		t.Fatalf("no plate: %d", code)
	}
	v.Set("csrf", "made up")
	if code, _, _ := b.post("/cases", v); code != http.StatusForbidden {
		t.Fatalf("a token made up: %d", code)
	}
	for status, reason := range map[string]string{"status=422": "plate", "status=403": "too old to send"} {
		if n := strings.Count(log.String(), status); n != 1 || !strings.Contains(log.String(), reason) {
			t.Errorf("%s stands %d times in the log, want once with %q: %s", status, n, reason, log.String())
		}
	}
}

// While another program keeps the shop's file locked, a form gets a sentence, and its
// words stay.
func TestLockedFileGetsASentence(t *testing.T) {
	b := start(t, false)
	v := newCar(b)
	other, err := sql.Open("sqlite", "file:"+b.path)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	other.SetMaxOpenConns(1)
	if _, err := other.Exec("BEGIN EXCLUSIVE"); err != nil {
		t.Fatal(err)
	}
	if code, body, _ := b.post("/cases", v); code != http.StatusServiceUnavailable || !strings.Contains(body, "keeps the shop&#39;s file locked") {
		t.Errorf("locked: %d, %q", code, body)
	}
	if _, err := other.Exec("ROLLBACK"); err != nil {
		t.Fatal(err)
	}
	if code, _, _ := b.post("/cases", v); code != http.StatusOK {
		t.Errorf("after it was freed: %d", code)
	}
}
