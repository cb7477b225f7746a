package diagnose

import (
	"fmt"
	"slices"
	"strings"

	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/sim"
)

// Row is what the plant made one test show on one simulated car with one fault.
type Row struct {
	Test      string
	Car       plumbing.Combination // reduced to what the test can feel of the fault
	Fault     string               // empty: a healthy car
	Severity  int                  // index of Severities
	Spread    int                  // index of Spread
	Outcome   string               // key of the test's outcomes; of Codes the codes, with blanks between
	Readings  []float64
	Unreached bool // the test could not be done: the engine does not run
}

// Codes names, among the tests of the table, what the car's own control unit stores on
// one drive and the night after it.
const Codes = "codes"

// Severities are the middles of the steps of severity; each stands for a fifth of the
// range that the Book gives a fault.
var Severities = []float64{0.1, 0.3, 0.5, 0.7, 0.9}

// Spread is how cars differ beside their faults: two of them, far enough apart that what
// depends on fuel, weather and engine shows. Chosen here.
var Spread = []sim.Conditions{
	{Level: 0.35, Ambient: 288.15, Reid: 58e3, Displacement: 1.4e-3, Swelling: 0.03, Seed: 1},
	{Level: 0.6, Ambient: 298.15, Reid: 72e3, Displacement: 2.0e-3, Swelling: 0.1, Seed: 2},
}

// partTests try one part by itself; what else is on the car does not matter to them.
var partTests = []string{"cap-check", "part-smoke", "valve-bench", "check-valve", "circuit-walk", "sensor-check", "egr-coils", "eonv-manometer"}

// PartTest reports whether a test tries one part by itself.
func PartTest(test string) bool { return slices.Contains(partTests, test) }

// byKind are the tests on which fuel, weather and size of the engine show.
var byKind = []string{Codes, "pump-self-test"}

// cooling are the archetypes whose check waits for what the night brings, so that fuel and
// weather decide with the hole.
var cooling = []string{"eonv-switch-remote", "eonv-switch-canister", "eonv-sensor", "pump-current", "pump-absolute"}

// sealedTests see the whole sealed vapour system as one volume: a hole in it reads the
// same wherever it is. Of faults that are nothing but a hole the plant is asked about two
// only, a small range and a wide one, and the others are read from them by their diameter.
var sealedTests = []string{Codes, "soak-watch", "pump-hand", "pump-self-test"}

const smallHole, wideHole = "flange-seal", "cap"

// alike reports whether a fault under a test is read from the two holes.
func alike(test string, f knowledge.Fault) bool {
	return f.Family == "vapour" && f.Key != smallHole && f.Key != wideHole && !strings.HasPrefix(f.Key, "purge-fitting") && !strings.HasPrefix(f.Key, "second-") && slices.Contains(sealedTests, test) &&
		len(f.Changes) == 1 && f.Changes[0].Param == "leak"
}

// felt lists, for tests of the whole car, the families and single faults that the plant is
// asked about; what is not named reads as a healthy car does.
var felt = map[string]string{
	Codes:                 "vapour intake crankcase recirculation boost look-alike",
	"trims":               "intake crankcase boost look-alike recirculation purge-valve purge-fitting purge-blocked purge-circuit canister-drowned canister-loaded second-purge-check second-purge-line vent-filter",
	"intake-smoke":        "intake crankcase boost egr-gasket purge-valve purge-fitting",
	"purge-running":       "purge-valve purge-fitting purge-blocked purge-circuit",
	"vent-path":           "vent-filter pump-filter canister-drowned eonv-relief-shut vent-valve vent-circuit",
	"soak-watch":          "vapour hot-fuel",
	"pump-hand":           "vapour",
	"pump-self-test":      "vapour",
	"by-pass":             "tank-valve tank-valve-gone tank-relief vent-filter hot-fuel canister-loaded",
	"crankcase-manometer": "crankcase purge-fitting",
	"egr-vacuum":          "recirculation",
	"egr-ramp":            "recirculation",
	"egr-command":         "recirculation",
	"boost-pressure":      "boost second-purge-check second-purge-line manifold-check throttle-gasket blow-by",
}

// Simulated reports whether the plant is asked what a test shows on a car; of the others
// the likelihood follows from where holes are (a hold, smoke) or is set by hand.
func Simulated(test string, of plumbing.Combination) bool {
	if test == "soak-watch" && !strings.HasPrefix(of.Vapour, "eonv") {
		return false // open to the air after shut-down: it tells nothing
	}
	if test == "purge-running" && of.Vapour == "early-ported" {
		return false // its valve is moved by ported vacuum: there is no command to shut it
	}
	return felt[test] != "" || PartTest(test)
}

