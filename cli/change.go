package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"timegate/core/gate"
	"timegate/gates"
	"timegate/inspect"
)

func (a *app) changeCommand() *cli.Command {
	return &cli.Command{
		Name: "change", Category: sayCommands, Usage: "change a gate, or one of its openings", ArgsUsage: "NAME[/OPENING] [-- PROGRAM [ARGUMENT …]]",
		Description: examples(
			`timegate change stock-count/saturdays --open "at 08:45 on sat"`,
			`timegate change stock-count --open evenings="at 18:00 on mon-fri"`,
			`timegate change stock-count/evenings --about "When the last guillotine stops"`,
			`timegate change vault-copy --set needs.power=mains --set again.times=3`,
			`timegate change humidity-log --args -- --room store`,
			`timegate change press-count --line 'cd /srv/press && ./count >> count.log'`,
			`timegate change stock-count`,
		) + "Only what you give changes. Comments and everything else in the file stay.\n\n" +
			"  NAME/OPENING --open PHRASE   gives that opening another phrase\n" +
			"  NAME/1 --open work=PHRASE    names it as well\n" +
			"  NAME --open work=PHRASE      changes or adds the opening \"work\"; the others stay\n" +
			"  NAME --open PHRASE           replaces all openings\n\n" +
			"\"timegate remove NAME/OPENING\" takes one away. On a terminal, give only a name, and you are asked what to change.",
		Flags: append(gateFlags("start at this `PHRASE`, or NAME=PHRASE"),
			&cli.BoolFlag{Name: "args", Usage: "what stands after -- are the arguments alone; the program stays"}),
		Action: a.change,
	}
}

func (a *app) change(ctx context.Context, c *cli.Command) error {
	args := c.Args().Slice()
	if len(args) == 0 {
		return usageError("the name of a gate is missing; write: timegate change %s", c.ArgsUsage)
	}
	name, opening, one := strings.Cut(args[0], "/")
	f, err := a.file(name)
	if err != nil {
		return err
	}
	argv := args[1:]
	if err := looseWords(c, argv); err != nil {
		return err
	}
	if !one && len(argv) == 0 && !anySet(c) && a.asks() && f.Gate != nil {
		return a.changeAsking(ctx, c, f)
	}
	edit := gate.NewEdit([]byte(f.Text))
	if err := a.changeOpenings(edit, c.StringSlice("open"), opening, one); err != nil {
		return err
	}
	if err := changeKeys(c, edit, opening); err != nil {
		return err
	}
	var others []gates.OtherChange
	if c.IsSet("line") {
		if len(argv) == 0 && f.Gate != nil && f.Gate.Run[0] == a.home.KeptScript(name) {
			argv = f.Gate.Run[1:] // the script is another, its arguments stay
		}
		if others, err = a.keepLine(c, name, c.String("line"), argv, edit); err != nil {
			return err
		}
		argv = nil
	}
	if argv, err = a.changeProgram(c, edit, f.Gate, argv); err != nil {
		return err
	}
	data, err := edit.Bytes()
	if none := (*gate.NoOpeningError)(nil); errors.As(err, &none) {
		return &exitError{exitUnknown, fmt.Errorf("gate %s: %w", name, err)}
	}
	if err != nil {
		return err
	}
	if string(data) == f.Text && !c.Bool("copy-script") && !c.IsSet("line") {
		return usageError("nothing to change: give an option, or a program after --; see \"timegate help change\"")
	}
	return a.writeEdit(ctx, c, name, argv, edit, others...)
}

// anySet reports whether an option of the command itself was given.
func anySet(c *cli.Command) bool {
	return slices.ContainsFunc(c.Flags, func(f cli.Flag) bool { return c.IsSet(f.Names()[0]) })
}

