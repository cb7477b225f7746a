package casework_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"wexter/casework"
	"wexter/core/record"
	"wexter/ingest"
	"wexter/store"
)

// What no longer fits into a bundle is refused where it is written down, and what was
// written down until then comes back in another shop.
func TestRoomOfACase(t *testing.T) {
	s := shop(t)
	id, err := s.OpenCase(ctx, "", car("SQ 601"))
	must(t, err)
	test, err := s.StartTest(ctx, "", id, "")
	must(t, err)
	var notes []record.Note
	for i := range record.MostEntries - 1 {
		notes = append(notes, record.Note{ID: fmt.Sprintf("n%d", i), CaseID: id, Kind: record.Noted, Text: "seen", At: s.Now()})
	}
	ended := s.Now()
	long := record.Run{ID: "long", TestID: test, Kind: record.RunDrift, Readings: record.MostReadings - 5, Notes: record.Strings{}, Marks: record.Marks{}, Gaps: record.Gaps{}, At: ended, EndedAt: &ended, Strike: record.Strike{StruckAt: &ended}}
	must(t, s.DB.Write(ctx, func(tx store.Tx) error {
		for at := 0; at < len(notes); at += 500 {
			part := notes[at:min(at+500, len(notes))]
			if err := tx.Add(&part); err != nil {
				return err
			}
		}
		return tx.Add(&long)
	}))
	must(t, s.AddNote(ctx, "", id, casework.NewNote{Kind: record.Noted, Text: "the last"}))
	picture := func(n int, name string) *record.Photo {
		return &record.Photo{Hash: name, Mime: "image/png", Width: 1, Height: 1, Data: make([]byte, n)}
	}
	f, err := s.Load(ctx, id)
	must(t, err)
	log := ingest.Log{Time: []float64{0, 1, 2, 3, 4, 5}, Gauge: make([]float64, 6)}
	for _, c := range []struct {
		what string
		err  error
		say  string
	}{
		{"one note more", s.AddNote(ctx, "", id, casework.NewNote{Kind: record.Noted, Text: "too many"}), "2000 entries"},
		{"a photo", s.AddFinding(ctx, "", id, casework.NewFinding{Part: "cap", How: "Seen.", By: record.ByWord, Photo: picture(record.MostPhotoBytes+1, "p1")}), "smaller size"},
		{"a leg", func() error {
			_, err := s.AddRun(ctx, "", test, casework.NewRun{Kind: record.RunDrift, Name: "a", Log: log})
			return err
		}(), "2000000 is as many"},
		{"a leg that is read live", func() error {
			_, err := s.BeginRun(ctx, test, casework.NewLive{Kind: record.RunZero})
			return err
		}(), "2000000 is as many"},
		{"a day of years ahead", s.Wait(ctx, "", id, casework.NewWait{Kind: record.WaitPart, Until: func() *time.Time { d := s.Now().AddDate(30, 0, 0); return &d }()}), "within five years"},
	} {
		if c.err == nil || !strings.Contains(c.err.Error(), c.say) {
			t.Errorf("%s: %v", c.what, c.err)
		}
	}
	if len(f.Notes) != record.MostEntries {
		t.Errorf("%d notes", len(f.Notes))
	}
	// The long leg was only said to be so long.
	long.Readings = 0
	must(t, s.DB.Write(ctx, func(tx store.Tx) error { return tx.Put(&long) }))
	data, _, err := s.Export(ctx, id)
	must(t, err)
	if _, err := shop(t).Import(ctx, data); err != nil {
		t.Errorf("what was exported is not taken back: %v", err)
	}
}
