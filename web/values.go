package web

import (
	"context"
	"net/http"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"

	"wexter/casework"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/evidence"
)

// valuesPage is what is stated of a car beside what was measured on it.
type valuesPage struct {
	evidence.Folder
	Stages     []stageMark
	Values     []evidence.CarValues
	Groups     []quantityGroup
	Parts      []plumbing.Part
	Names      map[string]string
	What, Part string // chosen at first
}

// quantityGroup is the quantities of one test, or those of a set-up.
type quantityGroup struct {
	Name string
	Of   []evidence.Quantity
}

func (s *server) valuesView(c *echo.Context) error { return s.showValues(c, nil) }

func (s *server) showValues(c *echo.Context, failed error) error {
	ctx := c.Request().Context()
	f, err := s.shop.Load(ctx, c.Param("id"))
	if err != nil {
		return err
	}
	d := valuesPage{Folder: f, Names: map[string]string{}, What: c.QueryParam("what"), Part: c.QueryParam("part")}
	for _, st := range record.Stages() {
		d.Stages = append(d.Stages, stageMark{string(st), stageClass(st, f.Case.Stage)})
	}
	if d.Values, err = s.shop.Values(ctx, f.Vehicle); err != nil {
		return err
	}
	for _, q := range evidence.Quantities(s.shop.Book) {
		name := q.Test
		if name == "" {
			name = "For a set-up"
		}
		if n := len(d.Groups); n == 0 || d.Groups[n-1].Name != name {
			d.Groups = append(d.Groups, quantityGroup{Name: name})
		}
		g := &d.Groups[len(d.Groups)-1]
		g.Of = append(g.Of, q)
	}
	if car, err := s.shop.Car(f.Vehicle, f.Corrections); err == nil { // without its plumbing only the whole car is left
		d.Parts = slices.Clone(car.Graph.Parts)
		slices.SortFunc(d.Parts, func(a, b plumbing.Part) int { return strings.Compare(a.Name, b.Name) })
	}
	for _, p := range d.Parts {
		d.Names[p.Key] = p.Name
	}
	for _, v := range d.Values {
		if d.Names[v.Part] == "" {
			d.Names[v.Part] = v.Part
		}
	}
	p := s.page(c, "Values · "+f.Case.Number, "slate", d)
	if failed != nil {
		return s.again(c, failed, "values.html", p)
	}
	return s.render(c, http.StatusOK, "values.html", p)
}

// onValues runs one action of the page of values and goes back to it.
func (s *server) onValues(c *echo.Context, f func(ctx context.Context, fm *form, id string) error) error {
	if err := parsed(c); err != nil {
		return err
	}
	fm := &form{c: c}
	if err := f(c.Request().Context(), fm, c.Param("id")); err != nil {
		return s.showValues(c, err)
	}
	return s.saved(c, fm.key(), "/cases/"+c.Param("id")+"/values")
}

func (s *server) addValue(c *echo.Context) error {
	return s.onValues(c, func(ctx context.Context, f *form, id string) error {
		return s.shop.AddValue(ctx, f.key(), id, casework.NewValue{What: f.text("what"), Part: f.text("part"), Said: f.text("said"), Source: f.text("source")})
	})
}

func (s *server) strikeValue(c *echo.Context) error {
	return s.onValues(c, func(ctx context.Context, f *form, id string) error {
		return s.shop.Stamp(ctx, f.key(), id, casework.Entry{Kind: record.ValueEntry, ID: f.text("entry")}, f.stamp(casework.Strike, casework.Restore))
	})
}

// statedFor are the values of a car of some quantities, for the page where they are needed.
func (s *server) statedFor(ctx context.Context, v record.Vehicle, fits func(evidence.CarValues) bool) ([]evidence.CarValues, error) {
	all, err := s.shop.Values(ctx, v)
	return slices.DeleteFunc(all, func(x evidence.CarValues) bool { return !fits(x) }), err
}
