package bench

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"wexter/core/circuit"
)

const circuitWalk = "circuit-walk"

// walked are the measures of all circuits, in the order of their stretches.
var walked = []string{"pins", "supply", "proof", "fuse", "feed", "short", "loaded", "back", "coil", "through", "case", "control", "ground", "wire-end", "wire-ground", "wire-plus", "drive", "signal", "echo", "sense"}

// CircuitWalk is where the current stops: one measurement after another, each the one that tells most of what the
// ones before have left.
var CircuitWalk = Register(Test{
	Key:  circuitWalk,
	On:   OnePart,
	Odds: FromPlant,
	Channels: []Channel{
		{Key: "supply", Unit: "V", Low: -32, High: 32, Sense: CircuitSense("supply"), Optional: true, Usual: true},
		{Key: "coil", Unit: "ohm", Low: 0, High: 1e9, Sense: CircuitSense("coil"), Optional: true, Usual: true, Open: true},
		{Key: "coil-at", Unit: "°C", Low: -40, High: 200, Optional: true},
		{Key: "coil-least", Unit: "ohm", Low: 0, High: 1e4, Optional: true},
		{Key: "coil-most", Unit: "ohm", Low: 0, High: 1e4, Optional: true},
		{Key: "control", Unit: "%", Low: 0, High: 100, Sense: CircuitSense("control"), Optional: true},
		{Key: "pins", Kind: Choice, Words: []string{"fit", "loose", "green"}, Sense: CircuitSense("pins"), Optional: true},
		circuitVolts("proof"), circuitVolts("fuse"), circuitVolts("feed"), circuitOhms("short"), circuitVolts("loaded"), circuitVolts("back"),
		circuitOhms("through"), circuitOhms("case"), circuitVolts("ground"), circuitOhms("wire-end"), circuitOhms("wire-ground"), circuitVolts("wire-plus"),
		circuitVolts("drive"), circuitVolts("signal"), circuitVolts("echo"), circuitVolts("sense"),
		{Key: "fuse-name", Kind: Text, Optional: true},
		{Key: "fuse-size", Unit: "A", Low: 0.5, High: 200, Optional: true},
		{Key: "rubbed", Kind: Text, Optional: true},
		{Key: "mended", Kind: Text, Optional: true},
		{Key: "car-supply", Unit: "V", Low: 0, High: 32, Sense: CarVolts, Optional: true, Worked: true},
	},
	Phases: []Phase{{Do: []Step{{Do: KeyOn}}, For: 5, Read: walked}},
	Live: Live{Taps: pinTaps, Tally: pinTally, Stretches: circuitStretches, Watch: newCircuitWatch,
		AllIn: "All of it is measured that tells something. Keep the result."},
	Picture: circuitPicture,
	Tries: func(t Target) string {
		if t.Part.Wired != nil && t.Part.Role != "throttle" {
			return t.Part.Key
		}
		return ""
	},
	Walk:   circuitNow,
	Reduce: reduceCircuit,
})

// CircuitSense is what gives a measure of a circuit.
func CircuitSense(measure string) Sense { return Sense("circuit, " + measure) }

func circuitVolts(key string) Channel {
	return Channel{Key: key, Unit: "V", Low: -32, High: 32, Sense: CircuitSense(key), Optional: true}
}

func circuitOhms(key string) Channel {
	return Channel{Key: key, Unit: "ohm", Low: 0, High: 1e9, Sense: CircuitSense(key), Optional: true, Open: true}
}

// usualCoil is the most that solenoids, motors and pumps of these circuits commonly have,
// ohm (common practice, no source).
const usualCoil = 38.0

// Walk is how a test stands that asks for one measurement after another.
type Walk struct {
	Name  string // what is walked
	Note  string // how it is built
	Next  []Asked
	Taken []Taken
	Left  []Left // what is still possible, the likeliest first
	Found string // the finding; empty: there is none yet
	Why   string // why the next one is wanted again; empty: it is the next by what it tells
}

// Asked is a measurement that still tells something.
type Asked struct {
	Channel string
	Name    string
	Ask     string // what to measure
	Stand   string // how key, connectors and unit stand meanwhile
	Expect  string // what a sound one reads, and its tolerance
	Minutes float64
}

// Taken is a measurement that is in.
type Taken struct {
	Channel, Name, Value, Expect, Says string
	Sound                              bool
}

// Left is a finding that is still possible.
type Left struct {
	Name  string
	Share float64
}

// circuitRead is what readings say of a circuit.
type circuitRead struct {
	*circuit.Circuit
	found   circuit.Found
	between map[string]float64 // readings that are in no band, by measure
	crossed []string           // measures whose leads were the wrong way round
	r       Readings
}

