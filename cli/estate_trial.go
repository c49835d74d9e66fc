package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/urfave/cli/v3"

	"timegate/chart"
	coreestate "timegate/core/estate"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/core/words"
	"timegate/estate"
	"timegate/gates"
	"timegate/home"
)

// Forecast implements [estate.Keeper]: another process plays the last days through the
// bundle's gates, when nobody else wants the processor.
func (k *estateKeeper) Forecast(ctx context.Context, b *coreestate.Bundle, f *coreestate.Forecast) error {
	said, err := k.tried(ctx, b, "trial.bundle", true)
	if err == nil {
		f.Days, f.Code, f.Gates, f.Unmet = said.Days, said.Code, said.Gates, said.Unmet
	}
	return err
}

// looked lets another process look at what a bundle would start. What hangs there, such as a
// drive, hangs nobody else.
func (k *estateKeeper) looked(b *coreestate.Bundle) error {
	const patience = time.Minute
	ctx, enough := context.WithTimeout(context.Background(), patience)
	defer enough()
	said, err := k.tried(ctx, b, "taken.bundle", false)
	for n := 1; err != nil && ctx.Err() == nil && n < mostLooks; n++ { // it could not be started, or was killed
		time.Sleep(tryPause)
		said, err = k.tried(ctx, b, "taken.bundle", false)
	}
	switch {
	case ctx.Err() != nil:
		return refusedBy("too-long", fmt.Errorf("what the bundle would start could not be looked at within %v", patience))
	case err != nil:
		return refusedBy("gates", err)
	case said.Code != "":
		return refusedBy(said.Code, errors.New(said.Code))
	}
	for _, g := range said.Gates {
		if len(g.Refused) > 0 {
			return refusedBy(g.Refused[0], fmt.Errorf("the gate %s: %s", g.Gate, strings.Join(g.Refused, ", ")))
		}
	}
	return nil
}

// tried lets another process try a bundle out; with days, on the last ones, when nobody else
// wants the processor.
func (k *estateKeeper) tried(ctx context.Context, b *coreestate.Bundle, name string, days bool) (*coreestate.Forecast, error) {
	body, err := b.Pack()
	if err != nil {
		return nil, err
	}
	file := filepath.Join(k.app.home.State, "estate", name)
	if err := writeNamed(file, body, 0o600); err != nil {
		return nil, home.Wrap(file, err)
	}
	defer os.Remove(file)
	args := []string{"estate", "trial", file}
	if days {
		args = append(args, "--days")
	}
	out, status, err := k.app.called(ctx, days, mostCalled, args...)
	if err != nil {
		return nil, err
	}
	if status != 0 {
		return nil, fmt.Errorf("the trial ended with status %d: %.300s", status, words.Line(string(out)))
	}
	said := &coreestate.Forecast{}
	if err := readSaid(out, said); err != nil {
		return nil, err
	}
	return said, nil
}

// sameHome are the options by which this program finds the same home.
func (a *app) sameHome() []string {
	if a.home.Gates == home.At(a.home.State, a.home.Scope).Gates {
		return []string{"--home", a.home.State}
	}
	return []string{"--scope", string(a.home.Scope)}
}

// estateTrialCommand is the process that tries a bundle out.
func (a *app) estateTrialCommand() *cli.Command {
	return &cli.Command{
		Name: "trial", Hidden: true, Usage: "try out a bundle that is not in force", ArgsUsage: "FILE",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "days", Usage: "play the last days through it"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			file, err := oneArgument(c, "the bundle")
			if err != nil {
				return err
			}
			body, err := home.ReadPlain(file, coreestate.MostBytes)
			if err != nil {
				return home.Wrap(file, err)
			}
			b, err := coreestate.Unpack(body)
			if err != nil {
				return err
			}
			f, err := a.forecastOf(ctx, b, c.Bool("days"))
			if err != nil {
				return err
			}
			return a.out.printJSON(f)
		},
	}
}

// trialDays is how much of the past a bundle is tried out on.
const trialDays = 7

