package report

import (
	"bytes"
	"fmt"
	"strings"

	"github.com/go-pdf/fpdf"
)

// Fonts are TrueType files with the characters a report needs.
type Fonts struct{ Text, Bold, Figures []byte }

// PDF sets a paper on A4.
func PDF(p Paper, f Fonts) ([]byte, error) {
	doc := fpdf.New("P", "mm", "A4", "")
	doc.SetCatalogSort(true)
	doc.AddUTF8FontFromBytes("text", "", f.Text)
	doc.AddUTF8FontFromBytes("text", "B", f.Bold)
	doc.AddUTF8FontFromBytes("figures", "", f.Figures)
	doc.SetTitle(p.Title, true)
	doc.SetMargins(20, 18, 20)
	doc.SetAutoPageBreak(true, 20)
	doc.SetFooterFunc(func() {
		doc.SetY(-14)
		doc.SetFont("text", "", 9)
		doc.SetTextColor(80, 90, 98)
		doc.CellFormat(85, 5, printable(p.Title), "", 0, "L", false, 0, "")
		doc.CellFormat(85, 5, fmt.Sprintf("page %d", doc.PageNo()), "", 0, "R", false, 0, "")
	})
	doc.AddPage()
	line := func(font, style string, size, h float64, s string) {
		doc.SetFont(font, style, size)
		doc.MultiCell(170, h, printable(s), "", "L", false)
	}
	doc.SetTextColor(21, 35, 44)
	line("text", "B", 20, 9, p.Title)
	line("text", "", 11, 5.5, p.Under)
	doc.Ln(2)
	line("text", "B", 13, 6.5, p.Verdict)
	for _, s := range p.Sections {
		doc.Ln(3)
		if doc.GetY() > 250 || s.Plot() && doc.GetY() > 180 {
			doc.AddPage() // a heading stays with what it heads
		}
		line("text", "B", 12, 6, s.Head)
		doc.SetDrawColor(207, 200, 182)
		doc.SetLineWidth(0.2)
		doc.Line(20, doc.GetY(), 190, doc.GetY())
		doc.Ln(1)
		for _, r := range s.Rows {
			y := doc.GetY()
			if y > 268 {
				doc.AddPage()
				y = doc.GetY()
			}
			doc.SetFont("text", "", 10.5)
			doc.SetTextColor(77, 90, 99)
			doc.MultiCell(48, 5, printable(r.Name), "", "L", false)
			left := doc.GetY()
			doc.SetXY(68, y)
			doc.SetTextColor(21, 35, 44)
			doc.MultiCell(122, 5, printable(r.Value), "", "L", false)
			doc.SetY(max(left, doc.GetY()))
		}
		for _, t := range s.Text {
			line("text", "", 10.5, 5, t)
		}
		for _, x := range s.Pictures {
			picture(doc, x)
		}
		if s.Plot() {
			const w, h = 740.0, 340.0
			k := 170 / w
			if doc.GetY()+h*k > 272 {
				doc.AddPage()
			}
			c := &pdfCanvas{doc: doc, x: 20, y: doc.GetY() + 2, k: k}
			Comparison(c, w, h, s.Before, s.After)
			doc.SetTextColor(21, 35, 44)
			doc.SetY(c.y + h*k + 2)
		}
	}
	doc.Ln(4)
	doc.SetTextColor(77, 90, 99)
	for _, t := range p.Foot {
		line("text", "", 9.5, 4.6, t)
	}
	var out bytes.Buffer
	err := doc.Output(&out)
	return out.Bytes(), err
}