func readCircuit(c *circuit.Circuit, r Readings) circuitRead {
	w := circuitRead{Circuit: c, found: circuit.Found{}, between: map[string]float64{}, r: r}
	for _, m := range c.Measures {
		if m.Unit == "" {
			if b, ok := m.Word(r.Word(m.Key)); ok {
				w.found[m.Key] = b.Key
			}
			continue
		}
		w.take(m)
	}
	return w
}

// take takes a measure's readings; of several the one that is not sound counts.
func (w *circuitRead) take(m circuit.Measure) {
	for _, v := range w.r[m.Key].Numbers {
		if m.Unit == "V" && v < -1 {
			w.crossed = append(w.crossed, m.Name)
		}
		b, ok := w.band(m, v)
		switch sound, in := w.found[m.Key]; {
		case !ok:
			w.between[m.Key] = v
		case !in || sound == m.Sound().Key:
			w.found[m.Key] = b.Key
		}
	}
	if _, ok := w.between[m.Key]; ok && w.found[m.Key] == m.Sound().Key {
		delete(w.found, m.Key)
	}
}

// band is where a reading lies; of a coil as it is at 20 °C, and by the maker's figures where they are in.
func (w *circuitRead) band(m circuit.Measure, v float64) (circuit.Band, bool) {
	if m.Key != "coil" {
		return m.Band(v)
	}
	one := w.r.With(Readings{"coil": Num(v)})
	v, _ = coilAt20(one)
	least, a := w.r.Mean("coil-least")
	most, b := w.r.Mean("coil-most")
	switch {
	case a && v < 0.97*least:
		return m.Bands[0], true
	case b && v > 1.03*most:
		return m.Bands[len(m.Bands)-1], true
	case a && b:
		return m.Sound(), true
	}
	return m.Band(v)
}

// nextOf are the measures that still tell something. A reading that is in no band is asked for again.
func (w circuitRead) nextOf() []circuit.Step { return w.Tree().Ranked(w.found) }

// reduceCircuit is the finding, or the measurement that is needed next.
func reduceCircuit(s Subject, r Readings) Verdict {
	if s.Part.Wired == nil {
		return unsure("The Book has no circuit of this part: its plumbing must name one.")
	}
	w := readCircuit(s.Part.Wired, r)
	if m, ok := w.Tree().Contradicts(w.found); ok {
		return ask(m.Key, "These readings cannot all be: %s. Measure %s again, or all of them if the connector was moved meanwhile.", w.says(), lowerFirst(m.Name))
	}
	left := w.Tree().Left(w.found)
	switch next := w.nextOf(); {
	case len(left) == 1:
		return w.finding(left[0].Break)
	case len(next) == 0:
		return unsure("It is one of these, and no measurement here parts them: %s.", names(left))
	default:
		return w.asks(next[0].Measure)
	}
}

// asks asks for a measure, or says why the reading of it is of no use.
func (w circuitRead) asks(m circuit.Measure) Verdict {
	v, in := w.between[m.Key]
	below, above := m.Beside(v)
	switch {
	case !in:
		return ask(m.Key, "%s: %s Expected: %s.", casedName(m), m.Ask, w.expects(m))
	case m.Key == "coil":
		return unsure("The coil reads %s: more than most, and less than a broken one. Hold it against the book's figure at 20 °C.", ohms(v))
	case above.Key == "" || below.Key == "":
		return ask(m.Key, "%s of %s cannot be here. Look at the meter's range and unit, and measure it again.", casedName(m), reads(m, v))
	}
	return ask(m.Key, "%s of %s lies between %q and %q. Charge the battery, see that the probes touch bright metal, and measure it again.", casedName(m), reads(m, v), below.Says, above.Says)
}

// finding is what a break comes to.
func (w circuitRead) finding(b circuit.Break) Verdict {
	if b.Again != "" {
		m, _ := w.Measure(b.Again)
		return ask(b.Again, "%s: %s. %s Then measure %s again.", b.Name, w.says(), b.Mend, lowerFirst(m.Name))
	}
	if v, in := w.between["coil"]; in && len(b.Changes) == 0 {
		return unsure("Nothing is lost, but the coil reads %s: more than most. Hold it against the book's figure at 20 °C.", ohms(v))
	}
	says := []string{b.Name + ": " + w.says() + ".", b.Mend}
	if len(w.crossed) > 0 {
		says = append(says, fmt.Sprintf("The minus at %s only says that the leads were crossed.", lowerFirst(strings.Join(w.crossed, " and at "))))
	}
	v := Verdict{Outcome: b.Outcome, Says: strings.Join(append(says, w.notes(b)...), " ")}
	if coil, ok := coilAt20(w.r); ok && !math.IsInf(coil, 1) {
		v.Figures = append(v.Figures, Figure{Name: "coil at 20 °C", Unit: "ohm", Value: coil, Low: coil * 0.98, High: coil * 1.02})
	}
	return v
}

