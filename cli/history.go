package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/core/words"
	"timegate/journal"
	"timegate/workstation/here"
)

func (a *app) historyCommand() *cli.Command {
	return &cli.Command{
		Name: "history", Category: watchCommands, Usage: "what ran, what was skipped, and why; newest first", ArgsUsage: "[NAME]",
		Description: examples(`timegate history`, `timegate history stock-count --since boot`, `timegate history --result failed,missed --since yesterday`, `timegate history --follow`, `timegate history --stats`, `timegate history vault-copy --since 30d --png vault-copy.png`) +
			"\"long\" and \"short\" behind a time mark runs that stand out: further from the middle of the gate's last runs than those usually are.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "since", Usage: "from this `TIME` on: boot, yesterday, tue, 08:00, or a duration such as 2h"},
			&cli.StringFlag{Name: "until", Usage: "up to this `TIME`"},
			&cli.IntFlag{Name: "count", Usage: "at most this `NUMBER` of lines", Value: 30},
			&cli.StringSliceFlag{Name: "result", Usage: "only these `RESULTS`, such as failed,missed"},
			&cli.StringFlag{Name: "find", Usage: "only lines with this `TEXT`, in whatever letters"},
			&cli.BoolFlag{Name: "follow", Usage: "then go on with what is decided, until you interrupt it; --json writes a document a line"},
			&cli.BoolFlag{Name: "stats", Usage: "the figures of each gate: runs, failures, usual and longest time, lateness"},
			&cli.StringFlag{Name: "png", Usage: "draw how long runs took over time to `FILE`", TakesFile: true},
			&cli.StringFlag{Name: "reading", Usage: "with --png or --svg: draw this `READING` before and after runs instead, such as memory"},
			&cli.StringFlag{Name: "svg", Usage: "draw the same to `FILE`", TakesFile: true},
		},
		Action: a.history,
	}
}

func (a *app) history(ctx context.Context, c *cli.Command) error {
	a.followClock(ctx)
	f, err := a.historyFilter(c)
	if err != nil {
		return err
	}
	switch {
	case c.Bool("stats"):
		return a.historyStats(f)
	case c.IsSet("reading") && c.String("png")+c.String("svg") == "":
		return usageError("--reading is drawn: add --png FILE, or --svg FILE")
	case c.String("png")+c.String("svg") != "":
		return a.drawHistory(c, f)
	case c.Bool("follow"):
		const lately = 10 // lines before what comes, where nothing else is said
		if f.Since == 0 && !c.IsSet("count") {
			f.Limit = lately
		}
		return a.followHistory(ctx, f, c.String("find"))
	}
	entries, err := a.found(f, c.String("find"))
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
		if len(f.Results) > 0 || f.Since != 0 || f.Until != 0 || c.String("find") != "" {
			fmt.Fprintln(a.out, "nothing of that kind is recorded")
			return nil
		}
		return a.nothingYet(nil)
	}
	a.printEntries(entries)
	return nil
}

// historyFilter reads which lines of the history are wanted.
func (a *app) historyFilter(c *cli.Command) (journal.Filter, error) {
	f := journal.Filter{Limit: int(c.Int("count"))}
	if c.Int("count") < 1 {
		return f, usageError("--count is %d: write 1 or more", c.Int("count"))
	}
	if c.Args().Present() {
		name, err := oneArgument(c, "")
		if err != nil {
			return f, err
		}
		f.Gate = name
	}
	var err error
	if f.Since, err = a.since(c.String("since")); err != nil {
		return f, err
	}
	if text := c.String("until"); text != "" {
		if f.Until, err = a.timeBack().end(text); err != nil {
			return f, err
		}
	}
	if f.Since != 0 && !c.IsSet("count") || c.Bool("stats") || c.String("png")+c.String("svg") != "" {
		f.Limit = 0
	}
	wanted, err := oneOf("result", c.StringSlice("result"), results)
	for _, word := range wanted {
		f.Results = append(f.Results, engine.Result(word))
	}
	return f, err
}

