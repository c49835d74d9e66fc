//go:build linux

package agent

import (
	"bufio"
	"bytes"
	"context"
	crand "crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"timegate/core/coretest"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/home"
	"timegate/workstation"
	"timegate/workstation/rights"
	"timegate/workstation/wstest"
)

func TestMain(m *testing.M) {
	os.Args = append(os.Args[:1:1], rights.Become(os.Args[1:])...)
	if status, ok := Help(os.Args[1:]); ok {
		os.Exit(status)
	}
	if which, err := strconv.Atoi(os.Getenv(childHostile)); err == nil {
		beHostile(&hostiles[which])
		os.Exit(0)
	}
	os.Exit(coretest.Main(m))
}

// TestHeld: whatever is printed, told and let go in whatever pieces, a keeper
// comes to have the first and the last half, and knows how much is missing.
func TestHeld(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(3, 4))
	for round := range 2000 {
		const half = 50
		h, got, skipped := newHeld(2*half), []byte{}, int64(0)
		var printed []byte
		has := int64(0) // what the keeper at hand has recorded
		for range r.IntN(40) {
			switch r.IntN(4) {
			case 0, 1:
				piece := bytes.Repeat([]byte{'a' + byte(r.IntN(26))}, r.IntN(3*half))
				printed = append(printed, piece...)
				h.add(piece)
			case 2:
				head, gap, tail := h.take()
				got = append(append(got, head...), tail...)
				skipped += gap
				has = int64(len(got)) + skipped
				if r.IntN(2) == 0 {
					h.drop(has)
				}
			case 3: // another keeper, who has what the last one had
				h.resume(has)
			}
		}
		head, gap, tail := h.take()
		got = append(append(got, head...), tail...)
		skipped += gap
		n := int64(len(printed))
		if int64(len(got))+skipped != n || !bytes.HasPrefix(got, printed[:min(n, half)]) || !bytes.HasSuffix(got, printed[max(n-half, 0):]) {
			t.Fatalf("round %d: of %d bytes %d came and %d were left out", round, n, len(got), skipped)
		}
	}
}

// crew returns a crew in a home of its own, and what its agents tell.
func crew(t *testing.T) (*Crew, chan Event) {
	t.Helper()
	h := home.At(t.TempDir(), gate.User)
	if err := h.Prepare(); err != nil {
		t.Fatal(err)
	}
	events := make(chan Event, 1000)
	c := NewCrew(h, home.Secret("larkspur"), slog.New(slog.DiscardHandler), func(ev Event) { events <- ev })
	t.Cleanup(func() {
		pids := c.PIDs()
		c.Close()
		for _, pid := range pids {
			if pid != os.Getpid() {
				syscall.Kill(pid, syscall.SIGKILL)
			}
		}
	})
	return c, events
}

func job(run int64, argv ...string) *Job {
	g := gate.Default("glue-warm")
	g.Run = argv
	return &Job{Run: run, Mark: crand.Text(), Gate: *g, Decision: engine.Decision{Run: run}}
}

// next waits for what an agent tells next of a run.
func next[B engine.Body](t *testing.T, events chan Event) B {
	t.Helper()
	for late := time.After(coretest.Wait); ; {
		select {
		case ev := <-events:
			if b, ok := ev.Body.(B); ok {
				return b
			}
		case <-late:
			t.Fatalf("no %T came", *new(B))
		}
	}
}

