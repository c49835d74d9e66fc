package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/gates"
	"timegate/home"
	"timegate/inspect"
	"timegate/journal"
	"timegate/keeper"
	"timegate/launch"
	"timegate/workstation/here"
)

func (a *app) checkCommand() *cli.Command {
	return &cli.Command{
		Name: "check", Category: foreseeCommands, Usage: "find everything that is wrong or unwise", ArgsUsage: "[NAME …]",
		Description: examples(`timegate check`, `timegate check vault-copy`, `timegate check --json`) + "The exit status is 3 where there is an error or a warning, and 0 where there are notes at most.",
		Action:      a.check,
	}
}

func (a *app) check(ctx context.Context, c *cli.Command) error {
	// All are read, because some faults lie between gates.
	files, err := a.files()
	if err != nil {
		return err
	}
	together, err := a.together(files)
	if err != nil {
		return err
	}
	if names := c.Args().Slice(); len(names) > 0 {
		together = slices.DeleteFunc(together, func(x gate.Finding) bool { return !slices.Contains(names, x.Gate) })
		for _, name := range names {
			if _, err := a.file(name); err != nil {
				return err
			}
		}
		files = slices.DeleteFunc(files, func(f gates.File) bool { return !slices.Contains(names, f.Name) })
	}
	found, err := a.checked(ctx, files, together)
	if err != nil {
		return err
	}
	if a.json {
		if err := a.out.printJSON(found); err != nil {
			return err
		}
	} else {
		a.printFindings(a.out, found)
		a.checkVerdict(len(files), found)
	}
	if slices.ContainsFunc(found, func(f gate.Finding) bool { return f.Severity != gate.Note }) {
		return &exitError{status: exitFound}
	}
	return nil
}

// checked returns all findings about gates, with those that were found between them.
func (a *app) checked(ctx context.Context, files []gates.File, together gate.Findings) (gate.Findings, error) {
	past, err := a.past()
	if err != nil {
		return nil, err
	}
	found := gate.Findings{}
	for _, f := range files {
		found = append(found, a.findings(f, past)...)
	}
	found = append(found, together...)
	return append(found, a.machineFindings(ctx, files)...), nil
}

// together returns what only shows when gates are seen together, and with how long their
// runs take.
func (a *app) together(files []gates.File) (gate.Findings, error) {
	takes, err := a.usual()
	if err != nil {
		return nil, err
	}
	var list []*gate.Gate
	paths := map[string]string{}
	for _, f := range files {
		if f.Gate != nil {
			list = append(list, f.Gate)
			paths[f.Name] = f.Path
		}
	}
	found := inspect.Together(list, a.host, takes, calendar.InstantOf(a.now()))
	for i := range found {
		found[i].File = paths[found[i].Gate]
	}
	return found, nil
}

// findings returns all that is wrong or unwise about a gate: of its text, and of
// what it would start.
func (a *app) findings(f gates.File, past *inspect.Past) gate.Findings {
	found := slices.Clone(f.Findings)
	if f.Gate == nil {
		return found
	}
	l, now := a.launcher(), calendar.InstantOf(a.now())
	path, folder, who := l.Target(f.Gate)
	for _, x := range slices.Concat(inspect.Target(path, folder, who), inspect.Arguments(f.Gate), inspect.Script(f.Gate, path, folder, who.Home), l.Hazards(f.Gate), l.Windows(f.Gate), inspect.Moments(f.Gate, now),
		inspect.Repeats(f.Gate, now), inspect.Rules(f.Definition(), a.here(a.zone, a.host)), inspect.Habits(f.Gate, past)) {
		x.Gate, x.File = f.Name, f.Path
		found = append(found, x)
	}
	if x := a.copyOutdated(f.Gate); x != nil {
		x.Gate, x.File = f.Name, f.Path
		found = append(found, *x)
	}
	return found
}

// copyOutdated tells of a script that was copied and that is another by now where it was
// copied from; nil where it is the same, or is not the caller's to read.
func (a *app) copyOutdated(g *gate.Gate) *gate.Finding {
	source := a.home.ScriptSource(g.Name)
	if source == "" || !launch.OwnAccount(g.Account()) || !slices.Contains(g.Run, a.home.KeptScript(g.Name)) {
		return nil
	}
	copied, err := home.ReadPlain(a.home.KeptScript(g.Name), home.ScriptSize)
	if err != nil {
		return nil
	}
	now, err := home.ReadPlain(source, home.ScriptSize)
	if err != nil || bytes.Equal(now, copied) {
		return nil
	}
	return &gate.Finding{Severity: gate.Note, Code: "copy-outdated", Message: fmt.Sprintf("%s has changed since it was copied: the gate runs the copy, as it was then", source),
		Remedy: "to take it as it is now: timegate change " + g.Name + " --copy-script"}
}

