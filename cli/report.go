package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"timegate/chart"
	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/forecast"
	"timegate/core/gate"
	"timegate/core/words"
	"timegate/gates"
	"timegate/journal"
	"timegate/report"
)

func (a *app) reportCommand() *cli.Command {
	return &cli.Command{
		Name: "report", Category: watchCommands, Usage: "write a page about a day, a week or a month, for a browser", ArgsUsage: "FILE.html",
		Description: examples(`timegate report today.html`, `timegate report november.html --since 2026-11-01 --until 2026-11-30`, `timegate report week.html --since 7d`) +
			"The page needs nothing else: no network and no script. It can be printed, and follows the browser's light or dark.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "since", Usage: "from this `TIME` on, such as yesterday, 7d or 2026-11-01", Value: "today"},
			&cli.StringFlag{Name: "until", Usage: "up to this `TIME`; now otherwise"},
		},
		Action: a.report,
	}
}

func (a *app) report(ctx context.Context, c *cli.Command) error {
	file, err := oneArgument(c, "the file to be written")
	if err != nil {
		return err
	}
	a.followClock(ctx)
	f := journal.Filter{Until: calendar.InstantOf(a.now())}
	if f.Since, err = a.since(c.String("since")); err != nil {
		return usageError("--since: %w", err)
	}
	if text := c.String("until"); text != "" {
		if f.Until, err = a.timeBack().end(text); err != nil {
			return usageError("--until: %w", err)
		}
	}
	if f.Since >= f.Until {
		return usageError("--since %s is not before --until", c.String("since"))
	}
	p, err := a.reportPage(f)
	if err != nil {
		return err
	}
	if err := writeFile(file, func(w io.Writer) error { return report.Write(w, p) }); err != nil {
		return err
	}
	fmt.Fprintf(a.err, "%s %s\n", a.err.good("written"), file)
	return nil
}

// reportPage gathers what a report tells.
func (a *app) reportPage(f journal.Filter) (*report.Page, error) {
	loc := a.zone.Location()
	from, to := f.Since.Time().In(loc), f.Until.Time().In(loc)
	p := &report.Page{Title: a.host + ", " + from.Format("Mon 2 Jan 2006"), Span: from.Format("Mon 2 Jan 2006 15:04") + " to " + to.Format("Mon 2 Jan 2006 15:04") + ", " + a.zone.Name(),
		Made: a.now().In(loc).Format("Mon 2 Jan 2006 15:04")}
	if last := to.Add(-time.Millisecond); last.Format(time.DateOnly) != from.Format(time.DateOnly) {
		p.Title += " to " + last.Format("Mon 2 Jan 2006")
	}
	files, err := a.files()
	if err != nil {
		return nil, err
	}
	j, err := a.reader()
	if err != nil {
		return nil, err
	}
	if j != nil {
		defer j.Close()
		if err := a.reportPast(p, j, f, files); err != nil {
			return nil, err
		}
	}
	if err := a.reportFindings(p, files); err != nil {
		return nil, err
	}
	a.reportNext(p, files)
	return p, nil
}

// How much a page tells at most.
const (
	mostBad    = 200
	mostPassed = 200
	mostNext   = 25
	mostLanes  = 40
	// pictures of readings
	mostReadings = 12
)

// reportPast tells what ran, and what did not.
func (a *app) reportPast(p *report.Page, j control.Records, f journal.Filter, files []gates.File) error {
	entries, err := j.History(f)
	if err != nil {
		return err
	}
	stats, err := j.Stats(f)
	if err != nil {
		return err
	}
	costs, err := j.Costs()
	if err != nil {
		return err
	}
	about := map[string]string{}
	for _, file := range files {
		if file.Gate != nil {
			about[file.Name] = file.Gate.About
		}
	}
	p.Bad, p.MoreBad = a.badLines(entries)
	p.Passed = a.passedLines(entries)
	var sum journal.Stats
	slices.SortStableFunc(stats, func(x, y journal.Stats) int { return cmp.Compare(y.Total, x.Total) })
	for _, s := range stats {
		sum.Runs, sum.Bad, sum.Skipped, sum.Missed = sum.Runs+s.Runs, sum.Bad+s.Bad, sum.Skipped+s.Skipped, sum.Missed+s.Missed
		g := report.Gate{Name: s.Gate, About: about[s.Gate], Runs: s.Runs, Bad: s.Bad, Skipped: s.Skipped, Missed: s.Missed, Total: short(s.Total)}
		if cost, known := costs[s.Gate]; known {
			g.Usual = short(cost.Took)
			if s.Runs > 0 && cost.Unusual(s.Longest) == "long" {
				g.Unusual = "long"
			}
		}
		if s.Runs > 0 {
			g.Longest = short(s.Longest)
		}
		p.Gates = append(p.Gates, g)
	}
	number := func(n int64, of string, bad bool) {
		p.Figures = append(p.Figures, report.Figure{Number: fmt.Sprint(n), Of: of, Bad: bad && n > 0})
	}
	number(sum.Runs, "runs", false)
	number(sum.Bad, "ended badly", true)
	number(sum.Skipped, "moments skipped", false)
	number(sum.Missed, "moments missed", false)
	if err := a.reportStartups(p, j, f); err != nil {
		return err
	}
	if err := a.reportReadings(p, entries); err != nil {
		return err
	}
	return a.reportDay(p, entries, f)
}

