package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"runtime/debug"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/keeper"
	"timegate/workstation"
	"timegate/workstation/linux"
	"timegate/workstation/staged"
)

func (a *app) keeperCommand() *cli.Command {
	return &cli.Command{
		Name: "keeper", Category: keepCommands, Usage: "the resident that starts the programs", ArgsUsage: "run|status|install|uninstall",
		Action: a.group,
		Commands: []*cli.Command{
			{
				Name: "run", Usage: "watch the moments and start the programs, until ended", Action: a.keeperRun,
				Description: "timegate --home ~/tg keeper run\n\nSIGTERM or SIGINT ends the keeper, not the programs that it started; the next keeper watches them further.\n\nWith --staged the machine is a stand-in: \"timegate stage\" says what happens to it, and the programs are really started.",
				Flags: []cli.Flag{
					&cli.BoolFlag{Name: "staged", Usage: "on a stand-in for a machine, for trying things out"},
					&cli.StringFlag{Name: "at", Usage: "with --staged: begin at this `TIME`, as in \"2026-11-30 06:30\""},
					&cli.FloatFlag{Name: "speed", Usage: "with --staged: let the clock run `N` times faster while no program runs", Value: 1},
				},
			},
			{
				Name: "status", Usage: "what the keeper does", Action: a.keeperStatus,
				Description: "timegate keeper status",
			},
			a.installCommand(), a.uninstallCommand(),
		},
	}
}

func (a *app) keeperRun(ctx context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	debug.SetGCPercent(100)
	if a.home.Scope == gate.System {
		syscall.Umask(keeper.LoginUmask()) // what programs get at a fresh login
	}
	machine, err := a.machine(c)
	if err != nil {
		return err
	}
	defer machine.Close()
	log := slog.New(slog.NewTextHandler(a.err, nil))
	k := keeper.New(keeper.Options{Home: a.home, Workstation: machine, Log: log,
		Observe: func(ev engine.Event, decisions []engine.Decision) {
			for _, d := range decisions {
				log.Info(string(d.Kind), "gate", d.Gate, "run", d.Run, "result", string(d.Result), "reason", d.Reason)
			}
		}})
	return k.Run(ctx)
}

// machine returns the workstation to be kept: this one, or a stand-in.
func (a *app) machine(c *cli.Command) (workstation.Workstation, error) {
	if !c.Bool("staged") {
		for _, name := range []string{"at", "speed"} {
			if c.IsSet(name) {
				return nil, usageError("--%s is for a staged machine: add --staged", name)
			}
		}
		return linux.New()
	}
	at := a.now()
	if text := c.String("at"); text != "" {
		instant, err := parseTime(text, a.zone, false)
		if err != nil {
			return nil, usageError("--at: %v", err)
		}
		at = instant.Time()
	}
	if speed := c.Float("speed"); speed < 1 || speed > 100_000 {
		return nil, usageError("--speed is 1 to 100000")
	}
	fmt.Fprintln(a.err, a.err.warn("STAGED")+": a stand-in for a machine; \"timegate stage\" says what happens to it")
	return staged.New(staged.Options{At: at, Zone: a.zone, Host: a.host, Rate: c.Float("speed"),
		BootID: "staged-" + strconv.FormatInt(time.Now().UnixNano(), 36)})
}

func (a *app) stageCommand() *cli.Command {
	var list strings.Builder
	for _, cue := range staged.Cues() {
		fmt.Fprintf(&list, "\n  %-24s %s", strings.TrimSpace(cue[0]+" "+cue[1]), cue[2])
	}
	return &cli.Command{
		Name: "stage", Category: otherCommands, Usage: "let something happen on a staged machine", ArgsUsage: "EVENT [ARGUMENT …]",
		Description:     "timegate stage battery 70%\n\nThe keeper must have been begun with \"timegate keeper run --staged\". Events:\n" + list.String(),
		SkipFlagParsing: true,
		Action: func(ctx context.Context, c *cli.Command) error {
			words := c.Args().Slice()
			if len(words) == 0 {
				return usageError("what is to happen is missing: timegate stage %s", c.ArgsUsage)
			}
			if words[0] == "-h" || words[0] == "--help" {
				return cli.ShowSubcommandHelp(c)
			}
			ans, err := a.client.Stage(ctx, words)
			if err != nil {
				return err
			}
			if ans.Error != "" {
				return &exitError{exitWrong, errors.New(ans.Error)}
			}
			fmt.Fprintf(a.out, "staged: %s\n", strings.Join(words, " "))
			return nil
		},
	}
}

