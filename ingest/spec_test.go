package ingest_test

import (
	"math"
	"strings"
	"testing"

	"wexter/ingest"
)

func TestReadSpec(t *testing.T) {
	for _, c := range []struct {
		text, unit      string
		low, high, half float64
	}{
		{"0.020 in", "mm", 0.508, 0.508, 0.0127},
		{"0.5 mm", "mm", 0.5, 0.5, 0.05},
		{"0,5mm", "mm", 0.5, 0.5, 0.05},
		{"20 to 26 ohm", "ohm", 20, 26, 0.5},
		{"20–26 Ω", "ohm", 20, 26, 0.5},
		{"20-26", "ohm", 20, 26, 0.5},
		{"20.0 ohm ... 26.5 ohm", "ohm", 20, 26.5, 0.05},
		{"24 ± 2 ohm", "ohm", 22, 26, 0.5},
		{"24 +/- 1.5", "ohm", 22.5, 25.5, 0.05},
		{"13 to 14 inH2O", "inH2O", 13, 14, 0.5},
		{"3.2 kPa", "inH2O", 12.846815, 12.846815, 0.200731},
		{"20 ± 5 °C", "°C", 15, 25, 0.5},
		{"68 °F", "°C", 20, 20, 0.27778},
		{"-2 to 3 %", "%", -2, 3, 0.5},
		{"11 gal", "L", 41.639530, 41.639530, 1.892706},
	} {
		s, err := ingest.ReadSpec(c.text, c.unit)
		if err != nil || math.Abs(s.Low-c.low) > 1e-5 || math.Abs(s.High-c.high) > 1e-5 || math.Abs(s.Half-c.half) > 1e-4 {
			t.Errorf("%q in %s: %+v %v; want %g to %g, ±%g", c.text, c.unit, s, err, c.low, c.high, c.half)
		}
	}
	for _, c := range [][3]string{{"", "mm", "missing"}, {"narrow", "mm", "no number"}, {"0.020", "mm", "no unit"}, {"0.020 furlong", "mm", "furlong"}, {"26 to 20 ohm", "ohm", "above its end"},
		{"24 V", "ohm", "stated in ohm"}, {"NaN ohm", "ohm", "no number"}, {"1.2.3 mm", "mm", "not a number"}, {"20 to", "ohm", "stated in ohm"}} {
		if s, err := ingest.ReadSpec(c[0], c[1]); err == nil || !strings.Contains(err.Error(), c[2]) {
			t.Errorf("%q in %s: %+v %v; want %q", c[0], c[1], s, err, c[2])
		}
	}
}

// Two books that round differently do not contradict each other; what is measured is held
// against what either can mean.
func TestSpecsMeet(t *testing.T) {
	read := func(text, unit string) ingest.Spec {
		s, err := ingest.ReadSpec(text, unit)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	for _, c := range []struct {
		a, b, unit string
		meet       bool
	}{{"0.020 in", "0.5 mm", "mm", true}, {"0.020 in", "1.0 mm", "mm", false}, {"20 to 26 ohm", "26 to 30 ohm", "ohm", true}, {"20 to 26 ohm", "30 to 34 ohm", "ohm", false}, {"45 L", "12 gal", "L", true}, {"45 L", "13.0 gal", "L", false}} {
		if read(c.a, c.unit).Meets(read(c.b, c.unit)) != c.meet || read(c.b, c.unit).Meets(read(c.a, c.unit)) != c.meet {
			t.Errorf("%s and %s: want meeting %v", c.a, c.b, c.meet)
		}
	}
	if s := read("20 to 26 ohm", "ohm"); !s.Holds(26.4) || s.Holds(27) || s.Holds(19) {
		t.Errorf("%+v", s)
	}
}

func FuzzReadSpec(f *testing.F) {
	for _, s := range []string{"0.020 in", "20 to 26 ohm", "24 ± 2", "1e400 mm", "- - -", "±", "5 to to 6 mm"} {
		f.Add(s, "mm")
		f.Add(s, "ohm")
		f.Add(s, "°C")
	}
	f.Fuzz(func(t *testing.T, text, unit string) {
		s, err := ingest.ReadSpec(text, unit)
		if err != nil {
			if err.Error() == "" {
				t.Error("an error without words")
			}
			return
		}
		if !(s.Low <= s.High) || !(s.Half >= 0) || math.IsInf(s.High, 0) || math.IsInf(s.Low, 0) {
			t.Errorf("%q in %q: %+v", text, unit, s)
		}
	})
}
