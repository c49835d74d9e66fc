package keeper

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/journal"
	"timegate/workstation/linux"
	"timegate/workstation/staged"
	"timegate/workstation/window"
	"timegate/workstation/wstest"
)

// late is a machine on which a person's desktop is there some time after the
// person has logged on.
type late struct {
	*staged.Machine
	looks int
}

func (m *late) Desktops() []string {
	if len(m.Machine.Desktops()) == 0 {
		return nil
	}
	if m.looks++; m.looks < 3 {
		return nil
	}
	return []string{"", "maren"}
}

// TestDesktopComesLate: a program that is to start at a logon on a desktop
// waits for that, and is started when it is there; nothing but looking again
// tells of it. There is no real desktop here, so the start is refused then.
func TestDesktopComesLate(t *testing.T) {
	m, err := staged.New(staged.Options{At: morning, Zone: calendar.UTC, BootID: "front-desk-1"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { m.Close() })
	h := home(t, "job-board", gateText("/bin/true", `"logon"`, "[as]", "desktop = true"))
	k := keep(t, h, &late{Machine: m})
	if err := m.Stage([]string{"logon", "maren"}); err != nil {
		t.Fatal(err)
	}
	d := k.until("the wait", func(d engine.Decision) bool { return d.Kind == engine.Wait })
	if d.Rule != "as.desktop" || !strings.Contains(d.Reason, "a desktop") {
		t.Errorf("it waits: %+v", d)
	}
	if d = k.until("the start", func(d engine.Decision) bool { return d.Starts() }); !strings.Contains(d.Reason, "for a desktop") {
		t.Errorf("it starts: %+v", d)
	}
	if d = k.ended("job-board"); len(linux.Desktops(self().uid)) == 0 && d.Result != engine.Refused {
		t.Errorf("without a desktop: %+v", d)
	}
}

// TestAbsences: the journal knows when the machine slept, and when it was off.
func TestAbsences(t *testing.T) {
	m := fast(t)
	h := home(t, "humidity-log", gateText(wstest.Script(t, ``), `"every 10m"`, "[rules]", `missed = "once"`))
	k := keep(t, h, m)
	k.ended("humidity-log")
	asleep := func() []journal.Absence {
		j, err := journal.OpenReader(h.Journal())
		if err != nil {
			t.Fatal(err)
		}
		defer j.Close()
		a, err := j.Absences(0)
		if err != nil {
			t.Fatal(err)
		}
		return a.Spans
	}
	if err := m.Stage([]string{"sleep"}); err != nil {
		t.Fatal(err)
	}
	wstest.Await(t, "sleep", m.Asleep)
	m.Jump(8 * time.Hour)
	if err := m.Stage([]string{"resume"}); err != nil {
		t.Fatal(err)
	}
	wstest.Await(t, "the sleep's record", func() bool { return len(asleep()) == 1 })
	if s := asleep()[0]; s.Off || s.To-s.From < 8*3600_000 {
		t.Errorf("asleep: %+v", s)
	}
	if err := k.end(); err != nil {
		t.Fatal(err)
	}
	next, err := staged.New(staged.Options{At: m.Now().Add(9 * time.Hour), Zone: calendar.UTC, BootID: "front-desk-2", Rate: 20000})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { next.Close() })
	keep(t, h, next)
	spans := asleep()
	if s := spans[len(spans)-1]; len(spans) != 2 || !s.Off || s.To-s.From < 8*3600_000 {
		t.Errorf("off: %+v", spans)
	}
}

