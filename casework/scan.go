package casework

import (
	"context"
	"strings"

	"wexter/core/obd"
	"wexter/core/record"
	"wexter/ingest"
	"wexter/store"
)

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
	x := record.ScanDone{ID: newID(), CaseID: id, Source: source, Raw: raw, At: s.now()}
	return s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, err := open(tx, id, 0)
		if err != nil {
			return "", err
		}
		if have, err := tx.ScanBytes(id); err != nil {
			return "", err
		} else if have+len(raw) > record.MostScanBytes {
			return "", problem("scan", "The scans of this case take %d MB, as much as is kept of one; close it and open a new one.", have>>20)
		}
		if err := addToCase(tx, id, &x); err != nil {
			return "", err
		}
		if c.Monitors, err = s.monitorsRan(tx, id, read, c.Monitors); err != nil {
			return "", err
		}
		return x.ID, advance(tx, c, record.Scan)
	})
}

// monitorsRan says whether the monitors that the case is about have run, as a scan tells; as it
// was when the scan says nothing of them.
func (s *Shop) monitorsRan(tx store.Tx, id string, read obd.Scan, was record.Monitors) (record.Monitors, error) {
	f, err := s.load(tx, id)
	if err != nil {
		return was, err
	}
	about := []string{"evap"} // until codes or a finding say what it is about
	if car, err := s.carOf(tx, f.Vehicle); err == nil {
		if about = car.Monitors(f); len(about) == 0 && car.ChecksItself() {
			about = []string{"evap"}
		}
	}
	known := 0
	for _, m := range about {
		switch read.Readiness[m] {
		case obd.Incomplete:
			return record.MonitorsIncomplete, nil
		case obd.Complete:
			known++
		}
	}
	if known > 0 {
		return record.MonitorsComplete, nil
	}
	return was, nil
}

// ScanCase returns the case a scan belongs to.
func (s *Shop) ScanCase(ctx context.Context, id string) (string, error) {
	x, err := store.Get[record.ScanDone](s.DB.Read(ctx), id)
	return x.CaseID, err
}

// NewNote is something to be written down beside the measurements.
type NewNote struct {
	Kind          record.NoteKind
	Subject, Text string // a code, for self-made ones; and the words
	Photo         *record.Photo
}

// AddNote writes something down beside the measurements.
func (s *Shop) AddNote(ctx context.Context, key, id string, n NewNote) error {
	if n.Kind.Words() == "" {
		return problem("note", "a note, something unplugged, codes cleared, or a self-made code")
	}
	words, err := text("note", n.Text, 2000)
	if err != nil {
		return err
	}
	if n.Kind == record.SelfMade {
		n.Subject = strings.ToUpper(n.Subject)
	}
	switch _, _, isCode := obd.EncodeDTC(n.Subject); {
	case words == "" && n.Photo == nil && n.Kind == record.Unplugged:
		return problem("note", "say what was unplugged")
	case n.Kind == record.TakenOut:
		t, ok := s.Book.Test(n.Subject)
		if !ok || t.Leaves == "" {
			return problem("note", "%q is no test that leaves something on a car", n.Subject)
		}
		words = strings.TrimSpace(Upper(t.Leaves) + " is off the car. " + words)
	case words == "" && n.Photo == nil:
		return problem("note", "write a word or choose a photo")
	case n.Kind == record.SelfMade && !isCode:
		return problem("code", "%q is not a trouble code", n.Subject)
	}
	_, err = s.do(ctx, key, func(tx store.Tx) (string, error) {
		c, err := open(tx, id, 0)
		if err != nil {
			return "", err
		}
		x := record.Note{ID: newID(), CaseID: id, Kind: n.Kind, Subject: n.Subject, Text: words, At: s.now()}
		if x.Photo, err = hashOf(tx, c, n.Photo); err != nil {
			return "", err
		}
		if err := addToCase(tx, id, &x); err != nil {
			return "", err
		}
		return x.ID, advance(tx, c, c.Stage)
	})
	return err
}
