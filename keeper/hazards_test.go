//go:build linux

package keeper

import (
	"fmt"
	"os"
	"strings"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"

	"timegate/control"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/gates"
	"timegate/home"
	"timegate/workstation/wstest"
)

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
		{"reading", `"/mnt/opt/safe"`, "elevated = true", `measure = ["memory", "command:/mnt/home/maren/x --all"]`, "the program of a reading can be changed by maren"},
		{"reading-shell", `"/mnt/opt/safe"`, "elevated = true", `measure = ["command:/bin/sh -c 'eval x'"]`, "cannot be judged"},
		{"reading-name", `"/mnt/opt/safe"`, "elevated = true", `measure = ["command:df /"]`, "of a reading is looked up in PATH"},
		{"reading-quote", `"/mnt/opt/safe"`, "elevated = true", `measure = ["command:\""]`, "is no command"},
		{"reading-safe", `"/mnt/opt/safe"`, "elevated = true", `measure = ["command:/mnt/opt/safe", "files:/mnt/home/maren"]`, ""},
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
