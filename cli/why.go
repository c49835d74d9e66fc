package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/core/words"
	"timegate/gates"
	"timegate/journal"
)

func (a *app) whyCommand() *cli.Command {
	return &cli.Command{
		Name: "why", Category: foreseeCommands, Usage: "why a gate started or did not, and which rule decided", ArgsUsage: "NAME",
		Description: examples(`timegate why vault-copy`, `timegate why vault-copy --at "yesterday 12:00"`, `timegate why vault-copy --not`, `timegate why vault-copy --if "sleep 02:00 to 07:00"`) +
			"For each of its last moments: what was decided and why, the key of the gate's file that decided, and why nothing was started.\n" +
			"Then what comes next, by the keeper's own decisions. --if supposes what a day file can say: battery, \"08:00 shutdown\".",
		Flags: []cli.Flag{
			&cli.IntFlag{Name: "count", Usage: "show this `NUMBER` of moments", Value: 3},
			&cli.StringFlag{Name: "at", Usage: "about the moments around a `TIME`, past or to come"},
			&cli.BoolFlag{Name: "not", Usage: "only what keeps it from starting right now"},
			&cli.StringSliceFlag{Name: "if", Usage: "what comes if this `EVENT` happens; may be given several times"},
		},
		Action: a.why,
	}
}

// whyMoment is a moment in JSON.
type whyMoment struct {
	Opening string     `json:"opening"`
	Phrase  string     `json:"phrase"`
	Due     *time.Time `json:"due"`
	Steps   []whyStep  `json:"steps"`
}

type whyStep struct {
	At       *time.Time          `json:"at"`
	Decision engine.DecisionKind `json:"decision"`
	Run      int64               `json:"run,omitempty"`
	Result   engine.Result       `json:"result,omitempty"`
	Rule     string              `json:"rule,omitempty"`
	Value    string              `json:"value,omitempty"`
	Line     int                 `json:"line,omitempty"` // of the gate's file, that says the rule
	Text     string              `json:"text"`
	engine.Reason
}

func (a *app) why(ctx context.Context, c *cli.Command) error {
	name, err := oneArgument(c, "the name of a gate")
	if err != nil {
		return err
	}
	if c.Int("count") < 1 {
		return usageError("--count is %d: write 1 or more", c.Int("count"))
	}
	a.followClock(ctx)
	f, fileErr := a.file(name)
	if c.Bool("not") {
		if c.String("at") != "" || len(c.StringSlice("if")) > 0 {
			return usageError("--not is about right now, and --at and --if about other times; write one of them")
		}
		return a.whyNot(ctx, f, fileErr)
	}
	var at calendar.Instant
	count := int(c.Int("count"))
	if text := c.String("at"); text != "" {
		if at, err = a.timeBack().read(text); err != nil {
			return usageError("--at: %w", err)
		}
		count = manyToLookThrough
	}
	if ifs := c.StringSlice("if"); fileErr == nil && (len(ifs) > 0 || at > calendar.InstantOf(a.now())) {
		return a.printFuture(ctx, f, at, ifs)
	}
	moments, err := a.story(name, count)
	if err != nil {
		return err
	}
	if at != 0 {
		moments = nearest(moments, at)
	}
	if fileErr != nil && len(moments) == 0 {
		return fileErr // a gate that was removed still has its story
	}
	told, err := a.tellStory(f.Gate, moments, count)
	if at != 0 {
		told = a.tellMoments(f.Gate, moments)
	}
	if err != nil {
		return err
	}
	for _, m := range told {
		for i := range m.Steps {
			m.Steps[i].Line = gate.LineOf([]byte(f.Text), m.Steps[i].Rule)
		}
	}
	if a.json {
		return a.out.printJSON(told)
	}
	now := "it was removed"
	if fileErr == nil {
		if now, err = a.stateNow(ctx, f); err != nil {
			return err
		}
	}
	fmt.Fprintf(a.out, "%s  %s\n", a.out.head(name), now)
	for _, m := range told {
		a.printMoment(m)
	}
	if fileErr == nil && at == 0 && f.Gate != nil && f.Gate.Enabled && f.Gate.RunsOn(a.host) {
		return a.printFuture(ctx, f, 0, nil)
	}
	return nil
}

