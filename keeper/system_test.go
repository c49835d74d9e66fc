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

// TestHazards: whatever others could change is not run with rights that they
// do not have, and is told beforehand.
func TestHazards(t *testing.T) {
	if !wstest.Alone(t, syscall.CLONE_NEWNS) {
		return
	}
	h := systemScope(t)
	const marens = 61001
	install(t, "/mnt/opt/safe", "echo safe", 0)
	install(t, "/mnt/home/maren/bin/hers", "echo hers", marens)
	install(t, "/mnt/home/maren/bin/roots", "echo root's, in her folder", 0)
	install(t, "/mnt/opt/open", "echo open", 0)
	install(t, "/mnt/opt/grouped", "echo grouped", 0)
	install(t, "/mnt/opt/listed", "echo listed", 0)
	install(t, "/mnt/opt/interpreted", "", 0)
	install(t, "/mnt/opt/x", "echo not this one", 0)
	install(t, "/mnt/home/maren/x", "echo hers", marens)
	install(t, "/mnt/opt/set-id", "", marens)
	for _, err := range []error{
		os.Chmod("/mnt/opt/set-id", 0o755|os.ModeSetuid), os.WriteFile("/mnt/home/maren/days", []byte("2026-12-24\n"), 0o644),
		os.Chmod("/mnt/opt/open", 0o757), os.Chown("/mnt/opt/grouped", 0, 61010), os.Chmod("/mnt/opt/grouped", 0o775),
		os.Symlink("/mnt/home/maren/bin/hers", "/mnt/opt/link"), os.Symlink("/mnt/opt/safe", "/mnt/home/maren/bin/back"),
		os.Symlink("/mnt/home/maren/bin", "/mnt/opt/up"), os.Symlink("up/../x", "/mnt/opt/sly"), os.Symlink("/bin/sh", "/mnt/opt/tool"),
		os.WriteFile("/mnt/opt/first-script", []byte("#!/bin/sh /mnt/home/maren/x\n"), 0o755), os.WriteFile("/mnt/opt/first-option", []byte("#! /usr/bin/perl -I/mnt/home/maren\n"), 0o755),
		os.WriteFile("/mnt/opt/first-relative", []byte("#!up/hers\n"), 0o755), os.WriteFile("/mnt/opt/first-env", []byte("#!/usr/bin/env -S perl -I/mnt/home/maren\n"), 0o755),
		os.WriteFile("/mnt/opt/interpreted", []byte("#!/mnt/home/maren/bin/hers\n"), 0o755),
		// user::rwx, user:maren:rwx, group::r-x, mask::rwx, other::r-x, as acl(5) stores it
		unix.Setxattr("/mnt/opt/listed", "system.posix_acl_access", []byte("\x02\x00\x00\x00"+
			"\x01\x00\x07\x00\xff\xff\xff\xff\x02\x00\x07\x00\x49\xee\x00\x00\x04\x00\x05\x00\xff\xff\xff\xff\x10\x00\x07\x00\xff\xff\xff\xff\x20\x00\x05\x00\xff\xff\xff\xff"), 0),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	for _, tt := range []struct{ name, run, as, extra, want string }{ // want is part of the finding; "" for none
		{"safe", `"/mnt/opt/safe"`, "elevated = true", "", ""},
		{"hers-as-root", `"/mnt/home/maren/bin/hers"`, "elevated = true", "", "maren, who owns it: /mnt/home/maren"},
		{"hers-as-maren", `"/mnt/home/maren/bin/hers"`, `user = "maren"`, "", ""},
		{"hers-as-tobias", `"/mnt/home/maren/bin/hers"`, `user = "tobias"`, "", "maren, who owns it"},
		{"in-her-folder", `"/mnt/home/maren/bin/roots"`, "elevated = true", "", "maren, who owns it: /mnt/home/maren"},
		{"open", `"/mnt/opt/open"`, "elevated = true", "", "everybody: /mnt/opt/open"},
		{"grouped", `"/mnt/opt/grouped"`, "elevated = true", "", "the group binders: /mnt/opt/grouped"},
		{"listed", `"/mnt/opt/listed"`, "elevated = true", "", "access control list names: /mnt/opt/listed"},
		{"link-out", `"/mnt/opt/link"`, "elevated = true", "", "maren, who owns it"},
		{"link-back", `"/mnt/home/maren/bin/back"`, "elevated = true", "", "maren, who owns it"},
		{"interpreter", `"/mnt/opt/interpreted"`, "elevated = true", "", "maren, who owns it"},
		{"script", `"/bin/sh", "/mnt/home/maren/bin/hers"`, "elevated = true", "", "the script can be changed by maren"},
		{"looked-up", `"true"`, "elevated = true", "", "looked up in PATH"},
		{"folder", `"/mnt/opt/safe"`, "elevated = true", `folder = "/tmp"`, "the working folder can be changed by everybody"},
		{"set-id", `"/mnt/opt/set-id"`, "elevated = true", "", "takes the rights of maren"},
		{"days", `"/mnt/opt/safe"`, "elevated = true", `opens = ["at 09:00, except days in /mnt/home/maren/days"]`, "the file of days can be changed by maren"},
		{"argument", `"/mnt/opt/safe", "--settings=/mnt/home/maren/bin/hers"`, "elevated = true", "", "which the program is given, can be changed by maren"},
		{"dots", `"/mnt/opt/up/../x"`, "elevated = true", "", "maren, who owns it: /mnt/home/maren"},
		{"dots-argument", `"/bin/sh", "/mnt/opt/up/../x"`, "elevated = true", "", "the script can be changed by maren"},
		{"dots-link", `"/mnt/opt/sly"`, "elevated = true", "", "maren, who owns it: /mnt/home/maren"},
		{"relative-script", `"/bin/sh", "../home/maren/x"`, "elevated = true", `folder = "/mnt/opt"`, "the script can be changed by maren"},
		{"bare-script", `"/bin/sh", "sly"`, "elevated = true", `folder = "/mnt/opt"`, "the script can be changed by maren"},
		{"first-line-script", `"/mnt/opt/first-script"`, "elevated = true", "", "the script can be changed by maren"},
		{"first-line-option", `"/mnt/opt/first-option"`, "elevated = true", "", "the script can be changed by maren"},
		{"first-line-relative", `"/mnt/opt/first-relative"`, "elevated = true", `folder = "/mnt/opt"`, "interpreter can be changed by maren"},
		{"first-line-env", `"/mnt/opt/first-env"`, "elevated = true", "", "the script can be changed by maren"},
		{"search", `"/mnt/opt/safe"`, "elevated = true\nenv = { PATH = \"/usr/bin:/mnt/home/maren/bin\" }", "", "the variable PATH names can be changed by maren"},
		{"search-here", `"/mnt/opt/safe"`, "elevated = true\nenv = { PATH = \"/usr/bin:.\" }", "", "wherever the program is"},
		{"home", `"/mnt/opt/safe"`, "elevated = true\nenv = { HOME = \"/mnt/home/maren\" }", "", "the variable HOME names can be changed by maren"},
		{"settings", `"/mnt/opt/safe"`, "elevated = true\nenv = { XDG_CONFIG_HOME = \"/mnt/home/maren\" }", "", "the variable XDG_CONFIG_HOME names can be changed by maren"},
		{"inline", `"/bin/sh", "-c", "sleep 1; /mnt/home/maren/x"`, "elevated = true", "", "the command line names can be changed by maren"},
		{"inline-quoted", `"/bin/sh", "-ec", "'/mnt/home'/maren/x"`, "elevated = true", "", "the command line names can be changed by maren"},
		{"inline-within", `"/bin/sh", "-c", "echo $(/mnt/home/maren/x)"`, "elevated = true", "", "the command line names can be changed by maren"},
		{"inline-unknown", `"/bin/bash", "-lc", "$BINDERY/x"`, "elevated = true", "", "cannot be judged"},
		{"inline-eval", `"/bin/sh", "-c", "eval echo x"`, "elevated = true", "", "cannot be judged"},
		{"inline-moved", `"/bin/sh", "-c", "cd /mnt/home/maren && ./x"`, "elevated = true", "", "cannot be judged"},
		{"inline-tobias", `"/bin/sh", "-c", "/mnt/home/maren/x"`, `user = "tobias"`, "", "the command line names can be changed by maren"},
		{"inline-library", `"/usr/bin/perl", "-I", "/mnt/home/maren", "-e", "1"`, "elevated = true", "", "the script can be changed by maren"},
		{"inline-perl", `"/usr/bin/perl", "-e", "do '/mnt/home/maren/x'"`, "elevated = true", "", "cannot be judged"},
		{"carried", `"/usr/bin/env", "A=1", "timeout", "5", "nice", "-n", "5", "/mnt/home/maren/x"`, "elevated = true", "", "maren, who owns it"},
		{"carried-xargs", `"/usr/bin/xargs", "-n", "1", "/mnt/home/maren/x"`, "elevated = true", "", "maren, who owns it"},
		{"carried-shell", `"/usr/bin/nohup", "sh", "-c", "/mnt/home/maren/x"`, "elevated = true", "", "maren, who owns it"},
		{"carried-find", `"/usr/bin/find", "/mnt/opt", "-exec", "/mnt/home/maren/x", "{}", ";"`, "elevated = true", "", "maren, who owns it"},
		{"carried-moved", `"/usr/bin/env", "--chdir=/mnt/home/maren", "./x"`, "elevated = true", "", "maren, who owns it"},
		{"carried-root", `"/usr/sbin/chroot", "/mnt/home/maren", "/x"`, "elevated = true", "", "maren, who owns it"},
		{"carried-script", `"/usr/bin/timeout", "5", "sh", "sly"`, "elevated = true", `folder = "/mnt/opt"`, "the script can be changed by maren"},
		{"option-runs", `"/usr/bin/tar", "-cf", "/dev/null", "--use-compress-program=/mnt/home/maren/x", "/mnt/opt"`, "elevated = true", "", "the script can be changed by maren"},
		{"inline-option", `"/bin/bash", "-O", "extglob", "-c", "eval x"`, "elevated = true", "", "cannot be judged"},
		{"harmless-tar", `"/bin/tar", "-cf", "/dev/null", "/mnt/opt"`, "elevated = true", "", ""},
		{"carried-loader", `"/usr/bin/env", "LD_PRELOAD=/x.so", "/mnt/opt/safe"`, "elevated = true", "", "LD_PRELOAD lets other code"},
		{"other-name", `"/mnt/opt/tool", "-c", "/mnt/home/maren/x"`, "elevated = true", "", "the command line names can be changed by maren"},
		{"trusted", `"/mnt/home/maren/bin/hers"`, "elevated = true\ntrust = [\"/mnt/home/maren\"]", "", "the gate trusts it"},
		{"trusted-line", `"/bin/sh", "-c", "eval echo x"`, "elevated = true\ntrust = [\"/bin/sh\"]", "", ""},
		{"harmless-line", `"/bin/sh", "-c", "test $(date +%d) = 01 || exit 0; /mnt/opt/safe >/dev/null 2>&1 && echo \"all $? well\""`, "elevated = true", "", "dash runs what it is told to"},
		{"harmless-carried", `"/usr/bin/timeout", "-k", "5", "30", "/usr/bin/env", "LC_ALL=C", "/mnt/opt/safe", "--quiet"`, "elevated = true", "", ""},
		{"harmless-awk", `"/usr/bin/awk", "{ print $1 }", "/mnt/opt/safe"`, "elevated = true", "", "mawk runs what it is told to"},
		{"variable", `"/mnt/opt/safe"`, "elevated = true\nenv = { PAGER = \"./go\" }", "", "what the program makes of the variable PAGER"},
		{"carried-variable", `"/usr/bin/env", "TAR_OPTIONS=--to-command=./go", "/mnt/opt/safe"`, "elevated = true", "", "what the program makes of the variable TAR_OPTIONS"},
		{"loader", `"/mnt/opt/safe"`, "elevated = true\nenv = { LD_PRELOAD = \"/x.so\" }", "", "LD_PRELOAD lets other code"},
	} {
		if !strings.Contains(tt.extra, "opens") {
			tt.extra += "\nopens = []"
		}
		put(t, h, tt.name, fmt.Sprintf("run = [%s]\n%s\n[as]\n%s\n", tt.run, tt.extra, tt.as))
		f := gates.ReadFile(h, tt.name, gates.Env(gates.Here(gate.System, newMachine(t).Zone(), ""), newMachine(t).Zone()))
		if f.Gate == nil {
			t.Fatal(f.Findings)
		}
		var told strings.Builder
		for _, x := range launcher(h).Hazards(f.Gate) {
			if x.Remedy == "" {
				t.Errorf("%s: no remedy for %q", tt.name, x.Message)
			}
			fmt.Fprintln(&told, x.Message)
		}
		if got := told.String(); (got == "") != (tt.want == "") || !strings.Contains(got, tt.want) {
			t.Errorf("%s: %q, want …%s…", tt.name, got, tt.want)
		}
	}
	// A copy in the home is safe, whatever becomes of the script.
	if err := h.PutScript("kept", []byte("#!/bin/sh\necho hers\n"), 0o755, 0); err != nil {
		t.Fatal(err)
	}
	for _, as := range []string{"elevated = true", `user = "tobias"`} {
		put(t, h, "kept", fmt.Sprintf("run = [%q]\nopens = []\n[as]\n%s\n", h.KeptScript("kept"), as))
		if found := launcher(h).Hazards(gates.ReadFile(h, "kept", gates.Env(gates.Here(gate.System, newMachine(t).Zone(), ""), newMachine(t).Zone())).Gate); len(found) > 0 {
			t.Errorf("the copy, %s: %v", as, found)
		}
	}
	checkEmulator(t, h)
	checkFailClosed(t, h)
}

// checkEmulator: a terminal emulator that others can put in the place of the
// system's is not started with rights that they do not have.
func checkEmulator(t *testing.T, h home.Home) {
	install(t, "/mnt/home/maren/bin/xdg-terminal-exec", "", 61001)
	const text = "run = [\"/mnt/opt/safe\"]\nopens = []\n[as]\nelevated = true\ndesktop = true\nwindow = \"terminal\"\nenv = { PATH = \"%s\" }\n"
	for path, want := range map[string]string{"/mnt/home/maren/bin:/usr/bin": "the terminal emulator can be changed by maren", "/mnt/opt": ""} {
		put(t, h, "shown", fmt.Sprintf(text, path))
		told := ""
		for _, f := range launcher(h).Hazards(gates.ReadFile(h, "shown", gates.Env(gates.Here(gate.System, newMachine(t).Zone(), ""), newMachine(t).Zone())).Gate) {
			told += f.Message + "\n"
		}
		if (told == "") != (want == "") || !strings.Contains(told, want) {
			t.Errorf("emulator in %s: %q, want …%s…", path, told, want)
		}
	}
}

// checkFailClosed opens what was told to be unsafe, while it is swapped all
// the time: it is refused each time. A gate file that others may write is not
// read at all.
func checkFailClosed(t *testing.T, h home.Home) {
	k := keep(t, h, newMachine(t))
	c := control.NewClient(h)
	stop, swapped := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(swapped)
		for i := 0; ; i++ {
			select {
			case <-stop:
				return
			default:
			}
			tmp := "/mnt/home/maren/bin/new"
			os.WriteFile(tmp, []byte("#!/bin/sh\necho swapped >/mnt/swapped\n"), 0o755)
			os.Chown(tmp, (i%2)*61001, 0)
			os.Rename(tmp, "/mnt/home/maren/bin/roots")
		}
	}()
	for range 30 {
		if _, err := c.Open(t.Context(), "in-her-folder"); err != nil {
			t.Fatal(err)
		}
		if d := k.ended("in-her-folder"); d.Result != engine.ResultRefused {
			t.Errorf("it was not refused: %+v", d)
		}
	}
	if _, err := c.Open(t.Context(), "kept"); err != nil {
		t.Fatal(err)
	}
	if d := k.ended("kept"); d.Result != engine.ResultOK {
		t.Errorf("tobias cannot run the copy: %+v", d)
	}
	close(stop)
	<-swapped
	if _, err := os.Stat("/mnt/swapped"); err == nil {
		t.Error("what maren put there was run with root's rights")
	}
	if err := os.Chmod(h.GateFile("safe"), 0o622); err != nil {
		t.Fatal(err)
	}
	if f := gates.ReadFile(h, "safe", gates.Env(gates.Here(gate.System, newMachine(t).Zone(), ""), newMachine(t).Zone())); f.Gate != nil || !strings.Contains(f.Findings.Errors().Error(), "the gate file can be changed by everybody") {
		t.Errorf("a gate file that everybody may write: %v", f.Findings)
	}
}

func launcher(h home.Home) *launch.Launcher {
	return &launch.Launcher{Home: h, Sessions: linux.Sessions}
}
