//go:build linux

package linux_test

import (
	"crypto/rand"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"timegate/core/coretest"
	"timegate/workstation"
	"timegate/workstation/linux"
	"timegate/workstation/wstest"
)

func machine(t testing.TB) workstation.Workstation {
	t.Helper()
	m, err := linux.New()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { m.Close() })
	return m
}

func TestMachine(t *testing.T) {
	t.Parallel()
	wstest.Run(t, func(t *testing.T) workstation.Workstation { return machine(t) })
	wstest.Programs(t, linux.Starter{})
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
		for b.Loop() {
			done := make(chan struct{})
			_, err := linux.Starter{}.Start(workstation.Order{Mark: "bench", Argv: []string{"/bin/true"}, Folder: "/",
				Print: func([]byte) {}, Done: func(workstation.Exit) { close(done) }})
			if err != nil {
				b.Fatal(err)
			}
			<-done
		}
	})
}

// TestSeenLate: how a program ended is known also where its parent is told later, and when
// it ended.
func TestSeenLate(t *testing.T) {
	t.Parallel()
	mark, file := rand.Text(), filepath.Join(t.TempDir(), "pid")
	parent := exec.Command("/bin/sh", "-c", `setsid /bin/sh -c 'echo $$ >"$0.new"; mv "$0.new" "$0"; sleep 0.3; exit 7' "$0" & exec sleep 2`, file)
	parent.Env = append(os.Environ(), workstation.MarkVariable+"="+mark)
	if err := parent.Start(); err != nil {
		t.Fatal(err)
	}
	defer parent.Wait()
	pid := 0
	wstest.Await(t, "the program", func() bool {
		text, err := os.ReadFile(file)
		if err == nil {
			_, err = fmt.Sscan(string(text), &pid)
		}
		return err == nil
	})
	done := make(chan workstation.Exit, 1)
	if linux.Starter.Adopt(linux.Starter{}, workstation.Order{Mark: mark, Print: func([]byte) {}, Done: func(x workstation.Exit) { done <- x }}, pid, 0) == nil {
		t.Fatal("it is not found")
	}
	began := time.Now()
	select {
	case x := <-done:
		if after := time.Since(began); x.Lost != !tellsExits() || !x.Lost && (x.Status != 7 || x.At.After(began.Add(after-time.Second))) {
			t.Errorf("after %v: it ended with %+v, at %v", after, x, x.At.Sub(began))
		}
	case <-time.After(coretest.Wait):
		t.Fatal("its end is not seen")
	}
}

// tellsExits reports whether the kernel tells how a process ended that is another's child,
// as it does since 6.15.
func tellsExits() bool {
	release, err := os.ReadFile("/proc/sys/kernel/osrelease")
	major, minor := 0, 0
	fmt.Sscanf(string(release), "%d.%d", &major, &minor)
	return err == nil && (major > 6 || major == 6 && minor >= 15)
}

// TestBooted: when the machine has booted is what the kernel counts as such in proc(5), by
// its own id, an earlier one of its own and none; of a staged machine it is not known.
func TestBooted(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("/proc/stat")
	if err != nil {
		t.Fatal(err)
	}
	_, rest, _ := strings.Cut(string(text), "\nbtime ")
	var seconds int64
	if _, err := fmt.Sscan(rest, &seconds); err != nil {
		t.Fatal(err)
	}
	for _, id := range []string{linux.BootID(), "0f6e1c1e-0000-4000-8000-1a2b3c4d5e6f", ""} {
		if at, known := linux.Booted(id); !known || at.Sub(time.Unix(seconds, 0)).Abs() > 2*time.Second {
			t.Errorf("%q: %v, %v, want %v", id, at, known, time.Unix(seconds, 0))
		}
	}
	for _, id := range []string{"larkspur-demo", "staged-3f", linux.BootID() + "+"} {
		if at, known := linux.Booted(id); known {
			t.Errorf("%q: %v", id, at)
		}
	}
}
