//go:build linux

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

	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/phrase"
	"timegate/core/words"
	"timegate/home"
	"timegate/journal"
	"timegate/workstation"
	"timegate/workstation/staged"
	"timegate/workstation/window"
	"timegate/workstation/wstest"
)

// late is a machine on which a person's desktop is there some time after the
// person has logged on, and where that is only seen by looking.
type late struct {
	*staged.Machine
	board    *workstation.Board
	attended chan engine.Attention
}

func (m *late) Notices() <-chan workstation.Notice { return m.board.Notices() }
func (m *late) Facts() engine.Facts                { return m.board.Facts() }
func (m *late) Attend(a engine.Attention) {
	if a.Desktops {
		select {
		case m.attended <- a:
		default:
		}
	}
}

// TestDesktopComesLate: a program that is to start at a logon on a desktop
// waits for that, and the machine is asked to look for one meanwhile.
func TestDesktopComesLate(t *testing.T) {
	t.Parallel()
	m := &late{Machine: fast(t), board: workstation.NewBoard(), attended: make(chan engine.Attention, 1)}
	t.Cleanup(m.board.Close)
	h := homeWith(t, "job-board", gateText("/bin/true", `"logon"`, "[as]", "desktop = true"))
	k := keep(t, h, m)
	if err := m.Stage([]string{"logon", "maren"}); err != nil { // so that there is a session
		t.Fatal(err)
	}
	m.board.Post(workstation.Notice{Event: phrase.Logon, Name: home.Account()}, func(f *engine.Facts) { f.People = []engine.Person{{Account: home.Account()}} })
	d := k.until("the wait", func(d engine.Decision) bool { return d.Kind == engine.Wait })
	if d.Rule != "as.desktop" || d.Args.Need == nil || d.Args.Need.Kind != engine.NeedDesktop {
		t.Errorf("it waits: %+v", d)
	}
	<-m.attended
	m.board.Learn(func(f *engine.Facts) { f.Desktops = []string{"", "maren"} })
	if d = k.until("the start", func(d engine.Decision) bool { return d.Starts() }); d.Args.Waited == nil || d.Args.Waited.Need.Kind != engine.NeedDesktop {
		t.Errorf("it starts: %+v", d)
	}
	if d = k.ended("job-board"); d.Result != engine.ResultOK {
		t.Errorf("on the staged desktop: %+v", d)
	}
}

// TestAbsences: the journal knows when the machine slept, and when it was off.
func TestAbsences(t *testing.T) {
	t.Parallel()
	m := fast(t)
	h := homeWith(t, "humidity-log", gateText(wstest.Script(t, ``), `"every 10m"`, "[rules]", `missed = "once"`))
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
	if !wstest.Alone(t, syscall.CLONE_NEWNS|syscall.CLONE_NEWPID) {
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
	k, c := keep(t, h, newMachine(t)), control.NewClient(h)
	for name, as := range map[string]string{"hers": `user = "maren"`, "roots": "elevated = true"} {
		install(t, "/mnt/opt/say-"+name, "id -u >/mnt/said/"+name+"; sleep 60", 0)
		put(t, h, name, fmt.Sprintf("run = [%q, \"-e\", \"/mnt/opt/say-%s\"]\nopens = []\n[as]\ndesktop = true\nwindow = \"none\"\n%s\n", emulator, name, as))
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
		if d := k.ended(name); d.Result != engine.ResultStopped {
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
			owners = append(owners, owner(info))
		}
	}
	return owners
}

// TestDisplayThatHangs: a display that never answers keeps other programs from
// nothing; the start fails after a while, and says why.
func TestDisplayThatHangs(t *testing.T) {
	if !wstest.Alone(t, syscall.CLONE_NEWNS|syscall.CLONE_NEWPID) {
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
	k, c := keep(t, h, newMachine(t)), control.NewClient(h)
	began := time.Now()
	answered := make(chan error, 1)
	go func() {
		_, err := c.Open(t.Context(), "hers")
		answered <- err
	}()
	k.until("the start", func(d engine.Decision) bool { return d.Starts() })
	for range 2 { // the first has not come to an end yet
		if _, err := c.Open(t.Context(), "roots"); err != nil {
			t.Fatal(err)
		}
		if d := k.until("an end", func(d engine.Decision) bool { return d.Kind == engine.End }); d.Gate != "roots" || time.Since(began) > atOnce {
			t.Errorf("beside a display that hangs: %+v after %v", d, time.Since(began))
		}
	}
	if d := k.ended("hers"); d.Result != engine.ResultFailed || !strings.Contains(words.Reason(d.Reason), "the display did not answer within") {
		t.Errorf("on a display that hangs: %+v", d)
	}
	if err := <-answered; err != nil {
		t.Error(err)
	}
}

func owner(info os.FileInfo) int { return int(info.Sys().(*syscall.Stat_t).Uid) }
