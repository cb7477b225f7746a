package report

import (
	"fmt"
	"html"
	"math"
	"slices"
	"strings"

	"wexter/core/drawing"
	"wexter/core/plumbing"
	"wexter/core/smoke"
)

// Mark of a part on the Map.
type Mark string

// What is known of a part.
const (
	Untested Mark = ""
	Tight    Mark = "tight"   // proven by a hold
	Suspect  Mark = "suspect" // hatched by odds
	Found    Mark = "found"
)

// What a chosen test would do to a part.
const (
	WouldClear  = "clear"
	WouldAccuse = "accuse"
	WouldSplit  = "split"
)

// MarkWords say the marks.
var MarkWords = map[Mark]string{Untested: "not tested", Tight: "proven tight", Suspect: "suspect", Found: "found"}

// Flag is a numbered flag on a part: something found, or an exit seen.
type Flag struct {
	Part string
	N    int
	Text string
	Exit bool // an exit of smoke, not yet a finding
}

// Map is what is shown on a car's plumbing.
type Map struct {
	Graph    *plumbing.Graph
	Sheet    *drawing.Sheet
	Title    string
	Marks    map[string]Mark
	Odds     map[string]float64 // of suspects, 0 to 1
	Settings plumbing.Settings
	Flags    []Flag
	Changed  map[string]bool         // corrected on this car
	Chosen   string                  // the part that is looked at
	Link     func(key string) string // where a tap goes; nil: nothing can be tapped
	Lights   map[string]string       // parts that a chosen test would clear or accuse, or both
	Smoke    map[string]float64      // share of a rig's smoke that has come to a part, 0 to 1
	Looked   []string                // parts at which somebody looked and saw nothing
	Only     string                  // the family that is drawn; empty: the whole car
	Alone    bool                    // a file of its own: with colours and a legend

	shown  map[string]Mark // by part, with what sits in its wall
	likely map[string]float64
}

// densities of the hatch: the distance between strokes, px, from weak to strong.
var densities = []int{11, 8, 6, 4}

// Density is the step of the hatch for odds, 0 to 3.
func Density(odds float64) int {
	switch {
	case odds < 0.05:
		return 0
	case odds < 0.15:
		return 1
	case odds < 0.35:
		return 2
	}
	return 3
}

// legendHeight is what the legend takes under a map that stands alone, px.
const legendHeight = 40

// SVG draws the map.
func (m *Map) SVG() string {
	var b strings.Builder
	h := m.Sheet.H
	if m.Alone {
		h += legendHeight
	}
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" class="map" role="%s" aria-label="%s">`, m.Sheet.W, h,
		map[bool]string{true: "group", false: "img"}[m.Link != nil], html.EscapeString(m.Title))
	if m.Alone {
		b.WriteString("<title>" + html.EscapeString(m.Title) + "</title><style>" + mapStyle + "</style>")
		fmt.Fprintf(&b, `<rect class="m-sheet" width="%d" height="%d"/>`, m.Sheet.W, h)
	}
	b.WriteString(`<defs>`)
	for i, d := range densities {
		fmt.Fprintf(&b, `<pattern id="h%d" width="%d" height="%d" patternUnits="userSpaceOnUse" patternTransform="rotate(45)"><rect width="%d" height="%d" class="m-sheet"/><line x1="1" y1="0" x2="1" y2="%d" class="m-hatch"/></pattern>`, i, d, d, d, d, d)
	}
	b.WriteString(smokePattern)
	b.WriteString(`<pattern id="carbon" width="11" height="11" patternUnits="userSpaceOnUse"><circle cx="3" cy="3" r="1.4" class="m-grain"/></pattern></defs>`)
	for _, p := range m.Sheet.Pipes {
		if m.draws(p.Part) {
			m.pipe(&b, p)
		}
	}
	for _, x := range m.Sheet.Symbols {
		if m.draws(x.Part) {
			m.symbol(&b, x)
		}
	}
	for _, l := range m.Sheet.Labels {
		if p, _ := m.Graph.Part(l.Key); m.draws(p) {
			m.label(&b, l)
		}
	}
	for _, f := range m.Flags {
		m.flag(&b, f)
	}
	for _, k := range m.Looked {
		if at, ok := m.Sheet.Spot(m.Graph, k); ok {
			fmt.Fprintf(&b, `<g class="m-looked"><circle cx="%d" cy="%d" r="10"/><path d="M%d %dl4 5l7 -9"/></g>`, at.X, at.Y, at.X-5, at.Y)
		}
	}
	if m.Alone {
		m.legend(&b, m.Sheet.H+20)
	}
	b.WriteString("</svg>")
	return b.String()
}

