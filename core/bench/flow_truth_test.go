package bench_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"wexter/core/bench"
	"wexter/core/record"
)

// flowRig is an independent truth for the make-up flow: a regulator that droops under flow and breathes,
// a volume that takes heat while it fills, a hole whose coefficient is its own, an orifice drilled
// larger than its size, fuel that gives off gas and takes it back, and a meter with gain, curve,
// zero, lag, noise that is partly correlated, and steps. It shares no code with the plant.
type flowRig struct {
	r *rand.Rand

	hole, drilled, volume float64 // m, m, m³
	rigLeak               float64 // m
	droop                 float64 // Pa for each L/min
	hunts                 float64 // Pa, slowly
	heat                  float64 // s, time constant of settling
	vapour                float64 // L/min that the fuel gives off
	rich                  float64 // share of vapour in what leaves the hole
	gain, curve, zero     float64
	noise, step, lag      float64 // L/min, L/min, s
	set                   float64 // Pa

	shown, red, filled float64
}

func newFlowRig(r *rand.Rand) *flowRig {
	return &flowRig{r: r, hole: 0.3e-3 * math.Pow(7, r.Float64()), drilled: 0.508e-3, volume: 0.012 + 0.05*r.Float64(), rigLeak: 0.06e-3 * r.Float64(),
		droop: 80 * r.Float64(), hunts: 20 * r.Float64(), heat: 5 + 20*r.Float64(), vapour: 0.012 * r.NormFloat64(), rich: 0.35 * r.Float64() * r.Float64(),
		gain: 1 + 0.04*r.NormFloat64(), curve: 0.01 * r.NormFloat64(), zero: 0.01 * r.NormFloat64(), noise: 0.005 + 0.02*r.Float64(), step: []float64{0.005, 0.01, 0.05}[r.IntN(3)], lag: 0.5 + 3*r.Float64(), set: 2491 + 60*r.NormFloat64()}
}

// through is the free air through a hole at a pressure, L/min: incompressible with a correction of
// the second order, air of 1.2 kg/m³.
func through(d, cd, pa float64) float64 {
	return cd * math.Pi / 4 * d * d * math.Sqrt(2*pa/1.2) * (1 - 0.3*pa/101325) * 60e3
}

// run reads a stretch: where the rig's end stands.
func (x *flowRig) run(t *testing.T, k *bench.Known, leg record.RunKind) {
	t.Helper()
	cols := record.Channels{{Key: "flow", Unit: "m3/s", Resolution: x.step / 60e3}, {Key: "pressure", Unit: "Pa", Resolution: 2.5}}
	st, ok := bench.MakeUpFlow.Stretch(*k, leg)
	if !ok {
		t.Fatal(leg)
	}
	w := bench.MakeUpFlow.Watch(*k, st, cols)
	phase := 6 * x.r.Float64()
	x.filled = 0
	for at := 0.2; at < st.For; at += 0.2 {
		p := x.set - x.droop*x.shown + x.hunts*math.Sin(at/9+phase)
		q := through(x.rigLeak, 0.7, p)
		switch leg {
		case record.RunReference:
			q += through(x.drilled, 0.66, p) // a drilled bore passes more than a sharp edge
		case "phase-1":
			fill := 12 * math.Exp(-at/(x.volume*x.set/101325/(12/60e3)+1)) // the regulator gives no more
			settle := 0.05 * math.Exp(-at/x.heat)
			// Heavy gas leaves slower, and only what is not vapour is made up.
			heavy := (29 + 39*x.rich) / 29
			q += through(x.hole, 0.61, p)/math.Sqrt(heavy)*(1-x.rich) + fill + settle - x.vapour
		}
		x.red = 0.9*x.red + 0.44*x.r.NormFloat64()
		x.shown += (q - x.shown) * (1 - math.Exp(-0.2/x.lag))
		shown := x.shown*x.gain*(1+x.curve*math.Log(math.Max(x.shown, 0.05)/0.5)) + x.zero + x.noise*(0.8*x.r.NormFloat64()+0.6*x.red)
		shown = math.Round(shown/x.step) * x.step
		if w.Take(at, []float64{math.Max(shown, 0) / 60e3, p + 5*x.r.NormFloat64()}).Ends != "" {
			break
		}
	}
	k.Read, k.In[leg] = k.Read.With(w.Told().Readings), true
}

// The diameter that a make-up flow gives, as the reference orifice of the same rig reads it.
func TestMakeUpFlowFindsTheDiameter(t *testing.T) {
	n := trials()
	r := rand.New(rand.NewPCG(18, 2))
	near, contain, firm, wrong, far := 0, 0, 0, 0, ""
	for range n {
		x := newFlowRig(r)
		k := bench.Known{Works: canAll, In: map[record.RunKind]bool{}, Read: bench.Readings{}, Orifice: x.drilled}
		for _, leg := range []record.RunKind{record.RunRig, record.RunReference, "phase-1"} {
			x.run(t, &k, leg)
		}
		v := bench.MakeUpFlow.Reduce(bench.Subject{}, k.Read)
		if len(v.Figures) == 0 {
			t.Fatalf("a hole of %.2f mm gives no diameter: %+v", x.hole*1e3, v)
		}
		// What the rig's own orifice calls 0.508 mm is what the hole is measured by.
		truth := 0.508 * math.Sqrt(through(x.hole, 0.61, x.set)/through(x.drilled, 0.66, x.set))
		f := v.Figures[0]
		if math.Abs(f.Value/truth-1) <= 0.15 {
			near++
		} else if len(far) < 1000 {
			far += fmt.Sprintf("\n%.2f mm reads %.2f (%.2f to %.2f), vapour %.3f L/min, step %.3f", truth, f.Value, f.Low, f.High, x.vapour, x.step)
		}
		if f.Low <= truth && truth <= f.High {
			contain++
		}
		if v.Outcome == "above" || v.Outcome == "below" {
			firm++
			if (v.Outcome == "above") != (truth > 0.508) {
				wrong++
			}
		}
	}
	t.Logf("%d: %d within 15 %%, %d intervals contain it, %d firm, %d of them wrong%s", n, near, contain, firm, wrong, far)
	if near*100 < n*90 || contain*100 < n*90 || wrong*100 > firm || firm*2 < n {
		t.Errorf("%d: %d within 15 %%, %d intervals contain it, %d firm, %d of them wrong%s", n, near, contain, firm, wrong, far)
	}
}
