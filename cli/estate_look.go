package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	coreestate "timegate/core/estate"
	"timegate/core/words"
	"timegate/estate"
)

func (a *app) estateStatusCommand() *cli.Command {
	return &cli.Command{
		Name: "status", Usage: "the bundle, and how its waves come along",
		Description: examples(`timegate estate status`, `timegate estate status --json`),
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			return a.atDesk(ctx, func(d *estate.Desk) error { return a.estateStatus(d) })
		},
	}
}

// jsonEstate is the status of an estate as other programs read it.
type jsonEstate struct {
	Shop    string             `json:"shop"`
	Hosts   int                `json:"hosts"`
	On      int                `json:"on"`
	Asking  int                `json:"asking"` // to be let in
	Bundle  int64              `json:"bundle"` // 0 for none
	Made    *time.Time         `json:"made"`
	Expires *time.Time         `json:"expires"`
	Wave    int                `json:"wave"` // from 1
	Waves   []string           `json:"waves"`
	Held    string             `json:"held"` // why; "" where it is not
	Do      coreestate.Step    `json:"do"`   // what is next: wait, next, stop or done
	Why     string             `json:"why"`
	Until   *time.Time         `json:"until"`
	Counts  *coreestate.Counts `json:"counts"`
}

// hostCounts are how many workstations were let in, are on of them, and ask for it.
type hostCounts struct{ in, on, asking int }

func countHosts(hosts []estate.Host) (n hostCounts) {
	for i := range hosts {
		switch h := &hosts[i]; {
		case !h.In:
			n.asking++
		case h.On:
			n.in, n.on = n.in+1, n.on+1
		default:
			n.in++
		}
	}
	return n
}

func (a *app) estateStatus(d *estate.Desk) error {
	s, err := a.estateSettings()
	if err != nil {
		return err
	}
	n := countHosts(d.Hosts())
	out := jsonEstate{Shop: s.Shop, Waves: []string{}, Hosts: n.in, On: n.on, Asking: n.asking}
	b, r := d.Bundle()
	v, judged := coreestate.Verdict{}, false
	if b != nil {
		out.Bundle, out.Made, out.Expires = b.Number, &b.Made, &b.Expires
		for _, w := range b.Plan.Waves {
			out.Waves = append(out.Waves, w.String())
		}
		if v, err = d.Judge(time.Now()); err == nil {
			judged = true
			out.Wave, out.Held, out.Do, out.Why, out.Counts = r.Wave+1, r.Why, v.Do, v.Why, &v.Counts
			if !v.Until.IsZero() {
				out.Until = &v.Until
			}
		}
	}
	if a.json {
		return a.out.printJSON(out)
	}
	fmt.Fprintf(a.out, "estate    %s, %s, %d on\n", out.Shop, plural(out.Hosts, "workstation"), out.On)
	if out.Asking > 0 {
		fmt.Fprintf(a.out, "asking    %s to be let in: timegate estate list\n", plural(out.Asking, "workstation"))
	}
	if b == nil {
		fmt.Fprintln(a.out, "bundle    none was published yet")
		return nil
	}
	fmt.Fprintf(a.out, "bundle    %d, made %s, expires %s\n", b.Number, a.localFar(b.Made), a.localFar(b.Expires))
	for _, x := range []struct {
		what string
		list []string
	}{{"hosts", b.Hosts}, {"groups", b.Groups}} {
		if len(x.list) > 0 {
			fmt.Fprintf(a.out, "%-9s %s\n", x.what, strings.Join(x.list, ", "))
		}
	}
	if judged {
		fmt.Fprintf(a.out, "waves     %s\n", a.waveText(b, r, &v))
	}
	return nil
}

func (a *app) estateListCommand() *cli.Command {
	return &cli.Command{
		Name: "list", Usage: "the workstations: what they have, and how they do", ArgsUsage: "[WORD]",
		Description: examples(`timegate estate list`, `timegate estate list --only failed`, `timegate estate list press --json`) + "Those with trouble come first. A WORD is a part of a name, or a group.",
		Flags:       []cli.Flag{&cli.StringFlag{Name: "only", Usage: "only those that are `SO`: " + strings.Join(hostStates, ", ")}},
		Action: func(ctx context.Context, c *cli.Command) error {
			only := c.String("only")
			if only != "" && !slices.Contains(hostStates, only) {
				return usageError("--only is %q: write one of %s", only, strings.Join(hostStates, ", "))
			}
			word := ""
			if c.Args().Present() {
				var err error
				if word, err = oneArgument(c, "the word"); err != nil {
					return err
				}
			}
			return a.atDesk(ctx, func(d *estate.Desk) error { return a.estateList(d, only, word) })
		},
	}
}

// hostStates are what workstations can be chosen by.
var hostStates = []string{"on", "off", "asking", "failed", "broken", "refused"}

