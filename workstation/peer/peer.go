// Package peer tells who is at the other end of a socket, by the kernel's word
// (SO_PEERCRED in unix(7)).
package peer

import (
	"net"

	"golang.org/x/sys/unix"
)

// Unknown is the number of an account that the kernel does not tell.
const Unknown = -1

// UID returns the number of the account at the other end of a Unix socket, or
// [Unknown].
func UID(c net.Conn) int {
	uc, ok := c.(*net.UnixConn)
	if !ok {
		return Unknown
	}
	raw, err := uc.SyscallConn()
	if err != nil {
		return Unknown
	}
	uid := Unknown
	raw.Control(func(fd uintptr) {
		if cred, err := unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED); err == nil {
			uid = int(cred.Uid)
		}
	})
	return uid
}
