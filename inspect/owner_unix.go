//go:build unix

package inspect

import (
	"errors"
	"io/fs"
	"os"
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

// openPlain opens a plain file, and waits for nothing that is none, nor for
// somebody who holds it (a lease in fcntl(2)).
func openPlain(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK|syscall.O_NOCTTY, 0)
	if err != nil {
		return nil, err
	}
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		f.Close()
		return nil, errors.Join(err, fs.ErrInvalid)
	}
	return f, nil
}
