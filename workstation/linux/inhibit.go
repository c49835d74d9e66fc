//go:build linux

package linux

import (
	"errors"
	"fmt"
	"os"

	"github.com/godbus/dbus/v5"

	"timegate/core/phrase"
	"timegate/workstation"
)

// This file lets the login manager wait: for programs that are to run before
// the machine sleeps or goes down (systemd-logind inhibitor locks,
// org.freedesktop.login1(5)).

// prepare tells that the machine is about to sleep or shut down, or is back.
func (l *login) prepare(s *dbus.Signal, kind string, what phrase.EventKind) {
	var begins bool
	if dbus.Store(s.Body, &begins) != nil {
		return
	}
	if begins {
		l.board.Post(workstation.Notice{Event: what, Release: func() { l.release(kind) }}, nil)
		return
	}
	l.hold()
	if what == phrase.Sleep {
		l.awake()
		l.board.Post(workstation.Notice{Event: phrase.Resume}, nil)
	}
}

// want takes over what matters.
func (l *login) want(w workstation.Wants) {
	l.mu.Lock()
	l.wants = w
	l.mu.Unlock()
	select {
	case l.asked <- struct{}{}:
	default:
	}
}

// listed reports whether the bus knows a login manager.
func (l *login) listed() bool {
	var has bool
	return call(l.conn.BusObject(), "org.freedesktop.DBus.NameHasOwner", loginName).Store(&has) == nil && has
}

// hold asks the login manager to wait before the machine sleeps or shuts down
// where programs are to run before it.
func (l *login) hold() {
	var refused error
	for _, kind := range []string{"sleep", "shutdown"} {
		l.mu.Lock()
		wanted := kind == "sleep" && l.wants.Before.Sleep || kind == "shutdown" && l.wants.Before.Shutdown
		ask := wanted && l.holds[kind] == nil && l.conn != nil && l.trouble == nil
		if held := l.holds[kind]; !wanted && held != nil {
			held.Close()
			delete(l.holds, kind)
		}
		l.mu.Unlock()
		if ask {
			refused = errors.Join(refused, l.inhibit(kind))
		}
	}
	l.mu.Lock()
	l.refused = refused
	l.mu.Unlock()
}

func (l *login) inhibit(kind string) error {
	var fd dbus.UnixFD
	err := call(l.manager(), loginManager+".Inhibit", kind, "Time Gate", "programs are to run first", "delay").Store(&fd)
	if err != nil {
		return fmt.Errorf("the machine cannot be asked to wait for programs before %s: %w", kind, err)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.holds[kind] = os.NewFile(uintptr(fd), "inhibitor")
	return nil
}

// release lets the machine go on.
func (l *login) release(kind string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if f := l.holds[kind]; f != nil {
		f.Close()
		delete(l.holds, kind)
	}
}

// unhold gives up what the machine was asked to wait for.
func (l *login) unhold() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for what, f := range l.holds {
		f.Close()
		delete(l.holds, what)
	}
}
