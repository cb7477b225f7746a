package record

import (
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"wexter/core/units"
)

// DeviceKind is the kind of an instrument.
type DeviceKind string

// The kinds of instrument.
const (
	Module  DeviceKind = "module"  // measures
	Adapter DeviceKind = "adapter" // asks the car's control units
)

// Driver is how an instrument is spoken to.
type Driver string

// The drivers.
const (
	OwnLines    Driver = "own"    // lines that say what they are, for modules and adapters
	ATCommands  Driver = "at"     // a scan adapter that is set up with AT commands and shows a prompt
	NumberLines Driver = "lines"  // a line of numbers again and again
	ModbusUnit  Driver = "modbus" // registers of a Modbus unit, over the network or a serial device
)

// For reports whether a driver speaks to instruments of a kind.
func (d Driver) For(k DeviceKind) bool {
	switch d {
	case OwnLines:
		return k == Module || k == Adapter
	case ATCommands:
		return k == Adapter
	case NumberLines, ModbusUnit:
		return k == Module
	}
	return false
}

// Bauds are the speeds at which serial devices are read.
var Bauds = []int{1200, 2400, 4800, 9600, 19200, 38400, 57600, 115200, 230400, 460800, 500000}

// Device is an instrument that the shop reads, at an address of the network or at a
// serial device of this computer.
type Device struct {
	ID       string         `json:"id"`
	Kind     DeviceKind     `json:"kind"`
	Name     string         `json:"name"`
	Address  string         `json:"address"`                    // host and port, or with Baud the name of a serial device
	For      string         `json:"for" gorm:"column:for_case"` // number of the case at whose car it is; empty: it is carried around
	At       time.Time      `json:"at"`
	Driver   Driver         `json:"driver"`
	Baud     int            `json:"baud"` // of a serial device; 0: it is on the network
	Settings DeviceSettings `json:"settings" gorm:"serializer:json"`
}

// Serial reports whether the instrument is at a serial device of this computer.
func (d Device) Serial() bool { return d.Baud != 0 }

// DeviceSettings say what cannot be asked of an instrument: how its lines or registers are
// to be read, and when it was calibrated.
type DeviceSettings struct {
	Lines        LineFormat   `json:"lines,omitzero"`
	Modbus       ModbusFormat `json:"modbus,omitzero"`
	CalibratedOn string       `json:"calibrated_on,omitempty"` // where it does not say so itself
	DueOn        string       `json:"due_on,omitempty"`        // date of the next calibration
	Serial       string       `json:"serial,omitempty"`        // number on the instrument
	Measures     []string     `json:"measures,omitempty"`      // channels that it said it has, when it was read last
}

// Quantity is what a channel of an instrument measures.
type Quantity string

// The quantities.
const (
	GaugePressure Quantity = "pressure"  // against the air
	RigFlowing    Quantity = "flow"      // of free air
	RigWall       Quantity = "wall"      // temperature of the wall of what is tested
	GasTemp       Quantity = "gas"       // temperature of a gas
	AirTemp       Quantity = "air"       // temperature of the air
	AirPressure   Quantity = "barometer" // absolute
	Volts         Quantity = "volts"
	Ohms          Quantity = "ohms"
)

// quantities are all of them with the kind of their units, and their unit in the bay.
var quantities = []struct {
	Quantity
	words string
	kind  units.Kind
	bay   string
}{
	{GaugePressure, "gauge pressure", units.Pressure, "inH2O"}, {RigFlowing, "flow", units.Flow, "L/min"}, {RigWall, "wall temperature", units.Temperature, "°C"},
	{GasTemp, "gas temperature", units.Temperature, "°C"}, {AirTemp, "air temperature", units.Temperature, "°C"}, {AirPressure, "barometer", units.Pressure, "hPa"},
	{Volts, "volts", units.Voltage, "V"}, {Ohms, "resistance", units.Resistance, "ohm"},
}

// Quantities lists what channels can measure.
func Quantities() (out []Quantity) {
	for _, q := range quantities {
		out = append(out, q.Quantity)
	}
	return out
}

// Words name the quantity; empty for one that is none.
func (q Quantity) Words() string {
	for _, x := range quantities {
		if x.Quantity == q {
			return x.words
		}
	}
	return ""
}

// Kind is the kind of the quantity's units; false for one that is none.
func (q Quantity) Kind() (units.Kind, bool) {
	for _, x := range quantities {
		if x.Quantity == q {
			return x.kind, true
		}
	}
	return 0, false
}

// BayUnit is the unit in which the bay reads the quantity.
func (q Quantity) BayUnit() string {
	for _, x := range quantities {
		if x.Quantity == q {
			return x.bay
		}
	}
	return ""
}

// Scaling turns the number that an instrument sends into a quantity: what it sends, times
// the factor, is in the unit; the zero, in the same unit, is then taken off.
type Scaling struct {
	Quantity   Quantity `json:"quantity"`
	Unit       string   `json:"unit"`
	Factor     float64  `json:"factor"` // −1 where more is less
	Zero       float64  `json:"zero"`
	Low        float64  `json:"low"` // the range of the instrument, in the unit
	High       float64  `json:"high"`
	Resolution float64  `json:"resolution"`
}

