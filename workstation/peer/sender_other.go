//go:build !linux

package peer

import (
	"errors"
	"net"
)

// AskSender does not work on this system.
func AskSender(*net.UnixConn) error { return errors.ErrUnsupported }

// First does not work on this system.
func First(*net.UnixConn, []byte) (n, pid, uid int, err error) {
	return 0, 0, Unknown, errors.ErrUnsupported
}