func (a *app) keeperStatus(ctx context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	s, err := a.client.Status(ctx)
	if err != nil {
		return err
	}
	if a.json {
		return a.out.printJSON(s)
	}
	stand := ""
	if s.Staged {
		a.now = func() time.Time { return s.Now }
		stand = " (STAGED: a stand-in for a machine)"
	}
	fmt.Fprintf(a.out, "keeper    process %d, since %s%s\n", s.PID, a.localFar(s.Began), stand)
	fmt.Fprintf(a.out, "home      %s\n", a.home.State)
	fmt.Fprintf(a.out, "gates     %d in force, %d programs running\n", len(s.Gates), s.Running)
	next := "nothing is due"
	if s.Next != nil {
		next = a.localFar(*s.Next)
	}
	fmt.Fprintf(a.out, "next      %s\n", next)
	if s.Paused {
		until := "until \"timegate resume\""
		if s.PauseUntil != nil {
			until = "until " + a.localFar(*s.PauseUntil)
		}
		fmt.Fprintf(a.out, "%s    since %s, %s\n", a.out.warn("paused"), a.local(*s.PausedAt), until)
	}
	if !a.home.Theirs() {
		fmt.Fprintf(a.out, "machine   %s\n", a.factsText(s.Facts))
	}
	for _, t := range s.Troubles {
		fmt.Fprintf(a.out, "%s   %s: %s\n", a.out.warn("cannot"), t.What, t.Why)
	}
	if len(s.Broken) > 0 {
		fmt.Fprintf(a.out, "\n%s, the last good version goes on where there was one:\n", a.out.bad("gate files that are wrong"))
		a.printFindings(a.out, s.Broken)
	}
	return nil
}

// factsText says what holds on the machine, as far as a gate asks for it.
func (a *app) factsText(f engine.Facts) string {
	power := "mains power"
	if f.OnBattery {
		power = "on battery"
	}
	if f.Charge > 0 {
		power += fmt.Sprintf(" at %d%%", f.Charge)
	}
	list := []string{power}
	if f.Online {
		list = append(list, "online")
	}
	for _, p := range f.People {
		list = append(list, p.Account+" logged on")
	}
	if f.IdleSince != 0 {
		list = append(list, "idle since "+a.local(f.IdleSince.Time()))
	}
	return strings.Join(list, ", ")
}

func (a *app) openCommand() *cli.Command {
	return &cli.Command{
		Name: "open", Category: keepCommands, Usage: "start a gate's program now", ArgsUsage: "NAME",
		Description: "timegate open job-board\n\nIt starts even if the gate is switched off or all is paused. Where it still runs, the gate's rule for that holds.",
		Action:      func(ctx context.Context, c *cli.Command) error { return a.command(ctx, c, a.client.Open) },
	}
}

func (a *app) stopCommand() *cli.Command {
	return &cli.Command{
		Name: "stop", Category: keepCommands, Usage: "end a gate's programs that run", ArgsUsage: "NAME",
		Description: "timegate stop vault-copy\n\nThe program and all that came of it are asked to end; what has not ended after the gate's \"grace\" is killed.",
		Action:      func(ctx context.Context, c *cli.Command) error { return a.command(ctx, c, a.client.Stop) },
	}
}

