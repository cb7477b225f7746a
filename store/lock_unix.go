//go:build unix

package store

import (
	"os"
	"syscall"
)

// lockFile takes the lock on an open file, or fails at once.
func lockFile(f *os.File) error { return syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) }
