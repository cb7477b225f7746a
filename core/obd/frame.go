package obd

import (
	"fmt"
	"slices"
)

// Message is one answer of one control unit: Data[0] is the service with 0x40 added
// (7F for a refusal). ECU is the unit's address as written, or empty when the text
// had no headers.
type Message struct {
	ECU  string
	Data []byte
	Line int // where it began, 1-based; 0 when there is no text
}

// Assembler puts CAN frames together to messages (ISO 15765-2, from memory).
type Assembler struct {
	open map[string]*partial
}

type partial struct {
	Message
	length int
	next   byte
	broken bool
}

// Frame takes the data bytes of one CAN frame, protocol byte first. It returns the
// message when one is whole; the error is a sentence about a frame that cannot be
// used.
func (a *Assembler) Frame(ecu string, d []byte, line int) (*Message, error) {
	if len(d) == 0 {
		return nil, fmt.Errorf("the frame is empty")
	}
	if a.open == nil {
		a.open = map[string]*partial{}
	}
	switch d[0] >> 4 {
	case 0:
		n := int(d[0])
		if n == 0 || n > len(d)-1 {
			return nil, fmt.Errorf("the frame announces %d bytes and holds %d", n, len(d)-1)
		}
		return &Message{ecu, slices.Clone(d[1 : 1+n]), line}, nil
	case 1:
		if len(d) < 3 {
			return nil, fmt.Errorf("the first frame of a long message is cut short")
		}
		var err error
		if p := a.open[ecu]; p != nil && !p.broken {
			err = fmt.Errorf("a new long message begins before the one of line %d was whole", p.Line)
		}
		n := int(d[0]&15)<<8 | int(d[1])
		p := &partial{Message: Message{ecu, slices.Clone(d[2:]), line}, length: n, next: 1}
		a.open[ecu] = p
		return a.whole(p), err
	case 2:
		p := a.open[ecu]
		switch {
		case p == nil:
			return nil, fmt.Errorf("a later frame of a long message without its first")
		case p.broken:
			return nil, nil // said already
		case d[0]&15 != p.next:
			p.broken = true
			return nil, fmt.Errorf("frame %d of the long message of line %d was expected and %d came: the message is left out", p.next, p.Line, d[0]&15)
		}
		p.next = (p.next + 1) & 15
		p.Data = append(p.Data, d[1:]...)
		return a.whole(p), nil
	case 3:
		return nil, nil // flow control
	}
	return nil, fmt.Errorf("%02X is no protocol byte of a CAN frame", d[0])
}

func (a *Assembler) whole(p *partial) *Message {
	if len(p.Data) < p.length {
		return nil
	}
	delete(a.open, p.ECU)
	p.Data = p.Data[:p.length]
	return &p.Message
}

// Left lists, as sentences, the long messages that never became whole.
func (a *Assembler) Left() []string {
	var out []string
	for _, p := range a.open {
		if !p.broken {
			out = append(out, fmt.Sprintf("line %d: a message of %d bytes ends after %d; it is left out", p.Line, p.length, len(p.Data)))
		}
	}
	slices.Sort(out)
	return out
}

// Frames splits a message into the data of CAN frames of eight bytes, padded.
func Frames(data []byte) [][]byte {
	pad := func(f []byte) []byte {
		for len(f) < 8 {
			f = append(f, 0)
		}
		return f
	}
	if len(data) <= 7 {
		return [][]byte{pad(append([]byte{byte(len(data))}, data...))}
	}
	out := [][]byte{append([]byte{0x10 | byte(len(data)>>8), byte(len(data))}, data[:6]...)}
	for rest, n := data[6:], byte(1); len(rest) > 0; n++ {
		k := min(7, len(rest))
		out = append(out, pad(append([]byte{0x20 | n&15}, rest[:k]...)))
		rest = rest[k:]
	}
	return out
}

// CRC is the check byte of SAE J1850 (polynomial 1D, from memory).
func CRC(d []byte) byte {
	c := byte(0xFF)
	for _, b := range d {
		c ^= b
		for range 8 {
			if c&0x80 != 0 {
				c = c<<1 ^ 0x1D
			} else {
				c <<= 1
			}
		}
	}
	return ^c
}

// Sum is the check byte of ISO 9141-2 and ISO 14230: the sum of all bytes.
func Sum(d []byte) byte {
	var s byte
	for _, b := range d {
		s += b
	}
	return s
}
