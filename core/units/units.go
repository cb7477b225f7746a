package units

import (
	"fmt"
	"math"
	"slices"
	"sort"
	"strconv"
	"strings"
)

// Kind is a physical dimension that a field can hold.
type Kind int

// The kinds Wexter measures. The SI unit of each is in the comment.
const (
	Pressure    Kind = iota // Pa
	Length                  // m
	Volume                  // m³
	Temperature             // K
	Time                    // s
	Flow                    // m³/s of free air
	Torque                  // N·m
	Difference              // K, a temperature difference
	Voltage                 // V
	Resistance              // ohm
	MassFlow                // kg/s
	Velocity                // m/s
)

func (k Kind) String() string {
	return [...]string{"pressure", "length", "volume", "temperature", "time", "flow", "torque", "temperature difference", "voltage", "resistance", "mass flow", "speed"}[k]
}

// Conversion factors to SI. Source: NIST SP 811, 2008 (values from memory).
const (
	InH2O       = 249.089        // Pa, inch of water at 4 °C
	InHg        = 3386.39        // Pa, inch of mercury at 0 °C
	Psi         = 6894.757       // Pa
	Inch        = 0.0254         // m
	USGallon    = 3.785411784e-3 // m³
	FootPound   = 1.3558179483   // N·m
	ZeroCelsius = 273.15         // K
	Pound       = 0.45359237     // kg
	Mile        = 1609.344       // m
)

// Unit is one way of writing a kind: SI value = (number + Offset)·Factor.
type Unit struct {
	Symbol string
	Kind   Kind
	Factor float64
	Offset float64
}

// ToSI converts a number written in u.
func (u Unit) ToSI(x float64) float64 { return (x + u.Offset) * u.Factor }

// FromSI converts an SI value to a number in u.
func (u Unit) FromSI(si float64) float64 { return si/u.Factor - u.Offset }

var table = []Unit{
	{"Pa", Pressure, 1, 0},
	{"hPa", Pressure, 100, 0},
	{"mbar", Pressure, 100, 0},
	{"kPa", Pressure, 1000, 0},
	{"bar", Pressure, 1e5, 0},
	{"inH2O", Pressure, InH2O, 0},
	{"mmH2O", Pressure, InH2O / 25.4, 0},
	{"cmH2O", Pressure, InH2O / 2.54, 0},
	{"inHg", Pressure, InHg, 0},
	{"mmHg", Pressure, InHg / 25.4, 0},
	{"psi", Pressure, Psi, 0},
	{"mm", Length, 1e-3, 0},
	{"cm", Length, 1e-2, 0},
	{"m", Length, 1, 0},
	{"in", Length, Inch, 0},
	{"L", Volume, 1e-3, 0},
	{"mL", Volume, 1e-6, 0},
	{"m3", Volume, 1, 0},
	{"gal", Volume, USGallon, 0},
	{"K", Temperature, 1, 0},
	{"°C", Temperature, 1, ZeroCelsius},
	{"°F", Temperature, 5.0 / 9, 459.67},
	{"s", Time, 1, 0},
	{"ms", Time, 1e-3, 0},
	{"min", Time, 60, 0},
	{"h", Time, 3600, 0},
	{"L/min", Flow, 1e-3 / 60, 0},
	{"mL/min", Flow, 1e-6 / 60, 0},
	{"m3/s", Flow, 1, 0},
	{"N·m", Torque, 1, 0},
	{"lbf·ft", Torque, FootPound, 0},
	{"K", Difference, 1, 0},
	{"°C", Difference, 1, 0},
	{"°F", Difference, 5.0 / 9, 0},
	{"V", Voltage, 1, 0},
	{"mV", Voltage, 1e-3, 0},
	{"ohm", Resistance, 1, 0},
	{"kohm", Resistance, 1e3, 0},
	{"kg/s", MassFlow, 1, 0},
	{"g/s", MassFlow, 1e-3, 0},
	{"kg/h", MassFlow, 1.0 / 3600, 0},
	{"lb/min", MassFlow, Pound / 60, 0},
	{"m/s", Velocity, 1, 0},
	{"km/h", Velocity, 1 / 3.6, 0},
	{"mph", Velocity, Mile / 3600, 0},
}

