//go:build linux

package keeper

import (
	"bytes"
	"context"
	"encoding/json"
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
	"timegate/core/calendar"
	"timegate/core/coretest"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/replay"
	"timegate/gates"
	"timegate/home"
	"timegate/journal"
	"timegate/launch"
	"timegate/workstation"
	"timegate/workstation/linux"
	"timegate/workstation/staged"
	"timegate/workstation/wstest"
	"timegate/workstation/zones"
)

const wait = coretest.Wait

var morning = time.Date(2026, 11, 30, 5, 59, 0, 0, time.UTC)

// home returns a new home with gate files, given as name and content in turn.
func homeWith(t *testing.T, files ...string) home.Home {
	t.Helper()
	h := home.At(t.TempDir(), gate.User)
	if err := h.Prepare(); err != nil {
		t.Fatal(err)
	}
	for i := 0; i < len(files); i += 2 {
		put(t, h, files[i], files[i+1])
	}
	return h
}

// put writes a gate file whole, as commands do.
func put(t *testing.T, h home.Home, name, text string) {
	t.Helper()
	tmp := filepath.Join(h.State, "tmp")
	if err := errors.Join(os.WriteFile(tmp, []byte(text), 0o600), os.Rename(tmp, h.GateFile(name))); err != nil {
		t.Fatal(err)
	}
}

// kept is a keeper at work in a test.
type kept struct {
	t      *testing.T
	cancel context.CancelFunc
	err    chan error
	seen   chan engine.Decision
	log    []engine.Decision
}

// keep sets a keeper to work; it ends with the test.
func keep(t *testing.T, h home.Home, ws workstation.Workstation) *kept {
	t.Helper()
	return keepWith(t, h, ws, func(*Keeper) {})
}

func keepWith(t *testing.T, h home.Home, ws workstation.Workstation, change func(*Keeper)) *kept {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	k := &kept{t: t, cancel: cancel, err: make(chan error, 1), seen: make(chan engine.Decision, 10000)}
	ready := make(chan struct{})
	keeper := New(Options{Home: h, Workstation: ws, Ready: func() { close(ready) }, Observe: func(_ engine.Event, ds []engine.Decision) {
		for _, d := range ds {
			k.seen <- d
		}
	}})
	change(keeper)
	go func() { k.err <- keeper.Run(ctx) }()
	t.Cleanup(func() {
		var agents []int
		if keeper.crew != nil {
			agents = keeper.crew.PIDs()
		}
		k.end()
		for _, pid := range agents {
			syscall.Kill(pid, syscall.SIGKILL)
		}
	})
	select {
	case <-ready:
	case err := <-k.err:
		k.err <- err
		if err != nil {
			t.Fatalf("the keeper does not begin: %v", err)
		}
	}
	return k
}

// end ends the keeper and returns its error.
func (k *kept) end() error {
	k.cancel()
	err := <-k.err
	k.err <- err
	return err
}

// until waits for a decision.
func (k *kept) until(what string, is func(engine.Decision) bool) engine.Decision {
	k.t.Helper()
	timeout := time.After(wait)
	for {
		select {
		case d := <-k.seen:
			k.log = append(k.log, d)
			if is(d) {
				return d
			}
		case <-timeout:
			k.t.Fatalf("waited for %s in vain; decisions were %+v", what, k.log)
		}
	}
}

func (k *kept) ended(gateName string) engine.Decision {
	k.t.Helper()
	return k.until("an end of "+gateName, func(d engine.Decision) bool {
		return d.Gate == gateName && (d.Kind == engine.End || d.Kind == engine.Refuse)
	})
}

func fast(t *testing.T) *staged.Machine {
	t.Helper()
	m, err := staged.New(staged.Options{At: morning, Zone: calendar.UTC, BootID: "front-desk-1", Rate: 20000})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { m.Close() })
	return m
}

func gateText(program string, opens string, rest ...string) string {
	return fmt.Sprintf("run = [%q, \"a b\"]\nopens = [%s]\n%s", program, opens, strings.Join(rest, "\n"))
}

