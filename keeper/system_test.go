//go:build linux

package keeper

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"

	"timegate/control"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/words"
	"timegate/gates"
	"timegate/home"
	"timegate/journal"
	"timegate/launch"
	"timegate/workstation/linux"
	"timegate/workstation/wstest"
)

var systemHome = home.Home{Scope: gate.System, Gates: "/mnt/etc/gates", State: "/mnt/var/timegate", Socket: "/mnt/run/keeper.sock"}

// systemScope makes a system of its own: accounts maren and tobias, and a home
// of the system scope on a file system where only root may write.
func systemScope(t *testing.T) home.Home {
	t.Helper()
	wstest.Do(t, "mount", "--make-rprivate", "/")
	wstest.Do(t, "mount", "-t", "tmpfs", "-o", "mode=755", "tmpfs", "/mnt")
	if err := errors.Join(os.Mkdir("/mnt/upper", 0o755), os.Mkdir("/mnt/work", 0o755)); err != nil {
		t.Fatal(err)
	}
	wstest.Do(t, "mount", "-t", "overlay", "overlay", "-o", "lowerdir=/etc,upperdir=/mnt/upper,workdir=/mnt/work", "/etc")
	for file, lines := range map[string]string{
		"passwd": "maren:x:61001:61001:Maren:/mnt/home/maren:/bin/bash\ntobias:x:61002:61002::/mnt/home/tobias:/bin/sh\n",
		"group":  "maren:x:61001:\ntobias:x:61002:\nbinders:x:61010:maren,tobias\n",
		// What a login gives.
		"login.defs":           "ENV_PATH PATH=/usr/bin:/bin:/usr/games\nENV_SUPATH PATH=/usr/sbin:/usr/bin:/sbin:/bin\n",
		"environment":          "# the workshop's\nBINDERY=\"Larkspur\"\n",
		"security/limits.conf": "*  -  nofile  700\n@binders soft nofile 600 # of the group\n@binders hard core 0\ntobias - nofile 64\nroot - nofile 800\n",
	} {
		path := "/etc/" + file
		text, _ := os.ReadFile(path)
		whole := string(text) + lines
		if file == "passwd" || file == "group" {
			whole = lines + string(text) // of two with one name, the first counts
		}
		if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, []byte(whole), 0o644)); err != nil {
			t.Fatal(err)
		}
	}
	for name, uid := range map[string]int{"maren": 61001, "tobias": 61002} {
		if err := os.MkdirAll("/mnt/home/"+name+"/bin", 0o755); err != nil {
			t.Fatal(err)
		}
		for _, dir := range []string{"/mnt/home/" + name, "/mnt/home/" + name + "/bin"} {
			if err := os.Chown(dir, uid, uid); err != nil {
				t.Fatal(err)
			}
		}
	}
	h := systemHome
	if err := errors.Join(os.Mkdir("/mnt/var", 0o755), os.Mkdir(h.State, 0o700)); err != nil { // closed, as by a careless hand
		t.Fatal(err)
	}
	if err := h.Prepare(); err != nil {
		t.Fatal(err)
	}
	return h
}

// install writes a program, owned by an account.
func install(t *testing.T, path, body string, uid int) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte("#!/bin/sh\n"+body+"\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Chown(path, uid, uid); err != nil {
		t.Fatal(err)
	}
}