// TestUnseen: programs of the system scope, a person's and root's, run on that
// person's desktop without a window. What stands between them and the display
// has the person's rights.
func TestUnseen(t *testing.T) {
	if !wstest.Alone(t, syscall.CLONE_NEWNS) {
		return
	}
	emulator := wstest.Need(t, "xterm", "xterm")
	h := systemScope(t)
	d := wstest.StartDesktop(t)
	const maren, authority = 61001, "/mnt/home/maren/.Xauthority"
	text, err := os.ReadFile(os.Getenv("XAUTHORITY"))
	if err := errors.Join(err, os.WriteFile(authority, text, 0o600), os.Chown(authority, maren, maren), os.Mkdir("/mnt/said", 0o777), os.Chmod("/mnt/said", 0o777)); err != nil {
		t.Fatal(err)
	}
	logOn(t, maren, "DISPLAY="+os.Getenv("DISPLAY"), "XAUTHORITY="+authority)
	k, c := keep(t, h, newMachine(t)), NewClient(h)
	for name, as := range map[string]string{"hers": `user = "maren"`, "roots": "elevated = true"} {
		put(t, h, name, fmt.Sprintf("run = [%q, \"-e\", \"/bin/sh\", \"-c\", \"id -u >/mnt/said/%s; sleep 60\"]\nopens = []\n[as]\ndesktop = true\nwindow = \"none\"\n%s\n", emulator, name, as))
		if _, err := c.Open(t.Context(), name); err != nil {
			t.Fatal(err)
		}
		want := map[string]string{"hers": "61001\n", "roots": "0\n"}[name]
		wstest.Await(t, "the program of "+name, func() bool { said, _ := os.ReadFile("/mnt/said/" + name); return string(said) == want })
		owners := relays(t)
		if n := d.Appeared(); n > 0 || len(owners) != 1 || owners[0] != maren {
			t.Errorf("%s: %d windows appeared; relays run as %v", name, n, owners)
		}
		if _, err := c.Stop(t.Context(), name); err != nil {
			t.Fatal(err)
		}
		if d := k.ended(name); d.Result != engine.Stopped {
			t.Errorf("%s: %+v", name, d)
		}
		wstest.Await(t, "the end of its relay", func() bool { return len(relays(t)) == 0 })
	}
}

// relays returns whom the relays that this test has started run as.
func relays(t *testing.T) (owners []int) {
	t.Helper()
	dirs, err := filepath.Glob("/proc/[0-9]*")
	if err != nil {
		t.Fatal(err)
	}
	for _, dir := range dirs {
		words, _ := os.ReadFile(dir + "/cmdline")
		env, _ := os.ReadFile(dir + "/environ")
		info, err := os.Stat(dir)
		if err == nil && strings.Contains(string(words), window.Helper+"\x00relay") && strings.Contains(string(env), "XAUTHORITY=/mnt/home/maren/") {
			owners = append(owners, ownerOfFile(info))
		}
	}
	return owners
}

// TestDisplayThatHangs: a display that never answers keeps other programs from
// nothing; the start fails after a while, and says why.
func TestDisplayThatHangs(t *testing.T) {
	if !wstest.Alone(t, syscall.CLONE_NEWNS) {
		return
	}
	h := systemScope(t)
	wstest.Do(t, "mount", "-t", "tmpfs", "tmpfs", "/tmp")
	if err := os.MkdirAll("/tmp/.X11-unix", 0o777); err != nil {
		t.Fatal(err)
	}
	display, err := net.Listen("unix", "/tmp/.X11-unix/X78")
	if err := errors.Join(err, os.Chmod("/tmp/.X11-unix/X78", 0o777)); err != nil {
		t.Fatal(err)
	}
	defer display.Close()
	logOn(t, 61001, "DISPLAY=:78")
	put(t, h, "hers", "run = [\"/bin/true\"]\nopens = []\n[as]\nuser = \"maren\"\ndesktop = true\nwindow = \"none\"\n")
	put(t, h, "roots", "run = [\"/bin/true\"]\nopens = []\n[as]\nelevated = true\n")
	k, c := keep(t, h, newMachine(t)), NewClient(h)
	for _, name := range []string{"hers", "roots", "roots"} {
		if _, err := c.Open(t.Context(), name); err != nil {
			t.Fatal(err)
		}
	}
	for range 2 { // the first has not come to an end yet
		if d := k.until("an end", func(d engine.Decision) bool { return d.Kind == engine.End }); d.Gate != "roots" {
			t.Errorf("beside a display that hangs: %+v", d)
		}
		if _, err := c.Open(t.Context(), "roots"); err != nil {
			t.Fatal(err)
		}
	}
	if d := k.ended("hers"); d.Result != engine.Failure || !strings.Contains(d.Reason, "the display did not answer within") {
		t.Errorf("on a display that hangs: %+v", d)
	}
}
