package report

import (
	"fmt"
	"math"
	"strconv"

	"wexter/core/trim"
)

// TrimPlot is what a drawing of trims against flow holds beside the points.
type TrimPlot struct {
	Result *trim.Result
	First  trim.Cause   // drawn with its band
	Others []trim.Cause // drawn thin, with their names
	// Foretold is what a chosen suspect would give, dashed over the points; nil for none.
	Foretold []trim.At
	Says     string // of the suspect
}

// Draw draws total trim against air flow: points with their noise, the curves of causes, and the
// lines at which a trim of the control unit stops.
func (p TrimPlot) Draw(c Canvas, w, h float64) {
	f := p.frame(w, h)
	f.axisY(c)
	f.axisLog(c, []float64{0.5, 1, 2, 3, 5, 10, 20, 30, 50, 100, 200, 300})
	stop := 100 * p.Result.Points.Stop
	for _, y := range []float64{stop, -stop} {
		if y > f.MinY && y < f.MaxY {
			c.Line("limit", f.X, f.py(y), f.X+f.W, f.py(y))
			c.Text("label-limit", "end", f.X+f.W-4, f.py(y)-5, fmt.Sprintf("a trim stops at %s %%", tick(y, 1)))
		}
	}
	best := p.Result.Curve(p.First, 60)
	f.area(c, best)
	for _, x := range p.Others {
		f.curve(c, "other", p.Result.Curve(x, 60))
	}
	f.curve(c, "best", best)
	if p.Foretold != nil {
		f.curve(c, "ghost", p.Foretold)
	}
	p.points(c, f)
	c.Text("small", "end", f.X+f.W, f.Y+f.H+36, p.legend())
}

// legend says what the marks are.
func (p TrimPlot) legend() string {
	say := "curve: " + p.First.Name + ", purge shut"
	for _, x := range p.Result.Points.Points {
		if x.Purge > 0.03 {
			say += "; filled: purge open"
			break
		}
	}
	for _, x := range p.Result.Points.Points {
		if len(x.Banks) > 1 {
			return say + "; square: bank 2"
		}
	}
	return say
}

// frame fits the plot to points and curve.
func (p TrimPlot) frame(w, h float64) Frame {
	low, high := math.Inf(1), math.Inf(-1)
	y := []float64{-8, 8}
	add := func(air, pct float64) {
		if air > 0 {
			low, high = math.Min(low, air), math.Max(high, air)
		}
		y = append(y, pct)
	}
	for _, x := range p.Result.Points.Points {
		t, sd, _ := x.Mean()
		add(0, 100*(t+2*sd))
		add(0, 100*(t-2*sd))
	}
	for _, x := range p.Result.Curve(p.First, 20) {
		add(1e3*x.Air, 100*math.Min(x.High, 1))
		add(1e3*x.Air, 100*x.Low)
	}
	for _, x := range p.Foretold {
		add(1e3*x.Air, 100*math.Min(x.Trim, 1))
	}
	x := []float64{math.Log(low * 0.85), math.Log(high * 1.15)}
	ys := make([]float64, len(y))
	for i := range ys {
		ys[i] = x[0]
	}
	return NewFrame(w, h, "air flow, g/s", "total trim, %", Series{X: x, Y: []float64{0, 0}}, Series{X: ys, Y: y})
}

// axisLog draws ticks of a logarithmic axis.
func (f Frame) axisLog(c Canvas, at []float64) {
	last := math.Inf(-1)
	for _, v := range at {
		x := math.Log(v)
		if x < f.MinX || x > f.MaxX || f.px(x)-last < 26 {
			continue
		}
		last = f.px(x)
		c.Line("grid", last, f.Y, last, f.Y+f.H)
		c.Text("tick", "middle", last, f.Y+f.H+18, strconv.FormatFloat(v, 'g', -1, 64))
	}
	c.Text("small", "start", f.X, f.Y+f.H+36, f.XLabel+" · "+f.YLabel)
}

// curve draws what a cause says.
func (f Frame) curve(c Canvas, style string, at []trim.At) {
	var xs, ys []float64
	for _, a := range at {
		xs, ys = append(xs, f.px(math.Log(1e3*a.Air))), append(ys, f.clamped(100*a.Trim))
	}
	c.Poly(style, xs, ys)
}

// area draws the band of a cause.
func (f Frame) area(c Canvas, at []trim.At) {
	var xs, ys []float64
	for _, a := range at {
		xs, ys = append(xs, f.px(math.Log(1e3*a.Air))), append(ys, f.clamped(100*a.High))
	}
	for i := len(at) - 1; i >= 0; i-- {
		xs, ys = append(xs, f.px(math.Log(1e3*at[i].Air))), append(ys, f.clamped(100*at[i].Low))
	}
	c.Poly("area", xs, ys)
}

// clamped is a height within the frame.
func (f Frame) clamped(y float64) float64 { return f.py(math.Min(math.Max(y, f.MinY), f.MaxY)) }