// found returns the entries that a filter selects, and of them those with a text.
func (a *app) found(f journal.Filter, text string) ([]recorded, error) {
	if text == "" {
		return a.entries(f)
	}
	const page = 2000
	var out []recorded
	most := f.Limit
	for f.Limit = page; ; {
		list, err := a.entries(f)
		if err != nil {
			return nil, err
		}
		last := len(list) < page
		if !last { // more may have been decided at the instant of the last: they come together
			at := list[len(list)-1].Decided
			whole := slices.IndexFunc(list, func(e recorded) bool { return e.Decided == at })
			if whole == 0 {
				f.Limit *= 2
				continue
			}
			list, f.Until = list[:whole], at
		}
		for i := range list {
			if strings.Contains(strings.ToLower(strings.Join(a.cells(&list[i], nil), " ")), strings.ToLower(text)) {
				if out = append(out, list[i]); len(out) == most {
					return out, nil
				}
			}
		}
		if last {
			return out, nil
		}
	}
}

// since reads the option --since.
func (a *app) since(text string) (calendar.Instant, error) {
	if text == "" {
		return 0, nil
	}
	if d, err := phrase.ParseSpan(text); err == nil {
		return calendar.InstantOf(a.now().Add(-d)), nil
	}
	return a.timeBack().read(text)
}

// errNoBoot is returned where it is not known when the machine has booted.
var errNoBoot = errors.New("it is not known when this machine has booted: no keeper has run on it here")

// booted returns when the machine has booted: as its kernel says, and of a staged machine,
// or another system, when its keeper first saw it.
func (a *app) booted() (calendar.Instant, error) {
	j, err := a.reader()
	if err != nil {
		return 0, err
	}
	var id string
	var at calendar.Instant
	if j != nil {
		defer j.Close()
		if id, at, err = j.Booted(); err != nil {
			return 0, err
		}
	}
	if boot, known := here.Booted(id); known {
		return calendar.InstantOf(boot), nil
	}
	if at == 0 {
		return 0, errNoBoot
	}
	return at, nil
}

// recorded is a line of the history, with what a run does that has not ended.
type recorded struct {
	journal.Entry
	alive *alive
}

func (a *app) entries(f journal.Filter) ([]recorded, error) {
	j, err := a.reader()
	if err != nil || j == nil {
		return nil, err
	}
	defer j.Close()
	list, err := j.History(f)
	var out []recorded
	for _, e := range list {
		out = append(out, recorded{e, a.aliveOf(j, &e)})
	}
	return out, err
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
	Usage   jsonUsage     `json:"usage"`

	Readings map[string]readingPair `json:"readings,omitempty"`
	Alive    *alive                 `json:"alive,omitempty"` // of a run that has not ended
}

// jsonUsage is what a run has used: processor time in seconds, the rest in bytes.
type jsonUsage struct {
	UserS   float64 `json:"user_s"`
	SystemS float64 `json:"system_s"`
	MaxRSS  int64   `json:"max_rss"`
	Read    int64   `json:"read"`
	Written int64   `json:"written"`
	Output  int64   `json:"output"`
	Dropped int64   `json:"dropped"`
}

func usageJSON(u engine.Usage) jsonUsage {
	const ms = 1000.0
	return jsonUsage{float64(u.UserMS) / ms, float64(u.SystemMS) / ms, u.MaxRSS, u.Read, u.Written, u.Output, u.Dropped}
}

// readingPair is what was measured before and after a run: memory and disks in bytes, else
// plain numbers.
type readingPair struct {
	Before *float64 `json:"before"`
	After  *float64 `json:"after"`
	Change *float64 `json:"change"` // after less before
}

func readingsOf(e *journal.Entry) map[string]readingPair {
	out := map[string]readingPair{}
	for name, n := range e.Before {
		out[name] = readingPair{Before: &n}
	}
	for name, n := range e.After {
		pair := out[name]
		pair.After = &n
		if pair.Before != nil {
			change := n - *pair.Before
			pair.Change = &change
		}
		out[name] = pair
	}
	return out
}

