package web

import (
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"wexter/casework"
	"wexter/core/knowledge"
	"wexter/core/record"
)

// The rail of the Slate: 36 hours in a straight scale, then two weeks pressed
// together, then "later".
const (
	railHours    = 36.0
	railStraight = 58.0 // % of the width
	railWeeks    = 94.0
)

// railAt places a moment on the rail, in % of its width.
func railAt(now, t time.Time) float64 {
	h := t.Sub(now).Hours()
	switch {
	case h <= 0:
		return 0
	case h <= railHours:
		return h / railHours * railStraight
	case h <= railHours+14*24:
		return railStraight + (h-railHours)/(14*24)*(railWeeks-railStraight)
	}
	return (railWeeks + 100) / 2
}

type slateRow struct {
	casework.SlateRow
	Lane template.HTML
	When string
}

func (s *server) slate(c *echo.Context) error {
	rows, err := s.shop.Slate(c.Request().Context())
	if err != nil {
		return err
	}
	done, _, err := s.shop.Record(c.Request().Context(), "")
	if err != nil {
		return err
	}
	now := s.shop.Now().Local()
	out := struct {
		Rows []slateRow
		Can  int
		Head template.HTML
		Last *casework.Finished
		Go   *casework.SlateRow // what can be worked on first
		Kit  []knowledge.Kit    // to be ticked: nobody has said yet what this bay has
	}{Head: railHead(now)}
	if w, err := s.shop.Ways(c.Request().Context()); err != nil {
		return err
	} else if w.Kit == nil {
		out.Kit = s.shop.Book.Kit
	}
	for _, r := range rows {
		row := slateRow{SlateRow: r, When: "now", Lane: lane(now, r)}
		switch {
		case r.Waits:
			row.When = untilWords(now, *r.Case.WaitUntil)
		case r.Monitor:
			row.When = "drive"
		default:
			if out.Can++; out.Go == nil {
				out.Go = &r
			}
			if r.Minutes > 0 {
				row.When = fmt.Sprintf("%d min", r.Minutes)
			}
		}
		out.Rows = append(out.Rows, row)
	}
	if len(done) > 0 {
		out.Last = &done[0]
	}
	return s.render(c, http.StatusOK, "slate.html", s.page(c, "Slate", "slate", out))
}

func untilWords(now, t time.Time) string {
	t = t.Local()
	switch days := int(midnight(t).Sub(midnight(now)).Hours()/24 + 0.5); {
	case days == 0:
		return t.Format("15:04")
	case days == 1:
		return "tomorrow"
	case days < 7:
		return t.Format("Mon 15:04")
	}
	return t.Format("2 Jan")
}

func midnight(t time.Time) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, t.Location())
}

// railTicks calls f for every line of the rail.
func railTicks(now time.Time, f func(x float64, label string, day bool)) {
	for t := midnight(now); t.Sub(now).Hours() <= railHours; t = t.Add(6 * time.Hour) {
		if t.After(now) {
			f(railAt(now, t), t.Format("15:04"), t.Hour() == 0)
		}
	}
	for d := midnight(now).AddDate(0, 0, 1); d.Sub(now).Hours() <= railHours+14*24; d = d.AddDate(0, 0, 1) {
		if d.Sub(now).Hours() > railHours && d.Weekday() == time.Monday {
			f(railAt(now, d), d.Format("Mon 2 Jan"), true)
		}
	}
}

func railHead(now time.Time) template.HTML {
	var b strings.Builder
	b.WriteString(`<svg class="rail-svg rail" aria-hidden="true">`)
	fmt.Fprintf(&b, `<text class="r-now" x="8" y="40">now %s</text>`, now.Format("15:04"))
	last := 0.0
	railTicks(now, func(x float64, label string, day bool) {
		if day && x < railStraight {
			label = now.AddDate(0, 0, 1).Format("Mon 2 Jan")
			if x > railAt(now, midnight(now).AddDate(0, 0, 1))+1 {
				label = now.AddDate(0, 0, 2).Format("Mon 2 Jan")
			}
			fmt.Fprintf(&b, `<text class="r-day" x="%.2f%%" dx="4" y="18">%s</text>`, x, label)
			return
		}
		if x-last < 7 || x < 10 || x > 86 {
			return
		}
		last = x
		class := "when"
		if strings.HasPrefix(label, "06") || strings.HasPrefix(label, "18") || x > 68 {
			class += " r-wide"
		}
		fmt.Fprintf(&b, `<text class="%s" x="%.2f%%" dx="4" y="40">%s</text>`, class, x, label)
	})
	b.WriteString(`<text class="when" text-anchor="end" x="100%" dx="-4" y="40">later</text></svg>`)
	return template.HTML(b.String())
}

