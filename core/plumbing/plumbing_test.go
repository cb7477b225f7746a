package plumbing_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"wexter/core/plumbing"
	"wexter/ingest"
)

var (
	lib   = ingest.Book().Plumbing
	plain = plumbing.Combination{Engine: "na-maf", Boost: "no-boost", Crankcase: "fixed-valve", Recirculation: "no-egr", Vapour: "engine-vacuum"}
	turbo = plumbing.Combination{Engine: "turbo-petrol", Boost: "charged-line", Crankcase: "regulator-turbo", Recirculation: "egr-motor", Vapour: "eonv-switch-remote"}
)

func graph(t *testing.T, c plumbing.Combination) *plumbing.Graph {
	t.Helper()
	g, err := lib.Combine(c)
	if err != nil {
		t.Fatal(err)
	}
	return g
}

// Rest states belong to the archetype: the same key rests otherwise on another car.
// Common practice, no source.
func TestRestStatesBelongToTheArchetype(t *testing.T) {
	for vapour, want := range map[string]string{
		"engine-vacuum": "purge-valve shut, vent-valve open", "pressure-pump": "purge-valve shut, vent-valve open",
		"pump-current": "purge-valve shut, vent-valve open", "pump-absolute": "purge-valve shut, vent-valve open",
		"eonv-switch-remote": "purge-valve shut, vent-valve shut", "eonv-switch-canister": "purge-valve shut, vent-unit shut",
		"eonv-sensor": "purge-valve shut, vent-valve open", "early-ported": "purge-valve shut, tank-valve shut",
		"sealed-hybrid": "purge-valve shut, vent-valve open, isolation-valve shut",
	} {
		t.Run(vapour, func(t *testing.T) {
			g := graph(t, plain.With("vapour", vapour))
			for _, w := range strings.Split(want, ", ") {
				k, st, _ := strings.Cut(w, " ")
				if got := g.StateOf(k, nil); string(got) != st {
					t.Errorf("%s: %s rests %s, not %s", vapour, k, got, st)
				}
				if p, _ := g.Part(k); p.Moves() && g.StateOf(k, plumbing.Settings{k: plumbing.Powered}) == got(g, k) {
					t.Errorf("%s: power does not move %s", vapour, k)
				}
			}
		})
	}
	for _, f := range []string{"engine-vacuum", "pump-current"} {
		if _, ok := graph(t, plain.With("vapour", f)).Part("unit-switch"); ok {
			t.Errorf("%s has a vacuum switch", f)
		}
	}
}

func got(g *plumbing.Graph, k string) plumbing.State { return g.StateOf(k, nil) }

// The vent unit's windows: relief near 0.5 inH2O and shut again below, switch about 1
// and not beyond 2, vacuum relief between 3 and 6. Common practice, no source.
func TestVentUnitWindows(t *testing.T) {
	g := graph(t, turbo)
	inch := 249.089
	r, _ := g.Part("unit-relief")
	s, _ := g.Part("unit-switch")
	v, _ := g.Part("unit-vacuum-relief")
	if r.Crack < 0.4*inch || r.Crack > 0.6*inch || r.Reseal >= r.Crack {
		t.Errorf("relief opens at %g Pa and reseals at %g Pa", r.Crack, r.Reseal)
	}
	if s.SwitchAt > -0.8*inch || s.SwitchAt < -2*inch {
		t.Errorf("switch at %g Pa", s.SwitchAt)
	}
	if v.Crack < 3*inch || v.Crack > 6*inch || v.Crack <= -s.SwitchAt {
		t.Errorf("vacuum relief at %g Pa, which must come after the switch", v.Crack)
	}
}

