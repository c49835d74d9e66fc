//go:build linux

package linux

import (
	"errors"
	"fmt"
	"os"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"timegate/workstation"
)

// alarm is one timerfd on the wall clock. It is always armed, if need be for
// a day that never comes, because only an armed timer tells that the clock
// was set.
type alarm struct {
	file  *os.File
	wakes chan workstation.Wake

	slept func() // called when the machine has been asleep

	mu     sync.Mutex // guards what follows
	at     time.Time
	asleep time.Duration // as last read
}

// clocks compares the kernel's clocks: their differences tell whether the
// wall clock was set, and whether the machine was asleep.
type clocks struct {
	ahead  time.Duration // of the wall clock to the time since boot
	asleep time.Duration // time since boot in which the machine slept
	uptime time.Duration // time since boot
}

// slack is what the reading of two clocks one after the other may differ by.
const slack = 100 * time.Millisecond

func readClocks() clocks {
	read := func(id int32) time.Duration {
		var ts unix.Timespec
		unix.ClockGettime(id, &ts) // cannot fail for the clocks that every kernel has
		return time.Duration(ts.Nano())
	}
	boot := read(unix.CLOCK_BOOTTIME)
	return clocks{ahead: read(unix.CLOCK_REALTIME) - boot, asleep: boot - read(unix.CLOCK_MONOTONIC), uptime: boot}
}

// slumber returns for how long the machine was asleep since it was last asked.
func (a *alarm) slumber() time.Duration {
	a.mu.Lock()
	defer a.mu.Unlock()
	now := readClocks().asleep
	slept := now - a.asleep
	a.asleep = now
	if slept < slack {
		return 0
	}
	return slept
}

// read returns the wall clock's time and the time since boot.
func (c clocks) read() workstation.Clock {
	return workstation.Clock{Now: time.Unix(0, int64(c.ahead+c.uptime)), Uptime: c.uptime}
}

// farAway is armed where nothing is due: the year 36812.
const farAway = 1 << 40

func newAlarm(slept func()) (*alarm, error) {
	fd, err := unix.TimerfdCreate(unix.CLOCK_REALTIME, unix.TFD_CLOEXEC|unix.TFD_NONBLOCK)
	if err != nil {
		return nil, fmt.Errorf("%w: timerfd: %w", workstation.ErrNoClock, err)
	}
	a := &alarm{file: os.NewFile(uintptr(fd), "timerfd"), wakes: make(chan workstation.Wake, 1), slept: slept, asleep: readClocks().asleep}
	if err := a.arm(); err != nil {
		return nil, fmt.Errorf("%w: timerfd: %w", workstation.ErrNoClock, err)
	}
	go a.watch()
	return a, nil
}

func (a *alarm) set(at time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.at.Equal(at) {
		return
	}
	a.at = at
	a.arm() // fails only for a bad descriptor or time; neither can be here
}

func (a *alarm) arm() error {
	value := unix.Timespec{Sec: farAway}
	if !a.at.IsZero() {
		value = unix.NsecToTimespec(max(a.at.UnixNano(), 1))
	}
	var err error
	raw, rawErr := a.file.SyscallConn()
	if rawErr != nil {
		return rawErr
	}
	ctlErr := raw.Control(func(fd uintptr) {
		err = unix.TimerfdSettime(int(fd), unix.TFD_TIMER_ABSTIME|unix.TFD_TIMER_CANCEL_ON_SET, &unix.ItimerSpec{Value: value}, nil)
		if errors.Is(err, unix.ECANCELED) {
			err = nil // the clock was set just now: the timer is armed all the same, and the reader is told
		}
	})
	return errors.Join(ctlErr, err)
}

// watch passes expirations on until the file is closed.
func (a *alarm) watch() {
	var count [8]byte
	for {
		_, err := a.file.Read(count[:])
		asleep := a.slumber()
		w := workstation.Wake{Asleep: asleep}
		switch {
		case errors.Is(err, unix.ECANCELED): // so also when the machine wakes up
			a.mu.Lock()
			a.arm()
			a.mu.Unlock()
		case err != nil:
			return
		default:
			a.mu.Lock()
			a.at = time.Time{} // a time asked for again is armed again
			a.arm()            // until then, for the clock being set
			a.mu.Unlock()
		}
		if asleep > 0 && !errors.Is(err, os.ErrClosed) {
			a.slept()
		}
		a.send(w)
	}
}

// send leaves one wake for the keeper; that the clock was set is not lost.
func (a *alarm) send(w workstation.Wake) {
	for {
		select {
		case a.wakes <- w:
			return
		default:
		}
		select {
		case old := <-a.wakes:
			w = w.After(old)
		default:
		}
	}
}

func (a *alarm) close() error { return a.file.Close() }
