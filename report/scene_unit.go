package report

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"wexter/core/bench"
	"wexter/core/units"
)

// unitScene draws a vent unit's windows as bands on one scale, vacuum to the left and pressure to the
// right, with a mark for each repetition and the pressure of now.
func unitScene(x bench.UnitScene) string {
	const left, width, low, high = 118.0, 480.0, -7.0, 1.5
	says := "windows of the vent unit"
	for _, w := range x.Windows {
		var seen []string
		for _, v := range w.Seen {
			seen = append(seen, units.Digits(v, 3))
		}
		if len(seen) > 0 {
			says += fmt.Sprintf("; %s at %s, %s to %s inH2O is right", w.Name, strings.Join(seen, ", "), units.Digits(w.Least, 3), units.Digits(w.Most, 3))
		}
	}
	at := func(v float64) float64 { return left + width*(math.Min(math.Max(v, low), high)-low)/(high-low) }
	bottom := 16 + 31*float64(len(x.Windows))
	more := 0.0
	if slices.ContainsFunc(x.Inch, func(v float64) bool { return v == v }) {
		more = 26
	}
	c := NewSVG(sceneWidth, bottom+34+more+46, says+orderSays(x.Order))
	for v := math.Ceil(low); v <= high; v++ {
		c.Line("grid", at(v), 12, at(v), bottom)
		c.Text("tick", "middle", at(v), bottom+18, fixed(v, 0))
	}
	c.Text("small", "end", left-16, bottom+18, "inH2O")
	for i, w := range x.Windows {
		y, sign := 28+31*float64(i), 1.0
		if w.Vacuum {
			sign = -1
		}
		a, b := at(sign*w.Least), at(sign*w.Most)
		c.Text("label", "end", left-8, y+5, w.Name)
		c.Rect("scenewindow", math.Min(a, b), y-10, math.Abs(b-a), 20)
		for _, v := range w.Seen {
			if math.IsInf(v, 0) {
				c.Text("small", "start", left+4, y+5, "no change")
				continue
			}
			style := "mark"
			if v < w.Least || v > w.Most {
				style = "limitline"
			}
			c.Line(style, at(sign*v), y-13, at(sign*v), y+13)
		}
	}
	for n, v := range x.Inch {
		if v == v {
			c.Text("tick", "middle", at(-float64(n)), bottom+44, fmt.Sprintf("%.1f", v))
		}
	}
	if more > 0 {
		c.Text("small", "end", left-8, bottom+44, "switch, V")
	}
	orderRow(c, bottom+34+more+18, x.Order)
	c.Line("axis", at(0), 8, at(0), bottom)
	if x.Now == x.Now {
		c.Line("best", at(x.Now), 6, at(x.Now), bottom)
	}
	return c.String()
}

// orderRow draws what a unit does one after another, and whether each came in its window and in its turn.
func orderRow(c Canvas, y float64, order []bench.Departure) {
	const left, step = 118.0, 124.0
	c.Text("label", "end", left-8, y+5, "order")
	for i, d := range order {
		x := left + 12 + step*float64(i)
		if i > 0 {
			c.Line("thinline", x-step+14, y, x-14, y)
		}
		if d.Is == bench.CannotSay { // not read yet: when it is its turn
			c.Rect(answerStyles[d.Is], x-11, y-11, 22, 22)
			c.Text("tick", "middle", x, y+5, fmt.Sprint(i+1))
		} else {
			mark(c, x, y, d.Is)
		}
		c.Text("small", "middle", x, y+27, d.Name)
	}
}

// orderSays is the row in words.
func orderSays(order []bench.Departure) (says string) {
	for _, d := range order {
		if d.Is == bench.DidNot {
			says += "; " + d.Name + ": not in its window, or not in its turn"
		}
	}
	return says
}
