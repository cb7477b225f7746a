// Package web serves the shop to a browser: one handler a thing, HTML made on the
// server, a content policy that forbids inline script, and nothing that needs a
// network beyond the shop's own computer.
package web

import (
	"bytes"
	"crypto/rand"
	"embed"
	"encoding/hex"
	"errors"
	"fmt"
	"html/template"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"wexter/casework"
	"wexter/live"
)

//go:embed templates/*.html
var templateFiles embed.FS

//go:embed static
var staticFiles embed.FS

// Body limits, by what a form carries.
const (
	formLimit  = 1 << 20
	logLimit   = 66 << 20 // a log of 64 MB with its form
	photoLimit = 14 << 20
	hearOut    = 64 << 20 // of what is refused for its size
	scanLimit  = 3 << 20
)

type server struct {
	shop  *casework.Shop
	hub   *live.Hub
	jobs  jobs
	views map[string]*template.Template

	streams carStreams
}

// New returns the application on a shop and its live benches.
func New(shop *casework.Shop, hub *live.Hub) (http.Handler, error) {
	s := &server{shop: shop, hub: hub, jobs: jobs{list: map[string]*job{}}}
	if err := s.parse(); err != nil {
		return nil, err
	}
	e := echo.New()
	e.HTTPErrorHandler = s.fail
	// Pages with a Map shrink to a fifth. Streams must flow, photos and fonts are packed already.
	packed := middleware.GzipWithConfig(middleware.GzipConfig{Level: 5, MinLength: 4 << 10, Skipper: func(c *echo.Context) bool {
		p := c.Request().URL.Path
		return strings.HasSuffix(p, "/stream") || strings.HasPrefix(p, "/photos/") || strings.HasSuffix(p, ".woff2") || strings.HasSuffix(p, ".pdf")
	}})
	e.Use(middleware.Recover(), packed, hostCheck, headers, limitBody,
		middleware.CSRFWithConfig(middleware.CSRFConfig{TokenLookup: "form:csrf", CookieName: "csrf", CookiePath: "/",
			CookieHTTPOnly: true, CookieSameSite: http.SameSiteStrictMode, ContextKey: "csrf"}))

	static, err := fs.Sub(staticFiles, "static")
	if err != nil {
		return nil, err
	}
	files := http.StripPrefix("/static/", http.FileServerFS(static))
	e.GET("/static/*", func(c *echo.Context) error {
		c.Response().Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		files.ServeHTTP(c.Response(), c.Request())
		return nil
	})
	e.GET("/", s.slate)
	e.GET("/record", s.record)
	e.GET("/book", s.book)
	e.GET("/book/test/:key", s.procedure)
	e.GET("/book/:key", s.calculator)
	e.GET("/vehicles", s.vehicle)
	e.GET("/cases/new", s.newCase)
	e.POST("/cases", s.openCase)
	e.POST("/import", s.importBundle)
	e.GET("/cases/:id", s.caseView)
	e.GET("/cases/:id/edit", s.editView)
	e.POST("/cases/:id/edit", s.edit)
	e.POST("/cases/:id/codes", s.addCodes)
	e.GET("/cases/:id/do/:test", s.doView)
	e.POST("/cases/:id/do/:test", s.addResult)
	e.POST("/cases/:id/observe", s.observe)
	e.POST("/cases/:id/kit", s.caseKit)
	e.POST("/cases/:id/cause", s.cause)
	e.POST("/cases/:id/opened", s.postMortem)
	e.GET("/cases/:id/pulse", s.pulse)
	e.GET("/ways", s.waysView)
	e.POST("/ways", s.saveWays)
	e.POST("/cases/:id/strike", s.strike)
	e.POST("/cases/:id/doubt", s.doubt)
	e.POST("/cases/:id/notes", s.addNote)
	e.GET("/cases/:id/scan", s.scanForm)
	e.POST("/cases/:id/scan", s.addScan)
	e.POST("/cases/:id/scan/take", s.takeScan)
	e.GET("/cases/:id/scan/progress", s.scanProgress)
	e.POST("/cases/:id/scan/stop", s.stopScan)
	e.POST("/cases/:id/clear", s.clearCodes)
	e.GET("/cases/:id/car", s.carView)
	e.GET("/cases/:id/car/stream", s.carStream)
	e.POST("/cases/:id/car/do", s.carDo)
	e.GET("/scans/:id", s.scanView)
	e.GET("/scans/:id/raw.txt", s.rawScan)
	e.POST("/cases/:id/wait", s.wait)
	e.POST("/cases/:id/tests", s.startTest)
	e.GET("/cases/:id/map", s.mapView)
	e.GET("/cases/:id/map.svg", s.mapSVG)
	e.POST("/cases/:id/marks", s.addMark)
	e.POST("/cases/:id/corrections", s.addCorrection)
	e.POST("/cases/:id/cards", s.addCard)
	e.POST("/cases/:id/car/strike", s.strikeOnCar)
	e.POST("/cases/:id/plumbing", s.setPlumbing)
	e.GET("/tests/:id/map", s.setupMap)
	e.POST("/tests/:id/map", s.setPart)
	e.GET("/cases/:id/found", s.foundView)
	e.POST("/cases/:id/found", s.found)
	e.GET("/cases/:id/repair", s.repairView)
	e.POST("/cases/:id/repair", s.repair)
	e.POST("/cases/:id/repair/:rid/done", s.repairDone)
	e.GET("/cases/:id/proof", s.proofView)
	e.POST("/cases/:id/trial", s.trial)
	e.POST("/cases/:id/monitors", s.monitors)
	e.POST("/cases/:id/close", s.close)
	e.GET("/cases/:id/report", s.report)
	e.GET("/cases/:id/report.pdf", s.reportPDF)
	e.GET("/cases/:id/bundle.json", s.bundle)
	e.GET("/tests/:id", s.bench)
	e.GET("/tests/:id/live", s.liveBench)
	e.GET("/tests/:id/live/stream", s.liveStream)
	e.POST("/tests/:id/live", s.liveAct)
	e.GET("/instruments", s.instruments)
	e.POST("/instruments", s.addInstrument)
	e.POST("/instruments/:id/remove", s.removeInstrument)
	e.POST("/tests/:id/setup", s.setup)
	e.POST("/tests/:id/legs", s.addLeg)
	e.POST("/tests/:id/cannot", s.cannot)
	e.POST("/runs/:id/cut", s.cut)
	e.POST("/runs/:id/strike", s.strikeRun)
	e.GET("/runs/:id/readings.csv", s.readings)
	e.GET("/photos/:hash", s.photo)
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

func limitBody(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		limit := int64(formLimit)
		switch {
		case strings.HasSuffix(r.URL.Path, "/legs"), r.URL.Path == "/import":
			limit = logLimit
		case strings.HasSuffix(r.URL.Path, "/scan"):
			limit = scanLimit
		case strings.HasSuffix(r.URL.Path, "/found"), strings.HasSuffix(r.URL.Path, "/notes"), strings.HasSuffix(r.URL.Path, "/corrections"), strings.HasSuffix(r.URL.Path, "/cards"):
			limit = photoLimit
		}
		if r.ContentLength > limit {
			// A browser that is still sending when the line is cut shows no sentence: hear it out,
			// within reason and without keeping anything.
			_, _ = io.CopyN(io.Discard, r.Body, hearOut)
			return &tooLarge{limit}
		}
		r.Body = http.MaxBytesReader(c.Response(), r.Body, limit)
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
	Form    url.Values
	Now     time.Time
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

// Is reports whether a choice is the chosen one.
func (p page) Is(name string, value any, option string) bool { return p.V(name, value) == option }

func (s *server) page(c *echo.Context, title, nav string, data any) page {
	token, _ := c.Get("csrf").(string)
	return page{Title: title, Nav: nav, CSRF: token, Key: newKey(), Now: s.shop.Now(), Data: data}
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
	return c.HTMLBlob(code, b.Bytes())
}

// refused answers a form that cannot be done: the sentence on the page that shows
// it, with what was typed.
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
	return "", 0
}

// fail is the page for what went wrong beyond a form.
func (s *server) fail(c *echo.Context, err error) {
	code, text := http.StatusInternalServerError, "Something broke here. Nothing was half saved; go back and try again."
	var he *echo.HTTPError
	var tl *tooLarge
	var mb *http.MaxBytesError
	switch {
	case errors.As(err, &tl):
		code, text = http.StatusRequestEntityTooLarge, casework.Upper(tl.Error())+"."
	case errors.As(err, &mb):
		code, text = http.StatusRequestEntityTooLarge, casework.Upper((&tooLarge{mb.Limit}).Error())+"."
	case errors.Is(err, casework.ErrNotFound):
		code, text = http.StatusNotFound, "This is not in the shop's records. It may have been opened in another database."
	case errors.As(err, &he):
		code, text = he.Code, he.Message
		if code == http.StatusForbidden && strings.Contains(text, "csrf") {
			text = "This page is too old to be sent, or it came from elsewhere. Load it again and send it once more; nothing was saved."
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
	p := s.page(c, "Not done", "", text)
	if rerr := s.render(c, code, "problem.html", p); rerr != nil {
		slog.Error("the problem page failed", "err", rerr)
	}
}
