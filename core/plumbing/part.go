package plumbing

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strings"

	"wexter/core/circuit"
)

// Kind is what a part does with gas.
type Kind string

// The kinds.
const (
	Volume Kind = "volume" // holds gas; all its sides stand at one pressure
	Tee    Kind = "tee"    // a joint of lines
	Line   Kind = "line"   // from one side to another
	Valve  Kind = "valve"  // two sides, open or shut
	Check  Kind = "check"  // passes from its first side to its second only
	Relief Kind = "relief" // opens towards its second side at Crack
	Filter Kind = "filter" // two sides, always passes
	Inlet  Kind = "inlet"  // open to the air
	Cover  Kind = "cover"  // a cap, core or plug: shut, taken off by hand
	Pump   Kind = "pump"   // two sides; passes nothing while it stands
	Rotor  Kind = "rotor"  // compressor or turbine: two sides, always passes
	Block  Kind = "block"  // four sides that do not join while it stands: the engine
	Sensor Kind = "sensor" // sits in another part's wall
	Switch Kind = "switch" // a pressure switch in another part's wall
	Seal   Kind = "seal"   // gasket, grommet or fitting in another part's wall
)

// How a valve is moved.
var drives = []string{"", "spring", "coil", "duty", "diaphragm", "motor", "stepper", "cable", "vacuum"}

// State is what a valve, cover or plug point does now.
type State string

// The states. Powered is a valve moved out of its rest state by power or vacuum.
const (
	Open    State = "open"
	Shut    State = "shut"
	Powered State = "powered"
	Plugged State = "plugged"
)

// Known reports whether s is one of the states.
func (s State) Known() bool { return s == Open || s == Shut || s == Powered || s == Plugged }

// Part is one thing a hand can touch. Lines have From and To; parts that sit in the
// wall of another name it in On.
type Part struct {
	Key    string
	Name   string
	Label  string // short, for the Map; empty: the name in lower case
	Kind   Kind
	Family string // of its archetype unless said

	Instead bool // stands in the place of the part of this key in another family

	At   string // station/lane on the Map; empty for lines and what is not drawn
	Size []int  // width and height on the Map, px
	Face string // "across" (sides left and right) or "down" (top and bottom), for valves
	Text string // where the label goes first: above, below, left, right, inside
	Spot []int  // on the part it sits in, px from its middle

	From string // part.side, or part.side:px with a distance from the side's middle
	To   string
	On   string // the part in whose wall it sits

	Rest  State  // open or shut, without power
	Drive string // what moves it
	Holds string // what stands at rest, in words, where rest alone says too little

	Crack      float64 // Pa, begins to open
	Reseal     float64 // Pa, shut again
	SwitchAt   float64 // Pa, changes state (vacuum is negative)
	SwitchBack float64 // Pa, changes back
	Bore       float64 // m
	Length     float64 // m
	Litres     float64 // inner volume, L

	// What the plant makes of it.
	Role    string  // what it is to engine, tank or control unit; see Roles
	By      string  // the part whose pressure moves it; "self": that at its first side; "coolant": its warmth
	Against string  // the part on the other side of its diaphragm; empty: the air
	Begins  float64 // Pa (K of coolant) at which it leaves its rest
	Full    float64 // Pa (K) at which it has come all the way
	Least   float64 // share of its opening that is always left
	Inward  bool    // a relief that opens for vacuum
	Weighed bool    // a relief that a weight holds shut: it lifts gradually, without a snap
	Behind  bool    // sits behind the second side of the part it is on
	Oneway  bool    // a line with a flap inside: it passes from its second end to its first only
	Vents   bool    // a three-way valve: shut, its second side breathes to the air

	Plug  string // "from" or "to": the end at which a line can be plugged
	Entry bool   // gauge, smoke or supply can be joined here

	Circuit string           // that feeds, switches or reads it; empty: it has none
	Wired   *circuit.Circuit `yaml:"-" json:"-"` // that circuit

	Where   string // on the car
	Minutes int    // to reach it
	Tools   []string
	Lift    bool
}

