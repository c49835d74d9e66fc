package keeper

import (
	"fmt"
	"os"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// BusyError reports that another keeper has the home.
type BusyError struct {
	Path string
	PID  int
}

func (e *BusyError) Error() string {
	return fmt.Sprintf("a keeper already keeps this home: process %d (lock %s); end it first, or choose another --home", e.PID, e.Path)
}

// takeLock makes this process the home's only keeper until the function it
// returns is called. The kernel lets the lock go when the process dies.
func takeLock(path string) (unlock func(), err error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, homeError(path, err)
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		pid := 0
		if text, readErr := os.ReadFile(path); readErr == nil {
			pid, _ = strconv.Atoi(strings.TrimSpace(string(text)))
		}
		f.Close()
		return nil, &BusyError{Path: path, PID: pid}
	}
	if err = f.Truncate(0); err == nil {
		_, err = fmt.Fprintln(f, os.Getpid())
	}
	if err != nil {
		f.Close()
		return nil, homeError(path, err)
	}
	return func() { f.Close() }, nil
}
