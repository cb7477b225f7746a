package obd

import (
	"math"
	"slices"
	"strings"
	"testing"
	"time"
)

// Formulas of SAE J1979 / ISO 15031-5 service 01 (values from memory), worked by hand.
func TestPIDFormulas(t *testing.T) {
	for _, c := range []struct {
		pid  byte
		data []byte
		want float64
		unit string
	}{
		{0x04, []byte{0xFF}, 100, "%"}, {0x05, []byte{0x7B}, 83, "°C"}, {0x06, []byte{0x80}, 0, "%"}, {0x07, []byte{0x00}, -100, "%"},
		{0x08, []byte{0x90}, 12.5, "%"}, {0x09, []byte{0xFF}, 99.21875, "%"}, {0x0B, []byte{0x21}, 33, "kPa"}, {0x0C, []byte{0x1A, 0xF8}, 1726, "rpm"},
		{0x0D, []byte{0x32}, 50, "km/h"}, {0x0F, []byte{0x00}, -40, "°C"}, {0x10, []byte{0x01, 0x90}, 4, "g/s"}, {0x11, []byte{0x33}, 20, "%"},
		{0x1F, []byte{0x01, 0x00}, 256, "s"}, {0x2C, []byte{0x80}, 50.196, "%"}, {0x2D, []byte{0x40}, -50, "%"}, {0x2E, []byte{0x66}, 40, "%"},
		{0x2F, []byte{0x99}, 60, "%"}, {0x30, []byte{0x28}, 40, ""}, {0x31, []byte{0x01, 0x2C}, 300, "km"}, {0x32, []byte{0x00, 0x04}, 1, "Pa"},
		{0x32, []byte{0xFF, 0xFC}, -1, "Pa"}, {0x32, []byte{0x80, 0x00}, -8192, "Pa"}, {0x33, []byte{0x65}, 101, "kPa"}, {0x42, []byte{0x36, 0xB0}, 14, "V"},
		{0x44, []byte{0x80, 0x00}, 1, ""}, {0x46, []byte{0x3C}, 20, "°C"}, {0x4D, []byte{0x00, 0x3C}, 60, "min"}, {0x4E, []byte{0x01, 0x00}, 256, "min"},
		{0x53, []byte{0x4E, 0x20}, 100, "kPa"}, {0x54, []byte{0xFC, 0x18}, -1000, "Pa"}, {0x14, []byte{0x5A, 0xFF}, 0.45, "V"},
		{0x24, []byte{0x80, 0x00, 0x20, 0x00}, 1, ""}, {0x34, []byte{0x80, 0x00, 0x80, 0x00}, 1, ""}, {0x69, []byte{0x07, 0x80, 0x40, 0x40, 0, 0, 0}, 50.196, "%"},
		{0x6B, []byte{0x01, 0xA0, 0, 0, 0}, 120, "°C"},
	} {
		t.Run(c.unit, func(t *testing.T) {
			v, ok := Decode(c.pid, c.data)
			if !ok || math.Abs(v.Value-c.want) > 1e-3 || v.Unit != c.unit {
				t.Errorf("PID %02X % X = %v %q, want %v %q", c.pid, c.data, v.Value, v.Unit, c.want, c.unit)
			}
			if n, _ := Length(c.pid); n != len(c.data) {
				t.Errorf("PID %02X takes %d bytes, want %d", c.pid, n, len(c.data))
			}
		})
	}
	if v, _ := Decode(0x03, []byte{2, 0}); v.Text != "closed loop" {
		t.Errorf("fuel system 02 says %q", v.Text)
	}
	if v, _ := Decode(0x34, []byte{0x80, 0, 0x7F, 0}); v.Parts[0].Value != -1 {
		t.Errorf("sensor current %v mA, want -1", v.Parts[0].Value)
	}
	if v, _ := Decode(0x69, []byte{0x07, 0x80, 0x40, 0x40, 0, 0, 0}); len(v.Parts) != 2 || math.Abs(v.Parts[0].Value-25.098) > 1e-3 || v.Parts[1].Value != -50 {
		t.Errorf("EGR %+v", v.Parts)
	}
	if _, ok := Decode(0x0C, []byte{1}); ok {
		t.Error("one byte of engine speed was read")
	}
}

