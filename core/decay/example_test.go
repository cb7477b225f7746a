package decay_test

import (
	"fmt"
	"math"

	"wexter/core/decay"
)

func ExampleJudge() {
	// Typed pairs of a water U-tube: inches of water every 15 s, tank space 40 L ± 5 %.
	hold := decay.Leg{}
	for i, inches := range []float64{12.0, 11.1, 10.3, 9.4, 8.7, 7.9, 7.2, 6.5, 5.9, 5.3, 4.7, 4.2, 3.7} {
		hold.Time = append(hold.Time, float64(i)*15)
		hold.Gauge = append(hold.Gauge, inches*249.089)
	}
	drift := decay.Leg{Kind: decay.Drift, Time: []float64{0, 30, 60, 90, 120}, Gauge: make([]float64, 5)}
	r, err := decay.Judge([]decay.Leg{drift, hold}, decay.Setup{Volume: 0.040, VolumeTolerance: 0.05})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Printf("%.2f mm, %s\n", math.Round(r.D*1e5)/1e2, r.Verdict.Words())
	// Output: 0.43 mm, within the limit
}
