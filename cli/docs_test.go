//go:build linux

package cli_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"

	"timegate/home"
)

// docMasks let pass what differs from one reading of a page to the next.
var docMasks = append([]mask{
	{regexp.MustCompile(`\d+(\.\d+)?\s+[kMG]?B\b`), "SIZE"},
	{regexp.MustCompile(`SIZE\s+(more|less)|no\s+change`), "SIZE"},
	{regexp.MustCompile(`\d{4}-\d\d-\d\d`), "DATE"},
	{regexp.MustCompile(`\d+ start(s)? in 28 days.*`), "STARTS"},
	{regexp.MustCompile(`<?\b\d+ (ms|s|min|h|d|days)\b( \d+ (s|min|h))?`), "SPAN"},
	{regexp.MustCompile(`(Mon|Tue|Wed|Thu|Fri|Sat|Sun) \d+ [A-Z]\w\w( \d{4})? \d\d:\d\d(:\d\d)?`), "DAY"},
	{regexp.MustCompile(`, SPAN processor(, SIZE memory)?`), ""},
	{regexp.MustCompile(`keeper-[0-9a-f]{12}`), "keeper-ID"},
	{regexp.MustCompile(`\d+ % relative humidity`), "N % relative humidity"}, // by day it is another
}, append(masks, mask{regexp.MustCompile(`SPAN ago`), "AGO"})...)

func docMasked(text string) string {
	for _, m := range docMasks {
		text = m.re.ReplaceAllString(text, m.by)
	}
	return strings.Join(strings.Fields(text), " ") // where lines break is another matter
}

// docPage is where the commands of a page are run: a person's home, with the
// bindery's programs in it.
type docPage struct {
	t    *testing.T
	home string
}

// TestPages runs the commands that the README, the tour and the wishes show, in their order,
// and compares what they print. -update writes it anew.
func TestPages(t *testing.T) {
	t.Parallel()
	for _, file := range []string{"../README.md", "../docs/tour.md", "../docs/wishes.md"} {
		t.Run(filepath.Base(file), func(t *testing.T) {
			t.Parallel()
			text, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			if left := time.Until(time.Now().Truncate(time.Hour).Add(time.Hour)); left < time.Minute {
				time.Sleep(left) // the README's keeper lives by the real clock, and has a gate that opens then
			}
			p := newDocPage(t)
			got := docBlock.ReplaceAllStringFunc(string(text), p.block)
			if *update {
				if err := os.WriteFile(file, []byte(got), 0o644); err != nil {
					t.Fatal(err)
				}
			}
		})
	}
}

// docBlock is a block of commands with what they print. Commands that stand without
// a prompt are run too, where the block says that it is of the shell.
var docBlock = regexp.MustCompile("(?s)```(sh)?\n(.*?)\n```\n")

func newDocPage(t *testing.T) *docPage {
	p := &docPage{t, fmt.Sprintf("/tmp/tg%04d", os.Getpid()%10000)} // as long as /home/maren, for what is cut
	for os.Mkdir(p.home, 0o700) != nil {
		p.home = fmt.Sprintf("/tmp/tg%04d", rand.IntN(10000))
	}
	t.Cleanup(func() { os.RemoveAll(p.home) })
	bin := filepath.Join(p.home, "bin")
	for dir, from := range map[string]string{bin: "", filepath.Join(p.home, "larkspur", "bin"): "../demo/bindery/bin"} {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			t.Fatal(err)
		}
		if from == "" {
			continue
		}
		if err := os.CopyFS(dir, os.DirFS(from)); err != nil {
			t.Fatal(err)
		}
		scripts, _ := filepath.Glob(dir + "/*")
		for _, s := range scripts {
			os.Chmod(s, 0o755)
		}
	}
	if err := os.Symlink(program, filepath.Join(bin, "timegate")); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.run("kill $(cat ~/pid)") })
	return p
}

// block runs the commands of a block and returns it with what they print.
func (p *docPage) block(block string) string {
	parts := docBlock.FindStringSubmatch(block)
	if parts[1] == "sh" { // as in a shell; what goes on behind it gets no terminal
		p.run(strings.Replace(parts[2]+"\n", " &\n", " </dev/null & echo $! >~/pid; while ! timegate keeper status; do sleep 0.05; done\n", 1))
		return block
	}
	if !strings.HasPrefix(parts[2], "$ ") {
		return block
	}
	var out strings.Builder
	for _, piece := range strings.Split("\n"+parts[2], "\n$ ")[1:] {
		command, want, _ := strings.Cut(piece, "\n")
		for strings.HasSuffix(command, "\\") { // it goes on
			more, rest, _ := strings.Cut(want, "\n")
			command, want = command+"\n"+more, rest
		}
		got := p.show(command, want)
		fmt.Fprintf(&out, "$ %s\n%s", command, got)
	}
	return "```\n" + strings.TrimRight(out.String(), "\n") + "\n```\n"
}

// show runs a command until it prints what is wanted, for a while: what a keeper does
// takes a moment.
func (p *docPage) show(command, want string) string {
	p.t.Helper()
	deadline := time.Now().Add(15 * time.Second)
	for {
		if *update && regexp.MustCompile(`^timegate (history|output|why|show)`).MatchString(command) {
			time.Sleep(4 * time.Second)
		}
		got := p.run(command)
		switch {
		case *update, docMasked(got) == docMasked(want):
			return got
		case time.Now().After(deadline):
			p.t.Errorf("%s\n%s", command, difference(docMasked(want), docMasked(got)))
			return got
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// run runs a command in a terminal of 110 columns, answers its questions with yes, and
// returns what it showed, as it would be at the person's.
func (p *docPage) run(command string) string {
	p.t.Helper()
	master, slave := openPty(p.t, 110)
	cmd := exec.Command("/bin/sh", "-c", command)
	cmd.Dir = p.home
	cmd.Env = []string{"TERM=xterm-256color", "NO_COLOR=1", "TZ=Europe/London", "PATH=" + p.home + "/bin:/usr/bin:/bin", "HOME=" + p.home, "TIMEGATE_HOME=" + p.home + "/tg"}
	cmd.Stdin, cmd.Stdout, cmd.Stderr = slave, slave, slave
	if err := cmd.Start(); err != nil {
		p.t.Fatal(err)
	}
	slave.Close()
	var out strings.Builder
	answered := 0
	buf := make([]byte, 4096)
	ended := make(chan struct{})
	go func() {
		cmd.Wait()
		close(ended)
	}()
	for {
		n, err := master.Read(buf)
		out.Write(buf[:n])
		if asked := strings.Count(out.String(), "[y/N] ") + strings.Count(out.String(), "[Y/n] "); asked > answered {
			answered = asked
			master.WriteString("y\n")
		}
		if err != nil {
			break
		}
	}
	<-ended
	text := strings.ReplaceAll(ansi.Strip(out.String()), "\r\n", "\n")
	for _, as := range [][2]string{{program, "/home/maren/bin/timegate"}, {p.home, "/home/maren"}, {"in " + home.Folder() + ":", "in /home/maren:"}, {"/tmp/…/", "/home/…/"}} {
		text = strings.ReplaceAll(text, as[0], as[1])
	}
	for n := len("/tmp/tg"); n < len(p.home); n++ { // one that was cut
		text = strings.ReplaceAll(text, p.home[:n]+"…", "/home/maren"[:n]+"…")
	}
	return regexp.MustCompile(`(  as  +|when )`+home.Account()+`\b`).ReplaceAllString(text, "${1}maren")
}
