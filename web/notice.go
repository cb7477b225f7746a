package web

import (
	"context"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"

	"github.com/labstack/echo/v5"

	"wexter/core/record"
)

// undoFor is how long a page offers to take back what has just been saved. Later it is
// struck out on the Strip.
const undoFor = time.Minute

// notice is what a page says of what was saved on the way to it.
type notice struct {
	Says string
	Case string           // with an entry: of which case
	Kind record.EntryKind // empty: cannot be taken back by one press
	ID   string
	Back bool // it was struck out: the press puts it back
}

// saved leads on after a form was taken: the page that follows says what was saved, and
// other screens that show the case are told.
func (s *server) saved(c *echo.Context, key, to string) error {
	if id := s.caseBehind(c.Request().Context(), to); id != "" {
		made, _, err := s.shop.Made(c.Request().Context(), key)
		v, verr := s.shop.CaseVersion(c.Request().Context(), id)
		if err == nil && verr == nil {
			s.news.add(id, change{v, made, screenOf(c.Request())})
		}
	}
	if key != "" {
		c.SetCookie(doneCookie(key, int(undoFor.Seconds())))
	}
	return c.Redirect(http.StatusSeeOther, to)
}

// doneCookie tells the next page which form led to it. A cookie keeps the key out of the
// URL, which is copied, bookmarked and reloaded.
func doneCookie(key string, seconds int) *http.Cookie {
	return &http.Cookie{Name: "done", Value: key, Path: "/", MaxAge: seconds, HttpOnly: true, SameSite: http.SameSiteStrictMode}
}

// caseBehind is the case that an address of the program belongs to; empty for none.
func (s *server) caseBehind(ctx context.Context, to string) string {
	p := strings.SplitN(strings.TrimPrefix(strings.SplitN(to, "?", 2)[0], "/"), "/", 3)
	if len(p) < 2 {
		return ""
	}
	switch p[0] {
	case "cases":
		return strings.SplitN(p[1], "#", 2)[0]
	case "tests":
		id, _ := s.shop.TestCase(ctx, p[1])
		return id
	case "scans":
		id, _ := s.shop.ScanCase(ctx, p[1])
		return id
	}
	return ""
}

// notice is what a page says of the form that led to it; nil when none did, or when that
// was more than a minute ago.
func (s *server) notice(c *echo.Context) *notice {
	k, err := c.Request().Cookie("done")
	if err != nil {
		return nil
	}
	c.SetCookie(doneCookie("", -1)) // said once
	ctx := c.Request().Context()
	made, at, err := s.shop.Made(ctx, k.Value)
	if age := s.shop.Now().Sub(at); err != nil || age > undoFor || age < -undoFor {
		return nil
	}
	n := &notice{Says: "Saved."}
	id := s.caseBehind(ctx, c.Request().URL.Path)
	if id == "" || made == "" {
		return n
	}
	says := s.named(ctx, id)
	if e, ok := says[made]; ok {
		n.Says, n.Case, n.Kind, n.ID, n.Back = "Saved: "+e.What+".", id, e.Kind, e.ID, e.Struck
		if e.Struck {
			n.Says = "Struck out: " + e.What + "."
		}
	}
	return n
}

// named is the Strip of a case by the ids of its entries.
func (s *server) named(ctx context.Context, id string) map[string]entry {
	f, err := s.shop.Load(ctx, id)
	if err != nil {
		return nil
	}
	b, err := s.shop.BookOf(ctx)
	if err != nil {
		return nil
	}
	out := map[string]entry{}
	for _, e := range s.strip(b, f) {
		if e.ID != "" {
			out[e.ID] = e
		}
	}
	return out
}

// change is what one screen saved on a case.
type change struct {
	version int    // of the case after it
	made    string // id of what was made
	screen  string
}

// news keeps the last changes of the cases that are worked on, for the other screens.
type news struct {
	mu sync.Mutex
	of map[string][]change
}

// How many changes are kept of a case, and of how many cases: a screen asks every two
// seconds.
const (
	newsOfCase = 8
	newsCases  = 400
)

func (n *news) add(id string, x change) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.of == nil || len(n.of) >= newsCases && n.of[id] == nil {
		n.of = map[string][]change{}
	}
	list := append(n.of[id], x)
	n.of[id] = list[max(0, len(list)-newsOfCase):]
}

func (n *news) since(id string, version int) []change {
	n.mu.Lock()
	defer n.mu.Unlock()
	return slices.DeleteFunc(slices.Clone(n.of[id]), func(x change) bool { return x.version <= version })
}

// told says what other screens changed on a case since a version.
func (s *server) told(ctx context.Context, id string, version int) []string {
	list := s.news.since(id, version)
	if len(list) == 0 {
		return nil
	}
	names, said := s.named(ctx, id), map[string]bool{}
	for _, x := range list {
		what := "the case"
		if e, ok := names[x.made]; ok {
			if what = e.What; e.Struck {
				what += ", struck out"
			}
		}
		said[what+" ("+x.screen+")"] = true
	}
	return slices.Sorted(maps.Keys(said))
}

// mostScreen is the longest name of a screen, in letters.
const mostScreen = 24

// screenOf is what the screen that sent a request calls itself: a word its browser keeps
// in a cookie. It names a place in the shop and proves nothing.
func screenOf(r *http.Request) string {
	c, err := r.Cookie("screen")
	if err != nil {
		return "another screen"
	}
	raw, err := url.QueryUnescape(c.Value)
	if err != nil {
		return "another screen"
	}
	name := strings.Map(func(x rune) rune {
		if unicode.IsLetter(x) || unicode.IsDigit(x) || x == ' ' || x == '-' {
			return x
		}
		return -1
	}, raw)
	if name = strings.TrimSpace(name); name == "" || len([]rune(name)) > mostScreen {
		return "another screen"
	}
	return name
}

// alive answers pages that ask whether the program is still there.
func (s *server) alive(c *echo.Context) error {
	c.Response().Header().Set("Cache-Control", "no-store")
	return c.NoContent(http.StatusNoContent)
}
