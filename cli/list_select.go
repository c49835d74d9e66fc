package cli

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/urfave/cli/v3"

	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
)

// listFlags choose which gates are listed, in which order, and what is told of them.
func listFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringSliceFlag{Name: "state", Usage: "only gates in this `STATE`: " + strings.Join(gateStates, ", ")},
		&cli.StringSliceFlag{Name: "result", Usage: "only gates whose latest run has this `RESULT`, such as failed"},
		&cli.StringFlag{Name: "due-within", Usage: "only gates that are due within this `DURATION`, such as 2h"},
		&cli.StringFlag{Name: "as", Usage: "only gates that run as this `ACCOUNT`"},
		&cli.StringFlag{Name: "sort", Usage: "in the order of a `COLUMN`", Value: "gate"},
		&cli.BoolFlag{Name: "reverse", Usage: "in the opposite order"},
		&cli.StringFlag{Name: "columns", Usage: "tell these `COLUMNS`, such as gate,due,about: of " + strings.Join(columnNames(), ", ")},
	}
}

var gateStates = []string{"on", "running", "waiting", "off", "paused", "dormant", "broken"}

var results = []string{string(engine.ResultRunning), string(engine.ResultOK), string(engine.ResultFailed), string(engine.ResultStopped), string(engine.ResultOverran),
	string(engine.ResultSkipped), string(engine.ResultMissed), string(engine.ResultRefused), string(engine.ResultLost)}

// listColumn is what can be told of a gate. roomy tells that there is room for more.
type listColumn struct {
	name string
	cell func(a *app, r *listed, roomy bool) string
	less func(x, y *listed) int // its order; nil is that of the cells
}

// listColumns are all of them; the first five are told where nothing is said.
var listColumns = []listColumn{
	{"gate", func(_ *app, r *listed, _ bool) string { return r.Name }, nil},
	{"state", (*app).stateCell, func(x, y *listed) int {
		return cmp.Compare(slices.Index(gateStates, x.State), slices.Index(gateStates, y.State))
	}},
	{"due", (*app).dueCell, func(x, y *listed) int { return compareTimes(x.Next, y.Next) }},
	{"latest", (*app).latestCell, func(x, y *listed) int { return -compareTimes(x.endedLast(), y.endedLast()) }},
	{"command", (*app).commandCell, nil},
	{"about", func(_ *app, r *listed, _ bool) string { return r.About }, nil},
	{"as", func(_ *app, r *listed, _ bool) string { return r.As }, nil},
	{"opens", func(_ *app, r *listed, _ bool) string {
		var list []string
		for _, o := range r.Openings {
			list = append(list, o.When)
		}
		return strings.Join(list, "; ")
	}, nil},
	{"takes", func(_ *app, r *listed, _ bool) string {
		if r.TakesS == nil {
			return ""
		}
		return short(time.Duration(*r.TakesS * float64(time.Second)))
	}, func(x, y *listed) int { return -cmp.Compare(takes(x), takes(y)) }},
	{"result", func(a *app, r *listed, _ bool) string {
		if r.Last == nil {
			return ""
		}
		return a.result(r.Last.Result)
	}, nil},
	{"file", func(a *app, r *listed, _ bool) string { return a.shortHome(r.File) }, nil},
}

func takes(r *listed) float64 {
	if r.TakesS == nil {
		return -1
	}
	return *r.TakesS
}

func columnNames() []string {
	var out []string
	for _, c := range listColumns {
		out = append(out, c.name)
	}
	return out
}

// usualColumns is how many columns are told where nothing is said.
const usualColumns = 5

// compareTimes orders times; none is after all.
func compareTimes(x, y *time.Time) int {
	switch {
	case x == nil && y == nil:
		return 0
	case x == nil:
		return 1
	case y == nil:
		return -1
	}
	return x.Compare(*y)
}

func (r *listed) endedLast() *time.Time {
	if r.Last == nil {
		return nil
	}
	return r.Last.Ended
}

// oneOf checks words of an option.
func oneOf(option string, words, known []string) ([]string, error) {
	var out []string
	for _, w := range words {
		for part := range strings.SplitSeq(w, ",") {
			part = strings.ToLower(strings.TrimSpace(part))
			if slices.Contains(known, part) {
				out = append(out, part)
				continue
			}
			if near, ok := phrase.Nearest(part, known); ok {
				return nil, usageError("--%s: there is no %q; did you mean %q?", option, part, near)
			}
			return nil, usageError("--%s: there is no %q; write one of %s", option, part, strings.Join(known, ", "))
		}
	}
	return out, nil
}