// is reports whether a workstation is so.
func hostIs(h *estate.Host, state string) bool {
	last := h.Last
	switch state {
	case "on":
		return h.In && h.On
	case "off":
		return h.In && !h.On
	case "asking":
		return !h.In
	case "failed":
		return last != nil && last.Failed > 0
	case "broken":
		return h.Wrong != "" || last != nil && last.Broken > 0
	case "refused":
		return last != nil && last.Bundle.Number > 0 && last.Bundle.State != coreestate.Taken
	}
	return true
}

// jsonHost is a workstation as other programs read it.
type jsonHost struct {
	Host   string             `json:"host"`
	State  string             `json:"state"` // on, off or asking
	Told   *time.Time         `json:"told"`
	Groups []string           `json:"groups"`
	Key    string             `json:"key"` // its fingerprint
	Wrong  string             `json:"wrong"`
	Report *coreestate.Report `json:"report"`
}

func newJSONHost(h *estate.Host) jsonHost {
	out := jsonHost{Host: h.Host, State: hostState(h), Groups: append([]string{}, h.Groups...), Wrong: h.Wrong, Report: h.Last}
	if !h.Told.IsZero() {
		out.Told = &h.Told
	}
	if h.Key != nil {
		out.Key = coreestate.Fingerprint(h.Key)
	}
	return out
}

func hostState(h *estate.Host) string {
	switch {
	case !h.In:
		return "asking"
	case h.On:
		return "on"
	}
	return "off"
}

func (a *app) estateList(d *estate.Desk, only, word string) error {
	hosts := slices.DeleteFunc(d.Hosts(), func(h estate.Host) bool {
		return !hostIs(&h, only) || word != "" && !strings.Contains(h.Host, word) && !slices.Contains(h.Groups, word)
	})
	estate.SortHosts(hosts)
	if a.json {
		list := []jsonHost{}
		for i := range hosts {
			list = append(list, newJSONHost(&hosts[i]))
		}
		return a.out.printJSON(list)
	}
	var rows [][]string
	for i := range hosts {
		rows = append(rows, a.hostRow(&hosts[i]))
	}
	switch {
	case len(rows) == 0 && only == "" && word == "":
		fmt.Fprintln(a.err, "no workstation was let in, and none asks; one asks when it has joined (timegate estate join) and its keeper runs")
		return nil
	case len(rows) == 0:
		fmt.Fprintf(a.err, "no workstation matches, of %d that were let in or ask\n", len(d.Hosts()))
		return nil
	}
	a.out.table(hostColumns, rows)
	return nil
}

// hostColumns are above rows of workstations.
var hostColumns = []string{"HOST", "STATE", "TOLD", "BUNDLE", "GATES", "FAILED", "NEXT", "LAST FAILURE"}

func (a *app) hostRow(h *estate.Host) []string {
	state := hostState(h)
	switch state {
	case "on":
		state = a.out.good(state)
	case "asking":
		state = a.out.warn(state)
	}
	row := []string{h.Host, state, "never", "", "", "", "", ""}
	if h.Wrong != "" {
		row[7] = a.out.bad(words.Line(h.Wrong))
	}
	r := h.Last
	if r == nil {
		return row
	}
	row[2], row[3], row[4], row[5] = a.local(r.At), a.bundleText(&r.Bundle), fmt.Sprint(r.Gates), fmt.Sprint(r.Failed)
	if r.Failed > 0 {
		row[5] = a.out.bad(row[5])
	}
	if r.Broken > 0 {
		row[4] += ", " + a.out.bad(fmt.Sprintf("%d broken", r.Broken))
	}
	if r.Next != nil {
		row[6] = a.local(*r.Next)
	}
	if len(r.Failures) > 0 && h.Wrong == "" {
		row[7] = failureText(&r.Failures[0]) + " " + a.local(r.Failures[0].At)
	}
	return row
}

// bundleText says what became of a bundle on a workstation.
func (a *app) bundleText(b *coreestate.BundleReport) string {
	switch b.State {
	case coreestate.Taken:
		return fmt.Sprint(b.Number)
	case "":
		return "none"
	case coreestate.Taking:
		return fmt.Sprintf("%d, being taken", b.Number)
	case coreestate.Changed:
		return a.out.warn(fmt.Sprintf("%d, changed here", b.Number))
	}
	return a.out.bad(fmt.Sprintf("%d %s: %s", b.Number, map[coreestate.BundleState]string{coreestate.Refused: "refused", coreestate.Back: "taken back"}[b.State], words.Line(coreestate.InWords(b.Code))))
}

func failureText(f *coreestate.Failure) string {
	text := f.Gate + " " + words.Line(f.Result)
	if f.Status != 0 {
		text += fmt.Sprintf(" (%d)", f.Status)
	}
	return text
}