// Every simple quantity comes back from its bytes, within a step, and is limited to
// what the bytes can hold.
func TestEncodeRoundTrip(t *testing.T) {
	for p, d := range pids {
		if d.decode == nil {
			continue
		}
		for _, raw := range [][]byte{{0, 0}, {0, 7}, {0x7F, 0xFF}, {0x80, 0}, {0xFF, 0xFF}} {
			b := raw[2-d.length:]
			got, ok := Encode(p, d.decode(b))
			if !ok || !slices.Equal(got, b) {
				t.Errorf("PID %02X: % X came back as % X", p, b, got)
			}
		}
	}
	if b, _ := Encode(0x05, 1e9); b[0] != 255 {
		t.Errorf("a coolant of 1e9 °C is sent as % X", b)
	}
	if b, _ := Encode(0x32, -1e9); b[0] != 0x80 || b[1] != 0 {
		t.Errorf("a vapour pressure of -1e9 Pa is sent as % X", b)
	}
	if _, ok := Encode(0x0C, math.NaN()); ok {
		t.Error("NaN was encoded")
	}
}

// Two bytes of a code: SAE J2012 (value from memory).
func TestDTC(t *testing.T) {
	for code, b := range map[string][2]byte{"P0456": {0x04, 0x56}, "P0133": {0x01, 0x33}, "C0123": {0x41, 0x23}, "B1A2F": {0x9A, 0x2F}, "U0100": {0xC1, 0x00}, "P3FFF": {0x3F, 0xFF}} {
		t.Run(code, func(t *testing.T) {
			if got := DTC(b[0], b[1]); got != code {
				t.Errorf("% X is %s, want %s", b, got, code)
			}
			if x, y, ok := EncodeDTC(code); !ok || x != b[0] || y != b[1] {
				t.Errorf("%s is %02X %02X %v", code, x, y, ok)
			}
		})
	}
	for _, bad := range []string{"", "P045", "X0456", "P4456", "P04G6"} {
		if _, _, ok := EncodeDTC(bad); ok {
			t.Errorf("%q was encoded", bad)
		}
	}
}

// Readiness bits: D is not complete when 1 (SAE J1979, from memory).
func TestStatus(t *testing.T) {
	s := DecodeStatus([]byte{0x83, 0x07, 0xE5, 0x04})
	if !s.Lamp || s.Codes != 3 || s.Compression {
		t.Errorf("%+v", s)
	}
	for k, want := range map[string]string{"misfire": Complete, "catalyst": Complete, "evap": Incomplete, "secondary_air": Unsupported, "egr": Complete, "oxygen_heater": Complete} {
		t.Run(k, func(t *testing.T) {
			if s.Readiness[k] != want {
				t.Errorf("%s is %s, want %s", k, s.Readiness[k], want)
			}
		})
	}
	d := DecodeStatus([]byte{0, 0x7F, 0x89, 0x80})
	if !d.Compression || d.Readiness["boost"] != Complete || d.Readiness["egr"] != Incomplete || d.Readiness["nmhc_catalyst"] != Complete || d.Readiness["misfire"] != Incomplete {
		t.Errorf("compression: %+v", d)
	}
	for _, x := range []Status{s, d} {
		if got := DecodeStatus(EncodeStatus(x)); got.Lamp != x.Lamp || got.Readiness["egr"] != x.Readiness["egr"] || got.Readiness["misfire"] != x.Readiness["misfire"] || got.Compression != x.Compression {
			t.Errorf("%+v came back as %+v", x, got)
		}
	}
}

// Check digit: 49 CFR 565.15 (from memory); seventeen ones are their own check.
func TestCheckVIN(t *testing.T) {
	if w := CheckVIN("11111111111111111"); w != "" {
		t.Error(w)
	}
	// By hand: Z=9·8, Z=9·7, Q is never used; here A=1 B=2 C=3 with weights 8 7 6 is
	// 8+14+18=40, the nine at place 17 adds 18, 58 mod 11 = 3.
	if w := CheckVIN("ABC00000300000009"); w != "" {
		t.Error(w)
	}
	for vin, say := range map[string]string{"ABC00000400000009": "check digit", "ABC0000030000000": "16 characters", "IBC00000300000009": "never holds"} {
		t.Run(vin, func(t *testing.T) {
			if w := CheckVIN(vin); !strings.Contains(w, say) {
				t.Errorf("%s: %q", vin, w)
			}
		})
	}
}