// chosen returns the rows that are wanted, in order.
func (a *app) chosen(c *cli.Command, rows []listed) ([]listed, error) {
	states, err := oneOf("state", c.StringSlice("state"), gateStates)
	if err != nil {
		return nil, err
	}
	wanted, err := oneOf("result", c.StringSlice("result"), results)
	if err != nil {
		return nil, err
	}
	until := time.Time{}
	if text := c.String("due-within"); text != "" {
		span, err := parseSpan("due-within", text)
		if err != nil {
			return nil, err
		}
		until = a.now().Add(span)
	}
	words := strings.Fields(strings.ToLower(strings.Join(c.Args().Slice(), " ")))
	account := c.String("as")
	rows = slices.DeleteFunc(rows, func(r listed) bool {
		text := strings.ToLower(r.Name + " " + r.About + " " + gate.CommandLine(r.Run...))
		switch {
		case len(states) > 0 && !slices.Contains(states, r.State),
			len(wanted) > 0 && (r.Last == nil || !slices.Contains(wanted, string(r.Last.Result))),
			!until.IsZero() && (r.Next == nil || r.Next.After(until)),
			account != "" && r.As != account && strings.TrimSuffix(r.As, " (elevated)") != account:
			return true
		}
		return slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(text, w) })
	})
	by, err := oneOf("sort", []string{c.String("sort")}, columnNames())
	if err != nil {
		return nil, err
	}
	column := findColumn(by[0])
	slices.SortStableFunc(rows, func(x, y listed) int {
		order := 0
		if column.less != nil {
			order = column.less(&x, &y)
		} else {
			order = strings.Compare(ansi.Strip(column.cell(a, &x, true)), ansi.Strip(column.cell(a, &y, true)))
		}
		if c.Bool("reverse") {
			order = -order
		}
		return order
	})
	return rows, nil
}

func findColumn(name string) listColumn {
	return listColumns[slices.IndexFunc(listColumns, func(c listColumn) bool { return c.name == name })]
}

// printList tells gates in columns.
func (a *app) printList(rows []listed, names []string) {
	columns := listColumns[:usualColumns]
	if slices.ContainsFunc(rows, func(r listed) bool { return r.As != rows[0].As && r.As != "" }) { // whose rights they have differs
		columns = slices.Insert(slices.Clone(columns), 2, findColumn("as"))
	}
	if len(names) > 0 {
		columns = nil
		for _, n := range names {
			columns = append(columns, findColumn(n))
		}
	}
	// In a narrow terminal the command is worth more than how far off things
	// are.
	const roomyWidth = 100
	roomy := a.out.width == 0 || a.out.width >= roomyWidth
	var headers []string
	for _, c := range columns {
		headers = append(headers, strings.ToUpper(c.name))
	}
	var cells [][]string
	for i := range rows {
		var row []string
		for _, c := range columns {
			row = append(row, c.cell(a, &rows[i], roomy))
		}
		cells = append(cells, row)
	}
	if at := slices.Index(headers, "COMMAND"); at >= 0 && !a.out.fits(headers, cells) {
		for i, r := range rows {
			if r.Error == "" {
				cells[i][at] = a.briefCommand(r.Run)
			}
		}
	}
	a.out.table(headers, cells)
}

func (a *app) stateCell(r *listed, _ bool) string {
	state := a.stateWord(r.State)
	if len(r.Alive) > 0 {
		state += " for " + short(time.Duration(r.Alive[0].ForS*float64(time.Second)))
	}
	if r.State != "off" {
		for _, o := range r.Openings {
			if !o.Enabled {
				state += ", " + a.out.warn(o.Name+" off")
			}
		}
	}
	return state
}

func (a *app) dueCell(r *listed, roomy bool) string {
	switch {
	case r.Next != nil && roomy:
		return a.localFar(*r.Next)
	case r.Next != nil:
		return a.local(*r.Next)
	case r.event == "":
		return ""
	}
	room := 32
	if !roomy {
		room = len("Thu 26 Nov 09:45")
	}
	return a.out.faint(ansi.Truncate(r.event, room, "…"))
}

func (a *app) latestCell(r *listed, roomy bool) string {
	if r.Last == nil {
		return ""
	}
	last := a.result(r.Last.Result)
	if r.Last.Ended != nil && roomy {
		last += " " + far(r.Last.Ended.Sub(a.now()))
	}
	return last
}

func (a *app) commandCell(r *listed, _ bool) string {
	if r.Error != "" {
		return r.brief
	}
	return gate.CommandLine(r.Run...)
}

// nothingChosen says that no gate is as it was asked for.
func nothingChosen(all int) error {
	return &exitError{exitFailed, fmt.Errorf("none of %s matches", plural(all, "gate"))}
}
