package bench_test

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"wexter/core/bench"
	"wexter/core/plumbing"
	"wexter/core/record"
)

// followTruth is an independent truth of a sensor on a hand pump: a pump that leaks, hands that stop at
// heights of their own or never stop, a gauge with a zero, noise and steps, a sensor of first order behind
// an adapter that asks for it now and then. It shares no code with the plant.
type followTruth struct {
	gain, offset, tau, delay float64 // inH2O, s
	gaugeZero, gaugeNoise    float64
	gaugeStep, sensorStep    float64
	leak                     float64 // 1/s
	gaugeEvery, sensorEvery  float64 // s
	stops                    bool
	r                        *rand.Rand
}

func newFollowTruth(r *rand.Rand) *followTruth {
	return &followTruth{gain: 1, tau: 0.02 + 0.2*r.Float64(), delay: 0.05 + 0.2*r.Float64(), gaugeZero: 0.1 * (2*r.Float64() - 1), gaugeNoise: 0.002 + 0.02*r.Float64(),
		gaugeStep: []float64{0.01, 0.02, 0.1}[r.IntN(3)], sensorStep: []float64{0.001, 0.004, 0.04}[r.IntN(3)], leak: 0.01 * r.Float64(), gaugeEvery: []float64{0.1, 0.2}[r.IntN(2)],
		sensorEvery: 0.1 + 0.4*r.Float64(), stops: r.IntN(3) > 0, r: r}
}

// readings are what gauge (inH2O) and sensor (inH2O) showed, each with its times.
func (x *followTruth) readings(to float64) (tg, g, ts, s []float64) {
	targets := []float64{0}
	for _, f := range []float64{0.3, 0.6, 1, 0.4, 0, -0.5, -1, 0} {
		targets = append(targets, to*f*(0.9+0.2*x.r.Float64()))
	}
	p, sensor, now := 0.0, 0.0, 0.0
	var late []float64 // what the sensor showed, for the delay
	nextG, nextS := 0.0, 0.0
	for i, target := range targets {
		rate, stay := (1+2*x.r.Float64())*math.Abs(to)/10, 2+3*x.r.Float64()
		if !x.stops && i > 0 {
			stay, rate = 0, rate/2
		}
		if i == 0 {
			stay = 4 + 2*x.r.Float64()
		}
		for held := 0.0; held < stay || math.Abs(p-target) > 0.1 && i > 0 && stay == 0; {
			d := target - p
			if m := rate * 0.01; math.Abs(d) > m && (held == 0) {
				p += math.Copysign(m, d)
			} else {
				held += 0.01
				p -= x.leak * p * 0.01
				if stay == 0 {
					break
				}
			}
			if target == 0 && i > 0 && held > 0 {
				p *= 0.9 // open to the air
			}
			sensor += (x.gain*p + x.offset - sensor) * math.Min(0.01/math.Max(x.tau, 0.01), 1)
			late = append(late, sensor)
			now += 0.01
			if now >= nextG {
				nextG += x.gaugeEvery
				tg, g = append(tg, now), append(g, math.Round((p+x.gaugeZero+x.gaugeNoise*x.r.NormFloat64())/x.gaugeStep)*x.gaugeStep)
			}
			if now >= nextS {
				nextS += x.sensorEvery * (0.8 + 0.4*x.r.Float64())
				ts, s = append(ts, now), append(s, math.Round(late[max(len(late)-1-int(x.delay/0.01), 0)]/x.sensorStep)*x.sensorStep)
			}
		}
	}
	return tg, g, ts, s
}

