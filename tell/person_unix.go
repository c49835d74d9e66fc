//go:build unix

package tell

import "syscall"

// asPerson are the attributes of a process with a person's rights, and no more.
func asPerson(uid, gid int) *syscall.SysProcAttr {
	return &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
}
