package bench_test

import (
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"wexter/core/bench"
	"wexter/core/circuit"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/ingest"
)

// wired is a part with a circuit of the Book.
func wired(key string) plumbing.Part {
	for _, c := range ingest.Book().Plumbing.Circuits {
		if c.Key == key {
			return plumbing.Part{Key: "v", Name: "Valve", Kind: plumbing.Valve, Drive: "coil", Rest: plumbing.Shut, Circuit: key, Wired: c}
		}
	}
	panic(key)
}

// sound are readings of a solenoid in which nothing is wrong, with some others in their place.
func sound(but bench.Readings) bench.Readings {
	r := bench.Readings{"supply": num(12.5), "coil": num(25), "control": num(50), "through": num(25.2), "loaded": num(12.4), "case": num(open), "ground": num(0.02)}
	maps.Copy(r, but)
	return r
}

// meterShows is what a bay's meter shows: half a per cent and two steps off (common practice, no source), with a battery
// that is not the Book's.
func meterShows(rng *rand.Rand, m circuit.Measure, v, battery float64) bench.Reading {
	off := 1 + 0.005*rng.NormFloat64()
	switch m.Unit {
	case "V":
		v = math.Round((v*battery*off+0.02*rng.NormFloat64())*100) / 100
	case "ohm":
		if !math.IsInf(v, 1) {
			v = math.Max(math.Round((v*off+0.2*rng.NormFloat64())*10)/10, 0)
		}
	}
	return num(v)
}

// walks a circuit with a break as the test asks, reading by reading; it returns the verdict and how many
// readings it took.
func walks(t *testing.T, p plumbing.Part, b circuit.Break, rng *rand.Rand) (bench.Verdict, int) {
	t.Helper()
	r, changes := bench.Readings{}, b.At(rng.Float64())
	battery := 1.0
	if p.Circuit != "sensor" && p.Circuit != "thermistor" { // theirs are five volts, battery or not
		battery = (11.9 + 1.2*rng.Float64()) / 12.6
	}
	for n := range 40 {
		v := bench.CircuitWalk.Reduce(bench.Subject{Part: p}, r)
		if v.Ask == "" {
			return v, n
		}
		m, ok := p.Wired.Measure(v.Ask)
		if !ok {
			t.Fatalf("%s, %s: it asks for %q", p.Circuit, b.Key, v.Ask)
		}
		if b.Again != "" && r.Has(b.Again) && v.Ask == b.Again {
			return v, n
		}
		if m.Unit == "" {
			r[m.Key] = said(word(rng, m, b))
			continue
		}
		r[m.Key] = meterShows(rng, m, p.Wired.Reads(m, changes), battery)
	}
	return bench.Verdict{Outcome: bench.CannotTell}, 40
}

// word is what is seen with a break, by its shares.
func word(rng *rand.Rand, m circuit.Measure, b circuit.Break) string {
	x := rng.Float64()
	for _, k := range slices.Sorted(maps.Keys(b.Looks[m.Key])) {
		if x -= b.Looks[m.Key][k]; x < 0 {
			return k
		}
	}
	return m.Sound().Key
}

// Six hundred drawn breaks, read with a bay's meter and another battery than the Book's: the finding is
// the break that was put in, and never firmly another one.
func TestCircuitFindsTheBreak(t *testing.T) {
	rng := rand.New(rand.NewPCG(19, 2))
	all, right, wrong, taken := 0, 0, 0, 0
	for _, c := range ingest.Book().Plumbing.Circuits {
		p := wired(c.Key)
		for range 90 {
			b := c.Breaks[drawn(rng, c)]
			v, n := walks(t, p, b, rng)
			all, taken = all+1, taken+n
			switch {
			case b.Again != "" && v.Ask == b.Again, v.Outcome == b.Outcome && strings.HasPrefix(v.Says, b.Name):
				right++
			case v.Outcome != bench.CannotTell && v.Outcome != "":
				wrong++
				t.Logf("%s with %s: %s %s", c.Key, b.Key, v.Outcome, v.Says)
			}
		}
	}
	t.Logf("%d of %d found, %d wrong and firm, %.1f readings on average", right, all, wrong, float64(taken)/float64(all))
	if right*100 < 97*all || wrong*100 > all {
		t.Errorf("%d of %d found, %d wrong and firm", right, all, wrong)
	}
}

// drawn draws a break by its weight.
func drawn(rng *rand.Rand, c *circuit.Circuit) int {
	sum := 0.0
	for _, b := range c.Breaks {
		sum += b.Weight
	}
	x := rng.Float64() * sum
	for i, b := range c.Breaks {
		if x -= b.Weight; x < 0 {
			return i
		}
	}
	return len(c.Breaks) - 1
}

