package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"timegate/demo"
)

// demoForesight rehearses the next day, mends what is not as expected, and shows what that
// would have changed on the day that was played.
func (a *app) demoForesight(ctx context.Context, dir string) error {
	file := filepath.Join(dir, "tuesday.toml")
	if err := os.WriteFile(file, demo.Tuesday(), 0o600); err != nil {
		return err
	}
	fmt.Fprintln(a.out, "\nNo reading is to be missed on Tuesday: that is expected in tuesday.toml, and tried beforehand.")
	from, _, _ := demo.Day(a.zone)
	day := from.Format("2006-01-02")
	for _, args := range [][]string{
		{"rehearse", file},
		{"change", "humidity-log", "--set", "rules.missed=once", "--yes"},
		{"rehearse", file},
		{"replay", day},
	} {
		if err := a.demoCall(ctx, args...); err != nil {
			return err
		}
	}
	return nil
}

// demoReport writes a page about the day.
func (a *app) demoReport(ctx context.Context, dir string) error {
	from, _, _ := demo.Day(a.zone)
	day := from.Format("2006-01-02")
	return a.demoCall(ctx, "report", filepath.Join(dir, "report.html"), "--since", day, "--until", day)
}

// demoView shows the day in the live view, until the context ends or it is quit, which ends
// the day. It returns what waits until the terminal is as it was.
func (a *app) demoView(ctx context.Context, quit func()) (wait func()) {
	done := make(chan error, 1)
	go func() {
		done <- a.view(ctx)
		quit()
	}()
	return func() {
		quit()
		if err := <-done; err != nil {
			fmt.Fprintln(a.err, err)
		}
	}
}

// demoCall shows a command, and runs it.
func (a *app) demoCall(ctx context.Context, args ...string) error {
	shown := slices.Clone(args)
	for i := range shown {
		if strings.HasPrefix(shown[i], os.TempDir()) || filepath.IsAbs(shown[i]) {
			shown[i] = filepath.Base(shown[i])
		}
	}
	a.title("$ timegate " + strings.Join(shown, " "))
	own, cancel := context.WithCancel(context.Background())
	defer cancel()
	defer context.AfterFunc(ctx, cancel)()
	err := a.inside(own, args)
	if found, is := errors.AsType[*exitError](err); is && found.status == exitFound && found.err == nil {
		fmt.Fprintf(a.err, "%s\n", a.err.faint(fmt.Sprintf("exit status %d", exitFound)))
		return nil
	}
	return err
}

// demoChapters are the parts of the demo, each of which can be played alone.
var demoChapters = []string{"day", "foresight", "report", "watch", "estate"}

// demoChapter returns which chapter is to be played; "" is all of them.
func demoChapter(c *cli.Command) (string, error) {
	if c.Args().Len() == 0 {
		return "", nil
	}
	name, err := oneArgument(c, "the chapter")
	if err == nil && !slices.Contains(demoChapters, name) {
		err = usageError("there is no chapter %q; there are %s", name, strings.Join(demoChapters, ", "))
	}
	return name, err
}