func (a *app) badLines(entries []journal.Entry) (out []report.Line, more int) {
	for i := range entries {
		e := &entries[i]
		if e.Run == 0 || e.Result == engine.ResultOK || e.Result == engine.ResultRunning {
			continue
		}
		if len(out) == mostBad {
			more++
			continue
		}
		out = append(out, report.Line{At: a.local(e.Decided.Time()), Gate: e.Gate, Run: e.Run, What: string(e.Result), Why: words.Line(cmp.Or(outcomeOf(e), words.Reason(e.Reason)))})
	}
	return out, more
}

// passedLines counts moments without a run by gate and reason, in the order of the last of
// each.
func (a *app) passedLines(entries []journal.Entry) []report.Line {
	type kind struct{ gate, what, why string }
	at := map[kind]int{}
	var out []report.Line
	for i := range entries {
		e := &entries[i]
		if e.Run != 0 {
			continue
		}
		r := e.Reason
		r.Args.Count, r.Args.Span, r.Args.Run = 0, 0, 0 // which differ from moment to moment
		k := kind{e.Gate, string(e.Result), words.Line(words.Reason(r))}
		n, known := at[k]
		if !known {
			if len(out) == mostPassed {
				continue
			}
			n = len(out)
			at[k] = n
			out = append(out, report.Line{At: a.local(e.Due.Time()), Gate: e.Gate, What: k.what, Why: k.why})
		}
		out[n].Count += max(e.Count, 1)
	}
	return out
}

func (a *app) reportStartups(p *report.Page, j control.Records, f journal.Filter) error {
	list, err := j.Settled(beginningsKept)
	if err != nil {
		return err
	}
	for _, s := range list {
		if s.Since < f.Since || s.Since > f.Until {
			continue
		}
		x := report.Startup{At: a.local(s.Since.Time()), After: string(s.After), Took: short(time.Duration(s.For) * time.Millisecond)}
		if s.Name != "" {
			x.After += " of " + s.Name
		}
		if !s.Calm {
			x.Note = "it was not calm by then"
		}
		p.Startups = append(p.Startups, x)
	}
	return nil
}

