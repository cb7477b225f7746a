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

// valveKnown is a valve that rests shut, and what is known before it is read.
func valveKnown(rest plumbing.State) bench.Known {
	part := plumbing.Part{Key: "v", Name: "Valve", Kind: plumbing.Valve, Family: "vapour", Drive: "coil", Rest: rest}
	return bench.Known{Subject: bench.Subject{Part: part}, Works: func(bench.Verb) bool { return false }, In: map[record.RunKind]bool{}, Read: bench.Readings{}, Past: map[record.RunKind]bench.Past{}}
}

// pumped feeds a trace (s, inHg) to a stretch of a test; taps come at their seconds.
func pumped(t *testing.T, test bench.Test, k bench.Known, leg record.RunKind, ts, inHg []float64, taps map[string][]float64) (bench.Watcher, bench.Told) {
	t.Helper()
	st, ok := test.Stretch(k, leg)
	if !ok {
		t.Fatal(leg)
	}
	w := test.Watch(k, st, record.Channels{{Key: "pressure", Unit: "Pa", Resolution: 50}})
	for i := range ts {
		w.Take(ts[i], []float64{-inHg[i] * 3386.39})
		for key, at := range taps {
			for len(at) > 0 && ts[i] >= at[0] {
				w.Mark(at[0], key)
				at = at[1:]
				taps[key] = at
			}
		}
	}
	return w, w.Told()
}

// heldAt is a trace that is pumped up within some seconds and then loses a share of it in a second.
func heldAt(level, loses, seconds float64) (ts, inHg []float64) {
	for at := 0.0; at < seconds; at += 0.1 {
		v := math.Min(at/4, 1) * level
		if at > 4 {
			v = level * math.Exp(-loses*(at-4))
		}
		ts, inHg = append(ts, at), append(inHg, v)
	}
	return
}

// The plugged rig and a hold: 20 s count from the last stroke, and what was pumped to another level is
// brought to 15 inHg.
func TestPumpHeldForTwentySeconds(t *testing.T) {
	k := valveKnown(plumbing.Shut)
	for _, c := range []struct {
		name                  string
		level, loses, seconds float64
		leg                   record.RunKind
		key                   string
		least, most           float64
		says                  string
	}{
		{"rig holds", 15, 0.0002, 26, record.RunRig, "rig", 14.8, 15, "keeps"},
		{"rig leaks", 16, 0.05, 26, record.RunRig, "rig", 4, 7, "mend the rig"},
		{"held from 12", 12, 0.005, 26, "phase-3", "held", 13, 14, "keeps"},
		{"cut short", 15, 0.001, 12, "phase-3", "", 0, 0, "only, of 20"},
		{"hardly pumped", 4, 0.001, 26, "phase-3", "", 0, 0, "not brought up far enough"},
		{"inches of water", 1.1, 0.001, 26, "phase-3", "", 0, 0, "another unit"},
		{"more than there is air", 204, 0.001, 26, "phase-3", "", 0, 0, "more than there is air"},
	} {
		t.Run(c.name, func(t *testing.T) {
			ts, v := heldAt(c.level, c.loses, c.seconds)
			_, told := pumped(t, bench.ValveBench, k, c.leg, ts, v, nil)
			got, ok := told.Readings.Mean(c.key)
			if !strings.Contains(told.Says, c.says) || ok != (c.key != "") || ok && (got < c.least || got > c.most) {
				t.Errorf("%+v", told)
			}
		})
	}
}

