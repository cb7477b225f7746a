package web

import (
	"cmp"
	"fmt"
	"html/template"
	"math"
	"slices"
	"strings"

	"wexter/casework"
	"wexter/core/diagnose"
	"wexter/core/obd"
	"wexter/core/units"
)

// This file draws the small pictures that stand where a column of figures would: made on the
// server, in the colours of the page, with the same figures in words beside or within them.

// letters name the pieces of a bar that a list below it explains.
const letters = "ABCDEFGH"

// outcomeBar draws how a test may come out as one bar: a piece as wide as an outcome is
// likely, with its letter; the usual outcome filled, what is rare left hollow.
func outcomeBar(rows []outRow) template.HTML {
	total := 0
	for _, r := range rows {
		total += r.Percent
	}
	if total == 0 {
		return ""
	}
	var b strings.Builder
	b.WriteString(`<svg class="outbar" aria-hidden="true">`)
	x := 0.0
	for _, r := range rows {
		w := 100 * float64(r.Percent) / float64(total)
		fmt.Fprintf(&b, `<rect class="%s" x="%.2f%%" y="1" width="%.2f%%" height="26"/>`, r.Class(), x, w)
		if w >= 6 {
			fmt.Fprintf(&b, `<text x="%.2f%%" y="20" text-anchor="middle">%s</text>`, x+w/2, r.Letter)
		}
		x += w
	}
	b.WriteString(`</svg>`)
	return template.HTML(b.String())
}

// slopeMost is how many parts a slope plot shows: those whose odds moved most.
const slopeMost = 4

// slopeLine is one part on a slope plot.
type slopeLine struct {
	label         string
	before, after float64
}

// slopes are the parts that one piece of evidence moved, by what the Map calls them: faults
// of one part count together, as they do on the Map. Empty when nothing worth a line moved.
func slopes(st *diagnose.State, car casework.Car, turn diagnose.Turn) (out []slopeLine) {
	at := map[string]int{}
	if len(turn.After) == 0 { // it says nothing of what may be wrong
		return nil
	}
	for i, x := range st.Suspects {
		p, ok := car.Graph.Part(x.Part)
		if !ok {
			continue
		}
		k, seen := at[x.Part]
		if !seen {
			k, at[x.Part] = len(out), len(out)
			out = append(out, slopeLine{label: p.Short()})
		}
		out[k].before = 1 - (1-out[k].before)*(1-turn.Before[i])
		out[k].after = 1 - (1-out[k].after)*(1-turn.After[i])
	}
	out = slices.DeleteFunc(out, func(l slopeLine) bool { return math.Abs(l.after-l.before) < 0.02 })
	slices.SortStableFunc(out, func(a, b slopeLine) int {
		return cmp.Compare(math.Abs(b.after-b.before), math.Abs(a.after-a.before))
	})
	out = out[:min(len(out), slopeMost)]
	slices.SortStableFunc(out, func(a, b slopeLine) int { return cmp.Compare(b.after, a.after) })
	return out
}

// The slope plot: its size, where its two rulers stand, and how far labels are apart.
const (
	slopeWidth, slopeTop, slopeTall = 226.0, 10.0, 56.0
	slopeLeft, slopeRight           = 30.0, 74.0
	slopeName                       = 110.0 // where the names begin
	slopeApart                      = 16.0
	slopeLetters                    = 20 // of a name on one line
)