// watchSensor runs the stretch over what gauge and sensor showed.
func watchSensor(t *testing.T, tg, g, ts, s []float64) (bench.Watcher, bench.Told) {
	t.Helper()
	k := bench.Known{Subject: bench.Subject{Part: plumbing.Part{Key: "tank-sensor", Family: "vapour", Kind: plumbing.Sensor}}, Works: canAll, In: map[record.RunKind]bool{}, Read: bench.Readings{}}
	st, ok := bench.SensorCheck.Stretch(k, "phase-1")
	if !ok {
		t.Fatal("no such stretch")
	}
	w := bench.SensorCheck.Watch(k, st, record.Channels{{Key: "pressure", Unit: "Pa", Resolution: 2.5}, {Key: "pid-32", Unit: "Pa"}})
	const pa = 249.089
	for i, k := 0, 0; i < len(tg) || k < len(ts); {
		if k >= len(ts) || i < len(tg) && tg[i] <= ts[k] {
			w.Take(tg[i], []float64{g[i] * pa, math.NaN()})
			i++
		} else {
			w.Take(ts[k], []float64{math.NaN(), s[k] * pa})
			k++
		}
	}
	return w, w.Told()
}

// A sensor's scale is found within two hundredths and its zero within a tenth of an inch of water in
// nineteen of twenty, whatever gauge, hands, pump and adapter are like; what is right is not called wrong.
func TestFollowFindsScaleAndZero(t *testing.T) {
	r := rand.New(rand.NewPCG(19, 3))
	n, scale, zero, inside, wrong, slow := trials(), 0, 0, 0, 0, 0
	for range n {
		x := newFollowTruth(r)
		want := "true"
		switch r.IntN(4) {
		case 0:
			x.offset = math.Copysign(0.8+5*r.Float64(), r.Float64()-0.5)
			want = "false-zero"
		case 1:
			x.gain = []float64{0.2 + 0.6*r.Float64(), 1.2 + 0.3*r.Float64()}[r.IntN(2)]
			want = "false-scale"
		case 2:
			x.tau = 2.5 + 3*r.Float64()
			want = "slow"
		}
		tg, g, ts, s := x.readings(10)
		_, told := watchSensor(t, tg, g, ts, s)
		v := bench.SensorCheck.Reduce(bench.Subject{}, told.Readings)
		if v.Outcome != want && v.Outcome != bench.CannotTell {
			wrong++
			t.Logf("%+v: %s (%s), want %s; lag %v", x, v.Outcome, v.Says, want, told.Readings["lag"].Numbers)
		}
		if want == "slow" {
			slow++
			continue
		}
		if len(v.Figures) < 2 {
			t.Errorf("%+v: %+v", x, v)
			continue
		}
		sc, z := v.Figures[0], v.Figures[1]
		if math.Abs(sc.Value-x.gain) <= 0.02*math.Max(x.gain, 0.5) {
			scale++
		}
		if math.Abs(z.Value-x.offset) <= 0.1 {
			zero++
		}
		if sc.Low <= x.gain && x.gain <= sc.High {
			inside++
		}
	}
	judged := n - slow
	t.Logf("%d sensors: scale within 2 %% in %d, zero within 0.1 inH2O in %d, the interval holds it in %d; %d of %d called wrong", judged, scale, zero, inside, wrong, n)
	if 100*scale < 95*judged || 100*zero < 95*judged || 100*inside < 93*judged || 100*wrong > n {
		t.Error("too few")
	}
}