// manyToLookThrough is how many moments are looked through for those around a time.
const manyToLookThrough = 5000

// whyNot tells what keeps a gate from starting right now.
func (a *app) whyNot(ctx context.Context, f gates.File, err error) error {
	switch {
	case err != nil:
		return err
	case f.Gate == nil:
		return f.Findings.Errors()
	}
	stops, known := a.stops(ctx, f.Gate)
	if a.json {
		return a.out.printJSON(append([]string{}, stops...))
	}
	for _, text := range stops {
		fmt.Fprintln(a.out, text)
	}
	if len(stops) == 0 {
		fmt.Fprintln(a.out, "nothing would keep it from starting now")
	}
	if !known {
		fmt.Fprintln(a.err, a.err.faint("no keeper is running, so nothing starts by itself, and what the gate needs is not looked at"))
	}
	return nil
}

// tellStory words what was decided about a gate, and why nothing was at its last
// moments besides; newest first.
func (a *app) tellStory(g *gate.Gate, moments []journal.Moment, count int) ([]whyMoment, error) {
	told := a.tellMoments(g, moments)
	j, err := a.reader()
	if g == nil || err != nil || j == nil {
		return told, err
	}
	defer j.Close()
	decided, err := j.Story(g.Name, count+len(g.Opens)*manyMoments)
	if err != nil {
		return nil, err
	}
	more, err := a.undecided(j, g, decided)
	told = append(told, more...)
	slices.SortStableFunc(told, func(a, b whyMoment) int { return b.Due.Compare(*a.Due) })
	return told[:min(count, len(told))], err
}

// manyMoments is how many of an opening's moments are looked through for its last.
const manyMoments = 20

func (a *app) story(name string, count int) ([]journal.Moment, error) {
	j, err := a.reader()
	if err != nil || j == nil {
		return nil, err
	}
	defer j.Close()
	return j.Story(name, count)
}

// stateNow says what goes on with a gate, and what comes next.
func (a *app) stateNow(ctx context.Context, f gates.File) (string, error) {
	status, err := a.client.Status(ctx)
	if err != nil && !errors.Is(err, control.ErrNoKeeper) {
		return "", err
	}
	st := status.Gates[f.Name]
	switch {
	case f.Gate == nil:
		return "its file is wrong; see \"timegate check " + f.Name + "\"", nil
	case len(st.Running) > 0:
		return fmt.Sprintf("runs now (run %d)", st.Running[0]), nil
	case !f.Gate.Enabled:
		return "is switched off: it does not start by itself", nil
	case !f.Gate.RunsOn(a.host):
		return "is for other hosts: it does not start here", nil
	case err != nil:
		return "waits for a keeper: none is running, and nothing starts by itself", nil
	case status.Paused:
		return "is paused, like all gates, until \"timegate resume\" or the end of the pause", nil
	case st.Waiting != "":
		return "waits for " + st.Waiting, nil
	case st.Next != nil:
		return "is on; next due " + a.local(*st.Next), nil
	}
	if event := eventOf(f.Gate); event != "" {
		return "is on; it opens on: " + event, nil
	}
	return "is on, but nothing more is due", nil
}

// eventOf names the first event on which a gate opens, or is "".
func eventOf(g *gate.Gate) string {
	for _, o := range g.Opens {
		if q := o.Plan.Phrase; q.Kind == phrase.Event && o.Enabled {
			return q.Event.String()
		}
	}
	return ""
}

