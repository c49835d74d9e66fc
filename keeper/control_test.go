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
	"strings"
	"sync"
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/journal"
	"timegate/workstation"
	"timegate/workstation/staged"
	"timegate/workstation/wstest"
)

// raw sends bytes to the control socket and returns the status line.
func raw(t *testing.T, h Home, request string) string {
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
	h := home(t, "job-board", gateText("/bin/true", `"at 07:30"`))
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
	if _, err := NewClient(h).Status(t.Context()); err != nil {
		t.Errorf("after all that: %v", err)
	}
}

// TestSlowClients: clients that say nothing stall nobody.
func TestSlowClients(t *testing.T) {
	h := home(t, "job-board", gateText("/bin/true", `"at 07:30"`))
	keep(t, h, newMachine(t))
	for range 50 {
		c, err := net.Dial("unix", h.Socket)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		io.WriteString(c, "POST /open HTTP/1.1\r\nContent-Le")
	}
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
	defer cancel()
	if _, err := NewClient(h).Status(ctx); err != nil {
		t.Errorf("beside clients that say nothing: %v", err)
	}
}

// TestManyCallers: callers at the same time all get their answer, and each
// start is recorded once.
func TestManyCallers(t *testing.T) {
	h := home(t, "job-board", gateText("/bin/true", `"at 07:30"`, "[rules]", `busy = "beside"`))
	k := keep(t, h, newMachine(t))
	const callers = 30
	var group sync.WaitGroup
	runs := make(chan int64, callers)
	for range callers {
		group.Go(func() {
			a, err := NewClient(h).Open(t.Context(), "job-board")
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
	h := home(t, "humidity-log", gateText(wstest.Script(t, "exit 0"), `"every 1h"`))
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
	if d := result(engine.OK); d.Due.Time().Format("15:04") != "06:00" {
		t.Errorf("set forward by a moment: %+v", d)
	}
	m.Jump(3*time.Hour + 20*time.Minute) // to 09:20
	if d := result(engine.Missed); d.Count != 3 {
		t.Errorf("set forward by hours: %+v", d)
	}
	m.Jump(-time.Hour) // to 08:20: 09:00 was decided and is not decided again
	m.Jump(2 * time.Hour)
	if d := result(engine.Missed); d.Due.Time().Format("15:04") != "10:00" || d.Count > 1 {
		t.Errorf("set back and forward: %+v", d)
	}
}

// TestJournalThatCannotBeWritten: nothing starts that is not recorded.
func TestJournalThatCannotBeWritten(t *testing.T) {
	ran := t.TempDir() + "/ran"
	h := home(t, "glue-warm", gateText(wstest.Script(t, "touch "+ran), `"at 07:30"`))
	keeper := New(Options{Home: h, Workstation: newMachine(t)})
	var err error
	if keeper.journal, err = journal.Open(h.Journal()); err != nil {
		t.Fatal(err)
	}
	if err := keeper.begin(); err != nil {
		t.Fatal(err)
	}
	keeper.journal.Close()
	ds := keeper.handle(engine.Event{Kind: engine.Open, At: keeper.now(), Gate: "glue-warm"})
	if len(ds) != 2 || !ds[0].Starts() || ds[1].Result != engine.Failure || !strings.Contains(ds[1].Reason, "journal cannot be written") {
		t.Errorf("decisions %+v", ds)
	}
	if _, err := os.Stat(ran); err == nil {
		t.Error("the program ran without a record")
	}
}

// refuser is a workstation on which nothing starts.
type refuser struct{ *staged.Machine }

var errRefused = errors.New("no room for another process")

func (refuser) Start(workstation.Order) (workstation.Process, error) { return nil, errRefused }

func TestStartThatFails(t *testing.T) {
	h := home(t, "glue-warm", gateText("/bin/true", `"every 10m"`))
	k := keep(t, h, refuser{fast(t)})
	d := k.ended("glue-warm")
	if d.Result != engine.Failure || !strings.Contains(d.Reason, errRefused.Error()) {
		t.Errorf("ended %+v", d)
	}
	if d = k.ended("glue-warm"); d.Run != 2 {
		t.Errorf("the next due: %+v", d)
	}
}

func TestEnvironment(t *testing.T) {
	g := gate.Default("glue-warm")
	g.As.Env = map[string]string{"LANG": "en_GB.UTF-8", "ROOM": "press"}
	d := &engine.Decision{Opening: "1", Run: 7, Reason: "due: boot", Due: calendar.InstantOf(morning)}
	env := strings.Join(environment(account{name: "maren", home: "/home/maren", shell: "/bin/bash", uid: 1000, vars: map[string]string{"PATH": "/usr/local/bin:/usr/bin:/bin", "LANG": "C.UTF-8"}}, g, d), "\n")
	want := "HOME=/home/maren\nLANG=en_GB.UTF-8\nLOGNAME=maren\nPATH=/usr/local/bin:/usr/bin:/bin\nROOM=press\nSHELL=/bin/bash\n" +
		"TIMEGATE_DUE=2026-11-30T05:59:00Z\nTIMEGATE_GATE=glue-warm\nTIMEGATE_OPENING=1\nTIMEGATE_REASON=due: boot\nTIMEGATE_RUN=7\nUSER=maren"
	if env != want {
		t.Errorf("environment:\n%s\nwant:\n%s", env, want)
	}
}

func TestAccounts(t *testing.T) {
	for _, tt := range []struct {
		scope gate.Scope
		as    gate.As
		want  string
	}{
		{gate.User, gate.As{}, ""}, {gate.User, gate.As{User: self().name}, ""},
		{gate.User, gate.As{User: "maren-who-is-not-there"}, "only root's keeper of the system scope"},
	} {
		g := gate.Default("x")
		g.As = tt.as
		_, err := accountOf(Home{Scope: tt.scope}, g)
		if (err == nil) != (tt.want == "") || err != nil && !strings.Contains(err.Error(), tt.want) {
			t.Errorf("account of %+v: %v, want %q", tt.as, err, tt.want)
		}
	}
}
