package plumbing_test

import (
	"testing"

	"wexter/core/plumbing"
)

// A name in mid-sentence begins small, unless it begins with letters that stand for words.
func TestLower(t *testing.T) {
	for name, want := range map[string]string{"Purge valve": "purge valve", "PCV line": "PCV line", "EGR valve": "EGR valve", "O-ring": "O-ring", "": "", "X": "X"} {
		t.Run(name, func(t *testing.T) {
			if got := plumbing.Lower(name); got != want {
				t.Errorf("%q, want %q", got, want)
			}
		})
	}
}
