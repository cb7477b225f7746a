package obd

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Version names the decoding; it is kept with a scan beside its raw text.
const Version = "obd/1"

// Code is a trouble code with its status in one unit.
type Code struct {
	Code   string     `json:"code"`
	Status CodeStatus `json:"status"`
	ECU    string     `json:"ecu"`
}

// Freeze is a freeze frame: the code that took it, and the data at that moment.
type Freeze struct {
	Code string           `json:"code"`
	ECU  string           `json:"ecu"`
	Data map[string]Value `json:"data"`
}

// Text is something a unit says about itself in letters.
type Text struct {
	ECU  string `json:"ecu"`
	Name string `json:"name"`
	Text string `json:"text"`
}

// Scan is what all units answered. Maps are keyed by PID in two hex digits.
type Scan struct {
	Codes     []Code
	Asked     map[CodeStatus]bool // statuses that were answered, also with no code at all
	Lamp      *bool               // nil when no unit told
	Readiness map[string]string
	ThisTrip  map[string]string // readiness of this drive cycle, PID 41
	Live      map[string]Value
	LiveECU   string
	Others    map[string]map[string]Value // live data of further units
	Freeze    []Freeze
	Tests     []TestResult
	VIN       string
	Texts     []Text
	Cleared   bool // a unit confirmed service 04
	Units     []string
	Supported map[byte][]byte // by service: the PIDs, monitors or items that the units announce
	Warnings  []string
}

// Read joins messages to a scan. What cannot be read is left out and said.
func Read(messages []Message) Scan {
	s := Scan{Asked: map[CodeStatus]bool{}, Readiness: map[string]string{}, ThisTrip: map[string]string{}, Live: map[string]Value{}, Others: map[string]map[string]Value{}, Supported: map[byte][]byte{}}
	r := reader{Scan: &s, vin: map[string][]Message{}, codes: map[string]int{}}
	for _, m := range messages {
		if !slices.Contains(s.Units, m.ECU) {
			s.Units = append(s.Units, m.ECU)
		}
		r.message(m)
	}
	r.finish()
	return s
}

type reader struct {
	*Scan
	vin   map[string][]Message // old-bus parts of service 09, by unit and item
	order []string
	codes map[string]int // number of codes PID 01 told, by unit
}

func (r *reader) warn(m Message, format string, a ...any) {
	t := fmt.Sprintf(format, a...)
	if m.Line > 0 {
		t = fmt.Sprintf("line %d: %s", m.Line, t)
	}
	r.Warnings = append(r.Warnings, t)
}

var refusals = map[byte]string{0x10: "refuses", 0x11: "does not have this service", 0x12: "does not have this item", 0x13: "finds the request wrong", 0x21: "is busy", 0x22: "says that conditions are not right", 0x31: "finds the request out of range", 0x33: "wants to be unlocked first", 0x78: "says: wait, the answer comes"}

func (r *reader) message(m Message) {
	d := m.Data
	switch {
	case len(d) == 0:
	case d[0] == 0x7F:
		if len(d) < 3 {
			r.warn(m, "a refusal is cut short")
		} else if d[2] != 0x78 {
			say := refusals[d[2]]
			if say == "" {
				say = fmt.Sprintf("refuses with %02X", d[2])
			}
			r.warn(m, "unit %s %s (service %02X)", unit(m.ECU), say, d[1])
		}
	case d[0] == 0x41:
		r.live(m, d[1:], nil)
	case d[0] == 0x42:
		r.freeze(m)
	case d[0] == 0x43:
		r.dtcs(m, Stored)
	case d[0] == 0x44:
		r.Cleared = true
	case d[0] == 0x46:
		r.results(m)
	case d[0] == 0x47:
		r.dtcs(m, Pending)
	case d[0] == 0x49:
		r.info(m)
	case d[0] == 0x4A:
		r.dtcs(m, Permanent)
	default:
		r.warn(m, "%02X is not an answer to a service that is read here", d[0])
	}
}

func unit(ecu string) string {
	if ecu == "" {
		return "without a header"
	}
	return ecu
}

