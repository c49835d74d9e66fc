//go:build linux

package cli_test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"timegate/workstation/wstest"
)

// session lets a desktop session show itself, as one that a person is logged
// on to does by the processes in it.
func session(t *testing.T) {
	t.Helper()
	cmd := exec.Command("sleep", "600")
	cmd.Env = []string{"DISPLAY=" + os.Getenv("DISPLAY"), "XAUTHORITY=" + os.Getenv("XAUTHORITY"), "XDG_RUNTIME_DIR=" + t.TempDir(), "XDG_SESSION_ID=1",
		"DBUS_SESSION_BUS_ADDRESS=unix:path=/nowhere", "XDG_SESSION_TYPE=x11", "XDG_CURRENT_DESKTOP=Larkspur", "XDG_SEAT=seat0", "DESKTOP_SESSION=larkspur"}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
}

// TestWindows: a program whose window is not to be seen runs on unseen when
// its keeper is killed, and the next keeper ends it with all that belongs to
// it; one with an ordinary window, and one that wants a terminal, are seen.
func TestWindows(t *testing.T) {
	if !wstest.Alone(t, 0) {
		return
	}
	emulator := wstest.Need(t, "xterm", "xterm")
	d := wstest.StartDesktop(t)
	session(t)
	up := filepath.Join(t.TempDir(), "up")
	gate := func(window, run string) string {
		return fmt.Sprintf("run = [%s]\nopens = []\n[as]\ndesktop = true\nwindow = %q\n", run, window)
	}
	waiting := fmt.Sprintf(`%q, "-e", "sh", "-c", "touch %s; sleep 600"`, emulator, up)
	home := homeWith(t, "unseen", gate("none", waiting), "seen", gate("ordinary", waiting), "console", gate("terminal", `"/bin/sh", "-c", "test -t 1 && echo a terminal; sleep 1; exit 4"`))
	call := func(args ...string) string {
		t.Helper()
		out, err := exec.Command(program, append([]string{"--home", home}, args...)...).CombinedOutput()
		if err != nil {
			t.Errorf("%s: %v\n%s", args, err, out)
		}
		return string(out)
	}
	keep := func() *exec.Cmd {
		t.Helper()
		cmd := exec.Command(program, "--home", home, "keeper", "run")
		cmd.Env = []string{"PATH=/usr/bin:/bin"}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
		wstest.Await(t, "the keeper", func() bool { return exec.Command(program, "--home", home, "keeper", "status").Run() == nil })
		return cmd
	}
	last := func(name string) (e struct {
		Result, Outcome, Note string
		PID                   int
	}) {
		t.Helper()
		list := []json.RawMessage{}
		if err := json.Unmarshal([]byte(call("--json", "history", name)), &list); err != nil || len(list) == 0 {
			t.Fatal(err, len(list))
		}
		if err := json.Unmarshal(list[0], &e); err != nil {
			t.Fatal(err)
		}
		return e
	}
	first := keep()
	call("check")
	d.Appeared()
	call("open", "unseen")
	wstest.Await(t, "its program", func() bool { _, err := os.Stat(up); return err == nil })
	first.Process.Kill()
	first.Wait()
	run := last("unseen")
	env, err := os.ReadFile(fmt.Sprintf("/proc/%d/environ", run.PID))
	if err != nil {
		t.Fatal(err)
	}
	_, display, _ := strings.Cut(string(env), "\x00DISPLAY=:")
	display, _, _ = strings.Cut(display, "\x00")
	keep()
	socket := "/tmp/.X11-unix/X" + display
	made, err := os.Stat(socket)
	if err != nil || len(display) < 4 {
		t.Fatalf("its display %q: %v", display, err)
	}
	if n := d.Appeared(); n > 0 {
		t.Errorf("%d windows appeared", n)
	}
	call("stop", "unseen")
	wstest.Await(t, "its end", func() bool { return last("unseen").Result == "stopped" })
	wstest.Await(t, "the end of its display", func() bool { now, err := os.Stat(socket); return err != nil || !os.SameFile(made, now) })
	for _, name := range []string{"seen", "console"} {
		call("open", name)
		wstest.Await(t, "a window of "+name, func() bool { return d.Appeared() > 0 })
	}
	wstest.Await(t, "the end of the console program", func() bool { return last("console").Result == "failed" })
	if e := last("console"); e.Outcome != "exit status 4" || e.Note != "" {
		t.Errorf("the console program: %+v", e)
	}
	call("stop", "seen")
	wstest.Await(t, "its end", func() bool { return last("seen").Result == "stopped" })
}
