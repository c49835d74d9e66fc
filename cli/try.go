package cli

import (
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"time"

	"github.com/urfave/cli/v3"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/workstation"
	"timegate/workstation/here"
)

func (a *app) tryCommand() *cli.Command {
	return &cli.Command{
		Name: "try", Category: tryCommands, Usage: "run a program now, in the foreground, just as the keeper would", ArgsUsage: "NAME | -- PROGRAM [ARGUMENT …]",
		Description: "timegate try humidity-log\n\nSame account, folder and environment, no terminal. What it prints is shown; the exit status is 0 where the run counts as a success, else 1.",
		Action:      a.try,
	}
}

func (a *app) try(ctx context.Context, c *cli.Command) error {
	g, err := a.tryGate(c)
	if err != nil {
		return err
	}
	o, err := a.launcher().Try(g, calendar.InstantOf(a.now()))
	if err != nil {
		return &exitError{exitFailed, fmt.Errorf("refused: %w", err)}
	}
	done := make(chan workstation.Exit, 1)
	o.Mark = rand.Text()
	o.Print = func(b []byte) { a.out.raw(b) }
	o.Done = func(x workstation.Exit) { done <- x }
	fmt.Fprintln(a.err, a.err.faint("in "+o.Folder+": "+gate.CommandLine(o.Argv...)))
	began := time.Now()
	p, err := here.Starter{}.Start(o)
	if err != nil {
		return err
	}
	if note := p.Note(); note != "" {
		fmt.Fprintln(a.err, a.err.warn(note))
	}
	exit := a.await(ctx, p, g, done)
	took := short(time.Since(began))
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

// await waits for the program; it asks it to end when it has taken too long
// or the person interrupts, and kills it after the grace.
func (a *app) await(ctx context.Context, p workstation.Process, g *gate.Gate, done <-chan workstation.Exit) workstation.Exit {
	var longest, grace <-chan time.Time
	if g.Limits.Longest > 0 {
		longest = time.After(g.Limits.Longest)
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
		grace = time.After(g.Limits.Grace)
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
