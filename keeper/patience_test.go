//go:build linux

package keeper

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"os"
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
	"timegate/workstation"
	"timegate/workstation/wstest"
)

// silent listens on a socket, takes connections and says nothing on them.
func silent(t *testing.T, path string) {
	t.Helper()
	l, err := net.Listen("unix", path)
	if err := errors.Join(err, os.Chmod(path, 0o777)); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			t.Cleanup(func() { c.Close() })
		}
	}()
}

// keepHasty is keep, with little patience for starts, and yet more than what counts
// as at once.
func keepHasty(t *testing.T, h home.Home, ws workstation.Workstation) *kept {
	return keepWith(t, h, ws, func(k *Keeper) { k.patience = atOnce + time.Second })
}

// atOnce is what counts as at once on a machine that has much else to do: whatever
// hangs takes longer.
const atOnce = 3 * time.Second

// onTime checks that the keeper answers at once, and that the gate "on-time",
// which is due every 200 ms, is started when it is due.
func onTime(t *testing.T, h home.Home, k *kept) {
	t.Helper()
	for range 8 {
		d := k.until("a start in time", func(d engine.Decision) bool { return d.Starts() && d.Gate == "on-time" })
		if late := d.At.Sub(d.Due); late > atOnce {
			t.Errorf("a start was decided %v late", late)
		}
		began := time.Now()
		if _, err := control.NewClient(h).Status(t.Context()); err != nil {
			t.Fatal(err)
		}
		if took := time.Since(began); took > atOnce {
			t.Errorf("the keeper took %v for an answer", took)
		}
	}
}

