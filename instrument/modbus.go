package instrument

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"math"
	"slices"
	"time"

	"github.com/simonvetter/modbus"

	"wexter/core/record"
)

// registerWait is how long a Modbus unit may take to answer a request.
const registerWait = time.Second

// Modbus is a connection to a Modbus unit whose registers are read again and again, over
// the network or at a serial device (MODBUS Application Protocol Specification V1.1b3,
// Modbus Organization, 2012). It has no clock: a value counts from when it was asked for.
type Modbus struct {
	about  About
	format record.ModbusFormat
	spans  []span
	client *modbus.ModbusClient
	free   func() // lets a serial device go
	stamps stamps
	due    time.Time
	n      int64
	silent int // requests in a row without an answer
}

// span is registers that are read in one request, and the values that lie in them.
type span struct {
	function, from, words int
	registers             []record.ModbusRegister
}

// mostSilent is how many requests in a row may stay without an answer before the unit
// counts as lost.
const mostSilent = 3

// openModbus connects to the unit of a device.
func (d Dialer) openModbus(ctx context.Context, dev record.Device) (*Modbus, error) {
	m := &Modbus{about: aboutOf(dev), format: dev.Settings.Modbus, free: func() {}, stamps: stamps{time.Now()}}
	m.about.Rate = m.format.Rate
	for _, r := range m.format.Registers {
		m.about.add(r.Scaling)
	}
	m.spans = spansOf(m.format.Registers)
	conf := modbus.ClientConfiguration{URL: "tcp://" + dev.Address, Timeout: cmp.Or(d.Patience, registerWait), Logger: log.New(io.Discard, "", 0)}
	if dev.Serial() {
		if err := d.mayOpen(dev.Address); err != nil {
			return nil, err
		}
		free, err := lockPort(dev.Address)
		if err != nil {
			return nil, err
		}
		m.free = free
		conf.URL, conf.Speed = "rtu://"+dev.Address, uint(dev.Baud)
		conf.Parity = map[string]uint{"even": modbus.PARITY_EVEN, "odd": modbus.PARITY_ODD}[m.format.Parity]
	}
	var err error
	if m.client, err = modbus.NewClient(&conf); err == nil {
		err = m.client.Open()
	}
	if err != nil {
		m.free()
		if dev.Serial() {
			return nil, portSays(dev.Address, err)
		}
		return nil, fmt.Errorf("nothing answers at %s", dev.Address)
	}
	if err := m.client.SetUnitId(uint8(m.format.UnitID)); err != nil {
		m.Close()
		return nil, err
	}
	if _, err := m.take(ctx); err != nil && len(m.spans) > 0 { // what is set up wrong is said before anything is begun
		m.Close()
		return nil, err
	}
	return m, nil
}

// spansOf puts registers that lie side by side into one request.
func spansOf(registers []record.ModbusRegister) (out []span) {
	rs := slices.Clone(registers)
	slices.SortFunc(rs, func(a, b record.ModbusRegister) int {
		return cmp.Or(cmp.Compare(a.Function, b.Function), cmp.Compare(a.Address, b.Address))
	})
	for _, r := range rs {
		if n := len(out); n > 0 && out[n-1].function == r.Function && out[n-1].from+out[n-1].words == r.Address {
			out[n-1].words += r.Type.Words()
			out[n-1].registers = append(out[n-1].registers, r)
			continue
		}
		out = append(out, span{r.Function, r.Address, r.Type.Words(), []record.ModbusRegister{r}})
	}
	return out
}

// About says what the unit is.
func (m *Modbus) About() About { return m.about }

// Do refuses: registers are only read here.
func (m *Modbus) Do(context.Context, Command) error { return errByHand }

// Close ends the connection.
func (m *Modbus) Close() error {
	err := m.client.Close()
	m.free()
	return err
}