func m(ecu string, b ...byte) Message { return Message{ECU: ecu, Data: b} }

func TestReadCodesBothForms(t *testing.T) {
	// Six bytes behind the service: three codes of an older bus. Odd: CAN with a count.
	s := Read([]Message{m("10", 0x43, 0x04, 0x55, 0x04, 0x42, 0, 0), m("7E8", 0x43, 0x01, 0x01, 0x33), m("7E9", 0x43, 0x00), m("7E8", 0x4A, 2, 4, 0x56)})
	want := []Code{{"P0455", Stored, "10"}, {"P0442", Stored, "10"}, {"P0133", Stored, "7E8"}, {"P0456", Permanent, "7E8"}}
	if !slices.Equal(s.Codes, want) {
		t.Errorf("%v", s.Codes)
	}
	if len(s.Warnings) != 1 || !strings.Contains(s.Warnings[0], "2 codes are announced and 1 are there") {
		t.Errorf("%q", s.Warnings)
	}
	if f := Read([]Message{m("", 0x43, 0x01, 0x01, 0x33, 0x55, 0x55, 0x55), m("", 0x43, 0x01, 0x33, 0, 0, 0, 0)}); len(f.Codes) != 1 || f.Codes[0].Code != "P0133" {
		t.Errorf("a filled frame and an older line: %v", f.Codes)
	}
	if !s.Asked[Stored] || s.Asked[Pending] {
		t.Errorf("asked %v", s.Asked)
	}
}

func TestReadWholeCar(t *testing.T) {
	s := Read([]Message{
		m("7E8", 0x41, 0x01, 0x82, 0x07, 0x65, 0x04), m("7E9", 0x41, 0x01, 0x00, 0x04, 0, 0),
		m("7E8", 0x43, 2, 4, 0x56, 4, 0x42),
		m("7E8", 0x41, 0x0C, 0x1A, 0xF8, 0x0D, 0x32), m("7E9", 0x41, 0x0C, 0x1A, 0xF0),
		m("7E8", 0x42, 0x02, 0x00, 0x04, 0x56), m("7E8", 0x42, 0x0C, 0x00, 0x0A, 0xBE), m("7E8", 0x42, 0x0C, 0x01, 0, 0),
		// Vapour monitor, 0.020 in, signed 0.25 Pa/s: 40, limits −10 to 30 → fails.
		m("7E8", 0x46, 0x3C, 0x01, 0xA9, 0x00, 0xA0, 0xFF, 0xD8, 0x00, 0x78),
		m("7E8", 0x46, 0x3B, 0x01, 0xA9, 0, 0, 0, 0, 0, 0), m("10", 0x46, 0x05, 0x80, 0x00, 0x10, 0x00, 0x20),
		m("7E8", 0x7F, 0x09, 0x12), m("7E8", 0x7F, 0x01, 0x78),
		m("10", 0x49, 0x02, 1, 0, 0, 0, '1'), m("10", 0x49, 0x02, 3, '1', '1', '1', '1'), m("10", 0x49, 0x02, 2, '1', '1', '1', '1'),
		m("10", 0x49, 0x02, 4, '1', '1', '1', '1'), m("10", 0x49, 0x02, 5, '1', '1', '1', '1'),
	})
	if s.Lamp == nil || !*s.Lamp || s.Readiness["evap"] != Incomplete || s.Readiness["components"] != Complete {
		t.Errorf("lamp %v %v", s.Lamp, s.Readiness)
	}
	if s.Live["0C"].Value != 1726 || s.Live["0D"].Value != 50 || s.Others["7E9"]["0C"].Value != 1724 {
		t.Errorf("live %v others %v", s.Live, s.Others)
	}
	if len(s.Freeze) != 1 || s.Freeze[0].Code != "P0456" || s.Freeze[0].Data["0C"].Value != 687.5 {
		t.Errorf("freeze %+v", s.Freeze)
	}
	if len(s.Tests) != 3 || s.Tests[0].Value != 40 || s.Tests[0].Min != -10 || s.Tests[0].Max != 30 || s.Tests[0].Pass || s.Tests[0].Unit != "Pa/s" || s.Tests[1].Ran || s.Tests[2].Pass {
		t.Errorf("tests %+v", s.Tests)
	}
	if s.VIN != "11111111111111111" {
		t.Errorf("vin %q", s.VIN)
	}
	if len(s.Warnings) != 2 || !strings.Contains(s.Warnings[0], "maker's extra") || !strings.Contains(s.Warnings[1], "does not have this item") {
		t.Errorf("%q", s.Warnings)
	}
}

