package keeper

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

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
	if pid := flock(f); pid != 0 {
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

// flock locks a file. Where another keeper has it, that one's process number
// is returned; -1 where it is not known. A keeper that was killed while it
// started a program leaves the lock to that for the moment before it begins.
func flock(f *os.File) (pid int) {
	const tries, pause = 200, 5 * time.Millisecond
	for range tries {
		if unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) == nil {
			return 0
		}
		pid = -1
		if text, err := os.ReadFile(f.Name()); err == nil {
			if n, err := strconv.Atoi(strings.TrimSpace(string(text))); err == nil {
				pid = n
			}
		}
		if pid > 0 && unix.Kill(pid, 0) != unix.ESRCH {
			return pid
		}
		time.Sleep(pause)
	}
	return pid
}