// What is mistyped, or measured wrongly, is asked for again in a sentence.
func TestCircuitAsksAgain(t *testing.T) {
	s := bench.Subject{Part: wired("solenoid")}
	for _, c := range []struct {
		name string
		r    bench.Readings
		ask  string
		say  string
	}{
		{"between", bench.Readings{"supply": num(10.7)}, "supply", "lies between"},
		{"far too much", bench.Readings{"supply": num(27.5)}, "supply", "cannot be here"},
		{"leads crossed", bench.Readings{"supply": num(-12.4), "coil": num(open)}, "", "leads were crossed"},
		{"cannot be together", bench.Readings{"supply": num(12.4), "feed": num(0.1), "proof": num(12.5), "loaded": num(12.3)}, "feed", "cannot all be"},
		{"no ground for the meter", bench.Readings{"supply": num(0.1), "proof": num(0.2)}, "supply", "Prove a ground first"},
		{"several readings", bench.Readings{"supply": num(12.4), "coil": num(25, 25, open)}, "", "Coil open"},
		{"ohms of a warm coil by the book", sound(bench.Readings{"coil": num(44), "coil-at": num(20), "coil-least": num(20), "coil-most": num(30)}), "through", "cannot all be"},
		{"a fuse too large", bench.Readings{"supply": num(0), "feed": num(12.4), "fuse": num(0), "short": num(0.4), "fuse-name": said("F12"), "fuse-size": num(30), "rubbed": said("at the axle."), "mended": said("new wire, soldered, in a sleeve")}, "", "Fuse: F12, 30 A. That is more than the 10 to 20 A"},
		{"where it was rubbed", bench.Readings{"supply": num(0), "feed": num(12.4), "fuse": num(0), "short": num(0.4), "rubbed": said("at the axle."), "mended": said("new wire")}, "", "Rubbed: at the axle. Mended: new wire."},
	} {
		t.Run(c.name, func(t *testing.T) {
			if v := bench.CircuitWalk.Reduce(s, c.r); v.Ask != c.ask || !strings.Contains(v.Says, c.say) {
				t.Errorf("asks %q: %s", v.Ask, v.Says)
			}
		})
	}
}

// atMeter is a stretch of the walk with a meter that gives volts and ohms, and what its watcher makes of
// what it shows.
func atMeter(t *testing.T, k bench.Known, measure string, shows func(i int) (volts, ohm float64)) (bench.Stretch, bench.Watcher) {
	t.Helper()
	for _, s := range bench.CircuitWalk.Stretches(k) {
		if len(s.Read) == 1 && s.Read[0] == measure {
			w := bench.CircuitWalk.Watch(k, s, record.Channels{{Key: "volts", Unit: "V", Resolution: 0.01}, {Key: "ohms", Unit: "ohm", Resolution: 0.1}})
			for i := range 60 {
				v, o := shows(i)
				w.Take(float64(i)/10, []float64{v, o})
			}
			return s, w
		}
	}
	t.Fatalf("%s is not among the stretches", measure)
	return bench.Stretch{}, nil
}

// A meter is read while it stands still; what it shows with its probes in the air is said, and so is the wrong quantity.
func TestCircuitAtTheMeter(t *testing.T) {
	none := math.NaN()
	k := bench.Known{Subject: bench.Subject{Part: wired("solenoid")}, In: map[record.RunKind]bool{}, Read: bench.Readings{"proof": num(12.6)}, Has: func(string) bool { return true }}
	flat := func(v, o float64) func(int) (float64, float64) {
		return func(int) (float64, float64) { return v, o }
	}
	for _, c := range []struct {
		name, measure string
		shows         func(int) (float64, float64)
		want          bench.Reading
		now, says     string
	}{
		{"still", "supply", flat(12.43, none), num(12.43), "Still at 12.4 V: supply is there. Go on.", ""},
		{"in the air", "supply", flat(0, none), num(0), "probes in the air", ""},
		{"wanders", "supply", func(i int) (float64, float64) { return 6 + 5*math.Sin(float64(i)), none }, bench.Reading{}, "Red on the supply pin", "had not come to rest"},
		{"open", "coil", flat(none, bench.Overload), num(open), "probes in the air", ""},
		{"a coil", "coil", flat(none, 24.8), num(24.8), "whole", ""},
		{"on volts", "coil", flat(3.1, none), bench.Reading{}, "turn it to ohms", "showed nothing"},
		{"on ohms", "supply", flat(none, 24), bench.Reading{}, "turn it to volts", "showed nothing"},
		{"half the time", "control", func(i int) (float64, float64) { return 6.45 + 0.3*math.Sin(float64(i)), none }, num(49), "the command arrives", ""},
		{"no command", "control", flat(12.55, none), num(0), "no command arrives", ""},
		{"between", "supply", flat(10.7, none), num(10.7), "for neither", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, w := atMeter(t, k, c.measure, c.shows)
			told := w.Told()
			if got := told.Readings[c.measure]; len(c.want.Numbers) > 0 && (len(got.Numbers) != 1 || got.Numbers[0] != c.want.Numbers[0] && math.Abs(got.Numbers[0]-c.want.Numbers[0]) > 1) {
				t.Errorf("it reads %v, not %v", got.Numbers, c.want.Numbers)
			}
			if now := w.State().Now; !strings.Contains(now, c.now) || !strings.Contains(told.Says, c.says) {
				t.Errorf("%q, %q", now, told.Says)
			}
		})
	}
}