// Roles are what parts can be to the plant.
var Roles = []string{"", "fuel", "carbon", "intake", "exhaust", "crankcase", "throttle", "meter", "purge", "vent", "isolation", "recirculation", "recirculation-control",
	"leak-pump", "compressor", "turbine", "rings", "jet", "ported", "charge", "difference", "brake", "second-purge"}

// Short is the label on the Map.
func (p Part) Short() string {
	if p.Label != "" {
		return p.Label
	}
	return Lower(p.Name)
}

// Sides lists the sides of a two-sided part, first to second. Others have none, nor has
// a valve that is built into the wall of another part.
func (p Part) Sides() []string {
	if p.On != "" && p.At == "" {
		return nil
	}
	switch p.Kind {
	case Block:
		return []string{"left", "right", "top", "bottom"}
	case Valve, Check, Relief, Filter, Pump, Rotor:
		switch p.Face {
		case "down":
			return []string{"top", "bottom"}
		case "up":
			return []string{"bottom", "top"}
		case "back":
			return []string{"right", "left"}
		}
		return []string{"left", "right"}
	}
	return nil
}

// Moves reports whether power or vacuum moves the part.
func (p Part) Moves() bool { return p.Kind == Valve && p.Drive != "" && p.Drive != "cable" }

// Drawn reports whether the part has a place of its own on the Map.
func (p Part) Drawn() bool { return p.Kind == Line || p.At != "" || len(p.Spot) == 2 }

// RestWords says the part's state at rest.
func (p Part) RestWords() string {
	if p.Holds != "" {
		return p.Holds
	}
	by := map[string]string{"spring": "spring", "coil": "spring; power moves it", "duty": "spring; pulses move it", "diaphragm": "spring; vacuum moves it", "vacuum": "spring; vacuum moves it",
		"motor": "motor moves it", "stepper": "stepper moves it", "cable": "pedal moves it"}[p.Drive]
	switch p.Kind {
	case Valve:
		if by != "" {
			return fmt.Sprintf("%s (%s)", p.Rest, by)
		}
		return string(p.Rest)
	case Check:
		return "one way only"
	case Relief:
		return "shut below its opening pressure"
	case Cover:
		return "shut; comes off by hand"
	case Inlet:
		return "open to the air"
	case Pump:
		return "stands still and shut"
	}
	return ""
}

