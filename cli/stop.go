package cli

import (
	"context"

	"github.com/urfave/cli/v3"
)

func (a *app) stopCommand() *cli.Command {
	return &cli.Command{
		Name: "stop", Category: keepCommands, Usage: "end the running programs of a gate", ArgsUsage: "NAME",
		Description: examples(`timegate stop vault-copy`, `timegate stop vault-copy --json`) + "The program and its children are asked to end. What has not ended after limits.grace is killed.",
		Action:      func(ctx context.Context, c *cli.Command) error { return a.command(ctx, c, a.client.Stop) },
	}
}
