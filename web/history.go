package web

import (
	"fmt"
	"html/template"
	"slices"
	"strings"
	"time"

	"wexter/core/obd"
	"wexter/core/record"
	"wexter/evidence"
)

// historyView is the strip of a case's codes and monitors over time: a column for each
// moment at which something was read, cleared or repaired, and a row for each code and
// monitor.
type historyView struct {
	Moments []moment
	Head    template.HTML
	Rows    []historyRow
}

// moment is a column of the strip.
type moment struct {
	at   time.Time
	what string
}

// historyRow is a code or a monitor with its bars, and what they say in words.
type historyRow struct {
	Name string
	Bars template.HTML
}

// mostMoments is how many columns the strip has: the newest.
const mostMoments = 7

// barOf is how each status of a code is drawn: where in its row, how high, and as what.
var barOf = map[obd.CodeStatus]struct {
	y, tall int
	class   string
}{obd.Stored: {3, 9, "st-full"}, obd.Pending: {3, 9, "st-hollow"}, obd.Permanent: {15, 5, "st-line"}}

// history draws the strip of a case; nil with fewer than two moments, between which nothing
// can have changed.
func history(f evidence.Folder) *historyView {
	v := &historyView{Moments: moments(f)}
	if len(v.Moments) < 2 {
		return nil
	}
	v.Head = v.head()
	for _, l := range f.CodeHistory() {
		v.Rows = append(v.Rows, v.code(l))
	}
	for _, k := range obd.Monitors(false) {
		if r, ok := v.monitor(f, k); ok {
			v.Rows = append(v.Rows, r)
		}
	}
	return v
}

// moments are the columns: scans, codes tapped in, clearings and repairs.
func moments(f evidence.Folder) (out []moment) {
	for _, x := range f.Scans {
		if !x.Struck() && x.Bad == "" {
			out = append(out, moment{x.At, "scan"})
		}
	}
	for _, x := range f.Codes {
		if !x.Struck() {
			out = append(out, moment{x.At, "told"})
		}
	}
	for _, x := range f.Notes {
		if x.Kind == record.Cleared && !x.Struck() {
			out = append(out, moment{x.At, "cleared"})
		}
	}
	for _, x := range f.Repairs {
		if !x.Struck() && x.DoneAt != nil {
			out = append(out, moment{*x.DoneAt, "repair"})
		}
	}
	slices.SortStableFunc(out, func(a, b moment) int { return a.at.Compare(b.at) })
	out = slices.CompactFunc(out, func(a, b moment) bool { return a.what == b.what && a.at.Equal(b.at) })
	return out[max(0, len(out)-mostMoments):]
}

// x is where a moment stands, in % of the width; the last column runs on to now. What was
// before the first column stands at its edge.
func (v *historyView) x(at time.Time) float64 {
	n := 0
	for n < len(v.Moments) && !v.Moments[n].at.After(at) {
		n++
	}
	return 100 * float64(max(n-1, 0)) / float64(len(v.Moments))
}

func (v *historyView) head() template.HTML {
	var b strings.Builder
	b.WriteString(`<svg height="34" aria-hidden="true">`)
	day := ""
	for i, m := range v.Moments {
		x := 100 * float64(i) / float64(len(v.Moments))
		at := m.at.Local().Format("2 Jan")
		if at == day {
			at = m.at.Local().Format("15:04")
		} else {
			day = at
		}
		fmt.Fprintf(&b, `<text x="%.2f%%" dx="3" y="13">%s</text><text class="st-what" x="%.2f%%" dx="3" y="30">%s</text>`, x, at, x, m.what)
	}
	b.WriteString(`</svg>`)
	return template.HTML(b.String())
}

// row draws the bars of a row over the lines of the moments.
func (v *historyView) row(tall int, says string, bars func(b *strings.Builder)) template.HTML {
	var b strings.Builder
	fmt.Fprintf(&b, `<svg height="%d" role="img" aria-label="%s">`, tall, template.HTMLEscapeString(says))
	for i, m := range v.Moments {
		class := "st-tick"
		if m.what == "cleared" || m.what == "repair" {
			class = "st-cut"
		}
		fmt.Fprintf(&b, `<line class="%s" x1="%.2f%%" x2="%.2f%%" y1="0" y2="100%%"/>`, class, 100*float64(i)/float64(len(v.Moments)), 100*float64(i)/float64(len(v.Moments)))
	}
	bars(&b)
	b.WriteString(`</svg>`)
	return template.HTML(b.String())
}

// code draws one code: stored filled, pending hollow, permanent a line below.
func (v *historyView) code(l evidence.CodeLine) historyRow {
	type span struct {
		status   obd.CodeStatus
		from, to float64
	}
	var spans []span
	var says []string
	open := map[obd.CodeStatus]time.Time{}
	end := func(status obd.CodeStatus, to float64) {
		spans = append(spans, span{status, v.x(open[status]), to})
		delete(open, status)
	}
	for _, s := range l.Seen {
		word := string(s.Status) + " from "
		if s.Gone {
			word = "not " + string(s.Status) + " any more at "
			if !open[s.Status].IsZero() {
				end(s.Status, v.x(s.At))
			}
		} else {
			open[s.Status] = s.At
		}
		says = append(says, word+s.At.Local().Format("2 Jan 15:04"))
	}
	for _, status := range []obd.CodeStatus{obd.Stored, obd.Pending, obd.Permanent} {
		if !open[status].IsZero() {
			end(status, 100)
		}
	}
	return historyRow{l.Code, v.row(24, l.Code+": "+strings.Join(says, ", "), func(b *strings.Builder) {
		for _, s := range spans {
			d := barOf[s.status]
			if s.to > s.from {
				fmt.Fprintf(b, `<rect class="%s" x="%.2f%%" y="%d" width="%.2f%%" height="%d"/>`, d.class, s.from, d.y, s.to-s.from, d.tall)
			}
		}
	})}
}

// monitor draws whether one monitor had run at each scan: filled when it had, hollow when
// not. A monitor that had run at every scan needs no row.
func (v *historyView) monitor(f evidence.Folder, key string) (historyRow, bool) {
	type at struct {
		x     float64
		state string
	}
	var states []at
	var says []string
	waits := false
	for _, x := range f.Scans {
		st := x.Read.Readiness[key]
		if x.Struck() || x.Bad != "" || st != obd.Complete && st != obd.Incomplete {
			continue
		}
		waits = waits || st == obd.Incomplete
		states = append(states, at{v.x(x.At), st})
		says = append(says, st+" at "+x.At.Local().Format("2 Jan 15:04"))
	}
	name := obd.MonitorWords[key]
	return historyRow{name, v.row(18, name+" monitor: "+strings.Join(says, ", "), func(b *strings.Builder) {
		for i, s := range states {
			to, class := 100.0, "st-full"
			if i+1 < len(states) {
				to = states[i+1].x
			}
			if s.state == obd.Incomplete {
				class = "st-hollow"
			}
			if to > s.x {
				fmt.Fprintf(b, `<rect class="%s" x="%.2f%%" y="4" width="%.2f%%" height="9"/>`, class, s.x, to-s.x)
			}
		}
	})}, waits
}
