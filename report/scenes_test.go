package report_test

import (
	"encoding/xml"
	"io"
	"math"
	"strconv"
	"strings"
	"testing"

	"wexter/core/bench"
	"wexter/core/plumbing"
	"wexter/ingest"
	"wexter/report"
)

// drawnIn parses a picture and reports what lies outside it; it returns its name for screen readers.
func drawnIn(t *testing.T, svg string) (label string) {
	t.Helper()
	var w, h float64
	d := xml.NewDecoder(strings.NewReader(svg))
	for {
		tok, err := d.Token()
		if err == io.EOF {
			return label
		} else if err != nil {
			t.Fatalf("%v in %s", err, svg)
		}
		e, ok := tok.(xml.StartElement)
		if !ok {
			continue
		}
		at := map[string]string{}
		for _, a := range e.Attr {
			at[a.Name.Local] = a.Value
		}
		if e.Name.Local == "svg" {
			f := strings.Fields(at["viewBox"])
			w, _ = strconv.ParseFloat(f[2], 64)
			h, _ = strconv.ParseFloat(f[3], 64)
			label = at["aria-label"]
		}
		inside := func(most float64, keys ...string) {
			for _, k := range keys {
				if at[k] == "" {
					continue
				}
				if v, err := strconv.ParseFloat(at[k], 64); err != nil || math.IsNaN(v) || v < -0.5 || v > most+0.5 {
					t.Errorf("%s of %s is %s, in a picture of %g by %g", k, e.Name.Local, at[k], w, h)
				}
			}
		}
		if e.Name.Local != "svg" {
			inside(w, "x", "x1", "x2", "cx")
			inside(h, "y", "y1", "y2", "cy")
		}
	}
}

