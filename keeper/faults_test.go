//go:build linux

package keeper

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"timegate/control"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/home"
	"timegate/journal"
	"timegate/workstation/wstest"

	"golang.org/x/sys/unix"
)

// fill takes up all room on the disk of a folder.
func fill(t *testing.T, path string) {
	t.Helper()
	f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	for err == nil {
		_, err = f.Write(make([]byte, 4096))
	}
	if !errors.Is(err, syscall.ENOSPC) {
		t.Fatal(err)
	}
}

// TestFullDisk: on a full disk the room in reserve is used; when that is full
// too, nothing starts, and it is told. A run that ends meanwhile is known to
// have succeeded once there is room again, and no moment is without a line.
func TestFullDisk(t *testing.T) {
	if !wstest.Alone(t, syscall.CLONE_NEWNS) {
		return
	}
	wstest.Do(t, "mount", "--make-rprivate", "/")
	wstest.Do(t, "mount", "-t", "tmpfs", "-o", "size=16m", "tmpfs", "/mnt")
	h := home.At("/mnt/home", gate.User)
	if err := h.Prepare(); err != nil {
		t.Fatal(err)
	}
	put(t, h, "on-time", gateText("/bin/true", everyMoment))
	stop := filepath.Join(t.TempDir(), "stop")
	put(t, h, "vault-copy", gateText(wstest.Script(t, `while [ ! -e `+stop+` ]; do sleep 0.02; done`), `"boot"`))
	k, c := keep(t, h, newMachine(t)), control.NewClient(h)
	k.until("a run that succeeds", func(d engine.Decision) bool { return d.Gate == "on-time" && d.Result == engine.ResultOK })
	wstest.Await(t, "the reserve", func() bool { info, err := os.Stat("/mnt/home/reserve"); return err == nil && info.Size() > 1<<20 })
	fill(t, "/mnt/filler")
	wstest.Await(t, "the reserve to be given up", func() bool { _, err := os.Stat("/mnt/home/reserve"); return err != nil })
	for range 3 {
		k.until("a run that succeeds with the reserve", func(d engine.Decision) bool { return d.Gate == "on-time" && d.Result == engine.ResultOK })
	}
	fill(t, "/mnt/filler")
	k.until("a start that fails", func(d engine.Decision) bool { return d.Gate == "on-time" && d.Code == engine.CodeNotStarted })
	troubled(t, h, "the journal", "the disk is full")
	if err := os.WriteFile(stop, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if d := k.ended("vault-copy"); d.Result != engine.ResultOK {
		t.Errorf("what ended while the disk was full: %+v", d)
	}
	if err := os.Remove("/mnt/filler"); err != nil {
		t.Fatal(err)
	}
	k.until("a run that succeeds again", func(d engine.Decision) bool { return d.Gate == "on-time" && d.Result == engine.ResultOK })
	wstest.Await(t, "the trouble to go", func() bool { s, err := c.Status(t.Context()); return err == nil && len(s.Troubles) == 0 })
	if err := k.end(); err != nil {
		t.Fatal(err)
	}
	checkWhole(t, h, "on-time", 200*time.Millisecond)
	if list := historyOf(t, h, "vault-copy"); len(list) != 1 || list[0].Result != engine.ResultOK {
		t.Errorf("afterwards: %+v", list)
	}
}

// checkWhole checks that no moment of a gate that comes at a pace is without a
// line, and none has two.
func checkWhole(t *testing.T, h home.Home, name string, pace time.Duration) {
	t.Helper()
	list := historyOf(t, h, name) // as it was written: what failed meanwhile comes later
	slices.SortFunc(list, func(a, b journal.Entry) int { return cmp.Compare(b.Due, a.Due) })
	if len(list) < 2 {
		t.Fatalf("%d lines", len(list))
	}
	for i := range list[:len(list)-1] {
		later, earlier := list[i], list[i+1]
		if later.Count > 1 || earlier.Count > 1 {
			continue // stands for several
		}
		if got := later.Due.Sub(earlier.Due); got != pace {
			t.Errorf("%s: from %v to %v there are %v", name, earlier.Due.Time(), later.Due.Time(), got)
		}
	}
}

// TestJournalTakenAway: a journal whose file is taken away is noticed at once,
// and nothing starts until it is back. One that lost only its log goes on in a
// new one, and nothing of it is lost.
func TestJournalTakenAway(t *testing.T) {
	t.Parallel()
	h := homeWith(t, "on-time", gateText("/bin/true", everyMoment))
	k := keep(t, h, newMachine(t))
	succeeds := func() engine.Decision {
		t.Helper()
		return k.until("a run that succeeds", func(d engine.Decision) bool { return d.Result == engine.ResultOK })
	}
	succeeds()
	began := time.Now()
	if err := os.Rename(h.Journal(), h.Journal()+".away"); err != nil {
		t.Fatal(err)
	}
	troubled(t, h, "the journal", "taken away or replaced")
	if took := time.Since(began); took > 2*atOnce {
		t.Errorf("noticed after %v", took)
	}
	k.until("a start that fails", func(d engine.Decision) bool { return d.Code == engine.CodeNotStarted })
	if err := os.WriteFile(h.Journal(), nil, 0o600); err != nil { // another file is no better
		t.Fatal(err)
	}
	k.until("a start that fails", func(d engine.Decision) bool { return d.Code == engine.CodeNotStarted })
	if err := os.Rename(h.Journal()+".away", h.Journal()); err != nil {
		t.Fatal(err)
	}
	succeeds()
	if err := os.Remove(h.Journal() + "-wal"); err != nil {
		t.Fatal(err)
	}
	wstest.Await(t, "a new log", func() bool { _, err := os.Stat(h.Journal() + "-wal"); return err == nil })
	last := succeeds()
	j, err := journal.OpenReader(h.Journal()) // as it lies on the disk
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	wstest.Await(t, "the run in the file", func() bool { e, ok, err := j.Run(last.Run); return err == nil && ok && e.Result == engine.ResultOK })
	if err := k.end(); err != nil {
		t.Fatal(err)
	}
	checkWhole(t, h, "on-time", 200*time.Millisecond)
}

// TestHomeUnmounted: a home whose file system is unmounted while its files stay open is
// noticed at once, and nothing starts that nobody could find afterwards.
func TestHomeUnmounted(t *testing.T) {
	if !wstest.Alone(t, syscall.CLONE_NEWNS) {
		return
	}
	top := t.TempDir()
	if err := unix.Mount("none", top, "tmpfs", 0, "mode=700"); err != nil {
		t.Fatal(err)
	}
	defer unix.Unmount(top, unix.MNT_DETACH)
	h := home.At(filepath.Join(top, "tg"), gate.User)
	if err := h.Prepare(); err != nil {
		t.Fatal(err)
	}
	put(t, h, "on-time", gateText("/bin/true", everyMoment))
	k := keep(t, h, newMachine(t))
	k.until("a run that succeeds", func(d engine.Decision) bool { return d.Result == engine.ResultOK })
	if err := unix.Unmount(top, unix.MNT_DETACH); err != nil {
		t.Fatal(err)
	}
	began := time.Now()
	d := k.until("a start that fails", func(d engine.Decision) bool { return d.Code == engine.CodeNotStarted })
	if took := time.Since(began); took > atOnce {
		t.Errorf("noticed after %v: %+v", took, d)
	}
	k.end()
}

// TestNumbersDoNotRepeat: a journal that begins anew gives runs no number that
// was given before, and leaves what runs alone.
func TestNumbersDoNotRepeat(t *testing.T) {
	t.Parallel()
	h := homeWith(t, "vault-copy", gateText(wstest.Script(t, "exec sleep 600"), `"signal now"`))
	k, c := keep(t, h, newMachine(t)), control.NewClient(h)
	if _, err := c.Send(t.Context(), "now"); err != nil {
		t.Fatal(err)
	}
	old := k.until("a start", func(d engine.Decision) bool { return d.Starts() })
	pid := 0
	wstest.Await(t, "the program", func() bool {
		j, err := journal.OpenReader(h.Journal())
		if err != nil {
			return false
		}
		defer j.Close()
		e, _, err := j.Run(old.Run)
		pid = e.PID
		return err == nil && pid != 0
	})
	if err := k.end(); err != nil {
		t.Fatal(err)
	}
	defer syscall.Kill(pid, syscall.SIGKILL)
	for _, end := range []string{"", "-wal", "-shm"} {
		os.Remove(h.Journal() + end)
	}
	k = keep(t, h, newMachine(t))
	if _, err := c.Send(t.Context(), "now"); err != nil {
		t.Fatal(err)
	}
	fresh := k.until("a start", func(d engine.Decision) bool { return d.Starts() })
	if fresh.Run <= old.Run {
		t.Errorf("run %d of the new journal after run %d of the old one", fresh.Run, old.Run)
	}
	if _, err := c.Stop(t.Context(), "vault-copy"); err != nil {
		t.Fatal(err)
	}
	k.ended("vault-copy")
	if stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid)); err != nil {
		t.Errorf("the old journal's program was ended too: %v %s", err, stat)
	}
}

