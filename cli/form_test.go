//go:build linux

package cli_test

import (
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
)

// a turn of a conversation: what is waited for, and what is typed then.
type turn struct{ shown, typed string }

// converse runs the program in a terminal; each turn waits until something is shown
// that was not there at the turn before.
func converse(t *testing.T, home string, turns []turn, args ...string) (text string, status int) {
	t.Helper()
	master, slave := openPty(t, 100)
	cmd := exec.Command(program, args...)
	cmd.Env = []string{"TERM=xterm-256color", "TZ=Europe/London", "PATH=/usr/bin:/bin", "HOME=/tmp", "TIMEGATE_HOME=" + home, "EDITOR=" + os.Getenv("EDITOR")}
	cmd.Stdin, cmd.Stdout, cmd.Stderr = slave, slave, slave
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	slave.Close()
	chunks := make(chan string)
	go func() {
		defer close(chunks)
		buf := make([]byte, 4096)
		for {
			n, err := master.Read(buf)
			if err != nil {
				return
			}
			chunks <- string(buf[:n])
		}
	}()
	patience := time.After(time.Minute)
	var all, fresh strings.Builder
	for _, turn := range turns {
		for !strings.Contains(ansi.Strip(fresh.String()), turn.shown) {
			select {
			case chunk, open := <-chunks:
				if !open {
					t.Fatalf("it ended before it showed %q:\n%s", turn.shown, ansi.Strip(all.String()))
				}
				all.WriteString(chunk)
				fresh.WriteString(chunk)
			case <-patience:
				cmd.Process.Kill()
				t.Fatalf("it did not show %q:\n%s", turn.shown, ansi.Strip(all.String()))
			}
		}
		fresh.Reset()
		io.WriteString(master, turn.typed)
	}
	for open := true; open; {
		var chunk string
		select {
		case chunk, open = <-chunks:
			all.WriteString(chunk)
		case <-patience:
			cmd.Process.Kill()
			t.Fatalf("it did not end:\n%s", ansi.Strip(all.String()))
		}
	}
	cmd.Wait()
	return ansi.Strip(strings.ReplaceAll(all.String(), "\r\n", "\n")), cmd.ProcessState.ExitCode()
}

// TestForms: a name alone asks for all the rest, one question at a time, forth and
// back, and refuses what is wrong; of a gate that is there it changes what is
// answered otherwise, and nothing else.
func TestForms(t *testing.T) {
	home := t.TempDir()
	file := filepath.Join(home, "gates", "stock-count.toml")
	const back = "\x1b[Z"
	text, status := converse(t, home, []turn{ // the screen is redrawn in parts: each waits for words of its own page
		{"stock-count --all", "/bin/nothing-there\r"}, {"does not exist", strings.Repeat("\x7f", 20)}, {"stock-count --all", "/bin/echo 'shelf a' --all\r"},
		{"Count the stock", "Count\r"}, {"07:30", "at 99\r"}, {"expected", strings.Repeat("\x7f", 5)}, {"07:30", "every other friday"}, {"guess", "\r"},
		{"empty for none", back}, {"friday", "\r"}, {"empty for none", "unlock\r"}, {"unseen", "\r"}, {"ticks", " \r"}, {"mount point", "\r"}, {"skip that", "\x1b[B\r"}, {"a half apart", "x"}, {"x", "\r"}, {"write a number", "\x7f3\r"}, {"30m", "2h\r"},
		{"Write ", "y\n"},
	}, "add", "stock-count")
	data, err := os.ReadFile(file)
	want := regexp.MustCompile(`^about = "Count"
run   = \["/bin/echo", "shelf a", "--all"\]
opens = \[
  "at 09:00 on fri every 2 weeks from \d{4}-\d\d-\d\d",
  "unlock",
\]

\[needs\]
power = "mains"

\[limits\]
longest = "2h"

\[again\]
times = 3

\[rules\]
missed = "once"
$`)
	if err != nil || status != 0 || !want.Match(data) {
		t.Fatalf("status %d, %v:\n%s\n%s", status, err, data, text)
	}
	os.WriteFile(file, append([]byte("# ours\n"), data...), 0o600)
	before, _ := os.ReadFile(file)
	text, status = converse(t, home, []turn{
		{"shelf a", "\r"}, {"Count", " shelves\r"}, {"2 weeks", "\r"}, {"unlock", "\r"}, {"unseen", "\r"}, {"ticks", "\r"}, {"mount point", "\r"}, {"skip that", "\r"}, {"a half apart", "\r"}, {"30m", "\r"},
		{"Write ", "\n"},
	}, "change", "stock-count")
	if data, _ := os.ReadFile(file); status != 0 || string(data) != strings.Replace(string(before), `"Count"`, `"Count shelves"`, 1) {
		t.Errorf("status %d:\n%s\n%s", status, data, text)
	}
	if text, status = converse(t, home, []turn{{"stock-count --all", "\x03"}}, "add", "glue-warm"); status != 1 || !strings.Contains(text, "nothing was written") {
		t.Errorf("given up: status %d\n%s", status, text)
	}
	// What was typed is kept as a draft that is off, or shown as the call that would make it.
	typed := []turn{{"stock-count --all", "/bin/echo drying\r"}, {"Count the stock", "Dry\r"}, {"07:30", "at 08:00\r"}, {"empty for none", "\x03"}}
	text, status = converse(t, home, append(slices.Clone(typed), turn{"Keep what", "\r"}, turn{"Write ", "\r"}), "add", "glue-warm")
	if data, _ := os.ReadFile(filepath.Join(home, "gates", "glue-warm.toml")); status != 0 || !strings.Contains(string(data), "at 08:00") || !strings.Contains(string(data), "enabled = false") {
		t.Errorf("a draft: status %d\n%s\n%s", status, data, text)
	}
	if text, status = converse(t, home, append(typed, turn{"Keep what", "n\r"}), "add", "glue-dry"); status != 1 || !strings.Contains(strings.Join(strings.Fields(text), " "), "timegate add glue-dry --open 'at 08:00' --about Dry -- /bin/echo drying") {
		t.Errorf("no draft: status %d\n%s", status, text)
	}
	t.Setenv("EDITOR", "sed -i s/unlock/unlok/")
	if text, status = converse(t, home, []turn{{"Open it again? [Y/n]", "n\n"}}, "edit", "stock-count"); status != 2 || !strings.Contains(text, `write "unlock"`) {
		t.Errorf("edited wrongly: status %d\n%s", status, text)
	}
}