func TestImpossibleCarsAreRefusedWithTheReason(t *testing.T) {
	for _, c := range []struct {
		c   plumbing.Combination
		say string
	}{
		{plain.With("boost", "charged"), "no charge side"},
		{turbo.With("boost", "no-boost"), "a turbo engine has a charge side"},
		{turbo.With("crankcase", "fixed-valve"), "would blow into the crankcase"},
		{plain.With("crankcase", "regulator-turbo"), "only a charged petrol engine"},
		{plain.With("vapour", "no-vapour"), "petrol gives off vapour"},
		{plumbing.Combination{Engine: "turbo-diesel", Boost: "charged", Crankcase: "regulator-inlet", Recirculation: "egr-vacuum", Vapour: "no-vapour"}, "no manifold vacuum"},
		{plumbing.Combination{Engine: "turbo-diesel", Boost: "charged", Crankcase: "regulator-inlet", Recirculation: "egr-motor", Vapour: "engine-vacuum"}, "no EVAP system"},
		{turbo.With("boost", "charged").With("recirculation", "no-egr").With("vapour", "early-ported"), "ported fitting"},
		{plain.With("vapour", "early-ported").With("recirculation", "egr-motor"), "of that age"},
		{plain.With("engine", "steam"), `"steam" is not known; known are na-maf`},
		{plain.With("engine", "no-egr"), "not known"},
		{plumbing.Combination{}, `engine: "" is not known`},
	} {
		t.Run(c.say, func(t *testing.T) {
			_, err := lib.Combine(c.c)
			if _, ok := err.(*plumbing.Impossible); !ok || !strings.Contains(err.Error(), c.say) {
				t.Errorf("%v: %v; want %q", c.c, err, c.say)
			}
		})
	}
	if n := len(lib.Combinations()); n < 200 {
		t.Errorf("only %d cars are possible", n)
	}
}

// What a gauge on the service port reaches, with valves and plugs set.
func TestReach(t *testing.T) {
	g := graph(t, plain)
	sealed := plumbing.Settings{"vent-valve": plumbing.Powered}
	with := func(kv ...string) plumbing.Settings {
		s := plumbing.Settings{}
		for k, v := range sealed {
			s[k] = v
		}
		for i := 0; i < len(kv); i += 2 {
			s[kv[i]] = plumbing.State(kv[i+1])
		}
		return s
	}
	for _, c := range []struct {
		name      string
		s         plumbing.Settings
		tested    string
		untested  string
		vents     string
		fromEntry string
	}{
		{"at rest it breathes through the carbon", nil, "tank purge-line", "", "vent-filter", ""},
		{"vent powered shut", sealed, "tank cap neck flange purge-line purge-valve vent-valve canister tank-sensor", "manifold vent-filter vent-end", "", ""},
		{"the seal of the shut vent is under it too", sealed, "vent-oring coupler quick-connect", "throttle-gasket", "", ""},
		{"vapour line plugged at the canister", with("vapour-line", "plugged"), "canister purge-line vent-valve coupler", "tank cap vapour-line flange", "", ""},
		{"the same plug from the tank's side", with("vapour-line", "plugged"), "tank cap vapour-line flange neck", "canister purge-line", "", "neck"},
		{"purge line plugged behind the port", with("purge-line", "plugged"), "purge-valve purge-pipe", "canister tank purge-line", "", ""},
		{"cap off", with("cap", "open"), "tank cap", "", "cap", ""},
		{"purge valve powered open", with("purge-valve", "powered"), "manifold purge-fitting tank throttle crankcase", "exhaust", "air-filter", ""}, // through PCV valve and breather
		{"vent capped by hand", plumbing.Settings{"vent-filter": "shut"}, "vent-valve vent-end vent-filter tank", "manifold", "", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			from := c.fromEntry
			if from == "" {
				from = "service-port"
			}
			r := g.Reach(from, c.s, plumbing.Pressure)
			for _, k := range strings.Fields(c.tested) {
				if !r.Tests(k) {
					t.Errorf("%s: %s is not under the gauge", c.name, k)
				}
			}
			for _, k := range strings.Fields(c.untested) {
				if r.Tests(k) {
					t.Errorf("%s: %s is said to be tested", c.name, k)
				}
			}
			if v := strings.Join(r.Vents, " "); v != c.vents {
				t.Errorf("%s: open at %q, want %q", c.name, v, c.vents)
			}
			if r.Sealed() != (c.vents == "") {
				t.Errorf("%s: sealed %v", c.name, r.Sealed())
			}
		})
	}
	if r := g.Reach("nowhere", nil, plumbing.Pressure); len(r.Inside) != 0 {
		t.Errorf("%+v", r)
	}
	if r := g.Reach("vapour-line", with("vapour-line", "plugged"), plumbing.Pressure); !r.Tests("tank") || r.Tests("canister") {
		t.Errorf("from the plugged line itself: %+v", r)
	}
}

