package report

import (
	"fmt"
	"math"
	"strings"

	"wexter/core/bench"
)

// sensorScene draws a sensor with the hand pump on its hose, and beside it what it showed against the
// gauge: points, the line through them, and the band in which a true one's line lies.
func sensorScene(x bench.SensorScene) string {
	says := "the sensor beside the gauge"
	if x.Gain == x.Gain {
		says = fmt.Sprintf("the sensor shows %s times what the gauge does, and %s inH2O at zero", fixed(x.Gain, 2), fixed(x.Zero, 2))
	}
	c := NewSVG(sceneWidth, 234, says)
	// The pump, its gauge, the hose and the sensor.
	c.Rect("scenebox", 14, 150, 26, 62)
	c.Line("sceneline", 27, 150, 27, 112)
	c.Line("sceneblade", 14, 112, 40, 112)
	c.Line("sceneline", 40, 190, 96, 190)
	c.Circle("scenevalve", 96, 166, 24)
	c.Line("sceneline", 96, 190, 140, 190)
	c.Rect("scenefuel", 140, 172, 44, 36)
	c.Rect("scenebox", 140, 172, 44, 36)
	c.Line("thinline", 162, 172, 162, 132)
	c.Text("small", "middle", 27, 226, "pump")
	c.Text("small", "middle", 96, 226, "gauge")
	c.Text("small", "middle", 162, 226, "sensor")
	if x.NowAt == x.NowAt {
		c.Text("tick", "middle", 96, 171, fixed(x.NowAt, 1))
	}
	if x.Now == x.Now {
		c.Text("label", "middle", 162, 124, fixed(x.Now, 1))
	}
	sensorPlot(c, x)
	return c.String()
}

// fixed writes a figure with so many decimals.
func fixed(v float64, decimals int) string {
	return strings.Replace(fmt.Sprintf("%.*f", decimals, v+0), "-", "−", 1)
}

// plotArea is where a plot of one figure against another stands, the same range both ways.
type plotArea struct{ left, top, width, height, most float64 }

func (a plotArea) cut(v float64) float64 { return math.Min(math.Max(v, -a.most), a.most) }
func (a plotArea) x(v float64) float64   { return a.left + a.width*(a.cut(v)+a.most)/(2*a.most) }
func (a plotArea) y(v float64) float64   { return a.top + a.height*(a.most-a.cut(v))/(2*a.most) }

// curve draws a function of the figure that goes to the right.
func (a plotArea) curve(c Canvas, style string, f func(v float64) float64) {
	var xs, ys []float64
	for i := range 61 {
		v := -a.most + 2*a.most*float64(i)/60
		if y := f(v); math.Abs(y) <= a.most {
			xs, ys = append(xs, a.x(v)), append(ys, a.y(y))
		}
	}
	if len(xs) > 1 {
		c.Poly(style, xs, ys)
	}
}

// sensorPlot is the sensor's pressure upwards against the gauge's, inH2O, with the band of a true one, and
// below how far each point lies from the line.
func sensorPlot(c Canvas, x bench.SensorScene) {
	a := plotArea{left: 270, top: 8, width: 330, height: 152, most: 11}
	for i := range x.Gauge {
		a.most = math.Max(a.most, 1.05*math.Max(math.Abs(x.Gauge[i]), math.Abs(x.Shows[i])))
	}
	a.most = math.Min(a.most, 60)
	step := 5.0
	for a.most/step > 4 {
		step *= 2
	}
	const off, tall = 196.0, 18.0 // the strip of what is off, and half its height
	for v := -math.Floor(a.most/step) * step; v <= a.most; v += step {
		c.Line("grid", a.x(v), a.top, a.x(v), off+tall)
		c.Line("grid", a.left, a.y(v), a.left+a.width, a.y(v))
		c.Text("tick", "middle", a.x(v), off+tall+16, fixed(v, 0))
		c.Text("tick", "end", a.left-6, a.y(v)+5, fixed(v, 0))
	}
	c.Text("small", "end", a.left-30, a.top+14, "sensor")
	c.Text("small", "end", a.left-8, off+5, "off the line")
	c.Text("small", "end", a.left-8, off+tall+16, "gauge, inH2O")
	a.curve(c, "limitline", func(v float64) float64 { return v + x.Nothing + x.Scale*math.Abs(v) })
	a.curve(c, "limitline", func(v float64) float64 { return v - x.Nothing - x.Scale*math.Abs(v) })
	c.Line("axis", a.left, off, a.left+a.width, off)
	if x.Gain == x.Gain {
		a.curve(c, "best", func(v float64) float64 { return x.Zero + x.Gain*v })
	}
	most := 0.1 // inH2O, that the strip is high
	residual := func(i int) float64 { return x.Shows[i] - x.Zero - x.Gain*x.Gauge[i] }
	for i := range x.Gauge {
		most = math.Max(most, nought(math.Abs(residual(i))))
	}
	for i := range x.Gauge {
		c.Circle("scenevalve", a.x(x.Gauge[i]), a.y(x.Shows[i]), 4)
		if r := residual(i); r == r {
			c.Line("mark", a.x(x.Gauge[i]), off, a.x(x.Gauge[i]), off-tall*r/most)
		}
	}
	if x.Gain == x.Gain {
		c.Text("small", "start", a.left+4, off-tall+10, "±"+fixed(most, 1))
	}
	if x.NowAt == x.NowAt && x.Now == x.Now {
		c.Circle("scenelevel", a.x(x.NowAt), a.y(x.Now), 6)
	}
}
