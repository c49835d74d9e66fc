package cli

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"github.com/urfave/cli/v3"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/phrase"
	"timegate/core/words"
	"timegate/journal"
)

func (a *app) historyCommand() *cli.Command {
	return &cli.Command{
		Name: "history", Category: watchCommands, Usage: "what ran, what was skipped, and why; newest first", ArgsUsage: "[NAME]",
		Description: "timegate history stock-count --since boot",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "since", Usage: "from this `TIME` on, or \"boot\", or a span such as 2h"},
			&cli.IntFlag{Name: "count", Usage: "at most this `NUMBER` of lines", Value: 30},
		},
		Action: a.history,
	}
}

func (a *app) history(_ context.Context, c *cli.Command) error {
	f := journal.Filter{Limit: int(c.Int("count"))}
	if c.Int("count") < 1 {
		return usageError("--count is %d: write 1 or more", c.Int("count"))
	}
	if c.Args().Present() {
		name, err := oneArgument(c, "")
		if err != nil {
			return err
		}
		f.Gate = name
	}
	var err error
	if f.Since, err = a.since(c.String("since")); err != nil {
		return err
	}
	if f.Since != 0 && !c.IsSet("count") {
		f.Limit = 0
	}
	entries, err := a.entries(f)
	if err != nil {
		return err
	}
	if len(entries) == 0 && f.Gate != "" {
		// A gate that was removed still has its history.
		if _, err := a.file(f.Gate); err != nil {
			return err
		}
	}
	if a.json {
		return a.out.printJSON(a.jsonEntries(entries))
	}
	if len(entries) == 0 {
		fmt.Fprintln(a.out, "nothing has been recorded yet")
		return nil
	}
	a.printEntries(entries)
	return nil
}

// since reads the option --since.
func (a *app) since(text string) (calendar.Instant, error) {
	switch text {
	case "":
		return 0, nil
	case "boot":
		j, err := a.reader()
		if err != nil || j == nil {
			return 0, err
		}
		defer j.Close()
		_, at, err := j.Booted()
		return at, err
	}
	if d, err := phrase.ParseSpan(text); err == nil {
		return calendar.InstantOf(a.now().Add(-d)), nil
	}
	return timeReader{zone: a.zone, now: a.now()}.read(text)
}

func (a *app) entries(f journal.Filter) ([]journal.Entry, error) {
	j, err := a.reader()
	if err != nil || j == nil {
		return nil, err
	}
	defer j.Close()
	return j.History(f)
}

// jsonEntry is a line of the history in JSON.
type jsonEntry struct {
	Run     *int64        `json:"run"`
	Gate    string        `json:"gate"`
	Opening string        `json:"opening"`
	Due     *time.Time    `json:"due"`
	Started *time.Time    `json:"started"`
	Ended   *time.Time    `json:"ended"`
	Result  engine.Result `json:"result"`
	Exit    *int          `json:"exit"`
	Signal  string        `json:"signal"`
	Reason  string        `json:"reason"`
	Code    engine.Code   `json:"code"`
	Args    engine.Args   `json:"args,omitzero"`
	Outcome string        `json:"outcome"`
	How     engine.Reason `json:"outcome_reason,omitzero"`
	PID     int           `json:"pid"`
	LateS   float64       `json:"late_s"`
	Count   int64         `json:"count"`
	Command []string      `json:"command"`
	As      string        `json:"as"`
	Note    string        `json:"note,omitempty"`
	Usage   engine.Usage  `json:"usage"`

	Readings map[string]readingPair `json:"readings,omitempty"`
}

// readingPair is what was measured before and after a run, in bytes.
type readingPair struct {
	Before *int64 `json:"before"`
	After  *int64 `json:"after"`
}

func readingsOf(e *journal.Entry) map[string]readingPair {
	out := map[string]readingPair{}
	for name, n := range e.Before {
		out[name] = readingPair{Before: &n}
	}
	for name, n := range e.After {
		pair := out[name]
		pair.After = &n
		out[name] = pair
	}
	return out
}

// outcomeOf says why a run ended as it did, or "".
func outcomeOf(e *journal.Entry) string {
	if e.Outcome.Code == "" {
		return ""
	}
	return words.Reason(e.Outcome)
}

func (a *app) jsonEntries(entries []journal.Entry) []jsonEntry {
	out := []jsonEntry{}
	for _, e := range entries {
		x := jsonEntry{Gate: e.Gate, Opening: e.Opening, Due: a.stamp(e.Due), Started: a.stamp(e.Started), Ended: a.stamp(e.Ended),
			Result: e.Result, Signal: e.Signal, Reason: words.Reason(e.Reason), Code: e.Reason.Code, Args: e.Reason.Args, Outcome: outcomeOf(&e), How: e.Outcome, PID: e.PID, Count: max(e.Count, 1), Command: e.Command, Usage: e.Usage,
			As: e.Account, Note: e.Note,
			Readings: readingsOf(&e)}
		if e.Run != 0 {
			x.Run = &e.Run
		}
		if e.Started != 0 {
			x.LateS = e.Started.Sub(e.Due).Seconds()
			if e.Ended != 0 && e.Signal == "" {
				x.Exit = &e.Exit
			}
		}
		out = append(out, x)
	}
	return out
}

func (a *app) printEntries(entries []journal.Entry) {
	var rows [][]string
	for _, e := range entries {
		run, took := "", ""
		if e.Run != 0 {
			run = strconv.FormatInt(e.Run, 10)
		}
		if e.Started != 0 && e.Ended != 0 {
			took = short(e.Ended.Sub(e.Started))
		}
		name := e.Gate
		if e.Opening != "" {
			name += "/" + e.Opening
		}
		why := words.Reason(e.Reason)
		if outcome := outcomeOf(&e); outcome != "" && e.Result != engine.ResultOK {
			why = outcome + " (" + why + ")"
		}
		if e.Note != "" {
			why += "; " + e.Note
		}
		rows = append(rows, []string{run, a.local(e.Due.Time()), name, a.result(e.Result), took, why})
	}
	a.out.table([]string{"RUN", "DUE", "GATE", "RESULT", "TOOK", "WHY"}, rows)
}
