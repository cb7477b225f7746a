// Package web serves the shop to a browser: one handler per action, HTML made on the
// server, a content policy that forbids inline script, and nothing that needs a
// network beyond the shop's own computer.
package web

import (
	"bytes"
	"context"
	"crypto/rand"
	"embed"
	"encoding/hex"
	"errors"
	"fmt"
	"html/template"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"wexter/casework"
	"wexter/instrument"
	"wexter/live"
	"wexter/store"
)

//go:embed templates/*.html
var templateFiles embed.FS

type server struct {
	shop  *casework.Shop
	hub   *live.Hub
	reach instrument.Dialer
	jobs  jobs
	views map[string]*template.Template
	build string // of the assets: part of their addresses

	streams carStreams
	news    news
	demoCar DemoCar
}

// DemoCar opens the case of a stand-in car with its simulated instruments, or finds the one
// that is open, and returns its id; key is that of the form.
type DemoCar func(ctx context.Context, key string) (string, error)

// within is how long a request may wait for an instrument.
func (s *server) within(usual time.Duration) time.Duration { return max(usual, s.reach.Patience) }

// New returns the application on a shop and its live benches; reach is how it gets at
// scan adapters. demoCar may be nil: no demo car is offered then.
func New(shop *casework.Shop, hub *live.Hub, reach instrument.Dialer, demoCar DemoCar) (http.Handler, error) {
	s := &server{shop: shop, hub: hub, reach: reach, demoCar: demoCar, jobs: jobs{list: map[string]*job{}}}
	var err error
	if s.build, err = assetBuild(); err != nil {
		return nil, err
	}
	if err := s.parse(); err != nil {
		return nil, err
	}
	e := echo.New()
	e.HTTPErrorHandler = s.fail
	// Pages with a Map shrink to a fifth. Streams must flow, photos and fonts are packed already.
	packed := middleware.GzipWithConfig(middleware.GzipConfig{Level: 1, MinLength: 4 << 10, Skipper: func(c *echo.Context) bool {
		p := c.Request().URL.Path
		return strings.HasSuffix(p, "/stream") || strings.HasPrefix(p, "/photos/") || strings.HasSuffix(p, ".woff2") || strings.HasSuffix(p, ".pdf")
	}})
	e.Use(middleware.Recover(), packed, hostCheck, headers, tokenPlace, s.limitBody(),
		middleware.CSRFWithConfig(middleware.CSRFConfig{TokenLookup: "header:X-CSRF-Token,form:csrf", CookieName: "csrf", CookiePath: "/",
			CookieHTTPOnly: true, CookieSameSite: http.SameSiteStrictMode, ContextKey: "csrf"}))

	if err := s.serveAssets(e); err != nil {
		return nil, err
	}
	for _, r := range s.routes() {
		e.Add(r.method, r.path, r.do)
	}
	return e, nil
}

// hostCheck answers only to loopback names: a page elsewhere that points its own
// name at this computer gets nothing.
func hostCheck(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		if !Loopback(r.Host) {
			return echo.NewHTTPError(http.StatusMisdirectedRequest, "Wexter answers on this computer only: use 127.0.0.1 or localhost")
		}
		if o := r.Header.Get("Origin"); o != "" && r.Method != http.MethodGet {
			u, err := url.Parse(o)
			if err != nil || u.Host != r.Host {
				return echo.NewHTTPError(http.StatusForbidden, "this form was sent from another page")
			}
		}
		return next(c)
	}
}

// tokenPlace refuses a token in the address: addresses end up in histories and logs, and
// the library below would take it from there.
func tokenPlace(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if r := c.Request(); r.Method != http.MethodGet && r.Method != http.MethodHead && r.URL.Query().Has("csrf") {
			return echo.NewHTTPError(http.StatusForbidden, "the token of a form does not belong in its address")
		}
		return next(c)
	}
}

// refused logs a refusal once, with its reason.
func refused(c *echo.Context, code int, reason string) {
	switch code {
	case http.StatusForbidden, http.StatusRequestEntityTooLarge, http.StatusUnprocessableEntity, http.StatusTooManyRequests:
		r := c.Request()
		slog.Warn("refused", "status", code, "method", r.Method, "path", r.URL.Path, "reason", reason)
	}
}

// say answers a script that was refused.
func say(c *echo.Context, code int, as, reason string) error {
	refused(c, code, reason)
	return c.JSON(code, map[string]string{as: reason})
}

// Loopback reports whether a host, with or without a port, is this computer.
func Loopback(host string) bool {
	h, _, err := net.SplitHostPort(host)
	if err != nil {
		h = strings.Trim(host, "[]")
	}
	if h == "localhost" {
		return true
	}
	ip := net.ParseIP(h)
	return ip != nil && ip.IsLoopback()
}

func headers(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		h := c.Response().Header()
		h.Set("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; connect-src 'self'; form-action 'self'; frame-ancestors 'none'; base-uri 'none'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("X-Frame-Options", "DENY")
		h.Set("Referrer-Policy", "same-origin")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		h.Set("Cache-Control", "no-store")
		return next(c)
	}
}

