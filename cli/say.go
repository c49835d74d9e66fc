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
	"strconv"
	"strings"

	"github.com/google/renameio/v2"
	"github.com/urfave/cli/v3"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/keeper"
)

func (a *app) addCommand() *cli.Command {
	return &cli.Command{
		Name: "add", Category: sayCommands, Usage: "write the file of a new gate", ArgsUsage: "NAME --open PHRASE … -- PROGRAM [ARGUMENT …]",
		Description: "timegate add humidity-log --open \"every 10m\" --open boot --about \"Log the press room's humidity\" -- ~/bin/humidity-log --room press\n\n" +
			"The gate is in force at once where a keeper runs. Nothing is written if anything is wrong.",
		Flags: append(gateFlags("a moment to start at, as a `PHRASE`; may be given several times"),
			&cli.StringFlag{Name: "user", Usage: "the `ACCOUNT` to run as (system scope)"},
			&cli.BoolFlag{Name: "elevated", Usage: "run with root's rights (system scope)"},
			&cli.BoolFlag{Name: "off", Usage: "do not switch it on yet"},
			&cli.BoolFlag{Name: "later", Usage: "the program is not there yet"},
		),
		Action: a.add,
	}
}

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

func (a *app) add(_ context.Context, c *cli.Command) error {
	args := c.Args().Slice()
	if len(args) == 0 {
		return usageError("the gate's name is missing: timegate add %s", c.ArgsUsage)
	}
	name, argv := args[0], args[1:]
	switch {
	case !gate.ValidName(name):
		return usageError("%q cannot be a gate's name: %s", name, gate.NameRule)
	case len(argv) == 0 || argv[0] == "":
		return usageError("there is nothing to run: timegate add %s", c.ArgsUsage)
	}
	path := a.home.GateFile(name)
	if _, err := os.Lstat(path); err == nil {
		return usageError("there is a gate %q already: %s; choose another name, or change that file", name, path)
	}
	g, err := a.newGate(c, name, argv)
	if err != nil {
		return err
	}
	edit := gate.NewEdit(gate.Format(g))
	if err := setKeys(c, edit); err != nil {
		return err
	}
	put, err := a.keepScript(c, name, g.Run, edit)
	if err != nil {
		return err
	}
	data, err := edit.Bytes()
	if err != nil {
		return err
	}
	return a.propose(c, name, data, put)
}

// propose shows what a gate's new content means, asks on a terminal, does what
// must come first, and writes it.
func (a *app) propose(c *cli.Command, name string, data []byte, first func() error) error {
	path := a.home.GateFile(name)
	g, found := gate.Read(name, path, data, gate.Options{Scope: a.home.Scope, Env: a.env()})
	if g == nil {
		return found.Errors()
	}
	a.summary(g, calendar.InstantOf(a.now()))
	a.printFindings(a.err, found)
	if a.err.terminal && isTerminal(a.in) {
		if ok, err := a.confirm(c, "Write "+path+"?"); err != nil || !ok {
			return err
		}
	}
	if err := first(); err != nil {
		return err
	}
	if err := a.writeGate(name, data); err != nil {
		return err
	}
	fmt.Fprintf(a.err, "%s %s\n", a.err.good("written"), path)
	a.sayKeeper()
	return nil
}

