//go:build linux

package keeper

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"timegate/core/coretest"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/home"
	"timegate/workstation/wstest"
)

// TestTorture kills keepers and agents at random points, fills the disk and
// empties it, lets a message bus that says nothing come and go, and adds and
// removes gates, all while gates open several times a second. In the end every
// due has one run or one reason, nothing has run twice, and nothing of a run that
// is over lives. It takes a few seconds, and five minutes whole.
func TestTorture(t *testing.T) {
	if !wstest.Alone(t, syscall.CLONE_NEWNS) {
		return
	}
	wstest.Do(t, "mount", "--make-rprivate", "/")
	wstest.Do(t, "mount", "-t", "tmpfs", "-o", "size=32m", "tmpfs", "/mnt")
	bus := filepath.Join(t.TempDir(), "bus")
	t.Setenv("DBUS_SYSTEM_BUS_ADDRESS", "unix:path="+bus)
	h := home.At("/mnt/home", gate.User)
	if err := h.Prepare(); err != nil {
		t.Fatal(err)
	}
	log := filepath.Join(t.TempDir(), "starts")
	program := wstest.Script(t, `echo "$TIMEGATE_RUN $TIMEGATE_GATE $TIMEGATE_DUE" >>"`+log+`"; echo "of run $TIMEGATE_RUN"; sleep 0.07`)
	leaves := wstest.Script(t, `echo "$TIMEGATE_RUN $TIMEGATE_GATE $TIMEGATE_DUE" >>"`+log+`"; setsid sleep 600 & exec sleep 600`)
	put(t, h, "glue-warm", fmt.Sprintf("run = [%q]\nopens = [\"every 150ms from 00:00 to 23:59:59\"]\n[rules]\nbusy = \"beside\"\n", program))
	put(t, h, "stock-count", fmt.Sprintf("run = [%q]\nopens = [\"every 100ms from 00:00 to 23:59:59\"]\n[rules]\nbusy = \"queue\"\n", program))
	put(t, h, "vault-copy", fmt.Sprintf("run = [%q]\nopens = [\"every 1s from 00:00 to 23:59:59\"]\n[limits]\nlongest = \"300ms\"\ngrace = \"100ms\"\n", leaves))
	put(t, h, "job-board", fmt.Sprintf("run = [%q]\nopens = [\"logon\"]\n", program))
	r := rand.New(rand.NewPCG(7, uint64(time.Now().UnixNano())))
	var silent net.Listener
	rounds := 0
	for end := time.Now().Add(time.Duration(coretest.Size(300, 8, 3)) * time.Second); time.Now().Before(end); rounds++ {
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), childHome+"="+h.State)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		for range 1 + r.IntN(4) {
			time.Sleep(time.Duration(20+r.IntN(150)) * time.Millisecond) // the random point
			switch r.IntN(6) {
			case 0:
				for _, pid := range agentsHere(t) {
					syscall.Kill(pid, syscall.SIGKILL)
				}
			case 1:
				fill(t, "/mnt/filler")
			case 2:
				os.Remove("/mnt/filler")
			case 3:
				if silent != nil {
					silent.Close()
					silent = nil
				} else if l, err := net.Listen("unix", bus); err == nil {
					silent = l
				}
			case 4:
				name := h.GateFile("paper-rota")
				if os.Remove(name) != nil {
					os.WriteFile(name, fmt.Appendf(nil, "run = [%q]\nopens = [\"every 130ms from 00:00 to 23:59:59\"]\n", program), 0o600)
				}
			}
		}
		cmd.Process.Signal(syscall.SIGKILL)
		cmd.Wait()
	}
	os.Remove("/mnt/filler")
	if silent != nil {
		silent.Close()
	}
	k := keep(t, h, newMachine(t))
	k.until("a run that succeeds", func(d engine.Decision) bool { return d.Gate == "glue-warm" && d.Result == engine.ResultOK })
	k.until("one that overran", func(d engine.Decision) bool { return d.Gate == "vault-copy" && d.Result == engine.ResultOverran })
	if err := os.Remove(h.GateFile("vault-copy")); err != nil {
		t.Fatal(err)
	}
	time.Sleep(2 * time.Second) // what was asked to end is killed by then
	if err := k.end(); err != nil {
		t.Fatal(err)
	}
	if runs := checkRuns(t, h, log, false); runs < rounds {
		t.Errorf("only %d runs in %d rounds", runs, rounds)
	}
	checkNothingLives(t, h)
}

// agentsHere lists the agents of this mount namespace.
func agentsHere(t *testing.T) (out []int) {
	t.Helper()
	own, err := os.Readlink("/proc/self/ns/mnt")
	if err != nil {
		t.Fatal(err)
	}
	lines, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, path := range lines {
		text, _ := os.ReadFile(path)
		ns, _ := os.Readlink(filepath.Join(filepath.Dir(path), "ns/mnt"))
		if pid, err := strconv.Atoi(filepath.Base(filepath.Dir(path))); err == nil && ns == own && string(text) == "timegate\x00@agent\x00" {
			out = append(out, pid)
		}
	}
	return out
}

// checkNothingLives checks that no process of a run lives that is over.
func checkNothingLives(t *testing.T, h home.Home) {
	t.Helper()
	over := map[string]string{}
	for _, e := range historyOf(t, h, "") {
		if e.Run > 0 && e.Result != "running" {
			over[strconv.FormatInt(e.Run, 10)] = e.Gate + ": " + string(e.Result)
		}
	}
	secret, err := h.Secret()
	if err != nil {
		t.Fatal(err)
	}
	paths, _ := filepath.Glob("/proc/[0-9]*/environ")
	for _, path := range paths {
		env, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		run := ""
		for v := range bytes.SplitSeq(env, []byte{0}) {
			if n, ok := strings.CutPrefix(string(v), "TIMEGATE_RUN="); ok {
				run = n
			}
		}
		n, _ := strconv.ParseInt(run, 10, 64)
		if n == 0 || !bytes.Contains(env, []byte("TIMEGATE_MARK="+secret.Mark(n))) {
			continue
		}
		if what, is := over[run]; is {
			text, _ := os.ReadFile(filepath.Join(filepath.Dir(path), "cmdline"))
			t.Errorf("of run %s (%s) lives %s: %q", run, what, filepath.Dir(path), text)
		}
	}
}