// Next waits until the registers are due and reads them.
func (m *Modbus) Next(ctx context.Context) (Reading, error) {
	select {
	case <-ctx.Done():
		return Reading{}, ctx.Err()
	case <-time.After(time.Until(m.due)):
	}
	period := time.Duration(float64(time.Second) / m.format.Rate)
	if m.due = m.due.Add(period); time.Until(m.due) < 0 { // a slow unit is read as fast as it answers
		m.due = time.Now().Add(period)
	}
	r, err := m.take(ctx)
	switch {
	case err == nil:
		m.silent = 0
		return r, nil
	case errors.Is(err, modbus.ErrRequestTimedOut) && m.silent < mostSilent, errors.Is(err, modbus.ErrBadCRC), errors.Is(err, modbus.ErrShortFrame), errors.Is(err, modbus.ErrProtocolError):
		m.silent++
		m.n++
		return Reading{N: m.n, Time: m.stamps.now(), Fault: err.Error(), Lost: 1}, nil
	}
	return Reading{}, err
}

// take reads all registers once.
func (m *Modbus) take(context.Context) (Reading, error) {
	began := time.Now()
	m.n++
	r := Reading{N: m.n}
	if len(m.spans) == 0 {
		r.Fault = "nobody has said yet what its registers hold"
	}
	for _, s := range m.spans {
		kind := modbus.HOLDING_REGISTER
		if s.function == 4 {
			kind = modbus.INPUT_REGISTER
		}
		words, err := m.client.ReadRegisters(uint16(s.from), uint16(s.words), kind)
		if err != nil {
			return r, registerSays(m.about.Name, s, err)
		}
		for _, x := range s.registers {
			v, says := RegisterValue(x, words[x.Address-s.from:])
			if says != "" {
				r.Fault = says
				continue
			}
			r.Values = append(r.Values, v)
		}
	}
	took := time.Since(began)
	r.Time, r.Within = m.stamps.at(began.Add(took/2)), took.Seconds()
	if r.Fault != "" {
		r.Values = nil
	}
	return r, nil
}

// registerSays is a sentence of what went wrong with a request.
func registerSays(name string, s span, err error) error {
	switch {
	case errors.Is(err, modbus.ErrIllegalDataAddress):
		return fmt.Errorf("%s has no register %d: look at the address, some lists count from 1: %w", name, s.from, err)
	case errors.Is(err, modbus.ErrIllegalFunction):
		return fmt.Errorf("%s does not know function %d: %w", name, s.function, err)
	case errors.Is(err, modbus.ErrRequestTimedOut):
		return fmt.Errorf("%s does not answer: look at its number, the speed and the parity: %w", name, err)
	case errors.Is(err, modbus.ErrBadCRC), errors.Is(err, modbus.ErrShortFrame), errors.Is(err, modbus.ErrProtocolError), errors.Is(err, modbus.ErrBadUnitId), errors.Is(err, modbus.ErrBadTransactionId):
		return fmt.Errorf("%s sent an answer that is none: %w", name, err)
	}
	return fmt.Errorf("%s no longer answers: %w", name, err)
}

// RegisterValue reads a value from the registers it begins with, in SI, or says in words
// why it cannot be one.
func RegisterValue(r record.ModbusRegister, words []uint16) (Value, string) {
	if len(words) < r.Type.Words() || r.Type.Words() == 0 {
		return Value{}, "the answer is too short"
	}
	raw := uint32(words[0])
	if r.Type.Words() == 2 {
		high, low := uint32(words[0]), uint32(words[1])
		if r.LowFirst {
			high, low = low, high
		}
		raw = high<<16 | low
	}
	var sent float64
	switch r.Type {
	case record.Uint16, record.Uint32:
		sent = float64(raw)
	case record.Int16:
		sent = float64(int16(raw))
	case record.Int32:
		sent = float64(int32(raw))
	case record.Float32:
		sent = float64(math.Float32frombits(raw))
	}
	v := r.Of(sent)
	c := channelOf(r.Scaling)
	si := r.SI(v)
	if c.outside(si) {
		return Value{}, fmt.Sprintf("register %d reads %.4g %s, beyond the range of %.4g to %.4g: look at its type, the order of its words and its unit", r.Address, v, r.Unit, r.Low, r.High)
	}
	return Value{Channel: c.Key, Value: si}, ""
}
