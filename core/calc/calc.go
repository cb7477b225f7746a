package calc

import (
	"fmt"
	"math"
	"strings"

	"wexter/core/gas"
	"wexter/core/units"
)

// Plain is the kind of a field that is a number in a fixed unit.
const Plain units.Kind = -1

// Field is one thing that is asked for.
type Field struct {
	Key, Label string
	Kind       units.Kind
	Unit       string // taken when none is typed
	Default    string
	Min, Max   float64 // in SI, or in Unit for Plain
}

// Line is one thing that comes out.
type Line struct{ Label, Value, Second string }

// Calculator is one formula.
type Calculator struct {
	Key, Name, Use, Source string
	Fields                 []Field
	run                    func(v map[string]float64) ([]Line, error)
}

// Run reads what was typed, a text for each field (empty takes the default), and
// works it out. The error is a sentence that names the field.
func (c Calculator) Run(typed map[string]string) ([]Line, error) {
	v := map[string]float64{}
	for _, f := range c.Fields {
		t := strings.TrimSpace(typed[f.Key])
		if t == "" {
			t = f.Default
		}
		var err error
		var x float64
		switch {
		case f.Kind != Plain:
			x, err = units.Parse(t, f.Kind, f.Unit)
		case f.Unit == "%":
			x, err = units.Number(strings.TrimSpace(strings.TrimSuffix(t, "%")))
		default:
			x, err = units.Number(strings.TrimSpace(strings.TrimSuffix(t, f.Unit)))
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.Label, err)
		}
		if x < f.Min || x > f.Max {
			lo, hi := f.Min, f.Max
			if f.Kind != Plain {
				u := units.Must(f.Unit, f.Kind)
				lo, hi = u.FromSI(lo), u.FromSI(hi)
			}
			return nil, fmt.Errorf("%s: it must lie between %.4g and %.4g %s", f.Label, lo, hi, f.Unit)
		}
		v[f.Key] = x
	}
	return c.run(v)
}

// Find returns a calculator by its key.
func Find(key string) (Calculator, bool) {
	for _, c := range All {
		if c.Key == key {
			return c, true
		}
	}
	return Calculator{}, false
}

func quantity(label string, si float64, k units.Kind, symbol string) Line {
	return Line{label, units.Format(si, k, symbol, 3), units.Format(si, k, units.Second(symbol, k), 3)}
}

func plain(label string, x float64, unit string) Line {
	return Line{label, strings.TrimSpace(units.Digits(x, 3) + " " + unit), ""}
}

// grams is a mass flow with the free air it is, at the barometer and 20 °C.
func grams(label string, kgs float64) Line {
	free := gas.FreeAir(kgs, gas.StandardPressure, 293.15)
	return Line{label, units.Digits(kgs*1e3, 3) + " g/s", units.Format(free, units.Flow, "L/min", 3) + " free air"}
}

// Fields that several calculators ask for.
func diameter(def string) Field {
	return Field{"d", "Diameter", units.Length, "mm", def, 1e-6, 0.1}
}
func gauge(label, def string) Field {
	return Field{"p", label, units.Pressure, "inH2O", def, -95e3, 400e3}
}

var (
	barometer = Field{"b", "Barometer", units.Pressure, "hPa", "1013.25", 50e3, 120e3}
	warmth    = Field{"t", "Temperature of the gas", units.Temperature, "°C", "20", 233.15, 423.15}
	coeff     = Field{"cd", "Discharge coefficient", Plain, "", "0.61", 0.3, 1}
	volume    = Field{"v", "Volume", units.Volume, "L", "30", 1e-5, 10}
)

func upstream(v map[string]float64) (p1, p2 float64) {
	p1, p2 = v["b"]+v["p"], v["b"]
	return math.Max(p1, p2), math.Min(p1, p2)
}

func regime(p1, p2 float64) Line {
	if p2/p1 <= gas.CriticalRatio(gas.Gamma) {
		return Line{"Flow is", "choked", fmt.Sprintf("ratio %.3f, critical %.4f", p2/p1, gas.CriticalRatio(gas.Gamma))}
	}
	return Line{"Flow is", "not choked", fmt.Sprintf("ratio %.3f, critical %.4f", p2/p1, gas.CriticalRatio(gas.Gamma))}
}

