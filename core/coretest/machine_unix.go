//go:build unix

package coretest

import (
	"os"
	"path/filepath"
	"syscall"
)

// setUmask lets tests make files with the modes that they say.
func setUmask() { syscall.Umask(0o022) }

// Programs sees to it that tests can run the programs that they write: where nothing can
// be run that lies in the folder for temporary files (it may be mounted so), they are
// written beside the test itself, which runs.
func Programs() {
	f, err := os.CreateTemp("", "timegate-")
	if err != nil {
		return // the tests will say so
	}
	defer os.Remove(f.Name())
	f.Close()
	const executable = 1 // X_OK of access(2)
	if os.Chmod(f.Name(), 0o700) == nil && syscall.Access(f.Name(), executable) != nil {
		os.Setenv("TMPDIR", filepath.Dir(os.Args[0]))
	}
}
