package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"
)

func (a *app) sendCommand() *cli.Command {
	return &cli.Command{
		Name: "send", Category: keepCommands, Usage: "send a signal to the gates that wait for it", ArgsUsage: "SIGNAL",
		Description: examples(`timegate send proofs-ready`, `timegate send proofs-ready --json`) + "It opens the gates that have an opening such as \"signal proofs-ready\". Any program may call this.",
		Action: func(ctx context.Context, c *cli.Command) error {
			name, err := oneArgument(c, "the name of the signal")
			if err != nil {
				return err
			}
			ans, err := a.client.Send(ctx, name)
			if err != nil {
				return err
			}
			if !ans.Known {
				return &exitError{exitUnknown, fmt.Errorf("no gate waits for the signal %q now", name)}
			}
			if len(ans.Decisions) == 0 && !a.json {
				why := "no gate opens by it now, by its days, its hours or \"first\""
				if s, err := a.client.Status(ctx); err == nil && s.Paused {
					why = "the gates are paused, and it is skipped"
				}
				fmt.Fprintf(a.out, "sent: %s\n", why)
				return nil
			}
			return a.printAnswer(name, ans)
		},
	}
}
