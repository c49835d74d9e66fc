package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"timegate/control"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/launch"
	"timegate/workstation"
)

// stops are what would keep a gate from starting now; known tells that a keeper was there
// to say what it needs.
func (a *app) stops(ctx context.Context, g *gate.Gate) (stops []string, known bool) {
	add := func(key, text string) { stops = append(stops, key+": "+text) }
	if !g.Enabled {
		add("enabled", "the gate is switched off")
	}
	if !g.RunsOn(a.host) {
		add("only.hosts", dormantText(g, a.host))
	}
	status, err := a.client.Status(ctx)
	known = !errors.Is(err, control.ErrNoKeeper)
	if st, there := status.Gates[g.Name]; err == nil && there {
		if status.Paused {
			add("pause", "everything is paused")
		}
		if len(st.Running) > 0 {
			add("rules.busy = "+g.Setting("rules.busy"), fmt.Sprintf("run %d goes on", st.Running[0]))
		}
		if st.Lacks != "" {
			add("needs", st.Lacks+" is missing")
		}
	}
	d := launch.TryDecision(0)
	if _, err := a.launcher().Order(g, &d); err != nil {
		add("hazard", err.Error())
	}
	return stops, known
}

// tellStops tells, before a try with --limits, what would have kept the gate from
// starting now.
func (a *app) tellStops(ctx context.Context, g *gate.Gate) {
	stops, known := a.stops(ctx, g)
	if !known {
		fmt.Fprintln(a.err, a.err.faint("no keeper is running, so what the gate needs is not looked at"))
	}
	d := launch.TryDecision(0)
	if o, err := a.launcher().Order(g, &d); err == nil {
		for _, l := range o.Limits {
			if l.Soft != nil {
				fmt.Fprintf(a.err, "limit of the account: %s %d\n", l.Item, *l.Soft)
			}
		}
	}
	for _, text := range stops {
		fmt.Fprintf(a.err, "%s %s\n", a.err.warn("would not start:"), text)
	}
	if len(stops) == 0 {
		fmt.Fprintln(a.err, a.err.good("nothing would keep it from starting now"))
	}
}

// tellLimits tells, after a try with --limits, which limits would have stopped the run,
// and how near it came to the others.
func (a *app) tellLimits(g *gate.Gate, exit *workstation.Exit, took time.Duration) {
	l := &g.Limits
	line := func(key string, over bool, text string) {
		mark := a.err.good("within")
		if over {
			mark = a.err.bad("beyond")
		}
		fmt.Fprintf(a.err, "%s %s: %s\n", mark, key, text)
	}
	if l.Longest > 0 {
		text := fmt.Sprintf("it took %.1f s", took.Seconds())
		if took > l.Longest {
			text += fmt.Sprintf(", and would have been asked to end after %s, killed %s later", phrase.SpanWords(l.Longest), phrase.SpanWords(l.Grace))
		}
		line("limits.longest = "+phrase.FormatSpan(l.Longest), took > l.Longest, text)
	}
	text := fmt.Sprintf("it printed %s", bytesText(exit.Usage.Output))
	over := exit.Usage.Output > l.Output
	if over {
		text += fmt.Sprintf(", of which %s from the middle would be left out", bytesText(exit.Usage.Output-l.Output))
	}
	line("limits.output = "+phrase.FormatAmount(l.Output), over, text)
	switch {
	case exit.Signal != "":
		line("limits.success", true, "it was ended by signal "+exit.Signal)
	default:
		line("limits.success = "+g.Setting("limits.success"), !g.Succeeds(exit.Status), fmt.Sprintf("its exit status is %d", exit.Status))
	}
	if g.Again.Times > 0 && (exit.Signal != "" || !g.Succeeds(exit.Status)) {
		fmt.Fprintf(a.err, "it would be tried again after %s, %s\n", phrase.SpanWords(g.Again.Pause), plural(g.Again.Times, "time"))
	}
}
