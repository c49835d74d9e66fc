package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/gates"
)

// gateFlags are what add and change can say of a gate.
func gateFlags(open string) []cli.Flag {
	return []cli.Flag{
		&cli.StringSliceFlag{Name: "open", Usage: open},
		&cli.StringFlag{Name: "about", Usage: "what it is for, in a `LINE`"},
		&cli.StringFlag{Name: "folder", Usage: "working folder `DIR`", TakesFile: true},
		&cli.StringFlag{Name: "longest", Usage: "end the program after this `SPAN`"},
		&cli.StringFlag{Name: "busy", Usage: "`RULE` where it still runs: skip, queue, replace or beside"},
		&cli.StringSliceFlag{Name: "set", Usage: "any other key of the file, as `KEY=VALUE`, such as needs.power=mains"},
		&cli.BoolFlag{Name: "copy-script", Usage: "copy the program to a place of Time Gate's own, where it stays and nobody else can change it"},
		&cli.BoolFlag{Name: "yes", Usage: "do not ask"},
	}
}

// keepScript lets the edit run a copy of the gate's program, where that was
// asked for, and returns what makes the copy.
func (a *app) keepScript(c *cli.Command, name string, argv []string, edit *gate.Edit) (put func() error, err error) {
	if !c.Bool("copy-script") {
		return func() error { return nil }, nil
	}
	if len(argv) == 0 || !filepath.IsAbs(argv[0]) {
		return nil, usageError("--copy-script: give the script after --")
	}
	edit.SetTexts("run", append([]string{a.home.KeptScript(name)}, argv[1:]...))
	return a.home.KeepScript(name, argv[0])
}

// setKeys sets the keys that were given by --set.
func setKeys(c *cli.Command, edit *gate.Edit) error {
	for _, text := range c.StringSlice("set") {
		key, value, ok := strings.Cut(text, "=")
		if !ok {
			return usageError("--set %s: write KEY=VALUE, such as needs.power=mains", text)
		}
		if err := edit.SetValue(strings.TrimSpace(key), strings.TrimSpace(value)); err != nil {
			return usageError("--set %s: %w", text, err)
		}
	}
	return nil
}

// propose shows what a gate's new content means, asks on a terminal, does what
// must come first, and writes it.
func (a *app) propose(c *cli.Command, name string, data []byte, first func() error) error {
	path := a.home.GateFile(name)
	f := gates.Parse(a.home, name, data, a.env())
	if f.Gate == nil {
		return f.Findings.Errors()
	}
	a.summary(f.Gate, calendar.InstantOf(a.now()))
	a.printFindings(a.err, f.Findings)
	if a.err.terminal && isTerminal(a.in) {
		if ok, err := a.confirm(c, "Write "+path+"?"); err != nil || !ok {
			return err
		}
	}
	plan := gates.NewPlan(a.home)
	plan.First(first)
	plan.Put(name, data)
	if err := plan.Commit(a.env(), a.now()); err != nil {
		return err
	}
	fmt.Fprintf(a.err, "%s %s\n", a.err.good("written"), path)
	a.sayKeeper()
	return nil
}

// wholeProgram returns the program's whole path, so that it does not depend
// on where it is started from. Its error is fs.ErrNotExist where there is no
// such program; the path is then right all the same.
func wholeProgram(name string) (string, error) {
	path := name
	if !strings.Contains(name, "/") {
		found, err := exec.LookPath(name)
		if err != nil {
			return name, &missingProgram{fmt.Sprintf("there is no program %q in PATH", name)}
		}
		path = found
	}
	abs, err := filepath.Abs(path)
	if err != nil {
		return "", err
	}
	if _, err := os.Stat(abs); err != nil {
		return abs, &missingProgram{fmt.Sprintf("the program %s does not exist", abs)}
	}
	return abs, nil
}

// missingProgram is an fs.ErrNotExist in plain words.
type missingProgram struct{ text string }

func (e *missingProgram) Error() string { return e.text }

func (e *missingProgram) Unwrap() error { return fs.ErrNotExist }

// sayKeeper tells if nothing will start because no keeper runs.
func (a *app) sayKeeper() {
	if _, err := a.client.Status(context.Background()); errors.Is(err, control.ErrNoKeeper) {
		fmt.Fprintln(a.err, a.err.faint("no keeper runs: nothing starts by itself until \"timegate keeper run\""))
	}
}

// confirm asks a question on a terminal. Without one, --yes must be given.
func (a *app) confirm(c *cli.Command, question string) (bool, error) {
	if c.Bool("yes") {
		return true, nil
	}
	if !a.err.terminal || !isTerminal(a.in) {
		return false, usageError("there is no terminal to ask on; give --yes")
	}
	fmt.Fprintf(a.err, "%s [y/N] ", question)
	line, _ := bufio.NewReader(a.in).ReadString('\n')
	answer := strings.ToLower(strings.TrimSpace(line))
	if answer != "y" && answer != "yes" {
		fmt.Fprintln(a.err, "nothing was done")
		return false, nil
	}
	return true, nil
}
