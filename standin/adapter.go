package standin

import (
	"bufio"
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"go.yaml.in/yaml/v3"

	"wexter/core/obd"
	"wexter/core/sim"
	"wexter/instrument"
)

// Car is what the control units of a simulated car answer, read from a file.
type Car struct {
	Name      string
	VIN       string  `yaml:"vin"`
	Bus       string  // can, or old
	Delay     float64 `yaml:"delay_s"`     // of an answer
	Searching float64 `yaml:"searching_s"` // before the first answer
	Errors    []string
	Units     []Unit
}

// Unit is one control unit. Live and freeze data are keyed by PID in hex, in the
// unit the PID is decoded to, or as "hex:…" bytes.
type Unit struct {
	ID        string
	Lamp      bool
	Stored    []string
	Pending   []string
	Permanent []string
	Diesel    bool
	Readiness map[string]string
	Live      map[string]string
	Freeze    struct {
		Code string
		Data map[string]string
	}
	Tests []struct {
		Monitor, Test, Scaling byte
		Value, Min, Max        uint16
	}
}

// ReadCar reads a car's file; the error names the entry.
func ReadCar(data []byte) (Car, error) {
	var c Car
	d := yaml.NewDecoder(bytes.NewReader(data))
	d.KnownFields(true)
	if err := d.Decode(&c); err != nil {
		return c, fmt.Errorf("the car's file: %w", err)
	}
	if c.Bus != "can" && c.Bus != "old" {
		return c, fmt.Errorf("the car's file: bus is %q; it is can or old", c.Bus)
	}
	if c.Delay < 0 || c.Delay > 5 || c.Searching < 0 || c.Searching > 8 || math.IsNaN(c.Delay+c.Searching) {
		return c, errors.New("the car's file: delays lie between 0 and 5 s, searching between 0 and 8 s")
	}
	if len(c.Units) == 0 {
		return c, errors.New("the car's file: no units")
	}
	for _, u := range c.Units {
		if (c.Bus == "can") != (len(u.ID) == 3) || len(u.ID) < 2 {
			return c, fmt.Errorf("unit %q: the id has three hex digits on can and two on an old bus", u.ID)
		}
		for _, code := range slices.Concat(u.Stored, u.Pending, u.Permanent) {
			if _, _, ok := obd.EncodeDTC(code); !ok {
				return c, fmt.Errorf("unit %s: %q is no trouble code", u.ID, code)
			}
		}
		for k := range u.Readiness {
			if !slices.Contains(obd.Monitors(u.Diesel), k) {
				return c, fmt.Errorf("unit %s: there is no monitor %q", u.ID, k)
			}
		}
		for _, m := range []map[string]string{u.Live, u.Freeze.Data} {
			for k, v := range m {
				if _, _, err := datum(k, v); err != nil {
					return c, fmt.Errorf("unit %s: %w", u.ID, err)
				}
			}
		}
	}
	return c, nil
}

// datum turns a PID and its value into bytes.
func datum(key, value string) (byte, []byte, error) {
	p, err := strconv.ParseUint(key, 16, 8)
	if err != nil {
		return 0, nil, fmt.Errorf("%q is no PID", key)
	}
	if h, ok := strings.CutPrefix(value, "hex:"); ok {
		b, err := hex.DecodeString(strings.Join(strings.Fields(h), ""))
		if n, known := obd.Length(byte(p)); err != nil || !known || n != len(b) {
			return 0, nil, fmt.Errorf("PID %s: %q is not its %d bytes", key, value, n)
		}
		return byte(p), b, nil
	}
	v, err := strconv.ParseFloat(value, 64)
	if err != nil {
		return 0, nil, fmt.Errorf("PID %s: %q is no number", key, value)
	}
	b, ok := obd.Encode(byte(p), v)
	if !ok {
		return 0, nil, fmt.Errorf("PID %s cannot be written as one number; give it as hex:…", key)
	}
	return byte(p), b, nil
}

// Adapter answers requests for a car.
type Adapter struct {
	mu     sync.Mutex
	car    Car
	failed map[string]bool // requests that were answered with their error already
	found  bool            // the bus
	speed  float64
	plant  *Plant // the whole car behind it; nil for one from a list of answers
}

// NewAdapter makes one; speed shortens its delays.
func NewAdapter(c Car, speed float64) *Adapter {
	return &Adapter{car: c, failed: map[string]bool{}, speed: math.Max(speed, 0.01)}
}

