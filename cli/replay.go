package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"timegate/chart"
	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/core/rehearsal"
	"timegate/core/replay"
	"timegate/gates"
	"timegate/journal"
	"timegate/workstation/zones"
)

func (a *app) replayCommand() *cli.Command {
	return &cli.Command{
		Name: "replay", Category: foreseeCommands, Usage: "play recorded days through the gates as they are now, and show what would have been otherwise", ArgsUsage: "SPAN | DAY",
		Description: examples(`timegate replay 7d`, `timegate replay 2026-11-20`, `timegate replay 7d --gates ~/larkspur-gates --png difference.png`) +
			"What happened on the machine is as it was recorded; programs take what they took then. A start is new, lost, moved, or\n" +
			"its run has another result. What no gate asked for then, such as the power, was not recorded. The exit status is 3 where\n" +
			"something would have been otherwise.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "gates", Usage: "play the gates in `FOLDER`, which are not in force", TakesFile: true},
			&cli.StringFlag{Name: "png", Usage: "draw both beside each other to `FILE`", TakesFile: true},
			&cli.StringFlag{Name: "svg", Usage: "draw both beside each other to `FILE`", TakesFile: true},
		},
		Action: a.replay,
	}
}

// replayed is what a span of time was, and would have been.
type replayed struct {
	from, to calendar.Instant
	zone     *calendar.Zone
	actual   []engine.Decision
	played   *rehearsal.Played
	diffs    []rehearsal.Difference
	same     int
	unknown  []string // what was not recorded then
}

func (a *app) replay(ctx context.Context, c *cli.Command) error {
	a.followClock(ctx)
	text, err := oneArgument(c, "a span such as 7d, or a day")
	if err != nil {
		return err
	}
	files, err := a.rehearsalGates(c.String("gates"), a.env())
	if err != nil {
		return err
	}
	r, err := a.replaySpan(ctx, text, files)
	if err != nil {
		return err
	}
	drawn, err := a.drawReplay(c, r)
	switch {
	case err != nil:
		return err
	case a.json:
		err = a.out.printJSON(a.replayJSON(r))
	case !drawn:
		a.printReplay(r)
	}
	if err == nil && len(r.diffs) > 0 {
		return &exitError{status: exitFound}
	}
	return err
}

// spanOf reads a span before now, or a day.
func (a *app) spanOf(text string) (from, to calendar.Instant, err error) {
	now := calendar.InstantOf(a.now())
	if d, err := phrase.ParseSpan(text); err == nil {
		return now.Add(-d), now, nil
	}
	reader := a.timeBack()
	if from, err = reader.read(text); err != nil {
		return 0, 0, usageError("write a span such as 7d, or a day such as yesterday or 2026-11-20: %w", err)
	}
	if to, err = reader.end(text); err != nil {
		return 0, 0, err
	}
	if to <= from {
		to = now
	}
	return from, to, nil
}

// errNothingRecorded is for a span of which nothing is known.
var errNothingRecorded = errors.New("no keeper has recorded anything in that time")

// replaySpan plays what was recorded of a span through gates.
func (a *app) replaySpan(ctx context.Context, text string, files []gates.File) (*replayed, error) {
	if a.home.OfOthers() {
		return nil, &control.PermissionError{Reason: "what the system's keeper has recorded is root's to replay"}
	}
	from, to, err := a.spanOf(text)
	if err != nil {
		return nil, err
	}
	j, err := journal.OpenReader(a.home.Journal())
	if errors.Is(err, journal.ErrNone) {
		return nil, &exitError{exitFailed, errNothingRecorded}
	}
	if err != nil {
		return nil, err
	}
	defer j.Close()
	past, err := j.Past(from, to)
	if err != nil {
		return nil, err
	}
	if len(past.Events) == 0 {
		return nil, &exitError{exitFailed, errNothingRecorded}
	}
	return a.playPast(ctx, j, &past, from, to, files)
}