// notes say of the fuse what was written down, and where the wire was rubbed and how it was mended.
func (w circuitRead) notes(b circuit.Break) (out []string) {
	name, size := w.r.Word("fuse-name"), ""
	amps, sized := w.r.Mean("fuse-size")
	if sized {
		size = say(amps) + " A"
	}
	if name != "" || sized {
		out = append(out, fmt.Sprintf("Fuse: %s.", strings.Join(slices.DeleteFunc([]string{name, size}, func(s string) bool { return s == "" }), ", ")))
	}
	if sized && len(w.Fuse) == 2 && amps > w.Fuse[1] {
		out = append(out, fmt.Sprintf("That is more than the %s to %s A that such a circuit usually has: a fuse too large lets the wire burn. See the diagram.", say(w.Fuse[0]), say(w.Fuse[1])))
	}
	if x := w.r.Word("rubbed"); x != "" {
		out = append(out, "Rubbed: "+strings.TrimSuffix(x, ".")+".")
	}
	if x := w.r.Word("mended"); x != "" {
		out = append(out, "Mended: "+strings.TrimSuffix(x, ".")+".")
	}
	return out
}

// says lists what was measured.
func (w circuitRead) says() string {
	var out []string
	for _, t := range w.taken() {
		out = append(out, lowerFirst(t.Name)+" "+t.Value)
	}
	return strings.Join(out, ", ")
}

// taken are the measurements that are in, in the circuit's order.
func (w circuitRead) taken() (out []Taken) {
	for _, m := range w.Measures {
		r, in := w.r[m.Key]
		if !in {
			continue
		}
		t := Taken{Channel: m.Key, Name: m.Name, Expect: w.expects(m)}
		var values []string
		for _, v := range r.Numbers {
			values = append(values, reads(m, v))
		}
		for _, k := range r.Words {
			if b, ok := m.Word(k); ok {
				values = append(values, b.Says)
			}
		}
		t.Value = strings.Join(values, ", ")
		t.Says = "for neither: measure it again"
		if i := slices.IndexFunc(m.Bands, func(b circuit.Band) bool { return b.Key == w.found[m.Key] }); i >= 0 {
			t.Says, t.Sound = m.Bands[i].Says, m.Bands[i].Sound
		}
		out = append(out, t)
	}
	return out
}

// expects says what a sound circuit reads, and from where to where it is sound.
func (w circuitRead) expects(m circuit.Measure) string {
	b := m.Sound()
	if m.Unit == "" {
		return b.Says
	}
	v := w.Reads(m, nil)
	least, a := w.r.Mean("coil-least")
	most, c := w.r.Mean("coil-most")
	switch {
	case m.Key == "coil" && a && c:
		return fmt.Sprintf("%s to %s ohm at 20 °C by the book", say(least), say(most))
	case math.IsInf(v, 1):
		return "OL, or from " + ohms(b.From) + " on"
	case b.From == 0:
		return fmt.Sprintf("at most %s", reads(m, b.To))
	}
	return fmt.Sprintf("about %s, from %s to %s", reads(m, v), say(b.From), reads(m, b.To))
}

// reads writes a reading of a measure.
func reads(m circuit.Measure, v float64) string {
	switch m.Unit {
	case "ohm":
		return ohms(v)
	case "V":
		return say(v) + " V"
	}
	return say(v) + " " + m.Unit
}

func casedName(m circuit.Measure) string { return strings.ToUpper(m.Name[:1]) + m.Name[1:] }

func names(left []circuit.Suspect) string {
	var out []string
	for _, x := range left {
		out = append(out, x.Lower())
	}
	return strings.Join(out, "; ")
}

// circuitNow is how the walk stands.
func circuitNow(s Subject, r Readings) Walk {
	if s.Part.Wired == nil {
		return Walk{}
	}
	w := readCircuit(s.Part.Wired, r)
	out := Walk{Name: w.Name, Note: w.Note, Taken: w.taken()}
	left := w.Tree().Left(w.found)
	for _, x := range left {
		out.Left = append(out.Left, Left{x.Name, x.Share})
	}
	if len(left) == 1 && left[0].Again == "" {
		out.Found = left[0].Name
		return out
	}
	next := w.nextOf()
	v := reduceCircuit(s, r)
	if v.Outcome == CannotTell {
		out.Why = v.Says
	}
	if v.Ask != "" { // a contradiction, or one to take again, comes first
		if r.Has(v.Ask) {
			out.Why = v.Says
		}
		if m, ok := w.Measure(v.Ask); ok && (len(next) == 0 || next[0].Key != m.Key) {
			next = slices.Insert(slices.DeleteFunc(next, func(x circuit.Step) bool { return x.Key == m.Key }), 0, circuit.Step{Measure: m})
		}
	}
	for _, x := range next {
		out.Next = append(out.Next, Asked{Channel: x.Key, Name: x.Name, Ask: x.Ask, Stand: x.Stand, Expect: w.expects(x.Measure), Minutes: x.Minutes})
	}
	return out
}
