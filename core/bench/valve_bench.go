package bench

import (
	"fmt"
	"math"
	"strings"

	"wexter/core/calc"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/units"
)

// Limits of coils and supplies at a bench, common practice, no source.
const (
	openCoil  = 1000.0 // ohm: no solenoid of a valve has as much
	shortCoil = 4.0    // ohm: nor as little
	weakVolts = 11.0
	leastRuns = 5    // cycles: sticky valves pass once
	vacuumAt  = 15.0 // inHg on a control port or a seat
	heldAt    = 0.8 * vacuumAt
)

// newPrefix is that of the channels that hold a new part's cycles.
const newPrefix = "new-"

// ValveBench is a valve worked by hand, five times. Which state must seal and which must pass
// follows from the rest state that this very archetype gives the valve.
var ValveBench = Register(Test{
	Key:  "valve-bench",
	On:   OnePart,
	Odds: FromPlant,
	Channels: []Channel{
		{Key: "held", Unit: "inHg", Low: 0, High: 30, Sense: BenchVacuum, Optional: true},
		{Key: "sealed", Kind: Cycles, Sense: PartSeals, Times: leastRuns},
		{Key: "passed", Kind: Cycles, Sense: PartPasses, Times: leastRuns},
		{Key: "coil", Unit: "ohm", Low: 0, High: 1e9, Sense: CoilOhms, Optional: true, Open: true},
		{Key: "coil-at", Unit: "°C", Low: -40, High: 200, Optional: true},
		{Key: "coil-least", Unit: "ohm", Low: 0, High: 1e4, Optional: true},
		{Key: "coil-most", Unit: "ohm", Low: 0, High: 1e4, Optional: true},
		{Key: "supply", Unit: "V", Low: 0, High: 32, Sense: SupplyVolts, Optional: true},
		{Key: "click", Kind: Choice, Words: []string{Yes, No}, Optional: true},
		besideChannel,
		{Key: "leak", Unit: "L/min", Low: 0, High: 1000, Optional: true},
		{Key: "leak-at", Unit: "inH2O", Low: 0.5, High: 410, Optional: true},
		{Key: "rig", Unit: "inHg", Low: 0, High: 30, Optional: true},
		{Key: "new-sealed", Kind: Cycles, Times: leastRuns, Optional: true},
		{Key: "new-passed", Kind: Cycles, Times: leastRuns, Optional: true},
		{Key: "loss", Unit: "inHg", Low: 0, High: 1e4, Optional: true, Worked: true, Open: true},
		{Key: "fall", Unit: "s", Low: 0, High: 1e4, Optional: true, Worked: true, Open: true},
		{Key: "car-supply", Unit: "V", Low: 0, High: 32, Sense: CarVolts, Optional: true, Worked: true},
		{Key: "signal-closed", Unit: "inHg", Low: -1, High: 30, Sense: SignalVacuum, Optional: true},
		{Key: "signal-open", Unit: "inHg", Low: -1, High: 30, Sense: SignalVacuum, Optional: true},
		{Key: "opens", Unit: "inH2O", Low: 0, High: 200, Sense: ReliefOpens, Optional: true, Fields: rampTimes},
		{Key: "reseals", Unit: "inH2O", Low: 0, High: 200, Sense: ReliefReseals, Optional: true, Fields: rampTimes},
	},
	Phases: []Phase{
		{Do: []Step{{Do: Press, At: AtPart, Value: -vacuumAt * units.InHg}}, For: 20, Read: []string{"held", "sealed", "passed", "coil", "supply"}},
	},
	Live: Live{Taps: []Tap{{PowerTap, "Power", []record.RunKind{cyclesOld, cyclesNew}}, {clickTap, "Click heard", []record.RunKind{cyclesOld, cyclesNew}}}, Looks: []record.RunKind{cyclesOld, cyclesNew},
		Stretches: valveStretches, Watch: newValveWatch, Picture: valveLivePicture},
	Picture: valvePicture,
	Tries: func(t Target) string {
		p := t.Part
		if p.Kind == plumbing.Valve && p.Drive != "cable" || p.Kind == plumbing.Relief || p.Kind == plumbing.Check && t.Named("valve-bench") {
			return p.Key
		}
		return ""
	},
	Reduce: reduceValve,
})

