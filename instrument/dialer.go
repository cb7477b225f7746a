package instrument

import (
	"cmp"
	"context"
	"fmt"
	"net"
	"time"

	"wexter/core/record"
)

// How long instruments usually take: to be reached and to say what they are, for a
// reading of a module, and for a line of a scan adapter.
const (
	reachWait  = 3 * time.Second
	moduleWait = 3 * time.Second
	lineWait   = 5 * time.Second
	silentWait = 90 * time.Second // of what prints numbers, once a minute at the slowest
)

// Dialer reaches instruments by their address.
type Dialer struct {
	// Patience is how long an instrument may take to answer, where that is longer than
	// usual: over a poor radio link, or on a computer that has much else to do. 0 is usual.
	Patience time.Duration
	// Allowed are names of serial devices that may be opened though the system does not list
	// them. Only who starts the program says so.
	Allowed []string
	// Pool lets several use one scan adapter at a time; nil: the first has it to himself.
	Pool *Pool
	// Wire opens a connection to an address; nil is a socket. Tests join instruments in memory.
	Wire func(ctx context.Context, address string) (net.Conn, error)
}

// reach opens a connection.
func (d Dialer) reach(ctx context.Context, address string) (net.Conn, error) {
	if d.Wire != nil {
		return d.Wire(ctx, address)
	}
	n := net.Dialer{Timeout: max(d.Patience, reachWait)}
	return n.DialContext(ctx, "tcp", address)
}

// Module connects to a module; the error is a sentence.
func (d Dialer) Module(ctx context.Context, address string) (*Module, error) {
	conn, err := d.reach(ctx, address)
	if err != nil {
		return nil, fmt.Errorf("nothing answers at %s", address)
	}
	return attach(ctx, newLink(conn), address, cmp.Or(d.Patience, moduleWait))
}

// Adapter connects to a scan adapter; the error is a sentence.
func (d Dialer) Adapter(ctx context.Context, address string) (*Adapter, error) {
	conn, err := d.reach(ctx, address)
	if err != nil {
		return nil, fmt.Errorf("nothing answers at %s: is the adapter plugged in and on?", address)
	}
	return attachAdapter(conn, address, cmp.Or(d.Patience, lineWait))
}

// Instrument connects to an instrument by its driver; the error is a sentence. Of a scan
// adapter the live data are read, those of want; none means all that are usually watched.
func (d Dialer) Instrument(ctx context.Context, dev record.Device, want []byte) (Instrument, error) {
	if dev.Kind == record.Adapter {
		s, err := d.Scanner(ctx, dev)
		if err != nil {
			return nil, err
		}
		p, err := Poll(ctx, s, want)
		if err != nil {
			s.Close()
			return nil, err
		}
		return p, nil
	}
	if dev.Driver == record.ModbusUnit {
		m, err := d.openModbus(ctx, dev)
		if err != nil {
			return nil, err
		}
		return m, nil
	}
	l, err := d.link(ctx, dev)
	switch {
	case err != nil:
		return nil, err
	case dev.Driver == record.NumberLines:
		return attachLines(l, dev, cmp.Or(d.Patience, silentWait)), nil
	}
	m, err := attach(ctx, l, dev.Address, cmp.Or(d.Patience, moduleWait))
	if err != nil {
		return nil, err
	}
	return m, nil
}

// Scanner connects to a scan adapter by its driver; the error is a sentence.
func (d Dialer) Scanner(ctx context.Context, dev record.Device) (Scanner, error) {
	if dev.Driver != record.ATCommands {
		a, err := d.Adapter(ctx, dev.Address)
		if err != nil {
			return nil, err
		}
		return a, nil
	}
	if d.Pool == nil {
		return d.openAT(ctx, dev)
	}
	return d.Pool.scanner(dev.Address, func() (Scanner, error) { return d.openAT(ctx, dev) })
}

// openAT connects to a scan adapter with AT commands.
func (d Dialer) openAT(ctx context.Context, dev record.Device) (Scanner, error) {
	l, err := d.link(ctx, dev)
	if err != nil {
		return nil, err
	}
	a, err := attachAT(ctx, l, dev.Address, cmp.Or(d.Patience, lineWait))
	if err != nil {
		return nil, err
	}
	return a, nil
}

// link opens the socket or the serial device of an instrument.
func (d Dialer) link(ctx context.Context, dev record.Device) (*link, error) {
	if dev.Serial() {
		p, err := d.serial(dev.Address, dev.Baud)
		if err != nil {
			return nil, err
		}
		return newLink(p), nil
	}
	conn, err := d.reach(ctx, dev.Address)
	if err != nil {
		return nil, fmt.Errorf("nothing answers at %s: is the instrument on?", dev.Address)
	}
	return newLink(conn), nil
}

// Dial connects to a module with the usual patience.
func Dial(ctx context.Context, address string) (*Module, error) { return Dialer{}.Module(ctx, address) }

// DialAdapter connects to a scan adapter with the usual patience.
func DialAdapter(ctx context.Context, address string) (*Adapter, error) {
	return Dialer{}.Adapter(ctx, address)
}