// feels reports whether a test is asked about a fault.
func feels(test string, f knowledge.Fault) bool {
	if f.Key == "not-run" || f.Family == "other" {
		return false
	}
	w := strings.Fields(felt[test])
	return slices.Contains(w, f.Family) || slices.Contains(w, f.Key)
}

// Target is the part that a part test of this kind tries when the fault is in question;
// empty when the test does not try such a part.
func Target(g *plumbing.Graph, f knowledge.Fault, part, test string) string {
	if !PartTest(test) {
		return ""
	}
	p, ok := g.Part(part)
	if !ok {
		return ""
	}
	switch test {
	case "cap-check":
		if part == "cap" {
			return part
		}
		return ""
	case "eonv-manometer":
		if strings.HasPrefix(f.Key, "eonv-") {
			return "vent-valve"
		}
		return ""
	case "egr-coils":
		if p.Role == "recirculation" {
			return part
		}
		return ""
	case "check-valve":
		if p.Kind == plumbing.Check {
			return part
		}
		return ""
	case "sensor-check":
		if p.Kind == plumbing.Sensor && (p.Family == "vapour" || p.Role == "difference") {
			return part
		}
		return ""
	case "circuit-walk":
		if (p.Moves() && p.By == "" || p.Role == "leak-pump") && slices.Contains([]string{"coil", "duty", "motor", "stepper", ""}, p.Drive) {
			return part
		}
		return ""
	case "valve-bench":
		if p.Kind == plumbing.Valve && p.Drive != "cable" || p.Kind == plumbing.Relief || p.Kind == plumbing.Check && slices.Contains(f.Tests, test) {
			return part
		}
		return ""
	case "part-smoke":
		if slices.Contains(f.Tests, test) || p.Kind == plumbing.Valve && p.Family == "vapour" {
			return part
		}
	}
	return ""
}

// Reduced is the car that stands in the table for a car with this fault under this test:
// what the test cannot feel of it is put to one usual thing.
func Reduced(test string, f knowledge.Fault, c plumbing.Combination) plumbing.Combination {
	r := plumbing.Combination{Engine: "na-maf", Boost: "no-boost", Crankcase: "fixed-valve", Recirculation: "no-egr", Vapour: "engine-vacuum"}
	usual := func(engine string) {
		r.Engine = engine
		switch engine {
		case "turbo-petrol":
			r.Boost, r.Crankcase = "charged", "regulator-turbo"
		case "turbo-diesel":
			r.Boost, r.Crankcase, r.Vapour = "charged", "regulator-inlet", "no-vapour"
		}
	}
	family := f.Family
	if f.Key == "" { // healthy, as the family asks that the test is about
		family = map[string]string{"trims": "intake", "intake-smoke": "intake", "crankcase-manometer": "crankcase", "egr-vacuum": "recirculation", "egr-ramp": "recirculation", "egr-command": "recirculation",
			"egr-coils": "recirculation", "boost-pressure": "boost"}[test]
		if family == "" && !PartTest(test) {
			family = "vapour"
		}
	}
	switch {
	case strings.HasPrefix(f.Key, "second-purge"):
		usual("turbo-petrol")
		r.Boost = c.Boost
	case family == "vapour" || f.Key == "hot-fuel":
		if r.Vapour = c.Vapour; (test == "trims" || test == "purge-running") && c.Vapour != "early-ported" {
			r.Vapour = "engine-vacuum" // the purge valve is the same
		}
		purge := strings.HasPrefix(f.Key, "purge-") || f.Key == "canister-drowned" || f.Key == "canister-loaded"
		if c.Engine == "na-map" && purge && !PartTest(test) && (test != Codes || c.Vapour == "engine-vacuum") {
			r.Engine = "na-map"
		}
	case family == "crankcase":
		usual(c.Engine)
		r.Crankcase = c.Crankcase
	case family == "recirculation":
		usual(c.Engine)
		r.Recirculation = c.Recirculation
		if r.Recirculation == "egr-vacuum" && r.Engine == "turbo-petrol" {
			r.Vapour = "engine-vacuum"
		}
	case family == "boost":
		usual(c.Engine)
	case family == "intake" || family == "look-alike":
		usual(c.Engine)
	}
	return r
}

