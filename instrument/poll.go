package instrument

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"wexter/core/obd"
	"wexter/ingest"
)

// watched are the live data that are read again and again when a car has them, those that
// change fast first; slow are those that do not, which are read now and then. Asked are read only
// where a bench names them, and then as often as the fast ones.
var (
	watched = []byte{0x0C, 0x06, 0x07, 0x08, 0x09, 0x0B, 0x10, 0x04, 0x11, 0x2C, 0x2D, 0x2E, 0x32, 0x6B, 0x0D}
	slow    = []byte{0x05, 0x0F, 0x2F, 0x33, 0x42, 0x46, 0x1F}
	asked   = []byte{0x03, 0x44, 0x54}
)

// slowEvery is how often slow data are read.
const slowEvery = 5 * time.Second

// mostGroup is how many live data a request on CAN may ask for (SAE J1979, 2002, from
// memory).
const mostGroup = 6

// Poller reads live data of a car's control unit through a scan adapter as fast as they
// are answered: on CAN several with one request. A value counts from the middle between
// request and answer.
type Poller struct {
	scanner Scanner
	turn    turn // whoever asks just now
	about   About
	all     [3][]byte // what the car has: fast, slow, and what is read only where it is named
	fast    [][]byte  // requests that are made in turn
	slow    [][]byte
	at      int // the next of the fast ones
	slowAt  int
	slowDue time.Time
	grouped bool
	stamps  stamps
	n       int64
	asked   time.Time // the last request
	empty   int       // answers in a row that brought nothing
	rest    atomic.Int64
	wants   atomic.Pointer[[]string] // keys of channels that are needed just now; nil: all
	regroup atomic.Bool
}

// Poll asks a car what live data it has and reads them from then on; it takes the scanner
// over. Want are the PIDs that are needed; none means all that are usually watched.
func Poll(ctx context.Context, s Scanner, want []byte) (*Poller, error) {
	has, err := Announced(ctx, s)
	if err != nil {
		return nil, err
	}
	p := &Poller{scanner: s, turn: make(turn, 1), stamps: stamps{time.Now()}, grouped: s.CAN()}
	a := s.About()
	p.about = About{Protocol: 1, Name: a.Adapter, Session: OwnClock, Simulated: a.Simulated, NoClock: true}
	p.about.Commands = []string{LeakCheck}
	if len(a.Commands) > 0 && a.Keeps {
		p.about.Commands = append(p.about.Commands, Valve, Keep)
		if a.Simulated { // a simulated car is driven by whoever tells it
			p.about.Commands, p.about.Takes = append(p.about.Commands, Ask), []string{TakesDrive, TakesSet}
		}
	}
	pick := func(list []byte) (out []byte) {
		for _, x := range list {
			if slices.Contains(has, x) && (len(want) == 0 || slices.Contains(want, x)) {
				out = append(out, x)
				p.about.Channels = append(p.about.Channels, pidChannel(x))
			}
		}
		return out
	}
	fast, slow := pick(watched), pick(slow)
	if len(fast)+len(slow) == 0 {
		return nil, errors.New("the car has none of the live data that are needed")
	}
	p.all = [3][]byte{fast, slow, pick(asked)}
	p.arrange()
	return p, nil
}

// Want says which channels are needed just now: only those are asked for, the more often the
// fewer they are. None means all.
func (p *Poller) Want(keys []string) {
	p.wants.Store(&keys)
	p.regroup.Store(true)
}

// arrange puts what is needed of what the car has into requests.
func (p *Poller) arrange() {
	needed := func(pids []byte) (out []byte) {
		for _, x := range pids {
			if w := p.wants.Load(); w == nil || len(*w) == 0 || slices.Contains(*w, PIDKey(x)) {
				out = append(out, x)
			}
		}
		return out
	}
	often := needed(p.all[0])
	if w := p.wants.Load(); w != nil && len(*w) > 0 {
		often = append(often, needed(p.all[2])...)
	}
	p.fast, p.slow, p.at, p.slowAt = p.group(often), p.group(needed(p.all[1])), 0, 0
	if len(p.fast)+len(p.slow) == 0 { // the car has none of them: it is still seen to answer
		p.fast, p.slow = p.group(p.all[0]), p.group(p.all[1])
	}
}

// LiveChannel is the channel of a PID by its key; false for one that is none.
func LiveChannel(key string) (Channel, bool) {
	var pid byte
	if _, err := fmt.Sscanf(key, "pid-%02X", &pid); err != nil {
		return Channel{}, false
	}
	c := pidChannel(pid)
	return c, c.Name != ""
}

// PIDKey is the key of the channel of a PID.
func PIDKey(pid byte) string { return fmt.Sprintf("pid-%02X", pid) }

// pidChannel is the channel of a PID, with the range that its bytes can hold.
func pidChannel(pid byte) Channel {
	n, _ := obd.Length(pid)
	c := Channel{Key: PIDKey(pid)}
	v, _ := obd.Decode(pid, make([]byte, n))
	c.Name, c.Unit = v.Name, v.Unit
	if n <= 2 {
		one := make([]byte, n)
		one[n-1] = 1
		if w, ok := obd.Decode(pid, one); ok {
			c.Resolution = max(w.Value-v.Value, v.Value-w.Value)
		}
	}
	return c
}

