package cli

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"timegate/chart"
	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/core/rehearsal"
	"timegate/core/words"
	"timegate/demo"
	"timegate/gates"
	"timegate/home"
	"timegate/workstation/zones"
)

func (a *app) rehearseCommand() *cli.Command {
	return &cli.Command{
		Name: "rehearse", Category: foreseeCommands, Usage: "play a scripted day through the gates, and start nothing", ArgsUsage: "DAY.toml | FOLDER",
		Description: examples(`timegate rehearse --example laptop-day`, `timegate rehearse monday.toml --png monday.png`, `timegate rehearse monday.toml --gates ~/larkspur-gates`, `timegate rehearse days/ --junit report.xml`) +
			"A day file says what happens on the machine (events), how long programs take (takes), and what is expected of it all\n" +
			"(expect); \"timegate help days\" tells how. Every decision is the keeper's own. Of a folder all day files are played. The\n" +
			"exit status is 3 where something is not as expected.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "example", Usage: "play a ready `DAY`: " + strings.Join(demo.Days(), ", ")},
			&cli.BoolFlag{Name: "usual", Usage: "play a usual week of this machine, from what the keeper has recorded"},
			&cli.StringFlag{Name: "write", Usage: "write the example, or the usual week, to `FILE` instead, to begin from", TakesFile: true},
			&cli.StringFlag{Name: "from", Usage: "begin `now`, with what the keeper knows, whatever the file says"},
			&cli.StringFlag{Name: "gates", Usage: "play the gates in `FOLDER`, which are not in force", TakesFile: true},
			&cli.StringFlag{Name: "png", Usage: "draw the day to `FILE`", TakesFile: true},
			&cli.StringFlag{Name: "svg", Usage: "draw the day to `FILE`", TakesFile: true},
			&cli.StringFlag{Name: "junit", Usage: "of a folder: write the results to `FILE` as JUnit XML", TakesFile: true},
		},
		Action: a.rehearse,
	}
}

func (a *app) rehearse(ctx context.Context, c *cli.Command) error {
	a.followClock(ctx)
	if name := c.String("example"); name != "" {
		if err := noArguments(c); err != nil {
			return err
		}
		data, there := demo.DayFile(name)
		if !there {
			return usageError("--example: there is no ready day %q; there are %s", name, strings.Join(demo.Days(), ", "))
		}
		if file := c.String("write"); file != "" {
			return a.writeDay(file, data)
		}
		return a.rehearseDay(ctx, c, name+".toml", data)
	}
	if c.Bool("usual") {
		if err := noArguments(c); err != nil {
			return err
		}
		data, err := a.usualDay()
		if err != nil {
			return err
		}
		if file := c.String("write"); file != "" {
			return a.writeDay(file, data)
		}
		return a.rehearseDay(ctx, c, "a usual week", data)
	}
	arg, err := oneArgument(c, "the day file")
	if err != nil {
		return err
	}
	info, err := os.Stat(arg)
	if err != nil {
		return usageError("%s cannot be read: %w; for a ready day: timegate rehearse --example office-day", arg, cause(err))
	}
	if info.IsDir() {
		return a.rehearseFolder(ctx, c, arg)
	}
	data, err := home.ReadPlain(arg, gate.MaxSize)
	if err != nil {
		return usageError("%s cannot be read: %w", arg, cause(err))
	}
	return a.rehearseDay(ctx, c, arg, data)
}

// rehearsed is a day with what came of it.
type rehearsed struct {
	file     string
	day      *rehearsal.Day
	played   *rehearsal.Played
	failures []rehearsal.Failure
	found    gate.Findings // what is wrong with the file
	gates    []gates.File
	took     time.Duration
}