// TestAgent: what is prepared starts when that is said, and is told of; an agent
// that is killed is renewed and finds what it had started.
func TestAgent(t *testing.T) {
	t.Parallel()
	c, events := crew(t)
	a := c.Of("")
	log := filepath.Join(t.TempDir(), "log")
	program := wstest.Script(t, `echo "$TIMEGATE_RUN" | tee -a '`+log+`'; exec sleep 600`)
	seven := job(7, program)
	a.Prepare(seven)
	a.Prepare(seven) // as where an answer was lost: it starts once
	a.Prepare(job(8, program))
	a.Drop(8)
	a.Start(7)
	started := next[*engine.RunStarted](t, events)
	if started.Run != 7 || started.PID == 0 || started.Born == 0 {
		t.Fatalf("started %+v", started)
	}
	wstest.Await(t, "what it prints", func() bool { text, _ := c.home.ReadOutput(7); return string(text) == "7\n" })
	first := a.PID()
	syscall.Kill(first, syscall.SIGKILL)
	wstest.Await(t, "a new agent", func() bool { return a.PID() != 0 && a.PID() != first })
	a.End(7, "TERM")
	select {
	case ev := <-events:
		switch b := ev.Body.(type) {
		case *engine.RunEnded:
			if b.Run != 7 || b.Signal != "TERM" {
				t.Errorf("ended %+v", b)
			}
		case *engine.RunLost: // where the kernel does not tell how
			if b.Run != 7 || b.Why != engine.LostStatus {
				t.Errorf("lost %+v", b)
			}
		default:
			t.Errorf("told %+v", ev)
		}
	case <-time.After(coretest.Wait):
		t.Error("nothing is told of the end")
	}
	a.Forget(7)
	// What was prepared by an agent that dies is prepared by the next one.
	a.Prepare(job(10, program))
	second := a.PID()
	syscall.Kill(second, syscall.SIGKILL)
	wstest.Await(t, "the next agent", func() bool { return a.PID() != 0 && a.PID() != second })
	a.Start(10)
	if s := next[*engine.RunStarted](t, events); s.Run != 10 {
		t.Errorf("started %+v", s)
	}
	wstest.Await(t, "what it writes", func() bool { text, _ := os.ReadFile(log); return strings.HasSuffix(string(text), "10\n") })
	if text, err := os.ReadFile(log); err != nil || string(text) != "7\n10\n" {
		t.Errorf("these were started: %q, %v", text, err)
	}
	a.End(10, "KILL")
	next[*engine.RunEnded](t, events)
	a.Forget(10)
	a.Prepare(job(9, "/nowhere/at-all"))
	a.Start(9)
	if f := next[*engine.StartFailed](t, events); f.Run != 9 || !strings.Contains(f.Detail, "check the path") {
		t.Errorf("failed %+v", f)
	}
}

