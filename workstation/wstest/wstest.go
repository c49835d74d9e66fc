//go:build linux

// Package wstest holds the rules that every workstation keeps, as tests.
package wstest

import (
	"crypto/rand"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"timegate/core/coretest"
	"timegate/workstation"
	"timegate/workstation/cgroup"
)

// wait bounds how long a test waits for what must come.
const wait = coretest.Wait

// Run checks a workstation against the rules. newWS returns a fresh one.
func Run(t *testing.T, newWS func(t *testing.T) workstation.Workstation) {
	t.Run("wakes at the time asked for", func(t *testing.T) { wakes(t, newWS(t)) })
	t.Run("machine", func(t *testing.T) {
		ws := newWS(t)
		if ws.Zone() == nil || ws.BootID() == "" || ws.BootID() != newWS(t).BootID() {
			t.Errorf("zone %v, boot %q", ws.Zone(), ws.BootID())
		}
	})
}

// Programs checks a starter of programs against the rules.
func Programs(t *testing.T, s workstation.Starter) {
	t.Run("programs", func(t *testing.T) { programs(t, s) })
	t.Run("a tree is ended whole", func(t *testing.T) { trees(t, s) })
	t.Run("what a program leaves", func(t *testing.T) { leftovers(t, s) })
	t.Run("nobody else's is ended", func(t *testing.T) { apart(t, s) })
	t.Run("errors", func(t *testing.T) { startErrors(t, s) })
	t.Run("another process adopts", func(t *testing.T) { adopts(t, s) })
}

func wakes(t *testing.T, ws workstation.Workstation) {
	ws.SetWake(ws.Clock().Now.Add(time.Hour)) // replaced by the next
	at := ws.Clock().Now.Add(30 * time.Millisecond)
	ws.SetWake(at)
	for i := range 2 {
		select {
		case w := <-ws.Wakes():
			if ws.Clock().Now.Before(at) {
				t.Errorf("wake %d: %+v at %v, want one at %v", i, w, ws.Clock().Now, at)
			}
		case <-time.After(wait):
			t.Fatal("no wake came")
		}
		at = ws.Clock().Now.Add(-time.Hour) // a time that has passed wakes at once
		ws.SetWake(at)
	}
	ws.SetWake(time.Time{})
}

// Script writes a shell script and returns its path.
func Script(t testing.TB, body string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "program")
	if err := os.WriteFile(path, []byte("#!/bin/sh\n"+body+"\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	return path
}

// Printer keeps what a program prints.
type Printer struct {
	mu   sync.Mutex // guards text
	text strings.Builder
}

// Print takes a piece.
func (p *Printer) Print(b []byte) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.text.Write(b)
}

func (p *Printer) String() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.text.String()
}

// order is for a script, with what it prints and its exit in a channel.
func order(t *testing.T, body string, args ...string) (workstation.Order, *Printer, <-chan workstation.Exit) {
	t.Helper()
	done, out := make(chan workstation.Exit, 1), &Printer{}
	return workstation.Order{
		Mark: rand.Text(), Argv: append([]string{Script(t, body)}, args...), Folder: t.TempDir(),
		Env:   []string{"PATH=/usr/bin:/bin", "ROOM=press room"},
		Print: out.Print, Done: func(x workstation.Exit) { done <- x },
	}, out, done
}

