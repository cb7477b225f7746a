package standin

import (
	"context"
	"fmt"
	"io"
	"maps"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"wexter/core/units"
	"wexter/instrument"
)

// Printer prints what a simulated module reads as lines of numbers, as a microcontroller
// does that somebody has soldered to a sensor: pressure, then the wall's temperature.
type Printer struct {
	Unit      string // of the pressure
	Separator string
	Comma     bool // decimal comma
	Times     int  // how often each reading is printed, a millisecond apart: 90 makes nearly 1 kHz of 10 Hz

	mu     sync.Mutex
	outs   map[io.Writer]bool
	mishap string
	last   string
}

// Mishaps of a printer, as commands to its module.
const (
	Garbage   = "garbage"    // bytes that are no text
	Halves    = "halves"     // lines that are cut
	Silence   = "silence"    // nothing
	OtherUnit = "other-unit" // the same in Pa
	Endless   = "endless"    // no line feed
	NoMishap  = "usual"
)

// Do changes the mishap; false when the word is none.
func (p *Printer) Do(word string) bool {
	switch word {
	case Garbage, Halves, Silence, OtherUnit, Endless, NoMishap:
		p.mu.Lock()
		p.mishap = word
		p.mu.Unlock()
		return true
	}
	return false
}

// Take prints a reading to everybody who listens. Who does not take it in time is dropped.
func (p *Printer) Take(r instrument.Reading) {
	p.mu.Lock()
	line := p.line(r)
	outs := slices.Collect(maps.Keys(p.outs))
	p.mu.Unlock()
	for i := range max(p.Times, 1) {
		if i > 0 {
			time.Sleep(time.Millisecond)
		}
		for _, w := range outs {
			if c, ok := w.(net.Conn); ok {
				_ = c.SetWriteDeadline(time.Now().Add(writeWait))
			}
			if _, err := io.WriteString(w, line); err != nil {
				p.drop(w)
			}
		}
	}
}

func (p *Printer) drop(w io.Writer) {
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.outs, w)
}

// line is what is printed of a reading, with its mishap. The lock is held.
func (p *Printer) line(r instrument.Reading) string {
	v, ok := r.Of(instrument.PressureKey)
	if !ok {
		return "nan\n"
	}
	unit := units.Must(p.Unit, units.Pressure)
	if p.mishap == OtherUnit {
		unit = units.Must("Pa", units.Pressure)
	}
	out := fmt.Sprintf("%.3f", unit.FromSI(v.Value))
	if wall, ok := r.Of(instrument.WallKey); ok {
		out += fmt.Sprintf("%s%.2f", p.Separator, wall.Value-units.ZeroCelsius)
	}
	if p.Comma {
		out = strings.ReplaceAll(out, ".", ",")
	}
	switch p.mishap {
	case Garbage:
		return "\xff\xfe#\x00~\n"
	case Halves:
		return out[:max(len(out)-7, 0)] + "\n"
	case Silence:
		return ""
	case Endless:
		return out
	}
	return out + "\r\n"
}

// Serve prints to everybody who connects until ctx ends.
func (p *Printer) Serve(ctx context.Context, l net.Listener) error {
	return accept(ctx, l, func(ctx context.Context, conn net.Conn) { p.Print(ctx, conn) })
}

// Print prints to one who listens until he hangs up or ctx ends.
func (p *Printer) Print(ctx context.Context, to io.ReadWriter) {
	p.mu.Lock()
	if p.outs == nil {
		p.outs = map[io.Writer]bool{}
	}
	p.outs[to] = true
	p.mu.Unlock()
	gone := make(chan struct{})
	go func() { // what he says is not heeded
		defer close(gone)
		_, _ = io.Copy(io.Discard, to)
	}()
	select {
	case <-gone:
	case <-ctx.Done():
	}
	p.drop(to)
}
