package web

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"net/url"
	"slices"

	"github.com/labstack/echo/v5"

	"wexter/casework"
	"wexter/core/knowledge"
	"wexter/core/record"
	"wexter/live"
)

type slateRow struct {
	casework.SlateRow
	Long *live.Long // a stretch of hours that is being read; nil: none
	Lane template.HTML
	Bar  template.HTML // the same for a narrow screen
	When string
	Says string // of its inspection
	Left string
}

// slateData is the Slate: the cars in the shop, and what there is to pick from them.
type slateData struct {
	Rows  []slateRow
	All   int // cars, whether they are shown or not
	Can   int // of those shown, that can be worked on now
	Miss  int // of those shown, that will miss their inspection
	Head  template.HTML
	Picks []pick
	Last  *casework.Finished
	Today []casework.Finished
	Go    *casework.SlateRow // what can be worked on first
	Demo  bool               // a demo car may be opened
	Kit   []knowledge.Kit    // to be ticked: nobody has said yet what this bay has
}

// Picked reports whether only some cars are shown.
func (d slateData) Picked() bool {
	return slices.ContainsFunc(d.Picks, func(p pick) bool { return p.Now != "" })
}

// pick is one way of showing some of the cars.
type pick struct {
	Name, Label, Every string
	Now                string
	Of                 []choice
}

// choice is one of a pick, and how many cars it shows.
type choice struct {
	Key, Name string
	Count     int
}

// What the picks call cars on which nobody works, and cars that wait for nothing.
const (
	pickNobody = "-"
	pickNow    = "now"
)

// picking is a way of showing some cars: what it says of a car, by key and name. A car may
// stand under several keys.
type picking struct {
	name, label, every string
	of                 func(r casework.SlateRow) [][2]string
}

// pickings are the ways of showing some of the cars of the Slate.
func (s *server) pickings() []picking {
	return []picking{
		{"who", "Who works on it", "anybody", func(r casework.SlateRow) [][2]string {
			if r.Case.Who == "" {
				return [][2]string{{pickNobody, "nobody yet"}}
			}
			return [][2]string{{r.Case.Who, r.Case.Who}}
		}},
		{"waits", "What it waits for", "waiting or not", func(r casework.SlateRow) [][2]string {
			switch {
			case r.Monitor:
				return [][2]string{{string(record.WaitMonitors), record.WaitMonitors.Words()}}
			case r.Waits:
				return [][2]string{{string(r.Case.WaitKind), r.Case.WaitKind.Words()}}
			}
			return [][2]string{{pickNow, "nothing: can be done now"}}
		}},
		{"kit", "Kit needed next", "any kit", func(r casework.SlateRow) (out [][2]string) {
			for _, k := range r.Kit {
				out = append(out, [2]string{k, s.shop.Book.KitNamed(k).Name})
			}
			return out
		}},
	}
}

// picked leaves the cars that were asked for, and says what else there is to ask for.
func (s *server) picked(c *echo.Context, rows []casework.SlateRow) ([]casework.SlateRow, []pick) {
	var picks []pick
	shown := rows
	for _, p := range s.pickings() {
		now := c.QueryParam(p.name)
		out := pick{Name: p.name, Label: p.label, Every: p.every, Now: now}
		for _, r := range rows {
			for _, k := range p.of(r) {
				at := slices.IndexFunc(out.Of, func(x choice) bool { return x.Key == k[0] })
				if at < 0 {
					at, out.Of = len(out.Of), append(out.Of, choice{Key: k[0], Name: k[1]})
				}
				out.Of[at].Count++
			}
		}
		slices.SortFunc(out.Of, func(a, b choice) int { return cmp.Compare(a.Name, b.Name) })
		if now != "" {
			shown = slices.DeleteFunc(slices.Clone(shown), func(r casework.SlateRow) bool {
				return !slices.ContainsFunc(p.of(r), func(k [2]string) bool { return k[0] == now })
			})
		}
		picks = append(picks, out)
	}
	return shown, picks
}

func (s *server) slate(c *echo.Context) error {
	ctx := c.Request().Context()
	rows, err := s.shop.Slate(ctx)
	if err != nil {
		return err
	}
	now := s.shop.Now().Local()
	out := slateData{All: len(rows), Head: railHead(now), Demo: s.demoCar != nil}
	if ways, err := s.shop.Ways(ctx); err != nil {
		return err
	} else if ways.Kit == nil {
		out.Kit = s.shop.Book.Kit
	}
	rows, out.Picks = s.picked(c, rows)
	longs := map[string]*live.Long{}
	for _, l := range s.hub.Longs() {
		longs[l.Number] = &l
	}
	for _, r := range rows {
		long := longs[r.Case.Number]
		row := slateRow{SlateRow: r, Long: long, When: "now", Lane: lane(now, r, long), Bar: slackBar(now, r), Says: dueWords(now, r.Due), Left: leftWords(r)}
		if r.Due.Misses() {
			out.Miss++
		}
		switch {
		case long != nil:
			row.When = untilWords(now, long.Until)
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
	done, _, err := s.shop.Record(ctx, "")
	if err != nil {
		return err
	}
	if len(done) > 0 {
		out.Last = &done[0]
	}
	out.Today = s.shop.Today(done)
	return s.render(c, http.StatusOK, "slate.html", s.page(c, "Slate", "slate", out))
}

// openDemoCar opens the case of a car that is simulated on this computer.
func (s *server) openDemoCar(c *echo.Context) error {
	if s.demoCar == nil {
		return echo.ErrNotFound
	}
	if err := parsed(c); err != nil {
		return err
	}
	f := form{c: c}
	id, err := s.demoCar(c.Request().Context(), f.key())
	if err != nil {
		return err
	}
	return s.saved(c, f.key(), "/cases/"+id)
}

// takeOn says who works on a case.
func (s *server) takeOn(c *echo.Context) error {
	return s.act(c, "", func(ctx context.Context, f *form, id string) error {
		return s.shop.TakeOn(ctx, f.key(), id, f.text("who"))
	})
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
	var often []oftenRow
	if before == "" {
		found, err := s.shop.FoundOften(c.Request().Context())
		if err != nil {
			return err
		}
		often = oftenBars(found)
	}
	return s.render(c, http.StatusOK, "record.html", s.page(c, "Record", "record", struct {
		Rows  []casework.Finished
		Often []oftenRow
		First bool
		Older string
	}{rows, often, before == "", older}))
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
