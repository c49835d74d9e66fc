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

	"timegate/core/gate"
	"timegate/journal"
	"timegate/workstation/linux"
	"timegate/workstation/wstest"
)

// The test binary is its own keeper: with this variable set, it keeps the
// home that it names.
const childHome = "TIMEGATE_TEST_KEEP"

func TestMain(m *testing.M) {
	if dir := os.Getenv(childHome); dir != "" {
		machine, err := linux.New()
		if err == nil {
			err = New(Options{Home: HomeAt(dir, gate.User), Workstation: machine}).Run(context.Background())
		}
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	os.Exit(m.Run())
}

// TestKilled kills keepers at random points while gates open several times a
// second. Whatever happens, every due has one run or one recorded reason, no
// program runs twice for one due, and what runs is still watched.
func TestKilled(t *testing.T) {
	rounds := 40
	if testing.Short() {
		rounds = 8
	}
	log := filepath.Join(t.TempDir(), "starts")
	program := wstest.Script(t, `echo "$TIMEGATE_RUN $TIMEGATE_GATE $TIMEGATE_DUE" >>"`+log+`"; sleep 0.05`)
	h := home(t)
	for i := range 4 {
		put(t, h, fmt.Sprintf("glue-warm-%d", i), fmt.Sprintf("run = [%q]\nopens = [\"every %dms from 00:00 to 23:59:59\"]\n[rules]\nbusy = \"beside\"\n", program, 150+50*i))
	}
	r := rand.New(rand.NewPCG(1, 2))
	for range rounds {
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), childHome+"="+h.State)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(20+r.IntN(250)) * time.Millisecond) // the random point
		cmd.Process.Signal(syscall.SIGKILL)
		cmd.Wait()
	}
	// One more keeper finds what the killed ones left.
	k := keep(t, h, newMachine(t))
	if err := k.end(); err != nil {
		t.Fatal(err)
	}
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
	runs := 0
	for _, e := range entries {
		if e.Count > 1 {
			continue // stands for several dues
		}
		key := fmt.Sprintf("%s@%d", e.Gate, e.Due)
		if decided[key]++; decided[key] > 1 {
			t.Errorf("%s at %s was decided %d times", e.Gate, e.Due.Time(), decided[key])
		}
		if e.Run == 0 {
			continue
		}
		runs++
		if n := started[fmt.Sprint(e.Run)]; n > 1 {
			t.Errorf("run %d was started %d times", e.Run, n)
		} else if n == 0 && e.Result != "lost" && e.Result != "failed" && e.Result != "running" {
			t.Errorf("run %d has the result %s, but never started", e.Run, e.Result)
		}
		delete(started, fmt.Sprint(e.Run))
	}
	if len(started) > 0 {
		t.Errorf("%d programs ran without a record: %v", len(started), started)
	}
	if runs < rounds {
		t.Errorf("only %d runs in %d rounds", runs, rounds)
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
