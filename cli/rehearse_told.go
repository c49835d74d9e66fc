package cli

import (
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"timegate/chart"
	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/words"
)

// rehearsedDecision is a decision of a rehearsal in JSON.
type rehearsedDecision struct {
	control.Decision
	State string `json:"machine"` // what held on the machine
}

func (a *app) rehearsedJSON(r *rehearsed) []rehearsedDecision {
	out := []rehearsedDecision{}
	for i := range r.played.Decisions {
		d := control.NewDecision(&r.played.Decisions[i])
		d.At = d.At.In(r.day.Zone.Location())
		state := r.played.StateAt(r.played.Decisions[i].At)
		out = append(out, rehearsedDecision{d, state.Text()})
	}
	return out
}

// printRehearsed tells what was decided, between what happened.
func (a *app) printRehearsed(r *rehearsed) {
	title := r.day.About
	if title == "" {
		title = filepath.Base(r.file)
	}
	loc := r.day.Zone.Location()
	stamp := func(at calendar.Instant, day string) string {
		text := at.Time().In(loc).Format("15:04:05")
		if text = strings.TrimSuffix(text, ":00"); len(text) < len("15:04") {
			text += ":00"
		}
		if day != "" {
			text = day + " " + text
		}
		return text
	}
	days := r.day.To.Sub(r.day.From) > 25*time.Hour
	dayOf := func(at calendar.Instant) string {
		if !days {
			return ""
		}
		return at.Time().In(loc).Format("Mon 2 Jan")
	}
	fmt.Fprintf(a.out, "%s  %s to %s, %s\n", a.out.head(title), r.day.From.Time().In(loc).Format("Mon 2 Jan 2006 15:04"), r.day.To.Time().In(loc).Format("Mon 2 Jan 15:04"), r.day.Zone.Name())
	var rows [][]string
	events := r.day.Events
	flush := func(until calendar.Instant) {
		for len(events) > 0 && events[0].At <= until {
			rows = append(rows, []string{a.out.faint(stamp(events[0].At, dayOf(events[0].At))), "", a.out.faint(events[0].Text()), ""})
			events = events[1:]
		}
	}
	for i := range r.played.Decisions {
		d := &r.played.Decisions[i]
		flush(d.At)
		name := d.Gate
		if d.Opening != "" && d.Opening != "1" {
			name += "/" + d.Opening
		}
		rows = append(rows, []string{stamp(d.At, dayOf(d.At)), name, a.decided(d), rehearsedWhy(d, a)})
	}
	flush(calendar.MaxInstant)
	a.out.table([]string{"AT", "GATE", "WHAT", "WHY"}, rows)
	fmt.Fprintln(a.out, rehearsedSummary(r))
	if g := r.played.Guessed; len(g) > 0 {
		const told = 8
		if more := len(g) - told; more > 1 {
			g = append(slices.Clone(g[:told]), fmt.Sprintf("and %d more", more))
		}
		fmt.Fprintf(a.err, "%s how long %s is not known; 1 s was taken (say it under [takes], or let it run once)\n", a.err.faint("note:"), strings.Join(g, ", "))
	}
}

// decided is a decision in a word.
func (a *app) decided(d *engine.Decision) string {
	switch d.Kind {
	case engine.Start, engine.Repeat, engine.Retry, engine.CatchUp:
		text := fmt.Sprintf("run %d", d.Run)
		if d.Kind != engine.Start {
			text += ", " + string(d.Kind)
		}
		return a.out.good(text)
	case engine.Skip:
		return a.result(d.Result)
	case engine.End:
		return fmt.Sprintf("run %d: ", d.Run) + a.result(d.Result)
	case engine.Refuse:
		return a.result(engine.ResultRefused)
	case engine.StopRun:
		return a.out.warn(fmt.Sprintf("run %d asked to end", d.Run))
	}
	return a.out.warn(string(d.Kind))
}

func rehearsedWhy(d *engine.Decision, a *app) string {
	text := words.Reason(d.Reason)
	if d.Rule != "" {
		text += " " + a.out.faint("["+d.Rule+"]")
	}
	return text
}

// rehearsedSummary counts what was decided.
func rehearsedSummary(r *rehearsed) string {
	starts, skips, bad := 0, 0, 0
	for i := range r.played.Decisions {
		switch d := &r.played.Decisions[i]; {
		case d.Starts():
			starts++
		case d.Kind == engine.Skip:
			skips++
		case d.Kind == engine.End && d.Result != engine.ResultOK:
			bad++
		}
	}
	text := plural(starts, "start")
	if skips > 0 {
		text += fmt.Sprintf(", %d passed without one", skips)
	}
	if bad > 0 {
		text += fmt.Sprintf(", %d ended badly", bad)
	}
	return text
}

// drawDay writes the pictures that were asked for.
func (a *app) drawDay(c *cli.Command, r *rehearsed) (drawn bool, err error) {
	return a.pictures(c, func(f io.Writer, format chart.Format) error { return chart.DrawDay(f, dayPicture(r), format) })
}

// dayPicture is a rehearsed day as it is drawn: a lane for each gate that does something.
func dayPicture(r *rehearsed) *chart.Day {
	title := r.day.About
	if title == "" {
		title = filepath.Base(r.file)
	}
	p := &chart.Day{Title: title, Zone: r.day.Zone, From: r.day.From, To: r.day.To, Below: rehearsedSummary(r)}
	for _, s := range r.played.States {
		p.States = append(p.States, chart.DayState{From: s.From, To: s.To, Off: s.Off, Asleep: s.Asleep, Battery: s.OnBattery, People: strings.Join(s.People, ", ")})
	}
	lane := func(name string) *chart.Lane {
		if i := slices.IndexFunc(p.Lanes, func(l chart.Lane) bool { return l.Gate == name }); i >= 0 {
			return &p.Lanes[i]
		}
		p.Lanes = append(p.Lanes, chart.Lane{Gate: name})
		return &p.Lanes[len(p.Lanes)-1]
	}
	for _, run := range r.played.Runs {
		end := run.End
		if end == 0 {
			end = r.day.To
		}
		l := lane(run.Gate)
		l.Runs = append(l.Runs, chart.LaneRun{From: run.Started, To: end, Bad: run.Result != engine.ResultOK && run.Result != engine.ResultRunning})
	}
	for i := range r.played.Decisions {
		d := &r.played.Decisions[i]
		mark := map[engine.DecisionKind]string{engine.Wait: "waits", engine.Refuse: "refused", engine.Skip: string(d.Result)}[d.Kind]
		if mark == "" {
			continue
		}
		at := d.At
		if d.Kind == engine.Skip && d.Due > 0 {
			at = d.Due
		}
		l := lane(d.Gate)
		l.Marks = append(l.Marks, chart.LaneMark{At: at, Text: mark})
	}
	slices.SortFunc(p.Lanes, func(a, b chart.Lane) int { return strings.Compare(a.Gate, b.Gate) })
	return p
}
