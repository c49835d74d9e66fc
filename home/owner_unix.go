//go:build unix

package home

import (
	"io/fs"
	"syscall"
)

// owner returns the number of the account that a file belongs to.
func owner(info fs.FileInfo) int {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return int(st.Uid)
	}
	return nobody
}

// withoutWaiting lets a file be opened that is not what it should be.
const withoutWaiting = syscall.O_NONBLOCK | syscall.O_NOCTTY

// noFollow refuses a link in the place of a file.
const noFollow = syscall.O_NOFOLLOW
