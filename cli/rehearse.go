package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/core/rehearsal"
	"timegate/demo"
	"timegate/gates"
	"timegate/home"
	"timegate/workstation/zones"
)

func (a *app) rehearseCommand() *cli.Command {
	return &cli.Command{
		Name: "rehearse", Category: foreseeCommands, Usage: "play a scripted day through the gates, and start nothing", ArgsUsage: "DAY.toml | FOLDER",
		Description: examples(`timegate rehearse --example laptop-day`, `timegate rehearse monday.toml --png monday.png`, `timegate rehearse monday.toml --gates ~/larkspur-gates`, `timegate rehearse days/ --junit report.xml`) +
			"A day file says what happens on the machine (events), how long programs take (takes), and what is expected of it all\n" +
			"(expect); \"timegate help days\" tells how. Every decision is the keeper's own. Of a folder all day files are played. The\n" +
			"exit status is 3 where something is not as expected.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "example", Usage: "play a ready `DAY`: " + strings.Join(demo.Days(), ", ")},
			&cli.BoolFlag{Name: "usual", Usage: "play a usual week of this machine, from what the keeper has recorded"},
			&cli.StringFlag{Name: "write", Usage: "write the example, or the usual week, to `FILE` instead, to begin from", TakesFile: true},
			&cli.StringFlag{Name: "from", Usage: "begin `now`, with what the keeper knows, and last as long as the file's day"},
			&cli.StringFlag{Name: "gates", Usage: "play the gates in `FOLDER`, which are not in force", TakesFile: true},
			&cli.StringFlag{Name: "png", Usage: "draw the day to `FILE`", TakesFile: true},
			&cli.StringFlag{Name: "svg", Usage: "draw the day to `FILE`", TakesFile: true},
			&cli.StringFlag{Name: "junit", Usage: "of a folder: write the results to `FILE` as JUnit XML", TakesFile: true},
		},
		Action: a.rehearse,
	}
}

func (a *app) rehearse(ctx context.Context, c *cli.Command) error {
	a.followClock(ctx)
	if name := c.String("example"); name != "" {
		if err := noArguments(c); err != nil {
			return err
		}
		data, there := demo.DayFile(name)
		if !there {
			return usageError("--example: there is no ready day %q; there are %s", name, strings.Join(demo.Days(), ", "))
		}
		if file := c.String("write"); file != "" {
			return a.writeDay(file, data)
		}
		return a.rehearseDay(ctx, c, name+".toml", data)
	}
	if c.Bool("usual") {
		if err := noArguments(c); err != nil {
			return err
		}
		data, err := a.usualDay()
		if err != nil {
			return err
		}
		if file := c.String("write"); file != "" {
			return a.writeDay(file, data)
		}
		return a.rehearseDay(ctx, c, "a usual week", data)
	}
	arg, err := oneArgument(c, "the day file")
	if err != nil {
		return err
	}
	info, err := os.Stat(arg)
	if err != nil {
		return usageError("%s cannot be read: %w; for a ready day: timegate rehearse --example office-day", arg, cause(err))
	}
	if info.IsDir() {
		return a.rehearseFolder(ctx, c, arg)
	}
	data, err := home.ReadPlain(arg, gate.MaxSize)
	if err != nil {
		return usageError("%s cannot be read: %w", arg, cause(err))
	}
	return a.rehearseDay(ctx, c, arg, data)
}

// rehearsed is a day with what came of it.
type rehearsed struct {
	file     string
	day      *rehearsal.Day
	played   *rehearsal.Played
	failures []rehearsal.Failure
	found    gate.Findings // what is wrong with the file
	gates    []gates.File
	took     time.Duration
}

// dayPlay is a day file that is to be played.
type dayPlay struct {
	file     string
	data     []byte
	gates    func(env phrase.Env) ([]gates.File, error) // that it is played through
	now      calendar.Instant                           // it goes on from now; 0 for what the day file says
	progress func(float64)
	list     *jsonList // takes each decision; nil for none
}

// dayPlay returns how a day file is to be played, as options say.
func (a *app) dayPlay(c *cli.Command, file string, data []byte) (dayPlay, error) {
	p := dayPlay{file: file, data: data, gates: func(env phrase.Env) ([]gates.File, error) { return a.rehearsalGates(c.String("gates"), env) }}
	switch from := c.String("from"); {
	case from == "now":
		p.now = calendar.InstantOf(a.now())
	case from != "":
		return p, usageError("--from is %q: write now; another beginning is for the day file to say", from)
	}
	return p, nil
}