// smokePattern is the hatch of what smoke has come to: upright waves, unlike the strokes of a suspect.
const smokePattern = `<pattern id="smoke" width="9" height="12" patternUnits="userSpaceOnUse"><path d="M3 0q3 3 0 6t0 6" class="m-wave"/></pattern>`

// draws reports whether a part is on the map.
func (m *Map) draws(p plumbing.Part) bool { return m.Only == "" || p.Family == m.Only }

// Says is a part in words: what it is, its state and what is known of it.
func (m *Map) Says(p plumbing.Part) string {
	out := []string{p.Name}
	if st := m.StateWords(p); st != "" {
		out = append(out, st)
	}
	w := MarkWords[m.mark(p.Key)]
	if m.mark(p.Key) == Suspect && m.Odds[p.Key] > 0 {
		w += fmt.Sprintf(", %.0f %%", 100*m.Odds[p.Key])
	}
	out = append(out, w)
	for _, f := range m.Flags {
		if f.Part == p.Key {
			out = append(out, fmt.Sprintf("flag %d: %s", f.N, f.Text))
		}
	}
	if m.Changed[p.Key] {
		out = append(out, "corrected on this car")
	}
	if slices.Contains(m.Looked, p.Key) {
		out = append(out, "looked at, no smoke")
	}
	if s, ok := m.Smoke[p.Key]; ok {
		out = append(out, map[bool]string{true: "smoke is there", false: "no smoke there yet"}[s >= smoke.Reached])
	}
	switch m.Lights[p.Key] {
	case WouldClear:
		out = append(out, "the chosen test would clear it")
	case WouldAccuse:
		out = append(out, "the chosen test would accuse it")
	case WouldSplit:
		out = append(out, "the chosen test would clear or accuse it")
	}
	return strings.Join(out, ", ")
}

// StateWords says what a part does now, and what keeps it there.
func (m *Map) StateWords(p plumbing.Part) string {
	st := m.Graph.StateOf(p.Key, m.Settings)
	set := m.Settings[p.Key]
	switch {
	case st == plumbing.Plugged:
		return "plugged"
	case p.Kind == plumbing.Cover && st == plumbing.Open:
		return "off"
	case p.Kind == plumbing.Cover:
		return "on"
	case p.Kind == plumbing.Inlet && st == plumbing.Shut:
		return "capped"
	case p.Kind == plumbing.Inlet || st == "":
		return ""
	case set == plumbing.Powered:
		return string(st) + " by power"
	case set != "" && set != p.Rest:
		return string(st) + " by hand"
	}
	return string(st) + " at rest"
}

// mark is what is known of a part; Found wins over Suspect over Tight. Something in a
// part's wall that is not drawn shows on the part.
func (m *Map) mark(key string) Mark {
	m.gather()
	return m.shown[key]
}

func (m *Map) odds(key string) float64 {
	m.gather()
	return m.likely[key]
}

// gather works out once what each part shows.
func (m *Map) gather() {
	if m.shown != nil {
		return
	}
	m.shown, m.likely = map[string]Mark{}, map[string]float64{}
	rank := map[Mark]int{Untested: 0, Tight: 1, Suspect: 2, Found: 3}
	for k, w := range m.Marks {
		p, _ := m.Graph.Part(k)
		for _, at := range []string{k, p.On} {
			hidden := at != k && (at == "" || p.Drawn() || w == Tight)
			if hidden {
				continue
			}
			if rank[w] > rank[m.shown[at]] {
				m.shown[at] = w
			}
			m.likely[at] = max(m.likely[at], m.Odds[k])
		}
	}
}

// fill is the class or pattern that shows a mark.
func (m *Map) fill(key string) string {
	switch m.mark(key) {
	case Tight:
		return `class="m-tight"`
	case Suspect:
		return fmt.Sprintf(`fill="url(#h%d)"`, Density(m.odds(key)))
	case Found:
		return `class="m-found"`
	}
	return `class="m-hollow"`
}

