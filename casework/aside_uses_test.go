package casework

import (
	"context"
	"math"
	"testing"

	"wexter/core/record"
	"wexter/ingest"
)

// Fitting a trace, decoding a scan, and weighing a case for a result and a finding are
// worked out beside the writer: each leaves what it came to on the desk.
func TestThinkingIsDoneAside(t *testing.T) {
	s, ctx := newShop(t), context.Background()
	s.Book = ingest.Book()
	id, err := s.OpenCase(ctx, "", NewCase{Plate: "SQ 1", Make: "Ostrel", Model: "Wherry", TankL: 50, Metering: "maf", Archetype: "engine-vacuum", Complaint: "Lamp on."})
	if err != nil {
		t.Fatal(err)
	}
	test, err := s.StartTest(ctx, "", id, "")
	if err != nil {
		t.Fatal(err)
	}
	var log ingest.Log
	for i := range 1500 {
		at := float64(i) / 10
		log.Time, log.Gauge = append(log.Time, at), append(log.Gauge, 3238*math.Exp(-at/300))
	}
	for _, c := range []struct {
		what string
		do   func() error
	}{
		{"a leg", func() error {
			_, err := s.AddRun(ctx, "", test, NewRun{Kind: record.RunHold, Name: "hold.csv", Log: log})
			return err
		}},
		{"a set-up", func() error {
			f, err := s.Load(ctx, id)
			if err != nil {
				return err
			}
			su := f.Tests[0].Setup
			su.Level = 0.4
			return s.SaveSetup(ctx, "", test, f.Tests[0].Version, su)
		}},
		{"a scan", func() error {
			_, err := s.AddScan(ctx, "", id, "typed", "> 03\n43 04 42 00 00 00 00\n")
			return err
		}},
		{"a result", func() error {
			_, err := s.AddResult(ctx, "", id, NewResult{Test: "readiness", Readings: nil, Outcome: "no-tool", Why: "tapped on the case"})
			return err
		}},
		{"a finding", func() error {
			return s.AddFinding(ctx, "", id, NewFinding{Part: "cap", How: "Seen.", By: record.ByWord})
		}},
	} {
		before := len(s.desk.keys)
		if err := c.do(); err != nil {
			t.Errorf("%s: %v", c.what, err)
		}
		if len(s.desk.keys) == before {
			t.Errorf("%s was worked out while the writer was held", c.what)
		}
	}
}
