package cli

import (
	"context"
	"fmt"
	"strconv"

	"github.com/urfave/cli/v3"
)

func (a *app) outputCommand() *cli.Command {
	return &cli.Command{
		Name: "output", Category: watchCommands, Usage: "what a run printed", ArgsUsage: "RUN",
		Description: examples(`timegate output 12`, `timegate output 12 --raw > printed.txt`) + "The number of a run is in \"timegate history\". On a terminal, control characters are written out, as in \\x1b.",
		Flags:       []cli.Flag{&cli.BoolFlag{Name: "raw", Usage: "print it as it is, even to a terminal"}},
		Action:      a.output,
	}
}

func (a *app) output(_ context.Context, c *cli.Command) error {
	arg, err := oneArgument(c, "the number of a run")
	if err != nil {
		return err
	}
	run, err := strconv.ParseInt(arg, 10, 64)
	if err != nil || run < 1 {
		return usageError("%q is not the number of a run; see \"timegate history\"", arg)
	}
	j, err := a.reader()
	if err != nil {
		return err
	}
	none := &exitError{exitUnknown, fmt.Errorf("there is no run %d; see \"timegate history\"", run)}
	if j == nil {
		return none
	}
	defer j.Close()
	e, ok, err := j.Run(run)
	if err != nil {
		return err
	}
	if !ok {
		return none
	}
	text, err := j.Output(run)
	if err != nil {
		return err
	}
	if a.json {
		return a.out.printJSON(map[string]any{"run": run, "output": string(text)})
	}
	if len(text) == 0 && e.Usage.Output > 0 {
		fmt.Fprintf(a.err, "the output of run %d (%s) is no longer kept\n", run, plural(int(e.Usage.Output), "byte"))
	}
	if c.Bool("raw") {
		_, err = a.out.Forward.Write(text)
		return err
	}
	return a.out.raw(text)
}
