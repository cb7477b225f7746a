package ingest

import (
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"wexter/core/obd"
)

// MaxHexBytes is the largest scan text that is read.
const MaxHexBytes = 1 << 20

// ReadScan reads a scan written as hexadecimal text, one request or answer a line:
// with or without headers, spaces and frame numbers, from CAN and from the older
// buses. Lines that cannot be read are left out and said in the warnings; an error
// means that nothing in the text is an answer.
func ReadScan(data []byte) (obd.Scan, error) {
	if len(data) > MaxHexBytes {
		return obd.Scan{}, fmt.Errorf("the text is larger than %d MB; a scan is some kilobytes", MaxHexBytes>>20)
	}
	data, err := plainText(data)
	if err != nil {
		return obd.Scan{}, fmt.Errorf("%s", strings.NewReplacer("a CSV log", "a scan", "save the readings as CSV in UTF-8", "save the answers as text").Replace(err.Error()))
	}
	if !utf8.Valid(data) {
		return obd.Scan{}, fmt.Errorf("this is not text in UTF-8; save the answers as text")
	}
	h := hexReader{}
	for n, line := range strings.Split(strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(string(data)), "\n") {
		h.line(n+1, line)
	}
	h.endIndexed()
	h.warnings = append(h.warnings, h.frames.Left()...)
	if len(h.messages) == 0 {
		if len(h.warnings) > 0 {
			return obd.Scan{}, fmt.Errorf("no answer of a car is in this text; %s", h.warnings[0])
		}
		return obd.Scan{}, fmt.Errorf("the text is empty; lines such as \"41 0C 1A F8\" were expected")
	}
	s := obd.Read(h.messages)
	s.Warnings = append(h.warnings, s.Warnings...)
	return s, nil
}

type hexReader struct {
	messages []obd.Message
	frames   obd.Assembler
	warnings []string
	// Lines "0: …", "1: …" after a line with the length, as printed without headers.
	length, lengthLine int
	indexed            []byte
	indexNext          int
	inIndexed          bool
	lastIndexed        int // number of the frame read last
}

func (h *hexReader) warn(line int, format string, a ...any) {
	const most = 60
	if len(h.warnings) < most {
		h.warnings = append(h.warnings, fmt.Sprintf("line %d: ", line)+fmt.Sprintf(format, a...))
	} else if len(h.warnings) == most {
		h.warnings = append(h.warnings, "more lines could not be read")
	}
}

func (h *hexReader) line(n int, text string) {
	text, _, _ = strings.Cut(text, "#")
	text = strings.TrimSpace(text)
	if text == "" {
		return
	}
	request := false
	for strings.HasPrefix(text, ">") {
		text, request = strings.TrimSpace(text[1:]), true
	}
	// Some adapters print the answer behind what they were doing.
	for _, w := range []string{"searching", "bus init"} {
		if len(text) >= len(w) && strings.EqualFold(text[:len(w)], w) {
			text = strings.TrimLeft(text[len(w):], ".: ")
			if len(text) >= 2 && strings.EqualFold(text[:2], "ok") {
				text = strings.TrimSpace(text[2:])
			}
		}
	}
	if text == "" {
		return
	}
	if i, rest, ok := frameNumber(text); ok {
		h.numbered(n, i, rest)
		return
	}
	compact := strings.Join(strings.Fields(text), "")
	if !isHex(compact) {
		if !request {
			h.words(n, text)
		}
		return
	}
	if request {
		return
	}
	if len(compact) == 3 {
		h.endIndexed()
		_, _ = fmt.Sscanf(compact, "%x", &h.length)
		h.lengthLine = n
		return
	}
	h.endIndexed()
	if len(compact)%2 == 1 { // an eleven-bit address before whole bytes
		if len(compact) < 5 || compact[0] != '7' {
			h.warn(n, "%q has an odd number of hex digits; bytes are written with two", clip(text))
			return
		}
		b, _ := hex.DecodeString(compact[3:])
		h.can(n, strings.ToUpper(compact[:3]), b)
		return
	}
	b, err := hex.DecodeString(compact)
	if err != nil || len(b) > 300 {
		h.warn(n, "%q is no answer: an answer has at most some dozen bytes", clip(text))
		return
	}
	h.bytes(n, text, b)
}

// bytes reads a line of whole bytes by what it begins with.
func (h *hexReader) bytes(n int, text string, b []byte) {
	switch {
	case len(b) > 5 && b[0] == 0x18 && (b[1] == 0xDA || b[1] == 0xDB):
		if b[1] == 0xDA && b[2] == 0xF1 {
			h.can(n, fmt.Sprintf("%02X", b[3]), b[4:])
		} // otherwise a request to the car
	case len(b) > 4 && b[0] == 0x48 && b[1] == 0x6B, len(b) > 4 && b[0]&0xC0 == 0x80 && b[1] == 0xF1:
		h.oldBus(n, b)
	case b[0] >= 1 && b[0] <= 0x0A && len(b) <= 3 && !(len(b) > 1 && answers(b[1]) && int(b[0]) == len(b)-1):
		// a request without its sign
	case len(b) > 3 && (b[0] == 0x68 && b[1] == 0x6A || b[0]&0xC0 == 0xC0 && b[1] == 0x33 && b[2] == 0xF1):
		// a request on an older bus
	case answers(b[0]):
		h.messages = append(h.messages, obd.Message{Data: b, Line: n})
	case len(b) > 2 && (b[0] < 8 && answers(b[1]) || b[0]>>4 == 1 && answers(b[2])), b[0]>>4 == 2 && len(b) <= 8:
		h.can(n, "", b) // frames without their address
	default:
		h.warn(n, "%q does not begin like an answer (41 to 4A, or a header before it)", clip(text))
	}
}

