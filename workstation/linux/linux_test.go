package linux_test

import (
	"os"
	"os/exec"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"timegate/workstation"
	"timegate/workstation/linux"
	"timegate/workstation/wstest"
)

func machine(t *testing.T) workstation.Workstation {
	t.Helper()
	m, err := linux.New()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { m.Close() })
	return m
}

func TestMachine(t *testing.T) { wstest.Run(t, machine) }

// TestClockSet sets the machine's clock, for a moment, if it may: alone in
// CI, where TIMEGATE_TEST_CLOCK says so.
func TestClockSet(t *testing.T) {
	if os.Getenv("TIMEGATE_TEST_CLOCK") == "" {
		t.Skip("sets the machine's clock: only where TIMEGATE_TEST_CLOCK is set")
	}
	m := machine(t)
	m.SetWake(m.Now().Add(time.Hour))
	began := time.Now()
	set := func(by time.Duration) {
		var ts unix.Timespec
		if err := unix.ClockGettime(unix.CLOCK_REALTIME, &ts); err != nil {
			t.Fatal(err)
		}
		ts = unix.NsecToTimespec(unix.TimespecToNsec(ts) + by.Nanoseconds())
		if err := unix.ClockSettime(unix.CLOCK_REALTIME, &ts); err != nil {
			t.Skipf("the clock cannot be set: %v", err)
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

// BenchmarkStart compares a start with all that it takes (pipe, file, session,
// watching) with a bare fork and exec of the same program.
func BenchmarkStart(b *testing.B) {
	b.Run("floor: fork and exec", func(b *testing.B) {
		for b.Loop() {
			if err := exec.Command("/bin/true").Run(); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("start", func(b *testing.B) {
		dir := b.TempDir()
		for b.Loop() {
			done := make(chan struct{})
			_, err := linux.Starter{}.Start(workstation.Order{Mark: "bench", Argv: []string{"/bin/true"}, Folder: "/",
				Output: workstation.Output{Path: dir + "/1.txt", Keep: 1 << 20}, Done: func(workstation.Exit) { close(done) }})
			if err != nil {
				b.Fatal(err)
			}
			<-done
		}
	})
}