// playPast plays what was recorded as it was, up to the beginning of a span; from there
// on as it was, and through gates.
func (a *app) playPast(ctx context.Context, j *journal.Journal, past *journal.Past, from, to calendar.Instant, files []gates.File) (*replayed, error) {
	open := func(def engine.Definition, env engine.Environment) (*gate.Gate, error) {
		zone, err := zones.Find(env.Zone)
		if err != nil {
			return nil, err
		}
		return gates.Recorded(env, def, zone, j.Text)
	}
	split := slices.IndexFunc(past.Events, func(ev engine.Event) bool { return ev.At >= from })
	if split < 0 {
		return nil, &exitError{exitFailed, errNothingRecorded}
	}
	if past.State.Version == 0 && split == 0 { // the first keeper begins within the span
		split = 1
		from = past.Events[0].At
	}
	none := func(engine.Event, []engine.Decision) {}
	e, err := replay.Play(past.State, past.Events[:split], open, none)
	if err != nil {
		return nil, err
	}
	r := &replayed{from: from, to: to, zone: a.zone}
	if _, err := replay.Play(past.State, past.Events, open, func(ev engine.Event, decisions []engine.Decision) {
		if ev.At >= from {
			r.actual = append(r.actual, decisions...)
		}
	}); err != nil {
		return nil, err
	}
	if split == 1 && past.State.Version == 0 { // what followed from the beginning itself is the same
		r.actual = slices.DeleteFunc(r.actual, func(d engine.Decision) bool { return d.At <= past.Events[0].At && d.Starts() })
	}
	s := rehearsal.Setup{Environment: e.Environment, Pace: e.Pace}
	for _, f := range files {
		if f.Gate != nil {
			s.Gates = append(s.Gates, f.Definition())
		}
	}
	r.unknown = notRecorded(e, open, s.Gates, e.Host)
	r.played, err = rehearsal.Replay(ctx, &rehearsal.Recorded{From: from, To: to, Zone: a.zone, Host: e.Host, Engine: e, Events: past.Events[split:], Actual: r.actual}, s)
	if err != nil {
		return nil, err
	}
	r.diffs, r.same = rehearsal.Compare(r.actual, r.played.Decisions, s.Gates)
	return r, nil
}

// notRecorded names what gates ask for and those that were in force did not: nobody was
// told of it then.
func notRecorded(e *engine.Engine, open replay.Open, defs []engine.Definition, host string) []string {
	var before, after []*gate.Gate
	for name, g := range e.Snapshot().Gates {
		if was, err := open(engine.Definition{Name: name, Version: g.Version, Days: g.Days}, e.Environment); err == nil {
			before = append(before, was)
		}
	}
	for _, d := range defs {
		after = append(after, d.Gate)
	}
	was, is := engine.WantsOf(before, host), engine.WantsOf(after, host)
	var out []string
	for _, x := range []struct {
		was, is bool
		what    string
	}{{was.Power, is.Power, "power"}, {was.Online, is.Online, "the network"}, {was.People, is.People, "who is logged on"}, {was.Idle > 0, is.Idle > 0, "idleness"}} {
		if x.is && !x.was {
			out = append(out, x.what)
		}
	}
	for _, p := range is.Paths {
		if !slices.ContainsFunc(was.Paths, func(o engine.WantedPath) bool { return o.Key() == p.Key() }) {
			out = append(out, p.Path)
		}
	}
	for _, w := range is.Watch {
		if !slices.ContainsFunc(was.Watch, func(o engine.WantedEvent) bool { return o.Key() == w.Key() }) {
			out = append(out, w.Event.String())
		}
	}
	return out
}

// summary says in a line what is otherwise.
func (r *replayed) summary() string {
	count := map[string]int{}
	for _, d := range r.diffs {
		count[d.What]++
	}
	text := fmt.Sprintf("%s as they were", plural(r.same, "start"))
	for _, x := range []struct{ what, text string }{{"new", "%d new"}, {"lost", "%d lost"}, {"moved", "%d moved"}, {"result", "%d with another result"}} {
		if n := count[x.what]; n > 0 {
			text += ", " + fmt.Sprintf(x.text, n)
		}
	}
	return text
}

func (a *app) printReplay(r *replayed) {
	fmt.Fprintf(a.out, "%s to %s\n", a.out.head(a.local(r.from.Time())), a.local(r.to.Time()))
	a.printDifferences(r)
	fmt.Fprintln(a.out, r.summary())
	if len(r.unknown) > 0 {
		fmt.Fprintf(a.err, "%s no gate asked for it then, so it was not recorded: %s\n", a.err.warn("not known:"), strings.Join(r.unknown, ", "))
	}
}

// mostDifferences is how many differences are told in a table.
const mostDifferences = 40

func (a *app) printDifferences(r *replayed) {
	var rows [][]string
	at := func(i calendar.Instant) string {
		if i == 0 {
			return ""
		}
		return a.local(i.Time().Truncate(time.Second))
	}
	for i, d := range r.diffs {
		if i == mostDifferences {
			rows = append(rows, []string{"…", fmt.Sprintf("and %d more", len(r.diffs)-i)})
			break
		}
		name := d.Gate
		if d.Opening != "" && d.Opening != "1" {
			name += "/" + d.Opening
		}
		what := map[string]string{"new": a.out.good("new"), "lost": a.out.bad("lost"), "moved": a.out.warn("moved"), "result": a.out.warn("result")}[d.What]
		rows = append(rows, []string{what, name, at(d.Was), a.resultOf(d.WasResult), at(d.Is), a.resultOf(d.IsResult)})
	}
	if len(rows) > 0 {
		a.out.table([]string{"WHAT", "GATE", "WAS", "", "WOULD BE", ""}, rows)
	}
}

