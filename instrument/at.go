package instrument

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"
	"unicode"
)

// Waits of an adapter with AT commands.
const (
	resetWait  = 3 * time.Second  // after a reset
	setupWait  = 2 * time.Second  // for what only the adapter answers
	searchWait = 20 * time.Second // it tries one bus after the other
	stopWait   = time.Second      // until it shows its prompt when it is told to stop
)

const mostAnswer = 64 << 10 // bytes of an answer

// AT is a scan adapter that is set up with AT commands, takes requests in hex, and shows a
// prompt (>) when it has answered: what most adapters at a serial device or behind a
// socket are. What it answers is common practice; no standard describes it.
type AT struct {
	// Patience is how long one answer may take.
	Patience time.Duration

	about AdapterAbout
	link  *link
	found bool   // a bus
	bus   string // number of its protocol, as the adapter gives it
}

// attachAT resets an adapter and sets it up. That a car answers is not needed yet.
func attachAT(ctx context.Context, l *link, address string, patience time.Duration) (*AT, error) {
	a := &AT{Patience: patience, link: l}
	if err := a.setUp(ctx); err != nil {
		l.close()
		if errors.Is(err, errGone) {
			return nil, fmt.Errorf("the adapter at %s hangs up: does another program use it?", address)
		}
		return nil, fmt.Errorf("what answers at %s is no scan adapter with AT commands, or its speed is another: %w", address, err)
	}
	return a, nil
}

// setUp brings an adapter to where it prints what can be read: no echo, headers, and the
// bus that the car has. What an old adapter does not know it goes without.
func (a *AT) setUp(ctx context.Context) error {
	a.found = false
	name := ""
	var err error
	for range 3 { // what it was in the middle of may take the first command
		var lines []string
		if lines, err = a.command(ctx, "ATZ", max(resetWait, a.Patience)); errors.Is(err, errGone) || ctx.Err() != nil {
			return err
		}
		for _, l := range lines {
			if l != "?" && !strings.EqualFold(l, "ATZ") {
				name = clip(l)
			}
		}
		if err == nil && name != "" {
			break
		}
	}
	if name == "" {
		return errors.Join(errors.New("it does not say what it is"), err)
	}
	a.about = AdapterAbout{Protocol: 1, Adapter: name}
	for _, c := range []struct {
		text   string
		needed bool
	}{{"ATE0", true}, {"ATL0", false}, {"ATS0", false}, {"ATH1", false}, {"ATAT1", false}, {"ATSP0", true}} {
		lines, err := a.command(ctx, c.text, max(setupWait, a.Patience))
		if err != nil {
			return err
		}
		if c.needed && !contains(lines, "OK") {
			return fmt.Errorf("it does not take %s", c.text)
		}
	}
	return nil
}

func contains(lines []string, word string) bool {
	for _, l := range lines {
		if strings.EqualFold(l, word) {
			return true
		}
	}
	return false
}

// command sends a line and returns the lines up to the prompt.
func (a *AT) command(ctx context.Context, text string, wait time.Duration) ([]string, error) {
	a.link.drop()
	if err := a.link.write([]byte(text + "\r")); err != nil {
		return nil, errGone
	}
	b, err := a.link.answer(ctx, '>', wait, mostAnswer)
	if err == nil || errors.Is(err, errGone) {
		return splitAnswer(b), err
	}
	// The prompt does not come, or nobody waits for it any more: any character stops what the
	// adapter is doing, so that the next answer is that of the next request.
	if a.link.write([]byte("\r")) != nil {
		return nil, errGone
	}
	if _, late := a.link.answer(context.WithoutCancel(ctx), '>', stopWait, mostAnswer); late != nil || ctx.Err() != nil {
		return nil, err
	}
	return nil, errStopped
}

// errStopped is an answer that took too long; the adapter is ready again.
var errStopped = errors.New("the adapter did not come to an end with its answer")

// splitAnswer takes an answer apart, without what adapters put between lines.
func splitAnswer(b []byte) (out []string) {
	b = bytes.ReplaceAll(b, []byte{0}, nil) // some send noughts
	for _, l := range strings.FieldsFunc(strings.ToValidUTF8(string(b), "?"), func(r rune) bool { return r == '\r' || r == '\n' }) {
		l = strings.TrimSpace(strings.Map(func(r rune) rune {
			if unicode.IsPrint(r) {
				return r
			}
			return -1
		}, l))
		if l != "" && len(out) < maxLines {
			out = append(out, l)
		}
	}
	return out
}

// About says what the adapter is.
func (a *AT) About() AdapterAbout { return a.about }

// CAN reports whether the car's bus is CAN, where several data can be asked for at once;
// false while no bus has been found.
func (a *AT) CAN() bool {
	n := strings.TrimPrefix(strings.ToUpper(a.bus), "A") // found by itself
	return len(n) == 1 && strings.Contains("6789ABC", n)
}

// Close ends the connection.
func (a *AT) Close() error { return a.link.close() }

// Work refuses: these adapters ask control units and command no valve.
func (a *AT) Work(context.Context, string) error {
	return errors.New("this adapter only asks the car's control units; it cannot command a valve. Work the valve by hand, or with its own supply")
}