// Every picture keeps inside its frame and says in words what it shows, with nothing read, all read, and
// figures that lie far out.
func TestScenesStayInTheirFrames(t *testing.T) {
	g, err := ingest.Book().Plumbing.Combine(plumbing.Combination{Engine: "na-maf", Boost: "no-boost", Crankcase: "fixed-valve", Recirculation: "no-egr", Vapour: "engine-vacuum"})
	if err != nil {
		t.Fatal(err)
	}
	part := func(key string) bench.Subject { p, _ := g.Part(key); return bench.Subject{Graph: g, Part: p} }
	five := bench.CountOf(3, 5)
	for _, c := range []struct {
		name  string
		scene bench.Scene
		says  string
	}{
		{"relief", bench.ReliefScene{Crack: 27.7, Slack: 0.25, Opens: []float64{27, 90}, Reseals: []float64{1}, Now: 200}, "seen to open 2 times"},
		{"signal", bench.ReliefScene{Closed: 0.2, Off: 60, None: 1, Must: 5, Now: math.NaN()}, "60.0 inHg off idle"},
		{"signal, nothing read", bench.ReliefScene{Closed: math.NaN(), Off: math.NaN(), None: 1, Must: 5, Now: math.NaN()}, "signal vacuum"},
		{"a night", bench.SoakWatch.Picture(bench.Subject{}, bench.Readings{"lowest": bench.Num(-0.2), "cooled": bench.Num(40), "hours": bench.Num(5.5)}), "cooled by 40.0 K"},
		{"a night far out", bench.SoakScene{Now: -30, Low: -30, Must: 30, Cooled: math.NaN(), Need: 2.4, Changed: math.NaN()}, "fell to −30.00"},
		{"vent path", bench.VentPath.Picture(bench.Subject{}, bench.Readings{"flow": bench.Num(5, 190), "drop": bench.Num(0.3, 59)}), "as an opening of"},
		{"vent path shut", bench.VentPath.Picture(bench.Subject{}, bench.Readings{"flow": bench.Num(0), "drop": bench.Num(3)}), "nothing passes"},
		{"strokes that slow", bench.PumpByHand.Picture(bench.Subject{}, bench.Readings{"strokes": bench.Num(14), "first": bench.Num(0.9), "pause": bench.Num(5), "hold": bench.Num(40)}), "14 strokes of the pump"},
		{"strokes, one so far", bench.StrokeScene{At: []float64{16}, Until: 18, First: math.NaN(), Last: math.NaN(), Slow: 3.6}, "1 stroke of the pump"},
		{"strokes with suspects", bench.StrokeScene{At: []float64{16, 16.3, 17}, Until: 60, First: 0.3, Last: 0.7, Slow: 3.6}.With([]bench.Course{{Name: "vapour line rusted or rubbed through", T: []float64{1, 2, 3, 200}, V: []float64{0, 1, 3, 90}}, {Name: "nothing wrong", T: []float64{1, 2, 200}, V: []float64{1, 2, 2}}}), "3 strokes of the pump"},
		{"purge hose", bench.PurgeRunning.Picture(bench.Subject{}, bench.Readings{"pull": bench.Num(6), "free": bench.Num(12, 60, 11), "clamped": bench.Num(-2, 2)}), "free against clamped"},
		{"purge, clamped now", bench.PurgeScene{Clamped: true, Pull: math.NaN(), Share: math.NaN(), Speed: 700}, "its hose is clamped"},
		{"cap off", bench.PurgeScene{Cap: true, CapOff: true, Pull: math.NaN(), Share: math.NaN(), Speed: 540}, "cap is off"},
		{"sensor on a line", bench.SensorCheck.Picture(part("tank-sensor"), bench.Readings{"gauge": bench.Num(-10, -5, 0, 5, 10), "shows": bench.Num(-9, -4, 1.2, 6, 11)}), "1.00 times"},
		{"sensor far out, of this moment", bench.SensorScene{Gauge: []float64{-50, 50}, Shows: []float64{300, -300}, Zero: math.NaN(), Gain: math.NaN(), NowAt: 90, Now: -90, Scale: 0.1, Nothing: 0.5}, "beside the gauge"},
		{"valve, both parts", bench.ValveBench.Picture(part("purge-valve"), bench.Readings{"sealed": five, "passed": five, "new-sealed": five, "loss": bench.Num(0, 900, math.Inf(1)), "fall": bench.Num(0.1, math.Inf(1))}), "a new one: holds"},
		{"valve of this moment", bench.ValveScene{Must: bench.Passes, Electric: true, On: true, Now: 40, Old: bench.Tried{T: []float64{0, 1, 2, 300}, P: []float64{0, -3, 31, 0}}}, "40.0 inHg stand"},
		{"rig plugged", bench.ValveScene{Plugged: true, Now: 0}, "0 inHg"},
		{"check valve", bench.CheckValve.Picture(part("purge-valve"), bench.Readings{"backward": bench.Num(0), "forward": bench.Said("shut")}), "leaks"},
		{"vent unit, nothing read", bench.VentUnit.Picture(bench.Subject{}, bench.Readings{}), "windows of the vent unit"},
		{"vent unit, wrong order", bench.VentUnit.Picture(bench.Subject{}, bench.Readings{"opens": bench.Num(30), "switch": bench.Num(math.Inf(1)), "vacuum": bench.Num(30, 2), "inch-0": bench.Num(11.8), "inch-6": bench.Num(0.1)}), "switch: not in its window, or not in its turn"},
		{"circuit", bench.CircuitWalk.Picture(part("purge-valve"), bench.Readings{}), "red probe on the supply pin of the harness"},
		{"circuit, at the load", bench.CircuitWalk.Picture(part("vent-valve"), bench.Readings{"supply": bench.Num(-12.4), "coil": bench.Num(25)}), "red probe on the control pin"},
		{"circuit, found", bench.CircuitWalk.Picture(part("purge-valve"), bench.Readings{"supply": bench.Num(12.4), "coil": bench.Num(math.Inf(1))}), "found: coil open"},
		{"circuit of a sensor, at its pins", bench.CircuitWalk.Picture(part("tank-sensor"), bench.Readings{"signal": bench.Num(0.1)}), "look at the connector"},
		{"circuit of a sensor, contradicted", bench.CircuitWalk.Picture(part("tank-sensor"), bench.Readings{"signal": bench.Num(2.5), "loaded": bench.Num(0), "supply": bench.Num(12)}), "the circuit"},
		{"part alone", bench.PartAlone.Picture(part("canister"), bench.Readings{"exits": bench.Said("stream"), "free": bench.Said("no"), "blocked": {Places: []bench.Place{{Part: "purge-line"}}}}), "purge line blocked"},
		{"part alone, all well", bench.PartAlone.Picture(part("canister"), bench.Readings{"exits": bench.Said("none"), "free": bench.Said("yes"), "mate": bench.Said("seals"), "inside": bench.Said("clean")}), "purge line free"},
		{"make-up flow", bench.MakeUpFlow.Picture(bench.Subject{}, bench.Readings{"flow": bench.Num(180), "rig": bench.Num(0), "reference": bench.Num(0.5)}), "the rig"},
		{"tank", bench.DrawDown.Picture(part("tank"), bench.Readings{"built": bench.Num(39), "left": bench.Num(-3)}), "the tank"},
	} {
		t.Run(c.name, func(t *testing.T) {
			svg := report.Scene(c.scene, report.Plan{})
			if label := drawnIn(t, svg); !strings.Contains(label, c.says) {
				t.Errorf("it says %q, not %q", label, c.says)
			}
		})
	}
	if s := bench.PartAlone.Picture(bench.Subject{}, bench.Readings{}); s != nil {
		t.Errorf("a picture of no part: %+v", s)
	}
}
