//go:build linux

package cli_test

import (
	"bytes"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	_ "timegate/cli" // so that no cached result outlives a change of the program
	"timegate/core/coretest"
	"timegate/workstation/wstest"
)

var update = flag.Bool("update", false, "rewrite the expected output in testdata")

// program is the built program.
var program string

func TestMain(m *testing.M) {
	flag.Parse()
	os.Exit(func() int {
		coretest.Programs()
		dir, err := os.MkdirTemp("", "timegate-test-")
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		defer os.RemoveAll(dir)
		program = filepath.Join(dir, "timegate")
		// await waits until a command succeeds, at most 20 seconds.
		if err := os.WriteFile(filepath.Join(dir, "await"), []byte("#!/bin/sh\nfor i in $(seq 400); do sh -c \"$1\" >/dev/null 2>&1 && exit; sleep 0.05; done\n"), 0o755); err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		build := exec.Command("go", "build", "-o", program, "timegate")
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := build.CombinedOutput(); err != nil {
			fmt.Fprintf(os.Stderr, "build: %v\n%s", err, out)
			return 1
		}
		return coretest.Main(m)
	}())
}

// mask stands for what differs from run to run.
type mask struct {
	re *regexp.Regexp
	by string
}

var masks = []mask{
	{regexp.MustCompile(`(?m)^readings .*`), "readings  NOW"},
	{regexp.MustCompile(`, <?\d+ \w+( \d+ \w+)? processor(, [\d.]+ \w+ memory)?(, [\d.]+ \w+ read and [\d.]+ \w+ written on disks)?`), ""},
	{regexp.MustCompile(`\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?(Z|[+-]\d\d:\d\d)`), "TIME"},
	{regexp.MustCompile(`(Mon|Tue|Wed|Thu|Fri|Sat|Sun) \d+ \w{3}( \d{4})? \d\d:\d\d(:\d\d)?`), "DAY"},
	{regexp.MustCompile(`(in|after) \d+(\.\d)? (ms|s|min|h|d|days|years)( \d+ (s|min|h))?`), "$1 SPAN"},
	{regexp.MustCompile(`\d+(\.\d)? (ms|s|min|h)( \d+ (s|min))? ago|\bnow\b`), "AGO"},
	{regexp.MustCompile(`(<|\b)\d+(\.\d)? ?(ms|s)\b`), "SPAN"},
	{regexp.MustCompile(`\b\d\d:\d\d:\d\d\b`), "CLOCK"},
	{regexp.MustCompile(`\d+ manual pages`), "MANUAL PAGES"},
	{regexp.MustCompile(`\d+ files \(manual`), "FILES (manual"},
	{regexp.MustCompile(`process \d+|"pid": \d+`), "PID"},
	{regexp.MustCompile(`-\d{8}-\d{6}`), "-TIME"},
	{regexp.MustCompile(`\d+ starts? in 28 days.*`), "STARTS"},
	{regexp.MustCompile(`  +`), "  "},
	{regexp.MustCompile(`as  \w+|"as": "\w+"`), "as  ME"},
	{regexp.MustCompile(`when \w+ ((?:un)?locks the desktop|logs o)`), "when ME $1"},
	{regexp.MustCompile(`in (?:/root|/home/[\w ]+|/)(:|\n)`), "in $$HOME$1"},
	{regexp.MustCompile(`"(user_s|system_s|max_rss|read|written|late_s|takes_s)": [\d.]+`), `"$1": N`},
}

// TestScripts plays the files in testdata/script. Each is a list of shell
// commands, "$ …", with what they print: on standard error behind "! ", and
// the exit status behind "? " where it is not 0. $WORK is the folder in which
// they run; "mask" in the first line lets times and the like pass, and a line
// "# needs PROGRAM PACKAGE" or "# needs root" says where it cannot be played.
func TestScripts(t *testing.T) {
	t.Parallel()
	files, err := filepath.Glob("testdata/script/*.txt")
	if err != nil || len(files) == 0 {
		t.Fatal("no scripts", err)
	}
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txt"), func(t *testing.T) {
			t.Parallel()
			playScript(t, file)
		})
	}
}

