package cli

import (
	"context"

	"github.com/urfave/cli/v3"
)

func (a *app) openCommand() *cli.Command {
	return &cli.Command{
		Name: "open", Category: keepCommands, Usage: "start a gate's program now", ArgsUsage: "NAME",
		Description: examples(`timegate open job-board`, `timegate open vault-copy && timegate history vault-copy --count 1`) + "It starts even if the gate is switched off or everything is paused. If it is still running, the gate's rules.busy decides.",
		Action:      func(ctx context.Context, c *cli.Command) error { return a.command(ctx, c, a.client.Open) },
	}
}
