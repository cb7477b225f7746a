package main

import (
	"bytes"
	"encoding/json"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// call runs the program and returns its exit code and what it printed.
func call(t *testing.T, args ...string) (code int, out, errs string) {
	t.Helper()
	var o, e bytes.Buffer
	code = run(args, &o, &e)
	return code, o.String(), e.String()
}

func TestDiagnose(t *testing.T) {
	file := filepath.Join("..", "..", "docs", "cases", "vapour.json")
	code, out, errs := call(t, "diagnose", file, "--json")
	if code != 0 {
		t.Fatal(errs)
	}
	var d diagnosed
	if err := json.Unmarshal([]byte(out), &d); err != nil {
		t.Fatal(err)
	}
	sum, last := 0.0, 1.0
	for _, x := range d.Suspects {
		if sum += x.Probability; x.Probability > last+1e-12 {
			t.Errorf("%s at %g stands behind %g", x.Fault, x.Probability, last)
		}
		last = x.Probability
	}
	if math.Abs(sum-1) > 1e-6 || !slices.ContainsFunc(d.Suspects, func(x diagnosedOdds) bool { return x.Fault == "none-now" }) || !slices.ContainsFunc(d.Suspects, func(x diagnosedOdds) bool { return strings.Contains(x.Fault, "+") }) {
		t.Errorf("%d suspects sum to %g", len(d.Suspects), sum)
	}
	if len(d.Next) < 5 || d.Next[0].Minutes <= 0 || d.Next[0].Why == "" || len(d.Parts) < 30 {
		t.Errorf("next: %+v", d.Next[:min(2, len(d.Next))])
	}
	kinds := map[string]bool{}
	for _, n := range d.Next {
		if kinds[n.Kind] = true; (n.Kind == "test") != (n.Test != "") || n.Name == "" || n.Currency == "" || n.Kind == "replace" && (n.Money <= 0 || n.Fault == "") || n.Kind == "wait" && n.WaitDays == 0 {
			t.Errorf("%+v", n)
		}
	}
	if !kinds["test"] || !kinds["replace"] || !kinds["drive"] || !kinds["stop"] {
		t.Errorf("kinds of move: %v", kinds)
	}
	code, out, _ = call(t, "diagnose", "--kit", "eyes,caps,u-tube", file)
	if code != 0 || !strings.Contains(out, "would help: ") || strings.Contains(out, "\n  smoke ") {
		t.Errorf("with little kit:\n%s", out)
	}
	if code, out, _ = call(t, "diagnose", file); code != 0 || !strings.Contains(out, "\nor replace without testing: ") || !strings.Contains(out, "cheaper than testing only above ") {
		t.Errorf("what renewing costs is not said:\n%s", out)
	}
	// Two faults at once: each part's own odds are said beside the pairs'.
	code, out, _ = call(t, "diagnose", filepath.Join("..", "..", "docs", "cases", "boost.json"))
	if _, parts, ok := strings.Cut(out, "odds of a part, alone or with another\n"); code != 0 || !ok || !strings.Contains(strings.SplitN(parts, "\n", 2)[0], "cooler-tank ") {
		t.Errorf("the odds of the parts:\n%s", out)
	}
	dir := t.TempDir()
	write := func(text string) string {
		p := filepath.Join(dir, "case.json")
		if err := os.WriteFile(p, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return p
	}
	for _, x := range []struct {
		args []string
		code int
		say  string
	}{
		{nil, 2, "one case file"},
		{[]string{"a", "b"}, 2, "one case file"},
		{[]string{filepath.Join(dir, "gone.json")}, 1, "gone.json"},
		{[]string{"--kit", "wand", file}, 2, "there is no kit \"wand\""},
		{[]string{write(`{"schema": "wexter-diagnose/1", "archetypes": ["na-maf"], "signs": {"smel": true}}`)}, 1, "the nearest are smell"},
	} {
		t.Run(x.say, func(t *testing.T) {
			code, _, errs := call(t, append([]string{"diagnose"}, x.args...)...)
			if code != x.code || !strings.Contains(errs, x.say) {
				t.Errorf("%v: %d, %s", x.args, code, errs)
			}
		})
	}
}