// Other spellings, after lower-casing and removing blanks, dots and subscripts.
var spelling = map[string]string{
	"inchh2o": "inH2O", "inchesh2o": "inH2O", "inwc": "inH2O", "inh20": "inH2O", "wc": "inH2O", "iwc": "inH2O", "inchesofwater": "inH2O",
	"\"h2o": "inH2O", "inaq": "inH2O", "mmwc": "mmH2O", "cmwc": "cmH2O", "incheshg": "inHg", "inchhg": "inHg", "inchesofmercury": "inHg", "torr": "mmHg",
	"psig": "psi", "psid": "psi", "lbf/in2": "psi", "millibar": "mbar", "mb": "mbar", "pascal": "Pa", "kilopascal": "kPa",
	"inch": "in", "inches": "in", "\"": "in", "″": "in", "millimetre": "mm", "millimeter": "mm", "metre": "m", "meter": "m",
	"l": "L", "litre": "L", "liter": "L", "litres": "L", "liters": "L", "ml": "mL", "m³": "m3", "usgal": "gal", "gallon": "gal", "gallons": "gal",
	"c": "°C", "degc": "°C", "celsius": "°C", "f": "°F", "degf": "°F", "fahrenheit": "°F", "kelvin": "K",
	"sec": "s", "second": "s", "seconds": "s", "minute": "min", "minutes": "min", "hour": "h", "hours": "h",
	"volt": "V", "volts": "V", "millivolt": "mV", "ohms": "ohm", "Ω": "ohm", "ω": "ohm", "kω": "kohm", "kohms": "kohm",
	"lpm": "L/min", "l/m": "L/min", "nm": "N·m", "lbft": "lbf·ft", "ftlb": "lbf·ft", "ftlbf": "lbf·ft", "lbfft": "lbf·ft",
	"gs": "g/s", "gps": "g/s", "g/sec": "g/s", "gsec": "g/s", "grams/s": "g/s", "grams/sec": "g/s", "kgs": "kg/s", "kgh": "kg/h", "kg/hr": "kg/h", "lb/m": "lb/min", "lbmin": "lb/min", "lbm/min": "lb/min",
	"kmh": "km/h", "kph": "km/h", "kmph": "km/h", "km/hr": "km/h", "mi/h": "mph", "miles/h": "mph", "ms": "m/s",
}

var index = func() map[Kind]map[string]Unit {
	idx := map[Kind]map[string]Unit{}
	for _, u := range table {
		if idx[u.Kind] == nil {
			idx[u.Kind] = map[string]Unit{}
		}
		idx[u.Kind][fold(u.Symbol)] = u
	}
	for _, u := range table {
		for s, symbol := range spelling {
			if symbol == u.Symbol {
				if _, taken := idx[u.Kind][s]; !taken {
					idx[u.Kind][s] = u
				}
			}
		}
	}
	return idx
}()

var folder = strings.NewReplacer(" ", "", "\u00a0", "", "\u202f", "", "₂", "2", "₃", "3", "·", "", ".", "", "_", "", "*", "", "º", "°")

func fold(s string) string { return strings.ToLower(folder.Replace(s)) }

// Lookup finds the unit of kind k that s spells ("inH2O", "in. H₂O", "KPA").
func Lookup(s string, k Kind) (Unit, bool) {
	u, ok := index[k][fold(s)]
	return u, ok
}

// Known reports whether some kind has the unit.
func Known(symbol string) bool {
	for _, of := range index {
		if _, ok := of[fold(symbol)]; ok && symbol != "" {
			return true
		}
	}
	return false
}

// KindOf is the kind of those that are converted from one unit to another that a unit
// measures; volts and ohms, which everybody writes alike, are none of them. K, °C and °F alone are a temperature, but K is taken
// as a difference: nobody reads a thermometer in it.
func KindOf(symbol string) (Kind, bool) {
	if symbol == "K" {
		return Difference, true
	}
	for k := Pressure; k <= Difference; k++ {
		if _, ok := Lookup(symbol, k); ok && symbol != "" {
			return k, true
		}
	}
	return 0, false
}

// Symbols lists the units of a kind, as a field may offer them.
func Symbols(k Kind) []string {
	var out []string
	for _, u := range table {
		if u.Kind == k {
			out = append(out, u.Symbol)
		}
	}
	return out
}

