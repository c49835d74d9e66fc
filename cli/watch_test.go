//go:build linux

package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"golang.org/x/sys/unix"
)

// seen collects what a program draws.
type seen struct {
	mu   sync.Mutex // guards what follows
	text []byte
}

func (s *seen) follow(f *os.File) {
	buf := make([]byte, 4096)
	for {
		n, err := f.Read(buf)
		s.mu.Lock()
		s.text = append(s.text, buf[:n]...)
		s.mu.Unlock()
		if err != nil {
			return
		}
	}
}

func (s *seen) all() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return string(s.text)
}

// await waits until something is drawn, and forgets what came before.
func (s *seen) await(t *testing.T, what string) {
	t.Helper()
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		if text := ansi.Strip(s.all()); strings.Contains(text, what) {
			return
		}
	}
	t.Fatalf("%q is never drawn:\n%q", what, ansi.Strip(s.all()))
}

func (s *seen) forget() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.text = nil
}

// keeperOf runs a keeper of a home until the test ends, and returns what ends it before.
func keeperOf(t *testing.T, home string) (stop func()) {
	t.Helper()
	k := exec.Command(program, "--home", home, "keeper", "run")
	if err := k.Start(); err != nil {
		t.Fatal(err)
	}
	var once sync.Once
	stop = func() {
		once.Do(func() {
			k.Process.Signal(syscall.SIGTERM)
			k.Wait()
		})
	}
	t.Cleanup(stop)
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		if exec.Command(program, "--home", home, "stop", "cover-proof").Run() == nil {
			return stop
		}
	}
	t.Fatal("the keeper does not answer")
	return nil
}

// TestWatch looks at a real keeper in a real terminal: what is opened is seen to run, its
// output is followed, a keeper that goes and comes again is taken up, another size is drawn
// anew, and the terminal is left as it was, however the view ends.
func TestWatch(t *testing.T) {
	t.Parallel()
	bin := t.TempDir()
	script := filepath.Join(bin, "cover-proof")
	if err := os.WriteFile(script, []byte("#!/bin/sh\necho the ledger is laid out\nexec sleep 30\n"), 0o700); err != nil {
		t.Fatal(err)
	}
	home := homeWith(t, "cover-proof", "run = [\""+script+"\"]\nopens = [\"at 00:00 on sun\"]\n", "glue-warm", "run = [\"/bin/true\"]\nopens = [\"at 06:45\"]\n")
	stop := keeperOf(t, home)
	for _, end := range []string{"q", "\x03", "TERM"} {
		master, slave := openPty(t, 80)
		if err := unix.IoctlSetWinsize(int(master.Fd()), unix.TIOCSWINSZ, &unix.Winsize{Row: 24, Col: 80}); err != nil {
			t.Fatal(err)
		}
		before, err := unix.IoctlGetTermios(int(slave.Fd()), unix.TCGETS)
		if err != nil {
			t.Fatal(err)
		}
		cmd := exec.Command(program, "--home", home, "watch")
		cmd.Env = []string{"TERM=xterm-256color", "TZ=Europe/London", "PATH=/usr/bin:/bin", "HOME=/tmp"}
		cmd.Stdin, cmd.Stdout, cmd.Stderr = slave, slave, slave
		cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		var s seen
		read := make(chan struct{})
		go func() { s.follow(master); close(read) }()
		s.await(t, "gates 2")
		if end == "q" {
			watchSteps(t, &s, master, home, stop)
		}
		if end == "TERM" {
			cmd.Process.Signal(syscall.SIGTERM)
		} else {
			master.WriteString(end)
		}
		if err := cmd.Wait(); err != nil {
			t.Errorf("ended by %q: %v", end, err)
		}
		after, err := unix.IoctlGetTermios(int(slave.Fd()), unix.TCGETS)
		if err != nil || *after != *before {
			t.Errorf("ended by %q the terminal is otherwise than before: %v, %v, %v", end, err, before, after)
		}
		slave.Close()
		<-read // all of it
		text := s.all()
		on, off := strings.LastIndex(text, "\x1b[?1049h"), strings.LastIndex(text, "\x1b[?1049l")
		if off < on || strings.LastIndex(text, "\x1b[?25h") < strings.LastIndex(text, "\x1b[?25l") {
			t.Errorf("ended by %q it leaves its picture, or no cursor: %q", end, text[max(0, len(text)-200):])
		}
	}
	if out, err := exec.Command(program, "--home", home, "watch").CombinedOutput(); err == nil || !strings.Contains(string(out), "watch wants a terminal that can be drawn on") {
		t.Errorf("without a terminal: %v %s", err, out)
	}
}

// watchSteps types keys and looks at what comes.
func watchSteps(t *testing.T, s *seen, terminal *os.File, home string, stop func()) {
	t.Helper()
	terminal.WriteString("/cover\r")
	s.await(t, "1 with \"cover\"")
	terminal.WriteString("o")
	s.await(t, "running 1")
	s.await(t, "printed: the ledger is laid out")
	terminal.WriteString("f")
	s.await(t, "esc puts it away")
	s.forget()
	terminal.WriteString("q")
	s.await(t, "opened by hand")
	terminal.WriteString("w")
	s.await(t, "why cover-proof")
	s.forget()
	terminal.WriteString("qs")
	s.await(t, "End the program of cover-proof? y or n")
	terminal.WriteString("y")
	s.await(t, "stopped")
	terminal.WriteString("d")
	s.await(t, "off")
	stop()
	s.await(t, "no keeper answers")
	keeperOf(t, home)
	text := ""
	for n := range uint16(100) { // another size has all drawn anew
		s.forget()
		if err := unix.IoctlSetWinsize(int(terminal.Fd()), unix.TIOCSWINSZ, &unix.Winsize{Row: 60, Col: 200 + n%2}); err != nil {
			t.Fatal(err)
		}
		s.await(t, strings.Repeat("─", 150))
		s.await(t, "on mains")
		if text = ansi.Strip(s.all()); !strings.Contains(text, "no keeper answers") {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	if strings.Contains(text, "no keeper answers") {
		t.Errorf("the keeper is there again, and not seen: %q", text)
	}
	s.await(t, "stopped") // what the journal knows is there again
}

// TestDemoWatch plays the demo's day in the live view, and quits.
func TestDemoWatch(t *testing.T) {
	t.Parallel()
	master, slave := openPty(t, 120)
	cmd := exec.Command(program, "demo", "watch")
	cmd.Env = []string{"TERM=xterm-256color", "TZ=Europe/London", "PATH=/usr/bin:/bin", "HOME=/tmp"}
	cmd.Stdin, cmd.Stdout, cmd.Stderr = slave, slave, slave
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	slave.Close()
	var s seen
	read := make(chan struct{})
	go func() { s.follow(master); close(read) }()
	s.await(t, "gates 8")
	s.await(t, "STAGED")
	s.await(t, "humidity-log")
	master.WriteString("q")
	if err := cmd.Wait(); err != nil {
		t.Error(err)
	}
	<-read
	if text := s.all(); !strings.Contains(text[strings.LastIndex(text, "\x1b[?1049l"):], "The files are gone again") {
		t.Errorf("it ends with %q", text[max(0, len(text)-300):])
	}
	if out, err := exec.Command(program, "demo", "watch").CombinedOutput(); err == nil || !strings.Contains(string(out), "wants a terminal") {
		t.Errorf("without a terminal: %v %s", err, out)
	}
}