// TestLeaves: an agent that nobody needs any more ends by itself, when nothing of
// its account runs.
func TestLeaves(t *testing.T) {
	t.Parallel()
	c, events := crew(t)
	stop := t.TempDir() + "/stop"
	a := c.Of("")
	a.Prepare(job(1, wstest.Script(t, `while [ ! -e `+stop+` ]; do sleep 0.02; done`)))
	a.Start(1)
	next[*engine.RunStarted](t, events)
	pid := a.PID()
	c.Watch(nil)
	if err := os.WriteFile(stop, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	next[*engine.RunEnded](t, events)
	a.Forget(1)
	wstest.Await(t, "the agent to leave", func() bool { return syscall.Kill(pid, 0) != nil && a.PID() == 0 })
	// It comes back when it is needed.
	a.Prepare(job(2, "/bin/true"))
	a.Start(2)
	if e := next[*engine.RunEnded](t, events); e.Run != 2 || e.Exit != 0 {
		t.Errorf("ended %+v", e)
	}
}

// TestHandOver: an agent whose keeper goes tells the next one of all that went on
// meanwhile.
func TestHandOver(t *testing.T) {
	t.Parallel()
	c, events := crew(t)
	stop := t.TempDir() + "/stop"
	a := c.Of("")
	for run := range int64(3) {
		a.Prepare(job(run+1, wstest.Script(t, fmt.Sprintf(`echo before; while [ ! -e %s ]; do sleep 0.02; done; yes "$TIMEGATE_RUN" | head -c 3000000; exit %d`, stop, run))))
		a.Start(run + 1)
		next[*engine.RunStarted](t, events)
	}
	var runs []Alive
	for run := range int64(3) {
		wstest.Await(t, "what is printed", func() bool { text, _ := c.home.ReadOutput(run + 1); return string(text) == "before\n" })
		a.mu.Lock()
		runs = append(runs, a.runs[run+1].alive)
		a.mu.Unlock()
	}
	c.Close()
	if err := os.WriteFile(stop, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	second := NewCrew(c.home, home.Secret("larkspur"), slog.New(slog.DiscardHandler), func(ev Event) { events <- ev })
	defer second.Close()
	second.Resume("", runs)
	for range 3 {
		e := next[*engine.RunEnded](t, events)
		const printed = 7 + 3000000
		if e.Exit != int(e.Run-1) || e.Usage.Output != printed || e.Usage.Dropped < printed-(2<<20) {
			t.Errorf("ended %+v", e)
		}
		if text, err := c.home.ReadOutput(e.Run); err != nil || !strings.HasPrefix(string(text), fmt.Sprintf("before\n%[1]d\n%[1]d\n", e.Run)) || !strings.HasSuffix(string(text), fmt.Sprintf("\n%d\n", e.Run)) {
			t.Errorf("kept of run %d: %d bytes, %v", e.Run, len(text), err)
		}
		second.Of("").Forget(e.Run)
	}
}

// hostile is what an agent says that is not one of ours.
type hostile struct {
	name string
	say  func(w *bufio.Writer)
	gone bool // it is not talked to any further
}

var hostiles = []hostile{
	{"nothing that is a frame", func(w *bufio.Writer) { w.WriteString("HTTP/1.1 200 OK\r\n\r\n") }, true},
	{"a frame without an end", func(w *bufio.Writer) { w.Write([]byte{frameJSON, 0xff, 0xff, 0xff, 0xff}) }, true},
	{"no JSON", func(w *bufio.Writer) { writeFrame(w, frameJSON, []byte("{{{{")) }, true},
	{"JSON without an end", func(w *bufio.Writer) { writeFrame(w, frameJSON, bytes.Repeat([]byte("["), 1<<19)) }, true},
	{"nothing", func(w *bufio.Writer) { writeJSON(w, report{}) }, true},
	{"output of no run", func(w *bufio.Writer) { writeFrame(w, frameOutput, []byte("x")) }, true},
	{"a run that was not to start", func(w *bufio.Writer) { writeJSON(w, report{Started: &started{Run: 2, PID: 1}}) }, true},
	{"the end of what has not started", func(w *bufio.Writer) { writeJSON(w, report{Ended: &ended{Run: 2}}) }, true},
	{"runs of others", func(w *bufio.Writer) {
		for run := range int64(1000) {
			writeJSON(w, report{Started: &started{Run: run + 100, PID: 1}})
			writeJSON(w, report{Ended: &ended{Run: run + 100}})
			writeFrame(w, frameOutput, runHeader(run+100), []byte("forged"))
			writeJSON(w, report{Lost: &lost{Run: run + 100}})
		}
	}, false},
	{"what nobody watches", func(w *bufio.Writer) {
		writeJSON(w, report{Notice: &notice{Key: "change in /etc", Files: []string{"/etc/shadow"}}})
		writeJSON(w, report{Places: &places{There: []string{"/root", "root: /root"}}})
		writeJSON(w, report{Content: &content{ID: 77, Data: []byte("unasked")}})
		writeJSON(w, struct {
			Troubles []workstation.Trouble `json:"troubles"`
		}{slices.Repeat([]workstation.Trouble{{What: strings.Repeat("x", 9000), Why: "\x1b[2J"}}, 100)})
	}, false},
	{"much of what is watched", func(w *bufio.Writer) {
		for range 50 {
			writeJSON(w, report{Notice: &notice{Key: "hers", Text: strings.Repeat("\x1b]0;x\x07\n", 9000), Subject: "\u202e", Count: -5, Files: slices.Repeat([]string{"/a\x00b", "relative", "/fine"}, 9000)}})
		}
	}, false},
}

// TestHostileAgents: an agent that says what it likes concerns nobody but its own
// account's runs and watches, and nothing that it says does more than text.
func TestHostileAgents(t *testing.T) {
	t.Parallel()
	for i, tt := range hostiles {
		t.Run(tt.name, func(t *testing.T) {
			c, events := crew(t)
			talked := impostor(t, c.home, i)
			a := c.Of("")
			a.watch(workstation.Wants{Watches: []workstation.Watch{{Key: "hers", Event: phrase.EventSpec{Kind: phrase.Line}}}}, true)
			a.Prepare(job(2, "/bin/true"))
			select {
			case word := <-talked:
				if gone := word != "talked to"; gone != tt.gone {
					t.Errorf("it is %s", word)
				}
			case <-time.After(coretest.Wait):
				t.Fatal("it is waited for")
			}
			for len(events) > 0 {
				ev := <-events
				o, ok := ev.Body.(*engine.Occurred)
				if !ok || o.Name != "hers" || len(o.Text) > textMost || strings.ContainsAny(o.Text+o.Subject, "\n\x00") || o.Count < 0 || len(o.Files) > filesMost || slices.Contains(o.Files, "relative") {
					t.Errorf("the keeper is told %.300v", fmt.Sprintf("%+v", ev.Body))
				}
			}
			if there := c.Places(); len(there) > 0 {
				t.Errorf("there are %v", there)
			}
			for _, x := range c.Troubles() {
				if len(x.What) > textMost || strings.Contains(x.Why, "\x1b") {
					t.Errorf("the trouble %.80q %q", x.What, x.Why)
				}
			}
			if files, _ := os.ReadDir(c.home.Outputs()); len(files) > 0 {
				t.Errorf("%d files were written", len(files))
			}
		})
	}
}

// The test binary is an impostor with this variable: the number of what it says.
const childHostile = "TIMEGATE_TEST_HOSTILE"

// impostor is a process that listens in the place of an agent, once. It returns
// whether it is talked to further, or gone.
func impostor(t *testing.T, h home.Home, which int) <-chan string {
	t.Helper()
	l, err := net.ListenUnix("unix", &net.UnixAddr{Name: h.AgentSocket(os.Getuid()), Net: "unix"})
	if err != nil {
		t.Fatal(err)
	}
	l.SetUnlinkOnClose(false)
	file, err := l.File()
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), fmt.Sprintf("%s=%d", childHostile, which))
	cmd.ExtraFiles = []*os.File{file}
	var out bytes.Buffer
	cmd.Stdout = &out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	l.Close()
	file.Close()
	talked := make(chan string, 1)
	go func() {
		cmd.Wait()
		talked <- strings.TrimSpace(out.String())
	}()
	return talked
}

