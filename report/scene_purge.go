package report

import (
	"fmt"
	"math"

	"wexter/core/bench"
)

// purgeScene draws the manifold, the purge valve that is told to be shut, its hose with the clamp and the
// canister, and beside it the total trim of each time the hose was free or clamped.
func purgeScene(x bench.PurgeScene) string {
	c := NewSVG(sceneWidth, 178, purgeSays(x))
	const y = 96.0
	c.Rect("scenebox", 8, y-34, 66, 68)
	c.Text("small", "middle", 41, y+52, "manifold")
	c.Line("sceneline", 74, y, 100, y)
	c.Circle("scenevalve", 114, y, 14)
	c.Line("sceneblade", 114, y-12, 114, y+12) // across the line: told to be shut
	c.Text("small", "middle", 114, y-40, "told to be shut")
	c.Line("sceneline", 128, y, 228, y)
	c.Rect("scenebox", 228, y-26, 52, 52)
	c.Rect("scenefuel", 230, y-24, 48, 48)
	c.Text("small", "middle", 254, y+52, "canister")
	if x.Pull == x.Pull {
		c.Line("thinline", 150, y, 150, y+26)
		c.Circle("scenevalve", 150, y+46, 20)
		c.Text("tick", "middle", 150, y+51, fixed(x.Pull, 1))
		c.Text("small", "middle", 150, y+80, "pull, inH2O")
	}
	if x.Clamped {
		c.Line("sceneblade", 190, y-18, 190, y-3)
		c.Line("sceneblade", 190, y+3, 190, y+18)
		c.Text("label", "middle", 196, y-40, "clamped")
	}
	if x.Cap {
		capOff(c, x)
		return c.String()
	}
	trimBars(c, x)
	return c.String()
}

// capOff draws the filler neck with its cap on or off, and the idle.
func capOff(c Canvas, x bench.PurgeScene) {
	c.Line("sceneline", 360, 150, 360, 70)
	c.Line("sceneline", 400, 150, 400, 70)
	if x.CapOff {
		c.Rect("scenelevel", 424, 52, 52, 14)
		c.Text("label", "start", 424, 44, "cap off")
	} else {
		c.Rect("scenelevel", 354, 54, 52, 14)
		c.Text("label", "start", 424, 66, "cap on")
	}
	c.Text("small", "middle", 380, 170, "filler neck")
	if x.Speed == x.Speed {
		c.Text("label", "start", 500, 110, fixed(x.Speed, 0)+" rpm")
	}
}

// trimBars draws the total trim of each piece from zero, the clamped ones filled.
func trimBars(c Canvas, x bench.PurgeScene) {
	const left, width, top, height = 336.0, 268.0, 14.0, 116.0
	most := 0.05
	for _, p := range x.Pieces {
		most = math.Max(most, math.Abs(p.Total))
	}
	zero := top + height/2
	at := func(v float64) float64 { return zero - height/2*v/most }
	c.Line("axis", left, zero, left+width, zero)
	c.Text("tick", "end", left-6, at(most)+9, "+"+fixed(100*most, 0))
	c.Text("tick", "end", left-6, zero+5, "0")
	c.Text("tick", "end", left-6, at(-most)+2, fixed(-100*most, 0))
	slots := float64(max(len(x.Pieces), 7))
	for i, p := range x.Pieces {
		style := "scenefuel"
		if p.Shut {
			style = "scenelevel"
		}
		at0, w := left+8+(width-8)*float64(i)/slots, (width-8)/slots-8
		a, b := at(p.Total), zero
		c.Rect(style, at0, math.Min(a, b), w, math.Max(math.Abs(a-b), 1))
	}
	c.Rect("scenefuel", left, top+height+14, 12, 12)
	c.Text("small", "start", left+17, top+height+25, "free")
	c.Rect("scenelevel", left+56, top+height+14, 12, 12)
	c.Text("small", "start", left+73, top+height+25, "clamped")
	c.Text("small", "end", left+width, top+height+25, "total trim, %")
	if x.Share == x.Share {
		c.Text("label", "end", left+width, top+height+46, shareWords(x))
	}
}

// shareWords is the difference with its interval.
func shareWords(x bench.PurgeScene) string {
	return fmt.Sprintf("free against clamped: %s %% (%s to %s)", fixed(x.Share, 1), fixed(x.Low, 1), fixed(x.High, 1))
}

func purgeSays(x bench.PurgeScene) string {
	says := "the purge valve, told to be shut"
	switch {
	case x.Cap && x.CapOff:
		says += "; the filler cap is off"
	case x.Clamped:
		says += "; its hose is clamped"
	}
	if x.Pull == x.Pull {
		says += fmt.Sprintf("; it pulls %s inH2O", fixed(x.Pull, 1))
	}
	if x.Share == x.Share {
		says += "; " + shareWords(x)
	}
	return says
}
