package cli

import (
	"fmt"
	"io"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"timegate/chart"
	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/rehearsal"
	"timegate/core/words"
)

// rehearsedDecision is a decision of a rehearsal in JSON.
type rehearsedDecision struct {
	control.Decision
	State string `json:"machine"` // what held on the machine
}

// newRehearsedDecision puts a decision into JSON's form.
func newRehearsedDecision(k *engine.Decision, s *rehearsal.State, zone *calendar.Zone) rehearsedDecision {
	d := control.NewDecision(k)
	d.At = d.At.In(zone.Location())
	return rehearsedDecision{d, s.Text()}
}

// mostDecisions is how many decisions are told one by one; of more they are counted.
const mostDecisions = 20_000

// printTallies counts what was decided of each gate.
func (a *app) printTallies(r *rehearsed) {
	var rows [][]string
	number := func(n int64, paint func(string) string) string {
		if n == 0 {
			return ""
		}
		return paint(strconv.FormatInt(n, 10))
	}
	plain := func(s string) string { return s }
	for _, name := range slices.Sorted(maps.Keys(r.played.Tallies)) {
		t := r.played.Tallies[name]
		rows = append(rows, []string{name, number(t.Starts, plain), number(t.Skipped, a.out.warn), number(t.Missed, a.out.warn), number(t.Refused, a.out.bad), number(t.Bad(), a.out.bad), words.Duration(t.Running)})
	}
	a.out.table([]string{"GATE", "STARTS", "SKIPPED", "MISSED", "REFUSED", "ENDED BADLY", "RAN FOR"}, rows)
	fmt.Fprintf(a.err, "%s these are %d decisions, counted by gate; --json writes each\n", a.err.faint("note:"), r.played.Count)
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
	if r.played.Count > int64(len(r.played.Decisions)) {
		a.printTallies(r)
	} else {
		a.printDecisions(r, stamp, dayOf)
	}
	fmt.Fprintln(a.out, rehearsedSummary(r))
	if g := r.played.Guessed; len(g) > 0 {
		const told = 8
		if more := len(g) - told; more > 1 {
			g = append(slices.Clone(g[:told]), fmt.Sprintf("and %d more", more))
		}
		fmt.Fprintf(a.err, "%s how long %s is not known; 1 s was taken (say it under [takes], or let it run once)\n", a.err.faint("note:"), strings.Join(g, ", "))
	}
}

// printDecisions tells each decision.
func (a *app) printDecisions(r *rehearsed, stamp func(calendar.Instant, string) string, dayOf func(calendar.Instant) string) {
	var rows [][]string
	events := r.day.Events
	text := func(e *rehearsal.Event) string {
		if why := r.played.Void[len(r.day.Events)-len(events)]; why != "" {
			return e.Text() + " (nothing happens: " + why + ")"
		}
		return e.Text()
	}
	flush := func(until calendar.Instant) {
		for len(events) > 0 && events[0].At <= until {
			rows = append(rows, []string{a.out.faint(stamp(events[0].At, dayOf(events[0].At))), "", a.out.faint(text(&events[0])), ""})
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
	var sum rehearsal.Tally
	for _, t := range r.played.Tallies {
		sum.Starts += t.Starts
		sum.Skipped += t.Skipped + t.Missed
		sum.Failed += t.Bad()
	}
	text := plural(int(sum.Starts), "start")
	if sum.Skipped > 0 {
		text += fmt.Sprintf(", %d passed without one", sum.Skipped)
	}
	if sum.Failed > 0 {
		text += fmt.Sprintf(", %d ended badly", sum.Failed)
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
	at := map[string]int{}
	for i, name := range slices.Sorted(maps.Keys(r.played.Tallies)) {
		p.Lanes = append(p.Lanes, chart.Lane{Gate: name})
		at[name] = i
	}
	lane := func(name string) *chart.Lane { return &p.Lanes[at[name]] }
	for _, run := range r.played.Runs {
		end := run.End
		if end == 0 {
			end = r.day.To
		}
		l := lane(run.Gate)
		l.Runs = append(l.Runs, chart.LaneRun{From: run.Started, To: end, Bad: run.Result != engine.ResultOK && run.Result != engine.ResultRunning})
	}
	for _, m := range r.played.Marks {
		text := string(m.Result)
		if m.Kind == engine.Wait {
			text = "waits"
		}
		l := lane(m.Gate)
		l.Marks = append(l.Marks, chart.LaneMark{At: m.At, Text: text})
	}
	return p
}
