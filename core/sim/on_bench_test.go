package sim_test

import (
	"strings"
	"testing"

	"wexter/core/bench"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/sim"
)

// onRig reads a stretch of a test off a simulated bench rig, as a live bench does: what the test's own
// code says of it. Power comes on and goes off at the given seconds.
func onRig(t *testing.T, rig *sim.OnBench, k bench.Known, test bench.Test, leg record.RunKind, seconds float64, power []float64) (bench.Watcher, bench.Told) {
	t.Helper()
	st, ok := test.Stretch(k, leg)
	if !ok {
		t.Fatal("no stretch ", leg)
	}
	for _, x := range st.Stand {
		switch x.Do {
		case bench.Pump:
			rig.Let(sim.Pumping, x.Value)
		case bench.Ramp:
			rig.Let(sim.Ramping, x.Value)
		}
	}
	w := test.Watch(k, st, record.Channels{{Key: "pressure", Unit: "Pa", Resolution: 2.5}, {Key: "volts", Unit: "V", Resolution: 0.01}})
	on := false
	for at := 0.1; at < seconds; at += 0.1 {
		if len(power) > 0 && at >= power[0] {
			on, power = !on, power[1:]
			rig.Power(map[bool]float64{true: 1, false: -1}[on])
		}
		rig.Run(0.1)
		w.Take(at, []float64{rig.Gauge(), rig.Volts()})
	}
	return w, w.Told()
}

// fiveTimes are the seconds at which a lead is switched, five times on and off: long enough that what
// must hold can be pumped up and held.
func fiveTimes(rest plumbing.State) (out []float64) {
	first, long := 12.0, 2.5
	if rest == plumbing.Open {
		first, long = 2.5, 11.5
	}
	for i := range 5 {
		at := first + 14*float64(i)
		out = append(out, at, at+long)
	}
	return
}

// A valve with a fault, worked on the simulated bench rig, comes to what the test's own code should say
// of it; the new one beside it is sound, and the plugged rig holds.
func TestOnBenchValves(t *testing.T) {
	for _, c := range []struct {
		part, fault string
		severity    float64
		outcome     string
	}{
		{"purge-valve", "", 0, "good"},
		{"purge-valve", "purge-valve", 0.5, "leaks"},
		{"purge-valve", "purge-blocked", 1, "stuck"},
		{"vent-valve", "", 0, "good"},
		{"vent-valve", "vent-valve", 0.2, "leaks"},
	} {
		t.Run(c.part+" "+c.fault, func(t *testing.T) {
			car := build(t, naMAF, sim.Conditions{})
			if c.fault != "" {
				car = build(t, naMAF, sim.Conditions{}, c.fault, c.severity)
			}
			part, _ := car.Graph.Part(c.part)
			k := bench.Known{Subject: bench.Subject{Graph: car.Graph, Part: part}, In: map[record.RunKind]bool{}, Read: bench.Readings{}}
			read := func(what string, leg record.RunKind, seconds float64, power []float64) bench.Readings {
				rig, err := car.OnBench(what, c.part, 7)
				if err != nil {
					t.Fatal(err)
				}
				_, told := onRig(t, rig, k, bench.ValveBench, leg, seconds, power)
				return told.Readings
			}
			all := read(sim.PlugOnBench, record.RunRig, 40, nil)
			if v, ok := all.Mean("rig"); !ok || v < 14.5 {
				t.Errorf("the plugged rig: %v", all)
			}
			all = all.With(read(c.part, "phase-1", 82, fiveTimes(part.Rest)))
			all = all.With(read(sim.NewOnBench, bench.NewPart, 82, fiveTimes(part.Rest)))
			v := bench.ValveBench.Reduce(k.Subject, all)
			if v.Outcome != c.outcome {
				t.Errorf("%+v of %v", v, all)
			}
			if c.outcome != "good" && !strings.Contains(v.Says, "The new one beside it") {
				t.Errorf("nothing of the new one: %q", v.Says)
			}
		})
	}
	car := build(t, naMAF, sim.Conditions{})
	for what, say := range map[string]string{"tank": "no valve, cap or sensor", "new": "no valve"} {
		if _, err := car.OnBench(what, "", 1); err == nil || !strings.Contains(err.Error(), say) {
			t.Errorf("%s on the bench: %v", what, err)
		}
	}
}

// A check valve on the rig, both ways: a sound one, one that passes both ways, and one that is blocked.
func TestOnBenchCheckValve(t *testing.T) {
	for _, c := range []struct {
		param   string
		value   float64
		outcome string
	}{{"", 0, "good"}, {"reverse", 2, "both"}} {
		t.Run(c.outcome, func(t *testing.T) {
			car := build(t, turbo, sim.Conditions{})
			if c.param != "" {
				put(t, car, "manifold-check", c.param, c.value)
			}
			part, _ := car.Graph.Part("manifold-check")
			k := bench.Known{Subject: bench.Subject{Graph: car.Graph, Part: part}, In: map[record.RunKind]bool{}, Read: bench.Readings{}}
			all := bench.Readings{}
			for leg, seconds := range map[record.RunKind]float64{"phase-1": 40, "phase-2": 12} {
				rig, err := car.OnBench(part.Key, "", 7)
				if err != nil {
					t.Fatal(err)
				}
				_, told := onRig(t, rig, k, bench.CheckValve, leg, seconds, nil)
				all = all.With(told.Readings)
			}
			if v := bench.CheckValve.Reduce(k.Subject, all); v.Outcome != c.outcome {
				t.Errorf("%+v of %v", v, all)
			}
		})
	}
}