// Check says in a sentence what of a scaling cannot be.
func (s Scaling) Check(which string) error {
	kind, ok := s.Quantity.Kind()
	if !ok {
		return unfit(which, "choose what %s measures", which)
	}
	if _, ok := units.Lookup(s.Unit, kind); !ok {
		return unfit(which, "%s: %q is not a unit of %s; use one of %s", which, s.Unit, s.Quantity.Words(), strings.Join(units.Symbols(kind), ", "))
	}
	finite := func(v, most float64) bool { return !math.IsNaN(v) && math.Abs(v) <= most }
	switch {
	case !finite(s.Factor, 1e9) || s.Factor == 0:
		return unfit(which, "%s: a factor of %g cannot be; 1 leaves the number as it is", which, s.Factor)
	case !finite(s.Low, 1e9) || !finite(s.High, 1e9) || s.High <= s.Low:
		return unfit(which, "%s: its range goes from the lowest to the highest reading, such as -20 to 20", which)
	case !finite(s.Zero, s.High-s.Low):
		return unfit(which, "%s: a zero of %g %s is more than its range", which, s.Zero, s.Unit)
	case !finite(s.Resolution, s.High-s.Low) || s.Resolution < 0:
		return unfit(which, "%s: a resolution of %g %s cannot be", which, s.Resolution, s.Unit)
	}
	return nil
}

// Of turns a number that was sent into the unit of the scaling.
func (s Scaling) Of(sent float64) float64 { return sent*s.Factor - s.Zero }

// SI turns a value in the unit of the scaling into SI.
func (s Scaling) SI(v float64) float64 { return s.unit().ToSI(v) }

func (s Scaling) unit() units.Unit {
	kind, _ := s.Quantity.Kind()
	u, ok := units.Lookup(s.Unit, kind)
	if !ok {
		return units.Unit{Factor: math.NaN()}
	}
	return u
}

// LineFormat is how a line of numbers is read.
type LineFormat struct {
	Separator string       `json:"separator"`     // one of Separators
	Comma     bool         `json:"decimal_comma"` // 12,5 is twelve and a half
	Columns   []LineColumn `json:"columns"`
}

// LineColumn is a column of a line that is read.
type LineColumn struct {
	At int `json:"at"` // from 1
	Scaling
}

// Separators of the numbers in a line.
var Separators = []string{"comma", "semicolon", "tab", "blank"}

// MostColumns is how many columns of a line, or registers of a unit, are read at most.
const MostColumns = 12

// Check says in a sentence what of the format cannot be.
func (f LineFormat) Check() error {
	switch {
	case !slices.Contains(Separators, f.Separator):
		return unfit("separator", "the numbers of a line are separated by a comma, a semicolon, a tab or blanks")
	case f.Comma && f.Separator == "comma":
		return unfit("separator", "a comma cannot both separate the numbers and stand in them")
	case len(f.Columns) > MostColumns:
		return unfit("columns", "at most %d columns are read", MostColumns)
	}
	seen := map[Quantity]bool{}
	at := map[int]bool{}
	for _, c := range f.Columns {
		which := "column " + strconv.Itoa(c.At)
		if c.At < 1 || c.At > 64 {
			return unfit(which, "columns are counted from 1 to 64")
		}
		if err := c.Check(which); err != nil {
			return err
		}
		if seen[c.Quantity] || at[c.At] {
			return unfit(which, "%s: two columns of an instrument cannot measure the same; leave one out", which)
		}
		seen[c.Quantity], at[c.At] = true, true
	}
	return nil
}

// ModbusFormat is what is read of a Modbus unit, and how often.
type ModbusFormat struct {
	UnitID    int              `json:"unit_id"` // 1 to 247, on the network 0 to 255
	Rate      float64          `json:"rate_hz"`
	Parity    string           `json:"parity,omitempty"` // of a serial device: none, even, odd
	Registers []ModbusRegister `json:"registers"`
}

// ModbusType is how a value lies in registers.
type ModbusType string

// The types of value in registers.
const (
	Uint16  ModbusType = "u16"
	Int16   ModbusType = "i16"
	Uint32  ModbusType = "u32"
	Int32   ModbusType = "i32"
	Float32 ModbusType = "f32"
)

// ModbusTypes lists them.
func ModbusTypes() []ModbusType { return []ModbusType{Int16, Uint16, Int32, Uint32, Float32} }

// Says names the type in words.
func (t ModbusType) Says() string {
	return map[ModbusType]string{Uint16: "16 bit", Int16: "16 bit, with sign", Uint32: "32 bit", Int32: "32 bit, with sign", Float32: "32 bit float"}[t]
}

// Words is how many registers a value of the type takes.
func (t ModbusType) Words() int {
	switch t {
	case Uint16, Int16:
		return 1
	case Uint32, Int32, Float32:
		return 2
	}
	return 0
}

