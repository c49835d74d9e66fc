package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"runtime/debug"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"timegate/control"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/words"
	"timegate/install"
	"timegate/keeper"
	"timegate/launch"
	"timegate/workstation"
	"timegate/workstation/here"
	"timegate/workstation/staged"
)

func (a *app) keeperCommand() *cli.Command {
	return &cli.Command{
		Name: "keeper", Category: keepCommands, Usage: "run, install and look at the keeper, which starts the programs", ArgsUsage: "run|status|stop|restart|doctor|backup|restore|install|uninstall",
		Action: a.group,
		Commands: []*cli.Command{
			{
				Name: "run", Usage: "start the programs at their moments, until you end it", Action: a.keeperRun,
				Description: examples(`timegate keeper run`, `timegate --home ~/tg keeper run`, `timegate keeper run --staged --at "2026-11-30 06:30"`) + "SIGTERM or SIGINT ends the keeper, not the programs that it started. The next keeper goes on watching them.\n\nWith --staged the machine is a stand-in: \"timegate stage\" says what happens to it, and the programs are really started.",
				Flags: []cli.Flag{
					&cli.BoolFlag{Name: "staged", Usage: "use a stand-in for the machine, to try things out"},
					&cli.StringFlag{Name: "at", Usage: "with --staged: start at this `TIME`, as in \"2026-11-30 06:30\""},
					&cli.BoolFlag{Name: "set-aside", Usage: "move a damaged journal aside, save what can be read of it, and begin a new one (user scope)"},
					&cli.FloatFlag{Name: "speed", Usage: "with --staged: let the clock run `N` times faster while no program runs", Value: 1},
				},
			},
			{
				Name: "status", Usage: "the state of the keeper and of the machine", Action: a.keeperStatus,
				Description: examples(`timegate keeper status`, `timegate keeper status --line`, `timegate keeper status --line --follow`),
				Flags: []cli.Flag{
					&cli.BoolFlag{Name: "line", Usage: "in one line, for a panel or a prompt"},
					&cli.BoolFlag{Name: "follow", Usage: "with --line: the line again whenever it is another, until you end it"},
				},
			},
			a.keeperStopCommand(), a.restartCommand(), a.doctorCommand(), a.backupCommand(), a.restoreCommand(),
			a.installCommand(), a.uninstallCommand(),
		},
	}
}

func (a *app) keeperRun(ctx context.Context, c *cli.Command) error {
	a.lasts()
	if err := a.rememberScope(); err != nil {
		return err
	}
	if err := noArguments(c); err != nil {
		return err
	}
	debug.SetGCPercent(100)
	if c.Bool("set-aside") && a.home.Scope == gate.System {
		return usageError("--set-aside is for the user scope: look yourself what has happened to root's journal, and move it aside")
	}
	if a.home.Scope == gate.System {
		here.SetUmask(launch.LoginUmask()) // what programs get at a fresh login
	}
	machine, err := a.machine(c)
	if err != nil {
		return err
	}
	defer machine.Close()
	log := slog.New(slog.NewTextHandler(a.err, nil))
	following := a.startStation(log, machine.Staged())
	defer following.stop()
	k := keeper.New(keeper.Options{Home: a.home, Version: version, Workstation: machine, Log: log, Turns: install.Watched() / 2, SetAside: c.Bool("set-aside"), Settle: here.Settle, Startup: a.startupForKeeper(), Telling: a.telling(machine.Staged()),
		Ready: func() { tellManager(log, "READY=1") }, Turned: func() { tellManager(log, "WATCHDOG=1") },
		Observe: func(ev engine.Event, decisions []engine.Decision) {
			following.happened(decisions)
			for _, d := range decisions {
				log.Info(string(d.Kind), "gate", d.Gate, "run", d.Run, "result", string(d.Result), "reason", words.Reason(d.Reason))
			}
		}})
	ended := make(chan error, 1)
	go func() { ended <- k.Run(ctx) }()
	select {
	case err := <-ended:
		if errors.Is(err, keeper.ErrAgain) {
			following.stop()
			machine.Close()
			return beginAgain()
		}
		return err
	case <-ctx.Done():
	}
	select {
	case err := <-ended:
		return err
	case <-time.After(endPatience):
		return errors.New("the keeper has not ended in good order: something that it waits for hangs")
	}
}

// tellManager tells the service manager how the keeper does.
func tellManager(log *slog.Logger, state string) {
	if err := install.Tell(state); err != nil {
		log.Warn("the service manager cannot be told", "state", state, "error", err)
	}
}

// endPatience is how long a keeper may take to end.
const endPatience = 2 * time.Second