// TestDamagedJournal: a damaged journal is not used; where that is wished it is
// set aside, what can be read of it is saved, and the keeper goes on.
func TestDamagedJournal(t *testing.T) {
	t.Parallel()
	h := homeWith(t, "glue-warm", gateText("/bin/true", `"signal now"`, "[rules]", `busy = "beside"`))
	k, c := keep(t, h, newMachine(t)), control.NewClient(h)
	const runs = 400
	for range runs {
		if _, err := c.Send(t.Context(), "now"); err != nil {
			t.Fatal(err)
		}
	}
	for range runs {
		k.ended("glue-warm")
	}
	if err := k.end(); err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct {
		name  string
		from  int64 // of the pages that are overwritten
		saves bool
	}{{"in the middle", 40, true}, {"at the beginning", 0, false}} {
		f, err := os.OpenFile(h.Journal(), os.O_WRONLY, 0)
		if err == nil {
			_, err = f.WriteAt(bytes.Repeat([]byte("glue"), 3*1024), tt.from*4096)
		}
		if err := errors.Join(err, f.Close()); err != nil {
			t.Fatal(err)
		}
		saved, err := journal.SetAside(h.Journal(), time.Now())
		if err != nil || (saved.Lines > 0) != tt.saves || tt.saves && saved.Runs < runs/4 {
			t.Errorf("damaged %s: saved %+v, %v", tt.name, saved, err)
		}
		if _, err := os.Stat(saved.Aside); err != nil {
			t.Error(err)
		}
		time.Sleep(time.Second) // another name
	}
	// A keeper does it by itself, if that is wished, and gives no number twice.
	if err := os.WriteFile(h.Journal(), bytes.Repeat([]byte("glue"), 4096), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := New(Options{Home: h, Workstation: newMachine(t)}).Run(t.Context()); err == nil || !strings.Contains(err.Error(), "--set-aside") {
		t.Errorf("without asking: %v", err)
	}
	k = keepWith(t, h, newMachine(t), func(k *Keeper) { k.setAside = true })
	if _, err := c.Send(t.Context(), "now"); err != nil {
		t.Fatal(err)
	}
	if d := k.ended("glue-warm"); d.Result != engine.ResultOK || d.Run <= runs {
		t.Errorf("in the new journal: %+v", d)
	}
}

// TestRunsComeBeforeMoments: a run that has ended while no keeper ran is in no
// moment's way, however young that is.
func TestRunsComeBeforeMoments(t *testing.T) {
	t.Parallel()
	for _, agentGoes := range []bool{false, true} {
		stop := filepath.Join(t.TempDir(), "stop")
		h := homeWith(t, "stock-count", gateText(wstest.Script(t, "while [ ! -e "+stop+" ] && [ -d "+filepath.Dir(stop)+" ]; do sleep 0.02; done; rm -f "+stop+"; sleep 0.1"), `"every 1s from 00:00 to 23:59:59"`))
		var first *Keeper
		k := keepWith(t, h, newMachine(t), func(k *Keeper) { first = k })
		k.until("a moment that is passed over", func(d engine.Decision) bool { return d.Code == engine.CodeBusy })
		agents := first.crew.PIDs()
		if err := k.end(); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(stop, nil, 0o600); err != nil {
			t.Fatal(err)
		}
		wstest.Await(t, "the program to end", func() bool { _, err := os.Stat(stop); return err != nil })
		time.Sleep(time.Second) // a moment goes by
		if agentGoes {
			for _, pid := range agents {
				syscall.Kill(pid, syscall.SIGKILL)
			}
		}
		k = keep(t, h, newMachine(t))
		d := k.until("a start, or a moment that is passed over", func(d engine.Decision) bool { return d.Starts() || d.Code == engine.CodeBusy })
		if !d.Starts() {
			t.Errorf("agent gone %v: %+v", agentGoes, d)
		}
		if err := os.WriteFile(stop, nil, 0o600); err != nil {
			t.Fatal(err)
		}
		k.until("its end", func(d engine.Decision) bool { return d.Result == engine.ResultOK })
	}
}
