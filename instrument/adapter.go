package instrument

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"wexter/core/obd"
	"wexter/ingest"
)

// AdapterAbout is the first line of a scan adapter.
type AdapterAbout struct {
	Protocol  int    `json:"protocol"` // 1
	Adapter   string `json:"adapter"`  // its name
	Simulated bool   `json:"simulated"`

	Commands []string `json:"commands,omitempty"` // parts whose valves it can command
	Modes    []string `json:"modes,omitempty"`    // of a simulated car's driver
}

// ToolAbout is the first line of a hand instrument that takes words and answers in words.
type ToolAbout struct {
	Protocol  int      `json:"protocol"` // 1
	Tool      string   `json:"tool"`
	Takes     []string `json:"takes"`
	Simulated bool     `json:"simulated"`
}

// CarState is what a simulated car shows about itself: the truth beside what its control
// unit says. Pressures are Pa gauge by part, Open and Smoke shares, Live by PID.
type CarState struct {
	Time      float64            `json:"time_s"`
	Mode      string             `json:"mode"`
	Running   bool               `json:"running"`
	Stalled   bool               `json:"stalled,omitempty"`
	Pressures map[string]float64 `json:"pressure_pa"`
	Open      map[string]float64 `json:"open"`
	Smoke     map[string]float64 `json:"smoke"`
	Live      map[string]float64 `json:"live"`
	Stored    []string           `json:"stored"`
	Pending   []string           `json:"pending"`
	Blocked   string             `json:"blocked,omitempty"`
}

// Adapter is a connection to a scan adapter: it takes a request in hex a line and
// answers with lines of hex or words ("searching", "no data", "error …"), ended by
// an empty line.
type Adapter struct {
	// Patience is how long one line of an answer may take.
	Patience time.Duration

	About AdapterAbout
	conn  net.Conn
	in    *bufio.Scanner
}

// Words of an adapter.
const (
	Searching = "searching"
	NoData    = "no data"
	ErrorWord = "error"
)

const (
	answerWait = 12 * time.Second // a search of the bus takes some seconds
	toolWait   = 90 * time.Second // a technician does a whole test
	maxLines   = 400
)

func attachAdapter(conn net.Conn, address string, patience time.Duration) (*Adapter, error) {
	a := &Adapter{Patience: patience, conn: conn, in: bufio.NewScanner(conn)}
	a.in.Buffer(make([]byte, maxLine), maxLine)
	_ = conn.SetReadDeadline(time.Now().Add(max(patience, reachWait)))
	if !a.in.Scan() || json.Unmarshal(a.in.Bytes(), &a.About) != nil || a.About.Protocol != 1 || a.About.Adapter == "" {
		conn.Close()
		return nil, fmt.Errorf("what answers at %s is no scan adapter", address)
	}
	return a, nil
}

// Close ends the connection.
func (a *Adapter) Close() error { return a.conn.Close() }

// Ask sends one request and returns the lines of its answer.
func (a *Adapter) Ask(ctx context.Context, request string) ([]string, error) {
	stop := context.AfterFunc(ctx, func() { _ = a.conn.SetDeadline(time.Now()) })
	defer stop()
	wait := a.Patience
	end := time.Now().Add(max(answerWait, a.Patience))
	_ = a.conn.SetDeadline(time.Now().Add(wait))
	if _, err := fmt.Fprintf(a.conn, "%s\n", request); err != nil {
		return nil, a.gone(ctx)
	}
	var out []string
	for {
		_ = a.conn.SetReadDeadline(time.Now().Add(wait))
		if ctx.Err() != nil || time.Now().After(end) || !a.in.Scan() {
			return out, a.gone(ctx)
		}
		line := strings.TrimSpace(a.in.Text())
		if line == "" {
			return out, nil
		}
		if len(out) >= maxLines {
			return out, errors.New("the adapter does not stop sending")
		}
		out = append(out, line)
	}
}

func (a *Adapter) gone(ctx context.Context) error {
	if ctx.Err() != nil {
		return errors.New("the scan was stopped")
	}
	return errors.New("the adapter no longer answers")
}