// Cycles by hand: the space bar says when the power came on and went off, clicks are tapped; what was
// not pumped up does not count and says so.
func TestValveCyclesByTaps(t *testing.T) {
	k := valveKnown(plumbing.Shut)
	x := newCycleTruth(rand.New(rand.NewPCG(18, 60)))
	x.rest, x.isOpen, x.leak, x.sticks, x.byHand, x.noise, x.step, x.dt = plumbing.Shut, false, 0.001, 0, true, 0.01, 0.02, 0.1
	for range 5 {
		x.cycle()
	}
	x.power(true) // nothing pumped up
	x.run(2, false)
	x.power(false)
	x.run(1, false)
	taps := map[string][]float64{}
	for _, s := range x.switched {
		taps["power"] = append(taps["power"], s.At)
		taps["click"] = append(taps["click"], s.At+0.1)
	}
	w, told := pumped(t, bench.ValveBench, k, "phase-1", x.t, x.p, taps)
	sealed, n := told.Readings.Cycles("sealed")
	passed, m := told.Readings.Cycles("passed")
	if sealed != 5 || n != 5 || passed != 5 || m != 5 || told.Readings.Word("click") != bench.Yes {
		t.Errorf("sealed %d of %d, passed %d of %d: %+v", sealed, n, passed, m, told)
	}
	if !strings.Contains(told.Says, "do not count") || !strings.Contains(told.Says, "pump it up first") {
		t.Errorf("the cycle that was not pumped up: %q", told.Says)
	}
	if !strings.Contains(w.State().Now, "that is enough") || w.(bench.Switcher).On() {
		t.Errorf("%q", w.State().Now)
	}
	s, ok := w.(bench.Painter).Picture().(bench.ValveScene)
	if !ok || len(s.Old.Spans) < 10 || s.Old.Spans[1].Clicks != 1 || len(s.Old.T) == 0 || s.Must != bench.Holds {
		t.Errorf("the picture: %+v", s.Old.Spans)
	}
	// Of the new part beside it the cycles are kept apart.
	_, told = pumped(t, bench.ValveBench, k, bench.NewPart, x.t, x.p, map[string][]float64{"power": {1e9}})
	if told.Readings.Has("sealed") || told.Readings.Has("click") {
		t.Errorf("a new part's cycles are taken for those of the car's: %+v", told.Readings)
	}
	// A hold of another bench has no switching, and comes to no verdict.
	ts, v := heldAt(15, 0.001, 60)
	if _, told = pumped(t, bench.ValveBench, k, "phase-1", ts, v, nil); !strings.Contains(told.Says, "never seen to be switched") || bench.ValveBench.Reduce(k.Subject, told.Readings).Outcome != "" {
		t.Errorf("a hold for cycles: %+v", told)
	}
	if _, told = pumped(t, bench.ValveBench, k, "phase-1", nil, nil, nil); len(told.Readings) != 0 || told.Says == "" {
		t.Errorf("nothing read: %+v", told)
	}
}

// A vent unit with reliefs of its own is not pumped to 15 inHg: a sound one would be called leaking.
func TestValveWithReliefsIsNotPumped(t *testing.T) {
	for vapour, lacks := range map[string]bool{"eonv-switch-remote": true, "engine-vacuum": false} {
		g := graphOf(t, vapour)
		part, _ := g.Part("vent-valve")
		k := bench.Known{Subject: bench.Subject{Graph: g, Part: part}, In: map[record.RunKind]bool{}}
		for _, leg := range []record.RunKind{"phase-1", bench.NewPart, "phase-3"} {
			if st, _ := bench.ValveBench.Stretch(k, leg); strings.Contains(st.Lacks, "reliefs of its own") != lacks {
				t.Errorf("%s, %s: %q", vapour, leg, st.Lacks)
			}
		}
	}
}

// What the new part shows is held against the old one, and a rig that leaks is no verdict on a valve.
func TestValveBesideNew(t *testing.T) {
	s := bench.Subject{Part: valveKnown(plumbing.Shut).Part}
	five := func(yes int) bench.Reading { return bench.CountOf(yes, 5) }
	for _, c := range []struct {
		name         string
		r            bench.Readings
		outcome, say string
	}{
		{"new one sound", bench.Readings{"sealed": five(0), "passed": five(5), "new-sealed": five(5), "new-passed": five(5)}, "leaks", "The new one beside it sealed 5 of 5"},
		{"new one leaks too", bench.Readings{"sealed": five(0), "passed": five(5), "new-sealed": five(0), "new-passed": five(5)}, bench.CannotTell, "the same trouble"},
		{"old one sound", bench.Readings{"sealed": five(5), "passed": five(5), "new-sealed": five(5), "new-passed": five(5)}, "good", "The new one"},
		{"rig leaks", bench.Readings{"sealed": five(0), "passed": five(5), "rig": bench.Num(6)}, "", "the rig itself keeps only"},
		{"rig leaks a little, valve good", bench.Readings{"sealed": five(5), "passed": five(5), "rig": bench.Num(6)}, "good", "sound"},
		{"never seals, so nothing can pass", bench.Readings{"sealed": five(0)}, "leaks", "does not seal"},
	} {
		t.Run(c.name, func(t *testing.T) {
			if v := bench.ValveBench.Reduce(s, c.r); v.Outcome != c.outcome || !strings.Contains(v.Says, c.say) {
				t.Errorf("%+v", v)
			}
		})
	}
}

