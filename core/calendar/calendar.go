// Package calendar counts the time a shop works in. A job that needs 90 minutes and begins
// half an hour before closing ends an hour after the next opening, and a car that has to be
// ready on Monday has no Sunday to be worked on.
//
// Everything is wall-clock time in the place of the moments that are handed in: on the day the
// clocks change a shop still opens at eight.
package calendar

import "time"

// Week is when a shop works: from Opens to Closes after midnight, on the days that are true,
// Sunday first.
type Week struct {
	Opens, Closes time.Duration
	Days          [7]bool
}

// Usual is a week from Monday to Friday, 08:00 to 17:00 (common practice, no source).
func Usual() Week {
	return Week{Opens: 8 * time.Hour, Closes: 17 * time.Hour, Days: [7]bool{time.Monday: true, time.Tuesday: true, time.Wednesday: true, time.Thursday: true, time.Friday: true}}
}

// Valid reports whether a week has time to work in.
func (w Week) Valid() bool {
	return w.Days != [7]bool{} && 0 <= w.Opens && w.Opens < w.Closes && w.Closes <= 24*time.Hour
}

// Day is how long a working day is.
func (w Week) Day() time.Duration { return w.Closes - w.Opens }

// at is a time of day on the date of t.
func at(t time.Time, of time.Duration) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day(), 0, 0, int(of/time.Second), 0, t.Location())
}

// Closing is when the shop closes on the date of t, whether it works on that day or not.
func (w Week) Closing(t time.Time) time.Time { return at(t, w.Closes) }

// Opening is the first moment from t on at which the shop is at work.
func (w Week) Opening(t time.Time) time.Time {
	for range 8 {
		if w.Days[t.Weekday()] && t.Before(at(t, w.Closes)) {
			if open := at(t, w.Opens); t.Before(open) {
				return open
			}
			return t
		}
		t = at(t.AddDate(0, 0, 1), 0)
	}
	return t // a week without a working day
}

// Morning is the opening of the first working day after the date of t.
func (w Week) Morning(t time.Time) time.Time { return w.Opening(at(t.AddDate(0, 0, 1), 0)) }

// Add is when work that begins at t, or at the next opening, is done.
func (w Week) Add(t time.Time, work time.Duration) time.Time {
	if !w.Valid() {
		return t.Add(work)
	}
	for t = w.Opening(t); ; t = w.Opening(t) {
		left := at(t, w.Closes).Sub(t)
		if work <= left {
			return t.Add(work)
		}
		work -= left
		t = at(t, w.Closes)
	}
}

// AddDays is t a number of working days later: what is ordered on a Friday and takes two
// days is there on Tuesday.
func (w Week) AddDays(t time.Time, days int) time.Time {
	for ; days > 0 && w.Valid(); days-- {
		for t = t.AddDate(0, 0, 1); !w.Days[t.Weekday()]; t = t.AddDate(0, 0, 1) {
		}
	}
	return t
}

// Between is how long the shop works from a to b; negative when b comes first.
func (w Week) Between(a, b time.Time) time.Duration {
	if b.Before(a) {
		return -w.Between(b, a)
	}
	sum := time.Duration(0)
	for day := at(a, 0); day.Before(b); day = at(day.AddDate(0, 0, 1), 0) {
		if !w.Days[day.Weekday()] {
			continue
		}
		from, to := at(day, w.Opens), at(day, w.Closes)
		if from.Before(a) {
			from = a
		}
		if to.After(b) {
			to = b
		}
		if to.After(from) {
			sum += to.Sub(from)
		}
	}
	return sum
}
