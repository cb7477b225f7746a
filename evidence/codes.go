package evidence

import (
	"slices"
	"time"

	"wexter/core/obd"
	"wexter/core/record"
)

// lastCleared is the moment at which codes were cleared last; zero when they never were.
func (f Folder) lastCleared() (at time.Time) {
	for _, n := range f.Notes {
		if n.Kind == record.Cleared && !n.Struck() {
			at = n.At
		}
	}
	return at
}

// MayClear says why codes may not be cleared yet; empty when they may: a scan must
// have been saved, after the codes were cleared last.
func (f Folder) MayClear() string {
	cleared := f.lastCleared()
	for _, x := range f.Scans {
		if !x.Struck() && !x.At.Before(cleared) && x.Read.Asked[obd.Stored] {
			return ""
		}
	}
	if cleared.IsZero() {
		return "Save a scan with its stored codes first: clearing wipes codes, freeze frame and readiness for good."
	}
	return "Codes were cleared and no scan was saved since; scan first."
}

// Standing are the codes that are stored or pending as far as is known since codes were cleared last: a
// car's own check may not run with them.
func (f Folder) Standing() (out []string) {
	cleared := f.lastCleared()
	var lines []*CodeLine
	for _, s := range f.sources() {
		if s.at.After(cleared) {
			lines = s.follow(lines)
		}
	}
	for _, l := range lines {
		if slices.Contains(l.Now, obd.Stored) || slices.Contains(l.Now, obd.Pending) {
			out = append(out, l.Code)
		}
	}
	return out
}

// Seen is a status of a code at a moment: present, or gone from a scan that asked.
type Seen struct {
	At     time.Time
	Status obd.CodeStatus
	Gone   bool
	Scan   string // id; empty when it was tapped in
}

// CodeLine is one code's history over the case.
type CodeLine struct {
	Code    string
	ECU     string
	Now     []obd.CodeStatus // statuses it has as far as is known
	Seen    []Seen           // changes, oldest first
	Made    bool             // self-made, and has not returned since it was cleared
	Offered string           // what was unplugged before it came: offered as self-made
	After   time.Time
	Return  bool // self-made once, cleared, and back
}

// source is a scan, or a code tapped in.
type source struct {
	at    time.Time
	scan  string
	asked map[obd.CodeStatus]bool
	codes []obd.Code
}

func (s source) has(code string, status obd.CodeStatus) bool {
	return slices.ContainsFunc(s.codes, func(c obd.Code) bool { return c.Code == code && c.Status == status })
}

// sources are the scans and the codes tapped in, oldest first.
func (f Folder) sources() (out []source) {
	for _, c := range f.Codes {
		if !c.Struck() {
			out = append(out, source{at: c.At, codes: []obd.Code{{Code: c.Code, Status: c.Status}}})
		}
	}
	for _, x := range f.Scans {
		if !x.Struck() && x.Bad == "" {
			out = append(out, source{x.At, x.ID, x.Read.Asked, x.Read.Codes})
		}
	}
	slices.SortStableFunc(out, func(a, b source) int { return a.at.Compare(b.at) })
	return out
}

// CodeHistory follows every code through the case, over scans and codes tapped in. Codes
// that are present come first.
func (f Folder) CodeHistory() []CodeLine {
	sources := f.sources()
	var lines []*CodeLine
	for _, s := range sources {
		lines = s.follow(lines)
	}
	out := make([]CodeLine, len(lines))
	for i, l := range lines {
		f.offer(l, sources)
		f.selfMade(l)
		slices.Sort(l.Now)
		out[i] = *l
	}
	slices.SortStableFunc(out, func(a, b CodeLine) int { return min(len(b.Now), 1) - min(len(a.Now), 1) })
	return out
}

// follow notes on each line what a source says of its code.
func (s source) follow(lines []*CodeLine) []*CodeLine {
	for _, c := range s.codes {
		i := slices.IndexFunc(lines, func(l *CodeLine) bool { return l.Code == c.Code })
		if i < 0 {
			i = len(lines)
			lines = append(lines, &CodeLine{Code: c.Code})
		}
		l := lines[i]
		if c.ECU != "" {
			l.ECU = c.ECU
		}
		if !slices.Contains(l.Now, c.Status) {
			l.Now = append(l.Now, c.Status)
			l.Seen = append(l.Seen, Seen{s.at, c.Status, false, s.scan})
		}
	}
	for _, l := range lines {
		l.Now = slices.DeleteFunc(l.Now, func(status obd.CodeStatus) bool {
			gone := s.asked[status] && !s.has(l.Code, status)
			if gone {
				l.Seen = append(l.Seen, Seen{s.at, status, true, s.scan})
			}
			return gone
		})
	}
	return lines
}

// offer offers a code as self-made when a scan before an unplugging asked for its status
// and did not have it.
func (f Folder) offer(l *CodeLine, sources []source) {
	first := l.Seen[0]
	for _, n := range f.Notes {
		if n.Kind != record.Unplugged || n.Struck() || n.At.After(first.At) {
			continue
		}
		if slices.ContainsFunc(sources, func(s source) bool { return s.asked[first.Status] && s.at.Before(n.At) }) {
			l.Offered, l.After = n.Text, n.At
		}
	}
}

// selfMade takes somebody's word that the hunt made a code, until it returns after it
// was cleared.
func (f Folder) selfMade(l *CodeLine) {
	for _, n := range f.Notes {
		if n.Kind != record.SelfMade || n.Subject != l.Code || n.Struck() {
			continue
		}
		l.Made, l.Offered = true, ""
		left := false
		for _, s := range l.Seen {
			switch {
			case s.At.Before(n.At):
			case s.Gone:
				left = true
			case left:
				l.Made, l.Return = false, true
			}
		}
	}
}