// live reads one or several PIDs of a message; a freeze frame is filled when given.
func (r *reader) live(m Message, d []byte, f *Freeze) {
	for len(d) > 0 && !padding(d) {
		p := d[0]
		n, known := Length(p)
		skip := 1
		if f != nil {
			skip = 2 // PID and frame number
		}
		if !known {
			r.warn(m, "PID %02X is not known here; it and what follows in the line is left out", p)
			return
		}
		if len(d) < skip+n {
			r.warn(m, "PID %02X has %d data bytes; %d were expected", p, max(len(d)-skip, 0), n)
			return
		}
		r.onePID(m, p, d[skip:skip+n], f)
		d = d[skip+n:]
	}
}

// padding reports whether what is left of a line only fills its frame: one byte of
// those that units use for it, repeated. A lone byte may begin something, and PID 00
// answers with four bytes that are not all alike.
func padding(d []byte) bool {
	return strings.IndexByte("\x00\xAA\x55\xCC\xFF", d[0]) >= 0 && strings.Trim(string(d), string(d[:1])) == ""
}

func (r *reader) onePID(m Message, p byte, d []byte, f *Freeze) {
	key := fmt.Sprintf("%02X", p)
	switch {
	case f != nil && p == 2:
		if d[0] != 0 || d[1] != 0 {
			f.Code = DTC(d[0], d[1])
		}
		return
	case f == nil && p == 1:
		st := DecodeStatus(d)
		if r.Lamp == nil {
			r.Lamp = new(bool)
		}
		*r.Lamp = *r.Lamp || st.Lamp
		merge(r.Readiness, st.Readiness)
		r.codes[m.ECU] += st.Codes
		return
	case f == nil && p == 0x41:
		merge(r.ThisTrip, DecodeStatus(append([]byte{0}, d[1:]...)).Readiness)
		return
	}
	if p%0x20 == 0 && len(d) == 4 {
		r.supports(map[bool]byte{true: 2, false: 1}[f != nil], p, d)
		return
	}
	v, ok := Decode(p, d)
	if !ok {
		return
	}
	if f != nil {
		f.Data[key] = v
		return
	}
	if r.Others[m.ECU] == nil {
		r.Others[m.ECU] = map[string]Value{}
	}
	r.Others[m.ECU][key] = v
}

func (r *reader) supports(service, base byte, d []byte) {
	for _, p := range Supported(base, d) {
		if !slices.Contains(r.Supported[service], p) {
			r.Supported[service] = append(r.Supported[service], p)
		}
	}
}

func (r *reader) freeze(m Message) {
	if len(m.Data) < 3 {
		r.warn(m, "a freeze frame answer is cut short")
		return
	}
	i := slices.IndexFunc(r.Freeze, func(f Freeze) bool { return f.ECU == m.ECU })
	if m.Data[2] != 0 {
		r.warn(m, "freeze frame %d is a maker's extra; only frame 0 is read", m.Data[2])
		return
	}
	if i < 0 {
		r.Freeze = append(r.Freeze, Freeze{ECU: m.ECU, Data: map[string]Value{}})
		i = len(r.Freeze) - 1
	}
	r.live(m, m.Data[1:], &r.Freeze[i])
}

// dtcs reads codes. On CAN a count precedes them, on the older buses not: an odd
// number of bytes behind the service means a count.
func (r *reader) dtcs(m Message, status CodeStatus) {
	d := m.Data[1:]
	r.Asked[status] = true
	if len(d)%2 == 1 || filled(d) {
		n := int(d[0])
		if have := (len(d) - 1) / 2; n > have {
			r.warn(m, "%d codes are announced and %d are there", n, have)
		} else {
			d = d[:1+2*n]
		}
		d = d[1:]
	}
	for i := 0; i+1 < len(d); i += 2 {
		if d[i] == 0 && d[i+1] == 0 {
			continue
		}
		c := Code{DTC(d[i], d[i+1]), status, m.ECU}
		if !slices.Contains(r.Codes, c) {
			r.Codes = append(r.Codes, c)
		}
	}
}

// filled reports whether codes with a count are followed by bytes that only fill a
// CAN frame. Zeros do not tell: they end a line of the older buses as well.
func filled(d []byte) bool {
	if len(d) == 0 || 1+2*int(d[0]) >= len(d) {
		return false
	}
	rest := d[1+2*int(d[0]):]
	return (rest[0] == 0x55 || rest[0] == 0xAA) && padding(rest)
}