// readingsText says what was measured before and after a run, and the difference.
func readingsText(e *journal.Entry) string {
	pairs, text := readingsOf(e), ""
	for _, name := range slices.Sorted(maps.Keys(pairs)) {
		p := pairs[name]
		r, err := gate.ParseReading(name)
		switch {
		case err != nil:
		case p.Change != nil:
			text += "; " + changeText(r, *p.Before, *p.After)
		case p.Before != nil:
			text += fmt.Sprintf("; %s: %s before", r.Words(), signed(r, *p.Before))
		}
	}
	return text
}

func bytesText(n int64) string { return humanize.Bytes(uint64(n)) }

// outcomeOf says why a run ended as it did, or "".
func outcomeOf(e *journal.Entry) string {
	if e.Outcome.Code == "" {
		return ""
	}
	return words.Reason(e.Outcome)
}

func (a *app) jsonEntries(entries []recorded) []jsonEntry {
	out := []jsonEntry{}
	for _, e := range entries {
		x := jsonEntry{Gate: e.Gate, Opening: e.Opening, Due: a.stamp(e.Due), Started: a.stamp(e.Started), Ended: a.stamp(e.Ended),
			Result: e.Result, Signal: e.Signal, Reason: words.Reason(e.Reason), Code: e.Reason.Code, Args: e.Reason.Args, Outcome: outcomeOf(&e.Entry), How: e.Outcome, PID: e.PID, Count: max(e.Count, 1), Command: e.Command, Usage: usageJSON(e.Usage),
			As: e.Account, Note: e.Note,
			Readings: readingsOf(&e.Entry), Alive: e.alive}
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

func (a *app) printEntries(entries []recorded) {
	costs, _ := a.recordedCosts() // what is usual is an extra
	var rows [][]string
	for i := range entries {
		rows = append(rows, a.cells(&entries[i], costs))
	}
	a.out.table([]string{"RUN", "DUE", "GATE", "RESULT", "TOOK", "WHY"}, rows)
}

// lastSaid is the last line that a run printed which did not end well, in quotes and without
// what a terminal would act on; "" for none.
func (a *app) lastSaid(run int64, result engine.Result) string {
	if run == 0 || result != engine.ResultFailed && result != engine.ResultOverran || a.home.OfOthers() {
		return ""
	}
	const most = 80
	line := strings.TrimSpace(words.Line(ansi.Strip(a.home.LastLine(run))))
	if line == "" {
		return ""
	}
	return strconv.Quote(ansi.Truncate(line, most, "…"))
}

// cells is a line of the history.
func (a *app) cells(e *recorded, costs map[string]journal.Cost) []string {
	run, took := "", ""
	if e.Run != 0 {
		run = strconv.FormatInt(e.Run, 10)
	}
	if e.Started != 0 && e.Ended != 0 {
		took = short(e.Ended.Sub(e.Started))
		if c := costs[e.Gate]; e.Result == engine.ResultOK && c.Unusual(e.Ended.Sub(e.Started)) != "" {
			took += " " + a.out.warn(c.Unusual(e.Ended.Sub(e.Started)))
		}
	}
	name := e.Gate
	if e.Opening != "" {
		name += "/" + e.Opening
	}
	why := words.Reason(e.Reason)
	if outcome := outcomeOf(&e.Entry); outcome != "" && e.Result != engine.ResultOK {
		why = outcome + " (" + why + ")"
	}
	if e.Note != "" {
		why += "; " + e.Note
	}
	if said := a.lastSaid(e.Run, e.Result); said != "" {
		why += "; it printed last: " + said
	}
	if e.alive != nil {
		took = short(time.Duration(e.alive.ForS*float64(time.Second))) + " so far"
		why += "; " + e.alive.words()
	}
	return []string{run, a.local(e.Due.Time()), name, a.result(e.Result), took, why + readingsText(&e.Entry)}
}