// lane draws one car's time: what it waits for and until when, and its deadline.
func lane(now time.Time, r casework.SlateRow) template.HTML {
	var b strings.Builder
	b.WriteString(`<svg class="rail-svg rail" aria-hidden="true">`)
	railTicks(now, func(x float64, _ string, day bool) {
		class := "r-tick"
		if day {
			class = "r-tick r-daytick"
		}
		fmt.Fprintf(&b, `<line class="%s" x1="%.2f%%" x2="%.2f%%" y1="0" y2="100%%"/>`, class, x, x)
	})
	fmt.Fprintf(&b, `<line class="r-tick" x1="%g%%" x2="%g%%" y1="0" y2="100%%"/><line class="r-nowline" x1="1.5" x2="1.5" y1="0" y2="100%%"/>`, railWeeks, railWeeks)
	if r.Monitor {
		fmt.Fprintf(&b, `<line class="r-open" x1="3" x2="%g%%" y1="36" y2="36"/><text x="14" y="28">ready when complete</text>`, railWeeks)
	} else if r.Waits {
		end := railAt(now, r.Case.WaitUntil.Local())
		words := r.Case.WaitKind.Words()
		class := "r-block"
		if r.Case.WaitKind == record.WaitPart {
			class += " r-solid"
		}
		fmt.Fprintf(&b, `<rect class="%s" x="3" y="20" height="32" width="%.2f%%"/>`, class, max(end-0.4, 0.8))
		if end > 20 {
			fmt.Fprintf(&b, `<text x="14" y="41">%s</text>`, words)
		} else {
			fmt.Fprintf(&b, `<text x="%.2f%%" dx="10" y="41">%s</text>`, end, words)
		}
		if r.Case.Monitors == record.MonitorsIncomplete && r.Case.WaitKind != record.WaitMonitors && end > 20 && end < 60 {
			fmt.Fprintf(&b, `<text x="%.2f%%" dx="10" y="41">ready when complete</text>`, end)
		}
	} else {
		b.WriteString(`<circle class="r-dot" cx="12" cy="36" r="9"/><text class="r-can" x="30" y="41">can be done now</text>`)
	}
	if d, err := time.ParseInLocation(time.DateOnly, r.Case.Deadline, now.Location()); err == nil {
		d = d.Add(17 * time.Hour)
		x := railAt(now, d)
		label := "inspection " + d.Format("Mon 2 Jan")
		if d.Before(now) {
			label = "inspection was " + d.Format("2 Jan")
		}
		fmt.Fprintf(&b, `<rect class="r-due" x="%.2f%%" y="6" width="4" height="60"/>`, x)
		if x > 25 {
			fmt.Fprintf(&b, `<text class="r-duelabel" text-anchor="end" x="%.2f%%" dx="-7" y="66">%s</text>`, x, label)
		} else {
			fmt.Fprintf(&b, `<text class="r-duelabel" x="%.2f%%" dx="10" y="66">%s</text>`, x, label)
		}
	}
	b.WriteString("</svg>")
	return template.HTML(b.String())
}

func (s *server) record(c *echo.Context) error {
	before := c.QueryParam("before")
	rows, more, err := s.shop.Record(c.Request().Context(), before)
	if err != nil {
		return err
	}
	older := ""
	if more {
		older = rows[len(rows)-1].Case.ID
	}
	return s.render(c, http.StatusOK, "record.html", s.page(c, "Record", "record", struct {
		Rows  []casework.Finished
		First bool
		Older string
	}{rows, before == "", older}))
}

// again shows a refused form with its sentence and what was typed.
func (s *server) again(c *echo.Context, err error, view string, p page) error {
	say, code := sentence(err)
	if code == 0 {
		return err
	}
	p.Problem, p.Form = say, typed(c)
	if pr := new(casework.Problem); errors.As(err, &pr) {
		p.Wrong = pr.Field
	}
	return s.render(c, code, view, p)
}

// typed is what was sent with a form, so that a page can show it again.
func typed(c *echo.Context) url.Values {
	if m := c.Request().MultipartForm; m != nil {
		return m.Value
	}
	return c.Request().PostForm
}

// stageClass marks the stages of a case as done, now or to come.
func stageClass(s, now record.Stage) string {
	switch {
	case s.Index() < now.Index():
		return "done"
	case s == now:
		return "now"
	}
	return ""
}
