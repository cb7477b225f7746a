package standin

import (
	"context"
	"encoding/hex"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"sync"
	"time"

	"wexter/instrument"
)

// ATModel is how an adapter with AT commands behaves.
type ATModel struct {
	Name   string        // its greeting
	Delay  time.Duration // of a request to the car
	Search time.Duration // of the first request
	Old    bool          // it knows no ATAT1, ATS0 and ATH1
}

// AT is the same car as its Adapter's, behind an adapter that is set up with AT commands
// and shows a prompt.
type AT struct {
	ATModel
	car *Adapter

	mu      sync.Mutex
	mishaps []string // one each request, in turn
	pulled  bool     // it shows no prompt any more
}

// NewAT makes one of the car of an adapter.
func NewAT(a *Adapter, m ATModel) *AT {
	if m.Name == "" {
		m.Name = "OBD to serial v1.5"
	}
	return &AT{ATModel: m, car: a}
}

// Mishaps of an adapter with AT commands, each at the next request to the car.
const (
	ATStopped   = "stopped"
	ATFull      = "buffer-full"
	ATError     = "can-error"
	ATUnknown   = "unknown"
	ATNoPrompt  = "no-prompt" // until it is told to stop
	ATDead      = "dead"      // for good
	ATReset     = "reset"     // its supply broke down: it is as it comes
	ATNoConnect = "no-connect"
	ATNoise     = "noise"
)

// Mishap makes something happen at the next request.
func (a *AT) Mishap(word string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.mishaps = append(a.mishaps, word)
}

// Serve answers everyone who connects until ctx ends.
func (a *AT) Serve(ctx context.Context, l net.Listener) error {
	return accept(ctx, l, func(ctx context.Context, conn net.Conn) { a.Talk(ctx, conn) })
}

// atState is how an adapter is set up now; fresh is as it comes.
type atState struct{ echo, feeds, spaces, headers, found bool }

var fresh = atState{echo: true, feeds: true, spaces: true}

// Talk answers one who speaks to the adapter until he hangs up.
func (a *AT) Talk(ctx context.Context, with io.ReadWriter) {
	s := fresh
	buf := make([]byte, 1)
	var line []byte
	for ctx.Err() == nil {
		if _, err := with.Read(buf); err != nil {
			return
		}
		if buf[0] != '\r' {
			if line = append(line, buf[0]); len(line) > 100 {
				line = line[:0]
			}
			continue
		}
		text := strings.ToUpper(strings.Join(strings.Fields(string(line)), ""))
		line = line[:0]
		out := ""
		if s.echo && text != "" {
			out = text + "\r"
		}
		said, prompt := a.answer(ctx, &s, text)
		end := "\r"
		if s.feeds {
			end = "\r\n"
		}
		if said != "" {
			out += strings.Join(strings.Split(said, "\n"), end) + end + end
		}
		if prompt {
			out += ">"
		}
		if c, ok := with.(net.Conn); ok {
			_ = c.SetWriteDeadline(time.Now().Add(writeWait))
		}
		if _, err := io.WriteString(with, out); err != nil {
			return
		}
	}
}

// answer is what it says to a line, and whether it shows its prompt behind it.
func (a *AT) answer(ctx context.Context, s *atState, text string) (string, bool) {
	a.mu.Lock()
	pulled := a.pulled
	a.mu.Unlock()
	switch {
	case pulled:
		return "", false
	case text == "":
		return "STOPPED", true
	case strings.HasPrefix(text, "AT"):
		return a.command(s, text[2:]), true
	}
	return a.request(ctx, s, text)
}

// command answers a command to the adapter itself.
func (a *AT) command(s *atState, text string) string {
	on := strings.HasSuffix(text, "1")
	switch text {
	case "Z":
		*s = fresh
		return "\n" + a.Name
	case "E0", "E1":
		s.echo = on
	case "L0", "L1":
		s.feeds = on
	case "S0", "S1", "H0", "H1", "AT1":
		if a.Old {
			return "?"
		}
		switch text[0] {
		case 'S':
			s.spaces = on
		case 'H':
			s.headers = on
		}
	case "SP0":
		s.found = false
	case "DPN":
		if a.car.car.onCAN() {
			return "A6"
		}
		return "A5"
	default:
		return "?"
	}
	return "OK"
}

// request answers a request to the car.
func (a *AT) request(ctx context.Context, s *atState, text string) (string, bool) {
	a.mu.Lock()
	mishap := ""
	if len(a.mishaps) > 0 {
		mishap, a.mishaps = a.mishaps[0], a.mishaps[1:]
	}
	a.pulled = mishap == ATDead
	a.mu.Unlock()
	pause := func(d time.Duration) {
		select {
		case <-ctx.Done():
		case <-time.After(d):
		}
	}
	switch mishap {
	case ATStopped:
		return "STOPPED", true
	case ATFull:
		return a.lines(*s, text) + "\nBUFFER FULL", true
	case ATError:
		return "CAN ERROR", true
	case ATUnknown:
		return "?", true
	case ATNoPrompt, ATDead:
		return "7E80", false
	case ATReset:
		*s = fresh
		return "LV RESET\n\n" + a.Name, true
	case ATNoConnect:
		s.found = false
		return "SEARCHING...\nUNABLE TO CONNECT", true
	case ATNoise:
		return "7E8 0\x00\x7f~ 41", true
	}
	searching := ""
	if !s.found {
		pause(a.Search)
		s.found, searching = true, "SEARCHING..."
	}
	pause(a.Delay)
	if _, err := hex.DecodeString(text); err != nil {
		return "?", true
	}
	said := a.lines(*s, text)
	if searching != "" {
		said = searching + "\n" + said
	}
	return said, true
}

// lines is what the car answers, as the adapter prints it.
func (a *AT) lines(s atState, text string) string {
	var out []string
	for _, l := range a.car.Answer(text) {
		switch {
		case l == instrument.NoData || strings.HasPrefix(l, instrument.ErrorWord):
			return "NO DATA"
		case !s.headers:
			out = append(out, bare(l, a.car.car.onCAN())...)
		default:
			out = append(out, l)
		}
	}
	if !s.spaces {
		for i, l := range out {
			out[i] = strings.ReplaceAll(l, " ", "")
		}
	}
	return strings.Join(out, "\n")
}

// bare is a line without its header, as adapters print it: frames of a longer answer get
// their number, and its length stands before them.
func bare(line string, can bool) []string {
	f := strings.Fields(line)
	if !can {
		return []string{strings.Join(f[3:len(f)-1], " ")}
	}
	first, _ := strconv.ParseUint(f[1], 16, 8)
	switch first >> 4 {
	case 0:
		return []string{strings.Join(f[2:2+int(first)], " ")}
	case 1:
		return []string{fmt.Sprintf("%X%s", first&15, f[2]), "0: " + strings.Join(f[3:], " ")}
	}
	return []string{fmt.Sprintf("%X: ", first&15) + strings.Join(f[2:], " ")}
}

// Mend gives an adapter that was dead its prompt back.
func (a *AT) Mend() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.pulled = false
}