// reduceValve asks for what is missing, then sees whether the readings can be true together;
// what then stands decides.
func reduceValve(s Subject, r Readings) Verdict {
	w := working(s.Part, r)
	if v, ends := valveSignal(s, r); ends {
		return v
	}
	if v, is := reliefRamped(s.Part, r); is {
		return v
	}
	v := w.figures(w.judged(r), r)
	if says := signalSays(r); says != "" {
		v.Says += " " + says
	}
	return v
}

// judged is the first rule that ends it, else what the cycles say.
func (w valveWork) judged(r Readings) Verdict {
	for _, rule := range []func(valveWork, Readings) (Verdict, bool){valveMissing, valveRig, valveCoil, valveHeld, valveSupply, valveLeak} {
		if v, ends := rule(w, r); ends {
			return v
		}
	}
	return besideNew(valveCycles(w), w, r)
}

// besideNew holds what was found against a new part that was worked on the same rig: that is the
// strongest evidence there is, both ways.
func besideNew(v Verdict, w valveWork, r Readings) Verdict {
	x := w
	x.sealed, x.nSealed = r.Cycles(newPrefix + "sealed")
	x.passed, x.nPassed = r.Cycles(newPrefix + "passed")
	if v.Outcome == "" || x.nSealed == 0 || x.nPassed == 0 {
		return v
	}
	sound := valveCycles(x).Outcome != "leaks" && valveCycles(x).Outcome != "stuck"
	switch {
	case v.Outcome == "good":
	case !sound:
		return unsure("It %s, and the new one beside it %s: the same trouble. Look at rig, adapter, polarity and supply, and whether it is the right part.", w, x)
	}
	v.Says += fmt.Sprintf(" The new one beside it %s.", x)
	return v
}

// valveRig asks for the rig when by itself it loses what the valve is blamed for.
func valveRig(w valveWork, r Readings) (Verdict, bool) {
	own, has := r.Mean("rig")
	if has && w.sealed < w.nSealed && zone(own, heldAt, 0.5) < 0 {
		return ask("rig", "Plugged, the rig itself keeps only %s of %s inHg: it leaks. Mend its hoses and adapter, plug it again, then work the valve again.", say(own), say(vacuumAt)), true
	}
	return Verdict{}, false
}

// valveWork is how a valve worked, cycle by cycle.
type valveWork struct {
	part            plumbing.Part
	sealed, nSealed int
	passed, nPassed int
	electric        bool
	moved           int    // cycles in which it left its rest state
	how             string // what it then did
}

func working(p plumbing.Part, r Readings) valveWork {
	w := valveWork{part: p}
	w.sealed, w.nSealed = r.Cycles("sealed")
	w.passed, w.nPassed = r.Cycles("passed")
	w.moved, w.how = w.passed, "passed"
	if p.Rest == plumbing.Open {
		w.moved, w.how = w.sealed, "sealed"
	}
	w.electric = electric(p)
	return w
}

// electric reports whether power moves a part.
func electric(p plumbing.Part) bool {
	return p.Kind == plumbing.Valve && p.By == "" && p.Drive != "diaphragm" && p.Drive != "vacuum" && p.Drive != "spring"
}

func (w valveWork) String() string {
	says := fmt.Sprintf("sealed %d of %d", w.sealed, w.nSealed)
	if w.nPassed > 0 {
		says += fmt.Sprintf(", passed %d of %d", w.passed, w.nPassed)
	}
	return says
}

// valveMissing asks for the cycles.
func valveMissing(w valveWork, r Readings) (Verdict, bool) {
	held, has := r.Mean("held")
	switch {
	case w.nSealed == 0 && has && zone(held, heldAt, 0.5) != 0 && w.part.Rest != plumbing.Open:
		// What the gauge held says whether it seals; how often is still to be seen.
		return ask("sealed", "It held %s of %s inHg. In how many cycles did it seal? Five at least: sticky valves pass once.", say(held), say(vacuumAt)), true
	case w.nSealed == 0:
		return ask("sealed", "In which cycles did it seal %s?", sealsWhen(w.part)), true
	case w.nPassed == 0 && (w.sealed > 0 || w.nSealed < 3): // behind what never seals nothing stands that could pass
		return ask("passed", "In which cycles did it pass %s?", passesWhen(w.part)), true
	}
	return Verdict{}, false
}

