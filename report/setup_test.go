package report_test

import (
	"encoding/xml"
	"io"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"wexter/core/bench"
	"wexter/core/drawing"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/ingest"
	"wexter/report"
)

// Every test of the Book is drawn on every car it is for: well formed, with a number for each
// part that does not stand at rest, tools within the drawing, and no tool on another.
func TestEverySetUpIsDrawn(t *testing.T) {
	b := ingest.Book()
	drawn := 0
	for _, arch := range b.Plumbing.Family("vapour") {
		full, err := b.Plumbing.Complete(plumbing.Combination{Vapour: arch.Key, Engine: "turbo-petrol", Recirculation: "egr-motor"})
		for _, engine := range []string{"na-maf", "turbo-diesel"} { // one of those that a charged petrol engine cannot have
			if err != nil {
				full, err = b.Plumbing.Complete(plumbing.Combination{Vapour: arch.Key, Engine: engine, Recirculation: map[bool]string{true: "egr-motor", false: "egr-vacuum"}[engine == "turbo-diesel"]})
			}
		}
		if err != nil {
			t.Fatal(err)
		}
		g, err := b.Plumbing.Combine(full)
		if err != nil {
			t.Fatal(err)
		}
		sheet := drawing.Lay(g)
		a, _ := b.Archetype(arch.Key)
		for _, test := range b.Tests {
			if !test.Fits(full) {
				continue
			}
			for i, x := range bench.For(test).Setups(bench.Site{Graph: g, Seal: a.Settings(), Entry: a.Entry, Part: partOf(b, test, g, full)}) {
				d := report.SetUp{Graph: g, Sheet: sheet, Title: test.Name, Settings: x.Set}
				for _, tool := range x.Tools {
					d.Tools = append(d.Tools, report.Tool{Part: tool.At, Name: tool.Name})
				}
				checkSetUp(t, arch.Key+" "+test.Key+" "+strconv.Itoa(i), d)
				drawn++
			}
		}
	}
	if drawn < 60 {
		t.Errorf("only %d set-ups were drawn", drawn)
	}
}

// partOf is a part that a test of one part can try on a car.
func partOf(b knowledge.Book, test knowledge.Test, g *plumbing.Graph, of plumbing.Combination) string {
	kind := bench.For(test)
	for _, f := range b.Faults {
		if at, ok := f.Can(g, of); ok && kind.Tries != nil {
			p, _ := g.Part(at)
			if k := kind.Tries(bench.Target{Graph: g, Fault: f, Part: p}); k != "" {
				return k
			}
		}
	}
	return ""
}

var toolBox = regexp.MustCompile(`class="m-tool">.*?<rect x="(-?\d+)" y="(-?\d+)" width="(\d+)" height="(\d+)"`)

func checkSetUp(t *testing.T, name string, d report.SetUp) {
	t.Helper()
	svg := d.SVG()
	if svg == "" {
		if len(d.Calls()) > 0 {
			t.Errorf("%s: nothing is drawn of %v", name, d.Calls())
		}
		return
	}
	x := xml.NewDecoder(strings.NewReader(svg))
	for {
		if _, err := x.Token(); err == io.EOF {
			break
		} else if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
	}
	if n := strings.Count(svg, `class="m-call"`); n > len(d.Calls()) || len(d.Calls()) > 0 && n == 0 {
		t.Errorf("%s: %d numbers for %v", name, n, d.Calls())
	}
	var view, boxes []drawing.Rect
	num := func(s string) int { n, _ := strconv.Atoi(s); return n }
	for _, m := range regexp.MustCompile(`viewBox="(\d+) (\d+) (\d+) (\d+)"`).FindAllStringSubmatch(svg, -1) {
		view = append(view, drawing.Rect{X: num(m[1]), Y: num(m[2]), W: num(m[3]), H: num(m[4])})
	}
	for _, m := range toolBox.FindAllStringSubmatch(svg, -1) {
		r := drawing.Rect{X: num(m[1]), Y: num(m[2]), W: num(m[3]), H: num(m[4])}
		if v := view[0]; r.X < v.X || r.Y < v.Y || r.X+r.W > v.X+v.W || r.Y+r.H > v.Y+v.H {
			t.Errorf("%s: a tool at %v is outside %v", name, r, v)
		}
		for _, o := range boxes {
			if r.Overlaps(o) {
				t.Errorf("%s: one tool covers another", name)
			}
		}
		for _, x := range d.Sheet.Symbols {
			if r.Overlaps(x.Box) {
				t.Errorf("%s: a tool covers %s", name, x.Key)
			}
		}
		for _, l := range d.Sheet.Labels {
			if r.Overlaps(l.Box) {
				t.Errorf("%s: a tool covers the word %q", name, l.Lines)
			}
		}
		boxes = append(boxes, r)
	}
}
