package cli

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"timegate/agent"
	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/words"
	"timegate/home"
	"timegate/launch"
	"timegate/workstation"
	"timegate/workstation/here"
)

func (a *app) tryCommand() *cli.Command {
	return &cli.Command{
		Name: "try", Category: tryCommands, Usage: "run a gate's program now, in the foreground, just as the keeper would", ArgsUsage: "NAME | -- PROGRAM [ARGUMENT …]",
		Description: examples(`timegate try humidity-log`, `timegate try vault-copy --measure memory --measure files:/media/vault`, `timegate try stock-count --limits`, `timegate try vault-copy --as-keeper`, `timegate try -i stock-count`, `timegate try -- ~/bin/stock-count --all`) +
			"The program is really started, and does what it does. It gets the same account, folder and environment, and no terminal:\n" +
			"the keeper has none to give. What it prints is shown. With -i it gets yours, to see what it asks. The exit status is 0 if\n" +
			"the run counts as a success, else 1.",
		Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "measure", Usage: "what to measure before and after, as a `READING`: " + gate.ReadingForms},
			&cli.BoolFlag{Name: "as-keeper", Usage: "let the running keeper start it: with the rights that it has, recorded like every other run"},
			&cli.BoolFlag{Name: "input", Aliases: []string{"i"}, Usage: "give the program this terminal, to answer what it asks; a keeper gives it none"},
			&cli.BoolFlag{Name: "limits", Usage: "let no limit of the gate stop it, and tell what would have"},
		},
		Action: a.try,
	}
}

func (a *app) try(ctx context.Context, c *cli.Command) error {
	limits := c.Bool("limits")
	if c.Bool("input") && c.Bool("as-keeper") {
		return usageError("--as-keeper starts it without a terminal; leave out --input")
	}
	if c.Bool("as-keeper") {
		if limits || afterDashes(c.Args().Slice()) {
			return usageError("--as-keeper starts a gate that the keeper knows, with its limits; leave out --limits, and name a gate")
		}
		return a.tryAsKeeper(ctx, c, c.StringSlice("measure"))
	}
	g, err := a.tryGate(c)
	if err != nil {
		return err
	}
	named := !afterDashes(c.Args().Slice())
	if limits && named {
		a.tellStops(ctx, g)
	}
	names := append(slices.Clone(g.Measure), c.StringSlice("measure")...)
	before, err := measureAll(ctx, names)
	if err != nil {
		return usageError("%w", err)
	}
	if err := a.mayAttach(c, g); err != nil {
		return err
	}
	began := time.Now()
	done := make(chan workstation.Exit, 1)
	p, note, err := a.startTry(ctx, g, c.Bool("input"), func(x workstation.Exit) { done <- x })
	var refused *launch.UnsafeError
	if errors.As(err, &refused) {
		err = fmt.Errorf("refused: %w", err)
	}
	if err != nil {
		return &exitError{exitFailed, err}
	}
	defer p.Close()
	if note != "" {
		fmt.Fprintln(a.err, a.err.warn(words.Line(note)))
	}
	bounds := g.Limits
	if limits {
		bounds.Longest = 0
	}
	exit := a.await(ctx, p, &bounds, done)
	lasted := time.Since(began)
	took := short(lasted) + usedText(&exit.Usage)
	defer a.tellMeasured(ctx, names, before)
	if limits {
		defer a.tellLimits(g, &exit, lasted)
	}
	if ok := exit.Signal == "" && g.Succeeds(exit.Status); ok && named && !a.home.OfOthers() {
		a.home.NoteTried(g.Name, home.Tried{At: a.now(), Took: lasted, Usage: exit.Usage}) // where it cannot be kept, nothing depends on it
	}
	a.note("exit", exit.Status)
	a.note("signal", exit.Signal)
	a.note("took_s", lasted.Seconds())
	status := fmt.Sprintf("exit status %d", exit.Status)
	if exit.Signal != "" {
		status = "ended by signal " + exit.Signal
	}
	if exit.Signal == "" && g.Succeeds(exit.Status) {
		fmt.Fprintf(a.err, "%s: %s after %s\n", a.err.good("ok"), status, took)
		return nil
	}
	fmt.Fprintf(a.err, "%s: %s after %s\n", a.err.bad("failed"), status, took)
	return &exitError{status: exitFailed}
}

