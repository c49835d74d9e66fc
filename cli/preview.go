package cli

import (
	"context"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"timegate/core/calendar"
	"timegate/core/forecast"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/workstation/zones"
)

func (a *app) previewCommand() *cli.Command {
	return &cli.Command{
		Name: "preview", Category: foreseeCommands, Usage: "show the next dues of gates, or of a phrase", ArgsUsage: "[NAME … | FOLDER/]",
		Description: examples(`timegate preview stock-count`, `timegate preview --phrase "every 20m from 09:00 to 16:00 on weekdays" --count 5`, `timegate preview --from tomorrow --to fri`) +
			"--from and --to are both included. With --to, the list is never cut short. Starts that a clock change\n" +
			"moves, doubles or drops are marked. A phrase's own zone wins over --zone.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "phrase", Usage: "a `PHRASE` instead of gates"},
			&cli.StringFlag{Name: "from", Usage: "first `TIME`, such as 2026-11-27 or \"2026-11-27 07:30\""},
			&cli.StringFlag{Name: "to", Usage: "last `TIME`"},
			&cli.StringFlag{Name: "zone", Usage: "as if the workstation were in this time `ZONE`, such as Europe/Paris"},
			&cli.IntFlag{Name: "count", Usage: "how many dues of each, as a `NUMBER`", Value: 10},
			&cli.BoolFlag{Name: "describe", Usage: "also describe each gate"},
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

// dues lists what a gate's openings yield.
func (a *app) dues(g *gate.Gate, s forecast.Span) []due {
	var out []due
	for _, d := range forecast.Dues(g, a.host, s) {
		out = append(out, newDue(d))
	}
	return out
}

func newDue(d forecast.Due) due {
	return due{Gate: d.Gate, Opening: d.Opening, Phrase: d.Phrase, Due: d.At.Time().In(d.Zone.Location()), Note: strings.Join(d.Notes, "; "), at: d.At}
}

func (a *app) preview(ctx context.Context, c *cli.Command) error {
	a.followClock(ctx)
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
	byName := map[string]*gate.Gate{}
	for _, g := range gates {
		byName[g.Name] = g
	}
	a.noteOdds(all, byName)
	a.notePause(ctx, all)
	if a.json {
		return a.out.printJSON(all)
	}
	a.printDues(all, len(gates) > 1 || len(gates) == 1 && len(gates[0].Opens) > 1)
	a.printUndated(gates, all)
	for _, g := range gates {
		switch {
		case g.Name == "":
			fmt.Fprintln(a.out)
			a.openingSummary(&g.Opens[0], "phrase", s.From)
		case c.Bool("describe"):
			fmt.Fprintln(a.out)
			a.summary(g, s.From)
		}
	}
	return nil
}

// printUndated says of which gates and openings no date can be told, and why.
func (a *app) printUndated(gates []*gate.Gate, all []due) {
	for _, g := range gates {
		switch {
		case g.Name == "":
			continue
		case !g.Enabled:
			fmt.Fprintln(a.out, a.out.warn(fmt.Sprintf("%s is switched off; to switch it on: timegate enable %s", g.Name, g.Name)))
			continue
		case !g.RunsOn(a.host):
			fmt.Fprintln(a.out, a.out.warn(dormantText(g, a.host)))
			continue
		}
		told := slices.ContainsFunc(all, func(d due) bool { return d.Gate == g.Name })
		for _, o := range g.Opens {
			if o.Enabled && o.Plan.Phrase.Kind == phrase.Event {
				fmt.Fprintf(a.out, "%s/%s  %s, whenever that is\n", g.Name, o.Name, o.When)
				told = true
			}
		}
		if !told {
			fmt.Fprintf(a.out, "%s: nothing more is due\n", g.Name)
		}
	}
}

// dormantText says why nothing of a gate comes on a host.
func dormantText(g *gate.Gate, host string) string {
	return fmt.Sprintf("%s is dormant here: it is for the hosts %s, and this is %s", g.Name, strings.Join(g.Only.Hosts, ", "), host)
}

func (a *app) previewSpan(c *cli.Command) (forecast.Span, error) {
	s := forecast.Span{From: calendar.InstantOf(a.now()), To: calendar.MaxInstant, Count: int(c.Int("count"))}
	var err error
	if text := c.String("from"); text != "" {
		if s.From, err = a.timeAhead().read(text); err != nil {
			return s, err
		}
	}
	if text := c.String("to"); text != "" {
		if s.To, err = a.timeAhead().end(text); err != nil {
			return s, err
		}
		s.Count = 0
	}
	if c.Int("count") < 1 {
		return s, usageError("--count is %d: write 1 or more", c.Int("count"))
	}
	if s.To < s.From {
		return s, usageError("--to is before --from")
	}
	return s, nil
}

// phraseGate makes a gate of a phrase alone.
func (a *app) phraseGate(text string) (*gate.Gate, error) {
	p, err := a.phraseOf(text)
	if err != nil {
		return nil, err
	}
	plan, err := p.Compile(a.env())
	if err != nil {
		return nil, err
	}
	return &gate.Gate{Enabled: true, Opens: []gate.Opening{{Name: "", When: p.String(), Enabled: true, Plan: plan}}}, nil
}

// afterSuccess lists what is due when the last good run is old enough, by
// what the journal tells of it.
func (a *app) afterSuccess(gates []*gate.Gate, s forecast.Span) ([]due, error) {
	var out []due
	var good map[string]calendar.Instant
	for _, g := range gates {
		if !slices.ContainsFunc(g.Opens, func(o gate.Opening) bool { return o.Plan.Phrase.Kind == phrase.AfterSuccess }) {
			continue
		}
		if good == nil {
			var err error
			if good, err = a.lastGood(); err != nil {
				return nil, err
			}
		}
		for _, d := range forecast.AfterSuccess(g, a.host, good[g.Name], calendar.InstantOf(a.now()), s) {
			note := "at once: no run has succeeded yet"
			if last := good[g.Name]; last != 0 {
				note = "the last good run ended " + a.local(last.Time())
			}
			d.Notes = append(d.Notes, note)
			out = append(out, newDue(d))
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
	a.out.table(headers, rows)
}