// beHostile says what it likes, and prints whether it is talked to further.
func beHostile(h *hostile) {
	l, err := net.FileListener(os.NewFile(listenerFD, "listener"))
	if err != nil {
		return
	}
	conn, err := l.Accept()
	if err != nil {
		return
	}
	w := bufio.NewWriter(conn)
	writeJSON(w, report{Hello: &greeting{Protocol: protocol, Runs: []int64{1, 2, 500}}})
	h.say(w)
	w.Flush()
	buf, silence := make([]byte, 1<<20), 300*time.Millisecond
	if h.gone {
		silence = coretest.Wait
	}
	for {
		conn.SetReadDeadline(time.Now().Add(silence))
		if _, err := conn.Read(buf); errors.Is(err, os.ErrDeadlineExceeded) {
			fmt.Println("talked to")
			return
		} else if err != nil {
			return
		}
	}
}

// TestAgentDoesNotWait: a keeper that reads nothing does not hold up an agent's
// programs, and what they print is bounded.
func TestAgentDoesNotWait(t *testing.T) {
	t.Parallel()
	c, events := crew(t)
	a := c.Of("")
	if _, err := a.Read(context.Background(), "/etc/hostname", 100); err != nil {
		t.Fatal(err)
	}
	// A keeper that hangs: its goroutine that listens is held up.
	hold := make(chan struct{})
	c.tell = func(ev Event) { <-hold; events <- ev }
	done := t.TempDir() + "/done"
	a.Prepare(job(1, wstest.Script(t, `yes | head -c 50000000; touch `+done)))
	a.Start(1)
	wstest.Await(t, "the program to end", func() bool { _, err := os.Stat(done); return err == nil })
	close(hold)
	if e := next[*engine.RunEnded](t, events); e.Usage.Output != 50000000 || e.Usage.Dropped < 40000000 {
		t.Errorf("ended %+v", e)
	}
}

// FuzzReport reads anything as what an agent says: a report or an error, and
// never more than is bounded.
func FuzzReport(f *testing.F) {
	for _, h := range hostiles {
		var b bytes.Buffer
		w := bufio.NewWriter(&b)
		h.say(w)
		w.Flush()
		f.Add(b.Bytes()[:min(b.Len(), 4096)])
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		c := NewCrew(home.At(t.TempDir(), gate.User), home.Secret("larkspur"), slog.New(slog.DiscardHandler), func(Event) {})
		a := newAgent(c, "")
		a.runs[1] = &keptRun{alive: Alive{Run: 1, Keep: 100}, sent: true}
		r := bufio.NewReader(bytes.NewReader(data))
		for {
			rep, run, text, err := readReport(r)
			if err != nil {
				return
			}
			if run != 0 {
				a.takePrinted(run, text)
			} else if a.take(&rep) != nil {
				return
			}
		}
	})
}

// FuzzRequest gives an agent anything for what a keeper says, but for what starts
// and reads.
func FuzzRequest(f *testing.F) {
	for _, q := range []request{{Hello: &hello{Protocol: protocol}}, {Start: 1}, {Drop: 1}, {Forget: 1}, {Have: &printed{1, 1 << 40}}, {End: &ending{1, "KILL"}}, {Leave: true}} {
		text, err := json.Marshal(q)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		var q request
		if json.Unmarshal(data, &q) != nil {
			return
		}
		s := &server{runs: map[int64]*run{1: {id: 1, out: newHeld(100)}}, kick: make(chan struct{}, 1), linked: true}
		s.runs[1].out.add([]byte("printed"))
		if q.Hello != nil {
			s.meet(q.Hello, nil)
		}
		q.Watch, q.Prepare, q.Adopt, q.Read, q.Leave = nil, nil, nil, nil, false
		s.obey(&q)
		s.newsOf(1)
	})
}
