package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/forecast"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/core/rehearsal"
	"timegate/gates"
	"timegate/home"
	"timegate/inspect"
	"timegate/journal"
	"timegate/workstation/zones"
)

// How far is looked ahead where nothing is due that a phrase foretells, and beyond the
// moment that is.
const (
	farAhead = 48 * time.Hour
	beyond   = 26 * time.Hour

	mostAhead = 400 * 24 * time.Hour
)

// engineState returns what the keeper's engine knows, as far as it is kept; of version 0 where
// nothing is.
func (a *app) engineState() (engine.State, error) {
	if a.home.OfOthers() {
		return engine.State{}, nil // it is root's
	}
	j, err := journal.OpenReader(a.home.Journal())
	if errors.Is(err, journal.ErrNone) {
		return engine.State{}, nil
	}
	if err != nil {
		return engine.State{}, err
	}
	defer j.Close()
	s, kept, err := j.State()
	if err != nil || !kept {
		return engine.State{}, err
	}
	return s, nil
}

// supposed is a day from now on in which something is supposed: events as a day file has
// them, one without a time now, or "sleep 02:00 to 07:00" every day.
func (a *app) supposed(until calendar.Instant, ifs, names []string) (*rehearsal.Day, error) {
	zone := a.zone
	from := calendar.InstantOf(a.now().Truncate(time.Second))
	stamp := func(at calendar.Instant) string { return at.Time().In(zone.Location()).Format(time.DateTime) }
	var events []string
	for _, text := range ifs {
		words := strings.Fields(text)
		switch {
		case len(words) == 4 && words[0] == "sleep" && words[2] == "to":
			events = append(events, words[1]+" sleep", words[3]+" resume")
		case len(words) > 0 && !strings.ContainsAny(words[0], "0123456789") && !strings.Contains(text, ":"):
			events = append(events, stamp(from.Add(time.Second))+" "+text)
		default:
			events = append(events, text)
		}
	}
	var b strings.Builder
	fmt.Fprintf(&b, "from = %q\nto = %q\nevents = [", stamp(from), stamp(until))
	for _, e := range events {
		fmt.Fprintf(&b, "%q, ", e)
	}
	b.WriteString("]\n")
	d, found := rehearsal.Read("--if", []byte(b.String()), rehearsal.Env{Zone: zone, Host: a.host, Find: zones.Find, Gates: names})
	if d == nil {
		return nil, usageError("--if: %s; %s", found[0].Message, found[0].Remedy)
	}
	return d, nil
}

// foreseen returns what will be decided about a gate from now on, until an instant, if what
// is supposed comes to pass and nothing else happens.
func (a *app) foreseen(ctx context.Context, name string, until calendar.Instant, ifs []string) ([]engine.Decision, *rehearsal.Played, error) {
	files, err := a.files()
	if err != nil {
		return nil, nil, err
	}
	files, _ = a.inForce(files, a.env())
	var names []string
	s := rehearsal.Setup{Environment: a.here(a.zone, a.host)}
	for _, f := range files {
		names = append(names, f.Name)
	}
	for _, f := range concerned(files, name) {
		s.Gates = append(s.Gates, f.Definition())
	}
	d, err := a.supposed(until, ifs, names)
	if err != nil {
		return nil, nil, err
	}
	settings, err := home.ReadSettings(a.home.Settings())
	if err != nil {
		return nil, nil, err
	}
	s.Pace = settings.Pace
	if s.State, err = a.engineState(); err != nil {
		return nil, nil, err
	}
	if s.Usual, err = a.usual(); err != nil {
		return nil, nil, err
	}
	played, err := rehearsal.Play(ctx, d, s)
	if err != nil {
		return nil, nil, err
	}
	var out []engine.Decision
	for _, k := range played.Decisions {
		if k.Gate == name {
			out = append(out, k)
		}
	}
	return out, played, nil
}

