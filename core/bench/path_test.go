package bench_test

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"wexter/core/bench"
	"wexter/core/record"
)

// A vent path is judged by what it takes at the flow of a pump, whether air or water went through it, and
// what contradicts or is missing is asked for.
func TestVentPathByWhatPasses(t *testing.T) {
	for _, c := range []struct {
		name string
		r    bench.Readings
		want string
		says string
	}{
		// An 8 mm opening, coefficient 0.61: 20 L/min take ρ/2·(Q/CdA)² = 0.6·(3.33e-4/3.07e-5)² = 71 Pa.
		{"air through 8 mm", bench.Readings{"flow": num(10, 20), "drop": num(0.071, 0.285)}, "free", "as through 8.0"},
		{"4 mm or the hose", bench.Readings{"flow": num(5, 10), "drop": num(0.285, 1.14)}, "?rig-drop", "rig's own hose"},
		{"the hose takes most of it", bench.Readings{"flow": num(10, 20), "drop": num(0.671, 2.685), "rig-flow": num(20), "rig-drop": num(2.4)}, "free", "as through 8.0"},
		{"air through 4 mm", bench.Readings{"flow": num(5, 10), "drop": num(0.285, 1.14), "rig-flow": num(10), "rig-drop": num(0)}, "blocked", "16.3"},
		{"between", bench.Readings{"flow": num(10), "drop": num(0.33), "rig-flow": num(10), "rig-drop": num(0)}, bench.CannotTell, "between"},
		{"nothing passes", bench.Readings{"flow": num(0), "drop": num(3)}, "blocked", "nothing passes"},
		// Torricelli: √(2·9.81·0.3) = 2.43 m/s; through 8 mm at 0.61 that is 74 mL/s, a litre in 13.4 s.
		{"a litre in 13 s", bench.Readings{"litres": num(1), "seconds": num(13.4)}, "free", "as through 8.0"},
		{"a litre in 90 s", bench.Readings{"litres": num(1), "seconds": num(90), "head": num(30)}, "blocked", ""},
		{"seconds left out", bench.Readings{"litres": num(1)}, "?seconds", "seconds"},
		{"no time at all", bench.Readings{"litres": num(1), "seconds": num(0)}, "?seconds", ""},
		{"a pressure left out", bench.Readings{"flow": num(5, 10), "drop": num(1)}, "?drop", "both at each step"},
		{"vacuum where pressure is meant", bench.Readings{"flow": num(10), "drop": num(-0.9)}, "?drop", "press air in"},
		{"rig not joined", bench.Readings{"flow": num(0), "drop": num(0)}, "?flow", "regulator open"},
		{"too little tried", bench.Readings{"flow": num(1), "drop": num(0.2)}, "?flow", "ten litres"},
		{"bulb and air disagree", bench.Readings{"free": said("blocked"), "flow": num(20), "drop": num(0.2)}, "?free", "and yet"},
		{"nozzle only", bench.Readings{"refuel": said("clicks")}, "?free", "nozzle clicks off"},
		{"free, and it clicks off", bench.Readings{"free": said("free"), "refuel": said("clicks")}, "free", "fill-limit valve"},
		{"blocked, and it runs", bench.Readings{"free": said("blocked"), "refuel": said("runs")}, "blocked", "runs through all the same"},
	} {
		t.Run(c.name, func(t *testing.T) {
			v := bench.VentPath.Reduce(bench.Subject{}, c.r)
			got := v.Outcome
			if v.Ask != "" {
				got = "?" + v.Ask
			}
			if got != c.want || !strings.Contains(strings.ReplaceAll(v.Says, "as through 8 mm", "as through 8.0 mm"), c.says) {
				t.Errorf("%q (%s), want %q with %q", got, v.Says, c.want, c.says)
			}
		})
	}
}

// The steps of a regulator that is brought up by hand are found, and give the opening within its interval.
func TestVentPathFindsTheSteps(t *testing.T) {
	r := rand.New(rand.NewPCG(19, 70))
	n, in := 200, 0
	for range n {
		d := 3 + 9*r.Float64() // mm
		area := 0.61 * math.Pi / 4 * d * d * 1e-6
		k := bench.Known{Works: canAll, In: map[record.RunKind]bool{}, Read: bench.Readings{}}
		st, _ := bench.VentPath.Stretch(k, "phase-1")
		w := bench.VentPath.Watch(k, st, record.Channels{{Key: "flow", Unit: "m3/s"}, {Key: "pressure", Unit: "Pa", Resolution: 5}})
		p, now := 0.0, 0.0
		for _, to := range []float64{0.5, 1, 2, 3} {
			for held := 0.0; held < 4; now += 0.2 {
				target := math.Min(to*249, 0.6*math.Pow(3.3e-4/area, 2)) // the rig gives 20 L/min
				if p += (target - p) * 0.4; math.Abs(p-target) < 2 {
					held += 0.2
				}
				flow := area * math.Sqrt(2*p/1.2) * (1 + 0.02*r.NormFloat64())
				w.Take(now, []float64{flow, math.Round((p+3*r.NormFloat64())/5) * 5})
			}
		}
		v := bench.VentPath.Reduce(bench.Subject{}, w.Told().Readings.With(bench.Readings{"rig-flow": num(10), "rig-drop": num(0)}))
		if len(v.Figures) == 2 && v.Figures[0].Low <= d && d <= v.Figures[0].High {
			in++
		}
	}
	if t.Logf("%d paths: the interval holds the opening in %d", n, in); 100*in < 95*n {
		t.Error("too few")
	}
}
