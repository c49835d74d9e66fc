package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"timegate/gates"
)

func (a *app) undoCommand() *cli.Command {
	return &cli.Command{
		Name: "undo", Category: sayCommands, Usage: "undo the last change of gates",
		Description: examples(`timegate undo`, `timegate undo --yes`) + "Everything that the last command wrote or removed is undone together. It is refused if one of the files has changed since.\nUndo once more to bring it back.",
		Flags:       []cli.Flag{yesFlag()},
		Action:      a.undo,
	}
}

func (a *app) undo(_ context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	plan, err := gates.Undo(a.home)
	return a.undoPlan(c, plan, err)
}

// undoPlan shows a plan that takes a change back, asks, and brings it into force. err is
// what came of making it.
func (a *app) undoPlan(c *cli.Command, plan *gates.Plan, err error) error {
	if errors.Is(err, gates.ErrNothingToUndo) {
		return usageError("%w", err)
	}
	if changed := (*gates.ChangedError)(nil); errors.As(err, &changed) {
		return usageError("%w; what was before is in %s", err, filepath.Join(a.home.Gates, ".plan.json"))
	}
	if err != nil {
		return err
	}
	for _, change := range plan.Changes() {
		what := "gets its earlier content back"
		if change.After == nil {
			what = "is removed"
		}
		fmt.Fprintf(a.out, "%s %s\n", a.out.head(change.Name), what)
	}
	for _, other := range plan.Others() {
		if plan.Noted(other.Path) {
			continue
		}
		what := "gets its earlier content back"
		if other.After == nil {
			what = "is taken away"
		}
		fmt.Fprintf(a.out, "%s %s\n", a.out.head(other.Path), what)
	}
	if ok, err := a.confirm(c, "Undo the last change?"); err != nil || !ok {
		return err
	}
	if err := a.commit(plan, a.now()); err != nil {
		return err
	}
	fmt.Fprintln(a.err, a.err.good("undone"))
	return nil
}
