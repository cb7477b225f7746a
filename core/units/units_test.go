package units_test

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"testing"

	"wexter/core/units"
)

func near(t *testing.T, what string, got, want, tol float64) {
	t.Helper()
	if math.IsNaN(got) || math.Abs(got-want) > tol {
		t.Errorf("%s = %.6g, want %.6g ± %.2g", what, got, want, tol)
	}
}

func TestConversionCheckValues(t *testing.T) {
	conv := func(v float64, from, to string, k units.Kind) float64 {
		return units.Must(to, k).FromSI(units.Must(from, k).ToSI(v))
	}
	for _, c := range []struct {
		v        float64
		from, to string
		k        units.Kind
		want     float64
		tol      float64
		source   string
	}{
		{1, "inH2O", "Pa", units.Pressure, 249.089, 1e-9, "NIST SP 811, 2008 (value from memory)"},
		{1, "inHg", "Pa", units.Pressure, 3386.39, 1e-9, "NIST SP 811, 2008 (value from memory)"},
		{1, "psi", "Pa", units.Pressure, 6894.757, 1e-9, "NIST SP 811, 2008 (value from memory)"},
		{1, "inH2O", "psi", units.Pressure, 0.0361, 5e-5, "NIST SP 811, 2008 (value from memory)"},
		{1, "inH2O", "psi", units.Pressure, 0.04, 0.005, "common practice, no source: rounded"},
		{20, "inHg", "psi", units.Pressure, 9.82, 0.005, "NIST SP 811, 2008 (value from memory)"},
		{20, "inHg", "psi", units.Pressure, 10, 0.2, "common practice, no source: rounded"},
		{15, "inHg", "kPa", units.Pressure, 50.8, 0.05, "NIST SP 811, 2008 (value from memory)"},
		{15, "inHg", "kPa", units.Pressure, 50, 0.9, "common practice, no source: rounded"},
		{5, "kPa", "inHg", units.Pressure, 1.48, 0.005, "NIST SP 811, 2008 (value from memory)"},
		{5, "kPa", "psi", units.Pressure, 0.725, 0.0005, "NIST SP 811, 2008 (value from memory)"},
		{5, "kPa", "inH2O", units.Pressure, 20.1, 0.05, "NIST SP 811, 2008 (value from memory)"},
		{1, "psi", "inH2O", units.Pressure, 27.7, 0.05, "NIST SP 811, 2008 (value from memory)"},
		{15, "lbf·ft", "N·m", units.Torque, 20.3, 0.05, "NIST SP 811, 2008 (value from memory)"},
		{0.020, "in", "mm", units.Length, 0.508, 1e-9, "NIST SP 811, 2008 (value from memory)"},
		{0.040, "in", "mm", units.Length, 1.016, 1e-9, "NIST SP 811, 2008 (value from memory)"},
		{19, "°F", "°C", units.Temperature, -7.2, 0.05, "NIST SP 811, 2008 (value from memory)"},
	} {
		t.Run(c.from, func(t *testing.T) {
			near(t, fmt.Sprintf("%g %s in %s [%s]", c.v, c.from, c.to, c.source), conv(c.v, c.from, c.to, c.k), c.want, c.tol)
		})
	}
}

func TestParse(t *testing.T) {
	for _, c := range []struct {
		in   string
		k    units.Kind
		bare string
		want float64
	}{
		{"13", units.Pressure, "inH2O", 13 * units.InH2O},
		{"13 inH2O", units.Pressure, "", 13 * units.InH2O},
		{"13in. H₂O", units.Pressure, "", 13 * units.InH2O},
		{"3,2 kPa", units.Pressure, "inH2O", 3200},
		{"−3.2kpa", units.Pressure, "inH2O", -3200},
		{"1 013 hPa", units.Pressure, "", 101300},
		{"1e3Pa", units.Pressure, "", 1000},
		{"0.020in", units.Length, "mm", 0.000508},
		{"0,508 mm", units.Length, "", 0.000508},
		{"0.020\"", units.Length, "mm", 0.000508},
		{"42L", units.Volume, "", 0.042},
		{"42", units.Volume, "L", 0.042},
		{"20 °C", units.Temperature, "", 293.15},
		{"68F", units.Temperature, "", 293.15},
		{"2 min", units.Time, "s", 120},
		{"15 lbf·ft", units.Torque, "N·m", 20.33727},
	} {
		t.Run(c.in, func(t *testing.T) {
			got, err := units.Parse(c.in, c.k, c.bare)
			if err != nil {
				t.Errorf("Parse(%q): %v", c.in, err)
				return
			}
			near(t, c.in, got, c.want, 1e-6*math.Abs(c.want))
		})
	}
}

func TestParseRefuses(t *testing.T) {
	for _, c := range []struct {
		in   string
		k    units.Kind
		bare string
		say  string
	}{
		{"", units.Pressure, "inH2O", "missing"},
		{"13", units.Pressure, "", "no unit"},
		{"inH2O", units.Pressure, "", "no number"},
		{"13 furlong", units.Pressure, "", "not a unit of pressure"},
		{"NaN", units.Pressure, "Pa", "no number"},
		{"1,2,3", units.Volume, "L", "not a number"},
		{"1.234,5", units.Volume, "L", "not a number"},
		{"0x10", units.Volume, "L", "not a unit"},
		{"1e999", units.Volume, "L", "not a number"},
		{"-300 °C", units.Temperature, "", "absolute zero"},
		{strings.Repeat("9", 70), units.Volume, "L", "too long"},
		{"42 mm", units.Volume, "L", "not a unit of volume"},
	} {
		t.Run(c.say, func(t *testing.T) {
			v, err := units.Parse(c.in, c.k, c.bare)
			if err == nil || !strings.Contains(err.Error(), c.say) {
				t.Errorf("Parse(%q) = %v, %v; want an error that says %q", c.in, v, err, c.say)
			}
		})
	}
}