// picture sets a photo, 80 mm wide, with its caption under it.
func picture(doc *fpdf.Fpdf, x Picture) {
	const width = 80.0
	kind := map[string]string{"image/png": "PNG", "image/jpeg": "JPG"}[x.Mime]
	if kind == "" {
		return
	}
	o := fpdf.ImageOptions{ImageType: kind}
	info := doc.RegisterImageOptionsReader(x.Hash, o, bytes.NewReader(x.Data))
	if doc.Err() || info.Width() == 0 {
		return
	}
	high := width * info.Height() / info.Width()
	if doc.GetY()+high+8 > 275 {
		doc.AddPage()
	}
	y := doc.GetY() + 2
	doc.ImageOptions(x.Hash, 20, y, width, 0, false, o, 0, "")
	doc.SetY(y + high + 1)
	doc.SetFont("text", "", 9.5)
	doc.MultiCell(170, 4.6, printable(x.Caption), "", "L", false)
}

// printable replaces what the embedded fonts lack: nothing may print as a hollow box.
var printable = strings.NewReplacer("₂", "2", "−", "–", "→", "to", "✓", "", "τ", "tau", "σ", "sigma", "κ", "kappa", "Ω", "ohm", "\u202f", " ").Replace

// pdfCanvas draws a plot into a PDF at a scale.
type pdfCanvas struct {
	doc     *fpdf.Fpdf
	x, y, k float64
}

type ink struct {
	r, g, b int
	width   float64
	dash    []float64
}

var inks = map[string]ink{
	"grid": {226, 220, 206, 0.15, nil}, "axis": {21, 35, 44, 0.3, nil}, "measured": {31, 78, 140, 0.4, nil}, "after": {31, 78, 140, 0.4, nil},
	"before": {160, 95, 8, 0.4, []float64{3, 0.7, 0.5, 0.7}}, "limit": {173, 43, 32, 0.4, []float64{1.8, 1.2}}, "limitline": {173, 43, 32, 0.7, nil},
	"mark": {21, 35, 44, 0.3, nil}, "centre": {255, 255, 255, 0.6, nil}, "band": {31, 78, 140, 0.3, nil},
}

func (c *pdfCanvas) use(style string) {
	i := inks[style]
	c.doc.SetDrawColor(i.r, i.g, i.b)
	c.doc.SetFillColor(i.r, i.g, i.b)
	c.doc.SetLineWidth(i.width)
	c.doc.SetDashPattern(i.dash, 0)
}

func (c *pdfCanvas) Line(style string, x1, y1, x2, y2 float64) {
	c.use(style)
	c.doc.Line(c.x+x1*c.k, c.y+y1*c.k, c.x+x2*c.k, c.y+y2*c.k)
	c.doc.SetDashPattern(nil, 0)
}

func (c *pdfCanvas) Poly(style string, xs, ys []float64) {
	if len(xs) == 0 {
		return
	}
	c.use(style)
	c.doc.MoveTo(c.x+xs[0]*c.k, c.y+ys[0]*c.k)
	for i := range xs[1:] {
		c.doc.LineTo(c.x+xs[i+1]*c.k, c.y+ys[i+1]*c.k)
	}
	c.doc.DrawPath("D")
	c.doc.SetDashPattern(nil, 0)
}

func (c *pdfCanvas) Text(style, anchor string, x, y float64, s string) {
	s = printable(s)
	font := "text"
	if style == "tick" {
		font = "figures"
	}
	c.doc.SetFont(font, "", 9)
	i := inks[strings.TrimPrefix(style, "label-")]
	if i.width == 0 {
		i = ink{r: 21, g: 35, b: 44}
	}
	c.doc.SetTextColor(i.r, i.g, i.b)
	w := c.doc.GetStringWidth(s)
	px := c.x + x*c.k
	switch anchor {
	case "middle":
		px -= w / 2
	case "end":
		px -= w
	}
	c.doc.Text(px, c.y+y*c.k, s)
}

func (c *pdfCanvas) Rect(style string, x, y, w, h float64) {
	c.use(style)
	c.doc.Rect(c.x+x*c.k, c.y+y*c.k, w*c.k, h*c.k, "F")
}

func (c *pdfCanvas) Circle(style string, x, y, r float64) {
	c.use(style)
	c.doc.Circle(c.x+x*c.k, c.y+y*c.k, r*c.k, "D")
}