// Serve answers everyone who connects until ctx ends.
func (a *Adapter) Serve(ctx context.Context, l net.Listener) error { return accept(ctx, l, a.talk) }

// accept lets talk have every connection, eight at a time, until ctx ends.
func accept(ctx context.Context, l net.Listener, talk func(context.Context, net.Conn)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() { <-ctx.Done(); l.Close() }()
	slots := make(chan struct{}, 8)
	for {
		conn, err := l.Accept()
		if err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return err
		}
		select {
		case slots <- struct{}{}:
		default:
			conn.Close()
			continue
		}
		go func() {
			defer func() { <-slots }()
			stop := context.AfterFunc(ctx, func() { conn.Close() })
			defer stop()
			defer conn.Close()
			talk(ctx, conn)
		}()
	}
}

func (a *Adapter) talk(ctx context.Context, conn net.Conn) {
	say := instrument.AdapterAbout{Protocol: 1, Adapter: "scan adapter, " + a.car.Name, Simulated: true}
	if a.plant != nil {
		say.Commands, say.Keeps = a.plant.commands(), true
		for _, m := range sim.Modes() {
			say.Modes = append(say.Modes, string(m))
		}
	}
	about, _ := json.Marshal(say)
	if _, err := conn.Write(append(about, '\n')); err != nil {
		return
	}
	in := bufio.NewScanner(conn)
	in.Buffer(make([]byte, 512), 512)
	for in.Scan() {
		request := strings.ToUpper(strings.Join(strings.Fields(in.Text()), ""))
		if words, ok := strings.CutPrefix(strings.TrimSpace(in.Text()), "!"); ok {
			if reply(conn, a.tell(words)) != nil {
				return
			}
			continue
		}
		if said, ok := a.plantWords(strings.TrimSpace(in.Text())); ok {
			if reply(conn, said) != nil {
				return
			}
			continue
		}
		a.mu.Lock()
		first := !a.found
		a.found = true
		a.mu.Unlock()
		if first && a.car.Searching > 0 {
			_ = conn.SetWriteDeadline(time.Now().Add(writeWait))
			fmt.Fprintln(conn, instrument.Searching)
			a.wait(ctx, a.car.Searching)
		}
		a.wait(ctx, a.car.Delay)
		if reply(conn, strings.Join(a.Answer(request), "\n")) != nil {
			return
		}
	}
}

// writeWait is how long somebody may take to read an answer.
const writeWait = 5 * time.Second

// reply sends an answer, ended by an empty line. The time to read it begins when it is
// there: an answer may take a car that has still to be driven.
func reply(conn net.Conn, answer string) error {
	_ = conn.SetWriteDeadline(time.Now().Add(writeWait))
	_, err := fmt.Fprintf(conn, "%s\n\n", answer)
	return err
}

func (a *Adapter) wait(ctx context.Context, seconds float64) {
	select {
	case <-ctx.Done():
	case <-time.After(time.Duration(seconds / a.speed * float64(time.Second))):
	}
}

// tell changes the car: "code P0443 stored" as when a part is unplugged, "mute" and
// "unmute" for a plug that is off.
func (a *Adapter) tell(words string) string {
	a.mu.Lock()
	defer a.mu.Unlock()
	f := strings.Fields(words)
	switch {
	case len(f) == 3 && f[0] == "code":
		if _, _, ok := obd.EncodeDTC(f[1]); !ok {
			return instrument.ErrorWord + ": no code"
		}
		u := &a.car.Units[0]
		switch obd.CodeStatus(f[2]) {
		case obd.Stored:
			u.Stored, u.Lamp = append(u.Stored, f[1]), true
		case obd.Pending:
			u.Pending = append(u.Pending, f[1])
		default:
			return instrument.ErrorWord + ": stored or pending"
		}
	case len(f) == 1 && f[0] == "mute", len(f) == 1 && f[0] == "unmute":
		a.failed["mute"] = f[0] == "mute"
	default:
		return instrument.ErrorWord + ": code CODE stored|pending, mute, unmute"
	}
	return "done"
}

