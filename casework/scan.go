package casework

import (
	"context"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"wexter/core/obd"
	"wexter/core/record"
	"wexter/ingest"
)

// ScanFolder is a scan with what it says.
type ScanFolder struct {
	record.ScanDone
	Read obd.Scan
	Bad  string // when its text can no longer be read
}

// readScan decodes a scan from its text.
func readScan(x record.ScanDone) ScanFolder {
	sf := ScanFolder{ScanDone: x}
	var err error
	if sf.Read, err = ingest.ReadScan([]byte(x.Raw)); err != nil {
		sf.Bad = err.Error()
	}
	return sf
}

// AddScan keeps the text that a car's control units answered with. What cannot be
// read at all is refused; nothing is left out of the text.
func (s *Shop) AddScan(ctx context.Context, key, id, source, raw string) (string, error) {
	source, err := text("source", source, 120)
	if err != nil {
		return "", err
	}
	raw = strings.ReplaceAll(raw, "\r\n", "\n")
	read, err := ingest.ReadScan([]byte(raw))
	if err != nil {
		return "", problem("scan", "%s.", Upper(err.Error()))
	}
	return s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		c, err := open(tx, id, 0)
		if err != nil {
			return "", err
		}
		x := record.ScanDone{ID: newID(), CaseID: id, Source: source, Raw: raw, At: s.now()}
		if err := tx.Create(&x).Error; err != nil {
			return "", err
		}
		switch read.Readiness["evap"] {
		case obd.Complete:
			c.Monitors = "complete"
		case obd.Incomplete:
			c.Monitors = "incomplete"
		}
		return x.ID, advance(tx, c, record.Scan)
	})
}

// ScanCase returns the case a scan belongs to.
func (s *Shop) ScanCase(ctx context.Context, id string) (string, error) {
	x, err := find[record.ScanDone](s.DB.Read(ctx), id)
	return x.CaseID, err
}

// AddNote writes something down beside the measurements.
func (s *Shop) AddNote(ctx context.Context, key, id, kind, subject, words string, photo *record.Photo) error {
	if record.NoteWords[kind] == "" {
		return problem("note", "a note, something unplugged, codes cleared, or a self-made code")
	}
	words, err := text("note", words, 2000)
	if err != nil {
		return err
	}
	if words == "" && photo == nil {
		return problem("note", "%s", map[bool]string{true: "say what was unplugged", false: "write a word or choose a photo"}[kind == record.Unplugged])
	}
	if _, _, ok := obd.EncodeDTC(subject); kind == record.SelfMade && !ok {
		return problem("code", "%q is not a trouble code", subject)
	}
	_, err = s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		c, err := open(tx, id, 0)
		if err != nil {
			return "", err
		}
		n := record.Note{ID: newID(), CaseID: id, Kind: kind, Subject: subject, Text: words, At: s.now()}
		if n.Photo, err = hashOf(tx, photo); err != nil {
			return "", err
		}
		if err := tx.Create(&n).Error; err != nil {
			return "", err
		}
		return n.ID, advance(tx, c, c.Stage)
	})
	return err
}

// hashOf keeps a photo and returns its hash; empty without one.
func hashOf(tx *gorm.DB, p *record.Photo) (string, error) {
	if p == nil {
		return "", nil
	}
	return p.Hash, keepPhoto(tx, *p)
}

func keepPhoto(tx *gorm.DB, p record.Photo) error {
	return tx.Exec("INSERT INTO photos(hash, mime, width, height, data) VALUES(?,?,?,?,?) ON CONFLICT(hash) DO NOTHING",
		p.Hash, p.Mime, p.Width, p.Height, p.Data).Error
}

// MayClear says why codes may not be cleared yet; empty when they may: a scan must
// have been saved, after the codes were cleared last.
func (f Folder) MayClear() string {
	var cleared time.Time
	for _, n := range f.Notes {
		if n.Kind == record.Cleared && n.StruckAt == nil {
			cleared = n.At
		}
	}
	for _, x := range f.Scans {
		if x.StruckAt == nil && !x.At.Before(cleared) && x.Read.Asked[obd.Stored] {
			return ""
		}
	}
	if cleared.IsZero() {
		return "Save a scan with its stored codes first: clearing wipes codes, freeze frame and readiness for good."
	}
	return "Codes were cleared and no scan was saved since; scan first."
}