// usedText says what a program has used: processor time, and memory and what went from
// and to disks where that is known.
func usedText(u *engine.Usage) string {
	text := fmt.Sprintf(", %s processor", short(time.Duration(u.UserMS+u.SystemMS)*time.Millisecond))
	if u.MaxRSS > 0 {
		text += ", " + bytesText(u.MaxRSS) + " memory"
	}
	if u.Read+u.Written > 0 {
		text += fmt.Sprintf(", %s read and %s written on disks", bytesText(u.Read), bytesText(u.Written))
	}
	return text
}

// tried is a program that is tried.
type tried interface {
	End(signal string) error
	Close()
}

// ownProgram is one with this process's rights.
type ownProgram struct{ workstation.Process }

func (ownProgram) Close() {}

// startTry starts a gate's program as the keeper would: with another account's
// rights by an agent of it.
func (a *app) startTry(ctx context.Context, g *gate.Gate, attached bool, done func(workstation.Exit)) (tried, string, error) {
	show := func(b []byte) { a.out.raw(b) }
	return a.startOnce(ctx, g, attached, show, func(how string) { fmt.Fprintln(a.err, a.err.faint(how)) }, done)
}

// mayAttach says why a program cannot be given this terminal, where it is to be.
func (a *app) mayAttach(c *cli.Command, g *gate.Gate) error {
	switch {
	case !c.Bool("input"):
	case !launch.OwnAccount(g.Account()):
		return usageError("--input: the gate runs as %s, and whoever has your terminal could type in your place; try it as that account", launch.AccountName(g))
	case a.json:
		return usageError("--input gives the program this output, and --json wants it for its document; leave one out")
	case !term.IsTerminal(int(os.Stdin.Fd())):
		return usageError("--input: there is no terminal here to answer from")
	}
	return nil
}

// startOnce starts a gate's program as the keeper would, or attached to this process. say
// is told how, before.
func (a *app) startOnce(ctx context.Context, g *gate.Gate, attached bool, show func([]byte), say func(how string), done func(workstation.Exit)) (tried, string, error) {
	d := launch.TryDecision(calendar.InstantOf(a.now()))
	if !launch.OwnAccount(g.Account()) {
		if _, err := a.launcher().RightsOf(g.Account()); err != nil {
			return nil, "", err
		}
		say("as " + g.Account() + ": " + gate.CommandLine(g.Run...))
		v, err := agent.NewVisit(a.home.Scope, g.Account(), show)
		if err != nil {
			return nil, "", err
		}
		note, err := v.Start(ctx, g, d, done)
		if err != nil {
			v.Close()
			return nil, "", err
		}
		return v, note, nil
	}
	o, err := a.launcher().Order(g, &d)
	if err != nil {
		return nil, "", err
	}
	o.Mark, o.Print, o.Done, o.Attached = rand.Text(), show, done, attached
	say("in " + o.Folder + ": " + gate.CommandLine(o.Argv...))
	p, err := here.Starter{}.Start(o)
	if err != nil {
		return nil, "", err
	}
	return ownProgram{p}, p.Note(), nil
}

// await waits for the program; it asks it to end when it has taken too long
// or the person interrupts, and kills it after the grace.
func (a *app) await(ctx context.Context, p tried, limits *gate.Limits, done <-chan workstation.Exit) workstation.Exit {
	var longest, grace <-chan time.Time
	if limits.Longest > 0 {
		longest = time.After(limits.Longest)
	}
	interrupted := ctx.Done()
	for {
		select {
		case x := <-done:
			return x
		case <-longest:
			fmt.Fprintln(a.err, a.err.warn("it has taken longer than its limit: asked to end"))
		case <-interrupted:
		case <-grace:
			p.End("KILL")
			grace = nil
			continue
		}
		longest, interrupted = nil, nil
		grace = time.After(limits.Grace)
		p.End("TERM")
	}
}

// tryGate returns the gate that is named, or one made of the program given
// after "--".
func (a *app) tryGate(c *cli.Command) (*gate.Gate, error) {
	args := c.Args().Slice()
	if len(args) == 0 {
		return nil, usageError("the name of a gate is missing: timegate try %s", c.ArgsUsage)
	}
	if !afterDashes(args) {
		f, err := a.gateArgument(c)
		if err != nil {
			return nil, err
		}
		if f.Gate == nil {
			return nil, f.Findings.Errors()
		}
		return f.Gate, nil
	}
	g := gate.Default("try")
	program, err := wholeProgram(args[0])
	if err != nil {
		return nil, usageError("%w; check the path", err)
	}
	g.Run = append([]string{program}, args[1:]...)
	return g, nil
}

// afterDashes reports whether arguments were given behind "--", which the
// parser takes out.
func afterDashes(args []string) bool {
	at := len(os.Args) - len(args) - 1
	return at > 0 && os.Args[at] == "--"
}
