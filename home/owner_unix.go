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