func (m *Map) open(b *strings.Builder, p plumbing.Part) {
	says := html.EscapeString(m.Says(p))
	cl := "part"
	if p.Key == m.Chosen {
		cl += " chosen"
	}
	if m.Changed[p.Key] {
		cl += " changed"
	}
	if l := m.Lights[p.Key]; l != "" {
		cl += " would-" + l
	}
	if m.Link != nil && p.Name != "" {
		fmt.Fprintf(b, `<a href="%s" class="%s" data-part="%s" aria-label="%s"><title>%s</title>`, html.EscapeString(m.Link(p.Key)), cl, p.Key, says, says)
		return
	}
	fmt.Fprintf(b, `<g class="%s"><title>%s</title>`, cl, says)
}

func (m *Map) shut(b *strings.Builder, p plumbing.Part) {
	if m.Link != nil && p.Name != "" {
		b.WriteString("</a>")
		return
	}
	b.WriteString("</g>")
}

// width of a pipe on the sheet by its bore, px.
func width(p plumbing.Part) int {
	switch {
	case p.Bore >= 0.03:
		return 10
	case p.Bore > 0.005:
		return 8
	}
	return 5
}

func path(way []drawing.Point) string {
	var b strings.Builder
	for i, p := range way {
		fmt.Fprintf(&b, "%c%d %d", "ML"[min(i, 1)], p.X, p.Y)
	}
	return b.String()
}

func (m *Map) pipe(b *strings.Builder, p drawing.Pipe) {
	d, w := path(p.Way), width(p.Part)
	m.open(b, p.Part)
	fmt.Fprintf(b, `<path d="%s" class="m-hit"/><path d="%s" class="m-gap" stroke-width="%d"/><path d="%s" class="m-edge" stroke-width="%d"/>`, d, d, w+4, d, w)
	switch mk := m.mark(p.Key); mk {
	case Tight:
		fmt.Fprintf(b, `<path d="%s" class="m-in-tight" stroke-width="%d"/>`, d, w-3)
	case Suspect:
		fmt.Fprintf(b, `<path d="%s" stroke="url(#h%d)" fill="none" stroke-width="%d"/>`, d, Density(m.odds(p.Key)), w-2)
	case Found:
		fmt.Fprintf(b, `<path d="%s" class="m-in-found" stroke-width="%d"/>`, d, w-3)
	default:
		fmt.Fprintf(b, `<path d="%s" class="m-in" stroke-width="%d"/>`, d, w-3)
		if w > 5 {
			fmt.Fprintf(b, `<path d="%s" class="m-broken"/>`, d)
		}
	}
	if m.Smoke[p.Key] >= smoke.Reached {
		fmt.Fprintf(b, `<path d="%s" class="m-smoked" stroke-width="%d"/>`, d, max(w-3, 3))
	}
	if m.Graph.StateOf(p.Key, m.Settings) == plumbing.Plugged {
		plug(b, p)
	}
	m.shut(b, p.Part)
}

// plug draws a stop across the end of a line.
func plug(b *strings.Builder, p drawing.Pipe) {
	a, c := p.Way[0], p.Way[1]
	if p.Plug == "to" {
		a, c = p.Way[len(p.Way)-1], p.Way[len(p.Way)-2]
	}
	dx, dy := 0, 0
	if c.X != a.X {
		dx = 1
	} else {
		dy = 1
	}
	at := drawing.Point{X: a.X + 9*sgn(c.X-a.X), Y: a.Y + 9*sgn(c.Y-a.Y)}
	fmt.Fprintf(b, `<path d="M%d %dL%d %dM%d %dL%d %dM%d %dL%d %d" class="m-plug"/>`,
		at.X-10*dy, at.Y-10*dx, at.X+10*dy, at.Y+10*dx,
		at.X-10*dy-4*dx, at.Y-10*dx-4*dy, at.X-10*dy+4*dx, at.Y-10*dx+4*dy,
		at.X+10*dy-4*dx, at.Y+10*dx-4*dy, at.X+10*dy+4*dx, at.Y+10*dx+4*dy)
}

func sgn(v int) int {
	switch {
	case v > 0:
		return 1
	case v < 0:
		return -1
	}
	return 0
}

