package cli

import (
	"context"
	"fmt"
	"os"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/inspect"
	"timegate/keeper"
	"timegate/workstation/zones"
)

func (a *app) previewCommand() *cli.Command {
	return &cli.Command{
		Name: "preview", Category: foreseeCommands, Usage: "show the next dues of gates, or of a phrase", ArgsUsage: "[NAME … | FOLDER/]",
		Description: "timegate preview --phrase \"every 20m from 09:00 to 16:00 on weekdays\" --count 5\n\n" +
			"--from and --to are both included. With --to, the list is never cut short. Starts that a clock change\n" +
			"moves, doubles or drops are marked. A phrase's own zone wins over --zone.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "phrase", Usage: "a `PHRASE` instead of gates"},
			&cli.StringFlag{Name: "from", Usage: "first `TIME`, such as 2026-11-27 or \"2026-11-27 07:30\""},
			&cli.StringFlag{Name: "to", Usage: "last `TIME`"},
			&cli.StringFlag{Name: "zone", Usage: "as if the workstation were in this time `ZONE`, such as Europe/Paris"},
			&cli.IntFlag{Name: "count", Usage: "how many dues of each, as a `NUMBER`", Value: 10},
		},
		Action: a.preview,
	}
}

// due is a line of a preview.
type due struct {
	Gate    string    `json:"gate"`
	Opening string    `json:"opening"`
	Phrase  string    `json:"phrase"`
	Due     time.Time `json:"due"`
	Note    string    `json:"note"`

	at calendar.Instant
}

// span is what a preview looks at.
type span struct {
	from, to calendar.Instant
	count    int // 0 for all
}

func (a *app) preview(_ context.Context, c *cli.Command) error {
	if name := c.String("zone"); name != "" {
		zone, err := zones.Find(name)
		if err != nil {
			return usageError("--zone: %w", err)
		}
		a.zone = zone
	}
	s, err := a.previewSpan(c)
	if err != nil {
		return err
	}
	var gates []*gate.Gate
	if text := c.String("phrase"); text != "" || c.IsSet("phrase") {
		if c.Args().Present() {
			return usageError("preview takes either names or --phrase")
		}
		g, err := a.phraseGate(text)
		if err != nil {
			return err
		}
		gates = append(gates, g)
	} else if gates, err = a.gatesNamed(c.Args().Slice()); err != nil {
		return err
	}
	all := []due{}
	for _, g := range gates {
		all = append(all, a.dues(g, s)...)
	}
	more, err := a.afterSuccess(gates, s)
	if err != nil {
		return err
	}
	all = append(all, more...)
	sortDues(all)
	if a.json {
		return a.out.printJSON(all)
	}
	for _, g := range gates {
		a.summary(g, s.from)
	}
	a.printDues(all, len(gates) > 1 || len(gates) == 1 && len(gates[0].Opens) > 1)
	return nil
}

func (a *app) previewSpan(c *cli.Command) (span, error) {
	s := span{from: calendar.InstantOf(a.now()), to: calendar.MaxInstant, count: int(c.Int("count"))}
	var err error
	if text := c.String("from"); text != "" {
		if s.from, err = parseTime(text, a.zone, false); err != nil {
			return s, err
		}
	}
	if text := c.String("to"); text != "" {
		if s.to, err = parseTime(text, a.zone, true); err != nil {
			return s, err
		}
		s.count = 0
	}
	if c.Int("count") < 1 {
		return s, usageError("--count is %d: write 1 or more", c.Int("count"))
	}
	if s.to < s.from {
		return s, usageError("--to is before --from")
	}
	return s, nil
}

// phraseGate makes a gate of a phrase alone.
func (a *app) phraseGate(text string) (*gate.Gate, error) {
	p, err := phrase.Parse(text)
	if err != nil {
		return nil, err
	}
	plan, err := p.Compile(a.env())
	if err != nil {
		return nil, err
	}
	return &gate.Gate{Enabled: true, Opens: []gate.Opening{{Name: "", When: p.String(), Enabled: true, Plan: plan}}}, nil
}

// gatesNamed reads gates by their names, all of a folder of gate files, or all
// of the home.
func (a *app) gatesNamed(names []string) ([]*gate.Gate, error) {
	if len(names) == 0 {
		files, err := a.files()
		return a.good(files), err
	}
	var out []*gate.Gate
	for _, name := range names {
		if info, err := os.Stat(name); err == nil && info.IsDir() && strings.Contains(name, "/") {
			more, err := a.gatesIn(name)
			if err != nil {
				return nil, err
			}
			out = append(out, more...)
			continue
		}
		f, err := a.file(name)
		if err != nil {
			return nil, err
		}
		if f.Gate == nil {
			return nil, f.Findings.Errors()
		}
		out = append(out, f.Gate)
	}
	return out, nil
}

