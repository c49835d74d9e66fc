//go:build linux

package cli_test

import (
	"encoding/json"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"

	"timegate/workstation"
	"timegate/workstation/wstest"
)

// listedHost is what the list tells of a workstation.
type listedHost struct {
	Host   string
	State  string
	Report *struct {
		Gates, Failed int
		Bundle        struct {
			Number      int
			State, Code string
		}
	}
}

// bindery is an estate of real keepers, each on a workstation of its own name, and a desk.
type bindery struct {
	t   *testing.T
	dir string
	url string
	key string // the file of the key that signs
}

// logged is a gate of the folder, which logs once a signal comes.
const logged = "about = \"Log the press room's humidity\"\nrun = [\"{scripts}/humidity-log\", \"{host}\"]\nopens = [\"signal now\"]\n"

// openBindery lets two workstations join, which have gates of their own, and fills the folder.
func openBindery(t *testing.T) *bindery {
	t.Helper()
	dir := t.TempDir()
	b := &bindery{t, dir, startOpenBroker(t), filepath.Join(dir, "larkspur.key")}
	b.must("", "desk", "sign", "--new-key", b.key)
	b.must("", "desk", "estate", "join", b.url, "--shop", "larkspur", "--trust", b.key+".pub", "--desk")
	b.must("none was published", "desk", "estate", "status")
	b.must("written", "press-room", "add", "old-one", "--open", "signal old", "--yes", "--", "/bin/false")
	broken := filepath.Join(b.dir, "press-room/gates/of-ines.toml") // no bundle's fault
	if err := os.WriteFile(broken, []byte("run = \n"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, host := range []string{"front-desk", "press-room"} {
		shown := b.must(host, host, "estate", "join", b.url, "--shop", "larkspur", "--trust", b.key+".pub", "--group", "printing")
		b.keep(host)
		finger := regexp.MustCompile(`[0-9a-f]{4}(-[0-9a-f]{4}){9}`).FindString(shown)
		wstest.Await(t, host+" to ask", func() bool {
			out, _ := b.call("desk", "estate", "show", host)
			return finger != "" && strings.Contains(out, finger)
		})
		b.must(finger, "desk", "estate", "accept", host, "--yes")
	}
	b.writes("gates/humidity-log.toml", logged)
	b.writes("scripts/humidity-log", "#!/bin/sh\necho \"$1: 52 %\"\n")
	return b
}

// list returns what the desk's list tells.
func (b *bindery) list() []listedHost {
	b.t.Helper()
	var rows []listedHost
	if err := json.Unmarshal([]byte(b.must("", "desk", "--json", "estate", "list")), &rows); err != nil {
		b.t.Fatal(err)
	}
	return rows
}

// has tells whether all workstations have told this of a bundle.
func (b *bindery) has(number int, state, code string) func() bool {
	return func() bool {
		return !slices.ContainsFunc(b.list(), func(h listedHost) bool {
			return h.State != "on" || h.Report == nil || h.Report.Bundle.Number != number || h.Report.Bundle.State != state || h.Report.Bundle.Code != code
		})
	}
}

// publish returns the command that publishes the folder.
func (b *bindery) publish(options ...string) []string {
	return append([]string{"estate", "publish", filepath.Join(b.dir, "folder"), "--key", b.key, "--yes"}, options...)
}

// first publishes the first bundle, which all take.
func (b *bindery) first() {
	b.t.Helper()
	b.must("all waves have begun", "desk", b.publish("--waves", "1,rest", "--after", "1s")...)
	wstest.Await(b.t, "the first bundle", b.has(1, "taken", ""))
}

// call calls the program on a workstation, which has a name of its own.
func (b *bindery) call(host string, args ...string) (string, int) {
	b.t.Helper()
	cmd := b.command(host, args...)
	out, _ := cmd.CombinedOutput()
	return string(out), cmd.ProcessState.ExitCode()
}

func (b *bindery) command(host string, args ...string) *exec.Cmd {
	cmd := exec.Command(program, slices.Concat([]string{"--plain", "--home", filepath.Join(b.dir, host)}, args)...)
	cmd.Env = []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "HOME=" + b.dir, "TZ=Europe/London", workstation.HostVariable + "=" + host}
	return cmd
}

// must calls the program, which must end well and say something.
func (b *bindery) must(want, host string, args ...string) string {
	b.t.Helper()
	out, status := b.call(host, args...)
	if status != 0 || !strings.Contains(out, want) {
		b.t.Fatalf("%s: %s: status %d, want %q:\n%s", host, strings.Join(args, " "), status, want, out)
	}
	return out
}

// keep lets a workstation's keeper run.
func (b *bindery) keep(host string) {
	b.t.Helper()
	keeper := b.command(host, "keeper", "run")
	keeper.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := keeper.Start(); err != nil {
		b.t.Fatal(err)
	}
	b.t.Cleanup(func() { syscall.Kill(-keeper.Process.Pid, syscall.SIGKILL); keeper.Wait() })
	wstest.Await(b.t, "the keeper of "+host, func() bool { _, status := b.call(host, "keeper", "status"); return status == 0 })
}

// writes writes a file of the folder of gates.
func (b *bindery) writes(name, text string) {
	b.t.Helper()
	path := filepath.Join(b.dir, "folder", name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		b.t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o755); err != nil {
		b.t.Fatal(err)
	}
}

// startOpenBroker starts a broker on the loopback network.
func startOpenBroker(t *testing.T) (url string) {
	t.Helper()
	mosquitto := wstest.Need(t, "mosquitto", "mosquitto")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := l.Addr().String()
	l.Close()
	_, port, err := net.SplitHostPort(address)
	if err != nil {
		t.Fatal(err)
	}
	conf := filepath.Join(t.TempDir(), "conf")
	if err := os.WriteFile(conf, []byte("listener "+port+" 127.0.0.1\nallow_anonymous true\nuser root\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	broker := exec.Command(mosquitto, "-c", conf)
	if err := broker.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { broker.Process.Kill(); broker.Wait() })
	wstest.Await(t, "the broker", func() bool {
		c, err := net.Dial("tcp", address)
		if err == nil {
			c.Close()
		}
		return err == nil
	})
	return "mqtt://" + address
}

// asksForThings asks the press room for what it permits, and for what it does not.
func (b *bindery) asksForThings(key string) {
	t := b.t
	t.Helper()
	ask := func(args ...string) (string, int) {
		return b.call("desk", slices.Concat([]string{"estate"}, args, []string{"--key", key})...)
	}
	if out, status := ask("why", "press-room", "humidity-log"); status != 0 || !strings.Contains(out, "start ") || !strings.Contains(out, "due") || strings.Contains(out, b.dir) || strings.Contains(out, "root") {
		t.Errorf("why: status %d\n%s", status, out)
	}
	for _, args := range [][]string{{"open", "press-room", "humidity-log"}, {"output", "press-room", "humidity-log"}, {"send", "press-room", "now"}, {"pause", "press-room", "--for", "2h"}} {
		if out, status := ask(args...); status != 1 || !strings.Contains(out, "press-room: its own settings do not permit that") {
			t.Errorf("%s: status %d\n%s", args, status, out)
		}
	}
	b.must("bundles, why\n", "press-room", "estate", "may")
	b.must("has begun anew", "press-room", "estate", "may", "open", "pause")
	wstest.Await(t, "the press room to be there again", func() bool {
		out, status := ask("open", "press-room", "humidity-log")
		return status == 0 && strings.Contains(out, "opened")
	})
	if out, status := ask("open", "press-room", "nothing-here"); status != 4 || !strings.Contains(out, "there is no gate called \"nothing-here\" there") {
		t.Errorf("a gate that is not there: status %d\n%s", status, out)
	}
	if out, status := ask("pause", "press-room", "--for", "2h"); status != 0 || !strings.Contains(out, "press-room: done") {
		t.Errorf("pause: status %d\n%s", status, out)
	}
	b.must(`"paused": true`, "press-room", "--json", "keeper", "status")
	if out, status := ask("resume", "press-room"); status != 0 {
		t.Errorf("resume: status %d\n%s", status, out)
	}
	b.must(`"paused": false`, "press-room", "--json", "keeper", "status")
	b.must("has begun anew", "press-room", "estate", "may", "output", "details")
	wstest.Await(t, "the output", func() bool {
		out, status := ask("output", "press-room", "humidity-log")
		return status == 0 && out == "press-room: 52 %\n"
	})
	if out, status := ask("why", "press-room", "humidity-log"); status != 0 || !strings.Contains(out, "was started. Opened by hand") {
		t.Errorf("why, with details: status %d\n%s", status, out)
	}
	wstest.Await(t, "a report with details", func() bool {
		out, _ := b.call("press-room", "estate", "privacy")
		return strings.Contains(out, `"command": "/bin/false"`)
	})
	wstest.Await(t, "the details at the desk", func() bool {
		out, _ := b.call("desk", "estate", "show", "press-room")
		return strings.Contains(out, "/bin/false as root: exit status 1") || strings.Contains(out, "/bin/false as "+os.Getenv("USER")+": exit status 1")
	})
	if out, status := ask("open", "press-room", "humidity-log"); status != 1 || !strings.Contains(out, "do not permit") {
		t.Errorf("what is permitted no more: status %d\n%s", status, out)
	}
	told := b.must("asked for open humidity-log, refused (not-permitted)", "press-room", "estate", "privacy")
	for _, want := range []string{"asked for pause 2h, answered", "asked for output humidity-log, answered"} {
		if !strings.Contains(told, want) {
			t.Errorf("of what was asked, %q is not told:\n%s", want, told)
		}
	}
	for args, want := range map[string]string{"why press-room": "the name of a gate is missing", "why press-room --x": "no option -x", "open press-room ../x": "is not the name of a gate", "resume press-room now": "is too much", "pause press-room --for soon": "is not a duration",
		"why nowhere humidity-log": "there is no workstation"} {
		if out, status := ask(strings.Fields(args)...); status == 0 || status == 1 || !strings.Contains(out, want) {
			t.Errorf("%s: status %d, want %q\n%s", args, status, want, out)
		}
	}
	b.must("has begun anew", "press-room", "estate", "may", "--nothing")
	wstest.Await(t, "a report without details", func() bool {
		out, status := b.call("press-room", "estate", "privacy")
		return status == 0 && !strings.Contains(out, "/bin/false")
	})
}

// watches looks at the workstations in a real terminal, chooses one, reads all of it, and quits.
func (b *bindery) watches(host string) {
	t := b.t
	t.Helper()
	master, slave := openPty(t, 120)
	if err := unix.IoctlSetWinsize(int(master.Fd()), unix.TIOCSWINSZ, &unix.Winsize{Row: 30, Col: 120}); err != nil {
		t.Fatal(err)
	}
	cmd := b.command("desk", "estate", "watch")
	cmd.Env = append(cmd.Env, "TERM=xterm-256color")
	cmd.Stdin, cmd.Stdout, cmd.Stderr = slave, slave, slave
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	var s seen
	read := make(chan struct{})
	go func() { s.follow(master); close(read) }()
	s.await(t, "workstations 2")
	for _, step := range [][2]string{{"/" + host + "\r", "1 with \"" + host + "\""}, {"\r", "since the bundle came"}, {"q", "LAST FAILURE"}} {
		s.forget()
		if _, err := master.WriteString(step[0]); err != nil {
			t.Fatal(err)
		}
		s.await(t, step[1])
	}
	if _, err := master.WriteString("q"); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Wait(); err != nil {
		t.Errorf("the view ends with %v", err)
	}
	slave.Close()
	<-read
}
