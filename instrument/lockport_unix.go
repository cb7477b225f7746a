//go:build unix

package instrument

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
)

// lockFolder is where programs say which serial devices they have open (Filesystem
// Hierarchy Standard 3.0, 2015, section 5.9: LCK.. and the name of the device, holding the
// number of the process).
const lockFolder = "/var/lock"

// LockFile is where a program says that it has a serial device open.
func LockFile(name string) string {
	return filepath.Join(lockFolder, "LCK.."+strings.ReplaceAll(strings.TrimPrefix(name, "/dev/"), "/", "_"))
}

var ports struct {
	sync.Mutex
	open map[string]bool
}

// lockPort takes a serial device for this program; what it returns lets it go. Where the
// system has no folder for locks only this program keeps order.
func lockPort(name string) (free func(), err error) {
	ports.Lock()
	defer ports.Unlock()
	if ports.open[name] {
		return nil, fmt.Errorf("%s is in use here already", name)
	}
	file := LockFile(name)
	if b, err := os.ReadFile(file); err == nil {
		pid, err := strconv.Atoi(strings.TrimSpace(string(b)))
		if err == nil && pid != os.Getpid() && syscall.Kill(pid, 0) != syscall.ESRCH {
			return nil, busy(name)
		}
		_ = os.Remove(file) // of a program that is gone
	}
	mine := false
	if f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644); err == nil {
		fmt.Fprintf(f, "%10d\n", os.Getpid())
		mine = f.Close() == nil
	} else if os.IsExist(err) { // somebody was quicker
		return nil, busy(name)
	}
	if ports.open == nil {
		ports.open = map[string]bool{}
	}
	ports.open[name] = true
	return func() {
		ports.Lock()
		defer ports.Unlock()
		delete(ports.open, name)
		if mine {
			_ = os.Remove(file)
		}
	}, nil
}
