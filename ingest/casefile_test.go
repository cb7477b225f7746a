package ingest

import (
	"math"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"wexter/core/bench"
	"wexter/core/diagnose"
)

// The worked cases of the documentation are read and weighed, and what they are about
// comes out first.
func TestWorkedCases(t *testing.T) {
	b := Book()
	for file, want := range map[string][]string{"vapour": {"vapour-line", "flange-seal", "cap", "neck", "rollover-grommet", "neck-hose"}, "intake": {"caps", "manifold-gasket", "booster-hose", "purge-fitting", "pcv-line"},
		"crankcase": {"dipstick-seal", "inlet-check", "regulator"}, "recirculation": {"dp-sensor", "dp-hoses", "egr-diaphragm"}, "boost": {"cooler-tank"}} {
		t.Run(file, func(t *testing.T) {
			data, err := os.ReadFile(filepath.Join("..", "docs", "cases", file+".json"))
			if err != nil {
				t.Fatal(err)
			}
			_, car, h, err := ReadCase(b, data)
			if err != nil {
				t.Errorf("%s: %v", file, err)
				return
			}
			m, err := diagnose.New(b, Table(), car)
			if err != nil {
				t.Fatal(err)
			}
			s, err := m.Think(h)
			if err != nil {
				t.Errorf("%s: %v", file, err)
				return
			}
			p := 0.0
			for _, k := range want {
				p += s.Odds(k)
			}
			if p < 0.45 {
				t.Errorf("%s: %v have %.2f; first is %v", file, want, p, s.Explanations()[0])
			}
		})
	}
}

func TestCaseFilesThatCannotBe(t *testing.T) {
	b := Book()
	const car = `"archetypes": ["na-maf", "engine-vacuum"]`
	for say, text := range map[string]string{
		`its "schema" is "x/1"`:                                  `{"schema": "x/1"}`,
		`there is no field "codse"; the nearest are code, codes`: `{"schema": "wexter-diagnose/1", "codse": []}`,
		"line 2":                "{\"schema\": \"wexter-diagnose/1\",\n \"km\": \"far\"}",
		"it ends in the middle": `{"schema": "wexter-diagnose/1"`,
		"goes on after its end": `{"schema": "wexter-diagnose/1"} {}`,
		`no archetype "engine-vacum"; the nearest are engine`: `{"schema": "wexter-diagnose/1", "archetypes": ["engine-vacum"]}`,
		"are both of the family engine":                       `{"schema": "wexter-diagnose/1", "archetypes": ["na-maf", "na-map"]}`,
		"do not go together":                                  `{"schema": "wexter-diagnose/1", "archetypes": ["turbo-diesel", "engine-vacuum"]}`,
		"cannot be":                                           `{"schema": "wexter-diagnose/1", "age_years": -3}`,
		`no kit "smoek"; the nearest are smoke`:               `{"schema": "wexter-diagnose/1", "kit": ["smoek"]}`,
		"is not a trouble code":                               `{"schema": "wexter-diagnose/1", ` + car + `, "codes": ["lamp"]}`,
		`no monitor "evpa"; the nearest are evap`:             `{"schema": "wexter-diagnose/1", ` + car + `, "codes": ["P0442"], "complete": ["evpa"]}`,
		`no such test; the nearest are smoke`:                 `{"schema": "wexter-diagnose/1", ` + car + `, "tests": [{"test": "smok"}]}`,
		`smoke cannot be let in at "canister"`:                `{"schema": "wexter-diagnose/1", ` + car + `, "tests": [{"test": "smoke", "part": "canister", "outcome": "none"}]}`,
		`is no line with a plug point`:                        `{"schema": "wexter-diagnose/1", ` + car + `, "tests": [{"test": "decay", "mm": 1, "low_mm": 1, "high_mm": 1, "plugs": ["cap"]}]}`,
		"mm, low_mm and high_mm":                              `{"schema": "wexter-diagnose/1", ` + car + `, "tests": [{"test": "decay", "mm": 1}]}`,
		"between 2 and 1 mm cannot be":                        `{"schema": "wexter-diagnose/1", ` + car + `, "tests": [{"test": "decay", "mm": 1, "low_mm": 2, "high_mm": 1}]}`,
		"only a hold has a diameter":                          `{"schema": "wexter-diagnose/1", ` + car + `, "tests": [{"test": "cap-check", "part": "cap", "outcome": "holds", "mm": 1}]}`,
		"only a hold, smoke":                                  `{"schema": "wexter-diagnose/1", ` + car + `, "tests": [{"test": "trims", "outcome": "normal", "plugs": ["vapour-line"]}]}`,
		`it has no reading "trim"`:                            `{"schema": "wexter-diagnose/1", ` + car + `, "tests": [{"test": "trims", "readings": {"trim": 3}}]}`,
		`the reading "crankcase, idle"`:                       `{"schema": "wexter-diagnose/1", ` + car + `, "tests": [{"test": "crankcase-manometer", "readings": {"crankcase, idle": "4 furlongs"}}]}`,
		"a repair begins an epoch":                            `{"schema": "wexter-diagnose/1", ` + car + `, "repairs": [{"fault": "cap"}]}`,
		"epoch 1: it begins with no repair":                   `{"schema": "wexter-diagnose/1", ` + car + `, "epochs": [{}]}`,
		"no vapour system":                                    `{"schema": "wexter-diagnose/1", "archetypes": ["turbo-diesel"], "tests": [{"test": "smoke", "outcome": "none"}]}`,
		"larger than 1 MB":                                    `{"schema": "` + strings.Repeat("x", maxCaseBytes) + `"}`,
	} {
		t.Run(say, func(t *testing.T) {
			if _, _, _, err := ReadCase(b, []byte(text)); err == nil || !strings.Contains(err.Error(), say) {
				t.Errorf("%.120s: %v; want %s", text, err, say)
			}
		})
	}
	if k, err := ReadKit(b, "smoke, caps"); err != nil || len(k) != 2 {
		t.Errorf("%v %v", k, err)
	}
	if _, err := ReadKit(b, "smoke,wand"); err == nil {
		t.Error("a wand")
	}
}