func start(t *testing.T, ws workstation.Starter, o workstation.Order) workstation.Process {
	t.Helper()
	p, err := ws.Start(o)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func ended(t *testing.T, done <-chan workstation.Exit) workstation.Exit {
	t.Helper()
	select {
	case x := <-done:
		return x
	case <-time.After(wait):
		t.Fatal("the program did not end")
		return workstation.Exit{}
	}
}

func programs(t *testing.T, ws workstation.Starter) {
	o, out, done := order(t, `echo "$1|$2|$ROOM|$HOME|$(pwd)"; echo oops >&2; read line || echo "no input"; tty; exit 3`, "a b", "*")
	p := start(t, ws, o)
	x := ended(t, done)
	want := "a b|*|press room||" + o.Folder + "\noops\nno input\nnot a tty\n"
	if got := out.String(); got != want {
		t.Errorf("printed %q, want %q", got, want)
	}
	if x.Status != 3 || x.Signal != "" || x.Lost || x.Usage.Output != int64(len(want)) || p.PID() <= 1 || p.Born() == 0 {
		t.Errorf("exit %+v of process %d", x, p.PID())
	}
	if err := p.End("TERM"); err != nil {
		t.Errorf("ending what has ended: %v", err)
	}
	// Also where the starter passes over a hang-up, as below nohup(1).
	signal.Ignore(syscall.SIGHUP)
	defer signal.Reset(syscall.SIGHUP)
	for _, name := range []string{"SEGV", "HUP"} {
		o, _, done = order(t, "kill -"+name+" $$")
		start(t, ws, o)
		if x := ended(t, done); x.Signal != name {
			t.Errorf("exit %+v, want signal %s", x, name)
		}
	}
}

// lines waits until a file has so many lines and returns them.
func lines(t *testing.T, path string, n int) []string {
	t.Helper()
	for deadline := time.Now().Add(wait); time.Now().Before(deadline); time.Sleep(2 * time.Millisecond) {
		b, _ := os.ReadFile(path)
		if strings.Count(string(b), "\n") >= n {
			return strings.Fields(string(b))
		}
	}
	t.Fatalf("%s does not come to have %d lines", path, n)
	return nil
}

func trees(t *testing.T, ws workstation.Starter) {
	// A child that ignores TERM, one that has left the session and the tree,
	// one that has even taken off its mark, and the program itself.
	n, escape := 3, ""
	if cgroup.Contained() {
		n, escape = 4, `env -i PIDS="$1" setsid sh -c '(trap "" TERM; echo $$ >>"$PIDS"; while :; do sleep 1; done) & exit'`
	}
	o, _, done := order(t, `trap '' TERM
`+escape+`
echo $$ >>"$1"
sh -c 'trap "" TERM; echo $$ >>"$0"; while :; do sleep 1; done' "$1" &
setsid sh -c '(trap "" TERM; echo $$ >>"$0"; while :; do sleep 1; done) & exit' "$1"
while :; do sleep 1; done`, filepath.Join(t.TempDir(), "pids"))
	p := start(t, ws, o)
	pids := lines(t, o.Argv[1], n)
	if err := p.End("KILL"); err != nil {
		t.Fatal(err)
	}
	if x := ended(t, done); x.Signal != "KILL" {
		t.Errorf("exit %+v, want signal KILL", x)
	}
	for _, pid := range pids {
		if stat, err := os.ReadFile("/proc/" + pid + "/stat"); err == nil && !strings.Contains(string(stat), ") Z ") {
			t.Errorf("process %s lives on: %s", pid, stat)
		}
	}
	o, _, done = order(t, "sleep 60 & wait")
	p = start(t, ws, o)
	if err := p.End("TERM"); err != nil {
		t.Fatal(err)
	}
	if x := ended(t, done); x.Signal != "TERM" {
		t.Errorf("exit %+v, want signal TERM", x)
	}
	if err := p.End("HUP"); err == nil {
		t.Error("a signal that is none of TERM and KILL was sent")
	}
}

// leftovers: a program that is asked to end has ended when nothing of it is left; one
// that ends by itself leaves behind what it likes, unless that is to end with it.
func leftovers(t *testing.T, s workstation.Starter) {
	alive := func(pid string) bool {
		stat, err := os.ReadFile("/proc/" + pid + "/stat")
		return err == nil && !strings.Contains(string(stat), ") Z ")
	}
	const stubborn = `sh -c 'trap "" TERM HUP; echo $$ >>"$0"; while :; do sleep 0.1; done' "$1" & `
	// Asked to end: the leader does, and its child does not.
	o, _, done := order(t, stubborn+"exec sleep 600", filepath.Join(t.TempDir(), "pids"))
	p := start(t, s, o)
	child := lines(t, o.Argv[1], 1)[0]
	if err := p.End("TERM"); err != nil {
		t.Fatal(err)
	}
	Await(t, "the leader to end", func() bool { return !alive(fmt.Sprint(p.PID())) })
	select {
	case x := <-done:
		t.Errorf("it ended with %+v while its child goes on: %v", x, alive(child))
	case <-time.After(200 * time.Millisecond):
	}
	if err := p.End("KILL"); err != nil {
		t.Fatal(err)
	}
	if x := ended(t, done); x.Signal != "TERM" || alive(child) {
		t.Errorf("it ended with %+v, and its child lives: %v", x, alive(child))
	}
	// It forks in the moment in which it is asked.
	o, _, done = order(t, `trap 'sleep 600 & exit 5' TERM; echo $$ >>"$1"; while :; do sleep 0.05; done`, filepath.Join(t.TempDir(), "pids"))
	p = start(t, s, o)
	lines(t, o.Argv[1], 1)
	if err := p.End("TERM"); err != nil {
		t.Fatal(err)
	}
	if x := ended(t, done); x.Status != 5 {
		t.Errorf("it ended with %+v", x)
	}
	for _, rest := range []time.Duration{0, 300 * time.Millisecond} {
		o, _, done := order(t, stubborn+`until [ -s "$1" ]; do sleep 0.01; done; exit 3`, filepath.Join(t.TempDir(), "pids"))
		o.Rest = rest
		p := start(t, s, o)
		x := ended(t, done)
		child := lines(t, o.Argv[1], 1)[0]
		if x.Status != 3 || alive(child) != (rest == 0) {
			t.Errorf("with %v for what it leaves: it ended with %+v, and its child lives: %v", rest, x, alive(child))
		}
		p.End("KILL")
	}
}

// apart: programs that are made ready at the same time, as keepers of two homes do
// it, have nothing to do with each other.
func apart(t *testing.T, s workstation.Starter) {
	var processes []workstation.Process
	var ends []<-chan workstation.Exit
	var made []workstation.Ready
	for range 2 {
		o, _, done := order(t, "exec sleep 600")
		r, err := s.Ready(o)
		if err != nil {
			t.Fatal(err)
		}
		made, ends = append(made, r), append(ends, done)
	}
	for _, r := range made {
		p, err := r.Start()
		if err != nil {
			t.Fatal(err)
		}
		processes = append(processes, p)
	}
	if err := processes[0].End("KILL"); err != nil {
		t.Fatal(err)
	}
	ended(t, ends[0])
	if err := processes[1].End("TERM"); err != nil {
		t.Fatal(err)
	}
	if x := ended(t, ends[1]); x.Signal != "TERM" {
		t.Errorf("the other program ended with %+v", x)
	}
}

func startErrors(t *testing.T, ws workstation.Starter) {
	plain := filepath.Join(t.TempDir(), "plain")
	if err := os.WriteFile(plain, []byte("#!/bin/sh\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	lost := Script(t, "")
	if err := os.WriteFile(lost, []byte("#!/nowhere/sh\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct{ program, folder, want string }{
		{"/nowhere/job-board", "", "check the path"},
		{"job-board-that-is-nowhere", "", "write its whole path"},
		{plain, "", "chmod +x"},
		{lost, "", "the interpreter that its first line names is not"},
		{filepath.Dir(plain), "", "it is a folder"},
		{"/bin/true", "/nowhere/at/all", "its folder /nowhere/at/all is not there"},
	} {
		o, _, _ := order(t, "")
		o.Argv = []string{tt.program}
		if tt.folder != "" {
			o.Folder = tt.folder
		}
		_, err := ws.Start(o)
		if err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("start of %s: %v, want …%s…", tt.program, err, tt.want)
		}
	}
}

// adopts: a program that runs on without its starter is found again by its
// number and its beginning, or by its mark alone where those are not known, and
// what it prints is read on. What has one of these and not the others is
// another program.
func adopts(t *testing.T, s workstation.Starter) {
	for _, known := range []bool{true, false} {
		gate := filepath.Join(t.TempDir(), "go")
		o, out, _ := order(t, `echo before; while [ ! -e "$1" ]; do sleep 0.05; done; echo after; exit 4`, gate)
		p := start(t, s, o)
		Await(t, "what it prints", func() bool { return out.String() == "before\n" })
		pid, born := 0, int64(0)
		if known {
			pid, born = p.PID(), p.Born()
		}
		other := o
		if other.Mark = rand.Text(); s.Adopt(other, p.PID(), p.Born()) != nil {
			t.Error("a program with another mark was adopted")
		}
		if s.Adopt(o, p.PID(), p.Born()+1) != nil {
			t.Error("a program that began at another time was adopted")
		}
		done := make(chan workstation.Exit, 1)
		o.Done = func(x workstation.Exit) { done <- x }
		adopted := s.Adopt(o, pid, born)
		if adopted == nil || adopted.PID() != p.PID() || adopted.Born() != p.Born() {
			t.Fatalf("adopted %v, want process %d", adopted, p.PID())
		}
		if err := os.WriteFile(gate, nil, 0o600); err != nil {
			t.Fatal(err)
		}
		if x := ended(t, done); !x.Lost && x.Status != 4 || !strings.Contains(out.String(), "after") {
			t.Errorf("exit %+v, want status 4, or not known; printed %q", x, out)
		}
		if s.Adopt(o, p.PID(), p.Born()) != nil {
			t.Error("what has ended was adopted")
		}
	}
}
