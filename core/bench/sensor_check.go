package bench

import (
	"fmt"
	"math"

	"wexter/core/plumbing"
	"wexter/core/units"
)

const sensorCheck = "sensor-check"

// Limits of a pressure sensor (common practice, no source): a tenth of its scale, half an inch of
// water of its zero, and a second and a half by which it may come later than the gauge. A sensor that shows less
// than a twentieth of what the gauge does is dead; one tried over less than four inches of water tells
// nothing of its scale.
const (
	scaleOff    = 0.1
	zeroOff     = 0.5 // inH2O
	slowAfter   = 1.5 // s
	deadBelow   = 0.05
	leastTried  = 4.0  // inH2O
	strayMost   = 0.4  // inH2O from the line
	deadVolts   = 0.02 // V that a dead one's signal moves at most, for an inch of water
	gaugeWithin = 0.01 // share by which a bay's gauge may be off (common practice, no source)
)

// SensorCheck is a pressure sensor followed by a hand pump.
var SensorCheck = Register(Test{
	Key:  sensorCheck,
	On:   OnePart,
	Odds: FromPlant,
	Channels: []Channel{
		{Key: "supply", Unit: "V", Low: 0, High: 32, Sense: SensorSupply, Optional: true},
		{Key: "zero", Unit: "inH2O", Low: -60, High: 60, Sense: SensorZero},
		{Key: "ten", Unit: "inH2O", Low: -60, High: 60, Sense: SensorAtTen},
		{Key: "gauge", Unit: "inH2O", Low: -60, High: 60, Sense: PumpGauge, Optional: true, Fields: followIn, Usual: true},
		{Key: "shows", Unit: "inH2O", Low: -60, High: 60, Sense: SensorShows, Optional: true, Fields: followIn, Usual: true},
		{Key: "volts", Unit: "V", Low: -1, High: 32, Sense: SensorVolts, Optional: true, Fields: followIn},
		{Key: "volts-zero", Unit: "V", Low: -1, High: 32, Optional: true},
		{Key: "volts-ten", Unit: "V", Low: -1, High: 32, Optional: true},
		{Key: "lag", Unit: "s", Low: 0, High: 60, Optional: true},
	},
	Phases:  []Phase{{Do: []Step{{Do: KeyOn}}, For: 5, Read: []string{"supply", "zero", "ten"}}},
	Live:    Live{Stretches: sensorStretches, Watch: newSensorWatch, Foresees: TankSensor},
	Picture: sensorPicture,
	Tries: func(t Target) string {
		if t.Part.Kind == plumbing.Sensor && (t.Part.Family == "vapour" || t.Part.Role == "difference") {
			return t.Part.Key
		}
		return ""
	},
	Reduce: reduceSensor,
})

// sensorLine is a sensor against a gauge: from points, or from its zero and what it shows at 10 inH2O.
type sensorLine struct {
	straight
	x, y      []float64 // inH2O; the points on which it stands
	low, high float64   // the ends of its range; NaN: not reached
	volts     bool      // y is in volts: nobody knows what they mean
}

// sensorLineOf is the line that readings give; ok is false where there is none, and why then says what
// is wrong, or is empty.
func sensorLineOf(r Readings) (l sensorLine, why Verdict, ok bool) {
	gauge, y := r["gauge"].Numbers, r["shows"].Numbers
	if len(gauge) == 0 {
		return l, why, false
	}
	at0, a := r.Mean("volts-zero")
	at10, b := r.Mean("volts-ten")
	if len(y) == 0 {
		v := r["volts"].Numbers
		if l.volts = !a || !b || math.Abs(at10-at0) < 0.05; l.volts {
			y = v
		} else {
			for _, x := range v {
				y = append(y, 10*(x-at0)/(at10-at0))
			}
		}
	}
	switch {
	case len(y) != len(gauge):
		return l, ask("gauge", "The gauge was read %d times and the sensor %d times. Read both at each pressure, and write them in the same order.", len(gauge), len(y)), false
	case len(gauge) < 3:
		return l, ask("gauge", "%d points make no line. Read at least three pressures, on both sides of zero.", len(gauge)), false
	}
	l.x, l.y, l.low, l.high = withoutEnds(gauge, y)
	l.straight, ok = lineThrough(l.x, l.y)
	if span := spread(l.x); !ok || span < leastTried {
		return l, ask("gauge", "It was tried over %s inH2O only. Pump from the air to 10 inH2O, and draw as much.", say(span)), false
	}
	return l, why, true
}

func spread(v []float64) float64 {
	if len(v) == 0 {
		return 0
	}
	low, high := v[0], v[0]
	for _, x := range v {
		low, high = math.Min(low, x), math.Max(high, x)
	}
	return high - low
}

// mixedUp are units in which a gauge is read by mistake, with how many inches of water one is.
var mixedUp = []struct {
	of float64
	in string
}{{units.InHg / units.InH2O, "inches of mercury"}, {units.Psi / units.InH2O, "psi"}, {1e3 / units.InH2O, "kPa"}}

// strange is why a line cannot be a sensor's; empty where it can.
func (l sensorLine) strange() string {
	if l.volts {
		return ""
	}
	if l.Gain < -0.3 {
		return "It falls as the gauge rises. Was a vacuum written as a pressure, or is the pump on the sensor's other port?"
	}
	for _, m := range mixedUp {
		if math.Abs(l.Gain/m.of-1) < 0.06 {
			return fmt.Sprintf("It shows %s times what the gauge does: is the gauge set to %s? Set it to inches of water, and read it again.", say(l.Gain), m.in)
		}
	}
	if l.Gain > 2 {
		return fmt.Sprintf("It shows %s times what the gauge does, which no sensor of this kind can. Look at the gauge's unit and at the hose between them.", say(l.Gain))
	}
	return ""
}

