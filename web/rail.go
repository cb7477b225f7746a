package web

import (
	"fmt"
	"html/template"
	"strings"
	"time"

	"wexter/casework"
	"wexter/core/calendar"
	"wexter/core/record"
	"wexter/live"
)

// The rail of the Slate: 36 hours in a straight scale, then two weeks pressed
// together, then "later".
const (
	railHours    = 36.0
	railStraight = 58.0 // % of the width
	railWeeks    = 94.0
)

// railAt places a moment on the rail, in % of its width.
func railAt(now, t time.Time) float64 {
	h := t.Sub(now).Hours()
	switch {
	case h <= 0:
		return 0
	case h <= railHours:
		return h / railHours * railStraight
	case h <= railHours+14*24:
		return railStraight + (h-railHours)/(14*24)*(railWeeks-railStraight)
	}
	return (railWeeks + 100) / 2
}

func untilWords(now, t time.Time) string {
	t = t.Local()
	switch days := int(midnight(t).Sub(midnight(now)).Hours()/24 + 0.5); {
	case days == 0:
		return t.Format("15:04")
	case days == 1:
		return "tomorrow"
	case days < 7:
		return t.Format("Mon 15:04")
	}
	return t.Format("2 Jan")
}

func midnight(t time.Time) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, t.Location())
}

// railTicks calls f for every line of the rail.
func railTicks(now time.Time, f func(x float64, label string, day bool)) {
	for t := midnight(now); t.Sub(now).Hours() <= railHours; t = t.Add(6 * time.Hour) {
		if t.After(now) {
			f(railAt(now, t), t.Format("15:04"), t.Hour() == 0)
		}
	}
	for d := midnight(now).AddDate(0, 0, 1); d.Sub(now).Hours() <= railHours+14*24; d = d.AddDate(0, 0, 1) {
		if d.Sub(now).Hours() > railHours && d.Weekday() == time.Monday {
			f(railAt(now, d), d.Format("Mon 2 Jan"), true)
		}
	}
}

func railHead(now time.Time) template.HTML {
	var b strings.Builder
	b.WriteString(`<svg class="rail-svg rail" aria-hidden="true">`)
	fmt.Fprintf(&b, `<text class="r-now" x="8" y="40">now %s</text>`, now.Format("15:04"))
	last := 0.0
	railTicks(now, func(x float64, label string, day bool) {
		if day && x < railStraight {
			label = now.AddDate(0, 0, 1).Format("Mon 2 Jan")
			if x > railAt(now, midnight(now).AddDate(0, 0, 1))+1 {
				label = now.AddDate(0, 0, 2).Format("Mon 2 Jan")
			}
			fmt.Fprintf(&b, `<text class="r-day" x="%.2f%%" dx="4" y="18">%s</text>`, x, label)
			return
		}
		if x-last < 7 || x < 10 || x > 86 {
			return
		}
		last = x
		class := "when"
		if strings.HasPrefix(label, "06") || strings.HasPrefix(label, "18") || x > 68 {
			class += " r-wide"
		}
		fmt.Fprintf(&b, `<text class="%s" x="%.2f%%" dx="4" y="40">%s</text>`, class, x, label)
	})
	b.WriteString(`<text class="when" text-anchor="end" x="100%" dx="-4" y="40">later</text></svg>`)
	return template.HTML(b.String())
}

// lane draws one car's time: what it waits for and until when, the work that is left, and its
// inspection. What lies between the two is to spare; what is missing is hatched beyond it.
func lane(now time.Time, r casework.SlateRow, long *live.Long) template.HTML {
	var b strings.Builder
	b.WriteString(`<svg class="rail-svg rail" aria-hidden="true">`)
	railTicks(now, func(x float64, _ string, day bool) {
		class := "r-tick"
		if day {
			class = "r-tick r-daytick"
		}
		fmt.Fprintf(&b, `<line class="%s" x1="%.2f%%" x2="%.2f%%" y1="0" y2="100%%"/>`, class, x, x)
	})
	fmt.Fprintf(&b, `<line class="r-tick" x1="%g%%" x2="%g%%" y1="0" y2="100%%"/><line class="r-nowline" x1="1.5" x2="1.5" y1="0" y2="100%%"/>`, railWeeks, railWeeks)
	for _, x := range r.Due.Steps {
		from, to := railAt(now, x.From), railAt(now, x.To)
		if x.Works {
			fmt.Fprintf(&b, `<rect class="r-work" x="%.2f%%" y="30" height="12" width="%.2f%%"/>`, from, max(to-from, 0.3))
		} else if to > from {
			fmt.Fprintf(&b, `<line class="r-idle" x1="%.2f%%" x2="%.2f%%" y1="36" y2="36"/>`, from, to)
		}
	}
	switch words := r.Case.WaitKind.Words(); {
	case long != nil: // it is being watched, and left alone meanwhile
		end := railAt(now, long.Until.Local())
		fmt.Fprintf(&b, `<rect class="r-block" x="3" y="22" height="28" width="%.2f%%"/><text x="%.2f%%" dx="10" y="20">%s until %s</text>`, max(end-0.4, 0.8), end, template.HTMLEscapeString(long.Name), untilWords(now, long.Until))
	case r.Monitor:
		fmt.Fprintf(&b, `<line class="r-open" x1="3" x2="%g%%" y1="36" y2="36"/><text x="14" y="24">ready when complete</text>`, railWeeks)
	case r.Waits:
		end := railAt(now, r.Case.WaitUntil.Local())
		class := "r-block"
		if r.Case.WaitKind == record.WaitPart {
			class += " r-solid"
		}
		fmt.Fprintf(&b, `<rect class="%s" x="3" y="22" height="28" width="%.2f%%"/>`, class, max(end-0.4, 0.8))
		if end > 20 {
			fmt.Fprintf(&b, `<text x="14" y="41">%s</text>`, words)
		} else {
			fmt.Fprintf(&b, `<text x="%.2f%%" dx="10" y="20">%s</text>`, end, words)
		}
	default:
		b.WriteString(`<circle class="r-dot" cx="12" cy="36" r="9"/>`)
		says := "can be done now"
		if l := leftWords(r); l != "" {
			says = l
		}
		fmt.Fprintf(&b, `<text x="10" y="20">%s</text>`, says)
	}
	b.WriteString(inspection(now, r))
	b.WriteString("</svg>")
	return template.HTML(b.String())
}

