package web

import (
	"net/http"

	"github.com/labstack/echo/v5"

	"wexter/core/record"
)

// foretoldJSON is what a live bench would show with a suspect, in the bay's unit.
type foretoldJSON struct {
	Name   string    `json:"name"`
	T      []float64 `json:"t"`
	V      []float64 `json:"v"`
	Held   bool      `json:"held"`   // its time counts from the last stroke of a pump
	Column int       `json:"column"` // of the bench's figures
}

// foretold is what a figure of a live bench would show in a leg with each of the likeliest
// suspects, for the page to draw behind the trace.
func (s *server) foretold(c *echo.Context) error {
	out := []foretoldJSON{}
	b, ok := s.hub.Look(c.Param("id"))
	if !ok {
		return c.JSON(http.StatusOK, out)
	}
	what, ok := b.Foreseen()
	if !ok {
		return c.JSON(http.StatusOK, out)
	}
	told, err := s.shop.Foretell(c.Request().Context(), c.Param("id"), record.RunKind(c.QueryParam("leg")), what.Column.Key)
	if err != nil {
		return err
	}
	for _, x := range told {
		f := foretoldJSON{Name: x.Name, Held: x.Held, Column: what.At}
		if x.Says != "" {
			f.Name += ", " + x.Says
		}
		for i, t := range x.Time {
			f.T, f.V = append(f.T, round(t, 2)), append(f.V, round(what.To.Of(x.Gauge[i]), 4))
		}
		out = append(out, f)
	}
	return c.JSON(http.StatusOK, out)
}