// Wanted lists the rows of the table without what the plant says: every fault of every
// possible car, as far as tests can tell cars apart.
func Wanted(b knowledge.Book) ([]Row, error) {
	cars, err := b.Plumbing.Cars()
	if err != nil {
		return nil, err
	}
	var out []Row
	seen := map[string]bool{}
	add := func(r Row) {
		k := r.Key()
		if !seen[k] {
			seen[k] = true
			out = append(out, r)
		}
	}
	graphs := map[plumbing.Combination]*plumbing.Graph{}
	for _, car := range cars {
		graphs[car.Combination] = car.Graph
	}
	tests := []string{Codes}
	for _, t := range b.Tests {
		tests = append(tests, t.Key)
	}
	for _, car := range cars {
		for _, test := range tests {
			t, _ := b.Test(test)
			if !Simulated(test, car.Combination) || test != Codes && !t.Fits(car.Combination) || test == "trims" && car.Engine == "turbo-diesel" || test == "boost-pressure" && car.Boost == "no-boost" {
				continue
			}
			for _, f := range b.Faults {
				part, can := f.Can(car.Graph, car.Combination)
				if !can || alike(test, f) || !(feels(test, f) || Target(car.Graph, f, part, test) != "") {
					continue
				}
				r := Row{Test: test, Car: Reduced(test, f, car.Combination), Fault: f.Key}
				g := graphs[r.Car]
				if g == nil || !t.Fits(r.Car) && test != Codes || test == "boost-pressure" && r.Car.Boost == "no-boost" {
					continue
				}
				if _, ok := f.Can(g, r.Car); !ok {
					continue
				}
				for j := range Spread {
					if j > 0 && (PartTest(test) || !slices.Contains(byKind, test) || test == Codes && !slices.Contains(cooling, r.Car.Vapour)) {
						break // the kind of car hardly matters
					}
					h := r
					h.Spread = j
					for k := range Severities {
						h.Severity = k
						add(h)
					}
					if test != Codes && !PartTest(test) {
						h.Fault, h.Severity = "", 0
						add(h)
						h.Car = Reduced(test, knowledge.Fault{}, car.Combination)
						if graphs[h.Car] != nil && !(test == "boost-pressure" && h.Car.Boost == "no-boost") {
							add(h)
						}
					}
				}
				if PartTest(test) { // the same part without a fault
					h := r
					h.Fault, h.Severity, h.Spread, h.Outcome = "", 0, 0, Target(g, f, part, test)
					add(h)
				}
			}
		}
	}
	return out, nil
}

// Key tells rows apart. A healthy part's row is told by the part.
func (r Row) Key() string {
	k := fmt.Sprint(r.Test, "|", r.Car, "|", r.Fault, "|", r.Severity, "|", r.Spread)
	if r.Fault == "" && PartTest(r.Test) {
		part, _, _ := strings.Cut(r.Outcome, ":")
		k += "|" + part
	}
	return k
}

// Fill asks the plant for a wanted row. Part is the one that a part test tries.
func Fill(b knowledge.Book, r Row) (Row, error) {
	at := Spread[r.Spread]
	at.Seed = at.Seed*1000 + uint64(r.Severity)
	c, err := sim.NewCar(b.Plumbing, r.Car, nil, at)
	if err != nil {
		return r, err
	}
	target := ""
	if r.Fault != "" {
		f, _ := b.Fault(r.Fault)
		part, _ := f.Can(c.Graph, r.Car)
		target = Target(c.Graph, f, part, r.Test)
		for _, d := range f.Defects(part, Severities[r.Severity]) {
			if err := c.Apply(d); err != nil {
				return r, err
			}
		}
	} else if PartTest(r.Test) {
		target = r.Outcome
	}
	if r.Test == Codes {
		codes, err := sim.Trip(c)
		r.Outcome = strings.Join(codes, " ")
		return r, err
	}
	t, err := sim.Try(c, b, r.Test, target)
	if err != nil {
		return r, fmt.Errorf("%s with %q on %v: %w", r.Test, r.Fault, r.Car, err)
	}
	if r.Fault == "" && PartTest(r.Test) {
		t.Outcome = target + ":" + t.Outcome
	}
	r.Outcome, r.Readings = t.Outcome, nil
	for _, x := range t.Readings {
		r.Readings = append(r.Readings, x.Value)
	}
	want, _ := b.Test(r.Test)
	r.Unreached = len(r.Readings) < len(want.Reads)
	return r, nil
}
