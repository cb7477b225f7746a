// Package report turns casework into what leaves the shop: plots, the printed
// page, PDF, CSV of the readings and the JSON bundle.
package report

import (
	"fmt"
	"html"
	"math"
	"strconv"
	"strings"
)

// Canvas is what a plot is drawn on: SVG for the screen and paper, PDF for the
// report. Style names what is drawn, not how: "measured", "limit", "fit", "grid",
// "axis", "mark", "before", "after", "band", "ring", "text", "small".
type Canvas interface {
	Line(style string, x1, y1, x2, y2 float64)
	Poly(style string, xs, ys []float64)
	Text(style, anchor string, x, y float64, s string)
	Rect(style string, x, y, w, h float64)
	Circle(style string, x, y, r float64)
}

// SVG is a Canvas that writes an SVG element. Colours come from the style sheet by
// class, so that night and print need no second drawing.
type SVG struct {
	w, h float64
	b    strings.Builder
}

// NewSVG starts a drawing of w by h units with a title for screen readers.
func NewSVG(w, h float64, title string) *SVG {
	s := &SVG{w: w, h: h}
	fmt.Fprintf(&s.b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %g %g" class="plot" role="img" aria-label="%s">`, w, h, html.EscapeString(title))
	return s
}

// String closes the drawing and returns it.
func (s *SVG) String() string { return s.b.String() + "</svg>" }

// Line implements Canvas.
func (s *SVG) Line(style string, x1, y1, x2, y2 float64) {
	fmt.Fprintf(&s.b, `<line class="p-%s" x1="%.1f" y1="%.1f" x2="%.1f" y2="%.1f"/>`, style, x1, y1, x2, y2)
}

// Poly implements Canvas.
func (s *SVG) Poly(style string, xs, ys []float64) {
	fmt.Fprintf(&s.b, `<polyline class="p-%s" points="`, style)
	for i := range xs {
		fmt.Fprintf(&s.b, "%.1f,%.1f ", xs[i], ys[i])
	}
	s.b.WriteString(`"/>`)
}

// Text implements Canvas.
func (s *SVG) Text(style, anchor string, x, y float64, t string) {
	fmt.Fprintf(&s.b, `<text class="p-%s" text-anchor="%s" x="%.1f" y="%.1f">%s</text>`, style, anchor, x, y, html.EscapeString(t))
}

// Rect implements Canvas.
func (s *SVG) Rect(style string, x, y, w, h float64) {
	fmt.Fprintf(&s.b, `<rect class="p-%s" x="%.1f" y="%.1f" width="%.1f" height="%.1f"/>`, style, x, y, math.Max(w, 0), math.Max(h, 0))
}

// Circle implements Canvas.
func (s *SVG) Circle(style string, x, y, r float64) {
	fmt.Fprintf(&s.b, `<circle class="p-%s" cx="%.1f" cy="%.1f" r="%.1f"/>`, style, x, y, math.Max(r, 0))
}

// Series is one curve.
type Series struct {
	Style string
	Label string
	X, Y  []float64
}

// Frame maps data to the drawing: plot area in drawing units, data range.
type Frame struct {
	X, Y, W, H         float64
	MinX, MaxX         float64
	MinY, MaxY         float64
	XLabel, YLabel     string
	XTickEvery, YEvery float64
}

func (f Frame) px(x float64) float64 { return f.X + (x-f.MinX)/(f.MaxX-f.MinX)*f.W }
func (f Frame) py(y float64) float64 { return f.Y + f.H - (y-f.MinY)/(f.MaxY-f.MinY)*f.H }

// NewFrame fits a frame of w by h to the series, with zero in sight.
func NewFrame(w, h float64, xLabel, yLabel string, series ...Series) Frame {
	f := Frame{X: 52, Y: 22, W: w - 66, H: h - 62, XLabel: xLabel, YLabel: yLabel, MinX: math.Inf(1), MaxX: math.Inf(-1)}
	for _, s := range series {
		for i := range s.X {
			f.MinX, f.MaxX = math.Min(f.MinX, s.X[i]), math.Max(f.MaxX, s.X[i])
			f.MinY, f.MaxY = math.Min(f.MinY, s.Y[i]), math.Max(f.MaxY, s.Y[i])
		}
	}
	if math.IsInf(f.MinX, 0) || f.MaxX <= f.MinX {
		f.MinX, f.MaxX = 0, 1
	}
	if f.MaxY-f.MinY < 0.2 {
		f.MaxY, f.MinY = math.Max(f.MaxY, 0.1), math.Min(f.MinY, -0.1)
	}
	f.XTickEvery, f.YEvery = step((f.MaxX-f.MinX)/7), step((f.MaxY-f.MinY)/6)
	// A reading of noise below zero does not deserve a row of its own.
	f.MinY, f.MaxY = math.Floor(f.MinY/f.YEvery+0.04)*f.YEvery, math.Ceil(f.MaxY/f.YEvery-1e-9)*f.YEvery
	return f
}

func step(raw float64) float64 {
	mag := math.Pow(10, math.Floor(math.Log10(raw)))
	for _, m := range []float64{1, 2, 3, 5, 10} {
		if m*mag >= raw {
			return m * mag
		}
	}
	return 10 * mag
}

// Axes draws grid, ticks and labels.
func (f Frame) Axes(c Canvas) {
	f.axisY(c)
	f.axisX(c, 0)
	c.Text("small", "start", f.X, f.Y+f.H+36, f.XLabel+" · "+f.YLabel)
}

// axisY draws the grid and ticks of the heights, and the line at nought.
func (f Frame) axisY(c Canvas) {
	for y := f.MinY; y <= f.MaxY+f.YEvery/2; y += f.YEvery {
		c.Line("grid", f.X, f.py(y), f.X+f.W, f.py(y))
		c.Text("tick", "end", f.X-7, f.py(y)+5, tick(y, f.YEvery))
	}
	c.Line("axis", f.X, f.py(math.Max(f.MinY, 0)), f.X+f.W, f.py(math.Max(f.MinY, 0)))
	c.Line("axis", f.X, f.Y, f.X, f.Y+f.H)
}

// axisX draws the grid and ticks along the bottom, so far below it.
func (f Frame) axisX(c Canvas, below float64) {
	for x := math.Ceil(f.MinX/f.XTickEvery-1e-9) * f.XTickEvery; x <= f.MaxX+1e-9; x += f.XTickEvery {
		c.Line("grid", f.px(x), f.Y, f.px(x), f.Y+f.H)
		c.Text("tick", "middle", f.px(x), f.Y+f.H+18+below, tick(x, f.XTickEvery))
	}
}

func tick(v, every float64) string {
	d := 0
	for every < 0.999 && d < 4 {
		every *= 10
		d++
	}
	s := fmt.Sprintf("%.*f", d, v)
	if s == "-0" || strings.Trim(s, "-0.") == "" {
		s = strings.TrimPrefix(s, "-")
	}
	return strings.Replace(s, "-", "−", 1)
}

// Draw puts a series into the frame, thinned to what the width can show: of the
// readings that share a column the lowest and the highest are kept.
func (f Frame) Draw(c Canvas, s Series) {
	cols := int(f.W)
	var xs, ys []float64
	if len(s.X) <= 2*cols {
		for i := range s.X {
			xs, ys = append(xs, f.px(s.X[i])), append(ys, f.py(s.Y[i]))
		}
	} else {
		for i := 0; i < len(s.X); {
			col := math.Floor(f.px(s.X[i]))
			lo, hi := i, i
			j := i
			for ; j < len(s.X) && math.Floor(f.px(s.X[j])) == col; j++ {
				if s.Y[j] < s.Y[lo] {
					lo = j
				}
				if s.Y[j] > s.Y[hi] {
					hi = j
				}
			}
			for _, k := range []int{min(lo, hi), max(lo, hi)} {
				xs, ys = append(xs, f.px(s.X[k])), append(ys, f.py(s.Y[k]))
			}
			i = j
		}
	}
	c.Poly(s.Style, xs, ys)
}

// Label writes a word beside a curve at the share u of its length.
func (f Frame) Label(c Canvas, s Series, u float64, dy float64) {
	if len(s.X) == 0 {
		return
	}
	i := int(u * float64(len(s.X)-1))
	anchor, dx := "start", 6.0
	if dy > 0 {
		anchor, dx = "end", -4 // below a falling curve there is room on its left
	}
	c.Text("label-"+s.Style, anchor, f.px(s.X[i])+dx, f.py(s.Y[i])+dy, s.Label)
}

// Size is a diameter to draw, in mm.
type Size struct {
	D, Low, High float64
	Style, Label string
}

// Scale draws diameters as bars on a logarithmic rule with the limit.
func Scale(c Canvas, x, y, w float64, limit float64, sizes ...Size) {
	lo, hi := 0.1, 2.0
	for _, s := range sizes {
		hi = math.Max(hi, math.Min(s.High*1.15, 20))
		if s.Label != "" && s.Low < 2*lo && s.High > lo { // no room before it: its word stands behind
			hi = math.Max(hi, math.Min(lo*math.Pow(s.High/lo, w/(w-80)), 20))
		}
	}
	at := func(d float64) float64 {
		return x + w*math.Log(math.Min(math.Max(d, lo), hi)/lo)/math.Log(hi/lo)
	}
	rows := float64(len(sizes))
	top := y + 18
	axis := top + 26*rows + 4
	for i, s := range sizes {
		yy := top + 26*float64(i)
		c.Rect(s.Style, at(s.Low), yy, math.Max(at(s.High)-at(s.Low), 3), 20)
		if s.D >= lo {
			c.Line("centre", at(s.D), yy-2, at(s.D), yy+22)
		}
		if s.Label != "" {
			px, anchor := at(s.High)+8, "start"
			wide := 8 * float64(len([]rune(s.Label)))
			across := at(limit) > px-4 && at(limit) < px+wide
			if room := at(s.Low)-8-wide > x; (px > x+w-120 || across) && room {
				px, anchor = at(s.Low)-8, "end"
			} else if across {
				px = at(limit) + 8
			}
			c.Text("label", anchor, px, yy+15, s.Label)
		}
	}
	c.Line("axis", x, axis, x+w, axis)
	last := math.Inf(-1)
	for _, t := range []float64{0.1, 0.15, 0.2, 0.3, 0.4, 0.5, 0.7, 1, 1.5, 2, 3, 5, 10, 20} {
		if t > hi || at(t)-last < 30 {
			continue
		}
		last = at(t)
		c.Line("axis", at(t), axis-5, at(t), axis+5)
		c.Text("tick", "middle", at(t), axis+20, strconv.FormatFloat(t, 'g', -1, 64))
	}
	c.Line("limitline", at(limit), y, at(limit), axis+5)
	c.Text("label-limit", "start", at(limit)+6, y+9, fmt.Sprintf("limit %.3f mm", limit))
	c.Text("small", "end", x+w, axis+38, "equivalent orifice, mm")
}

// Hole draws the leak against the limit ring: the disc is the lower bound, the rim
// as wide as the uncertainty, the dashed ring the limit.
func Hole(c Canvas, cx, cy, r float64, s Size, limit float64) {
	scale := r / math.Max(limit, math.Min(s.High, 3*limit))
	c.Circle("rim", cx, cy, math.Min(s.High, 3*limit)*scale)
	c.Circle("hole", cx, cy, math.Min(s.Low, 3*limit)*scale)
	if s.D > 0 && s.D < 3*limit {
		c.Circle("holeline", cx, cy, s.D*scale)
	}
	c.Circle("ring", cx, cy, limit*scale)
}
