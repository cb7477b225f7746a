package web

import (
	"fmt"
	"net/http"

	"github.com/labstack/echo/v5"

	"wexter/casework"
	"wexter/report"
)

func (s *server) report(c *echo.Context) error {
	d, err := s.caseData(c.Request().Context(), c.Param("id"))
	if err != nil {
		return err
	}
	d.Paper = s.shop.Paper(c.Request().Context(), d.Folder)
	return s.render(c, http.StatusOK, "report.html", s.page(c, "Report "+d.Case.Number, "slate", d))
}

func (s *server) reportPDF(c *echo.Context) error {
	f, err := s.shop.Load(c.Request().Context(), c.Param("id"))
	if err != nil {
		return err
	}
	data, err := report.PDF(s.shop.Paper(c.Request().Context(), f), fonts())
	if err != nil {
		return err
	}
	c.Response().Header().Set("Content-Disposition", fmt.Sprintf("inline; filename=%q", f.Case.Number+".pdf"))
	return c.Blob(http.StatusOK, "application/pdf", data)
}

func fonts() report.Fonts {
	read := func(name string) []byte {
		b, err := staticFiles.ReadFile("static/fonts/" + name)
		if err != nil {
			panic(err) // embedded when built
		}
		return b
	}
	return report.Fonts{Text: read("text.ttf"), Bold: read("bold.ttf"), Figures: read("figures.ttf")}
}

func (s *server) bundle(c *echo.Context) error {
	data, f, err := s.shop.Export(c.Request().Context(), c.Param("id"))
	if err != nil {
		return err
	}
	c.Response().Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", f+".json"))
	return c.Blob(http.StatusOK, "application/json", data)
}

func (s *server) importBundle(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := form{c: c}
	data, _ := f.file("bundle", report.MaxBytes)
	err := f.err
	id := ""
	if err == nil && data == nil {
		err = &casework.Problem{Sentence: "Choose the bundle of a case: a JSON file."}
	}
	if err == nil {
		id, err = s.shop.Import(c.Request().Context(), data)
	}
	if err != nil {
		return err
	}
	return c.Redirect(http.StatusSeeOther, "/cases/"+id)
}
