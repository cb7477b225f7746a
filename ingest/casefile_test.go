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
		`short and long, both`:                                   `{"schema": "wexter-diagnose/1", ` + car + `, "trims": [{"at": "idle", "short": 4}]}`,
		`bank 1 and bank 2, not 3`:                               `{"schema": "wexter-diagnose/1", ` + car + `, "trims": [{"at": "idle", "percent": 4, "bank": 3}]}`,
		`it stands there twice`:                                  `{"schema": "wexter-diagnose/1", ` + car + `, "trims": [{"at": "idle", "percent": 4}, {"at": "idle", "percent": 9}]}`,
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
		"no EVAP system":                                      `{"schema": "wexter-diagnose/1", "archetypes": ["turbo-diesel"], "tests": [{"test": "smoke", "outcome": "none"}]}`,
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
	for say, text := range map[string]string{"begins with": "a,b,c,d,e,f,g,h,i,j,k\n", "line 2": head + "trims,,,,,,caps,9,0,,\n", "is no number": head + "trims,,,,,,caps,0,0,,runs two 1 1 1 1 1\n", "9 channels": head + "trims,,,,,,caps,0,0,,1 2\n", "no test": head + "flux,,,,,,caps,0,0,,1\n", "wrong number of fields": head + "trims\n"} {
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

// odds are those of a fault after a case file whose body is given.
func oddsAfter(t *testing.T, archetypes, body, fault string) float64 {
	t.Helper()
	b := Book()
	text := `{"schema": "wexter-diagnose/1", "archetypes": [` + archetypes + `]` + body + `}`
	_, car, h, err := ReadCase(b, []byte(text))
	if err != nil {
		t.Fatalf("%s: %v", text, err)
	}
	m, err := diagnose.New(b, Table(), car)
	if err != nil {
		t.Fatal(err)
	}
	s, err := m.Think(h)
	if err != nil {
		t.Fatalf("%s: %v", text, err)
	}
	return s.Odds(fault)
}

// What a case file can say moves the odds of what it is about, the stronger word more: the
// first body leaves the fault likelier than the second.
func TestWhatACaseFileSays(t *testing.T) {
	const plain, unseen, pump, vacuum = `"na-maf", "engine-vacuum"`, `"na-maf", "egr-motor", "engine-vacuum"`, `"na-maf", "pump-current"`, `"na-maf", "egr-vacuum", "engine-vacuum"`
	for _, x := range []struct{ name, car, fault, more, less string }{
		{"stored before pending", plain, "purge-valve", `, "codes": ["P0496"]`, `, "codes": ["P0496 pending"]`},
		{"pending before nothing", plain, "purge-valve", `, "codes": ["P0496 pending"]`, ``},
		{"stored before permanent", plain, "purge-valve", `, "codes": ["P0496"]`, `, "codes": ["P0496 permanent"]`},
		{"missing, and its monitor has run", plain, "purge-valve", ``, `, "complete": ["evap", "fuel"]`},
		{"missing, and its monitor has not run", plain, "purge-valve", `, "complete": ["fuel"]`, `, "complete": ["evap", "fuel"]`},
		{"frozen at idle", plain, "manifold-gasket", `, "codes": ["P0171"], "frames": [{"code": "P0171", "at": ["idle"]}]`, `, "codes": ["P0171"]`},
		{"frozen under load", plain, "fuel-pressure", `, "codes": ["P0171"], "frames": [{"code": "P0171", "at": ["load"]}]`, `, "codes": ["P0171"]`},
		{"frozen cold", plain, "exhaust-leak", `, "codes": ["P0171"], "frames": [{"code": "P0171", "at": ["cold"]}]`, `, "codes": ["P0171"]`},
		{"frozen with a full tank", plain, "canister-drowned", `, "codes": ["P0172"], "frames": [{"code": "P0172", "at": ["full"]}]`, `, "codes": ["P0172"]`},
		{"the hunt made it", plain, "purge-circuit", `, "codes": ["P0444"]`, `, "codes": ["P0444"], "made": ["P0444"]`},
		{"short and long", plain, "manifold-gasket", `, "trims": [{"at": "idle", "short": 8, "long": 16}]`, `, "trims": [{"at": "idle", "short": -2, "long": 3}]`},
		{"open loop says nothing", plain, "manifold-gasket", `, "trims": [{"at": "idle", "percent": 25}]`, `, "trims": [{"at": "idle", "percent": 25, "open_loop": true}]`},
		{"one bank", plain, "oxygen-sensor", `, "trims": [{"at": "idle", "percent": 22, "bank": 1}, {"at": "idle", "percent": 1, "bank": 2}]`, `, "trims": [{"at": "idle", "percent": 12, "bank": 1}, {"at": "idle", "percent": 11, "bank": 2}]`},
		{"codes of both banks", plain, "fuel-pressure", `, "codes": ["P0171", "P0174"]`, `, "codes": ["P0171"]`},
		{"missing is more than damaged", plain, "canister-coupler", `, "tests": [{"test": "look", "part": "coupler", "outcome": "missing"}]`, `, "tests": [{"test": "look", "part": "coupler", "outcome": "seen"}]`},
		{"a smell at a place", plain, "neck", `, "smelt": ["neck"]`, ``},
		{"the pump alone fails", pump, "pump-diaphragm", `, "tests": [{"test": "pump-self-test", "readings": {"section": "pump", "ran": "yes", "share": 60}}]`, `, "tests": [{"test": "pump-self-test", "readings": {"section": "pump", "ran": "yes", "share": 150}}]`},
		{"pump and canister fail", pump, "canister-shell", `, "tests": [{"test": "pump-self-test", "readings": {"section": "canister", "ran": "yes", "share": 50}}]`, `, "tests": [{"test": "pump-self-test", "readings": {"section": "canister", "ran": "yes", "share": 150}}]`},
		{"hot gas behind a shut valve", unseen, "egr-open-unseen", `, "signs": {"egr-gas-hot": true}`, `, "signs": {"egr-gas-hot": false}`},
		{"the bench finds what the position hides", unseen, "egr-open-unseen", `, "tests": [{"test": "valve-bench", "part": "egr-valve", "outcome": "leaks"}]`, `, "tests": [{"test": "valve-bench", "part": "egr-valve", "outcome": "good"}]`},
		{"five cycles that do not seal are all but certain", plain, "purge-valve", `, "tests": [{"test": "valve-bench", "part": "purge-valve", "outcome": "leaks"}]`, `, "tests": [{"test": "purge-running", "outcome": "stumble"}]`},
		{"a gauge that pulls tells more than a look", plain, "purge-valve", `, "tests": [{"test": "purge-running", "outcome": "pull"}]`, `, "tests": [{"test": "look", "outcome": "clean"}]`},
		{"coolant goes", unseen, "egr-cooler-leaks", `, "signs": {"coolant-goes": true}`, ``},
		{"a thermostat", plain, "thermostat", `, "codes": ["P0128"]`, ``},
		{"hoses, by their volts", vacuum, "dp-hoses", `, "tests": [{"test": "egr-vacuum", "outcome": "stumbles"}, {"test": "egr-ramp", "outcome": "blind"}]`, `, "tests": [{"test": "egr-vacuum", "outcome": "no-flow"}]`},
	} {
		t.Run(x.name, func(t *testing.T) {
			if a, b := oddsAfter(t, x.car, x.more, x.fault), oddsAfter(t, x.car, x.less, x.fault); !(a > 1.1*b) {
				t.Errorf("%s at %.4f with %s, %.4f with %s", x.fault, a, x.more, b, x.less)
			}
		})
	}
}

// What can be read but cannot be is told in a sentence when it is weighed.
func TestWhatCannotBeWeighed(t *testing.T) {
	b := Book()
	for say, body := range map[string]string{
		`does not try "tank"; on this car it tries `:    `"tests": [{"test": "valve-bench", "part": "tank", "outcome": "good"}]`,
		`a freeze frame is of idle, load, cold or full`: `"frames": [{"code": "P0171", "at": ["noon"]}]`,
		`this car has no part "nec"; the nearest are`:   `"smelt": ["nec"]`,
	} {
		_, car, h, err := ReadCase(b, []byte(`{"schema": "wexter-diagnose/1", "archetypes": ["na-maf", "engine-vacuum"], `+body+`}`))
		if err != nil {
			t.Fatal(err)
		}
		m, err := diagnose.New(b, Table(), car)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := m.Think(h); err == nil || !strings.Contains(err.Error(), say) {
			t.Errorf("%s: %v; want %s", body, err, say)
		}
	}
}

// What is decisive in a bay leaves no doubt worth the name.
func TestDecisiveReadings(t *testing.T) {
	for _, x := range []struct{ car, fault, body string }{
		{`"na-maf", "engine-vacuum"`, "purge-valve", `, "codes": ["P0496"], "tests": [{"test": "purge-running", "outcome": "pull"}]`},
		{`"na-maf", "engine-vacuum"`, "purge-circuit", `, "codes": ["P0444"], "tests": [{"test": "circuit-walk", "part": "purge-valve", "outcome": "coil"}]`},
		{`"na-maf", "engine-vacuum"`, "vent-filter", `, "codes": ["P0446"], "tests": [{"test": "vent-path", "outcome": "blocked"}]`},
		{`"na-maf", "engine-vacuum"`, "tank-sensor", `, "codes": ["P0452"], "tests": [{"test": "sensor-check", "part": "tank-sensor", "outcome": "false-zero"}]`},
		{`"turbo-petrol", "engine-vacuum"`, "manifold-check", `, "codes": ["P0299"], "tests": [{"test": "check-valve", "part": "manifold-check", "outcome": "both"}]`},
		{`"turbo-diesel", "egr-motor"`, "egr-motor", `, "codes": ["P0403"], "tests": [{"test": "egr-coils", "part": "egr-valve", "outcome": "coil"}]`},
	} {
		if p := oddsAfter(t, x.car, x.body, x.fault); p < 0.9 {
			t.Errorf("%s at %.2f after %s", x.fault, p, x.body)
		}
	}
}
