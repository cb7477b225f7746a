package calc

import (
	"math"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"

	"wexter/core/units"
)

func answer(t *testing.T, key, label string, typed map[string]string) (float64, string) {
	t.Helper()
	c, ok := Find(key)
	if !ok {
		t.Fatalf("there is no calculator %q", key)
	}
	lines, err := c.Run(typed)
	if err != nil {
		t.Fatalf("%s: %v", key, err)
	}
	for _, l := range lines {
		if l.Label == label {
			f := strings.Fields(l.Value)
			x, err := strconv.ParseFloat(strings.Replace(f[0], "−", "-", 1), 64)
			if err != nil {
				return math.NaN(), l.Value + " " + l.Second
			}
			return x, l.Value + " " + l.Second
		}
	}
	t.Fatalf("%s has no line %q: %v", key, label, lines)
	return 0, ""
}

// The spread that the calculator gives is what fits of made-up traces show: a square
// through noisy readings of √p falling evenly, over and over with the same seed.
func TestHoldSpreadAgainstFits(t *testing.T) {
	const d, vol, p0, hold, rate, noise = 0.508e-3, 0.06, 3238.2, 60.0, 10.0, 3.0
	c, _ := Find("hold")
	if c.run == nil {
		t.Fatal("there is no such calculator")
	}
	said, _ := answer(t, "hold", "Spread of the diameter, 2 in 3 times", map[string]string{"d": "0.508", "v": "60", "p": "13", "h": "60", "n": "10", "sd": "3 Pa"})
	half, _ := answer(t, "half-time", "To half", map[string]string{"d": "0.508", "v": "60", "p": "13"})
	b := 2 * p0 * (1 - math.Sqrt(0.5)) / half // slope at the start, from the root falling evenly
	rng := rand.New(rand.NewPCG(4, 2))
	n := int(hold * rate)
	var sum, sum2 float64
	const trials = 400
	for range trials {
		// Least squares of 1, x, x² on x in −1…1; even terms part from the odd one.
		var s0, s2, s4, y0, y1, y2 float64
		for i := range n {
			tm := (float64(i) + 0.5) / rate
			r := math.Sqrt(p0) - b*tm/(2*math.Sqrt(p0))
			y := r*r + noise*rng.NormFloat64()
			x := 2*tm/hold - 1
			s0, s2, s4 = s0+1, s2+x*x, s4+x*x*x*x
			y0, y1, y2 = y0+y, y1+y*x, y2+y*x*x
		}
		c2 := (s0*y2 - s2*y0) / (s0*s4 - s2*s2) * 4 / (hold * hold)
		slope := y1/s2*2/hold - c2*hold // at the start
		lnD := 0.5 * math.Log(4*p0*c2/-slope)
		sum, sum2 = sum+lnD, sum2+lnD*lnD
	}
	sd := 100 * math.Sqrt(sum2/trials-sum*sum/trials/trials)
	if sd < 0.85*said || sd > 1.2*said {
		t.Errorf("fits spread by %.2f %%, the calculator says %.2f %%", sd, said)
	}
}