// playDay reads a day file and plays it.
func (a *app) playDay(ctx context.Context, p dayPlay) (*rehearsed, error) {
	began := time.Now()
	r := &rehearsed{file: p.file}
	files, err := p.gates(a.env())
	if err != nil {
		return nil, err
	}
	var names []string
	for _, f := range files {
		names = append(names, f.Name)
	}
	if r.day, r.found = rehearsal.Read(p.file, p.data, rehearsal.Env{Zone: a.zone, Host: a.host, Find: zones.Find, Gates: names, Now: p.now}); r.day == nil {
		return r, nil
	}
	here := a.here(r.day.Zone, r.day.Host)
	if r.gates, err = p.gates(gates.Env(here, r.day.Zone)); err != nil {
		return nil, err
	}
	settings, err := home.ReadSettings(a.home.Settings())
	if err != nil {
		return nil, err
	}
	costs, err := a.costs()
	if err != nil {
		return nil, err
	}
	s := rehearsal.Setup{Environment: here, Pace: settings.Pace, Progress: p.progress, Most: mostDecisions, Usual: func(name string) time.Duration {
		if cost := costs[name]; cost != nil {
			return time.Duration(cost.TookS * float64(time.Second))
		}
		return 0
	}}
	for _, f := range r.gates {
		if f.Gate != nil {
			s.Gates = append(s.Gates, f.Definition())
		}
	}
	if p.now != 0 {
		if s.State, err = a.engineState(); err != nil {
			return nil, err
		}
	}
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	if list := p.list; list != nil {
		s.Tell = func(d *engine.Decision, state *rehearsal.State) {
			if list.add(newRehearsedDecision(d, state, r.day.Zone)); list.err != nil {
				stop(list.err)
			}
		}
	}
	if r.played, err = rehearsal.Play(ctx, r.day, s); err != nil {
		return nil, cmp.Or(context.Cause(ctx), err) // why it was given up, where it was
	}
	r.failures, r.took = r.played.Check(r.day), time.Since(began)
	return r, nil
}

// rehearsalGates reads the gates that are played: those in force, or those of a folder.
func (a *app) rehearsalGates(folder string, env phrase.Env) ([]gates.File, error) {
	if folder == "" {
		files, err := a.client.Files(env)
		if err != nil {
			return nil, err
		}
		files, names := a.inForce(files, env)
		a.sayInForce(names)
		return files, nil
	}
	source, err := gates.ReadSource(folder, false)
	if err != nil {
		return nil, usageError("--gates: %w", err)
	}
	if err := source.CheckVars(env.Host); err != nil {
		return nil, usageError("--gates: %w", err)
	}
	plan, err := source.Plan(home.At(filepath.Join(source.Dir, ".nowhere"), a.home.Scope), false)
	if err != nil {
		return nil, err
	}
	files, err := plan.Files(env)
	for i := range files {
		files[i] = atSource(source, files[i])
	}
	return files, err
}

func (a *app) rehearseDay(ctx context.Context, c *cli.Command, file string, data []byte) error {
	p, err := a.dayPlay(c, file, data)
	if err != nil {
		return err
	}
	if a.err.terminal {
		const long = 300 * time.Millisecond
		began := time.Now()
		p.progress = func(share float64) {
			if time.Since(began) > long {
				a.err.clearLine()
				fmt.Fprintf(a.err, "%3.0f %%", share*100)
			}
		}
		defer a.err.clearLine()
	}
	if a.json {
		p.list = a.out.jsonList()
	}
	r, err := a.playDay(ctx, p)
	if errors.Is(err, context.Canceled) {
		return &exitError{exitFailed, errors.New("it was interrupted")}
	}
	if err != nil {
		return err
	}
	if p.progress != nil {
		a.err.clearLine()
	}
	if r.day == nil {
		return r.found
	}
	for _, f := range r.gates {
		if f.Gate == nil {
			a.printFindings(a.err, f.Findings.Errors())
			fmt.Fprintf(a.err, "%s is left out\n", f.Name)
		}
	}
	for _, text := range r.day.LeftOut {
		fmt.Fprintf(a.err, "%q is left out: it does not happen in a day that begins now\n", text)
	}
	drawn, err := a.drawDay(c, r)
	if err != nil {
		return err
	}
	switch {
	case a.json:
		err = p.list.end()
	case !drawn:
		a.printRehearsed(r)
	}
	if err != nil {
		return err
	}
	for _, f := range r.failures {
		fmt.Fprintf(a.err, "%s %s\n  %s %s\n", a.err.bad("expected:"), f.Expected, a.err.warn("but:"), f.Actual)
	}
	if len(r.failures) > 0 || c.String("gates") != "" && slices.ContainsFunc(r.gates, func(f gates.File) bool { return f.Gate == nil }) {
		return &exitError{status: exitFound}
	}
	if n := len(r.day.Expect); n > 0 {
		fmt.Fprintf(a.err, "%s %s as expected\n", a.err.good("ok:"), plural(n, "thing"))
	}
	return nil
}
