//go:build unix

package home

import (
	"os"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

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

// locked reports whether somebody has a file locked for themselves.
func locked(f *os.File) bool {
	if unix.Flock(int(f.Fd()), unix.LOCK_SH|unix.LOCK_NB) != nil {
		return true
	}
	unflock(f)
	return false
}

// unflock lets a file go for all who have it open: a program that is just being
// started has it, too, until it begins.
func unflock(f *os.File) { unix.Flock(int(f.Fd()), unix.LOCK_UN) }
