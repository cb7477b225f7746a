package web

import (
	"cmp"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"

	"wexter/casework"
	"wexter/core/diagnose"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/units"
	"wexter/evidence"
	"wexter/ingest"
)

// doPage is the plain bench of a test: set-up, steps, and the result to be entered.
type doPage struct {
	evidence.Folder
	Stages   []stageMark
	Test     knowledge.Test
	On       plumbing.Part
	Action   *actionView
	Reads    []readField
	Parts    []plumbing.Part // that can be named: exits, or what was looked at
	Targets  []plumbing.Part // parts that this test can try
	Entries  []plumbing.Part // where smoke may go in
	Exits    []exitField
	Sizes    []record.ExitSize
	Self     bool // it needs a part
	Cautions []string
	Calcs    []string
}

type readField struct{ Name, Unit, Kind, Second, Field string }

type exitField struct{ N int }

const mostExits = 4

// counted are readings without a unit that are numbers.
var counted = regexp.MustCompile(`cycles|clicks|strokes`)

// unitOf is the kind of quantity that a unit of the Book measures.
func unitOf(unit string) (string, units.Kind, bool) {
	for k := range kindNames {
		if u, ok := units.Lookup(unit, k); ok && unit != "" {
			return u.Symbol, k, true
		}
	}
	return "", 0, false
}

func (s *server) doView(c *echo.Context) error { return s.showDo(c, nil) }

func (s *server) showDo(c *echo.Context, failed error) error {
	ctx := c.Request().Context()
	f, err := s.shop.Load(ctx, c.Param("id"))
	if err != nil {
		return err
	}
	car, err := s.shop.Car(f.Vehicle, f.Corrections)
	if err != nil {
		return err
	}
	t, ok := s.shop.Book.Test(c.Param("test"))
	if !ok || t.Key == "decay" || t.Key == "readiness" {
		return echo.NewHTTPError(http.StatusNotFound, "There is no such bench; tests of the Book have theirs, holds and scans their own.")
	}
	d := doPage{Folder: f, Test: t, Sizes: record.ExitSizes(), Self: diagnose.PartTest(t.Key)}
	for _, st := range record.Stages() {
		d.Stages = append(d.Stages, stageMark{string(st), stageClass(st, f.Case.Stage)})
	}
	p := s.page(c, t.Name+" · "+f.Case.Number, "slate", nil)
	on := cmp.Or(c.FormValue("on"), c.QueryParam("on"))
	d.On, _ = car.Graph.Part(on)
	for i, r := range t.Reads {
		if r.Unit == "" && !counted.MatchString(r.Name) {
			continue // a word: the outcome says it
		}
		x := readField{Name: r.Name, Unit: r.Unit, Field: fmt.Sprintf("read%d", i)}
		if u, k, ok := unitOf(r.Unit); ok {
			x.Kind, x.Second = kindNames[k], units.Second(u, k)
		}
		d.Reads = append(d.Reads, x)
	}
	for i := range mostExits {
		d.Exits = append(d.Exits, exitField{i})
	}
	for _, x := range car.Graph.Parts {
		if x.Name != "" && x.Kind != plumbing.Block {
			d.Parts = append(d.Parts, x)
		}
	}
	slices.SortStableFunc(d.Parts, func(a, b plumbing.Part) int { return strings.Compare(a.Name, b.Name) })
	d.Targets = car.Targets(t.Key)
	if t.Key == "smoke" {
		d.Entries = car.SmokeEntries()
	}
	if th, err := s.shop.Think(ctx, f); err == nil {
		for _, a := range slices.Concat(th.Plan.Actions, th.Plan.Without) {
			if a.Test == t.Key && (a.Part == on || on == "" || t.Key == "smoke") {
				if t.Key == "smoke" && on == "" {
					d.On, _ = car.Graph.Part(a.Entry)
				}
				v := s.action(a, "/cases/"+f.Case.ID, car)
				d.Action = &v
				break
			}
		}
	}
	seen := map[string]bool{}
	for _, k := range t.Cautions {
		if !seen[k] {
			seen[k] = true
			d.Cautions = append(d.Cautions, s.shop.Book.Caution(k))
		}
	}
	p.Data = d
	if failed != nil {
		return s.again(c, failed, "do.html", p)
	}
	return s.render(c, http.StatusOK, "do.html", p)
}

func (s *server) addResult(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := &form{c: c}
	t, _ := s.shop.Book.Test(c.Param("test"))
	n := casework.NewResult{Test: c.Param("test"), Part: f.text("on"), Outcome: f.text("outcome"), Note: f.text("note")}
	for i, r := range t.Reads {
		v, err := ingest.ReadFigure(f.text(fmt.Sprintf("read%d", i)), r.Unit)
		if err != nil {
			f.wrong(r.Name, err.Error())
		}
		n.Readings = append(n.Readings, v)
	}
	for i := range mostExits {
		if part := f.text(fmt.Sprintf("exit%d", i)); part != "" {
			n.Exits = append(n.Exits, record.ExitSeen{Part: part, Size: record.ExitSize(f.text(fmt.Sprintf("size%d", i)))})
		}
	}
	err := f.err
	if err == nil {
		_, err = s.shop.AddResult(c.Request().Context(), f.key(), c.Param("id"), n)
	}
	if err != nil {
		return s.showDo(c, err)
	}
	return c.Redirect(http.StatusSeeOther, "/cases/"+c.Param("id"))
}
