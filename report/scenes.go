package report

import (
	"fmt"
	"math"

	"wexter/core/bench"
	"wexter/core/units"
)

// Scene draws the picture of a test as SVG: the thing that is tested, as the readings have it now.
// It is empty for a scene that nothing is known of.
func Scene(s bench.Scene) string {
	switch x := s.(type) {
	case bench.TankScene:
		return tankScene(x)
	}
	return ""
}

// sceneWidth is that of all scenes; they are scaled to the column.
const sceneWidth = 620.0

// inWater writes a pressure in inches of water.
func inWater(pa float64) string { return fmt.Sprintf("%.1f", pa/units.InH2O) }

// tankScene draws the tank with its two valves, and its vacuum on a scale with what it is drawn to
// and where everything is opened.
func tankScene(x bench.TankScene) string {
	says := fmt.Sprintf("the tank: vent %s, purge %s", wayWords[x.Vent], wayWords[x.Purge])
	if x.Now == x.Now {
		says += fmt.Sprintf(", %s inH2O of vacuum", inWater(x.Now))
	}
	c := NewSVG(sceneWidth, 150, says)
	// Tank, its fuel, the lines to both valves.
	c.Line("sceneline", 128, 92, 128, 58)
	c.Line("sceneline", 128, 58, 44, 58)
	c.Line("sceneline", 44, 58, 44, 22)
	c.Line("sceneline", 128, 58, 214, 58)
	c.Line("sceneline", 214, 58, 214, 22)
	c.Rect("scenebox", 68, 92, 120, 50)
	if x.Level == x.Level {
		h := 48 * math.Min(math.Max(x.Level, 0), 1)
		c.Rect("scenefuel", 69, 141-h, 118, h)
		c.Text("small", "middle", 128, 134, fmt.Sprintf("fuel %.0f %%", 100*x.Level))
	} else {
		c.Text("small", "middle", 128, 122, "tank")
	}
	valve(c, 44, 38, x.Vent)
	valve(c, 214, 38, x.Purge)
	c.Text("small", "middle", 44, 79, "vent "+wayWords[x.Vent])
	c.Text("small", "middle", 214, 79, "purge "+wayWords[x.Purge])
	c.Text("small", "middle", 44, 14, "air")
	c.Text("small", "middle", 214, 14, "engine")
	// The scale.
	const left, width, top = 272.0, 330.0, 60.0
	most := 1.33 * x.Stop
	at := func(pa float64) float64 { return left + width*math.Min(math.Max(pa/most, 0), 1) }
	c.Rect("sceneover", at(x.Stop), top, left+width-at(x.Stop), 34)
	c.Rect("scenebox", left, top, width, 34)
	if x.Now == x.Now {
		c.Rect("scenelevel", left, top+7, at(x.Now)-left, 20)
	}
	mark := func(pa float64, words, style string) {
		c.Line(style, at(pa), top-6, at(pa), top+40)
		c.Text("small", "middle", at(pa), top+56, words)
	}
	mark(0, "0", "mark")
	mark(x.Target, inWater(x.Target)+" drawn to", "mark")
	mark(x.Stop, inWater(x.Stop)+" opens", "limitline")
	for _, m := range []struct {
		pa    float64
		words string
		dy    float64
	}{{x.Built, "after half a minute", 0}, {x.Left, "left", -18}} {
		if m.pa != m.pa {
			continue
		}
		c.Line("mark", at(m.pa), top-10+m.dy, at(m.pa), top+34)
		c.Text("label", "start", at(m.pa)+4, top-14+m.dy, fmt.Sprintf("%s %s", inWater(math.Max(m.pa, 0)), m.words))
	}
	c.Text("small", "end", left+width, top+76, "vacuum, inH2O")
	return c.String()
}

var wayWords = map[bench.Way]string{bench.AtRest: "at rest", bench.Passes: "open", bench.Holds: "shut"}

// valve draws a valve in an upright line by what it does now: its blade along the line passes,
// across it holds; one that was let go is hollow.
func valve(c Canvas, x, y float64, way bench.Way) {
	c.Circle("scenevalve", x, y, 13)
	switch way {
	case bench.Passes:
		c.Line("sceneblade", x, y-11, x, y+11)
	case bench.Holds:
		c.Line("sceneblade", x-11, y, x+11, y)
	}
}
