package bench

import (
	"fmt"
	"math"
	"slices"

	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/units"
)

// Windows of a vent unit with reliefs and a vacuum switch, inH2O (common practice, no
// source): the pressure relief begins to open near 0.5 and must be shut again below that;
// the switch changes near 1 and not beyond 2; the vacuum relief opens between 3 and 6.
const (
	reliefLeast, reliefMost = 0.2, 1.0
	switchLeast, switchMost = 0.3, 2.0
	vacuumLeast, vacuumMost = 3.0, 6.0
)

// VentUnit is a vent unit on the manometer: three windows, and the order in which they come.
var VentUnit = Register(Test{
	Key:  ventUnit,
	On:   OnePart,
	Odds: FromPlant,
	Channels: []Channel{
		{Key: "opens", Unit: "inH2O", Low: 0, High: 30, Sense: ReliefOpens, Times: 2},
		{Key: "reseals", Unit: "inH2O", Low: 0, High: 30, Sense: ReliefReseals, Times: 2},
		{Key: "switch", Unit: "inH2O", Low: 0, High: 30, Sense: SwitchChanges, Times: 2, Open: true},
		{Key: "vacuum", Unit: "inH2O", Low: 0, High: 30, Sense: VacuumRelief, Times: 2},
		{Key: "ramp", Unit: "inH2O", Low: -30, High: 30, Sense: UnitPressure, Optional: true, Worked: true},
		{Key: "contact", Unit: "V", Low: -1, High: 32, Sense: SwitchVolts, Optional: true, Worked: true},
		inch(0), inch(1), inch(2), inch(3), inch(4), inch(5), inch(6),
	},
	Phases: []Phase{
		{Do: []Step{{Do: Press, At: AtPart, Value: 2 * units.InH2O}}, For: 30, Read: []string{"opens", "reseals"}},
		{Do: []Step{{Do: Press, At: AtPart, Value: -6 * units.InH2O}}, For: 60, Read: []string{"switch", "vacuum"}},
	},
	Live:    Live{Taps: []Tap{{switched, "Switch changes", []record.RunKind{phaseKey(1)}}}, Stretches: ventStretches, Watch: newVentWatch},
	Picture: ventPicture,
	Tries: func(t Target) string {
		if t.Named(ventUnit) {
			for _, p := range t.Graph.Parts {
				if host, _ := t.Graph.Part(p.On); p.Kind == plumbing.Relief && host.Kind == plumbing.Valve {
					return p.On
				}
			}
		}
		return ""
	},
	Reduce: reduceVentUnit,
})

// inches is how far the contact is read inch by inch, from 0.
const inches = 7

// inch is the contact at so many inches of water of vacuum, for who tests by the inch.
func inch(n int) Channel {
	return Channel{Key: inchKey(n), Unit: "V", Low: -1, High: 32, Optional: true}
}

func inchKey(n int) string { return fmt.Sprintf("inch-%d", n) }

// byTheInch finds between which inches the contact changed; false where the steps tell nothing: fewer
// than two were read, one between is missing, or the volts do not tell the two states apart.
func byTheInch(r Readings) (from, to float64, changed, ok bool) {
	var at []int
	var v []float64
	for n := range inches {
		if x, has := r.Mean(inchKey(n)); has {
			at, v = append(at, n), append(v, x)
		}
	}
	if len(v) < 2 {
		return 0, 0, false, false
	}
	low, high := slices.Min(v), slices.Max(v)
	if high-low < math.Max(0.3*math.Abs(high), 0.2) {
		return 0, float64(at[len(at)-1]), false, true // it stands as it was
	}
	half, first := (low+high)/2, v[0] > (low+high)/2
	for i := 1; i < len(v); i++ {
		if (v[i] > half) != first {
			return float64(at[i-1]), float64(at[i]), true, at[i] == at[i-1]+1
		}
	}
	return 0, 0, false, false
}