func TestReadFigure(t *testing.T) {
	for _, x := range []struct {
		typed, unit string
		want        float64
	}{{"13", "inH2O", 13}, {"3,2 kPa", "inH2O", 12.8468137}, {"-4.4 kPa", "inH2O", -17.664369}, {"50 kPa", "inHg", 14.764986}, {"12 %", "%", 12}, {"12.4V", "V", 12.4}, {"5", "", 5}, {"68 °F", "°C", 20}, {"1 Ω", "ohm", math.Inf(1)}} {
		t.Run(x.typed, func(t *testing.T) {
			got, err := ReadFigure(x.typed, x.unit)
			if math.IsInf(x.want, 1) {
				if err == nil {
					t.Errorf("%q in %q is swallowed", x.typed, x.unit)
				}
				return
			}
			if err != nil || math.Abs(got-x.want) > 1e-4 {
				t.Errorf("%q in %q: %g, %v; want %g", x.typed, x.unit, got, err, x.want)
			}
		})
	}
	if v, err := ReadFigure("  ", "inH2O"); err != nil || !math.IsNaN(v) {
		t.Errorf("nothing read: %g, %v", v, err)
	}
	for _, bad := range []string{"NaN", "inf", "lots", "1e999", "0x10"} {
		if _, err := ReadFigure(bad, "V"); err == nil {
			t.Errorf("%q is a figure", bad)
		}
	}
}

// The table of readings: written and read it is the same, and what is wrong names the line.
func TestReadings(t *testing.T) {
	rows := []diagnose.Row{{Test: "trims", Fault: "caps", Severity: 4, Spread: 1, Readings: bench.Readings{"idle": bench.Num(21.6), "fast": bench.Num(8), "loaded": bench.Num(-2.5)}}, {Test: diagnose.Codes, Fault: "cap", Codes: "P0442 P0455"},
		{Test: "trims", Fault: "caps", Readings: bench.Readings{"engine": bench.Said("stalls")}}, {Test: "valve-bench", Part: "purge-valve", Readings: bench.Readings{"coil": bench.Num(math.Inf(1)), "sealed": bench.CountOf(3, 5)}},
		{Test: "smoke", Readings: bench.Readings{"exits": {Places: []bench.Place{{Part: "neck", Size: "stream"}, {Part: "tailpipe", Size: "wisp", Expected: true}}}, "clear": {}}}}
	got, err := ReadReadings(WriteReadings(rows))
	if err != nil || len(got) != len(rows) {
		t.Fatalf("%d rows, %v", len(got), err)
	}
	for i, r := range got {
		if r.Key() != rows[i].Key() || r.Part != rows[i].Part || r.Codes != rows[i].Codes || !reflect.DeepEqual(r.Readings, rows[i].Readings) {
			t.Errorf("%+v came back as %+v", rows[i], r)
		}
	}
	head := strings.Join(readingsHead, ",") + "\n"
	for say, text := range map[string]string{"begins with": "a,b,c,d,e,f,g,h,i,j,k\n", "line 2": head + "trims,,,,,,caps,9,0,,\n", "is no number": head + "trims,,,,,,caps,0,0,,runs two 1 1 1 1 1\n", "7 channels": head + "trims,,,,,,caps,0,0,,1 2\n", "no test": head + "flux,,,,,,caps,0,0,,1\n", "wrong number of fields": head + "trims\n"} {
		t.Run(say, func(t *testing.T) {
			if _, err := ReadReadings([]byte(text)); err == nil || !strings.Contains(err.Error(), say) {
				t.Errorf("%q: %v", text, err)
			}
		})
	}
}

func FuzzReadCase(f *testing.F) {
	b := Book()
	for _, n := range []string{"vapour", "boost", "intake"} {
		data, err := os.ReadFile(filepath.Join("..", "docs", "cases", n+".json"))
		if err != nil {
			f.Fatal(err)
		}
		f.Add(data)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		_, car, h, err := ReadCase(b, data)
		if err != nil {
			return
		}
		m, err := diagnose.New(b, Table(), car)
		if err != nil {
			t.Fatal(err)
		}
		s, err := m.Think(h)
		if err != nil {
			return
		}
		sum := 0.0
		for _, e := range s.Explanations() {
			sum += e.Odds
		}
		if math.Abs(sum-1) > 1e-6 {
			t.Errorf("odds sum to %g", sum)
		}
	})
}
