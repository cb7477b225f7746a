package instrument

import (
	"errors"
	"fmt"
	"io"
	"slices"

	"go.bug.st/serial"
)

// SerialPorts lists the serial devices of this computer by name.
func SerialPorts() ([]string, error) {
	names, err := serial.GetPortsList()
	if err != nil {
		return nil, fmt.Errorf("the system does not list its serial devices: %w", err)
	}
	slices.Sort(names)
	return names, nil
}

// Ports lists the serial devices that may be spoken to: those that the system lists, and
// those that were allowed when the program was started.
func (d Dialer) Ports() ([]string, error) {
	names, err := SerialPorts()
	for _, n := range d.Allowed {
		if !slices.Contains(names, n) {
			names = append(names, n)
		}
	}
	if len(names) > 0 {
		err = nil
	}
	return names, err
}

// mayOpen refuses a path that is no serial device of this computer.
func (d Dialer) mayOpen(name string) error {
	names, err := d.Ports()
	if err != nil {
		return err
	}
	if !slices.Contains(names, name) {
		return fmt.Errorf("%s is no serial device of this computer: is its plug in?", name)
	}
	return nil
}

// serial opens a serial device, eight bits without parity; nobody else may have it open.
func (d Dialer) serial(name string, baud int) (io.ReadWriteCloser, error) {
	if err := d.mayOpen(name); err != nil {
		return nil, err
	}
	free, err := lockPort(name)
	if err != nil {
		return nil, err
	}
	p, err := serial.Open(name, &serial.Mode{BaudRate: baud})
	if err != nil {
		free()
		return nil, portSays(name, err)
	}
	_ = p.ResetInputBuffer() // what came before nobody waited for
	return &lockedPort{p, free}, nil
}

// lockedPort is a serial device that is this program's until it is closed.
type lockedPort struct {
	serial.Port
	free func()
}

// Close lets the device go.
func (p *lockedPort) Close() error {
	err := p.Port.Close()
	p.free()
	return err
}

// portSays is a sentence of what the system says of a serial device.
func portSays(name string, err error) error {
	var p *serial.PortError
	if errors.As(err, &p) {
		switch p.Code() {
		case serial.PortBusy:
			return busy(name)
		case serial.PortNotFound:
			return fmt.Errorf("%s is gone: is its plug in?", name)
		case serial.PermissionDenied:
			return fmt.Errorf("this user may not open %s; on most systems the group dialout may", name)
		case serial.InvalidSpeed:
			return fmt.Errorf("%s does not know this speed", name)
		}
	}
	return fmt.Errorf("%s cannot be opened: %v", name, err)
}

func busy(name string) error {
	return fmt.Errorf("another program has %s open: close it there first", name)
}