// changeKeys sets the keys that have an option of their own, and those of --set. What
// something is for is said of the opening, where one is named.
func changeKeys(c *cli.Command, edit *gate.Edit, opening string) error {
	for _, o := range []struct{ option, key string }{{"about", "about"}, {"longest", "limits.longest"}, {"busy", "rules.busy"}, {"user", "as.user"}} {
		switch {
		case !c.IsSet(o.option):
		case opening != "" && o.option == "about":
			edit.DescribeOpening(opening, c.String(o.option))
		default:
			edit.SetText(o.key, c.String(o.option))
		}
	}
	if c.IsSet("measure") {
		edit.SetTexts("measure", c.StringSlice("measure"))
	}
	if c.IsSet("elevated") {
		edit.SetBool("as.elevated", c.Bool("elevated"))
		if c.Bool("elevated") {
			edit.Unset("as.user") // one takes the place of the other
		}
	} else if c.IsSet("user") {
		edit.Unset("as.elevated")
	}
	if c.IsSet("off") {
		edit.SetBool("enabled", !c.Bool("off"))
	}
	if c.IsSet("folder") {
		abs, err := filepath.Abs(c.String("folder"))
		if err != nil {
			return err
		}
		edit.SetText("folder", abs)
	}
	return setKeys(c, edit)
}

// changeProgram sets another program, and returns what is to run. A copy of a
// script that is renewed keeps its arguments.
func (a *app) changeProgram(c *cli.Command, edit *gate.Edit, g *gate.Gate, argv []string) ([]string, error) {
	if c.Bool("copy-script") && g != nil && len(argv) <= 1 {
		at, source := max(slices.Index(g.Run, a.home.KeptScript(g.Name)), 0), ""
		if g.Run[at] == a.home.KeptScript(g.Name) {
			source = a.home.ScriptSource(g.Name)
		} else {
			at = inspect.ScriptAt(g.Run, g.Run[0])
			source = g.Run[at]
		}
		if len(argv) > 0 {
			source = argv[0]
		}
		if source == "" {
			return nil, usageError("it is not known where the script was copied from; give it after --")
		}
		argv = slices.Clone(g.Run)
		argv[at] = source
	}
	switch {
	case c.Bool("args") && g != nil:
		argv = append(g.Run[:1:1], argv...)
	case len(argv) == 0:
		return nil, nil
	case strings.HasPrefix(argv[0], "-"):
		return nil, usageError("%q is an argument, and no program; for other arguments of the same program write: timegate change %s --args -- %s", argv[0], c.Args().First(), gate.CommandLine(argv...))
	}
	program, err := wholeProgram(argv[0])
	if err != nil {
		return nil, noProgram(argv, err, "check the path")
	}
	argv[0] = program
	edit.SetTexts("run", argv)
	return argv, nil
}

// changeOpenings puts phrases in the place of one opening's, of those they name,
// or of all.
func (a *app) changeOpenings(edit *gate.Edit, texts []string, opening string, one bool) error {
	var list []gate.Opening
	named := 0
	for _, text := range texts {
		o, err := a.openingOf(text)
		if err != nil {
			return err
		}
		if o.Name != "" {
			named++
		}
		list = append(list, o)
	}
	switch {
	case one && len(list) > 1:
		return usageError("an opening has one phrase: give --open once")
	case one && !edit.HasOpening(opening):
		edit.SetOpening(opening, "") // its error names those that are there
	case one && len(list) == 1:
		changeOpening(edit, opening, list[0])
	case named > 0 && named == len(list):
		for _, o := range list {
			changeOpening(edit, o.Name, o)
		}
	case len(list) > 0:
		edit.SetOpenings(list)
	}
	return nil
}

// changeOpening gives an opening a phrase, and a name if it has one; or adds it.
func changeOpening(edit *gate.Edit, opening string, o gate.Opening) {
	if !edit.HasOpening(opening) {
		edit.AddOpening(o)
		return
	}
	edit.SetOpening(opening, o.When)
	if o.Name != "" && o.Name != opening {
		edit.NameOpening(opening, o.Name)
	}
}
