package web

import (
	"fmt"
	"net/http"

	"github.com/labstack/echo/v5"

	"wexter/casework"
	"wexter/core/bench"
)

// bayData is a running bench for whoever is under the car: one figure as large as the screen,
// what to do, the verdict, one button.
type bayData struct {
	ID       string
	Number   string
	Car      string
	Name     string
	Seated   bool
	Open     int // steps of the seal list that are not ticked
	Cautions []string
}

func (s *server) bayView(c *echo.Context) error {
	l, err := s.shop.LiveTest(c.Request().Context(), c.Param("id"))
	if err != nil {
		return err
	}
	f, err := s.shop.Load(c.Request().Context(), l.Case.ID)
	if err != nil {
		return err
	}
	d := bayData{ID: l.Test.ID, Number: l.Case.Number, Car: f.Vehicle.Name(), Name: l.Name(), Open: l.Unsealed()}
	for _, k := range l.Cautions() {
		d.Cautions = append(d.Cautions, s.shop.Book.Caution(k))
	}
	_, d.Seated = s.hub.Look(l.Test.ID)
	return s.render(c, http.StatusOK, "bay.html", s.page(c, "Bay view · "+l.Case.Number, "slate", d))
}

// startLive opens a test of the Book to be read live.
func (s *server) startLive(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := &form{c: c}
	ctx, id, test := c.Request().Context(), c.Param("id"), f.text("test")
	if test == bench.PressureHold.Key {
		made, err := s.shop.StartTest(ctx, f.key(), id, "")
		if err != nil {
			return err
		}
		return c.Redirect(http.StatusSeeOther, "/tests/"+made)
	}
	made, err := s.shop.StartBench(ctx, f.key(), id, casework.NewBench{Test: test, Part: f.text("on"), RepeatOf: f.text("repeat_of")})
	if err != nil {
		if text, _ := sentence(err); text == "" {
			return err
		}
		c.SetPathValues(append(c.PathValues(), echo.PathValue{Name: "test", Value: test}))
		return s.showDo(c, err, "")
	}
	return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/tests/%s/live", made))
}
