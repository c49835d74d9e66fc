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

// summary tells a gate in plain words: what, when with its next moments, as whom,
// and what decides besides.
func (a *app) summary(g *gate.Gate, from calendar.Instant) {
	fmt.Fprintln(a.out, a.out.head(g.Name)+strings.TrimRight("  "+g.About, " "))
	a.line("runs", a.wrapped(gate.CommandLine(g.Run...)))
	a.line("as", a.runsAs(g)+surroundings(&g.As))
	for i := range g.Opens {
		a.openingSummary(&g.Opens[i], g.Opens[i].Name, from)
	}
	a.printRules(g, false)
	if !g.RunsOn(a.host) {
		fmt.Fprintln(a.out, "  "+a.out.warn(dormantText(g, a.host)))
	}
	if !g.Enabled {
		fmt.Fprintln(a.out, "  "+a.out.warn("switched off; to switch it on: timegate enable "+g.Name))
	}
}

// labelRoom is how wide the labels of a summary are.
const labelRoom = 7

// line prints one line of a summary, or several below each other.
func (a *app) line(label string, text string) {
	const margin = labelRoom + 3
	if len(label) > labelRoom { // its text stands below it
		label += "\n" + strings.Repeat(" ", margin-1)
	}
	fmt.Fprintf(a.out, "  %-*s %s\n", labelRoom, label, strings.ReplaceAll(text, "\n", "\n"+strings.Repeat(" ", margin)))
}

// wrapped breaks text between words, so that it stands beside the labels.
func (a *app) wrapped(text string) string {
	if room := a.out.width - labelRoom - 3; a.out.width > 0 && room > 20 {
		return wrap(text, room)
	}
	return text
}

// openingSummary tells one opening: its phrase, its words, and where its starts
// fall.
func (a *app) openingSummary(o *gate.Opening, label string, from calendar.Instant) {
	state := ""
	if !o.Enabled {
		state = " " + a.out.warn("(off)")
	}
	lines := []string{o.When + state, a.out.faint(a.wrapped(o.Plan.Words()))}
	if o.About != "" {
		lines = append([]string{a.wrapped(o.About)}, lines...)
	}
	if late := o.Plan.SpreadOffset(); late > 0 {
		lines = append(lines, fmt.Sprintf("here each comes %s later, as its spread has it", phrase.SpanWords(late)))
	}
	a.line(label, strings.Join(append(lines, a.outlook(o.Plan, from)...), "\n"))
}

// outlook tells where the starts of an opening fall: the next ones, the ends of its
// window, those at night and at the weekend, and what the next clock changes do to
// it.
func (a *app) outlook(plan *phrase.Plan, from calendar.Instant) []string {
	if plan.Rule == nil {
		return nil
	}
	const days, dates = 28, 3
	o := inspect.Look(plan, from, days)
	loc := plan.Zone.Location()
	var out []string
	if next := a.nextOnes(plan, from, dates); next != "" {
		out = append(out, a.wrapped(next))
	}
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
	if o.Starts > dates {
		text := fmt.Sprintf("%s in %d days", plural(int(o.Starts), "start"), days)
		if o.AtNight > 0 {
			text += fmt.Sprintf(", %d at night (%d:00 to %02d:00)", o.AtNight, inspect.NightFrom, inspect.NightTo)
		}
		if o.Weekend > 0 {
			text += fmt.Sprintf(", %d at the weekend", o.Weekend)
		}
		out = append(out, text)
	}
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

// nextOnes names the next starts of a phrase, or is "".
func (a *app) nextOnes(plan *phrase.Plan, from calendar.Instant, count int) string {
	var list []string
	for at := from; len(list) < count; {
		due, _, ok := plan.Next(at)
		if !ok {
			break
		}
		list = append(list, a.local(due.Time()))
		at = due
	}
	if len(list) == 0 {
		return ""
	}
	return "next " + strings.Join(list, ", ")
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
