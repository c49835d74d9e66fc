//go:build linux

package rights_test

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"timegate/core/coretest"
	"timegate/workstation"
	"timegate/workstation/cgroup"
	"timegate/workstation/rights"
	"timegate/workstation/wstest"
)

// With this first argument, the test's program says what it has.
const probe = "@probe"

func TestMain(m *testing.M) {
	args := rights.Become(os.Args[1:])
	if len(args) > 0 && args[0] == probe {
		session, _ := unix.Getsid(0)
		dumpable, _ := unix.PrctlRetInt(unix.PR_GET_DUMPABLE, 0, 0, 0, 0)
		_, ttyErr := os.OpenFile("/dev/tty", os.O_RDWR, 0)
		var open []string
		for fd := 3; fd < 100; fd++ {
			target, err := os.Readlink(fmt.Sprintf("/proc/self/fd/%d", fd))
			if err == nil && !strings.HasPrefix(target, "anon_inode:") && !strings.HasPrefix(target, "/proc/") && !strings.HasPrefix(target, "/sys/fs/cgroup/") {
				open = append(open, target)
			}
		}
		groups, _ := os.Getgroups()
		fmt.Println(os.Getuid(), os.Getgid(), groups, "own session", session == os.Getpid(), "terminal", ttyErr == nil, "dumpable", dumpable, "open", open)
		time.Sleep(50 * time.Millisecond)
		os.Exit(0)
	}
	os.Exit(coretest.Main(m))
}

// maren's rights.
var maren = &workstation.Account{UID: 61001, GID: 61001, Groups: []uint32{61001, 61010}}

// TestRun: a process with an account's rights has a session, no terminal, none of our
// descriptors, and cannot be traced by the account at any moment of its life.
func TestRun(t *testing.T) {
	t.Parallel()
	wstest.Root(t)
	secret, err := os.CreateTemp(t.TempDir(), "secret")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := unix.FcntlInt(secret.Fd(), unix.F_SETFD, 0); err != nil { // as one that this process was given
		t.Fatal(err)
	}
	stop, seen := make(chan struct{}), make(chan int)
	go func() { // what its account could open while it begins
		n := 0
		for {
			select {
			case <-stop:
				seen <- n
				return
			default:
			}
			dirs, _ := os.ReadDir("/proc")
			for _, d := range dirs {
				status, err := os.ReadFile("/proc/" + d.Name() + "/status")
				line, _ := os.ReadFile("/proc/" + d.Name() + "/cmdline")
				if err != nil || !strings.Contains(string(status), "Uid:\t61001\t61001\t61001\t61001") || !strings.Contains(string(line), probe) {
					continue
				}
				n++
				if info, err := os.Stat("/proc/" + d.Name() + "/mem"); err == nil && info.Sys().(*syscall.Stat_t).Uid != 0 {
					t.Errorf("process %s can be traced by its account", d.Name())
				}
			}
		}
	}()
	for range 20 {
		out, err := rights.Run(t.Context(), rights.Call{As: maren, Program: rights.Self, Args: []string{probe}, Most: 1 << 10})
		if want := "61001 61001 [61001 61010] own session true terminal false dumpable 0 open []\n"; err != nil || string(out) != want {
			t.Fatalf("it has %q, %v; want %q", out, err, want)
		}
	}
	close(stop)
	if <-seen == 0 {
		t.Error("it was never seen: the test proves nothing")
	}
	out, err := rights.Run(t.Context(), rights.Call{As: maren, Program: "/bin/sh", Args: []string{"-c", "id -u; ls /proc/self/fd | wc -l; exit 3"}, Most: 1 << 10})
	if exit := new(exec.ExitError); !errors.As(err, &exit) || exit.ExitCode() != 3 || string(out) != "61001\n4\n" { // 4: ls has the folder open
		t.Errorf("another program: %q, %v", out, err)
	}
	_, err = rights.Run(t.Context(), rights.Call{As: &workstation.Account{}, Program: "/bin/true", Most: 100})
	if exit := new(exec.ExitError); err == nil || errors.As(err, &exit) {
		t.Errorf("root's rights, which nobody takes on: %v", err)
	}
}

// TestBounds: what a program prints and how long it takes is bounded, also where
// something that it has left behind holds its output open.
func TestBounds(t *testing.T) {
	t.Parallel()
	call := func(most int64, script string) ([]byte, error) {
		return rights.Run(t.Context(), rights.Call{Program: "/bin/sh", Args: []string{"-c", script}, Most: most})
	}
	out, err := call(1000, "exec cat /dev/zero")
	if too := new(rights.TooMuchError); !errors.As(err, &too) || len(out) != 1000 {
		t.Errorf("without end: %d bytes, %v", len(out), err)
	}
	began := time.Now()
	if out, err := call(1000, "sleep 600 & echo done"); err != nil || string(out) != "done\n" || time.Since(began) > coretest.Wait {
		t.Errorf("with its output held open: %q, %v after %v", out, err, time.Since(began))
	}
	if out, err := call(4, "printf 1234"); err != nil || string(out) != "1234" {
		t.Errorf("just as much as it may: %q, %v", out, err)
	}
}

// TestNothingIsLeft: what a helper with an account's rights leaves behind, in a session of
// its own, is ended with it where there are control groups.
func TestNothingIsLeft(t *testing.T) {
	t.Parallel()
	wstest.Root(t)
	if !cgroup.Contained() {
		t.Log("there are no control groups here")
		return
	}
	mark := "613" + strconv.Itoa(os.Getpid())
	if out, err := rights.Run(t.Context(), rights.Call{As: maren, Program: "/bin/sh", Args: []string{"-c", "setsid sleep " + mark + " >/dev/null 2>&1 & echo left"}, Most: 100}); err != nil || string(out) != "left\n" {
		t.Fatalf("%q, %v", out, err)
	}
	wstest.Await(t, "the end of what it left", func() bool {
		lines, _ := filepath.Glob("/proc/[0-9]*/cmdline")
		return !slices.ContainsFunc(lines, func(path string) bool { line, _ := os.ReadFile(path); return string(line) == "sleep\x00"+mark+"\x00" })
	})
}
