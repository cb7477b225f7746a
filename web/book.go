package web

import (
	"cmp"
	"net/http"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"

	"wexter/casework"
	"wexter/core/calc"
	"wexter/core/knowledge"
	"wexter/core/obd"
	"wexter/core/plumbing"
	"wexter/core/units"
)

type bookData struct {
	knowledge.Book
	Families []familyChoice // archetypes other than of the EVAP system
	Faults   []faultFamily
	Query    string
	Hits     []knowledge.Hit
	Calcs    []calc.Calculator
	Found    []calc.Calculator // calculators that the query names
	Own      []makersCode      // that the shop has looked up
	Groups   []knowledge.CodeGroup
	Give     knowledge.Code // that is to be looked up, or corrected
	From     string         // the case to go back to
}

// makersCode is a maker's own code as the shop has looked it up.
type makersCode struct {
	knowledge.Code
	Like string // the codes that it counts like
}

type faultFamily struct {
	Name   string
	Faults []knowledge.Fault
}

type testData struct {
	knowledge.Test
	Book   knowledge.Book
	Calcs  []calc.Calculator
	Sees   []knowledge.Fault
	Hazard string
	Only   []string
}

type calcData struct {
	calc.Calculator
	Inputs []quantityField // fields with a quantity
	Plain  []plainField
	Lines  []calc.Line
	All    []calc.Calculator
	Trims  []trimRow // of the calculator of trims
}

type plainField struct{ Key, Label, Unit, Value string }

var kindNames = map[units.Kind]string{units.Pressure: "pressure", units.Length: "length", units.Volume: "volume", units.Temperature: "temperature", units.Flow: "flow", units.Torque: "torque", units.Time: "time", units.Difference: "difference"}

// book is the Book: all of it to read, a search, and the calculators.
func (s *server) book(c *echo.Context) error { return s.showBook(c, nil) }

func (s *server) showBook(c *echo.Context, failed error) error {
	b, err := s.shop.BookOf(c.Request().Context())
	if err != nil {
		return err
	}
	d := bookData{Book: b, Query: c.QueryParam("q"), Calcs: calc.All}
	if len(d.Query) > 200 {
		d.Query = d.Query[:200]
	}
	for _, k := range calc.All {
		if q := strings.ToLower(strings.TrimSpace(d.Query)); q != "" && strings.Contains(strings.ToLower(k.Name+" "+k.Use), q) {
			d.Found = append(d.Found, k)
		}
	}
	d.Hits = b.Search(d.Query)
	for _, f := range plumbing.Families {
		if f != "vapour" {
			d.Families = append(d.Families, familyChoice{Family: f, Label: familyNames[f], Of: s.shop.Book.Plumbing.Family(f)})
		}
	}
	for _, f := range knowledge.FaultFamilies() {
		x := faultFamily{Name: f}
		for _, y := range s.shop.Book.Faults {
			if y.Family == f {
				x.Faults = append(x.Faults, y)
			}
		}
		d.Faults = append(d.Faults, x)
	}
	d.makers(c, b)
	p := s.page(c, "Book", "book", d)
	if failed != nil {
		return s.again(c, failed, "book.html", p)
	}
	return s.render(c, http.StatusOK, "book.html", p)
}

// makers gathers the makers' codes that the shop has looked up, and the one that is to be.
func (d *bookData) makers(c *echo.Context, b knowledge.Book) {
	d.Groups = slices.Clone(b.Groups)
	slices.SortFunc(d.Groups, func(x, y knowledge.CodeGroup) int { return strings.Compare(x.Name, y.Name) })
	d.Give.Code, d.From = cut(c.FormValue("code"), 10), caseOf(c.FormValue("from"))
	for _, k := range b.Codes {
		if k.Group == "" {
			continue
		}
		g, _ := b.Group(k.Code)
		d.Own = append(d.Own, makersCode{k, g.Name})
		if k.Code == d.Give.Code {
			d.Give = k
		}
	}
}

// cut is at most the first n bytes of what was sent in an address.
func cut(s string, n int) string { return strings.ToValidUTF8(s[:min(len(s), n)], "") }

// caseOf is the id of a case as an address may name it; empty for anything else.
func caseOf(s string) string {
	if strings.ContainsFunc(s, func(r rune) bool { return !(r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-') }) {
		return ""
	}
	return cut(s, 64)
}

// giveMeaning writes down what a maker's own code says, or forgets it.
func (s *server) giveMeaning(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f, ctx := &form{c: c}, c.Request().Context()
	var err error
	if f.text("forget") != "" {
		err = s.shop.ForgetMeaning(ctx, f.key(), f.text("code"))
	} else {
		err = s.shop.GiveMeaning(ctx, f.key(), knowledge.Code{Code: f.text("code"), Says: f.text("says"), Group: f.text("group"), Source: f.text("source")})
	}
	if err != nil {
		return s.showBook(c, err)
	}
	if id := caseOf(f.text("from")); id != "" {
		return s.saved(c, f.key(), "/cases/"+id)
	}
	return s.saved(c, f.key(), "/book#makers")
}

// procedure is one test of the Book, made to be printed.
func (s *server) procedure(c *echo.Context) error {
	b := s.shop.Book
	t, ok := b.Test(c.Param("key"))
	if !ok {
		return casework.ErrNotFound
	}
	d := testData{Test: t, Book: b, Hazard: knowledge.HazardWords[t.Hazard]}
	for _, k := range t.Calculators {
		if x, ok := calc.Find(k); ok {
			d.Calcs = append(d.Calcs, x)
		}
	}
	for _, k := range t.Only {
		if a, ok := b.Plumbing.Find(k); ok {
			d.Only = append(d.Only, a.Name)
		}
	}
	for _, f := range b.Faults {
		if slices.Contains(f.Tests, t.Key) && f.Family != "other" {
			d.Sees = append(d.Sees, f)
		}
	}
	return s.render(c, http.StatusOK, "procedure.html", s.page(c, t.Name+" · Book", "book", d))
}

// trimsTyped draws the trims of the calculator; nothing where one is no number.
func trimsTyped(short, long string, k calc.Calculator) []trimRow {
	live := map[string]obd.Value{}
	for pid, typed := range map[string]string{"06": cmp.Or(short, k.Fields[0].Default), "07": cmp.Or(long, k.Fields[1].Default)} {
		v, err := units.Number(typed)
		if err != nil {
			return nil
		}
		live[pid] = obd.Value{Value: v}
	}
	return trimsOf(live)
}

// calculator works one formula out from the URL, so that Back works and a
// result can be printed.
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
			d.Inputs = append(d.Inputs, quantity(f.Key, f.Label, kindNames[f.Kind], f.Unit, v))
		}
	}
	p := s.page(c, k.Name+" · Book", "book", d)
	lines, err := k.Run(typed)
	status := http.StatusOK
	if err != nil {
		p.Problem, status = casework.Upper(err.Error())+".", http.StatusUnprocessableEntity
	}
	if d.Lines = lines; k.Key == "trim" && err == nil {
		d.Trims = trimsTyped(typed["s"], typed["l"], k)
	}
	p.Data = d
	return s.render(c, status, "calc.html", p)
}
