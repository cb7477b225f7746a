package standin

import (
	"context"
	"encoding/binary"
	"errors"
	"io"
	"log"
	"math"
	"net"
	"sync"
	"time"

	"github.com/simonvetter/modbus"

	"wexter/instrument"
)

// Registers offers what a simulated module reads in the registers of a Modbus unit: as
// input registers from 0 on the pressure in Pa as a whole number with its sign, from 2 on
// as a float with the high word first, from 10 on with the low word first, and at 4 the
// wall's temperature in tenths of a kelvin.
type Registers struct {
	UnitID uint8

	mu     sync.Mutex
	words  map[uint16]uint16
	mishap string
}

// Take puts a reading into the registers.
func (g *Registers) Take(r instrument.Reading) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.words == nil {
		g.words = map[uint16]uint16{}
	}
	v, ok := r.Of(instrument.PressureKey)
	bits := math.Float32bits(float32(math.NaN())) // nothing was measured
	if ok {
		g.words[0] = uint16(int16(math.Round(v.Value)))
		bits = math.Float32bits(float32(v.Value))
	}
	g.words[2], g.words[3] = uint16(bits>>16), uint16(bits)
	g.words[10], g.words[11] = uint16(bits), uint16(bits>>16)
	if wall, ok := r.Of(instrument.WallKey); ok {
		g.words[4] = uint16(math.Round(10 * wall.Value))
	}
}

// Do changes the mishap; false when the word is none.
func (g *Registers) Do(word string) bool {
	switch word {
	case Silence, Garbage, NoMishap:
		g.mu.Lock()
		g.mishap = word
		g.mu.Unlock()
		return true
	}
	return false
}

// Serve answers requests over the network until ctx ends. The library that answers opens
// its address itself, so the listener only says which one.
func (g *Registers) Serve(ctx context.Context, l net.Listener) error {
	address := l.Addr().String()
	l.Close()
	s, err := modbus.NewServer(&modbus.ServerConfiguration{URL: "tcp://" + address, Timeout: time.Minute, MaxClients: 8, Logger: log.New(io.Discard, "", 0)}, g)
	if err == nil {
		err = s.Start()
	}
	if err != nil {
		return err
	}
	<-ctx.Done()
	return s.Stop()
}

// Talk answers requests at a serial device until it is closed (MODBUS over Serial Line
// Specification and Implementation Guide V1.02, Modbus Organization, 2006).
func (g *Registers) Talk(line io.ReadWriter) {
	for {
		q := make([]byte, 8)
		if _, err := io.ReadFull(line, q); err != nil {
			return
		}
		if crc(q) != 0 {
			continue
		}
		out, err := g.HandleInputRegisters(&modbus.InputRegistersRequest{UnitId: q[0], Addr: binary.BigEndian.Uint16(q[2:]), Quantity: binary.BigEndian.Uint16(q[4:])})
		a := []byte{q[0], q[1], byte(2 * len(out))}
		for _, w := range out {
			a = binary.BigEndian.AppendUint16(a, w)
		}
		switch {
		case q[0] != g.UnitID || errors.Is(err, modbus.ErrServerDeviceBusy):
			continue // it is silent
		case q[1] != 4:
			a = []byte{q[0], q[1] | 0x80, 1}
		case err != nil:
			a = []byte{q[0], q[1] | 0x80, 2}
		}
		if _, err := line.Write(binary.LittleEndian.AppendUint16(a, crc(a))); err != nil {
			return
		}
	}
}

// crc is the checksum of a frame; over a frame with its own it is nought.
func crc(b []byte) uint16 {
	c := uint16(0xFFFF)
	for _, x := range b {
		c ^= uint16(x)
		for range 8 {
			odd := c&1 == 1
			if c >>= 1; odd {
				c ^= 0xA001
			}
		}
	}
	return c
}

// HandleInputRegisters answers a request for input registers.
func (g *Registers) HandleInputRegisters(r *modbus.InputRegistersRequest) ([]uint16, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if r.UnitId != g.UnitID {
		return nil, modbus.ErrGWTargetFailedToRespond
	}
	switch g.mishap {
	case Silence:
		return nil, modbus.ErrServerDeviceBusy
	case Garbage:
		out := make([]uint16, r.Quantity)
		for i := range out {
			out[i] = 0x7FC0
		}
		return out, nil
	}
	var out []uint16
	for i := range r.Quantity {
		w, ok := g.words[r.Addr+i]
		if !ok {
			return nil, modbus.ErrIllegalDataAddress
		}
		out = append(out, w)
	}
	return out, nil
}

// HandleHoldingRegisters refuses: the unit has none.
func (g *Registers) HandleHoldingRegisters(*modbus.HoldingRegistersRequest) ([]uint16, error) {
	return nil, modbus.ErrIllegalFunction
}

// HandleCoils refuses: the unit has none.
func (g *Registers) HandleCoils(*modbus.CoilsRequest) ([]bool, error) {
	return nil, modbus.ErrIllegalFunction
}

// HandleDiscreteInputs refuses: the unit has none.
func (g *Registers) HandleDiscreteInputs(*modbus.DiscreteInputsRequest) ([]bool, error) {
	return nil, modbus.ErrIllegalFunction
}