// command sends a command about one gate and tells what came of it.
func (a *app) command(ctx context.Context, c *cli.Command, send func(context.Context, string) (keeper.Answer, error)) error {
	name, err := oneArgument(c, "the name of a gate")
	if err != nil {
		return err
	}
	ans, err := send(ctx, name)
	switch {
	case err != nil:
		return err
	case !ans.Known && ans.Error != "":
		return usageError("the gate %s is wrong: %s", name, ans.Error)
	case !ans.Known:
		return a.noGate(name)
	}
	return a.printAnswer(name, ans)
}

func (a *app) printAnswer(name string, ans keeper.Answer) error {
	if a.json {
		return a.out.printJSON(ans.Decisions)
	}
	if len(ans.Decisions) == 0 {
		fmt.Fprintf(a.out, "%s does not run\n", name)
		return nil
	}
	var failed error
	over := map[int64]bool{} // runs that did not even begin
	for _, d := range ans.Decisions {
		over[d.Run] = over[d.Run] || d.Kind == engine.End
	}
	for _, d := range ans.Decisions {
		switch {
		case d.Starts() && over[d.Run]:
		case d.Starts():
			fmt.Fprintf(a.out, "%s: run %d started\n", d.Gate, d.Run)
		case d.Kind == engine.Halt:
			fmt.Fprintf(a.out, "%s: run %d is asked to end\n", d.Gate, d.Run)
		case d.Kind == engine.Wait:
			fmt.Fprintf(a.out, "%s: waits, %s\n", d.Gate, d.Reason)
		default:
			fmt.Fprintf(a.out, "%s: %s, %s\n", d.Gate, a.result(d.Result), d.Reason)
			if d.Result == engine.Skipped || d.Result == engine.Failure || d.Result == engine.Refused {
				failed = &exitError{status: exitFailed}
			}
		}
	}
	return failed
}

func (a *app) sendCommand() *cli.Command {
	return &cli.Command{
		Name: "send", Category: keepCommands, Usage: "send a signal to the gates that wait for it", ArgsUsage: "SIGNAL",
		Description: "timegate send proofs-ready\n\nIt opens the gates that have an opening such as \"signal proofs-ready\". Any program may call this.",
		Action: func(ctx context.Context, c *cli.Command) error {
			name, err := oneArgument(c, "the name of the signal")
			if err != nil {
				return err
			}
			ans, err := a.client.Send(ctx, name)
			if err != nil {
				return err
			}
			if len(ans.Decisions) == 0 {
				return &exitError{exitUnknown, fmt.Errorf("no gate waits for the signal %q now", name)}
			}
			return a.printAnswer(name, ans)
		},
	}
}

func (a *app) pauseCommand() *cli.Command {
	return &cli.Command{
		Name: "pause", Category: keepCommands, Usage: "let nothing start by itself",
		Description: "timegate pause --for 2h\n\nWhat runs goes on. Moments that come meanwhile are passed over and recorded when the pause ends.",
		Flags:       []cli.Flag{&cli.StringFlag{Name: "for", Usage: "end the pause after this `SPAN`"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			var until time.Time
			if s := c.String("for"); s != "" {
				d, err := parseSpan("for", s)
				if err != nil {
					return err
				}
				if d <= 0 {
					return usageError("--for %s is no time at all", s)
				}
				status, err := a.client.Status(ctx)
				if err != nil {
					return err
				}
				until = status.Now.Add(d)
			}
			if _, err := a.client.Pause(ctx, until); err != nil {
				return err
			}
			text := "paused until \"timegate resume\""
			if !until.IsZero() {
				text = "paused until " + a.local(until)
			}
			fmt.Fprintln(a.out, text)
			return nil
		},
	}
}

func (a *app) resumeCommand() *cli.Command {
	return &cli.Command{
		Name: "resume", Category: keepCommands, Usage: "end a pause",
		Description: "timegate resume",
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			ans, err := a.client.Resume(ctx)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "no longer paused; %s passed over meanwhile\n", plural(len(ans.Decisions), "opening"))
			return nil
		},
	}
}