// wanted are the PIDs of live data that are asked for when a car has them; those of
// the freeze frame are asked for as well.
var wanted = []byte{0x03, 0x04, 0x05, 0x06, 0x07, 0x08, 0x09, 0x0B, 0x0C, 0x0D, 0x0F, 0x10, 0x11, 0x14, 0x15, 0x16, 0x17, 0x18, 0x19, 0x1A, 0x1B, 0x1F, 0x21,
	0x24, 0x25, 0x26, 0x27, 0x28, 0x29, 0x2A, 0x2B, 0x2C, 0x2D, 0x2E, 0x2F, 0x30, 0x31, 0x32, 0x33, 0x34, 0x35, 0x36, 0x37, 0x38, 0x39, 0x3A, 0x3B,
	0x41, 0x42, 0x44, 0x46, 0x4D, 0x4E, 0x53, 0x54, 0x69, 0x6B}

// monitors are the on-board test results that are asked for: EGR, EVAP system,
// purge flow, boost pressure.
var monitors = []byte{0x31, 0x32, 0x39, 0x3A, 0x3B, 0x3C, 0x3D, 0x85}

// TakeScan reads all that is known of a car and returns it as text, requests
// included, as far as it came; progress is told what is asked for.
func (a *Adapter) TakeScan(ctx context.Context, progress func(string)) (string, error) {
	t := &scanTaker{adapter: a, progress: progress}
	fmt.Fprintf(&t.raw, "# %s\n", a.About.Adapter)
	err := t.take(ctx)
	if err != nil {
		fmt.Fprintf(&t.raw, "# ended early: %v\n", err)
	}
	return t.raw.String(), err
}

// scanTaker is a scan being taken.
type scanTaker struct {
	adapter  *Adapter
	progress func(string)
	raw      strings.Builder // with requests and remarks
	answers  strings.Builder
}

// ask sends a request and keeps its answer; one that the adapter could not get is asked
// for a second time.
func (t *scanTaker) ask(ctx context.Context, say, request string) error {
	t.progress(say)
	fmt.Fprintf(&t.raw, "> %s\n", request)
	for try := range 2 {
		lines, err := t.adapter.Ask(ctx, request)
		again := try == 0 && err == nil && slices.ContainsFunc(lines, func(l string) bool { return strings.HasPrefix(l, ErrorWord) })
		for _, l := range lines {
			switch {
			case again:
				fmt.Fprintf(&t.raw, "# %s; asked again\n", l)
			case l != Searching:
				fmt.Fprintln(&t.raw, l)
				fmt.Fprintln(&t.answers, l)
			}
		}
		if !again {
			return err
		}
	}
	return nil
}

// supported is what a service answers to, as far as it was asked for.
func (t *scanTaker) supported(service byte) []byte {
	s, err := ingest.ReadScan([]byte(t.answers.String()))
	if err != nil {
		return nil
	}
	return s.Supported[service]
}

// groups asks for what a service supports, twenty hex at a time, as long as more is
// announced; after follows each number.
func (t *scanTaker) groups(ctx context.Context, say string, service byte, after string) error {
	for base := 0; base <= 0xE0; base += 0x20 {
		if base > 0 && !slices.Contains(t.supported(service), byte(base)) {
			return nil
		}
		if err := t.ask(ctx, say, fmt.Sprintf("%02X %02X%s", service, base, after)); err != nil {
			return err
		}
	}
	return nil
}

// each asks for those of the items that a service supports.
func (t *scanTaker) each(ctx context.Context, say func(byte) string, service byte, after string, items []byte) error {
	for _, i := range items {
		if slices.Contains(t.supported(service), i) {
			if err := t.ask(ctx, say(i), fmt.Sprintf("%02X %02X%s", service, i, after)); err != nil {
				return err
			}
		}
	}
	return nil
}