// A check valve passes pressure one way and suction the other.
// Gas let in at one end has to fill what lies between.
func TestFill(t *testing.T) {
	g := graph(t, plain)
	set := plumbing.Settings{"vent-valve": plumbing.Powered}
	port, neck := g.Fill("service-port", set), g.Fill("cap", set)
	tank, _ := g.Part("tank")
	for _, c := range []struct {
		where     string
		got       float64
		low, high float64
	}{
		{"the port itself", port["service-port"], 0, 0},
		{"the canister from the port: the lines only", port["canister"], 0.01, 1},
		{"the neck from the port: through canister and half the tank", port["neck"], tank.Litres / 2, tank.Litres/2 + 5},
		{"the neck's hose from the neck", neck["neck-hose"], 0.5, 3},
		{"a sensor in the tank's wall, as the tank", neck["tank-sensor"] - neck["tank"], 0, 0},
	} {
		t.Run(c.where, func(t *testing.T) {
			if !(c.got >= c.low && c.got <= c.high) {
				t.Errorf("%s: %.3f L, not %.2f to %.2f", c.where, c.got, c.low, c.high)
			}
		})
	}
	if _, ok := port["manifold"]; ok {
		t.Error("through the shut purge valve")
	}
}

func TestCheckValvesPassOneWay(t *testing.T) {
	g := graph(t, turbo)
	shut := plumbing.Settings{"regulator": plumbing.Open}
	if r := g.Reach("crankcase", shut, plumbing.Pressure); !r.Tests("manifold") || !slices.Contains(r.Inside, "manifold-check") {
		t.Error("blow-by does not reach the manifold through its check valve")
	}
	if r := g.Reach("manifold", shut, plumbing.Pressure); r.Tests("crankcase") || !slices.Contains(r.Bounds, "manifold-check") {
		t.Error("boost blows into the crankcase through a good check valve")
	}
	if r := g.Reach("manifold", shut, plumbing.Vacuum); !r.Tests("crankcase") {
		t.Error("manifold vacuum does not draw on the crankcase")
	}
	if r := g.Reach("manifold", nil, plumbing.Pressure); r.Tests("exhaust") {
		t.Error("the standing engine passes air into the exhaust")
	}
}

// Every part of every car belongs to exactly one section, and every plug divides.
func TestSections(t *testing.T) {
	for _, c := range lib.Combinations() {
		g := graph(t, c)
		n := map[string]int{}
		for _, s := range g.Sections() {
			if s.Name == "" && len(s.Parts) > 1 {
				t.Errorf("%v: a section without a name: %v", c, s.Parts)
			}
			for _, p := range s.Parts {
				n[p]++
			}
		}
		for _, p := range g.Parts {
			if n[p.Key] != 1 {
				t.Fatalf("%v: %s is in %d sections", c, p.Key, n[p.Key])
			}
		}
		for _, p := range g.Plugs() {
			if !strings.Contains(g.PlugName(p), ", at the ") && !strings.HasSuffix(g.PlugName(p), "its end") {
				t.Errorf("%v: plug %q is named %q", c, p.Key, g.PlugName(p))
			}
		}
	}
	g := graph(t, plain)
	at := func(part string) int {
		return slices.IndexFunc(g.Sections(), func(s plumbing.Section) bool { return slices.Contains(s.Parts, part) })
	}
	for _, apart := range []string{"tank canister", "canister purge-valve", "canister vent-valve", "purge-valve manifold"} {
		a, b, _ := strings.Cut(apart, " ")
		if at(a) == at(b) {
			t.Errorf("no plug divides %s from %s", a, b)
		}
	}
	if n := g.Sections()[at("coupler")].Name; n != "Canister" {
		t.Errorf("the canister's section is named %q", n)
	}
	if at("tank") != at("cap") || at("tank") != at("vapour-line") {
		t.Error("tank, cap and vapour line are one section: the plug is at the canister")
	}
}