// slopePlot draws how the odds of some parts went from before to after a result.
func slopePlot(lines []slopeLine) template.HTML {
	if len(lines) == 0 {
		return ""
	}
	most := 0.0
	for _, l := range lines {
		most = max(most, l.before, l.after)
	}
	y := func(p float64) float64 { return slopeTop + slopeTall*(1-p/most) }
	var says []string
	var befores, afters []float64
	for _, l := range lines {
		says = append(says, fmt.Sprintf("%s %s to %s %%", l.label, perCent(l.before), perCent(l.after)))
		befores, afters = append(befores, y(l.before)), append(afters, y(l.after))
	}
	left := apart(befores, func(int) float64 { return slopeApart })
	right := apart(afters, func(i int) float64 { return slopeApart * float64(len(twoLines(lines[i].label))) })
	tall := max(slopeTop+slopeTall, slices.Max(left)) + 10
	for i, l := range lines {
		tall = max(tall, right[i]+slopeApart*float64(len(twoLines(l.label))-1)+10)
	}
	var b strings.Builder
	fmt.Fprintf(&b, `<svg class="slope" viewBox="0 0 %g %g" role="img" aria-label="odds before and after: %s">`, slopeWidth, tall, template.HTMLEscapeString(strings.Join(says, ", ")))
	fmt.Fprintf(&b, `<path class="ruler" d="M%g %gV%gM%g %gV%g"/>`, slopeLeft, slopeTop-4, slopeTop+slopeTall+4, slopeRight, slopeTop-4, slopeTop+slopeTall+4)
	for i, l := range lines {
		class := "down"
		if l.after > l.before {
			class = "up"
		}
		fmt.Fprintf(&b, `<line class="%s" x1="%g" y1="%.1f" x2="%g" y2="%.1f"/>`, class, slopeLeft, y(l.before), slopeRight, y(l.after))
		fmt.Fprintf(&b, `<text class="fig" x="%g" y="%.1f" text-anchor="end">%s</text>`, slopeLeft-5, left[i]+5, template.HTMLEscapeString(perCent(l.before)))
		fmt.Fprintf(&b, `<text class="fig" x="%g" y="%.1f">%s</text>`, slopeRight+5, right[i]+5, template.HTMLEscapeString(perCent(l.after)))
		for n, words := range twoLines(l.label) {
			fmt.Fprintf(&b, `<text x="%g" y="%.1f">%s</text>`, slopeName, right[i]+5+float64(n)*(slopeApart-2), template.HTMLEscapeString(words))
		}
	}
	b.WriteString(`</svg>`)
	return template.HTML(b.String())
}

// twoLines breaks a label that is too long for one line at the space nearest its middle.
func twoLines(label string) []string {
	if len(label) <= slopeLetters {
		return []string{label}
	}
	best := -1
	for i, r := range label {
		if r == ' ' && (best < 0 || abs(i-len(label)/2) < abs(best-len(label)/2)) {
			best = i
		}
	}
	if best < 0 {
		return []string{label}
	}
	return []string{label[:best], label[best+1:]}
}

func abs(n int) int { return max(n, -n) }

// apart moves labels down until each has as much room as it needs; they stay in their order.
func apart(y []float64, needs func(i int) float64) []float64 {
	order := make([]int, len(y))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(y[a], y[b]) })
	out, last := slices.Clone(y), math.Inf(-1)
	for _, i := range order {
		out[i] = max(y[i], last)
		last = out[i] + needs(i)
	}
	return out
}

// trimScale is how far the scale of fuel trims reaches either way, %.
const trimScale = 40.0

// trimRow is a fuel trim as a bar on its scale.
type trimRow struct {
	Name, Value string
	Bar         template.HTML
	Stop        bool // it stands at its stop
}

// trimX is where a trim stands on the scale, in % of its width; one beyond it at the edge.
func trimX(v float64) float64 { return 50 + 50*max(-1, min(1, v/trimScale)) }

// trimBar draws a fuel trim from zero on, with the stops that a control unit does not pass;
// class marks one that is a bound.
func trimBar(v float64, class string) template.HTML {
	var b strings.Builder
	b.WriteString(`<svg height="22" aria-hidden="true">`)
	fmt.Fprintf(&b, `<rect class="t-stop" x="0" y="2" width="%.2f%%" height="18"/>`, trimX(-obd.TrimStop))
	fmt.Fprintf(&b, `<rect class="t-stop" x="%.2f%%" y="2" width="%.2f%%" height="18"/>`, trimX(obd.TrimStop), 100-trimX(obd.TrimStop))
	from, to := min(50, trimX(v)), max(50, trimX(v))
	fmt.Fprintf(&b, `<rect class="t-bar%s" x="%.2f%%" y="6" width="%.2f%%" height="10"/>`, class, from, to-from)
	b.WriteString(`<line class="t-zero" x1="50%" x2="50%" y1="0" y2="22"/></svg>`)
	return template.HTML(b.String())
}