func (m *Map) symbol(b *strings.Builder, x drawing.Symbol) {
	r, c := x.Box, x.Box.Middle()
	if x.Kind == plumbing.Tee {
		if m.Graph.Joins(x.Key) > 2 {
			fmt.Fprintf(b, `<circle cx="%d" cy="%d" r="4" class="m-tee"/>`, c.X, c.Y)
		}
		return
	}
	m.open(b, x.Part)
	hw, hh := max(r.W, 40), max(r.H, 40)
	if len(x.Spot) == 2 {
		hw, hh = 26, 26
	}
	fmt.Fprintf(b, `<rect x="%d" y="%d" width="%d" height="%d" class="m-hit"/>`, c.X-hw/2, c.Y-hh/2, hw, hh)
	fill := m.fill(x.Key)
	box := func() {
		fmt.Fprintf(b, `<rect x="%d" y="%d" width="%d" height="%d" rx="3" %s/><rect x="%d" y="%d" width="%d" height="%d" rx="3" class="m-line"/>`, r.X, r.Y, r.W, r.H, fill, r.X, r.Y, r.W, r.H)
	}
	disc := func(radius int) {
		fmt.Fprintf(b, `<circle cx="%d" cy="%d" r="%d" %s/><circle cx="%d" cy="%d" r="%d" class="m-line"/>`, c.X, c.Y, radius, fill, c.X, c.Y, radius)
	}
	switch x.Kind {
	case plumbing.Valve:
		disc(12)
		m.blade(b, x)
	case plumbing.Check, plumbing.Relief:
		if len(x.Spot) == 2 { // built into a wall
			disc(8)
			fmt.Fprintf(b, `<circle cx="%d" cy="%d" r="3" class="m-ball"/>`, c.X, c.Y)
			break
		}
		disc(12)
		turn := map[string]int{"down": 90, "up": -90, "back": 180}[x.Face]
		fmt.Fprintf(b, `<g transform="rotate(%d %d %d)"><path d="M%d %dl7 -7M%d %dl7 7" class="m-seat"/><circle cx="%d" cy="%d" r="4" class="m-ball"/></g>`, turn, c.X, c.Y, c.X-7, c.Y, c.X-7, c.Y, c.X+2, c.Y)
	case plumbing.Cover:
		box()
		if m.Graph.StateOf(x.Key, m.Settings) == plumbing.Open {
			fmt.Fprintf(b, `<path d="M%d %dL%d %d" class="m-blade"/>`, r.X-3, r.Y+r.H+2, r.X+r.W+3, r.Y-2)
		}
	case plumbing.Inlet:
		box()
		for i := 1; i <= 3; i++ {
			fmt.Fprintf(b, `<path d="M%d %dV%d" class="m-thin"/>`, r.X+i*r.W/4, r.Y+4, r.Y+r.H-4)
		}
		if m.Graph.StateOf(x.Key, m.Settings) == plumbing.Shut {
			fmt.Fprintf(b, `<path d="M%d %dH%d" class="m-plug"/>`, r.X-4, r.Y+r.H, r.X+r.W+4)
		}
	case plumbing.Filter:
		box()
		fmt.Fprintf(b, `<path d="M%d %dL%d %d" class="m-thin"/>`, r.X+4, r.Y+r.H-4, r.X+r.W-4, r.Y+4)
	case plumbing.Rotor:
		in, out := 6, 0
		if x.Face == "down" {
			in, out = 0, 6
		}
		d := fmt.Sprintf("M%d %dL%d %dL%d %dL%d %dZ", r.X, r.Y+in, r.X+r.W, r.Y+out, r.X+r.W, r.Y+r.H-out, r.X, r.Y+r.H-in)
		fmt.Fprintf(b, `<path d="%s" %s/><path d="%s" class="m-line"/>`, d, fill, d)
	case plumbing.Pump:
		disc(12)
		fmt.Fprintf(b, `<path d="M%d %dl7 11h-14z" class="m-ball"/>`, c.X, c.Y-7)
	case plumbing.Sensor:
		disc(8)
		letter := "p"
		if strings.Contains(x.Key, "temperature") {
			letter = "t"
		}
		fmt.Fprintf(b, `<text x="%d" y="%d" class="m-letter">%s</text>`, c.X, c.Y+4, letter)
	case plumbing.Switch:
		disc(8)
		fmt.Fprintf(b, `<path d="M%d %dl5 0l4 -4" class="m-thin"/>`, c.X-5, c.Y+1)
	case plumbing.Seal:
		fmt.Fprintf(b, `<rect x="%d" y="%d" width="16" height="8" %s/><rect x="%d" y="%d" width="16" height="8" class="m-line"/>`, c.X-8, c.Y-4, fill, c.X-8, c.Y-4)
	default:
		box()
		m.inside(b, x)
	}
	m.shut(b, x.Part)
}

