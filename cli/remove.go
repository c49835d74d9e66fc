package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"timegate/core/gate"
	"timegate/gates"
)

func (a *app) removeCommand() *cli.Command {
	return &cli.Command{
		Name: "remove", Category: sayCommands, Usage: "remove a gate, or one of its openings", ArgsUsage: "NAME[/OPENING]",
		Description: examples(`timegate remove paper-rota`, `timegate remove stock-count/saturdays --yes`) +
			"The gate's file goes to the folder \"removed\" beside the gates; what it has run stays in the history. A program that\n" +
			"runs now is not ended. \"timegate undo\" brings it back.",
		Flags:  []cli.Flag{yesFlag()},
		Action: a.remove,
	}
}

func (a *app) remove(_ context.Context, c *cli.Command) error {
	arg, err := oneArgument(c, "the name of a gate")
	if err != nil {
		return err
	}
	name, opening, one := strings.Cut(arg, "/")
	f, err := a.file(name)
	if err != nil {
		return err
	}
	plan, now := gates.NewPlan(a.home), a.now()
	what, done := "gate "+f.Name, fmt.Sprintf("%s is removed; its file is now %s", f.Name, gates.RemovedFile(a.home, f.Name, now))
	if one {
		edit := gate.NewEdit([]byte(f.Text))
		edit.RemoveOpening(opening)
		data, err := edit.Bytes()
		if none := (*gate.NoOpeningError)(nil); errors.As(err, &none) {
			return &exitError{exitUnknown, fmt.Errorf("gate %s: %w", name, err)}
		} else if err != nil {
			return err
		}
		plan.Put(name, data)
		what, done = fmt.Sprintf("opening %s of %s", opening, name), arg+" is removed"
	} else {
		plan.Remove(name)
	}
	ok, err := a.confirm(c, fmt.Sprintf("Remove the %s?", what))
	if err != nil || !ok {
		return err
	}
	if err := a.commit(plan, now); err != nil {
		return err
	}
	fmt.Fprintln(a.err, done)
	return nil
}
