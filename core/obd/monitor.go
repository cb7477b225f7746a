package obd

import "fmt"

// States of a monitor.
const (
	Complete    = "complete"
	Incomplete  = "incomplete"
	Unsupported = "unsupported"
)

// Status is PID 01: lamp, number of codes, and which monitors have run.
type Status struct {
	Lamp        bool
	Codes       int
	Compression bool // compression ignition
	Readiness   map[string]string
}

var continuous = []string{"misfire", "fuel", "components"}

// The monitors by bit; an empty name is a bit that is not used.
var (
	sparkMonitors = [8]string{"catalyst", "heated_catalyst", "evap", "secondary_air", "gasoline_filter", "oxygen_sensor", "oxygen_heater", "egr"}
	compMonitors  = [8]string{"nmhc_catalyst", "nox", "", "boost", "", "exhaust_sensor", "particulate_filter", "egr"}
)

// MonitorWords are the names of monitors as the screens say them.
var MonitorWords = map[string]string{
	"misfire": "misfire", "fuel": "fuel system", "components": "components", "catalyst": "catalyst", "heated_catalyst": "heated catalyst",
	"evap": "EVAP system", "secondary_air": "secondary air", "gasoline_filter": "particulate filter, petrol", "oxygen_sensor": "oxygen sensors",
	"oxygen_heater": "oxygen sensor heaters", "egr": "EGR or valve timing", "nmhc_catalyst": "NMHC catalyst", "nox": "NOx after-treatment",
	"boost": "boost pressure", "exhaust_sensor": "exhaust gas sensor", "particulate_filter": "particulate filter",
}

// Monitors lists the monitor keys in the order of the bits, for either ignition.
func Monitors(compression bool) []string {
	out := append([]string(nil), continuous...)
	for _, n := range monitorBits(compression) {
		if n != "" {
			out = append(out, n)
		}
	}
	return out
}

func monitorBits(compression bool) [8]string {
	if compression {
		return compMonitors
	}
	return sparkMonitors
}

// DecodeStatus reads the four bytes of PID 01 (or 41, whose first byte is unused).
func DecodeStatus(d []byte) Status {
	s := Status{Lamp: d[0]&0x80 != 0, Codes: int(d[0] & 0x7F), Compression: d[1]&8 != 0, Readiness: map[string]string{}}
	state := func(supported, incomplete bool) string {
		switch {
		case !supported:
			return Unsupported
		case incomplete:
			return Incomplete
		}
		return Complete
	}
	for i, n := range continuous {
		s.Readiness[n] = state(d[1]>>i&1 == 1, d[1]>>(i+4)&1 == 1)
	}
	for i, n := range monitorBits(s.Compression) {
		if n != "" {
			s.Readiness[n] = state(d[2]>>i&1 == 1, d[3]>>i&1 == 1)
		}
	}
	return s
}

// EncodeStatus is the reverse of DecodeStatus.
func EncodeStatus(s Status) []byte {
	d := make([]byte, 4)
	d[0] = byte(min(s.Codes, 127))
	if s.Lamp {
		d[0] |= 0x80
	}
	if s.Compression {
		d[1] |= 8
	}
	for i, n := range continuous {
		switch s.Readiness[n] {
		case Incomplete:
			d[1] |= 1<<(i+4) | 1<<i
		case Complete:
			d[1] |= 1 << i
		}
	}
	for i, n := range monitorBits(s.Compression) {
		switch s.Readiness[n] {
		case Incomplete:
			d[2], d[3] = d[2]|1<<i, d[3]|1<<i
		case Complete:
			d[2] |= 1 << i
		}
	}
	return d
}

// merge joins the monitors of several units: one unit that has not finished leaves
// the monitor incomplete.
func merge(into, from map[string]string) {
	for k, v := range from {
		if have := into[k]; have == "" || have == Unsupported || v == Incomplete {
			into[k] = v
		}
	}
}

// TestResult is one on-board test result of service 06 with its limits.
type TestResult struct {
	ECU     string  `json:"ecu"`
	Monitor string  `json:"monitor"` // id in hex; empty on the older buses
	Test    string  `json:"test"`    // id in hex
	Name    string  `json:"name"`
	Unit    string  `json:"unit"`
	Value   float64 `json:"value"`
	Min     float64 `json:"min"`
	Max     float64 `json:"max"`
	HasMin  bool    `json:"has_min"`
	HasMax  bool    `json:"has_max"`
	Pass    bool    `json:"pass"`
	Ran     bool    `json:"ran"` // false: all zero, the monitor has not run since clearing
}

