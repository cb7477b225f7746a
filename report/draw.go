package report

import (
	"cmp"
	"fmt"
	"slices"

	"wexter/core/record"
	"wexter/core/units"
)

func inches(pa []float64) []float64 {
	out := make([]float64, len(pa))
	for i, p := range pa {
		out[i] = p / units.InH2O
	}
	return out
}

// mainLeg is the leg a test is remembered by: its first hold, the one that falls.
func mainLeg(s record.Summary) (record.SummaryLeg, bool) {
	best, span := -1, 0.0
	for i, l := range s.Legs {
		if len(l.Measured) == 0 {
			continue
		}
		lo, hi := l.Measured[0], l.Measured[0]
		for _, p := range l.Measured {
			lo, hi = min(lo, p), max(hi, p)
		}
		if reach := max(hi, -lo); reach > 1.2*span {
			best, span = i, reach
		}
	}
	if best < 0 {
		return record.SummaryLeg{}, false
	}
	return s.Legs[best], true
}

func mean(y []float64) float64 {
	s := 0.0
	for _, v := range y {
		s += v
	}
	return s / float64(max(len(y), 1))
}

func fromStart(l record.SummaryLeg) []float64 {
	out := make([]float64, len(l.Time))
	for i, t := range l.Time {
		out[i] = t - l.Time[0]
	}
	return out
}

// Comparison draws before and after on one plot with both diameters under it; it
// reports false when there is nothing to draw.
func Comparison(c Canvas, w, h float64, before, after *record.Summary) bool {
	var series []Series
	var sizes []Size
	limit := 0.0
	add := func(s *record.Summary, style, label string) {
		if s == nil {
			return
		}
		l, ok := mainLeg(*s)
		if !ok {
			return
		}
		series = append(series, Series{Style: style, Label: label, X: fromStart(l), Y: inches(l.Measured)})
		sizes = append(sizes, Size{D: s.D * 1e3, Low: s.Low * 1e3, High: s.High * 1e3, Style: style, Label: fmt.Sprintf("%s %.3f mm", label, s.D*1e3)})
		limit = s.Limit * 1e3
		if style == "after" {
			series = append(series, Series{Style: "limit", Label: "the limit", X: fromStart(l), Y: inches(l.AtLimit)})
		}
	}
	if after == nil {
		add(before, "after", "measured")
	} else {
		add(before, "before", "before")
	}
	add(after, "after", "after")
	if len(series) == 0 {
		return false
	}
	scale := 70 + 26*float64(len(sizes))
	f := NewFrame(w, h-scale, "seconds of hold", "inH2O gauge", series...)
	f.Axes(c)
	for _, s := range series {
		f.Draw(c, s)
	}
	// The upper curve is named above, the lower one below, at places of their own.
	slices.SortStableFunc(series, func(a, b Series) int { return cmp.Compare(mean(b.Y), mean(a.Y)) })
	for i, s := range series {
		dy := -10.0
		if i == len(series)-1 && i > 0 {
			dy = 20
		}
		f.Label(c, s, []float64{0.62, 0.4, 0.3}[i%3], dy)
	}
	Scale(c, f.X, h-scale+6, f.W, limit, sizes...)
	return true
}

// Spark draws a hold small, for the strip.
func Spark(c Canvas, w, h float64, s record.Summary) {
	l, ok := mainLeg(s)
	if !ok {
		return
	}
	m := Series{Style: "measured", X: fromStart(l), Y: inches(l.Measured)}
	lim := Series{Style: "limit", X: m.X, Y: inches(l.AtLimit)}
	f := NewFrame(w, h, "", "", m, lim)
	f.X, f.Y, f.W, f.H = 2, 3, w-4, h-6
	c.Line("axis", f.X, f.py(0), f.X+f.W, f.py(0))
	c.Line("axis", f.X, f.Y, f.X, f.Y+f.H)
	f.Draw(c, lim)
	f.Draw(c, m)
}
