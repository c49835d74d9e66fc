//go:build linux

package linux

import (
	"errors"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"
)

// clocksThatWake is where the kernel lists real-time clocks.
const clocksThatWake = "/sys/class/rtc"

// The reasons why a machine cannot be woken.
var (
	errNoClockThatWakes = errors.New("this machine has no real-time clock that could wake it")
	errMayNotWake       = errors.New("only root may wake the machine (capability CAP_WAKE_ALARM): keep the gate in the system scope")
)

// wakeAlarm wakes the machine: a timer of the kernel's that sets the
// real-time clock's alarm whenever the machine falls asleep.
type wakeAlarm struct {
	fd  int // 0 where there is none yet
	at  time.Time
	err error // what came of asking for at
}

// set asks to be awake at a time.
func (w *wakeAlarm) set(at time.Time) error {
	if !at.Equal(w.at) {
		w.at, w.err = at, w.arm(at)
	}
	return w.err
}

func (w *wakeAlarm) arm(at time.Time) error {
	if at.IsZero() && w.fd == 0 {
		return nil
	}
	if err := CanWake(clocksThatWake); err != nil {
		return err
	}
	if w.fd == 0 {
		fd, err := unix.TimerfdCreate(unix.CLOCK_REALTIME_ALARM, unix.TFD_CLOEXEC|unix.TFD_NONBLOCK)
		if errors.Is(err, unix.EPERM) {
			return errMayNotWake
		}
		if err != nil {
			return os.NewSyscallError("timerfd_create", err)
		}
		w.fd = fd
	}
	var spec unix.ItimerSpec // zero disarms
	if !at.IsZero() {
		spec.Value = unix.NsecToTimespec(max(at.UnixNano(), 1))
	}
	return os.NewSyscallError("timerfd_settime", unix.TimerfdSettime(w.fd, unix.TFD_TIMER_ABSTIME, &spec, nil))
}

func (w *wakeAlarm) close() {
	if w.fd != 0 {
		unix.Close(w.fd)
	}
}

// MayWake says why the machine cannot be woken, by root or else by this process; nil
// where it can.
func MayWake(root bool) error {
	if err := CanWake(clocksThatWake); err != nil || root {
		return err
	}
	fd, err := unix.TimerfdCreate(unix.CLOCK_REALTIME_ALARM, unix.TFD_CLOEXEC)
	if errors.Is(err, unix.EPERM) {
		return errMayNotWake
	}
	if err != nil {
		return os.NewSyscallError("timerfd_create", err)
	}
	return unix.Close(fd)
}

// CanWake says why the machine cannot be woken, by the clocks listed in a
// folder, or is nil.
func CanWake(dir string) error {
	found, err := filepath.Glob(filepath.Join(dir, "rtc*", "wakealarm"))
	if err != nil || len(found) == 0 {
		return errNoClockThatWakes
	}
	return nil
}