// A dead sensor, one at the end of its range, a gauge in mercury, the wrong port and a stroke too short
// are each told for what they are.
func TestSensorWatchTellsWhatIsWrong(t *testing.T) {
	r := rand.New(rand.NewPCG(19, 4))
	sound := func() *followTruth { x := newFollowTruth(r); x.stops = true; return x }
	for _, c := range []struct {
		name          string
		make          func() (tg, g, ts, s []float64)
		outcome, says string
	}{
		{"dead", func() (a, b, c, d []float64) { x := sound(); x.gain, x.offset = 0, 0.3; return x.readings(10) }, "false-scale", "Does not move"},
		{"at the end of its range above 6", func() (a, b, c, d []float64) {
			tg, g, ts, s := sound().readings(10)
			for i := range s {
				s[i] = math.Min(s[i], 6)
			}
			return tg, g, ts, s
		}, "true", ""},
		{"a gauge in mercury, sent as water", func() (a, b, c, d []float64) {
			tg, g, ts, s := sound().readings(10)
			for i := range g {
				g[i] /= 13.595
			}
			return tg, g, ts, s
		}, "?gauge", ""},
		{"the other port", func() (a, b, c, d []float64) { x := sound(); x.gain = -1; return x.readings(10) }, "?gauge", "other port"},
		{"a vacuum only", func() (a, b, c, d []float64) { return sound().readings(-10) }, "true", ""},
		{"not far enough", func() (a, b, c, d []float64) { return sound().readings(1) }, "?gauge", "only"},
	} {
		t.Run(c.name, func(t *testing.T) {
			tg, g, ts, s := c.make()
			_, told := watchSensor(t, tg, g, ts, s)
			v := bench.SensorCheck.Reduce(bench.Subject{}, told.Readings)
			got := v.Outcome
			if v.Ask != "" {
				got = "?" + v.Ask
			}
			if got != c.outcome || !strings.Contains(v.Says, c.says) {
				t.Errorf("%q, %q; of %+v", got, v.Says, told)
			}
		})
	}
	_, g, ts, s := sound().readings(10)
	for i := range g {
		g[i] *= 13.595 // truly so many inches of mercury
	}
	tg := make([]float64, len(g))
	for i := range tg {
		tg[i] = float64(i) / 10
	}
	if w, told := watchSensor(t, tg, g, ts, s); !strings.Contains(told.Says, "inches of water") || len(told.Readings) != 0 || !strings.Contains(w.State().Now, "harm") {
		t.Errorf("far beyond: %+v", told)
	}
	if w, told := watchSensor(t, tg[:100], make([]float64, 100), nil, nil); !strings.Contains(w.State().Now, "not read") || told.Says == "" {
		t.Errorf("no sensor: %+v", told)
	}
}

// Volts say what they can without the book's figures, and a meter is no tank sensor's live data.
func TestSensorByItsVolts(t *testing.T) {
	g := bench.Num(-10, -5, 0, 5, 10)
	line := bench.Num(1.1, 1.8, 2.5, 3.2, 3.9)
	for _, c := range []struct {
		name string
		r    bench.Readings
		want string
	}{
		{"volts alone", bench.Readings{"gauge": g, "volts": line}, "?volts-ten"},
		{"with the book", bench.Readings{"gauge": g, "volts": line, "volts-zero": bench.Num(2.5), "volts-ten": bench.Num(3.9)}, "true"},
		{"another scale", bench.Readings{"gauge": g, "volts": line, "volts-zero": bench.Num(2.5), "volts-ten": bench.Num(4.5)}, "false-scale"},
		{"it stands", bench.Readings{"gauge": g, "volts": bench.Num(2.5, 2.5, 2.51, 2.5, 2.5)}, "false-scale"},
		{"one reading missing", bench.Readings{"gauge": g, "shows": bench.Num(1, 2)}, "?gauge"},
		{"two points", bench.Readings{"gauge": bench.Num(0, 10), "shows": bench.Num(0, 10)}, "?gauge"},
		{"all over the place", bench.Readings{"gauge": g, "shows": bench.Num(-10, 2, 0, -3, 10)}, bench.CannotTell},
		{"no supply", bench.Readings{"gauge": g, "shows": g, "supply": bench.Num(0.2)}, "?supply"},
	} {
		v := bench.SensorCheck.Reduce(bench.Subject{}, c.r)
		got := v.Outcome
		if v.Ask != "" {
			got = "?" + v.Ask
		}
		if got != c.want {
			t.Errorf("%s: %q, want %q (%s)", c.name, got, c.want, v.Says)
		}
	}
	k := bench.Known{Subject: bench.Subject{Part: plumbing.Part{Key: "dp-sensor", Family: "recirculation"}}, In: map[record.RunKind]bool{}, Has: func(c string) bool { return c == "pid-32" || c == "pressure" }}
	if all := bench.SensorCheck.Stretches(k); len(all) != 1 || all[0].Lacks == "" {
		t.Errorf("live data of the tank for another sensor: %+v", all)
	}
}
