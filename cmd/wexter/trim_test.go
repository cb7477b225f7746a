package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// driveCSV writes a drive of an engine with an air meter and a hole behind its throttle: idle,
// 2500 and a pull, with that many g/s unmetered at idle and less where the manifold is less
// empty. What the control unit has learned is the long trim, in percent at idle.
func driveCSV(t *testing.T, unmetered, learned float64) string {
	t.Helper()
	var b strings.Builder
	b.WriteString("time_s,SHRTFT1,LONGFT1,RPM,MAP,MAF,VSS,ECT,FUELSYS1,BARO\n")
	for i := range 300 {
		part := i / 100
		rpm, kpa, air, road := []float64{750, 2500, 2400}[part], []float64{32, 34, 80}[part], []float64{2.4, 9, 31}[part], []float64{0, 0, 70}[part]
		u := unmetered * []float64{1, 1, 0.75}[part] // choked below half the barometer, less above
		need := u / (air - u)
		long := learned / 100 * []float64{1, 0.25, 0.05}[part]
		short := 100*((1+need)/(1+long)-1) + []float64{0.8, -0.8}[i%2]
		fmt.Fprintf(&b, "%.1f,%.2f,%.2f,%.0f,%.0f,%.2f,%.0f,90,2,101\n", float64(i)/2, short, 100*long, rpm, kpa, air-u, road)
	}
	path := filepath.Join(t.TempDir(), "drive.csv")
	if err := os.WriteFile(path, []byte(b.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

func TestTrim(t *testing.T) {
	before, after := driveCSV(t, 0.36, 12), driveCSV(t, 0, 14)
	var out, errs bytes.Buffer
	if code := run([]string{"trim", before, "--displacement", "1.6L", "--json"}, &out, &errs); code != 0 {
		t.Fatalf("code %d: %s", code, &errs)
	}
	var o trimOutput
	if err := json.Unmarshal(out.Bytes(), &o); err != nil {
		t.Fatal(err)
	}
	if o.Metering != "maf" || len(o.Points) < 3 || o.Points[0].Region != "idle" || o.Repair != nil {
		t.Errorf("metering %q, points %+v", o.Metering, o.Points)
	}
	c := o.Causes[0]
	if c.Key != "manifold-leak" || c.Unit != "mm" || c.Value == nil || *c.Low > *c.Value || *c.High < *c.Value {
		t.Fatalf("first %+v", c)
	}
	// 0.36 g/s choked at Cd 0.61, 101 kPa and 20 °C: A = ṁ·√(R·T)/(Cd·p·0.6847), gas dynamics, any
	// textbook. The pressure is far below the critical one.
	want := 1e3 * math.Sqrt(4/math.Pi*0.36e-3*math.Sqrt(287.05*293)/(0.61*101e3*0.6847))
	if math.Abs(*c.Value/want-1) > 0.1 {
		t.Errorf("%.2f mm, by hand %.2f", *c.Value, want)
	}
	sum := 0.0
	for _, c := range o.Causes {
		sum += c.Probability
	}
	if math.Abs(sum-1) > 1e-9 {
		t.Errorf("probabilities sum to %g", sum)
	}

	out.Reset()
	if code := run([]string{"trim", after, "--before", before, "--displacement", "1.6L", "--json"}, &out, &errs); code != 0 {
		t.Fatalf("code %d: %s", code, &errs)
	}
	o = trimOutput{}
	if err := json.Unmarshal(out.Bytes(), &o); err != nil {
		t.Fatal(err)
	}
	if r := o.Repair; r == nil || r.Worked == nil || !*r.Worked || !r.Relearning || r.TotalBefore["idle"] < 15 || math.Abs(r.TotalAfter["idle"]) > 2 || !strings.Contains(r.Text, "this is the repair working") {
		t.Errorf("before and after: %+v", r)
	}

	out.Reset()
	if code := run([]string{"trim", after, "--before", before}, &out, &errs); code != 0 {
		t.Fatalf("code %d: %s", code, &errs)
	}
	for _, s := range []string{"idle", "2500 without load", "s count", "before and after: Total trim: idle", "this is the repair working"} {
		if !strings.Contains(out.String(), s) {
			t.Errorf("%q is missing in:\n%s", s, &out)
		}
	}
}

func TestTrimRefuses(t *testing.T) {
	dir := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	good := driveCSV(t, 0.3, 0)
	for _, c := range []struct {
		args []string
		code int
		say  string
	}{
		{nil, 2, "name the CSV of one drive"},
		{[]string{good, good}, 2, "name the CSV of one drive"},
		{[]string{good, "--metering", "both"}, 2, "neither maf nor map"},
		{[]string{good, "--displacement", "1.6 furlongs"}, 2, "not a unit of volume"},
		{[]string{good, "--displacement", "1600L"}, 2, "cannot be"},
		{[]string{good, "--barometer", "1kPa"}, 2, "a barometer of 1 kPa cannot be"},
		{[]string{filepath.Join(dir, "nowhere.csv")}, 1, "cannot be opened"},
		{[]string{file("cold.csv", "time_s,SHRTFT1,RPM,MAF,ECT\n0,1,800,3,20\n1,2,800,3,20\n")}, 1, "never warm"},
		{[]string{file("head.csv", "0,1,800,3,20\n1,2,800,3,20\n")}, 1, "the header was expected"},
		{[]string{good, "--before", file("empty.csv", "")}, 1, "empty.csv: the file is empty"},
	} {
		var out, errs bytes.Buffer
		if code := run(append([]string{"trim"}, c.args...), &out, &errs); code != c.code || !strings.Contains(errs.String(), c.say) || out.Len() > 0 {
			t.Errorf("%v: code %d, %q, printed %d bytes", c.args, code, errs.String(), out.Len())
		}
	}
}

// TestTrimOfThePlant drives simulated cars, whose physics the analysis does not share, and reads
// their logs: the fault that they have comes first, or among those that look alike.
func TestTrimOfThePlant(t *testing.T) {
	for _, c := range []struct {
		archetype, fault string
		key              string
		mm               float64 // of a hole, 0 for none
	}{
		{"na-maf", "", "none", 0},
		{"na-maf", "booster-hose:2mm", "manifold-leak", 2},
		{"na-maf", "inlet-pipe:0.8", "inlet-leak", 0},
		{"na-maf", "air-meter:0.6", "meter-scale", 0},
		{"na-maf", "fuel-pressure:0.5", "fuel-delivery", 0},
		{"na-map", "injector-leaks:0.6", "rich-idle", 0},
		{"na-map", "booster-hose:0.5", "none", 0}, // silent, as on every such engine
		{"turbo-petrol", "cooler-tank:0.6", "charge-leak", 0},
		{"na-maf,egr-stepper", "egr-open:0.5", "egr", 0},
	} {
		t.Run(c.archetype+" "+c.fault, func(t *testing.T) {
			args := []string{"simulate", "--archetype", c.archetype, "--drive"}
			if c.fault != "" {
				args = append(args, "--fault", c.fault)
			}
			var log, out, errs bytes.Buffer
			if code := run(args, &log, &errs); code != 0 {
				t.Fatalf("code %d: %s", code, &errs)
			}
			path := filepath.Join(t.TempDir(), "drive.csv")
			if err := os.WriteFile(path, log.Bytes(), 0o600); err != nil {
				t.Fatal(err)
			}
			if code := run([]string{"trim", path, "--displacement", "1.6L", "--json"}, &out, &errs); code != 0 {
				t.Fatalf("code %d: %s", code, &errs)
			}
			var o trimOutput
			if err := json.Unmarshal(out.Bytes(), &o); err != nil {
				t.Fatal(err)
			}
			alike := []string{o.Causes[0].Key}
			for _, a := range o.Ambiguous {
				alike = append(alike, a.Keys...)
			}
			if !slices.Contains(alike, c.key) {
				t.Errorf("first %v of %s, %.2f", alike, c.key, o.Causes[0].Probability)
			}
			if x := o.Causes[0]; c.mm > 0 && (x.Key != c.key || math.Abs(*x.Value/c.mm-1) > 0.15) {
				t.Errorf("%s of %.2f mm, it has %g", x.Key, *x.Value, c.mm)
			}
		})
	}
}

func TestSimulateDriveRefuses(t *testing.T) {
	for _, c := range []struct {
		args []string
		code int
		say  string
	}{
		{[]string{"--archetype", "na-maf", "--drive", "--json"}, 2, "neither --test nor --json"},
		{[]string{"--archetype", "na-maf", "--drive", "--test", "trims"}, 2, "neither --test nor --json"},
		{[]string{"--archetype", "turbo-diesel", "--drive"}, 1, "no fuel trims"},
	} {
		var out, errs bytes.Buffer
		if code := run(append([]string{"simulate"}, c.args...), &out, &errs); code != c.code || !strings.Contains(errs.String(), c.say) {
			t.Errorf("%v: code %d, %s", c.args, code, &errs)
		}
	}
}
