//go:build unix

package inspect

import (
	"io/fs"
	"syscall"
)

// ownersOf returns the numbers of the account and the group that a file
// belongs to.
func ownersOf(info fs.FileInfo) (uid, gid int, ok bool) {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 0, 0, false
	}
	return int(st.Uid), int(st.Gid), true
}
