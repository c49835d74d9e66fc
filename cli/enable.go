package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"timegate/core/gate"
	"timegate/gates"
)

func (a *app) enableCommand(on bool) *cli.Command {
	c := &cli.Command{
		Name: "enable", Category: sayCommands, Usage: "switch a gate, or one of its openings, on", ArgsUsage: "NAME[/OPENING] …",
		Description: examples(`timegate enable stock-count`, `timegate enable stock-count/saturdays`, `timegate enable stock-count vault-copy --now`),
		Action:      func(ctx context.Context, c *cli.Command) error { return a.enable(ctx, c, on) },
	}
	if on {
		c.Flags = []cli.Flag{nowFlag(), laterFlag()}
	}
	if !on {
		c.Name, c.Usage, c.Description = "disable", "switch a gate, or one of its openings, off", examples(`timegate disable stock-count`, `timegate disable stock-count/saturdays vault-copy`)
	}
	return c
}

// enable switches gates or openings: all that are named, or none of them.
func (a *app) enable(ctx context.Context, c *cli.Command, on bool) error {
	args := c.Args().Slice()
	if len(args) == 0 {
		_, err := oneArgument(c, "the name of a gate")
		return err
	}
	state := "on"
	if !on {
		state = "off"
	}
	texts := map[string]string{} // of the files as they are then
	var names, switched []string
	for _, arg := range args {
		name, opening, one := strings.Cut(arg, "/")
		f, err := a.file(name)
		if err != nil {
			return err
		}
		if f.Gate == nil {
			return f.Findings.Errors()
		}
		text, again := texts[name]
		if !again {
			text, names = f.Text, append(names, name)
		}
		data, err := switchText(name, text, opening, one, on)
		if err != nil {
			return err
		}
		if texts[name] = data; data != text && (one || f.Gate.Enabled != on) {
			switched = append(switched, arg)
		}
	}
	plan := gates.NewPlan(a.home)
	var files []gates.File
	for _, name := range names {
		if f, err := a.file(name); err != nil || texts[name] == f.Text || len(switched) == 0 {
			continue
		}
		files = append(files, gates.Parse(a.home, name, []byte(texts[name]), a.env()))
		plan.Put(name, []byte(texts[name]))
	}
	if on && len(files) > 0 {
		if err := a.refuse(c, files); err != nil {
			return err
		}
	}
	if len(switched) > 0 {
		if err := a.commit(plan, a.now()); err != nil {
			return err
		}
	}
	for _, arg := range args {
		if slices.Contains(switched, arg) {
			fmt.Fprintf(a.err, "%s is %s\n", arg, state)
		} else {
			fmt.Fprintf(a.err, "%s is %s already\n", arg, state)
		}
	}
	for _, name := range names {
		if err := a.startNow(ctx, c, name); err != nil {
			return err
		}
	}
	return nil
}

// switchText switches a gate, or one of its openings, in the text of its file.
func switchText(name, text, opening string, one, on bool) (string, error) {
	edit := gate.NewEdit([]byte(text))
	if one {
		edit.EnableOpening(opening, on)
	} else {
		edit.SetBool("enabled", on)
	}
	data, err := edit.Bytes()
	if none := (*gate.NoOpeningError)(nil); errors.As(err, &none) {
		return "", &exitError{exitUnknown, fmt.Errorf("gate %s: %w", name, err)}
	}
	return string(data), err
}