func (t *scanTaker) take(ctx context.Context) error {
	if err := t.groups(ctx, "looking for the control units", 1, ""); err != nil {
		return err
	}
	if len(t.supported(1)) == 0 {
		return errors.New("no control unit answers: is the key on, and the plug fully in its socket?")
	}
	for _, s := range [][2]string{{"lamp and readiness", "01 01"}, {"stored codes", "03"}, {"pending codes", "07"}, {"permanent codes", "0A"}, {"freeze frame", "02 02 00"}} {
		if err := t.ask(ctx, s[0], s[1]); err != nil {
			return err
		}
	}
	always := func(words string) func(byte) string { return func(byte) string { return words } }
	datum := func(p byte) string {
		v, _ := obd.Decode(p, make([]byte, 8))
		return v.Name
	}
	for _, step := range []func() error{
		func() error { return t.groups(ctx, "freeze frame", 2, " 00") },
		func() error { return t.each(ctx, always("freeze frame"), 2, " 00", wanted) },
		func() error { return t.each(ctx, datum, 1, "", wanted) },
		func() error { return t.groups(ctx, "on-board tests", 6, "") },
		func() error { return t.each(ctx, always("on-board tests"), 6, "", monitors) },
		func() error { return t.ask(ctx, "vehicle id", "09 00") },
		func() error { return t.each(ctx, always("vehicle id"), 9, "", []byte{0x02, 0x04, 0x0A}) },
	} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// Clear sends service 04 and reports whether a unit confirmed it.
func (a *Adapter) Clear(ctx context.Context) error {
	lines, err := a.Ask(ctx, "04")
	if err != nil {
		return err
	}
	s, err := ingest.ReadScan([]byte(strings.Join(lines, "\n")))
	if err != nil || !s.Cleared {
		why := "no unit answered"
		if len(s.Warnings) > 0 {
			why = s.Warnings[0]
		}
		return fmt.Errorf("the car did not clear its codes: %s. Key on, engine off?", why)
	}
	return nil
}

// State asks a simulated car for what it shows about itself; a real one has none.
func (a *Adapter) State(ctx context.Context) (s CarState, err error) {
	if !a.About.Simulated || len(a.About.Modes) == 0 {
		return s, errors.New("only a simulated car shows its inside")
	}
	lines, err := a.Ask(ctx, "?")
	if err != nil {
		return s, err
	}
	if json.Unmarshal([]byte(strings.Join(lines, "")), &s) != nil {
		return s, fmt.Errorf("the car said %q", strings.Join(lines, " "))
	}
	return s, nil
}

// Work commands a valve ("command PART 50"), or works on a simulated car as its driver
// or a technician would; the error is what the adapter said.
func (a *Adapter) Work(ctx context.Context, words string) error {
	if strings.ContainsAny(words, "\r\n") {
		return errors.New("one line at a time")
	}
	lines, err := a.Ask(ctx, "@"+words)
	if err != nil {
		return err
	}
	if said := strings.Join(lines, " "); said != "done" {
		return errors.New(strings.TrimPrefix(said, ErrorWord+": "))
	}
	return nil
}

// AskTool sends one line to an instrument that answers in words, a scan adapter's driver
// included, and returns what it says.
func AskTool(ctx context.Context, address, words string) (string, error) {
	if words == "" || len(words) > 200 || strings.ContainsAny(words, "\r\n") {
		return "", errors.New("one line of at most 200 characters is needed")
	}
	conn, err := Dialer{Patience: toolWait}.reach(ctx, address)
	if err != nil {
		return "", fmt.Errorf("nothing answers at %s: is the instrument on?", address)
	}
	a := &Adapter{conn: conn, in: bufio.NewScanner(conn), Patience: toolWait}
	defer a.Close()
	a.in.Buffer(make([]byte, maxLine), maxLine)
	_ = conn.SetReadDeadline(time.Now().Add(toolWait))
	if !a.in.Scan() || !strings.HasPrefix(a.in.Text(), "{") {
		return "", fmt.Errorf("what answers at %s is no instrument", address)
	}
	lines, err := a.Ask(ctx, words)
	said := strings.Join(lines, "\n")
	if why, bad := strings.CutPrefix(said, ErrorWord+": "); bad && err == nil {
		err = errors.New(why)
	}
	return said, err
}