// The data of a shop are checked entry by entry.
func TestWrongDataNameTheEntry(t *testing.T) {
	vol := func(k string) plumbing.Part {
		return plumbing.Part{Key: k, Name: k, Kind: plumbing.Volume, At: "tank/tank", Where: "aft"}
	}
	base := func(parts ...plumbing.Part) plumbing.Library {
		l := plumbing.Library{}
		for _, f := range plumbing.Families {
			a := plumbing.Archetype{Key: "a-" + f, Family: f, Name: f, Rest: "none"}
			if f == "engine" {
				a.Parts = parts
			}
			l.Archetypes = append(l.Archetypes, a)
		}
		return l
	}
	if _, err := base(vol("tank")).Validate(); err != nil {
		t.Fatal(err)
	}
	valve := plumbing.Part{Key: "v", Name: "v", Kind: plumbing.Valve, At: "tank/vent", Rest: plumbing.Shut, Where: "aft"}
	line := plumbing.Part{Key: "l", Name: "l", Kind: plumbing.Line, From: "tank.left", To: "v.left", Where: "aft"}
	change := func(p plumbing.Part, f func(*plumbing.Part)) plumbing.Part { f(&p); return p }
	for i, c := range []struct {
		l   plumbing.Library
		say string
	}{
		{base(vol("Tank 1")), `part "Tank 1"`},
		{base(vol("tank"), vol("tank")), "there are two"},
		{base(change(vol("tank"), func(p *plumbing.Part) { p.At = "moon/tank" })), `place "moon/tank"`},
		{base(change(vol("tank"), func(p *plumbing.Part) { p.At = "" })), "a place on the Map"},
		{base(change(vol("tank"), func(p *plumbing.Part) { p.Kind = "pot" })), `kind "pot"`},
		{base(change(vol("tank"), func(p *plumbing.Part) { p.Name = "" })), "no name"},
		{base(change(vol("tank"), func(p *plumbing.Part) { p.Where = "" })), "where on the car"},
		{base(vol("tank"), plumbing.Part{Key: "s", Name: "s", Kind: plumbing.Switch, On: "tank", Where: "aft", SwitchAt: -200, SwitchBack: -300}), "changes back at -300 Pa"},
		{base(change(vol("tank"), func(p *plumbing.Part) { p.Litres = -1 })), "litres is -1"},
		{base(change(vol("tank"), func(p *plumbing.Part) { p.Minutes = 9999 })), "9999 minutes"},
		{base(change(vol("tank"), func(p *plumbing.Part) { p.Size = []int{1, 1} })), "size"},
		{base(change(vol("tank"), func(p *plumbing.Part) { p.Plug = "to" })), "only a line"},
		{base(change(vol("tank"), func(p *plumbing.Part) { p.Rest = "ajar" })), `rest is "ajar"`},
		{base(change(vol("tank"), func(p *plumbing.Part) { p.Face = "sideways" })), `face "sideways"`},
		{base(change(vol("tank"), func(p *plumbing.Part) { p.Spot = []int{1} })), "spot is"},
		{base(change(valve, func(p *plumbing.Part) { p.Rest = "" })), "needs its rest state"},
		{base(change(valve, func(p *plumbing.Part) { p.Drive = "magic" })), `drive "magic"`},
		{base(valve), `nothing is joined to its side "left"`},
		{base(change(valve, func(p *plumbing.Part) { p.Kind = plumbing.Relief })), "(crack)"},
		{base(change(valve, func(p *plumbing.Part) { p.Kind = plumbing.Relief; p.Crack = 10; p.Reseal = 20 })), "it reseals at 20 Pa"},
		{base(vol("tank"), plumbing.Part{Key: "s", Name: "s", Kind: plumbing.Switch, On: "tank", Where: "aft"}), "(switchat)"},
		{base(plumbing.Part{Key: "s", Name: "s", Kind: plumbing.Seal, On: "nothing", Where: "aft"}), `sits on "nothing"`},
		{base(plumbing.Part{Key: "s", Name: "s", Kind: plumbing.Seal, Where: "aft"}), "in whose wall"},
		{base(vol("tank"), plumbing.Part{Key: "a", Name: "a", Kind: plumbing.Seal, On: "b", Where: "aft"}, plumbing.Part{Key: "b", Name: "b", Kind: plumbing.Seal, On: "a", Where: "aft"}), "has no place of its own"},
		{base(vol("tank"), line), `there is no part "v"`},
		{base(vol("tank"), change(line, func(p *plumbing.Part) { p.To = "tank.inside" })), `"inside" is not a side`},
		{base(vol("tank"), change(line, func(p *plumbing.Part) { p.To = "tank.left:far" })), "number of px"},
		{base(vol("tank"), change(line, func(p *plumbing.Part) { p.To = "" })), "needs from and to"},
		{base(vol("tank"), change(line, func(p *plumbing.Part) { p.To = "tank.top"; p.Plug = "middle" })), `plug is "middle"`},
		{base(vol("tank"), change(line, func(p *plumbing.Part) { p.At = "tank/tank" })), "no place of its own"},
	} {
		t.Run(c.say, func(t *testing.T) {
			_, err := c.l.Validate()
			if err == nil || !strings.Contains(err.Error(), c.say) {
				t.Errorf("%d: %v; want %q", i, err, c.say)
			}
		})
	}
	for name, f := range map[string]func(*plumbing.Library){
		`archetype "x": there is no fragment "gone"`: func(l *plumbing.Library) {
			l.Archetypes = append(l.Archetypes, plumbing.Archetype{Key: "x", Family: "engine", Name: "x", Rest: "r", From: []string{"gone"}})
		},
		`family "wheels"`:         func(l *plumbing.Library) { l.Archetypes[0].Family = "wheels" },
		"the key must be its own": func(l *plumbing.Library) { l.Archetypes[1].Key = l.Archetypes[0].Key },
		"without a reason": func(l *plumbing.Library) {
			l.Archetypes[0].Refuses = []plumbing.Bond{{Family: "boost", With: []string{"a-boost"}}}
		},
		`"ghost" is no archetype`: func(l *plumbing.Library) {
			l.Archetypes[0].Needs = []plumbing.Bond{{Family: "boost", With: []string{"ghost"}, Why: "w"}}
		},
		"no car can have it": func(l *plumbing.Library) {
			l.Archetypes = append(l.Archetypes, plumbing.Archetype{Key: "x", Family: "engine", Name: "x", Rest: "r",
				Refuses: []plumbing.Bond{{Family: "boost", With: []string{"a-boost"}, Why: "never"}}})
		},
		"at most 24": func(l *plumbing.Library) {
			for i := range 30 {
				l.Archetypes = append(l.Archetypes, plumbing.Archetype{Key: fmt.Sprint("x", i), Family: "engine", Name: "x", Rest: "r"})
			}
		},
		"more than 5000 cars": func(l *plumbing.Library) {
			for _, f := range plumbing.Families {
				for i := range 6 {
					l.Archetypes = append(l.Archetypes, plumbing.Archetype{Key: fmt.Sprint(f, i), Family: f, Name: "x", Rest: "r"})
				}
			}
		},
		"121 parts":          func(l *plumbing.Library) { l.Archetypes[0].Parts = make([]plumbing.Part, 121) },
		`fragment "Bad Key"`: func(l *plumbing.Library) { l.Fragments = []plumbing.Fragment{{Fragment: "Bad Key"}} },
		"comes with two fragments": func(l *plumbing.Library) {
			l.Fragments = []plumbing.Fragment{{Fragment: "f", Parts: []plumbing.Part{vol("z")}}, {Fragment: "g", Parts: []plumbing.Part{vol("z")}}}
			l.Archetypes[1].From = []string{"f", "g"}
		},
	} {
		t.Run(name, func(t *testing.T) {
			l := base(vol("tank"))
			f(&l)
			if _, err := l.Validate(); err == nil || !strings.Contains(err.Error(), name) {
				t.Errorf("%v; want %q", err, name)
			}
		})
	}
}

// ExampleGraph_Reach plugs the vapour line at the canister: the gauge on the service
// port then stands against the front half only.
func ExampleGraph_Reach() {
	lib := ingest.Book().Plumbing
	g, _ := lib.Combine(plumbing.Combination{Engine: "na-maf", Boost: "no-boost", Crankcase: "fixed-valve", Recirculation: "no-egr", Vapour: "engine-vacuum"})
	r := g.Reach("service-port", plumbing.Settings{"vent-valve": plumbing.Powered, "vapour-line": plumbing.Plugged}, plumbing.Pressure)
	fmt.Println(r.Sealed(), r.Tests("canister"), r.Tests("tank"))
	// Output: true true false
}