// group puts PIDs into requests.
func (p *Poller) group(pids []byte) (out [][]byte) {
	size := 1
	if p.grouped {
		size = mostGroup
	}
	for g := range slices.Chunk(pids, size) {
		out = append(out, g)
	}
	return out
}

// About says what is read.
func (p *Poller) About() About { return p.about }

// Do commands a valve, through an adapter that lets it go when nobody asks for it any more.
func (p *Poller) Do(ctx context.Context, c Command) error {
	var words string
	switch {
	case !p.about.Can(c.Do):
		return errByHand
	case c.Do == LeakCheck:
		p.turn.take()
		defer p.turn.passOn()
		return ForceLeakCheck(ctx, p.scanner)
	case c.Do == Keep:
		words = fmt.Sprintf("keep %.0f", c.Keep)
	case c.Do == Ask && (strings.HasPrefix(c.Words, "drive ") || strings.HasPrefix(c.Words, "set ")) && !strings.ContainsAny(c.Words, "\r\n"):
		words = c.Words
	case strings.ContainsAny(c.Words, " \t\r\n") || c.Words == "" || c.Do == Ask:
		return errors.New("say which valve")
	case c.Target < 0:
		words = fmt.Sprintf("command %s release", c.Words)
	default:
		words = fmt.Sprintf("command %s %.0f for %.0f", c.Words, 100*c.Target, c.Keep)
	}
	p.turn.take()
	defer p.turn.passOn()
	return p.scanner.Work(ctx, words)
}

// Close lets the adapter go.
func (p *Poller) Close() error { return p.scanner.Close() }

// Rest says how long to wait between requests: nothing on a bench, longer where somebody only
// wants to see that the car answers.
func (p *Poller) Rest(d time.Duration) { p.rest.Store(int64(d)) }

// leastApart is from one request to the next at least: no car answers sooner, but a simulated
// one does.
const leastApart = 20 * time.Millisecond

// mostEmpty is how many answers in a row may bring nothing before it is a fault.
const mostEmpty = 3

// Next asks for the next data and waits for them.
func (p *Poller) Next(ctx context.Context) (Reading, error) {
	for {
		if d := max(time.Duration(p.rest.Load()), leastApart-time.Since(p.asked)); d > 0 && p.n > 0 {
			select {
			case <-ctx.Done():
				return Reading{}, ctx.Err()
			case <-time.After(d):
			}
		}
		p.asked = time.Now()
		if p.regroup.Swap(false) {
			p.arrange()
		}
		pids := p.next()
		began := time.Now()
		lines, err := p.ask(ctx, pids)
		if err != nil {
			return Reading{}, err
		}
		took := time.Since(began)
		values, says := p.values(pids, lines)
		if len(values) > 0 {
			p.empty = 0
			p.n++
			return Reading{N: p.n, Time: p.stamps.at(began.Add(took / 2)), Within: took.Seconds(), Values: values}, nil
		}
		if p.grouped && len(pids) > 1 { // this car does not take several at once
			p.grouped = false
			p.arrange()
			continue
		}
		if p.empty++; p.empty >= mostEmpty {
			p.n++
			return Reading{N: p.n, Time: p.stamps.now(), Fault: says}, nil
		}
	}
}

func (p *Poller) ask(ctx context.Context, pids []byte) ([]string, error) {
	p.turn.take()
	defer p.turn.passOn()
	return p.scanner.Ask(ctx, fmt.Sprintf("01%X", pids))
}

// next is the next request.
func (p *Poller) next() []byte {
	if len(p.slow) > 0 && (len(p.fast) == 0 || !time.Now().Before(p.slowDue)) {
		g := p.slow[p.slowAt]
		if p.slowAt++; p.slowAt == len(p.slow) {
			p.slowAt, p.slowDue = 0, time.Now().Add(slowEvery)
		}
		return g
	}
	g := p.fast[p.at%len(p.fast)]
	p.at = (p.at + 1) % len(p.fast)
	return g
}

// values are those of an answer that were asked for: of the engine's control unit.
func (p *Poller) values(pids []byte, lines []string) (out []Value, says string) {
	says = "the car's control unit does not answer: is the key on?"
	for _, l := range lines {
		if why, bad := strings.CutPrefix(l, ErrorWord+": "); bad {
			says = why
		}
	}
	scan, err := ingest.ReadScan([]byte(strings.Join(lines, "\n")))
	if err != nil {
		return nil, says
	}
	for _, pid := range pids {
		if v, ok := scan.Live[fmt.Sprintf("%02X", pid)]; ok {
			out = append(out, Value{Channel: PIDKey(pid), Value: v.Value})
		}
	}
	return out, says
}

// Announced asks which live data a car has.
func Announced(ctx context.Context, s Scanner) ([]byte, error) {
	var text strings.Builder
	var scan obd.Scan
	for base := 0; base <= 0x60; base += 0x20 {
		if base > 0 && !slices.Contains(scan.Supported[1], byte(base)) {
			break
		}
		lines, err := s.Ask(ctx, fmt.Sprintf("01 %02X", base))
		if err != nil {
			return nil, err
		}
		for _, l := range lines {
			if l != Searching {
				fmt.Fprintln(&text, l)
			}
		}
		if scan, err = ingest.ReadScan([]byte(text.String())); err != nil {
			return nil, errors.New("no control unit answers: is the key on, and the plug fully in its socket?")
		}
	}
	return scan.Supported[1], nil
}