func (a *app) estateHistoryCommand() *cli.Command {
	return &cli.Command{
		Name: "history", Usage: "runs that have not ended well, on all workstations, the newest first", ArgsUsage: "[WORD]",
		Description: examples(`timegate estate history --since yesterday`, `timegate estate history press-room --json`) + fmt.Sprintf("Each workstation tells its latest %d. A WORD is a part of a name, a group, or a gate.", coreestate.MostFailures),
		Flags:       []cli.Flag{&cli.StringFlag{Name: "since", Usage: "only from this `TIME` on, such as yesterday"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			since, word := time.Time{}, ""
			if text := c.String("since"); text != "" {
				at, err := a.timeBack().read(text)
				if err != nil {
					return usageError("--since: %w", err)
				}
				since = at.Time()
			}
			if c.Args().Present() {
				var err error
				if word, err = oneArgument(c, "the word"); err != nil {
					return err
				}
			}
			return a.atDesk(ctx, func(d *estate.Desk) error { return a.estateHistory(d.Hosts(), since, word) })
		},
	}
}

// hostFailure is a run that has not ended well, and where.
type hostFailure struct {
	Host string `json:"host"`
	coreestate.Failure
}

// failuresOf lists the failures of workstations from an instant on, the newest first.
func failuresOf(hosts []estate.Host, since time.Time, word string) []hostFailure {
	out := []hostFailure{}
	for _, h := range hosts {
		if h.Last == nil {
			continue
		}
		fits := strings.Contains(h.Host, word) || slices.Contains(h.Groups, word)
		for _, f := range h.Last.Failures {
			if !f.At.Before(since) && (fits || f.Gate == word) {
				out = append(out, hostFailure{h.Host, f})
			}
		}
	}
	slices.SortStableFunc(out, func(x, y hostFailure) int { return y.At.Compare(x.At) })
	return out
}

func (a *app) estateHistory(hosts []estate.Host, since time.Time, word string) error {
	list := failuresOf(hosts, since, word)
	if a.json {
		return a.out.printJSON(list)
	}
	if len(list) == 0 {
		fmt.Fprintln(a.err, "no run has ended badly, as far as the workstations have told")
		return nil
	}
	var rows [][]string
	for i := range list {
		f := &list[i]
		why := words.Line(f.Code)
		if f.Status != 0 {
			why = fmt.Sprintf("exit status %d", f.Status)
		}
		rows = append(rows, []string{a.local(f.At), f.Host, f.Gate, fmt.Sprint(f.Run), a.out.bad(words.Line(f.Result)), why})
	}
	a.out.table([]string{"ENDED", "HOST", "GATE", "RUN", "RESULT", "WHY"}, rows)
	return nil
}

func (a *app) estateShowCommand() *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "one workstation, with its latest failures", ArgsUsage: "HOST",
		Description: examples(`timegate estate show press-room`, `timegate estate show press-room --json`),
		Action: func(ctx context.Context, c *cli.Command) error {
			return a.atHost(ctx, c, func(_ *estate.Desk, h *estate.Host) error {
				if a.json {
					return a.out.printJSON(newJSONHost(h))
				}
				a.showHost(h)
				return nil
			})
		},
	}
}

func (a *app) showHost(h *estate.Host) {
	line := func(what, text string) {
		if text != "" {
			fmt.Fprintf(a.out, "%-9s %s\n", what, text)
		}
	}
	fmt.Fprintln(a.out, a.out.head(h.Host))
	line("state", hostState(h))
	line("groups", strings.Join(h.Groups, ", "))
	if h.Key != nil {
		line("key", coreestate.Fingerprint(h.Key))
	}
	if h.Wrong != "" {
		line("wrong", a.out.bad(words.Line(h.Wrong)))
	}
	r := h.Last
	if r == nil {
		line("told", "never")
		return
	}
	line("told", a.localFar(r.At)+", Time Gate "+words.Line(r.Version)+" on "+words.Line(r.System))
	line("bundle", a.bundleText(&r.Bundle))
	gates := fmt.Sprintf("%d in force, %d running", r.Gates, r.Running)
	if r.Broken > 0 {
		gates += ", " + a.out.bad(fmt.Sprintf("%d broken", r.Broken))
	}
	line("gates", gates)
	if r.Next != nil {
		line("next", a.localFar(*r.Next))
	}
	line("failed", fmt.Sprintf("%s since the bundle came", plural(r.Failed, "run")))
	for i := range r.Failures {
		f := &r.Failures[i]
		fmt.Fprintf(a.out, "  %s  run %d of %s (%s)\n", a.local(f.At), f.Run, failureText(f), words.Line(f.Code))
		if f.Command != "" { // it permits details
			fmt.Fprintln(a.out, a.out.faint("    "+words.Line(fmt.Sprintf("%s as %s: %s", f.Command, cmp.Or(f.As, "somebody"), f.Text))))
		}
	}
}