// forecastOf says what a bundle would change here.
func (a *app) forecastOf(ctx context.Context, b *coreestate.Bundle, days bool) (*coreestate.Forecast, error) {
	f := &coreestate.Forecast{Gates: []coreestate.GateForecast{}}
	source := gates.SourceOf(bundleName(b), b.Content)
	if err := source.CheckVars(a.host); err != nil {
		f.Code = "vars"
		return f, nil
	}
	before, err := a.files()
	if err != nil {
		return nil, err
	}
	plan, err := source.Plan(a.home, true)
	if err != nil {
		return nil, err
	}
	after, err := plan.Files(a.env())
	if err != nil {
		return nil, err
	}
	own, err := source.Over(a.home)
	if err != nil {
		return nil, err
	}
	changes := a.gateChanges(plan, before, after)
	errs, _ := a.refusals(changedFiles(source, changes, after), false, copiedScripts(plan)...)
	for _, x := range changes {
		g := coreestate.GateForecast{Gate: x.Gate, Change: x.Change}
		for _, e := range errs {
			if e.Gate == x.Gate && !slices.Contains(g.Refused, e.Code) {
				g.Refused = append(g.Refused, e.Code)
			}
		}
		i := slices.IndexFunc(after, func(f gates.File) bool { return f.Name == x.Gate && f.Gate != nil })
		if _, conflicts := own[x.Gate]; conflicts && (i < 0 || !after[i].Gate.Over) { // somebody here has made it
			g.Refused = append(g.Refused, coreestate.Conflict)
			errs = append(errs, gate.Finding{Gate: x.Gate, Code: coreestate.Conflict})
		}
		if i >= 0 && !x.Dormant {
			for _, path := range after[i].Gate.Needs.Paths {
				if _, err := os.Stat(path); err != nil {
					g.Missing = append(g.Missing, path)
				}
			}
		}
		f.Gates = append(f.Gates, g)
	}
	if len(errs) > 0 || !days {
		return f, nil
	}
	if err := a.playBundleDays(ctx, b, f, plan.Files); err != nil {
		return nil, err
	}
	return f, a.countStarts(ctx, f, after)
}

// playBundleDays plays the day files of a bundle here. One that is for another host is left to
// that one.
func (a *app) playBundleDays(ctx context.Context, b *coreestate.Bundle, f *coreestate.Forecast, after func(phrase.Env) ([]gates.File, error)) error {
	for _, name := range slices.Sorted(maps.Keys(b.Content)) {
		day, ok := coreestate.DayOf(name)
		if !ok {
			continue
		}
		r, err := a.playDay(ctx, dayPlay{file: name, data: b.Content[name], gates: after})
		if err != nil {
			return err
		}
		if r.day == nil || r.day.Host == a.host && len(r.failures) > 0 {
			f.Unmet = append(f.Unmet, day)
		}
	}
	return nil
}

// countStarts plays the last days through gates, and counts what would have been otherwise.
func (a *app) countStarts(ctx context.Context, f *coreestate.Forecast, after []gates.File) error {
	r, err := a.replaySpan(ctx, fmt.Sprintf("%dd", trialDays), after)
	if errors.Is(err, errNothingRecorded) {
		return nil
	}
	if err != nil {
		return err
	}
	f.Days = r.to.Sub(r.from).Hours() / 24
	for _, d := range r.diffs {
		i := slices.IndexFunc(f.Gates, func(g coreestate.GateForecast) bool { return g.Gate == d.Gate })
		if i < 0 {
			f.Gates = append(f.Gates, coreestate.GateForecast{Gate: d.Gate, Change: "otherwise"})
			i = len(f.Gates) - 1
		}
		switch g := &f.Gates[i]; d.What {
		case "new":
			g.New++
		case "lost":
			g.Lost++
		case "moved":
			g.Moved++
		}
	}
	return nil
}

func (a *app) estateForecastCommand() *cli.Command {
	return &cli.Command{
		Name: "forecast", Usage: "let the workstations say what a folder of gates would change on each", ArgsUsage: "FOLDER --key FILE",
		Description: examples(`timegate estate forecast ~/larkspur-gates --key larkspur.key`, `timegate estate forecast ~/larkspur-gates --key larkspur.key --group printing --json`) +
			"Each plays its last 7 days through the new gates, when nobody else wants its processor, and changes nothing. What is the\n" +
			"same on several is told once. The exit status is 3 where something would be refused or is missing.",
		Flags: []cli.Flag{
			keyFlag(),
			&cli.StringSliceFlag{Name: "host", Usage: "only those whose names match a `PATTERN`"},
			&cli.StringSliceFlag{Name: "group", Usage: "only the workstations of a `GROUP`"},
			&cli.StringFlag{Name: "wait", Usage: "wait for this `DURATION` at most for those that are on", Value: "2m"},
			&cli.StringFlag{Name: "png", Usage: "draw it to `FILE`", TakesFile: true},
			&cli.StringFlag{Name: "svg", Usage: "draw the same to `FILE`", TakesFile: true},
		},
		Action: a.estateForecast,
	}
}

