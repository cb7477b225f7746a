package standin

import (
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// Terminal is a pseudo-terminal: what is written to it comes out of the serial device of
// its name, and the other way round.
type Terminal struct {
	*os.File
	Name  string
	other *os.File // kept open, so that the device is there while nobody reads it
}

// OpenTerminal makes a pseudo-terminal that changes nothing of what goes through.
func OpenTerminal() (*Terminal, error) {
	// Not blocking, so that closing it ends a read that waits.
	fd, err := unix.Open("/dev/ptmx", unix.O_RDWR|unix.O_NOCTTY|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	m := os.NewFile(uintptr(fd), "/dev/ptmx")
	fail := func(err error) (*Terminal, error) {
		m.Close()
		return nil, err
	}
	n, err := unix.IoctlGetInt(fd, unix.TIOCGPTN)
	if err != nil {
		return fail(err)
	}
	if err := unix.IoctlSetPointerInt(fd, unix.TIOCSPTLCK, 0); err != nil {
		return fail(err)
	}
	t := &Terminal{File: m, Name: fmt.Sprintf("/dev/pts/%d", n)}
	if t.other, err = os.OpenFile(t.Name, os.O_RDWR|unix.O_NOCTTY, 0); err != nil {
		return fail(err)
	}
	a, err := unix.IoctlGetTermios(int(t.other.Fd()), unix.TCGETS)
	if err == nil {
		a.Iflag, a.Oflag, a.Lflag = 0, 0, 0
		a.Cc[unix.VMIN], a.Cc[unix.VTIME] = 1, 0
		err = unix.IoctlSetTermios(int(t.other.Fd()), unix.TCSETS, a)
	}
	if err != nil {
		t.other.Close()
		return fail(err)
	}
	return t, nil
}

// Close takes the device away, as when its plug is pulled.
func (t *Terminal) Close() error {
	t.other.Close()
	return t.File.Close()
}
