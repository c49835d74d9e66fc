// Package cli is the command line: it parses, calls the parts that do the
// work, and prints. No rule about gates lives here.
package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"slices"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"timegate/agent"
	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/estate"
	"timegate/gates"
	"timegate/home"
	"timegate/launch"
	"timegate/tell"
	"timegate/workstation"
	"timegate/workstation/here"
	"timegate/workstation/rights"
	"timegate/workstation/zones"
)

// version is that of the program; the build of a package sets its own.
var version = "0.1"

// app is what every command has at hand.
type app struct {
	in   io.Reader
	out  *screen // results
	err  *screen // messages and progress
	now  func() time.Time
	zone *calendar.Zone
	host string
	json bool
	home home.Home
	// own tells that the home is in one folder, which was named.
	own bool
	// staged tells that the keeper of this home is on a staged machine.
	staged bool
	// scopeSaid tells that the scope of a home in one folder was given.
	scopeSaid bool
	client    *control.Client
	failed    error // of a command that could not be found
	// inForceSaid are the gates of which was said that their last good versions are meant.
	inForceSaid []string
	// With --json: what was shown and said, and the document that it goes into.
	said bytes.Buffer
	held *notes
	doc  document
}

// Main runs the program and returns its exit status.
func Main(args []string) int {
	args = append(args[:1:1], rights.Become(args[1:])...)
	if status, ok := agent.Help(args[1:]); ok {
		return status
	}
	if status, ok := here.Help(args[1:]); ok {
		return status
	}
	if status, ok := estate.Help(args[1:]); ok {
		return status
	}
	if status, ok := tell.Help(args[1:]); ok {
		return status
	}
	// What is written after the reader has gone is no reason to die half-way
	// through a change.
	signal.Ignore(syscall.SIGPIPE)
	// A command ends before collecting garbage pays; the keeper sets this back.
	debug.SetGCPercent(800)
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	context.AfterFunc(ctx, stop) // a second signal ends the program at once
	cli.HelpPrinter = printHelp
	a := &app{in: os.Stdin, out: newScreen(os.Stdout), err: newScreen(os.Stderr), now: time.Now}
	if a.json = asksForJSON(args[1:]); a.json {
		a.beginDocument()
	}
	err := a.root().Run(ctx, args)
	if err == nil {
		err = a.failed
	}
	if a.json {
		a.endDocument(err)
	}
	return a.exit(err)
}

// asksForJSON reports whether a call has the option --json: before anything is read, so that
// a call that is wrong is answered in it as well.
func asksForJSON(args []string) bool {
	if end := slices.Index(args, "--"); end >= 0 {
		args = args[:end]
	}
	return slices.Contains(args, "--json")
}

func (a *app) root() *cli.Command {
	root := &cli.Command{
		Name:    "timegate",
		Usage:   "start programs at boot, at times and on events, and know why",
		Version: version,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "home", Usage: "keep everything in `DIR`", Sources: cli.EnvVars("TIMEGATE_HOME"), TakesFile: true},
			&cli.StringFlag{Name: "scope", Usage: "`SCOPE` of the gates: system or user"},
			&cli.BoolFlag{Name: "json", Usage: "print one JSON document, an error too, and ask nothing"},
			&cli.BoolFlag{Name: "plain", Usage: "no colours and no signs beyond ASCII"},
		},
		Before:                    a.prepare,
		DisableSliceFlagSeparator: true,
		Suggest:                   true,
		HideHelpCommand:           true,
		Writer:                    a.out,
		ErrWriter:                 a.err,
		ExitErrHandler:            func(context.Context, *cli.Command, error) {},
		Commands: []*cli.Command{
			a.findCommand(), a.tryCommand(),
			a.addCommand(), a.changeCommand(), a.editCommand(), a.renameCommand(), a.enableCommand(true), a.enableCommand(false), a.removeCommand(), a.undoCommand(),
			a.previewCommand(), a.checkCommand(), a.rehearseCommand(), a.replayCommand(), a.whyCommand(), a.weekCommand(),
			a.keeperCommand(), a.openCommand(), a.stopCommand(), a.sendCommand(), a.pauseCommand(), a.resumeCommand(),
			a.listCommand(), a.showCommand(), a.historyCommand(), a.outputCommand(), a.watchCommand(), a.reportCommand(), a.figuresCommand(),
			a.startupCommand(), a.applyCommand(), a.signCommand(),
			a.estateCommand(),
			a.exportCommand(), a.importCommand(),
			a.versionCommand(), a.demoCommand(), a.stageCommand(), a.schemaCommand(), a.completionCommand(), a.helpCommand(),
		},
	}
	root.Action = a.group
	a.inherit(root)
	return root
}

