//go:build linux

package cli_test

import (
	"bytes"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"

	"timegate/workstation/wstest"
)

const waitingGate = "about = \"Send proofs\"\nrun = [\"/bin/true\"]\nopens = [\"boot + 45s\", { name = \"ready\", when = \"signal proofs-ready\" }]\n"

// TestCompletion asks for what can stand for the last word, as the shells do.
func TestCompletion(t *testing.T) {
	t.Parallel()
	home := homeWith(t, "label-sheet", longGate, "proof-inbox", waitingGate, "broken", "run = 5")
	for _, tt := range []struct{ typed, want string }{
		{"sh", "show\tone gate"},
		{"show|", "broken\nlabel-sheet\tRépétition des étiquettes\nproof-inbox\tSend proofs\n"},
		{"disable|p", "proof-inbox\tSend proofs\n"},
		{"disable|proof-inbox/", "proof-inbox/1\tboot + 45s\nproof-inbox/ready\tsignal proofs-ready\n"},
		{"send|", "proof-inbox"},
		{"keeper|re", "restart\t"},
		{"--plain|list|--so", "--sort\tin the order of a COLUMN\n"},
		{"list|--sort|st", "state\n"},
		{"list|--sort=st", "--sort=state\n"},
		{"change|label-sheet|--set|rules.bu", "rules.busy=\t"},
		{"change|label-sheet|--set|rules.busy=", "rules.busy=skip\nrules.busy=queue\n"},
		{"change|label-sheet|--set|enabled=", "enabled=true\nenabled=false\n"},
		{"rename|label-sheet|", ""},
		{"find|tru", "true\n"},
		{"add|x|--|", "//programs\n"},
		{"add|x|--|/bin/sh|", "//files\n"},
		{"apply|", "//files\n"},
		{"history|--png|", "//files\n"},
		{"help|ph", "phrases\n"},
		{"stage|unl", "unlock\t"},
		{"demo|for", "foresight\n"},
		{"nonsense|x|", ""},
		{"add|x|--open|every 20m fr", "every 20m from 00:00\nevery 20m from 01:00\n"},
		{"add|x|--open|first unl", "first unlock of the day\nfirst unlock of the week\n"},
		{"add|x|--open|at 08:15 on mon-f", "at 08:15 on mon-fri\nat 08:15 on mon-fri,\n"},
		{"add|x|--open|end ", "end of broken\nend of label-sheet\nend of proof-inbox\n"},
		{"add|x|--open|signal ", "signal proofs-ready\n"},
		{"add|x|--open|mount /et", "mount /etc/\n"},
		{"add|x|--open|at 08:15, zone europe/l", ""},
		{"preview|--phrase|at 08:15, zone Europe/Lond", "at 08:15, zone Europe/London\n"},
	} {
		words := strings.Split(tt.typed, "|")
		cmd := exec.Command(program, append([]string{"completion", "words", "--"}, words...)...)
		cmd.Env = append(os.Environ(), "TIMEGATE_HOME="+home)
		out, err := cmd.CombinedOutput()
		if got := string(out); err != nil || !strings.Contains(got, tt.want) || tt.want == "" && got != "" {
			t.Errorf("%q completes to %.200q, %v, want %q", words, got, err, tt.want)
		}
	}
	for line, want := range map[string]string{
		`timegate show `: "label-sheet",
		`timegate add x --open "at 08:15 on mon-f`:            "at 08:15 on mon-fri\n",
		`timegate change label-sheet --set rules.busy=q`:      "queue\n",
		`timegate change label-sheet --set "rules.busy=q`:     "rules.busy=queue\n",
		`timegate add x --open at\ 08:15\ `:                   "on\n",
		`timegate --home ` + home + ` send `:                  "proofs-ready",
		`timegate add x --open 'low disk /home `:              "low disk /home 10%\n",
		`timegate add it --open "boot" -- /bin/sh -c "echo '`: "//files\n",
	} {
		cmd := exec.Command(program, "completion", "words", "--line", "--", line)
		cmd.Env = append(os.Environ(), "TIMEGATE_HOME="+home)
		if out, err := cmd.CombinedOutput(); err != nil || !strings.Contains(string(out), want) {
			t.Errorf("%s completes to %.200q, %v, want %q", line, out, err, want)
		}
	}
}