// concerned returns a gate and those whose starts and ends it opens on, and so on: all
// others make no difference to it, but for the pace of a boot or logon.
func concerned(files []gates.File, name string) []gates.File {
	var out []gates.File
	next := []string{name}
	for len(next) > 0 {
		i := slices.IndexFunc(files, func(f gates.File) bool { return f.Name == next[0] && f.Gate != nil })
		next = next[1:]
		if i < 0 || slices.ContainsFunc(out, func(f gates.File) bool { return f.Name == files[i].Name }) {
			continue
		}
		out = append(out, files[i])
		for _, o := range files[i].Gate.Opens {
			if e := o.Plan.Phrase.Event; e.Kind == phrase.EndOf || e.Kind == phrase.FailureOf || e.Kind == phrase.StartOf {
				next = append(next, e.Name)
			}
		}
	}
	return out
}

// usual returns how long programs usually take.
func (a *app) usual() (func(string) time.Duration, error) {
	costs, err := a.costs()
	return func(name string) time.Duration {
		if cost := costs[name]; cost != nil {
			return time.Duration(cost.TookS * float64(time.Second))
		}
		return 0
	}, err
}

// nothingDue says of a gate of which no moment comes until an instant when it opens then.
func (a *app) nothingDue(g *gate.Gate, until calendar.Instant) string {
	var events []string
	clocked := false
	for i := range g.Opens {
		o := &g.Opens[i]
		switch {
		case !g.Active(o, a.host):
		case o.Plan.Phrase.Kind == phrase.Event:
			events = append(events, o.When)
		default:
			clocked = true
		}
	}
	if len(events) > 0 && !clocked {
		return "It opens at the next " + strings.Join(events, ", or ") + "."
	}
	text := "Nothing is due before " + a.local(until.Time()) + "."
	if len(events) > 0 {
		text += " It opens sooner at " + strings.Join(events, ", or ") + "."
	}
	return text
}

// printFuture tells what will come of a gate: at its next moment, or around a time.
func (a *app) printFuture(ctx context.Context, f gates.File, at calendar.Instant, ifs []string) error {
	if f.Gate == nil {
		good, names := a.inForce([]gates.File{f}, a.env())
		a.sayInForce(names)
		if f = good[0]; f.Gate == nil {
			return f.Findings.Errors()
		}
	}
	now := calendar.InstantOf(a.now())
	until := now.Add(farAhead)
	next, known := forecast.Next(f.Gate, a.host, 0, now)
	switch {
	case at != 0:
		until = at.Add(beyond)
	case known:
		until = min(max(next.Add(beyond), until), now.Add(mostAhead))
	}
	decisions, played, err := a.foreseen(ctx, f.Name, until, ifs)
	if err != nil {
		return err
	}
	if a.json {
		out := []control.Decision{}
		for i := range decisions {
			out = append(out, control.NewDecision(&decisions[i]))
		}
		return a.out.printJSON(out)
	}
	head := "What comes"
	if len(ifs) > 0 {
		head += " if " + strings.Join(ifs, ", and ")
	}
	first := -1
	for i := range decisions {
		if d := &decisions[i]; (at == 0 || d.At >= at.Add(-time.Hour)) && d.Kind != engine.End {
			first = i
			break
		}
	}
	fmt.Fprintf(a.out, "\n%s\n", a.out.head(head))
	if first < 0 {
		fmt.Fprintf(a.out, "  %s\n", a.nothingDue(f.Gate, until))
		return nil
	}
	// Of what is supposed several moments are told: it need not touch the first.
	most, moments := 6, 1
	if len(ifs) > 0 {
		most, moments = 10, 4
	}
	// What is missed already is told with the next that is not; what is decided at once, such as
	// one start for all that was missed, belongs together.
	if decisions[first].Result == engine.ResultMissed {
		moments++
	}
	due, decided, starts := decisions[first].Due, decisions[first].At, calendar.Instant(0)
	for i, d := range decisions[first:] {
		if d.Due != due && d.Due != 0 && d.At != decided {
			moments--
		}
		if d.Due != 0 {
			due, decided = d.Due, d.At
		}
		if i == most || moments == 0 {
			break
		}
		if d.Kind == engine.End && d.Result == engine.ResultOK {
			continue // as everybody expects
		}
		if d.Starts() {
			starts = d.At
		}
		state := played.StateAt(d.At)
		text := future(&d)
		if d.Rule != "" && d.Rule != "opens" {
			text += "  " + a.out.faint(ruleText(whyStep{Rule: d.Rule, Value: f.Gate.Setting(d.Rule), Line: gate.LineOf([]byte(f.Text), d.Rule)}))
		}
		fmt.Fprintf(a.out, "  %s  %s\n", a.local(d.At.Time().Truncate(time.Second)), text)
		if state.Asleep || state.Off {
			fmt.Fprintf(a.out, "    the machine is %s then\n", state.Text())
		}
	}
	if len(ifs) == 0 && starts != 0 {
		a.printUnless(f.Gate, starts)
	}
	return nil
}

