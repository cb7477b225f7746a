package report

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"wexter/core/bench"
	"wexter/core/units"
)

// valveScene draws a valve on the bench: how it stands by its power, what the gauge shows, the traces of
// the old part and the new one on one plot, and each cycle with what it lost and how fast it let go.
func valveScene(x bench.ValveScene) string {
	rows := 0
	for _, p := range []bench.Tried{x.Old, x.New} {
		if len(p.Spans) > 0 {
			rows++
		}
	}
	plotted := len(x.Old.T)+len(x.New.T) > 0
	top := 8.0
	if plotted || x.Now == x.Now {
		top = 132
	}
	c := NewSVG(sceneWidth, top+46*float64(rows)+8, valveSays(x))
	if top > 100 {
		valveNow(c, x)
		valveTraces(c, x)
	}
	y := top + 22
	for _, p := range []struct {
		name string
		of   bench.Tried
	}{{"off the car", x.Old}, {"new", x.New}} {
		if len(p.of.Spans) > 0 {
			cycleRow(c, y, p.name, p.of.Spans)
			y += 46
		}
	}
	return c.String()
}

// valveNow draws the valve as its power has it, with the vacuum that stands behind it.
func valveNow(c Canvas, x bench.ValveScene) {
	way := x.Must
	if x.Plugged {
		c.Line("sceneline", 14, 52, 60, 52)
		c.Rect("scenelevel", 60, 42, 12, 20)
		c.Text("small", "middle", 59, 84, "rig plugged")
		nowWords(c, x.Now)
		return
	}
	c.Line("sceneline", 14, 52, 104, 52)
	valve(c, 59, 52, turned(way))
	c.Text("small", "middle", 59, 84, "must "+map[bench.Way]string{bench.Passes: "pass", bench.Holds: "hold"}[way])
	if x.Electric {
		c.Text("small", "middle", 59, 102, "power "+map[bool]string{true: "on", false: "off"}[x.On])
		if x.On {
			c.Line("sceneblade", 59, 14, 59, 36)
		}
	}
	nowWords(c, x.Now)
}

func nowWords(c Canvas, inHg float64) {
	if inHg == inHg {
		c.Text("label", "middle", 59, 124, units.Digits(math.Max(inHg, 0), 3)+" inHg")
	}
}

// turned is how the valve's sign is drawn in a line that lies: along it passes.
func turned(w bench.Way) bench.Way {
	if w == bench.Passes {
		return bench.Holds
	}
	return bench.Passes
}

// valveTraces draws what the gauge showed of both parts, each from its first switching.
func valveTraces(c Canvas, x bench.ValveScene) {
	const left, width, low, high = 150.0, 458.0, 112.0, 12.0
	if len(x.Old.T)+len(x.New.T) == 0 {
		return
	}
	span, most := 20.0, 16.0
	for _, p := range []bench.Tried{x.Old, x.New} {
		if n := len(p.T); n > 0 {
			span = math.Max(span, p.T[n-1]-p.T[0])
			most = math.Max(most, 1.05*slices.Max(p.P))
		}
	}
	for _, v := range []float64{0, 5, 10, 15} {
		y := low - (low-high)*v/most
		c.Line("grid", left, y, left+width, y)
		c.Text("small", "end", left-4, y+5, fmt.Sprintf("%.0f", v))
	}
	c.Text("small", "end", left+width, low+16, "s, inHg: solid off the car, dashed new")
	draw := func(style string, p bench.Tried) {
		if len(p.T) == 0 {
			return
		}
		var xs, ys []float64
		for _, i := range thin(p.P, 600) {
			xs = append(xs, left+width*(p.T[i]-p.T[0])/span)
			ys = append(ys, low-(low-high)*math.Max(p.P[i], 0)/most)
		}
		c.Poly(style, xs, ys)
	}
	draw("before", x.New)
	draw("measured", x.Old)
}

// thin is which readings of a trace are drawn: of each piece the lowest and the highest, so that no fall
// is lost.
func thin(p []float64, most int) (out []int) {
	n := len(p)
	step := max(2*n/most, 1)
	for a := 0; a < n; a += step {
		b := min(a+step, n)
		lo, hi := a, a
		for i := a; i < b; i++ {
			if p[i] < p[lo] {
				lo = i
			}
			if p[i] > p[hi] {
				hi = i
			}
		}
		for _, i := range []int{min(lo, hi), max(lo, hi)} {
			if len(out) == 0 || out[len(out)-1] != i {
				out = append(out, i)
			}
		}
	}
	return out
}

// mostSpans is how many spans of a part are drawn: the last ones.
const mostSpans = 12

// cycleRow draws the spans of a part: whether it did what it must, what it lost in a minute, within
// what it let go, and a dot for a click.
func cycleRow(c Canvas, y float64, name string, spans []bench.Span) {
	spans = spans[max(0, len(spans)-mostSpans):]
	c.Text("label", "end", 88, y+6, name)
	width := (sceneWidth - 100) / mostSpans
	for i, s := range spans {
		x := 96 + width*float64(i)
		c.Rect(answerStyles[s.Did], x, y-16, width-4, 36)
		c.Text("small", "middle", x+width/2-2, y-2, spanWord(s))
		c.Text("tick", "middle", x+width/2-2, y+14, spanFigure(s))
		if s.Clicks > 0 {
			c.Circle("holeclick", x+width-9, y-11, 3)
		}
	}
}

func spanWord(s bench.Span) string {
	if s.Did == bench.CannotSay {
		return "?"
	}
	words := map[bench.Way]string{bench.Holds: "holds", bench.Passes: "passes"}
	if s.Did == bench.DidNot {
		words = map[bench.Way]string{bench.Holds: "leaks", bench.Passes: "stays"}
	}
	return words[s.Must]
}

// spanFigure is what a span is told by: the share lost in a minute, or the seconds to half.
func spanFigure(s bench.Span) string {
	switch v := math.Abs(math.Expm1(-60 * s.Loss)); { // no minus before a nought
	case s.Must == bench.Holds && v == v:
		return fmt.Sprintf("%.0f%%", 100*v)
	case s.Must == bench.Passes && s.Fall == s.Fall && !math.IsInf(s.Fall, 0):
		return fmt.Sprintf("%.1fs", s.Fall)
	}
	return ""
}

// valveSays is the picture in words.
func valveSays(x bench.ValveScene) string {
	says := []string{"the valve on the bench"}
	if x.Now == x.Now {
		says = append(says, units.Digits(math.Max(x.Now, 0), 3)+" inHg stand behind it")
	}
	for _, p := range []struct {
		name string
		of   bench.Tried
	}{{"the part off the car", x.Old}, {"a new one", x.New}} {
		var words []string
		for _, s := range p.of.Spans {
			words = append(words, strings.TrimSpace(spanWord(s)+" "+spanFigure(s)))
		}
		if len(words) > 0 {
			says = append(says, p.name+": "+strings.Join(words, ", "))
		}
	}
	return strings.Join(says, "; ")
}