// TestShells types a line into real shells, with the key that completes.
func TestShells(t *testing.T) {
	t.Parallel()
	home := homeWith(t, "label-sheet", longGate, "proof-inbox", waitingGate)
	for _, tt := range []struct {
		shell string
		args  []string
		load  string
	}{
		{"bash", []string{"--norc", "--noprofile", "-i"}, `eval "$(timegate completion bash)"`},
		{"zsh", []string{"-f", "-i"}, `autoload -Uz compinit && compinit -u -D; eval "$(timegate completion zsh)"`},
		{"fish", []string{"--no-config", "-i"}, `timegate completion fish | source`},
	} {
		t.Run(tt.shell, func(t *testing.T) {
			shell := wstest.Need(t, tt.shell, tt.shell)
			bin := t.TempDir()
			if err := os.Symlink(program, filepath.Join(bin, "timegate")); err != nil {
				t.Fatal(err)
			}
			master, slave := openPty(t, 140)
			cmd := exec.Command(shell, tt.args...)
			cmd.Env = []string{"PATH=" + bin + ":/usr/bin:/bin", "HOME=" + t.TempDir(), "TERM=xterm", "LANG=C.UTF-8", "TIMEGATE_HOME=" + home, "PS1=ready> "}
			cmd.Stdin, cmd.Stdout, cmd.Stderr = slave, slave, slave
			cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
			if err := cmd.Start(); err != nil {
				t.Fatal(err)
			}
			slave.Close()
			screen := reading(master)
			t.Cleanup(func() { master.Close(); cmd.Process.Kill(); cmd.Wait() })
			screen.typed(t, master, tt.load+"; echo load''ed\n", "loaded")
			for _, line := range []struct{ typed, want string }{
				{"timegate sho\t", "timegate show "},
				{"pro\t", "proof-inbox"},
				{"\x15timegate disable proof-inbox/re\t", "proof-inbox/ready"},
				{"\x15timegate change label-sheet --set rules.bu\t", "rules.busy="},
				{"que\t", "queue"},
				{"\x15timegate add x --open \"every 20m fr\t", "every 20m from "},
				{"09:00 t\t", "09:00 to "},
				{"17:00 on mon-f\t", "mon-fri"},
				{"\" --bu\t", "--busy"},
			} {
				screen.typed(t, master, line.typed, line.want)
			}
		})
	}
}

// glass is what a shell has written to its terminal.
type glass struct{ text chan string }

func reading(r io.Reader) *glass {
	g := &glass{make(chan string, 1000)}
	go func() {
		defer close(g.text)
		buf := make([]byte, 4096)
		for {
			n, err := r.Read(buf)
			if n > 0 {
				g.text <- string(buf[:n])
			}
			if err != nil {
				return
			}
		}
	}()
	return g
}

// typed types keys and waits for what must appear after them.
func (g *glass) typed(t *testing.T, w io.Writer, keys, want string) {
	t.Helper()
	io.WriteString(w, keys)
	var seen bytes.Buffer
	for deadline := time.After(20 * time.Second); ; {
		select {
		case s, ok := <-g.text:
			if !ok {
				t.Fatalf("the shell has ended: %q", seen.String())
			}
			seen.WriteString(s)
			if strings.Contains(strings.ReplaceAll(ansi.Strip(seen.String()), "\a", ""), want) {
				return
			}
		case <-deadline:
			t.Fatalf("after %q there is no %q on the screen: %q", keys, want, ansi.Strip(seen.String()))
		}
	}
}
