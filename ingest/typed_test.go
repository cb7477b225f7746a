package ingest_test

import (
	"math"
	"strings"
	"testing"

	"wexter/core/bench"
	"wexter/core/knowledge"
	"wexter/ingest"
)

// What is typed for a reading is read as a person means it; what cannot be one is said in a sentence.
func TestReadChannel(t *testing.T) {
	volts := bench.Channel{Key: "v", Unit: "V", Low: -32, High: 32}
	ohms := bench.Channel{Key: "r", Unit: "ohm", High: 1e9, Open: true}
	line := bench.Channel{Key: "n", Kind: bench.Text}
	for _, c := range []struct {
		of    bench.Channel
		typed string
		want  float64
		word  string
		say   string // of an error
	}{
		{of: volts, typed: "12,4", want: 12.4},
		{of: volts, typed: "−12.4 V", want: -12.4},
		{of: volts, typed: "OL", say: "no figure"},
		{of: volts, typed: "twelve", say: "twelve"},
		{of: volts, typed: "NaN", say: "NaN"},
		{of: ohms, typed: "0L", want: math.Inf(1)},
		{of: ohms, typed: "4,7 kΩ", want: 4700},
		{of: ohms, typed: "2 Mohm", want: 2e6},
		{of: ohms, typed: "> 20 MΩ", want: math.Inf(1)},
		{of: ohms, typed: "> 20", say: "give what was read, or OL"},
		{of: line, typed: "  F12; under the bonnet,\tleft ", word: "F12; under the bonnet, left"},
		{of: line, typed: strings.Repeat("x", 121), say: "at most 120"},
		{of: line, typed: "a\x00b", say: "at most 120"},
		{of: line, typed: "a\xffb", say: "at most 120"},
	} {
		t.Run(c.typed, func(t *testing.T) {
			r, ok, err := ingest.ReadChannel(c.of, knowledge.Reading{Key: c.of.Key, Name: "the reading"}, []string{c.typed})
			switch {
			case c.say != "":
				if err == nil || !strings.Contains(err.Error(), c.say) {
					t.Errorf("%v, %v", r, err)
				}
			case err != nil || !ok:
				t.Errorf("%v, %v", ok, err)
			case c.word != "":
				if len(r.Words) != 1 || r.Words[0] != c.word {
					t.Errorf("%q", r.Words)
				}
			case len(r.Numbers) != 1 || r.Numbers[0] != c.want:
				t.Errorf("%v, not %g", r.Numbers, c.want)
			}
		})
	}
	if _, ok, err := ingest.ReadChannel(line, knowledge.Reading{}, []string{" \t "}); ok || err != nil {
		t.Errorf("a blank line: %v, %v", ok, err)
	}
}
