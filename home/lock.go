package home

import (
	"fmt"
	"os"
	"path/filepath"
)

// BusyError reports that another process has what this one wants.
type BusyError struct {
	Path string
	PID  int
	What string // what the other process does
}

func (e *BusyError) Error() string {
	return fmt.Sprintf("%s: process %d (lock %s); end it first, or choose another --home", e.What, e.PID, e.Path)
}

// Lock makes this process the home's only keeper until the function it
// returns is called. The kernel lets the lock go when the process dies.
func (h Home) Lock() (unlock func(), err error) {
	return lockFile(h.lock(), "a keeper already keeps this home")
}

// Kept reports whether a keeper has the home's lock: until it lets go, no other can begin.
func (h Home) Kept() bool {
	f, err := os.OpenFile(h.lock(), os.O_RDONLY|noFollow, 0)
	if err != nil {
		return false // there is none, or it is not for us to see
	}
	defer f.Close()
	return locked(f)
}

// LockGates makes this process the only one that changes the folder of gates
// by a plan.
func (h Home) LockGates() (unlock func(), err error) {
	return lockFile(filepath.Join(h.Gates, ".plan.lock"), "the gates are being changed by another command")
}

// LockHub makes this process the only one that serves workstations from this home.
func (h Home) LockHub() (unlock func(), err error) {
	return lockFile(filepath.Join(h.State, "hub.lock"), "a hub serves from this home already")
}

// LockDesk makes this process the only one that changes what is known of an estate.
func (h Home) LockDesk() (unlock func(), err error) {
	return lockFile(filepath.Join(h.State, "desk.lock"), "what is known of the estate is being changed by another command")
}

func lockFile(path, busy string) (unlock func(), err error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR|noFollow, 0o600)
	if err != nil {
		return nil, Wrap(path, err)
	}
	if pid := flock(f); pid != 0 {
		f.Close()
		return nil, &BusyError{Path: path, PID: pid, What: busy}
	}
	if err = f.Truncate(0); err == nil {
		_, err = fmt.Fprintln(f, os.Getpid())
	}
	if err != nil {
		f.Close()
		return nil, Wrap(path, err)
	}
	return func() { unflock(f); f.Close() }, nil
}
