package cli

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"strconv"

	"github.com/urfave/cli/v3"

	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/gates"
	"timegate/home"
	"timegate/ical"
	"timegate/workstation/zones"
)

func (a *app) importCommand() *cli.Command {
	return &cli.Command{
		Name: "import", Category: otherCommands, Usage: "turn the events of a calendar file into gates", ArgsUsage: "FILE.ics [-- PROGRAM [ARGUMENT …]]",
		Description: examples(`timegate import holidays.ics`, `timegate import holidays.ics -- /opt/larkspur/bin/paper-rota`) +
			"Without a program the proposals are only shown. With one, a gate is written for each event that can be\n" +
			"said; what cannot be said of an event is listed.",
		Flags:  []cli.Flag{laterFlag(), yesFlag()},
		Action: a.importFile,
	}
}

func (a *app) importFile(_ context.Context, c *cli.Command) error {
	args := c.Args().Slice()
	if len(args) == 0 {
		return usageError("the calendar file is missing: timegate import %s", c.ArgsUsage)
	}
	const most = 8 << 20
	text, err := home.ReadPlain(args[0], most)
	if err != nil {
		return usageError("%s cannot be read: %w", args[0], err)
	}
	proposals, err := ical.Import(bytes.NewReader(text), a.zone, zones.Find)
	if err != nil {
		return usageError("%s: %w", args[0], err)
	}
	if a.json && len(args) == 1 {
		return a.out.printJSON(proposals)
	}
	a.note("proposals", proposals)
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

// writeProposals writes a gate for each event that has phrases: all of them, or
// none.
func (a *app) writeProposals(c *cli.Command, proposals []ical.Proposal, argv []string) error {
	program, err := wholeProgram(argv[0])
	if err != nil {
		return usageError("%w; check the path", err)
	}
	plan := gates.NewPlan(a.home)
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
		plan.Put(g.Name, gate.Format(g))
	}
	found, err := plan.Findings(a.env())
	if err != nil {
		return err
	}
	if errs := found.Errors(); len(errs) > 0 {
		return errs
	}
	var files []gates.File
	for _, change := range plan.Changes() {
		files = append(files, gates.Parse(a.home, change.Name, []byte(*change.After), a.env()))
	}
	if err := a.refuse(c, files); err != nil {
		return err
	}
	if a.err.terminal && isTerminal(a.in) {
		if ok, err := a.confirm(c, fmt.Sprintf("Write %s?", plural(len(plan.Changes()), "gate"))); err != nil || !ok {
			return err
		}
	}
	if err := a.commit(plan, a.now()); err != nil {
		return err
	}
	for _, change := range plan.Changes() {
		fmt.Fprintf(a.err, "%s %s\n", a.err.good("written"), a.home.GateFile(change.Name))
	}
	return nil
}