func TestFrames(t *testing.T) {
	long := append([]byte{0x49, 2, 1}, "ABC00000300000009"...)
	var a Assembler
	for i, f := range Frames(long) {
		got, err := a.Frame("7E8", f, i+1)
		if err != nil || (got != nil) != (i == 2) || got != nil && !slices.Equal(got.Data, long) {
			t.Fatalf("frame %d: %v %v", i, got, err)
		}
	}
	if got, err := a.Frame("7E8", Frames([]byte{0x43, 0})[0], 1); err != nil || !slices.Equal(got.Data, []byte{0x43, 0}) {
		t.Errorf("%v %v", got, err)
	}
	for _, c := range []struct {
		d   []byte
		say string
	}{{nil, "empty"}, {[]byte{7, 0x41}, "announces 7"}, {[]byte{0x21, 1}, "without its first"}, {[]byte{0x10, 9}, "cut short"}, {[]byte{0xF0, 1}, "protocol"}} {
		t.Run(c.say, func(t *testing.T) {
			if _, err := a.Frame("x", c.d, 1); err == nil || !strings.Contains(err.Error(), c.say) {
				t.Errorf("% X: %v", c.d, err)
			}
		})
	}
	_, _ = a.Frame("7E8", Frames(long)[0], 7)
	if _, err := a.Frame("7E8", Frames(long)[2], 8); err == nil || !strings.Contains(err.Error(), "frame 1") {
		t.Errorf("a lost frame: %v", err)
	}
	_, _ = a.Frame("7E9", Frames(long)[0], 9)
	if l := a.Left(); len(l) != 1 || !strings.Contains(l[0], "line 9") {
		t.Errorf("left %q", l)
	}
}

func TestSince(t *testing.T) {
	at := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	s := Scan{Live: map[string]Value{"30": {Value: 2}, "31": {Value: 16}, "4E": {Value: 32}}}
	if w := s.Since(at).Words; w != "Cleared 2 warm-ups, 16 km, 32 min of running ago. That is recent: the monitors have hardly had a chance to run, so a missing code says little. That was before 1 Mar 11:28." {
		t.Error(w)
	}
	s.Live = map[string]Value{"30": {Value: 255}, "31": {Value: 65535}}
	if w := s.Since(at).Words; w != "Cleared at least 255 warm-ups, at least 65535 km ago." {
		t.Error(w)
	}
	if (Scan{}).Since(at).Known {
		t.Error("known without a counter")
	}
}

// Check bytes: ISO 9141-2 sums all bytes; SAE J1850 divides by 1D (from memory; the
// frame 48 6B 10 41 00 is checked against a division done by hand elsewhere in bits).
func TestCheckBytes(t *testing.T) {
	if c := Sum([]byte{0x48, 0x6B, 0x10, 0x43, 0x01, 0x33}); c != 0x3A {
		t.Errorf("%02X", c)
	}
	d := []byte{0x48, 0x6B, 0x10, 0x41, 0x00}
	// The remainder of message and check byte is the constant C4 for this polynomial.
	r := byte(0xFF)
	for _, b := range append(d, CRC(d)) {
		for i := 7; i >= 0; i-- {
			top := r>>7 ^ b>>i&1
			r <<= 1
			if top == 1 {
				r ^= 0x1D
			}
		}
	}
	if r != 0xC4 {
		t.Errorf("remainder %02X, want C4", r)
	}
}