func TestMorning(t *testing.T) {
	t.Parallel()
	h := homeWith(t,
		"humidity-log", gateText(wstest.Script(t, `echo "$1 $TIMEGATE_GATE/$TIMEGATE_OPENING $TIMEGATE_DUE $ROOM $PATH"; pwd`), `"every 1h"`, "[as]", `env = { ROOM = "press" }`),
		"spool-reset", gateText(wstest.Script(t, "exit 7"), `"boot + 45s, then every 20s for 1m"`),
		"slow", gateText(wstest.Script(t, "trap '' TERM; while :; do sleep 0.1; done"), `"at 06:30"`, "[limits]", `longest = "300ms"`, `grace = "100ms"`),
		"nowhere", gateText("/nowhere/job-board", `"at 06:10"`),
		"maren", gateText("/bin/true", `"at 06:20"`, "[as]", `user = "maren-who-is-not-there"`),
	)
	k := keep(t, h, fast(t))
	k.until("the third hour", func(d engine.Decision) bool {
		return d.Gate == "humidity-log" && d.Kind == engine.End && len(k.log) > 8 && d.Run > 6
	})
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
	slices.Reverse(entries)
	var got []string
	for _, e := range entries {
		got = append(got, fmt.Sprintf("%s %s %s", e.Due.Time().Format("15:04:05"), e.Gate, e.Result))
	}
	want := []string{"05:59:45 spool-reset failed", "06:00:00 humidity-log ok", "06:00:05 spool-reset failed", "06:00:25 spool-reset failed",
		"06:00:45 spool-reset failed", "06:10:00 nowhere failed", "06:20:00 maren refused", "06:30:00 slow overran", "07:00:00 humidity-log ok"}
	if len(got) < len(want) || !slices.Equal(got[:len(want)], want) {
		t.Errorf("history:\n got %s\nwant %s", strings.Join(got, "\n     "), strings.Join(want, "\n     "))
	}
	for _, e := range entries {
		if late := e.Started.Sub(e.Due); e.Started != 0 && (late < 0 || late > atOnce) {
			t.Errorf("run %d of %s started %v after its due", e.Run, e.Gate, late)
		}
	}
	anyGate := gate.Default("x")
	anyGate.Run = []string{"/bin/true"}
	_, folder, _ := (&launch.Launcher{Home: h}).Target(anyGate)
	out, err := h.ReadOutput(entries[1].Run)
	if want := "a b humidity-log/1 2026-11-30T06:00:00Z press "; err != nil || !strings.HasPrefix(string(out), want) || !strings.HasSuffix(string(out), "\n"+folder+"\n") {
		t.Errorf("printed %q, %v, want %q … %s", out, err, want, folder)
	}
	replayed(t, j)
}

// replayed plays what was recorded through an engine: its decisions are those
// that were recorded, byte for byte. It returns the state that they lead to.
func replayed(t *testing.T, j *journal.Journal) engine.State {
	t.Helper()
	past, err := j.Past(0, calendar.MaxInstant)
	if err != nil {
		t.Fatal(err)
	}
	want, err := j.Decisions(past.After)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	open := func(def engine.Definition, env engine.Environment) (*gate.Gate, error) {
		zone, err := zones.Find(env.Zone)
		if err != nil {
			return nil, err
		}
		return gates.Recorded(env, def, zone, j.Text)
	}
	e, err := replay.Play(past.State, past.Events, open, func(_ engine.Event, decisions []engine.Decision) {
		for _, d := range decisions {
			b, err := json.Marshal(d)
			if err != nil {
				t.Fatal(err)
			}
			got = append(got, string(b))
		}
	})
	if err != nil {
		t.Fatal(err)
	}
	for i := range max(len(got), len(want)) {
		if i >= len(got) || i >= len(want) || got[i] != want[i] {
			t.Errorf("a replay of %d events gives %d decisions, recorded were %d; the first that differs is\n%s\nand was\n%s", len(past.Events), len(got), len(want),
				slices.Concat(got[min(i, len(got)):], []string{"none"})[0], slices.Concat(want[min(i, len(want)):], []string{"none"})[0])
			break
		}
	}
	return e.Snapshot()
}