// Seen is a status of a code at a moment: present, or gone from a scan that asked.
type Seen struct {
	At     time.Time
	Status string
	Gone   bool
	Scan   string // id; empty when it was tapped in
}

// CodeLine is one code's history over the case.
type CodeLine struct {
	Code    string
	ECU     string
	Now     []string // statuses it has as far as is known
	Seen    []Seen   // changes, oldest first
	Made    bool     // self-made, and has not returned since it was cleared
	Offered string   // what was unplugged before it came: offered as self-made
	After   time.Time
	Return  bool // self-made once, cleared, and back
}

// History follows every code through the case: over scans and codes tapped in.
func (f Folder) History() []CodeLine {
	type source struct {
		at    time.Time
		scan  string
		asked map[string]bool
		codes []obd.Code
	}
	var sources []source
	for _, c := range f.Codes {
		if c.StruckAt == nil {
			sources = append(sources, source{at: c.At, codes: []obd.Code{{Code: c.Code, Status: c.Status}}})
		}
	}
	for _, x := range f.Scans {
		if x.StruckAt == nil && x.Bad == "" {
			sources = append(sources, source{x.At, x.ID, x.Read.Asked, x.Read.Codes})
		}
	}
	slices.SortStableFunc(sources, func(a, b source) int { return a.at.Compare(b.at) })
	var lines []*CodeLine
	get := func(code string) *CodeLine {
		for _, l := range lines {
			if l.Code == code {
				return l
			}
		}
		lines = append(lines, &CodeLine{Code: code})
		return lines[len(lines)-1]
	}
	for _, s := range sources {
		for _, c := range s.codes {
			l := get(c.Code)
			if c.ECU != "" {
				l.ECU = c.ECU
			}
			if !slices.Contains(l.Now, c.Status) {
				l.Now = append(l.Now, c.Status)
				l.Seen = append(l.Seen, Seen{s.at, c.Status, false, s.scan})
			}
		}
		for _, l := range lines {
			l.Now = slices.DeleteFunc(l.Now, func(status string) bool {
				gone := s.asked[status] && !slices.ContainsFunc(s.codes, func(c obd.Code) bool { return c.Code == l.Code && c.Status == status })
				if gone {
					l.Seen = append(l.Seen, Seen{s.at, status, true, s.scan})
				}
				return gone
			})
		}
	}
	// A code is offered as self-made when a scan before the unplugging asked for its
	// status and did not have it.
	for _, l := range lines {
		first := l.Seen[0]
		for _, n := range f.Notes {
			if n.Kind != record.Unplugged || n.StruckAt != nil || n.At.After(first.At) {
				continue
			}
			if slices.ContainsFunc(sources, func(s source) bool { return s.asked[first.Status] && s.at.Before(n.At) }) {
				l.Offered, l.After = n.Text, n.At
			}
		}
		for _, n := range f.Notes {
			if n.Kind != record.SelfMade || n.Subject != l.Code || n.StruckAt != nil {
				continue
			}
			l.Made, l.Offered = true, ""
			left := false
			for _, s := range l.Seen {
				if s.At.Before(n.At) {
					continue
				}
				if s.Gone {
					left = true
				} else if left {
					l.Made, l.Return = false, true
				}
			}
		}
	}
	out := make([]CodeLine, len(lines))
	for i, l := range lines {
		slices.Sort(l.Now)
		out[i] = *l
	}
	slices.SortStableFunc(out, func(a, b CodeLine) int { return min(len(b.Now), 1) - min(len(a.Now), 1) })
	return out
}

// Doubt marks evidence as not trusted, or takes the doubt back; nothing is deleted.
func (s *Shop) Doubt(ctx context.Context, key, caseID, kind, id string, back bool) error {
	return s.stamp(ctx, key, caseID, kind, id, "doubted_at", back)
}