// blade draws what a valve does now, and what holds it there.
func (m *Map) blade(b *strings.Builder, x drawing.Symbol) {
	horizontal := x.Face == "" || x.Face == "across" || x.Face == "back"
	c := x.Box.Middle()
	along := m.Graph.StateOf(x.Key, m.Settings) == plumbing.Open
	if along == horizontal {
		fmt.Fprintf(b, `<path d="M%d %dH%d" class="m-blade"/>`, c.X-11, c.Y, c.X+11)
	} else {
		fmt.Fprintf(b, `<path d="M%d %dV%d" class="m-blade"/>`, c.X, c.Y-11, c.Y+11)
	}
	if m.Settings[x.Key] == plumbing.Powered { // a second ring: power holds it there
		fmt.Fprintf(b, `<circle cx="%d" cy="%d" r="15" class="m-power"/>`, c.X, c.Y)
	} else if x.Moves() { // a spring on its shoulder
		fmt.Fprintf(b, `<path d="M%d %dl3 -3l3 4l3 -4l3 3" class="m-spring"/>`, c.X+3, c.Y-12)
	}
}

// inside draws what a part holds: smoke that has come, carbon, fuel.
func (m *Map) inside(b *strings.Builder, x drawing.Symbol) {
	r := x.Box
	if s := math.Min(m.Smoke[x.Key], 1); s > 0.01 { // it fills from below, as far as its share
		h := int(math.Round(float64(r.H-4) * s))
		fmt.Fprintf(b, `<rect x="%d" y="%d" width="%d" height="%d" fill="url(#smoke)"/><path d="M%d %dH%d" class="m-thin"/>`, r.X+2, r.Y+r.H-2-h, r.W-4, h, r.X+2, r.Y+r.H-2-h, r.X+r.W-2)
	}
	switch x.Key {
	case "canister":
		fmt.Fprintf(b, `<rect x="%d" y="%d" width="%d" height="%d" fill="url(#carbon)"/>`, r.X+4, r.Y+4, r.W-8, r.H-8)
	case "tank":
		for i := 1; i <= 3; i++ {
			fmt.Fprintf(b, `<path d="M%d %dH%d" class="m-fuel"/>`, r.X+4, r.Y+r.H-6*i, r.X+r.W-4)
		}
	}
}

func (m *Map) label(b *strings.Builder, l drawing.Label) {
	x := l.Box.X + l.Box.W/2
	switch l.Anchor {
	case "start":
		x = l.Box.X
	case "end":
		x = l.Box.X + l.Box.W
	}
	cl := "m-word"
	switch m.mark(l.Key) {
	case Tight:
		cl += " w-tight"
	case Suspect:
		cl += " w-suspect"
	case Found:
		cl += " w-found"
	}
	if s, ok := m.Sheet.Symbol(l.Key); ok && l.Box.Overlaps(s.Box) && m.mark(l.Key) != Untested {
		// Words inside a filled box stand on a strip of their own.
		fmt.Fprintf(b, `<rect x="%d" y="%d" width="%d" height="%d" class="m-strip"/>`, l.Box.X-2, l.Box.Y, l.Box.W+4, l.Box.H)
	}
	fmt.Fprintf(b, `<text class="%s" text-anchor="%s" aria-hidden="true">`, cl, l.Anchor)
	for i, t := range l.Lines {
		fit := ""
		if m.Alone { // another face must not be wider than the room that was found
			fit = fmt.Sprintf(` textLength="%d" lengthAdjust="spacingAndGlyphs"`, drawing.TextWidth(t)-2)
		}
		fmt.Fprintf(b, `<tspan x="%d" y="%d"%s>%s</tspan>`, x, l.Box.Y+13+17*i, fit, html.EscapeString(t))
	}
	b.WriteString("</text>")
}

// flag draws a numbered flag; several on one part stand side by side.
func (m *Map) flag(b *strings.Builder, f Flag) {
	at, ok := m.Sheet.Spot(m.Graph, f.Part)
	if !ok {
		return
	}
	for _, o := range m.Flags {
		if o.N >= f.N {
			break
		}
		if p, ok := m.Sheet.Spot(m.Graph, o.Part); ok && p == at {
			at.X += 22
		}
	}
	cl := "m-flag"
	if f.Exit {
		cl += " m-exit"
	}
	at.X = min(at.X, m.Sheet.W-22)
	at.Y = max(at.Y, 28)
	fmt.Fprintf(b, `<g class="%s" aria-hidden="true"><path d="M%d %dV%dh20v16h-18"/><text x="%d" y="%d">%d</text></g>`, cl, at.X, at.Y, at.Y-26, at.X+11, at.Y-14, f.N)
}

