package live

import (
	"fmt"
	"math"
	"slices"

	"wexter/core/bench"
	"wexter/core/record"
	"wexter/instrument"
)

// gapSeconds is how long the first instrument may give nothing before that is a gap.
const gapSeconds = 1.0

// ending says why a stretch ends, and how.
type ending struct {
	cut  bool   // before its time: its verdict is one that was watched
	note string // kept with its readings
	said string // to whoever looks; empty: what the stretch told
	rest bool   // the rig is opened and valves are let go, whatever the stretch says
}

// broken ends a stretch where its readings end, and says why.
func broken(why string) *ending {
	return &ending{cut: true, note: why + ": the leg ends where the readings ended.", said: why + ": the leg ends where its readings ended."}
}

// leg is a stretch of a test being read.
type leg struct {
	bench   *Bench
	run     record.Run
	stretch bench.Stretch
	watch   bench.Watcher
	log     record.Table // appended to only
	written int          // readings on disk
	blocks  int
	gaps    int // gaps on disk as they are now
	resumed bool
	ending  bool
	leadAt  float64 // s, of the first instrument's last reading, by its clock
	read    bool    // there was one
	over    bool    // beyond the range now
	fault   string  // why the first instrument measures nothing now
	firm    bool    // said so
	past    bool    // the planned end has passed
}

// add takes a reading into the stretch, and says how that ends with it.
func (l *leg) add(s *seat, r instrument.Reading) *ending {
	b := l.bench
	t := s.at(r) - l.run.Origin
	if s.lead() {
		if l.read && t <= l.leadAt || !l.read && t <= 0 {
			return nil // doubled, or from before the stretch
		}
		if l.read && (l.over || l.fault != "" || t-l.leadAt > math.Max(gapSeconds, 5*s.steady.every(s.about.Rate))) {
			l.gap(record.Gap{From: l.leadAt, To: t, Why: l.why()})
			b.changed()
		}
		l.leadAt, l.read = t, true // by its own clock: several may come at once, and none is lost
		l.resumed, l.over, l.fault = false, false, ""
	} else {
		if !l.read || t <= 0 {
			return nil // nothing is read without the first
		}
		l.back(s, t)
	}
	if last := l.log.Last(); t <= last { // another instrument's reading came before it
		s.pushed = math.Max(s.pushed, last+leastStep-t)
		t = last + leastStep
	}
	every := l.stretch.Every
	if l.stretch.Later > 0 && t > l.stretch.Later {
		every = l.stretch.LaterEvery
	}
	if every > 0 && s.keptAt > 0 && t-s.keptAt < every {
		return nil
	}
	s.keptAt = t
	row := s.row(r)
	l.log.Add(t, row)
	return l.hear(t, row)
}

// leastStep tells two readings apart that came at one moment, s.
const leastStep = 1e-4

// back notes since when another instrument gave nothing.
func (l *leg) back(s *seat, t float64) {
	if s.lostAt == 0 {
		return
	}
	if len(l.run.Notes) < mostNotes {
		l.run.Notes = append(l.run.Notes, fmt.Sprintf("%s gave nothing from %.0f to %.0f s.", s.source.device.Name, s.lostAt, t))
	}
	s.lostAt = 0
}

// mostNotes is how many sentences are kept with a stretch.
const mostNotes = 40

// hear lets the test's own code take a reading.
func (l *leg) hear(t float64, row []float64) *ending {
	b, before := l.bench, l.watch.State()
	h := l.watch.Take(t, row)
	now := l.watch.State()
	if before != now {
		b.changed()
	}
	if h.Mark != "" {
		b.hub.wg.Go(func() { b.recognised(l, record.Mark{Time: h.At, Text: h.Mark, Key: record.Recognised}) })
	}
	switch {
	case h.Ends != "" && h.Rest:
		return &ending{cut: true, rest: true, note: h.Ends, said: h.Ends}
	case h.Ends != "":
		return &ending{said: h.Ends}
	case l.stretch.For > 0 && !l.stretch.Firm && now.Held && t-l.since(now) >= l.stretch.For:
		return &ending{}
	case l.log.Len() >= record.MostLive:
		return broken(fmt.Sprintf("%d readings are as many as a leg holds", record.MostLive))
	}
	return nil
}

// since is from when on the planned time counts.
func (l *leg) since(s bench.State) float64 {
	if s.From > 0 || l.log.Len() == 0 {
		return s.From
	}
	return l.log.Time[0]
}

// held is how long the stretch has been read of what is planned, s; false before that counts.
func (l *leg) held() (float64, bool) {
	s := l.watch.State()
	return l.log.Last() - l.since(s), s.Held && l.log.Len() > 0
}

// why says what the gap that ends now comes from.
func (l *leg) why() string {
	switch {
	case l.resumed:
		return "Wexter was stopped"
	case l.over:
		return "over the range"
	case l.fault != "":
		return l.fault
	}
	return "the instrument did not answer"
}

// gap takes a gap in, to be written down with the next readings. The list that others may
// be looking at is not changed.
func (l *leg) gap(g record.Gap) {
	have := len(l.run.Gaps)
	l.run.Gaps = slices.Clone(l.run.Gaps).With(g)
	if len(l.run.Gaps) == have { // summed up with the last one
		l.gaps = min(l.gaps, have-1)
	}
}

// replay lets a new watcher see what is on disk.
func (l *leg) replay() {
	marks := l.run.Marks
	mark := func(until float64) {
		for ; len(marks) > 0 && marks[0].Time <= until; marks = marks[1:] {
			if marks[0].Key != record.Recognised {
				l.watch.Mark(marks[0].Time, marks[0].Key)
			}
		}
	}
	for i, t := range l.log.Time {
		mark(t)
		row := l.log.Row(i)
		l.watch.Take(t, row)
		if own := row[:len(l.bench.seats[0].keys)]; len(own) == 0 || slices.ContainsFunc(own, func(v float64) bool { return !math.IsNaN(v) }) {
			l.leadAt, l.read = t, true
		}
	}
	mark(math.Inf(1))
}
