package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"strconv"
	"time"

	"github.com/urfave/cli/v3"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/ical"
	"timegate/workstation/zones"
)

func (a *app) exportCommand() *cli.Command {
	return &cli.Command{
		Name: "export", Category: otherCommands, Usage: "write the moments of gates as a calendar file", ArgsUsage: "[NAME …]",
		Description: "timegate export --ics --out bindery.ics stock-count\n\n" +
			"iCalendar, RFC 5545. A moment that a recurrence rule says exactly is written as one; others are listed\n" +
			"one by one for the span from --from to --to, which is a year from now otherwise.",
		Flags: []cli.Flag{
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
		return usageError("say as what to export: --ics")
	}
	s := span{from: calendar.InstantOf(a.now())}
	s.to = s.from.Add(365 * 24 * time.Hour)
	var err error
	if text := c.String("from"); text != "" {
		if s.from, err = parseTime(text, a.zone, false); err != nil {
			return err
		}
		s.to = s.from.Add(365 * 24 * time.Hour)
	}
	if text := c.String("to"); text != "" {
		if s.to, err = parseTime(text, a.zone, true); err != nil {
			return err
		}
	}
	if s.to < s.from {
		return usageError("--to is before --from")
	}
	gates, err := a.gatesNamed(c.Args().Slice())
	if err != nil {
		return err
	}
	var list []ical.Opening
	for _, g := range gates {
		for _, o := range g.Opens {
			if g.Active(&o, a.host) {
				list = append(list, ical.Opening{Gate: g.Name, Name: o.Name, About: g.About, Plan: o.Plan})
			}
		}
	}
	var text bytes.Buffer
	results, err := ical.Export(&text, list, s.from, s.to, a.now())
	if err != nil {
		return err
	}
	for _, r := range results {
		name := r.Opening.Gate + "/" + r.Opening.Name
		switch {
		case r.Events == 0:
			fmt.Fprintf(a.err, "%s: %s: %s\n", name, a.err.warn("left out"), r.Why)
		case r.Listed:
			fmt.Fprintf(a.err, "%s: %s until %s: %s\n", name, a.err.warn("listed date by date"), a.local(s.to.Time()), r.Why)
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

func (a *app) importCommand() *cli.Command {
	return &cli.Command{
		Name: "import", Category: otherCommands, Usage: "propose gates from the events of a calendar file", ArgsUsage: "FILE.ics [-- PROGRAM [ARGUMENT …]]",
		Description: "timegate import holidays.ics -- /opt/larkspur/bin/paper-rota\n\n" +
			"Without a program the proposals are only shown. With one, a gate is written for each event that can be\n" +
			"said; what cannot be said of an event is listed.",
		Flags:  []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "do not ask"}},
		Action: a.importFile,
	}
}

func (a *app) importFile(_ context.Context, c *cli.Command) error {
	args := c.Args().Slice()
	if len(args) == 0 {
		return usageError("the calendar file is missing: timegate import %s", c.ArgsUsage)
	}
	f, err := os.Open(args[0])
	if err != nil {
		return usageError("%s cannot be read: %w", args[0], cause(err))
	}
	defer f.Close()
	const most = 8 << 20
	proposals, err := ical.Import(io.LimitReader(f, most), a.zone, zones.Find)
	if err != nil {
		return usageError("%s: %w", args[0], err)
	}
	if a.json {
		return a.out.printJSON(proposals)
	}
	a.printProposals(proposals)
	if len(args) == 1 {
		fmt.Fprintln(a.err, "\nnothing is written: give the program after \"--\"")
		return nil
	}
	return a.writeProposals(c, proposals, args[1:])
}

func (a *app) printProposals(proposals []ical.Proposal) {
	for _, p := range proposals {
		fmt.Fprintf(a.out, "%s  %s\n", a.out.head(p.Name), p.About)
		for _, text := range p.Phrases {
			words := ""
			if q, err := phrase.Parse(text); err == nil {
				words = q.Words()
			}
			fmt.Fprintf(a.out, "  %s\n  %s\n", text, a.out.faint(words))
		}
		for _, lost := range p.Lost {
			fmt.Fprintf(a.out, "  %s %s\n", a.out.warn("not taken over:"), lost)
		}
	}
	if len(proposals) == 0 {
		fmt.Fprintln(a.out, "the calendar has no events")
	}
}

// writeProposals writes a gate for each event that has phrases. All are
// checked before the first is written.
func (a *app) writeProposals(c *cli.Command, proposals []ical.Proposal, argv []string) error {
	program, err := wholeProgram(argv[0])
	if err != nil {
		return usageError("%w; check the path", err)
	}
	var gates []*gate.Gate
	for _, p := range proposals {
		if len(p.Phrases) == 0 {
			continue
		}
		if _, err := os.Lstat(a.home.GateFile(p.Name)); err == nil {
			return usageError("there is a gate %q already; rename or remove it first", p.Name)
		}
		g := gate.Default(p.Name)
		g.About, g.Run = p.About, append([]string{program}, argv[1:]...)
		for i, text := range p.Phrases {
			g.Opens = append(g.Opens, gate.Opening{Name: strconv.Itoa(i + 1), When: text, Enabled: true})
		}
		if _, found := gate.Read(g.Name, a.home.GateFile(g.Name), gate.Format(g), gate.Options{Scope: a.home.Scope, Env: a.env()}); len(found.Errors()) > 0 {
			return found.Errors()
		}
		gates = append(gates, g)
	}
	if a.err.terminal && isTerminal(a.in) {
		if ok, err := a.confirm(c, fmt.Sprintf("Write %s?", plural(len(gates), "gate"))); err != nil || !ok {
			return err
		}
	}
	for _, g := range gates {
		if err := a.writeGate(g.Name, gate.Format(g)); err != nil {
			return err
		}
		fmt.Fprintf(a.err, "%s %s\n", a.err.good("written"), a.home.GateFile(g.Name))
	}
	return nil
}
