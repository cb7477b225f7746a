package report

import (
	"fmt"
	"html"
	"maps"
	"math"
	"slices"
	"strings"

	"wexter/core/bench"
	"wexter/core/drawing"
	"wexter/core/plumbing"
	"wexter/core/units"
)

// Plan is the plumbing on which a scene is drawn, and its sheet.
type Plan struct {
	Graph *plumbing.Graph
	Sheet *drawing.Sheet
	Link  func(part string) string // where a tap goes; nil: nothing can be tapped
}

// Scene draws the picture of a test as SVG: the thing that is tested, as the readings have it now.
// It is empty for a scene that nothing is known of.
func Scene(s bench.Scene, on Plan) string {
	switch x := s.(type) {
	case bench.TankScene:
		return tankScene(x)
	case bench.FlowScene:
		return flowScene(x)
	case bench.UnitScene:
		return unitScene(x)
	case bench.ReliefScene:
		return reliefScene(x)
	case bench.SoakScene:
		return soakScene(x)
	case bench.PathScene:
		return pathScene(x)
	case bench.StrokeScene:
		return strokeScene(x, on)
	case bench.PurgeScene:
		return purgeScene(x)
	case bench.CircuitScene:
		return circuitScene(x)
	case bench.SensorScene:
		return sensorScene(x)
	case bench.PartScene:
		return partScene(x)
	case bench.ValveScene:
		return valveScene(x)
	case bench.SmokeScene:
		return smokeScene(x, on)
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

// flowScene draws the rig with its gauge and meter, where its end stands, and a bar for what each
// took: by the bar of the orifice the one of the car is judged.
func flowScene(x bench.FlowScene) string {
	says := "the rig"
	if x.Now == x.Now {
		says = fmt.Sprintf("%.2f L/min into the rig at %s inH2O", x.Now, inWater(x.Pressure))
	}
	c := NewSVG(sceneWidth, 150, says)
	c.Line("sceneline", 18, 74, 250, 74)
	c.Circle("scenevalve", 44, 74, 24)
	c.Text("small", "middle", 44, 114, "regulator")
	if x.Pressure == x.Pressure {
		c.Text("tick", "middle", 44, 79, inWater(x.Pressure))
	}
	// The meter: its float stands the higher the more goes through.
	most := math.Max(math.Max(nought(x.Now), nought(x.Car)), math.Max(1.3*nought(x.Orifice), 0.6))
	c.Rect("scenemeter", 104, 26, 24, 96)
	if x.Now == x.Now {
		c.Rect("scenelevel", 106, 108-76*math.Min(math.Max(x.Now/most, 0), 1), 20, 12)
	}
	c.Text("small", "middle", 116, 142, "flow")
	end := func(on bool, y float64, words string, draw func()) {
		style := "thinline"
		if on {
			style = "sceneline"
		}
		c.Line(style, 250, 74, 250, y)
		c.Line(style, 250, y, 268, y)
		draw()
		c.Text("small", "start", 308, y+5, words)
	}
	end(x.AtPlug, 24, "plugged", func() { c.Rect("scenelevel", 268, 16, 8, 16) })
	end(x.AtOrifice, 74, fmt.Sprintf("orifice %.2f mm", x.Size*1e3), func() {
		c.Line("sceneblade", 272, 60, 272, 70)
		c.Line("sceneblade", 272, 78, 272, 88)
	})
	end(x.On, 124, "car, sealed", func() { c.Rect("scenebox", 268, 112, 34, 24) })
	// Bars.
	const left, width = 400.0, 150.0
	bar := func(v, y float64, style string) {
		c.Line("axis", left, y-14, left, y+14)
		if v != v {
			c.Text("small", "start", left+8, y+5, "not read yet")
			return
		}
		w := width * math.Min(v/most, 1)
		c.Rect(style, left, y-9, w, 18)
		past := left + w
		if x.Orifice == x.Orifice { // beyond the line of the limit
			past = math.Max(past, left+width*math.Min(x.Orifice/most, 1))
		}
		c.Text("tick", "start", past+6, y+5, fmt.Sprintf("%.2f", v))
	}
	bar(x.Rig, 24, "scenefuel")
	bar(x.Orifice, 74, "scenefuel")
	bar(x.Car, 124, "scenelevel")
	if x.Orifice == x.Orifice {
		w := left + width*math.Min(x.Orifice/most, 1)
		c.Line("limitline", w, 52, w, 142)
	}
	c.Text("small", "end", sceneWidth-4, 14, "L/min")
	return c.String()
}

// nought is a figure, or 0 where there is none.
func nought(v float64) float64 {
	if v != v {
		return 0
	}
	return v
}

// smokeScene draws the EVAP system's piece of the Map, filled as far as smoke has come, with what was
// seen at its places, and says how long it takes to canister, tank, neck and cap.
func smokeScene(x bench.SmokeScene, on Plan) string {
	if on.Graph == nil || on.Sheet == nil {
		return ""
	}
	m := &Map{Graph: on.Graph, Sheet: on.Sheet, Settings: x.Set, Smoke: x.Shares, Link: on.Link}
	m.Only = "vapour"
	m.Title = "EVAP system, filled as far as smoke has come"
	for _, p := range slices.Sorted(maps.Keys(x.Seen)) {
		if what := x.Seen[p]; what == bench.NothingThere {
			m.Looked = append(m.Looked, p)
		} else {
			m.Flags = append(m.Flags, Flag{Part: p, N: len(m.Flags) + 1, Text: "smoke, " + what, Exit: true})
		}
	}
	var b strings.Builder
	b.WriteString(m.piece())
	b.WriteString(`<ul class="togo">`)
	for _, t := range x.ToGo {
		p, _ := on.Graph.Part(t.Part)
		name := html.EscapeString(p.Name)
		switch {
		case t.Seconds == 0:
			fmt.Fprintf(&b, `<li class="there"><b>%s</b> smoke is there</li>`, name)
		case math.IsInf(t.Seconds, 1):
			fmt.Fprintf(&b, `<li><b>%s</b> not at this flow</li>`, name)
		default:
			fmt.Fprintf(&b, `<li><b>%s</b> <span class="fig">%d:%02d</span> to go</li>`, name, int(t.Seconds)/60, int(t.Seconds)%60)
		}
	}
	b.WriteString(`</ul>`)
	for _, k := range x.Expected {
		p, _ := on.Graph.Part(k)
		fmt.Fprintf(&b, `<p class="small">Smoke is expected at the %s: it is open, and that is no leak.</p>`, html.EscapeString(plumbing.Lower(p.Name)))
	}
	if x.Taken != "" {
		fmt.Fprintf(&b, `<p class="small">%s</p>`, html.EscapeString(x.Taken))
	}
	if x.Why != "" {
		fmt.Fprintf(&b, `<p class="small">How far the front is cannot be told: %s.</p>`, html.EscapeString(x.Why))
	}
	return b.String()
}

// piece draws the one family that a map shows as large as it can be.
func (m *Map) piece() string {
	var crop drawing.Rect
	add := func(r drawing.Rect) {
		if crop.W == 0 {
			crop = r
			return
		}
		x, y := min(crop.X, r.X), min(crop.Y, r.Y)
		crop = drawing.Rect{X: x, Y: y, W: max(crop.X+crop.W, r.X+r.W) - x, H: max(crop.Y+crop.H, r.Y+r.H) - y}
	}
	for _, s := range m.Sheet.Symbols {
		if m.draws(s.Part) {
			add(s.Box)
		}
	}
	for _, l := range m.Sheet.Labels {
		if p, _ := m.Graph.Part(l.Key); m.draws(p) {
			add(l.Box)
		}
	}
	for _, p := range m.Sheet.Pipes {
		for i := 1; i < len(p.Way) && m.draws(p.Part); i++ {
			add(run(p.Way[i-1], p.Way[i]))
		}
	}
	const rim = 16
	whole := m.SVG()
	from := fmt.Sprintf(`viewBox="0 0 %d %d" class="map"`, m.Sheet.W, m.Sheet.H)
	to := fmt.Sprintf(`viewBox="%d %d %d %d" class="map piece"`, crop.X-rim, crop.Y-rim, crop.W+2*rim, crop.H+2*rim)
	return strings.Replace(whole, from, to, 1)
}