func TestFolderChanges(t *testing.T) {
	t.Parallel()
	script := wstest.Script(t, "exit 0")
	h := homeWith(t, "glue-warm", gateText(script, `"every 10m"`))
	k := keep(t, h, newMachine(t))
	c := control.NewClient(h)
	gates := func(is func(control.Status) bool) control.Status {
		t.Helper()
		for deadline := time.Now().Add(wait); ; {
			s, err := c.Status(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			if is(s) || time.Now().After(deadline) {
				return s
			}
			time.Sleep(5 * time.Millisecond)
		}
	}
	began := time.Now()
	put(t, h, "job-board", gateText(script, `"at 07:30"`))
	s := gates(func(s control.Status) bool { return len(s.Gates) == 2 })
	if took := time.Since(began); len(s.Gates) != 2 || took > atOnce {
		t.Errorf("a new file gives %d gates after %v", len(s.Gates), took)
	}
	put(t, h, "job-board", "run = [\"x\"\n")
	if s = gates(func(s control.Status) bool { return len(s.Broken) > 0 }); len(s.Gates) != 2 || len(s.Broken) == 0 || s.Broken[0].Line == 0 {
		t.Errorf("a broken file: %d gates, broken %v", len(s.Gates), s.Broken)
	}
	if a, err := c.Open(t.Context(), "job-board"); err != nil || len(a.Decisions) != 1 {
		t.Errorf("the last good version does not open: %+v, %v", a, err)
	}
	k.ended("job-board")
	if err := os.Remove(h.GateFile("job-board")); err != nil {
		t.Fatal(err)
	}
	if s = gates(func(s control.Status) bool { return len(s.Gates) == 1 }); len(s.Gates) != 1 || len(s.Broken) != 0 {
		t.Errorf("a removed file: %+v", s)
	}
	if err := os.RemoveAll(h.Gates); err != nil {
		t.Fatal(err)
	}
	gates(func(s control.Status) bool { return len(s.Gates) == 0 })
	if err := os.Mkdir(h.Gates, 0o700); err != nil {
		t.Fatal(err)
	}
	put(t, h, "paper-rota", gateText(script, `"at 09:00 on last weekday"`))
	if s = gates(func(s control.Status) bool { return len(s.Gates) == 1 }); len(s.Gates) != 1 {
		t.Errorf("in a folder made anew: %+v", s)
	}
}

func newMachine(t testing.TB) *linux.Machine {
	t.Helper()
	m, err := linux.New()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { m.Close() })
	return m
}

func TestControl(t *testing.T) {
	t.Parallel()
	marker := filepath.Join(t.TempDir(), "pids")
	h := homeWith(t, "vault-copy", gateText(wstest.Script(t, `echo $$ >>"`+marker+`"; trap 'exit 9' TERM; while :; do sleep 0.02; done`), `"at 03:00"`),
		"broken", "run = 5")
	k := keep(t, h, newMachine(t))
	c := control.NewClient(h)
	ctx := t.Context()
	a, err := c.Open(ctx, "vault-copy")
	if err != nil || len(a.Decisions) != 1 || a.Decisions[0].Decision != string(engine.Start) {
		t.Fatalf("Open = %+v, %v", a, err)
	}
	if a, err = c.Open(ctx, "vault-copy"); err != nil || len(a.Decisions) != 1 || a.Decisions[0].Result != string(engine.ResultSkipped) {
		t.Errorf("Open while it runs = %+v, %v", a, err)
	}
	if a, err = c.Open(ctx, "nobody"); err != nil || a.Known {
		t.Errorf("Open of nobody = %+v, %v", a, err)
	}
	if a, err = c.Open(ctx, "broken"); err != nil || a.Known || a.Error == "" {
		t.Errorf("Open of a broken gate = %+v, %v", a, err)
	}
	if s, err := c.Status(ctx); err != nil || s.Running != 1 || !slices.Equal(s.Gates["vault-copy"].Running, []int64{1}) || s.PID != os.Getpid() || s.Staged {
		t.Errorf("Status = %+v, %v", s, err)
	}
	for deadline := time.Now().Add(wait); time.Now().Before(deadline); time.Sleep(time.Millisecond) {
		if _, err := os.Stat(marker); err == nil {
			break // its trap is set, or will be in a moment
		}
	}
	if a, err = c.Stop(ctx, "vault-copy"); err != nil || len(a.Decisions) != 1 || a.Decisions[0].Decision != string(engine.StopRun) {
		t.Errorf("Stop = %+v, %v", a, err)
	}
	if d := k.ended("vault-copy"); d.Result != engine.ResultStopped {
		t.Errorf("ended %+v, want stopped", d)
	}
	until := time.Now().Add(time.Hour)
	if _, err = c.Pause(ctx, until); err != nil {
		t.Fatal(err)
	}
	if s, err := c.Status(ctx); err != nil || !s.Paused || s.PauseUntil == nil || !s.PauseUntil.Equal(until.Truncate(time.Millisecond)) {
		t.Errorf("paused: %+v, %v", s, err)
	}
	// A pause outlives the keeper.
	if err := k.end(); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Status(ctx); !errors.Is(err, control.ErrNoKeeper) {
		t.Errorf("without a keeper: %v", err)
	}
	keep(t, h, newMachine(t))
	if s, err := c.Status(ctx); err != nil || !s.Paused {
		t.Errorf("after a restart: %+v, %v", s, err)
	}
	if _, err := c.Resume(ctx); err != nil {
		t.Fatal(err)
	}
	if s, _ := c.Status(ctx); s.Paused {
		t.Error("it is still paused")
	}
}

