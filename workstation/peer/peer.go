// Package peer tells who is at the other end of a socket, by the kernel's word.
package peer

import "net"

// Unknown is the number of an account that the kernel does not tell.
const Unknown = -1

// UID returns the number of the account at the other end of a Unix socket, or
// [Unknown].
func UID(c net.Conn) int {
	if uc, ok := c.(*net.UnixConn); ok {
		return uid(uc)
	}
	return Unknown
}
