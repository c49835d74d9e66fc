//go:build linux

package keeper

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"timegate/control"
	"timegate/core/engine"
	"timegate/home"
	"timegate/journal"
	"timegate/workstation/wstest"
)

const marens, tobiass = 61001, 61002

// asAccount lets an account run a shell command and returns what it prints.
func asAccount(t *testing.T, uid int, command string) string {
	t.Helper()
	cmd := exec.Command("/bin/sh", "-c", command)
	cmd.Dir = "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(uid)}}
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("as %d: %s: %v\n%s", uid, command, err, out)
	}
	return string(out)
}

// rooted is a gate of root's that is due every 200 ms: whatever an account
// does, it starts in time.
const rooted = "run = [\"/bin/true\"]\nopens = [" + everyMoment + "]\n[as]\nelevated = true\n"

// hersGate is the text of a gate of maren's.
func hersGate(program, opens string, rest ...string) string {
	return fmt.Sprintf("run = [%q]\nopens = [%s]\n[as]\nuser = \"maren\"\n%s\n", program, opens, strings.Join(rest, "\n"))
}

// TestReadsWithTheAccountsRights: links out of an account's logs and folders, and
// variables that it sets, show it nothing that it could not read itself.
func TestReadsWithTheAccountsRights(t *testing.T) {
	if !wstest.Alone(t, syscall.CLONE_NEWNS) {
		return
	}
	h := systemScope(t)
	install(t, "/mnt/opt/tell", `echo "line $TIMEGATE_LINE"; [ -z "$TIMEGATE_FILES" ] || xargs -0 -n 1 echo file <"$TIMEGATE_FILES"`, 0)
	if err := errors.Join(os.WriteFile("/mnt/secret", []byte("root's secret\n"), 0o600), os.Mkdir("/mnt/closed", 0o700)); err != nil {
		t.Fatal(err)
	}
	asAccount(t, marens, "cd; mkdir /mnt/home/maren/log; ln -s /mnt/secret /mnt/home/maren/log/press.log; ln -s /mnt/closed /mnt/home/maren/inbox; ln -s /mnt/secret /mnt/home/maren/days")
	put(t, h, "log", hersGate("/mnt/opt/tell", `"line \".\" in /mnt/home/maren/log/press.log"`))
	put(t, h, "folder", hersGate("/mnt/opt/tell", `"change in /mnt/home/maren/inbox"`))
	put(t, h, "days", hersGate("/mnt/opt/tell", `"at 09:00, except days in /mnt/home/maren/days"`))
	put(t, h, "on-time", rooted)
	k, c := keep(t, h, newMachine(t)), control.NewClient(h)
	onTime(t, h, k)
	s, err := c.Status(t.Context())
	if err != nil || len(s.Broken) != 1 || !strings.Contains(s.Broken[0].Message, "permission denied") {
		t.Errorf("days in a file that is closed to her: %v, %v", s.Broken, err)
	}
	f, err := os.OpenFile("/mnt/secret", os.O_APPEND|os.O_WRONLY, 0)
	if err == nil {
		_, err = f.WriteString("one more of root's secrets\n")
	}
	if err := errors.Join(err, f.Close(), os.WriteFile("/mnt/closed/root's plans.pdf", nil, 0o600)); err != nil {
		t.Fatal(err)
	}
	// What is her own is seen all the same.
	asAccount(t, marens, "cd /mnt/home/maren; rm inbox log/press.log; mkdir inbox; echo start >log/press.log")
	k.until("her folder to be watched", func(d engine.Decision) bool { return d.Gate == "folder" && d.Kind == engine.End })
	wstest.Await(t, "the file to be told as one name", func() bool {
		asAccount(t, marens, "cd /mnt/home/maren/inbox; rm -rf proof*; touch 'proof\nfile forged'; echo hers >>/mnt/home/maren/log/press.log; sleep 0.1")
		return slices.ContainsFunc(historyOf(t, h, "folder"), func(e journal.Entry) bool {
			text, _ := h.ReadOutput(e.Run)
			return string(text) == "line \nfile /mnt/home/maren/inbox/proof\nfile forged\n" // of which the second line is the name's own
		})
	})
	k.ended("log")
	for _, e := range historyOf(t, h, "") {
		if e.Gate == "on-time" || e.Run == 0 {
			continue
		}
		text, err := h.ReadOutput(e.Run)
		if err != nil || strings.Contains(string(text), "root's") {
			t.Errorf("%s was told %q, %v", e.Gate, text, err)
		}
	}
}

