package peer

import (
	"net"

	"golang.org/x/sys/unix"
)

// uid asks for the peer's credentials (SO_PEERCRED in unix(7)).
func uid(c *net.UnixConn) int {
	raw, err := c.SyscallConn()
	if err != nil {
		return Unknown
	}
	out := Unknown
	raw.Control(func(fd uintptr) {
		if cred, err := unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED); err == nil {
			out = int(cred.Uid)
		}
	})
	return out
}