// What is foreseen of a part on the pump: a sound valve keeps what it holds, one that passes lets it go;
// nothing is foreseen where hands decide when it is switched, nor of the rig by itself.
func TestForeseenOnBench(t *testing.T) {
	end := func(fault string, severity float64) float64 {
		c := build(t, naMAF, sim.Conditions{})
		if fault != "" {
			c = build(t, naMAF, sim.Conditions{}, fault, severity)
		}
		part, _ := c.Graph.Part("vent-valve")
		st, _ := bench.ValveBench.Stretch(bench.Known{Subject: bench.Subject{Part: part}, In: map[record.RunKind]bool{}}, "phase-3")
		hands, ok := sim.HandsOn(st)
		f := sim.Forecast{Hands: hands, Every: 0.5, Column: "pressure"}
		if err := sim.ForeseeOnBench(c, "vent-valve", &f); err != nil || !ok || len(f.Time) < 40 || f.Value[0] != hands.Value {
			t.Fatalf("%v, %+v", err, f)
		}
		return f.Value[len(f.Value)-1] / f.Value[0]
	}
	if sound, leaks := end("", 0), end("vent-valve", 0.3); sound < 0.98 || leaks > 0.3 {
		t.Errorf("a sound valve keeps %.2f, one that leaks %.2f", sound, leaks)
	}
	part, _ := build(t, naMAF, sim.Conditions{}).Graph.Part("purge-valve")
	k := bench.Known{Subject: bench.Subject{Part: part}, In: map[record.RunKind]bool{}}
	for _, leg := range []record.RunKind{record.RunRig, "phase-1", "phase-4"} {
		st, _ := bench.ValveBench.Stretch(k, leg)
		if _, ok := sim.HandsOn(st); ok {
			t.Errorf("%s can be foreseen", leg)
		}
	}
}

// A vent unit on the rig shows its windows, and a fault in one of them.
func TestOnBenchVentUnit(t *testing.T) {
	of := plumbing.Combination{Engine: "na-maf", Vapour: "eonv-switch-remote"}
	for fault, outcome := range map[string]string{"": "good", "eonv-unit": "dead", "eonv-vacuum-relief": "early", "eonv-relief-shut": "relief-stuck"} {
		t.Run(fault, func(t *testing.T) {
			car := build(t, of, sim.Conditions{})
			if fault != "" {
				car = build(t, of, sim.Conditions{}, fault, 1.0)
			}
			k := bench.Known{Subject: bench.Subject{Graph: car.Graph}, In: map[record.RunKind]bool{}, Read: bench.Readings{}}
			all := bench.Readings{}
			for leg, seconds := range map[record.RunKind]float64{"phase-1": 90, "phase-2": 150} {
				rig, err := car.OnBench("vent-valve", "", 7)
				if err != nil {
					t.Fatal(err)
				}
				_, told := onRig(t, rig, k, bench.VentUnit, leg, seconds, nil)
				all = all.With(told.Readings)
			}
			if v := bench.VentUnit.Reduce(k.Subject, all); v.Outcome != outcome {
				t.Errorf("%+v of %v", v, all)
			}
		})
	}
}

// A relief by itself on the rig lets go where it should, and a stuck one where it does not.
func TestOnBenchRelief(t *testing.T) {
	of := plumbing.Combination{Engine: "na-map", Vapour: "early-ported"}
	for severity, outcome := range map[float64]string{0: "good", 1: ""} {
		car := build(t, of, sim.Conditions{})
		if severity > 0 {
			car = build(t, of, sim.Conditions{}, "tank-relief", severity)
		}
		p, _ := car.Graph.Part("tank-relief")
		k := bench.Known{Subject: bench.Subject{Graph: car.Graph, Part: p}, Site: bench.Site{Graph: car.Graph, Part: p.Key}, In: map[record.RunKind]bool{}, Read: bench.Readings{}}
		rig, err := car.OnBench(p.Key, "", 7)
		if err != nil {
			t.Fatal(err)
		}
		_, told := onRig(t, rig, k, bench.ValveBench, "phase-7", 120, nil)
		v := bench.ValveBench.Reduce(k.Subject, told.Readings)
		if outcome != "" && v.Outcome != outcome || outcome == "" && (v.Outcome == "good" || v.Outcome == "") {
			t.Errorf("severity %g: %+v of %+v", severity, v, told)
		}
	}
}