// TestAgain: a program that fails twice and then succeeds is tried until it
// does, also by another keeper.
func TestAgain(t *testing.T) {
	t.Parallel()
	tries := filepath.Join(t.TempDir(), "tries")
	h := homeWith(t, "vault-copy", gateText(wstest.Script(t, `echo x >>"`+tries+`"; [ $(wc -l <"`+tries+`") -ge 3 ]`), `"at 03:00"`, "[again]", "times = 5", `pause = "200ms"`))
	k := keep(t, h, newMachine(t))
	if _, err := control.NewClient(h).Open(t.Context(), "vault-copy"); err != nil {
		t.Fatal(err)
	}
	k.until("a wait for the next try", func(d engine.Decision) bool { return d.Kind == engine.Wait })
	if err := k.end(); err != nil {
		t.Fatal(err)
	}
	k = keep(t, h, newMachine(t))
	d := k.until("success", func(d engine.Decision) bool { return d.Result == engine.ResultOK })
	if d.Run != 3 {
		t.Errorf("it succeeded in run %d, want 3: %+v", d.Run, k.log)
	}
}

// TestAdoption: a keeper ends while a program runs; the next one watches it
// further, and knows of one that ended meanwhile how it did.
func TestAdoption(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	body := `echo "$TIMEGATE_RUN"; while [ ! -e "` + dir + `/$TIMEGATE_GATE" ]; do sleep 0.02; done; echo "done"; touch "` + dir + `/$TIMEGATE_GATE.over"; exit 3`
	h := homeWith(t, "vault-copy", gateText(wstest.Script(t, body), `"boot"`), "stock-count", gateText(wstest.Script(t, body), `"boot"`))
	k := keep(t, h, newMachine(t))
	for range 2 {
		k.until("a start", func(d engine.Decision) bool { return d.Starts() })
	}
	if err := k.end(); err != nil {
		t.Fatal(err)
	}
	letGo := func(name string) {
		if err := os.WriteFile(filepath.Join(dir, name), nil, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	letGo("stock-count")
	wstest.Await(t, "an end", func() bool { _, err := os.Stat(filepath.Join(dir, "stock-count.over")); return err == nil })
	k = keep(t, h, newMachine(t))
	if d := k.ended("stock-count"); d.Result != engine.ResultFailed || d.Args.Status != 3 {
		t.Errorf("what ended without a keeper: %+v", d)
	}
	if s, err := control.NewClient(h).Status(t.Context()); err != nil || s.Running != 1 {
		t.Errorf("after the restart: %+v, %v", s, err)
	}
	letGo("vault-copy")
	d := k.ended("vault-copy")
	if d.Result != engine.ResultFailed || d.Args.Status != 3 {
		t.Errorf("what outlived its keeper: %+v", d)
	}
	if out, err := h.ReadOutput(d.Run); err != nil || string(out) != fmt.Sprintf("%d\ndone\n", d.Run) {
		t.Errorf("its output is %q, %v", out, err)
	}
	// The boot is the same one: nothing starts again.
	for _, d := range k.log {
		if d.Starts() {
			t.Errorf("started again: %+v", d)
		}
	}
}

func TestOneKeeperAHome(t *testing.T) {
	t.Parallel()
	h := homeWith(t)
	keep(t, h, newMachine(t))
	err := New(Options{Home: h, Workstation: newMachine(t)}).Run(t.Context())
	var busy *home.BusyError
	if !errors.As(err, &busy) || busy.PID != os.Getpid() || !strings.Contains(err.Error(), fmt.Sprint(os.Getpid())) {
		t.Errorf("a second keeper: %v", err)
	}
}

func TestHomesThatCannotBeUsed(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "file")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	text := filepath.Join(t.TempDir(), "home")
	if err := errors.Join(os.Mkdir(text, 0o700), os.WriteFile(filepath.Join(text, "journal.db"), bytes.Repeat([]byte("text "), 100), 0o600)); err != nil {
		t.Fatal(err)
	}
	for dir, want := range map[string]string{
		file + "/home": "not a directory",
		filepath.Join(t.TempDir(), strings.Repeat("x", 100)): "the system allows 107",
		text: "not a journal",
	} {
		err := New(Options{Home: home.At(dir, gate.User), Workstation: newMachine(t)}).Run(t.Context())
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("a keeper in %.60s…: %v, want …%s…", dir, err, want)
		}
	}
}
