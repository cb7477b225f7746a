package trim_test

import (
	"testing"

	"wexter/core/trim"
)

// BenchmarkJudge is the analysis of a drive of a few minutes, and BenchmarkTruth what it
// takes to draw one.
func BenchmarkJudge(b *testing.B) {
	e := draw(1003, trim.ManifoldLeak)
	l := e.log()
	eng := trim.Engine{Displacement: e.size, Metering: trim.AirMeter}
	for b.Loop() {
		if _, err := trim.Judge(l, eng); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkTruth(b *testing.B) {
	for b.Loop() {
		draw(1003, trim.ManifoldLeak).log()
	}
}
