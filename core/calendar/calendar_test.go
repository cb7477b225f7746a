package calendar_test

import (
	"testing"
	"time"

	"wexter/core/calendar"
)

// moment reads a time of the week of Monday, 4 May 2026.
func moment(t *testing.T, words string) time.Time {
	t.Helper()
	m, err := time.ParseInLocation("2 15:04", words, time.UTC)
	if err != nil {
		t.Fatal(err)
	}
	return time.Date(2026, time.May, m.Day(), m.Hour(), m.Minute(), 0, 0, time.UTC)
}

func TestAddCountsOnlyWorkingTime(t *testing.T) {
	for _, x := range []struct {
		name, from string
		work       time.Duration
		want       string
	}{
		{"within a day", "4 09:00", 90 * time.Minute, "4 10:30"},
		{"up to closing", "4 16:00", 60 * time.Minute, "4 17:00"},
		{"over the night", "4 16:30", 90 * time.Minute, "5 09:00"},
		{"before opening", "5 06:00", 30 * time.Minute, "5 08:30"},
		{"after closing", "5 19:00", 30 * time.Minute, "6 08:30"},
		{"over the weekend", "8 16:30", 60 * time.Minute, "11 08:30"},
		{"on a Sunday", "10 12:00", 0, "11 08:00"},
		{"three days", "4 08:00", 27 * time.Hour, "6 17:00"},
	} {
		t.Run(x.name, func(t *testing.T) {
			if got := calendar.Usual().Add(moment(t, x.from), x.work); !got.Equal(moment(t, x.want)) {
				t.Errorf("%v, wanted %s", got, x.want)
			}
		})
	}
}

func TestBetweenIsWhatAddTakes(t *testing.T) {
	w := calendar.Usual()
	for _, from := range []string{"4 09:00", "5 06:00", "8 16:30", "9 12:00"} {
		for _, work := range []time.Duration{time.Minute, 3 * time.Hour, 40 * time.Hour} {
			a := moment(t, from)
			b := w.Add(a, work)
			if got := w.Between(a, b); got != work {
				t.Errorf("from %s, %v of work: %v between", from, work, got)
			}
			if got := w.Between(b, a); got != -work {
				t.Errorf("backwards from %s: %v", from, got)
			}
		}
	}
}

func TestMorningAndDays(t *testing.T) {
	w := calendar.Usual()
	if got := w.Morning(moment(t, "8 11:00")); !got.Equal(moment(t, "11 08:00")) {
		t.Errorf("the morning after Friday is %v", got)
	}
	if got := w.AddDays(moment(t, "8 11:00"), 2); !got.Equal(moment(t, "12 11:00")) {
		t.Errorf("two working days after Friday are %v", got)
	}
	if got := w.AddDays(moment(t, "9 11:00"), 0); !got.Equal(moment(t, "9 11:00")) {
		t.Errorf("no day later is %v", got)
	}
}

// The clocks go forward on 29 March 2026 in Paris: the shop opens at eight all the same.
func TestClockChange(t *testing.T) {
	paris, err := time.LoadLocation("Europe/Paris")
	if err != nil {
		t.Skip("no time zones on this computer")
	}
	w := calendar.Usual()
	w.Days[time.Sunday] = true
	sat := time.Date(2026, time.March, 27, 16, 0, 0, 0, paris)
	got := w.Add(sat, 2*time.Hour) // Friday's last hour, then Sunday's first
	if got.Day() != 29 || got.Hour() != 9 || got.Minute() != 0 {
		t.Errorf("done at %v", got)
	}
}

func TestAWeekWithoutWorkEnds(t *testing.T) {
	var w calendar.Week
	from := moment(t, "4 09:00")
	if w.Valid() || !w.Add(from, time.Hour).Equal(from.Add(time.Hour)) || !w.AddDays(from, 3).Equal(from) {
		t.Error("a week without a working day must neither count as one nor hang")
	}
}
