//go:build !linux

package standin

import (
	"errors"
	"os"
)

// Terminal is a pseudo-terminal; this system has none that Wexter knows.
type Terminal struct {
	*os.File
	Name string
}

// OpenTerminal refuses.
func OpenTerminal() (*Terminal, error) {
	return nil, errors.New("stand-ins at serial devices need Linux; serve them over the network")
}
