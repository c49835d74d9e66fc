package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"timegate/core/gate"
)

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

func (a *app) change(ctx context.Context, c *cli.Command) error {
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
	if err := a.changeOpenings(edit, c.StringSlice("open"), opening, one); err != nil {
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
	put, err := a.keepScript(ctx, c, name, args[1:], edit)
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
func (a *app) changeOpenings(edit *gate.Edit, phrases []string, opening string, one bool) error {
	for i, text := range phrases {
		p, err := a.phraseOf(text)
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