// reportReadings draws what was measured with runs, of the gates by name.
func (a *app) reportReadings(p *report.Page, entries []journal.Entry) error {
	byGate := map[string][]journal.Entry{}
	for _, e := range entries {
		if len(e.Before) > 0 {
			byGate[e.Gate] = append(byGate[e.Gate], e)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(byGate)) {
		runs := measuredRuns(byGate[name])
		for _, reading := range slices.Sorted(maps.Keys(runs)) {
			list := thinned(runs[reading])
			if len(p.Readings) == mostReadings || len(list) < 2 {
				continue
			}
			picture, err := a.readingsChart(name, reading, list)
			if err != nil {
				continue // it had another form once
			}
			if whole := len(runs[reading]); whole > len(list) {
				picture.Below = fmt.Sprintf("%d of %s", len(list), plural(whole, "run"))
			}
			p.Readings = append(p.Readings, report.Reading{Gate: name, What: reading, Picture: picture})
		}
	}
	return nil
}

// thinned leaves so many of a reading's runs that they can be told apart.
func thinned(list []chart.MeasuredRun) []chart.MeasuredRun {
	const most = 300
	if len(list) <= most {
		return list
	}
	out := make([]chart.MeasuredRun, 0, most)
	for i := range most {
		out = append(out, list[i*(len(list)-1)/(most-1)])
	}
	return out
}

// reportDay draws what ran, with the gates that ran the most.
func (a *app) reportDay(p *report.Page, entries []journal.Entry, f journal.Filter) error {
	d := &chart.Day{Title: p.Title, Zone: a.zone, From: f.Since, To: f.Until, Off: "not kept"}
	lanes := map[string]*chart.Lane{}
	for i := len(entries) - 1; i >= 0; i-- { // the oldest first
		e := &entries[i]
		l := lanes[e.Gate]
		if l == nil {
			l = &chart.Lane{Gate: e.Gate}
			lanes[e.Gate] = l
		}
		switch {
		case e.Run == 0:
			l.Marks = append(l.Marks, chart.LaneMark{At: e.Due, Text: string(e.Result)})
		case e.Started != 0:
			to := e.Ended
			if to == 0 {
				to = f.Until
			}
			l.Runs = append(l.Runs, chart.LaneRun{From: e.Started, To: to, Bad: e.Result != engine.ResultOK && e.Result != engine.ResultRunning})
		}
	}
	whole := f.Until.Sub(f.Since)
	for _, name := range slices.Sorted(maps.Keys(lanes)) {
		l := lanes[name]
		l.Runs = report.Gather(l.Runs, whole)
		l.Marks = apart(l.Marks, whole)
		d.Lanes = append(d.Lanes, *l)
	}
	if len(d.Lanes) == 0 {
		return nil
	}
	if more := len(d.Lanes) - mostLanes; more > 0 {
		d.Lanes, d.Below = d.Lanes[:mostLanes], fmt.Sprintf("%d more gates are not drawn", more)
	}
	if !a.home.OfOthers() {
		states, err := a.pastStates(f.Until.Time())
		if err != nil {
			return err
		}
		for _, s := range states {
			if s.To > f.Since && s.From < f.Until {
				d.States = append(d.States, chart.DayState{From: max(s.From, f.Since), To: min(s.To, f.Until), Off: s.Off, Asleep: s.Asleep, Battery: s.OnBattery, People: strings.Join(s.People, ", ")})
			}
		}
	}
	p.Day = d
	return nil
}

// apart leaves out marks that would lie on one another.
func apart(marks []chart.LaneMark, whole time.Duration) []chart.LaneMark {
	const share = 200
	var out []chart.LaneMark
	for _, m := range marks {
		if n := len(out); n == 0 || m.Text != out[n-1].Text || m.At.Sub(out[n-1].At) >= whole/share {
			out = append(out, m)
		}
	}
	return out
}

// reportFindings tells what check finds.
func (a *app) reportFindings(p *report.Page, files []gates.File) error {
	together, err := a.together(files)
	if err != nil {
		return err
	}
	past, err := a.past()
	if err != nil {
		return err
	}
	var found gate.Findings
	for _, f := range files {
		found = append(found, a.findings(f, past)...)
	}
	found = append(found, together...)
	rank := map[gate.Severity]int{gate.SevereError: 0, gate.Warning: 1, gate.Note: 2}
	slices.SortStableFunc(found, func(x, y gate.Finding) int { return rank[x.Severity] - rank[y.Severity] })
	for _, x := range found {
		p.Findings = append(p.Findings, report.Finding{Severity: string(x.Severity), Place: words.Line(cmp.Or(x.Gate, x.Place())), Message: words.Line(x.Message), Remedy: words.Line(x.Remedy)})
	}
	return nil
}

// reportNext tells what comes within a week.
func (a *app) reportNext(p *report.Page, files []gates.File) {
	now := calendar.InstantOf(a.now())
	var all []due
	var list []*gate.Gate
	for _, f := range files {
		if f.Gate == nil {
			continue
		}
		list = append(list, f.Gate)
		if next, ok := forecast.Next(f.Gate, a.host, 0, now); ok { // from there a day on
			all = append(all, a.dues(f.Gate, forecast.Span{From: now, To: next.Add(24 * time.Hour), Count: mostNext})...)
		}
	}
	sortDues(all)
	for _, d := range all[:min(len(all), mostNext)] {
		p.Next = append(p.Next, report.Line{At: a.local(d.Due), Gate: d.Gate, What: words.Line(d.Phrase), Why: words.Line(d.Note)})
	}
	today, _ := a.zone.Local(now)
	if w := forecast.NewWeek(list, a.host, today, a.zone); w.Total() > 0 {
		p.Week = w
	}
}
