//go:build linux

package wstest

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/workstation"
)

// Skip skips a test that this machine cannot run, and says what is missing. Where
// TIMEGATE_TEST_NO_SKIP is set, as on a machine that has everything, the test fails.
func Skip(t testing.TB, format string, args ...any) {
	t.Helper()
	if os.Getenv("TIMEGATE_TEST_NO_SKIP") != "" {
		t.Fatalf("to be skipped, and here everything should be there: "+format, args...)
	}
	t.Skipf(format, args...)
}

// Need returns the path of a program, or skips the test and says which
// package has it.
func Need(t testing.TB, program, pkg string) string {
	t.Helper()
	path, err := exec.LookPath(program)
	if err != nil {
		Skip(t, "needs the program %s of the package %s", program, pkg)
	}
	return path
}

// Root skips a test that only root can do.
func Root(t testing.TB) {
	t.Helper()
	if os.Getuid() != 0 {
		Skip(t, "needs root")
	}
}

// Do runs a program that must succeed.
func Do(t testing.TB, argv ...string) {
	t.Helper()
	if out, err := exec.Command(argv[0], argv[1:]...).CombinedOutput(); err != nil {
		t.Fatalf("%s: %v\n%s", strings.Join(argv, " "), err, out)
	}
}

// Alone runs the test in a process of its own, beside other tests, with
// namespaces of its own if any are given, which only root can make: so it may
// change its environment and its mounts. It returns true in that process, and
// false in the one that has waited for it.
func Alone(t *testing.T, namespaces uintptr) bool {
	t.Helper()
	const inside = "TIMEGATE_TEST_ALONE"
	if os.Getenv(inside) == t.Name() {
		if namespaces&syscall.CLONE_NEWPID != 0 { // what is running is looked up there
			Do(t, "mount", "--make-rprivate", "/")
			Do(t, "mount", "-t", "proc", "proc", "/proc")
		}
		return true
	}
	if namespaces != 0 {
		Root(t)
	}
	t.Parallel()
	cmd := exec.Command(os.Args[0], "-test.run=^"+strings.ReplaceAll(t.Name(), "/", "$/^")+"$", "-test.v", fmt.Sprintf("-test.short=%v", testing.Short()))
	cmd.Env = append(os.Environ(), inside+"="+t.Name())
	cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: namespaces}
	if namespaces&syscall.CLONE_NEWUSER != 0 {
		cmd.SysProcAttr.UidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getuid(), Size: 1}}
		cmd.SysProcAttr.GidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getgid(), Size: 1}}
	}
	out, err := cmd.CombinedOutput()
	switch {
	case err != nil:
		t.Errorf("%v\n%s", err, out)
	case strings.Contains(string(out), "--- SKIP: "+t.Name()):
		Skip(t, "%s", out)
	case !strings.Contains(string(out), "--- PASS: "+t.Name()):
		t.Errorf("the test did not run:\n%s", out)
	}
	return false
}

// Await waits until something holds.
func Await(t testing.TB, what string, holds func() bool) {
	t.Helper()
	for end := time.Now().Add(wait); !holds(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("waited in vain for %s", what)
		}
	}
}

// Wants returns what a gate depends on, given by the lines of its [needs] and
// its openings.
func Wants(t testing.TB, needs string, phrases ...string) workstation.Wants {
	t.Helper()
	quoted := make([]string, len(phrases))
	for i, p := range phrases {
		quoted[i] = fmt.Sprintf("'%s'", p)
	}
	text := fmt.Sprintf("run = ['/bin/true']\nopens = [%s]\n[needs]\n%s\n", strings.Join(quoted, ", "), needs)
	g, found := gate.Read("bindery", "bindery.toml", []byte(text), gate.Options{Scope: gate.User, Env: phrase.Env{Zone: calendar.UTC}})
	if g == nil {
		t.Fatal(found)
	}
	return workstation.WantsOf(engine.WantsOf([]*gate.Gate{g}, ""), func(_, p string) string { return p })
}

// Hear returns a function that waits for the next thing that happens and
// fails unless it is the one wanted, such as "logon maren" or "mains". What
// is told beside it may be given as words that the notice must contain.
func Hear(t testing.TB, ws workstation.Workstation) func(want string) workstation.Notice {
	return func(want string) workstation.Notice {
		t.Helper()
		late := time.After(wait)
		for {
			select {
			case n := <-ws.Notices():
				if n.Event == "" {
					continue
				}
				name := n.Name
				if strings.HasPrefix(name, string(n.Event)) {
					name = strings.TrimPrefix(name, string(n.Event)) // what was watched begins with the event
				}
				if got := strings.Join(strings.Fields(string(n.Event)+" "+name), " "); got != want {
					t.Fatalf("%q happened, want %q", got, want)
				}
				return n
			case <-late:
				t.Fatalf("waited in vain for %q", want)
			}
		}
	}
}
