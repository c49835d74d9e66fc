//go:build linux

package cli_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"golang.org/x/sys/unix"
)

// openPty returns both ends of a new pseudo-terminal of a width.
func openPty(t *testing.T, columns uint16) (master, slave *os.File) {
	t.Helper()
	master, err := os.OpenFile("/dev/ptmx", os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	fd := int(master.Fd())
	n, err := unix.IoctlGetInt(fd, unix.TIOCGPTN)
	if err == nil {
		err = unix.IoctlSetPointerInt(fd, unix.TIOCSPTLCK, 0)
	}
	if err == nil {
		err = unix.IoctlSetWinsize(fd, unix.TIOCSWINSZ, &unix.Winsize{Row: 40, Col: columns})
	}
	if err != nil {
		t.Fatal(err)
	}
	slave, err = os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|unix.O_NOCTTY, 0)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { master.Close() })
	return master, slave
}

// inTerminal runs the program in a terminal and types answers.
func inTerminal(t *testing.T, columns uint16, env []string, typed string, args ...string) (text string, status int) {
	t.Helper()
	master, slave := openPty(t, columns)
	cmd := exec.Command(program, args...)
	cmd.Env = append([]string{"TERM=xterm-256color", "TZ=Europe/London", "PATH=/usr/bin:/bin", "HOME=/tmp"}, env...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = slave, slave, slave
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	slave.Close()
	io.WriteString(master, typed)
	var out bytes.Buffer
	io.Copy(&out, master) // ends with an error when the program has let go of the terminal
	cmd.Wait()
	return strings.ReplaceAll(out.String(), "\r\n", "\n"), cmd.ProcessState.ExitCode()
}

// homeWith makes a home with gate files, given as name and content in turn.
func homeWith(t *testing.T, files ...string) string {
	t.Helper()
	dir := t.TempDir()
	if err := os.Mkdir(filepath.Join(dir, "gates"), 0o700); err != nil {
		t.Fatal(err)
	}
	for i := 0; i < len(files); i += 2 {
		if err := os.WriteFile(filepath.Join(dir, "gates", files[i]+".toml"), []byte(files[i+1]), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

const longGate = "about = \"Répétition des étiquettes\"\nrun = [\"/opt/larkspur/bin/label-sheet\", \"--paper\", \"A4 à la française\", \"--copies\", \"12\", \"--printer\", \"press-room\"]\nopens = [\"at 08:15 on weekdays\"]\n"

func TestTablesFitTheTerminal(t *testing.T) {
	t.Parallel()
	home := homeWith(t, "label-sheet", longGate, "a-gate-with-a-rather-long-name-that-takes-much-room", longGate)
	for _, columns := range []uint16{60, 80, 141} {
		for _, args := range [][]string{{"list"}, {"preview"}, {"week"}} {
			text, status := inTerminal(t, columns, []string{"NO_COLOR=1"}, "", append([]string{"--home", home}, args...)...)
			if status != 0 {
				t.Errorf("%v: status %d\n%s", args, status, text)
			}
			for line := range strings.Lines(text) {
				n := ansi.StringWidth(strings.TrimRight(line, "\n"))
				isTable := args[0] == "list" || strings.HasPrefix(line, "Mon ") || strings.HasPrefix(line, "DUE")
				if isTable && n > int(columns) && !(args[0] == "week" && columns < 80) {
					t.Errorf("%v in %d columns has a line of %d: %q", args, columns, n, line)
				}
			}
		}
	}
}

func TestColours(t *testing.T) {
	t.Parallel()
	home := homeWith(t, "label-sheet", longGate, "broken", "run = 5")
	for _, tt := range []struct {
		env    []string
		args   []string
		colour bool
	}{
		{nil, nil, true},
		{[]string{"NO_COLOR=1"}, nil, false},
		{nil, []string{"--plain"}, false},
		{[]string{"TERM=dumb"}, nil, false},
	} {
		text, _ := inTerminal(t, 120, tt.env, "", slices.Concat([]string{"--home", home}, tt.args, []string{"list"})...)
		if got := strings.Contains(text, "\x1b[3"); got != tt.colour {
			t.Errorf("%v %v: colour %v, want %v: %q", tt.env, tt.args, got, tt.colour, text)
		}
		if !strings.Contains(text, "broken") || !strings.Contains(text, "no keeper is running") {
			t.Errorf("%v %v: the states are not said in words: %q", tt.env, tt.args, text)
		}
	}
	text, _ := inTerminal(t, 120, nil, "", "--home", home, "--plain", "list")
	if i := strings.IndexFunc(strings.ReplaceAll(text, "française", ""), func(r rune) bool { return r == '·' || r == '…' }); i >= 0 {
		t.Errorf("--plain prints signs beyond ASCII: %q", text)
	}
}

func TestQuestions(t *testing.T) {
	t.Parallel()
	for _, tt := range []struct {
		typed string
		done  bool
	}{{"y\n", true}, {"yes\n", true}, {"n\n", false}, {"\n", false}, {"whatever\n", false}} {
		home := homeWith(t, "label-sheet", longGate)
		file := filepath.Join(home, "gates", "label-sheet.toml")
		text, status := inTerminal(t, 120, nil, tt.typed, "--home", home, "remove", "label-sheet")
		_, err := os.Stat(file)
		if gone := err != nil; gone != tt.done || status != 0 || !strings.Contains(text, "Remove the gate label-sheet? [y/N]") {
			t.Errorf("remove, answered %q: gone %v, want %v; status %d\n%s", tt.typed, gone, tt.done, status, text)
		}
		home = homeWith(t)
		text, _ = inTerminal(t, 120, nil, tt.typed, "--home", home, "add", "job-board", "--open", "at 07:30 on weekdays", "--", "/bin/true")
		_, err = os.Stat(filepath.Join(home, "gates", "job-board.toml"))
		if written := err == nil; written != (tt.done || tt.typed == "\n") || !strings.Contains(text, "at 07:30 on weekdays") || !strings.Contains(text, "Write ") {
			t.Errorf("add, answered %q: written %v, want %v\n%s", tt.typed, written, tt.done, text)
		}
	}
	home := homeWith(t)
	if text, status := inTerminal(t, 120, nil, "", "--home", home, "add", "job-board", "--open", "boot", "--yes", "--", "/bin/true"); status != 0 || strings.Contains(text, "[y/N]") {
		t.Errorf("--yes asks: %d %s", status, text)
	}
}

// TestDemo plays the demo: plain lines without a terminal, and the files stay
// where they are wanted.
func TestDemo(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "larkspur")
	began := time.Now()
	out, err := exec.Command(program, "demo", "--keep", dir).CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	if took := time.Since(began); took > 2*time.Minute { // it hangs
		t.Errorf("the demo took %v", took)
	}
	text := string(out)
	for _, want := range []string{"STAGED", "8 gates checked: 0 errors", "* boot",
		"* device label-printer", "repeat", "* logon maren", "overran", "proofs matching *.pdf quiet 5s; 2 files", "* battery 64%",
		"what it needs was lost: mains power", "* resume", "missed", "catch-up", "* logoff maren", "$ timegate history", "$ timegate list", "$ timegate why",
		"but: humidity-log was missed once, at 14:00\nexit status 3", "run 3, catch-up", "ok: 3 things as expected", "28 starts as they were, 1 new", dir} {
		if !strings.Contains(text, want) {
			t.Errorf("the demo does not show %q", want)
		}
	}
	if strings.ContainsAny(text, "\x1b\r") {
		t.Error("the demo prints control signs to what is no terminal")
	}
	history, err := exec.Command(program, "--home", filepath.Join(dir, "home"), "history", "--json").Output()
	if err != nil {
		t.Fatal(err)
	}
	var entries []map[string]any
	if err := json.Unmarshal(history, &entries); err != nil || len(entries) < 25 {
		t.Errorf("%d entries stay behind, %v", len(entries), err)
	}
	// What was recorded, played through the gates as they are, is what it was; a change is
	// just that change.
	home := filepath.Join(dir, "home")
	replay := func(args ...string) string {
		cmd := exec.Command(program, append([]string{"--home", home}, args...)...)
		cmd.Env = append(os.Environ(), "TZ=Europe/London") // where the demo plays
		out, _ := cmd.CombinedOutput()
		return string(out)
	}
	page, err := os.ReadFile(filepath.Join(dir, "report.html"))
	if err != nil || !strings.Contains(string(page), ">vault-copy<") || !strings.Contains(string(page), "what it needs was lost: mains power") || !strings.Contains(string(page), "<svg") {
		t.Errorf("the report of the day lacks something: %v\n%s", err, page)
	}
	replay("change", "humidity-log", "--set", "rules.missed=skip", "--yes") // as it was on that day
	if got := replay("replay", "2026-11-30"); !strings.Contains(got, "28 starts as they were\n") || strings.Contains(got, "new") {
		t.Errorf("a replay of the day gives\n%s", got)
	}
	if got := replay("change", "vault-copy/1", "--open", "at 12:30", "--against", "2026-11-30", "--yes"); !strings.Contains(got, "27 starts as they were, 1 moved\n") || !regexp.MustCompile(`Mon 30 Nov (2026 )?12:30`).MatchString(got) {
		t.Errorf("the change against that day gives\n%s", got)
	}
	if got := replay("replay", "2026-11-30", "--json"); !strings.Contains(got, `"what": "moved"`) || !strings.Contains(got, `"same": 27`) {
		t.Errorf("in JSON: %s", got)
	}
	if out, err := exec.Command(program, "demo", "hindsight").CombinedOutput(); err == nil || !strings.Contains(string(out), "there are day, foresight, report, watch, estate") {
		t.Errorf("a chapter that is not there: %v %s", err, out)
	}
	if out, err := exec.Command(program, "demo", "--keep", dir).CombinedOutput(); err == nil || !strings.Contains(string(out), "not empty") {
		t.Errorf("a folder that is not empty is taken: %s", out)
	}
}

// TestJSON: what other programs rely on is there, whatever else is.
func TestJSON(t *testing.T) {
	t.Parallel()
	home := homeWith(t, "label-sheet", longGate, "broken", "run = 5")
	for _, tt := range []struct {
		args []string
		keys string
	}{
		{[]string{"list"}, "about as enabled last name next openings run running"},
		{[]string{"preview", "label-sheet", "--count", "2"}, "due gate note opening phrase"},
		{[]string{"check"}, "code file gate line message remedy severity"},
		{[]string{"week"}, "cells from to zone"},
	} {
		out, _ := exec.Command(program, slices.Concat([]string{"--home", home, "--json"}, tt.args)...).Output()
		var one map[string]any
		var list []map[string]any
		if json.Unmarshal(out, &list) == nil && len(list) > 0 {
			one = list[0]
		} else if err := json.Unmarshal(out, &one); err != nil {
			t.Errorf("%v: %v\n%s", tt.args, err, out)
		}
		for _, key := range strings.Fields(tt.keys) {
			if _, ok := one[key]; !ok {
				t.Errorf("%v: the key %q is missing in %v", tt.args, key, one)
			}
		}
	}
}

// TestTryInput: a program that is tried reads from the terminal where that is asked for, and
// else has none; one that runs as another account never gets it.
func TestTryInput(t *testing.T) {
	t.Parallel()
	home := homeWith(t, "stock-count", "run = [\"/bin/sh\", \"-c\", \"test -t 0 && test -t 1 && echo on a terminal; read -r n; echo counted $n\"]\nopens = [\"boot\"]\n",
		"other", "run = [\"/bin/true\"]\nopens = [\"boot\"]\n[as]\nuser = \"daemon\"\n")
	for _, tt := range []struct {
		args   []string
		want   string
		status int
	}{
		{[]string{"try", "-i", "stock-count"}, "on a terminal\ncounted 12\n", 0},
		{[]string{"try", "stock-count"}, "\ncounted\n", 0},
		{[]string{"try", "--input", "--as-keeper", "stock-count"}, "leave out --input", 2},
		{[]string{"try", "--input", "--json", "stock-count"}, "leave one out", 2},
		{[]string{"try", "--input", "other"}, "", 2},
	} {
		text, status := inTerminal(t, 120, nil, "12\n", append([]string{"--home", home}, tt.args...)...)
		if !strings.Contains(text, tt.want) || status != tt.status {
			t.Errorf("%v: status %d\n%s", tt.args, status, text)
		}
	}
}