type tooLarge struct{ limit int64 }

func (t *tooLarge) Error() string {
	return fmt.Sprintf("what was sent is larger than %d MB; nothing was saved. Send a smaller photo, or cut the log to the test", t.limit>>20)
}

// page is what every template gets.
type page struct {
	Title   string
	Nav     string
	CSRF    string
	Key     string // makes a second sending of the same form harmless
	Problem string
	Wrong   string // the field that it is about, where it is about one
	Form    url.Values
	Now     time.Time
	Money   string             // sign of the shop's money
	Damage  *store.DamageError // the shop's file is not whole
	Notice  *notice            // what was saved on the way here
	Data    any
}

// V returns what was typed in a field, or what the field holds when nothing was
// sent: a refused form keeps every word.
func (p page) V(name string, value any) string {
	if p.Form != nil {
		if v, ok := p.Form[name]; ok && len(v) > 0 {
			return v[0]
		}
	}
	return fmt.Sprint(value)
}

// Ticked reports whether a tick box is ticked: as it was sent with a form that was refused,
// otherwise as it was saved.
func (p page) Ticked(name string, saved bool) bool {
	if p.Form != nil {
		return len(p.Form[name]) > 0
	}
	return saved
}

// Is reports whether a choice is the chosen one.
func (p page) Is(name string, value any, option string) bool { return p.V(name, value) == option }

func (s *server) page(c *echo.Context, title, nav string, data any) page {
	token, _ := c.Get("csrf").(string)
	return page{Title: title, Nav: nav, CSRF: token, Key: newKey(), Now: s.shop.Now(), Money: s.shop.Currency(c.Request().Context()), Damage: s.shop.DB.Damage(), Notice: s.notice(c), Data: data}
}

func newKey() string {
	b := make([]byte, 12)
	_, _ = rand.Read(b) // crypto/rand never fails
	return hex.EncodeToString(b)
}

func (s *server) render(c *echo.Context, code int, name string, p page) error {
	var b bytes.Buffer
	if err := s.views[name].ExecuteTemplate(&b, "layout", p); err != nil {
		return err
	}
	reason := p.Problem
	if text, ok := p.Data.(string); ok && reason == "" {
		reason = text
	}
	refused(c, code, reason)
	return c.HTMLBlob(code, b.Bytes())
}

// sentence is what a refusal says and the status that goes with it; empty for an error
// that is no refusal.
func sentence(err error) (string, int) {
	var pr *casework.Problem
	var q *casework.Question
	var cf *casework.Conflict
	switch {
	case errors.As(err, &pr):
		return casework.Upper(pr.Sentence), http.StatusUnprocessableEntity
	case errors.As(err, &q):
		return q.Sentence, http.StatusUnprocessableEntity
	case errors.As(err, &cf):
		return casework.Upper(cf.Error()), http.StatusConflict
	}
	if b := new(store.BusyError); errors.As(store.Busy(err), &b) {
		return casework.Sentence(b.Error()), http.StatusServiceUnavailable
	}
	return "", 0
}

// fail is the page for what went wrong beyond a form.
func (s *server) fail(c *echo.Context, err error) {
	if errors.Is(err, context.Canceled) && c.Request().Context().Err() != nil {
		return // whoever asked has left the page: nothing failed, and nobody reads the answer
	}
	code, text := http.StatusInternalServerError, "Something went wrong here. Nothing was half saved; go back and try again."
	var he *echo.HTTPError
	var tl *tooLarge
	var mb *http.MaxBytesError
	switch {
	case errors.As(err, &tl):
		code, text = http.StatusRequestEntityTooLarge, casework.Upper(tl.Error())+"."
	case errors.As(err, &mb):
		code, text = http.StatusRequestEntityTooLarge, casework.Upper((&tooLarge{mb.Limit}).Error())+"."
	case errors.Is(err, casework.ErrNotFound):
		code, text = http.StatusNotFound, "This is not in the shop's records. It may be in another database."
	case errors.As(err, &he):
		code, text = he.Code, he.Message
		if code == http.StatusForbidden && strings.Contains(text, "csrf") {
			text = "This page is too old to send, or it came from elsewhere. Reload it and send it again; nothing was saved."
		}
	default:
		if st := echo.StatusCode(err); st != 0 {
			code, text = st, http.StatusText(st)
			if st == http.StatusNotFound {
				text = "There is no such page here."
			}
		}
		if m, st := sentence(err); st != 0 {
			code, text = st, m
		}
	}
	if code >= 500 {
		slog.Error("request failed", "path", c.Request().URL.Path, "err", err)
	}
	p := page{Title: "Not done", Now: s.shop.Now(), Damage: s.shop.DB.Damage(), Data: text}
	if code != http.StatusServiceUnavailable { // a file that is locked must not be waited for a second time
		p = s.page(c, "Not done", "", text)
	}
	if rerr := s.render(c, code, "problem.html", p); rerr != nil {
		slog.Error("the problem page failed", "err", rerr)
	}
}
