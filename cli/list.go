package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/urfave/cli/v3"

	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/forecast"
	"timegate/core/gate"
	"timegate/core/words"
	"timegate/gates"
	"timegate/journal"
)

func (a *app) listCommand() *cli.Command {
	return &cli.Command{
		Name: "list", Category: watchCommands, Usage: "all gates with their command, state, last result and next moment",
		ArgsUsage: "[WORD …]",
		Description: examples(`timegate list`, `timegate list --state broken,paused`, `timegate list vault --due-within 2h --sort due`, `timegate list --result failed --columns gate,latest,about`) +
			"Words stand in a gate's name, in what it is for, or in its command.",
		Flags:  listFlags(),
		Action: a.list,
	}
}

// listed is a gate as list and show print it.
type listed struct {
	Name     string         `json:"name"`
	About    string         `json:"about"`
	Run      []string       `json:"run"`
	As       string         `json:"as"`
	Enabled  bool           `json:"enabled"`
	Openings []gate.Opening `json:"openings"`
	Next     *time.Time     `json:"next"`
	Running  []int64        `json:"running"`
	Last     *lastRun       `json:"last"`
	File     string         `json:"file"`
	TakesS   *float64       `json:"takes_s"` // what a run takes, in the middle
	Error    string         `json:"error,omitempty"`

	Waiting string  `json:"waiting,omitempty"` // what a start waits for
	Lacks   string  `json:"lacks,omitempty"`   // what it needs and is not so now
	Alive   []alive `json:"alive"`             // what runs

	State string `json:"state"`
	brief string // Error, for a narrow column
	event string // on which it opens
}

type lastRun struct {
	Run    int64         `json:"run"`
	Result engine.Result `json:"result"`
	Ended  *time.Time    `json:"ended"`
}

func (a *app) list(ctx context.Context, c *cli.Command) error {
	var columns []string
	if text := c.String("columns"); text != "" {
		var err error
		if columns, err = oneOf("columns", []string{text}, columnNames()); err != nil {
			return err
		}
	}
	files, err := a.files()
	if err != nil {
		return err
	}
	rows, err := a.listed(ctx, files)
	if err != nil {
		return err
	}
	all := len(rows)
	if rows, err = a.chosen(c, rows); err != nil {
		return err
	}
	if a.json {
		return a.out.printJSON(rows)
	}
	if len(rows) == 0 && all > 0 {
		return nothingChosen(all)
	}
	if len(rows) == 0 {
		fmt.Fprintf(a.out, "there are no gates in %s yet; add one:\n  timegate add humidity-log --open \"every 10m\" -- ~/bin/humidity-log\n", a.home.Gates)
		return nil
	}
	a.printList(rows, columns)
	a.sayTroubles(ctx)
	return nil
}

// sayTroubles tells of what keeps a keeper from starting programs.
func (a *app) sayTroubles(ctx context.Context) {
	status, err := a.client.Status(ctx)
	if errors.Is(err, control.ErrNoKeeper) {
		fmt.Fprintln(a.err, a.err.faint("no keeper is running, so nothing starts by itself"))
	}
	for _, t := range status.Troubles {
		if t.Stops {
			fmt.Fprintf(a.err, "%s %s: %s\n", a.err.bad("trouble:"), words.Line(t.What), words.Line(t.Why))
		}
	}
}

// briefCommand writes a command for a column: a long folder is shortened, the
// program's name never is.
func (a *app) briefCommand(argv []string) string {
	if len(argv) == 0 || len(argv[0]) <= textWidth {
		return gate.CommandLine(argv...)
	}
	dir, base := filepath.Split(argv[0])
	first := filepath.Clean(dir)
	if parts := strings.Split(first, "/"); len(parts) > 2 {
		first = "/" + parts[1]
	}
	more := "…"
	if a.out.ascii {
		more = "~"
	}
	brief := first + "/" + more + "/" + base
	if ansi.StringWidth(brief) > textWidth {
		brief = more + "/" + base
	}
	return gate.CommandLine(append([]string{brief}, argv[1:]...)...)
}

