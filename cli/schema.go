package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"timegate/core/gate"
)

func (a *app) schemaCommand() *cli.Command {
	return &cli.Command{
		Name: "schema", Category: otherCommands, Usage: "print a JSON Schema of gate files, by which editors complete and check them",
		Description: examples(`timegate schema > ~/.config/timegate/gate.schema.json`, `timegate schema | head`) + "An editor that knows TOML and JSON Schema takes it for the files in the folder of gates.",
		Action: func(_ context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			_, err := a.out.documents().Write(gate.Schema())
			return err
		},
	}
}