// jsonForecast is a forecast of an estate as other programs read it.
type jsonForecast struct {
	Hosts int                  `json:"hosts"` // that it is for
	On    int                  `json:"on"`
	Said  int                  `json:"said"`
	Lines []coreestate.SumLine `json:"lines"`
}

func (a *app) estateForecast(ctx context.Context, c *cli.Command) error {
	dir, err := oneArgument(c, "the folder")
	if err != nil {
		return err
	}
	keys, err := signers(c)
	if err != nil {
		return err
	}
	patience, err := parseSpan("wait", c.String("wait"))
	if err != nil {
		return err
	}
	b, err := a.folderBundle(c, dir)
	if err != nil {
		return err
	}
	b.Expires = time.Now().Add(24 * time.Hour).UTC()
	b.Plan.Waves = []coreestate.Wave{{Rest: true}}
	return a.atDesk(ctx, func(d *estate.Desk) error {
		if err := a.mayGoOut(d, b, dir); err != nil {
			return err
		}
		if err := d.Try(ctx, b, time.Now(), keys); err != nil {
			return &exitError{exitFailed, err}
		}
		said := a.awaitTrials(ctx, d, &b.Manifest, patience)
		_, on, all := d.Tried(&b.Manifest)
		out := jsonForecast{Hosts: all, On: on, Said: len(said), Lines: coreestate.Sum(said)}
		bad := slices.ContainsFunc(out.Lines, func(l coreestate.SumLine) bool { return l.Bad() })
		if a.json {
			if err := a.out.printJSON(out); err != nil {
				return err
			}
		} else {
			a.printForecast(&out)
		}
		if _, err := a.pictures(c, func(f io.Writer, format chart.Format) error { return chart.DrawShares(f, out.shares(dir), format) }); err != nil {
			return err
		}
		if bad {
			return &exitError{status: exitFound}
		}
		return nil
	})
}

// awaitTrials waits until those that are on have said something.
func (a *app) awaitTrials(ctx context.Context, d *estate.Desk, m *coreestate.Manifest, patience time.Duration) []*coreestate.Forecast {
	enough := time.After(patience)
	for {
		said, on, _ := d.Tried(m)
		if len(said) >= on {
			return said
		}
		select {
		case <-ctx.Done():
			return said
		case <-enough:
			return said
		case <-d.News():
		}
	}
}

// namesOf are the first of some workstations, and how many more there are.
func namesOf(hosts []string, most int) string {
	if len(hosts) <= most {
		return strings.Join(hosts, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(hosts[:most], ", "), len(hosts)-most)
}

// shares are what is to be drawn of a forecast.
func (f *jsonForecast) shares(dir string) *chart.Shares {
	const most, wide = 10, 120 // names; letters
	out := &chart.Shares{Title: "What " + words.Line(filepath.Base(dir)) + " would change", Of: f.Said, Below: fmt.Sprintf("heard from %d of %s; %d on", f.Said, plural(f.Hosts, "workstation"), f.On)}
	for _, l := range f.Lines {
		out.Rows = append(out.Rows, chart.Share{Text: ansi.Truncate(words.Line(l.Text), wide, "…"), Names: ansi.Truncate(namesOf(l.Hosts, most), wide, "…"), Count: len(l.Hosts), Bad: l.Bad()})
	}
	return out
}

func (a *app) printForecast(f *jsonForecast) {
	const most = 6 // names in a line
	for _, l := range f.Lines {
		text := words.Line(l.Text)
		if l.Bad() {
			text = a.out.bad(text)
		}
		fmt.Fprintf(a.out, "on %d of %d: %s\n", len(l.Hosts), f.Said, text)
		fmt.Fprintln(a.out, a.out.faint("  "+namesOf(l.Hosts, most)))
	}
	fmt.Fprintf(a.err, "heard from %d of %s; %d on\n", f.Said, plural(f.Hosts, "workstation"), f.On)
}
