package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"strings"
	"syscall"
	"testing"

	"wexter/casework"
	"wexter/core/record"
	"wexter/demo"
	"wexter/ingest"
)

func writeLog(t *testing.T, name, unit string, l ingest.Log) string {
	t.Helper()
	factor := map[string]float64{"_Pa": 1, "_inH2O": 249.089, "": 249.089}[unit]
	var b strings.Builder
	fmt.Fprintf(&b, "time_s,pressure%s\n", unit)
	for i := range l.Time {
		fmt.Fprintf(&b, "%g,%.6g\n", l.Time[i], l.Gauge[i]/factor)
	}
	path := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(path, []byte(b.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

func wexter(args ...string) (code int, out, errs string) {
	var o, e bytes.Buffer
	code = run(args, &o, &e)
	return code, o.String(), e.String()
}

func TestDecayCommand(t *testing.T) {
	k := demo.Tank{Volume: 0.042, Hole: 0.40e-3, Drift: 0.3, Noise: 3, Seed: 5}
	hold := writeLog(t, "run.csv", "_inH2O", k.Hold(3238, 240))
	drift := writeLog(t, "drift.csv", "_Pa", k.Drifting(90))
	code, out, errs := wexter("decay", hold, "--volume", "42L", "--volume-tolerance", "5%", "--drift", drift, "--json")
	if code != 0 {
		t.Fatalf("%d %s", code, errs)
	}
	var r map[string]any
	if err := json.Unmarshal([]byte(out), &r); err != nil {
		t.Fatal(err)
	}
	for _, key := range []string{"orifice_mm", "orifice_low_mm", "orifice_high_mm", "limit_mm", "verdict", "hold_more_s", "drift_pa_per_s", "settle_pa", "volume_l", "residual_pa", "budget", "warnings"} {
		if _, ok := r[key]; !ok {
			t.Errorf("%s is missing", key)
		}
	}
	if d := r["orifice_mm"].(float64); d < 0.38 || d > 0.42 || r["verdict"] != "within_limit" || r["hold_more_s"] != nil || r["limit_mm"].(float64) != 0.508 {
		t.Errorf("%v", r)
	}
	// With a reference run no volume is needed.
	k.Hole = 0.648e-3 // areas of 0.40 and 0.51 mm together
	ref := writeLog(t, "ref.csv", "_Pa", k.Hold(3238, 120))
	code, out, errs = wexter("decay", hold, "--reference-run", ref, "--reference=0.51mm", "--drift", drift)
	if code != 0 || !strings.Contains(out, "within the limit") {
		t.Errorf("%d %s%s", code, out, errs)
	}
	bare := writeLog(t, "bare.csv", "", k.Hold(3238, 60))
	two := writeLog(t, "two.csv", "_Pa", ingest.Log{Time: []float64{0, 1}, Gauge: []float64{3200, 3100}})
	for _, c := range []struct {
		args []string
		code int
		say  string
	}{
		{[]string{"decay"}, 2, "name the CSV"},
		{[]string{"decay", hold}, 2, "--volume"},
		{[]string{"decay", hold, "--volume", "42 furlong"}, 2, "not a unit of volume"},
		{[]string{"decay", hold, "--volume", "-3L"}, 2, "above zero"},
		{[]string{"decay", hold, "--volume", "42", "--cd", "7"}, 2, "coefficient"},
		{[]string{"decay", hold, "--volume", "42", "--wat"}, 2, "--wat"},
		{[]string{"decay", hold, "--volume", "42", "--reference", "0.5mm"}, 2, "go together"},
		{[]string{"decay", "none.csv", "--volume", "42"}, 1, "cannot be opened"},
		{[]string{"decay", bare, "--volume", "42"}, 1, "--pressure-unit"},
		{[]string{"decay", two, "--volume", "42"}, 1, "needs at least 6"},
		{[]string{"decay", drift, "--volume", "42"}, 1, "no leg holds a pressure"},
		{[]string{"decay", bare, "--volume", "42", "--pressure-unit", "inH2O"}, 0, ""},
		{[]string{"plan-hold"}, 2, "--volume"},
		{[]string{"plan-hold", "--volume", "42", "--json"}, 0, ""},
		{[]string{"nonsense"}, 2, "no command"},
		{nil, 2, ""},
		{[]string{"help"}, 0, ""},
		{[]string{"serve", "--addr", "0.0.0.0:9"}, 2, "open to others"},
		{[]string{"demo", "--cars", "SQ-102,SQ-999"}, 2, "no car \"SQ-999\"; it has SQ-102, "},
		{[]string{"backup", "x", "--db", "none.db"}, 1, "no shop"},
		{[]string{"export", "SQ-1", "--db", "none.db"}, 1, "no shop"},
		{[]string{"restore", "none", "--db", "none.db"}, 1, "no file"},
	} {
		t.Run(c.say, func(t *testing.T) {
			if code, _, errs := wexter(c.args...); code != c.code || !strings.Contains(errs, c.say) {
				t.Errorf("%v: %d %q; want %d and %q", c.args, code, errs, c.code, c.say)
			}
		})
	}
}

func TestATakenPortGetsASentence(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	code, _, errs := wexter("demo", "--addr", l.Addr().String())
	if code != 1 || !strings.Contains(errs, "is taken by another program") || !strings.Contains(errs, "--addr") {
		t.Errorf("%d %q", code, errs)
	}
}

// The program serves, answers a signal by closing the shop, and exits with 0; a
// case goes out and comes in over the command line to the same bytes.
func TestServeStopsCleanlyAndBundlesTravel(t *testing.T) {
	dir := t.TempDir()
	bin := filepath.Join(dir, "wexter")
	if out, err := exec.Command("go", "build", "-o", bin, ".").CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	cmd := exec.Command(bin, "serve", "--addr", "127.0.0.1:0", "--db", filepath.Join(dir, "a.db"))
	pipe, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	in := bufio.NewReader(pipe)
	said, err := in.ReadString('\n') // it says where it is once it serves
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	rest, _ := io.ReadAll(in)
	if err := cmd.Wait(); err != nil {
		t.Errorf("after SIGTERM: %v", err)
	}
	if !strings.Contains(said, "http://127.0.0.1:") || !strings.Contains(string(rest), "closed the shop") {
		t.Errorf("%q, then %q", said, rest)
	}
	if _, err := os.Stat(filepath.Join(dir, "a.db-wal")); err == nil {
		t.Error("the database was not closed: its log is still there")
	}
}

func TestHelpAndVersion(t *testing.T) {
	code, out, _ := wexter("help")
	for _, want := range []string{"EVAP", "crankcase", "EGR", "boost", "wexter version"} {
		if code != 0 || !strings.Contains(out, want) {
			t.Errorf("help, %d: no word of %q", code, want)
		}
	}
	for _, c := range []struct {
		args []string
		code int
		want string
	}{{[]string{"version"}, 0, "commit "}, {[]string{"version", "--json"}, 0, `"commit":"`}, {[]string{"version", "now"}, 2, ""}} {
		t.Run(strings.Join(c.args, " "), func(t *testing.T) {
			code, out, _ := wexter(c.args...)
			if code != c.code || !strings.Contains(out, c.want) {
				t.Errorf("%d %q", code, out)
			}
		})
	}
}

// The demo lists what a whole car says of its instruments, each at its own case.
func TestCarInstrument(t *testing.T) {
	for _, c := range []struct {
		line string
		want casework.NewDevice
		ok   bool
	}{
		{"The adapter scan adapter of SQ-109 is at 127.0.0.1:4100", casework.NewDevice{Kind: record.Adapter, Name: "scan adapter SQ-109", Address: "127.0.0.1:4100", For: "SQ-109"}, true},
		{"The module pressure module of SQ-102 is at 127.0.0.1:4101", casework.NewDevice{Kind: record.Module, Name: "pressure module SQ-102", Address: "127.0.0.1:4101", For: "SQ-102"}, true},
		{"The tool multimeter of SQ-102 is at 127.0.0.1:4102", casework.NewDevice{Kind: record.Module, Name: "multimeter SQ-102", Address: "127.0.0.1:4102", For: "SQ-102"}, true},
		{"The tool technician of SQ-102 is at 127.0.0.1:4102", casework.NewDevice{}, false},
		{"The adapter scan adapter of SQ-103 is at 127.0.0.1:4103", casework.NewDevice{Kind: record.Adapter, Name: "scan adapter SQ-7", Address: "127.0.0.1:4103", For: "SQ-7"}, true},
		{"something else", casework.NewDevice{}, false},
	} {
		t.Run(c.line, func(t *testing.T) {
			if got, ok := carInstrument(c.line, map[string]string{"SQ-109": "SQ-109", "SQ-102": "SQ-102", "SQ-103": "SQ-7"}); !reflect.DeepEqual(got, c.want) || ok != c.ok {
				t.Errorf("%+v %v", got, ok)
			}
		})
	}
}
