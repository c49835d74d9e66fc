package cli

import (
	"context"

	"github.com/urfave/cli/v3"
)

func (a *app) stopCommand() *cli.Command {
	return &cli.Command{
		Name: "stop", Category: keepCommands, Usage: "end a gate's programs that run", ArgsUsage: "NAME",
		Description: examples(`timegate stop vault-copy`, `timegate stop vault-copy --json`) + "The program and all that came of it are asked to end; what has not ended after the gate's \"grace\" is killed.",
		Action:      func(ctx context.Context, c *cli.Command) error { return a.command(ctx, c, a.client.Stop) },
	}
}