// trimsOf are the fuel trims among some live data, bank by bank, with what both come to.
func trimsOf(live map[string]obd.Value) (out []trimRow) {
	row := func(name string, v float64, stop bool) {
		class := ""
		if stop {
			class = " t-at"
		}
		out = append(out, trimRow{name, fmt.Sprintf("%+.1f %%", v), trimBar(v, class), stop})
	}
	for i, bank := range [][2]string{{"06", "07"}, {"08", "09"}} {
		short, ok1 := live[bank[0]]
		long, ok2 := live[bank[1]]
		if ok1 {
			row(fmt.Sprintf("short, bank %d", i+1), short.Value, obd.TrimAtStop(short.Value, 0))
		}
		if ok2 {
			row(fmt.Sprintf("long, bank %d", i+1), long.Value, obd.TrimAtStop(0, long.Value))
		}
		if ok1 && ok2 {
			row(fmt.Sprintf("both, bank %d", i+1), obd.TotalTrim(short.Value, long.Value), obd.TrimAtStop(short.Value, long.Value))
		}
	}
	return out
}

// chargeGauge draws the scale on which a live bench shows its pressure, with what the system
// is permitted either way (Pa gauge, and Pa below the barometer; 0 where nothing may be
// drawn). The page moves the level.
func chargeGauge(maxPa, maxVacPa float64) template.HTML {
	const beyond = 1.2 // of what is permitted, so that too much can be seen
	low, high := -beyond*maxVacPa/units.InH2O, beyond*maxPa/units.InH2O
	if low == 0 {
		low = -0.05 * high
	}
	if !(high > low) {
		return ""
	}
	x := func(inches float64) float64 { return 100 * (inches - low) / (high - low) }
	most, least := maxPa/units.InH2O, -maxVacPa/units.InH2O
	var b strings.Builder
	says := fmt.Sprintf("gauge: at most %.1f inH2O are permitted", most)
	if maxVacPa > 0 {
		says += fmt.Sprintf(", and %.1f of vacuum", -least)
	}
	fmt.Fprintf(&b, `<svg class="gauge" height="42" data-gauge="" data-low="%.4g" data-high="%.4g" data-least="%.4g" data-most="%.4g" role="img" aria-label="%s">`, low, high, least, most, says)
	fmt.Fprintf(&b, `<rect class="g-over" x="%.2f%%" y="2" width="%.2f%%" height="20"/>`, x(most), 100-x(most))
	if maxVacPa > 0 {
		fmt.Fprintf(&b, `<rect class="g-over" x="0" y="2" width="%.2f%%" height="20"/>`, x(least))
		fmt.Fprintf(&b, `<line class="g-limit" x1="%.2f%%" x2="%.2f%%" y1="0" y2="26"/><text x="%.2f%%" y="39" text-anchor="middle">%.1f</text>`, x(least), x(least), x(least), least)
	}
	b.WriteString(`<rect class="g-frame" x="0" y="2" width="100%" height="20"/>`)
	fmt.Fprintf(&b, `<rect class="g-level" data-level="" x="%.2f%%" y="6" width="0" height="12"/>`, x(0))
	fmt.Fprintf(&b, `<line class="g-zero" x1="%.2f%%" x2="%.2f%%" y1="0" y2="26"/><text x="%.2f%%" y="39" text-anchor="middle">0</text>`, x(0), x(0), x(0))
	fmt.Fprintf(&b, `<line class="g-limit" x1="%.2f%%" x2="%.2f%%" y1="0" y2="26"/><text class="g-most" x="%.2f%%" y="39" text-anchor="middle">%.1f at most</text></svg>`, x(most), x(most), x(most), most)
	return template.HTML(b.String())
}

// mostOften is how many parts the Record shows as bars; what is left is summed up in one.
const mostOften = 10

// oftenRow is a part with a bar for how often it was found, and the faults it was found with.
type oftenRow struct {
	Name, Faults string
	Times        int
	Bar          template.HTML
}

// oftenScale is how many finds a full bar stands for at least: one find is no long bar.
const oftenScale = 10

// oftenBars draws how often each part was found, the commonest first; the bars are as long
// as their counts to the largest.
func oftenBars(found []casework.Often) (out []oftenRow) {
	most := oftenScale
	for i, f := range found {
		if i < mostOften {
			out = append(out, oftenRow{Name: f.Part, Faults: strings.Join(f.Faults, ", "), Times: f.Times})
		} else {
			if i == mostOften {
				out = append(out, oftenRow{Name: "all others"})
			}
			out[mostOften].Times += f.Times
		}
	}
	for _, r := range out {
		most = max(most, r.Times)
	}
	for i, r := range out {
		out[i].Bar = template.HTML(fmt.Sprintf(`<svg height="18" aria-hidden="true"><rect class="oftenbar" x="0" y="3" width="%.2f%%" height="12"/></svg>`, 100*float64(r.Times)/float64(most)))
	}
	return out
}
