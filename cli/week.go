package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"timegate/chart"
	"timegate/core/calendar"
	"timegate/core/forecast"
	"timegate/core/gate"
	"timegate/home"
)

func (a *app) weekCommand() *cli.Command {
	return &cli.Command{
		Name: "week", Category: foreseeCommands, Usage: "the week as a grid of days and hours", ArgsUsage: "[NAME …]",
		Description: examples(`timegate week`, `timegate week --from 2026-11-30 --png week.png`) + "Moments that only events bring, such as boot, cannot be foretold and are not in it.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "from", Usage: "the first `DAY`, such as tomorrow or 2026-11-30; today otherwise"},
			&cli.StringFlag{Name: "png", Usage: "write the week as a picture to `FILE`", TakesFile: true},
			&cli.StringFlag{Name: "svg", Usage: "write the week as a picture to `FILE`", TakesFile: true},
		},
		Action: a.week,
	}
}

func (a *app) week(ctx context.Context, c *cli.Command) error {
	a.followClock(ctx)
	from, _ := a.zone.Local(calendar.InstantOf(a.now()))
	if text := c.String("from"); text != "" {
		at, err := a.timeAhead().read(text)
		if err != nil {
			return usageError("--from: %w", err)
		}
		from, _ = a.zone.Local(at)
	}
	gates, err := a.gatesNamed(c.Args().Slice())
	if err != nil {
		return err
	}
	w := forecast.NewWeek(gates, a.host, from, a.zone)
	if a.json {
		return a.printWeekJSON(w)
	}
	title := a.weekTitle(w, c.Args().Slice())
	drawn, err := a.drawWeek(c, w, title)
	if err != nil || drawn {
		return err
	}
	fmt.Fprintln(a.out, a.out.head(title))
	a.printWeek(w)
	a.printWeekFacts(w)
	if text := a.pauseText(ctx); text != "" {
		fmt.Fprintln(a.out, a.out.warn(text))
	}
	if err := a.printLongest(gates); err != nil {
		return err
	}
	a.printWeekGates(w)
	return nil
}