// Stretches are what is in, what tells most, and what may be measured in its place; a command is given and let go.
func TestCircuitStretches(t *testing.T) {
	k := bench.Known{Subject: bench.Subject{Part: wired("solenoid")}, In: map[record.RunKind]bool{}, Read: bench.Readings{"supply": num(12.4), "coil": num(25)}, Has: func(c string) bool { return c == "volts" }}
	all := bench.CircuitWalk.Stretches(k)
	if !all[0].Done || !all[1].Done || all[2].Done || all[2].Maybe || all[2].Read[0] != "control" || !all[3].Maybe {
		t.Errorf("%+v", all[:4])
	}
	if !all[2].Energises() || !all[2].Rests || !strings.Contains(all[2].Before, "Test load") && !strings.Contains(all[2].Before, "test load") {
		t.Errorf("the command: %+v", all[2])
	}
	for _, s := range all {
		if s.Read[0] == "through" && !strings.Contains(s.Lacks, "resistance") || s.Read[0] == "loaded" && s.Lacks != "" {
			t.Errorf("a meter of volts alone: %s lacks %q", s.Read[0], s.Lacks)
		}
	}
	if s := bench.CircuitWalk.Stretches(bench.Known{}); len(s) != 1 || s[0].Lacks == "" {
		t.Errorf("a part without a circuit: %+v", s)
	}
	k.Read = sound(nil)
	for _, s := range bench.CircuitWalk.Stretches(k) {
		if !s.Done {
			t.Errorf("%s is asked for when nothing is open", s.Name)
		}
	}
}

// Pins are looked at: the last word that is pressed counts.
func TestCircuitPinsAreSeen(t *testing.T) {
	k := bench.Known{Subject: bench.Subject{Part: wired("solenoid")}, In: map[record.RunKind]bool{}, Read: bench.Readings{}}
	_, w := atMeter(t, k, "pins", func(int) (float64, float64) { return 1, math.NaN() })
	if r := w.Told().Readings; r.Has("pins") || !strings.Contains(w.State().Now, "Press what you see") {
		t.Errorf("nothing pressed: %v", r)
	}
	w.Mark(1, "fit")
	w.Mark(2, "green")
	w.Mark(3, "a bus went by")
	if r := w.Told().Readings; r.Word("pins") != "green" {
		t.Errorf("pressed: %v", r)
	}
}

// The picture clears what the readings have cleared, suspects the rest, and holds the probes where they
// belong.
func TestCircuitScene(t *testing.T) {
	p := wired("solenoid")
	scene := func(r bench.Readings) bench.CircuitScene {
		s, ok := bench.CircuitWalk.Picture(bench.Subject{Part: p}, r).(bench.CircuitScene)
		if !ok {
			t.Fatal("no picture")
		}
		return s
	}
	first := scene(bench.Readings{})
	if first.Red != "supply-pin" || first.Black != "probe" || len(first.Cleared) != 0 || first.Suspicion["fuse"] <= 0 {
		t.Errorf("at first: %+v", first)
	}
	second := scene(bench.Readings{"supply": num(12.4)})
	if !second.Cleared["fuse"] || second.Suspicion["coil"] <= first.Suspicion["coil"] || second.At["supply-pin"] != "12.4 V" {
		t.Errorf("with supply: %+v", second)
	}
	if last := scene(bench.Readings{"coil": num(open)}); last.Found != "Coil open" || last.Red != "" {
		t.Errorf("at the end: %+v", last)
	}
	if s := bench.CircuitWalk.Picture(bench.Subject{}, bench.Readings{}); s != nil {
		t.Errorf("a part without a circuit: %v", s)
	}
}
