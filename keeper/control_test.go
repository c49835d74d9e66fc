//go:build linux

package keeper

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/home"
	"timegate/journal"
	"timegate/workstation"
	"timegate/workstation/staged"
	"timegate/workstation/wstest"
)

// raw sends bytes to the control socket and returns the status line.
func raw(t *testing.T, h home.Home, request string) string {
	t.Helper()
	c, err := net.Dial("unix", h.Socket)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	c.SetDeadline(time.Now().Add(wait))
	io.WriteString(c, request)
	line, _ := bufio.NewReader(c).ReadString('\n')
	return strings.TrimSpace(line)
}

func post(path, body string) string {
	return fmt.Sprintf("POST %s HTTP/1.1\r\nHost: keeper\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%s", path, len(body), body)
}

// TestBadRequests: whatever is sent, the keeper answers the next one.
func TestBadRequests(t *testing.T) {
	t.Parallel()
	h := homeWith(t, "job-board", gateText("/bin/true", `"at 07:30"`))
	keep(t, h, newMachine(t))
	for _, tt := range []struct{ request, want string }{
		{post("/open", `{"gate":"job-board"}`), "200"},
		{post("/open", `{"gate":5}`), "400"},
		{post("/open", `{"gate":"job-board","more":1}`), "400"},
		{post("/open", `{"gate":`), "400"},
		{post("/open", ""), "200"},
		{post("/open", strings.Repeat(" ", 70<<10)+"{}"), "400"},
		{post("/pause", `{"until":"tomorrow"}`), "400"},
		{post("/nothing", "{}"), "404"},
		{"GET /open HTTP/1.1\r\nHost: keeper\r\nConnection: close\r\n\r\n", "405"},
		{"GET /status HTTP/1.1\r\nHost: keeper\r\nX: " + strings.Repeat("x", 20<<10) + "\r\n\r\n", "431"},
		{"nonsense\r\n\r\n", "400"},
	} {
		if line := raw(t, h, tt.request); !strings.Contains(line, tt.want) {
			t.Errorf("%.60q is answered %q, want %s", tt.request, line, tt.want)
		}
	}
	r := rand.New(rand.NewPCG(7, 8))
	for range 200 {
		junk := make([]byte, r.IntN(300))
		for i := range junk {
			junk[i] = byte(r.Uint32())
		}
		request := post("/open", string(junk))
		if r.IntN(2) == 0 {
			request = string(junk) + "\r\n\r\n"
		}
		raw(t, h, request)
	}
	if _, err := control.NewClient(h).Status(t.Context()); err != nil {
		t.Errorf("after all that: %v", err)
	}
}

// TestSlowClients: clients that say nothing stall nobody.
func TestSlowClients(t *testing.T) {
	t.Parallel()
	h := homeWith(t, "job-board", gateText("/bin/true", `"at 07:30"`))
	keep(t, h, newMachine(t))
	for range 50 {
		c, err := net.Dial("unix", h.Socket)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		io.WriteString(c, "POST /open HTTP/1.1\r\nContent-Le")
	}
	ctx, cancel := context.WithTimeout(t.Context(), wait)
	defer cancel()
	if _, err := control.NewClient(h).Status(ctx); err != nil {
		t.Errorf("beside clients that say nothing: %v", err)
	}
}

// TestManyCallers: callers at the same time all get their answer, and each
// start is recorded once.
func TestManyCallers(t *testing.T) {
	t.Parallel()
	h := homeWith(t, "job-board", gateText("/bin/true", `"at 07:30"`, "[rules]", `busy = "beside"`))
	k := keep(t, h, newMachine(t))
	const callers = 30
	var group sync.WaitGroup
	runs := make(chan int64, callers)
	for range callers {
		group.Go(func() {
			a, err := control.NewClient(h).Open(t.Context(), "job-board")
			if err != nil || len(a.Decisions) == 0 {
				t.Errorf("Open = %+v, %v", a, err)
				return
			}
			runs <- a.Decisions[0].Run
		})
	}
	group.Wait()
	close(runs)
	seen := map[int64]bool{}
	for run := range runs {
		if seen[run] {
			t.Errorf("run %d was given twice", run)
		}
		seen[run] = true
	}
	for range callers {
		k.ended("job-board")
	}
	j, err := journal.OpenReader(h.Journal())
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	if entries, err := j.History(journal.Filter{}); err != nil || len(entries) != callers {
		t.Errorf("%d entries, %v, want %d", len(entries), err, callers)
	}
}

