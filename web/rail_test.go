package web

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"wexter/casework"
	"wexter/core/record"
	"wexter/live"
)

func TestTheRailNeverRunsBackwardsOrOff(t *testing.T) {
	now := time.Date(2026, 3, 28, 11, 0, 0, 0, time.Local) // the night after has a clock step in many places
	last := -1.0
	for h := -5.0; h < 24*60; h += 0.5 {
		x := railAt(now, now.Add(time.Duration(h*float64(time.Hour))))
		if x < last || x < 0 || x > 100 {
			t.Fatalf("%g h stands at %g %% after %g %%", h, x, last)
		}
		last = x
	}
	if x := railAt(now, now.Add(18*time.Hour)); x != railStraight/2 {
		t.Errorf("18 of 36 hours stand at %g %%", x)
	}
}

// due is an inspection on a day.
func due(now time.Time, day string) casework.Due {
	d, _ := time.ParseInLocation(time.DateOnly, day, now.Location())
	return casework.Due{At: d.Add(17 * time.Hour)}
}

func TestSlackInWords(t *testing.T) {
	for slack, want := range map[time.Duration]string{95 * time.Minute: "95 min to spare", -340 * time.Minute: "340 min missing",
		9 * time.Hour: "1 working day to spare", 40 * time.Hour: "4 working days to spare", -20 * time.Hour: "1200 min missing, 2 working days"} {
		d := casework.Due{At: time.Unix(1, 0), Ready: time.Unix(1, 0), Slack: slack}
		if got := slackWords(d, 9*time.Hour); got != want {
			t.Errorf("%v is said %q, wanted %q", slack, got, want)
		}
	}
	if got := slackWords(casework.Due{At: time.Unix(1, 0)}, 9*time.Hour); got != "" {
		t.Errorf("what is not known is said %q", got)
	}
}

func TestLaneSaysWhatIsWaitedFor(t *testing.T) {
	now := time.Date(2026, 3, 2, 11, 0, 0, 0, time.Local)
	until := now.Add(30 * time.Hour)
	row := func(change func(*casework.SlateRow)) string {
		r := casework.SlateRow{Case: record.Case{Stage: record.Hunt}}
		change(&r)
		return string(lane(now, r, nil))
	}
	watched := string(lane(now, casework.SlateRow{Case: record.Case{Stage: record.Hunt}}, &live.Long{Name: "Soak <watch>", Until: now.Add(5 * time.Hour)}))
	if !strings.Contains(watched, "Soak &lt;watch&gt; until 16:00") || !strings.Contains(watched, "r-block") || strings.Contains(watched, "can be done now") {
		t.Errorf("a night that is watched: %s", watched)
	}
	for _, c := range []struct {
		change func(*casework.SlateRow)
		say    string
	}{
		{func(r *casework.SlateRow) {}, "can be done now"},
		{func(r *casework.SlateRow) { r.Waits, r.Case.WaitKind, r.Case.WaitUntil = true, "part", &until }, "part on its way"},
		{func(r *casework.SlateRow) { r.Monitor = true }, "ready when complete"},
		{func(r *casework.SlateRow) { r.Due = due(now, "2026-03-06") }, "inspection Fri 6 Mar"},
		{func(r *casework.SlateRow) { r.Due = due(now, "2026-02-20") }, "inspection was 20 Feb"},
		{func(r *casework.SlateRow) {
			r.Due = due(now, "2026-03-06")
			r.Due.Ready, r.Due.Slack = r.Due.At.Add(16*time.Hour), -65*time.Minute
		}, "will miss its inspection Fri 6 Mar: 65 min missing"},
		{func(r *casework.SlateRow) {
			r.Due = due(now, "2026-03-06")
			r.Due.Ready, r.Due.Slack = now.Add(4*time.Hour), 31*time.Hour
			r.Left = casework.Left{Minutes: 143, Days: 1, Night: true}
		}, "about 145 min of work, part in 1 working day, then a night and a drive"},
	} {
		t.Run(c.say, func(t *testing.T) {
			if svg := row(c.change); !strings.Contains(svg, c.say) || strings.Contains(svg, "NaN") {
				t.Errorf("the lane does not say %q: %s", c.say, svg)
			}
		})
	}
	for at, want := range map[time.Duration]string{time.Hour: "12:00", 14 * time.Hour: "tomorrow", 72 * time.Hour: "Thu 11:00", 400 * time.Hour: "19 Mar"} {
		t.Run(fmt.Sprint(at), func(t *testing.T) {
			if got := untilWords(now, now.Add(at)); got != want {
				t.Errorf("in %v: %q, want %q", at, got, want)
			}
		})
	}
}

// Odds are said so that neither small nor large ones round to none or certain.
func TestOddsInWords(t *testing.T) {
	for _, c := range []struct {
		p           float64
		percent, in string
	}{
		{0.0001, "< 1", "1 in > 2000"}, {0.002, "< 1", "1 in 500"}, {0.2, "20", "1 in 5"}, {0.4, "40", "1 in 2"}, {0.86, "86", "1 in 1.2"},
		{0.9, "90", "9 in 10"}, {0.99, "99", "99 in 100"}, {0.995, "> 99", "> 199 in 200"}, {1, "> 99", "> 199 in 200"},
	} {
		t.Run(c.in, func(t *testing.T) {
			if p, in := perCent(c.p), oneIn(c.p); p != c.percent || in != c.in {
				t.Errorf("%g is said %s %%, %s", c.p, p, in)
			}
		})
	}
}