// The groups of commands, in the order in which they are used.
const (
	tryCommands     = "find and try"
	sayCommands     = "say"
	foreseeCommands = "foresee"
	keepCommands    = "keep"
	watchCommands   = "watch"
	machineCommands = "whole machine"
	estateCommands  = "many workstations"
	otherCommands   = "other"
)

// inherit sets on every command what the package does not pass down.
func (a *app) inherit(c *cli.Command) {
	c.OnUsageError = func(_ context.Context, c *cli.Command, err error, _ bool) error { return a.usage(c, err) }
	c.CommandNotFound = func(_ context.Context, c *cli.Command, name string) { a.failed = unknownCommand(c, name) }
	for _, sub := range c.Commands {
		sub.DisableSliceFlagSeparator, sub.HideHelpCommand = true, true
		if sub.Category == sayCommands {
			sub.Before = a.mayChange
		}
		a.inherit(sub)
	}
}

// group is the action of a command that only has others below it.
func (a *app) group(_ context.Context, c *cli.Command) error {
	if c.Args().Present() {
		return unknownCommand(c, c.Args().First())
	}
	return cli.ShowSubcommandHelp(c)
}

// homeless are the commands that want no home, or have one of their own.
var homeless = []string{"", "help", "version", "demo", "schema", "completion"}

// prepare reads the options that all commands have.
func (a *app) prepare(ctx context.Context, c *cli.Command) (context.Context, error) {
	if c.Bool("plain") {
		a.out.plainly()
		a.err.plainly()
	}
	a.zone, a.host = zones.Local(), workstation.HostName()
	scope := gate.Scope(c.String("scope"))
	if scope != "" && scope != gate.System && scope != gate.User {
		return ctx, usageError("--scope is %q: write system or user", scope)
	}
	if err := a.chooseHome(c.String("home"), scope); err != nil && !slices.Contains(homeless, c.Args().First()) {
		return ctx, err
	}
	a.client = control.NewClient(a.home)
	return ctx, gates.Safe(a.home)
}

// chooseHome finds where the gates are kept. A home in one folder remembers its
// scope.
func (a *app) chooseHome(dir string, scope gate.Scope) error {
	if dir == "" {
		if scope == "" {
			if scope = gate.User; os.Getuid() == 0 {
				scope = gate.System
			}
		}
		err := error(nil)
		if scope == gate.User {
			err = home.FindFolder()
		}
		a.home = home.Of(scope)
		return err
	}
	abs, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	a.home, a.own = home.At(abs, gate.User), true
	if settings, err := home.ReadSettings(a.home.Settings()); err == nil && settings.Scope != "" {
		a.home.Scope = settings.Scope
		if scope != "" && scope != settings.Scope {
			return usageError("%s is a home of the %s scope: leave out --scope, or choose another home with --home", abs, settings.Scope)
		}
	}
	if scope != "" {
		a.home.Scope, a.scopeSaid = scope, true
	}
	return nil
}

// mayChange refuses changes of gates that are not the caller's to change.
func (a *app) mayChange(ctx context.Context, _ *cli.Command) (context.Context, error) {
	if a.home.OfOthers() {
		return ctx, &control.PermissionError{Reason: "only root may change the gates of the system scope; your own are in --scope user"}
	}
	return ctx, nil
}

// rememberScope keeps with a home in one folder of which scope it was said to be. It is
// called when something is written there, and not before.
func (a *app) rememberScope() error {
	if !a.scopeSaid {
		return nil
	}
	return a.home.Remember()
}

