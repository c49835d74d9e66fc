package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"timegate/core/gate"
	"timegate/desktop"
	"timegate/gates"
)

func (a *app) addCommand() *cli.Command {
	return &cli.Command{
		Name: "add", Category: sayCommands, Usage: "add a gate", ArgsUsage: "NAME --open PHRASE … -- PROGRAM [ARGUMENT …]",
		Description: examples(
			`timegate add humidity-log --open "every 10m" --open boot --about "Log the press room's humidity" -- ~/bin/humidity-log --room press`,
			`timegate add stock-count --open work="every 30m from 08:00 to 17:30 on mon-fri" --now -- ~/bin/stock-count`,
			`timegate add vault-copy --open "at 03:20" --set needs.paths=/media/vault --set rules.missed=once -- ~/bin/vault-copy`,
			`timegate add press-count --open "at 18:00" --line 'cd /srv/press && ./count | tee -a count.log'`,
			`timegate add job-board --program xterm --open logon`,
			`timegate add --each ~/larkspur/bin --open logon`,
			`timegate add glue-warm`,
		) + "A running keeper takes the gate over at once. Nothing is written if anything is wrong. On a terminal, give only a\n" +
			"name, and you are asked for the rest.",
		Flags: append(gateFlags("a moment to start at, as a `PHRASE`, or as NAME=PHRASE; may be given several times"),
			&cli.StringFlag{Name: "each", Usage: "a gate for each program and script in `FOLDER`, called as they are", TakesFile: true},
			&cli.StringFlag{Name: "program", Usage: "take the command, its folder, window and description from this `ITEM`; see: timegate find"}),
		Action: a.add,
	}
}

func (a *app) add(ctx context.Context, c *cli.Command) error {
	if c.IsSet("each") {
		return a.addEach(ctx, c, c.String("each"))
	}
	args := c.Args().Slice()
	if len(args) == 0 {
		return usageError("the gate's name is missing; write: timegate add %s", c.ArgsUsage)
	}
	name, argv := args[0], args[1:]
	if err := a.freeName(name); err != nil {
		return err
	}
	if err := looseWords(c, argv); err != nil {
		return err
	}
	item, err := a.itemGiven(c)
	if err != nil {
		return err
	}
	if item != nil {
		command, err := item.Command()
		if err != nil {
			return usageError("--program %s: %w", c.String("program"), err)
		}
		argv = append(command, argv...)
	}
	line := c.IsSet("line")
	if line {
		argv = append([]string{a.home.KeptScript(name)}, argv...)
	}
	if len(argv) == 0 && a.asks() {
		return a.addAsking(ctx, c, name)
	}
	if len(argv) == 0 || argv[0] == "" {
		return usageError("there is nothing to run; write: timegate add %s", c.ArgsUsage)
	}
	g, err := a.newGate(c, name, argv)
	if err != nil {
		return err
	}
	if item != nil {
		takeItem(g, item)
	}
	a.giveDesktop(c, g)
	edit := gate.NewEdit(gate.Format(g))
	if err := setKeys(c, edit); err != nil {
		return err
	}
	var others []gates.OtherChange
	if line {
		if others, err = a.keepLine(c, name, c.String("line"), argv[1:], edit); err != nil {
			return err
		}
	}
	return a.writeEdit(ctx, c, name, g.Run, edit, others...)
}

// itemGiven returns the item that --program names, or nil.
func (a *app) itemGiven(c *cli.Command) (*desktop.Entry, error) {
	name := c.String("program")
	if name == "" {
		return nil, nil
	}
	item, err := a.itemNamed(name)
	return &item, err
}

// takeItem gives a gate what an item says besides its command: what it is for, its
// folder, and for an application the desktop, in a terminal where it wants one.
func takeItem(g *gate.Gate, item *desktop.Entry) {
	g.About = cmp.Or(g.About, item.Comment, item.Generic, item.Name)
	g.Folder = cmp.Or(g.Folder, item.Folder)
	if !item.Application() {
		return
	}
	g.As.Desktop = true
	if item.Terminal {
		g.As.Window = gate.WindowTerminal
	}
}

// giveDesktop gives a program that shows windows the desktop, and says so, unless the call says
// what it gets.
func (a *app) giveDesktop(c *cli.Command, g *gate.Gate) {
	said := slices.ContainsFunc(c.StringSlice("set"), func(s string) bool {
		return strings.HasPrefix(s, "as.desktop=") || strings.HasPrefix(s, "as.env")
	})
	if said || g.As.Desktop {
		return
	}
	why, sure := a.launcher().ShowsWindows(g)
	if !sure {
		return
	}
	g.As.Desktop = true
	fmt.Fprintf(a.err, "%s shows windows (%s), so it gets a desktop: as.desktop = true; if it is to have none: --set as.desktop=false\n", filepath.Base(g.Run[0]), why)
}

// writeEdit proposes a gate as an edit has it.
func (a *app) writeEdit(ctx context.Context, c *cli.Command, name string, argv []string, edit *gate.Edit, others ...gates.OtherChange) error {
	put, err := a.keepScript(ctx, c, name, argv, edit)
	if err != nil {
		return err
	}
	data, err := edit.Bytes()
	if err != nil {
		return err
	}
	return a.propose(ctx, c, name, data, put, others...)
}

// newGate puts together a gate from the options of add.
func (a *app) newGate(c *cli.Command, name string, argv []string) (*gate.Gate, error) {
	g := gate.Default(name)
	g.About, g.Enabled = c.String("about"), !c.Bool("off")
	g.As.User, g.As.Elevated = c.String("user"), c.Bool("elevated")
	for i, text := range c.StringSlice("open") {
		o, err := a.openingOf(text)
		if err != nil {
			return nil, err
		}
		if o.Name == "" {
			o.Name = strconv.Itoa(i + 1)
		}
		g.Opens = append(g.Opens, o)
	}
	g.Measure = c.StringSlice("measure")
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
	if c.IsSet("line") {
		g.Run = argv
		return g, nil
	}
	program, err := wholeProgram(argv[0])
	if errors.Is(err, fs.ErrNotExist) {
		if !c.Bool("later") || !strings.Contains(argv[0], "/") {
			return nil, noProgram(argv, err, "check the path, or give its whole path and --later if it is yet to come")
		}
	} else if err != nil {
		return nil, err
	}
	g.Run = append([]string{program}, argv[1:]...)
	return g, nil
}
