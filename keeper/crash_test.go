//go:build linux

package keeper

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"timegate/agent"
	"timegate/core/coretest"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/home"
	"timegate/journal"
	"timegate/workstation/linux"
	"timegate/workstation/rights"
	"timegate/workstation/window"
	"timegate/workstation/wstest"
)

// The test binary is its own keeper: with this variable set, it keeps the
// home that it names.
const childHome = "TIMEGATE_TEST_KEEP"

func TestMain(m *testing.M) {
	os.Args = append(os.Args[:1:1], rights.Become(os.Args[1:])...)
	if status, ok := agent.Help(os.Args[1:]); ok {
		os.Exit(status)
	}
	if len(os.Args) > 1 && os.Args[1] == window.Helper {
		os.Exit(window.Main(os.Args[2:]))
	}
	if dir := os.Getenv(childHome); dir != "" {
		machine, err := linux.New()
		if err == nil {
			err = New(Options{Home: home.At(dir, gate.User), Workstation: machine}).Run(context.Background())
		}
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	if about := os.Getenv(childCall); about != "" {
		if err := callKeeper(about); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	os.Exit(coretest.Main(m))
}

// TestKilled kills keepers at random points while gates open several times a
// second, some of which wait: for a run to end, for what they need, for a
// further try. Whatever happens, every due has one run or one recorded reason,
// no program runs twice for one due, and what runs or waits is still watched.
func TestKilled(t *testing.T) {
	t.Parallel()
	rounds, least := coretest.Size(200, 30, 8), 20
	if testing.Short() { // few rounds, which are long enough for all to happen
		least = 1200
	}
	log := filepath.Join(t.TempDir(), "starts")
	program := wstest.Script(t, `echo "$TIMEGATE_RUN $TIMEGATE_GATE $TIMEGATE_DUE" >>"`+log+`"; sleep 0.05`)
	h := homeWith(t)
	for i := range 4 {
		put(t, h, fmt.Sprintf("glue-warm-%d", i), fmt.Sprintf("run = [%q]\nopens = [\"every %dms from 00:00 to 23:59:59\"]\n[rules]\nbusy = \"beside\"\n", program, 150+50*i))
	}
	put(t, h, "stock-count", fmt.Sprintf("run = [%q]\nopens = [\"every 30ms from 00:00 to 23:59:59\"]\n[rules]\nbusy = \"queue\"\n", program))
	put(t, h, "vault-copy", fmt.Sprintf("run = [%q]\nopens = [\"every 400ms from 00:00 to 23:59:59\"]\n[needs]\npaths = [\"/nowhere\"]\nwait = \"150ms\"\n", program))
	failing := wstest.Script(t, `echo "$TIMEGATE_RUN $TIMEGATE_GATE $TIMEGATE_DUE" >>"`+log+`"; exit 1`)
	put(t, h, "spool-reset", fmt.Sprintf("run = [%q]\nopens = [\"every 500ms from 00:00 to 23:59:59\"]\n[again]\ntimes = 2\npause = \"80ms\"\n", failing))
	r := rand.New(rand.NewPCG(1, 2))
	for range rounds {
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), childHome+"="+h.State)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(least+r.IntN(250)) * time.Millisecond) // the random point
		cmd.Process.Signal(syscall.SIGKILL)
		cmd.Wait()
	}
	// One more keeper finds what the killed ones left.
	k := keep(t, h, newMachine(t))
	if err := k.end(); err != nil {
		t.Fatal(err)
	}
	runs := checkRuns(t, h, log, true)
	j, err := journal.OpenReader(h.Journal())
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	checkWaits(t, j)
	if runs < rounds {
		t.Errorf("only %d runs in %d rounds", runs, rounds)
	}
}

// checkRuns checks that every due has one run or one recorded reason, and that
// nothing ran more than once or without a record; seen tells that somebody was
// always there to see how runs ended. It returns the number of runs.
func checkRuns(t *testing.T, h home.Home, log string, seen bool) (runs int) {
	t.Helper()
	j, err := journal.OpenReader(h.Journal())
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	entries, err := j.History(journal.Filter{})
	if err != nil {
		t.Fatal(err)
	}
	started := startsOf(t, log)
	decided := map[string]int{}
	for _, e := range entries {
		if e.Count > 1 {
			continue // stands for several dues
		}
		key := fmt.Sprintf("%s@%d", e.Gate, e.Due)
		if e.Gate == "spool-reset" {
			key = fmt.Sprintf("%s, run %d", key, e.Run) // its dues have several tries
		}
		if decided[key]++; decided[key] > 1 {
			t.Errorf("%s at %s was decided %d times", e.Gate, e.Due.Time(), decided[key])
		}
		if e.Run == 0 {
			continue
		}
		runs++
		// On a busy machine one may be ended before it could say that it has begun.
		early := (e.Result == "overran" || e.Result == "stopped") && e.PID != 0
		if n := started[fmt.Sprint(e.Run)]; n > 1 {
			t.Errorf("run %d was started %d times", e.Run, n)
		} else if n == 0 && e.Result != "lost" && e.Result != "failed" && e.Result != "running" && !early {
			t.Errorf("run %d has the result %s, but never started", e.Run, e.Result)
		}
		if seen && started[fmt.Sprint(e.Run)] == 1 && e.Result == "lost" {
			t.Errorf("nobody knows how run %d has ended: %v %d", e.Run, e.Outcome, e.PID)
		}
		delete(started, fmt.Sprint(e.Run))
	}
	if len(started) > 0 {
		t.Errorf("%d programs ran without a record: %v", len(started), started)
	}
	return runs
}

// checkWaits: every start that waited came, or was given up for a reason.
func checkWaits(t *testing.T, j *journal.Journal) {
	t.Helper()
	waited := 0
	for _, name := range []string{"stock-count", "vault-copy", "spool-reset"} {
		moments, err := j.Story(name, 1_000_000)
		if err != nil {
			t.Fatal(err)
		}
		if len(moments) == 0 {
			t.Errorf("%s had no moments", name)
			continue
		}
		var open []string // what still waits: a gate has room for one
		for _, m := range moments {
			waits, starts, skips := 0, 0, 0
			for _, d := range m.Decisions {
				switch {
				case d.Kind == engine.Wait:
					waits++
				case d.Starts():
					starts++
				case d.Kind == engine.Skip:
					skips++
				}
			}
			waited += waits
			switch {
			case name == "spool-reset": // each wait is for one more try, or a new moment comes first
				if starts > waits+1 || starts+skips == 0 {
					t.Errorf("%s at %v: %d waits, %d starts, %d skips", name, m.Due.Time(), waits, starts, skips)
				}
			case starts+skips == 0 && waits == 1:
				open = append(open, m.Due.Time().String())
			case starts+skips != 1:
				t.Errorf("%s at %v: %d waits, %d starts, %d skips: %+v", name, m.Due.Time(), waits, starts, skips, m.Decisions)
			}
		}
		if len(open) > 1 {
			t.Errorf("%s: these were never started, nor given up: %v", name, open)
		}
	}
	if waited == 0 {
		t.Error("nothing ever waited")
	}
}

// startsOf counts the lines that programs have written, by run.
func startsOf(t *testing.T, log string) map[string]int {
	t.Helper()
	text, err := os.ReadFile(log)
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]int{}
	for line := range strings.Lines(string(text)) {
		run, _, _ := strings.Cut(line, " ")
		out[run]++
	}
	return out
}
