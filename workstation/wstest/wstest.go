//go:build linux

// Package wstest holds the rules that every workstation keeps, as tests.
package wstest

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"timegate/workstation"
	"timegate/workstation/linux"
)

// wait bounds how long a test waits for what must come.
const wait = 20 * time.Second

// Run checks a workstation against the rules. newWS returns a fresh one.
func Run(t *testing.T, newWS func(t *testing.T) workstation.Workstation) {
	t.Run("wakes at the time asked for", func(t *testing.T) { wakes(t, newWS(t)) })
	t.Run("programs", func(t *testing.T) { programs(t, newWS(t)) })
	t.Run("output is kept head and tail", func(t *testing.T) { output(t, newWS(t)) })
	t.Run("a tree is ended whole", func(t *testing.T) { trees(t, newWS(t)) })
	t.Run("errors", func(t *testing.T) { startErrors(t, newWS(t)) })
	t.Run("another keeper adopts", func(t *testing.T) { adopts(t, newWS(t), newWS(t)) })
	t.Run("machine", func(t *testing.T) {
		ws := newWS(t)
		if ws.Zone() == nil || ws.BootID() == "" || ws.BootID() != newWS(t).BootID() {
			t.Errorf("zone %v, boot %q", ws.Zone(), ws.BootID())
		}
	})
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

// order is for a script, with its exit in a channel.
func order(t *testing.T, body string, args ...string) (workstation.Order, <-chan workstation.Exit) {
	t.Helper()
	done := make(chan workstation.Exit, 1)
	return workstation.Order{
		Run: 7, Mark: "wstest-" + filepath.Base(t.TempDir()) + t.Name(), Argv: append([]string{Script(t, body)}, args...), Folder: t.TempDir(),
		Env:    []string{"PATH=/usr/bin:/bin", "ROOM=press room"},
		Output: workstation.Output{Path: filepath.Join(t.TempDir(), "7.txt"), Keep: 1000},
		Done:   func(x workstation.Exit) { done <- x },
	}, done
}

func start(t *testing.T, ws workstation.Workstation, o workstation.Order) workstation.Process {
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

func printed(t *testing.T, o workstation.Order) string {
	t.Helper()
	b, err := linux.ReadOutput(o.Output.Path)
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

func programs(t *testing.T, ws workstation.Workstation) {
	o, done := order(t, `echo "$1|$2|$ROOM|$HOME|$(pwd)"; echo oops >&2; read line || echo "no input"; tty; exit 3`, "a b", "*")
	var tee bytes.Buffer
	o.Output.Tee = &tee
	p := start(t, ws, o)
	x := ended(t, done)
	want := "a b|*|press room||" + o.Folder + "\noops\nno input\nnot a tty\n"
	if got := printed(t, o); got != want || tee.String() != want {
		t.Errorf("printed %q and %q, want %q", got, tee.String(), want)
	}
	if x.Status != 3 || x.Signal != "" || x.Lost || x.Usage.Output != int64(len(want)) || x.Usage.MaxRSS == 0 || p.PID() <= 1 {
		t.Errorf("exit %+v of process %d", x, p.PID())
	}
	if err := p.End("TERM"); err != nil {
		t.Errorf("ending what has ended: %v", err)
	}
	o, done = order(t, "kill -SEGV $$")
	start(t, ws, o)
	if x := ended(t, done); x.Signal != "SEGV" {
		t.Errorf("exit %+v, want signal SEGV", x)
	}
}

func output(t *testing.T, ws workstation.Workstation) {
	for _, tt := range []struct{ lines, want int }{{10, 0}, {99, 0}, {100, 0}, {101, 10}, {150, 500}, {5000, 49000}} {
		o, done := order(t, `i=1; while [ $i -le $1 ]; do printf 'line %04d\n' $i; i=$((i+1)); done`, itoa(tt.lines))
		start(t, ws, o)
		x := ended(t, done)
		got := printed(t, o)
		first, last := "line 0001\n", "line "+("0000" + itoa(tt.lines))[len(itoa(tt.lines)):]+"\n"
		if x.Usage.Output != int64(tt.lines*10) || x.Usage.Dropped != int64(tt.want) || !strings.HasPrefix(got, first) || !strings.HasSuffix(got, last) {
			t.Errorf("%d lines: %+v, %q … %q", tt.lines, x.Usage, got[:20], got[len(got)-20:])
		}
		if left := "[" + itoa(tt.want) + " bytes left out]"; strings.Contains(got, left) != (tt.want > 0) {
			t.Errorf("%d lines: %q said to be left out: %v", tt.lines, left, !strings.Contains(got, left))
		}
		if entries, _ := os.ReadDir(filepath.Dir(o.Output.Path)); len(entries) != 1 {
			t.Errorf("%d lines: %d files stay behind", tt.lines, len(entries))
		}
	}
}

func itoa(n int) string {
	if n < 10 {
		return string(rune('0' + n))
	}
	return itoa(n/10) + string(rune('0'+n%10))
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

func trees(t *testing.T, ws workstation.Workstation) {
	// A child that ignores TERM, one that has left the session and the tree,
	// one that has even taken off its mark, and the program itself.
	n, escape := 3, ""
	if linux.Contained() {
		n, escape = 4, `env -i PIDS="$1" setsid sh -c '(trap "" TERM; echo $$ >>"$PIDS"; while :; do sleep 1; done) & exit'`
	}
	o, done := order(t, `trap '' TERM
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
	o, done = order(t, "sleep 60 & wait")
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

func startErrors(t *testing.T, ws workstation.Workstation) {
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
		o, _ := order(t, "")
		o.Argv = []string{tt.program}
		if tt.folder != "" {
			o.Folder = tt.folder
		}
		_, err := ws.Start(o)
		if err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("start of %s: %v, want …%s…", tt.program, err, tt.want)
		}
		if entries, _ := os.ReadDir(filepath.Dir(o.Output.Path)); len(entries) != 0 {
			t.Errorf("start of %s leaves %d files behind", tt.program, len(entries))
		}
	}
}

// adopts: a program that runs on without its keeper is found again by the
// next one, by its process number or by its mark, and its output is kept.
func adopts(t *testing.T, first, second workstation.Workstation) {
	for _, known := range []bool{true, false} {
		gate := filepath.Join(t.TempDir(), "go")
		o, _ := order(t, `echo before; while [ ! -e "$1" ]; do sleep 0.05; done; echo after; exit 4`, gate)
		o.Done = func(workstation.Exit) {}
		p := start(t, first, o)
		lines(t, o.Output.Path, 1)
		pid := 0
		if known {
			pid = p.PID()
		}
		done := make(chan workstation.Exit, 1)
		o.Done = func(x workstation.Exit) { done <- x }
		adopted := second.Adopt(o, pid)
		if adopted == nil || adopted.PID() != p.PID() {
			t.Fatalf("adopted %v, want process %d", adopted, p.PID())
		}
		if err := os.WriteFile(gate, nil, 0o600); err != nil {
			t.Fatal(err)
		}
		if x := ended(t, done); !x.Lost && x.Status != 4 {
			t.Errorf("exit %+v, want status 4, or not known", x)
		}
		if second.Adopt(o, p.PID()) != nil {
			t.Error("what has ended was adopted")
		}
	}
}
