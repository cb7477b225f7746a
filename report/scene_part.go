package report

import (
	"fmt"
	"strings"

	"wexter/core/bench"
	"wexter/core/plumbing"
)

// answerStyles and answerMarks are how an answer is drawn: never by its colour alone.
var (
	answerStyles = map[bench.Answer]string{bench.Did: "scenewindow", bench.DidNot: "sceneover", bench.CannotSay: "scenebox"}
	answerMarks  = map[bench.Answer]string{bench.Did: "✓", bench.DidNot: "✗", bench.CannotSay: "?"}
)

// partScene draws one part under smoke: smoke goes in at the left, its passages leave to the right, and
// what was looked at stands below.
func partScene(x bench.PartScene) string {
	const row, left, right = 30.0, 150.0, 330.0
	n := float64(max(len(x.Passages), 1))
	h := n*row + 20
	c := NewSVG(sceneWidth, h+66, partSays(x))
	mid := 10 + h/2 - 10
	c.Line("sceneline", 40, mid, left, mid)
	c.Text("small", "start", 8, mid-10, "smoke in")
	c.Rect("scenebox", left, 8, right-left, h-12)
	c.Rect("scenefuel", left+2, 10, right-left-4, h-16)
	c.Text("label", "middle", (left+right)/2, mid+5, x.Name)
	for i, p := range x.Passages {
		y := 22 + row*float64(i)
		style := "sceneline"
		if p.Free == bench.DidNot {
			style = "thinline"
		}
		c.Line(style, right, y, right+44, y)
		mark(c, right+58, y, p.Free)
		c.Text("small", "start", right+78, y+5, plumbing.Lower(p.Name)+map[bench.Answer]string{bench.Did: ", free", bench.DidNot: ", blocked"}[p.Free])
	}
	out := "tight"
	if x.Exit != "" {
		out = "a " + x.Exit + " comes out"
	}
	for i, w := range []struct {
		is    bench.Answer
		words string
	}{{x.Tight, out}, {x.Mate, "seals with its mating part"}, {x.Inside, "clean inside"}} {
		at := 24 + 204*float64(i)
		mark(c, at, h+36, w.is)
		c.Text("small", "start", at+20, h+41, w.words)
	}
	return c.String()
}

// mark draws an answer.
func mark(c Canvas, x, y float64, a bench.Answer) {
	c.Rect(answerStyles[a], x-11, y-11, 22, 22)
	c.Text("tick", "middle", x, y+5, answerMarks[a])
}

// partSays is the picture in words.
func partSays(x bench.PartScene) string {
	says := []string{plumbing.Lower(x.Name) + " by itself under smoke"}
	words := map[bench.Answer]string{bench.Did: "free", bench.DidNot: "blocked", bench.CannotSay: "not tried"}
	for _, p := range x.Passages {
		says = append(says, fmt.Sprintf("%s %s", plumbing.Lower(p.Name), words[p.Free]))
	}
	switch x.Tight {
	case bench.Did:
		says = append(says, "tight")
	case bench.DidNot:
		says = append(says, "a "+x.Exit+" comes out")
	}
	return strings.Join(says, ", ")
}