// TestRights: programs of the system scope run with the rights, groups, home
// and surroundings of the account that their gates name, and nobody else's.
func TestRights(t *testing.T) {
	if !wstest.Alone(t, syscall.CLONE_NEWNS) {
		return
	}
	h := systemScope(t)
	syscall.Umask(0o022)
	install(t, "/mnt/opt/tell", `id -u; id -G; echo "$HOME $USER $LOGNAME $SHELL $(pwd) $(umask) $(nice)"; echo "$PATH $BINDERY"; echo "limits $(ulimit -Sn) $(ulimit -Hn) $(ulimit -Hc)" >&2; tr "\\0" "\\n" <"$TIMEGATE_FILES"; echo told >/dev/stderr; env | grep -c SECRET`, 0)
	t.Setenv("SECRET", "the keeper's own")
	watched := "/mnt/proofs"
	if err := os.Mkdir(watched, 0o755); err != nil {
		t.Fatal(err)
	}
	put(t, h, "as-maren", `run = ["/mnt/opt/tell"]`+"\nopens = [\"change in /mnt/proofs\"]\n[as]\nuser = \"maren\"\npriority = \"low\"\n")
	put(t, h, "as-root", `run = ["/mnt/opt/tell"]`+"\nfolder = \"/mnt\"\nopens = [\"signal root\"]\n[as]\nelevated = true\n")
	put(t, h, "nobody-knows", `run = ["/mnt/opt/tell"]`+"\nopens = [\"signal root\"]\n[as]\nuser = \"ines\"\n")
	k := keep(t, h, newMachine(t))
	if err := os.WriteFile(watched+"/hymnal.pdf", nil, 0o644); err != nil {
		t.Fatal(err)
	}
	// What it printed, without its limits: without CAP_SYS_RESOURCE a keeper
	// cannot set those of other accounts, and that is noted.
	output := func(d engine.Decision, limits string) string {
		t.Helper()
		text, err := h.ReadOutput(d.Run)
		if err != nil || d.Result != engine.ResultOK && d.Result != engine.ResultFailed {
			t.Fatalf("%+v, %v", d, err)
		}
		before, rest, _ := strings.Cut(string(text), "limits ")
		told, rest, _ := strings.Cut(rest, "\n")
		j, err := journal.OpenReader(h.Journal())
		if err != nil {
			t.Fatal(err)
		}
		defer j.Close()
		e, _, err := j.Run(d.Run)
		if err != nil || e.Note == "" && !strings.HasPrefix(told, limits) || e.Note != "" && !strings.Contains(e.Note, "could not be set: operation not permitted") {
			t.Errorf("limits %q, want %q; note %q, %v", told, limits, e.Note, err)
		}
		return before + rest
	}
	want := "61001\n61001 61010\n/mnt/home/maren maren maren /bin/bash /mnt/home/maren 0022 19\n/usr/bin:/bin:/usr/games Larkspur\n/mnt/proofs/hymnal.pdf\ntold\n0\n"
	if got := output(k.ended("as-maren"), "600 700 0"); got != want {
		t.Errorf("as maren:\n%s\nwant\n%s", got, want)
	}
	if _, err := control.NewClient(h).Send(t.Context(), "root"); err != nil {
		t.Fatal(err)
	}
	got := map[string]engine.Decision{}
	for len(got) < 2 {
		d := k.until("an end", func(d engine.Decision) bool { return d.Kind == engine.End || d.Kind == engine.Refuse })
		got[d.Gate] = d
	}
	own, err := unix.Getpriority(unix.PRIO_PROCESS, 0)
	if err != nil {
		t.Fatal(err)
	}
	own = 20 - own // the system call's value (getpriority(2), "C library/kernel differences")
	if text := output(got["as-root"], "800 800 "); !strings.HasPrefix(text, "0\n") || !strings.Contains(text, " root root ") || !strings.Contains(text, fmt.Sprintf(" /mnt 0022 %d\n", own)+"/usr/sbin:/usr/bin:/sbin:/bin Larkspur\n") {
		t.Errorf("as root:\n%s", text)
	}
	if d := got["nobody-knows"]; d.Result != engine.ResultRefused || !strings.Contains(words.Reason(d.Reason), `no account "ines"`) {
		t.Errorf("as somebody who is not there: %+v", d)
	}
}