// answers reports whether a byte begins an answer.
func answers(b byte) bool { return b >= 0x41 && b <= 0x4A || b == 0x7F }

func (h *hexReader) can(n int, ecu string, b []byte) {
	if len(ecu) == 3 && ecu < "7E8" {
		return // 7DF and 7E0 to 7E7 are requests
	}
	m, err := h.frames.Frame(ecu, b, n)
	if err != nil {
		h.warn(n, "%v", err)
	}
	if m == nil {
		return
	}
	if len(m.Data) == 0 || !answers(m.Data[0]) {
		h.warn(n, "the message does not begin like an answer")
		return
	}
	h.messages = append(h.messages, *m)
}

// oldBus reads a line with a three-byte header: SAE J1850, ISO 9141-2 (48 6B unit)
// or ISO 14230 (format F1 unit). The last byte is a check over all before it.
func (h *hexReader) oldBus(n int, b []byte) {
	ecu := fmt.Sprintf("%02X", b[2])
	body, check := b[:len(b)-1], b[len(b)-1]
	data := b[3:]
	if check == obd.CRC(body) || check == obd.Sum(body) {
		data = body[3:]
	} else if k := int(b[0] & 0x3F); b[0]&0xC0 == 0x80 && k > 0 && k == len(b)-3 || b[0] == 0x48 && wholeWithout(data) {
		// written down without its check byte
	} else {
		h.warn(n, "the check byte is %02X, by reckoning it would be %02X or %02X: the line is damaged and left out", check, obd.Sum(body), obd.CRC(body))
		return
	}
	if len(data) == 0 || !answers(data[0]) {
		h.warn(n, "the message does not begin like an answer")
		return
	}
	h.messages = append(h.messages, obd.Message{ECU: ecu, Data: slices.Clone(data), Line: n})
}

// wholeWithout reports whether the data are whole though no check byte follows.
func wholeWithout(d []byte) bool {
	switch d[0] {
	case 0x41:
		k, ok := 0, false
		if len(d) > 1 {
			k, ok = obd.Length(d[1])
		}
		return ok && len(d) == 2+k
	case 0x43, 0x47, 0x4A:
		return len(d) == 7
	case 0x44:
		return len(d) == 1
	case 0x49:
		return len(d) == 7
	}
	return false
}

// numbered gathers "0: 49 02 01 …" lines. Without headers a line cannot say which
// unit it is of.
func (h *hexReader) numbered(n, i int, rest string) {
	b, err := hex.DecodeString(strings.Join(strings.Fields(rest), ""))
	if err != nil {
		h.warn(n, "%q behind the frame number is not hex", clip(rest))
		return
	}
	if i == 0 && !(h.inIndexed && h.lastIndexed == 15) {
		if h.inIndexed {
			h.endIndexed()
		}
		h.inIndexed, h.indexed, h.indexNext = true, nil, 0
		if h.lengthLine == 0 {
			h.lengthLine = n
		}
	}
	if !h.inIndexed {
		h.warn(n, "frame %X of a long message without its first", i)
		return
	}
	if i != h.indexNext {
		h.warn(n, "frame %X was expected and %X came; when several units answer at once, read them with headers. The message is left out", h.indexNext, i)
		h.inIndexed, h.indexed, h.length, h.lengthLine = false, nil, 0, 0
		return
	}
	h.lastIndexed, h.indexNext = i, (i+1)&15
	h.indexed = append(h.indexed, b...)
}

func (h *hexReader) endIndexed() {
	if h.inIndexed {
		d := h.indexed
		switch {
		case h.length > len(d):
			h.warn(h.lengthLine, "a message of %d bytes ends after %d; it is left out", h.length, len(d))
			d = nil
		case h.length > 0:
			d = d[:h.length]
		}
		if len(d) > 0 && answers(d[0]) {
			h.messages = append(h.messages, obd.Message{Data: slices.Clone(d), Line: h.lengthLine})
		} else if len(d) > 0 {
			h.warn(h.lengthLine, "the message does not begin like an answer")
		}
	} else if h.length > 0 {
		h.warn(h.lengthLine, "a length of %d bytes and nothing behind it", h.length)
	}
	h.inIndexed, h.indexed, h.length, h.lengthLine = false, nil, 0, 0
}

// frameNumber splits "1: 4A 4D …".
func frameNumber(text string) (int, string, bool) {
	i := strings.IndexByte(text, ':')
	if i != 1 || !isHex(text[:1]) {
		return 0, "", false
	}
	var n int
	_, _ = fmt.Sscanf(text[:1], "%x", &n)
	return n, text[2:], true
}

// words are what an adapter says instead of an answer.
func (h *hexReader) words(n int, text string) {
	low := strings.ToLower(text)
	switch {
	case low == "ok", strings.HasPrefix(low, "at"), strings.HasPrefix(low, "waiting"):
	case strings.Contains(low, "no data"):
		h.warn(n, "no unit answered this request")
	case strings.Contains(low, "error"), strings.Contains(low, "unable"), strings.Contains(low, "fail"), strings.Contains(low, "stopped"), strings.Contains(low, "full"), text == "?":
		h.warn(n, "the adapter could not do it: %q", clip(text))
	default:
		h.warn(n, "%q is neither hex nor a word of an adapter", clip(text))
	}
}

func isHex(s string) bool {
	return s != "" && strings.Trim(s, "0123456789abcdefABCDEF") == ""
}
