package web

import (
	"encoding/xml"
	"fmt"
	"html/template"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"wexter/casework"
	"wexter/core/obd"
)

// numbers reads the numbers of an attribute out of a drawing, in their order.
func numbers(t *testing.T, svg template.HTML, element, attribute string) (out []float64) {
	t.Helper()
	for _, m := range regexp.MustCompile(`<`+element+` [^>]*`).FindAllString(string(svg), -1) {
		if v := regexp.MustCompile(` ` + attribute + `="([\d.]+)%?"`).FindStringSubmatch(m); v != nil {
			n, err := strconv.ParseFloat(v[1], 64)
			if err != nil {
				t.Fatal(err)
			}
			out = append(out, n)
		}
	}
	return out
}

// wellFormed fails when a drawing is no XML or holds a number that is none.
func wellFormed(t *testing.T, svg template.HTML) {
	t.Helper()
	d := xml.NewDecoder(strings.NewReader(string(svg)))
	for {
		if _, err := d.Token(); err == io.EOF {
			break
		} else if err != nil {
			t.Fatalf("%v: %s", err, svg)
		}
	}
	if strings.Contains(string(svg), "NaN") || strings.Contains(string(svg), "Inf") {
		t.Errorf("no number: %s", svg)
	}
}

func TestOutcomeBarIsFilledOnce(t *testing.T) {
	rows := []outRow{{Letter: "A", Percent: 13, Usual: true}, {Letter: "B", Percent: 26}, {Letter: "C", Percent: 3}, {Letter: "D", Percent: 57, Rest: true}}
	svg := outcomeBar(rows)
	wellFormed(t, svg)
	x, w := numbers(t, svg, "rect", "x"), numbers(t, svg, "rect", "width")
	end := 0.0
	for i := range rows {
		if d := x[i] - end; d > 0.02 || d < -0.02 {
			t.Errorf("piece %d begins at %g, the one before ends at %g", i, x[i], end)
		}
		end = x[i] + w[i]
	}
	if end < 99.9 || end > 100.1 {
		t.Errorf("the bar ends at %g %%", end)
	}
	if strings.Contains(string(svg), ">C<") {
		t.Error("a letter does not fit a piece of 3 %")
	}
	if outcomeBar(nil) != "" {
		t.Error("a bar without outcomes")
	}
}

func TestSlopeLabelsNeverCover(t *testing.T) {
	var lines []slopeLine
	for i := range slopeMost { // all of them at the bottom, with long names
		lines = append(lines, slopeLine{fmt.Sprintf("rubber coupler at the canister %d", i), 0.9, 0.01})
	}
	svg := slopePlot(lines)
	wellFormed(t, svg)
	y := numbers(t, svg, "text", "y")
	slices.Sort(y)
	tall := numbers(t, template.HTML(strings.ReplaceAll(string(svg), `viewBox="0 0 226 `, `tall="`)), "svg", "tall")
	if len(tall) != 1 || y[len(y)-1] > tall[0] {
		t.Errorf("labels down to %g in a drawing of %v", y[len(y)-1], tall)
	}
	if got := slopePlot(nil); got != "" {
		t.Errorf("a plot of nothing: %s", got)
	}
	if got := twoLines("quick-connect O-ring, canister"); len(got) != 2 || len(got[0]) > slopeLetters || len(got[1]) > slopeLetters {
		t.Errorf("%q", got)
	}
}

// A trim stands on its side of zero, never beyond its scale, and is marked from its stop on.
func TestTrimBars(t *testing.T) {
	for _, c := range []struct {
		v, x, width float64
		stop        bool
	}{{0, 50, 0, false}, {20, 50, 25, false}, {-20, 25, 25, false}, {25, 50, 31.25, true}, {99, 50, 50, true}, {-99, 0, 50, true}} {
		rows := trimsOf(map[string]obd.Value{"06": {Value: c.v}})
		svg := rows[0].Bar
		wellFormed(t, svg)
		x, w := numbers(t, svg, "rect", "x"), numbers(t, svg, "rect", "width")
		if x[2] != c.x || w[2] != c.width || strings.Contains(string(svg), "t-at") != c.stop {
			t.Errorf("%g: from %g, %g wide: %s", c.v, x[2], w[2], svg)
		}
	}
	rows := trimsOf(map[string]obd.Value{"06": {Value: 5}, "07": {Value: 12}, "08": {Value: 24.2}})
	if len(rows) != 4 || rows[2].Value != "+17.6 %" || rows[2].Stop || !rows[3].Stop {
		t.Errorf("%+v", rows)
	}
}

// The gauge ends beyond what is permitted, either way.
func TestChargeGauge(t *testing.T) {
	svg := chargeGauge(6900, 4982)
	wellFormed(t, svg)
	for _, want := range []string{`data-most="27.7"`, `data-high="33.24"`, `data-least="-20"`, ">27.7 at most<", ">-20.0<"} {
		if !strings.Contains(string(svg), want) {
			t.Errorf("no %s in %s", want, svg)
		}
	}
	if svg := string(chargeGauge(6900, 0)); strings.Count(svg, "g-limit") != 1 {
		t.Errorf("a system without a vacuum limit: %s", svg)
	}
	if chargeGauge(0, 0) != "" {
		t.Error("a gauge of nothing")
	}
}

// The longest bar fills its row; what is rare is summed up, and nothing is lost.
func TestOftenBars(t *testing.T) {
	var found []casework.Often
	all := 0
	for i := range 14 {
		found = append(found, casework.Often{Part: fmt.Sprintf("part %d", i), Times: 20 - i})
		all += 20 - i
	}
	rows := oftenBars(found)
	sum := 0
	for _, r := range rows {
		wellFormed(t, r.Bar)
		sum += r.Times
	}
	if len(rows) != mostOften+1 || sum != all || rows[mostOften].Times != 10+9+8+7 || numbers(t, rows[mostOften].Bar, "rect", "width")[0] != 100 {
		t.Errorf("%+v", rows)
	}
	if oftenBars(nil) != nil {
		t.Error("bars of nothing")
	}
}