// reduceSensor judges what the line says, or zero and 10 inH2O where there is none.
func reduceSensor(_ Subject, r Readings) Verdict {
	if volts, has := r.Mean("supply"); has && (volts < 4.5 || volts > 5.5) {
		return ask("supply", "A supply of %s V is not the 5 V that it needs: walk its circuit first.", say(volts))
	}
	l, why, ok := sensorLineOf(r)
	lag, lagged := r.Mean("lag")
	zero, a := r.Mean("zero")
	ten, b := r.Mean("ten")
	switch {
	case ok:
		if w := l.strange(); w != "" {
			return ask("gauge", "%s", w)
		}
		if l.volts {
			return l.voltsOnly()
		}
	case why.Says != "":
		return why
	case !a:
		return ask("zero", "What does it read with its hose open to the air?")
	case !b:
		return ask("ten", "What does it read with 10 inH2O from the hand pump?")
	default:
		l = sensorLine{straight: straight{Zero: zero, Gain: (ten - zero) / 10, T: 2}, low: math.NaN(), high: math.NaN()}
	}
	v := l.verdict()
	if v.Outcome != "false-scale" && lagged && lag > slowAfter {
		v = is("slow", "Follows the pump %s s late: it comes to the right figure, but the leak check reads it before. Look into its hose and port, then at the sensor.", say(lag))
	}
	v.Figures = l.figures()
	return v
}

// verdict is what the line says of the sensor.
func (l sensorLine) verdict() Verdict {
	if math.Abs(l.Worst) > strayMost+0.05*spread(l.x) && math.Abs(l.Gain) > deadBelow {
		return unsure("The points do not lie on a line: %s inH2O off it at %s. The hose leaks, the sensor sticks, or the two were not read together. Try it again, slowly, and wait at each step.", say(math.Abs(l.Worst)), say(l.WorstAt))
	}
	at := fmt.Sprintf("%s at zero, %s at 10 inH2O", say(hundredth(l.Zero)), say(hundredth(l.Zero+10*l.Gain)))
	switch scale, off := zone(math.Abs(l.Gain-1), scaleOff, math.Max(0.02, l.T*l.GainSE)), zone(math.Abs(l.Zero), zeroOff, math.Max(0.06, l.T*l.ZeroSE)); {
	case math.Abs(l.Gain) < deadBelow:
		return is("false-scale", "Does not move: it stands at %s inH2O whatever the pump does.", say(hundredth(l.Zero)))
	case scale > 0:
		return is("false-scale", "Shows %s times the truth: %s.", say(l.Gain), at)
	case off > 0:
		return is("false-zero", "Shows %s inH2O with its hose open: a false zero. Its scale is right (%s times the truth).", say(l.Zero), say(l.Gain))
	case scale == 0 || off == 0:
		return unsure("%s: at the limit. Try it again with a second gauge.", at)
	}
	return is("true", "Follows the pump: %s.", at)
}

// voltsOnly is what volts say without the figures of the book.
func (l sensorLine) voltsOnly() Verdict {
	if math.Abs(l.Gain) < deadVolts {
		return is("false-scale", "Its signal stands at %s V whatever the pump does.", say(l.Zero))
	}
	return ask("volts-ten", "It moves by %s V for 10 inH2O, from %s V at zero. Which volts does the book give at zero and at 10 inH2O?", say(10*l.Gain), say(l.Zero))
}

// figures are scale and zero with their intervals: the scatter of the points, and what the gauge itself
// may be off.
func (l sensorLine) figures() []Figure {
	g := math.Hypot(l.T*l.GainSE, math.Max(2*gaugeWithin*math.Abs(l.Gain), 0.01))
	z := math.Hypot(l.T*l.ZeroSE, 0.05)
	return []Figure{{Name: "scale", Unit: "times", Value: l.Gain, Low: l.Gain - g, High: l.Gain + g}, {Name: "zero", Unit: "inH2O", Value: hundredth(l.Zero), Low: hundredth(l.Zero - z), High: hundredth(l.Zero + z)}}
}

// hundredth rounds to what a bay's gauge can tell, with no minus before a nought.
func hundredth(v float64) float64 { return math.Round(100*v)/100 + 0 }

// SensorScene is the picture of a sensor beside a gauge: what it showed at each pressure, the line through
// that, and where both stand now.
type SensorScene struct {
	Gauge, Shows   []float64 // inH2O
	Zero, Gain     float64   // of the line; NaN: there is none yet
	NowAt, Now     float64   // gauge and sensor of this moment; NaN: not read
	Scale, Nothing float64   // by how much a true one may be off: a share, inH2O
}

func (SensorScene) scene() {}

// sensorPicture is a sensor by its readings; nil where nothing was read beside a gauge.
func sensorPicture(_ Subject, r Readings) Scene {
	l, _, ok := sensorLineOf(r)
	if l.volts || len(r["gauge"].Numbers) == 0 {
		return nil
	}
	s := SensorScene{Gauge: l.x, Shows: l.y, Zero: math.NaN(), Gain: math.NaN(), NowAt: math.NaN(), Now: math.NaN(), Scale: scaleOff, Nothing: zeroOff}
	if ok {
		s.Zero, s.Gain = l.Zero, l.Gain
	}
	return s
}