// launcher makes programs ready as the keeper would.
func (a *app) launcher() *launch.Launcher {
	return &launch.Launcher{Home: a.home, Sessions: here.Sessions}
}

// followClock takes the time from a keeper of a staged machine, where one keeps this
// home: the gates live by its clock.
func (a *app) followClock(ctx context.Context) {
	if status, err := a.client.Status(ctx); err == nil && status.Staged {
		a.now, a.staged = func() time.Time { return status.Now }, true
	}
}

// here is where the gates are kept and started, with what this machine can do. A staged
// machine can all.
func (a *app) here(zone *calendar.Zone, host string) engine.Environment {
	env := gates.Here(a.home.Scope, zone, host)
	env.NoWake = host == a.host && a.mayWake() != nil
	return env
}

// mayWake says why the keeper cannot have the machine woken; nil where it can.
func (a *app) mayWake() error {
	if a.staged {
		return nil
	}
	return here.MayWake(a.home.Scope == gate.System)
}

// env is what phrases need from outside.
func (a *app) env() phrase.Env { return gates.Env(gates.Here(a.home.Scope, a.zone, a.host), a.zone) }

// gateArgument returns the one gate that a command names, as it is in its
// file.
func (a *app) gateArgument(c *cli.Command) (gates.File, error) {
	name, err := oneArgument(c, "the name of a gate")
	if err != nil {
		return gates.File{}, err
	}
	return a.file(name)
}

// file reads a gate's file; its error says if there is none.
func (a *app) file(name string) (gates.File, error) {
	if a.home.OfOthers() {
		files, err := a.files()
		if err != nil {
			return gates.File{}, err
		}
		if i := slices.IndexFunc(files, func(f gates.File) bool { return f.Name == name }); i >= 0 {
			return files[i], nil
		}
		return gates.File{}, a.noGate(name)
	}
	if _, err := os.Lstat(a.home.GateFile(name)); !gate.ValidName(name) || errors.Is(err, os.ErrNotExist) {
		return gates.File{}, a.noGate(name)
	}
	return gates.ReadFile(a.home, name, a.env()), nil
}

// files reads all gates that the caller may see.
func (a *app) files() ([]gates.File, error) { return a.client.Files(a.env()) }

// noGate reports a name that no gate has, with the likely one.
func (a *app) noGate(name string) error {
	var names []string
	files, _ := a.files()
	for _, f := range files {
		names = append(names, f.Name)
	}
	remedy := "see \"timegate list\""
	if near, ok := phrase.Nearest(name, names); ok {
		remedy = fmt.Sprintf("did you mean %q?", near)
	} else if len(names) == 0 {
		remedy = "there are none yet in " + a.home.Gates
	}
	return &exitError{exitUnknown, fmt.Errorf("there is no gate %q; %s", name, remedy)}
}

// oneArgument returns the only argument.
func oneArgument(c *cli.Command, what string) (string, error) {
	switch c.Args().Len() {
	case 0:
		return "", usageError("%s is missing: timegate %s %s", what, commandPath(c), c.ArgsUsage)
	case 1:
		return c.Args().First(), nil
	}
	return "", usageError("%s takes one argument, and %q is another; write: timegate %s %s", commandPath(c), c.Args().Get(1), commandPath(c), c.ArgsUsage)
}

func noArguments(c *cli.Command) error {
	if c.Args().Present() {
		text := fmt.Sprintf("%s takes no argument", commandPath(c))
		if _, err := phrase.ParseSpan(c.Args().First()); err == nil && takesOption(c, "for") {
			text += fmt.Sprintf("; write: timegate %s --for %s", commandPath(c), c.Args().First())
		} else {
			text += fmt.Sprintf(", and %q is one", c.Args().First())
		}
		return usageError("%s", text)
	}
	return nil
}

// takesOption reports whether a command has an option of a name.
func takesOption(c *cli.Command, name string) bool {
	return slices.ContainsFunc(c.Flags, func(f cli.Flag) bool { return slices.Contains(f.Names(), name) })
}

// reader opens what was recorded; it is nil where that is nothing.
func (a *app) reader() (control.Records, error) { return a.client.Records() }