// trouble is what an adapter says instead of an answer.
type trouble int

const (
	none      trouble = iota
	noData            // no control unit answers this
	noBus             // no control unit answers anything
	disturbed         // the bus or the adapter was disturbed: ask again
	unknown           // it does not understand
	wasReset          // it began anew, and is not set up any more
)

// troubles are what adapters print, in capitals, with what it means. The first that a line
// begins with, behind what it was doing, counts.
var troubles = []struct {
	words string
	is    trouble
}{
	{"NO DATA", noData}, {"UNABLE TO CONNECT", noBus}, {"STOPPED", disturbed}, {"BUFFER FULL", disturbed}, {"BUS BUSY", disturbed}, {"BUS ERROR", disturbed},
	{"CAN ERROR", disturbed}, {"FB ERROR", disturbed}, {"DATA ERROR", disturbed}, {"<DATA ERROR", disturbed}, {"RX ERROR", disturbed}, {"<RX ERROR", disturbed},
	{"ERROR", disturbed}, {"ACT ALERT", wasReset}, {"LP ALERT", wasReset}, {"LV RESET", wasReset}, {"ERR", wasReset}, {"?", unknown},
}

// doing is what an adapter says of what it is doing; the answer may stand behind it.
var doing = regexp.MustCompile(`(?i)^(SEARCHING|BUS INIT)[.: ]*(OK)?`)

// read sorts the lines of an answer: those of control units, and what the adapter says
// instead.
func readAnswer(request string, lines []string) (out []string, t trouble, said string) {
	for _, l := range lines {
		initFailed := strings.HasPrefix(strings.ToUpper(l), "BUS INIT")
		l = strings.TrimSpace(doing.ReplaceAllString(l, ""))
		if l == "" {
			continue
		}
		if strings.EqualFold(strings.ReplaceAll(l, " ", ""), request) { // it echoes what it was told not to
			t, said = wasReset, l
			continue
		}
		is := none
		upper := strings.ToUpper(l)
		for _, x := range troubles {
			if strings.HasPrefix(upper, x.words) || len(x.words) > 3 && strings.HasSuffix(upper, x.words) {
				is = x.is
				break
			}
		}
		switch {
		case is != none:
			if t == none {
				t, said = is, l
			}
			if is == disturbed && initFailed {
				t = noBus
			}
		case !hexLine(l):
			if t == none {
				t, said = wasReset, l // its greeting
			}
		default:
			out = append(out, l)
		}
	}
	return out, t, said
}

// hexLine reports whether a line can be of a control unit: hex, with the number of its
// frame before it where there are several.
func hexLine(l string) bool {
	if i := strings.IndexByte(l, ':'); i >= 0 && i <= 2 {
		l = l[:i] + l[i+1:]
	}
	for _, r := range l {
		if !strings.ContainsRune("0123456789abcdefABCDEF ", r) {
			return false
		}
	}
	return true
}

// Ask sends a request in hex and returns the lines of the control units that answer it. An
// answer that was disturbed is asked for again; an adapter that began anew is set up again.
func (a *AT) Ask(ctx context.Context, request string) ([]string, error) {
	request = strings.ToUpper(strings.Join(strings.Fields(request), ""))
	if request == "" || len(request) > 16 || !hexLine(request) {
		return []string{ErrorWord + ": this is no request"}, nil
	}
	var out []string
	var t trouble
	said := ""
	for range 3 {
		wait := a.Patience
		if !a.found {
			wait = max(wait, searchWait)
		}
		lines, err := a.command(ctx, request, wait)
		switch {
		case ctx.Err() != nil:
			return nil, errors.New("the scan was stopped")
		case errors.Is(err, errStopped):
			t, said = disturbed, "no end"
			continue
		case err != nil:
			return nil, errAdapterGone
		}
		out, t, said = readAnswer(request, lines)
		switch t {
		case disturbed:
			if strings.HasPrefix(strings.ToUpper(said), "BUFFER FULL") && len(out) > 0 {
				out = nil // what came is not whole
			}
			continue
		case wasReset:
			if err := a.setUp(ctx); err != nil {
				return nil, errors.New("the adapter began anew and cannot be set up: is its supply steady?")
			}
			continue
		}
		break
	}
	return a.answered(ctx, out, t, said)
}

// answered is what an answer comes to for whoever asked.
func (a *AT) answered(ctx context.Context, out []string, t trouble, said string) ([]string, error) {
	switch t {
	case none:
		if len(out) == 0 {
			return []string{NoData}, nil
		}
		if !a.found {
			a.found = true
			if lines, err := a.command(ctx, "ATDPN", max(setupWait, a.Patience)); err == nil && len(lines) > 0 {
				a.bus = lines[len(lines)-1]
			}
		}
		return out, nil
	case noData:
		if len(out) > 0 {
			return out, nil
		}
		return []string{NoData}, nil
	case noBus:
		a.found = false
		return []string{NoData}, nil
	case unknown:
		return []string{ErrorWord + ": the adapter does not understand the request"}, nil
	}
	return []string{ErrorWord + ": the adapter says " + clip(said)}, nil
}