// Answer returns the lines that answer a request in hex without blanks.
func (a *Adapter) Answer(request string) []string {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.failed["mute"] {
		return []string{instrument.NoData}
	}
	if slices.Contains(a.car.Errors, request) && !a.failed[request] {
		a.failed[request] = true
		return []string{instrument.ErrorWord + ": the bus was disturbed"}
	}
	b, err := hex.DecodeString(request)
	if err != nil || len(b) == 0 {
		return []string{instrument.ErrorWord + ": this is no request"}
	}
	var out []string
	if a.plant != nil {
		u, err := a.plant.unit()
		if err != nil {
			return []string{instrument.ErrorWord + ": " + err.Error()}
		}
		a.car.Units[0] = u
		switch {
		case b[0] == 4:
			if err := a.plant.at(func(c *sim.Car) error { return c.ClearOrder() }); err != nil {
				return a.car.lines(u.ID, []byte{0x7F, 4, 0x22}) // conditions not correct
			}
		case b[0] == 8 && len(b) >= 2:
			return a.sealTest(u.ID, b)
		}
	}
	for i := range a.car.Units {
		u := &a.car.Units[i]
		for _, m := range u.answer(b, a.car) {
			out = append(out, a.car.lines(u.ID, m)...)
		}
	}
	if len(out) == 0 {
		return []string{instrument.NoData}
	}
	return out
}

// onCAN reports whether the car talks over CAN, or over a bus from before it.
func (c Car) onCAN() bool { return c.Bus != "old" }

// lines writes a message as its bus carries it.
func (c Car) lines(id string, m []byte) []string {
	if c.onCAN() {
		var out []string
		for _, f := range obd.Frames(m) {
			out = append(out, fmt.Sprintf("%s % X", id, f))
		}
		return out
	}
	addr, _ := strconv.ParseUint(id, 16, 8)
	b := append([]byte{0x48, 0x6B, byte(addr)}, m...)
	return []string{fmt.Sprintf("% X", append(b, obd.Sum(b)))}
}

// answer returns the messages of one unit.
func (u *Unit) answer(q []byte, c Car) [][]byte {
	one := func(m ...byte) [][]byte { return [][]byte{m} }
	arg := byte(0)
	if len(q) > 1 {
		arg = q[1]
	}
	switch q[0] {
	case 1:
		if len(q) > 2 && c.onCAN() {
			return u.several(q[1:])
		}
		if len(q) != 2 {
			return nil
		}
		data := u.data()
		if arg%0x20 == 0 {
			if mask, any := mask(slices.Collect(maps.Keys(data)), arg); any || arg == 0 {
				return one(append([]byte{0x41, arg}, mask...)...)
			}
			return nil
		}
		if d, ok := data[arg]; ok {
			return one(append([]byte{0x41, arg}, d...)...)
		}
	case 2:
		if u.Freeze.Code == "" || len(q) < 2 {
			return nil
		}
		data := frame(u.Freeze.Data)
		a, b, _ := obd.EncodeDTC(u.Freeze.Code)
		data[2] = []byte{a, b}
		if arg%0x20 == 0 {
			m, _ := mask(slices.Collect(maps.Keys(data)), arg)
			return one(append([]byte{0x42, arg, 0}, m...)...)
		}
		if d, ok := data[arg]; ok {
			return one(append([]byte{0x42, arg, 0}, d...)...)
		}
	case 3:
		return c.codes(0x43, u.Stored)
	case 7:
		return c.codes(0x47, u.Pending)
	case 0x0A:
		if !c.onCAN() {
			return nil // came with CAN
		}
		return c.codes(0x4A, u.Permanent)
	case 4:
		u.clear()
		return one(0x44)
	case 6:
		if c.onCAN() {
			return u.tests(arg)
		}
	case 9:
		if u == &c.Units[0] && c.VIN != "" {
			return c.info(arg)
		}
	}
	return nil
}

// several answers a request for up to six live data; what the unit does not have it leaves
// out.
func (u *Unit) several(pids []byte) [][]byte {
	if len(pids) > 6 {
		return nil
	}
	m := []byte{0x41}
	data := u.data()
	for _, p := range pids {
		if d, ok := data[p]; ok {
			m = append(append(m, p), d...)
		}
	}
	if len(m) == 1 {
		return nil
	}
	return [][]byte{m}
}

// data is all live data of the unit with its status.
func (u *Unit) data() map[byte][]byte {
	m := frame(u.Live)
	m[1] = obd.EncodeStatus(obd.Status{Lamp: u.Lamp, Codes: len(u.Stored), Compression: u.Diesel, Readiness: u.Readiness})
	return m
}

