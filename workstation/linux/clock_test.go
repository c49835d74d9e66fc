//go:build setclock

package linux_test

import (
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// TestClockSet sets the machine's clock, for a moment. It must not run beside
// other tests, so it is built only with the tag "setclock".
func TestClockSet(t *testing.T) {
	m := machine(t)
	m.SetWake(m.Now().Add(10 * time.Millisecond))
	<-m.Wakes() // that it has rung once must not make it deaf
	m.SetWake(time.Time{})
	began := time.Now()
	set := func(by time.Duration) {
		var ts unix.Timespec
		if err := unix.ClockGettime(unix.CLOCK_REALTIME, &ts); err != nil {
			t.Fatal(err)
		}
		ts = unix.NsecToTimespec(unix.TimespecToNsec(ts) + by.Nanoseconds())
		if err := unix.ClockSettime(unix.CLOCK_REALTIME, &ts); err != nil {
			t.Fatalf("the clock cannot be set (root may): %v", err)
		}
	}
	set(2 * time.Second)
	defer set(-2 * time.Second)
	select {
	case w := <-m.Wakes():
		if !w.ClockSet {
			t.Errorf("wake %+v, want one that tells of the clock", w)
		}
	case <-time.After(10 * time.Second):
		t.Fatal("the clock was set, and no wake came")
	}
	if took := time.Since(began); took > time.Second {
		t.Errorf("the wake came after %v", took)
	}
}
