package web_test

import (
	"context"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"testing"
	"time"
)

// sendNote writes a note on a case and returns the page that follows, with its address.
func (b *browser) sendNote(at, words string) (page string, done *http.Cookie) {
	b.t.Helper()
	b.c.CheckRedirect = func(r *http.Request, _ []*http.Request) error {
		for _, c := range r.Response.Cookies() {
			if c.Name == "done" {
				done = c
			}
		}
		return nil
	}
	defer func() { b.c.CheckRedirect = nil }()
	code, page, _ := b.post(at+"/notes", b.fill(at, "kind", "note", "words", words))
	if code != 200 {
		b.t.Fatalf("the note is not taken: %d", code)
	}
	return page, done
}

// What was saved can be taken back for a minute, by one press; later the page says nothing
// of it. An address that was made up says nothing either.
func TestUndoForAMinute(t *testing.T) {
	b := start(t, false)
	now := time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
	b.shop.Now = func() time.Time { return now }
	_, _, at := b.post("/cases", newCar(b))
	u, _ := url.Parse(b.srv.URL)
	page, done := b.sendNote(at, "hose chafed")
	if !strings.Contains(page, "Saved: Note.") || !strings.Contains(page, ">Undo</button>") {
		t.Fatal("the page does not offer to undo the note")
	}
	for _, c := range []struct {
		name  string
		after time.Duration
		key   string
		want  bool
	}{
		{"59 s later", 59 * time.Second, done.Value, true},
		{"61 s later", 61 * time.Second, done.Value, false},
		{"a clock that was set back an hour", -time.Hour, done.Value, false},
		{"a made-up key", 0, strings.Repeat("0", 64), false},
		{"said once already", 0, "", false},
	} {
		t.Run(c.name, func(t *testing.T) {
			now = time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC).Add(c.after)
			if c.key != "" {
				b.c.Jar.SetCookies(u, []*http.Cookie{{Name: "done", Value: c.key, Path: "/"}})
			}
			if _, page := b.get(at); strings.Contains(page, ">Undo</button>") != c.want {
				t.Errorf("undo is offered: %v, want %v", !c.want, c.want)
			}
		})
	}
}

// Another screen is told what was changed and by which screen; what a cookie says is kept to
// letters, digits and 24 of them.
func TestAnotherScreenIsTold(t *testing.T) {
	for _, c := range []struct{ cookie, want string }{
		{"bay%202", "(bay 2)"},
		{"", "(another screen)"},
		{"%3Cscript%3E", "(script)"},
		{strings.Repeat("x", 25), "(another screen)"},
		{"%zz", "(another screen)"},
	} {
		t.Run(c.cookie, func(t *testing.T) {
			b := start(t, false)
			_, _, at := b.post("/cases", newCar(b))
			u, _ := url.Parse(b.srv.URL)
			if c.cookie != "" {
				b.c.Jar.SetCookies(u, []*http.Cookie{{Name: "screen", Value: c.cookie}})
			}
			before, err := b.shop.CaseVersion(context.Background(), strings.TrimPrefix(at, "/cases/"))
			if err != nil {
				t.Fatal(err)
			}
			b.sendNote(at, "hose chafed")
			if _, body := b.get(at + "/pulse?from=" + strconv.Itoa(before)); !strings.Contains(body, "Note "+c.want) {
				t.Errorf("the other screen is told %s, want %s", body, c.want)
			}
			if _, body := b.get(at + "/pulse?from=" + strconv.Itoa(before+1)); strings.Contains(body, "said") {
				t.Errorf("what it knows is told again: %s", body)
			}
		})
	}
}

// Two people change the set-up of one test: the second is shown both versions, field by
// field, and saves on purpose.
func TestTheSecondSetupIsShownTheDifference(t *testing.T) {
	b := start(t, false)
	at := b.bench()
	one := b.fill(at, "limit", "0.5 mm", "barometer", "1013 hPa", "temperature", "20 °C", "tank", "50 L", "level", "40", "tolerance", "8", "gauge", "module 1", "volume_how", "level")
	two := b.fill(at, "limit", "1.0 mm", "barometer", "1013 hPa", "temperature", "20 °C", "tank", "60 L", "level", "40", "tolerance", "8", "gauge", "U-tube", "volume_how", "level")
	if code, _, _ := b.post(at+"/setup", one); code != 200 {
		t.Fatalf("the first: %d", code)
	}
	code, body, _ := b.post(at+"/setup", two)
	if code != 409 {
		t.Fatalf("the second: %d, want 409", code)
	}
	for _, want := range []string{`<td>module 1</td><td>U-tube</td>`, `<td>50</td><td>60 L</td>`} {
		if !strings.Contains(body, want) {
			t.Errorf("the page does not show %s side by side", want)
		}
	}
	for _, m := range hidden.FindAllStringSubmatch(body, -1) {
		two.Set(m[1], m[2])
	}
	if code, body, _ := b.post(at+"/setup", two); code != 200 || !strings.Contains(body, `value="U-tube"`) {
		t.Errorf("saving again after seeing the difference: %d", code)
	}
}