// playDay reads a day file and plays it.
func (a *app) playDay(ctx context.Context, c *cli.Command, file string, data []byte, progress func(float64)) (*rehearsed, error) {
	began := time.Now()
	r := &rehearsed{file: file}
	files, err := a.rehearsalGates(c.String("gates"), a.env())
	if err != nil {
		return nil, err
	}
	var names []string
	for _, f := range files {
		names = append(names, f.Name)
	}
	now := calendar.Instant(0)
	switch from := c.String("from"); {
	case from == "now":
		now = calendar.InstantOf(a.now())
	case from != "":
		return nil, usageError("--from is %q: write now; another beginning is for the day file to say", from)
	}
	if r.day, r.found = rehearsal.Read(file, data, rehearsal.Env{Zone: a.zone, Host: a.host, Find: zones.Find, Gates: names, Now: now}); r.day == nil {
		return r, nil
	}
	here := gates.Here(a.home.Scope, r.day.Zone, r.day.Host)
	if r.gates, err = a.rehearsalGates(c.String("gates"), gates.Env(here, r.day.Zone)); err != nil {
		return nil, err
	}
	settings, err := home.ReadSettings(a.home.Settings())
	if err != nil {
		return nil, err
	}
	costs, err := a.costs()
	if err != nil {
		return nil, err
	}
	s := rehearsal.Setup{Environment: here, Pace: settings.Pace, Progress: progress, Usual: func(name string) time.Duration {
		if cost := costs[name]; cost != nil {
			return time.Duration(cost.TookS * float64(time.Second))
		}
		return 0
	}}
	for _, f := range r.gates {
		if f.Gate != nil {
			s.Gates = append(s.Gates, f.Definition())
		}
	}
	if now != 0 {
		if s.State, err = a.engineState(); err != nil {
			return nil, err
		}
	}
	if r.played, err = rehearsal.Play(ctx, r.day, s); err != nil {
		return nil, err
	}
	r.failures, r.took = r.played.Check(r.day), time.Since(began)
	return r, nil
}

// rehearsalGates reads the gates that are played: those in force, or those of a folder.
func (a *app) rehearsalGates(folder string, env phrase.Env) ([]gates.File, error) {
	if folder == "" {
		return a.client.Files(env)
	}
	source, err := gates.ReadSource(folder, false)
	if err != nil {
		return nil, usageError("--gates: %w", err)
	}
	if err := source.CheckVars(env.Host); err != nil {
		return nil, usageError("--gates: %w", err)
	}
	plan, err := source.Plan(home.At(filepath.Join(source.Dir, ".nowhere"), a.home.Scope), false)
	if err != nil {
		return nil, err
	}
	files, err := plan.Files(env)
	for i := range files {
		files[i] = atSource(source, files[i])
	}
	return files, err
}

func (a *app) rehearseDay(ctx context.Context, c *cli.Command, file string, data []byte) error {
	var show func(float64)
	if a.err.terminal {
		const long = 300 * time.Millisecond
		began := time.Now()
		show = func(share float64) {
			if time.Since(began) > long {
				a.err.clearLine()
				fmt.Fprintf(a.err, "%3.0f %%", share*100)
			}
		}
		defer a.err.clearLine()
	}
	r, err := a.playDay(ctx, c, file, data, show)
	if errors.Is(err, context.Canceled) {
		return &exitError{exitFailed, errors.New("it was interrupted")}
	}
	if err != nil {
		return err
	}
	if show != nil {
		a.err.clearLine()
	}
	if r.day == nil {
		return r.found
	}
	for _, f := range r.gates {
		if f.Gate == nil {
			a.printFindings(a.err, f.Findings.Errors())
			fmt.Fprintf(a.err, "%s is left out\n", f.Name)
		}
	}
	drawn, err := a.drawDay(c, r)
	if err != nil {
		return err
	}
	switch {
	case a.json:
		err = a.out.printJSON(a.rehearsedJSON(r))
	case !drawn:
		a.printRehearsed(r)
	}
	if err != nil {
		return err
	}
	for _, f := range r.failures {
		fmt.Fprintf(a.err, "%s %s\n  %s %s\n", a.err.bad("expected:"), f.Expected, a.err.warn("but:"), f.Actual)
	}
	if len(r.failures) > 0 || c.String("gates") != "" && slices.ContainsFunc(r.gates, func(f gates.File) bool { return f.Gate == nil }) {
		return &exitError{status: exitFound}
	}
	if n := len(r.day.Expect); n > 0 {
		fmt.Fprintf(a.err, "%s %s as expected\n", a.err.good("ok:"), plural(n, "thing"))
	}
	return nil
}

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