// valveCoil is a coil that cannot move the valve, and whether it really did not.
func valveCoil(w valveWork, r Readings) (Verdict, bool) {
	coil, has := coilAt20(r)
	switch {
	case !has || !w.electric:
		return Verdict{}, false
	case (coil > openCoil || coil < shortCoil) && w.moved > 0:
		return ask("coil", "A coil of %s cannot move it, yet it %s %d times with power. Measure the coil again, or count the cycles again.", ohms(coil), w.how, w.moved), true
	case coil > openCoil:
		return is("coil", "The coil reads %s: open circuit. Power cannot move the valve.", ohms(coil)), true
	case coil < shortCoil:
		return is("coil", "The coil reads %s: short. Power cannot move the valve.", ohms(coil)), true
	}
	v, bad := bookRange(coil, r)
	return v, bad && w.moved < max(w.nSealed, w.nPassed)
}

// valveHeld asks when the gauge and the cycles contradict each other.
func valveHeld(w valveWork, r Readings) (Verdict, bool) {
	held, has := r.Mean("held")
	if !has || w.part.Rest == plumbing.Open || w.part.Kind != plumbing.Valve {
		return Verdict{}, false
	}
	switch {
	case zone(held, heldAt, 0.5) < 0 && w.sealed == w.nSealed:
		return ask("held", "It held only %s of %s inHg, yet sealed in all %d cycles. Both cannot be: pump it up again.", say(held), say(vacuumAt), w.nSealed), true
	case zone(held, heldAt, 0.5) > 0 && w.sealed == 0:
		return ask("held", "It held %s of %s inHg, yet sealed in none of %d cycles. Both cannot be: count again.", say(held), say(vacuumAt), w.nSealed), true
	}
	return Verdict{}, false
}

// valveSupply asks for more volts when a valve did not move.
func valveSupply(w valveWork, r Readings) (Verdict, bool) {
	volts, has := r.Mean("supply")
	if w.electric && has && volts < weakVolts && w.moved == 0 {
		return ask("supply", "It did not move, at %s V: a weak supply makes a good valve look dead. Try it again at 12 V or more.", say(volts)), true
	}
	return Verdict{}, false
}

// An EVAP system may leak as much as a hole of 0.020 in through all of it (on-board
// diagnostics, California Code of Regulations, title 13, section 1968.2, value from memory); a
// valve that takes half of its width is no longer surely sound (common practice, no source).
const (
	leakyValve = 0.508e-3
	tightValve = 0.5 * leakyValve
)

// leakHole is the hole that leaks as much as the valve did where it should seal, m.
func leakHole(r Readings) (float64, bool) {
	leak, a := r.Mean("leak")
	at, b := r.Mean("leak-at")
	return leakyValve * math.Sqrt(leak/OrificeFlow(leakyValve, at)), a && b
}

// valveLeak is the flow past a shut valve of the EVAP system, against the hole that leaks
// as much. Other valves leak a little by design: there the figure alone is kept.
func valveLeak(w valveWork, r Readings) (Verdict, bool) {
	leak, has := r.Mean("leak")
	if has && leak > 0 && !r.Has("leak-at") {
		return ask("leak-at", "At which pressure does it leak %s L/min?", say(leak)), true
	}
	hole, ok := leakHole(r)
	if !ok || w.part.Family != "vapour" {
		return Verdict{}, false
	}
	at, _ := r.Mean("leak-at")
	says := fmt.Sprintf("%s L/min passes at %s inH2O where it must seal, as through a hole of %s mm", say(leak), say(at), say(hole*1e3))
	switch {
	case hole < tightValve && w.sealed == 0:
		return ask("leak", "It sealed in none of %d cycles, yet leaks only %s L/min. Both cannot be: measure it again.", w.nSealed, say(leak)), true
	case hole > 0.9*leakyValve:
		return is("leaks", "%s: it leaks.", says), true
	case hole > tightValve && w.sealed == w.nSealed:
		return unsure("%s: more than a new valve. Clean its seat and try it again.", says), true
	}
	return Verdict{}, false
}

