package report

import (
	"fmt"
	"math"

	"wexter/core/bench"
)

// pathScene draws the vent path from the canister to the open air, as wide as what went through it tells, and
// the pressure that it takes against the flow, up to that of a filling pump.
func pathScene(x bench.PathScene) string {
	says := "nothing passes the vent path"
	if !math.IsInf(x.Needs, 1) {
		says = fmt.Sprintf("the vent path passes as an opening of %s mm; a pump's %s L/min take %s inH2O", fixed(x.Opening, 1), fixed(x.FillFlow, 0), fixed(x.Needs, 1))
	}
	c := NewSVG(sceneWidth, 176, says)
	const y = 70.0
	c.Rect("scenebox", 8, y-26, 56, 52)
	c.Rect("scenefuel", 10, y-24, 52, 48)
	c.Text("small", "middle", 36, y+44, "canister")
	c.Line("thinline", 64, y-14, 230, y-14)
	c.Line("thinline", 64, y+14, 230, y+14)
	open := 13 * math.Min(math.Max(nought(x.Opening)/14, 0), 1)
	c.Rect("sceneover", 130, y-14, 30, 14-open)
	c.Rect("sceneover", 130, y+open, 30, 14-open)
	c.Text("label", "middle", 145, y+44, fixed(nought(x.Opening), 1)+" mm")
	c.Text("small", "start", 236, y+5, "air")
	// Pressure against flow.
	const left, top, width, height = 336.0, 12.0, 262.0, 116.0
	most := 1.4 * x.Shut
	px := func(f float64) float64 { return left + width*math.Min(f/(1.15*x.FillFlow), 1) }
	py := func(p float64) float64 { return top + height*(1-math.Min(math.Max(p/most, 0), 1)) }
	c.Rect("scenewindow", left, py(x.Free), width, top+height-py(x.Free))
	c.Line("axis", left, top+height, left+width, top+height)
	c.Line("axis", left, top, left, top+height)
	c.Line("limitline", left, py(x.Shut), left+width, py(x.Shut))
	c.Text("small", "end", left+width, py(x.Shut)-5, "nozzle shuts off")
	c.Text("tick", "end", left-6, py(x.Shut)+5, fixed(x.Shut, 0))
	c.Text("tick", "end", left-6, py(x.Free)+5, fixed(x.Free, 0))
	c.Text("tick", "end", left-6, top+height+5, "0")
	c.Text("tick", "middle", px(x.FillFlow), top+height+17, fixed(x.FillFlow, 0))
	c.Text("small", "end", left-6, top+8, "inH2O")
	c.Text("small", "start", left, top+height+17, "L/min")
	if !math.IsInf(x.Needs, 1) {
		var xs, ys []float64
		for i := range 41 {
			f := 1.15 * x.FillFlow * float64(i) / 40
			if p := x.Needs * f * f / (x.FillFlow * x.FillFlow); p <= most {
				xs, ys = append(xs, px(f)), append(ys, py(p))
			}
		}
		if len(xs) > 1 {
			c.Poly("best", xs, ys)
		}
	}
	for i := range min(len(x.Flow), len(x.Drop)) {
		c.Circle("scenevalve", px(x.Flow[i]), py(x.Drop[i]), 4)
	}
	c.Text("label", "end", left+width, top+height+38, map[bool]string{true: "nothing passes", false: fmt.Sprintf("at %s L/min: %s inH2O", fixed(x.FillFlow, 0), fixed(x.Needs, 1))}[math.IsInf(x.Needs, 1)])
	return c.String()
}
