//go:build !linux

package peer

import (
	"errors"
	"os"
)

// Hold does not work on this system.
func Hold(pid, uid int) (*os.Process, error) { return nil, errors.ErrUnsupported }
