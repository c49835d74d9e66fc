package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"timegate/workstation/staged"
)

func (a *app) stageCommand() *cli.Command {
	var list strings.Builder
	for _, stagedEvent := range staged.EventHelp() {
		fmt.Fprintf(&list, "\n  %-24s %s", strings.TrimSpace(stagedEvent[0]+" "+stagedEvent[1]), stagedEvent[2])
	}
	return &cli.Command{
		Name: "stage", Category: otherCommands, Usage: "make something happen on a staged machine", ArgsUsage: "EVENT [ARGUMENT …]",
		Description:     examples(`timegate stage battery 70%`, `timegate stage unlock`, `timegate stage clock +2h`) + "The keeper must have been started with \"timegate keeper run --staged\". Events:\n" + list.String(),
		SkipFlagParsing: true,
		Action: func(ctx context.Context, c *cli.Command) error {
			words := c.Args().Slice()
			if len(words) == 0 {
				return usageError("what is to happen is missing: timegate stage %s", c.ArgsUsage)
			}
			if words[0] == "-h" || words[0] == "--help" {
				return cli.ShowSubcommandHelp(c)
			}
			ans, err := a.client.Stage(ctx, words)
			if err != nil {
				return err
			}
			if ans.Error != "" {
				return &exitError{exitWrong, errors.New(ans.Error)}
			}
			fmt.Fprintf(a.out, "staged: %s\n", strings.Join(words, " "))
			return nil
		},
	}
}