func TestGuess(t *testing.T) {
	for _, c := range []struct {
		header string
		k      units.Kind
		want   string
	}{
		{"pressure_inH2O", units.Pressure, "inH2O"},
		{"temp (°C)", units.Temperature, "°C"},
		{"p [kPa]", units.Pressure, "kPa"},
		{"Druck in. H2O", units.Pressure, "inH2O"},
		{"time_s", units.Time, "s"},
		{"pressure", units.Pressure, ""},
		{"tank temp F", units.Temperature, "°F"},
	} {
		t.Run(c.header, func(t *testing.T) {
			u, ok := units.Guess(c.header, c.k)
			if ok != (c.want != "") || u.Symbol != c.want {
				t.Errorf("Guess(%q) = %q, %v; want %q", c.header, u.Symbol, ok, c.want)
			}
		})
	}
}

func TestEveryUnitRoundTripsAndHasASecond(t *testing.T) {
	for k := units.Pressure; k <= units.Difference; k++ {
		for _, s := range units.Symbols(k) {
			u := units.Must(s, k)
			near(t, s, u.FromSI(u.ToSI(7.25)), 7.25, 1e-9)
			if second := units.Second(s, k); second == s && s != "s" {
				t.Errorf("%s %s is shown beside itself", k, s)
			} else if _, ok := units.Lookup(second, k); !ok {
				t.Errorf("second unit %q of %s is unknown", second, s)
			}
		}
	}
}

func TestDigits(t *testing.T) {
	for _, c := range []struct {
		x    float64
		n    int
		want string
	}{{0.3784, 3, "0.378"}, {12.04, 3, "12.0"}, {-0.5, 2, "−0.50"}, {0, 3, "0"}, {1234.5, 3, "1234"}, {math.NaN(), 3, "–"}, {1e-12, 3, "0"}} {
		t.Run(c.want, func(t *testing.T) {
			if got := units.Digits(c.x, c.n); got != c.want {
				t.Errorf("Digits(%g, %d) = %q, want %q", c.x, c.n, got, c.want)
			}
		})
	}
}

func ExampleFormat() {
	p, _ := units.Parse("13 inH2O", units.Pressure, "")
	fmt.Println(units.Format(p, units.Pressure, "inH2O", 3), "=", units.Format(p, units.Pressure, "kPa", 3))
	// Output: 13.0 inH2O = 3.24 kPa
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"13 inH2O", "3,2 kPa", "1e5", "−1", "1 000", "\"", "e", "1e", "NaN L"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		for k := units.Pressure; k <= units.Difference; k++ {
			if v, err := units.Parse(s, k, ""); err == nil && (math.IsNaN(v) || math.IsInf(v, 0)) {
				t.Errorf("Parse(%q) = %v", s, v)
			}
		}
	})
}

// What is typed is said in its second unit exactly when it is taken; conversions are
// NIST SP 811, 2008 (values from memory).
func TestBeside(t *testing.T) {
	for _, c := range []struct {
		text string
		kind units.Kind
		bare string
		want string // empty: refused
	}{
		{"13", units.Pressure, "inH2O", "3.24 kPa"},
		{"3,24 kPa", units.Pressure, "inH2O", "13.0 inH2O"},
		{"24 mmHg", units.Pressure, "inH2O", "12.8 inH2O"},
		{"330 mmH2O", units.Pressure, "inH2O", "13.0 inH2O"},
		{"0,05 cm", units.Length, "mm", "0.500 mm"},
		{"250 mL", units.Volume, "L", "0.250 L"},
		{"300 K", units.Temperature, "°C", "26.9 °C"},
		{"20", units.Temperature, "°C", "68.0 °F"},
		{"68 F", units.Temperature, "°C", "20.0 °C"},
		{"15 lbf·ft", units.Torque, "N·m", "20.3 N·m"},
		{"13 furlongs", units.Pressure, "inH2O", ""},
		{"soon", units.Pressure, "inH2O", ""},
		{"", units.Pressure, "inH2O", ""},
	} {
		t.Run(c.text, func(t *testing.T) {
			got, err := units.Beside(c.text, c.kind, c.bare)
			if got != c.want || (err != nil) != (c.want == "") {
				t.Errorf("%q, %v; want %q", got, err, c.want)
			}
			if _, perr := units.Parse(c.text, c.kind, c.bare); (perr != nil) != (err != nil) {
				t.Errorf("the form says %v, the hint %v", perr, err)
			}
		})
	}
}

// What is taken for a number is one: finite, and the same when it is written and read again.
func FuzzNumber(f *testing.F) {
	for _, s := range []string{"13", "3,2", "1 234.5", "1,234.5,6", "−4", "1e3", "1e999", "NaN", "0x10", "--1", "1_000", "٣", "+", "e", ""} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		v, err := units.Number(s)
		if err != nil {
			return
		}
		if math.IsNaN(v) || math.IsInf(v, 0) {
			t.Fatalf("%q is %g", s, v)
		}
		again, err := units.Number(strconv.FormatFloat(v, 'g', -1, 64))
		if err != nil || again != v {
			t.Fatalf("%q is %g, written and read again %g, %v", s, v, again, err)
		}
		if p, err := units.Parse(s, units.Length, "m"); err == nil && p != v {
			t.Fatalf("%q is %g, with its unit %g", s, v, p)
		}
	})
}
