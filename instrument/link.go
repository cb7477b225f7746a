package instrument

import (
	"bytes"
	"context"
	"errors"
	"io"
	"sync"
	"time"
)

// link is a connection of bytes, to a socket or a serial device, of which each wait has
// its limit. One goroutine reads.
type link struct {
	rw   io.ReadWriteCloser
	in   chan []byte
	over chan struct{}
	once sync.Once
	left []byte // came and not taken yet
	long bool   // in the middle of a line of which the beginning was thrown away
}

// What a wait ends with.
var (
	errSilent = errors.New("nothing came in time")
	errGone   = errors.New("the connection is closed")
	errLong   = errors.New("the line has no end")
)

// maxLine is how long a line of an instrument that says what it is may be: what a simulated
// technician read in a whole test is one.
const maxLine = 1 << 20

func newLink(rw io.ReadWriteCloser) *link {
	l := &link{rw: rw, in: make(chan []byte, 16), over: make(chan struct{})}
	go l.pump()
	return l
}

// pump takes what comes, so that a wait can end before it does.
func (l *link) pump() {
	defer close(l.in)
	buf := make([]byte, 4096)
	nothing := 0
	for {
		n, err := l.rw.Read(buf)
		if n > 0 {
			nothing = 0
			select {
			case l.in <- bytes.Clone(buf[:n]):
			case <-l.over:
				return
			}
		} else if nothing++; nothing > 100 { // a serial device that was pulled reads as nothing, again and again
			return
		}
		if err != nil {
			return
		}
	}
}

// fill waits for something to come.
func (l *link) fill(ctx context.Context, wait time.Duration) error {
	if wait <= 0 {
		return errSilent
	}
	t := time.NewTimer(wait)
	defer t.Stop()
	select {
	case b, ok := <-l.in:
		if !ok {
			return errGone
		}
		l.left = append(l.left, b...)
		return nil
	case <-t.C:
		return errSilent
	case <-ctx.Done():
		return ctx.Err()
	}
}

// line waits for a line, which ends with a line feed, a carriage return or both, and
// returns it without them. One longer than most is thrown away, with all that belongs to it.
func (l *link) line(ctx context.Context, wait time.Duration, most int) ([]byte, error) {
	end := time.Now().Add(wait)
	for {
		if i := bytes.IndexAny(l.left, "\r\n"); i >= 0 {
			line := bytes.Clone(l.left[:i])
			l.left = l.left[i+1:]
			switch {
			case l.long:
				l.long = false
				continue
			case len(line) > most:
				return nil, errLong
			case len(line) == 0:
				continue // between a carriage return and its line feed
			}
			return line, nil
		}
		if len(l.left) > most {
			l.left = l.left[:0]
			if !l.long {
				l.long = true
				return nil, errLong
			}
		}
		if err := l.fill(ctx, time.Until(end)); err != nil {
			return nil, err
		}
	}
}

// answer waits for what ends with a mark and returns it without; more than most bytes are
// none.
func (l *link) answer(ctx context.Context, mark byte, wait time.Duration, most int) ([]byte, error) {
	end := time.Now().Add(wait)
	for {
		if i := bytes.IndexByte(l.left, mark); i >= 0 {
			b := bytes.Clone(l.left[:i])
			l.left = l.left[i+1:]
			return b, nil
		}
		if len(l.left) > most {
			l.left = l.left[:0]
			return nil, errLong
		}
		if err := l.fill(ctx, time.Until(end)); err != nil {
			return bytes.Clone(l.left), err
		}
	}
}

// drop throws away what has come and was not taken.
func (l *link) drop() {
	l.left = l.left[:0]
	for {
		select {
		case _, ok := <-l.in:
			if !ok {
				return
			}
		default:
			return
		}
	}
}

// write sends bytes; whoever does not take them within a second is gone.
func (l *link) write(b []byte) error {
	if c, ok := l.rw.(interface{ SetWriteDeadline(time.Time) error }); ok {
		_ = c.SetWriteDeadline(time.Now().Add(time.Second))
	}
	_, err := l.rw.Write(b)
	return err
}

// close ends the link.
func (l *link) close() error {
	l.once.Do(func() { close(l.over) })
	return l.rw.Close()
}