// results reads on-board test results. On CAN records of nine bytes with monitor,
// test, scaling, value and both limits; on the older buses test, limit type and
// component, value and one limit.
func (r *reader) results(m Message) {
	d := m.Data[1:]
	if len(d) > 0 && d[0]%0x20 == 0 && len(d) < 7 {
		if len(d) >= 5 {
			r.supports(6, d[0], d[len(d)-4:])
		}
		return
	}
	if len(d) == 6 || len(d) == 5 {
		// Top bit of the second byte: 0 the limit is a maximum, 1 a minimum.
		t := TestResult{ECU: m.ECU, Test: fmt.Sprintf("%02X", d[0]), Name: fmt.Sprintf("test %02X, component %02X", d[0], d[1]&0x7F)}
		v, limit := u16(d[2:]), 0.0
		if len(d) == 6 {
			limit = u16(d[4:])
		} else {
			r.warn(m, "a test result is cut short")
			return
		}
		t.Value = v
		if d[1]&0x80 == 0 {
			t.Max, t.HasMax, t.Pass = limit, true, v <= limit
		} else {
			t.Min, t.HasMin, t.Pass = limit, true, v >= limit
		}
		t.Ran = true
		r.addTest(t)
		return
	}
	for len(d) >= 9 {
		sc, known := scalings[d[2]]
		raw := u16
		if d[2] >= 0x80 {
			raw = s16
		}
		if !known {
			sc = scaling{"raw", 1, 0}
		}
		at := func(i int) float64 { return raw(d[i:])*sc.factor + sc.shift }
		t := TestResult{ECU: m.ECU, Monitor: fmt.Sprintf("%02X", d[0]), Test: fmt.Sprintf("%02X", d[1]), Unit: sc.unit,
			Value: at(3), Min: at(5), Max: at(7), HasMin: true, HasMax: true}
		t.Name = monitorNames[d[0]]
		if t.Name == "" {
			t.Name = "monitor " + t.Monitor
		}
		t.Pass = t.Value >= t.Min && t.Value <= t.Max
		t.Ran = strings.Trim(string(d[3:9]), "\x00") != ""
		r.addTest(t)
		d = d[9:]
	}
	if strings.Trim(string(d), "\x00") != "" {
		r.warn(m, "the test results end in the middle of one")
	}
}

func (r *reader) addTest(t TestResult) {
	i := slices.IndexFunc(r.Tests, func(o TestResult) bool { return o.ECU == t.ECU && o.Monitor == t.Monitor && o.Test == t.Test })
	if i >= 0 && t.Monitor != "" {
		r.Tests[i] = t
		return
	}
	r.Tests = append(r.Tests, t)
}

// info gathers service 09; on the older buses an item comes in numbered lines.
func (r *reader) info(m Message) {
	if len(m.Data) < 3 {
		r.warn(m, "a vehicle information answer is cut short")
		return
	}
	if m.Data[1] == 0 {
		if len(m.Data) >= 6 { // the older buses send a count before the four bytes
			r.supports(9, 0, m.Data[len(m.Data)-4:])
		}
		return
	}
	k := fmt.Sprintf("%s/%02X", m.ECU, m.Data[1])
	if r.vin[k] == nil {
		r.order = append(r.order, k)
	}
	r.vin[k] = append(r.vin[k], m)
}

var infoNames = map[byte]string{0x02: "vehicle id", 0x04: "calibration", 0x0A: "unit name"}