// TestClockJumps: a clock set forward and back keeps every due apart.
func TestClockJumps(t *testing.T) {
	t.Parallel()
	h := homeWith(t, "humidity-log", gateText(wstest.Script(t, "exit 0"), `"every 1h"`))
	m, err := staged.New(staged.Options{At: morning, Zone: calendar.UTC, BootID: "front-desk-1"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { m.Close() })
	k := keep(t, h, m)
	result := func(r engine.Result) engine.Decision {
		t.Helper()
		return k.until("a result "+string(r), func(d engine.Decision) bool { return d.Result == r })
	}
	m.Jump(90 * time.Second) // from 05:59 over 06:00
	if d := result(engine.ResultOK); d.Due.Time().Format("15:04") != "06:00" {
		t.Errorf("set forward by a moment: %+v", d)
	}
	m.Jump(3*time.Hour + 20*time.Minute) // to 09:20
	if d := result(engine.ResultMissed); d.Count != 3 {
		t.Errorf("set forward by hours: %+v", d)
	}
	m.Jump(-time.Hour) // to 08:20: 09:00 was decided and is not decided again
	m.Jump(2 * time.Hour)
	if d := result(engine.ResultMissed); d.Due.Time().Format("15:04") != "10:00" || d.Count > 1 {
		t.Errorf("set back and forward: %+v", d)
	}
}

// TestJournalThatCannotBeWritten: nothing starts that is not recorded.
func TestJournalThatCannotBeWritten(t *testing.T) {
	t.Parallel()
	ran := t.TempDir() + "/ran"
	h := homeWith(t, "glue-warm", gateText(wstest.Script(t, "touch "+ran), `"at 07:30"`))
	keeper := New(Options{Home: h, Workstation: newMachine(t)})
	shut, err := keeper.open()
	if err != nil {
		t.Fatal(err)
	}
	defer func() { close(keeper.gone); shut() }()
	if err := keeper.begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	keeper.journal.Close()
	var ds []engine.Decision
	keeper.handle(input{body: &engine.OpenAsked{Gate: "glue-warm"}, then: func(d []engine.Decision) {
		ds = append(ds, d...)
		keeper.programs.asked[d[0].Run] = func(after []engine.Decision) { ds = append(ds, after...) }
	}})
	if len(ds) != 2 || !ds[0].Starts() || ds[1].Result != engine.ResultFailed || !strings.Contains(ds[1].Args.Detail, "journal cannot be written") {
		t.Errorf("decisions %+v", ds)
	}
	troubled := func() bool {
		return slices.ContainsFunc(keeper.troubles(), func(x workstation.Trouble) bool { return x.What == "the journal" })
	}
	if !troubled() {
		t.Errorf("troubles %v", keeper.troubles())
	}
	// Once it can be written again, what was decided meanwhile is recorded.
	if keeper.journal, err = journal.Open(h.Journal()); err != nil {
		t.Fatal(err)
	}
	keeper.retryJournal()
	list, err := keeper.journal.History(journal.Filter{})
	if err != nil || len(list) != 1 || list[0].Result != engine.ResultFailed || troubled() {
		t.Errorf("afterwards: %+v, %v, troubles %v", list, err, keeper.troubles())
	}
	if _, err := os.Stat(ran); err == nil {
		t.Error("the program ran without a record")
	}
}

func TestStartThatFails(t *testing.T) {
	t.Parallel()
	h := homeWith(t, "glue-warm", gateText("/nowhere/glue-warm", `"every 10m"`))
	k := keep(t, h, fast(t))
	d := k.ended("glue-warm")
	if d.Result != engine.ResultFailed || !strings.Contains(d.Args.Detail, "no such file or directory; check the path") {
		t.Errorf("ended %+v", d)
	}
	if d = k.ended("glue-warm"); d.Run != 2 {
		t.Errorf("the next due: %+v", d)
	}
}

// TestReload: a gate that was written is in force when the keeper has answered, and one
// that is wrong says so.
func TestReload(t *testing.T) {
	t.Parallel()
	h := homeWith(t)
	k := keep(t, h, newMachine(t))
	c := control.NewClient(h)
	for i, name := range []string{"stock-count", "glue-warm", "job-board"} {
		put(t, h, name, gateText("/bin/true", `"at 09:00"`))
		if err := c.Reload(t.Context()); err != nil {
			t.Fatal(err)
		}
		s, err := c.Status(t.Context())
		if _, there := s.Gates[name]; err != nil || !there || len(s.Gates) != i+1 {
			t.Errorf("after %s there are %v, %v", name, s.Gates, err)
		}
	}
	put(t, h, "glue-warm", "run = 5\n")
	if err := os.Remove(h.GateFile("job-board")); err != nil {
		t.Fatal(err)
	}
	if err := c.Reload(t.Context()); err != nil {
		t.Fatal(err)
	}
	if s, err := c.Status(t.Context()); err != nil || len(s.Gates) != 2 || len(s.Broken) != 1 {
		t.Errorf("a wrong file and one that is gone: %v, broken %v, %v", s.Gates, s.Broken, err)
	}
	if err := k.end(); err != nil {
		t.Fatal(err)
	}
	if err := c.Reload(t.Context()); !errors.Is(err, control.ErrNoKeeper) {
		t.Errorf("where no keeper is: %v", err)
	}
}

// TestEndsWhileAsked: who asks a keeper that ends is answered, or told that there is none.
func TestEndsWhileAsked(t *testing.T) {
	t.Parallel()
	for range 5 {
		h := homeWith(t, "glue-warm", gateText("/bin/true", `"signal glue"`))
		k := keep(t, h, stagedAt(t, morning))
		var callers sync.WaitGroup
		for range 8 {
			callers.Go(func() {
				for c := control.NewClient(h); ; {
					if _, err := c.Status(t.Context()); errors.Is(err, control.ErrNoKeeper) {
						return
					} else if err != nil {
						t.Errorf("while it ends: %v", err)
						return
					}
				}
			})
		}
		if err := k.end(); err != nil {
			t.Error(err)
		}
		callers.Wait()
	}
}

// TestAnswers: what is asked for is answered with what came of it, and not with what else was
// due in that moment.
func TestAnswers(t *testing.T) {
	t.Parallel()
	h := homeWith(t, "other", gateText("/bin/true", `"every 1s"`), "mine", gateText("/bin/true", `"signal now"`), "replaced", gateText("/bin/sleep", `"signal anew"`, "[rules]", `busy = "replace"`),
		"off", gateText("/bin/true", `{ when = "signal off", enabled = false }`))
	ws := fast(t) // seconds pass while a command is on its way
	keep(t, h, ws)
	c := control.NewClient(h)
	for range 50 {
		for signal, want := range map[string]string{"now": "mine", "anew": "replaced", "off": "", "nothing": ""} {
			a, err := c.Send(t.Context(), signal)
			if err != nil || a.Known != (want != "") {
				t.Fatalf("%s: %+v, %v", signal, a, err)
			}
			for _, d := range a.Decisions {
				if d.Gate != want {
					t.Fatalf("sent %s, and the answer is about %s", signal, d.Gate)
				}
			}
		}
		for _, ask := range []func(context.Context, string) (control.Answer, error){c.Open, c.Stop} {
			a, err := ask(t.Context(), "mine")
			if err != nil || slices.ContainsFunc(a.Decisions, func(d control.Decision) bool { return d.Gate != "mine" }) {
				t.Fatalf("%+v, %v", a, err)
			}
		}
	}
}