// A check valve: held the way it must, and ten strokes through it the other way.
func TestCheckValveOnThePump(t *testing.T) {
	k := bench.Known{Subject: bench.Subject{Part: plumbing.Part{Key: "c", Kind: plumbing.Check}}, In: map[record.RunKind]bool{}, Read: bench.Readings{}}
	strokes := func(each, keeps float64) (ts, v []float64) {
		level := 0.0
		for i := range 100 {
			if i%8 == 0 {
				level += each
			}
			level *= keeps
			ts, v = append(ts, float64(i)/10), append(v, level)
		}
		return
	}
	for _, c := range []struct {
		name        string
		each, keeps float64
		word, says  string
	}{
		{"passes", 0.9, 0.6, "passes", ""},
		{"passes, and each stroke kicks", 4, 0.5, "passes", ""},
		{"shut", 2, 0.999, "shut", ""},
		{"between", 1.5, 0.95, "", "neither free nor shut"},
		{"no stroke", 0, 1, "", "Hardly a stroke"},
	} {
		t.Run(c.name, func(t *testing.T) {
			ts, v := strokes(c.each, c.keeps)
			_, told := pumped(t, bench.CheckValve, k, "phase-2", ts, v, nil)
			if told.Readings.Word("forward") != c.word || !strings.Contains(told.Says, c.says) {
				t.Errorf("%+v", told)
			}
		})
	}
	ts, v := heldAt(15, 0.2, 26)
	_, told := pumped(t, bench.CheckValve, k, "phase-1", ts, v, nil)
	r := told.Readings.With(bench.Readings{"forward": bench.Said("passes")})
	if v := bench.CheckValve.Reduce(k.Subject, r); v.Outcome != "both" {
		t.Errorf("passes both ways: %+v of %v", v, r)
	}
	if v := bench.CheckValve.Reduce(k.Subject, r.With(bench.Readings{"rig": bench.Num(5)})); v.Ask != "rig" {
		t.Errorf("the rig leaks: %+v", v)
	}
}

// The contact inch by inch, for who has no trace: between which inches it changed, and what is missing.
func TestVentUnitByTheInch(t *testing.T) {
	base := bench.Readings{"opens": bench.Num(0.5, 0.52), "reseals": bench.Num(0.35), "vacuum": bench.Num(4.2, 4.3)}
	steps := func(v ...float64) bench.Readings {
		r := bench.Readings{}
		for i, x := range v {
			if x == x {
				r["inch-"+string(rune('0'+i))] = bench.Num(x)
			}
		}
		return base.With(r)
	}
	nan := math.NaN()
	for _, c := range []struct {
		name         string
		r            bench.Readings
		outcome, ask string
	}{
		{"changes between 1 and 2", steps(11.8, 11.8, 0.2, 0.2, 0.2), "good", ""},
		{"the other sense", steps(0.2, 0.2, 11.8, 11.8), "good", ""},
		{"late", steps(11.8, 11.8, 11.8, 0.2), "dead", ""},
		{"never", steps(11.8, 11.8, 11.8, 11.8, 11.8), "dead", ""},
		{"an inch left out where it changed", steps(11.8, nan, 0.2, 0.2), "", "switch"},
		{"broken off too soon", steps(11.8, 11.8, 11.8), "", "switch"},
		{"one only", steps(11.8), "", "switch"},
	} {
		t.Run(c.name, func(t *testing.T) {
			if v := bench.VentUnit.Reduce(bench.Subject{}, c.r); v.Outcome != c.outcome || v.Ask != c.ask {
				t.Errorf("%+v", v)
			}
		})
	}
}

// Hands take their time: cycles and ramps that last ten minutes are all there at the end.
func TestSlowHandsLoseNothing(t *testing.T) {
	x := newCycleTruth(rand.New(rand.NewPCG(18, 61)))
	x.rest, x.isOpen, x.leak, x.sticks, x.byHand, x.noise, x.step, x.dt = plumbing.Shut, false, 0.0005, 0, true, 0.01, 0.02, 0.1
	for range 5 {
		x.cycle()
		x.run(100, false)
	}
	taps := map[string][]float64{}
	for _, s := range x.switched {
		taps["power"] = append(taps["power"], s.At)
	}
	_, told := pumped(t, bench.ValveBench, valveKnown(plumbing.Shut), "phase-1", x.t, x.p, taps)
	if sealed, n := told.Readings.Cycles("sealed"); sealed < 5 || n < 5 {
		t.Errorf("sealed %d of %d in %.0f s: %+v", sealed, n, x.now, told)
	}
	r := newRampTruth(rand.New(rand.NewPCG(18, 62)), 0.55, 0.35)
	ts, ps, _, _ := r.ramp(3)
	for at := ts[len(ts)-1]; at < 600; at += 0.1 {
		ts, ps = append(ts, at), append(ps, 0)
	}
	if _, told := vented(t, bench.Known{Works: canAll, In: map[record.RunKind]bool{}, Read: bench.Readings{}}, "phase-1", ts, ps, nil); len(told.Readings["opens"].Numbers) < 3 {
		t.Errorf("%+v", told)
	}
}