func (a *app) weekTitle(w *forecast.Week, names []string) string {
	what := "all gates"
	if len(names) > 0 {
		what = strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s, %s to %s, %s", what, w.From.Noon().Format("Mon 2 Jan"), (w.From + 6).Noon().Format("Mon 2 Jan 2006"), w.Zone.Name())
}

// drawWeek writes the pictures that were asked for.
func (a *app) drawWeek(c *cli.Command, w *forecast.Week, title string) (drawn bool, err error) {
	below := fmt.Sprintf("%d starts; the number in a cell is that of its hour", w.Total())
	return a.pictures(c, func(f io.Writer, format chart.Format) error { return chart.DrawWeek(f, w, format, title, below) })
}

// pictures writes the pictures that a command's options --png and --svg ask for.
func (a *app) pictures(c *cli.Command, paint func(io.Writer, chart.Format) error) (drawn bool, err error) {
	for format, option := range []string{chart.PNG: "png", chart.SVG: "svg"} {
		path := c.String(option)
		if path == "" {
			continue
		}
		if err := writeFile(path, func(f io.Writer) error { return paint(f, chart.Format(format)) }); err != nil {
			return true, err
		}
		fmt.Fprintf(a.err, "%s %s\n", a.err.good("written"), path)
		drawn = true
	}
	return drawn, nil
}

// writeFile replaces a file whole with what is written to it.
func writeFile(path string, write func(io.Writer) error) error {
	var b bytes.Buffer
	if err := write(&b); err != nil {
		return err
	}
	return writeNamed(path, b.Bytes(), 0o644)
}

// writeNamed writes a file that the caller has named.
func writeNamed(path string, data []byte, mode os.FileMode) error {
	if err := home.WriteNamed(path, data, mode); err != nil {
		return usageError("%w", err)
	}
	return nil
}

// cause strips the operation and the path off a file error.
func cause(err error) error {
	if pe, ok := err.(*os.PathError); ok {
		return pe.Err
	}
	return err
}

// printWeek prints the grid: 80 columns, a number an hour, a dot for none.
// Shades only underline what the numbers say.
func (a *app) printWeek(w *forecast.Week) {
	var b strings.Builder
	b.WriteString(strings.Repeat(" ", 7))
	for h := range 24 {
		fmt.Fprintf(&b, "%3d", h)
	}
	b.WriteString("\n")
	most := w.Most()
	for d, hours := range w.Cells {
		day := w.From + calendar.Day(d)
		fmt.Fprintf(&b, "%-7s", day.Noon().Format("Mon 2"))
		for h, n := range hours {
			b.WriteString(a.weekCell(n, most, h))
		}
		b.WriteString("\n")
	}
	io.WriteString(a.out, b.String())
}

func (a *app) weekCell(n, most int64, hour int) string {
	none := "·"
	if a.out.ascii {
		none = "."
	}
	switch {
	case n == 0 && (hour < 6 || hour >= 22):
		return "   "
	case n == 0:
		return a.out.faint("  " + none)
	case n > 99:
		return a.out.warn(" ++")
	case n*2 > most:
		return a.out.warn(fmt.Sprintf("%3d", n))
	}
	return a.out.good(fmt.Sprintf("%3d", n))
}

func (a *app) printWeekFacts(w *forecast.Week) {
	fmt.Fprintf(a.out, "\n%s; blank: none at night, ++: more than 99 in the hour\n", plural(int(w.Total()), "start"))
	if w.Peak > 1 {
		fmt.Fprintf(a.out, "at once     %d gates, first on %s\n", w.Peak, a.local(w.PeakAt.Time()))
	}
	var quiet []string
	for _, q := range w.Quiet() {
		if len(quiet) == 3 {
			break
		}
		text := fmt.Sprintf("%02d:00 to %02d:00 (%d h", q.Hour, (q.Hour+q.Length)%24, q.Length)
		if q.Times > 1 {
			text += fmt.Sprintf(", %d times", q.Times)
		}
		quiet = append(quiet, text+")")
	}
	if len(quiet) > 0 {
		fmt.Fprintf(a.out, "quiet       %s\n", strings.Join(quiet, ", "))
	}
}

// printWeekGates tells which gates open when.
func (a *app) printWeekGates(w *forecast.Week) {
	var rows [][]string
	for _, g := range w.ByGate() {
		rows = append(rows, []string{g.Name, strconv.FormatInt(g.Starts, 10), g.Days, g.Hours})
	}
	if len(rows) > 0 {
		fmt.Fprintln(a.out)
		a.out.table([]string{"GATE", "STARTS", "DAYS", "HOURS"}, rows)
	}
}

// printLongest tells how long the gates' programs have taken at most.
func (a *app) printLongest(gates []*gate.Gate) error {
	j, err := a.reader()
	if err != nil || j == nil {
		return err
	}
	defer j.Close()
	longest, err := j.Longest()
	if err != nil {
		return err
	}
	shown := 0
	for _, l := range longest {
		for _, g := range gates {
			if g.Name == l.Gate && shown < 3 {
				fmt.Fprintf(a.out, "long runs   %s took %s in run %s\n", l.Gate, short(l.Took), strconv.FormatInt(l.Run, 10))
				shown++
			}
		}
	}
	return nil
}

func (a *app) printWeekJSON(w *forecast.Week) error {
	from, _ := w.Hour(0, 0)
	_, to := w.Hour(6, 23)
	return a.out.printJSON(struct {
		From  *time.Time      `json:"from"`
		To    *time.Time      `json:"to"`
		Zone  string          `json:"zone"`
		Cells [7][24]int64    `json:"cells"`
		Gates [7][24][]string `json:"gates"`
	}{a.stamp(from), a.stamp(to), w.Zone.Name(), w.Cells, w.Gates})
}
