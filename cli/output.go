package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"strconv"

	"github.com/urfave/cli/v3"

	"timegate/control"
	"timegate/journal"
)

func (a *app) outputCommand() *cli.Command {
	return &cli.Command{
		Name: "output", Category: watchCommands, Usage: "what a run printed", ArgsUsage: "RUN | NAME",
		Description: examples(`timegate output 12`, `timegate output vault-copy`, `timegate output vault-copy --follow`, `timegate output 12 --raw > printed.txt`) + "Of a gate it is the last run. The number of a run is in \"timegate history\". On a terminal, control characters are written out, as in \\x1b.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "raw", Usage: "print it as it is, even to a terminal"},
			&cli.BoolFlag{Name: "follow", Usage: "go on with what it prints until it ends; an interrupt leaves it running"},
		},
		Action: a.output,
	}
}

func (a *app) output(ctx context.Context, c *cli.Command) error {
	arg, err := oneArgument(c, "the number of a run, or the name of a gate")
	if err != nil {
		return err
	}
	j, err := a.reader()
	if err != nil {
		return err
	}
	if j != nil {
		defer j.Close()
	}
	e, err := a.runNamed(j, arg)
	if err != nil {
		return err
	}
	if c.Bool("follow") && e.Ended == 0 {
		return a.followOutput(ctx, e)
	}
	text, err := j.Output(e.Run)
	if err != nil {
		return err
	}
	if a.json {
		return a.out.printJSON(printed{e.Run, string(text)})
	}
	if len(text) == 0 && e.Usage.Output > 0 {
		fmt.Fprintf(a.err, "the output of run %d (%s) is no longer kept\n", e.Run, plural(int(e.Usage.Output), "byte"))
	}
	if c.Bool("raw") {
		_, err = a.out.Forward.Write(text)
		return err
	}
	return a.out.raw(text)
}

// printed is what a run printed, in JSON.
type printed struct {
	Run    int64  `json:"run"`
	Output string `json:"output"`
}

// runNamed returns a run by its number, or the last one of a gate.
func (a *app) runNamed(j control.Records, arg string) (journal.Entry, error) {
	run, err := strconv.ParseInt(arg, 10, 64)
	if err != nil {
		return a.lastRun(j, arg)
	}
	none := &exitError{exitUnknown, fmt.Errorf("there is no run %d; see \"timegate history\"", run)}
	if j == nil || run < 1 {
		return journal.Entry{}, none
	}
	e, ok, err := j.Run(run)
	if err == nil && !ok {
		err = none
	}
	return e, err
}

// lastRun returns the last run of a gate.
func (a *app) lastRun(j control.Records, name string) (journal.Entry, error) {
	if j != nil {
		list, err := j.History(journal.Filter{Gate: name, Limit: 1, OnlyRuns: true})
		if err != nil {
			return journal.Entry{}, err
		}
		if len(list) > 0 {
			return list[0], nil
		}
	}
	if _, err := a.file(name); err != nil {
		return journal.Entry{}, err
	}
	return journal.Entry{}, &exitError{exitUnknown, fmt.Errorf("%s has not run yet", name)}
}

// followOutput prints what a run prints until it ends, or the following is interrupted.
func (a *app) followOutput(ctx context.Context, e journal.Entry) error {
	a.lasts()
	status, err := a.client.Status(ctx)
	if err != nil {
		return err
	}
	show := a.out.raw
	if a.json {
		show = func(text []byte) error {
			if len(text) == 0 {
				return nil
			}
			line, err := json.Marshal(printed{e.Run, string(text)})
			if err == nil {
				_, err = fmt.Fprintf(a.out.documents(), "%s\n", line)
			}
			return err
		}
	}
	over, err := a.followRun(ctx, e.Run, status.Last, show, nil)
	if err != nil || over.Ended == 0 {
		return err
	}
	fmt.Fprintf(a.err, "%s: %s, after %s\n", a.result(over.Result), outcomeOf(&over), short(over.Ended.Sub(over.Started)))
	return nil
}