// tellMoments words what was decided.
func (a *app) tellMoments(g *gate.Gate, moments []journal.Moment) []whyMoment {
	out := []whyMoment{}
	for _, m := range moments {
		told := whyMoment{Opening: m.Opening, Due: a.stamp(m.Due), Steps: []whyStep{}}
		if g != nil {
			if o, ok := g.Opening(m.Opening); ok {
				told.Phrase = o.When
			}
		}
		for i := range m.Decisions {
			d := &m.Decisions[i]
			step := whyStep{At: a.stamp(d.At), Decision: d.Kind, Run: d.Run, Result: d.Result, Rule: d.Rule, Text: sentence(d, m.Runs), Reason: d.Reason}
			if said := a.lastSaid(d.Run, d.Result); said != "" && d.Kind == engine.End {
				step.Text += " It printed last: " + said + "."
			}
			if g != nil && d.Rule != "" {
				step.Value = g.Setting(d.Rule)
			}
			told.Steps = append(told.Steps, step)
		}
		out = append(out, told)
	}
	return out
}

// seenLate is from when on it is told that an end was seen later than it came.
const seenLate = 2 * time.Second

// sentence says in a sentence what was decided.
func sentence(d *engine.Decision, runs []journal.Entry) string {
	reason := words.Reason(d.Reason)
	switch d.Kind {
	case engine.Start, engine.Repeat:
		was, note := "was started", ""
		for _, r := range runs {
			if r.Run != d.Run {
				continue
			}
			if r.Result == engine.ResultRefused || r.Started == 0 && r.Ended != 0 {
				was = "was to start"
			}
			if r.Note != "" {
				note = " " + words.Sentence(r.Note)
			}
		}
		return fmt.Sprintf("Run %d %s. %s", d.Run, was, words.Sentence(reason)) + note
	case engine.Retry:
		return fmt.Sprintf("Run %d was started: %s.", d.Run, reason)
	case engine.CatchUp:
		return fmt.Sprintf("Run %d was %s.", d.Run, reason)
	case engine.Wait:
		return "The start had to wait. " + words.Sentence(reason)
	case engine.Skip:
		what := "Nothing was started"
		if d.Result == engine.ResultMissed {
			what = "It was missed"
		}
		return fmt.Sprintf("%s: %s.", what, reason)
	case engine.StopRun:
		if d.Signal == "KILL" {
			return fmt.Sprintf("Run %d was killed: %s.", d.Run, reason)
		}
		return fmt.Sprintf("Run %d was asked to end: %s.", d.Run, reason)
	}
	text := fmt.Sprintf("Run %d ended: %s", d.Run, d.Result)
	ended := d.At
	for _, r := range runs {
		if r.Run == d.Run && r.Started != 0 {
			ended = cmp.Or(r.Ended, d.At)
			text += " after " + short(ended.Sub(r.Started))
		}
	}
	if d.Result != engine.ResultOK || d.Args.Status != 0 {
		text += ", " + reason
	}
	if late := d.At.Sub(ended); late > seenLate {
		text += ", " + short(late) + " before it was seen"
	}
	return text + "."
}

func (a *app) printMoment(m whyMoment) {
	head := "by hand"
	if m.Opening != "" {
		head = strings.TrimSpace("opening " + m.Opening + "  " + m.Phrase)
	}
	fmt.Fprintf(a.out, "\n%s  %s\n", a.out.head(a.local(*m.Due)), head)
	for _, s := range m.Steps {
		at := s.At.Format("15:04:05")
		if calendarDay(*s.At) != calendarDay(*m.Due) {
			at = a.local(*s.At)
		}
		text := s.Text
		if rule := ruleText(s); rule != "" {
			text += "  " + a.out.faint(rule)
		}
		margin := len(at) + 4
		if room := a.out.width - margin; room > 20 {
			text = wrap(text, room)
		}
		fmt.Fprintf(a.out, "  %s  %s\n", at, strings.ReplaceAll(text, "\n", "\n"+strings.Repeat(" ", margin)))
	}
}

// ruleText names the rule that decided, as the file has it.
func ruleText(s whyStep) string {
	switch {
	case s.Line > 0:
		return fmt.Sprintf("[line %d: %s = %s]", s.Line, s.Rule, s.Value)
	case s.Value != "":
		return fmt.Sprintf("[%s = %s]", s.Rule, s.Value)
	case s.Rule == "pace":
		return "[settings: pace]"
	}
	return ""
}

func calendarDay(t time.Time) string { return t.Format(time.DateOnly) }
