package obd

import (
	"fmt"
	"math"
)

// Value is one decoded quantity. Text is set for states; Parts holds further
// quantities that come with the same PID.
type Value struct {
	Name  string  `json:"name"`
	Value float64 `json:"value"`
	Unit  string  `json:"unit"`
	Text  string  `json:"text,omitempty"`
	Parts []Value `json:"parts,omitempty"`
}

// pid is the length of an answer in bytes and how it is read; a nil decode is
// skipped (its length must be known to read what follows).
type pid struct {
	length int
	name   string
	unit   string
	decode func(d []byte) float64
	whole  func(d []byte) Value
}

func u8(d []byte) float64   { return float64(d[0]) }
func u16(d []byte) float64  { return float64(d[0])*256 + float64(d[1]) }
func s16(d []byte) float64  { return float64(int16(uint16(d[0])<<8 | uint16(d[1]))) }
func pct(d []byte) float64  { return u8(d) * 100 / 255 }
func trim(d []byte) float64 { return (u8(d) - 128) * 100 / 128 }
func temp(d []byte) float64 { return u8(d) - 40 }
func scaled(f func([]byte) float64, k float64) func([]byte) float64 {
	return func(d []byte) float64 { return f(d) * k }
}

var loopWords = map[byte]string{
	0: "engine off", 1: "open loop, not warm yet", 2: "closed loop", 4: "open loop by load or deceleration", 8: "open loop by a fault", 16: "closed loop, with a sensor fault",
}

// pids is the table of service 01 (and 02): SAE J1979, from memory.
var pids = func() map[byte]pid {
	m := map[byte]pid{
		0x00: {length: 4}, 0x20: {length: 4}, 0x40: {length: 4}, 0x60: {length: 4}, 0x01: {length: 4}, 0x02: {length: 2}, 0x41: {length: 4},
		0x03: {length: 2, whole: func(d []byte) Value {
			v := Value{Name: "fuel system", Value: u8(d), Text: loopWords[d[0]]}
			if v.Text == "" {
				v.Text = fmt.Sprintf("state %02X", d[0])
			}
			if d[1] != 0 {
				v.Parts = []Value{{Name: "fuel system, second", Value: float64(d[1]), Text: loopWords[d[1]]}}
			}
			return v
		}},
		0x04: {1, "engine load", "%", pct, nil}, 0x05: {1, "coolant temperature", "°C", temp, nil},
		0x06: {1, "short fuel trim, bank 1", "%", trim, nil}, 0x07: {1, "long fuel trim, bank 1", "%", trim, nil},
		0x08: {1, "short fuel trim, bank 2", "%", trim, nil}, 0x09: {1, "long fuel trim, bank 2", "%", trim, nil},
		0x0A: {1, "fuel rail pressure", "kPa", scaled(u8, 3), nil}, 0x0B: {1, "manifold absolute pressure", "kPa", u8, nil},
		0x0C: {2, "engine speed", "rpm", scaled(u16, 0.25), nil}, 0x0D: {1, "road speed", "km/h", u8, nil},
		0x0E: {1, "timing advance", "°", func(d []byte) float64 { return u8(d)/2 - 64 }, nil}, 0x0F: {1, "intake air temperature", "°C", temp, nil},
		0x10: {2, "air mass flow", "g/s", scaled(u16, 0.01), nil}, 0x11: {1, "throttle position", "%", pct, nil},
		0x12: {length: 1}, 0x13: {length: 1}, 0x1C: {length: 1}, 0x1D: {length: 1}, 0x1E: {length: 1},
		0x1F: {2, "time since engine start", "s", u16, nil}, 0x21: {2, "distance with the lamp on", "km", u16, nil},
		0x22: {2, "fuel rail pressure over manifold", "kPa", scaled(u16, 0.079), nil}, 0x23: {2, "fuel rail pressure", "kPa", scaled(u16, 10), nil},
		0x2C: {1, "commanded EGR", "%", pct, nil}, 0x2D: {1, "EGR error", "%", trim, nil}, 0x2E: {1, "commanded purge", "%", pct, nil},
		0x2F: {1, "fuel level", "%", pct, nil}, 0x30: {1, "warm-ups since clearing", "", u8, nil}, 0x31: {2, "distance since clearing", "km", u16, nil},
		0x32: {2, "EVAP system pressure", "Pa", scaled(s16, 0.25), nil}, 0x33: {1, "barometer", "kPa", u8, nil},
		0x3C: {2, "catalyst temperature, bank 1 sensor 1", "°C", cat, nil}, 0x3D: {2, "catalyst temperature, bank 2 sensor 1", "°C", cat, nil},
		0x3E: {2, "catalyst temperature, bank 1 sensor 2", "°C", cat, nil}, 0x3F: {2, "catalyst temperature, bank 2 sensor 2", "°C", cat, nil},
		0x42: {2, "control unit voltage", "V", scaled(u16, 0.001), nil}, 0x43: {2, "absolute load", "%", scaled(u16, 100.0/255), nil},
		0x44: {2, "commanded lambda", "", scaled(u16, 1.0/32768), nil}, 0x45: {1, "relative throttle position", "%", pct, nil},
		0x46: {1, "ambient temperature", "°C", temp, nil}, 0x47: {1, "throttle position B", "%", pct, nil}, 0x48: {1, "throttle position C", "%", pct, nil},
		0x49: {1, "pedal position D", "%", pct, nil}, 0x4A: {1, "pedal position E", "%", pct, nil}, 0x4B: {1, "pedal position F", "%", pct, nil},
		0x4C: {1, "commanded throttle", "%", pct, nil}, 0x4D: {2, "time with the lamp on", "min", u16, nil}, 0x4E: {2, "time since clearing", "min", u16, nil},
		0x4F: {length: 4}, 0x50: {length: 4}, 0x51: {length: 1}, 0x52: {1, "alcohol in fuel", "%", pct, nil},
		0x53: {2, "EVAP system pressure, absolute", "kPa", scaled(u16, 1.0/200), nil}, 0x54: {2, "EVAP system pressure", "Pa", s16, nil},
		0x55: {length: 2}, 0x56: {length: 2}, 0x57: {length: 2}, 0x58: {length: 2}, 0x59: {2, "fuel rail pressure, absolute", "kPa", scaled(u16, 10), nil},
		0x5A: {1, "relative pedal position", "%", pct, nil}, 0x5B: {length: 1}, 0x5C: {1, "oil temperature", "°C", temp, nil}, 0x5D: {length: 2},
		0x5E: {2, "fuel rate", "L/h", scaled(u16, 0.05), nil}, 0x5F: {length: 1}, 0x61: {length: 1}, 0x62: {length: 1}, 0x63: {length: 2}, 0x64: {length: 5},
		0x65: {length: 2}, 0x66: {length: 5}, 0x67: {length: 3}, 0x68: {length: 7}, 0x6A: {length: 5},
		0x69: {length: 7, whole: func(d []byte) Value {
			v := Value{Name: "commanded EGR, actual and error", Unit: "%", Value: pct(d[1:])}
			for i, n := range []string{"actual EGR A", "EGR A error", "commanded EGR B", "actual EGR B", "EGR B error"} {
				if d[0]>>(i+1)&1 == 0 {
					continue
				}
				f := pct
				if n[len(n)-1] == 'r' {
					f = trim
				}
				v.Parts = append(v.Parts, Value{Name: n, Unit: "%", Value: f(d[2+i:])})
			}
			return v
		}},
		0x6B: {length: 5, whole: func(d []byte) Value {
			v := Value{Name: "EGR gas temperature", Unit: "°C"}
			first := true
			for i, n := range []string{"bank 1 sensor 1", "bank 1 sensor 2", "bank 2 sensor 1", "bank 2 sensor 2"} {
				switch {
				case d[0]>>i&1 == 0:
				case first:
					v.Name, v.Value, first = v.Name+", "+n, temp(d[1+i:]), false
				default:
					v.Parts = append(v.Parts, Value{Name: n, Unit: "°C", Value: temp(d[1+i:])})
				}
			}
			if first {
				v.Text = "no sensor answers"
			}
			return v
		}},
	}
	for i := range byte(8) {
		where := fmt.Sprintf("bank %d sensor %d", i/4+1, i%4+1)
		m[0x14+i] = pid{length: 2, whole: func(d []byte) Value {
			v := Value{Name: "oxygen sensor, " + where, Unit: "V", Value: u8(d) / 200}
			if d[1] != 0xFF {
				v.Parts = []Value{{Name: "its short trim", Unit: "%", Value: trim(d[1:])}}
			}
			return v
		}}
		m[0x24+i] = pid{length: 4, whole: func(d []byte) Value {
			return Value{Name: "wide-band lambda, " + where, Value: u16(d) / 32768, Parts: []Value{{Name: "sensor voltage", Unit: "V", Value: u16(d[2:]) * 8 / 65536}}}
		}}
		m[0x34+i] = pid{length: 4, whole: func(d []byte) Value {
			return Value{Name: "wide-band lambda, " + where, Value: u16(d) / 32768, Parts: []Value{{Name: "sensor current", Unit: "mA", Value: u16(d[2:])/256 - 128}}}
		}}
	}
	return m
}()

