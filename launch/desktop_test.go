//go:build linux

package launch

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/desktop"
	"timegate/home"
	"timegate/workstation"
	"timegate/workstation/wstest"
)

// TestWithoutDesktop: a program that shows windows is told of where its gate has no desktop,
// by the menu or by its libraries; a console program is not, nor what is led to a display.
func TestWithoutDesktop(t *testing.T) {
	wstest.Need(t, "xterm", "xterm")
	menu := t.TempDir()
	before := desktop.Folders
	desktop.Folders = []string{menu}
	defer func() { desktop.Folders = before }()
	for name, text := range map[string]string{
		"board": "[Desktop Entry]\nType=Application\nName=Job board\nExec=/bin/cat %F\nTerminal=false\n",
		"count": "[Desktop Entry]\nType=Application\nName=Stock count\nExec=/bin/ls\nTerminal=true\n",
	} {
		if err := os.WriteFile(filepath.Join(menu, name+".desktop"), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	l := &Launcher{Home: home.At(t.TempDir(), gate.User)}
	for text, want := range map[string]string{
		`run = ["/bin/cat"]`:                                            "warning: cat shows windows (the menu has it as Job board)",
		`run = ["/bin/cat", "jobs.txt"]`:                                "warning: cat shows windows",
		`run = ["/bin/cat", "--number"]`:                                "note: cat shows windows",
		"run = [\"/bin/cat\", \"--number\"]\nas.window = \"minimised\"": "warning: cat shows windows",
		"run = [\"/bin/cat\"]\nas.env = {DISPLAY = \":7\"}":             "",
		`run = ["/bin/ls"]`:                                             "",
		`run = ["/bin/true"]`:                                           "",
		`run = ["/nowhere/at/all"]`:                                     "",
		"run = [\"/bin/true\"]\nas.window = \"none\"":                   "note: as.window = \"none\" changes nothing",
		`run = ["/usr/bin/xterm"]`:                                      "note: xterm shows windows (it is made with lib",
		"run = [\"/usr/bin/xterm\"]\nas.window = \"none\"":              "warning: xterm shows windows",
	} {
		g, found := gate.Read("job-board", "job-board.toml", []byte(text), gate.Options{Scope: gate.User})
		if g == nil {
			t.Fatalf("%s: %v", text, found)
		}
		got := ""
		for _, x := range l.Windows(g) {
			got += string(x.Severity) + ": " + x.Message + "\n"
		}
		if want == "" && got != "" || !strings.HasPrefix(got, want) || strings.Count(got, "\n") > 1 {
			t.Errorf("%s\n%q, want %q", text, got, want)
		}
	}
}

// TestWhoseDesktop: with root's rights a program comes to the desktop of the person who is
// meant, by the logon that opened the gate, its needs, or whose is in front; else it is said
// who is there.
func TestWhoseDesktop(t *testing.T) {
	t.Parallel()
	root, daemon := workstation.Session{UID: 0, Vars: []string{"DISPLAY=:0"}}, workstation.Session{UID: 1, Vars: []string{"DISPLAY=:1"}}
	front := daemon
	front.InFront = true
	logon := &engine.Cause{Event: phrase.Logon, Account: "root"}
	for _, tt := range []struct {
		list   []workstation.Session
		cause  *engine.Cause
		people string
		want   string // the display, or a part of the error
	}{
		{nil, nil, "any", "nobody is logged on"},
		{[]workstation.Session{root}, nil, "any", ":0"},
		{[]workstation.Session{root, root}, nil, "any", ":0"},
		{[]workstation.Session{root, daemon}, nil, "any", "root and daemon"},
		{[]workstation.Session{root, front}, nil, "any", ":1"},
		{[]workstation.Session{root, front}, logon, "any", ":0"},
		{[]workstation.Session{root, daemon}, logon, "daemon", ":0"},
		{[]workstation.Session{root, daemon}, nil, "daemon", ":1"},
		{[]workstation.Session{root, daemon}, &engine.Cause{Event: phrase.Logon, Account: "maren-who-is-gone"}, "any", `people = "root"`},
	} {
		g := gate.Default("job-board")
		g.As.Elevated, g.As.Desktop, g.Needs.People = true, true, tt.people
		s, err := (&Launcher{Sessions: func(int) []workstation.Session { return tt.list }}).sessionOf(g, account{}, tt.cause)
		got := strings.Join(s.Vars, " ")
		if err != nil {
			got = err.Error()
		}
		if !strings.Contains(got, tt.want) {
			t.Errorf("%v, %v, needs %s: %s, want %s", tt.list, tt.cause, tt.people, got, tt.want)
		}
	}
}