func (a *app) resultOf(r engine.Result) string {
	if r == "" {
		return ""
	}
	return a.result(r)
}

// replayDifference is a difference in JSON.
type replayDifference struct {
	What      string        `json:"what"`
	Gate      string        `json:"gate"`
	Opening   string        `json:"opening"`
	Was       *time.Time    `json:"was"`
	Is        *time.Time    `json:"is"`
	WasResult engine.Result `json:"was_result"`
	IsResult  engine.Result `json:"is_result"`
}

func (a *app) replayJSON(r *replayed) map[string]any {
	list := []replayDifference{}
	for _, d := range r.diffs {
		list = append(list, replayDifference{d.What, d.Gate, d.Opening, a.stamp(d.Was), a.stamp(d.Is), d.WasResult, d.IsResult})
	}
	return map[string]any{"from": a.stamp(r.from), "to": a.stamp(r.to), "same": r.same, "differences": list, "not_recorded": append([]string{}, r.unknown...)}
}

// drawReplay draws the gates that differ, as they were and as they would have been.
func (a *app) drawReplay(c *cli.Command, r *replayed) (drawn bool, err error) {
	return a.pictures(c, func(f io.Writer, format chart.Format) error { return chart.DrawDay(f, a.replayPicture(r), format) })
}

func (a *app) replayPicture(r *replayed) *chart.Day {
	p := &chart.Day{Title: "as it was, and as it would have been", Below: r.summary(), Off: "no keeper", Zone: r.zone, From: r.from, To: r.to}
	for _, s := range r.played.States {
		p.States = append(p.States, chart.DayState{From: s.From, To: s.To, Off: s.Off, Asleep: s.Asleep, Battery: s.OnBattery, People: strings.Join(s.People, ", ")})
	}
	var names []string
	for _, d := range r.diffs {
		if !slices.Contains(names, d.Gate) {
			names = append(names, d.Gate)
		}
	}
	slices.Sort(names)
	lane := func(name, label string, decisions []engine.Decision) {
		l := chart.Lane{Gate: label}
		began := map[int64]calendar.Instant{}
		for i := range decisions {
			d := &decisions[i]
			switch {
			case d.Gate != name:
			case d.Starts():
				began[d.Run] = d.At
			case d.Kind == engine.End && began[d.Run] != 0:
				l.Runs = append(l.Runs, chart.LaneRun{From: began[d.Run], To: d.At, Bad: d.Result != engine.ResultOK})
				delete(began, d.Run)
			case d.Kind == engine.Skip:
				l.Marks = append(l.Marks, chart.LaneMark{At: max(d.Due, 1), Text: string(d.Result)})
			}
		}
		for _, at := range began {
			l.Runs = append(l.Runs, chart.LaneRun{From: at, To: r.to})
		}
		p.Lanes = append(p.Lanes, l)
	}
	for _, name := range names {
		lane(name, name+", was", r.actual)
		lane(name, "would be", r.played.Decisions)
	}
	return p
}

// againstFlag shows before a change what it would have changed.
func againstFlag() cli.Flag {
	return &cli.StringFlag{Name: "against", Usage: "show what would have been otherwise in this `SPAN`, such as 7d"}
}

// showAgainst shows, before a question, what gates would have changed in a span of the
// past.
func (a *app) showAgainst(ctx context.Context, c *cli.Command, files []gates.File) error {
	text := c.String("against")
	if text == "" {
		return nil
	}
	r, err := a.replaySpan(ctx, text, files)
	if errors.Is(err, errNothingRecorded) {
		fmt.Fprintf(a.err, "--against %s: %v\n", text, errNothingRecorded)
		return nil
	}
	if err != nil {
		return fmt.Errorf("--against: %w", err)
	}
	against := "against the last " + text
	if _, err := phrase.ParseSpan(text); err != nil { // a day
		against = "against " + text
	}
	fmt.Fprintf(a.out, "%s\n", a.out.head(against))
	a.printDifferences(r)
	fmt.Fprintln(a.out, r.summary())
	return nil
}

// withFile returns the gates with one in the place of that of its name.
func (a *app) withFile(f gates.File) ([]gates.File, error) {
	files, err := a.files()
	if err != nil {
		return nil, err
	}
	files = slices.DeleteFunc(files, func(o gates.File) bool { return o.Name == f.Name })
	files = append(files, f)
	gates.Sort(files)
	return files, nil
}
