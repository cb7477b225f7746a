package instrument_test

import (
	"context"
	"math"
	"net"
	"strings"
	"testing"
	"time"

	"wexter/core/record"
	"wexter/instrument"
	"wexter/standin"
)

// pascals is a register of gauge pressure in Pa.
func pascals(address int, kind record.ModbusType, lowFirst bool) record.ModbusRegister {
	return record.ModbusRegister{Function: 4, Address: address, Type: kind, LowFirst: lowFirst, Scaling: record.Scaling{Quantity: record.GaugePressure, Unit: "Pa", Factor: 1, Low: -5000, High: 5000, Resolution: 1}}
}

var wallRegister = record.ModbusRegister{Function: 4, Address: 4, Type: record.Uint16, Scaling: record.Scaling{Quantity: record.RigWall, Unit: "K", Factor: 0.1, Low: 230, High: 400, Resolution: 0.1}}

func modbusDevice(address string, registers ...record.ModbusRegister) record.Device {
	return record.Device{Kind: record.Module, Name: "transmitter", Address: address, Driver: record.ModbusUnit, Settings: record.DeviceSettings{Modbus: record.ModbusFormat{UnitID: 7, Rate: 20, Registers: registers}}}
}

// patient waits long enough for the slowest machine; only what never answers takes it.
var patient = instrument.Dialer{Patience: 20 * time.Minute}

// registers serves a unit that shows a pressure and a wall, on loopback.
func registers(t *testing.T) (*standin.Registers, string) {
	t.Helper()
	g := &standin.Registers{UnitID: 7}
	g.Take(measured(-1234.4, 294.3))
	l, err := instrument.Listen("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	run, cancel := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		if err := g.Serve(run, l); err != nil {
			t.Error(err)
		}
	}()
	t.Cleanup(func() { cancel(); <-done })
	for { // it listens a moment after the listener has shown the address
		conn, err := net.Dial("tcp", l.Addr().String())
		if err == nil {
			conn.Close()
			return g, l.Addr().String()
		}
		select {
		case <-done:
			t.Fatal("the unit does not serve")
		case <-time.After(time.Millisecond):
		}
	}
}

func measured(pa, wall float64) instrument.Reading {
	return instrument.Reading{Values: []instrument.Value{{Channel: instrument.PressureKey, Value: pa}, {Channel: instrument.WallKey, Value: wall}}}
}

// Registers of every kind read as what was put into them.
func TestModbusRegisters(t *testing.T) {
	g, address := registers(t)
	for _, c := range []struct {
		name string
		reg  record.ModbusRegister
		want float64
	}{{"whole, signed", pascals(0, record.Int16, false), -1234}, {"float", pascals(2, record.Float32, false), -1234.4}, {"float, low word first", pascals(10, record.Float32, true), -1234.4}} {
		t.Run(c.name, func(t *testing.T) {
			x, err := patient.Instrument(ctx, modbusDevice(address, c.reg, wallRegister), nil)
			if err != nil {
				t.Fatal(err)
			}
			defer x.Close()
			r, err := x.Next(ctx)
			p, _ := r.Of(instrument.PressureKey)
			w, _ := r.Of(instrument.WallKey)
			if err != nil || math.Abs(p.Value-c.want) > 0.01 || math.Abs(w.Value-294.3) > 1e-9 || r.Fault != "" {
				t.Errorf("%+v, %v", r, err)
			}
			g.Do(standin.Garbage)
			if r, err := x.Next(ctx); err != nil || len(r.Values) > 0 || !strings.Contains(r.Fault, "look at its type") {
				t.Errorf("garbage: %+v, %v", r, err)
			}
			g.Do(standin.NoMishap)
			if r, err := x.Next(ctx); err != nil || len(r.Values) != 2 {
				t.Errorf("afterwards: %+v, %v", r, err)
			}
		})
	}
}

// What is set up wrong is said before anything is read.
func TestModbusRefusals(t *testing.T) {
	_, address := registers(t)
	holding := wallRegister
	holding.Function = 3
	for _, c := range []struct {
		name string
		dev  record.Device
		says string
	}{
		{"no such register", modbusDevice(address, pascals(300, record.Int16, false)), "has no register 300"},
		{"holding", modbusDevice(address, holding), "does not know function 3"},
		{"nobody", modbusDevice("127.0.0.1:1", wallRegister), "nothing answers"},
	} {
		t.Run(c.name, func(t *testing.T) {
			if x, err := patient.Instrument(ctx, c.dev, nil); err == nil || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%v, %v", x, err)
			}
		})
	}
}

// FuzzRegisters gives whatever registers may hold: a value lies in its range, or there is
// none.
func FuzzRegisters(f *testing.F) {
	for _, b := range [][2]uint16{{0, 0}, {0x7FC0, 0x7FC0}, {0xFFFF, 0xFFFF}, {0x449A, 0x4CCD}, {0x8000, 1}} {
		f.Add(b[0], b[1], uint8(0))
		f.Add(b[0], b[1], uint8(14))
	}
	f.Fuzz(func(t *testing.T, a, b uint16, how uint8) {
		r := pascals(0, record.ModbusTypes()[int(how)%5], how&8 != 0)
		v, says := instrument.RegisterValue(r, []uint16{a, b}[:int(how>>4)%3])
		if says == "" && !(math.Abs(v.Value) <= 5101) || says != "" && v.Value != 0 {
			t.Fatalf("%v, %q", v, says)
		}
	})
}