const (
	published = "NACA Report 1135, 1953; ISO 9300, 2005"
	ideal     = "ideal-gas law"
)

// All lists the calculators in the order of the page.
var All = append([]Calculator{
	{"orifice", "Flow through a hole", "What passes a leak of a size at a pressure.", published,
		[]Field{diameter("0.508"), gauge("Pressure, gauge", "13"), barometer, warmth, coeff},
		func(v map[string]float64) ([]Line, error) {
			p1, p2 := upstream(v)
			return []Line{grams("Flow", gas.Orifice(gas.Area(v["d"]), v["cd"], p1, v["t"], p2)), regime(p1, p2)}, nil
		}},
	{"make-up", "Hole from make-up flow", "The flow that keeps a pressure, as an equivalent hole.", published,
		[]Field{{"q", "Flow of free air", units.Flow, "L/min", "0.54", 1e-9, 0.1}, gauge("Pressure held, gauge", "13"), barometer, warmth, coeff},
		func(v map[string]float64) ([]Line, error) {
			p1, p2 := upstream(v)
			if p1-p2 < 10 {
				return nil, fmt.Errorf("Pressure held: too little to tell a size from")
			}
			kgs := v["q"] * v["b"] / (gas.RAir * 293.15)
			return []Line{quantity("Equivalent hole", gas.Diameter(kgs/gas.Orifice(1, v["cd"], p1, v["t"], p2)), units.Length, "mm"), grams("Flow", kgs)}, nil
		}},
	{"half-time", "How fast a volume loses pressure", "Time to half the pressure, and the slope at the start; without heat, drift and swelling.", published,
		[]Field{diameter("0.508"), volume, gauge("Start, gauge", "13"), barometer, warmth, coeff},
		func(v map[string]float64) ([]Line, error) {
			if math.Abs(v["p"]) < 10 {
				return nil, fmt.Errorf("Start, gauge: too little pressure to lose")
			}
			p1, p2 := upstream(v)
			slope := gas.RAir * v["t"] / v["v"] * gas.Orifice(gas.Area(v["d"]), v["cd"], p1, v["t"], p2)
			return []Line{quantity("To half", gas.HalfTime(v["cd"]*gas.Area(v["d"]), v["v"], v["t"], v["p"], v["b"]), units.Time, "s"),
				{"Slope at the start", units.Digits(slope, 3) + " Pa/s", units.Digits(slope*60/units.InH2O, 3) + " inH2O/min"}}, nil
		}},
	{"hold", "How well a hold can tell", "How far the size is spread by the gauge's noise alone, when leak and drift are told apart by the bend of the trace. For holds that lose a small part of the pressure; a drift leg does better.", "derived: the square term of a closed volume with leak and drift, fitted by least squares",
		[]Field{diameter("0.508"), volume, gauge("Start, gauge", "13"), {"h", "Hold", units.Time, "s", "120", 1, 36000}, {"n", "Readings a second", Plain, "", "10", 0.01, 1000}, {"sd", "Noise of the gauge", units.Pressure, "Pa", "3", 1e-3, 1e4}, {"g", "Drift", Plain, "Pa/s", "0", -1000, 1000}, barometer, warmth, coeff},
		func(v map[string]float64) ([]Line, error) {
			p1, p2 := upstream(v)
			b := gas.RAir * v["t"] / v["v"] * gas.Orifice(gas.Area(v["d"]), v["cd"], p1, v["t"], p2)
			p := math.Abs(v["p"])
			lost, net := b*v["h"]/p, math.Abs((b-v["g"])*v["h"]/p)
			switch {
			case p < 10:
				return nil, fmt.Errorf("Start, gauge: too little pressure to lose")
			case lost > 1.5:
				return nil, fmt.Errorf("The pressure is gone long before its end; a shorter hold tells as much")
			case net < 1e-6:
				return nil, fmt.Errorf("Drift: it just balances the leak: the trace is flat and tells nothing; take a drift leg")
			}
			// Var of the square term of N even readings over H is 180 σ²/(N H⁴); d goes as the root of the area.
			sd := 2 * math.Sqrt(180) * v["sd"] / p / (math.Sqrt(v["n"]*v["h"]) * lost * net)
			return []Line{plain("Spread of the diameter, 2 in 3 times", 100*sd, "%"), quantity("so ±, 95 times of 100", 2*sd*v["d"], units.Length, "mm"), plain("Lost in the hold, of the start", 100*lost, "%")}, nil
		}},
	{"known-leak", "Size by a known leak", "Rates of fall at the same pressure, alone and with a known orifice added; the drift taken off both. The volume cancels.", "derived from the closed volume",
		[]Field{{"k1", "Rate alone", Plain, "Pa/s", "10", 1e-6, 1e5}, {"k2", "Rate with the orifice", Plain, "Pa/s", "25", 1e-6, 1e5}, {"d", "Known orifice", units.Length, "mm", "0.508", 1e-6, 0.02}},
		func(v map[string]float64) ([]Line, error) {
			if v["k2"] <= v["k1"] {
				return nil, fmt.Errorf("Rate with the orifice: it must be larger than the rate alone")
			}
			return []Line{quantity("The leak", gas.Diameter(gas.Area(v["d"])*v["k1"]/(v["k2"]-v["k1"])), units.Length, "mm")}, nil
		}},
	{"space", "Vapour space and smoke", "Air above the fuel, and how long smoke needs through it with the far end open.", "well-mixed volume, 1 − e^(−Qt/V)",
		[]Field{{"tank", "Tank", units.Volume, "L", "60", 1e-3, 1}, {"level", "Fuel level", Plain, "%", "50", 0, 100}, {"rest", "Neck, canister, lines", units.Volume, "L", "4", 0, 0.2}, {"q", "Smoke flow", units.Flow, "L/min", "10", 1e-6, 0.01}},
		func(v map[string]float64) ([]Line, error) {
			s := gas.Space{Tank: v["tank"], Level: v["level"] / 100, Lines: v["rest"]}.Vapour()
			if s <= 0 {
				return nil, fmt.Errorf("Fuel level: no space is left above the fuel")
			}
			return []Line{quantity("Vapour space", s, units.Volume, "L"), quantity("Filled once after", s/v["q"], units.Time, "s"),
				quantity("Smoke at nine tenths after", gas.SmokeTime(s, v["q"], 0.9), units.Time, "s"), quantity("Three changes", 3*s/v["q"], units.Time, "s")}, nil
		}},
	{"metered", "Volume from gas put in", "Metered into a tight system, settled.", ideal,
		[]Field{{"q", "Flow of free air", units.Flow, "L/min", "3", 1e-9, 0.1}, {"s", "For", units.Time, "s", "20", 0.1, 3600}, {"p", "Pressure rose by", units.Pressure, "inH2O", "12", 50, 50e3}, barometer},
		func(v map[string]float64) ([]Line, error) {
			return []Line{quantity("Effective volume", gas.MeteredVolume(v["q"], v["s"], v["p"], v["b"]), units.Volume, "L")}, nil
		}},
	{"heat", "Heat of charging, warmth of the wall", "How warm gas gets when charged quickly, how far the pressure then falls with no leak, and what a kelvin of the wall does.", ideal,
		[]Field{gauge("Charged to, gauge", "13"), barometer, warmth, {"dt", "The wall warms by", units.Difference, "K", "1", -50, 50}},
		func(v map[string]float64) ([]Line, error) {
			k := (gas.Gamma - 1) / gas.Gamma
			rise := k * v["t"] * v["p"] / v["b"]
			return []Line{plain("Gas warmer by, at most", rise, "K"), quantity("Falls as it settles by, at most", k*v["p"], units.Pressure, "inH2O"),
				quantity("The wall alone moves it by", (v["b"]+v["p"])*v["dt"]/v["t"], units.Pressure, "inH2O")}, nil
		}},
	{"trim", "Total trim and unmetered air", "Short and long trim together, and the air that this much leanness stands for.", "(1+S)(1+L)−1; unmetered air ≈ trim × measured air (common practice, no source)",
		[]Field{{"s", "Short trim", Plain, "%", "5", -60, 60}, {"l", "Long trim", Plain, "%", "12", -60, 60}, {"m", "Measured air", Plain, "g/s", "3.5", 0.01, 1000}, {"map", "Manifold pressure, absolute", units.Pressure, "kPa", "35 kPa", 5e3, 300e3}, barometer},
		func(v map[string]float64) ([]Line, error) {
			total := (1+v["s"]/100)*(1+v["l"]/100) - 1
			u := total * v["m"] / 1e3
			out := []Line{plain("Total trim", total*100, "%"), grams("Unmetered air", u)}
			if u > 0 && v["map"] < v["b"]-500 {
				out = append(out, quantity("As a hole into the manifold", gas.Diameter(u/gas.Orifice(1, gas.NominalCd, v["b"], 293.15, v["map"])), units.Length, "mm"))
			}
			return out, nil
		}},
	{"manifold", "Vacuum leak at idle", "Air through a hole into the manifold.", published,
		[]Field{diameter("3"), {"vac", "Manifold vacuum", units.Pressure, "inHg", "18", 100, 95e3}, barometer, coeff},
		func(v map[string]float64) ([]Line, error) {
			p2 := v["b"] - v["vac"]
			if p2 < 1e3 {
				return nil, fmt.Errorf("Manifold vacuum: more than the barometer gives")
			}
			return []Line{grams("Flow", gas.Orifice(gas.Area(v["d"]), v["cd"], v["b"], 293.15, p2)), regime(v["b"], p2)}, nil
		}},
	{"boost", "Boost leak", "What leaves a charge pipe, and its share of the engine's air.", published,
		[]Field{diameter("5"), gauge("Boost, gauge", "0.8 bar"), {"m", "Engine's air", Plain, "g/s", "80", 0.1, 2000}, {"t", "Charge temperature", units.Temperature, "°C", "50", 233.15, 473.15}, barometer, coeff},
		func(v map[string]float64) ([]Line, error) {
			p1, p2 := upstream(v)
			m := gas.Orifice(gas.Area(v["d"]), v["cd"], p1, v["t"], p2)
			return []Line{grams("Flow", m), plain("Share of the engine's air", 100*m*1e3/v["m"], "%"), regime(p1, p2)}, nil
		}},
	{"eonv", "Vacuum of a cooling tank", "Sealed and cooling: what the air gives and what the fuel vapour gives.", "ideal-gas law; EPA AP-42, section 7.1",
		[]Field{{"t", "Starts at", units.Temperature, "°C", "30", 253.15, 343.15}, {"dt", "Cools by", units.Difference, "K", "5", 0, 40}, {"rvp", "Reid vapour pressure", units.Pressure, "psi", "9", 10e3, 110e3}, barometer},
		func(v map[string]float64) ([]Line, error) {
			p0, p1 := gas.GasolineVapour(v["rvp"], v["t"]), gas.GasolineVapour(v["rvp"], v["t"]-v["dt"])
			air := math.Max(v["b"]-p0, 0) * v["dt"] / v["t"]
			dry := v["b"] * v["dt"] / v["t"]
			return []Line{quantity("With fuel at rest, vacuum", air+p0-p1, units.Pressure, "inH2O"), quantity("of it by the air", air, units.Pressure, "inH2O"),
				quantity("Dry gas alone", dry, units.Pressure, "inH2O"), plain("Cooling for 1 inH2O, dry gas", units.InH2O*v["t"]/v["b"], "K")}, nil
		}},
	{"vapour", "Vapour pressure of gasoline", "From its Reid value and its temperature.", "EPA AP-42, section 7.1, Organic Liquid Storage Tanks (formula from memory)",
		[]Field{{"rvp", "Reid vapour pressure", units.Pressure, "psi", "10", 10e3, 110e3}, {"t", "Fuel temperature", units.Temperature, "°F", "60", 233.15, 343.15}},
		func(v map[string]float64) ([]Line, error) {
			return []Line{quantity("Vapour pressure, absolute", gas.GasolineVapour(v["rvp"], v["t"]), units.Pressure, "psi")}, nil
		}},
	{"height", "Barometer by height", "The standard atmosphere; the weather moves it by some percent.", "U.S. Standard Atmosphere, 1976",
		[]Field{{"h", "Height", Plain, "m", "500", -400, 5000}},
		func(v map[string]float64) ([]Line, error) {
			return []Line{quantity("Barometer", gas.AtHeight(v["h"]), units.Pressure, "inHg"), plain("or", gas.AtHeight(v["h"])/100, "hPa"), plain("Height", v["h"]/0.3048, "ft")}, nil
		}},
	{"coil", "Coil at temperature", "Copper has more resistance when warm.", "IEC 60028 (coefficient 0.00393 per kelvin)",
		[]Field{{"r", "Resistance at 20 °C", Plain, "Ω", "30", 0.01, 1e5}, {"t", "Temperature", units.Temperature, "°C", "80", 233.15, 473.15}},
		func(v map[string]float64) ([]Line, error) {
			return []Line{plain("Resistance warm", CoilAt(v["r"], v["t"]), "Ω")}, nil
		}},
	{"egr", "Recirculated share", "At the same speed and manifold pressure, the air that is missing is recirculated gas.", "speed-density; the charge's temperature corrected",
		[]Field{{"m", "Measured air", Plain, "g/s", "8", 0.01, 1000}, {"m0", "Without EGR", Plain, "g/s", "10", 0.01, 1000}, {"t0", "Charge without it", units.Temperature, "°C", "30", 233.15, 573.15}, {"t1", "Charge with it", units.Temperature, "°C", "45", 233.15, 573.15}},
		func(v map[string]float64) ([]Line, error) {
			x := 1 - v["m"]/(v["m0"]*v["t0"]/v["t1"])
			if x < 0 {
				return nil, fmt.Errorf("Measured air: more than without EGR; compare at the same speed and manifold pressure")
			}
			return []Line{plain("Recirculated", 100*x, "%"), plain("Uncorrected it would read", 100*(1-v["m"]/v["m0"]), "%")}, nil
		}},
}, conversions()...)