// newGate puts together a gate from the options of add.
func (a *app) newGate(c *cli.Command, name string, argv []string) (*gate.Gate, error) {
	g := gate.Default(name)
	g.About, g.Enabled = c.String("about"), !c.Bool("off")
	g.As.User, g.As.Elevated = c.String("user"), c.Bool("elevated")
	for i, text := range c.StringSlice("open") {
		p, err := phrase.Parse(text)
		if err != nil {
			return nil, err
		}
		plan, err := p.Compile(a.env())
		if err != nil {
			return nil, err
		}
		g.Opens = append(g.Opens, gate.Opening{Name: strconv.Itoa(i + 1), When: p.String(), Enabled: true, Plan: plan})
	}
	if s := c.String("longest"); s != "" {
		d, err := parseSpan("longest", s)
		if err != nil {
			return nil, err
		}
		g.Limits.Longest = d
	}
	if s := c.String("busy"); s != "" {
		g.Rules.Busy = s
	}
	if s := c.String("folder"); s != "" {
		abs, err := filepath.Abs(s)
		if err != nil {
			return nil, err
		}
		g.Folder = abs
	}
	program, err := wholeProgram(argv[0])
	if errors.Is(err, fs.ErrNotExist) {
		if !c.Bool("later") || !strings.Contains(argv[0], "/") {
			return nil, usageError("%w; check the path, or give its whole path and --later if it is yet to come", err)
		}
	} else if err != nil {
		return nil, err
	}
	g.Run = append([]string{program}, argv[1:]...)
	return g, nil
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

// writeGate puts new content in the place of a gate file, whole, once it is
// known to be right.
func (a *app) writeGate(name string, data []byte) error {
	path := a.home.GateFile(name)
	_, found := gate.Read(name, path, data, gate.Options{Scope: a.home.Scope, Env: a.env()})
	if errs := found.Errors(); len(errs) > 0 {
		return errs
	}
	if _, err := a.mayChange(context.Background(), nil); err != nil {
		return err
	}
	if err := a.home.Prepare(); err != nil {
		return err
	}
	mode := fs.FileMode(0o600)
	if a.home.Scope == gate.System {
		mode = 0o644
	}
	if err := renameio.WriteFile(path, data, mode, renameio.WithExistingPermissions()); err != nil {
		return fmt.Errorf("write %s: %w", path, err)
	}
	return nil
}

func (a *app) changeCommand() *cli.Command {
	return &cli.Command{
		Name: "change", Category: sayCommands, Usage: "change a gate, or one of its openings", ArgsUsage: "NAME[/OPENING] [-- PROGRAM [ARGUMENT …]]",
		Description: "timegate change stock-count/saturdays --open \"at 08:45 on sat\"\n\n" +
			"Only what is given changes; comments and all else in the file stay. Without an opening's name, --open\n" +
			"replaces all openings.",
		Flags:  gateFlags("start at this `PHRASE` instead"),
		Action: a.change,
	}
}

func (a *app) change(_ context.Context, c *cli.Command) error {
	args := c.Args().Slice()
	if len(args) == 0 {
		return usageError("the name of a gate is missing: timegate change %s", c.ArgsUsage)
	}
	name, opening, one := strings.Cut(args[0], "/")
	f, err := a.file(name)
	if err != nil {
		return err
	}
	edit := gate.NewEdit([]byte(f.Text))
	if err := changeOpenings(edit, c.StringSlice("open"), opening, one); err != nil {
		return err
	}
	for _, o := range []struct{ option, key string }{{"about", "about"}, {"longest", "limits.longest"}, {"busy", "rules.busy"}} {
		if c.IsSet(o.option) {
			edit.SetText(o.key, c.String(o.option))
		}
	}
	if c.IsSet("folder") {
		abs, err := filepath.Abs(c.String("folder"))
		if err != nil {
			return err
		}
		edit.SetText("folder", abs)
	}
	if err := setKeys(c, edit); err != nil {
		return err
	}
	if argv := args[1:]; len(argv) > 0 {
		program, err := wholeProgram(argv[0])
		if err != nil {
			return usageError("%w; check the path", err)
		}
		argv[0] = program
		edit.SetTexts("run", argv)
	}
	put, err := a.keepScript(c, name, args[1:], edit)
	if err != nil {
		return err
	}
	data, err := edit.Bytes()
	if none := (*gate.NoOpeningError)(nil); errors.As(err, &none) {
		return &exitError{exitUnknown, fmt.Errorf("gate %s: %w", name, err)}
	}
	if err != nil {
		return err
	}
	if string(data) == f.Text {
		return usageError("nothing is to change: give an option, or a program after --; see \"timegate help change\"")
	}
	return a.propose(c, name, data, put)
}

// changeOpenings puts phrases in the place of one opening's, or of all.
func changeOpenings(edit *gate.Edit, phrases []string, opening string, one bool) error {
	for i, text := range phrases {
		p, err := phrase.Parse(text)
		if err != nil {
			return err
		}
		phrases[i] = p.String()
	}
	switch {
	case one && len(phrases) != 1:
		return usageError("an opening has one phrase: give --open once")
	case one:
		edit.SetOpening(opening, phrases[0])
	case len(phrases) > 0:
		edit.SetTexts("opens", phrases)
	}
	return nil
}

// sayKeeper tells if nothing will start because no keeper runs.
func (a *app) sayKeeper() {
	if _, err := a.client.Status(context.Background()); errors.Is(err, keeper.ErrNoKeeper) {
		fmt.Fprintln(a.err, a.err.faint("no keeper runs: nothing starts by itself until \"timegate keeper run\""))
	}
}

func (a *app) enableCommand(on bool) *cli.Command {
	c := &cli.Command{
		Name: "enable", Category: sayCommands, Usage: "switch a gate, or one of its openings, on", ArgsUsage: "NAME[/OPENING]",
		Description: "timegate enable stock-count/saturdays",
		Action:      func(_ context.Context, c *cli.Command) error { return a.enable(c, on) },
	}
	if !on {
		c.Name, c.Usage, c.Description = "disable", "switch a gate, or one of its openings, off", "timegate disable stock-count/saturdays"
	}
	return c
}

func (a *app) enable(c *cli.Command, on bool) error {
	arg, err := oneArgument(c, "the name of a gate")
	if err != nil {
		return err
	}
	name, opening, one := strings.Cut(arg, "/")
	f, err := a.file(name)
	if err != nil {
		return err
	}
	if f.Gate == nil {
		return f.Findings.Errors()
	}
	edit := gate.NewEdit([]byte(f.Text))
	if one {
		edit.EnableOpening(opening, on)
	} else {
		edit.SetBool("enabled", on)
	}
	data, err := edit.Bytes()
	if none := (*gate.NoOpeningError)(nil); errors.As(err, &none) {
		return &exitError{exitUnknown, fmt.Errorf("gate %s: %w", name, err)}
	}
	if err != nil {
		return err
	}
	state := "on"
	if !on {
		state = "off"
	}
	if string(data) == f.Text || !one && f.Gate.Enabled == on {
		fmt.Fprintf(a.err, "%s is %s already\n", arg, state)
		return nil
	}
	if err := a.writeGate(name, data); err != nil {
		return err
	}
	fmt.Fprintf(a.err, "%s is %s\n", arg, state)
	return nil
}

func (a *app) removeCommand() *cli.Command {
	return &cli.Command{
		Name: "remove", Category: sayCommands, Usage: "take a gate away, after a question", ArgsUsage: "NAME",
		Description: "timegate remove paper-rota\n\nIts file goes to the folder \"removed\" beside the gates; what it has run stays in the history. A program that runs now is not ended.",
		Flags:       []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "do not ask"}},
		Action:      a.remove,
	}
}

func (a *app) remove(_ context.Context, c *cli.Command) error {
	f, err := a.gateArgument(c)
	if err != nil {
		return err
	}
	ok, err := a.confirm(c, fmt.Sprintf("Remove the gate %s?", f.Name))
	if err != nil || !ok {
		return err
	}
	aside := filepath.Join(a.home.State, "removed")
	if err := os.MkdirAll(aside, 0o700); err != nil {
		return err
	}
	to := filepath.Join(aside, fmt.Sprintf("%s-%s.toml", f.Name, a.now().Format("20060102-150405")))
	if err := os.Rename(f.Path, to); err != nil {
		return err
	}
	fmt.Fprintf(a.err, "%s is removed; its file is now %s\n", f.Name, to)
	return nil
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
