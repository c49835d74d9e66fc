package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"timegate/core/calendar"
	"timegate/core/forecast"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/gates"
	"timegate/journal"
)

func (a *app) showCommand() *cli.Command {
	return &cli.Command{
		Name: "show", Category: watchCommands, Usage: "one gate: what, when, as whom, next dues, last runs", ArgsUsage: "NAME",
		Description: "timegate show stock-count",
		Action:      a.show,
	}
}

func (a *app) show(ctx context.Context, c *cli.Command) error {
	f, err := a.gateArgument(c)
	if err != nil {
		return err
	}
	rows, err := a.listed(ctx, []gates.File{f})
	if err != nil {
		return err
	}
	if a.json {
		return a.out.printJSON(rows[0])
	}
	if f.Gate == nil {
		fmt.Fprintf(a.out, "%s  %s\n", a.out.head(f.Name), a.stateWord("broken"))
		a.printFindings(a.out, f.Findings)
		return &exitError{status: exitWrong}
	}
	a.summary(f.Gate, calendar.InstantOf(a.now()))
	state := a.stateWord(rows[0].State)
	if rows[0].Waiting != "" {
		state += " for " + rows[0].Waiting
	}
	fmt.Fprintf(a.out, "  state  %s\n  file   %s\n", state, f.Path)
	a.printLimits(f.Gate)
	a.printDues(a.dues(f.Gate, forecast.Span{From: calendar.InstantOf(a.now()), To: calendar.MaxInstant, Count: 5}), len(f.Gate.Opens) > 1)
	entries, err := a.entries(journal.Filter{Gate: f.Name, Limit: 5})
	if err != nil || len(entries) == 0 {
		return err
	}
	fmt.Fprintln(a.out)
	a.printEntries(entries)
	return nil
}

func (a *app) printLimits(g *gate.Gate) {
	if g.Limits.Longest > 0 {
		fmt.Fprintf(a.out, "  limit  %s, then %s to end\n", phrase.SpanWords(g.Limits.Longest), phrase.SpanWords(g.Limits.Grace))
	}
	fmt.Fprintf(a.out, "  busy   %s\n", map[string]string{
		gate.BusySkip: "skip: a moment that comes while it runs is passed over", gate.BusyQueue: "queue: one start waits until it has ended",
		gate.BusyReplace: "replace: the program is ended and started anew", gate.BusyBeside: "beside: it is started beside the one that runs",
	}[g.Rules.Busy])
	if text := needsText(&g.Needs); text != "" {
		fmt.Fprintf(a.out, "  needs  %s\n", text)
	}
	for _, k := range g.Differing() {
		if !told[k.Name] && !strings.HasPrefix(k.Name, "needs.") {
			fmt.Fprintf(a.out, "  set    %s = %s\n", k.Name, g.Setting(k.Name))
		}
	}
}

// told are the keys that "show" tells in words of their own.
var told = map[string]bool{"about": true, "run": true, "opens": true, "enabled": true, "as.user": true, "as.elevated": true, "as.desktop": true,
	"as.window": true, "as.priority": true, "limits.longest": true, "limits.grace": true, "rules.busy": true, "only.hosts": true}

// needsText says what must hold for a gate to open, and what happens if not.
func needsText(n *gate.Needs) string {
	var list []string
	if n.Power != "any" {
		list = append(list, strings.Replace(strings.Replace(n.Power, "mains", "mains power", 1), "or ", "or a charge of ", 1))
	}
	switch n.People {
	case "any":
	case "someone":
		list = append(list, "somebody logged on")
	case "nobody":
		list = append(list, "nobody logged on")
	default:
		list = append(list, n.People+" logged on")
	}
	list = append(list, n.Paths...)
	if n.Online {
		list = append(list, "a network")
	}
	if n.Idle > 0 {
		list = append(list, "nobody at keyboard and mouse for "+phrase.SpanWords(n.Idle))
	}
	if len(list) == 0 {
		return ""
	}
	text := strings.Join(list, ", ")
	if n.Wait > 0 {
		text += "; waits for that up to " + phrase.SpanWords(n.Wait)
	} else {
		text += "; else a moment is skipped"
	}
	if n.IfLost == "stop" {
		text += "; ended when that is lost"
	}
	return text
}