var keyForm = regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)*$`)

// check returns what is wrong with the part by itself.
func (p Part) check() error {
	kinds := []Kind{Volume, Tee, Line, Valve, Check, Relief, Filter, Inlet, Cover, Pump, Rotor, Block, Sensor, Switch, Seal}
	switch {
	case !keyForm.MatchString(p.Key):
		return fmt.Errorf("a key in lower case with dashes is needed")
	case !slices.Contains(kinds, p.Kind):
		return fmt.Errorf("kind %q is not one of %v", p.Kind, kinds)
	case p.Name == "" && p.Kind != Tee:
		return fmt.Errorf("no name")
	case !slices.Contains(drives, p.Drive):
		return fmt.Errorf("drive %q is not one of %q", p.Drive, drives[1:])
	case p.Where == "" && p.Kind != Tee:
		return fmt.Errorf("say where on the car it is (where)")
	case p.Rest != "" && p.Rest != Open && p.Rest != Shut:
		return fmt.Errorf("rest is %q; it is open or shut", p.Rest)
	case p.Kind == Valve && p.Rest == "":
		return fmt.Errorf("a valve needs its rest state")
	case p.Kind == Line && (p.From == "" || p.To == ""):
		return fmt.Errorf("a line needs from and to")
	case p.Kind != Line && (p.From != "" || p.To != "" || p.Plug != ""):
		return fmt.Errorf("only a line has from, to and plug")
	case p.Plug != "" && p.Plug != "from" && p.Plug != "to":
		return fmt.Errorf("plug is %q; it is the end, from or to", p.Plug)
	case p.Kind == Line && p.At != "":
		return fmt.Errorf("a line is drawn between its ends and has no place of its own")
	case (p.Kind == Sensor || p.Kind == Switch || p.Kind == Seal) && p.On == "":
		return fmt.Errorf("say in whose wall it sits (on)")
	case p.Kind != Line && p.At == "" && p.On == "":
		return fmt.Errorf("it needs a place on the Map (at) or a part to sit on (on)")
	case p.At != "" && !validAt(p.At):
		return fmt.Errorf("place %q: a station of %v and a lane of %v, as in tank/vent", p.At, StationNames(), LaneNames())
	case !slices.Contains([]string{"", "across", "down", "up", "back"}, p.Face):
		return fmt.Errorf("face %q is not across, back, down or up", p.Face)
	case !slices.Contains([]string{"", "above", "below", "left", "right", "inside"}, p.Text):
		return fmt.Errorf("text %q is not above, below, left, right or inside", p.Text)
	case len(p.Size) != 0 && (len(p.Size) != 2 || p.Size[0] < 8 || p.Size[0] > 240 || p.Size[1] < 8 || p.Size[1] > 160):
		return fmt.Errorf("size is width and height, 8 to 240 and 8 to 160")
	case len(p.Spot) != 0 && (len(p.Spot) != 2 || p.On == ""):
		return fmt.Errorf("spot is right and down from the middle of the part it sits on (on)")
	case p.Kind == Relief && !(p.Crack > 0):
		return fmt.Errorf("a relief needs the pressure at which it opens (crack)")
	case p.Reseal < 0 || p.Reseal > p.Crack:
		return fmt.Errorf("it reseals at %g Pa, above where it opens (%g Pa)", p.Reseal, p.Crack)
	case p.Kind == Switch && p.SwitchAt == 0:
		return fmt.Errorf("a switch needs the pressure at which it changes (switchat)")
	case math.Abs(p.SwitchBack) > math.Abs(p.SwitchAt):
		return fmt.Errorf("it changes back at %g Pa, beyond where it changes (%g Pa)", p.SwitchBack, p.SwitchAt)
	case !slices.Contains(Roles, p.Role):
		return fmt.Errorf("role %q is not one of %q", p.Role, Roles[1:])
	case (p.By == "") != (p.Begins == p.Full):
		return fmt.Errorf("what moves it (by) goes with where it begins and where it is full")
	case p.Against != "" && p.By == "":
		return fmt.Errorf("against needs what it works against (by)")
	case math.IsNaN(p.Begins+p.Full+p.Least) || p.Least < 0 || p.Least > 1 || math.Abs(p.Begins) > 3e5 || math.Abs(p.Full) > 3e5:
		return fmt.Errorf("begins, full and least are %g, %g and %g: at most 3e5 Pa, and a share", p.Begins, p.Full, p.Least)
	case p.Minutes < 0 || p.Minutes > 600:
		return fmt.Errorf("%d minutes to reach it cannot be", p.Minutes)
	}
	for _, x := range []struct {
		name    string
		v, most float64
	}{{"bore", p.Bore, 0.2}, {"length", p.Length, 10}, {"litres", p.Litres, 500}, {"crack", p.Crack, 3e5}, {"switchat", math.Abs(p.SwitchAt), 3e5}} {
		if math.IsNaN(x.v) || x.v < 0 || x.v > x.most {
			return fmt.Errorf("%s is %g; it lies between 0 and %g", x.name, x.v, x.most)
		}
	}
	return nil
}

// Lower begins a name of the Book small, as within a sentence; an abbreviation stays.
func Lower(name string) string {
	if len(name) > 1 && name[1] >= 'a' && name[1] <= 'z' {
		return strings.ToLower(name[:1]) + name[1:]
	}
	return name
}
