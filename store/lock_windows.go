package store

import (
	"os"

	"golang.org/x/sys/windows"
)

// lockFile takes the lock on an open file, or fails at once. It lies far beyond the line
// that says who holds it, which others must be able to read.
func lockFile(f *os.File) error {
	at := windows.Overlapped{Offset: 1 << 20}
	return windows.LockFileEx(windows.Handle(f.Fd()), windows.LOCKFILE_EXCLUSIVE_LOCK|windows.LOCKFILE_FAIL_IMMEDIATELY, 0, 1, 0, &at)
}