// troubled waits until the keeper tells of a trouble.
func troubled(t *testing.T, h home.Home, what, why string) {
	t.Helper()
	var seen []control.Trouble
	wstest.Await(t, "the trouble with "+what, func() bool {
		s, err := control.NewClient(h).Status(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		for _, x := range s.Troubles {
			if strings.Contains(x.What, what) && strings.Contains(x.Why, why) {
				return true
			}
		}
		seen = s.Troubles
		return false
	})
	if t.Failed() {
		t.Logf("troubles were %v", seen)
	}
}

const everyMoment = `"every 200ms from 00:00 to 23:59:59"`

// TestSilentBus: a message bus that takes connections and says nothing, and a
// login manager that does not answer, stop nothing but what they would tell.
func TestSilentBus(t *testing.T) {
	if !wstest.Alone(t, 0) {
		return
	}
	for name, answers := range map[string]bool{"bus": false, "login manager": true} {
		t.Run(name, func(t *testing.T) {
			bus := filepath.Join(t.TempDir(), "bus")
			t.Setenv("DBUS_SYSTEM_BUS_ADDRESS", "unix:path="+bus)
			if answers {
				wstest.StartBus(t, bus)
				wstest.NewLoginManager(t, bus, map[string]string{"1": "maren"}).Hang()
			} else {
				silent(t, bus)
			}
			h := homeWith(t, "on-time", gateText("/bin/true", everyMoment), "job-board", gateText("/bin/true", `"logon"`), "vault-copy", gateText("/bin/true", `"shutdown"`))
			began := time.Now()
			k := keep(t, h, newMachine(t))
			if took := time.Since(began); took > atOnce {
				t.Errorf("the keeper took %v to begin", took)
			}
			onTime(t, h, k)
			troubled(t, h, "logons", "no login manager answers")
			onTime(t, h, k)
			ends(t, k)
		})
	}
}

// ends checks that a keeper ends in time, whatever hangs.
func ends(t *testing.T, k *kept) {
	t.Helper()
	began := time.Now()
	if err := k.end(); err != nil {
		t.Fatal(err)
	}
	if took := time.Since(began); took > atOnce {
		t.Errorf("the keeper took %v to end", took)
	}
}

// TestSilentDisplay: a display that does not answer tells nothing of idleness,
// and that is all.
func TestSilentDisplay(t *testing.T) {
	if !wstest.Alone(t, syscall.CLONE_NEWNS) {
		return
	}
	wstest.Do(t, "mount", "--make-rprivate", "/")
	wstest.Do(t, "mount", "-t", "tmpfs", "tmpfs", "/tmp")
	if err := os.MkdirAll("/tmp/.X11-unix", 0o777); err != nil {
		t.Fatal(err)
	}
	silent(t, "/tmp/.X11-unix/X79")
	t.Setenv("DISPLAY", ":79")
	h := homeWith(t, "on-time", gateText("/bin/true", everyMoment), "glue-warm", gateText("/bin/true", `"idle 10m"`))
	k := keep(t, h, newMachine(t))
	onTime(t, h, k)
	troubled(t, h, "idleness", "does not answer")
	ends(t, k)
}

// hang mounts a file system whose server never answers, as a network drive
// without its network.
func hang(t *testing.T, dir string) {
	t.Helper()
	fuse, err := os.OpenFile("/dev/fuse", os.O_RDWR, 0)
	if err == nil {
		err = os.Mkdir(dir, 0o755)
	}
	if err == nil {
		err = unix.Mount("larkspur", dir, "fuse", 0, fmt.Sprintf("fd=%d,rootmode=40000,user_id=0,group_id=0", fuse.Fd()))
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { fuse.Close() }) // what hangs in it fails then
}

// TestDriveThatHangs: programs, folders, logs, needs, readings and files of
// days on a drive that does not answer concern their own gates alone.
func TestDriveThatHangs(t *testing.T) {
	if !wstest.Alone(t, syscall.CLONE_NEWNS) {
		return
	}
	wstest.Do(t, "mount", "--make-rprivate", "/")
	wstest.Do(t, "mount", "-t", "tmpfs", "tmpfs", "/mnt")
	hang(t, "/mnt/vault")
	h := homeWith(t, "on-time", gateText("/bin/true", everyMoment),
		"program", gateText("/mnt/vault/stock-count", `"signal now"`),
		"folder", "folder = \"/mnt/vault\"\n"+gateText("/bin/true", `"signal now"`),
		"needs", gateText("/bin/true", `"signal now"`, "[needs]", `paths = ["/mnt/vault/boards"]`),
		"readings", gateText("/bin/true", `"signal now"`, `measure = ["disk:/mnt/vault"]`),
		"changes", gateText("/bin/true", `"change in /mnt/vault/proofs"`),
		"lines", gateText("/bin/true", `"line \"glue\" in /mnt/vault/log"`),
		"low", gateText("/bin/true", `"low disk /mnt/vault 10%"`),
		"days", gateText("/bin/true", `"at 09:00, except days in /mnt/vault/closed"`))
	k := keepHasty(t, h, newMachine(t))
	onTime(t, h, k)
	go control.NewClient(h).Send(context.WithoutCancel(t.Context()), "now")
	for range 4 {
		d := k.until("an end or a skip", func(d engine.Decision) bool {
			return d.Gate != "on-time" && (d.Kind == engine.End || d.Kind == engine.Skip)
		})
		want := map[string]engine.Code{"program": engine.CodeNotStarted, "folder": engine.CodeNotStarted, "needs": engine.CodeUnmet, "readings": engine.CodeExit}[d.Gate]
		if d.Code != want || d.Code == engine.CodeNotStarted && !strings.Contains(d.Args.Detail, "does not answer") {
			t.Errorf("%s on a drive that hangs: %+v", d.Gate, d)
		}
	}
	onTime(t, h, k)
	troubled(t, h, "starting program", "does not answer")
	troubled(t, h, "files", "does not answer")
	s, err := control.NewClient(h).Status(t.Context())
	if err != nil || len(s.Broken) != 1 || s.Broken[0].Gate != "days" || !strings.Contains(s.Broken[0].Message, "does not answer") {
		t.Errorf("broken are %v, %v", s.Broken, err)
	}
	// What hung once is not started again and again.
	if a, err := control.NewClient(h).Open(t.Context(), "program"); err != nil || len(a.Decisions) != 2 || a.Decisions[1].Code != string(engine.CodeNotStarted) {
		t.Errorf("opened once more: %+v, %v", a, err)
	}
	ends(t, k)
}

// TestSlowAccounts: a directory of accounts that does not answer keeps only
// those from starting who are looked up in it.
func TestSlowAccounts(t *testing.T) {
	if !wstest.Alone(t, syscall.CLONE_NEWNS|syscall.CLONE_NEWPID) {
		return
	}
	h := systemScope(t)
	put(t, h, "on-time", "run = [\"/bin/true\"]\nopens = ["+everyMoment+"]\n[as]\nelevated = true\n")
	put(t, h, "hers", "run = [\"/bin/true\"]\nopens = [\"signal now\"]\n[as]\nuser = \"maren\"\n")
	k := keepHasty(t, h, newMachine(t))
	if err := errors.Join(os.Remove("/etc/passwd"), unix.Mkfifo("/etc/passwd", 0o644)); err != nil {
		t.Fatal(err)
	}
	go control.NewClient(h).Send(context.WithoutCancel(t.Context()), "now")
	onTime(t, h, k)
	hers := func(d engine.Decision) bool { return d.Gate == "hers" && d.Kind == engine.End }
	if !slices.ContainsFunc(k.log, hers) {
		k.until("the end", hers)
	}
	if d := k.log[slices.IndexFunc(k.log, hers)]; d.Code != engine.CodeNotStarted {
		t.Errorf("of an account that cannot be looked up: %+v", d)
	}
	onTime(t, h, k)
	ends(t, k)
}

// agentOf returns the process number of the agent of an account, by the file in
// which it listens.
func agentOf(t *testing.T, k *Keeper, account string) (pid int) {
	t.Helper()
	wstest.Await(t, "an agent", func() bool { pid = k.crew.Of(account).PID(); return pid != 0 })
	return pid
}

// TestLateAdoption: a program of an earlier keeper, whose agent does not answer
// when it is asked to end, is ended once that does.
func TestLateAdoption(t *testing.T) {
	t.Parallel()
	h := homeWith(t, "on-time", gateText("/bin/true", everyMoment), "vault-copy", gateText(wstest.Script(t, "exec sleep 600"), `"boot"`))
	var first *Keeper
	k := keepWith(t, h, newMachine(t), func(k *Keeper) { first = k })
	run := k.until("a start", func(d engine.Decision) bool { return d.Starts() && d.Gate == "vault-copy" }).Run
	wstest.Await(t, "the program", func() bool { s, err := control.NewClient(h).Status(t.Context()); return err == nil && s.Running > 0 })
	pid := agentOf(t, first, "")
	if err := errors.Join(syscall.Kill(pid, syscall.SIGSTOP), k.end()); err != nil {
		t.Fatal(err)
	}
	k = keep(t, h, newMachine(t))
	if _, err := control.NewClient(h).Stop(t.Context(), "vault-copy"); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Kill(pid, syscall.SIGCONT); err != nil {
		t.Fatal(err)
	}
	if d := k.ended("vault-copy"); d.Result != engine.ResultStopped || d.Run != run {
		t.Errorf("the program that was found late: %+v", d)
	}
	if slices.ContainsFunc(k.log, func(d engine.Decision) bool { return d.Signal == "KILL" }) {
		t.Error("what it was sent while nobody had found it is lost")
	}
	onTime(t, h, k)
}

// TestLostSignal: what was decided to be sent to a program is sent, whatever becomes of
// its agent meanwhile, and of the keeper.
func TestLostSignal(t *testing.T) {
	t.Parallel()
	for _, keeperToo := range []bool{false, true} {
		h := homeWith(t, "press", gateText(wstest.Script(t, "trap '' TERM; while :; do sleep 0.1; done"), `"boot"`, "[limits]", `grace = "100ms"`))
		var keeper *Keeper
		k := keepWith(t, h, newMachine(t), func(k *Keeper) { keeper = k })
		k.until("the program", func(d engine.Decision) bool { return d.Starts() })
		wstest.Await(t, "its start", func() bool { s, err := control.NewClient(h).Status(t.Context()); return err == nil && s.Running > 0 })
		wstest.Await(t, "its process", func() bool { list := historyOf(t, h, "press"); return len(list) == 1 && list[0].PID != 0 })
		pid := agentOf(t, keeper, "")
		if err := syscall.Kill(pid, syscall.SIGSTOP); err != nil {
			t.Fatal(err)
		}
		if _, err := control.NewClient(h).Stop(t.Context(), "press"); err != nil {
			t.Fatal(err)
		}
		k.until("the kill", func(d engine.Decision) bool { return d.Signal == "KILL" })
		if keeperToo {
			if err := k.end(); err != nil {
				t.Fatal(err)
			}
		}
		if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
			t.Fatal(err)
		}
		if keeperToo {
			k = keep(t, h, newMachine(t))
		}
		wstest.Await(t, "the run's end", func() bool { list := historyOf(t, h, "press"); return list[0].Result == engine.ResultStopped })
		program := historyOf(t, h, "press")[0].PID
		if stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", program)); err == nil && !strings.Contains(string(stat), ") Z ") {
			t.Errorf("the run is over, and its program goes on (keeper renewed: %v): %s", keeperToo, stat)
		}
		k.end()
	}
}

