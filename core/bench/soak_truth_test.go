package bench_test

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"wexter/core/bench"
	"wexter/core/record"
)

// nightTruth is an independent truth of a tank in the night after a drive: air that cools with the hour and
// warms again when clouds come in, a wall that follows it, fuel that follows the wall, vapour above the fuel by
// its own pressure curve, a hole, reliefs, and a switch. It shares no code with the plant.
type nightTruth struct {
	r                *rand.Rand
	hole             float64 // mm
	switchAt         float64 // inH2O; +Inf: dead
	start, fall      float64 // °C of the air at the beginning, K that it falls in the night
	clouds, wind     float64 // h at which clouds come in and it warms again; K of gusts
	excess           float64 // K by which the tank is warmer than the air
	wallTau, fuelTau float64 // h
	reid             float64 // kPa at 37.8 °C
	space, stretch   float64 // m³, m³/Pa
	drawn            float64 // Pa of vacuum that purging left at shut-down
	probe            bool    // on the wall
	gauge            float64 // Pa of the gauge's noise
}

func newNightTruth(r *rand.Rand) *nightTruth {
	x := &nightTruth{r: r, switchAt: 0.6 + 0.9*r.Float64(), start: 5 + 25*r.Float64(), fall: -1 + 12*r.Float64(), clouds: 1 + 9*r.Float64(), wind: 0.5 * r.Float64(), excess: 15 * r.Float64(),
		wallTau: 0.7 + 1.5*r.Float64(), fuelTau: 3 + 6*r.Float64(), reid: 45 + 45*r.Float64(), space: 0.012 + 0.04*r.Float64(), gauge: 1 + 4*r.Float64(), probe: r.IntN(5) > 0}
	if r.IntN(5) == 0 { // an overcast night after a short drive
		x.fall, x.excess = -2+2.5*r.Float64(), r.Float64()
	}
	if r.IntN(2) == 0 {
		x.drawn = 600 * r.Float64()
	}
	x.stretch = x.space * 0.06 / 101325 * (0.5 + r.Float64())
	return x
}

// vapour is the pressure of petrol's vapour, Pa: Clausius and Clapeyron from its Reid pressure, 30 kJ/mol.
func (x *nightTruth) vapour(c float64) float64 {
	return 1e3 * x.reid * math.Exp(-30e3/8.314*(1/(c+273.15)-1/310.95))
}

// night lets it pass, and hands on what is read each minute (a second apart in the first ten): volts, Pa, K, K.
func (x *nightTruth) night(hours float64, take func(t float64, row []float64) bool) {
	const h, baro = 5.0, 101325.0
	air := x.start
	wall, fuel := air+x.excess, air+x.excess
	temp := func() float64 { return wall + 273.15 } // of the gas
	pv := math.Min(x.vapour(fuel), 0.9*baro)
	dry := (baro - x.drawn - pv) * x.space / temp() // p·V/T of the air
	closed, gust := false, 0.0
	next := 0.0
	p := baro
	for t := 0.0; t <= hours*3600; t += h {
		hour := t / 3600
		gust += -gust*h/1800 + x.wind*math.Sqrt(2*h/1800)*x.r.NormFloat64()
		air = x.start - x.fall*math.Sin(math.Min(hour/9, 1)*math.Pi/2)
		if hour > x.clouds {
			air += 0.8 * (hour - x.clouds)
		}
		wall += (air + gust - wall) * h / (x.wallTau * 3600)
		fuel += (wall - fuel) * h / (x.fuelTau * 3600)
		// Vapour follows the fuel, slowly; the volume gives with the pressure.
		want := math.Min(x.vapour(fuel), 0.9*p)
		pv += (want - pv) * h / 600
		volume := x.space + x.stretch*(p-baro)
		p = dry*temp()/volume + pv
		gauge := p - baro
		// What leaves and enters: through the hole, the relief at half an inch, the other at four.
		flow := 0.61 * math.Pi / 4 * x.hole * x.hole * 1e-6 * math.Copysign(math.Sqrt(2*math.Abs(gauge)/1.2), gauge)
		if gauge > 125 {
			flow += (gauge - 125) * 1e-6
		}
		if gauge < -1100 {
			flow += (gauge + 1100) * 1e-6
		}
		moved := math.Min(math.Abs(flow)*h, math.Abs(gauge)/baro*volume) // never past the air's own
		dry -= math.Copysign(moved, flow) * baro / temp() * map[bool]float64{true: (p - pv) / p, false: 1}[flow > 0]
		if -gauge/249.089 >= x.switchAt {
			closed = true
		} else if -gauge/249.089 < 0.5*x.switchAt {
			closed = false
		}
		if t < next {
			continue
		}
		next += map[bool]float64{true: 5, false: 60}[t < 600]
		row := []float64{11.8 + 0.05*x.r.NormFloat64(), gauge + x.gauge*x.r.NormFloat64(), math.NaN(), air + 273.15}
		if closed {
			row[0] = 0.2
		}
		if x.probe {
			row[2] = wall + 273.15 + 0.1*x.r.NormFloat64()
		}
		if !take(t+1, row) {
			return
		}
	}
}

