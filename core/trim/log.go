package trim

import (
	"fmt"
	"math"
)

// Channel is one quantity of a log.
type Channel int

// The channels of a log. Shares are of one: a trim of +12 % is 0.12.
const (
	Short1 Channel = iota // short fuel trim, bank 1, share
	Long1                 // long fuel trim, bank 1, share
	Short2
	Long2
	Speed            // of the engine, 1/min
	MeteredAir       // kg/s
	ManifoldPressure // Pa absolute
	Load             // calculated load, share
	Throttle         // share
	RoadSpeed        // m/s
	Coolant          // K
	IntakeAir        // K
	FuelSystem       // SAE J1979 PID 03: 1 open, cold; 2 closed; 4 open by load or overrun; 8, 16 faults
	Purge            // commanded, share
	Recirculation    // commanded, share
	Lambda           // commanded or read
	ChargePressure   // before the throttle, Pa absolute
	Barometer        // Pa
	Channels         // how many there are
)

var channelNames = [Channels]string{"short trim of bank 1", "long trim of bank 1", "short trim of bank 2", "long trim of bank 2", "engine speed", "air flow", "manifold pressure", "load", "throttle",
	"road speed", "coolant temperature", "intake air temperature", "fuel system state", "commanded purge", "commanded EGR", "lambda", "charge pressure", "barometer"}

// String is the channel's name as the screens say it.
func (c Channel) String() string { return channelNames[c] }

// States of the fuel system as SAE J1979 codes them in PID 03 (from memory).
const (
	openCold   = 1
	closedLoop = 2
	openLoad   = 4
	openFault  = 8
	closedHurt = 16
)

// Log is a drive in SI units: a time for each row and a column for each channel that was
// logged. A row has NaN where a channel was not read, since each datum comes at its own rate.
type Log struct {
	Time  []float64           // s, rising
	Value [Channels][]float64 // as long as Time; nil where the channel was not logged
}

// Has reports whether a channel was logged.
func (l *Log) Has(c Channel) bool { return l.Value[c] != nil }

// Check says what makes a log no log of a drive.
func (l *Log) Check() error {
	if len(l.Time) < 2 {
		return fmt.Errorf("the log has %d reading(s); a drive needs at least two", len(l.Time))
	}
	for c, v := range l.Value {
		if v != nil && len(v) != len(l.Time) {
			return fmt.Errorf("the %s has %d readings, the log %d rows", Channel(c), len(v), len(l.Time))
		}
	}
	for i, t := range l.Time {
		if math.IsNaN(t) || math.IsInf(t, 0) || i > 0 && t < l.Time[i-1] {
			return fmt.Errorf("time does not rise at row %d", i+1)
		}
	}
	if !l.Has(Short1) && !l.Has(Long1) {
		return fmt.Errorf("the log has no fuel trims")
	}
	if !l.Has(Speed) {
		return fmt.Errorf("the log has no engine speed; without it no operating point can be told")
	}
	return nil
}

// Metering is how an engine's control unit knows its air.
type Metering int

// The kinds of metering.
const (
	Unknown      Metering = iota
	AirMeter              // an air meter (MAF)
	SpeedDensity          // manifold pressure, speed and temperature (MAP)
)

// Key is the metering's as files and the command line write it.
func (m Metering) Key() string { return [...]string{"unknown", "maf", "map"}[m] }

// MarshalText writes the key.
func (m Metering) MarshalText() ([]byte, error) { return []byte(m.Key()), nil }

// UnmarshalText reads a key; what is not known is Unknown.
func (m *Metering) UnmarshalText(b []byte) error {
	*m, _ = MeteringOf(string(b))
	return nil
}

// MeteringOf finds one by its key.
func MeteringOf(key string) (Metering, bool) {
	for m := AirMeter; m <= SpeedDensity; m++ {
		if m.Key() == key {
			return m, true
		}
	}
	return Unknown, false
}

// Engine is what is known of the engine beside the log.
type Engine struct {
	Metering     Metering `json:"metering"`        // Unknown: by the channels that the log has
	Displacement float64  `json:"displacement_m3"` // 0 when it is not known
	Barometer    float64  `json:"barometer_pa"`    // 0 when the log, or the standard, has to say
}

// Check says what no engine has.
func (e Engine) Check() error {
	switch {
	case e.Displacement != 0 && !(e.Displacement >= 0.1e-3 && e.Displacement <= 20e-3):
		return fmt.Errorf("an engine of %.3g L cannot be; write its size in litres, for example 1.6 L", e.Displacement*1e3)
	case e.Barometer != 0 && !(e.Barometer >= 45e3 && e.Barometer <= 115e3):
		return fmt.Errorf("a barometer of %.4g kPa cannot be", e.Barometer/1e3)
	}
	return nil
}

// Sane are the limits within which a channel can be, in its own unit; beyond them something
// other was logged, or in another unit. Common practice, no source.
func (c Channel) Sane() (low, high float64) {
	switch c {
	case MeteredAir:
		return -0.01, 1.5
	case ManifoldPressure, ChargePressure:
		return -110e3, 600e3
	case Barometer:
		return 45e3, 115e3
	case RoadSpeed:
		return -1, 120
	case Coolant, IntakeAir:
		return 220, 440
	}
	return math.Inf(-1), math.Inf(1)
}

// Totals are the total trims of each bank at each row, share: a trim stands until it is read again,
// for five seconds; not a number where none was read.
func (l *Log) Totals() (out [][]float64) {
	const stands = 5.0
	for _, bank := range [][2]Channel{{Short1, Long1}, {Short2, Long2}} {
		if !l.Has(bank[0]) && !l.Has(bank[1]) {
			continue
		}
		total := make([]float64, len(l.Time))
		var last, at [2]float64
		at[0], at[1] = math.Inf(-1), math.Inf(-1)
		for i, t := range l.Time {
			read := false
			for k, c := range bank {
				if l.Has(c) && l.Value[c][i] == l.Value[c][i] {
					last[k], at[k] = l.Value[c][i], t
				}
				if t-at[k] > stands {
					last[k] = 0
				} else {
					read = true
				}
			}
			if total[i] = math.NaN(); read {
				total[i] = (1+last[0])*(1+last[1]) - 1
			}
		}
		out = append(out, total)
	}
	return out
}
