package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"timegate/core/event"
	"timegate/core/phrase"
	"timegate/workstation/accounts"
)

func (a *app) stageCommand() *cli.Command {
	var list strings.Builder
	for _, v := range event.Staged() {
		fmt.Fprintf(&list, "\n  %-24s %s", v.Usage(), v.Help)
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
			if err := a.stageable(words); err != nil {
				return err
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

// stageable refuses accounts that nobody knows: neither this machine nor a gate.
func (a *app) stageable(words []string) error {
	const named = 2
	if len(words) != named || !slices.Contains([]string{"logon", "logoff", "lock", "unlock"}, words[0]) {
		return nil
	}
	name := words[1]
	if _, err := accounts.ByName(name); !accounts.Unknown(err) {
		return nil
	}
	files, err := a.files()
	if err != nil {
		return err
	}
	var known []string
	for _, f := range files {
		if f.Gate == nil {
			continue
		}
		known = append(known, f.Gate.As.User, f.Gate.Needs.People)
		for _, o := range f.Gate.Opens {
			known = append(known, o.Plan.Phrase.Event.Account)
		}
	}
	if slices.Contains(known, name) {
		return nil
	}
	if near, ok := phrase.Nearest(name, known); ok && near != "" {
		return usageError("there is no account %s here, and no gate names one; did you mean %q?", name, near)
	}
	return usageError("there is no account %s here, and no gate names one", name)
}
