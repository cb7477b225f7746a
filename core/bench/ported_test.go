package bench_test

import (
	"math/rand/v2"
	"strings"
	"testing"

	"wexter/core/bench"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/ingest"
)

// earlyPart is a part of a car whose valves ported vacuum moves.
func earlyPart(t *testing.T, key string) bench.Subject {
	t.Helper()
	g, err := ingest.Book().Plumbing.Combine(plumbing.Combination{Engine: "na-map", Boost: "no-boost", Crankcase: "fixed-valve", Recirculation: "no-egr", Vapour: "early-ported"})
	if err != nil {
		t.Fatal(err)
	}
	p, ok := g.Part(key)
	if !ok {
		t.Fatal(key)
	}
	return bench.Subject{Graph: g, Part: p}
}

// A relief is judged by where it opens and shuts again, three times alike; what is missing or cannot be is
// asked for.
func TestReliefByItsRamp(t *testing.T) {
	s := earlyPart(t, "tank-relief") // 6.9 kPa, 27.7 inH2O
	for _, c := range []struct {
		name           string
		opens, reseals bench.Reading
		want           string
	}{
		{"sound", num(27, 28, 27.5), num(22, 22.5, 22), "good"},
		{"once", num(27), num(22), "?opens"},
		{"late", num(38, 38.8, 39), num(30), "stuck"},
		{"early", num(15, 15.5, 15.2), num(10, 10, 10), "leaks"},
		{"shuts late", num(27, 27, 27), num(8, 9, 8), "leaks"},
		{"not alike", num(22, 30, 26), num(20, 20, 20), "sticky"},
		{"shut above where it opens", num(27, 27, 27), num(31), "?reseals"},
	} {
		r := bench.Readings{"opens": c.opens, "reseals": c.reseals}
		v := bench.ValveBench.Reduce(s, r)
		got := v.Outcome
		if v.Ask != "" {
			got = "?" + v.Ask
		}
		if got != c.want {
			t.Errorf("%s: %q (%s), want %q", c.name, got, v.Says, c.want)
		}
	}
	k := bench.Known{Subject: s, Works: canAll, In: map[record.RunKind]bool{}, Read: bench.Readings{}, Site: bench.Site{Graph: s.Graph, Part: "tank-relief"}}
	st, ok := bench.ValveBench.Stretch(k, "phase-7")
	if !ok {
		t.Fatal("a relief is not ramped")
	}
	truth := newRampTruth(rand.New(rand.NewPCG(19, 60)), 27.7, 22)
	ts, ps, _, _ := truth.ramp(3)
	w := bench.ValveBench.Watch(k, st, record.Channels{{Key: "pressure", Unit: "Pa", Resolution: 2.5}})
	for i := range ts {
		w.Take(ts[i], []float64{ps[i] * 249.089})
	}
	if v := bench.ValveBench.Reduce(s, w.Told().Readings); v.Outcome != "good" || !strings.Contains(w.State().Now, "enough") {
		t.Errorf("%+v of %+v, %q", v, w.Told(), w.State().Now)
	}
	w = bench.ValveBench.Watch(k, st, record.Channels{{Key: "pressure", Unit: "Pa", Resolution: 2.5}})
	for i := range ts {
		w.Take(ts[i], []float64{-ps[i] * 249.089})
	}
	if told := w.Told(); len(told.Readings) != 0 || !strings.Contains(told.Says, "press air in") {
		t.Errorf("a vacuum: %+v", told)
	}
}

// The signal of a diaphragm is said beside the valve: none closed, present off idle; a valve that power
// moves has none.
func TestSignalOfADiaphragm(t *testing.T) {
	s := earlyPart(t, "tank-valve")
	k := bench.Known{Subject: s, Works: canAll, In: map[record.RunKind]bool{}, Site: bench.Site{Graph: s.Graph, Part: "tank-valve"}}
	var names []string
	for _, st := range bench.ValveBench.Stretches(k) {
		names = append(names, st.Name)
	}
	if !strings.Contains(strings.Join(names, "; "), "Signal, throttle closed; Signal, off idle") {
		t.Errorf("%q", names)
	}
	sound := bench.Readings{"sealed": bench.CountOf(5, 5), "passed": bench.CountOf(5, 5)}
	for _, c := range []struct {
		closed, open float64
		says         string
	}{{0.2, 12, "Its signal is right"}, {0.1, 0.4, "thermal switch"}, {14, 15, "hose is on the manifold"}} {
		v := bench.ValveBench.Reduce(s, sound.With(bench.Readings{"signal-closed": num(c.closed), "signal-open": num(c.open)}))
		if v.Outcome != "good" || !strings.Contains(v.Says, c.says) {
			t.Errorf("%g closed, %g open: %+v", c.closed, c.open, v)
		}
	}
	g := earlyPart(t, "tank-valve").Graph
	vent := bench.Subject{Graph: g, Part: plumbing.Part{Key: "vent-valve", Kind: plumbing.Valve, Drive: "coil", Rest: plumbing.Open}}
	if v := bench.ValveBench.Reduce(vent, sound.With(bench.Readings{"signal-open": num(12)})); v.Ask != "signal-open" {
		t.Errorf("vacuum on a coil: %+v", v)
	}
}
