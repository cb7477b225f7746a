package instrument

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wexter/core/obd"
	"wexter/ingest"
)

// Scanner is a connection to a scan adapter.
type Scanner interface {
	About() AdapterAbout
	// Ask sends a request in hex and returns the lines of its answer: those of control units,
	// or words (NoData, ErrorWord and why). An error says that the adapter is gone.
	Ask(ctx context.Context, request string) ([]string, error)
	// Work commands a valve, or works on a simulated car; the error says why it was not done.
	Work(ctx context.Context, words string) error
	// CAN reports whether several live data can be asked for in one request.
	CAN() bool
	Close() error
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
func TakeScan(ctx context.Context, s Scanner, progress func(string)) (string, error) {
	t := &scanTaker{adapter: s, progress: progress}
	fmt.Fprintf(&t.raw, "# %s\n", s.About().Adapter)
	err := t.take(ctx)
	if err != nil {
		fmt.Fprintf(&t.raw, "# ended early: %v\n", err)
	}
	return t.raw.String(), err
}

// scanTaker is a scan being taken.
type scanTaker struct {
	adapter  Scanner
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
func Clear(ctx context.Context, s Scanner) error {
	lines, err := s.Ask(ctx, "04")
	if err != nil {
		return err
	}
	said, err := ingest.ReadScan([]byte(strings.Join(lines, "\n")))
	if err != nil || !said.Cleared {
		why := "no unit answered"
		if len(said.Warnings) > 0 {
			why = said.Warnings[0]
		}
		return fmt.Errorf("the car did not clear its codes: %s. Key on, engine off?", why)
	}
	return nil
}

// ForceLeakCheck asks a car for its own leak check: service 08, test 01 of SAE J1979 (value from
// memory). The error says why the car does not do it.
func ForceLeakCheck(ctx context.Context, s Scanner) error {
	lines, err := s.Ask(ctx, "08 01 00 00 00 00 00")
	if err != nil {
		return err
	}
	said := strings.ToUpper(strings.ReplaceAll(strings.Join(lines, " "), " ", ""))
	switch {
	case strings.Contains(said, "4801"):
		return nil
	case strings.Contains(said, "7F0822"):
		return errors.New("the car does not start its leak check now: key on, engine off, and its other conditions as the maker has them")
	}
	return errors.New("the car takes no general request for its leak check (service 08, test 01): start it with the maker's tool")
}

// State asks a simulated car for what it shows about itself; a real one has none.
func State(ctx context.Context, a Scanner) (s CarState, err error) {
	if about := a.About(); !about.Simulated || len(about.Modes) == 0 {
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
