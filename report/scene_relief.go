package report

import (
	"fmt"
	"math"

	"wexter/core/bench"
)

// reliefScene draws where a relief must open and be shut again, with a mark for each time it did and the
// pressure of now; of a diaphragm it draws the signal vacuum with the throttle closed and off idle.
func reliefScene(x bench.ReliefScene) string {
	if x.Crack == 0 {
		return signalScene(x)
	}
	says := fmt.Sprintf("a relief that opens near %s inH2O", fixed(x.Crack, 1))
	if len(x.Opens) > 0 {
		says += fmt.Sprintf("; seen to open %d times", len(x.Opens))
	}
	c := NewSVG(sceneWidth, 128, says)
	const left, width = 118.0, 480.0
	most := 1.7 * x.Crack
	at := func(v float64) float64 { return left + width*math.Min(math.Max(v/most, 0), 1) }
	row := func(y, least, top float64, name string, seen []float64) {
		c.Text("label", "end", left-8, y+5, name)
		c.Rect("scenewindow", at(least), y-10, at(top)-at(least), 20)
		for _, v := range seen {
			style := "mark"
			if v < least || v > top {
				style = "limitline"
			}
			c.Line(style, at(v), y-13, at(v), y+13)
		}
	}
	row(24, x.Crack*(1-x.Slack), x.Crack*(1+x.Slack), "opens", x.Opens)
	row(56, 0.5*x.Crack, x.Crack*(1+x.Slack), "shut again", x.Reseals)
	c.Line("axis", left, 76, left+width, 76)
	for _, share := range []float64{0, 0.5, 1, 1.5} {
		c.Text("tick", "middle", at(share*x.Crack), 94, fixed(share*x.Crack, 1))
	}
	c.Text("small", "end", left+width, 114, map[bool]string{true: "vacuum, inH2O", false: "pressure, inH2O"}[x.Inward])
	if x.Now == x.Now {
		c.Line("best", at(x.Now), 6, at(x.Now), 76)
	}
	return c.String()
}

// signalScene draws the signal vacuum of a diaphragm as two bars.
func signalScene(x bench.ReliefScene) string {
	says := "the signal vacuum of a diaphragm"
	if x.Closed == x.Closed {
		says += fmt.Sprintf("; %s inHg with the throttle closed", fixed(x.Closed, 1))
	}
	if x.Off == x.Off {
		says += fmt.Sprintf("; %s inHg off idle", fixed(x.Off, 1))
	}
	c := NewSVG(sceneWidth, 118, says)
	const left, width, most = 150.0, 440.0, 22.0
	at := func(v float64) float64 { return left + width*math.Min(math.Max(v/most, 0), 1) }
	row := func(y, v, from, to float64, name string) {
		c.Text("label", "end", left-8, y+5, name)
		c.Rect("scenewindow", at(from), y-13, math.Max(at(to)-at(from), 2), 26)
		if v == v {
			c.Rect("scenelevel", left, y-6, math.Max(at(v)-left, 2), 12)
			c.Text("tick", "start", at(v)+6, y+5, fixed(v, 1))
		} else {
			c.Text("small", "start", left+6, y+5, "not read yet")
		}
	}
	row(24, x.Closed, 0, x.None, "throttle closed")
	row(62, x.Off, x.Must, most, "off idle")
	c.Line("axis", left, 8, left, 80)
	c.Text("small", "end", left+width, 104, "signal vacuum, inHg")
	return c.String()
}