// machine returns the workstation to be kept: this one, or a stand-in.
func (a *app) machine(c *cli.Command) (workstation.Workstation, error) {
	if !c.Bool("staged") {
		for _, name := range []string{"at", "speed"} {
			if c.IsSet(name) {
				return nil, usageError("--%s is for a staged machine: add --staged", name)
			}
		}
		return here.New()
	}
	at := a.now()
	if text := c.String("at"); text != "" {
		instant, err := a.timeAhead().read(text)
		if err != nil {
			return nil, usageError("--at: %v", err)
		}
		at = instant.Time()
	}
	if speed := c.Float("speed"); speed < 1 || speed > 100_000 {
		return nil, usageError("--speed is 1 to 100000")
	}
	fmt.Fprintln(a.err, a.err.warn("STAGED")+": a stand-in for a machine, on which programs are really started; \"timegate stage\" says what happens to it")
	return staged.New(staged.Options{At: at, Zone: a.zone, Host: a.host, Rate: c.Float("speed"),
		BootID: "staged-" + strconv.FormatInt(time.Now().UnixNano(), 36)})
}

// otherVersion tells of a keeper whose program is not this one, or is "".
func otherVersion(s control.Status) string {
	if s.Version == version {
		return ""
	}
	its := s.Version
	if its == "" {
		its = "an earlier one"
	}
	return fmt.Sprintf("%s, and this is %s: timegate keeper restart", its, version)
}

func (a *app) keeperStatus(ctx context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	switch {
	case c.Bool("follow") && !c.Bool("line"):
		return usageError("--follow belongs to --line; to look at all as it changes: timegate watch")
	case c.Bool("follow"):
		return a.followLine(ctx)
	case c.Bool("line") && !a.json:
		line, err := a.statusLine(ctx)
		if line != "" {
			fmt.Fprintln(a.out, line)
		}
		if errors.Is(err, control.ErrNoKeeper) {
			return &exitError{status: exitNoKeeper} // the line says it
		}
		return err
	}
	s, err := a.client.Status(ctx)
	if err != nil {
		return err
	}
	if a.json {
		return a.out.printJSON(struct {
			control.Status
			Readings map[string]float64 `json:"readings"` // of the machine, now
		}{s, machineReadings(ctx)})
	}
	stand := ""
	if s.Staged {
		a.now = func() time.Time { return s.Now }
		stand = " (STAGED: a stand-in for a machine)"
	}
	fmt.Fprintf(a.out, "keeper    process %d, since %s%s\n", s.PID, a.localFar(s.Began), stand)
	if text := otherVersion(s); text != "" {
		fmt.Fprintf(a.out, "program   %s\n", a.out.warn(text))
	}
	fmt.Fprintf(a.out, "home      %s\n", a.home.State)
	if !s.Staged {
		begins := a.out.warn("by hand") + "; to let it begin by itself: timegate keeper install"
		if a.home.Scope == gate.System && a.own {
			begins = a.out.warn("by hand") + ", as a home in a folder of its own does"
		}
		if install.BeginsByItself(a.home, a.own) {
			begins = map[gate.Scope]string{gate.System: "by itself, with the machine", gate.User: "by itself, when you log on to a desktop"}[a.home.Scope]
		}
		fmt.Fprintf(a.out, "begins    %s\n", begins)
	}
	fmt.Fprintf(a.out, "gates     %d in force, %s running\n", len(s.Gates), plural(s.Running, "program"))
	next := "nothing is due"
	if s.Next != nil {
		next = a.localFar(*s.Next)
		if s.Paused && (s.PauseUntil == nil || s.Next.Before(*s.PauseUntil)) {
			next += ", which is skipped: the gates are paused"
		}
	}
	fmt.Fprintf(a.out, "next      %s\n", next)
	if s.Paused {
		until := "until \"timegate resume\""
		if s.PauseUntil != nil {
			until = "until " + a.localFar(*s.PauseUntil)
		}
		fmt.Fprintf(a.out, "%s    since %s, %s\n", a.out.warn("paused"), a.local(*s.PausedAt), until)
	}
	if !a.home.OfOthers() {
		machine := a.factsText(s.Facts)
		if s.Asleep {
			machine = a.out.warn("asleep") + ", " + machine
		}
		if s.Staged {
			machine += "; its clock says " + a.local(s.Now)
		}
		fmt.Fprintf(a.out, "machine   %s\n", machine)
		if text := readingsNow(machineReadings(ctx)); text != "" && !s.Staged {
			fmt.Fprintf(a.out, "readings  %s\n", text)
		}
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
func (a *app) factsText(f control.Facts) string {
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
		list = append(list, p+" logged on")
	}
	if f.IdleSince != nil {
		list = append(list, "idle since "+a.local(*f.IdleSince))
	}
	return strings.Join(list, ", ")
}