// ModbusRegister is a value in a unit's registers.
type ModbusRegister struct {
	Function int        `json:"function"` // 3 holding registers, 4 input registers
	Address  int        `json:"address"`  // as it is sent, from 0
	Type     ModbusType `json:"type"`
	LowFirst bool       `json:"low_word_first"`
	Scaling
}

// Check says in a sentence what of the format cannot be.
func (f ModbusFormat) Check() error {
	switch {
	case f.UnitID < 0 || f.UnitID > 255:
		return unfit("unit id", "a Modbus unit has a number from 0 to 255")
	case !(f.Rate >= 1.0/60 && f.Rate <= 20):
		return unfit("rate", "registers are read between once a minute and 20 times a second")
	case f.Parity != "" && f.Parity != "none" && f.Parity != "even" && f.Parity != "odd":
		return unfit("parity", "the parity is none, even or odd")
	case len(f.Registers) > MostColumns:
		return unfit("registers", "at most %d registers are read", MostColumns)
	}
	seen := map[Quantity]bool{}
	for i, r := range f.Registers {
		which := "register " + strconv.Itoa(i+1)
		switch {
		case r.Function != 3 && r.Function != 4:
			return unfit(which, "%s: function 3 reads holding registers, 4 input registers", which)
		case r.Type.Words() == 0:
			return unfit(which, "%s: choose how the value lies in the registers", which)
		case r.Address < 0 || r.Address+r.Type.Words() > 65536:
			return unfit(which, "%s: registers have the addresses 0 to 65535", which)
		}
		if err := r.Check(which); err != nil {
			return err
		}
		if seen[r.Quantity] {
			return unfit(which, "%s: two registers of an instrument cannot measure the same; leave one out", which)
		}
		seen[r.Quantity] = true
	}
	return nil
}

// SetUp reports whether it is known what the instrument measures: what says so itself always
// is, a line of numbers or a Modbus unit once somebody has looked at it.
func (d Device) SetUp() bool {
	switch d.Driver {
	case NumberLines:
		return len(d.Settings.Lines.Columns) > 0
	case ModbusUnit:
		return len(d.Settings.Modbus.Registers) > 0
	}
	return true
}

// Scaling is how a quantity of the instrument is read, where the shop has said so.
func (d *Device) Scaling(q Quantity) *Scaling {
	for i := range d.Settings.Lines.Columns {
		if c := &d.Settings.Lines.Columns[i]; d.Driver == NumberLines && c.Quantity == q {
			return &c.Scaling
		}
	}
	for i := range d.Settings.Modbus.Registers {
		if r := &d.Settings.Modbus.Registers[i]; d.Driver == ModbusUnit && r.Quantity == q {
			return &r.Scaling
		}
	}
	return nil
}

// Giving says whether an instrument gives a channel.
type Giving int

// Whether it does. One that was never read may.
const (
	GivesNot Giving = iota
	MayGive
	Gives
)

// Gives says whether the instrument gives a channel, as far as is known without asking it.
func (d Device) Gives(channel string) Giving {
	var has []string
	switch d.Driver {
	case NumberLines:
		for _, c := range d.Settings.Lines.Columns {
			has = append(has, string(c.Quantity))
		}
	case ModbusUnit:
		for _, r := range d.Settings.Modbus.Registers {
			has = append(has, string(r.Quantity))
		}
	default:
		if has = d.Settings.Measures; len(has) == 0 {
			return MayGive
		}
	}
	if slices.Contains(has, channel) {
		return Gives
	}
	return GivesNot
}

// Past reports whether the instrument is past the date of its calibration.
func (d Device) Past(now time.Time) bool {
	due, err := time.ParseInLocation(time.DateOnly, d.Settings.DueOn, now.Location())
	return err == nil && now.After(due.AddDate(0, 0, 1))
}

// Check says in a sentence what of a device cannot be, apart from its address.
func (d Device) Check() error {
	switch {
	case d.Kind != Module && d.Kind != Adapter:
		return unfit("kind", "an instrument measures, or it is a scan adapter")
	case !d.Driver.For(d.Kind):
		return unfit("driver", "choose how the instrument is spoken to")
	case d.Serial() && !slices.Contains(Bauds, d.Baud):
		return unfit("baud", "%d baud is not a speed that is known here", d.Baud)
	case d.Serial() && d.Driver == OwnLines && d.Kind == Adapter:
		return unfit("driver", "a scan adapter at a serial device is set up with AT commands")
	}
	for _, x := range [][2]string{{"calibrated", d.Settings.CalibratedOn}, {"due", d.Settings.DueOn}} {
		if x[1] == "" {
			continue
		}
		if _, err := time.Parse(time.DateOnly, x[1]); err != nil {
			return unfit(x[0], "%q is no date; write it as 2026-05-31", x[1])
		}
	}
	switch d.Driver {
	case NumberLines:
		return d.Settings.Lines.Check()
	case ModbusUnit:
		return d.Settings.Modbus.Check()
	}
	return nil
}
