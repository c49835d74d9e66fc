package cli

import (
	"fmt"
	"strings"
	"time"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/inspect"
	"timegate/launch"
)

// summary tells a gate in plain words: what, when, as whom, and where its
// starts fall from an instant on.
func (a *app) summary(g *gate.Gate, from calendar.Instant) {
	if g.Name != "" {
		fmt.Fprintln(a.out, a.out.head(g.Name)+strings.TrimRight("  "+g.About, " "))
		fmt.Fprintf(a.out, "  runs   %s\n", gate.CommandLine(g.Run...))
		fmt.Fprintf(a.out, "  as     %s%s\n", a.runsAs(g), surroundings(&g.As))
	}
	for _, o := range g.Opens {
		state := ""
		if !o.Enabled {
			state = " (off)"
		}
		label := o.Name
		if g.Name == "" {
			label = "phrase"
		}
		const room = 6
		if len(label) > room { // its phrase stands below it
			label += "\n" + strings.Repeat(" ", room+2)
		}
		fmt.Fprintf(a.out, "  %-*s %s%s\n         %s\n", room, label, o.When, state, a.out.faint(o.Plan.Words()))
		if late := o.Plan.SpreadOffset(); late > 0 {
			fmt.Fprintf(a.out, "         here each comes %s later, as its spread has it\n", phrase.FormatSpan(late))
		}
		for _, line := range a.outlook(o.Plan, from) {
			fmt.Fprintf(a.out, "         %s\n", line)
		}
	}
	if g.Name != "" && !g.RunsOn(a.host) {
		fmt.Fprintf(a.out, "  %s\n", a.out.warn(fmt.Sprintf("dormant here: it is for the hosts %s, and this is %s", strings.Join(g.Only.Hosts, ", "), a.host)))
	}
	if g.Name != "" && !g.Enabled {
		fmt.Fprintln(a.out, "  "+a.out.warn("switched off: timegate enable "+g.Name))
	}
}

// outlook tells where the starts of an opening fall: at which ends of its
// window, at night, at the weekend, and what the next clock changes do to it.
func (a *app) outlook(plan *phrase.Plan, from calendar.Instant) []string {
	if plan.Rule == nil {
		return nil
	}
	const days = 28
	o := inspect.Look(plan, from, days)
	loc := plan.Zone.Location()
	var out []string
	if o.HasEnds {
		first, last := o.First.Time().In(loc), o.Last.Time().In(loc)
		clock := "15:04"
		if first.Second()+last.Second() > 0 {
			clock = time.TimeOnly
		}
		next := ""
		if last.YearDay() != first.YearDay() {
			next = " the next day"
		}
		out = append(out, fmt.Sprintf("first start of a window %s, last %s%s", first.Format(clock), last.Format(clock), next))
	}
	out = append(out, fmt.Sprintf("%s in %d days: %d at night (%d:00 to %02d:00), %d at the weekend",
		plural(int(o.Starts), "start"), days, o.AtNight, inspect.NightFrom, inspect.NightTo, o.Weekend))
	const most = 2
	for i, at := range o.Moved {
		if i == most {
			out = append(out, a.out.warn(fmt.Sprintf("and %d more that a clock change touches within a year", len(o.Moved)-most)))
			break
		}
		out = append(out, a.out.warn(fmt.Sprintf("%s: %s", at.Time().In(loc).Format("Mon 2 Jan 2006 15:04"), plan.Explain(at))))
	}
	for _, day := range o.Missing {
		out = append(out, a.out.warn(day.String()+" does not exist here: no start"))
	}
	return out
}

// surroundings says where a program runs and how its windows appear.
func surroundings(as *gate.As) string {
	text := ""
	if as.Desktop {
		text = ", on the desktop" + map[string]string{
			gate.WindowNone: ", no window", gate.WindowMinimised: ", minimised", gate.WindowTerminal: ", in a terminal",
		}[as.Window]
	}
	if as.Priority == "low" {
		text += ", at low priority"
	}
	return text
}

func (a *app) runsAs(g *gate.Gate) string {
	if g.As.Elevated {
		return "root (elevated)"
	}
	return launch.AccountName(g)
}
