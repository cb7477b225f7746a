package main

import (
	"context"
	"net"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wexter/casework"
	"wexter/core/record"
	"wexter/instrument"
	"wexter/standin"
	"wexter/store"
)

// An instrument of the shop is read from the command line by its name or its address.
func TestRead(t *testing.T) {
	path := filepath.Join(t.TempDir(), "shop.db")
	db, err := store.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	l, err := instrument.Listen("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	unit := &standin.Registers{UnitID: 1}
	unit.Take(instrument.Reading{Values: []instrument.Value{{Channel: instrument.PressureKey, Value: 1234}}})
	over := make(chan error, 1)
	go func() { over <- unit.Serve(ctx, l) }()
	for up := false; !up; { // it listens a moment after the listener has shown the address
		conn, err := net.Dial("tcp", l.Addr().String())
		if up = err == nil; up {
			conn.Close()
			continue
		}
		select {
		case err := <-over:
			t.Fatal(err)
		case <-time.After(time.Millisecond):
		}
	}
	pressure := record.ModbusRegister{Function: 4, Address: 2, Type: record.Float32, Scaling: record.Scaling{Quantity: record.GaugePressure, Unit: "Pa", Factor: 1, Low: -5000, High: 5000}}
	shop := &casework.Shop{DB: db, Now: time.Now}
	if _, err := shop.AddDevice(ctx, "", casework.NewDevice{Kind: record.Module, Name: "transmitter", Address: l.Addr().String(), Driver: record.ModbusUnit,
		Settings: record.DeviceSettings{Modbus: record.ModbusFormat{UnitID: 1, Rate: 20, Registers: []record.ModbusRegister{pressure}}}}); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{}, 0, "transmitter: module, modbus, " + l.Addr().String()}, {[]string{"--json"}, 0, `"driver":"modbus"`},
		{[]string{"transmitter", "--count", "2", "--patience", "20m"}, 0, ",1234\n"}, {[]string{l.Addr().String(), "--count", "1", "--json", "--patience", "20m"}, 0, `"pressure":1234`},
		{[]string{"thermometer"}, 1, "is not among the shop's instruments"}, {[]string{"a", "b"}, 2, "read [NAME or ADDRESS]"}, {[]string{"--count", "-1"}, 2, "read [NAME or ADDRESS]"},
	} {
		t.Run(strings.Join(c.args, " "), func(t *testing.T) {
			code, out, errs := wexter(append([]string{"read", "--db", path}, c.args...)...)
			if code != c.code || !strings.Contains(out+errs, c.want) {
				t.Errorf("%d: %s%s", code, out, errs)
			}
		})
	}
	if code, _, errs := wexter("read", "--db", path+"x"); code != 1 || !strings.Contains(errs, "there is no shop") {
		t.Errorf("%d: %s", code, errs)
	}
}
