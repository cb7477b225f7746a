package store

import (
	"fmt"
	"os"
	"strings"
	"time"
)

// Hold is the right to serve a shop: one server at a time. The operating system frees it
// when the process ends, however it ends.
type Hold struct{ f *os.File }

// HeldError says who serves the shop already.
type HeldError struct{ Path, By string }

func (e *HeldError) Error() string {
	if e.By == "" {
		return fmt.Sprintf("the shop at %s is served by another Wexter already; stop that one first", e.Path)
	}
	return fmt.Sprintf("the shop at %s is served already: %s. Use that one, or stop it first", e.Path, e.By)
}

// Serve takes the right to serve the shop at path and writes down who holds it. Every
// other command works beside it.
func Serve(path, who string, now time.Time) (*Hold, error) {
	f, err := os.OpenFile(path+".lock", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be locked: %w", path, err)
	}
	if err := lockFile(f); err != nil {
		by := make([]byte, 300)
		n, _ := f.ReadAt(by, 0)
		f.Close()
		return nil, &HeldError{Path: path, By: strings.TrimSpace(strings.ToValidUTF8(string(by[:n]), ""))}
	}
	line := fmt.Sprintf("process %d, %s, since %s\n", os.Getpid(), who, now.Format("2006-01-02 15:04"))
	if err := f.Truncate(0); err == nil {
		_, err = f.WriteAt([]byte(line), 0)
		if err == nil {
			return &Hold{f}, nil
		}
	}
	f.Close()
	return nil, fmt.Errorf("%s.lock cannot be written: %w", path, err)
}

// Close gives the right back. The file stays: to remove it would let two servers each
// hold a file of that name.
func (h *Hold) Close() error {
	_ = h.f.Truncate(0)
	return h.f.Close()
}
