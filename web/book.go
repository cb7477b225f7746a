package web

import (
	"net/http"
	"strings"

	"github.com/labstack/echo/v5"

	"wexter/casework"
	"wexter/core/calc"
	"wexter/core/knowledge"
	"wexter/core/units"
)

type bookData struct {
	knowledge.Book
	Query string
	Hits  []knowledge.Hit
	Calcs []calc.Calculator
	Found []calc.Calculator // calculators that the query names
}

type calcData struct {
	calc.Calculator
	Inputs []map[string]string // fields with a quantity
	Plain  []plainField
	Lines  []calc.Line
	All    []calc.Calculator
}

type plainField struct{ Key, Label, Unit, Value string }

var kindNames = map[units.Kind]string{units.Pressure: "pressure", units.Length: "length", units.Volume: "volume", units.Temperature: "temperature", units.Flow: "flow", units.Torque: "torque", units.Time: "time", units.Difference: "difference"}

// book is the Book: all of it to read, a search, and the calculators.
func (s *server) book(c *echo.Context) error {
	d := bookData{Book: s.shop.Book, Query: c.QueryParam("q"), Calcs: calc.All}
	if len(d.Query) > 200 {
		d.Query = d.Query[:200]
	}
	for _, k := range calc.All {
		if q := strings.ToLower(strings.TrimSpace(d.Query)); q != "" && strings.Contains(strings.ToLower(k.Name+" "+k.Use), q) {
			d.Found = append(d.Found, k)
		}
	}
	d.Hits = s.shop.Book.Search(d.Query)
	return s.render(c, http.StatusOK, "book.html", s.page(c, "Book", "book", d))
}

// calculator works one formula out with what stands in the address, so that a result
// can be gone back to and printed.
func (s *server) calculator(c *echo.Context) error {
	k, ok := calc.Find(c.Param("key"))
	if !ok {
		return casework.ErrNotFound
	}
	typed := map[string]string{}
	for _, f := range k.Fields {
		if v := c.QueryParam(f.Key); len(v) <= 60 {
			typed[f.Key] = v
		}
	}
	d := calcData{Calculator: k, All: calc.All}
	for _, f := range k.Fields {
		v := typed[f.Key]
		if v == "" {
			v = f.Default
		}
		if f.Kind == calc.Plain {
			d.Plain = append(d.Plain, plainField{f.Key, f.Label, f.Unit, v})
		} else {
			d.Inputs = append(d.Inputs, quantity(f.Key, f.Label, kindNames[f.Kind], f.Unit, v, ""))
		}
	}
	p := s.page(c, k.Name+" · Book", "book", d)
	lines, err := k.Run(typed)
	status := http.StatusOK
	if err != nil {
		p.Problem, status = casework.Upper(err.Error())+".", http.StatusUnprocessableEntity
	}
	d.Lines = lines
	p.Data = d
	return s.render(c, status, "calc.html", p)
}
