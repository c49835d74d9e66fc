package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"timegate/gates"
)

func (a *app) removeCommand() *cli.Command {
	return &cli.Command{
		Name: "remove", Category: sayCommands, Usage: "take a gate away, after a question", ArgsUsage: "NAME",
		Description: "timegate remove paper-rota\n\nIts file goes to the folder \"removed\" beside the gates; what it has run stays in the history. A program that runs now is not ended.",
		Flags:       []cli.Flag{yesFlag()},
		Action:      a.remove,
	}
}

func (a *app) remove(_ context.Context, c *cli.Command) error {
	f, err := a.gateArgument(c)
	if err != nil {
		return err
	}
	ok, err := a.confirm(c, fmt.Sprintf("Remove the gate %s?", f.Name))
	if err != nil || !ok {
		return err
	}
	plan, now := gates.NewPlan(a.home), a.now()
	plan.Remove(f.Name)
	if err := plan.Commit(a.env(), now); err != nil {
		return err
	}
	fmt.Fprintf(a.err, "%s is removed; its file is now %s\n", f.Name, gates.RemovedFile(a.home, f.Name, now))
	return nil
}
