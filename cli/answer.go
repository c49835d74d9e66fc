package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"timegate/control"
	"timegate/core/engine"
)

// command sends a command about one gate and tells what came of it.
func (a *app) command(ctx context.Context, c *cli.Command, send func(context.Context, string) (control.Answer, error)) error {
	name, err := oneArgument(c, "the name of a gate")
	if err != nil {
		return err
	}
	return a.answered(name)(send(ctx, name))
}

// answered tells what came of a command about a gate.
func (a *app) answered(name string) func(control.Answer, error) error {
	return func(ans control.Answer, err error) error {
		switch {
		case err != nil:
			return err
		case !ans.Known && ans.Error != "":
			return usageError("the gate %s is wrong: %s", name, ans.Error)
		case !ans.Known:
			return a.noGate(name)
		}
		return a.printAnswer(name, ans)
	}
}

func (a *app) printAnswer(name string, ans control.Answer) error {
	if a.json {
		return a.out.printJSON(ans.Decisions)
	}
	if len(ans.Decisions) == 0 {
		fmt.Fprintf(a.out, "%s does not run\n", name)
		return nil
	}
	var failed error
	over := map[int64]bool{} // runs that did not even begin
	for _, d := range ans.Decisions {
		over[d.Run] = over[d.Run] || d.Run != 0 && d.Result != ""
	}
	for _, d := range ans.Decisions {
		switch {
		case d.Starts() && over[d.Run]:
		case d.Starts():
			fmt.Fprintf(a.out, "%s: run %d started\n", d.Gate, d.Run)
		case d.Decision == string(engine.StopRun) && d.Signal == "KILL":
			fmt.Fprintf(a.out, "%s: run %d is killed\n", d.Gate, d.Run)
		case d.Decision == string(engine.StopRun):
			fmt.Fprintf(a.out, "%s: run %d is asked to end\n", d.Gate, d.Run)
		case d.Decision == string(engine.Wait):
			fmt.Fprintf(a.out, "%s: waits, %s\n", d.Gate, d.Reason)
		default:
			fmt.Fprintf(a.out, "%s: %s, %s\n", d.Gate, a.result(engine.Result(d.Result)), d.Reason)
			switch engine.Result(d.Result) {
			case engine.ResultSkipped, engine.ResultFailed, engine.ResultRefused:
				failed = &exitError{status: exitFailed}
			}
		}
	}
	return failed
}
