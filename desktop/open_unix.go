//go:build unix

package desktop

import (
	"os"
	"syscall"
)

// openWithoutWaiting opens a file; of a pipe it waits for no writer.
func openWithoutWaiting(path string) (*os.File, error) {
	return os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
}
