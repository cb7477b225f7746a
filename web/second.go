package web

import (
	"net/http"

	"github.com/labstack/echo/v5"

	"wexter/core/units"
)

// besideJSON is a typed quantity in its second unit, or why it is none.
type besideJSON struct {
	Beside string `json:"beside"`
	Wrong  string `json:"wrong,omitempty"`
}

// second says what is typed in a field in the field's second unit. It is asked while
// somebody types, so that the hint takes exactly what the form will take.
func (s *server) second(c *echo.Context) error {
	k, ok := kindOf(c.QueryParam("kind"))
	if !ok {
		return echo.NewHTTPError(http.StatusNotFound, "There is no such kind of quantity.")
	}
	bare := c.QueryParam("bare")
	if _, ok := units.Lookup(bare, k); !ok {
		bare = ""
	}
	says, err := units.Beside(c.QueryParam("text"), k, bare)
	if err != nil {
		return c.JSON(http.StatusOK, besideJSON{Wrong: err.Error()})
	}
	return c.JSON(http.StatusOK, besideJSON{Beside: says})
}