// TestHangsNobodyElse: whatever an account lets hang, or stops, root's gates
// start in time, the keeper answers, and ends when it is told to.
func TestHangsNobodyElse(t *testing.T) {
	if !wstest.Alone(t, syscall.CLONE_NEWNS) {
		return
	}
	h := systemScope(t)
	asAccount(t, marens, `cd /mnt/home/maren; mkfifo fifo log days; chmod 755 fifo; printf '#!/mnt/home/maren/fifo\n' >script; printf '#!/dev/console\n' >console
		printf '#!/bin/sh\nkill -STOP $PPID\n' >stops; printf '#!/bin/sh\nexit 0\n' >fine; chmod 755 script console stops fine; truncate -s 4T huge; mkdir drive`)
	fuse, err := os.OpenFile("/dev/fuse", os.O_RDWR, 0)
	if err == nil {
		err = unix.Mount("maren", "/mnt/home/maren/drive", "fuse", 0, fmt.Sprintf("fd=%d,rootmode=40000,user_id=%d,group_id=%d", fuse.Fd(), marens, marens))
	}
	if err != nil {
		t.Fatal(err)
	}
	defer fuse.Close()
	put(t, h, "on-time", rooted)
	put(t, h, "his", strings.ReplaceAll(rooted, "elevated = true", `user = "tobias"`))
	for name, text := range map[string]string{
		"fifo": hersGate("/mnt/home/maren/fifo", `"signal now"`), "script": hersGate("/mnt/home/maren/script", `"signal now"`),
		"console": hersGate("/mnt/home/maren/console", `"signal now"`), "drive": hersGate("/mnt/home/maren/drive/x", `"signal now"`),
		"folder": "folder = \"/mnt/home/maren/drive\"\n" + hersGate("/mnt/home/maren/fine", `"signal now"`),
		"log":    hersGate("/mnt/home/maren/fine", `"line \"x\" in /mnt/home/maren/log"`, "", `[needs]`, `paths = ["/mnt/home/maren/drive/boards"]`),
		"huge":   hersGate("/mnt/home/maren/fine", `"line \"x\" in /mnt/home/maren/huge"`), "days": hersGate("/mnt/home/maren/fine", `"at 09:00, except days in /mnt/home/maren/days"`),
		"changes": hersGate("/mnt/home/maren/fine", `"change in /mnt/home/maren/drive"`), "low": hersGate("/mnt/home/maren/fine", `"low disk /mnt/home/maren/drive 1GB"`),
		"measured": "measure = [\"disk:/mnt/home/maren/drive\"]\n" + hersGate("/mnt/home/maren/fine", `"signal now"`),
	} {
		put(t, h, name, text)
	}
	var keeper *Keeper
	k := keepWith(t, h, newMachine(t), func(k *Keeper) { keeper, k.patience = k, atOnce+time.Second })
	c := control.NewClient(h)
	onTime(t, h, k)
	asAccount(t, marens, "echo x >>/mnt/home/maren/huge")
	if _, err := c.Send(t.Context(), "now"); err != nil {
		t.Fatal(err)
	}
	onTime(t, h, k)
	// Her agent is stopped by herself, and killed.
	pid := agentOf(t, keeper, "maren")
	asAccount(t, marens, fmt.Sprintf("kill -STOP %d", pid))
	go c.Send(context.WithoutCancel(t.Context()), "now") // whose answer waits for the starts
	onTime(t, h, k)
	asAccount(t, marens, fmt.Sprintf("kill -KILL %d", pid))
	onTime(t, h, k)
	wstest.Await(t, "a new agent", func() bool { next := keeper.crew.Of("maren").PID(); return next != 0 && next != pid })
	// One that is stopped by her program is renewed when it does not answer.
	put(t, h, "stops", hersGate("/mnt/home/maren/stops", `"signal stop"`))
	if _, err := c.Send(t.Context(), "stop"); err != nil {
		t.Fatal(err)
	}
	onTime(t, h, k)
	if !slices.ContainsFunc(k.log, func(d engine.Decision) bool { return d.Gate == "his" && d.Result == engine.ResultOK }) {
		k.until("a run of tobias's", func(d engine.Decision) bool { return d.Gate == "his" && d.Result == engine.ResultOK })
	}
	// Nor does a keeper that begins wait for an agent that is stopped while a run of its account goes on.
	put(t, h, "stays", "run = [\"/bin/sleep\", \"30\"]\nopens = [\"signal stay\"]\n[as]\nuser = \"tobias\"\n")
	if _, err := c.Send(t.Context(), "stay"); err != nil {
		t.Fatal(err)
	}
	k.until("a run of tobias's", func(d engine.Decision) bool { return d.Gate == "stays" && d.Starts() })
	pid = agentOf(t, keeper, "tobias")
	ends(t, k)
	if err := os.Remove(h.GateFile("days")); err != nil { // which hers would be asked for
		t.Fatal(err)
	}
	syscall.Kill(pid, syscall.SIGSTOP)
	began := time.Now()
	k = keepWith(t, h, newMachine(t), func(k *Keeper) { k.patience = atOnce + time.Second })
	if took := time.Since(began); took >= adoptMost {
		t.Errorf("a keeper began after %v beside an agent that is stopped", took)
	}
	onTime(t, h, k)
	ends(t, k)
}

