package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"wexter/core/sim"
	"wexter/instrument"
	"wexter/standin"
)

// What scripts rely on: the keys of the JSON, and exit codes.
func TestScanCommand(t *testing.T) {
	file := filepath.Join(t.TempDir(), "scan.txt")
	text := "> 0101\n7E8 06 41 01 81 07 65 04\n> 03\n7E8 04 43 01 04 56\n> 02\n7E8 05 42 02 00 04 56\n7E8 05 42 0C 00 0A BE\n7E8 04 41 32 FF 00\nNO DATA\n"
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	var out, errs bytes.Buffer
	if code := run([]string{"scan", file, "--json"}, &out, &errs); code != 0 {
		t.Fatalf("%d %s", code, errs.String())
	}
	var j struct {
		Codes     []map[string]string
		Readiness map[string]string
		Lamp      *bool
		Live      map[string]struct {
			Name, Unit string
			Value      float64
		}
		Freeze   map[string]any
		Vin      *string
		Warnings []string
	}
	if err := json.Unmarshal(out.Bytes(), &j); err != nil {
		t.Fatal(err)
	}
	if len(j.Codes) != 1 || j.Codes[0]["code"] != "P0456" || j.Codes[0]["status"] != "stored" || j.Codes[0]["ecu"] != "7E8" || j.Readiness["evap"] != "incomplete" || j.Lamp == nil || !*j.Lamp {
		t.Errorf("%+v", j)
	}
	if v := j.Live["32"]; v.Value != -64 || v.Unit != "Pa" || v.Name == "" || j.Freeze["code"] != "P0456" || j.Freeze["0C"].(map[string]any)["value"] != 687.5 || j.Vin == nil || len(j.Warnings) != 1 {
		t.Errorf("%+v", j)
	}
	out.Reset()
	if code := run([]string{"scan", file}, &out, &errs); code != 0 || !strings.Contains(out.String(), "very small leak") || !strings.Contains(out.String(), "687.5") {
		t.Errorf("%d %s", code, out.String())
	}
	for want, args := range map[int][][]string{1: {{"scan", "/nope"}, {"scan", os.DevNull}}, 2: {{"scan"}, {"scan", file, file}, {"scan", file, "--loud"}}} {
		t.Run(fmt.Sprint(want), func(t *testing.T) {
			for _, a := range args {
				if code := run(a, &out, &errs); code != want {
					t.Errorf("%v: exit %d, want %d", a, code, want)
				}
			}
		})
	}
}

func TestStandinCommand(t *testing.T) {
	m, err := standin.NewModule(sim.Vessel{Volume: 0.01}, standin.Model{Name: "m", Range: 3000, Rate: 10, Speed: 20})
	if err != nil {
		t.Fatal(err)
	}
	l, err := instrument.Listen("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go func() { _ = standin.Serve(ctx, l, m) }()
	at := l.Addr().String()
	for _, c := range []struct {
		code int
		say  string
		args []string
	}{
		{0, "charge 5inH2O: done", []string{"tell", at, "charge", "5inH2O"}}, {1, "does not know", []string{"tell", at, "sing"}}, {2, "is not a unit", []string{"tell", at, "charge", "5 furlongs"}},
		{2, "tell ADDRESS", []string{"tell", at}}, {2, "say which", nil}, {2, "no stand-in", []string{"kettle"}}, {1, "no scan adapter", []string{"tell", at, "mute"}}, {1, "nothing answers", []string{"tell", "127.0.0.1:1", "open"}},
		{2, "this computer only", []string{"module", "--addr", "0.0.0.0:0"}}, {2, "the volume", []string{"module", "--volume", "0L"}}, {1, "no car", []string{"adapter", "--car", "demo:none"}}, {1, "no such file", []string{"adapter", "--car", "/nope"}},
		{1, "no such file", []string{"module", "--replay", "/nope"}}, {2, "one word too many", []string{"module", "more"}},
	} {
		t.Run(c.say, func(t *testing.T) {
			var out, errs bytes.Buffer
			if code := run(append([]string{"standin"}, c.args...), &out, &errs); code != c.code || !strings.Contains(out.String()+errs.String(), c.say) {
				t.Errorf("%v: %d %s%s, want %d %q", c.args, code, out.String(), errs.String(), c.code, c.say)
			}
		})
	}
}