// listed joins the files with what the journal and the keeper know.
func (a *app) listed(ctx context.Context, files []gates.File) ([]listed, error) {
	status, err := a.client.Status(ctx)
	kept := err == nil
	if status.Staged {
		a.now = func() time.Time { return status.Now }
	}
	if err != nil && !errors.Is(err, control.ErrNoKeeper) {
		return nil, err
	}
	last, good := map[string]journal.Entry{}, map[string]calendar.Instant{}
	j, err := a.reader()
	if err != nil {
		return nil, err
	}
	if j != nil {
		defer j.Close()
		if last, err = j.LastRuns(); err != nil {
			return nil, err
		}
		if good, err = j.LastGood(); err != nil {
			return nil, err
		}
	}
	costs, err := a.costs()
	if err != nil {
		return nil, err
	}
	out := []listed{}
	for _, f := range files {
		l := listed{Name: f.Name, File: f.Path, Run: []string{}, Openings: []gate.Opening{}, Running: []int64{}}
		if e, ok := last[f.Name]; ok {
			l.Last = &lastRun{Run: e.Run, Result: e.Result, Ended: a.stamp(e.Ended)}
		}
		if cost := costs[f.Name]; cost != nil {
			l.TakesS = &cost.TookS
		}
		st := status.Gates[f.Name]
		l.Running = append(l.Running, st.Running...)
		a.fill(&l, f, st, kept, status.Paused)
		if l.Alive = []alive{}; j != nil {
			l.Alive = a.aliveRuns(j, l.Running)
		}
		if !kept && f.Gate != nil {
			l.Next = a.inZone(a.nextOf(f.Gate, good[f.Name]))
		}
		out = append(out, l)
	}
	return out, nil
}

func (a *app) fill(l *listed, f gates.File, st control.GateStatus, kept, paused bool) {
	if f.Gate == nil {
		first := f.Findings.Errors()[0]
		l.Error, l.State = first.Error(), "broken"
		l.brief = first.Message
		if first.Line > 0 {
			l.brief = fmt.Sprintf("line %d: %s", first.Line, first.Message)
		}
		l.Next = a.inZone(st.Next)
		return
	}
	g := f.Gate
	l.About, l.Run, l.As, l.Enabled = g.About, g.Run, a.runsAs(g), g.Enabled
	l.Openings, l.Waiting, l.Lacks = append(l.Openings, g.Opens...), st.Waiting, st.Lacks
	if g.Enabled {
		l.event = eventOf(g)
	}
	switch {
	case len(l.Running) > 0:
		l.State = "running"
	case !g.Enabled:
		l.State = "off"
	case !g.RunsOn(a.host):
		l.State = "dormant" // for other hosts
	case paused:
		l.State = "paused"
	case st.Waiting != "":
		l.State = "waiting"
	default:
		l.State = "on"
	}
	if kept {
		l.Next = a.inZone(st.Next)
	}
}

// nextOf returns a gate's next due by its phrases and the end of its last good
// run, 0 where there was none.
func (a *app) nextOf(g *gate.Gate, good calendar.Instant) *time.Time {
	at, ok := forecast.Next(g, a.host, good, calendar.InstantOf(a.now()))
	if !ok {
		return nil
	}
	t := at.Time()
	return &t
}

func (a *app) inZone(t *time.Time) *time.Time {
	if t == nil {
		return nil
	}
	local := t.In(a.zone.Location())
	return &local
}

// stateWord colours a state; the word alone says it.
func (a *app) stateWord(state string) string {
	switch state {
	case "running", "on":
		return a.out.good(state)
	case "broken":
		return a.out.bad(state)
	case "off", "paused", "dormant", "waiting":
		return a.out.warn(state)
	}
	return state
}

func (a *app) result(r engine.Result) string {
	switch r {
	case engine.ResultOK:
		return a.out.good(string(r))
	case engine.ResultFailed, engine.ResultOverran, engine.ResultRefused, engine.ResultLost:
		return a.out.bad(string(r))
	case engine.ResultRunning:
		return string(r)
	}
	return a.out.warn(string(r))
}