// Base is the unit of a kind in SI.
func Base(k Kind) string {
	i := slices.IndexFunc(table, func(u Unit) bool { return u.Kind == k && u.Factor == 1 && u.Offset == 0 })
	return table[i].Symbol
}

// Must returns the unit of kind k written s and panics when there is none; for
// units named in code.
func Must(s string, k Kind) Unit {
	u, ok := Lookup(s, k)
	if !ok {
		panic("units: no " + k.String() + " unit " + s)
	}
	return u
}

// Number reads a decimal number with a point or a comma, with blanks or narrow
// blanks between groups of three. It refuses NaN, infinities, hexadecimal and
// text that could mean two numbers ("1,234.5,6").
func Number(s string) (float64, error) {
	t := strings.NewReplacer("\u00a0", "", "\u202f", "", " ", "", "−", "-").Replace(strings.TrimSpace(s))
	if t == "" {
		return 0, fmt.Errorf("a number is missing")
	}
	if strings.Count(t, ",") == 1 && !strings.Contains(t, ".") {
		t = strings.Replace(t, ",", ".", 1)
	}
	for _, r := range t {
		if !strings.ContainsRune("0123456789.+-eE", r) {
			return 0, fmt.Errorf("%q is not a number", clip(s))
		}
	}
	v, err := strconv.ParseFloat(t, 64)
	if err != nil || math.IsInf(v, 0) || math.IsNaN(v) {
		return 0, fmt.Errorf("%q is not a number", clip(s))
	}
	return v, nil
}

// Parse reads "13", "13 inH2O" or "3,2 kPa" as kind k and returns the SI value.
// A bare number is taken in the unit named bare; when bare is empty a bare
// number is an error, because a pressure without a unit is a guess.
func Parse(s string, k Kind, bare string) (float64, error) {
	si, _, err := read(s, k, bare)
	return si, err
}

// Beside says a typed quantity in its second unit: "13 inH2O" becomes "3.24 kPa". It takes
// what Parse takes and refuses what Parse refuses.
func Beside(s string, k Kind, bare string) (string, error) {
	si, u, err := read(s, k, bare)
	if err != nil {
		return "", err
	}
	return Format(si, k, Second(u.Symbol, k), 3), nil
}

// read returns the SI value of a typed quantity and the unit in which it was written.
func read(s string, k Kind, bare string) (float64, Unit, error) {
	t := strings.TrimSpace(s)
	if len(t) > 64 {
		return 0, Unit{}, fmt.Errorf("%q is too long for a %s", clip(t), k)
	}
	// The unit begins at the first rune that no number holds; an exponent needs a digit behind it.
	cut := len(t)
	for i, r := range t {
		if strings.ContainsRune("0123456789.,+-− \u00a0\u202f", r) {
			continue
		}
		if (r == 'e' || r == 'E') && i > 0 && i+1 < len(t) && strings.ContainsRune("0123456789+-", rune(t[i+1])) {
			continue
		}
		cut = i
		break
	}
	number, symbol := t[:cut], strings.TrimSpace(t[cut:])
	v, err := Number(number)
	if err != nil {
		if symbol != "" && strings.TrimSpace(number) == "" {
			return 0, Unit{}, fmt.Errorf("%q has no number; write for example %q", clip(t), example(k))
		}
		return 0, Unit{}, err
	}
	if symbol == "" {
		if bare == "" {
			return 0, Unit{}, fmt.Errorf("%q has no unit; write for example %q", clip(t), example(k))
		}
		symbol = bare
	}
	u, ok := Lookup(symbol, k)
	if !ok {
		return 0, Unit{}, fmt.Errorf("%q is not a unit of %s; use one of %s", clip(symbol), k, strings.Join(Symbols(k), ", "))
	}
	si := u.ToSI(v)
	if k == Temperature && si < 0 {
		return 0, Unit{}, fmt.Errorf("%q is below absolute zero", clip(t))
	}
	return si, u, nil
}

