package main

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"strings"
	"testing"
)

func TestSimulateCommand(t *testing.T) {
	var out, errs bytes.Buffer
	call := func(args ...string) int {
		out.Reset()
		errs.Reset()
		return run(append([]string{"simulate"}, args...), &out, &errs)
	}
	if code := call("--archetype", "na-maf,engine-vacuum", "--fault", "flange-seal:0.8mm", "--test", "decay", "--seed", "4", "--json"); code != 0 {
		t.Fatalf("%d %s", code, errs.String())
	}
	var j struct {
		Test, Archetypes, Outcome string
		Faults                    []string
		Readings                  []struct {
			Name, Unit string
			Value      float64
		}
		Log []struct {
			Leg      string
			Pressure float64 `json:"pressure_Pa"`
		}
	}
	first := out.String()
	if err := json.Unmarshal(out.Bytes(), &j); err != nil {
		t.Fatal(err)
	}
	if j.Test != "decay" || j.Outcome != "over_limit" || len(j.Readings) != 4 || len(j.Log) < 100 || j.Faults[0] != "flange-seal:0.8mm" || !strings.Contains(j.Archetypes, "no-boost") {
		t.Errorf("%s %s %v %d", j.Test, j.Outcome, j.Readings, len(j.Log))
	}
	// The same seed gives the same run, another one other noise.
	if call("--archetype", "na-maf,engine-vacuum", "--fault", "flange-seal:0.8mm", "--test", "decay", "--seed", "4", "--json"); out.String() != first {
		t.Error("the same seed gives another run")
	}
	if call("--archetype", "na-maf,engine-vacuum", "--fault", "flange-seal:0.8mm", "--test", "decay", "--seed", "5", "--json"); out.String() == first {
		t.Error("another seed gives the same noise")
	}
	if code := call("--archetype", "engine-vacuum", "--test", "decay", "--csv"); code != 0 {
		t.Fatal(errs.String())
	}
	if rows, err := csv.NewReader(&out).ReadAll(); err != nil || len(rows) < 100 || rows[0][2] != "pressure_Pa" {
		t.Errorf("%v, %d rows", err, len(rows))
	}
	if code := call("--archetype", "na-maf", "--fault", "cap:0,5", "--test", "cap-check"); code != 0 || !strings.Contains(out.String(), "outcome: falls") {
		t.Errorf("%d %s", code, out.String())
	}
	for _, x := range []struct {
		say  string
		args []string
	}{
		{"there is no archetype", []string{"--archetype", "wing", "--test", "decay"}},
		{"a car has one", []string{"--archetype", "na-maf,na-map", "--test", "decay"}},
		{"do not go together", []string{"--archetype", "na-maf,charged", "--test", "decay"}},
		{"there is no fault", []string{"--fault", "rust", "--test", "decay"}},
		{"cannot have the fault", []string{"--archetype", "na-maf", "--fault", "wastegate", "--test", "decay"}},
		{"lies between 0 and 1", []string{"--fault", "cap:-1", "--test", "decay"}},
		{"diameter is \"-2mm\"", []string{"--fault", "cap:-2mm", "--test", "decay"}},
		{"is no hole", []string{"--fault", "vent-filter:2mm", "--test", "vent-path"}},
		{"there is no test", []string{"--test", "dance"}},
		{"--test or --drive is needed", nil},
		{"it is for pressure-pump", []string{"--archetype", "na-maf", "--test", "pump-hand"}},
		{"is not for a car", []string{"--archetype", "na-maf", "--test", "boost-pressure"}},
		{"share of the tank", []string{"--level", "200%", "--test", "decay"}},
		{"not both", []string{"--json", "--csv", "--test", "decay"}},
		{"has no number", []string{"--ambient", "cold", "--test", "decay"}},
	} {
		t.Run(x.say, func(t *testing.T) {
			if code := call(x.args...); code != 2 || !strings.Contains(errs.String(), x.say) {
				t.Errorf("%v: exit %d, %q; want %q", x.args, code, errs.String(), x.say)
			}
		})
	}
}

func TestStandinCarRefusals(t *testing.T) {
	var out, errs bytes.Buffer
	for say, args := range map[string][]string{"is needed": {"standin", "--addr", "127.0.0.1:0"}, "no car": {"standin", "--car", "demo:SQ-999"}, "open to others": {"standin", "--car", "demo:SQ-102", "--addr", "0.0.0.0:0"},
		"any free ports": {"standin", "--car", "demo:SQ-102", "--car", "demo:SQ-103", "--addr", "127.0.0.1:9444"}, "the speed": {"standin", "--car", "demo:SQ-102", "--speed", "-1"}} {
		t.Run(say, func(t *testing.T) {
			errs.Reset()
			if code := run(args, &out, &errs); code == 0 || !strings.Contains(errs.String(), say) {
				t.Errorf("%v: %d %q, want %q", args, code, errs.String(), say)
			}
		})
	}
}
