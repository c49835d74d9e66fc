package cli

import (
	"context"
	"encoding/json"
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
	"timegate/journal"
)

// gateStats are the figures of a gate in JSON.
type gateStats struct {
	Gate     string   `json:"gate"`
	Runs     int64    `json:"runs"`
	Bad      int64    `json:"ended_badly"`
	Skipped  int64    `json:"skipped"`
	Missed   int64    `json:"missed"`
	UsualS   *float64 `json:"usual_s"` // of its last runs; null where there is none
	LongestS float64  `json:"longest_s"`
	TotalS   float64  `json:"total_s"`
	LateS    *float64 `json:"usually_late_s"`
}

// historyStats tells the figures of each gate.
func (a *app) historyStats(f journal.Filter) error {
	j, err := a.reader()
	if err != nil {
		return err
	}
	if j == nil {
		return a.nothingYet([]gateStats{})
	}
	defer j.Close()
	list, err := j.Stats(f)
	if err != nil {
		return err
	}
	costs, err := j.Costs()
	if err != nil {
		return err
	}
	out := []gateStats{}
	var rows [][]string
	for _, s := range list {
		x := gateStats{Gate: s.Gate, Runs: s.Runs, Bad: s.Bad, Skipped: s.Skipped, Missed: s.Missed, LongestS: s.Longest.Seconds(), TotalS: s.Total.Seconds()}
		usual, late, longest := "", "", ""
		if c, known := costs[s.Gate]; known {
			took, after := c.Took.Seconds(), c.Late.Seconds()
			x.UsualS, x.LateS = &took, &after
			usual, late = short(c.Took), short(c.Late)
		}
		if s.Runs > 0 {
			longest = short(s.Longest)
		}
		out = append(out, x)
		rows = append(rows, []string{s.Gate, a.count(s.Runs, nil), a.count(s.Bad, a.out.bad), a.count(s.Skipped, a.out.warn), a.count(s.Missed, a.out.warn), usual, longest, short(s.Total), late})
	}
	if a.json {
		return a.out.printJSON(out)
	}
	if len(rows) == 0 {
		return a.nothingYet(nil)
	}
	a.out.table([]string{"GATE", "RUNS", "ENDED BADLY", "SKIPPED", "MISSED", "USUAL", "LONGEST", "RAN FOR", "USUALLY LATE"}, rows)
	return nil
}

// count is a number, dressed, and nothing for none.
func (a *app) count(n int64, dress func(string) string) string {
	switch {
	case n == 0:
		return ""
	case dress == nil:
		return fmt.Sprint(n)
	}
	return dress(fmt.Sprint(n))
}

func (a *app) nothingYet(empty any) error {
	if a.json {
		return a.out.printJSON(empty)
	}
	fmt.Fprintln(a.out, "nothing is recorded yet")
	return nil
}

// drawHistory draws how long the runs of a gate took.
func (a *app) drawHistory(c *cli.Command, f journal.Filter) error {
	if f.Gate == "" {
		return usageError("a picture is of one gate: timegate history NAME --png FILE")
	}
	const mostDrawn = 20_000 // the latest
	f.OnlyRuns, f.Limit = true, mostDrawn
	if c.IsSet("reading") {
		return a.drawReading(c, f)
	}
	j, err := a.reader()
	if err != nil {
		return err
	}
	d := &chart.Durations{Title: f.Gate + ": how long its runs took", Zone: a.zone, To: calendar.InstantOf(a.now())}
	if j != nil {
		defer j.Close()
		list, err := j.History(f)
		if err != nil {
			return err
		}
		for _, e := range list {
			if e.Started != 0 && e.Ended != 0 {
				d.Dots = append(d.Dots, chart.Dot{At: e.Started, Took: e.Ended.Sub(e.Started), Bad: e.Result != engine.ResultOK})
			}
		}
		costs, err := j.Costs()
		if err != nil {
			return err
		}
		cost := costs[f.Gate]
		d.Usual = cost.Took
	}
	if len(d.Dots) == 0 {
		if _, err := a.file(f.Gate); err != nil {
			return err
		}
	} else {
		d.From = d.Dots[len(d.Dots)-1].At
		if f.Until != 0 {
			d.To = min(f.Until, d.To)
		}
		d.To = max(d.To, d.Dots[0].At)
	}
	bad := 0
	for _, dot := range d.Dots {
		if dot.Bad {
			bad++
		}
	}
	d.Below = plural(len(d.Dots), "run")
	if bad > 0 {
		d.Below += fmt.Sprintf(", %d ended badly", bad)
	}
	_, err = a.pictures(c, func(w io.Writer, format chart.Format) error { return chart.DrawDurations(w, d, format) })
	return err
}

// followHistory prints what was recorded last, the oldest first, and then what is decided,
// as it is, over restarts of the keeper.
func (a *app) followHistory(ctx context.Context, f journal.Filter, text string) error {
	a.lasts()
	status, err := a.client.Status(ctx)
	if err != nil {
		return err
	}
	before, err := a.found(f, text)
	if err != nil {
		return err
	}
	slices.Reverse(before)
	if !a.json && len(before) > 0 {
		a.printEntries(before)
	}
	last := status.Last
	take := func(it control.Item) error {
		last = it.Number
		for i := range it.Decisions {
			if d := &it.Decisions[i]; followed(d, &f, text) {
				if err := a.printFollowed(d); err != nil {
					return err
				}
			}
		}
		return nil
	}
	const again = time.Second
	for told := false; ; told = true {
		err := a.client.Follow(ctx, last, take)
		switch {
		case ctx.Err() != nil:
			return nil // it was interrupted, which is how it ends
		case !errors.Is(err, control.ErrNoKeeper):
			return err
		case !told:
			fmt.Fprintln(a.err, a.err.faint("the keeper has gone; waiting for it to come again"))
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(again):
		}
		if _, err := a.client.Status(ctx); err == nil {
			told = false
		}
	}
}

// followed reports whether a decision is one that a filter selects.
func followed(d *control.Decision, f *journal.Filter, text string) bool {
	if d.Decision == string(engine.Release) || f.Gate != "" && d.Gate != f.Gate || len(f.Results) > 0 && !slices.Contains(f.Results, engine.Result(d.Result)) {
		return false
	}
	return strings.Contains(strings.ToLower(strings.Join([]string{d.Gate, d.Decision, d.Result, d.Reason}, " ")), strings.ToLower(text))
}

// printFollowed prints a decision: a line, or a document in JSON on a line.
func (a *app) printFollowed(d *control.Decision) error {
	if a.json {
		line, err := json.Marshal(d)
		if err == nil {
			_, err = fmt.Fprintf(a.out.documents(), "%s\n", line)
		}
		return err
	}
	_, err := fmt.Fprintln(a.out, a.decisionLine(d.At, d.Decision, engine.Result(d.Result), d.Signal, d.Gate, d.Run, d.Reason))
	return err
}