func example(k Kind) string {
	return map[Kind]string{Pressure: "13 inH2O", Length: "0.508 mm", Volume: "42 L", Temperature: "20 °C", Time: "90 s", Flow: "0.5 L/min", Torque: "20 N·m", Difference: "2 K", Voltage: "12.6 V", Resistance: "24 ohm", MassFlow: "3 g/s", Velocity: "50 km/h"}[k]
}

func clip(s string) string {
	s = strings.ToValidUTF8(s, "?")
	if r := []rune(s); len(r) > 40 {
		return string(r[:40]) + "…"
	}
	return s
}

// Format writes an SI value in the named unit with n significant digits and the
// unit behind it. An unknown unit panics: it is named in code.
func Format(si float64, k Kind, symbol string, n int) string {
	u := Must(symbol, k)
	return Digits(u.FromSI(si), n) + " " + u.Symbol
}

// Fixed writes an SI value in the named unit with so many decimals and the unit behind it: a
// figure that is watched does not change its width.
func Fixed(si float64, k Kind, symbol string, decimals int) string {
	u := Must(symbol, k)
	step := math.Pow(10, float64(decimals))
	x := math.Round(u.FromSI(si)*step)/step + 0 // no minus before a nought
	return strings.Replace(strconv.FormatFloat(x, 'f', decimals, 64), "-", "−", 1) + " " + u.Symbol
}

// Digits writes x with n significant digits and never in scientific notation.
func Digits(x float64, n int) string {
	if math.IsNaN(x) || math.IsInf(x, 0) {
		return "–"
	}
	if x == 0 {
		return "0"
	}
	decimals := n - 1 - int(math.Floor(math.Log10(math.Abs(x))))
	if decimals < 0 {
		decimals = 0
	}
	if decimals > 9 {
		return "0"
	}
	return strings.Replace(strconv.FormatFloat(x, 'f', decimals, 64), "-", "−", 1)
}

// Second returns the unit shown beside symbol: the other system of units for
// the same kind ("inH2O" → "kPa", "mm" → "in").
func Second(symbol string, k Kind) string {
	if other, ok := beside[k][symbol]; ok {
		return other
	}
	return beside[k][""]
}

var beside = map[Kind]map[string]string{
	Pressure:    {"": "inH2O", "inH2O": "kPa", "inHg": "kPa", "psi": "kPa"},
	Length:      {"": "mm", "mm": "in"},
	Volume:      {"": "L", "L": "gal"},
	Temperature: {"": "°C", "°C": "°F"},
	Difference:  {"": "K", "K": "°F"},
	Time:        {"": "s", "s": "min"},
	Flow:        {"": "L/min", "L/min": "mL/min"},
	Torque:      {"": "N·m", "N·m": "lbf·ft"},
	Voltage:     {"": "V", "V": "mV"},
	Resistance:  {"": "ohm", "ohm": "kohm"},
	MassFlow:    {"": "g/s", "g/s": "kg/h"},
	Velocity:    {"": "km/h", "km/h": "mph"},
}

// Percent reads a tolerance such as "5%", "5 %" or "5" and returns the fraction.
func Percent(s string) (float64, error) {
	v, err := Number(strings.TrimSuffix(strings.TrimSpace(s), "%"))
	if err != nil {
		return 0, fmt.Errorf("%q is not a percentage; write for example \"5 %%\"", clip(s))
	}
	if v < 0 || v > 100 {
		return 0, fmt.Errorf("%q is outside 0–100 %%", clip(s))
	}
	return v / 100, nil
}

// Guess finds a unit named in a column header such as "pressure_inH2O",
// "temp (°C)" or "p [kPa]". The longest spelling wins.
func Guess(header string, k Kind) (Unit, bool) {
	parts := strings.FieldsFunc(header, func(r rune) bool { return strings.ContainsRune("()[]{},;/ \t", r) })
	var words []string
	for i, p := range parts {
		words = append(words, p)
		if i+1 < len(parts) {
			words = append(words, p+parts[i+1])
		}
		words = append(words, strings.FieldsFunc(p, func(r rune) bool { return r == '_' || r == '-' })...)
	}
	sort.SliceStable(words, func(i, j int) bool { return len(words[i]) > len(words[j]) })
	for _, w := range words {
		if u, ok := Lookup(w, k); ok {
			return u, true
		}
	}
	return Unit{}, false
}
