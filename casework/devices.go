package casework

import (
	"cmp"
	"context"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"

	"wexter/core/record"
	"wexter/store"
)

// Devices lists the instruments of a kind, module or adapter.
func (s *Shop) Devices(ctx context.Context, kind record.DeviceKind) (ds []record.Device, err error) {
	return s.DB.Read(ctx).Devices(kind)
}

// DevicesFor lists the instruments of a kind that may be used at a case: its car's own
// first, then those that are carried around.
func (s *Shop) DevicesFor(ctx context.Context, kind record.DeviceKind, number string) ([]record.Device, error) {
	all, err := s.Devices(ctx, kind)
	all = slices.DeleteFunc(all, func(d record.Device) bool { return d.For != "" && d.For != number })
	slices.SortStableFunc(all, func(a, b record.Device) int { return strings.Compare(b.For, a.For) })
	return all, err
}

// Device finds one by kind and address: only addresses that the shop has written
// down are ever spoken to.
func (s *Shop) Device(ctx context.Context, kind record.DeviceKind, address string) (record.Device, error) {
	ds, err := s.Devices(ctx, kind)
	if err != nil {
		return record.Device{}, err
	}
	for _, d := range ds {
		if d.Address == address {
			if d.Serial() {
				return d, nil // whoever opens it looks whether it is there
			}
			return d, reachable(address, true) // written down by an older Wexter, it may be one that is not spoken to
		}
	}
	return record.Device{}, problem("instrument", "%q is not among the shop's instruments; add it there first", address)
}

// NewDevice is an instrument to be written down.
type NewDevice struct {
	Kind          record.DeviceKind
	Name, Address string
	For           string        // number of the case at whose car it is; empty: it is carried around
	Driver        record.Driver // empty: it says itself what it is
	Baud          int           // of a serial device, whose name Address is
	Settings      record.DeviceSettings
	Sure          bool // the question about another computer was answered
}

// MostDevices is how many instruments a shop writes down.
const MostDevices = 200

// AddDevice writes an instrument down, with how it is spoken to. Addresses on this computer
// and serial devices that the system lists are taken as they are; another address must be on
// the shop's own network and is asked about once. It returns the instrument's id.
func (s *Shop) AddDevice(ctx context.Context, key string, n NewDevice) (string, error) {
	name, err := text("name", n.Name, 60)
	if err != nil {
		return "", err
	}
	serial, err := text("serial", n.Settings.Serial, 40)
	if err != nil {
		return "", err
	}
	n.Settings.Serial = serial
	d := record.Device{ID: newID(), Kind: n.Kind, Name: name, Address: strings.TrimSpace(n.Address), For: n.For, At: s.now(),
		Driver: cmp.Or(n.Driver, record.OwnLines), Baud: n.Baud, Settings: n.Settings}
	if err := fits(d.Check()); err != nil {
		return "", err
	}
	if err := s.reachable(d, n.Sure); err != nil {
		return "", err
	}
	if d.Name == "" {
		d.Name = d.Address
	}
	return s.do(ctx, key, func(tx store.Tx) (string, error) {
		ds, err := tx.Devices("")
		if err != nil {
			return "", err
		}
		if i := slices.IndexFunc(ds, func(x record.Device) bool { return x.Kind == d.Kind && x.Address == d.Address }); i >= 0 {
			return ds[i].ID, tx.KeepDevice(d) // the same one again, perhaps spoken to in another way
		}
		if len(ds) >= MostDevices {
			return "", problem("address", "%d instruments are written down; take one away first", MostDevices)
		}
		return d.ID, tx.KeepDevice(d)
	})
}

// reachable refuses an instrument that may not be spoken to: at a path that is no serial
// device of this computer, or at an address that is not the shop's.
func (s *Shop) reachable(d record.Device, sure bool) error {
	if !d.Serial() {
		return reachable(d.Address, sure)
	}
	var names []string
	if s.Ports != nil {
		var err error
		if names, err = s.Ports(); err != nil {
			return problem("address", "%v", err)
		}
	}
	if !slices.Contains(names, d.Address) {
		return problem("address", "%q is no serial device of this computer: is its plug in?", d.Address)
	}
	return nil
}

// reachable refuses an address that may not be spoken to: another program of this computer,
// or a computer elsewhere. One on the shop's own network is asked about unless it is sure.
func reachable(address string, sure bool) error {
	host, port, err := net.SplitHostPort(address)
	number, perr := strconv.Atoi(port)
	if err != nil || perr != nil || number < 1 || number > 65535 {
		return problem("address", "%q is no address; write it as 127.0.0.1:%d", address, record.FirstPort)
	}
	ip := net.ParseIP(host)
	switch {
	case ip == nil:
		return problem("address", "write the address in figures, such as 127.0.0.1:%d; a name could come to mean another computer", record.FirstPort)
	case ip.IsLoopback() && !record.OwnPort(number):
		return problem("address", "instruments of this computer answer at ports %d to %d; at %d another program may listen, and it is not spoken to", record.FirstPort, record.LastPort, number)
	case ip.IsLoopback():
		return nil
	case !ip.IsPrivate():
		return problem("address", "%s is not on the shop's own network", host)
	case !sure:
		return &Question{fmt.Sprintf("%s is another computer. Wexter would speak to it whenever this instrument is chosen. Is it the shop's own instrument?", host)}
	}
	return nil
}

// RemoveDevice takes an address away.
func (s *Shop) RemoveDevice(ctx context.Context, key, id string) error {
	_, err := s.do(ctx, key, func(tx store.Tx) (string, error) {
		return id, tx.RemoveDevice(id)
	})
	return err
}

// DeviceByID finds an instrument of the shop.
func (s *Shop) DeviceByID(ctx context.Context, id string) (record.Device, error) {
	return store.Get[record.Device](s.DB.Read(ctx), id)
}

// NoteMeasures writes down which channels an instrument said it has.
func (s *Shop) NoteMeasures(ctx context.Context, id string, channels []string) error {
	d, err := s.DeviceByID(ctx, id)
	if err != nil || slices.Equal(d.Settings.Measures, channels) || len(channels) > record.MostColumns {
		return err
	}
	return s.SetDevice(ctx, "", id, func(d *record.Device) error { d.Settings.Measures = channels; return nil })
}

// SetDevice changes how an instrument is called, read and calibrated. Where it is stays as
// it is: another address is another instrument.
func (s *Shop) SetDevice(ctx context.Context, key, id string, change func(*record.Device) error) error {
	_, err := s.do(ctx, key, func(tx store.Tx) (string, error) {
		d, err := store.Get[record.Device](tx, id)
		if err != nil {
			return "", err
		}
		was := d
		if err := change(&d); err != nil {
			return "", err
		}
		d.ID, d.Kind, d.Address, d.Driver, d.At, d.For = was.ID, was.Kind, was.Address, was.Driver, was.At, was.For
		if d.Name, err = text("name", d.Name, 60); err != nil {
			return "", err
		}
		if d.Name == "" {
			d.Name = d.Address
		}
		if d.Settings.Serial, err = text("serial", d.Settings.Serial, 40); err != nil {
			return "", err
		}
		if err := fits(d.Check()); err != nil {
			return "", err
		}
		return id, tx.Put(&d)
	})
	return err
}