// gatesIn reads the gates of a folder that are right, and tells of the others.
func (a *app) gatesIn(folder string) ([]*gate.Gate, error) {
	home := a.home
	home.Gates = folder
	files, err := keeper.ReadFolder(home, a.env())
	if err != nil {
		return nil, err
	}
	return a.good(files), nil
}

// good returns the gates that are right, and tells of the others.
func (a *app) good(files []keeper.File) []*gate.Gate {
	var out []*gate.Gate
	for _, f := range files {
		if f.Gate == nil {
			a.printFindings(a.err, f.Findings.Errors())
			continue
		}
		out = append(out, f.Gate)
	}
	return out
}

// dues lists what a gate's openings yield. Two that are due at one instant
// are one start.
func (a *app) dues(g *gate.Gate, s span) []due {
	var out []due
	for _, o := range g.Opens {
		if g.Active(&o, a.host) && o.Plan.Rule != nil {
			out = append(out, openingDues(g.Name, &o, s)...)
		}
	}
	sortDues(out)
	out = slices.CompactFunc(out, func(x, y due) bool { return x.at == y.at })
	if s.count > 0 && len(out) > s.count {
		out = out[:s.count]
	}
	return out
}

func openingDues(name string, o *gate.Opening, s span) []due {
	var out []due
	at := s.from - 1
	for s.count == 0 || len(out) < s.count {
		next, repeat, ok := o.Plan.Next(at)
		if !ok || next > s.to {
			break
		}
		var notes []string
		for _, day := range o.Plan.Rule.Dropped(at, next) {
			notes = append(notes, fmt.Sprintf("dropped: %s does not exist here, so it has no start", day))
		}
		if repeat {
			notes = append(notes, "repeat")
		}
		if note := o.Plan.Explain(next); note != "" && !repeat {
			notes = append(notes, note)
		}
		out = append(out, due{Gate: name, Opening: o.Name, Phrase: o.When, Due: next.Time().In(o.Plan.Zone.Location()),
			Note: strings.Join(notes, "; "), at: next})
		at = next
	}
	return out
}

// afterSuccess lists what is due when the last good run is old enough, by
// what the journal tells of it.
func (a *app) afterSuccess(gates []*gate.Gate, s span) ([]due, error) {
	var out []due
	var good map[string]calendar.Instant
	now := calendar.InstantOf(a.now())
	for _, g := range gates {
		for _, o := range g.Opens {
			if o.Plan.Phrase.Kind != phrase.AfterSuccess || !g.Active(&o, a.host) {
				continue
			}
			if good == nil {
				var err error
				if good, err = a.lastGood(); err != nil {
					return nil, err
				}
			}
			last, had := good[g.Name]
			note := "at once: no run has succeeded yet"
			if had {
				note = "the last good run ended " + a.local(last.Time())
			}
			if at, ok := o.Plan.SinceSuccess(last, had, now); ok && at >= s.from && at <= s.to {
				out = append(out, due{Gate: g.Name, Opening: o.Name, Phrase: o.When, Due: at.Time().In(o.Plan.Zone.Location()), Note: note, at: at})
			}
		}
	}
	return out, nil
}

// lastGood returns when each gate's last good run ended.
func (a *app) lastGood() (map[string]calendar.Instant, error) {
	j, err := a.reader()
	if err != nil || j == nil {
		return map[string]calendar.Instant{}, err
	}
	defer j.Close()
	return j.LastGood()
}

func sortDues(all []due) {
	sort.SliceStable(all, func(i, j int) bool { return all[i].at < all[j].at })
}

func (a *app) printDues(all []due, names bool) {
	if len(all) == 0 {
		return
	}
	headers := []string{"DUE", "", "NOTE"}
	if names {
		headers = []string{"DUE", "", "GATE", "NOTE"}
	}
	var rows [][]string
	for _, d := range all {
		at := a.local(d.Due)
		if d.Due.Location().String() != a.zone.Name() {
			at += d.Due.Format(" (15:04 in ") + d.Due.Location().String() + ")"
		}
		row := []string{at, far(d.Due.Sub(a.now()))}
		if names {
			name := d.Gate
			if d.Opening != "" {
				name += "/" + d.Opening
			}
			row = append(row, name)
		}
		rows = append(rows, append(row, d.Note))
	}
	fmt.Fprintln(a.out)
	a.out.table(headers, rows)
}

// summary tells a gate in plain words: what, when, as whom, and where its
// starts fall from an instant on.
func (a *app) summary(g *gate.Gate, from calendar.Instant) {
	if g.Name != "" {
		fmt.Fprintln(a.out, a.out.head(g.Name)+strings.TrimRight("  "+g.About, " "))
		fmt.Fprintf(a.out, "  runs   %s\n", commandLine(g.Run))
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
		fmt.Fprintf(a.out, "  %-6s %s%s\n         %s\n", label, o.When, state, a.out.faint(o.Plan.Phrase.Words()))
		if late := o.Plan.Lateness(); late > 0 {
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
	return keeper.AccountName(g)
}
