package report

import (
	"fmt"
	"math"

	"wexter/core/bench"
)

// soakScene draws the tank in the night: its vacuum on a scale with the window in which the switch changes and
// what a tight tank has at least by now, and how far it has cooled of what is needed.
func soakScene(x bench.SoakScene) string {
	c := NewSVG(sceneWidth, 150, soakSays(x))
	const left, width, low, high = 116.0, 488.0, -5.0, 1.0
	at := func(v float64) float64 { return left + width*(high-math.Min(math.Max(v, low), high))/(high-low) }
	// Vacuum grows to the right.
	const y = 34.0
	c.Rect("scenewindow", at(-x.SwitchFrom), y-13, at(-x.SwitchTo)-at(-x.SwitchFrom), 26)
	c.Line("axis", left, y+13, left+width, y+13)
	for v := low; v <= high; v++ {
		c.Line("axis", at(v), y+13, at(v), y+17)
		c.Text("tick", "middle", at(v), y+31, fixed(v, 0))
	}
	c.Text("label", "end", left-8, y+5, "tank")
	c.Text("small", "end", left-8, y+31, "inH2O")
	c.Text("small", "start", at(-x.SwitchFrom)+2, y-18, "switch changes")
	if x.Low == x.Low {
		c.Line("mark", at(x.Low), y-13, at(x.Low), y+13)
	}
	if x.Now == x.Now {
		c.Rect("scenelevel", math.Min(at(x.Now), at(0)), y-6, math.Max(math.Abs(at(x.Now)-at(0)), 2), 12)
	}
	if x.Must > 0.05 && x.Changed != x.Changed {
		c.Line("limitline", at(-x.Must), y-16, at(-x.Must), y+13)
		c.Text("small", "start", at(-x.Must)+5, y+9, "a tight tank, at least")
	}
	// How far it has cooled.
	const z = 100.0
	most := math.Max(1.3*x.Need, 1.1*nought(x.Cooled))
	k := func(v float64) float64 { return left + width*math.Min(math.Max(v/most, 0), 1) }
	c.Text("label", "end", left-8, z+5, "cooled by")
	c.Line("axis", left, z+12, left+width, z+12)
	if x.Cooled == x.Cooled {
		c.Rect("scenefuel", left, z-11, math.Max(k(x.Cooled)-left, 1), 22)
		c.Text("tick", "start", k(x.Cooled)+6, z+5, fixed(x.Cooled, 1)+" K")
	} else {
		c.Text("small", "start", left+6, z+5, "not measured")
	}
	c.Line("limitline", k(x.Need), z-14, k(x.Need), z+14)
	c.Text("small", "middle", k(x.Need), z+30, fixed(x.Need, 1)+" K must show")
	c.Text("label", "end", left+width, z+46, soakWords(x))
	return c.String()
}

// soakWords say how long it was watched, and whether the switch changed.
func soakWords(x bench.SoakScene) string {
	watched := fmt.Sprintf("watched %d:%02d h", int(x.Hours), int(60*x.Hours)%60)
	if x.Changed == x.Changed {
		return watched + fmt.Sprintf(", switch changed after %s min", fixed(x.Changed, 0))
	}
	return watched
}

func soakSays(x bench.SoakScene) string {
	says := "the tank in the night, " + soakWords(x)
	if x.Low == x.Low {
		says += fmt.Sprintf("; it fell to %s inH2O", fixed(x.Low, 2))
	}
	if x.Cooled == x.Cooled {
		says += fmt.Sprintf("; it cooled by %s K", fixed(x.Cooled, 1))
	}
	return says
}