// valveCycles is what the cycles say by themselves.
func valveCycles(w valveWork) Verdict {
	all := w.sealed == w.nSealed && w.passed == w.nPassed
	switch {
	case all && min(w.nSealed, w.nPassed) < leastRuns:
		return ask("sealed", "It %s. Work it at least %d times: sticky valves pass once.", w, leastRuns)
	case all:
		return is("good", "It %s: sound.", w)
	case w.sealed == 0:
		return is("leaks", "It %s: it does not seal %s.", w, sealsWhen(w.part))
	case w.passed == 0:
		return is("stuck", "It %s: it does not pass %s.", w, passesWhen(w.part))
	}
	return is("sticky", "It %s: not in every cycle.", w)
}

// figures puts what was worked out beside a verdict that stands.
func (w valveWork) figures(v Verdict, r Readings) Verdict {
	if v.Outcome == "" {
		return v
	}
	if coil, ok := coilAt20(r); ok && w.electric && !math.IsInf(coil, 1) {
		v.Figures = append(v.Figures, Figure{Name: "coil at 20 °C", Unit: "ohm", Value: coil, Low: coil * 0.98, High: coil * 1.02})
	}
	if hole, ok := leakHole(r); ok {
		v.Figures = append(v.Figures, Figure{Name: "leak, equivalent orifice", Unit: "mm", Value: hole * 1e3, Low: hole * 0.94e3, High: hole * 1.06e3})
	}
	return v
}

// coilAt20 is the coil's resistance brought to 20 °C, when the coil's temperature is known;
// otherwise as it was read.
func coilAt20(r Readings) (float64, bool) {
	v, ok := r.Mean("coil")
	if t, warm := r.Mean("coil-at"); ok && warm && !math.IsInf(v, 1) {
		v = calc.CoilAt20(v, t+units.ZeroCelsius)
	}
	return v, ok
}

// bookRange holds the coil against the range of the maker's book, when that was given.
func bookRange(coil float64, r Readings) (Verdict, bool) {
	least, a := r.Mean("coil-least")
	most, b := r.Mean("coil-most")
	switch {
	case a && coil < 0.97*least:
		return is("coil", "The coil reads %s at 20 °C, below the %s ohm of the book.", ohms(coil), say(least)), true
	case b && coil > 1.03*most:
		return is("coil", "The coil reads %s at 20 °C, above the %s ohm of the book.", ohms(coil), say(most)), true
	}
	return Verdict{}, false
}

// ohms writes a resistance; a meter's overload as it shows it.
func ohms(v float64) string {
	switch {
	case math.IsInf(v, 1):
		return "OL"
	case v >= 1e6:
		return say(v/1e6) + " MΩ"
	case v >= 1e3:
		return say(v/1e3) + " kΩ"
	}
	return say(v) + " ohm"
}

// state says what brings a valve into its rest state, and out of it.
type state struct{ rest, moved string }

func statesOf(p plumbing.Part) state {
	switch {
	case p.Kind != plumbing.Valve:
		return state{"in the direction in which it must", "in the direction in which it may"}
	case p.Drive == "diaphragm" || p.Drive == "vacuum":
		return state{"without vacuum", "with vacuum"}
	case p.Drive == "spring":
		return state{"cold", "warm"}
	}
	return state{"without power", "with power"}
}

func sealsWhen(p plumbing.Part) string {
	if p.Rest == plumbing.Open {
		return statesOf(p).moved
	}
	return statesOf(p).rest
}

func passesWhen(p plumbing.Part) string {
	if p.Rest == plumbing.Open {
		return statesOf(p).rest
	}
	return statesOf(p).moved
}

// WhenWords say, for the page, in which state a valve's cycles are counted.
func WhenWords(channel string, p plumbing.Part) string {
	channel = strings.TrimPrefix(channel, newPrefix)
	switch {
	case p.Key == "":
		return ""
	case channel == "sealed":
		return sealsWhen(p)
	case channel == "passed":
		return passesWhen(p)
	}
	return ""
}
