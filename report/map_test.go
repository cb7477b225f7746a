package report_test

import (
	"encoding/xml"
	"errors"
	"io"
	"strings"
	"testing"

	"wexter/core/drawing"
	"wexter/core/plumbing"
	"wexter/ingest"
	"wexter/report"
)

var turbo = plumbing.Combination{Engine: "turbo-petrol", Boost: "charged-line", Crankcase: "regulator-turbo", Recirculation: "egr-motor-temperature", Vapour: "eonv-switch-remote"}

func mapOf(t testing.TB, c plumbing.Combination) *report.Map {
	g, err := ingest.Book().Plumbing.Combine(c)
	if err != nil {
		t.Fatal(err)
	}
	return &report.Map{Graph: g, Sheet: drawing.Lay(g), Title: `A "map" <of> one & all`, Link: func(k string) string { return "?part=" + k + "&x=1" }}
}

// parts reads a drawing and returns what stands inside each part, by key, and the
// classes of all that is drawn.
func parts(t *testing.T, svg string) map[string]string {
	t.Helper()
	out := map[string]string{}
	d := xml.NewDecoder(strings.NewReader(svg))
	key, depth := "", 0
	for {
		tok, err := d.Token()
		if errors.Is(err, io.EOF) {
			return out
		}
		if err != nil {
			t.Fatalf("the drawing is not well formed: %v", err)
		}
		switch e := tok.(type) {
		case xml.StartElement:
			if key != "" {
				depth++
			}
			for _, a := range e.Attr {
				if a.Name.Local == "data-part" {
					key, depth = a.Value, 0
				}
			}
			for _, a := range e.Attr {
				if key != "" && (a.Name.Local == "class" || a.Name.Local == "stroke" || a.Name.Local == "fill" || a.Name.Local == "aria-label") {
					out[key] += a.Value + ";"
				}
			}
		case xml.EndElement:
			if key != "" && depth == 0 {
				key = ""
			}
			depth--
		}
	}
}

// Each state has its own texture, which does not need colour to be told.
func TestMapShowsStates(t *testing.T) {
	m := mapOf(t, turbo)
	m.Marks = map[string]report.Mark{"purge-line": report.Tight, "tank": report.Tight, "vapour-line": report.Suspect, "neck": report.Suspect, "pcv-line": report.Found, "rollover": report.Suspect, "unit-relief": report.Suspect}
	m.Odds = map[string]float64{"vapour-line": 0.5, "neck": 0.02, "rollover": 0.1, "unit-relief": 0.2}
	m.Settings = plumbing.Settings{"vent-valve": plumbing.Powered, "vent-hose": plumbing.Plugged, "cap": plumbing.Open, "purge-valve": plumbing.Open, "vent-filter": plumbing.Shut}
	m.Flags = []report.Flag{{Part: "pcv-line", N: 1, Text: "split <here>"}, {Part: "pcv-line", N: 2, Text: "again", Exit: true}, {Part: "nowhere", N: 3}}
	m.Changed, m.Chosen = map[string]bool{"throttle": true}, "compressor"
	p := parts(t, m.SVG())
	for _, c := range []struct{ part, has, not string }{
		{"purge-line", "m-in-tight", "m-broken"},
		{"breather-line", "m-broken", "m-in-tight"},
		{"vapour-line", "url(#h3)", "m-broken"},
		{"neck", "url(#h0)", "url(#h3)"},
		{"rollover", "url(#h1)", ""},
		{"vent-valve", "url(#h2)", ""}, // by the relief in its wall, which is not drawn
		{"vent-valve", "open by power", "at rest"},
		{"vent-valve", "m-power", "m-spring"},
		{"purge-valve", "open by hand", "m-power"},
		{"pcv-line", "m-in-found", ""},
		{"pcv-line", "flag 1: split <here>, flag 2: again", ""},
		{"vent-hose", "m-plug", ""},
		{"cap", "m-blade", ""},
		{"vent-filter", "capped", ""},
		{"throttle", "changed", ""},
		{"compressor", "chosen", ""},
		{"unit-switch", "m-thin", ""},
		{"egr-temperature", "m-letter", ""},
	} {
		t.Run(c.part, func(t *testing.T) {
			if !strings.Contains(p[c.part], c.has) || c.not != "" && strings.Contains(p[c.part], c.not) {
				t.Errorf("%s: want %q and not %q in %s", c.part, c.has, c.not, p[c.part])
			}
		})
	}
	if len(p) < 60 {
		t.Errorf("only %d parts can be tapped", len(p))
	}
}

// Open lies along its pipe and shut across, whichever way the pipe runs.
func TestBladesLieAlongOrAcross(t *testing.T) {
	m := mapOf(t, turbo)
	blade := func(key string, st plumbing.State) string {
		m.Settings = plumbing.Settings{key: st}
		_, rest, _ := strings.Cut(m.SVG(), `data-part="`+key+`"`)
		own, _, _ := strings.Cut(rest, "</a>")
		before, _, ok := strings.Cut(own, `" class="m-blade"`)
		if !ok {
			return "none"
		}
		path := before[strings.LastIndex(before, `d="`)+3:]
		if strings.Contains(path, "H") {
			return "across the sheet"
		}
		return "down the sheet"
	}
	for _, c := range []struct {
		key  string
		st   plumbing.State
		want string
	}{
		{"throttle", plumbing.Open, "across the sheet"}, {"throttle", plumbing.Shut, "down the sheet"},
		{"vent-valve", plumbing.Open, "down the sheet"}, {"vent-valve", plumbing.Shut, "across the sheet"},
		{"egr-valve", plumbing.Shut, "across the sheet"}, {"bypass", plumbing.Open, "down the sheet"},
		{"inlet-check", plumbing.Open, "none"},
	} {
		t.Run(c.key, func(t *testing.T) {
			if got := blade(c.key, c.st); got != c.want {
				t.Errorf("%s %s: its blade lies %s, not %s", c.key, c.st, got, c.want)
			}
		})
	}
}

func TestMapAlone(t *testing.T) {
	m := mapOf(t, turbo)
	m.Link, m.Alone = nil, true
	svg := m.SVG()
	parts(t, svg) // well formed
	for _, want := range []string{"A &#34;map&#34; &lt;of&gt; one &amp; all", "<style>", "proven tight", "textLength", `role="img"`} {
		if !strings.Contains(svg, want) {
			t.Errorf("not in the file: %s", want)
		}
	}
	if strings.Contains(svg, "<a ") || strings.Contains(svg, "<script") {
		t.Error("a file of its own has links or scripts")
	}
}

func TestDensity(t *testing.T) {
	last := 0
	for _, odds := range []float64{0, 0.04, 0.1, 0.2, 0.5, 1} {
		d := report.Density(odds)
		if d < last || d > 3 {
			t.Errorf("odds %g have density %d after %d", odds, d, last)
		}
		last = d
	}
	if last != 3 {
		t.Errorf("certainty has density %d", last)
	}
}

// BenchmarkMap is a whole Map made again: parts joined, laid out and drawn.
func BenchmarkMap(b *testing.B) {
	lib := ingest.Book().Plumbing
	for b.Loop() {
		g, err := lib.Combine(turbo)
		if err != nil {
			b.Fatal(err)
		}
		m := report.Map{Graph: g, Sheet: drawing.Lay(g), Link: func(k string) string { return k }}
		_ = m.SVG()
	}
}

// BenchmarkMapAgain is the drawing alone, as for a car that was looked at before.
func BenchmarkMapAgain(b *testing.B) {
	m := mapOf(b, turbo)
	for b.Loop() {
		_ = m.SVG()
	}
}
