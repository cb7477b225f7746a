package bench_test

import (
	"slices"
	"strings"
	"testing"

	"wexter/core/bench"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/smoke"
	"wexter/ingest"
)

// smokeBench is a smoke test of a car at an entry, before anything was read.
func smokeBench(t *testing.T, entry string) bench.Known {
	t.Helper()
	b := ingest.Book()
	a, _ := b.Archetype("engine-vacuum")
	g := graphOf(t, "engine-vacuum")
	s := bench.Subject{Graph: g, Level: 0.6, Seal: a.Settings(), Entry: entry}
	return bench.Known{Subject: s, Site: bench.Site{Graph: g, Seal: a.Settings(), Entry: entry}, Works: canAll, In: map[record.RunKind]bool{}, Read: bench.Readings{}, Past: map[record.RunKind]bench.Past{}}
}

// smoked lets a flow (L/min) go in for some seconds at five a second; it says how the stretch ended.
func smoked(w bench.Watcher, table *record.Table, flow, seconds float64) (ends string) {
	for at := 0.2; at <= seconds; at += 0.2 {
		row := []float64{flow / 60e3, 2989}
		table.Add(at, row)
		if h := w.Take(at, row); h.Ends != "" {
			return h.Ends
		}
	}
	return ""
}

// Smoke goes in with the far end open until it is seen there; then places are looked at. One is
// cleared only where smoke has been for long enough.
func TestSmokeTakesPlacesWhenTheFrontIsThere(t *testing.T) {
	k := smokeBench(t, "service-port")
	cols := record.Channels{{Key: "flow", Unit: "m3/s"}, {Key: "pressure", Unit: "Pa"}}
	in, _ := bench.VapourSmoke.Stretch(k, "phase-1")
	w := bench.VapourSmoke.Watch(k, in, cols)
	places := w.(bench.Placer)
	table := record.NewTable(2)
	smoked(w, &table, 8, 10)
	for part, say := range map[string]string{"neck": "not to be expected at the filler neck yet", "raft": "no such part", "vent-hose": "at this flow it does not get there", "canister": ""} {
		what := bench.NothingThere
		if part == "canister" { // it came there just now
			say = "only just now"
		}
		if got := places.Place(part, what); !strings.Contains(got, say) || got == "" {
			t.Errorf("%s: %q", part, got)
		}
	}
	if got := places.Place("vapour-line", "stream"); got != "" {
		t.Errorf("an exit is refused: %s", got)
	}
	if got := places.Place("vapour-line", "a lot"); got == "" {
		t.Error("a size that is none is taken")
	}
	scene := w.(bench.Painter).Picture().(bench.SmokeScene)
	if scene.Set["cap"] != plumbing.Open || !slices.Contains(scene.Expected, "cap") || scene.Shares["canister"] < smoke.Reached || scene.Shares["tank"] > smoke.Reached || len(scene.ToGo) < 4 {
		t.Errorf("%+v", scene)
	}
	if told := w.Told(); told.Readings.Word("far") != bench.No {
		t.Errorf("%+v", told)
	}
	w.Mark(11, "far")
	if ends := smoked(w, &table, 8, 1); ends == "" || w.Told().Readings.Word("far") != bench.Yes {
		t.Errorf("smoke at the far end: %q, %+v", ends, w.Told())
	}

	// The hold takes the front up where it was.
	for at := 11.2; at < 240; at += 0.2 {
		table.Add(at, []float64{8 / 60e3, 2989})
	}
	k.Past["phase-1"], k.In["phase-1"], k.Read = bench.Past{Cols: cols, Table: table}, true, k.Read.With(w.Told().Readings)
	hold, _ := bench.VapourSmoke.Stretch(k, "phase-2")
	h := bench.VapourSmoke.Watch(k, hold, cols)
	held := record.NewTable(2)
	smoked(h, &held, 0.4, 30)
	if got := h.(bench.Placer).Place("neck", bench.NothingThere); got != "" {
		t.Errorf("smoke has long been at the neck: %s", got)
	}
	if got := h.(bench.Placer).Place("vent-hose", bench.NothingThere); got != "" && !strings.Contains(got, "to go") && !strings.Contains(got, "just now") {
		t.Errorf("with a leak's flow smoke comes to the vent: %s", got)
	}
	h.Mark(31, bench.PlaceKey("vapour-line", "stream"))
	h.Mark(32, bench.PlaceKey("flange", "wisp"))
	h.Mark(33, bench.PlaceKey("flange", bench.TakenBack))
	h.Mark(34, bench.PlaceKey("neck", bench.NothingThere))
	h.Mark(35, "place:broken")
	told := h.Told().Readings
	exits, looked := told["exits"].Places, told["looked"].Places
	if len(exits) != 1 || exits[0] != (bench.Place{Part: "vapour-line", Size: "stream"}) || len(looked) != 1 || looked[0].Part != "neck" {
		t.Errorf("%+v, %+v", exits, looked)
	}
	v := bench.VapourSmoke.Reduce(k.Subject, k.Read.With(told))
	if v.Outcome != "exit" || len(v.Figures) != 1 || v.Figures[0].High < 0.6 || v.Figures[0].Low > 0.5 {
		t.Errorf("%+v of %+v", v, told)
	}
}

// Where smoke goes in at the neck, the far end is at the other side.
func TestFarEndIsFarFromTheEntry(t *testing.T) {
	for entry, far := range map[string]string{"service-port": "cap", "neck": "service-port", "cap": "service-port"} {
		k := smokeBench(t, entry)
		if got, ok := k.Site.Where(bench.AtFarEnd); !ok || got != far && !(far == "service-port" && got == "purge-pipe") {
			t.Errorf("in at the %s: the far end is %q", entry, got)
		}
	}
}

// Without instruments the front is drawn from what was typed, or from what a rig usually gives.
func TestSmokeIsDrawnFromTypedReadings(t *testing.T) {
	k := smokeBench(t, "service-port")
	for _, c := range []struct {
		name  string
		r     bench.Readings
		there bool
	}{
		{"nothing typed", bench.Readings{}, false},
		{"half a minute", bench.Readings{"minutes": num(0.5), "level": num(20)}, false},
		{"ten minutes", bench.Readings{"minutes": num(10), "rig-flow": num(8), "level": num(20)}, true},
		{"a full tank fills sooner", bench.Readings{"minutes": num(1), "rig-flow": num(8), "level": num(95)}, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.r["exits"] = bench.Reading{Places: []bench.Place{{Part: "vapour-line", Size: "billow"}}}
			s := bench.VapourSmoke.Picture(k.Subject, c.r).(bench.SmokeScene)
			if there := s.Shares["tank"] >= smoke.Reached; there != c.there || s.Seen["vapour-line"] != "billow" {
				t.Errorf("tank %.2f, %+v", s.Shares["tank"], s.Seen)
			}
		})
	}
	if s := bench.VapourSmoke.Picture(bench.Subject{}, bench.Readings{}); s != nil {
		t.Errorf("a car that nobody knows is drawn: %+v", s)
	}
}