// rehearseFolder plays all day files of a folder, several at once.
func (a *app) rehearseFolder(ctx context.Context, c *cli.Command, dir string) error {
	paths, err := filepath.Glob(filepath.Join(dir, "*.toml"))
	if err != nil {
		return err
	}
	if len(paths) == 0 {
		return usageError("there is no day file (*.toml) in %s", dir)
	}
	type outcome struct {
		r   *rehearsed
		err error
	}
	results := make([]outcome, len(paths))
	next := make(chan int)
	var workers sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), len(paths)) {
		workers.Go(func() {
			for i := range next {
				data, err := home.ReadPlain(paths[i], gate.MaxSize)
				if err == nil {
					results[i].r, err = a.playDay(ctx, c, paths[i], data, nil)
				}
				results[i].err = err
			}
		})
	}
	for i := range paths {
		next <- i
	}
	close(next)
	workers.Wait()
	var rows [][]string
	var list []*rehearsed
	bad := 0
	for i, o := range results {
		if o.err != nil {
			return fmt.Errorf("%s: %w", paths[i], o.err)
		}
		name, what := filepath.Base(paths[i]), a.out.good("ok")
		text := ""
		switch {
		case o.r.day == nil:
			what, text = a.out.bad("wrong"), o.r.found[0].Error()
			bad++
		case len(o.r.failures) > 0:
			what = a.out.bad("failed")
			var lines []string
			for _, f := range o.r.failures {
				lines = append(lines, f.Expected+", but "+f.Actual)
			}
			text = strings.Join(lines, "; ")
			bad++
		default:
			text = fmt.Sprintf("%s as expected; %s", plural(len(o.r.day.Expect), "thing"), rehearsedSummary(o.r))
		}
		rows = append(rows, []string{name, what, text})
		list = append(list, o.r)
	}
	if a.json {
		err = a.out.printJSON(folderJSON(list))
	} else {
		a.out.table([]string{"DAY", "RESULT", "WHAT"}, rows)
	}
	if err != nil {
		return err
	}
	if file := c.String("junit"); file != "" {
		if err := writeFile(file, func(w io.Writer) error { return writeJUnit(w, list) }); err != nil {
			return err
		}
		fmt.Fprintf(a.err, "%s %s\n", a.err.good("written"), file)
	}
	if bad > 0 {
		return &exitError{exitFound, fmt.Errorf("%d of %s not as expected", bad, plural(len(list), "day"))}
	}
	return nil
}

// folderResult is a day of a folder in JSON.
type folderResult struct {
	File     string              `json:"file"`
	OK       bool                `json:"ok"`
	Expected int                 `json:"expected"`
	Failures []rehearsal.Failure `json:"failures"`
	Findings gate.Findings       `json:"findings"`
}

func folderJSON(list []*rehearsed) []folderResult {
	var out []folderResult
	for _, r := range list {
		x := folderResult{File: r.file, OK: r.day != nil && len(r.failures) == 0, Failures: append([]rehearsal.Failure{}, r.failures...), Findings: append(gate.Findings{}, r.found...)}
		if r.day != nil {
			x.Expected = len(r.day.Expect)
		}
		out = append(out, x)
	}
	return out
}

// The parts of a JUnit report, as test servers read them.
type junitSuites struct {
	XMLName xml.Name     `xml:"testsuites"`
	Suites  []junitSuite `xml:"testsuite"`
}

type junitSuite struct {
	Name     string      `xml:"name,attr"`
	Tests    int         `xml:"tests,attr"`
	Failures int         `xml:"failures,attr"`
	Errors   int         `xml:"errors,attr"`
	Time     string      `xml:"time,attr"`
	Cases    []junitCase `xml:"testcase"`
}

type junitCase struct {
	Name    string        `xml:"name,attr"`
	Class   string        `xml:"classname,attr"`
	Failure *junitMessage `xml:"failure,omitempty"`
	Error   *junitMessage `xml:"error,omitempty"`
}

type junitMessage struct {
	Message string `xml:"message,attr"`
}

// writeJUnit writes a report: a suite for each day, a case for each expectation.
func writeJUnit(w io.Writer, list []*rehearsed) error {
	var all junitSuites
	for _, r := range list {
		name := strings.TrimSuffix(filepath.Base(r.file), ".toml")
		s := junitSuite{Name: name, Time: fmt.Sprintf("%.3f", r.took.Seconds())}
		if r.day == nil {
			s.Errors = 1
			s.Cases = append(s.Cases, junitCase{Name: "the day file", Class: name, Error: &junitMessage{r.found[0].Error()}})
		} else {
			for _, x := range r.day.Expect {
				one := junitCase{Name: x.Text, Class: name}
				for _, f := range r.failures {
					if f.Expected == x.Text {
						one.Failure = &junitMessage{f.Actual}
					}
				}
				s.Cases = append(s.Cases, one)
			}
			s.Failures = len(r.failures)
		}
		s.Tests = len(s.Cases)
		all.Suites = append(all.Suites, s)
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", "  ")
	if err := e.Encode(all); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}
