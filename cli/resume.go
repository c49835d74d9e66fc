package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"
)

func (a *app) resumeCommand() *cli.Command {
	return &cli.Command{
		Name: "resume", Category: keepCommands, Usage: "end a pause",
		Description: examples(`timegate resume`, `timegate resume && timegate list`),
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			ans, err := a.client.Resume(ctx)
			if err != nil {
				return err
			}
			a.note("skipped", len(ans.Decisions))
			fmt.Fprintf(a.out, "resumed; %s skipped during the pause\n", plural(len(ans.Decisions), "opening"))
			return nil
		},
	}
}