// switchByInch takes the switch from the steps where it was not read on a ramp.
func switchByInch(r Readings) Readings {
	if len(r["switch"].Numbers) > 0 {
		return r
	}
	from, to, changed, ok := byTheInch(r)
	lets, has := r.Mean("vacuum")
	switch {
	case !ok:
		return r
	case changed:
		return r.With(Readings{"switch": Num((from + to) / 2)})
	case has && to >= math.Floor(lets):
		return r.With(Readings{"switch": Num(math.Inf(1))})
	}
	return r
}

// reduceVentUnit takes the worst repetition of each: what lets go once may do so again. A
// switch that shows no change before the vacuum relief opens reads +Inf.
func reduceVentUnit(_ Subject, r Readings) Verdict {
	r = switchByInch(r)
	for _, c := range []struct{ key, what string }{{"opens", "At which pressure does the relief open? 0 when none builds up."}, {"reseals", "At which pressure is the relief shut again?"},
		{"switch", "At which vacuum does the switch change? \"no change\" is an answer."}, {"vacuum", "At which vacuum does the vacuum relief open?"}} {
		if o := r["opens"].Numbers; c.key == "reseals" && len(o) > 0 && slices.Max(o) > reliefMost {
			continue // one that does not open in time need not shut again
		}
		if len(r[c.key].Numbers) == 0 {
			return ask(c.key, "%s", c.what)
		}
	}
	opens, reseals, sw, vacuum := r["opens"].Numbers, r["reseals"].Numbers, r["switch"].Numbers, r["vacuum"].Numbers
	low, high := slices.Min(opens), slices.Max(opens)
	late, lets := slices.Max(sw), slices.Min(vacuum)
	if len(reseals) == 0 {
		reseals = []float64{high}
	}
	if slices.Min(reseals) > high+0.05 {
		return ask("reseals", "It cannot reseal at %s inH2O when it opens at %s. Read it again on the way down.", say(slices.Min(reseals)), say(high))
	}
	switch {
	case low < reliefLeast || slices.Min(reseals) < 0.05:
		return is("relief-leaks", "The pressure relief opens at %s and reseals at %s inH2O; about 0.5 is right, and shut again below: it does not seal. On the car the tank vents through it: the leak check sees a leak that no hose has.", say(low), say(slices.Min(reseals)))
	case high > reliefMost:
		return is("relief-stuck", "The pressure relief opens only at %s inH2O; about 0.5 is right. On the car the air that fuel displaces cannot leave: the pump nozzle shuts off while refuelling.", say(high))
	case lets < vacuumLeast-0.2:
		return is("early", "The vacuum relief opens at %s inH2O; 3 to 6 is right%s.", say(lets), map[bool]string{true: ", and that is before the switch: the check can never pass", false: ". On the car a tank that cools keeps less vacuum than it should: on a cold night the check may fail"}[late >= lets])
	case late > lets:
		return is("dead", "The switch does not change before the vacuum relief opens at %s inH2O: on the car the check can never pass.", say(lets))
	case late > switchMost+0.1:
		return is("dead", "The switch changes only at %s inH2O; about 1 is right, 2 at most. On the car a tank has to cool twice as far: the check passes now and then, or never.", say(late))
	case slices.Max(vacuum) > vacuumMost+0.3:
		return is("vacuum-stuck", "The vacuum relief opens only at %s inH2O; 3 to 6 is right. On the car a tank that cools is drawn in: it can be bent.", say(slices.Max(vacuum)))
	case slices.Min(sw) < switchLeast:
		return unsure("The switch changes already at %s inH2O; about 1 is right. So little may come from wind or a warm hand: repeat it slowly.", say(slices.Min(sw)))
	case late > switchMost-0.1 || lets < vacuumLeast:
		return unsure("Switch %s, vacuum relief %s inH2O: one of them lies at its limit. Repeat it slowly.", say(late), say(lets))
	}
	return is("good", "Relief %s, reseals %s, switch %s, vacuum relief %s inH2O: all in their windows, in the right order.", say(high), say(slices.Min(reseals)), say(late), say(lets))
}
