//go:build linux

package linux_test

import (
	"os"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// TestClockSet sets the machine's clock, for a moment. It must not run beside
// anything else, so it runs only where it is asked for.
func TestClockSet(t *testing.T) {
	t.Parallel()
	if os.Getenv("TIMEGATE_TEST_SETCLOCK") == "" {
		t.Skip("set TIMEGATE_TEST_SETCLOCK=1 to let this test set the machine's clock")
	}
	m := machine(t)
	m.SetWake(time.Now().Add(10 * time.Millisecond))
	<-m.Wakes() // that it has rung once must not make it deaf
	m.SetWake(time.Time{})
	began, before := time.Now(), m.Clock().Ahead()
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
	case <-m.Wakes():
		if by := m.Clock().Ahead() - before; (by - 2*time.Second).Abs() > 100*time.Millisecond {
			t.Errorf("the clocks tell that it was set by %v", by)
		}
	case <-time.After(10 * time.Second):
		t.Fatal("the clock was set, and no wake came")
	}
	if took := time.Since(began); took > time.Second {
		t.Errorf("the wake came after %v", took)
	}
}
