package report_test

import (
	"strings"
	"testing"
	"time"

	"wexter/core/record"
	"wexter/report"
)

// small is a bundle with a case and nothing on it.
func small() report.Bundle {
	at := time.Date(2026, 1, 5, 9, 0, 0, 0, time.UTC)
	return report.Bundle{Vehicle: record.Vehicle{ID: "v", PlateKey: "A", TankL: 50, CreatedAt: at}, Case: record.Case{ID: "c", VehicleID: "v", Number: "SQ-1", Stage: record.Scan, OpenedAt: at, Version: 1}}
}

// setup is a set-up that can be.
func setup() record.Setup {
	return record.Setup{VolumeHow: record.VolumeByLevel, Tank: 0.05, Level: 0.5, Volume: 0.025, VolumeTolerance: 0.2, Limit: 0.508e-3, Barometer: 101325, Temperature: 293.15}
}

func FuzzReadBundle(f *testing.F) {
	good, err := report.WriteBundle(small())
	if err != nil {
		f.Fatal(err)
	}
	f.Add(good)
	f.Add([]byte(`{"schema":"wexter-case/4"}`))
	f.Add([]byte(`{"schema":"wexter-case/4","marks":[{"id":"m","kind":"exit","part":"cap","odds":2}],"cards":[{"id":"c","part":"cap"}]}`))
	f.Add([]byte(`{"schema":"wexter-case/1","tests":[{"id":"t","runs":[{"id":"r","kind":"hold"}]}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		b, err := report.ReadBundle(data)
		if err != nil {
			if strings.TrimSpace(err.Error()) == "" {
				t.Error("an error without words")
			}
			return
		}
		// What is accepted must come out and in again the same.
		one, err := report.WriteBundle(b)
		if err != nil {
			t.Fatal(err)
		}
		again, err := report.ReadBundle(one)
		if err != nil {
			t.Fatalf("what was written cannot be read: %v", err)
		}
		two, err := report.WriteBundle(again)
		if err != nil || string(one) != string(two) {
			t.Fatal("writing it twice gives other bytes")
		}
	})
}

func TestPlotsHoldWhatTheyAreGiven(t *testing.T) {
	svg := report.NewSVG(600, 300, `a "title" <b>`)
	s := report.Series{Style: "measured", Label: "x<y"}
	for i := range 5000 {
		s.X, s.Y = append(s.X, float64(i)), append(s.Y, float64(i%7))
	}
	s.Y[2500] = 100 // one spike must survive the thinning
	f := report.NewFrame(600, 300, "s", "inH2O", s)
	f.Axes(svg)
	f.Draw(svg, s)
	f.Label(svg, s, 0.5, -9)
	out := svg.String()
	if strings.Contains(out, "<b>") || strings.Contains(out, "x<y") {
		t.Error("text is not escaped")
	}
	if n := strings.Count(out, ","); n > 3000 {
		t.Errorf("%d points are drawn in 534 columns", n)
	}
	if f.MaxY < 100 {
		t.Errorf("the frame ends at %g", f.MaxY)
	}
	if !strings.Contains(out, ",22.") && !strings.Contains(out, ",22 ") {
		t.Error("the spike is not drawn at the top of the frame")
	}
	if report.Comparison(svg, 600, 300, nil, nil) {
		t.Error("a comparison of nothing was drawn")
	}
}
