package main

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func tried(t *testing.T, want int, args ...string) (out, errs string) {
	t.Helper()
	var o, e bytes.Buffer
	if code := run(args, &o, &e); code != want {
		t.Fatalf("%v: code %d, want %d: %s", args, code, want, e.String())
	}
	return o.String(), e.String()
}

// What scripts rely on: archetypes, faults, tests and outcomes by key, with names.
func TestVocabularyCommand(t *testing.T) {
	out, _ := tried(t, 0, "vocabulary", "--json")
	var v struct {
		Archetypes []struct{ Key, Name, Family string }
		Faults     []struct {
			Key, Name, Family string
			Tests             []string
		}
		Tests []struct {
			Key, Name string
			Outcomes  []struct{ Key, Name string }
		}
		Combinations int
	}
	if err := json.Unmarshal([]byte(out), &v); err != nil {
		t.Fatal(err)
	}
	seen := map[string]bool{}
	for _, a := range v.Archetypes {
		seen[a.Family+"/"+a.Key] = a.Name != ""
	}
	for _, k := range []string{"early-ported", "engine-vacuum", "pressure-pump", "pump-current", "pump-absolute", "eonv-switch-remote", "eonv-switch-canister", "eonv-sensor", "sealed-hybrid"} {
		if !seen["vapour/"+k] {
			t.Errorf("no archetype %s", k)
		}
	}
	tests := map[string]bool{}
	for _, x := range v.Tests {
		tests[x.Key] = len(x.Outcomes) > 1 && x.Outcomes[0].Name != ""
	}
	for _, f := range v.Faults {
		if f.Name == "" || f.Family == "" || len(f.Tests) == 0 || !tests[f.Tests[0]] {
			t.Errorf("%+v", f)
		}
	}
	if len(v.Faults) < 75 || len(v.Tests) < 20 || v.Combinations < 200 {
		t.Errorf("%d faults, %d tests, %d cars", len(v.Faults), len(v.Tests), v.Combinations)
	}
	plain, _ := tried(t, 0, "vocabulary")
	for _, want := range []string{"purge-valve", "faults, crankcase", "within_limit", "cars are possible"} {
		if !strings.Contains(plain, want) {
			t.Errorf("not printed: %s", want)
		}
	}
	tried(t, 2, "vocabulary", "everything")
	if _, errs := tried(t, 1, "vocabulary", "--book", "/nowhere"); !strings.Contains(errs, "the shop's pages") {
		t.Error(errs)
	}
}

func TestMapCommand(t *testing.T) {
	file := filepath.Join(t.TempDir(), "map.svg")
	out, _ := tried(t, 0, "map", "--engine", "turbo-petrol", "--boost", "charged-jet", "--crankcase", "regulator-turbo", "--recirculation", "egr-motor", "--vapour", "eonv-sensor", "--out", file)
	if !strings.Contains(out, file) {
		t.Error(out)
	}
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	d := xml.NewDecoder(bytes.NewReader(data))
	for {
		if _, err := d.Token(); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			t.Fatalf("not well formed: %v", err)
		}
	}
	for _, want := range []string{"jet pump", "wastegate", "proven tight", "<style>"} {
		if !strings.Contains(string(data), want) {
			t.Errorf("not on the map: %s", want)
		}
	}
	if _, errs := tried(t, 2, "map", "--engine", "turbo-petrol"); !strings.Contains(errs, "a turbo engine has a charge side") {
		t.Error(errs)
	}
	if _, errs := tried(t, 2, "map", "--vapour", "steam"); !strings.Contains(errs, "known are engine-vacuum") {
		t.Error(errs)
	}
	if again, _ := tried(t, 0, "map"); !strings.Contains(again, "air meter") {
		t.Error("the plain map has no air meter")
	}
}
