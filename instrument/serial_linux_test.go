package instrument_test

import (
	"context"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"testing"

	"wexter/core/obd"
	"wexter/core/record"
	"wexter/ingest"
	"wexter/instrument"
	"wexter/standin"
)

// terminal is a serial device of a test, with somebody at its other end.
func terminal(t *testing.T, talk func(context.Context, *standin.Terminal)) (*standin.Terminal, instrument.Dialer) {
	t.Helper()
	term, err := standin.OpenTerminal()
	if err != nil {
		t.Fatal(err)
	}
	run, cancel := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() { defer close(done); talk(run, term) }()
	t.Cleanup(func() { cancel(); term.Close(); <-done })
	d := patient
	d.Allowed = []string{term.Name}
	return term, d
}

func at(dev record.Device, term *standin.Terminal, baud int) record.Device {
	dev.Address, dev.Baud = term.Name, baud
	return dev
}

// Every driver reads the same over a serial device; while one has it open another is
// refused with a sentence, and when its plug is pulled that is said.
func TestSerialDevices(t *testing.T) {
	lines := func(ctx context.Context, term *standin.Terminal) {
		p := &standin.Printer{Unit: "inH2O", Separator: ","}
		stop := make(chan struct{})
		go func() {
			defer close(stop)
			for ctx.Err() == nil {
				p.Take(measured(1000, 294))
			}
		}()
		p.Print(ctx, term)
		<-stop
	}
	format := record.LineFormat{Separator: "comma", Columns: []record.LineColumn{pressureColumn(1, "inH2O"), wallColumn(2)}}
	unit := func(_ context.Context, term *standin.Terminal) {
		g := &standin.Registers{UnitID: 7}
		g.Take(measured(1000, 294))
		g.Talk(term)
	}
	for _, c := range []struct {
		name string
		talk func(context.Context, *standin.Terminal)
		dev  record.Device
	}{{"lines", lines, lineDevice(format)}, {"modbus", unit, modbusDevice("", pascals(2, record.Float32, false), wallRegister)}} {
		t.Run(c.name, func(t *testing.T) {
			term, d := terminal(t, c.talk)
			dev := at(c.dev, term, 115200)
			x, err := d.Instrument(ctx, dev, nil)
			if err != nil {
				t.Fatal(err)
			}
			defer x.Close()
			for range 5 {
				r, err := x.Next(ctx)
				p, _ := r.Of(instrument.PressureKey)
				if err != nil || p.Value < 999 || p.Value > 1001 {
					t.Fatalf("%+v, %v", r, err)
				}
			}
			if y, err := d.Instrument(ctx, dev, nil); err == nil || !strings.Contains(err.Error(), "in use here already") {
				t.Errorf("opened twice: %v, %v", y, err)
			}
			if c.name == "modbus" { // a unit that is pulled answers nothing, and that takes all patience
				return
			}
			term.Close()
			for range 1000 {
				if _, err := x.Next(ctx); err != nil {
					return
				}
			}
			t.Error("it is pulled, and nothing is said")
		})
	}
}

// A scan through a serial adapter, at both usual speeds.
func TestSerialAdapter(t *testing.T) {
	for _, baud := range []int{38400, 115200} {
		t.Run(strconv.Itoa(baud), func(t *testing.T) {
			car, err := standin.ReadCar([]byte(demoCar(t)))
			if err != nil {
				t.Fatal(err)
			}
			a := standin.NewAT(standin.NewAdapter(car, 1), standin.ATModel{})
			term, d := terminal(t, func(ctx context.Context, term *standin.Terminal) { a.Talk(ctx, term) })
			s, err := d.Scanner(ctx, at(atDevice, term, baud))
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			raw, err := instrument.TakeScan(ctx, s, func(string) {})
			if err != nil {
				t.Fatal(err)
			}
			if got, err := ingest.ReadScan([]byte(raw)); err != nil || len(codes(got, obd.Stored)) != 2 {
				t.Errorf("%v, %v", got.Codes, err)
			}
		})
	}
}

// Only what the system lists, or who started the program allowed, is opened; what another
// program holds is not.
func TestSerialRefusals(t *testing.T) {
	term, d := terminal(t, func(context.Context, *standin.Terminal) {})
	dev := at(atDevice, term, 38400)
	for _, path := range []string{"/etc/passwd", term.Name, "/dev/pts/../../etc/passwd", ""} {
		dev.Address = path
		if s, err := (instrument.Dialer{}).Scanner(ctx, dev); err == nil || !strings.Contains(err.Error(), "no serial device of this computer") {
			t.Errorf("%q: %v, %v", path, s, err)
		}
	}
	dev.Address = term.Name
	other := exec.Command("sleep", "600")
	if err := other.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = other.Process.Kill(); _ = other.Wait() }()
	file := instrument.LockFile(term.Name)
	if err := os.WriteFile(file, []byte(strconv.Itoa(other.Process.Pid)+"\n"), 0o600); err != nil {
		t.Skipf("this system has no folder for locks: %v", err)
	}
	defer os.Remove(file)
	if s, err := d.Scanner(ctx, dev); err == nil || !strings.Contains(err.Error(), "another program has") {
		t.Errorf("taken from another program: %v, %v", s, err)
	}
}