// TestDirectoryAccount: an account that only a directory service knows has its gates run, with
// the groups that it has there.
func TestDirectoryAccount(t *testing.T) {
	if !wstest.Alone(t, syscall.CLONE_NEWNS) {
		return
	}
	if _, err := os.Stat("/usr/lib/libnss_extrausers.so.2"); err != nil {
		wstest.Skip(t, "needs the package libnss-extrausers")
	}
	h := systemScope(t)
	wstest.Do(t, "mount", "-t", "tmpfs", "tmpfs", "/var/lib/extrausers")
	for path, text := range map[string]string{
		"/etc/nsswitch.conf":         "passwd: files extrausers\ngroup: files extrausers\n",
		"/var/lib/extrausers/passwd": "ines:x:71001:71001::/mnt/home/ines:/bin/zsh\n",
		"/var/lib/extrausers/group":  "ines:x:71001:\nfolders:x:71010:ines\n",
	} {
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := errors.Join(os.MkdirAll("/mnt/home/ines", 0o700), os.Chown("/mnt/home/ines", 71001, 71001)); err != nil {
		t.Fatal(err)
	}
	install(t, "/mnt/opt/tell", `echo "$(id -u) $(id -G) $HOME $USER $SHELL $(pwd)"`, 0)
	put(t, h, "hers", "run = [\"/mnt/opt/tell\"]\nopens = []\n[as]\nuser = \"ines\"\n")
	k := keep(t, h, newMachine(t))
	if _, err := control.NewClient(h).Open(t.Context(), "hers"); err != nil {
		t.Fatal(err)
	}
	d := k.ended("hers")
	if text, err := h.ReadOutput(d.Run); string(text) != "71001 71001 71010 /mnt/home/ines ines /bin/zsh /mnt/home/ines\n" {
		t.Errorf("%q, %v: %+v", text, err, d)
	}
}

// TestDesktop: a program gets the display, bus and runtime folder of the
// session that the person is logged on to, or with root's rights the display
// alone; without such a session it is not started.
func TestDesktop(t *testing.T) {
	if !wstest.Alone(t, syscall.CLONE_NEWNS|syscall.CLONE_NEWPID) {
		return
	}
	h := systemScope(t)
	install(t, "/mnt/opt/tell", `echo "$(id -u) $DISPLAY $XAUTHORITY $DBUS_SESSION_BUS_ADDRESS $XDG_RUNTIME_DIR"`, 0)
	for name, as := range map[string]string{"hers": `user = "maren"`, "his": `user = "tobias"`, "roots": "elevated = true"} {
		put(t, h, name, "run = [\"/mnt/opt/tell\"]\nopens = []\n[as]\ndesktop = true\n"+as+"\n")
	}
	k := keep(t, h, newMachine(t))
	c := control.NewClient(h)
	open := func(name string) (engine.Decision, string) {
		t.Helper()
		if _, err := c.Open(t.Context(), name); err != nil {
			t.Fatal(err)
		}
		d := k.ended(name)
		text, _ := h.ReadOutput(d.Run)
		return d, string(text)
	}
	for name, want := range map[string]string{"hers": "maren is not logged on", "roots": "nobody is logged on"} {
		if d, _ := open(name); d.Result != engine.ResultRefused || !strings.Contains(words.Reason(d.Reason), want) {
			t.Errorf("%s, with nobody there: %+v", name, d)
		}
	}
	// A session of maren's, as a process in it shows it; its display is there.
	wstest.Do(t, "mount", "-t", "tmpfs", "tmpfs", "/tmp")
	if err := os.MkdirAll("/tmp/.X11-unix", 0o777); err != nil {
		t.Fatal(err)
	}
	display, err := net.Listen("unix", "/tmp/.X11-unix/X78")
	if err != nil {
		t.Fatal(err)
	}
	defer display.Close()
	end := logOn(t, 61001, "DISPLAY=:78", "XAUTHORITY=/mnt/home/maren/.Xauthority", "DBUS_SESSION_BUS_ADDRESS=unix:path=/run/user/61001/bus",
		"XDG_RUNTIME_DIR=/run/user/61001", "SECRET=hers")
	const rest = " :78 /mnt/home/maren/.Xauthority unix:path=/run/user/61001/bus /run/user/61001\n"
	if d, text := open("hers"); text != "61001"+rest {
		t.Errorf("hers: %q, %+v", text, d)
	}
	if d, text := open("roots"); text != "0 :78 /mnt/home/maren/.Xauthority  \n" {
		t.Errorf("root's, on her display: %q, %+v", text, d)
	}
	if d, _ := open("his"); d.Result != engine.ResultRefused || !strings.Contains(words.Reason(d.Reason), "tobias is not logged on") {
		t.Errorf("his: %+v", d)
	}
	end()
	checkWayland(t, h, open)
}

// checkWayland: where a desktop has Wayland alone, nobody can keep windows
// away. The program is started all the same, which is told before and after.
func checkWayland(t *testing.T, h home.Home, open func(string) (engine.Decision, string)) {
	compositor, err := net.Listen("unix", "/mnt/wayland-0")
	if err != nil {
		t.Fatal(err)
	}
	defer compositor.Close()
	put(t, h, "unseen", "run = [\"/mnt/opt/tell\"]\nopens = []\n[as]\ndesktop = true\nuser = \"tobias\"\nwindow = \"none\"\n")
	findings := func(name string) (codes string) {
		for _, f := range launcher(h).Windows(gates.ReadFile(h, name, gates.Env(gates.Here(gate.System, newMachine(t).Zone(), ""), newMachine(t).Zone())).Gate) {
			codes += " " + f.Code
		}
		return codes
	}
	if got := findings("unseen"); got != "" {
		t.Errorf("while nobody knows which desktop it will be: %s", got)
	}
	logOn(t, 61002, "WAYLAND_DISPLAY=/mnt/wayland-0")
	d, _ := open("unseen")
	j, err := journal.OpenReader(h.Journal())
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	if e, _, err := j.Run(d.Run); err != nil || d.Result != engine.ResultOK || !strings.HasPrefix(e.Note, launch.NoRelay) || findings("unseen") != " wayland-window" {
		t.Errorf("on a desktop with Wayland: %+v, note %q, found %q, %v", d, e.Note, findings("unseen"), err)
	}
	for name, line := range map[string]string{"robot": "robot:x:61003:61003::/:/usr/sbin/nologin", "daemon-of-ours": "daemon-of-ours:x:391:391::/:/bin/sh"} {
		text, err := os.ReadFile("/etc/passwd")
		if err := errors.Join(err, os.WriteFile("/etc/passwd", append(text, line+"\n"...), 0o644)); err != nil {
			t.Fatal(err)
		}
		put(t, h, name, "run = [\"/mnt/opt/tell\"]\nopens = []\n[as]\ndesktop = true\nuser = \""+name+"\"\n")
		if got := findings(name); got != " desktop-account" {
			t.Errorf("%s on a desktop: found %q", name, got)
		}
	}
}

// logOn lets an account have a session, as a process in it shows it. It
// returns what ends the session.
func logOn(t *testing.T, uid uint32, vars ...string) (end func()) {
	t.Helper()
	session := exec.Command("sleep", "60")
	session.Env = vars
	session.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uid, Gid: uid}}
	if err := session.Start(); err != nil {
		t.Fatal(err)
	}
	end = sync.OnceFunc(func() { session.Process.Kill(); session.Wait() })
	t.Cleanup(end)
	return end
}

func launcher(h home.Home) *launch.Launcher {
	return &launch.Launcher{Home: h, Sessions: linux.Sessions}
}
