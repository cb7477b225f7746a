package report

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"wexter/core/bench"
)

// strokeScene draws what is plugged for this section on the EVAP system's piece of the Map, and the pump's
// strokes along time, each as high as the pause after it.
func strokeScene(x bench.StrokeScene, on Plan) string {
	out := ""
	if on.Graph != nil && on.Sheet != nil {
		m := &Map{Graph: on.Graph, Sheet: on.Sheet, Settings: x.Set, Title: "EVAP system, " + sectionWords[x.Section], Link: on.Link}
		m.Only = "vapour"
		out = m.piece()
	}
	return out + strokeStrip(x)
}

var sectionWords = map[string]string{"pump": "plugged behind the pump", "canister": "plugged behind the canister", "whole": "nothing plugged", "": "nothing plugged"}

// fromTheTop are courses by the longest pause, the highest first.
func fromTheTop(of []bench.Course) []bench.Course {
	most := func(c bench.Course) float64 { return slices.Max(append([]float64{0}, c.V...)) }
	return slices.SortedStableFunc(slices.Values(of), func(a, b bench.Course) int { return cmp.Compare(most(b), most(a)) })
}

// strokeStrip draws the strokes with the pause from which the system holds.
func strokeStrip(x bench.StrokeScene) string {
	const left, width, top, height = 64.0, 540.0, 10.0, 84.0
	says := fmt.Sprintf("%d %s of the pump", len(x.At), map[bool]string{true: "stroke", false: "strokes"}[len(x.At) == 1])
	if x.First == x.First && x.Last == x.Last {
		says += fmt.Sprintf(", a pause of %s s at first and %s s at the end", fixed(x.First, 1), fixed(x.Last, 1))
	}
	if x.Hold > 0 {
		says += fmt.Sprintf(", then silent for %s s", fixed(x.Hold, 0))
	}
	c := NewSVG(sceneWidth, 138+18*float64(len(x.Supposed)), says)
	until := math.Max(x.Until, 30)
	most := 1.4 * x.Slow
	at := func(t float64) float64 { return left + width*math.Min(math.Max(t/until, 0), 1) }
	up := func(pause float64) float64 { return top + height*(1-math.Min(math.Max(pause/most, 0), 1)) }
	c.Line("axis", left, top+height, left+width, top+height)
	c.Line("limitline", left, up(x.Slow), left+width, up(x.Slow))
	c.Text("tick", "end", left-6, up(x.Slow)+5, fixed(x.Slow, 1))
	c.Text("tick", "end", left-6, top+height+5, "0")
	c.Text("small", "end", left-6, top+12, "pause, s")
	for i, k := range fromTheTop(x.Supposed) {
		var xs, ys []float64
		for i, t := range k.T {
			if t <= until {
				xs, ys = append(xs, at(t)), append(ys, up(k.V[i]))
			}
		}
		if len(xs) > 1 {
			c.Poly("ghost", xs, ys)
		}
		c.Text("label-before", "start", left, top+height+56+18*float64(i), map[bool]string{true: "dashed, from the top: "}[i == 0]+k.Name)
	}
	for i, t := range x.At {
		pause := x.Until - t
		if i+1 < len(x.At) {
			pause = x.At[i+1] - t
		}
		c.Line("mark", at(t), top+height, at(t), math.Min(up(pause), top+height-6))
	}
	c.Text("tick", "start", left, top+height+18, "0")
	c.Text("tick", "end", left+width, top+height+18, fixed(until, 0)+" s")
	c.Text("label", "middle", left+width/2, top+height+36, says)
	return c.String()
}
