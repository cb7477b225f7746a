package web

import (
	"cmp"
	"fmt"
	"net/http"
	"slices"

	"github.com/labstack/echo/v5"

	"wexter/casework"
	"wexter/core/diagnose"
	"wexter/core/knowledge"
)

type kitTick struct {
	Key, Name, Gives string
	On               bool
	Worth            string // what it would have saved, where it lacks
}

// waysPage is the kit of the shop and how it works.
type waysPage struct {
	Kit     []kitTick
	Ticked  bool
	Rate    string
	Day     string
	Careful bool
	Schools []schoolPick
	// Money.
	Currency  string
	Prices    []partPrice
	OwnPrices bool
}

// partPrice is what the part of a fault costs: by the Book, and here.
type partPrice struct{ Key, Name, Order, Book, Own string }

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
	d := waysPage{Ticked: w.Kit != nil, Rate: fmt.Sprintf("%g", orElse(w.Rate, diagnose.UsualRate)), Day: fmt.Sprintf("%g", orElse(w.Day, diagnose.UsualDay)), Careful: w.Careful}
	ticked := func(key string) bool { return w.Kit == nil || slices.Contains(w.Kit, key) }
	way := func(key string) string { return w.Policies[key] }
	if failed != nil { // what was chosen is still there
		ticked = func(key string) bool { return slices.Contains(c.Request().PostForm["kit"], key) }
		way = func(key string) string { return c.FormValue("way-" + key) }
		d.Careful = c.FormValue("trained") != ""
	}
	worth, err := s.shop.Worth(c.Request().Context())
	if err != nil {
		return err
	}
	for _, k := range s.shop.Book.Kit {
		row := kitTick{Key: k.Key, Name: k.Name, Gives: k.Gives, On: ticked(k.Key)}
		for _, x := range worth {
			if x.Kit == k.Key && !row.On {
				row.Worth = fmt.Sprintf("would have saved work, parts and waiting worth some %s over the last %d cases, in %d of them", diagnose.Bay{Rate: w.Rate, Currency: w.Currency}.Worth(x.Minutes), x.Of, x.Cases)
			}
		}
		d.Kit = append(d.Kit, row)
	}
	for _, x := range s.shop.Book.Schools {
		d.Schools = append(d.Schools, schoolPick{x, x.Option(way(x.Key)).Key})
	}
	d.Currency, d.OwnPrices = cmp.Or(w.Currency, diagnose.UsualCurrency), len(w.Prices) > 0
	for _, x := range s.shop.Book.Faults {
		if x.Order == "" || x.Family == "other" {
			continue
		}
		row := partPrice{Key: x.Key, Name: x.Name, Order: casework.Upper(x.Order), Book: fmt.Sprintf("%g", cmp.Or(x.Price, s.shop.Book.CostOf(x.Cost).Price))}
		if v, ok := w.Prices[x.Key]; ok {
			row.Own = fmt.Sprintf("%g", v)
		}
		d.Prices = append(d.Prices, row)
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
	w.Currency, w.Prices = f.text("currency"), map[string]float64{}
	for _, x := range s.shop.Book.Faults {
		if f.text("price-"+x.Key) != "" {
			w.Prices[x.Key] = f.number("price-"+x.Key, x.Name)
		}
	}
	err := f.err
	if err == nil {
		err = s.shop.SetWays(c.Request().Context(), f.key(), w)
	}
	if err != nil {
		return s.showWays(c, err)
	}
	return s.saved(c, f.key(), "/ways")
}