// points draws the points: a circle for bank 1, a square for bank 2, an arrow where more was needed
// than the trims can give.
func (p TrimPlot) points(c Canvas, f Frame) {
	named := map[trim.Region]bool{}
	for i, x := range p.Result.Points.Points {
		at := f.px(math.Log(1e3 * p.Result.Flow(i)))
		for n, b := range x.Banks {
			y, dx := 100*b.Total, 0.0
			if len(x.Banks) > 1 {
				dx = float64(n)*7 - 3.5
			}
			c.Line("mark", at+dx, f.clamped(y-196*b.SD), at+dx, f.clamped(y+196*b.SD))
			if b.Bound {
				dir := -float64(b.Stop)
				tip := f.clamped(y) + 26*dir
				c.Line("mark", at+dx, f.clamped(y), at+dx, tip)
				c.Poly("mark", []float64{at + dx - 5, at + dx, at + dx + 5}, []float64{tip - 7*dir, tip, tip - 7*dir})
			}
			style := "point"
			if x.Purge > 0.03 {
				style = "purging"
			}
			if n == 0 {
				c.Circle(style, at+dx, f.clamped(y), 5)
			} else {
				c.Rect(style, at+dx-4.5, f.clamped(y)-4.5, 9, 9)
			}
		}
		if t, _, _ := x.Mean(); !named[x.Region] && x.Region != trim.Other {
			named[x.Region] = true
			c.Text("small", "start", at+9, f.clamped(100*t)-8, map[trim.Region]string{trim.Idle: "idle", trim.Fast: "2500", trim.Loaded: "loaded"}[x.Region])
		}
	}
}

// TrimStrip is a drive against time: the total trims as they were read, and what of it counts.
type TrimStrip struct {
	Points *trim.Points
	Time   []float64   // s
	Total  [][]float64 // %, of each bank; NaN where it was not read
}

// cutRows are the reasons in the order of their rows.
var cutRows = []trim.Reason{trim.NotRunning, trim.NotWarm, trim.OpenLoop, trim.Overrun, trim.PurgeMoves, trim.Unsteady, trim.NothingRead}

// Draw draws the strip: what is cut lies in grey, and a row for each reason says why.
func (s TrimStrip) Draw(c Canvas, w, h float64) {
	used := []trim.Reason{}
	for _, r := range cutRows {
		for _, x := range s.Points.Cuts {
			if x.Why == r {
				used = append(used, r)
				break
			}
		}
	}
	const row = 20.0
	below := row*float64(len(used)+1) + 16
	var series []Series
	for i := range s.Total {
		style := "measured"
		if i > 0 {
			style = "before"
		}
		series = append(series, pieces(s.Time, s.Total[i], style)...)
	}
	if len(s.Time) == 0 || len(series) == 0 {
		return
	}
	f := NewFrame(w, h-below+12, "", "", append(series, Series{X: []float64{s.Time[0], s.Time[len(s.Time)-1]}, Y: []float64{-5, 5}})...)
	const names = 156.0 // room for the reasons
	f.X, f.W = names, w-names-14
	for _, x := range s.Points.Cuts {
		c.Rect("cut", f.px(x.From), f.Y, f.px(x.To)-f.px(x.From), f.H)
	}
	f.axisY(c)
	for _, x := range series {
		f.Draw(c, x)
	}
	y := f.Y + f.H + 6
	s.row(c, f, y, "counts")
	for i, r := range used {
		s.cuts(c, f, y+row*float64(i+1), r)
	}
	f.axisX(c, below-6)
	c.Text("small", "start", f.X, f.Y-8, "total trim, %")
}

// row draws which stretches count, by their regions.
func (s TrimStrip) row(c Canvas, f Frame, y float64, name string) {
	c.Text("small", "end", f.X-6, y+13, name)
	last := math.Inf(-1)
	for _, x := range s.Points.Stretches {
		from, to := f.px(x.From), f.px(x.To)
		c.Rect("counts", from, y+2, to-from, 14)
		r := s.Points.Points[x.Point].Region
		word := map[trim.Region]string{trim.Idle: "idle", trim.Fast: "2500", trim.Loaded: "load"}[r]
		if word != "" && to-from > 30 && from-last > 4 {
			c.Text("counted", "middle", (from+to)/2, y+13, word)
			last = to
		}
	}
}

// cuts draws the stretches that one reason cuts.
func (s TrimStrip) cuts(c Canvas, f Frame, y float64, r trim.Reason) {
	c.Text("small", "end", f.X-6, y+13, r.String())
	for _, x := range s.Points.Cuts {
		if x.Why != r {
			continue
		}
		from, to := f.px(x.From), f.px(x.To)
		c.Rect("why", from, y+2, math.Max(to-from, 1.5), 14)
	}
}

// pieces are the stretches of a series that were read.
func pieces(t, v []float64, style string) (out []Series) {
	var cur Series
	flush := func() {
		if len(cur.X) > 1 {
			out = append(out, cur)
		}
		cur = Series{Style: style}
	}
	flush()
	for i, y := range v {
		if math.IsNaN(y) || len(cur.X) > 0 && t[i]-cur.X[len(cur.X)-1] > 10 {
			flush()
		}
		if !math.IsNaN(y) {
			cur.X, cur.Y = append(cur.X, t[i]), append(cur.Y, y)
		}
	}
	flush()
	return out
}
