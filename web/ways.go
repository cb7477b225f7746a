package web

import (
	"fmt"
	"net/http"
	"slices"

	"github.com/labstack/echo/v5"

	"wexter/casework"
	"wexter/core/knowledge"
)

type kitTick struct {
	Key, Name, Gives string
	On               bool
}

// waysPage is the kit of the shop and how it works.
type waysPage struct {
	Kit     []kitTick
	Ticked  bool
	Rate    string
	Day     string
	Careful bool
	Schools []schoolPick
}

type schoolPick struct {
	knowledge.School
	Now string
}

func (s *server) waysView(c *echo.Context) error { return s.showWays(c, nil) }

func (s *server) showWays(c *echo.Context, failed error) error {
	w, err := s.shop.Ways(c.Request().Context())
	if err != nil {
		return err
	}
	d := waysPage{Ticked: w.Kit != nil, Rate: fmt.Sprintf("%g", orElse(w.Rate, 66)), Day: fmt.Sprintf("%g", orElse(w.Day, 120)), Careful: w.Careful}
	ticked := func(key string) bool { return w.Kit == nil || slices.Contains(w.Kit, key) }
	way := func(key string) string { return w.Policies[key] }
	if failed != nil { // what was chosen is still there
		ticked = func(key string) bool { return slices.Contains(c.Request().PostForm["kit"], key) }
		way = func(key string) string { return c.FormValue("way-" + key) }
		d.Careful = c.FormValue("trained") != ""
	}
	for _, k := range s.shop.Book.Kit {
		d.Kit = append(d.Kit, kitTick{k.Key, k.Name, k.Gives, ticked(k.Key)})
	}
	for _, x := range s.shop.Book.Schools {
		d.Schools = append(d.Schools, schoolPick{x, x.Option(way(x.Key)).Key})
	}
	p := s.page(c, "What this bay has", "instruments", d)
	if failed != nil {
		return s.again(c, failed, "ways.html", p)
	}
	return s.render(c, http.StatusOK, "ways.html", p)
}

func orElse(v, usual float64) float64 {
	if v == 0 {
		return usual
	}
	return v
}

func (s *server) saveWays(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := &form{c: c}
	w := casework.Ways{Kit: append([]string{}, c.Request().Form["kit"]...), Rate: f.needed("rate", "Hour of work").number("rate", "Hour of work"), Day: f.needed("day", "Day of waiting").number("day", "Day of waiting"), Careful: f.text("trained") != "", Policies: map[string]string{}}
	for _, x := range s.shop.Book.Schools {
		if v := f.text("way-" + x.Key); v != "" {
			w.Policies[x.Key] = v
		}
	}
	err := f.err
	if err == nil {
		err = s.shop.SetWays(c.Request().Context(), f.key(), w)
	}
	if err != nil {
		return s.showWays(c, err)
	}
	return c.Redirect(http.StatusSeeOther, "/ways")
}
