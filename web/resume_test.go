package web

import (
	"fmt"
	"testing"
)

// The id of an event leads back to the readings after it; anything else begins again.
func FuzzResumeAt(f *testing.F) {
	for _, s := range []string{"6f1c.170", "", ".", "a.-3", "a.1.2", "a.99999999999999999999", "run", "a.+5", "é.7"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, id string) {
		run, from := resumeAt(id)
		if from < 0 || from > 0 && run == "" && id[0] != '.' || len(run) > 64 {
			t.Fatalf("%q leads to reading %d of %q", id, from, run)
		}
		if again, n := resumeAt(fmt.Sprintf("%s.%d", run, from)); again != run || n != from {
			t.Fatalf("%q: %q %d, written and read again %q %d", id, run, from, again, n)
		}
	})
}
