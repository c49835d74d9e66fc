package cli

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/forecast"
	"timegate/core/gate"
	"timegate/core/words"
	"timegate/gates"
	"timegate/journal"
	"timegate/watch"
)

func (a *app) watchCommand() *cli.Command {
	return &cli.Command{
		Name: "watch", Category: watchCommands, Usage: "look at what runs, what comes and what happens, as it does",
		Description: examples(`timegate watch`, `timegate watch --plain`) + "A view of the whole terminal, fed by the keeper. \"?\" lists its keys; \"q\" quits, and the keeper goes on.\n" +
			"Of a day, each gate has a line: what ran (■), failed (×) or passed without a run (–), now (│), and what comes (□).",
		Action: a.watch,
	}
}

func (a *app) watch(ctx context.Context, c *cli.Command) error {
	a.lasts()
	if err := noArguments(c); err != nil {
		return err
	}
	if !a.canWatch() {
		return usageError("watch wants a terminal that can be drawn on; write: timegate history --follow, or timegate list")
	}
	a.followClock(ctx)
	if _, err := a.client.Status(ctx); err != nil && !errors.Is(err, control.ErrNoKeeper) {
		return err
	}
	return a.view(ctx)
}

// canWatch reports whether there is a terminal that can be drawn on.
func (a *app) canWatch() bool {
	return a.out.terminal && isTerminal(a.in) && os.Getenv("TERM") != "dumb"
}

// view shows the live view.
func (a *app) view(ctx context.Context) error {
	s := &watched{app: a}
	return watch.Run(ctx, s, a.watchOptions())
}

// watchOptions are how a live view is shown.
func (a *app) watchOptions() watch.Options {
	return watch.Options{Zone: a.zone, Host: a.host, In: a.in, Out: os.Stdout, Style: watch.Style{
		Good: a.out.dress(styleGood), Bad: a.out.dress(styleBad), Warn: a.out.dress(styleWarn), Faint: a.out.dress(styleFaint), Head: a.out.dress(styleHead), ASCII: a.out.ascii}}
}

// watched feeds the live view.
type watched struct{ app *app }

func (w *watched) Status(ctx context.Context) (control.Status, error) {
	return w.app.client.Status(ctx)
}

func (w *watched) Follow(ctx context.Context, after int64, take func(control.Item) error) error {
	return w.app.client.Follow(ctx, after, take)
}

// Load implements [watch.Source].
func (w *watched) Load(status control.Status) (*watch.Loaded, error) {
	a := w.app
	files, err := a.files()
	if err != nil {
		return nil, err
	}
	usual, err := a.recordedCosts()
	if err != nil {
		return nil, err
	}
	now := calendar.InstantOf(status.Now)
	out := &watch.Loaded{}
	out.Day, _ = a.zone.Local(now)
	from, _ := a.zone.Start(out.Day)
	to, _ := a.zone.Start(out.Day + 1)
	for _, f := range files {
		g := watch.Gate{Name: f.Name, Usual: usual[f.Name]}
		if f.Gate == nil {
			g.Broken = f.Findings.Errors()[0].Message
		} else {
			g.About, g.Enabled = f.Gate.About, f.Gate.Enabled && f.Gate.RunsOn(a.host)
			for _, d := range forecast.Dues(f.Gate, a.host, forecast.Span{From: from, To: to - 1}) {
				g.Dues = append(g.Dues, d.At)
			}
		}
		out.Gates = append(out.Gates, g)
	}
	out.Past, err = a.pastDay(from)
	return out, err
}

// Check implements [watch.Source]. What keeps a file from being read stands with its gate.
func (w *watched) Check(ctx context.Context) ([]string, error) {
	a := w.app
	files, err := a.files()
	if err != nil {
		return nil, err
	}
	files = slices.DeleteFunc(files, func(f gates.File) bool { return f.Gate == nil })
	together, err := a.together(files)
	if err != nil {
		return nil, err
	}
	found, err := a.checked(ctx, files, together)
	var lines []string
	for _, x := range found {
		if x.Severity != gate.Note {
			lines = append(lines, strings.TrimPrefix(x.Gate+": ", ": ")+x.Message)
		}
	}
	return lines, err
}

