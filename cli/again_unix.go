//go:build unix

package cli

import (
	"os"
	"syscall"
)

// beginAgain runs the program anew in this process, as it was called: the one that is now
// where this one was started from.
func beginAgain() error {
	program, err := os.Executable()
	if err != nil {
		return err
	}
	return syscall.Exec(program, os.Args, os.Environ())
}