func cat(d []byte) float64 { return u16(d)/10 - 40 }

// Length returns how many data bytes follow a PID, and whether it is known here.
func Length(p byte) (int, bool) {
	d, ok := pids[p]
	return d.length, ok
}

// Decode reads the data bytes of one PID; ok is false for PIDs that carry states
// read elsewhere (monitors, supported PIDs) or are not in the table.
func Decode(p byte, data []byte) (Value, bool) {
	d, ok := pids[p]
	switch {
	case !ok || len(data) < d.length:
		return Value{}, false
	case d.whole != nil:
		return d.whole(data), true
	case d.decode != nil:
		return Value{Name: d.name, Unit: d.unit, Value: d.decode(data)}, true
	}
	return Value{}, false
}

// Encode writes the value of a PID with one simple quantity, rounded and limited to
// what the bytes can hold; ok is false for the others.
func Encode(p byte, value float64) (data []byte, ok bool) {
	d, known := pids[p]
	if !known || d.decode == nil || d.length > 2 || math.IsNaN(value) {
		return nil, false
	}
	at := func(n int) ([]byte, float64) {
		b := []byte{byte(n >> 8), byte(n)}[2-d.length:]
		return b, d.decode(b)
	}
	// Every scaling is linear over its signed or unsigned range: two points give it.
	zero, z := at(0)
	_, one := at(1)
	n := int(math.Round((value - z) / (one - z)))
	lo, hi := 0, 1<<(8*d.length)-1
	if _, top := at(hi); top < z { // two's complement
		lo, hi = -(hi+1)/2, hi/2
	}
	n = min(max(n, lo), hi)
	copy(zero, []byte{byte(n >> 8), byte(n)}[2-d.length:])
	return zero, true
}

// Supported lists the PIDs that the four bytes after 00, 20, 40 … announce.
func Supported(base byte, d []byte) []byte {
	var out []byte
	for i := range 32 {
		if len(d) >= 4 && d[i/8]>>(7-i%8)&1 == 1 {
			out = append(out, base+byte(i)+1)
		}
	}
	return out
}