// TestForgedRuns: a process that pretends to be a run of another account's is
// not taken for it, not even with the run's secret; what runs is found when
// keeper and agent are gone.
func TestForgedRuns(t *testing.T) {
	if !wstest.Alone(t, syscall.CLONE_NEWNS) {
		return
	}
	h := systemScope(t)
	install(t, "/mnt/opt/long", "exec sleep 600", 0)
	put(t, h, "roots", "run = [\"/mnt/opt/long\"]\nopens = [\"signal roots\"]\n[as]\nelevated = true\n")
	put(t, h, "hers", hersGate("/mnt/opt/long", `"signal hers"`))
	var keeper *Keeper
	k := keepWith(t, h, newMachine(t), func(k *Keeper) { keeper = k })
	c := control.NewClient(h)
	pids := map[string]int{}
	for _, name := range []string{"roots", "hers"} {
		if _, err := c.Send(t.Context(), name); err != nil {
			t.Fatal(err)
		}
		run := k.until("a start", func(d engine.Decision) bool { return d.Starts() && d.Gate == name }).Run
		wstest.Await(t, "the program", func() bool { pids[name] = pidOf(t, h, run); return pids[name] != 0 })
	}
	if mode := asAccount(t, marens, fmt.Sprintf("cat /proc/%d/environ 2>&1 | grep -c MARK || true", pids["roots"])); strings.TrimSpace(mode) != "0" {
		t.Errorf("maren can read root's mark: %s", mode)
	}
	mark := keeper.crew.Mark(1)
	agents := keeper.crew.PIDs()
	if err := k.end(); err != nil {
		t.Fatal(err)
	}
	for _, pid := range agents {
		syscall.Kill(pid, syscall.SIGKILL)
	}
	// Root's program is gone; a process of maren's has its mark.
	syscall.Kill(pids["roots"], syscall.SIGKILL)
	forged := exec.Command("/usr/bin/setsid", "/bin/sleep", "600")
	forged.Env = []string{"TIMEGATE_MARK=" + mark, "TIMEGATE_RUN=1"}
	forged.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: marens, Gid: marens}}
	if err := forged.Start(); err != nil {
		t.Fatal(err)
	}
	defer forged.Process.Kill()
	k = keepWith(t, h, newMachine(t), func(k *Keeper) { keeper = k })
	if d := k.ended("roots"); d.Result != engine.ResultLost {
		t.Errorf("root's run: %+v", d)
	}
	if s, err := c.Status(t.Context()); err != nil || s.Running != 1 {
		t.Errorf("running are %d, %v; want hers", s.Running, err)
	}
	if _, err := c.Stop(t.Context(), "hers"); err != nil {
		t.Fatal(err)
	}
	if d := k.ended("hers"); d.Result != engine.ResultStopped {
		t.Errorf("her run, found again: %+v", d)
	}
	if err := syscall.Kill(forged.Process.Pid, 0); err != nil {
		t.Errorf("the forged process was ended: %v", err)
	}
}