// monitorNames: on-board monitor ids of SAE J1979 (from memory).
var monitorNames = map[byte]string{
	0x01: "oxygen sensor, bank 1 sensor 1", 0x02: "oxygen sensor, bank 1 sensor 2", 0x05: "oxygen sensor, bank 2 sensor 1", 0x06: "oxygen sensor, bank 2 sensor 2",
	0x21: "catalyst, bank 1", 0x22: "catalyst, bank 2", 0x31: "EGR, bank 1", 0x32: "EGR, bank 2",
	0x33: "EGR, bank 3", 0x34: "EGR, bank 4", 0x35: "valve timing, bank 1", 0x36: "valve timing, bank 2",
	0x39: "EVAP system, cap off or 0.150 in", 0x3A: "EVAP system, 0.090 in", 0x3B: "EVAP system, 0.040 in", 0x3C: "EVAP system, 0.020 in", 0x3D: "purge flow",
	0x41: "oxygen sensor heater, bank 1 sensor 1", 0x42: "oxygen sensor heater, bank 1 sensor 2", 0x71: "secondary air", 0x81: "fuel system, bank 1", 0x82: "fuel system, bank 2",
	0x85: "boost pressure", 0xA1: "misfire, all cylinders",
}

type scaling struct {
	unit          string
	factor, shift float64
}

// scalings: unit and scaling ids of SAE J1979 (from memory); those from 80 up are signed.
var scalings = map[byte]scaling{
	0x01: {"", 1, 0}, 0x02: {"", 0.1, 0}, 0x03: {"", 0.01, 0}, 0x04: {"", 0.001, 0}, 0x05: {"", 1.0 / 32768, 0}, 0x06: {"", 0.000305, 0},
	0x07: {"rpm", 0.25, 0}, 0x08: {"km/h", 0.01, 0}, 0x09: {"km/h", 1, 0}, 0x0A: {"mV", 0.122, 0}, 0x0B: {"V", 0.001, 0}, 0x0C: {"V", 0.01, 0},
	0x0D: {"mA", 1.0 / 256, 0}, 0x0E: {"A", 0.001, 0}, 0x0F: {"A", 0.01, 0}, 0x10: {"ms", 1, 0}, 0x11: {"ms", 100, 0}, 0x12: {"s", 1, 0},
	0x13: {"mΩ", 1, 0}, 0x14: {"Ω", 1, 0}, 0x15: {"kΩ", 1, 0}, 0x16: {"°C", 0.1, -40}, 0x17: {"kPa", 0.01, 0}, 0x18: {"kPa", 0.0117, 0}, 0x19: {"kPa", 0.079, 0},
	0x1A: {"kPa", 1, 0}, 0x1B: {"kPa", 10, 0}, 0x1C: {"°", 0.01, 0}, 0x1D: {"°", 0.5, 0}, 0x1E: {"", 1.0 / 32768, 0}, 0x1F: {"", 0.05, 0}, 0x20: {"", 1.0 / 256, 0},
	0x21: {"mHz", 1, 0}, 0x22: {"Hz", 1, 0}, 0x23: {"kHz", 1, 0}, 0x24: {"counts", 1, 0}, 0x25: {"km", 1, 0}, 0x26: {"mV/ms", 0.1, 0}, 0x27: {"g/s", 0.01, 0},
	0x28: {"g/s", 1, 0}, 0x29: {"Pa/s", 0.25, 0}, 0x2A: {"kg/h", 0.001, 0}, 0x2B: {"switches", 1, 0}, 0x2F: {"%", 0.01, 0}, 0x30: {"%", 0.001526, 0}, 0x31: {"L", 0.001, 0},
	0x32: {"in", 1.0 / 32768, 0}, 0x34: {"min", 1, 0}, 0x35: {"ms", 10, 0}, 0x36: {"g", 0.01, 0}, 0x37: {"g", 0.1, 0}, 0x38: {"g", 1, 0},
	0x81: {"", 1, 0}, 0x82: {"", 0.1, 0}, 0x83: {"", 0.01, 0}, 0x84: {"", 0.001, 0}, 0x85: {"", 1.0 / 32768, 0}, 0x8A: {"mV", 0.122, 0}, 0x8B: {"V", 0.001, 0},
	0x8C: {"V", 0.01, 0}, 0x8D: {"mA", 1.0 / 256, 0}, 0x8E: {"A", 0.001, 0}, 0x90: {"ms", 1, 0}, 0x96: {"°C", 0.1, 0}, 0x99: {"kPa", 0.1, 0}, 0x9C: {"°", 0.01, 0},
	0xA8: {"g/s", 1, 0}, 0xA9: {"Pa/s", 0.25, 0}, 0xAF: {"%", 0.01, 0}, 0xB0: {"%", 0.003052, 0}, 0xFC: {"kPa", 0.01, 0}, 0xFD: {"kPa", 0.001, 0}, 0xFE: {"Pa", 0.25, 0},
}

// Words says the result with its limits.
func (t TestResult) Words() string {
	if !t.Ran {
		return "has not run since clearing"
	}
	w := fmt.Sprintf("%.6g %s", t.Value, t.Unit)
	switch {
	case t.HasMin && t.HasMax:
		w += fmt.Sprintf(", limits %.6g to %.6g", t.Min, t.Max)
	case t.HasMin:
		w += fmt.Sprintf(", at least %.6g", t.Min)
	case t.HasMax:
		w += fmt.Sprintf(", at most %.6g", t.Max)
	}
	if t.Pass {
		return w + ": passes"
	}
	return w + ": fails"
}