// legend says what the textures mean, under a map that stands alone.
func (m *Map) legend(b *strings.Builder, y int) {
	x := 10
	item := func(w int, words, draw string) {
		n := drawing.TextWidth(words)
		fmt.Fprintf(b, `<g transform="translate(%d %d)">%s<text class="m-word" x="%d" y="5" textLength="%d" lengthAdjust="spacingAndGlyphs">%s</text></g>`, x, y, draw, w+5, n-2, words)
		x += w + 16 + n
	}
	const run = `<path d="M0 0H26" class="m-edge" stroke-width="8"/>`
	const disc = `<circle cx="11" cy="0" r="11" class="m-hollow"/><circle cx="11" cy="0" r="11" class="m-line"/>`
	item(26, "not tested", run+`<path d="M0 0H26" class="m-in" stroke-width="5"/><path d="M0 0H26" class="m-broken"/>`)
	item(26, "proven tight", run+`<path d="M0 0H26" class="m-in-tight" stroke-width="5"/>`)
	item(26, "suspect, denser: likelier", run+`<path d="M0 0H26.1" stroke="url(#h2)" stroke-width="6"/>`)
	item(20, "found", `<g class="m-flag"><path d="M0 10V-12h18v14h-16"/><text x="10" y="-1">1</text></g>`)
	item(22, "open", disc+`<path d="M1 0H21" class="m-blade"/>`)
	item(22, "shut", disc+`<path d="M11 -10V10" class="m-blade"/>`)
	item(26, "powered", `<circle cx="12" cy="0" r="9" class="m-hollow"/><circle cx="12" cy="0" r="9" class="m-line"/><circle cx="12" cy="0" r="13" class="m-power"/>`)
	item(16, "plugged", `<path d="M8 -10V10M4 -10H12M4 10H12" class="m-plug"/>`)
}

// mapStyle is the look of a map that leaves the shop as a file: day colours, and a
// narrow face that every machine has.
const mapStyle = `.m-sheet{fill:#fbfaf5}.m-hit{fill:none;stroke:none}.m-gap{fill:none;stroke:#fbfaf5}.m-edge{fill:none;stroke:#15232c}.m-in{fill:none;stroke:#fbfaf5}.m-in-tight{fill:none;stroke:#17645f}.m-in-found{fill:none;stroke:#ad2b20}` +
	`.m-broken{fill:none;stroke:#4d5a63;stroke-dasharray:2 5}.m-hatch{stroke:#a05f08;stroke-width:2}.m-hollow{fill:#fbfaf5}.m-tight{fill:#17645f}.m-found{fill:#ad2b20}.m-line{fill:none;stroke:#15232c;stroke-width:2}` +
	`.m-blade{stroke:#15232c;stroke-width:5;fill:none}.m-tight~.m-blade,.m-found~.m-blade,.m-tight~.m-thin,.m-found~.m-thin{stroke:#fbfaf5}.m-tee{fill:#15232c}.m-thin,.m-spring,.m-seat{fill:none;stroke:#15232c;stroke-width:1.5}.m-ball{fill:#15232c}.m-fuel{stroke:#cfc8b6;stroke-width:2}.m-grain{fill:#cfc8b6}` +
	`.m-power{fill:none;stroke:#1f4e8c;stroke-width:2.5}.m-plug{fill:none;stroke:#1f4e8c;stroke-width:4}.m-word{font:500 16px "Barlow Semi Condensed","Arial Narrow",sans-serif;fill:#15232c}.w-tight{fill:#17645f}.w-suspect{fill:#7d4903}.w-found{fill:#ad2b20}` +
	`.m-strip{fill:#fbfaf5}.m-letter{font:500 13px sans-serif;text-anchor:middle;fill:#15232c}.m-flag path{fill:#ad2b20;stroke:#ad2b20;stroke-width:2}.m-flag text{font:600 13px sans-serif;fill:#fff;text-anchor:middle}.m-exit path{fill:#fbfaf5}.m-exit text{fill:#ad2b20}`