func playScript(t *testing.T, file string) {
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(text)) {
		if f := strings.Fields(line); len(f) == 3 && strings.HasPrefix(line, "# needs ") && f[2] == "root" {
			wstest.Root(t)
		} else if len(f) == 4 && strings.HasPrefix(line, "# needs ") {
			wstest.Need(t, f[2], f[3])
		}
	}
	work, err := os.MkdirTemp("", "w")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		exec.Command("/bin/sh", "-c", "kill $(cat "+work+"/pid)").Run() // a keeper that a script which failed has left
		os.RemoveAll(work)
	})
	masked := strings.HasPrefix(string(text), "# mask")
	var got bytes.Buffer
	begun := false
	for line := range strings.Lines(string(text)) {
		command, ok := strings.CutPrefix(line, "$ ")
		if !ok {
			if strings.HasPrefix(line, "#") && !begun {
				got.WriteString(line)
			}
			continue
		}
		begun = true
		got.WriteString(line)
		got.WriteString(shell(t, work, command, masked))
	}
	if *update {
		if err := os.WriteFile(file, got.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
	} else if got.String() != string(text) {
		t.Errorf("output differs (-update rewrites it):\n%s", difference(string(text), got.String()))
	}
}

// shell runs a command and returns what it printed, in the form of a script.
func shell(t *testing.T, work, command string, masked bool) string {
	t.Helper()
	cmd := exec.Command("/bin/sh", "-c", command)
	cmd.Dir = work
	cmd.Env = []string{"PATH=" + filepath.Dir(program) + ":/usr/bin:/bin", "HOME=" + work, "TIMEGATE_HOME=" + work + "/tg", "TZ=Europe/London", "WORK=" + work}
	var stdout, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	err := cmd.Run()
	var b strings.Builder
	b.Write(stdout.Bytes())
	for line := range strings.Lines(stderr.String()) {
		b.WriteString("! " + line)
	}
	var ee *exec.ExitError
	if errors.As(err, &ee) {
		fmt.Fprintf(&b, "? %d\n", ee.ExitCode())
	} else if err != nil {
		t.Fatal(err)
	}
	out := strings.ReplaceAll(b.String(), work, "$WORK")
	if masked {
		for _, m := range masks {
			out = m.re.ReplaceAllString(out, m.by)
		}
	}
	return out
}

func difference(want, got string) string {
	w, g := strings.Split(want, "\n"), strings.Split(got, "\n")
	for i := range min(len(w), len(g)) {
		if w[i] != g[i] {
			const more = 12 // lines
			return fmt.Sprintf("line %d\nwant %s\n got %s", i+1, strings.Join(w[i:min(len(w), i+more)], "\n     "), strings.Join(g[i:min(len(g), i+more)], "\n     "))
		}
	}
	return fmt.Sprintf("%d lines instead of %d", len(g), len(w))
}

// TestHelp keeps the help of every command: what is promised there is the
// public surface.
func TestHelp(t *testing.T) {
	t.Parallel()
	var b strings.Builder
	commands := []string{""}
	short := output(t, "help")
	if lines := strings.Split(strings.TrimSuffix(short, "\n"), "\n"); len(lines) > 24 || short != output(t) || slices.ContainsFunc(lines, func(l string) bool { return len(l) > 80 }) {
		t.Errorf("the first help does not fit on a screen, or is not what is told without a command:\n%s", short)
	}
	root := output(t, "help", "all")
	b.WriteString(short + "\n---- all\n" + root)
	for _, line := range strings.Split(root, "\n") {
		if f := strings.Fields(line); strings.HasPrefix(line, "  ") && !strings.HasPrefix(line, "   ") && len(f) > 0 && regexp.MustCompile(`^[a-z]+$`).MatchString(f[0]) && f[0] != "timegate" && !strings.Contains(root[strings.Index(root, "topics,"):], line) {
			commands = append(commands, f[0])
		}
	}
	commands = append(commands, "keeper run", "keeper status", "keeper install", "keeper uninstall", "startup off", "startup on", "startup adopt", "startup release")
	for _, c := range commands[1:] {
		text := output(t, append(strings.Fields(c), "--help")...)
		if !strings.Contains(text, "\nexamples\n  timegate ") && c != "keeper" {
			t.Errorf("the help of %q has no examples:\n%s", c, text)
		}
		fmt.Fprintf(&b, "\n---- %s\n%s", c, text)
	}
	golden := "testdata/help.txt"
	want, _ := os.ReadFile(golden)
	if *update {
		if err := os.WriteFile(golden, []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	} else if b.String() != string(want) {
		t.Errorf("the help differs (-update rewrites it):\n%s", difference(string(want), b.String()))
	}
}

func output(t *testing.T, args ...string) string {
	t.Helper()
	out, err := exec.Command(program, args...).Output()
	if err != nil {
		t.Errorf("timegate %s: %v", strings.Join(args, " "), err)
	}
	return string(out)
}