// conversions lists a quantity in every unit the trade writes it in.
func conversions() (out []Calculator) {
	for _, c := range []struct {
		key, name, unit, def string
		kind                 units.Kind
		lo, hi               float64
	}{{"pressure", "Pressure in every unit", "inH2O", "13", units.Pressure, -2e5, 1e8}, {"length", "Length in every unit", "mm", "0.508", units.Length, 0, 1e4},
		{"volume", "Volume in every unit", "L", "60", units.Volume, 0, 1e3}, {"temperature", "Temperature in every unit", "°C", "20", units.Temperature, 0, 2000},
		{"flow", "Flow in every unit", "L/min", "1", units.Flow, -10, 10}, {"torque", "Torque in every unit", "N·m", "20", units.Torque, -1e5, 1e5}} {
		out = append(out, Calculator{c.key, c.name, "Service texts mix units; a lone number is easily misread.", "NIST SP 811, 2008",
			[]Field{{"x", "Value", c.kind, c.unit, c.def, c.lo, c.hi}},
			func(v map[string]float64) (lines []Line, err error) {
				for _, s := range units.Symbols(c.kind) {
					lines = append(lines, Line{s, units.Format(v["x"], c.kind, s, 5), ""})
				}
				return lines, nil
			}})
	}
	return out
}

// copper is how much a coil of copper gains per kelvin, of its resistance at 20 °C (IEC 60028).
const copper = 0.00393

// CoilAt is the resistance at a temperature (K) of a coil that has r20 ohm at 20 °C.
func CoilAt(r20, t float64) float64 { return r20 * (1 + copper*(t-293.15)) }

// CoilAt20 is the resistance at 20 °C of a coil that has r ohm at a temperature (K).
func CoilAt20(r, t float64) float64 { return r / (1 + copper*(t-293.15)) }
