package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"timegate/core/calendar"
	"timegate/core/forecast"
	"timegate/gates"
	"timegate/ical"
)

func (a *app) exportCommand() *cli.Command {
	return &cli.Command{
		Name: "export", Category: otherCommands, Usage: "write the gates into a folder, or their moments as a calendar file", ArgsUsage: "FOLDER | --ics [NAME …]",
		Description: examples(`timegate export ~/larkspur-gates`, `timegate export --ics --out bindery.ics`, `timegate export --ics --from 2026-12-01 --to 2026-12-31 stock-count`) +
			"Into a folder go gate files, vars.toml and scripts, as \"timegate apply\" reads them.\n\n" +
			"--ics is iCalendar, RFC 5545. A moment that a recurrence rule says exactly is written as one; others are listed\n" +
			"one by one for the span from --from to --to, which is a year from now otherwise.",
		Flags: []cli.Flag{
			yesFlag(),
			&cli.BoolFlag{Name: "ics", Usage: "as an iCalendar file"},
			&cli.StringFlag{Name: "out", Usage: "write to `FILE` instead of standard output", TakesFile: true},
			&cli.StringFlag{Name: "from", Usage: "first `TIME` of what is listed"},
			&cli.StringFlag{Name: "to", Usage: "last `TIME` of what is listed"},
		},
		Action: a.export,
	}
}

func (a *app) export(_ context.Context, c *cli.Command) error {
	if !c.Bool("ics") {
		if !c.Args().Present() {
			return usageError("write a folder for the gates, or --ics for a calendar file")
		}
		return a.exportFolder(c)
	}
	s := forecast.Span{From: calendar.InstantOf(a.now())}
	s.To = s.From.Add(365 * 24 * time.Hour)
	var err error
	if text := c.String("from"); text != "" {
		if s.From, err = a.timeAhead().read(text); err != nil {
			return err
		}
		s.To = s.From.Add(365 * 24 * time.Hour)
	}
	if text := c.String("to"); text != "" {
		if s.To, err = a.timeAhead().end(text); err != nil {
			return err
		}
	}
	if s.To < s.From {
		return usageError("--to is before --from")
	}
	named, err := a.gatesNamed(c.Args().Slice())
	if err != nil {
		return err
	}
	all, err := a.files()
	if err != nil {
		return err
	}
	var list []ical.Opening
	for _, g := range named {
		id := g.Origin()
		if slices.ContainsFunc(all, func(f gates.File) bool { return f.Name == id }) {
			id = g.Name // its first name is its own, or another one's now
		}
		for _, o := range g.Opens {
			if g.Active(&o, a.host) {
				list = append(list, ical.Opening{Gate: g.Name, ID: id, Name: o.Name, About: g.About, Plan: o.Plan})
			}
		}
	}
	var text bytes.Buffer
	results, err := ical.Export(&text, list, s.From, s.To, a.now())
	if err != nil {
		return err
	}
	for _, r := range results {
		name := r.Opening.Gate + "/" + r.Opening.Name
		switch {
		case r.Events == 0:
			fmt.Fprintf(a.err, "%s: %s: %s\n", name, a.err.warn("left out"), r.Why)
		case r.Listed:
			fmt.Fprintf(a.err, "%s: %s until %s: %s\n", name, a.err.warn("listed date by date"), a.local(s.To.Time()), r.Why)
		}
	}
	if path := c.String("out"); path != "" {
		return writeFile(path, func(w io.Writer) error {
			_, err := w.Write(text.Bytes())
			return err
		})
	}
	_, err = a.out.Forward.Write(text.Bytes())
	return err
}
