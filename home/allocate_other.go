//go:build !linux

package home

import "os"

// allocate gives a file room on the disk.
func allocate(f *os.File, size int64) error {
	_, err := f.Write(make([]byte, size))
	return err
}