// inspection draws the day of a car's inspection, and what is missing until then.
func inspection(now time.Time, r casework.SlateRow) string {
	if r.Due.At.IsZero() {
		return ""
	}
	var b strings.Builder
	x, class := railAt(now, r.Due.At), ""
	if r.Due.Misses() {
		class = " r-late"
	}
	if ready := railAt(now, r.Due.Ready); class != "" && ready > x {
		fmt.Fprintf(&b, `<rect class="r-missing" x="%.2f%%" y="28" height="16" width="%.2f%%"/>`, x, ready-x)
	}
	fmt.Fprintf(&b, `<rect class="r-due%s" x="%.2f%%" y="26" width="4" height="42"/>`, class, x)
	if x > 45 {
		fmt.Fprintf(&b, `<text class="r-duelabel%s" text-anchor="end" x="%.2f%%" dx="-7" y="66">%s</text>`, class, x, dueWords(now, r.Due))
	} else {
		fmt.Fprintf(&b, `<text class="r-duelabel%s" x="%.2f%%" dx="10" y="66">%s</text>`, class, x, dueWords(now, r.Due))
	}
	return b.String()
}

// dueWords says when a car's inspection is and how it stands against it; empty where there
// is none.
func dueWords(now time.Time, d casework.Due) string {
	if d.At.IsZero() {
		return ""
	}
	label, words := "inspection "+d.At.Format("Mon 2 Jan"), slackWords(d, calendar.Usual().Day())
	switch {
	case d.At.Before(now):
		return "inspection was " + d.At.Format("2 Jan")
	case d.Misses():
		return "will miss its " + label + ": " + words
	case words != "":
		return label + ": " + words
	}
	return label
}

// slackBar draws for a narrow screen how the time until the inspection is taken up: waiting
// and work, and what is to spare, or missing beyond the mark. Empty without an inspection.
func slackBar(now time.Time, r casework.SlateRow) template.HTML {
	if !r.Due.Has() {
		return ""
	}
	const mark = 0.78 // of the width, where the inspection is when the car will be late
	all, need := r.Due.At.Sub(now).Hours(), r.Due.Ready.Sub(now).Hours()
	end, late := max(all, 0), ""
	if r.Due.Misses() {
		late = " r-late"
		end = max(need, 1e-9)
		if all > 0 {
			end = max(end, all/mark)
		}
	}
	pct := func(h float64) float64 { return 100 * min(max(h, 0)/max(end, 1e-9), 1) }
	var b strings.Builder
	b.WriteString(`<svg class="slackbar rail" aria-hidden="true"><rect class="s-frame" x="0" y="3" width="100%" height="14"/>`)
	for _, x := range r.Due.Steps {
		from, to := pct(x.From.Sub(now).Hours()), pct(x.To.Sub(now).Hours())
		if x.Works {
			fmt.Fprintf(&b, `<rect class="r-work" x="%.2f%%" y="5" width="%.2f%%" height="10"/>`, from, max(to-from, 0.5))
		} else {
			fmt.Fprintf(&b, `<rect class="s-wait" x="%.2f%%" y="3" width="%.2f%%" height="14"/>`, from, to-from)
		}
	}
	if r.Due.Misses() {
		fmt.Fprintf(&b, `<rect class="r-missing" x="%.2f%%" y="3" width="%.2f%%" height="14"/>`, pct(all), pct(need)-pct(all))
	}
	fmt.Fprintf(&b, `<rect class="r-due%s" x="%.2f%%" y="0" width="4" height="20"/></svg>`, late, min(pct(all), 99))
	return template.HTML(b.String())
}

// slackWords says how a car stands against its inspection: what is to spare, or what is
// missing in minutes of work; empty where there is none or nobody knows yet.
func slackWords(d casework.Due, day time.Duration) string {
	if !d.Has() {
		return ""
	}
	minutes := int(d.Slack.Round(time.Minute) / time.Minute)
	days := int(d.Slack.Abs() / day)
	switch {
	case minutes < 0 && days > 0:
		return fmt.Sprintf("%d min missing, %s", -minutes, workingDays(days))
	case minutes < 0:
		return fmt.Sprintf("%d min missing", -minutes)
	case days > 0:
		return workingDays(days) + " to spare"
	}
	return fmt.Sprintf("%d min to spare", minutes)
}

func workingDays(n int) string {
	if n == 1 {
		return "1 working day"
	}
	return fmt.Sprintf("%d working days", n)
}

// leftWords says what is left of a case; empty when nobody knows yet.
func leftWords(r casework.SlateRow) string {
	if r.Due.Ready.IsZero() {
		return ""
	}
	var w []string
	if r.Left.Minutes > 0 {
		w = append(w, fmt.Sprintf("about %d min of work", (r.Left.Minutes+2)/5*5))
	}
	if d := r.Left.Days; d > 0 && !(r.Waits && r.Case.WaitKind == record.WaitPart) {
		w = append(w, fmt.Sprintf("part in %s", workingDays(d)))
	}
	if r.Left.Night {
		w = append(w, "then a night and a drive")
	}
	return strings.Join(w, ", ")
}