// future says in a sentence what will be decided.
func future(d *engine.Decision) string {
	was := sentence(d, nil)
	for _, x := range []struct{ past, coming string }{
		{fmt.Sprintf("Run %d was started", d.Run), "It will open"}, {fmt.Sprintf("Run %d was", d.Run), "It will be"}, {fmt.Sprintf("Run %d ended", d.Run), "It will have ended"},
		{"Nothing was started", "Nothing will be started"}, {"It was missed", "It will be missed"}, {"The start had to wait", "It will wait"},
	} {
		if rest, ok := strings.CutPrefix(was, x.past); ok {
			return x.coming + rest
		}
	}
	return was
}

// printUnless says whether the machine is usually there then, and what happens if it is
// not.
func (a *app) printUnless(g *gate.Gate, at calendar.Instant) {
	absence, err := a.absence()
	if err != nil {
		return
	}
	odds := inspect.Odds{}
	if absence.Since != 0 {
		odds = absence.Odds(at, a.zone, g.Rules.Wake > 0)
	}
	after := "Then it is missed, since missed = skip."
	if g.Rules.Missed == gate.MissedOnce {
		after = "Then it is started once when the machine is back, since missed = once."
	}
	switch {
	case odds.Known == 0:
		fmt.Fprintf(a.out, "  Unless the machine is asleep or off then. %s\n", after)
	case odds.Away == 0:
		fmt.Fprintf(a.out, "  The machine is usually there then (%s).\n", odds.Text())
	default:
		fmt.Fprintf(a.out, "  Unless the machine is asleep or off then, as it was on %s. %s\n", odds.Text(), after)
	}
}

// nearest returns the moments of a story that are nearest to a time: that before it and
// that after it.
func nearest(moments []journal.Moment, at calendar.Instant) []journal.Moment {
	slices.SortStableFunc(moments, func(x, y journal.Moment) int { return int(x.Due.Sub(at).Abs() - y.Due.Sub(at).Abs()) })
	const most = 2
	out := moments[:min(most, len(moments))]
	slices.SortStableFunc(out, func(x, y journal.Moment) int { return int(y.Due - x.Due) })
	return out
}

// noteOdds adds to dues that the machine is usually away then.
func (a *app) noteOdds(all []due, byName map[string]*gate.Gate) {
	absence, err := a.absence()
	if err != nil || len(absence.Spans) == 0 {
		return
	}
	const most = 500 // more are not read by anybody
	for i := range all[:min(most, len(all))] {
		g := byName[all[i].Gate]
		if g == nil {
			continue
		}
		if odds := absence.Odds(all[i].at, a.zone, g.Rules.Wake > 0); odds.Usual() {
			all[i].Note = strings.TrimPrefix(all[i].Note+"; usually asleep or off then ("+odds.Text()+")", "; ")
		}
	}
}