// nightOf is what the bench tells of a night.
func (x *nightTruth) nightOf(t *testing.T, hours float64) (bench.Verdict, bench.Watcher) {
	t.Helper()
	k := bench.Known{Works: canAll, In: map[record.RunKind]bool{}, Read: bench.Readings{}}
	st, ok := bench.SoakWatch.Stretch(k, "phase-2")
	if !ok {
		t.Fatal("no such stretch")
	}
	st.For = hours * 3600
	w := bench.SoakWatch.Watch(k, st, record.Channels{{Key: "volts", Unit: "V"}, {Key: "pressure", Unit: "Pa"}, {Key: "wall", Unit: "K"}, {Key: "air", Unit: "K"}})
	x.night(hours, func(at float64, row []float64) bool { return w.Take(at, row).Ends == "" })
	return bench.SoakWatch.Reduce(bench.Subject{}, w.Told().Readings), w
}

// Over nights drawn at random a verdict that is wrong and firm is rarer than one in a hundred, and those that
// can tell do.
func TestNightsAreJudged(t *testing.T) {
	r := rand.New(rand.NewPCG(19, 1))
	n, wrong, told, count := max(trials(), 300), 0, 0, map[string]int{}
	for i := range n {
		x := newNightTruth(r)
		truth := "changes"
		switch i % 3 {
		case 1:
			x.hole, truth = 0.5*math.Pow(4, r.Float64()), "none"
		case 2:
			if r.IntN(2) == 0 {
				x.switchAt, truth = math.Inf(1), "vacuum-only"
			} else {
				x.hole = 0.03 * r.Float64()
			}
		}
		v, _ := x.nightOf(t, 6)
		count[v.Outcome]++
		switch v.Outcome {
		case truth:
			told++
		case "warm", bench.CannotTell, "":
		default:
			wrong++
			t.Logf("%s, it is %s: %s; %+v", v.Outcome, truth, v.Says, x)
		}
	}
	t.Logf("%d nights: %d told right, %d wrong and firm; %v", n, told, wrong, count)
	if 100*wrong > n || 2*told < n || count["warm"] == 0 {
		t.Error("too many wrong, or too few told")
	}
}

// A night says what it waits for, ends by itself when it can tell, and a warm one tells nothing.
func TestNightTells(t *testing.T) {
	r := rand.New(rand.NewPCG(19, 2))
	tight := newNightTruth(r)
	tight.drawn = 0
	tight.fall, tight.excess, tight.clouds, tight.probe, tight.start = 9, 8, 12, true, 18
	v, w := tight.nightOf(t, 6)
	if v.Outcome != "changes" || !strings.Contains(w.State().Now, "Passed") {
		t.Errorf("tight: %+v, %q", v, w.State().Now)
	}
	holed := newNightTruth(r)
	holed.drawn = 0
	holed.fall, holed.excess, holed.clouds, holed.probe, holed.hole = 9, 8, 12, true, 1
	if v, _ := holed.nightOf(t, 6); v.Outcome != "none" || !strings.Contains(v.Says, "cannot pass any more") {
		t.Errorf("a hole: %+v", v)
	}
	warm := newNightTruth(r)
	warm.drawn = 0
	warm.fall, warm.excess, warm.clouds, warm.wind, warm.probe = 0, 0, 1, 0, true
	if v, _ := warm.nightOf(t, 6); v.Outcome != "warm" {
		t.Errorf("a warm night: %+v", v)
	}
	if v, w := warm.nightOf(t, 0.05); v.Outcome != "" && v.Outcome != "warm" || !strings.Contains(w.State().Now, "Leave the car alone") {
		t.Errorf("three minutes: %+v, %q", v, w.State().Now)
	}
	left := newNightTruth(r) // what purging drew leaves by a hole in the first minutes: no verdict of that
	left.fall, left.excess, left.wind, left.hole, left.drawn, left.switchAt = 0, 0, 0, 0.5, 550, 1
	if v, _ := left.nightOf(t, 0.15); v.Outcome == "changes" || v.Outcome == "vacuum-only" {
		t.Errorf("a vacuum left by purging: %+v", v)
	}
	if v := bench.SoakWatch.Reduce(bench.Subject{}, bench.Readings{"time": num(30), "lowest": num(0.8)}); v.Ask != "time" {
		t.Errorf("a switch that changed under pressure: %+v", v)
	}
}
