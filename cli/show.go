package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
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
		Description: examples(`timegate show stock-count`, `timegate show stock-count --json`),
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
	a.printRules(f.Gate, true)
	a.printScript(f.Gate)
	state := a.stateWord(rows[0].State)
	if rows[0].Waiting != "" {
		state += " for " + rows[0].Waiting
	}
	if rows[0].Lacks != "" && rows[0].State != "waiting" {
		state += a.out.warn("; it would not start now: " + rows[0].Lacks + " is missing")
	}
	a.line("state", state)
	costs, err := a.costs()
	if err != nil {
		return err
	}
	if cost := costs[f.Name]; cost != nil {
		a.line("takes", a.wrapped(costText(cost)))
	}
	if err := a.printReadings(f.Name); err != nil {
		return err
	}
	a.line("file", f.Path)
	for i, name := range slices.Sorted(maps.Keys(f.Vars)) {
		label := ""
		if i == 0 {
			label = "names"
		}
		a.line(label, fmt.Sprintf("{%s} = %s", name, f.Vars[name]))
	}
	a.printAlive(rows[0].Alive)
	fmt.Fprintln(a.out)
	all := a.dues(f.Gate, forecast.Span{From: calendar.InstantOf(a.now()), To: calendar.MaxInstant, Count: 5})
	a.notePause(ctx, all)
	a.printDues(all, len(f.Gate.Opens) > 1)
	entries, err := a.entries(journal.Filter{Gate: f.Name, Limit: 5})
	if err != nil || len(entries) == 0 {
		return err
	}
	fmt.Fprintln(a.out)
	a.printEntries(entries)
	return nil
}

// printRules tells what decides about a gate besides its moments: what differs from
// the default, or what is so by default. The two together are all.
func (a *app) printRules(g *gate.Gate, byDefault bool) {
	differs := map[string]bool{}
	for _, k := range g.Differing() {
		differs[k.Name] = true
	}
	for _, r := range rules {
		set := slices.ContainsFunc(r.keys, func(key string) bool { return differs[key] })
		if text := r.text(g); text != "" && set != byDefault {
			if err := a.mayWake(); r.label == "wake" && g.Rules.Wake > 0 && err != nil {
				text = "no: " + err.Error() + "; what is due while it sleeps is missed"
				if g.Rules.Missed == gate.MissedOnce {
					text += ", and made up for once when it is back"
				}
				text = a.out.warn(a.wrapped(text))
			}
			a.line(r.label, a.wrapped(text))
		}
	}
	for _, k := range g.Differing() {
		if !byDefault && !told[k.Name] {
			a.line("set", fmt.Sprintf("%s = %s", k.Name, g.Setting(k.Name)))
		}
	}
}

// rules are what decides about a gate's fate, in words.
var rules = []struct {
	label string
	keys  []string
	text  func(*gate.Gate) string
}{
	{"needs", []string{"needs.power", "needs.people", "needs.paths", "needs.online", "needs.idle", "needs.wait", "needs.if_lost"}, func(g *gate.Gate) string { return needsText(&g.Needs) }},
	{"limit", []string{"limits.longest", "limits.grace"}, func(g *gate.Gate) string {
		if g.Limits.Longest == 0 {
			return ""
		}
		return fmt.Sprintf("asked to end after %s, killed %s later", phrase.SpanWords(g.Limits.Longest), phrase.SpanWords(g.Limits.Grace))
	}},
	{"leaves", []string{"limits.leftovers"}, func(g *gate.Gate) string {
		if !g.Limits.EndsLeftovers() {
			return ""
		}
		return fmt.Sprintf("nothing: processes that it leaves behind are asked to end, too, killed %s later", phrase.SpanWords(g.Limits.Grace))
	}},
	{"busy", []string{"rules.busy"}, func(g *gate.Gate) string {
		return map[string]string{
			gate.BusySkip: "skip: a moment that comes while it runs is skipped", gate.BusyQueue: "queue: one start waits until the run has ended",
			gate.BusyReplace: "replace: the run is ended and the program started anew", gate.BusyBeside: "beside: it is started beside the one that runs",
		}[g.Rules.Busy]
	}},
	{"missed", []string{"rules.missed", "rules.missed_within"}, func(g *gate.Gate) string {
		if g.Rules.Missed != gate.MissedOnce {
			return "skip: moments during sleep or switch-off are skipped"
		}
		return "once: after sleep or switch-off, one start for all that were missed within " + phrase.SpanWords(g.Rules.MissedWithin)
	}},
	{"tries", []string{"again.times", "again.pause"}, func(g *gate.Gate) string {
		if g.Again.Times == 0 {
			return "a run that fails is not tried again"
		}
		return fmt.Sprintf("a run that fails is tried again %s, %s apart", timesText(g.Again.Times), phrase.SpanWords(g.Again.Pause))
	}},
	{"wake", []string{"rules.wake"}, func(g *gate.Gate) string {
		if g.Rules.Wake == 0 {
			return "the machine is not woken for it"
		}
		return "the machine is woken " + phrase.SpanWords(g.Rules.Wake) + " before"
	}},
	{"spread", []string{"rules.spread"}, func(g *gate.Gate) string {
		if g.Rules.Spread == 0 {
			return ""
		}
		return "each moment comes up to " + phrase.SpanWords(g.Rules.Spread) + " later, always the same on one host"
	}},
	{"measure", []string{"measure"}, func(g *gate.Gate) string {
		if len(g.Measure) == 0 {
			return ""
		}
		return strings.Join(g.Measure, ", ") + ", before and after each run"
	}},
}

func timesText(n int) string {
	switch n {
	case 1:
		return "once"
	case 2:
		return "twice"
	}
	return fmt.Sprintf("%d times", n)
}

// told are the keys that a summary tells in words of its own.
var told = func() map[string]bool {
	out := map[string]bool{}
	for _, key := range []string{"about", "run", "opens", "enabled", "as.user", "as.elevated", "as.desktop", "as.window", "as.priority", "only.hosts"} {
		out[key] = true
	}
	for _, r := range rules {
		for _, key := range r.keys {
			out[key] = true
		}
	}
	return out
}()

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
	switch n.IfLost {
	case gate.LostStop:
		text += "; ended when that is lost"
	case gate.LostAgain:
		text += "; ended when that is lost, and started again when it is back"
	}
	return text
}