// Worked values: each with the source of the formula; rounded as published.
func TestAgainstPublishedValues(t *testing.T) {
	for _, c := range []struct {
		key, label string
		typed      map[string]string
		want, tol  float64
		source     string
	}{
		{"half-time", "To half", map[string]string{"d": "0.020 in", "v": "30 L", "p": "13"}, 62, 0.5, "closed volume and orifice, NACA 1135"},
		{"half-time", "To half", map[string]string{"d": "0.040 in", "v": "30", "p": "13 inH2O"}, 15.5, 0.1, "the same"},
		{"manifold", "Flow", map[string]string{"d": "3", "vac": "18"}, 1.03, 0.01, "choked orifice, ISO 9300"},
		{"vapour", "Vapour pressure, absolute", map[string]string{"rvp": "10", "t": "60 °F"}, 5.2, 0.15, "AP-42 table 7.1-2 (from memory)"},
		{"vapour", "Vapour pressure, absolute", map[string]string{"rvp": "13", "t": "60 °F"}, 6.9, 0.2, "AP-42 (from memory)"},
		{"vapour", "Vapour pressure, absolute", map[string]string{"rvp": "10", "t": "100 °F"}, 10.5, 0.3, "AP-42 (from memory)"},
		{"height", "Barometer", map[string]string{"h": "2438.4"}, 22.2, 0.05, "U.S. Standard Atmosphere 1976, 8000 ft"},
		{"height", "Barometer", map[string]string{"h": "1524"}, 24.9, 0.05, "the same, 5000 ft"},
		{"coil", "Resistance warm", map[string]string{"r": "30", "t": "80"}, 37.1, 0.05, "IEC 60028, by hand"},
		{"trim", "Total trim", map[string]string{"s": "5", "l": "12"}, 17.6, 0.05, "(1+S)(1+L)−1, by hand"},
		{"known-leak", "The leak", map[string]string{"k1": "10", "k2": "20", "d": "0.5"}, 0.5, 1e-3, "equal rates, equal areas"},
		{"eonv", "Cooling for 1 inH2O, dry gas", map[string]string{"t": "20", "dt": "1"}, 0.72, 0.005, "ideal-gas law"},
		{"heat", "Gas warmer by, at most", map[string]string{"p": "13"}, 2.68, 0.01, "ideal-gas law, adiabatic"},
		{"heat", "The wall alone moves it by", map[string]string{"p": "0", "dt": "1"}, 1.388, 0.01, "ideal-gas law"},
		{"space", "Vapour space", map[string]string{"tank": "60", "level": "50", "rest": "4"}, 34, 1e-3, "by hand"},
		{"egr", "Recirculated", map[string]string{"m": "8", "m0": "10", "t0": "20", "t1": "20"}, 20, 1e-3, "by hand"},
		{"torque", "N·m", map[string]string{"x": "15 lbf·ft"}, 20.3, 0.05, "NIST SP 811"},
		{"pressure", "psi", map[string]string{"x": "20 inHg"}, 9.82, 0.01, "NIST SP 811"},
		{"pressure", "inHg", map[string]string{"x": "5 kPa"}, 1.48, 0.005, "NIST SP 811"},
	} {
		t.Run(c.key, func(t *testing.T) {
			if got, said := answer(t, c.key, c.label, c.typed); math.Abs(got-c.want) > c.tol {
				t.Errorf("%s %v: %s is %s, want %v [%s]", c.key, c.typed, c.label, said, c.want, c.source)
			}
		})
	}
	if _, said := answer(t, "orifice", "Flow", map[string]string{"d": "0.020 in", "p": "13"}); !strings.Contains(said, "0.54") {
		t.Errorf("0.020 in at 13 inH2O passes %s, want 0.54 L/min", said)
	}
	if got, _ := answer(t, "make-up", "Equivalent hole", map[string]string{"q": "2.17", "p": "13"}); math.Abs(got-1.016) > 0.005 {
		t.Errorf("2.17 L/min at 13 inH2O is %v mm, want 0.040 in", got)
	}
}

// Every calculator works with its defaults, and refuses what cannot be with a
// sentence that names the field.
func TestEveryCalculator(t *testing.T) {
	keys := map[string]bool{}
	for _, c := range All {
		if keys[c.Key] || c.Name == "" || c.Use == "" || c.Source == "" || len(c.Fields) == 0 {
			t.Errorf("%s: key of its own, name, use, source and fields are needed", c.Key)
		}
		keys[c.Key] = true
		lines, err := c.Run(nil)
		if err != nil || len(lines) == 0 {
			t.Errorf("%s with its defaults: %v", c.Key, err)
		}
		for _, l := range lines {
			if strings.Contains(l.Value, "–") || strings.Contains(l.Value, "NaN") {
				t.Errorf("%s: %s is %s", c.Key, l.Label, l.Value)
			}
		}
		for _, f := range c.Fields {
			for _, bad := range []string{"soon", "1e300", "-1e300", "NaN", "13 furlongs"} {
				if _, err := c.Run(map[string]string{f.Key: bad}); err == nil || !strings.HasPrefix(err.Error(), f.Label) {
					t.Errorf("%s, %s = %q: %v", c.Key, f.Key, bad, err)
				}
			}
			if f.Kind != Plain {
				if _, ok := units.Lookup(f.Unit, f.Kind); !ok {
					t.Errorf("%s: %q is no unit of %s", c.Key, f.Unit, f.Label)
				}
			}
		}
	}
}

func TestCalculatorsRefuse(t *testing.T) {
	for key, typed := range map[string]map[string]string{"make-up": {"p": "0"}, "half-time": {"p": "0"}, "known-leak": {"k1": "10", "k2": "10"}, "space": {"level": "100", "rest": "0"}, "egr": {"m": "20"}, "manifold": {"vac": "95 kPa", "b": "950"}} {
		t.Run(key, func(t *testing.T) {
			c, _ := Find(key)
			if _, err := c.Run(typed); err == nil {
				t.Errorf("%s %v was worked out", key, typed)
			}
		})
	}
}