// TestLockedJournal: a journal that another program keeps locked stops the
// starts, which must be written down first, and nothing else.
func TestLockedJournal(t *testing.T) {
	t.Parallel()
	h := homeWith(t, "on-time", gateText("/bin/true", everyMoment))
	k, c := keep(t, h, newMachine(t)), control.NewClient(h)
	k.until("a start", func(d engine.Decision) bool { return d.Starts() })
	other, err := sql.Open("sqlite", h.Journal())
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	tx, err := other.Conn(t.Context())
	if err == nil {
		_, err = tx.ExecContext(t.Context(), "PRAGMA busy_timeout = 5000; BEGIN IMMEDIATE")
	}
	if err != nil {
		t.Fatal(err)
	}
	k.until("a start that fails", func(d engine.Decision) bool { return d.Code == engine.CodeNotStarted })
	for range 20 {
		began := time.Now()
		if _, err := c.Status(t.Context()); err != nil {
			t.Fatal(err)
		}
		if took := time.Since(began); took > atOnce {
			t.Errorf("the keeper took %v for an answer", took)
		}
		time.Sleep(50 * time.Millisecond)
	}
	if _, err := tx.ExecContext(t.Context(), "ROLLBACK"); err != nil {
		t.Fatal(err)
	}
	k.until("a run that succeeds", func(d engine.Decision) bool { return d.Result == engine.ResultOK })
	ends(t, k)
}
