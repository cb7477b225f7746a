package instrument

import (
	"cmp"
	"context"
	"fmt"
	"net"
	"time"
)

// How long instruments usually take: to be reached and to say what they are, for a
// reading of a module, and for a line of a scan adapter.
const (
	reachWait  = 3 * time.Second
	moduleWait = 3 * time.Second
	lineWait   = 5 * time.Second
)

// Dialer reaches instruments by their address.
type Dialer struct {
	// Patience is how long an instrument may take to answer, where that is longer than
	// usual: over a poor radio link, or on a computer that has much else to do. 0 is usual.
	Patience time.Duration
}

// reach opens a connection.
func (d Dialer) reach(ctx context.Context, address string) (net.Conn, error) {
	n := net.Dialer{Timeout: max(d.Patience, reachWait)}
	return n.DialContext(ctx, "tcp", address)
}

// Module connects to a pressure module; the error is a sentence.
func (d Dialer) Module(ctx context.Context, address string) (*Module, error) {
	conn, err := d.reach(ctx, address)
	if err != nil {
		return nil, fmt.Errorf("nothing answers at %s", address)
	}
	return attach(conn, address, cmp.Or(d.Patience, moduleWait))
}

// Adapter connects to a scan adapter; the error is a sentence.
func (d Dialer) Adapter(ctx context.Context, address string) (*Adapter, error) {
	conn, err := d.reach(ctx, address)
	if err != nil {
		return nil, fmt.Errorf("nothing answers at %s: is the adapter plugged in and on?", address)
	}
	return attachAdapter(conn, address, cmp.Or(d.Patience, lineWait))
}

// Dial connects to a pressure module with the usual patience.
func Dial(ctx context.Context, address string) (*Module, error) { return Dialer{}.Module(ctx, address) }

// DialAdapter connects to a scan adapter with the usual patience.
func DialAdapter(ctx context.Context, address string) (*Adapter, error) {
	return Dialer{}.Adapter(ctx, address)
}

// Attach greets a module on a connection that is open, and closes it when something else
// answers; the address is for the sentence.
func Attach(conn net.Conn, address string) (*Module, error) { return attach(conn, address, moduleWait) }

// AttachAdapter greets a scan adapter on a connection that is open, and closes it when
// something else answers; the address is for the sentence.
func AttachAdapter(conn net.Conn, address string) (*Adapter, error) {
	return attachAdapter(conn, address, lineWait)
}