func (r *reader) finish() {
	// The unit that tells most is the engine's; the first of them when two tell as much.
	for _, u := range r.Units {
		if len(r.Others[u]) > len(r.Live) {
			r.Live, r.LiveECU = r.Others[u], u
		}
	}
	delete(r.Others, r.LiveECU)
	for _, k := range r.order {
		parts := r.vin[k]
		item := parts[0].Data[1]
		name := infoNames[item]
		if name == "" {
			continue
		}
		whole := len(parts) == 1 && len(parts[0].Data) > 7
		slices.SortStableFunc(parts, func(a, b Message) int { return int(a.Data[2]) - int(b.Data[2]) })
		var b strings.Builder
		for i, p := range parts {
			if !whole && int(p.Data[2]) != i+1 {
				r.warn(p, "part %d of the %s is missing or doubled", i+1, name)
			}
			for _, c := range p.Data[3:] {
				if c >= 0x20 && c < 0x7F {
					b.WriteByte(c)
				} else if c != 0 && c != 0xFF {
					r.warn(p, "the %s holds %02X, which is no letter", name, c)
				}
			}
		}
		text := strings.TrimSpace(b.String())
		ecu, _, _ := strings.Cut(k, "/")
		switch {
		case text == "":
		case item == 0x02:
			if w := CheckVIN(text); w != "" {
				r.warn(parts[0], "%s", w)
			}
			if r.VIN != "" && r.VIN != text {
				r.warn(parts[0], "two units give different vehicle ids, %s and %s: one has been in another car", r.VIN, text)
			}
			if r.VIN == "" {
				r.VIN = text
			}
		default:
			r.Texts = append(r.Texts, Text{ecu, name, text})
		}
	}
	if len(r.Asked) > 0 && r.Asked[Stored] {
		for ecu, told := range r.codes {
			have := 0
			for _, c := range r.Codes {
				if c.ECU == ecu && c.Status == Stored {
					have++
				}
			}
			if told != have && have == 0 && told > 0 {
				r.warn(Message{}, "unit %s counts %d stored codes and none was read from it: ask for the stored codes again", unit(ecu), told)
			}
		}
	}
	for i := range r.Freeze {
		if r.Freeze[i].Code == "" {
			if len(r.Freeze[i].Data) > 0 {
				r.warn(Message{}, "the freeze frame of unit %s does not say which code took it (02 02 was not asked)", unit(r.Freeze[i].ECU))
			}
		}
	}
	r.Freeze = slices.DeleteFunc(r.Freeze, func(f Freeze) bool { return f.Code == "" && len(f.Data) == 0 })
}

// Clearing is what the counters tell about the last time codes were cleared (by a
// scan tool or by a battery that was off).
type Clearing struct {
	Known   bool
	Warmups float64 // −1 when not told
	KM      float64 // −1
	Minutes float64 // −1, of running engine
	Words   string
}

// Cleared guesses from warm-ups (30), distance (31) and running minutes (4E) since
// clearing, when read at the moment given. Engine minutes are at most wall minutes,
// so they bound the moment from above.
// AskedStored reports whether the car was asked for its stored codes and answered.
func (s Scan) AskedStored() bool { return s.Asked[Stored] }

// LampWords says whether the lamp is on.
func (s Scan) LampWords() string {
	switch {
	case s.Lamp == nil:
		return "Nobody has read whether the lamp is on."
	case *s.Lamp:
		return "Lamp on."
	}
	return "Lamp off."
}

func (s Scan) Since(read time.Time) Clearing {
	c := Clearing{Warmups: -1, KM: -1, Minutes: -1}
	get := func(k string, into *float64) bool {
		v, ok := s.Live[k]
		if ok {
			*into, c.Known = v.Value, true
		}
		return ok
	}
	var said []string
	stop := func(v, top float64, unit string) string {
		if v >= top {
			return fmt.Sprintf("at least %.0f%s", v, unit)
		}
		return fmt.Sprintf("%.0f%s", v, unit)
	}
	if get("30", &c.Warmups) {
		said = append(said, stop(c.Warmups, 255, " warm-ups"))
	}
	if get("31", &c.KM) {
		said = append(said, stop(c.KM, 65535, " km"))
	}
	if get("4E", &c.Minutes) {
		said = append(said, stop(c.Minutes, 65535, " min of running"))
	}
	if !c.Known {
		return c
	}
	fresh := c.Warmups >= 0 && c.Warmups < 4 || c.KM >= 0 && c.KM < 40 || c.Minutes >= 0 && c.Minutes < 60
	c.Words = "Cleared " + strings.Join(said, ", ") + " ago."
	switch {
	case c.Warmups == 0 && c.KM <= 1:
		c.Words += " Just cleared, or the battery was off: a missing code says nothing."
	case fresh:
		c.Words += " That is recent: the monitors have hardly had a chance to run, so a missing code says little."
	}
	if c.Minutes > 0 && c.Minutes < 65535 && !read.IsZero() {
		c.Words += " That was before " + read.Add(-time.Duration(c.Minutes)*time.Minute).Format("2 Jan 15:04") + "."
	}
	return c
}