// past returns what is known of this machine's last weeks.
func (a *app) past() (*inspect.Past, error) {
	absence, err := a.absence()
	out := &inspect.Past{Absence: *absence}
	if err != nil || a.home.OfOthers() { // who was there is not for everybody to see
		return out, err
	}
	state, err := a.engineState()
	if err != nil {
		return out, err
	}
	out.Own = map[string]int64{}
	for name, g := range state.Gates {
		for _, o := range g.Openings {
			out.Own[engine.Key(name, o.Name)] = o.Own
		}
	}
	if out.Unfound, err = a.unfound(); err != nil {
		return out, err
	}
	states, err := a.pastStates(a.now())
	if errors.Is(err, journal.ErrNone) {
		return out, nil
	}
	out.States = states
	return out, err
}

// unfound returns the commands that the last runs of gates did not find and that ended well
// all the same.
func (a *app) unfound() (map[string]string, error) {
	j, err := a.reader()
	if err != nil || j == nil {
		return nil, err
	}
	defer j.Close()
	last, err := j.LastRuns()
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for name, e := range last {
		if _, command, went := strings.Cut(e.Note, journal.Unfound); went {
			out[name] = command
		}
	}
	return out, nil
}

// absence returns when this machine was asleep or off lately.
func (a *app) absence() (*inspect.Absence, error) {
	now := a.now()
	out := &inspect.Absence{Until: calendar.InstantOf(now)}
	j, err := a.reader()
	if err != nil || j == nil {
		return out, err
	}
	defer j.Close()
	known, err := j.Absences(calendar.InstantOf(now.AddDate(0, 0, -7*usualWeeks)))
	out.Since = known.Since
	for _, s := range known.Spans {
		out.Spans = append(out.Spans, inspect.Away(s))
	}
	return out, err
}

// machineFindings tells what the gates depend on and this machine cannot tell
// or do: by the word of the keeper, or of the machine itself where none runs.
func (a *app) machineFindings(ctx context.Context, files []gates.File) gate.Findings {
	status, err := a.client.Status(ctx)
	troubles := status.Troubles
	if err != nil {
		machine, err := here.New()
		if err != nil {
			return gate.Findings{{Severity: gate.Warning, Code: "not-told", Message: err.Error()}}
		}
		defer machine.Close()
		for _, t := range keeper.Probe(ctx, files, machine) {
			troubles = append(troubles, control.Trouble(t))
		}
	}
	var out gate.Findings
	for _, t := range troubles {
		remedy := "until that is fixed, these do not start"
		if t.What == keeper.Waking {
			remedy = "until that is fixed, what is due while it sleeps is missed"
		}
		out = append(out, gate.Finding{File: "this machine", Severity: gate.Warning, Code: "not-told",
			Message: fmt.Sprintf("gates depend on %s: %s", t.What, t.Why), Remedy: remedy})
	}
	return out
}

func (a *app) checkVerdict(files int, found gate.Findings) {
	count := map[gate.Severity]int{}
	for _, f := range found {
		count[f.Severity]++
	}
	text := fmt.Sprintf("%s checked: %s, %s, %s", plural(files, "gate"), plural(count[gate.SevereError], "error"),
		plural(count[gate.Warning], "warning"), plural(count[gate.Note], "note"))
	switch {
	case count[gate.SevereError] > 0:
		text = a.out.bad(text)
	case count[gate.Warning] > 0:
		text = a.out.warn(text)
	default:
		text = a.out.good(text)
	}
	fmt.Fprintln(a.out, text)
}

func plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// printFindings prints findings with the place, the line and a mark.
func (a *app) printFindings(s *screen, found gate.Findings) {
	for _, f := range found {
		severity := string(f.Severity)
		switch f.Severity {
		case gate.SevereError:
			severity = s.bad(severity)
		case gate.Warning:
			severity = s.warn(severity)
		}
		fmt.Fprintln(s, s.wrapped(fmt.Sprintf("%s: %s: %s [%s]", f.Place(), severity, f.Message, f.Code)))
		if caret := f.Caret(); caret != "" {
			fmt.Fprintln(s, indent(caret, "    "))
		}
		if f.Remedy != "" {
			fmt.Fprintln(s, "  "+s.wrapped(f.Remedy))
		}
	}
}