// pastDay returns what was recorded from an instant on, and some of what came before.
func (a *app) pastDay(from calendar.Instant) ([]journal.Entry, error) {
	const mostOfDay, least = 5000, 50
	j, err := a.reader()
	if err != nil || j == nil {
		return nil, err
	}
	defer j.Close()
	list, err := j.History(journal.Filter{Since: from, Limit: mostOfDay})
	if err != nil || len(list) >= least {
		return list, err
	}
	return j.History(journal.Filter{Limit: least})
}

// Activity implements [watch.Source].
func (w *watched) Activity(run int64) (watch.Activity, bool) {
	j, err := w.app.reader()
	if err != nil || j == nil {
		return watch.Activity{}, false
	}
	defer j.Close()
	e, ok, err := j.Run(run)
	if err != nil || !ok {
		return watch.Activity{}, false
	}
	x := w.app.aliveOf(j, &e)
	if x == nil {
		return watch.Activity{}, false
	}
	return watch.Activity{Processor: time.Duration(x.CPUS * float64(time.Second)), Memory: x.Memory, Output: int64(x.Output), LastLine: x.LastLine}, true
}

// Output implements [watch.Source].
func (w *watched) Output(run int64) ([]byte, error) {
	j, err := w.app.reader()
	if err != nil || j == nil {
		return nil, err
	}
	defer j.Close()
	return j.Output(run)
}

// Why implements [watch.Source].
func (w *watched) Why(_ context.Context, gate string) (string, error) {
	return w.app.captured("why", gate)
}

// Do implements [watch.Source].
func (w *watched) Do(ctx context.Context, what watch.Action, gate string) (string, error) {
	c := w.app.client
	var err error
	var ans control.Answer
	switch what {
	case watch.Enable, watch.Disable:
		text, err := w.app.captured(string(what), gate)
		return strings.ReplaceAll(strings.TrimSpace(text), "\n", "; "), err
	case watch.Pause:
		_, err = c.Pause(ctx, time.Time{})
		return "paused: nothing starts by itself; p resumes", err
	case watch.Resume:
		_, err = c.Resume(ctx)
		return "resumed", err
	case watch.Open:
		ans, err = c.Open(ctx, gate)
	case watch.Stop:
		ans, err = c.Stop(ctx, gate)
	}
	switch {
	case err != nil:
		return "", err
	case ans.Error != "":
		return "", errors.New(ans.Error)
	case !ans.Known:
		return "", fmt.Errorf("the keeper knows no gate %q", gate)
	case len(ans.Decisions) == 0:
		return gate + ": nothing to do", nil
	}
	d := ans.Decisions[len(ans.Decisions)-1]
	return fmt.Sprintf("%s: %s, %s", gate, d.Decision, d.Reason), nil
}

// captured runs a command and returns what it prints.
func (a *app) captured(args ...string) (string, error) {
	var out, errs bytes.Buffer
	b := *a
	b.in, b.out, b.err, b.json = strings.NewReader(""), a.out.onto(&out), a.out.onto(&errs), false
	err := b.inside(context.Background(), args)
	if err == nil {
		return out.String() + errs.String(), nil
	}
	if text := err.Error(); text != "" {
		return "", errors.New(words.Line(text))
	}
	return cmp.Or(out.String(), errs.String()), nil
}

// inside runs a command with where and when it is as they are set. The context must not be
// that of a command, which would count as the one above.
func (a *app) inside(ctx context.Context, args []string) error {
	root := a.root()
	root.Before = nil
	return root.Run(ctx, append([]string{"timegate"}, args...))
}