// historyOf returns what is recorded of a gate, newest first.
func historyOf(t *testing.T, h home.Home, name string) []journal.Entry {
	t.Helper()
	j, err := journal.OpenReader(h.Journal())
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	list, err := j.History(journal.Filter{Gate: name})
	if err != nil {
		t.Fatal(err)
	}
	return list
}

// pidOf returns the process number of a run, 0 while it is not known.
func pidOf(t *testing.T, h home.Home, run int64) int {
	t.Helper()
	j, err := journal.OpenReader(h.Journal())
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	e, _, err := j.Run(run)
	if err != nil {
		t.Fatal(err)
	}
	return e.PID
}

// TestHomesOfOthers: root's keeper takes no home that others could change.
func TestHomesOfOthers(t *testing.T) {
	if !wstest.Alone(t, syscall.CLONE_NEWNS) {
		return
	}
	h := systemScope(t)
	asAccount(t, marens, "mkdir -p /mnt/home/maren/tg/gates; ln -s /mnt/roots /mnt/home/maren/tg/keeper.lock")
	if err := errors.Join(os.WriteFile("/mnt/roots", []byte("root's file\n"), 0o600), os.Symlink("/mnt/home/maren/tg", "/mnt/opt-link"),
		os.Mkdir("/mnt/wide", 0o777), os.Chmod("/mnt/wide", 0o777)); err != nil {
		t.Fatal(err)
	}
	for _, dir := range []string{"/mnt/home/maren/tg", "/mnt/home/maren/new", "/mnt/opt-link", "/mnt/wide/tg"} {
		for _, scope := range []home.Home{home.At(dir, h.Scope), home.At(dir, "user")} {
			err := New(Options{Home: scope, Workstation: newMachine(t)}).Run(t.Context())
			if err == nil || !strings.Contains(err.Error(), "can be changed by") {
				t.Errorf("a keeper in %s: %v", dir, err)
			}
		}
	}
	if text, err := os.ReadFile("/mnt/roots"); err != nil || string(text) != "root's file\n" {
		t.Errorf("root's file is %q, %v", text, err)
	}
	// In a home of root's own, nothing is opened through a link.
	for _, name := range []string{"keeper.lock", "journal.db"} {
		dir := filepath.Join("/mnt/own", name)
		if err := errors.Join(os.MkdirAll(dir, 0o755), os.Symlink("/mnt/roots", filepath.Join(dir, name))); err != nil {
			t.Fatal(err)
		}
		if err := New(Options{Home: home.At(dir, h.Scope), Workstation: newMachine(t)}).Run(t.Context()); err == nil {
			t.Errorf("a keeper whose %s is a link", name)
		}
	}
	if text, err := os.ReadFile("/mnt/roots"); err != nil || string(text) != "root's file\n" {
		t.Errorf("root's file is %q, %v", text, err)
	}
}
