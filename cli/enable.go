package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"timegate/core/gate"
	"timegate/gates"
)

func (a *app) enableCommand(on bool) *cli.Command {
	c := &cli.Command{
		Name: "enable", Category: sayCommands, Usage: "switch a gate, or one of its openings, on", ArgsUsage: "NAME[/OPENING]",
		Description: examples(`timegate enable stock-count`, `timegate enable stock-count/saturdays`, `timegate enable stock-count --now`),
		Action:      func(ctx context.Context, c *cli.Command) error { return a.enable(ctx, c, on) },
	}
	if on {
		c.Flags = []cli.Flag{nowFlag(), laterFlag()}
	}
	if !on {
		c.Name, c.Usage, c.Description = "disable", "switch a gate, or one of its openings, off", examples(`timegate disable stock-count`, `timegate disable stock-count/saturdays`)
	}
	return c
}

func (a *app) enable(ctx context.Context, c *cli.Command, on bool) error {
	arg, err := oneArgument(c, "the name of a gate")
	if err != nil {
		return err
	}
	if err := a.keeperForNow(ctx, c); err != nil {
		return err
	}
	name, opening, one := strings.Cut(arg, "/")
	f, err := a.file(name)
	if err != nil {
		return err
	}
	if f.Gate == nil {
		return f.Findings.Errors()
	}
	edit := gate.NewEdit([]byte(f.Text))
	if one {
		edit.EnableOpening(opening, on)
	} else {
		edit.SetBool("enabled", on)
	}
	data, err := edit.Bytes()
	if none := (*gate.NoOpeningError)(nil); errors.As(err, &none) {
		return &exitError{exitUnknown, fmt.Errorf("gate %s: %w", name, err)}
	}
	if err != nil {
		return err
	}
	state := "on"
	if !on {
		state = "off"
	}
	if string(data) == f.Text || !one && f.Gate.Enabled == on {
		fmt.Fprintf(a.err, "%s is %s already\n", arg, state)
		return a.startNow(ctx, c, name)
	}
	if on {
		if err := a.refuse(c, []gates.File{gates.Parse(a.home, name, data, a.env())}); err != nil {
			return err
		}
	}
	plan := gates.NewPlan(a.home)
	plan.Put(name, data)
	if err := a.commit(plan, a.now()); err != nil {
		return err
	}
	fmt.Fprintf(a.err, "%s is %s\n", arg, state)
	return a.startNow(ctx, c, name)
}