func frame(values map[string]string) map[byte][]byte {
	m := map[byte][]byte{}
	for k, v := range values {
		if p, d, err := datum(k, v); err == nil {
			m[p] = d
		}
	}
	return m
}

// mask announces which of the 32 ids after base are there; the last bit that more follow.
func mask(ids []byte, base byte) (m []byte, any bool) {
	m = make([]byte, 4)
	for _, p := range ids {
		if p <= base {
			continue
		}
		i := int(p) - int(base) - 1
		if i >= 31 {
			i = 31 // this one, or more behind it
		}
		m[i/8] |= 0x80 >> (i % 8)
		any = true
	}
	return m, any
}

func (c Car) codes(service byte, list []string) [][]byte {
	var pairs []byte
	for _, code := range list {
		a, b, _ := obd.EncodeDTC(code)
		pairs = append(pairs, a, b)
	}
	if c.onCAN() {
		return [][]byte{append([]byte{service, byte(len(list))}, pairs...)}
	}
	var out [][]byte
	for at := 0; at == 0 || at < len(pairs); at += 6 {
		m := append([]byte{service}, pairs[at:min(at+6, len(pairs))]...)
		for len(m) < 7 {
			m = append(m, 0)
		}
		out = append(out, m)
	}
	return out
}

func (u *Unit) tests(id byte) [][]byte {
	if len(u.Tests) == 0 {
		return nil
	}
	if id%0x20 == 0 {
		var ids []byte
		for _, t := range u.Tests {
			ids = append(ids, t.Monitor)
		}
		if m, any := mask(ids, id); any {
			return [][]byte{append([]byte{0x46, id}, m...)}
		}
		return nil
	}
	m := []byte{0x46}
	for _, t := range u.Tests {
		if t.Monitor == id {
			m = append(m, t.Monitor, t.Test, t.Scaling, byte(t.Value>>8), byte(t.Value), byte(t.Min>>8), byte(t.Min), byte(t.Max>>8), byte(t.Max))
		}
	}
	if len(m) == 1 {
		return nil
	}
	return [][]byte{m}
}

func (c Car) info(item byte) [][]byte {
	switch {
	case item == 0 && !c.onCAN():
		return [][]byte{{0x49, 0, 1, 0x40, 0, 0, 0}}
	case item == 0:
		return [][]byte{{0x49, 0, 0x40, 0, 0, 0}}
	case item != 2:
		return nil
	case c.onCAN():
		return [][]byte{append([]byte{0x49, 2, 1}, c.VIN...)}
	}
	text := append(make([]byte, 3), c.VIN...)
	var out [][]byte
	for i := 0; i*4 < len(text); i++ {
		out = append(out, append([]byte{0x49, 2, byte(i + 1)}, text[i*4:min(i*4+4, len(text))]...))
	}
	return out
}

// clear is what service 04 does: codes, freeze frame, results and counters go, the
// monitors begin again; permanent codes stay.
func (u *Unit) clear() {
	u.Stored, u.Pending, u.Lamp = nil, nil, false
	u.Freeze.Code, u.Freeze.Data = "", nil
	for k, v := range u.Readiness {
		if v == obd.Complete && k != "components" && k != "misfire" && k != "fuel" {
			u.Readiness[k] = obd.Incomplete
		}
	}
	for _, k := range []string{"21", "30", "31", "4D", "4E"} {
		if _, ok := u.Live[k]; ok {
			u.Live[k] = "0"
		}
	}
	for i := range u.Tests {
		u.Tests[i].Value, u.Tests[i].Min, u.Tests[i].Max = 0, 0, 0
	}
}

// sealTest is service 08: test 01 seals the EVAP system so that it can be tested from
// outside (SAE J1979, from memory); test 00 says that there is nothing else.
func (a *Adapter) sealTest(id string, b []byte) []string {
	switch b[1] {
	case 0:
		return a.car.lines(id, []byte{0x48, 0, 0x80, 0, 0, 0})
	case 1:
		if err := a.plant.at(func(c *sim.Car) error { return c.SealSystem() }); err != nil {
			return a.car.lines(id, []byte{0x7F, 8, 0x22})
		}
		return a.car.lines(id, []byte{0x48, 1, 0, 0, 0, 0, 0})
	}
	return nil
}
