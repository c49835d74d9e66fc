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

	"timegate/agent"
	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/gates"
	"timegate/home"
	"timegate/launch"
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
		laterFlag(),
		yesFlag(),
	}
}

// keepScript lets the edit run a copy of the gate's program, where that was
// asked for, and returns what makes the copy.
func (a *app) keepScript(ctx context.Context, c *cli.Command, name string, argv []string, edit *gate.Edit) (put func(*gate.Gate) error, err error) {
	if !c.Bool("copy-script") {
		return func(*gate.Gate) error { return nil }, nil
	}
	if len(argv) == 0 || !filepath.IsAbs(argv[0]) {
		return nil, usageError("--copy-script: give the script after --")
	}
	switch info, err := os.Stat(argv[0]); {
	case err != nil:
		return nil, usageError("--copy-script: %w; check the path", err)
	case !info.Mode().IsRegular():
		return nil, &home.Error{Path: argv[0], Reason: "it is not a plain file", Remedy: "check the path; a script has at most 512 KiB"}
	}
	edit.SetTexts("run", append([]string{a.home.KeptScript(name)}, argv[1:]...))
	return func(g *gate.Gate) error { return a.copyScript(ctx, g, argv[0]) }, nil
}

// copyScript copies a program with the rights with which it is to run: what
// that account may not read is not copied.
func (a *app) copyScript(ctx context.Context, g *gate.Gate, program string) error {
	uid := os.Getuid()
	var data []byte
	var mode fs.FileMode
	var err error
	if launch.OwnAccount(g.Account()) {
		data, mode, err = home.ReadWithMode(program, home.ScriptSize+1)
	} else {
		rights, rightsErr := a.launcher().RightsOf(g.Account())
		if rightsErr != nil {
			return rightsErr
		}
		uid = rights.UID
		visit, visitErr := agent.NewVisit(a.home.Scope, g.Account(), nil)
		if visitErr != nil {
			return visitErr
		}
		defer visit.Close()
		data, mode, err = visit.Read(ctx, program, home.ScriptSize+1)
	}
	if err == nil && len(data) > home.ScriptSize {
		err = fmt.Errorf("a script has at most %d KiB", home.ScriptSize>>10)
	}
	if err != nil {
		return &home.Error{Path: program, Reason: "it cannot be copied as " + launch.AccountName(g) + ": " + err.Error(), Remedy: "check the path, and who may read it"}
	}
	return a.home.PutScript(g.Name, data, mode, uid)
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
func (a *app) propose(c *cli.Command, name string, data []byte, first func(*gate.Gate) error) error {
	path := a.home.GateFile(name)
	f := gates.Parse(a.home, name, data, a.env())
	if f.Gate == nil {
		return f.Findings.Errors()
	}
	a.summary(f.Gate, calendar.InstantOf(a.now()))
	copied := ""
	if c.Bool("copy-script") {
		copied = a.home.KeptScript(name)
	}
	if err := a.refuse(c, []gates.File{f}, copied); err != nil {
		return err
	}
	if ok, err := a.mayAsk(c, "Write "+path+"?"); err != nil || !ok {
		return err
	}
	plan := gates.NewPlan(a.home)
	plan.First(func() error { return first(f.Gate) })
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

// mayAsk asks a question where there is a terminal to ask on; else the answer is
// yes.
func (a *app) mayAsk(c *cli.Command, question string) (bool, error) {
	if a.err.terminal && isTerminal(a.in) {
		return a.confirm(c, question)
	}
	return true, nil
}

// yesFlag answers questions beforehand.
func yesFlag() cli.Flag { return &cli.BoolFlag{Name: "yes", Usage: "do not ask"} }

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
